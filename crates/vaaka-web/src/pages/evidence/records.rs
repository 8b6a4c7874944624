//! Finding records: by instrument, lot, person, date and verdict.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::ToSpan;
use serde::Deserialize;
use vaaka_store::search::{self, Found, Wanted};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::Asked;
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day_time};

/// Records shown at most.
const MOST: i64 = 200;

/// What is looked for, as it stands in the address.
#[derive(Debug, Default, Clone, Deserialize)]
pub struct Query {
    #[serde(default)]
    pub(in crate::pages) tag: String,
    #[serde(default)]
    pub(in crate::pages) standard: String,
    #[serde(default)]
    pub(in crate::pages) person: String,
    #[serde(default)]
    pub(in crate::pages) from: String,
    #[serde(default)]
    pub(in crate::pages) to: String,
    #[serde(default)]
    pub(in crate::pages) verdict: String,
}

const VERDICTS: [(&str, &str); 7] = [
    ("", "any"),
    ("pass", "within tolerance"),
    ("fail", "out of tolerance"),
    ("doubtful", "doubtful"),
    ("signal", "with a signal"),
    ("void", "void"),
    ("open", "open"),
];

#[derive(Debug, Template)]
#[template(path = "records.html")]
struct RecordsPage {
    shell: Shell,
    query: Query,
    verdicts: Vec<(&'static str, &'static str, bool)>,
    rows: Vec<Row>,
    heading: String,
    error: Option<String>,
    export: String,
}

#[derive(Debug)]
pub(in crate::pages) struct Row {
    pub id: i64,
    pub path: String,
    pub at: String,
    pub tag: String,
    pub instrument: String,
    pub plan: String,
    pub standard: String,
    pub person: String,
    pub state: &'static str,
    pub words: String,
}

/// What was asked as the store takes it; the words when a day cannot be read.
pub(in crate::pages) fn wanted(query: &Query, here: &Here) -> (Wanted, Option<String>) {
    let mut error = None;
    let mut day = |text: &str, plus: i64| {
        let text = text.trim();
        if text.is_empty() {
            return None;
        }
        let found = crate::fields::read_day(text).and_then(|day| {
            let day = day.checked_add(plus.days()).ok()?;
            Some(day.to_zoned_datetime(here.zone.clone()).ok()?.timestamp())
        });
        if found.is_none() {
            error = Some(format!(
                "“{text}” is no day. Type it as year-month-day, for example 2026-11-24, or as 24.11.2026; all days are shown."
            ));
        }
        found
    };
    let wanted = Wanted {
        tag: query.tag.clone(),
        standard: query.standard.clone(),
        person: query.person.clone(),
        from: day(&query.from, 0),
        until: day(&query.to, 1),
        verdict: query.verdict.clone(),
    };
    (wanted, error)
}

/// Shows the search and what was found.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (wanted, error) = wanted(&query, &desk.here);
    let found = search::find(&mut desk.connection, &wanted, MOST).await?;
    let heading = match found.len() {
        0 => "none found".to_owned(),
        1 => "one found".to_owned(),
        n if n as i64 >= MOST => format!("the newest {n} found"),
        n => format!("{n} found"),
    };
    let template = RecordsPage {
        verdicts: VERDICTS
            .iter()
            .map(|(word, words)| (*word, *words, *word == query.verdict))
            .collect(),
        rows: found.iter().map(|one| row(one, &desk.here)).collect(),
        heading,
        error,
        export: export_address(&query),
        shell: Shell::new(&signed, "records", &desk.here),
        query,
    };
    page(StatusCode::OK, &template)
}

/// The same search as a table for other programs.
fn export_address(query: &Query) -> String {
    let encode = |text: &str| -> String {
        text.bytes()
            .map(|byte| match byte {
                b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' => {
                    char::from(byte).to_string()
                }
                other => format!("%{other:02X}"),
            })
            .collect()
    };
    format!(
        "tag={}&standard={}&person={}&from={}&to={}&verdict={}",
        encode(&query.tag),
        encode(&query.standard),
        encode(&query.person),
        encode(&query.from),
        encode(&query.to),
        encode(&query.verdict),
    )
}

pub(in crate::pages) fn verdict_words(found: &Found) -> (&'static str, String) {
    let doubtful = found.repeat_state.as_deref() == Some("doubtful");
    let (state, words) = match (found.state.as_str(), found.conforms.as_deref()) {
        ("open", _) => ("open", "open".to_owned()),
        ("void", _) => ("void", format!("void: {}", found.void_reason.clone().unwrap_or_default())),
        _ if doubtful => ("out", "doubtful: failed, then passed".to_owned()),
        (_, Some("fail")) => ("out", "out of tolerance".to_owned()),
        (_, Some("pass")) if found.control.as_deref() == Some("signal") => {
            ("signal", "within tolerance, with a signal".to_owned())
        }
        (_, Some("pass")) => ("ok", "within tolerance".to_owned()),
        _ => ("due", "not judged".to_owned()),
    };
    let paper = if found.paper { ", from paper" } else { "" };
    let words = match found.purpose.as_str() {
        "as_left" => format!("as left, {words}"),
        "trial" => format!("trial, {words}"),
        _ => words,
    };
    (state, format!("{words}{paper}"))
}

fn row(found: &Found, here: &Here) -> Row {
    let (state, words) = verdict_words(found);
    Row {
        id: found.id.0,
        path: match found.state.as_str() {
            "open" => format!("/checks/{}", found.id),
            _ => format!("/checks/{}/record", found.id),
        },
        at: local_day_time(found.closed_at.map_or(found.opened_at.0, |at| at.0), &here.zone),
        tag: found.tag.clone(),
        instrument: found.instrument.clone(),
        plan: found.plan.clone(),
        standard: format!("{}, {}", found.standard, found.lot),
        person: found.person.clone().unwrap_or_default(),
        state,
        words,
    }
}
