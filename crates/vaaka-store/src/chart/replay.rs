//! Replaying a chart from its stored points: after a check was voided, amended or entered late,
//! the fold runs again over the segment and comes to the same bits as if it had been so from the
//! start.

use std::collections::{HashMap, HashSet};

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Double, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;
use vaaka_core::chart::{ChartDesign, ChartPoint, ChartState, Levels, PointEvaluation, Scatter};
use vaaka_core::check::PastPoint;

use crate::charts::{interval, slot};
use crate::ids::{CheckId, PointId, SegmentId, StreamId};
use crate::points::{apply_changes, firings_json, spread_lines};
use crate::rows::{Segment, SignalRow, Stream};
use crate::schema::{baselines, chart_points, chart_streams, point_marks, segments, signals};
use crate::types::At;
use crate::{StoreError, signals as signal_work, unreadable};

/// A stored point with what decides whether it counts.
#[derive(Debug, Clone, QueryableByName)]
struct StoredPoint {
    #[diesel(sql_type = BigInt)]
    id: PointId,
    #[diesel(sql_type = BigInt)]
    segment_id: SegmentId,
    #[diesel(sql_type = BigInt)]
    check_id: CheckId,
    #[diesel(sql_type = Timestamptz)]
    measured_at: At,
    #[diesel(sql_type = Double)]
    value: f64,
    /// A point of its charts (`checks.counts`).
    #[diesel(sql_type = Bool)]
    counted: bool,
    /// From paper, and judged at its place when the chart had gone on: it keeps what it was judged by.
    #[diesel(sql_type = Bool)]
    late_place: bool,
    #[diesel(sql_type = Bool)]
    void: bool,
    #[diesel(sql_type = Bool)]
    excluded: bool,
    #[diesel(sql_type = Integer)]
    readings: i32,
    #[diesel(sql_type = Nullable<Double>)]
    std_dev: Option<f64>,
    #[diesel(sql_type = Nullable<Double>)]
    reading_range: Option<f64>,
    #[diesel(sql_type = Nullable<Double>)]
    temperature: Option<f64>,
}

impl StoredPoint {
    fn as_chart_point(&self, made: &HashMap<CheckId, Made>) -> ChartPoint {
        ChartPoint {
            excluded: self.excluded,
            readings: u32::try_from(self.readings).unwrap_or(1),
            scatter: self
                .std_dev
                .zip(self.reading_range)
                .map(|(std_dev, range)| Scatter { std_dev, range }),
            levels: made.get(&self.check_id).and_then(|made| made.levels),
            ..ChartPoint::new(self.measured_at.0, self.value)
        }
    }
}

const POINTS: &str = "SELECT p.id, p.segment_id, p.check_id, p.measured_at, p.value, p.excluded,
        p.readings, p.std_dev, p.reading_range, p.temperature,
        c.state = 'void' AS void,
        c.late_place, c.state = 'concluded' AND c.counts AS counted
    FROM chart_points p
    JOIN checks c ON c.id = p.check_id
    WHERE p.stream_id = $1 ORDER BY p.measured_at, p.id";

/// Replays every segment of a stream that holds a point; the stream's row is locked meanwhile.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn stream(connection: &mut AsyncPgConnection, id: StreamId) -> Result<(), StoreError> {
    let stream: Stream = chart_streams::table
        .find(id)
        .for_no_key_update()
        .select(Stream::as_select())
        .first(connection)
        .await?;
    let made = made_of(connection, &stream).await?;
    let mut points: Vec<StoredPoint> =
        diesel::sql_query(POINTS).bind::<BigInt, _>(id.0).load(connection).await?;
    make_points(connection, &stream, &mut points, &made).await?;
    let all: Vec<Segment> = segments::table
        .filter(segments::stream_id.eq(id))
        .order(segments::ordinal)
        .select(Segment::as_select())
        .load(connection)
        .await?;
    for segment in &all {
        let own: Vec<&StoredPoint> =
            points.iter().filter(|point| point.segment_id == segment.id).collect();
        replay_segment(connection, &stream, segment, &own, &made).await?;
    }
    Ok(())
}

/// What the levels of a check come to on a chart of all levels together.
#[derive(Debug, Clone, Copy, Default)]
struct Made {
    /// The point's value; none where too few levels are left to say.
    value: Option<f64>,
    /// On the chart of all levels: their extremes.
    levels: Option<Levels>,
    /// Whether a level of the check is left out on its own chart.
    some_left_out: bool,
}

#[derive(QueryableByName)]
struct MadeRow {
    #[diesel(sql_type = BigInt)]
    check_id: CheckId,
    #[diesel(sql_type = Array<Double>)]
    nominals: Vec<f64>,
    #[diesel(sql_type = Array<Double>)]
    errors: Vec<f64>,
    #[diesel(sql_type = Array<Nullable<Double>>)]
    standardised: Vec<Option<f64>>,
    #[diesel(sql_type = Array<Bool>)]
    left_out: Vec<bool>,
}

/// Of a chart of offset, gain or all levels: what the levels of each check come to now. A certificate that
/// was put right changes them, and a level that is left out on its own chart takes no part.
async fn made_of(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
) -> Result<HashMap<CheckId, Made>, StoreError> {
    let Some(kind) = stream.derived.as_deref() else { return Ok(HashMap::new()) };
    let rows: Vec<MadeRow> = diesel::sql_query(
        "SELECT p.check_id, array_agg(s.nominal::float8 ORDER BY s.id) AS nominals,
             array_agg(p.value ORDER BY s.id) AS errors,
             array_agg(CASE WHEN p.ordinal IS NOT NULL THEN p.standardised END ORDER BY s.id)
                 AS standardised,
             array_agg(p.excluded ORDER BY s.id) AS left_out
         FROM chart_streams s JOIN chart_points p ON p.stream_id = s.id
         WHERE s.set_up_id = $1 AND s.instrument_id = $2 AND s.method_key = $3
             AND s.derived IS NULL AND s.nominal IS NOT NULL AND s.characteristic_key LIKE 'error%'
         GROUP BY p.check_id",
    )
    .bind::<BigInt, _>(stream.set_up_id.0)
    .bind::<BigInt, _>(stream.instrument_id.0)
    .bind::<Text, _>(&stream.method_key)
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.check_id, row.made(kind))).collect())
}

impl MadeRow {
    fn made(self, kind: &str) -> Made {
        let some_left_out = self.left_out.contains(&true);
        if kind == "levels" {
            let kept = self.standardised.into_iter().zip(self.left_out);
            let kept: Vec<f64> = kept.filter_map(|(z, out)| z.filter(|_| !out)).collect();
            let levels = Levels::of(&kept);
            return Made { value: levels.map(|levels| levels.furthest()), levels, some_left_out };
        }
        let pairs: Vec<(f64, f64)> = self.nominals.into_iter().zip(self.errors).collect();
        let line = vaaka_core::chart::fit_levels_left(&pairs, &self.left_out);
        let value = line.map(|line| if kind == "gain" { line.gain } else { line.offset });
        Made { value, levels: None, some_left_out }
    }
}

/// Marks by which people left points of a stream out and did not take them in again.
#[boxed]
pub(crate) async fn left_out_by_hand(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<HashSet<PointId>, StoreError> {
    let marks: Vec<(PointId, String)> = point_marks::table
        .inner_join(chart_points::table.on(chart_points::id.eq(point_marks::point_id)))
        .filter(chart_points::stream_id.eq(stream))
        .filter(point_marks::kind.ne("comment"))
        .order(point_marks::id)
        .select((point_marks::point_id, point_marks::kind))
        .load(connection)
        .await?;
    let mut out = HashSet::new();
    for (point, kind) in marks {
        if kind == "excluded" {
            out.insert(point)
        } else {
            out.remove(&point)
        };
    }
    Ok(out)
}

/// Gives the points of a chart of all levels what the levels come to now. A check of which too few levels
/// are left is left out with them.
async fn make_points(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    points: &mut [StoredPoint],
    made: &HashMap<CheckId, Made>,
) -> Result<(), StoreError> {
    if stream.derived.is_none() {
        return Ok(());
    }
    let by_hand = left_out_by_hand(connection, stream.id).await?;
    let mut changed: [Vec<PointId>; 2] = [Vec::new(), Vec::new()];
    for point in points {
        let own = made.get(&point.check_id).copied().unwrap_or_default();
        if let Some(value) = own.value {
            point.value = value;
        }
        let out = by_hand.contains(&point.id) || own.some_left_out && own.value.is_none();
        if out != point.excluded {
            point.excluded = out;
            changed[usize::from(out)].push(point.id);
        }
    }
    for (out, ids) in [false, true].into_iter().zip(changed) {
        if !ids.is_empty() {
            diesel::update(chart_points::table.filter(chart_points::id.eq_any(ids)))
                .set(chart_points::excluded.eq(out))
                .execute(connection)
                .await?;
        }
    }
    Ok(())
}

/// The segment that a moment falls into, with the chart as it stood just before it: where a
/// late check is judged.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn slot_before(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    moment: Timestamp,
    except: CheckId,
) -> Result<(Segment, vaaka_core::check::StreamSlot), StoreError> {
    let all: Vec<Segment> = segments::table
        .filter(segments::stream_id.eq(stream.id))
        .filter(segments::settled.is_distinct_from("joined"))
        .order(segments::ordinal.desc())
        .select(Segment::as_select())
        .load(connection)
        .await?;
    let found = all.iter().find(|segment| segment.opened_at.0 <= moment).or_else(|| all.last());
    let segment = found.cloned().ok_or(StoreError::NotFound)?;
    let points: Vec<StoredPoint> =
        diesel::sql_query(POINTS).bind::<BigInt, _>(stream.id.0).load(connection).await?;
    let earlier: Vec<&StoredPoint> = points
        .iter()
        .filter(|point| point.segment_id == segment.id && point.counted)
        .filter(|point| point.measured_at.0 < moment && point.check_id != except)
        .collect();
    let made = made_of(connection, stream).await?;
    let (state, _) = fold(connection, stream, &segment, &earlier, &made).await?;
    let mut at = slot(stream, &segment, Vec::new())?;
    at.recent = earlier
        .iter()
        .zip(0_u64..)
        .filter(|(point, _)| !point.excluded)
        .map(|(point, ordinal)| PastPoint {
            ordinal,
            measured_at: point.measured_at.0,
            value: point.value,
            temperature: point.temperature,
        })
        .collect();
    let surplus = at.recent.len().saturating_sub(vaaka_core::check::DRIFT_WINDOW);
    at.recent.drain(..surplus);
    at.state = state;
    Ok((segment, at))
}

/// The fold over counted points, in their order.
async fn fold(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    segment: &Segment,
    counted: &[&StoredPoint],
    made: &HashMap<CheckId, Made>,
) -> Result<(ChartState, Vec<PointEvaluation>), StoreError> {
    // Points inside the baseline are judged for drawing and raise nothing.
    let baseline_ends: Option<At> = baselines::table
        .filter(baselines::segment_id.eq(segment.id))
        .order((baselines::frozen_at.desc(), baselines::id.desc()))
        .select(baselines::last_at)
        .first(connection)
        .await
        .optional()?;
    let points: Vec<ChartPoint> = counted
        .iter()
        .map(|point| ChartPoint {
            monitored: baseline_ends.is_none_or(|ends| point.measured_at > ends),
            ..point.as_chart_point(made)
        })
        .collect();
    let design: Option<ChartDesign> =
        segment.design.clone().map(serde_json::from_value).transpose().map_err(unreadable)?;
    Ok(match design {
        Some(design) => vaaka_core::chart::evaluate(&design, interval(stream), &points),
        None => {
            let mut state = ChartState::new(interval(stream));
            for point in &points {
                state.push_unjudged(point);
            }
            (state, Vec::new())
        }
    })
}

async fn replay_segment(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    segment: &Segment,
    points: &[&StoredPoint],
    made: &HashMap<CheckId, Made>,
) -> Result<(), StoreError> {
    let counted: Vec<&StoredPoint> = points.iter().copied().filter(|p| p.counted).collect();
    let (state, evaluations) = fold(connection, stream, segment, &counted, made).await?;
    let design: Option<ChartDesign> =
        segment.design.clone().map(serde_json::from_value).transpose().map_err(unreadable)?;
    // What does not count leaves its place before others move.
    let hollow: Vec<&StoredPoint> =
        points.iter().copied().filter(|p| !p.counted && (p.void || !p.late_place)).collect();
    for void in [false, true] {
        let ids: Vec<PointId> = hollow.iter().filter(|p| p.void == void).map(|p| p.id).collect();
        write_hollow(connection, &ids, void).await?;
    }
    let mut raised: Vec<SignalRow> = Vec::new();
    write_points(connection, design.as_ref(), &counted, &evaluations).await?;
    for (point, evaluation) in counted.iter().zip(&evaluations) {
        let (id, at) = (segment.id, point.measured_at.0);
        let ordinal = evaluation.ordinal;
        apply_changes(&mut raised, evaluation.changes(), stream.id, id, ordinal, at)?;
    }
    diesel::update(segments::table.find(segment.id))
        .set(segments::state.eq(serde_json::to_value(&state).map_err(unreadable)?))
        .execute(connection)
        .await?;
    write_signals(connection, segment.id, raised).await
}

/// All points of a segment in one statement: a year of shifts has a thousand, and ten have eleven. Those to
/// which nothing is new, bit by bit, are not written.
async fn write_points(
    connection: &mut AsyncPgConnection,
    design: Option<&ChartDesign>,
    counted: &[&StoredPoint],
    evaluations: &[PointEvaluation],
) -> Result<(), StoreError> {
    let of = |index: usize| evaluations.get(index);
    let column = |value: &dyn Fn(&PointEvaluation) -> f64| -> Vec<Option<f64>> {
        (0..counted.len()).map(|index| of(index).map(value).filter(|v| v.is_finite())).collect()
    };
    let spread: Vec<_> = counted
        .iter()
        .map(|point| spread_lines(design, u32::try_from(point.readings).unwrap_or(1)))
        .collect();
    let json = |firings: &dyn Fn(&PointEvaluation) -> &[vaaka_core::chart::Firing]| {
        (0..counted.len())
            .map(|index| firings_json(of(index).map_or(&[], firings)))
            .collect::<Result<Vec<serde_json::Value>, StoreError>>()
    };
    let flags = |flag: &dyn Fn(&PointEvaluation) -> bool| -> Vec<bool> {
        (0..counted.len()).map(|index| of(index).is_some_and(flag)).collect()
    };
    diesel::sql_query(
        "UPDATE chart_points p SET ordinal = n.ordinal - 1, value = n.value,
             center_line = n.center_line, lower_control_limit = n.lower,
             upper_control_limit = n.upper, ewma = n.ewma, ewma_half_width = n.half,
             standardised = n.standardised, cusum_above = n.above, cusum_below = n.below,
             lower_spread_limit = n.spread_lower, upper_spread_limit = n.spread_upper,
             firings = n.firings, advisory = n.advisory, provisional = n.provisional,
             signalled = n.signalled, withdrawn = false
         FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)
             WITH ORDINALITY AS n(id, value, center_line, lower, upper, ewma, half, standardised,
                 above, below, spread_lower, spread_upper, firings, advisory, provisional,
                 signalled, ordinal)
         WHERE p.id = n.id AND record_image_ne(ROW(p.ordinal, p.value, p.center_line, p.lower_control_limit,
             p.upper_control_limit, p.ewma, p.ewma_half_width, p.standardised, p.cusum_above,
             p.cusum_below, p.lower_spread_limit, p.upper_spread_limit, p.firings, p.advisory,
             p.provisional, p.signalled, p.withdrawn), ROW(n.ordinal - 1, n.value,
             n.center_line, n.lower, n.upper, n.ewma, n.half, n.standardised, n.above, n.below,
             n.spread_lower, n.spread_upper, n.firings, n.advisory, n.provisional, n.signalled,
             false))",
    )
    .bind::<Array<BigInt>, _>(counted.iter().map(|point| point.id.0).collect::<Vec<i64>>())
    .bind::<Array<Double>, _>(counted.iter().map(|point| point.value).collect::<Vec<f64>>())
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.center_line))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.lower_control_limit))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.upper_control_limit))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.ewma))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.ewma_half_width))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.standardised))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.cusum.0))
    .bind::<Array<Nullable<Double>>, _>(column(&|e| e.cusum.1))
    .bind::<Array<Nullable<Double>>, _>(
        spread.iter().map(|lines| lines.map(|lines| lines.lower)).collect::<Vec<_>>(),
    )
    .bind::<Array<Nullable<Double>>, _>(
        spread.iter().map(|lines| lines.map(|lines| lines.upper)).collect::<Vec<_>>(),
    )
    .bind::<Array<Jsonb>, _>(json(&|e| e.firings())?)
    .bind::<Array<Jsonb>, _>(json(&|e| e.advisory())?)
    .bind::<Array<Bool>, _>(flags(&|e| e.provisional))
    .bind::<Array<Bool>, _>(flags(&|e| !e.changes().is_empty()))
    .execute(connection)
    .await?;
    Ok(())
}

/// A mark that is drawn and not counted has no limits, watcher or firings of its own.
async fn write_hollow(
    connection: &mut AsyncPgConnection,
    ids: &[PointId],
    void: bool,
) -> Result<(), StoreError> {
    if ids.is_empty() {
        return Ok(());
    }
    let none = serde_json::json!([]);
    diesel::update(chart_points::table.filter(chart_points::id.eq_any(ids)))
        .set((
            chart_points::ordinal.eq(None::<i64>),
            chart_points::withdrawn.eq(void),
            chart_points::center_line.eq(None::<f64>),
            chart_points::lower_control_limit.eq(None::<f64>),
            chart_points::upper_control_limit.eq(None::<f64>),
            chart_points::ewma.eq(None::<f64>),
            chart_points::ewma_half_width.eq(None::<f64>),
            chart_points::provisional.eq(false),
            chart_points::firings.eq(none.clone()),
            chart_points::advisory.eq(none),
            chart_points::signalled.eq(false),
            chart_points::standardised.eq(None::<f64>),
            chart_points::cusum_above.eq(None::<f64>),
            chart_points::cusum_below.eq(None::<f64>),
        ))
        .execute(connection)
        .await?;
    Ok(())
}

/// Signals that are raised no more are withdrawn, not deleted; those that are keep their state.
async fn write_signals(
    connection: &mut AsyncPgConnection,
    segment: SegmentId,
    raised: Vec<SignalRow>,
) -> Result<(), StoreError> {
    let known = signal_work::of_segment(connection, segment).await?;
    diesel::update(signals::table.filter(signals::segment_id.eq(segment)))
        .set(signals::state.eq("withdrawn"))
        .execute(connection)
        .await?;
    signal_work::write(connection, &known, raised).await
}

/// Replays the charts on which a run of a shift has a point: a void one may hand its rank to another.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_shift(
    connection: &mut AsyncPgConnection,
    plan: crate::ids::PlanId,
    shift: crate::ids::ShiftId,
) -> Result<(), StoreError> {
    use crate::schema::{checks, plan_versions};
    let streams: Vec<StreamId> = chart_points::table
        .inner_join(checks::table.inner_join(plan_versions::table))
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::shift_instance_id.eq(shift))
        .order(chart_points::stream_id)
        .select(chart_points::stream_id)
        .distinct()
        .load(connection)
        .await?;
    these(connection, streams).await
}

/// Replays these charts, and then those of all levels together that are made of them.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn these(
    connection: &mut AsyncPgConnection,
    ids: Vec<StreamId>,
) -> Result<(), StoreError> {
    let derived: Vec<StreamId> = diesel::sql_query(
        "SELECT DISTINCT d.id FROM chart_streams s JOIN chart_streams d
             ON d.set_up_id = s.set_up_id AND d.instrument_id = s.instrument_id
                 AND d.method_key = s.method_key AND d.derived IS NOT NULL
         WHERE s.id = ANY($1) ORDER BY d.id",
    )
    .bind::<Array<BigInt>, _>(ids.iter().map(|id| id.0).collect::<Vec<i64>>())
    .load::<FoundStream>(connection)
    .await?
    .into_iter()
    .map(|row| row.id)
    .collect();
    for id in ids.into_iter().filter(|id| !derived.contains(id)) {
        stream(connection, id).await?;
    }
    for id in derived {
        stream(connection, id).await?;
    }
    Ok(())
}

#[derive(QueryableByName)]
struct FoundStream {
    #[diesel(sql_type = BigInt)]
    id: StreamId,
}
