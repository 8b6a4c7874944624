//! One file a page: extract, one or two queries, one call to the core, one template.

pub mod chart;
pub mod charts;
pub mod check;
mod check_view;
pub mod round;
pub mod sign_in;
pub mod verdict;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use jiff::tz::TimeZone;
use vaaka_store::rows::Shift;
use vaaka_store::{Connection, shifts};

use crate::assets;
use crate::error::WebError;
use crate::session::SignedIn;
use crate::state::{AppState, local_time};

/// The frame around every page.
#[derive(Debug, Clone)]
pub struct Shell {
    /// Where the static files lie.
    pub assets: String,
    /// auto, light or dark.
    pub look: &'static str,
    /// Which entry of the navigation is current.
    pub section: &'static str,
    /// Who is signed in.
    pub person: Option<ShellPerson>,
    /// "Night shift" and its times.
    pub shift: Option<(String, String)>,
}

/// The person in the frame.
#[derive(Debug, Clone)]
pub struct ShellPerson {
    /// Name.
    pub name: String,
    /// Role.
    pub role: String,
    /// Token for the forms of the frame.
    pub form_token: String,
}

impl Shell {
    /// The frame for nobody.
    pub fn plain(look: &'static str) -> Self {
        Self { assets: assets::base(), look, section: "", person: None, shift: None }
    }

    /// Token for the forms of the page; empty when nobody is signed in.
    pub fn form_token(&self) -> &str {
        self.person.as_ref().map_or("", |person| person.form_token.as_str())
    }

    /// Whether this person runs checks; what does not work is not drawn.
    pub fn may_check(&self) -> bool {
        self.person
            .as_ref()
            .is_some_and(|person| matches!(person.role.as_str(), "technician" | "lead"))
    }

    /// The frame for a person in a shift.
    pub fn new(signed: &SignedIn, section: &'static str, here: &Here) -> Self {
        Self {
            person: Some(ShellPerson {
                name: signed.person.name.clone(),
                role: signed.person.role.clone(),
                form_token: signed.form_token.clone(),
            }),
            shift: Some((
                format!("{} shift", here.shift.label),
                format!(
                    "{}–{}",
                    local_time(here.shift.starts_at.0, &here.zone),
                    local_time(here.shift.ends_at.0, &here.zone)
                ),
            )),
            section,
            ..Self::plain(signed.look)
        }
    }
}

/// Site, zone and shift of the moment.
#[derive(Debug, Clone)]
pub struct Here {
    /// Its zone.
    pub zone: TimeZone,
    /// The shift that runs.
    pub shift: Shift,
}

impl Here {
    /// Reads them.
    pub async fn find(state: &AppState, connection: &mut Connection) -> Result<Self, WebError> {
        let site = shifts::site(connection).await.map_err(|error| match error {
            vaaka_store::StoreError::NotFound => WebError::NotNow {
                words: "This database has no site yet. Load the demo world with “vaaka demo-load”, or ask whoever looks after this server.".into(),
            },
            other => other.into(),
        })?;
        let zone = shifts::zone(&site)?;
        let shift = shifts::current(connection, &site, state.now()).await?;
        Ok(Self { zone, shift })
    }
}

/// Draws a template with a status.
pub fn page(status: StatusCode, template: &impl Template) -> Result<Response, WebError> {
    Ok((status, Html(template.render()?)).into_response())
}

/// A page that says what is wrong and what to do.
#[derive(Debug, Template)]
#[template(path = "problem.html")]
struct ProblemPage {
    shell: Shell,
    title: String,
    words: String,
}

/// What is wrong and what to do.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Heading.
    pub title: String,
    /// What to do.
    pub words: String,
}

impl Problem {
    /// The page, with its status.
    pub fn into_response_with(self, status: StatusCode) -> Response {
        let template =
            ProblemPage { shell: Shell::plain("auto"), title: self.title, words: self.words };
        page(status, &template).unwrap_or_else(|_| status.into_response())
    }
}

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
