//! Photographs and documents: taken in, and shown again as they came.

use axum::extract::State;
use axum::extract::multipart::{Multipart, MultipartRejection};
use axum::http::header;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_store::files::{self, NewFile, Owner};
use vaaka_store::ids::{CertificateId, CheckId, FileId};
use vaaka_store::{At, StoreError, checks, instruments};

use crate::error::WebError;
use crate::fields::{clean, not_longer};
use crate::forms::{PathId, PathTag};
use crate::paths::local_path;
use crate::session::SignedIn;
use crate::state::AppState;

/// Most bytes of a file.
pub const MOST_BYTES: usize = 8 * 1024 * 1024;

type Form = Result<Multipart, MultipartRejection>;

/// What a form with a file sent.
#[derive(Default)]
pub(in crate::pages) struct Sent {
    pub token: String,
    pub back: String,
    pub caption: String,
    pub kind: String,
    pub name: String,
    pub bytes: Vec<u8>,
}

/// Reads a form with a file.
pub(in crate::pages) async fn read(form: Form) -> Result<Sent, WebError> {
    let mut sent = Sent { back: "/".into(), ..Sent::default() };
    // What is no such form carries no token, and is refused for that.
    let Ok(mut form) = form else { return Ok(sent) };
    let bad = |_| {
        WebError::NotNow {
        words: "The file did not arrive whole, or is larger than is taken here. Go back and send it again, smaller if need be.".into(),
    }
    };
    while let Some(field) = form.next_field().await.map_err(bad)? {
        let name = field.name().unwrap_or_default().to_owned();
        if name == "file" {
            sent.name = clean(field.file_name().unwrap_or_default());
            sent.bytes = field.bytes().await.map_err(bad)?.to_vec();
            continue;
        }
        let text = field.text().await.map_err(bad)?.replace('\0', "");
        match name.as_str() {
            "form_token" => sent.token = text,
            "kind" => sent.kind = text,
            "back" => sent.back = local_path(&text),
            "caption" => sent.caption = clean(&text),
            _ => {}
        }
    }
    Ok(sent)
}

/// What a file is, by its first bytes: what the browser says of it is not believed.
pub fn media_type(bytes: &[u8]) -> Option<&'static str> {
    match bytes {
        [0x89, b'P', b'N', b'G', 0x0d, 0x0a, 0x1a, 0x0a, ..] => Some("image/png"),
        [0xff, 0xd8, 0xff, ..] => Some("image/jpeg"),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Some("image/webp"),
        [b'%', b'P', b'D', b'F', b'-', ..] => Some("application/pdf"),
        _ => None,
    }
}

async fn keep(
    state: &AppState,
    signed: &SignedIn,
    owner: Owner,
    sent: Sent,
    pictures_only: bool,
) -> Result<Response, WebError> {
    let refuse = |words: &str| Err(WebError::NotNow { words: words.to_owned() });
    if sent.bytes.is_empty() {
        return refuse("No file was chosen. Go back, choose one, and send it again.");
    }
    if not_longer(&sent.caption, 200).is_err() {
        return refuse(
            "What it shows is told in more than 200 characters. Go back and say it shorter.",
        );
    }
    if sent.bytes.len() > MOST_BYTES {
        return refuse("The file is larger than 8 MB. Go back and send a smaller one.");
    }
    let Some(media_type) = media_type(&sent.bytes) else {
        return refuse(
            "This is no picture (PNG, JPEG, WebP) and no PDF. Go back and choose another file.",
        );
    };
    if pictures_only && media_type == "application/pdf" {
        return refuse(
            "A photograph is wanted here: PNG, JPEG or WebP. Go back and choose another file.",
        );
    }
    let name: String = sent.name.chars().take(120).collect();
    let name = if name.is_empty() { "file".to_owned() } else { name };
    let mut connection = state.store.connection().await?;
    let new = NewFile {
        owner,
        name: &name,
        media_type,
        bytes: &sent.bytes,
        caption: &sent.caption,
        person: signed.person.id,
        at: At(state.now()),
    };
    match files::keep(&mut connection, &new).await {
        Ok(_) => Ok(Redirect::to(&sent.back).into_response()),
        Err(StoreError::Conflict { constraint }) if constraint.ends_with("fkey") => {
            Err(WebError::NotFound)
        }
        Err(other) => Err(other.into()),
    }
}

/// A photograph of an instrument.
pub async fn of_instrument(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    form: Form,
) -> Result<Response, WebError> {
    let sent = read(form).await?;
    signed.check_form(&sent.token)?;
    let mut connection = state.store.connection().await?;
    let (instrument, _) = instruments::by_tag(&mut connection, &tag).await?;
    drop(connection);
    keep(&state, &signed, Owner::Instrument(instrument.id), sent, true).await
}

/// A photograph for a check.
pub async fn of_check(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    form: Form,
) -> Result<Response, WebError> {
    let sent = read(form).await?;
    signed.check_form(&sent.token)?;
    let mut connection = state.store.connection().await?;
    let check = checks::by_id(&mut connection, CheckId(id)).await?;
    drop(connection);
    keep(&state, &signed, Owner::Check(check.id), sent, true).await
}

/// The document of a certificate.
pub async fn of_certificate(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    form: Form,
) -> Result<Response, WebError> {
    let sent = read(form).await?;
    signed.check_form(&sent.token)?;
    keep(&state, &signed, Owner::Certificate(CertificateId(id)), sent, false).await
}

/// Shows a file as it came.
pub async fn show(
    _signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let (name, media_type, bytes) = files::read(&mut connection, FileId(id)).await?;
    let plain: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || ".-_ ".contains(c) { c } else { '_' })
        .collect();
    let way = if media_type == "application/pdf" { "attachment" } else { "inline" };
    let headers = [
        (header::CONTENT_TYPE, media_type),
        (header::CONTENT_DISPOSITION, format!("{way}; filename=\"{plain}\"")),
        (header::CACHE_CONTROL, "private, max-age=86400, immutable".to_owned()),
    ];
    Ok((headers, bytes).into_response())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_known_by_their_first_bytes() {
        assert_eq!(media_type(b"\x89PNG\r\n\x1a\nrest"), Some("image/png"));
        assert_eq!(media_type(b"\xff\xd8\xff\xe0"), Some("image/jpeg"));
        assert_eq!(media_type(b"RIFF\0\0\0\0WEBPVP8 "), Some("image/webp"));
        assert_eq!(media_type(b"%PDF-1.7"), Some("application/pdf"));
        for other in [&b""[..], b"<svg onload=alert(1)>", b"GIF89a", b"MZ", b"PNG"] {
            assert_eq!(media_type(other), None);
        }
    }
}
