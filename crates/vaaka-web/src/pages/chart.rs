//! One control chart: points, limits, tolerance apart from them, events, the drift watcher, and
//! the finding in words.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use serde::Deserialize;
use vaaka_core::chart::simulate::Circumstances;
use vaaka_core::chart::{ChartDesign, Firing, LimitBasis};
use vaaka_core::history::Drift;
use vaaka_core::judgement::{
    Reason, action_sentence, criterion_words, drift_words, firing_short, sigma_words,
};
use vaaka_core::method::Input;
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_core::round::Standing;
use vaaka_core::study::capability;
use vaaka_store::charts::{self, ConditionPoint, PointView, StreamView, Stretch};
use vaaka_store::ids::StreamId;
use vaaka_store::imports::{self, Earlier};
use vaaka_store::marks::{self, MarkView};
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::rows::{Baseline, InstrumentEvent, Segment, Stream};
use vaaka_store::signals::{self, SignalView, Which};
use vaaka_store::{At, Connection, Store, entries, registers, studies};

use super::chart_drawing::{drawing, seconds};
use super::chart_power::{false_alarm_words, power_of, power_words};
use super::chart_window::Window;
use super::charts::{conformity, standing_by, state_class};
use super::signals::{signal_state, signal_words};
use super::{Here, Shell, check_view, page};
use crate::desk::Desk;
use crate::draw::{Histogram, Pane, PaneLine, runs, stand_alone};
use crate::error::WebError;
use crate::forms::{Asked, PathId};
use crate::session::SignedIn;
use crate::state::{AppState, Conditions, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart.html")]
struct ChartPage {
    shell: Shell,
    id: i64,
    tag: String,
    title: String,
    sub: String,
    range: &'static str,
    query: String,
    view: &'static str,
    shown: String,
    ways: Vec<(&'static str, &'static str, String)>,
    drawing: String,
    from: f64,
    to: f64,
    rows: Vec<TableRow>,
    more_rows: bool,
    finding: Finding,
    what_to_do: String,
    limits: Option<LimitsCard>,
    signals: Vec<SignalLine>,
    advisory: Vec<String>,
    events: Vec<(String, String)>,
    earlier: Option<String>,
    comments: Vec<(i64, String, String)>,
    proposed: Vec<Proposed>,
    distribution: Vec<String>,
    beside: Vec<(i64, String, bool)>,
    traces: Vec<(String, String, bool)>,
    laid: bool,
    kept: Vec<(&'static str, String)>,
    all_levels: AllLevels,
}

/// A signal in the list beside the chart.
#[derive(Debug)]
struct SignalLine {
    id: i64,
    state: &'static str,
    since: String,
    words: String,
    work: &'static str,
}

/// A segment that a lead has not confirmed yet.
#[derive(Debug)]
struct Proposed {
    id: i64,
    since: String,
    cause: String,
}

/// Which charts of all levels there are, and whether they could be turned on.
#[derive(Debug, Default)]
struct AllLevels {
    offered: bool,
    line: bool,
    levels: bool,
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
    from: String,
    #[serde(default)]
    to: String,
    /// "table" or "distribution".
    #[serde(default)]
    view: String,
    /// A chart to lay beside it.
    #[serde(default)]
    with: String,
    /// The step of a condition to trace.
    #[serde(default)]
    trace: String,
}

/// Everything read for the page.
pub(super) struct Read {
    pub view: StreamView,
    pub points: Vec<PointView>,
    /// Where there are too many points to draw each: then `points` are only those that say something.
    pub stretches: Vec<Stretch>,
    /// Charts that this one may be laid beside.
    pub comparable: Vec<(StreamId, String, String)>,
    /// All charts of its instrument.
    pub siblings: Vec<Stream>,
    pub earlier: Vec<Earlier>,
    pub segments: Vec<Segment>,
    pub design: Option<ChartDesign>,
    pub baseline: Option<(Baseline, String)>,
    pub events: Vec<(InstrumentEvent, String)>,
    pub signals: Vec<SignalView>,
    pub marks: Vec<MarkView>,
    pub newest: Option<StoredResult>,
    pub standing: Standing,
    pub drift: Option<Drift>,
    /// Conditions that the newest check asked for: key of the step, name with unit.
    pub conditions: Conditions,
    pub from: Timestamp,
    pub now: Timestamp,
}

/// Most points that are drawn one by one; of more, each stretch is one stroke.
const MOST_DRAWN: i64 = 700;
/// Parts of a stretch of time that has more.
const PARTS: i64 = 380;
/// Most rows in the table on the page; all are in the CSV.
const MOST_ROWS: i64 = 500;
/// Marks, signals and flagged points at most.
const MOST_MARKS: i64 = 200;

/// Shows the chart.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ChartQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let view = charts::by_id(&mut desk.connection, StreamId(id)).await?;
    let asked = Window::of(&query.range, &query.from, &query.to, desk.now, &desk.here.zone);
    let table = query.view == "table";
    let window = from_first(&mut desk, &view, asked).await?;
    let store = &state.store;
    let mut read = read_window(store, &mut desk.connection, view, window, table).await?;
    read.conditions = conditions_of(&state, &mut desk, &read).await?;
    let template = fill(&signed, &mut desk, read, (asked, window), &query).await?;
    page(StatusCode::OK, &template)
}

/// The stretch without the time before the first point.
async fn from_first(
    desk: &mut Desk,
    view: &StreamView,
    window: Window,
) -> Result<Window, WebError> {
    if window.word != "all" && !window.word.is_empty() {
        return Ok(window);
    }
    let stream = &view.stream;
    let extent =
        charts::extent(&mut desk.connection, stream.id, (window.from, window.to), 1).await?;
    let before =
        imports::earlier(&mut desk.connection, stream, At(window.from), At(window.to), EARLIER)
            .await?;
    let first = before.first().map(|earlier| earlier.at.0);
    Ok(window.after_first(extent.first_at.map(|at| at.0).into_iter().chain(first).min()))
}

/// Values from before that a chart shows at most: the newest.
const EARLIER: i64 = 5_000;

/// The drawing of a chart as a file of its own.
pub(super) async fn stand_alone_svg(
    store: &Store,
    desk: &mut Desk,
    id: StreamId,
    (range, from, to): (&str, &str, &str),
) -> Result<String, WebError> {
    let view = charts::by_id(&mut desk.connection, id).await?;
    let window = Window::of(range, from, to, desk.now, &desk.here.zone);
    let window = from_first(desk, &view, window).await?;
    let read = read_window(store, &mut desk.connection, view, window, false).await?;
    let rows = rows(&read, &desk.here);
    Ok(stand_alone(&drawing(&read, &desk.here, &rows, vec![]).draw()))
}

/// Everything that a chart from `from` on needs, point by point.
pub(super) async fn read(
    connection: &mut Connection,
    view: StreamView,
    from: Timestamp,
    now: Timestamp,
) -> Result<Read, WebError> {
    let points = charts::points_since(connection, view.stream.id, from).await?;
    let around = read_around(connection, &view, (from, now)).await?;
    Ok(around.with(view, Course { points, stretches: vec![], comparable: vec![] }))
}

/// What runs along a chart: its points one by one, or in stretches; and what could be laid beside it.
struct Course {
    points: Vec<PointView>,
    stretches: Vec<Stretch>,
    comparable: Vec<(StreamId, String, String)>,
}

async fn course(
    connection: &mut Connection,
    view: &StreamView,
    window: Window,
    table: bool,
) -> Result<Course, WebError> {
    let (id, span) = (view.stream.id, (window.from, window.to));
    let most = if table { MOST_ROWS } else { MOST_DRAWN };
    let extent = charts::extent(connection, id, span, MOST_DRAWN + 1).await?;
    let (points, stretches) = if extent.count > MOST_DRAWN && !table {
        (
            charts::points_between(connection, id, span, MOST_MARKS, true).await?,
            charts::stretches(connection, id, span, PARTS).await?,
        )
    } else {
        (charts::points_between(connection, id, span, most, false).await?, vec![])
    };
    let comparable = charts::comparable(connection, &view.stream, 40).await?;
    Ok(Course { points, stretches, comparable })
}

/// Everything that a stretch of a chart needs; of many points only strokes and what says something by
/// itself. `table` asks for the newest rows instead.
async fn read_window(
    store: &Store,
    connection: &mut Connection,
    view: StreamView,
    window: Window,
    table: bool,
) -> Result<Read, WebError> {
    let span = (window.from, window.to);
    // The course of ten years takes as long as all that stands around it: they do not wait for each other.
    let (course, around) = match store.spare().await {
        Some(mut spare) => {
            let reads = tokio::join!(
                course(&mut spare, &view, window, table),
                read_around(connection, &view, span)
            );
            (reads.0?, reads.1?)
        }
        None => (
            course(connection, &view, window, table).await?,
            read_around(connection, &view, span).await?,
        ),
    };
    Ok(around.with(view, course))
}

/// What stands around the points of a chart.
struct Around {
    earlier: Vec<Earlier>,
    segments: Vec<Segment>,
    design: Option<ChartDesign>,
    baseline: Option<(Baseline, String)>,
    events: Vec<(InstrumentEvent, String)>,
    signals: Vec<SignalView>,
    marks: Vec<MarkView>,
    newest: Option<StoredResult>,
    standing: Standing,
    drift: Option<Drift>,
    siblings: Vec<Stream>,
    span: (Timestamp, Timestamp),
}

impl Around {
    fn with(self, view: StreamView, course: Course) -> Read {
        Read {
            view,
            points: course.points,
            stretches: course.stretches,
            comparable: course.comparable,
            earlier: self.earlier,
            segments: self.segments,
            design: self.design,
            baseline: self.baseline,
            events: self.events,
            signals: self.signals,
            marks: self.marks,
            newest: self.newest,
            standing: self.standing,
            drift: self.drift,
            siblings: self.siblings,
            conditions: vec![],
            from: self.span.0,
            now: self.span.1,
        }
    }
}

async fn read_around(
    connection: &mut Connection,
    view: &StreamView,
    (from, now): (Timestamp, Timestamp),
) -> Result<Around, WebError> {
    let id = view.stream.id;
    let earlier = imports::earlier(connection, &view.stream, At(from), At(now), EARLIER).await?;
    let segments = charts::segments_of(connection, id).await?;
    let design = segments.last().map(studies::design_of).transpose()?.flatten();
    let baseline = charts::newest_baseline(connection, id).await?;
    let events = registers::events(connection, view.instrument.id).await?;
    let signals = signals::list(connection, Which::OfStream(id), MOST_MARKS).await?;
    let marks = marks::of_stream(connection, id, from, MOST_MARKS).await?;
    let brief = charts::newest_points(connection, &[id]).await?;
    let newest = match brief.first() {
        Some(point) => result_of(connection, point.check_id).await?,
        None => None,
    };
    let standing = standing_by(brief.first());
    let drift =
        newest.as_ref().and_then(|stored| drift_of(stored, &view.stream.characteristic_key));
    let siblings = charts::streams_of(connection, &[view.stream.instrument_id]).await?;
    Ok(Around {
        earlier,
        segments,
        design,
        baseline,
        events,
        signals,
        marks,
        newest,
        standing,
        drift,
        siblings,
        span: (from, now),
    })
}

/// Conditions that the newest check's plan asks for.
async fn conditions_of(
    state: &AppState,
    desk: &mut Desk,
    read: &Read,
) -> Result<Conditions, WebError> {
    let Some(newest) = &read.newest else { return Ok(vec![]) };
    if let Some(known) = state.remembered_conditions(newest.row.plan_version_id) {
        return Ok(known);
    }
    let now = entries::check_now(&desk.connection, newest.row.check_id).await?;
    let run = check_view::load(state, &mut desk.connection, now).await?;
    let steps = run.way.steps.iter();
    let names: Conditions = steps
        .filter_map(|step| match &step.input {
            Input::Condition { name, unit, .. } => {
                Some((step.key.0.clone(), format!("{name}, {unit}")))
            }
            _ => None,
        })
        .collect();
    state.remember_conditions(newest.row.plan_version_id, &names);
    Ok(names)
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

async fn fill(
    signed: &SignedIn,
    desk: &mut Desk,
    read: Read,
    (asked, window): (Window, Window),
    query: &ChartQuery,
) -> Result<ChartPage, WebError> {
    let here = desk.here.clone();
    let stream = &read.view.stream;
    let instrument = &read.view.instrument;
    let rows = rows(&read, &here);
    let comparable = &read.comparable;
    let with: Option<i64> = query.with.trim().parse().ok();
    let with = comparable.iter().find(|(id, _, _)| Some(id.0) == with).cloned();
    let mut ends = (seconds(window.from), seconds(window.to));
    let (view, drawn, distribution) = match query.view.as_str() {
        "table" => ("table", String::new(), vec![]),
        "distribution" => {
            let (drawn, lines) = distribution(desk, &read, window).await?;
            ("distribution", drawn, lines)
        }
        _ => {
            let panes = asked_panes(desk, &read, window, with.as_ref(), &query.trace).await?;
            let drawn = drawing(&read, &here, &rows, panes);
            ends = (drawn.from, drawn.to);
            ("chart", drawn.draw(), vec![])
        }
    };
    let day = |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y");
    let limits_since = read.baseline.as_ref().map(|(baseline, _)| day(baseline.frozen_at.0));
    let way = |moved, longer| window.other(moved, longer, desk.now).query(&here.zone);
    Ok(ChartPage {
        shell: Shell::new(signed, "charts", &here),
        id: stream.id.0,
        tag: instrument.tag.clone(),
        title: format!(
            "{} {}: {}{}",
            instrument.name,
            instrument.tag,
            lower_first(&stream.label),
            match stream.derived.as_deref() {
                Some("levels") => ", each in its own sigmas".to_owned(),
                _ => format!(", in {}", unit_words(&stream.unit)),
            }
        ),
        sub: match (&limits_since, &read.design) {
            (Some(since), _) => format!("limits frozen {since}"),
            (None, Some(_)) => "limits given".to_owned(),
            (None, None) => "no limits yet".to_owned(),
        },
        range: asked.word,
        query: asked.query(&here.zone),
        view,
        shown: window.words(&here.zone),
        ways: vec![
            ("earlier", "Earlier", way(-0.5, 1.0)),
            ("later", "Later", way(0.5, 1.0)),
            ("closer", "Closer", way(0.0, 0.5)),
            ("wider", "Wider", way(0.0, 2.0)),
        ],
        drawing: drawn,
        from: ends.0,
        to: ends.1,
        more_rows: view == "table" && rows.len() as i64 >= MOST_ROWS,
        finding: finding(&read, &here),
        what_to_do: read
            .newest
            .as_ref()
            .map_or("Check it once, and the chart begins.".to_owned(), |stored| {
                action_sentence(stored.verdict.action).to_owned()
            }),
        limits: limits_card(&read, &here),
        earlier: earlier_words(&read, &here),
        signals: signal_lines(&read, &here),
        advisory: advisory(&read),
        comments: comments(&read, &here),
        proposed: proposed(&read, &here),
        distribution,
        beside: comparable
            .iter()
            .map(|(id, tag, label)| {
                let chosen = with.as_ref().is_some_and(|with| with.0 == *id);
                (id.0, format!("{tag}: {label}"), chosen)
            })
            .collect(),
        traces: read
            .conditions
            .iter()
            .map(|(key, name)| (key.clone(), name.clone(), *key == query.trace))
            .collect(),
        laid: with.is_some() || read.conditions.iter().any(|(key, _)| *key == query.trace),
        kept: match asked.word {
            "" => vec![("from", query.from.clone()), ("to", query.to.clone())],
            word => vec![("range", word.to_owned())],
        },
        all_levels: all_levels(&read),
        events: read
            .events
            .iter()
            .rev()
            .filter(|(event, _)| event.at.0 >= read.from && event.at.0 <= read.now)
            .take(12)
            .map(|(event, by)| {
                (local_day_time(event.at.0, &here.zone), format!("{} ({by})", event.note))
            })
            .collect(),
        rows,
    })
}

/// The panes that were asked for: another chart beside this one, and a condition.
async fn asked_panes(
    desk: &mut Desk,
    read: &Read,
    window: Window,
    with: Option<&(StreamId, String, String)>,
    trace: &str,
) -> Result<Vec<Pane>, WebError> {
    let span = (window.from, window.to);
    let gap = gap_of(read);
    let mut panes = Vec::new();
    if let Some((_, name)) = read.conditions.iter().find(|(key, _)| key == trace) {
        let found =
            charts::conditions(&mut desk.connection, read.view.stream.id, span, MOST_TRACED)
                .await?;
        let own = found.iter().filter(|point| point.step_key == trace);
        let line: Vec<(f64, f64)> =
            own.map(|point: &ConditionPoint| (seconds(point.measured_at.0), point.value)).collect();
        let (name, unit) = name.rsplit_once(", ").unwrap_or((name, ""));
        let mut pane = Pane::new(format!("{name}, read at each check"), unit);
        pane.marks = if line.len() > 700 {
            vec![]
        } else {
            line.iter().map(|(at, value)| (*at, *value, "ok")).collect()
        };
        pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap) }];
        panes.push(pane);
    }
    if let Some((id, tag, label)) = with {
        let other = charts::by_id(&mut desk.connection, *id).await?;
        let many = charts::extent(&mut desk.connection, *id, span, MOST_DRAWN + 1).await?.count
            > MOST_DRAWN;
        let mut pane =
            Pane::new(format!("beside it {tag}: {}", lower_first(label)), other.stream.unit);
        if many {
            let parts = charts::stretches(&mut desk.connection, *id, span, PARTS).await?;
            let line = parts.iter().map(|part| (seconds(part.first_at.0), part.mean));
            pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap * 20.0) }];
        } else {
            let points =
                charts::points_between(&mut desk.connection, *id, span, MOST_DRAWN, false).await?;
            let counted = || points.iter().filter(|view| view.point.ordinal.is_some());
            let line = counted().map(|view| (seconds(view.point.measured_at.0), view.point.value));
            pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap) }];
            pane.marks = counted()
                .map(|view| (seconds(view.point.measured_at.0), view.point.value, state_of(view)))
                .collect();
            pane.bands = super::chart_drawing::bands(&points, seconds(window.to));
        }
        panes.push(pane);
    }
    Ok(panes)
}

/// Conditions that are traced at most.
const MOST_TRACED: i64 = 3_000;

/// Checks further apart than this are not joined by a line.
pub(super) fn gap_of(read: &Read) -> f64 {
    3.0 * charts::interval(&read.view.stream).as_secs_f64()
}

/// The values of the stretch against tolerance and limits, and what they come to.
async fn distribution(
    desk: &mut Desk,
    read: &Read,
    window: Window,
) -> Result<(String, Vec<String>), WebError> {
    let span = (window.from, window.to);
    let id = read.view.stream.id;
    let values =
        charts::values_between(&mut desk.connection, id, span, studies::MOST_POINTS).await?;
    let newest = charts::newest_points(&mut desk.connection, &[id]).await?;
    let tolerance = newest
        .first()
        .map_or((None, None), |point| (point.lower_tolerance_limit, point.upper_tolerance_limit));
    let control = newest.first().and_then(|point| {
        Some((point.lower_control_limit?, point.center_line?, point.upper_control_limit?))
    });
    let d = decimals(read);
    let unit = &read.view.stream.unit;
    let mut lines =
        vec![format!("{} counted checks, {}.", values.len(), window.words(&desk.here.zone))];
    match capability(&values, tolerance.0, tolerance.1) {
        Ok(Some(found)) => {
            let pp = found.pp.map_or(String::new(), |pp| {
                format!("Pp = (U − L)/(6 s) = {}; ", show_float(pp, 2))
            });
            lines.push(format!(
                "Mean {} {unit}, standard deviation s = {} {unit}; {pp}Ppk = the nearer limit\u{2019}s distance from the mean/(3 s) = {} (ISO 22514-2).",
                show_signed_float(found.mean, d + 1),
                show_float(found.std_dev, d + 1),
                show_float(found.ppk, 2),
            ));
        }
        Ok(None) => lines.push("Without a tolerance there is no capability figure.".to_owned()),
        Err(error) => lines.push(format!("No capability figure: {error}.")),
    }
    let drawn = Histogram {
        description: format!("Distribution of {}, {} values", read.view.stream.label, values.len()),
        values,
        tolerance,
        control,
        step: if read.view.stream.derived.is_some() { 0.0 } else { 10_f64.powi(-(d as i32)) },
        unit: unit.clone(),
    };
    Ok((drawn.draw(), lines))
}

/// What people said of the points shown, newest first.
fn comments(read: &Read, here: &Here) -> Vec<(i64, String, String)> {
    read.marks
        .iter()
        .rev()
        .take(12)
        .map(|mark| {
            let what = match mark.kind.as_str() {
                "excluded" => "left out: ",
                "included" => "taken in again: ",
                _ => "",
            };
            let when = local_day_time(mark.at.0, &here.zone);
            (mark.check_id.0, when, format!("{what}{} ({})", mark.words, mark.person))
        })
        .collect()
}

/// Segments after the first that no lead has confirmed or joined.
fn proposed(read: &Read, here: &Here) -> Vec<Proposed> {
    read.segments
        .iter()
        .skip(1)
        .rev()
        .filter(|segment| segment.settled.is_none())
        .take(4)
        .map(|segment| Proposed {
            id: segment.id.0,
            since: local_day_time(segment.opened_at.0, &here.zone),
            cause: segment.cause.clone(),
        })
        .collect()
}

fn all_levels(read: &Read) -> AllLevels {
    let stream = &read.view.stream;
    let own = || {
        read.siblings.iter().filter(|other| {
            other.set_up_id == stream.set_up_id && other.method_key == stream.method_key
        })
    };
    let levels = own()
        .filter(|other| other.derived.is_none() && other.nominal.is_some())
        .filter(|other| other.characteristic_key.starts_with("error"))
        .count();
    let on = |kind: &str| {
        own().any(|other| other.derived.as_deref() == Some(kind) && other.ended_at.is_none())
    };
    AllLevels { offered: levels > 1, line: on("offset"), levels: on("levels") }
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

pub(super) fn lower_first(text: &str) -> String {
    let mut characters = text.chars();
    characters
        .next()
        .map_or(String::new(), |first| first.to_lowercase().chain(characters).collect())
}

pub(super) fn unit_words(symbol: &str) -> &str {
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

pub(super) fn firings(value: &serde_json::Value) -> Vec<Firing> {
    serde_json::from_value(value.clone()).unwrap_or_default()
}

pub(super) fn point_words(view: &PointView, say: fn(&Firing) -> String) -> String {
    let mut parts: Vec<String> = Vec::new();
    match (view.purpose.as_str(), view.point.ordinal) {
        ("as_left", _) => parts.push("as left, not counted".into()),
        (_, None) => parts.push("confirming repeat, not counted".into()),
        _ => {}
    }
    if view.point.excluded {
        parts.push("left out".into());
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
    let weeks_a_check = charts::interval(&read.view.stream).as_secs_f64() / (7.0 * 86_400.0);
    let design = read.design.as_ref().filter(|design| {
        matches!(design.basis, LimitBasis::Baseline | LimitBasis::Given | LimitBasis::Certificate)
    });
    let power = design.and_then(|design| Some((design, power_of(design, circumstances(read))?)));
    let baseline = read.baseline.as_ref().filter(|(baseline, _)| baseline.basis == "baseline");
    let points = baseline.map_or(0, |(baseline, _)| baseline.points);
    Finding {
        state: state_class(read.standing),
        title,
        words,
        false_alarms: power.as_ref().map(|(design, power)| {
            let points = usize::try_from(points).unwrap_or(0);
            false_alarm_words(design, power, weeks_a_check, points)
        }),
        power: power
            .as_ref()
            .map(|(design, power)| power_words(design, power, &read.view.stream.unit)),
    }
}

/// What the false alarms of a chart depend on beside its design.
pub(super) fn circumstances(read: &Read) -> Circumstances {
    let readings = read.points.last().map_or(1, |view| view.point.readings);
    Circumstances { readings: u32::try_from(readings).unwrap_or(1).clamp(1, 25), levels: 1 }
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
            match baseline.basis.as_str() {
                "baseline" => format!(
                    "{} shifts, {} to {}",
                    baseline.points,
                    day(baseline.first_at.0),
                    day(baseline.last_at.0)
                ),
                "given" => "a given target and sigma".to_owned(),
                "certificate" => "the certified value and a given sigma".to_owned(),
                _ => "action lines, no control limits".to_owned(),
            },
            format!(
                "centre {} {unit}, sigma {} {unit}, limits at ±{} sigma",
                show_signed_float(baseline.center_line, d),
                show_float(baseline.sigma, d),
                baseline.multiplier
            ),
            source.map(sigma_words).unwrap_or_default().to_owned(),
            format!("frozen by {by} on {}: {}", day(baseline.frozen_at.0), baseline.reason),
            baseline.review_due_at.map_or("no review is due".to_owned(), |due| {
                let late = if due.0 < read.now { "review was due" } else { "review due" };
                format!("{late} on {}", day(due.0))
            }),
            format!("this is segment {} of the chart", read.segments.len()),
        ],
    })
}

/// The signals of the time shown, newest first: since when, how often confirmed, in which words the
/// first point was flagged, and how far the work on each is.
fn signal_lines(read: &Read, here: &Here) -> Vec<SignalLine> {
    read.signals
        .iter()
        .filter(|signal| signal.last_evidence_at.0 >= read.from && signal.opened_at.0 <= read.now)
        .take(6)
        .map(|signal| SignalLine {
            id: signal.id.0,
            state: if signal.is_at_work() { "signal" } else { "ok" },
            since: format!("since {}", local_day_time(signal.opened_at.0, &here.zone)),
            words: signal_words(signal, &here.zone),
            work: signal_state(&signal.state),
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
