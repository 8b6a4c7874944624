//! Headers and the origin check.

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::error::WebError;

/// Nothing inline, nothing from elsewhere. `data:` pictures are used by Bootstrap's own CSS.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
    font-src 'self'; connect-src 'self'; form-action 'self'; worker-src 'self'; frame-ancestors 'none'; base-uri 'none'";

/// Sets the headers that every answer carries.
pub async fn headers(request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    let fixed = [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::X_FRAME_OPTIONS, "DENY"),
    ];
    for (name, value) in fixed {
        headers.insert(name, HeaderValue::from_static(value));
    }
    // Pages hold people's names and open forms; a shared bench PC must not show them again
    // after signing out.
    headers.entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    response
}

/// Refuses a changing request that a browser says comes from another site. Forms also carry a
/// token of the session; this stands before it and covers the sign-in form, which has no session.
pub async fn same_origin(request: Request, next: Next) -> Response {
    // No text of the database holds a NUL: no path can mean one, and in what is asked it means nothing.
    if request.uri().path().contains("%00") {
        return WebError::NotFound.into_response();
    }
    let mut request = request;
    if let Some(query) = request.uri().query().filter(|query| query.contains("%00")) {
        let address = format!("{}?{}", request.uri().path(), query.replace("%00", ""));
        if let Ok(uri) = address.parse() {
            *request.uri_mut() = uri;
        }
    }
    let safe = matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if safe || from_here(request.headers()) {
        next.run(request).await
    } else {
        WebError::ForeignForm.into_response()
    }
}

fn from_here(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
    match text(header::HeaderName::from_static("sec-fetch-site")) {
        Some(site) => matches!(site, "same-origin" | "none"),
        None => match (text(header::ORIGIN), text(header::HOST)) {
            (Some(origin), Some(host)) => {
                origin.split_once("://").is_some_and(|(_, rest)| rest == host)
            }
            // No browser that sends cookies leaves out both; scripts without them have no session.
            (None, _) => true,
            (Some(_), None) => false,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers_of(pairs: &[(&'static str, &str)]) -> HeaderMap {
        pairs
            .iter()
            .map(|(name, value)| {
                (header::HeaderName::from_static(name), HeaderValue::from_str(value).unwrap())
            })
            .collect()
    }

    #[test]
    fn only_requests_from_this_site_change_anything() {
        assert!(from_here(&headers_of(&[("sec-fetch-site", "same-origin")])));
        assert!(!from_here(&headers_of(&[("sec-fetch-site", "cross-site")])));
        assert!(!from_here(&headers_of(&[("sec-fetch-site", "same-site")])));
        assert!(from_here(&headers_of(&[("origin", "http://a:1"), ("host", "a:1")])));
        assert!(!from_here(&headers_of(&[("origin", "http://b:1"), ("host", "a:1")])));
        assert!(!from_here(&headers_of(&[("origin", "null"), ("host", "a:1")])));
    }

    #[test]
    fn the_policy_allows_nothing_inline() {
        assert!(!POLICY.contains("unsafe"));
        assert!(POLICY.starts_with("default-src 'none'"));
    }
}
