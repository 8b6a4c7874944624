//! How right the forecasts were: every one that a verdict told in a year, held against what came, and what a plain straight
//! line would have told beside it.

use std::collections::HashMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use vaaka_core::history::{
    Followed as Came, ForecastScore, Outcome, ToldForecast, estimate_drift, outcome_of,
};
use vaaka_core::judgement::span_words;
use vaaka_core::quantity::show_float;
use vaaka_formats::{Cell, Table};
use vaaka_store::charts::{self, StreamView};
use vaaka_store::forecasts::{self, Followed, ToldDrift};
use vaaka_store::ids::{SegmentId, StreamId};

use crate::desk::Desk;
use crate::error::WebError;
use crate::pages::check::view::unbroken;
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day};

/// How far back is looked.
const BACK: SignedDuration = SignedDuration::from_hours(24 * 366);
/// Known forecasts from which their share says anything.
const ENOUGH: usize = 8;
/// Drifts in the list at most: all are in the CSV.
const MOST: usize = 60;

#[derive(Debug, Template)]
#[template(path = "forecast_score.html")]
struct ScorePage {
    shell: Shell,
    heading: String,
    state: &'static str,
    words: String,
    scores: Vec<ScoreRow>,
    drifts: Vec<DriftRow>,
    more: bool,
}

#[derive(Debug)]
struct ScoreRow {
    name: &'static str,
    told: usize,
    held: String,
    share: String,
    too_late: usize,
    too_early: usize,
    overtaken: usize,
    open: usize,
    width: String,
    lead: String,
    ratio: String,
}

#[derive(Debug)]
struct DriftRow {
    stream: i64,
    instrument: String,
    label: String,
    told: String,
    said: String,
    mark: &'static str,
    came: String,
}

/// A forecast with what came of it, and what the straight line would have told.
struct Scored {
    stream: StreamId,
    segment: SegmentId,
    told: ToldForecast,
    came: Outcome,
    line: Option<(ToldForecast, Outcome)>,
}

/// What a verdict told of the first single check outside; one that was outside already told nothing of it.
fn told_of(one: &ToldDrift) -> Option<ToldForecast> {
    let first = one.drift.first_check.filter(|_| one.drift.beyond.is_none())?;
    // A middle beyond a year is told as the year’s end.
    let (earliest, latest) = (first.earliest, first.latest);
    Some(ToldForecast { told_at: one.at, earliest, median: Some(first.at), latest })
}

/// The straight line through the points since the median onset, as it would have been told at the same check.
fn straight_line(one: &ToldDrift, checks: &[Followed]) -> Option<ToldForecast> {
    let points: Vec<(Timestamp, f64)> = checks
        .iter()
        .map(|check| (check.measured_at.0, check.value))
        .filter(|(at, _)| *at >= one.drift.since && *at <= one.at)
        .collect();
    let limit = one.drift.crossing.or(one.drift.first_check)?.limit;
    let (lower, upper) =
        if one.drift.per_week > 0.0 { (None, Some(limit)) } else { (Some(limit), None) };
    let crossing = estimate_drift(&points, lower, upper).ok()?.crossing?;
    let (earliest, latest) = (crossing.earliest, crossing.latest);
    Some(ToldForecast { told_at: one.at, earliest, median: Some(crossing.at), latest })
}

async fn scored(desk: &mut Desk) -> Result<Vec<Scored>, WebError> {
    let from = desk.now.checked_sub(BACK).unwrap_or(desk.now);
    let told = forecasts::told_since(&mut desk.connection, from).await?;
    let mut segments: Vec<SegmentId> = told.iter().map(|one| one.segment).collect();
    segments.dedup();
    let checks = forecasts::checks_of(&mut desk.connection, &segments).await?;
    let seen: HashMap<SegmentId, Vec<(Timestamp, bool)>> = checks
        .iter()
        .map(|(id, all)| (*id, all.iter().map(|one| (one.measured_at.0, one.outside)).collect()))
        .collect();
    let scored = told.iter().filter_map(|one| {
        let (all, seen) = (checks.get(&one.segment)?, seen.get(&one.segment)?);
        let ended_at = all.first().and_then(|check| check.ended_at).map(|at| at.0);
        let came = Came { checks: seen, ended_at };
        let told = told_of(one)?;
        Some(Scored {
            stream: one.stream,
            segment: one.segment,
            told,
            came: outcome_of(&told, &came),
            line: straight_line(one, all).map(|line| (line, outcome_of(&line, &came))),
        })
    });
    Ok(scored.collect())
}

fn score_row(name: &'static str, all: &[(ToldForecast, Outcome)]) -> ScoreRow {
    let score = ForecastScore::of(all);
    let days = |days: Option<f64>| {
        days.map_or_else(|| "–".to_owned(), |days| format!("{} days", show_float(days, 1)))
    };
    ScoreRow {
        name,
        told: score.told,
        held: format!("{} of {}", score.held, score.known),
        share: score.coverage().map_or_else(
            || "–".to_owned(),
            |(share, low, high)| {
                format!(
                    "{:.0} % (95 %: {:.0} to {:.0} %)",
                    100.0 * share,
                    100.0 * low,
                    100.0 * high
                )
            },
        ),
        too_late: score.too_late,
        too_early: score.too_early,
        overtaken: score.overtaken,
        open: score.open,
        width: days(score.width_days),
        lead: days(score.lead_days),
        ratio: score.ratio.map_or_else(|| "–".to_owned(), |ratio| show_float(ratio, 2)),
    }
}

fn drift_row(one: &Scored, view: &StreamView, here: &Here) -> DriftRow {
    let (mark, came) = match one.came {
        Outcome::Held { at } => {
            ("ok", format!("outside on {}, as told", local_day(at, &here.zone)))
        }
        Outcome::TooLate { at } => {
            ("out", format!("outside on {}, earlier than told", local_day(at, &here.zone)))
        }
        Outcome::TooEarly => ("out", "every check was inside when its time was over".to_owned()),
        Outcome::Overtaken => {
            ("due", "the level was moved first, an adjustment perhaps".to_owned())
        }
        Outcome::Open => ("due", "its time is not over".to_owned()),
    };
    DriftRow {
        stream: one.stream.0,
        instrument: format!("{} {}", view.instrument.name, unbroken(&view.instrument.tag)),
        label: view.stream.label.clone(),
        told: local_day(one.told.told_at, &here.zone),
        said: match one.told.latest {
            Some(latest) => span_words(one.told.earliest, latest, &here.zone),
            None => format!("from {} on", local_day(one.told.earliest, &here.zone)),
        },
        mark,
        came,
    }
}

/// The first forecast of each drift: of each segment in which one was told.
fn first_of_each(all: &[Scored]) -> Vec<&Scored> {
    let mut seen = None;
    all.iter().filter(|one| seen.replace(one.segment) != Some(one.segment)).collect()
}

/// Shows it.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let all = scored(&mut desk).await?;
    let views: HashMap<StreamId, StreamView> = charts::all(&mut desk.connection)
        .await?
        .into_iter()
        .map(|view| (view.stream.id, view))
        .collect();
    let mut first = first_of_each(&all);
    let of = |some: &[&Scored]| -> Vec<(ToldForecast, Outcome)> {
        some.iter().map(|one| (one.told, one.came)).collect()
    };
    let every: Vec<&Scored> = all.iter().collect();
    let lines: Vec<(ToldForecast, Outcome)> = all.iter().filter_map(|one| one.line).collect();
    let scores = vec![
        score_row("The first told of each drift", &of(&first)),
        score_row("All that were told", &of(&every)),
        score_row("A straight line at the same checks", &lines),
    ];
    let score = ForecastScore::of(&of(&first));
    // Nineteen of twenty are promised: told as missed where the interval of the share lies below.
    let (mark, heading) = match score.coverage() {
        None if all.is_empty() => ("due", "No forecast was told yet".to_owned()),
        None => ("due", "Of no forecast is it known yet what came".to_owned()),
        Some(_) if score.known < ENOUGH => (
            "due",
            format!("{} of {} forecasts held: too few to judge by", score.held, score.known),
        ),
        Some((_, _, high)) if high < 0.95 => (
            "signal",
            format!("{} of {} forecasts held: fewer than promised", score.held, score.known),
        ),
        Some(_) => ("ok", format!("{} of {} forecasts held", score.held, score.known)),
    };
    first.sort_by_key(|one| std::cmp::Reverse(one.told.told_at));
    let rows = first
        .iter()
        .take(MOST)
        .filter_map(|one| views.get(&one.stream).map(|view| drift_row(one, view, &desk.here)));
    let template = ScorePage {
        heading,
        state: mark,
        words: "A forecast promises that the first single check outside comes within its interval in nineteen of twenty cases. It is known when that check came, or when the interval is over; where the level was moved before, nobody will know. Looked back over a year; forecasts of one drift follow each other and are not independent.".to_owned(),
        scores,
        drifts: rows.collect(),
        more: first.len() > MOST,
        shell: Shell::new(&signed, "charts", &desk.here),
    };
    page(StatusCode::OK, &template)
}

/// All of them as a table for other programs.
pub(in crate::pages) async fn table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "chart",
        "instrument",
        "characteristic",
        "told_at",
        "earliest",
        "median",
        "latest",
        "outcome",
        "came_at",
        "line_earliest",
        "line_at",
        "line_latest",
        "line_outcome",
    ]);
    let views = charts::all(&mut desk.connection).await?;
    for one in scored(desk).await? {
        let view = views.iter().find(|view| view.stream.id == one.stream);
        let moment = |at: Option<Timestamp>| Cell::from(at.map(|at| at.to_string()));
        let word = |outcome: Outcome| match outcome {
            Outcome::Held { at } => ("held", Some(at)),
            Outcome::TooLate { at } => ("too_late", Some(at)),
            Outcome::TooEarly => ("too_early", None),
            Outcome::Overtaken => ("overtaken", None),
            Outcome::Open => ("open", None),
        };
        let (outcome, at) = word(one.came);
        let line = one.line.map(|(line, _)| line);
        table.row([
            one.stream.0.into(),
            Cell::from(view.map(|view| view.instrument.tag.clone())),
            Cell::from(view.map(|view| view.stream.label.clone())),
            moment(Some(one.told.told_at)),
            moment(Some(one.told.earliest)),
            moment(one.told.median),
            moment(one.told.latest),
            outcome.into(),
            moment(at),
            moment(line.map(|line| line.earliest)),
            moment(line.and_then(|line| line.median)),
            moment(line.and_then(|line| line.latest)),
            Cell::from(one.line.map(|(_, outcome)| word(outcome).0.to_owned())),
        ]);
    }
    Ok(table)
}
