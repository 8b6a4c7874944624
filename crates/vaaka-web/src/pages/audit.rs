//! The audit trail: sealed, looked over on request, and read chain by chain.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use serde::Deserialize;
use vaaka_store::{audit, people, seals};

use super::verdict_parts::fingerprint;
use super::{Shell, page};
use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::Asked;
use crate::session::SignedIn;
use crate::state::{AppState, local_day_time};

/// What is asked.
#[derive(Debug, Default, Deserialize)]
pub struct Query {
    #[serde(default)]
    verify: String,
    #[serde(default)]
    chain: String,
}

#[derive(Debug, Template)]
#[template(path = "audit.html")]
struct AuditPage {
    shell: Shell,
    seal: Option<(String, String, String)>,
    found: Option<Verified>,
    chain: String,
    entries: Vec<(String, String, String, String, String)>,
    broken: Option<i32>,
}

#[derive(Debug)]
struct Verified {
    words: String,
    faults: Vec<String>,
}

/// Shows the newest seal, a chain, and what a look over everything finds.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let zone = desk.here.zone.clone();
    let when = |at: vaaka_store::At| local_day_time(at.0, &zone);
    let seal = seals::newest(&mut desk.connection)
        .await?
        .map(|seal| (seal.sequence.to_string(), when(seal.at), fingerprint(&seal.hash)));
    let found = match query.verify.as_str() {
        "" => None,
        _ => Some(seals::verify(&mut desk.connection).await?),
    };
    let chain = query.chain.trim().to_owned();
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
        shell: Shell::new(&signed, "records", &desk.here),
        seal,
        found: found.map(|found| Verified {
            words: format!(
                "{} entries in {} chains under {} seals; {} wait for their seal.",
                found.entries, found.chains, found.seals, found.unsealed
            ),
            faults: found.faults.iter().map(ToString::to_string).collect(),
        }),
        broken: audit::first_break(&rows),
        chain,
        entries,
    };
    page(StatusCode::OK, &template)
}
