//! The pages of Vaaka: routes, handlers, templates, drawings and static files.
//!
//! No rule of the job lives here. Handlers extract, ask the store, make one call to the core,
//! and fill one page.

mod assets;
mod clock;
mod draw;
mod error;
mod forms;
mod pages;
mod passwords;
mod security;
mod session;
mod state;

pub use clock::{Clock, FixedClock, ShiftedClock, SystemClock};
pub use passwords::hash_password;
pub use state::{AppState, Settings};

use std::future::Future;
use std::time::Duration;

use axum::Router;
use axum::http::StatusCode;
use axum::middleware;
use axum::routing::{get, post};
use tokio::net::TcpListener;
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;

/// The whole application; tests call it as the server does.
pub fn router(state: AppState) -> Router {
    let sessions = session::layer(&state);
    Router::new()
        .route("/", get(pages::round::show))
        .route("/sign-in", get(pages::sign_in::show).post(pages::sign_in::submit))
        .route("/sign-out", post(pages::sign_in::sign_out))
        .route("/look", post(pages::sign_in::choose_look))
        .route("/checks", post(pages::check::start))
        .route("/checks/{id}", get(pages::check::show))
        .route("/checks/{id}/entries", post(pages::check::keep))
        .route("/checks/{id}/conclude", post(pages::check::conclude))
        .route("/checks/{id}/void", post(pages::check::void))
        .route("/checks/{id}/verdict", get(pages::verdict::show))
        .route("/charts", get(pages::charts::show))
        .route("/charts/{id}", get(pages::chart::show))
        .route("/instruments", get(pages::instruments::show))
        .route("/instruments/{tag}", get(pages::instrument::show))
        .route("/instruments/{tag}/state", post(pages::instrument::change))
        .fallback(pages::not_found)
        .layer(middleware::from_fn(security::same_origin))
        .layer(sessions)
        .route("/health", get(pages::health))
        .route("/assets/{version}/{*path}", get(assets::serve))
        .layer(middleware::from_fn(security::headers))
        .layer(TimeoutLayer::with_status_code(
            StatusCode::SERVICE_UNAVAILABLE,
            Duration::from_secs(30),
        ))
        .layer(TraceLayer::new_for_http())
        .with_state(state)
}

/// Serves until `shutdown` resolves; requests that are under way are finished.
///
/// # Errors
/// When the listener fails.
pub async fn serve(
    listener: TcpListener,
    state: AppState,
    shutdown: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    axum::serve(listener, router(state)).with_graceful_shutdown(shutdown).await
}
