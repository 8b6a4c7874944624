//! Evidence: everything about an instrument in a period on one page, unbroken and printable.

pub mod attachment;
pub mod audit;
pub mod files;
pub mod import;
pub mod record;
pub mod records;
pub mod tables;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use vaaka_core::round::{OccasionInput, Trigger, occasions};
use vaaka_store::search::{self, Wanted};
use vaaka_store::{charts, instruments, plans, registers, rounds, seals};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::{Asked, PathTag};
use crate::pages::chart::{self, Read, drawing};
use crate::pages::evidence::records::verdict_words;
use crate::pages::round::missed::{self, Query, moments, period};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Checks on one report at most.
const MOST: i64 = 2_000;

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
    out_of_turn: Vec<String>,
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
    let (from, until) = moments(&desk, first, last);
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
    let mut missed = missed::find(&mut desk.connection, Some(instrument.id), from, so_far).await?;
    missed.reverse();
    let missed: Vec<String> =
        missed.iter().map(|row| format!("{}: {}", row.what(), row.plan)).collect();
    let out_of_turn = occasion_lines(&mut desk, &instrument, from, until).await?;
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
        ("Due out of turn", out_of_turn.len().to_string()),
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
        out_of_turn,
        happened,
        charts,
        seal,
        shell: Shell::new(&signed, "instruments", &desk.here),
    };
    page(StatusCode::OK, &template)
}

/// When the instrument was due out of turn, in which shift, and which check answered it.
async fn occasion_lines(
    desk: &mut Desk,
    instrument: &vaaka_store::rows::Instrument,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<String>, WebError> {
    let spans = rounds::spans(&mut desk.connection, from, until).await?;
    let shift_of = |at: Timestamp| {
        let span = spans.iter().find(|span| span.starts_at <= at && at < span.ends_at);
        span.map_or(String::new(), |span| {
            format!(", in the {} shift of {}", span.label.to_lowercase(), span.business_date)
        })
    };
    let mut found: Vec<(Timestamp, String)> = Vec::new();
    for view in plans::of_instrument(&mut desk.connection, instrument.id).await? {
        let triggers: Vec<Trigger> =
            view.version.due_triggers.iter().filter_map(|word| word.parse().ok()).collect();
        if triggers.is_empty() {
            continue;
        }
        let (plan, standard) = (view.plan.id, view.version.standard_id);
        let past = rounds::past(&mut desk.connection, plan, instrument.id, standard).await?;
        let input = OccasionInput {
            triggers: &triggers,
            events: &past.events,
            uses: &past.uses,
            lots: &past.lots,
            checks: &past.checks,
            forecasts: &past.forecasts,
            now: desk.now,
        };
        for occasion in occasions(input) {
            if occasion.at < from || occasion.at >= until {
                continue;
            }
            let answer = match occasion.answered {
                Some(at) => format!(
                    "answered by the check of {}{}",
                    local_day_time(at, &desk.here.zone),
                    shift_of(at)
                ),
                None => "not answered yet".to_owned(),
            };
            let when = local_day_time(occasion.at, &desk.here.zone);
            let (name, why) = (&view.plan.name, occasion.trigger.words());
            found.push((
                occasion.at,
                format!("{when}{}: {name}, due {why}; {answer}", shift_of(occasion.at)),
            ));
        }
    }
    found.sort_by_key(|(at, _)| *at);
    Ok(found.into_iter().map(|(_, line)| line).collect())
}

async fn happened(
    desk: &mut Desk,
    instrument: &vaaka_store::rows::Instrument,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<String>, WebError> {
    let inside = |at: Timestamp| at >= from && at < until;
    let mut found: Vec<(Timestamp, String)> = Vec::new();
    for (event, by) in registers::events(&desk.connection, instrument.id).await? {
        found.push((event.at.0, format!("{} ({by})", event.note)));
    }
    for one in instruments::states(&mut desk.connection, instrument.id).await? {
        found.push((one.row.at.0, one.words()));
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
        (read.drift, read.shape) = (None, None);
        if read.points.is_empty() {
            continue;
        }
        let rows = chart::rows(&read, &desk.here);
        drawn.push((label, drawing(&read, &desk.here, &rows, vec![]).draw()));
    }
    Ok(drawn)
}
