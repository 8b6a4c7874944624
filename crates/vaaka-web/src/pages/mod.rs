//! One file a page: extract, one or two queries, one call to the core, one template. One folder a part of the business, as in
//! the store.

pub mod api;
pub mod chart;
pub mod check;
mod dates;
pub mod evidence;
mod form;
pub mod instrument;
pub mod metrics;
pub mod offline;
pub mod people;
pub mod plan;
mod progress;
pub mod round;
pub mod standard;
pub mod stations;

pub use check::input::MOST_TRACE_BYTES;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};

use crate::error::WebError;
use crate::state::AppState;

/// Whatever has no route.
pub async fn not_found() -> WebError {
    WebError::NotFound
}

/// Whether the server and its database answer.
pub async fn health(State(state): State<AppState>) -> Response {
    match state.store.connection().await {
        Ok(mut connection) => match vaaka_store::people::count(&mut connection).await {
            Ok(_) => "ok".into_response(),
            Err(_) => {
                (StatusCode::SERVICE_UNAVAILABLE, "the database does not answer").into_response()
            }
        },
        Err(_) => (StatusCode::SERVICE_UNAVAILABLE, "the database is out of reach").into_response(),
    }
}
