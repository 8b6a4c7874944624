//! The audit trail: sealed, looked over on request, and read chain by chain.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_store::verification::{KnownSeal, Progress, Wanted, verify as verify_all};
use vaaka_store::{StoreError, audit, people, seals};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::forms::Asked;
use crate::pages::check::verdict_parts::fingerprint;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, Look, local_day_time};

/// What is asked.
#[derive(Debug, Default, Deserialize)]
pub struct Query {
    #[serde(default)]
    chain: String,
}

#[derive(Debug, Template)]
#[template(path = "audit.html")]
struct AuditPage {
    shell: Shell,
    seal: Option<(String, String, String)>,
    running: Option<(String, usize)>,
    found: Option<Verified>,
    chain: String,
    entries: Vec<(String, String, String, String, String)>,
    broken: Option<i32>,
    known: String,
    known_error: Option<String>,
}

#[derive(Debug)]
struct Verified {
    words: String,
    when: String,
    failed: Option<String>,
    faults: Vec<String>,
}

/// A look that nobody has asked for so long is given up: the page was left.
const PATIENCE: Duration = Duration::from_secs(20);
/// A page waits so long for a look before it says how far it is: that of a small site is over by then.
const MOMENT: Duration = Duration::from_secs(2);
const STEP: Duration = Duration::from_millis(50);

/// Shows the newest seal, a chain, and what a look over everything found or how far it is.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    if signed.person.role == "lead" {
        wait_a_moment(&state).await;
    }
    draw(&state, &mut desk, &signed, &query.chain, ("", None), StatusCode::OK).await
}

/// Says that somebody still waits, and waits a moment with them.
async fn wait_a_moment(state: &AppState) {
    let since = Instant::now();
    loop {
        let runs = state.look.lock().ok().and_then(|mut look| {
            let look = look.as_mut()?;
            look.asked = Instant::now();
            Some(look.found.is_none())
        });
        if runs != Some(true) || since.elapsed() > MOMENT {
            return;
        }
        tokio::time::sleep(STEP).await;
    }
}

async fn draw(
    state: &AppState,
    desk: &mut Desk,
    signed: &SignedIn,
    chain: &str,
    (known, known_error): (&str, Option<String>),
    status: StatusCode,
) -> Result<Response, WebError> {
    let zone = desk.here.zone.clone();
    let when = |at: vaaka_store::At| local_day_time(at.0, &zone);
    let seal = seals::newest(&mut desk.connection)
        .await?
        .map(|seal| (seal.sequence.to_string(), when(seal.at), fingerprint(&seal.hash)));
    let look = state.look.lock().ok().and_then(|look| look.clone());
    let chain = chain.trim().to_owned();
    let rows = match chain.as_str() {
        "" => vec![],
        chain => audit::read_chain(&mut desk.connection, chain).await?,
    };
    let names = people::all(&mut desk.connection).await?;
    let entries = rows
        .iter()
        .map(|entry| {
            let by = entry.person_id.and_then(|id| names.iter().find(|person| person.id == id));
            (
                entry.sequence.to_string(),
                when(entry.at),
                by.map_or("the program".to_owned(), |person| person.name.clone()),
                entry.action.replace('_', " "),
                entry.detail.to_string(),
            )
        })
        .collect();
    let template = AuditPage {
        shell: Shell::new(signed, "records", &desk.here),
        seal,
        running: look
            .as_ref()
            .filter(|look| look.found.is_none())
            .map(|look| (look.by.clone(), look.progress.percent())),
        found: look.as_ref().and_then(|look| {
            let found = look.found.as_ref()?;
            Some(Verified {
                words: found.as_ref().map_or_else(|_| String::new(), |found| found.words()),
                when: format!("Begun by {} on {}.", look.by, local_day_time(look.at, &zone)),
                failed: found.as_ref().err().cloned(),
                faults: found
                    .as_ref()
                    .map_or(vec![], |found| found.faults.iter().map(ToString::to_string).collect()),
            })
        }),
        broken: audit::first_break(&rows),
        chain,
        entries,
        known: known.to_owned(),
        known_error,
    };
    page(status, &template)
}

/// Begins a look over everything; one that runs goes on.
pub async fn verify(
    State(state): State<AppState>,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let known = typed.get("known");
    let read = (!known.is_empty()).then(|| KnownSeal::parse(known));
    if read == Some(None) {
        let words = "Type the number of the seal and the beginning of its hash, as a printed record shows them: 412 3f2a 90bc 11de.";
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return draw(&state, &mut desk, &signed, "", (known, Some(words.into())), status).await;
    }
    let wanted = Wanted { known: read.flatten().into_iter().collect(), trail_only: false };
    let progress = Arc::new(Progress::default());
    {
        let Ok(mut look) = state.look.lock() else {
            return Err(WebError::Inner("the look".into()));
        };
        if look.as_ref().is_some_and(|look| look.found.is_none()) {
            return Ok(Redirect::to("/audit").into_response());
        }
        *look = Some(Look {
            progress: Arc::clone(&progress),
            asked: Instant::now(),
            by: signed.person.name.clone(),
            at: desk.now,
            found: None,
        });
    }
    drop(desk);
    tokio::spawn(run(state, wanted, progress));
    Ok(Redirect::to("/audit").into_response())
}

/// Runs a look to its end, or until nobody asks for it any more or the server closes.
async fn run(state: AppState, wanted: Wanted, progress: Arc<Progress>) {
    let look = async {
        let mut connection = state.store.connection().await?;
        verify_all(&mut connection, &wanted, &progress).await
    };
    let watch = async {
        loop {
            tokio::time::sleep(Duration::from_secs(1)).await;
            let left = state.look.lock().ok().is_some_and(|look| {
                look.as_ref().is_none_or(|look| look.asked.elapsed() > PATIENCE)
            });
            // It ends between two steps, so that its connection is whole.
            progress.cancelled.store(left, Ordering::Relaxed);
        }
    };
    let found = tokio::select! {
        found = look => found,
        () = watch => Err(StoreError::Cancelled),
        () = state.closed() => Err(StoreError::Cancelled),
    };
    let found = found.map_err(|error| match error {
        StoreError::Busy => {
            "Another look over everything runs already. Wait until it is done.".to_owned()
        }
        StoreError::Cancelled => "It was given up, because nobody waited for it.".to_owned(),
        other => {
            tracing::error!(%other, "the look over the audit trail failed");
            "The database did not answer. Try again.".to_owned()
        }
    });
    if let Ok(mut look) = state.look.lock()
        && let Some(look) = look.as_mut()
    {
        look.found = Some(found);
    }
}
