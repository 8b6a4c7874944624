//! One control chart: points, limits, tolerance apart from them, events, the drift watcher, and
//! the finding in words.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use serde::Deserialize;
use vaaka_core::chart::{Firing, IN_CONTROL_RUN_LENGTH};
use vaaka_core::history::Drift;
use vaaka_core::judgement::{
    Reason, action_sentence, criterion_words, drift_words, firing_short, firing_words, sigma_words,
};
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_core::round::{Standing, standing_of};
use vaaka_store::charts::{self, PointView, StreamView};
use vaaka_store::conclude::{StoredResult, result_of};
use vaaka_store::ids::StreamId;
use vaaka_store::registers;
use vaaka_store::rows::{Baseline, InstrumentEvent, Segment, SignalRow};

use super::charts::{conformity, last_point, state_class};
use super::{Here, Shell, page};
use crate::draw::{ChartDrawing, ChartSegment, DrawnEvent, DrawnForecast, DrawnPoint};
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
}

#[derive(Debug)]
struct Finding {
    state: &'static str,
    title: String,
    words: String,
    false_alarms: Option<String>,
}

#[derive(Debug)]
struct LimitsCard {
    name: String,
    lines: Vec<String>,
}

#[derive(Debug)]
struct TableRow {
    at: String,
    value: String,
    limits: String,
    tolerance: String,
    state: &'static str,
    words: String,
    person: String,
    certificate: String,
    check: i64,
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
struct Read {
    view: StreamView,
    points: Vec<PointView>,
    segments: Vec<Segment>,
    baseline: Option<(Baseline, String)>,
    events: Vec<(InstrumentEvent, String)>,
    signals: Vec<SignalRow>,
    newest: Option<StoredResult>,
    standing: Standing,
    drift: Option<Drift>,
    from: Timestamp,
    now: Timestamp,
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
    let (range, days) = match query.range.as_str() {
        "week" => ("week", 7),
        "year" => ("year", 366),
        _ => ("month", 31),
    };
    let from = now.checked_sub(SignedDuration::from_hours(24 * days)).unwrap_or(now);
    let view = charts::by_id(&mut connection, StreamId(id)).await?;
    let points = charts::points_since(&mut connection, view.stream.id, from).await?;
    let segments = charts::segments_of(&mut connection, view.stream.id).await?;
    let baseline = charts::newest_baseline(&mut connection, view.stream.id).await?;
    let events = registers::events(&mut connection, view.instrument.id).await?;
    let signals = charts::signals_of(&mut connection, view.stream.id).await?;
    let brief = charts::newest_points(&mut connection, &[view.stream.id], 1).await?;
    let newest = match brief.first() {
        Some(point) => result_of(&mut connection, point.check_id).await?,
        None => None,
    };
    let standing = standing_of(&[], &last_point(&brief).into_iter().collect::<Vec<_>>());
    let drift =
        newest.as_ref().and_then(|stored| drift_of(stored, &view.stream.characteristic_key));
    let read = Read {
        view,
        points,
        segments,
        baseline,
        events,
        signals,
        newest,
        standing,
        drift,
        from,
        now,
    };
    page(StatusCode::OK, &fill(&signed, &here, &read, range, query.table))
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
    let rows: Vec<TableRow> = read.points.iter().map(|view| table_row(view, read, here)).collect();
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

fn decimals(read: &Read) -> u32 {
    u32::try_from(read.view.stream.decimals).unwrap_or(1)
}

fn state_of(view: &PointView) -> &'static str {
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

fn seconds(at: Timestamp) -> f64 {
    at.as_millisecond() as f64 / 1000.0
}

fn drawing(read: &Read, here: &Here, rows: &[TableRow]) -> ChartDrawing {
    let span = seconds(read.now) - seconds(read.from);
    let from = read.points.first().map_or(seconds(read.from), |first| {
        seconds(first.point.measured_at.0).max(seconds(read.from))
    });
    // The forecast wants room on the right, to a little beyond its crossing.
    let ahead = if read.drift.is_some() { 0.22 * span } else { 0.01 * span };
    let to = seconds(read.now) + ahead;
    let gap = 3.0 * charts::interval(&read.view.stream).as_secs_f64();
    let mut last: Option<(f64, i64)> = None;
    let points = read
        .points
        .iter()
        .enumerate()
        .map(|(index, view)| {
            let at = seconds(view.point.measured_at.0);
            let segment = view.point.segment_id.0;
            let counted = view.point.ordinal.is_some();
            let joined = last.is_some_and(|(time, before)| at - time <= gap && before == segment);
            if counted {
                last = Some((at, segment));
            }
            drawn_point(view, at, joined, &rows[index])
        })
        .collect();
    ChartDrawing {
        description: format!(
            "Control chart of {}, {} points. {}",
            read.view.stream.label,
            read.points.len(),
            read.standing.words()
        ),
        from,
        to,
        times: time_marks(read, from, to, &here.zone),
        segments: chart_segments(read, to),
        points,
        events: drawn_events(read),
        forecast: read.drift.map(|drift| forecast(&drift, read, here)),
        decimals: decimals(read),
        unit: read.view.stream.unit.clone(),
    }
}

fn drawn_point(view: &PointView, at: f64, joined: bool, row: &TableRow) -> DrawnPoint {
    let point = &view.point;
    let ewma_limits = point.center_line.zip(point.ewma_half_width);
    DrawnPoint {
        at,
        value: point.value,
        state: state_of(view),
        hollow: point.ordinal.is_none(),
        joined,
        ewma: point.ewma,
        ewma_limits,
        ewma_beyond: point
            .ewma
            .zip(ewma_limits)
            .is_some_and(|(ewma, (center, half))| (ewma - center).abs() > half),
        check: row.check,
        label: format!(
            "{}: {}, {}. {}, standard {}",
            row.at, row.value, row.words, row.person, row.certificate
        ),
    }
}

/// Stretches over which the limits stay the same.
fn chart_segments(read: &Read, to: f64) -> Vec<ChartSegment> {
    let mut segments: Vec<ChartSegment> = Vec::new();
    for view in read.points.iter().filter(|view| view.point.ordinal.is_some()) {
        let point = &view.point;
        let at = seconds(point.measured_at.0);
        let control = point
            .lower_control_limit
            .zip(point.center_line)
            .zip(point.upper_control_limit)
            .map(|((lower, center), upper)| (lower, center, upper));
        let tolerance = (point.lower_tolerance_limit, point.upper_tolerance_limit);
        match segments.last_mut() {
            Some(last)
                if last.control == control
                    && last.tolerance == tolerance
                    && last.provisional == point.provisional =>
            {
                last.to = at;
            }
            last => {
                if let Some(last) = last {
                    last.to = at;
                }
                segments.push(ChartSegment {
                    from: at,
                    to: at,
                    control,
                    provisional: point.provisional,
                    tolerance,
                });
            }
        }
    }
    if let Some(last) = segments.last_mut() {
        last.to = if read.drift.is_some() { to } else { last.to.max(seconds(read.now)) };
    }
    segments
}

fn drawn_events(read: &Read) -> Vec<DrawnEvent> {
    let mut events: Vec<DrawnEvent> = read
        .events
        .iter()
        .filter(|(event, _)| event.affects_measurement)
        .map(|(event, _)| DrawnEvent {
            at: seconds(event.at.0),
            words: event.note.clone(),
            estimated: false,
        })
        .collect();
    if let Some((baseline, _)) = &read.baseline {
        events.push(DrawnEvent {
            at: seconds(baseline.frozen_at.0),
            words: "limits frozen".into(),
            estimated: false,
        });
    }
    // A change of certificate is written on the chart: the reference value may have moved.
    for pair in read.points.windows(2) {
        if pair[0].certificate != pair[1].certificate {
            events.push(DrawnEvent {
                at: seconds(pair[1].point.measured_at.0),
                words: format!("certificate {}", pair[1].certificate),
                estimated: false,
            });
        }
    }
    if let Some(drift) = read.drift {
        events.push(DrawnEvent {
            at: seconds(drift.since),
            words: "likely onset".into(),
            estimated: true,
        });
    }
    events.sort_by(|a, b| a.at.total_cmp(&b.at));
    events
}

fn forecast(drift: &Drift, read: &Read, here: &Here) -> DrawnForecast {
    const WEEK: f64 = 7.0 * 86_400.0;
    let now = read.points.last().map_or(read.now, |view| view.point.measured_at.0);
    DrawnForecast {
        since: seconds(drift.since),
        now: seconds(now),
        level: (drift.level_now, drift.level_half_width),
        slope: (drift.per_week / WEEK, drift.per_week_low / WEEK, drift.per_week_high / WEEK),
        crossing: drift.crossing.map(|crossing| {
            let day = crossing.at.to_zoned_datetime(here.zone.clone());
            (seconds(crossing.at), format!("about {}", day.strftime("%-d %b")))
        }),
    }
}

/// Midnights of the site, at a step that leaves about six of them.
fn time_marks(read: &Read, from: f64, to: f64, zone: &TimeZone) -> Vec<(f64, String)> {
    let days = ((to - from) / 86_400.0 / 6.0).ceil().max(1.0);
    let step =
        [1.0, 2.0, 7.0, 14.0, 30.0, 61.0].into_iter().find(|s| *s >= days).unwrap_or(days) as i64;
    let mut day = read.now.to_zoned_datetime(zone.clone()).date();
    let mut marks = Vec::new();
    // From today backwards, so that the marks do not move while the chart is looked at.
    for _ in 0..400 {
        let Ok(at) = day.to_zoned_datetime(zone.clone()) else {
            break;
        };
        let at = seconds(at.timestamp());
        if at < from {
            break;
        }
        marks.push((at, day.strftime("%-d %b").to_string()));
        day = day.saturating_sub(step.days());
    }
    marks
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
    }
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
