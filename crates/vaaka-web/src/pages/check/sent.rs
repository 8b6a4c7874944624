//! An entry as it is sent: as a form, or in parts where a file comes along.

use std::collections::HashMap;

use axum::extract::{FromRequest, Multipart, Request};
use axum::http::header;
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::method::Proposal;

use crate::desk::Upload;
use crate::error::WebError;
use crate::fields::clean;
use crate::forms::Posted;
use crate::pages::check::input::MOST_TRACE_BYTES;
use crate::pages::check::step::Typed;
use crate::paths::encode;

/// An entry as it is sent.
#[derive(Debug, Default, Deserialize)]
pub struct EntryForm {
    #[serde(default)]
    pub(super) form_token: String,
    #[serde(default)]
    pub(super) step: String,
    #[serde(default)]
    pub(super) repeat: u32,
    #[serde(default)]
    pub(super) key: Uuid,
    #[serde(default)]
    pub(super) typed: String,
    #[serde(default)]
    pub(super) added: String,
    /// One character for each ticked sentence, joined by the page's own names tick0, tick1 …
    #[serde(flatten)]
    pub(super) others: HashMap<String, String>,
    /// The value that the guard asked about, when its question was answered with yes.
    #[serde(default)]
    pub(super) confirm_far: Option<String>,
    /// What was typed first while the network was gone, and not kept: one value a line.
    #[serde(default)]
    pub(super) attempted: String,
    /// Why the server did not take what the browser held, when somebody gave it up for that: it is kept as an attempt.
    #[serde(default)]
    pub(super) given_up: Option<String>,
    #[serde(default)]
    pub(super) replaces: Option<i64>,
    #[serde(default)]
    pub(super) reason: String,
    /// Sign-in name and password of the second person who saw a correction from outside to inside.
    #[serde(default)]
    pub(super) second: String,
    #[serde(default)]
    pub(super) second_password: String,
    /// How long ago it was read, in milliseconds by the device's own count: sent when the browser
    /// held it while the network was gone.
    #[serde(default)]
    pub(super) age_ms: Option<i64>,
    /// What was read over the line into the field.
    #[serde(default, deserialize_with = "empty_is_none")]
    pub(super) capture: Option<i64>,
    /// Who read it, when the browser held it: it is kept in nobody else's name.
    #[serde(default)]
    pub(super) read_by: Option<i64>,
    /// A file that came with it.
    #[serde(skip)]
    pub(super) file: Option<Upload>,
}

/// A hidden field that holds nothing yet.
fn empty_is_none<'de, D: serde::Deserializer<'de>>(field: D) -> Result<Option<i64>, D::Error> {
    let text = Option::<String>::deserialize(field)?;
    Ok(text.and_then(|text| text.trim().parse().ok()))
}

/// Text that is pasted and put back when it is refused; more than that is asked for again.
const MOST_PUT_BACK: usize = 200_000;

/// An entry in either form: as other forms are sent, or in parts where a file may come along.
#[derive(Debug)]
pub struct SentEntry(pub(super) EntryForm);

impl<S: Send + Sync> FromRequest<S> for SentEntry {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &S) -> Result<Self, WebError> {
        let kind = request.headers().get(header::CONTENT_TYPE);
        if !kind.is_some_and(|kind| kind.as_bytes().starts_with(b"multipart/form-data")) {
            let Posted(form) = Posted::from_request(request, state).await?;
            return Ok(Self(form));
        }
        let bad = |cause: &dyn std::fmt::Display| WebError::BadForm(cause.to_string());
        let mut parts =
            Multipart::from_request(request, state).await.map_err(|cause| bad(&cause))?;
        let whole = |_| WebError::NotNow {
            words: format!(
                "The file did not arrive whole, or is larger than the {} MB that are taken here. Measure with fewer points, or export one curve only, and take that file.",
                MOST_TRACE_BYTES / 1024 / 1024
            ),
        };
        let (mut fields, mut file, mut pasted) = (String::new(), None, None);
        while let Some(field) = parts.next_field().await.map_err(whole)? {
            let name = field.name().unwrap_or_default().to_owned();
            if let Some(own) = field.file_name() {
                let name = clean(own);
                let bytes = field.bytes().await.map_err(whole)?.to_vec();
                if !bytes.is_empty() {
                    file = Some(Upload { name, bytes });
                }
            } else if name == "typed" {
                pasted = Some(field.text().await.map_err(whole)?.replace('\0', ""));
            } else {
                let text = field.text().await.map_err(whole)?;
                let mark = if fields.is_empty() { "" } else { "&" };
                fields.push_str(&format!("{mark}{}={}", encode(&name), encode(&text)));
            }
        }
        // Read by the very reader of all other entries.
        let rest = Request::post("/")
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .body(axum::body::Body::from(fields))
            .map_err(|cause| bad(&cause))?;
        let Posted(form) = Posted::<EntryForm>::from_request(rest, state).await?;
        Ok(Self(EntryForm { typed: pasted.unwrap_or_default(), file, ..form }))
    }
}

impl EntryForm {
    pub(super) fn proposal(&self) -> Proposal {
        Proposal {
            typed: self.typed.clone(),
            added: self.added.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).count(),
            confirm_far: self.confirm_far.clone(),
            ..Proposal::default()
        }
    }

    /// Whether it is more than a line of text.
    pub(super) fn is_long(&self) -> bool {
        self.file.is_some() || self.typed.len() > 2_000
    }

    /// The file that came, or what was pasted in its place: its name and bytes.
    pub(super) fn table(&self) -> Option<(String, Vec<u8>)> {
        match &self.file {
            Some(file) => Some((file.name.clone(), file.bytes.clone())),
            None if self.typed.trim().is_empty() => None,
            None => Some((String::new(), self.typed.clone().into_bytes())),
        }
    }

    pub(super) fn as_typed(&self) -> Typed {
        let whole = self.typed.len() <= MOST_PUT_BACK;
        Typed {
            text: if whole { self.typed.clone() } else { String::new() },
            added: self.added.clone(),
            capture: self.capture.map(|id| (id, "Captured from the instrument.".to_owned())),
            reason: self.reason.clone(),
            second: self.second.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).cloned().collect(),
            ..Typed::default()
        }
    }

    /// What stands for it in words: what was typed, or the name of its file.
    pub(super) fn named(&self, table: Option<&(String, Vec<u8>)>) -> String {
        match table {
            Some((name, _)) if name.trim().is_empty() => "pasted".to_owned(),
            Some((name, _)) => name.chars().take(120).collect(),
            None => self.typed.trim().to_owned(),
        }
    }

    /// What was typed, as a sentence behind the news that it was not kept.
    pub(super) fn still_typed(&self) -> String {
        match self.typed.trim() {
            _ if self.is_long() => String::new(),
            "" => String::new(),
            typed => format!(" What you typed: {typed}."),
        }
    }
}
