//! Evidence: everything about an instrument in a period on one page, unbroken and printable.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use serde::Deserialize;
use vaaka_core::instrument::ServiceState;
use vaaka_store::ids::PlanId;
use vaaka_store::search::{self, Wanted};
use vaaka_store::{charts, instruments, plans, registers, rounds, seals};

use super::chart::{self, Read};
use super::chart_drawing::drawing;
use super::records::verdict_words;
use super::{Shell, page};
use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::{Asked, PathTag};
use crate::session::SignedIn;
use crate::state::{AppState, local_day_time};

/// Checks on one report at most.
const MOST: i64 = 2_000;

/// The period.
#[derive(Debug, Default, Clone, Deserialize)]
pub struct Query {
    #[serde(default)]
    from: String,
    #[serde(default)]
    to: String,
}

#[derive(Debug, Template)]
#[template(path = "evidence.html")]
struct EvidencePage {
    shell: Shell,
    tag: String,
    heading: String,
    query: Query,
    error: Option<String>,
    summary: Vec<(&'static str, String)>,
    checks: Vec<CheckRow>,
    missed: Vec<String>,
    happened: Vec<String>,
    standards: Vec<String>,
    people: Vec<String>,
    charts: Vec<(String, String)>,
    seal: String,
}

#[derive(Debug)]
struct CheckRow {
    id: i64,
    at: String,
    plan: String,
    standard: String,
    person: String,
    state: &'static str,
    words: String,
}

/// Shows the report.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Asked(mut query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (instrument, area) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let (first, last, error) = period(&query, desk.today);
    (query.from, query.to) = (first.to_string(), last.to_string());
    let at = |day: Date| {
        day.to_zoned_datetime(desk.here.zone.clone()).map_or(desk.now, |zoned| zoned.timestamp())
    };
    let (from, until) = (at(first), at(last.saturating_add(1.day())));
    let wanted =
        Wanted { tag: tag.clone(), from: Some(from), until: Some(until), ..Wanted::default() };
    let mut found = search::find(&mut desk.connection, &wanted, MOST).await?;
    let error = error.or_else(|| {
        (found.len() as i64 >= MOST).then(|| {
            format!("Only the newest {MOST} checks of this period are listed: this is no whole evidence. Choose a shorter period.")
        })
    });
    found.retain(|one| one.tag == tag);
    found.reverse();
    let checks: Vec<CheckRow> = found
        .iter()
        .map(|one| {
            let (state, words) = verdict_words(one);
            CheckRow {
                id: one.id.0,
                at: local_day_time(
                    one.closed_at.map_or(one.opened_at.0, |at| at.0),
                    &desk.here.zone,
                ),
                plan: one.plan.clone(),
                standard: format!("{}, {}, certificate {}", one.standard, one.lot, one.certificate),
                person: one.person.clone().unwrap_or_default(),
                state,
                words,
            }
        })
        .collect();
    // What is not over yet is not missed yet.
    let so_far = until.min(desk.now);
    let missed = missed_lines(&mut desk, &instrument, from, so_far).await?;
    let happened = happened(&mut desk, &instrument, from, until).await?;
    let count = |state: &str| checks.iter().filter(|row| row.state == state).count();
    let summary = vec![
        ("Instrument", format!("{} {}, serial number {}", instrument.name, tag, instrument.serial)),
        ("Area", area.name),
        ("Period", format!("{first} to {last}")),
        ("Checks", checks.len().to_string()),
        ("Within tolerance", (count("ok") + count("signal")).to_string()),
        ("Out of tolerance or doubtful", count("out").to_string()),
        ("Void", count("void").to_string()),
        ("Missed", missed.len().to_string()),
    ];
    let distinct = |of: fn(&CheckRow) -> &String| {
        let mut all: Vec<String> = checks.iter().map(|row| of(row).clone()).collect();
        all.sort();
        all.dedup();
        all.retain(|text| !text.is_empty());
        all
    };
    let seal = seals::newest(&mut desk.connection).await?.map_or_else(
        || "not sealed yet".to_owned(),
        |seal| {
            let when = local_day_time(seal.at.0, &desk.here.zone);
            format!("{} of {when} ({})", seal.sequence, seal.short())
        },
    );
    let charts = chart_drawings(&mut desk, &instrument, from, until).await?;
    let template = EvidencePage {
        heading: format!("{} {tag}", instrument.name),
        standards: distinct(|row| &row.standard),
        people: distinct(|row| &row.person),
        tag,
        query,
        error,
        summary,
        checks,
        missed,
        happened,
        charts,
        seal,
        shell: Shell::new(&signed, "instruments", &desk.here),
    };
    page(StatusCode::OK, &template)
}

/// First and last day; the month up to today where nothing fits.
fn period(query: &Query, today: Date) -> (Date, Date, Option<String>) {
    let month = (today.saturating_sub(30.days()), today);
    if query.from.trim().is_empty() && query.to.trim().is_empty() {
        return (month.0, month.1, None);
    }
    let read = |text: &str, or: Date| match text.trim() {
        "" => Some(or),
        text => text.parse::<Date>().ok(),
    };
    match (read(&query.from, month.0), read(&query.to, month.1)) {
        (Some(from), Some(to)) if from <= to => (from, to, None),
        (Some(_), Some(_)) => (
            month.0,
            month.1,
            Some("The period ends before it begins. The last month is shown.".into()),
        ),
        _ => (
            month.0,
            month.1,
            Some("Type both days as year-month-day, for example 2026-11-24. The last month is shown.".into()),
        ),
    }
}

async fn missed_lines(
    desk: &mut Desk,
    instrument: &vaaka_store::rows::Instrument,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<String>, WebError> {
    let asked = rounds::asked(&mut desk.connection, Some(instrument.id)).await?;
    let plans_asked: Vec<rounds::Asked> = asked.into_iter().map(|(one, _)| one).collect();
    let found = rounds::missed_between(&mut desk.connection, &plans_asked, from, until).await?;
    let views = plans::of_instrument(&mut desk.connection, instrument.id).await?;
    let states = instruments::states(&mut desk.connection, instrument.id).await?;
    let name = |plan: PlanId| {
        views.iter().find(|view| view.plan.id == plan).map_or("", |view| view.plan.name.as_str())
    };
    // While it was out of use, nothing was asked of it.
    let was_out = |at: Timestamp| {
        states
            .iter()
            .find(|(row, _)| row.at.0 <= at)
            .is_some_and(|(row, _)| matches!(row.state.as_str(), "out" | "retired"))
    };
    Ok(found
        .into_iter()
        .filter(|(_, window)| !was_out(window.until))
        .map(|(plan, window)| {
            let shift =
                window.shift.map_or(String::new(), |shift| format!(" {}", shift.to_lowercase()));
            format!("{}{shift}: {}", window.date, name(plan))
        })
        .collect())
}

async fn happened(
    desk: &mut Desk,
    instrument: &vaaka_store::rows::Instrument,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<String>, WebError> {
    let inside = |at: Timestamp| at >= from && at < until;
    let mut found: Vec<(Timestamp, String)> = Vec::new();
    for (event, by) in registers::events(&mut desk.connection, instrument.id).await? {
        found.push((event.at.0, format!("{} ({by})", event.note)));
    }
    for (row, by) in instruments::states(&mut desk.connection, instrument.id).await? {
        let state = row.state.parse::<ServiceState>().map_or("", ServiceState::words);
        let only = row.restricted_to.as_ref().map(|only| format!(", {only}")).unwrap_or_default();
        found.push((row.at.0, format!("{state}{only}: {} ({by})", row.reason)));
    }
    found.retain(|(at, _)| inside(*at));
    found.sort_by_key(|(at, _)| *at);
    let line = |(at, words): (Timestamp, String)| {
        format!("{}: {words}", local_day_time(at, &desk.here.zone))
    };
    Ok(found.into_iter().map(line).collect())
}

async fn chart_drawings(
    desk: &mut Desk,
    instrument: &vaaka_store::rows::Instrument,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<(String, String)>, WebError> {
    let mut drawn = Vec::new();
    for view in charts::of_instruments(&mut desk.connection, &[instrument.id]).await? {
        let label = view.stream.label.clone();
        let mut read: Read = chart::read(&mut desk.connection, view, from, until).await?;
        read.points.retain(|point| point.point.measured_at.0 < until);
        read.drift = None;
        if read.points.is_empty() {
            continue;
        }
        let rows = chart::rows(&read, &desk.here);
        drawn.push((label, drawing(&read, &desk.here, &rows).draw()));
    }
    Ok(drawn)
}
