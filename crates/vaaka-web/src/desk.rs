//! What a handler of the registers has open in front of it: the database, the moment, the shift.

use axum::extract::multipart::Multipart;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::header;
use jiff::Timestamp;
use jiff::civil::Date;
use vaaka_store::{By, Connection};

use crate::error::WebError;
use crate::fields::Fields;
use crate::session::SignedIn;
use crate::shell::Here;
use crate::state::AppState;

/// The desk.
pub struct Desk {
    /// Connection to the database.
    pub connection: Connection,
    /// Site, zone and shift.
    pub here: Here,
    /// The moment.
    pub now: Timestamp,
    /// The day at the site.
    pub today: Date,
}

impl Desk {
    /// Opens it.
    pub async fn open(state: &AppState) -> Result<Self, WebError> {
        let mut connection = state.store.connection().await?;
        let here = Here::find(state, &mut connection).await?;
        let now = state.now();
        let today = now.to_zoned_datetime(here.zone.clone()).date();
        Ok(Self { connection, here, now, today })
    }

    /// Who changes something, and when.
    pub fn by(&self, signed: &SignedIn) -> By {
        By { person: signed.person.id, at: self.now }
    }
}

/// A file that came with a form.
#[derive(Debug, Clone, Default)]
pub struct Upload {
    /// Its name.
    pub name: String,
    /// Its bytes; none where no file was chosen.
    pub bytes: Vec<u8>,
}

/// As [`Sent`], with a file. A form that was sent without one, or not in parts, has an empty file.
pub struct SentWithFile {
    /// Who sent it.
    pub signed: SignedIn,
    /// The desk.
    pub desk: Desk,
    /// What was typed.
    pub typed: Fields,
    /// The file.
    pub file: Upload,
}

impl FromRequest<AppState> for SentWithFile {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &AppState) -> Result<Self, WebError> {
        let in_parts = request
            .headers()
            .get(header::CONTENT_TYPE)
            .is_some_and(|kind| kind.as_bytes().starts_with(b"multipart/form-data"));
        if !in_parts {
            let Sent { signed, desk, typed } = Sent::from_request(request, state).await?;
            return Ok(Self { signed, desk, typed, file: Upload::default() });
        }
        let (mut parts, body) = request.into_parts();
        let signed =
            <SignedIn as FromRequestParts<AppState>>::from_request_parts(&mut parts, state).await?;
        let bad = |cause: &dyn std::fmt::Display| WebError::BadForm(cause.to_string());
        let mut form = Multipart::from_request(Request::from_parts(parts, body), state)
            .await
            .map_err(|cause| bad(&cause))?;
        let (mut typed, mut file) = (Fields::default(), Upload::default());
        let whole = |_| {
            WebError::NotNow {
            words: "The file did not arrive whole, or is larger than is taken here. Go back and send it again, smaller if need be.".into(),
        }
        };
        while let Some(field) = form.next_field().await.map_err(whole)? {
            let name = field.name().unwrap_or_default().to_owned();
            if let Some(own) = field.file_name() {
                file.name = crate::fields::clean(own);
                file.bytes = field.bytes().await.map_err(whole)?.to_vec();
            } else {
                let text = field.text().await.map_err(whole)?;
                typed = typed.with(&name, text.replace('\0', ""));
            }
        }
        signed.check_form(typed.token())?;
        Ok(Self { signed, desk: Desk::open(state).await?, typed, file })
    }
}

/// A form that somebody who may send it sent: its token is checked, and the desk is open.
pub struct Sent {
    /// Who sent it.
    pub signed: SignedIn,
    /// The desk.
    pub desk: Desk,
    /// What was typed.
    pub typed: Fields,
}

impl FromRequest<AppState> for Sent {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &AppState) -> Result<Self, WebError> {
        let (mut parts, body) = request.into_parts();
        let signed =
            <SignedIn as FromRequestParts<AppState>>::from_request_parts(&mut parts, state);
        let signed = signed.await?;
        let typed = Fields::from_request(Request::from_parts(parts, body), state).await?;
        signed.check_form(typed.token())?;
        Ok(Self { signed, desk: Desk::open(state).await?, typed })
    }
}
