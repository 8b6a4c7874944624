//! The charts of the demo world while its history is being made: the same fold as live, with
//! the rows kept in memory.

use jiff::{SignedDuration, Timestamp};
use vaaka_core::chart::{ChartPoint, ChartState, SigmaSource};
use vaaka_core::check::{Completion, DRIFT_WINDOW, PastPoint, StreamSlot, freeze_baseline};
use vaaka_core::instrument::in_cell;
use vaaka_core::judgement::{Characteristic, CharacteristicKind, ConformityResult};
use vaaka_store::conclude::point_row;
use vaaka_store::ids::{EventId, InstrumentId, PersonId, SegmentId, SetUpId, StreamId};
use vaaka_store::points::{apply_changes, firings_json};
use vaaka_store::rows::{Baseline, Check, Segment, Stream};
use vaaka_store::{At, to_word};

use super::World;
use crate::AppError;

/// One stream under way.
#[derive(Debug)]
pub struct Book {
    stream: StreamId,
    segment: usize,
    /// Chart of the segment.
    pub slot: StreamSlot,
    /// Counted points of the segment, each with its index in the world's points.
    series: Vec<(usize, ChartPoint)>,
    resolution: f64,
    /// Usual time between two points.
    interval: SignedDuration,
    /// Whether nothing certifies what it shows.
    is_indication: bool,
}

fn fault(error: impl std::fmt::Display) -> AppError {
    AppError::Demo(error.to_string())
}

fn json(value: &impl serde::Serialize) -> Result<serde_json::Value, AppError> {
    serde_json::to_value(value).map_err(fault)
}

impl Book {
    /// Opens a stream for a characteristic.
    pub fn open(
        world: &mut World,
        (instrument, set_up, cell): (InstrumentId, SetUpId, Option<&str>),
        method_key: &str,
        characteristic: &Characteristic,
        (resolution, interval): (f64, SignedDuration),
        at: Timestamp,
    ) -> Result<Self, AppError> {
        let stream = StreamId(next(world.streams.len()));
        world.streams.push(Stream {
            id: stream,
            instrument_id: instrument,
            set_up_id: set_up,
            method_key: method_key.to_owned(),
            characteristic_key: characteristic.key.clone(),
            label: in_cell(&characteristic.label, cell),
            nominal: characteristic.nominal,
            unit: characteristic.unit.symbol().to_owned(),
            decimals: i32::try_from(characteristic.mean_decimals()).map_err(fault)?,
            interval_seconds: interval.as_secs(),
            derived: None,
            ended_at: None,
            is_indication: (characteristic.kind == CharacteristicKind::Indication).then_some(true),
        });
        let state = ChartState::new(interval);
        let slot = StreamSlot {
            key: characteristic.key.clone(),
            design: None,
            sigma_source: None,
            state,
            recent: Vec::new(),
        };
        let is_indication = characteristic.kind == CharacteristicKind::Indication;
        let mut book = Self {
            stream,
            segment: 0,
            slot,
            series: Vec::new(),
            resolution,
            interval,
            is_indication,
        };
        book.push_segment(world, 1, "first checks", None, at)?;
        Ok(book)
    }

    fn push_segment(
        &mut self,
        world: &mut World,
        ordinal: i32,
        cause: &str,
        event: Option<EventId>,
        at: Timestamp,
    ) -> Result<(), AppError> {
        self.segment = world.segments.len();
        self.series.clear();
        self.slot.recent.clear();
        self.slot.state = ChartState::new(self.interval);
        world.segments.push(Segment {
            id: SegmentId(next(world.segments.len())),
            stream_id: self.stream,
            ordinal,
            opened_at: At(at),
            cause: cause.to_owned(),
            event_id: event,
            design: self.slot.design.as_ref().map(json).transpose()?,
            sigma_source: self.slot.sigma_source.as_ref().map(to_word).transpose()?,
            state: json(&self.slot.state)?,
            settled: None,
            settled_by: None,
            settled_at: None,
            settled_reason: String::new(),
        });
        Ok(())
    }

    /// A new segment after an adjustment or a move: sigma is kept, the level is provisional.
    pub fn new_segment(
        &mut self,
        world: &mut World,
        cause: &str,
        event: EventId,
        at: Timestamp,
    ) -> Result<(), AppError> {
        let ordinal = world.segments[self.segment].ordinal + 1;
        // What nothing certifies has no target to come back to: its level begins anew, unknown.
        let known = self.slot.design.as_ref().filter(|_| !self.is_indication);
        self.slot.design = known.map(|design| design.after_adjustment(0.0));
        self.push_segment(world, ordinal, cause, Some(event), at)
    }

    /// Takes the point that a check brings.
    pub fn take(
        &mut self,
        world: &mut World,
        check: &Check,
        completion: &Completion,
        judged: &(Characteristic, ConformityResult),
        at: Timestamp,
    ) -> Result<(), AppError> {
        let Some(point) = completion.points.iter().find(|point| point.key == self.slot.key) else {
            return Ok(());
        };
        let segment = world.segments[self.segment].id;
        let design = self.slot.design.as_ref();
        let row = point_row(point, self.stream, segment, check, Some(judged), design, at)?;
        let index = world.points.len();
        world.points.push(row);
        let Some(ordinal) = point.ordinal else {
            return Ok(());
        };
        self.slot.state = point.state.clone();
        self.series.push((
            index,
            ChartPoint {
                readings: point.readings,
                scatter: point.scatter,
                ..ChartPoint::new(at, point.value)
            },
        ));
        self.slot.recent.push(PastPoint {
            ordinal,
            measured_at: at,
            value: point.value,
            temperature: point.temperature,
        });
        if self.slot.recent.len() > DRIFT_WINDOW {
            self.slot.recent.remove(0);
        }
        if let Some(evaluation) = &point.evaluation {
            apply_changes(
                &mut world.signals,
                evaluation.changes(),
                self.stream,
                segment,
                ordinal,
                at,
            )?;
        }
        world.segments[self.segment].state = json(&self.slot.state)?;
        Ok(())
    }

    /// Number of counted points in the segment.
    pub fn points(&self) -> usize {
        self.series.len()
    }

    /// Freezes limits from the points of the segment so far and replays them under these.
    pub fn freeze(
        &mut self,
        world: &mut World,
        by: PersonId,
        at: Timestamp,
        reason: &str,
    ) -> Result<(), AppError> {
        let points: Vec<ChartPoint> = self.series.iter().map(|(_, point)| *point).collect();
        let frozen = freeze_baseline(&points, points.len(), self.interval, self.resolution)
            .map_err(fault)?;
        for ((index, point), evaluation) in self.series.iter().zip(&frozen.evaluations) {
            let row = &mut world.points[*index];
            row.center_line = Some(evaluation.center_line);
            row.lower_control_limit = Some(evaluation.lower_control_limit);
            row.upper_control_limit = Some(evaluation.upper_control_limit);
            row.ewma = Some(evaluation.ewma);
            row.ewma_half_width = Some(evaluation.ewma_half_width);
            row.provisional = false;
            row.firings = firings_json(evaluation.firings())?;
            row.advisory = firings_json(evaluation.advisory())?;
            row.signalled = false;
            row.standardised = Some(evaluation.standardised);
            row.cusum_above = Some(evaluation.cusum.0);
            row.cusum_below = Some(evaluation.cusum.1);
            let lines = frozen.design.spread.and_then(|spread| spread.lines(point.readings));
            row.lower_spread_limit = lines.map(|lines| lines.lower);
            row.upper_spread_limit = lines.map(|lines| lines.upper);
        }
        let limits = frozen.study.limits;
        let segment = &mut world.segments[self.segment];
        world.baselines.push(Baseline {
            segment_id: segment.id,
            name: format!("Baseline of {} shifts", frozen.study.points),
            first_at: At(points.first().map_or(at, |point| point.measured_at)),
            last_at: At(points.last().map_or(at, |point| point.measured_at)),
            points: i32::try_from(frozen.study.points).map_err(fault)?,
            center_line: limits.center_line,
            lower_control_limit: limits.lower_control_limit,
            upper_control_limit: limits.upper_control_limit,
            sigma: limits.sigma,
            multiplier: limits.multiplier,
            sigma_source: to_word::<SigmaSource>(&limits.sigma_source)?,
            mean_moving_range: frozen.study.mean_moving_range,
            frozen_by: by,
            frozen_at: At(at),
            reason: reason.to_owned(),
            basis: "baseline".to_owned(),
            excluded: 0,
            review_due_at: at.checked_add(SignedDuration::from_hours(24 * 365)).ok().map(At),
            shown: serde_json::json!([]),
            countersigned_by: None,
            countersigned_reason: None,
            alone: false,
        });
        segment.design = Some(json(&frozen.design)?);
        segment.sigma_source = Some(to_word(&limits.sigma_source)?);
        segment.state = json(&frozen.state)?;
        self.slot.design = Some(frozen.design);
        self.slot.sigma_source = Some(limits.sigma_source);
        self.slot.state = frozen.state;
        Ok(())
    }
}

/// The next id of a table whose ids begin at 1.
pub fn next(length: usize) -> i64 {
    i64::try_from(length).unwrap_or(i64::MAX - 1) + 1
}
