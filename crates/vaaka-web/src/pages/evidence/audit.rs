//! The audit trail: sealed, looked over on request, and read chain by chain.

use std::time::{Duration, Instant};

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_store::verification::{KnownSeal, Wanted};
use vaaka_store::{audit, jobs, people, seals, trail_looks};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::forms::Asked;
use crate::pages::check::verdict_parts::fingerprint;
use crate::pages::progress::{Pieces, Progress};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

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
    progress: Option<Progress>,
    goes_on: bool,
    looks: Vec<Verified>,
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
    faults: Vec<String>,
}

/// A page waits so long for a look before it says how far it is: that of a small site is over by then.
const MOMENT: Duration = Duration::from_secs(2);
const STEP: Duration = Duration::from_millis(50);
/// Looks that the page shows.
const SHOWN: i64 = 5;

/// How a look is told while it goes on.
const LOOKED: Pieces = Pieces {
    so_far: "steps are done",
    meanwhile: "You may leave this page; it goes on by itself.",
    at_the_end: "Everything is looked over.",
};

/// Shows the newest seal, a chain, and what the newest looks over everything found or how far one is.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, &query.chain, ("", None), StatusCode::OK).await
}

async fn draw(
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
    let lead = signed.person.role == "lead";
    let progress = jobs::of(&mut desk.connection, trail_looks::PATH)
        .await?
        .filter(|job| job.state != "done")
        .map(|job| Progress::of(&job, LOOKED, lead.then(|| "/audit/again".to_owned())));
    let looks = trail_looks::newest(&mut desk.connection, SHOWN).await?;
    let looks = looks.into_iter().filter_map(|look| {
        let finished = look.finished_at?;
        let found = look.look.found;
        Some(Verified {
            words: found.words(),
            when: format!(
                "Asked for by {} on {}, over at {}.",
                look.person,
                when(look.at),
                when(finished)
            ),
            faults: found.faults.iter().map(ToString::to_string).collect(),
        })
    });
    let template = AuditPage {
        shell: Shell::new(signed, "records", &desk.here),
        seal,
        goes_on: progress.as_ref().is_some_and(|progress| progress.goes_on),
        progress,
        looks: looks.collect(),
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
        return draw(&mut desk, &signed, "", (known, Some(words.into())), status).await;
    }
    let wanted = Wanted { known: read.flatten().into_iter().collect(), trail_only: false };
    let by = desk.by(&signed);
    trail_looks::ask(&mut desk.connection, wanted, by).await?;
    drop(desk);
    // That of a small site is over in a moment.
    let since = Instant::now();
    while since.elapsed() < MOMENT {
        tokio::time::sleep(STEP).await;
        let mut connection = state.store.connection().await?;
        if !jobs::of(&mut connection, trail_looks::PATH).await?.is_some_and(|job| job.is_open()) {
            break;
        }
    }
    Ok(Redirect::to(trail_looks::PATH).into_response())
}

/// Lets a look that stopped be tried again.
pub async fn try_again(Sent { signed, mut desk, .. }: Sent) -> Result<Response, WebError> {
    let by = (signed.person.id, desk.now);
    jobs::try_again(&mut desk.connection, trail_looks::PATH, by).await?;
    Ok(Redirect::to(trail_looks::PATH).into_response())
}
