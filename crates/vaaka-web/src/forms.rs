//! Small helpers for forms and addresses. Axum's own extractors answer bad input with bare
//! text; these answer with a page.

use axum::extract::{Form, FromRequest, FromRequestParts, Path, Query, Request};
use axum::http::request::Parts;
use serde::de::DeserializeOwned;
use uuid::Uuid;

use crate::error::WebError;

/// A request whose form holds no NUL: no text of the database can, and nobody types one. In a form as browsers send it
/// `%00` stands for that and for nothing else.
pub async fn without_nul(request: Request) -> Result<Request, WebError> {
    /// More than any form of the application may have; files come by other ways.
    const MOST: usize = 2 * 1024 * 1024;
    let (parts, body) = request.into_parts();
    let bytes = axum::body::to_bytes(body, MOST)
        .await
        .map_err(|cause| WebError::BadForm(cause.to_string()))?;
    let has_nul = bytes.windows(3).any(|three| three == b"%00") || bytes.contains(&0);
    let body = match (has_nul, std::str::from_utf8(&bytes)) {
        (true, Ok(text)) => axum::body::Body::from(text.replace("%00", "").replace('\0', "")),
        _ => axum::body::Body::from(bytes),
    };
    let mut parts = parts;
    parts.headers.remove(axum::http::header::CONTENT_LENGTH);
    Ok(Request::from_parts(parts, body))
}

/// A form that was posted.
#[derive(Debug)]
pub struct Posted<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Posted<T> {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &S) -> Result<Self, WebError> {
        match Form::<T>::from_request(without_nul(request).await?, state).await {
            Ok(Form(form)) => Ok(Self(form)),
            Err(cause) => Err(WebError::BadForm(cause.to_string())),
        }
    }
}

/// The number in a path; anything else is no page.
#[derive(Debug, Clone, Copy)]
pub struct PathId(pub i64);

impl<S: Send + Sync> FromRequestParts<S> for PathId {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, WebError> {
        let path = Path::<i64>::from_request_parts(parts, state).await;
        path.map(|Path(id)| Self(id)).map_err(|_| WebError::NotFound)
    }
}

/// Two numbers in a path; anything else is no page.
#[derive(Debug, Clone, Copy)]
pub struct PathIds(pub i64, pub i64);

impl<S: Send + Sync> FromRequestParts<S> for PathIds {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, WebError> {
        let path = Path::<(i64, i64)>::from_request_parts(parts, state).await;
        path.map(|Path((first, second))| Self(first, second)).map_err(|_| WebError::NotFound)
    }
}

/// The tag in a path; what cannot be one is no page.
#[derive(Debug, Clone)]
pub struct PathTag(pub String);

/// A tag and a number in a path.
#[derive(Debug, Clone)]
pub struct PathTagId(pub String, pub i64);

fn could_be(tag: &str) -> bool {
    tag.chars().count() <= 60 && !tag.chars().any(char::is_control)
}

impl<S: Send + Sync> FromRequestParts<S> for PathTag {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, WebError> {
        match Path::<String>::from_request_parts(parts, state).await {
            Ok(Path(tag)) if could_be(&tag) => Ok(Self(tag)),
            _ => Err(WebError::NotFound),
        }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for PathTagId {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, WebError> {
        match Path::<(String, i64)>::from_request_parts(parts, state).await {
            Ok(Path((tag, id))) if could_be(&tag) => Ok(Self(tag, id)),
            _ => Err(WebError::NotFound),
        }
    }
}

/// What the address asks for; what cannot be read is left out.
#[derive(Debug, Default)]
pub struct Asked<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned + Default> FromRequestParts<S> for Asked<T> {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, WebError> {
        let query = Query::<T>::from_request_parts(parts, state).await;
        Ok(query.map_or_else(|_| Self(T::default()), |Query(asked)| Self(asked)))
    }
}

/// A key that makes a retry the same request.
pub fn new_key() -> Uuid {
    Uuid::new_v4()
}
