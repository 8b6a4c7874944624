//! What the browser keeps for the time when the server cannot be reached: a worker, and the page that it shows.

use askama::Template;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};

use crate::assets;
use crate::error::WebError;
use crate::shell::page;

const WORKER: &str = include_str!("../../static/js/worker.js");

#[derive(Template)]
#[template(path = "offline.html")]
struct OfflinePage {
    assets: String,
}

/// The worker. It lies at the top, because it answers for every page.
pub async fn worker() -> Response {
    let script = WORKER.replace("ASSETS", &assets::base());
    let heads = [
        (header::CONTENT_TYPE, "text/javascript; charset=utf-8"),
        (header::CACHE_CONTROL, "no-cache"),
    ];
    (heads, script).into_response()
}

/// The page that stands where the network does not reach.
pub async fn show() -> Result<Response, WebError> {
    page(StatusCode::OK, &OfflinePage { assets: assets::base() })
}
