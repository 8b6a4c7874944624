//! One file a page: extract, one or two queries, one call to the core, one template.

pub mod adjust;
pub mod api;
pub mod audit;
pub mod calendar;
pub mod certificates;
pub mod chart;
pub mod charts;
pub mod check;
pub mod check_place;
pub mod check_start;
mod check_step;
mod check_view;
pub mod check_void;
pub mod culprit;
mod dates;
pub mod due_calendar;
pub mod evidence;
pub mod files;
pub mod first;
pub mod forecast_score;
pub mod forecasts;
mod form;
pub mod handover;
pub mod import;
mod in_the_way;
mod input;
pub mod instrument;
pub mod instrument_forms;
pub mod instrument_use;
pub mod instruments;
pub mod keys;
pub mod label;
pub mod ladder;
pub mod late;
pub mod late_decide;
mod live;
pub mod missed;
pub mod notices;
pub mod offline;
pub mod password;
pub mod people;
pub mod plan_editor;
mod plan_form;
pub mod plans;
pub mod record;
pub mod records;
pub mod round;
mod second_look;
pub mod sign_in;
pub mod signals;
pub mod standard_acts;
pub mod standard_forms;
pub mod standards;
pub mod tables;
pub mod verdict;
mod verdict_parts;
pub mod wall;
pub mod way_on;

pub use input::MOST_TRACE_BYTES;

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
