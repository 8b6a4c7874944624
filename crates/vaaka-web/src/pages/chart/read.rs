//! What is read for a chart: its points one by one or in stretches, and all that stands around them.

use futures_util::try_join;
use jiff::Timestamp;
use vaaka_core::chart::ChartDesign;
use vaaka_core::check::{ShapeAround, TemperatureEffect, drift_taken_back, segment_shape};
use vaaka_core::history::{Drift, Shape};
use vaaka_core::judgement::Verdict;
use vaaka_core::method::Input;
use vaaka_core::round::Standing;
use vaaka_store::charts::{self, BriefPoint, PointView, SignedBaseline, StreamView};
use vaaka_store::ids::StreamId;
use vaaka_store::imports::{self, Earlier};
use vaaka_store::marks::{self, MarkView};
use vaaka_store::outcomes::verdict_of;
use vaaka_store::rows::{InstrumentEvent, ResultRow, Segment, Stream};
use vaaka_store::signals::{self, SignalView, Which};
use vaaka_store::standing::{Of, Standings};
use vaaka_store::stretches::{self, Stretch};
use vaaka_store::{At, Connection, Store, StoreError, entries, registers, studies};

use super::adjusted::{OverAdjustments, over_adjustments};
use super::window::Window;
use crate::desk::Desk;
use crate::error::WebError;
use crate::open_run;
use crate::state::{AppState, Conditions};

/// Everything read for the page.
pub(in crate::pages) struct Read {
    pub view: StreamView,
    pub points: Vec<PointView>,
    /// Where there are too many points to draw each: then `points` are only those that say something.
    pub stretches: Vec<Stretch>,
    /// All charts of its instrument.
    pub siblings: Vec<Stream>,
    pub earlier: Vec<Earlier>,
    pub segments: Vec<Segment>,
    pub design: Option<ChartDesign>,
    pub baseline: Option<SignedBaseline>,
    pub events: Vec<(InstrumentEvent, String)>,
    pub signals: Vec<SignalView>,
    pub marks: Vec<MarkView>,
    pub newest: Option<(ResultRow, Verdict)>,
    /// The newest point that counts, whatever is shown.
    pub last: Option<BriefPoint>,
    pub standing: Standing,
    /// What the points of the segment have done, events among them, and how many more checks at the level of now would
    /// take a drift back; none before there are limits.
    pub shape: Option<(Shape, Option<u32>)>,
    /// What the instrument has done over its adjustments, where it was adjusted since its baseline.
    pub over: Option<OverAdjustments>,
    /// What a degree does, where the baseline knows it.
    pub temperature: Option<TemperatureEffect>,
    pub drift: Option<Drift>,
    /// Conditions that the newest check asked for: key of the step, name with unit.
    pub conditions: Conditions,
    pub from: Timestamp,
    pub now: Timestamp,
}

/// Most points that are drawn one by one; of more, each stretch is one stroke.
pub(super) const MOST_DRAWN: i64 = 700;
/// Parts of a stretch of time that has more.
pub(super) const PARTS: i64 = 380;
/// Most rows in the table on the page; all are in the CSV.
pub(super) const MOST_ROWS: i64 = 500;
/// Marks, signals and flagged points at most.
pub(super) const MOST_MARKS: i64 = 200;

/// A chart, and the stretch that was asked for without the time before its first point.
pub(super) async fn view_of(
    connection: &Connection,
    id: StreamId,
    asked: Window,
) -> Result<(StreamView, Window), WebError> {
    let (view, first) = try_join!(charts::by_id(connection, id), charts::first_at(connection, id))?;
    let named = asked.word != "all" && !asked.word.is_empty();
    let window = if named { asked } else { asked.after_first(first.map(|at| at.0)) };
    Ok((view, window))
}

/// Values from before that a chart shows at most: the newest.
pub(super) const EARLIER: i64 = 5_000;

/// Everything that a chart from `from` on needs, point by point.
pub(in crate::pages) async fn read(
    connection: &mut Connection,
    view: StreamView,
    from: Timestamp,
    now: Timestamp,
) -> Result<Read, WebError> {
    let points = charts::points_since(connection, view.stream.id, from).await?;
    let around = read_around(connection, &view, (from, now)).await?;
    Ok(around.with(view, Course { points, stretches: vec![] }))
}

/// What runs along a chart: its points one by one, or in stretches.
struct Course {
    points: Vec<PointView>,
    stretches: Vec<Stretch>,
}

async fn course(
    connection: &mut Connection,
    view: &StreamView,
    window: Window,
    table: bool,
) -> Result<Course, WebError> {
    let (id, span) = (view.stream.id, (window.from, window.to));
    let most = if table { MOST_ROWS } else { MOST_DRAWN };
    let connection: &Connection = connection;
    let extent = stretches::extent(connection, id, span, MOST_DRAWN + 1).await?;
    let (points, stretches) = if extent.count > MOST_DRAWN && !table {
        try_join!(
            charts::points_between(connection, id, span, MOST_MARKS, true),
            stretches::of(connection, id, span, PARTS, &extent)
        )?
    } else {
        (charts::points_between(connection, id, span, most, false).await?, vec![])
    };
    Ok(Course { points, stretches })
}

/// Everything that a stretch of a chart needs; of many points only strokes and what says something by
/// itself. `table` asks for the newest rows instead.
pub(super) async fn read_window(
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
    baseline: Option<SignedBaseline>,
    events: Vec<(InstrumentEvent, String)>,
    signals: Vec<SignalView>,
    marks: Vec<MarkView>,
    newest: Option<(ResultRow, Verdict)>,
    last: Option<BriefPoint>,
    standing: Standing,
    shape: Option<(Shape, Option<u32>)>,
    over: Option<OverAdjustments>,
    temperature: Option<TemperatureEffect>,
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
            earlier: self.earlier,
            segments: self.segments,
            design: self.design,
            baseline: self.baseline,
            events: self.events,
            signals: self.signals,
            marks: self.marks,
            newest: self.newest,
            last: self.last,
            standing: self.standing,
            shape: self.shape,
            over: self.over,
            temperature: self.temperature,
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
    let own = [view.stream.instrument_id];
    let standings = Standings::read(connection, Of::Instruments(&own), now).await?;
    let connection: &Connection = connection;
    // They travel together: each alone would wait for the answer of the one before.
    let ids = [id];
    let instruments = [view.stream.instrument_id];
    let newest = async {
        let brief = charts::newest_points(connection, &ids).await?;
        let verdict = match brief.first() {
            Some(point) => verdict_of(connection, point.check_id).await?,
            None => None,
        };
        Ok::<_, StoreError>((brief, verdict))
    };
    let around = try_join!(
        newest,
        imports::earlier(connection, &view.stream, At(from), At(now), EARLIER),
        charts::segments_of(connection, id),
        charts::newest_baseline(connection, id),
        registers::events(connection, view.instrument.id),
        signals::list(connection, Which::OfStream(id), MOST_MARKS),
        marks::of_stream(connection, id, from, MOST_MARKS),
        charts::streams_of(connection, &instruments)
    )?;
    let ((brief, newest), earlier, segments, baseline, events, signals, marks, siblings) = around;
    let design = segments.last().map(studies::design_of).transpose()?.flatten();
    let standing = standings.of_chart(&view.instrument.state, &view.stream, brief.first())?;
    let shape = match (segments.last(), &design) {
        (Some(segment), Some(design)) if view.stream.derived.is_none() => {
            shape_of(connection, segment, design, &events, brief.first()).await?
        }
        _ => (None, None),
    };
    let (shape, temperature) = shape;
    let over = if view.stream.derived.is_none() {
        let noted = noted_events(&events);
        let around = around_of(&noted, brief.first());
        over_adjustments(connection, (&view.stream, &view.instrument), &segments, &events, &around)
            .await?
    } else {
        None
    };
    // A forecast belongs to a signal that stands, in the segment that it was told of: after a release or an adjustment
    // it speaks of what is over. It is the verdict's, as on every other screen.
    let of_now = segments.last().zip(brief.first());
    let of_now = of_now.is_some_and(|(segment, point)| segment.opened_at <= point.measured_at);
    let drift = match brief.first() {
        Some(point) if of_now && standing.is_signal() => point.told_drift()?,
        _ => None,
    };
    Ok(Around {
        earlier,
        segments,
        design,
        baseline,
        events,
        signals,
        marks,
        newest,
        last: brief.into_iter().next(),
        standing,
        shape,
        over,
        temperature,
        drift,
        siblings,
        span: (from, now),
    })
}

/// Conditions that the newest check's plan asks for.
pub(super) async fn conditions_of(
    state: &AppState,
    desk: &mut Desk,
    read: &Read,
) -> Result<Conditions, WebError> {
    let Some((newest, _)) = &read.newest else { return Ok(vec![]) };
    if let Some(known) = state.remembered_conditions(newest.plan_version_id) {
        return Ok(known);
    }
    let now = entries::check_now(&desk.connection, newest.check_id).await?;
    let run = open_run::load(state, &mut desk.connection, now).await?;
    let steps = run.way.steps.iter();
    let names: Conditions = steps
        .filter_map(|step| match &step.input {
            Input::Condition { name, unit, .. } => {
                Some((step.key.0.clone(), format!("{name}, {unit}")))
            }
            _ => None,
        })
        .collect();
    state.remember_conditions(newest.plan_version_id, &names);
    Ok(names)
}

/// Moments at which the level of a drift is drawn.
const FAN: usize = 24;

/// Moments at which something happened that may have moved the level.
fn noted_events(events: &[(InstrumentEvent, String)]) -> Vec<Timestamp> {
    let affects = events.iter().filter(|(event, _)| event.affects_measurement);
    affects.map(|(event, _)| event.at.0).collect()
}

fn around_of<'a>(events: &'a [Timestamp], newest: Option<&BriefPoint>) -> ShapeAround<'a> {
    ShapeAround {
        events,
        lower: newest.and_then(|point| point.lower_tolerance_limit),
        upper: newest.and_then(|point| point.upper_tolerance_limit),
        fan: FAN,
    }
}

/// What the newest points of a segment have done, and what a degree does.
async fn shape_of(
    connection: &Connection,
    segment: &Segment,
    design: &ChartDesign,
    events: &[(InstrumentEvent, String)],
    newest: Option<&BriefPoint>,
) -> Result<(Option<(Shape, Option<u32>)>, Option<TemperatureEffect>), WebError> {
    let points = charts::recent_points(connection, segment.id).await?;
    let events = noted_events(events);
    let around = around_of(&events, newest);
    let temperature = match (TemperatureEffect::of_baseline(design, &points), design.estimated) {
        (Some(effect), _) => Some(effect),
        // Its baseline is longer ago than what is looked at.
        (None, Some(from)) if points.first().is_some_and(|first| first.ordinal > 0) => {
            let own = charts::first_points(connection, segment.id, from.points).await?;
            TemperatureEffect::of_baseline(design, &own)
        }
        (None, _) => None,
    };
    // Too few points, or no scatter at all: nothing is said of them.
    let Ok(shape) = segment_shape(design, &points, &around) else { return Ok((None, temperature)) };
    let taken_back = drift_taken_back(design, &points, &around).ok().flatten();
    Ok((Some((shape, taken_back)), temperature))
}
