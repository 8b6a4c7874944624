//! Static files, shipped inside the program and addressed by a hash of them all, so that
//! browsers may keep them for ever.

use std::sync::LazyLock;

use axum::extract::Path;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;
use sha2::{Digest, Sha256};

#[derive(RustEmbed)]
#[folder = "static/"]
struct Files;

static VERSION: LazyLock<String> = LazyLock::new(|| {
    let mut digest = Sha256::new();
    let mut names: Vec<_> = Files::iter().collect();
    names.sort();
    for name in names {
        digest.update(name.as_bytes());
        if let Some(file) = Files::get(&name) {
            digest.update(file.metadata.sha256_hash());
        }
    }
    hex::encode(&digest.finalize()[..6])
});

/// The address under which the static files lie, for templates.
pub fn base() -> String {
    format!("/assets/{}", *VERSION)
}

/// Serves one file. Any version is answered, so that a page from before an update still works;
/// only the present one may be kept.
pub async fn serve(Path((version, path)): Path<(String, String)>) -> Response {
    let Some(file) = Files::get(&path) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let kind = match path.rsplit_once('.').map(|(_, ending)| ending) {
        Some("css") => "text/css; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        _ => "text/plain; charset=utf-8",
    };
    let keep = if version == *VERSION { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, keep)], file.data).into_response()
}
