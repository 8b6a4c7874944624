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
pub use crate::frame::{Shell, ShellPerson, Timer};
use crate::open_run;
use crate::session::SignedIn;
use crate::state::{AppState, local_time};

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

impl Shell {
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
