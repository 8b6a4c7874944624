//! One error type for the web. What people see is chosen here, case by case; causes are logged
//! and never sent.

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use thiserror::Error;
use vaaka_core::method::MethodError;
use vaaka_store::StoreError;

use crate::frame::Problem;
use crate::paths::encode;

/// Why a page is not shown.
#[derive(Debug, Error)]
pub enum WebError {
    /// Nobody is signed in; `next` is where they wanted to go.
    #[error("nobody is signed in")]
    SignedOut {
        /// Path to return to.
        next: String,
    },
    /// The password was chosen by somebody else: an own one comes first.
    #[error("an own password comes first")]
    OwnPassword,
    /// Another program came without a key that is in use.
    #[error("no key that is in use")]
    NoKey,
    /// The role does not allow it.
    #[error("{words}")]
    NotAllowed {
        /// Who may, for people.
        words: &'static str,
    },
    /// The form does not belong to this sign-in.
    #[error("the form belongs to another sign-in")]
    ForeignForm,
    /// The form is not one that the application makes.
    #[error("the form cannot be read: {0}")]
    BadForm(String),
    /// No such page or record.
    #[error("no such page")]
    NotFound,
    /// What was asked does not fit the state of things; the words say what to do.
    #[error("{words}")]
    NotNow {
        /// For people.
        words: String,
    },
    /// The store failed.
    #[error(transparent)]
    Store(StoreError),
    /// The plan does not fit its method.
    #[error(transparent)]
    Method(#[from] MethodError),
    /// A template failed.
    #[error("a page could not be drawn: {0}")]
    Page(#[from] askama::Error),
    /// The session store failed.
    #[error("the session could not be read or written: {0}")]
    Session(#[from] tower_sessions::session::Error),
    /// Too many ask at once for what takes long; nothing was done.
    #[error("too many ask at once")]
    Busy,
    /// Hashing or another inner task failed.
    #[error("an inner task failed: {0}")]
    Inner(String),
}

impl WebError {
    /// The role does not allow it; the words say who may.
    pub fn not_allowed(words: &'static str) -> Self {
        Self::NotAllowed { words }
    }
}

impl From<StoreError> for WebError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NotFound => Self::NotFound,
            other => Self::Store(other),
        }
    }
}

impl IntoResponse for WebError {
    fn into_response(self) -> Response {
        let problem = |status, title: &str, words: String| {
            Problem { title: title.to_owned(), words }.into_response_with(status)
        };
        match self {
            Self::SignedOut { next } => {
                Redirect::to(&format!("/sign-in?next={}", encode(&next))).into_response()
            }
            Self::OwnPassword => Redirect::to("/password").into_response(),
            Self::NoKey => (
                StatusCode::UNAUTHORIZED,
                [(header::WWW_AUTHENTICATE, "Bearer")],
                axum::Json(serde_json::json!({
                    "error": "Sign in, or send a key that is in use as “Authorization: Bearer KEY”. An administrator makes keys on the page Keys."
                })),
            )
                .into_response(),
            Self::NotAllowed { words } => {
                problem(StatusCode::FORBIDDEN, "Not with this sign-in", words.into())
            }
            Self::ForeignForm => problem(
                StatusCode::FORBIDDEN,
                "This page belongs to another sign-in",
                "Somebody signed in or out since this page was opened. Nothing was changed. Go back, reload the page and do it again.".into(),
            ),
            Self::BadForm(cause) => {
                tracing::info!(cause, "a form could not be read");
                problem(
                    StatusCode::BAD_REQUEST,
                    "This form cannot be read",
                    "Nothing was changed. Go back, reload the page and fill it in again.".into(),
                )
            }
            Self::NotFound => problem(
                StatusCode::NOT_FOUND,
                "There is no such page",
                "The address is wrong, or what it showed is not here. The round is a good place to go on from.".into(),
            ),
            Self::NotNow { words } => problem(StatusCode::CONFLICT, "Not now", words),
            Self::Store(StoreError::Database(cause)) => {
                tracing::error!(cause, "the database is out of reach");
                problem(
                    StatusCode::SERVICE_UNAVAILABLE,
                    "The database is out of reach",
                    "What was kept before is safe. Go back (what you typed is still there) and try again in a moment; if it stays so, tell whoever looks after this server.".into(),
                )
            }
            Self::Store(StoreError::Busy) => problem(
                StatusCode::CONFLICT,
                "Not now",
                "The same is being done already. Wait until it is done.".into(),
            ),
            Self::Store(cause) => internal(&cause),
            Self::Method(cause) => internal(&cause),
            Self::Page(cause) => internal(&cause),
            Self::Session(cause) => {
                tracing::error!(%cause, "the session store failed");
                problem(
                    StatusCode::SERVICE_UNAVAILABLE,
                    "The database is out of reach",
                    "What was kept before is safe. Go back (what you typed is still there) and try again in a moment.".into(),
                )
            }
            Self::Busy => (
                [(header::RETRY_AFTER, "2")],
                problem(
                    StatusCode::SERVICE_UNAVAILABLE,
                    "Too many at once",
                    "Many sign in at this moment. Nothing was changed. Go back and try again in a few seconds.".into(),
                ),
            )
                .into_response(),
            Self::Inner(cause) => internal(&cause),
        }
    }
}

fn internal(cause: &dyn std::fmt::Display) -> Response {
    tracing::error!(%cause, "a request failed");
    Problem {
        title: "Something went wrong here".into(),
        words: "What was kept before is safe. Go back and try again; if it happens again, tell whoever looks after this server the time and what you did.".into(),
    }
    .into_response_with(StatusCode::INTERNAL_SERVER_ERROR)
}
