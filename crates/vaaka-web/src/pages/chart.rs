//! One control chart: points, limits, tolerance apart from them, events, the drift watcher, and
//! the finding in words.

use std::sync::OnceLock;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use vaaka_core::chart::run_length::ewma_with_limits;
use vaaka_core::chart::{
    DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, EwmaDesign, Firing, IN_CONTROL_RUN_LENGTH,
};
use vaaka_core::history::Drift;
use vaaka_core::judgement::{
    Reason, action_sentence, criterion_words, drift_words, firing_short, firing_words, sigma_words,
};
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_core::round::Standing;
use vaaka_store::charts::{self, PointView, StreamView};
use vaaka_store::ids::StreamId;
use vaaka_store::imports::{self, Earlier};
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::rows::{Baseline, InstrumentEvent, Segment, SignalRow};
use vaaka_store::{At, Connection, registers};

use super::chart_drawing::drawing;
use super::charts::{conformity, standing_by, state_class};
use super::{Here, Shell, page};
use crate::desk::Desk;
use crate::draw::stand_alone;
use crate::error::WebError;
use crate::forms::{Asked, PathId};
use crate::session::SignedIn;
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart.html")]
struct ChartPage {
    shell: Shell,
    id: i64,
    title: String,
    sub: String,
    range: &'static str,
    table: bool,
    drawing: String,
    rows: Vec<TableRow>,
    finding: Finding,
    what_to_do: String,
    limits: Option<LimitsCard>,
    flagged: Vec<(String, String)>,
    advisory: Vec<String>,
    events: Vec<(String, String)>,
    earlier: Option<String>,
}

#[derive(Debug)]
struct Finding {
    state: &'static str,
    title: String,
    words: String,
    false_alarms: Option<String>,
    power: Option<String>,
}

#[derive(Debug)]
struct LimitsCard {
    name: String,
    lines: Vec<String>,
}

#[derive(Debug)]
pub(super) struct TableRow {
    pub at: String,
    pub value: String,
    pub limits: String,
    pub tolerance: String,
    pub state: &'static str,
    pub words: String,
    pub person: String,
    pub certificate: String,
    pub check: i64,
}

/// What is shown.
#[derive(Debug, Default, Deserialize)]
pub struct ChartQuery {
    #[serde(default)]
    range: String,
    #[serde(default)]
    table: bool,
}

/// Everything read for the page.
pub(super) struct Read {
    pub view: StreamView,
    pub points: Vec<PointView>,
    pub earlier: Vec<Earlier>,
    pub segments: Vec<Segment>,
    pub baseline: Option<(Baseline, String)>,
    pub events: Vec<(InstrumentEvent, String)>,
    pub signals: Vec<SignalRow>,
    pub newest: Option<StoredResult>,
    pub standing: Standing,
    pub drift: Option<Drift>,
    pub from: Timestamp,
    pub now: Timestamp,
}

/// Shows the chart.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ChartQuery>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let now = state.now();
    let (from, range) = range_of(&query.range, now);
    let view = charts::by_id(&mut connection, StreamId(id)).await?;
    let read = read(&mut connection, view, from, now).await?;
    page(StatusCode::OK, &fill(&signed, &here, &read, range, query.table))
}

/// From when a chart shows its points, and the word for that stretch.
pub(super) fn range_of(word: &str, now: Timestamp) -> (Timestamp, &'static str) {
    let (range, days) = match word {
        "week" => ("week", 7),
        "year" => ("year", 366),
        "all" => return (Timestamp::UNIX_EPOCH, "all"),
        _ => ("month", 31),
    };
    (now.checked_sub(SignedDuration::from_hours(24 * days)).unwrap_or(now), range)
}

/// Values from before that a chart shows at most: the newest.
const EARLIER: i64 = 5_000;

/// The drawing of a chart as a file of its own.
pub(super) async fn stand_alone_svg(
    desk: &mut Desk,
    id: StreamId,
    range: &str,
) -> Result<String, WebError> {
    let view = charts::by_id(&mut desk.connection, id).await?;
    let (from, _) = range_of(range, desk.now);
    let read = read(&mut desk.connection, view, from, desk.now).await?;
    let rows = rows(&read, &desk.here);
    Ok(stand_alone(&drawing(&read, &desk.here, &rows).draw()))
}

/// Everything that a chart from `from` on needs.
pub(super) async fn read(
    connection: &mut Connection,
    view: StreamView,
    from: Timestamp,
    now: Timestamp,
) -> Result<Read, WebError> {
    let points = charts::points_since(connection, view.stream.id, from).await?;
    let earlier = imports::earlier(connection, &view.stream, At(from), At(now), EARLIER).await?;
    let segments = charts::segments_of(connection, view.stream.id).await?;
    let baseline = charts::newest_baseline(connection, view.stream.id).await?;
    let events = registers::events(connection, view.instrument.id).await?;
    let signals = charts::signals_of(connection, view.stream.id).await?;
    let brief = charts::newest_points(connection, &[view.stream.id]).await?;
    let newest = match brief.first() {
        Some(point) => result_of(connection, point.check_id).await?,
        None => None,
    };
    let standing = standing_by(brief.first());
    let drift =
        newest.as_ref().and_then(|stored| drift_of(stored, &view.stream.characteristic_key));
    Ok(Read {
        view,
        points,
        earlier,
        segments,
        baseline,
        events,
        signals,
        newest,
        standing,
        drift,
        from,
        now,
    })
}

/// Its points as rows of a table.
pub(super) fn rows(read: &Read, here: &Here) -> Vec<TableRow> {
    read.points.iter().map(|view| table_row(view, read, here)).collect()
}

fn drift_of(stored: &StoredResult, wanted: &str) -> Option<Drift> {
    stored.verdict.reasons.iter().find_map(|reason| match reason {
        Reason::Drifting { key, drift } if key == wanted => Some(*drift),
        _ => None,
    })
}

fn fill(
    signed: &SignedIn,
    here: &Here,
    read: &Read,
    range: &'static str,
    table: bool,
) -> ChartPage {
    let stream = &read.view.stream;
    let instrument = &read.view.instrument;
    let sub = match &read.baseline {
        Some((baseline, _)) => format!(
            "each shift · limits frozen {}",
            baseline.frozen_at.0.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y")
        ),
        None => "each shift · no limits yet".to_owned(),
    };
    let rows = rows(read, here);
    ChartPage {
        shell: Shell::new(signed, "charts", here),
        id: stream.id.0,
        title: format!(
            "{} {}: {}, in {}",
            instrument.name,
            instrument.tag,
            lower_first(&stream.label),
            unit_words(&stream.unit)
        ),
        sub,
        range,
        table,
        drawing: drawing(read, here, &rows).draw(),
        finding: finding(read, here),
        what_to_do: read
            .newest
            .as_ref()
            .map_or("Check it once, and the chart begins.".to_owned(), |stored| {
                action_sentence(stored.verdict.action).to_owned()
            }),
        limits: limits_card(read, here),
        earlier: earlier_words(read, here),
        flagged: flagged(read, here),
        advisory: advisory(read),
        events: read
            .events
            .iter()
            .rev()
            .filter(|(event, _)| event.at.0 >= read.from)
            .map(|(event, by)| {
                (local_day_time(event.at.0, &here.zone), format!("{} ({by})", event.note))
            })
            .collect(),
        rows,
    }
}

fn earlier_words(read: &Read, here: &Here) -> Option<String> {
    let (first, last) = (read.earlier.first()?, read.earlier.last()?);
    let day = |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y");
    let count = match read.earlier.len() {
        n if n as i64 >= EARLIER => format!("The newest {n} values"),
        1 => "One value".to_owned(),
        n => format!("{n} values"),
    };
    Some(format!(
        "{count} from before, {} to {}, were brought in with a table. They are drawn as short strokes, are judged by nothing and move no limits.",
        day(first.at.0),
        day(last.at.0)
    ))
}

fn lower_first(text: &str) -> String {
    let mut characters = text.chars();
    characters
        .next()
        .map_or(String::new(), |first| first.to_lowercase().chain(characters).collect())
}

fn unit_words(symbol: &str) -> &str {
    match symbol {
        "mg" => "milligrams",
        "g" => "grams",
        "kg" => "kilograms",
        other => other,
    }
}

pub(super) fn decimals(read: &Read) -> u32 {
    u32::try_from(read.view.stream.decimals).unwrap_or(1)
}

pub(super) fn state_of(view: &PointView) -> &'static str {
    match (conformity(&view.point.conformity), view.point.signalled) {
        (Some(vaaka_core::judgement::Conformity::Fail), _) => "out",
        (_, true) => "signal",
        _ => "ok",
    }
}

fn firings(value: &serde_json::Value) -> Vec<Firing> {
    serde_json::from_value(value.clone()).unwrap_or_default()
}

fn point_words(view: &PointView, say: fn(&Firing) -> String) -> String {
    let mut parts: Vec<String> = Vec::new();
    match (view.purpose.as_str(), view.point.ordinal) {
        ("as_left", _) => parts.push("as left, not counted".into()),
        (_, None) => parts.push("confirming repeat, not counted".into()),
        _ => {}
    }
    if state_of(view) == "out" {
        parts.push("out of tolerance".into());
    }
    if view.point.signalled {
        parts.extend(firings(&view.point.firings).iter().map(say));
    } else if view.point.center_line.is_none() && view.point.ordinal.is_some() {
        parts.push("no limits yet".into());
    }
    if parts.is_empty() { "in control".to_owned() } else { parts.join("; ") }
}

fn table_row(view: &PointView, read: &Read, here: &Here) -> TableRow {
    let point = &view.point;
    let show = |value: f64| show_signed_float(value, decimals(read));
    let pair = |lower: Option<f64>, upper: Option<f64>| match (lower, upper) {
        (Some(lower), Some(upper)) => format!("{} to {}", show(lower), show(upper)),
        _ => "–".to_owned(),
    };
    TableRow {
        at: local_day_time(point.measured_at.0, &here.zone),
        value: format!("{} {}", show(point.value), read.view.stream.unit),
        limits: match (point.lower_control_limit, point.upper_control_limit) {
            (Some(lower), Some(upper)) => {
                let places = decimals_for((upper - lower) / 2.0).max(decimals(read));
                let show = |value: f64| show_signed_float(value, places);
                format!("{} to {}", show(lower), show(upper))
            }
            _ => "–".to_owned(),
        },
        tolerance: pair(point.lower_tolerance_limit, point.upper_tolerance_limit),
        state: state_of(view),
        words: point_words(view, firing_short),
        person: view.person.clone().unwrap_or_default(),
        certificate: view.certificate.clone(),
        check: point.check_id.0,
    }
}

fn finding(read: &Read, here: &Here) -> Finding {
    let shown = read.points.iter().rev().find(|view| view.point.ordinal.is_some());
    let last = shown.map_or(String::new(), |view| {
        format!(
            "{} {} at the last check.",
            show_signed_float(view.point.value, decimals(read)),
            read.view.stream.unit
        )
    });
    let (title, words) = match (read.standing, &read.drift) {
        (Standing::SignalAbove | Standing::SignalBelow, Some(drift)) => (
            if drift.per_week > 0.0 {
                "Drifting up, still usable"
            } else {
                "Drifting down, still usable"
            }
            .to_owned(),
            format!("{}.", drift_words(drift, &read.view.stream.unit, &here.zone)),
        ),
        (standing, _) => (standing.words().to_owned(), last),
    };
    let weeks = IN_CONTROL_RUN_LENGTH * charts::interval(&read.view.stream).as_secs_f64()
        / (7.0 * 86_400.0);
    Finding {
        state: state_class(read.standing),
        title,
        words,
        false_alarms: read.baseline.as_ref().map(|(baseline, _)| {
            format!(
                "With these rules a false alarm comes about every {} checks, {} weeks of shifts; with limits from {} shifts, which are themselves uncertain, rather sooner.",
                show_float(IN_CONTROL_RUN_LENGTH, 0),
                show_float(weeks, 0),
                baseline.points
            )
        }),
        power: read.baseline.as_ref().and_then(|(baseline, _)| power_words(read, baseline)),
    }
}

/// How soon shifts of one and of two sigmas are seen by the default design; computed once, since the
/// integral equation takes some milliseconds.
fn default_power() -> Option<[f64; 2]> {
    static KEPT: OnceLock<Option<[f64; 2]>> = OnceLock::new();
    *KEPT.get_or_init(|| {
        let design = EwmaDesign { lambda: EWMA_LAMBDA, width: EWMA_WIDTH };
        let after = |shift| {
            let found = ewma_with_limits(design, Some(DEFAULT_OUTER_MULTIPLIER), shift);
            found.ok().map(|length| length.average)
        };
        Some([after(1.0)?, after(2.0)?])
    })
}

/// None where the limits are not those of the default design: their run length is another.
fn power_words(read: &Read, baseline: &Baseline) -> Option<String> {
    if (baseline.multiplier - DEFAULT_OUTER_MULTIPLIER).abs() > 1e-9 {
        return None;
    }
    let [one, two] = default_power()?;
    let d = decimals(read) + 1;
    let unit = &read.view.stream.unit;
    Some(format!(
        "A step of {} {unit} (one sigma) is seen after about {} checks, one of {} {unit} after about {}.",
        show_float(baseline.sigma, d),
        show_float(one, 0),
        show_float(2.0 * baseline.sigma, d),
        show_float(two, 0),
    ))
}

fn limits_card(read: &Read, here: &Here) -> Option<LimitsCard> {
    let (baseline, by) = read.baseline.as_ref()?;
    let d = decimals(read) + 1;
    let unit = &read.view.stream.unit;
    let day =
        |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y").to_string();
    let source =
        serde_json::from_value(serde_json::Value::String(baseline.sigma_source.clone())).ok();
    Some(LimitsCard {
        name: baseline.name.clone(),
        lines: vec![
            format!(
                "{} shifts, {} to {}",
                baseline.points,
                day(baseline.first_at.0),
                day(baseline.last_at.0)
            ),
            format!(
                "centre {} {unit}, sigma {} {unit}, limits at ±{} sigma",
                show_signed_float(baseline.center_line, d),
                show_float(baseline.sigma, d),
                baseline.multiplier
            ),
            source.map(sigma_words).unwrap_or_default().to_owned(),
            format!("frozen by {by} on {}: {}", day(baseline.frozen_at.0), baseline.reason),
            format!("this is segment {} of the chart", read.segments.len()),
        ],
    })
}

/// The signals of the time shown, newest first: since when, how often confirmed, and in which
/// words the first point was flagged. Each point's own words are in its record and in the table.
fn flagged(read: &Read, here: &Here) -> Vec<(String, String)> {
    read.signals
        .iter()
        .filter(|signal| signal.last_evidence_at.0 >= read.from)
        .take(6)
        .map(|signal| {
            let opened = signal.opened_at.0;
            let first = read.points.iter().find(|view| view.point.measured_at.0 == opened);
            let words = first.map_or_else(
                || format!("{} normal", signal.side.as_deref().unwrap_or("not")),
                |view| point_words(view, firing_words),
            );
            let times = match signal.evidence {
                1 => String::new(),
                n => format!(
                    "; {n} checks, the last on {}",
                    local_day_time(signal.last_evidence_at.0, &here.zone)
                ),
            };
            (format!("since {}", local_day_time(opened, &here.zone)), format!("{words}{times}"))
        })
        .collect()
}

/// Advisory patterns in the time shown: each rule once, with how often.
fn advisory(read: &Read) -> Vec<String> {
    let mut counts: Vec<(vaaka_core::chart::Criterion, usize)> = Vec::new();
    for view in &read.points {
        for firing in firings(&view.point.advisory) {
            match counts.iter_mut().find(|(criterion, _)| *criterion == firing.criterion) {
                Some((_, count)) => *count += 1,
                None => counts.push((firing.criterion, 1)),
            }
        }
    }
    counts
        .into_iter()
        .map(|(criterion, count)| format!("{} ({count} times)", criterion_words(criterion)))
        .collect()
}
