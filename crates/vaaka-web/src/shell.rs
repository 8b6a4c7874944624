//! The frame around every page: who is signed in, which shift runs, which waits, and the words where something is wrong.

use askama::Template;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use vaaka_core::method::duration_words;
use vaaka_store::entries::{self, RunningWait};
use vaaka_store::ids::CheckId;
use vaaka_store::rows::Shift;
use vaaka_store::{At, Connection, shifts};

use crate::error::WebError;
use crate::session::SignedIn;
use crate::state::{AppState, local_time};
use crate::{assets, open_run};

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
    /// Waits that run in open checks, the next one first.
    pub timers: Vec<Timer>,
    /// Notices that nobody took up yet.
    pub notices: i64,
}

/// A wait as the frame of every page shows it.
#[derive(Debug, Clone)]
pub struct Timer {
    /// Path of its check.
    pub path: String,
    /// Tag of the instrument.
    pub tag: String,
    /// "running", "ready", "bound" or "late".
    pub state: &'static str,
    /// Seconds until that changes.
    pub left: i64,
    /// The same in words.
    pub words: String,
    /// "ready at 22:46", "readings by 22:59".
    pub when: String,
}

fn timer(wait: RunningWait, now: Timestamp, zone: &TimeZone) -> Timer {
    let until = |at: At| at.0.duration_since(now);
    let (state, left, when) = match (wait.is_over, wait.latest_at) {
        (_, Some(latest)) if until(latest).is_negative() => {
            ("late", until(latest), format!("too late since {}", local_time(latest.0, zone)))
        }
        (true, Some(latest)) => {
            ("bound", until(latest), format!("readings by {}", local_time(latest.0, zone)))
        }
        _ if until(wait.ready_at).is_positive() => (
            "running",
            until(wait.ready_at),
            format!("ready at {}", local_time(wait.ready_at.0, zone)),
        ),
        _ => (
            "ready",
            until(wait.ready_at),
            format!("ready since {}", local_time(wait.ready_at.0, zone)),
        ),
    };
    Timer {
        path: format!("/checks/{}", wait.check_id),
        tag: wait.tag,
        state,
        left: left.as_secs().max(0),
        words: duration_words(left),
        when,
    }
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
    /// Id, so that what the browser holds is kept in nobody else's name.
    pub id: i64,
    /// The page, to come back to it after a switch of person.
    pub path: String,
    /// Others who signed in on this device.
    pub neighbours: Vec<String>,
    /// Tables are written for spreadsheets in this browser.
    pub spreadsheets: bool,
}

impl Shell {
    /// The frame for nobody.
    pub fn plain(look: &'static str) -> Self {
        Self {
            assets: assets::base(),
            look,
            section: "",
            person: None,
            shift: None,
            timers: vec![],
            notices: 0,
        }
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

    /// Whether this person decides as a lead.
    pub fn may_lead(&self) -> bool {
        self.person.as_ref().is_some_and(|person| person.role == "lead")
    }

    /// Whether this person looks after people.
    pub fn may_administer(&self) -> bool {
        self.person.as_ref().is_some_and(|person| person.role == "administrator")
    }

    /// The frame for a person in a shift.
    pub fn new(signed: &SignedIn, section: &'static str, here: &Here) -> Self {
        Self {
            person: Some(ShellPerson {
                name: signed.person.name.clone(),
                role: signed.person.role.clone(),
                form_token: signed.form_token.clone(),
                id: signed.person.id.0,
                path: signed.path.clone(),
                neighbours: signed.neighbours.clone(),
                spreadsheets: signed.spreadsheets,
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
            timers: here.timers.clone(),
            notices: here.notices,
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
    /// Waits that run in open checks.
    pub timers: Vec<Timer>,
    /// Notices that nobody took up yet.
    pub notices: i64,
}

impl Here {
    /// Reads them.
    pub async fn find(state: &AppState, connection: &mut Connection) -> Result<Self, WebError> {
        let read = {
            let connection: &Connection = connection;
            futures_util::try_join!(
                shifts::site(connection),
                entries::running_waits(connection),
                vaaka_store::notices::waiting(connection)
            )
        };
        let (site, waits, notices) = read.map_err(|error| match error {
            vaaka_store::StoreError::NotFound => WebError::NotNow {
                words: "This database has no site yet. Load the demo world with “vaaka demo-load”, or ask whoever looks after this server.".into(),
            },
            other => other.into(),
        })?;
        let zone = shifts::zone(&site)?;
        let now = state.now();
        let shift = shifts::current(connection, &site, now).await?;
        let mut timers = Vec::new();
        for wait in waits {
            // Once the last reading is kept a longest time binds nobody: "too late" would mislead.
            if wait.is_over {
                let check = entries::check_now(connection, CheckId(wait.check_id)).await?;
                if !open_run::load(state, connection, check).await?.is_bound() {
                    continue;
                }
            }
            timers.push(timer(wait, now, &zone));
        }
        timers
            .sort_by_key(|timer| (timer.state == "running" || timer.state == "bound", timer.left));
        Ok(Self { zone, shift, timers, notices })
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
