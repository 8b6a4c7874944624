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
use axum::routing::{MethodRouter, get, post};
use tokio::net::TcpListener;
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;

/// Who may call a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Anybody, signed in or not.
    Everybody,
    /// Anybody who is signed in; auditors read, too.
    SignedIn,
    /// Those who run checks: technicians and leads.
    Bench,
}

/// A route with who may call it, so that a test can walk them all.
#[derive(Debug)]
pub struct Route {
    /// GET or POST.
    pub method: &'static str,
    /// Path, with its parameters in braces.
    pub path: &'static str,
    /// Who may call it.
    pub access: Access,
    handler: MethodRouter<AppState>,
}

/// Every route of the application. A route that is not here does not exist.
#[must_use]
pub fn routes() -> Vec<Route> {
    use Access::{Bench, Everybody, SignedIn};
    let read = |path, access, handler| Route { method: "GET", path, access, handler };
    let write = |path, access, handler| Route { method: "POST", path, access, handler };
    vec![
        read("/sign-in", Everybody, get(pages::sign_in::show)),
        write("/sign-in", Everybody, post(pages::sign_in::submit)),
        write("/sign-out", Everybody, post(pages::sign_in::sign_out)),
        write("/look", Everybody, post(pages::sign_in::choose_look)),
        read("/", SignedIn, get(pages::round::show)),
        write("/checks", Bench, post(pages::check::start)),
        read("/checks/{id}", Bench, get(pages::check::show)),
        write("/checks/{id}/entries", Bench, post(pages::check::keep)),
        write("/checks/{id}/conclude", Bench, post(pages::check::conclude)),
        write("/checks/{id}/void", Bench, post(pages::check::void)),
        read("/checks/{id}/verdict", SignedIn, get(pages::verdict::show)),
        read("/charts", SignedIn, get(pages::charts::show)),
        read("/charts/{id}", SignedIn, get(pages::chart::show)),
        read("/instruments", SignedIn, get(pages::instruments::show)),
        read("/instruments/{tag}", SignedIn, get(pages::instrument::show)),
        write("/instruments/{tag}/state", Bench, post(pages::instrument::change)),
        read("/standards", SignedIn, get(pages::standards::show)),
        read("/standards/{tag}", SignedIn, get(pages::standards::one)),
    ]
}

/// The whole application; tests call it as the server does.
pub fn router(state: AppState) -> Router {
    let sessions = session::layer(&state);
    routes()
        .into_iter()
        .fold(Router::new(), |router, route| router.route(route.path, route.handler))
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
