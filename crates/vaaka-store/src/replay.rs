//! Replaying a chart from its stored points: after a check was voided, amended or entered late,
//! the fold runs again over the segment and comes to the same bits as if it had been so from the
//! start.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Double, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_core::chart::{ChartDesign, ChartPoint, ChartState, Levels, PointEvaluation, Scatter};
use vaaka_core::check::PastPoint;

use crate::charts::{interval, slot};
use crate::conclude::{apply_changes, firings_json, spread_lines};
use crate::ids::{CheckId, PointId, SegmentId, StreamId};
use crate::rows::{Segment, SignalRow, Stream};
use crate::schema::{baselines, chart_points, chart_streams, segments, signals};
use crate::types::At;
use crate::{StoreError, unreadable};

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
    /// The first valid as-found run of its plan in its shift.
    #[diesel(sql_type = Bool)]
    counted: bool,
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
}

impl StoredPoint {
    fn as_chart_point(&self, levels: &HashMap<CheckId, Levels>) -> ChartPoint {
        ChartPoint {
            excluded: self.excluded,
            readings: u32::try_from(self.readings).unwrap_or(1),
            scatter: self
                .std_dev
                .zip(self.reading_range)
                .map(|(std_dev, range)| Scatter { std_dev, range }),
            levels: levels.get(&self.check_id).copied(),
            ..ChartPoint::new(self.measured_at.0, self.value)
        }
    }
}

const POINTS: &str = "SELECT p.id, p.segment_id, p.check_id, p.measured_at, p.value, p.excluded,
        p.readings, p.std_dev, p.reading_range,
        c.state = 'void' AS void,
        c.state = 'concluded' AND c.purpose = 'as_found' AND row_number() OVER (
            PARTITION BY v.plan_id, c.shift_instance_id,
                c.state = 'concluded' AND c.purpose = 'as_found'
            ORDER BY p.measured_at, p.id) = 1 AS counted
    FROM chart_points p
    JOIN checks c ON c.id = p.check_id
    JOIN plan_versions v ON v.id = c.plan_version_id
    WHERE p.stream_id = $1 ORDER BY p.measured_at, p.id";

/// Replays every segment of a stream that holds a point; the stream's row is locked meanwhile.
///
/// # Errors
/// [`StoreError`].
pub async fn stream(connection: &mut AsyncPgConnection, id: StreamId) -> Result<(), StoreError> {
    let stream: Stream = chart_streams::table
        .find(id)
        .for_no_key_update()
        .select(Stream::as_select())
        .first(connection)
        .await?;
    let levels = levels_of(connection, &stream).await?;
    let mut points: Vec<StoredPoint> =
        diesel::sql_query(POINTS).bind::<BigInt, _>(id.0).load(connection).await?;
    let lines = lines_of(connection, &stream).await?;
    for point in &mut points {
        if let Some(levels) = levels.get(&point.check_id) {
            point.value = levels.furthest();
        }
        if let Some(value) = lines.get(&point.check_id) {
            point.value = *value;
        }
    }
    let all: Vec<Segment> = segments::table
        .filter(segments::stream_id.eq(id))
        .order(segments::ordinal)
        .select(Segment::as_select())
        .load(connection)
        .await?;
    for segment in &all {
        let own: Vec<&StoredPoint> =
            points.iter().filter(|point| point.segment_id == segment.id).collect();
        replay_segment(connection, &stream, segment, &own, &levels).await?;
    }
    Ok(())
}

#[derive(QueryableByName)]
struct LevelRow {
    #[diesel(sql_type = BigInt)]
    check_id: CheckId,
    #[diesel(sql_type = Array<Double>)]
    standardised: Vec<f64>,
}

#[derive(QueryableByName)]
struct LineRow {
    #[diesel(sql_type = BigInt)]
    check_id: CheckId,
    #[diesel(sql_type = Array<Double>)]
    nominals: Vec<f64>,
    #[diesel(sql_type = Array<Double>)]
    errors: Vec<f64>,
}

/// Of a chart of offset or gain: what the errors of each check come to now. A certificate that was put
/// right changes them.
async fn lines_of(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
) -> Result<HashMap<CheckId, f64>, StoreError> {
    let gain = match stream.derived.as_deref() {
        Some("offset") => false,
        Some("gain") => true,
        _ => return Ok(HashMap::new()),
    };
    let rows: Vec<LineRow> = diesel::sql_query(
        "SELECT p.check_id, array_agg(s.nominal::float8 ORDER BY s.id) AS nominals,
             array_agg(p.value ORDER BY s.id) AS errors
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
    Ok(rows
        .into_iter()
        .filter_map(|row| {
            let pairs: Vec<(f64, f64)> = row.nominals.into_iter().zip(row.errors).collect();
            let line = vaaka_core::chart::fit_levels(&pairs)?;
            Some((row.check_id, if gain { line.gain } else { line.offset }))
        })
        .collect())
}

/// Of the chart of all levels together: what the other charts say of each check now.
async fn levels_of(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
) -> Result<HashMap<CheckId, Levels>, StoreError> {
    if stream.derived.as_deref() != Some("levels") {
        return Ok(HashMap::new());
    }
    let rows: Vec<LevelRow> = diesel::sql_query(
        "SELECT p.check_id, array_agg(p.standardised ORDER BY s.id) AS standardised
         FROM chart_streams s JOIN chart_points p ON p.stream_id = s.id
         WHERE s.set_up_id = $1 AND s.instrument_id = $2 AND s.method_key = $3
             AND s.derived IS NULL AND s.nominal IS NOT NULL AND s.characteristic_key LIKE 'error%'
             AND p.standardised IS NOT NULL AND p.ordinal IS NOT NULL
         GROUP BY p.check_id",
    )
    .bind::<BigInt, _>(stream.set_up_id.0)
    .bind::<BigInt, _>(stream.instrument_id.0)
    .bind::<Text, _>(&stream.method_key)
    .load(connection)
    .await?;
    Ok(rows
        .into_iter()
        .filter_map(|row| Some((row.check_id, Levels::of(&row.standardised)?)))
        .collect())
}

/// The segment that a moment falls into, with the chart as it stood just before it: where a
/// late check is judged.
///
/// # Errors
/// [`StoreError`].
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
    let levels = levels_of(connection, stream).await?;
    let (state, _) = fold(connection, stream, &segment, &earlier, &levels).await?;
    let mut at = slot(stream, &segment, Vec::new())?;
    at.recent = earlier
        .iter()
        .zip(0_u64..)
        .filter(|(point, _)| !point.excluded)
        .map(|(point, ordinal)| PastPoint {
            ordinal,
            measured_at: point.measured_at.0,
            value: point.value,
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
    levels: &HashMap<CheckId, Levels>,
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
            ..point.as_chart_point(levels)
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
    levels: &HashMap<CheckId, Levels>,
) -> Result<(), StoreError> {
    let counted: Vec<&StoredPoint> = points.iter().copied().filter(|p| p.counted).collect();
    let (state, evaluations) = fold(connection, stream, segment, &counted, levels).await?;
    let design: Option<ChartDesign> =
        segment.design.clone().map(serde_json::from_value).transpose().map_err(unreadable)?;
    // Places move: all leave theirs before any takes a new one, since no two may share one.
    diesel::update(chart_points::table.filter(chart_points::segment_id.eq(segment.id)))
        .set((chart_points::ordinal.eq(None::<i64>), chart_points::withdrawn.eq(false)))
        .execute(connection)
        .await?;
    let void: Vec<PointId> = points.iter().filter(|p| p.void).map(|p| p.id).collect();
    diesel::update(chart_points::table.filter(chart_points::id.eq_any(void)))
        .set(chart_points::withdrawn.eq(true))
        .execute(connection)
        .await?;
    let mut raised: Vec<SignalRow> = Vec::new();
    write_points(connection, design.as_ref(), &counted, &evaluations).await?;
    for (point, evaluation) in counted.iter().zip(&evaluations) {
        let (id, at) = (segment.id, point.measured_at.0);
        let ordinal = evaluation.ordinal;
        apply_changes(&mut raised, evaluation.changes(), stream.id, id, ordinal, at)?;
    }
    let hollow: Vec<PointId> = points.iter().filter(|p| !p.counted).map(|p| p.id).collect();
    write_hollow(connection, &hollow).await?;
    diesel::update(segments::table.find(segment.id))
        .set(segments::state.eq(serde_json::to_value(&state).map_err(unreadable)?))
        .execute(connection)
        .await?;
    write_signals(connection, segment.id, raised).await
}

/// All points of a segment in one statement: a year of shifts has a thousand, and ten have eleven.
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
             signalled = n.signalled
         FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)
             WITH ORDINALITY AS n(id, value, center_line, lower, upper, ewma, half, standardised,
                 above, below, spread_lower, spread_upper, firings, advisory, provisional,
                 signalled, ordinal)
         WHERE p.id = n.id",
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
) -> Result<(), StoreError> {
    let none = serde_json::json!([]);
    diesel::update(chart_points::table.filter(chart_points::id.eq_any(ids)))
        .set((
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
    let known: Vec<SignalRow> = signals::table
        .filter(signals::segment_id.eq(segment))
        .select(SignalRow::as_select())
        .load(connection)
        .await?;
    let states: HashMap<(Option<String>, i64), String> = known
        .iter()
        .map(|row| ((row.side.clone(), row.opened_ordinal), row.state.clone()))
        .collect();
    diesel::update(signals::table.filter(signals::segment_id.eq(segment)))
        .set(signals::state.eq("withdrawn"))
        .execute(connection)
        .await?;
    for mut row in raised {
        let before = states.get(&(row.side.clone(), row.opened_ordinal));
        // What people did about it stands; one that had been withdrawn begins anew.
        if let Some(state) = before.filter(|state| state.as_str() != "withdrawn") {
            row.state.clone_from(state);
        }
        diesel::insert_into(signals::table)
            .values(&row)
            .on_conflict((signals::segment_id, signals::side, signals::opened_ordinal))
            .do_update()
            .set((
                signals::opened_at.eq(row.opened_at),
                signals::last_evidence_at.eq(row.last_evidence_at),
                signals::evidence.eq(row.evidence),
                signals::state.eq(&row.state),
            ))
            .execute(connection)
            .await?;
    }
    Ok(())
}

/// Replays the charts that a check has a point on.
///
/// # Errors
/// [`StoreError`].
pub async fn charts_of(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<(), StoreError> {
    let streams: Vec<StreamId> = chart_points::table
        .filter(chart_points::check_id.eq(check))
        .order(chart_points::stream_id)
        .select(chart_points::stream_id)
        .load(connection)
        .await?;
    these(connection, streams).await
}

/// Replays these charts, and then those of all levels together that are made of them.
///
/// # Errors
/// [`StoreError`].
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
