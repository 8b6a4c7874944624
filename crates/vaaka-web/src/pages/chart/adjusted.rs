//! What an instrument has done over its adjustments: each takes the level back, and the drift goes on.

use jiff::Timestamp;
use rust_decimal::Decimal;
use vaaka_core::adjustment::{AppliedCorrection, Correction};
use vaaka_core::chart::ChartDesign;
use vaaka_core::check::{PastPoint, ShapeAround, shape_over_adjustments};
use vaaka_core::history::Shape;
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_store::rows::{Instrument, InstrumentEvent, Segment, Stream};
use vaaka_store::{Connection, charts, studies};

use crate::error::WebError;

/// Adjustments of a chart, by what each did to its errors. Where the amount was not noted, it is as left less as found, each
/// with the scatter of a check.
pub(super) fn corrections(
    stream: &Stream,
    instrument: &Instrument,
    events: &[(InstrumentEvent, String)],
    points: &[(Timestamp, f64)],
    check_std_dev: f64,
) -> Vec<AppliedCorrection> {
    let Ok(unit) = stream.unit.parse::<Unit>() else { return vec![] };
    let convert = |value: Decimal, from: &str| {
        let from = from.parse::<Unit>().ok()?;
        from.try_convert(value, unit).ok().map(to_f64)
    };
    let nominal = stream.nominal.and_then(|value| convert(value, &instrument.unit)).unwrap_or(0.0);
    let value_near = |at: Timestamp, before: bool| {
        let mut found = points.iter().filter(|(time, _)| before == (*time <= at));
        if before { found.next_back() } else { found.next() }.map(|(_, value)| *value)
    };
    let mut found: Vec<AppliedCorrection> = events
        .iter()
        .filter(|(event, _)| event.kind == "adjusted")
        .filter_map(|(event, _)| {
            let at = event.at.0;
            let gain = event.applied_gain.map_or(0.0, to_f64);
            match (event.applied_correction, &event.unit) {
                (Some(amount), Some(of)) => {
                    let correction = Correction { offset: convert(amount, of)?, gain };
                    Some(AppliedCorrection::known(at, correction, nominal))
                }
                _ => {
                    let (found, left) = (value_near(at, true)?, value_near(at, false)?);
                    Some(AppliedCorrection::between(at, found, left, check_std_dev))
                }
            }
        })
        .collect();
    found.sort_by_key(|one| one.at);
    found
}

/// What an instrument has done over its adjustments.
pub(in crate::pages) struct OverAdjustments {
    /// How many there were since the baseline.
    pub count: usize,
    /// The shape.
    pub shape: Shape,
}

/// Segments that go on from a baseline, each begun by an adjustment: as many of the newest as do, with the one of the
/// baseline first.
fn chain<'a>(segments: &'a [Segment], events: &[(InstrumentEvent, String)]) -> &'a [Segment] {
    let by_adjustment = |segment: &Segment| {
        let event = segment.event_id.and_then(|id| events.iter().find(|(event, _)| event.id == id));
        event.is_some_and(|(event, _)| event.kind == "adjusted")
    };
    let adjusted = segments.iter().rev().take_while(|segment| by_adjustment(segment)).count();
    &segments[segments.len().saturating_sub(adjusted + 1)..]
}

/// Looks over the adjustments since the last baseline; none where nobody adjusted since, or nothing can be said.
pub(super) async fn over_adjustments(
    connection: &Connection,
    (stream, instrument): (&Stream, &Instrument),
    segments: &[Segment],
    events: &[(InstrumentEvent, String)],
    around: &ShapeAround<'_>,
) -> Result<Option<OverAdjustments>, WebError> {
    let open: Vec<Segment> =
        segments.iter().filter(|one| one.settled.as_deref() != Some("joined")).cloned().collect();
    let [first, rest @ ..] = chain(&open, events) else { return Ok(None) };
    let design: Option<ChartDesign> = studies::design_of(first)?;
    let Some(design) = design.filter(|design| !rest.is_empty() && design.is_statistical()) else {
        return Ok(None);
    };
    let mut points: Vec<PastPoint> = Vec::new();
    for segment in std::iter::once(first).chain(rest) {
        // Places go on counting over the segments: those of the baseline are the first one's.
        let next = points.last().map_or(0, |last| last.ordinal + 1);
        let own = charts::recent_points(connection, segment.id).await?;
        points
            .extend(own.into_iter().map(|past| PastPoint { ordinal: next + past.ordinal, ..past }));
    }
    let values: Vec<(Timestamp, f64)> =
        points.iter().map(|past| (past.measured_at, past.value)).collect();
    // Those that began these segments: an adjustment of another cell moved nothing here.
    let own: Vec<(InstrumentEvent, String)> = events
        .iter()
        .filter(|(event, _)| rest.iter().any(|segment| segment.event_id == Some(event.id)))
        .cloned()
        .collect();
    let made = corrections(stream, instrument, &own, &values, design.sigma);
    if made.is_empty() {
        return Ok(None);
    }
    let count = made.len();
    let found = shape_over_adjustments(&design, &points, &made, around);
    Ok(found.ok().map(|shape| OverAdjustments { count, shape }))
}
