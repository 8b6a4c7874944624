//! Evidence: everything about an instrument in a period on one page, unbroken and printable; long periods as kept reports.

pub mod attachment;
pub mod audit;
mod captured;
pub mod files;
pub mod import;
mod office;
pub mod record;
pub mod records;
pub mod tables;

use std::collections::BTreeSet;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use vaaka_core::round::{OccasionInput, Trigger, occasions};
use vaaka_store::ids::ReportId;
use vaaka_store::rows::Instrument;
use vaaka_store::search::{self, Wanted};
use vaaka_store::{charts, instruments, jobs, plans, registers, reports, rounds, seals};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::forms::{Asked, PathId, PathTag};
use crate::pages::chart::{self, Read, drawing};
use crate::pages::check::verdict_parts::fingerprint;
use crate::pages::evidence::records::verdict_words;
use crate::pages::progress::{Pieces, Progress};
use crate::pages::round::missed::{self, Query, moments, period};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Checks on a page at most; a longer period is a report that is written in the background and kept.
const MOST: i64 = 2_000;
/// Checks in a kept report at most.
const MOST_KEPT: i64 = 200_000;

#[derive(Debug, Template)]
#[template(path = "evidence.html")]
struct EvidencePage {
    shell: Shell,
    query: Query,
    error: Option<String>,
    /// That the period holds more than a page, and may be written as a report.
    too_long: bool,
    report: Report,
    /// Reports that are kept: path, what they are.
    kept: Vec<(String, String)>,
    /// Where this is one of them: who asked for it and when, with its hash; how far it is.
    about: Option<String>,
    progress: Option<Progress>,
}

/// Everything about an instrument in a period, as it is told.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(in crate::pages) struct Report {
    tag: String,
    heading: String,
    summary: Vec<(String, String)>,
    checks: Vec<CheckRow>,
    missed: Vec<String>,
    out_of_turn: Vec<String>,
    happened: Vec<String>,
    standards: Vec<String>,
    people: Vec<String>,
    charts: Vec<(String, String)>,
    seal: String,
}

#[derive(Debug, Serialize, Deserialize)]
struct CheckRow {
    id: i64,
    at: String,
    plan: String,
    standard: String,
    person: String,
    state: String,
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
    let (first, last, error) = period(&query, desk.today);
    (query.from, query.to) = (first.to_string(), last.to_string());
    let (report, too_long) = report(&mut desk, &tag, (first, last), MOST).await?;
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let kept = reports::of_instrument(&mut desk.connection, instrument.id).await?;
    let kept = kept
        .into_iter()
        .map(|(id, from, until, at, person)| {
            let when = local_day_time(at.0, &desk.here.zone);
            let words = format!("{} to {}, asked for by {person} on {when}", from.0, until.0);
            (reports::path(id), words)
        })
        .collect();
    let template = EvidencePage {
        query,
        error,
        too_long,
        report,
        kept,
        about: None,
        progress: None,
        shell: Shell::new(&signed, "instruments", &desk.here),
    };
    page(StatusCode::OK, &template)
}

/// Asks for a report over a period, to be written in the background and kept.
pub async fn ask(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let query =
        Query { from: typed.get("from").into(), to: typed.get("to").into(), tag: tag.clone() };
    let (first, last, error) = period(&query, desk.today);
    if let Some(words) = error {
        return Err(WebError::NotNow { words });
    }
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let by = desk.by(&signed);
    let id = reports::ask(&mut desk.connection, instrument.id, (first, last), by).await?;
    Ok(Redirect::to(&reports::path(id)).into_response())
}

/// How writing a report is told.
const WRITTEN: Pieces = Pieces {
    so_far: "reports are written",
    meanwhile: "You may leave this page; the report stands on the instrument's evidence page, too.",
    at_the_end: "The report is written.",
};

/// A report that is kept, or how far it is.
pub async fn kept(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let kept = reports::by_id(&mut desk.connection, ReportId(id)).await?;
    let path = reports::path(kept.id);
    let when = local_day_time(kept.at.0, &desk.here.zone);
    let lead = signed.person.role == "lead";
    let progress = match kept.body {
        Some(_) => None,
        None => jobs::of(&mut desk.connection, &path)
            .await?
            .map(|job| Progress::of(&job, WRITTEN, lead.then(|| format!("{path}/again")))),
    };
    let about = match (&kept.sha256, kept.finished_at) {
        (Some(hash), Some(at)) => format!(
            "Asked for by {} on {when}, written {} and kept as it was. SHA-256 begins {}.",
            kept.person,
            local_day_time(at.0, &desk.here.zone),
            fingerprint(hash)
        ),
        _ => format!("Asked for by {} on {when}.", kept.person),
    };
    let report = match kept.body {
        Some(body) => {
            serde_json::from_value(body).map_err(|error| WebError::Inner(error.to_string()))?
        }
        None => {
            let (instrument, _) = instruments::by_tag(&mut desk.connection, &kept.tag).await?;
            let heading = format!("{} {}", instrument.name, kept.tag);
            Report { tag: kept.tag.clone(), heading, ..Report::default() }
        }
    };
    let template = EvidencePage {
        query: Query { from: kept.from.0.to_string(), to: kept.until.0.to_string(), tag: kept.tag },
        error: None,
        too_long: false,
        report,
        kept: vec![],
        about: Some(about),
        progress,
        shell: Shell::new(&signed, "instruments", &desk.here),
    };
    page(StatusCode::OK, &template)
}

/// Lets a report that stopped be tried again.
pub async fn try_again(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let path = reports::path(ReportId(id));
    jobs::try_again(&mut desk.connection, &path, (signed.person.id, desk.now)).await?;
    Ok(Redirect::to(&path).into_response())
}

/// Writes what a kept report says.
pub(in crate::pages) async fn written(
    desk: &mut Desk,
    asked: &reports::Report,
) -> Result<Report, WebError> {
    let days = (asked.from.0, asked.until.0);
    let (mut report, too_long) = report(desk, &asked.tag, days, MOST_KEPT).await?;
    if too_long {
        let words = format!("the newest {MOST_KEPT} of this period: this is no whole evidence");
        report.summary.push(("Checks listed".into(), words));
    }
    Ok(report)
}

/// Everything about an instrument in a period, and whether more checks fit than are listed.
async fn report(
    desk: &mut Desk,
    tag: &str,
    (first, last): (Date, Date),
    most: i64,
) -> Result<(Report, bool), WebError> {
    let (instrument, area) = instruments::by_tag(&mut desk.connection, tag).await?;
    let (from, until) = moments(desk, first, last);
    let wanted =
        Wanted { tag: tag.to_owned(), from: Some(from), until: Some(until), ..Wanted::default() };
    let mut found = search::find(&mut desk.connection, &wanted, most + 1).await?;
    let too_long = found.len() as i64 > most;
    found.truncate(usize::try_from(most).unwrap_or(usize::MAX));
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
                state: state.to_owned(),
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
    let out_of_turn = occasion_lines(desk, &instrument, from, until).await?;
    let happened = happened(desk, &instrument, from, until).await?;
    let seal = seals::newest(&mut desk.connection).await?.map_or_else(
        || "not sealed yet".to_owned(),
        |seal| {
            let when = local_day_time(seal.at.0, &desk.here.zone);
            format!("{} of {when} ({})", seal.sequence, seal.short())
        },
    );
    let report = Report {
        heading: format!("{} {tag}", instrument.name),
        summary: summary(
            (&instrument, &area.name, (first, last)),
            (&checks, missed.len(), out_of_turn.len()),
        ),
        standards: distinct(&checks, |row| &row.standard),
        people: distinct(&checks, |row| &row.person),
        tag: tag.to_owned(),
        checks,
        missed,
        out_of_turn,
        happened,
        charts: chart_drawings(desk, &instrument, from, until).await?,
        seal,
    };
    Ok((report, too_long))
}

fn summary(
    (instrument, area, (first, last)): (&Instrument, &str, (Date, Date)),
    (checks, missed, out_of_turn): (&[CheckRow], usize, usize),
) -> Vec<(String, String)> {
    let count = |state: &str| checks.iter().filter(|row| row.state == state).count();
    let (name, tag, serial) = (&instrument.name, &instrument.tag, &instrument.serial);
    [
        ("Instrument", format!("{name} {tag}, serial number {serial}")),
        ("Area", area.to_owned()),
        ("Period", format!("{first} to {last}")),
        ("Checks", checks.len().to_string()),
        ("Within tolerance", (count("ok") + count("signal")).to_string()),
        ("Out of tolerance or doubtful", count("out").to_string()),
        ("Void", count("void").to_string()),
        ("Missed", missed.to_string()),
        ("Due out of turn", out_of_turn.to_string()),
    ]
    .map(|(name, value)| (name.to_owned(), value))
    .to_vec()
}

/// What stands in one column, each once.
fn distinct(checks: &[CheckRow], of: fn(&CheckRow) -> &String) -> Vec<String> {
    let all: BTreeSet<&String> = checks.iter().map(of).filter(|text| !text.is_empty()).collect();
    all.into_iter().cloned().collect()
}

/// When the instrument was due out of turn, in which shift, and which check answered it.
async fn occasion_lines(
    desk: &mut Desk,
    instrument: &Instrument,
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
    instrument: &Instrument,
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
    instrument: &Instrument,
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
