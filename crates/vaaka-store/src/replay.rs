//! Replaying a chart from its stored points: after a check was voided, amended or entered late,
//! the fold runs again over the segment and comes to the same bits as if it had been so from the
//! start.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Double, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_core::chart::{ChartDesign, ChartPoint, ChartState, PointEvaluation};
use vaaka_core::check::PastPoint;

use crate::charts::{interval, slot};
use crate::conclude::apply_changes;
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
}

const POINTS: &str = "SELECT p.id, p.segment_id, p.check_id, p.measured_at, p.value,
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
    let points: Vec<StoredPoint> =
        diesel::sql_query(POINTS).bind::<BigInt, _>(id.0).load(connection).await?;
    let all: Vec<Segment> = segments::table
        .filter(segments::stream_id.eq(id))
        .order(segments::ordinal)
        .select(Segment::as_select())
        .load(connection)
        .await?;
    for segment in &all {
        let own: Vec<&StoredPoint> =
            points.iter().filter(|point| point.segment_id == segment.id).collect();
        replay_segment(connection, &stream, segment, &own).await?;
    }
    Ok(())
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
    let (state, _) = fold(connection, stream, &segment, &earlier).await?;
    let mut at = slot(stream, &segment, Vec::new())?;
    at.recent = earlier
        .iter()
        .zip(0_u64..)
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
) -> Result<(ChartState, Vec<PointEvaluation>), StoreError> {
    // Points inside the baseline are judged for drawing and raise nothing.
    let baseline_ends: Option<At> = baselines::table
        .filter(baselines::segment_id.eq(segment.id))
        .order(baselines::frozen_at.desc())
        .select(baselines::last_at)
        .first(connection)
        .await
        .optional()?;
    let points: Vec<ChartPoint> = counted
        .iter()
        .map(|point| ChartPoint {
            measured_at: point.measured_at.0,
            value: point.value,
            excluded: false,
            monitored: baseline_ends.is_none_or(|ends| point.measured_at > ends),
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
) -> Result<(), StoreError> {
    let counted: Vec<&StoredPoint> = points.iter().copied().filter(|p| p.counted).collect();
    let (state, evaluations) = fold(connection, stream, segment, &counted).await?;
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
    for (index, point) in counted.iter().enumerate() {
        let evaluation = evaluations.get(index);
        write_point(connection, point.id, index, evaluation).await?;
        if let Some(evaluation) = evaluation {
            apply_changes(
                &mut raised,
                &evaluation.changes,
                stream.id,
                segment.id,
                evaluation.ordinal,
                point.measured_at.0,
            )?;
        }
    }
    for point in points.iter().filter(|point| !point.counted) {
        write_hollow(connection, point.id).await?;
    }
    diesel::update(segments::table.find(segment.id))
        .set(segments::state.eq(serde_json::to_value(&state).map_err(unreadable)?))
        .execute(connection)
        .await?;
    write_signals(connection, segment.id, raised).await
}

async fn write_point(
    connection: &mut AsyncPgConnection,
    id: PointId,
    index: usize,
    evaluation: Option<&PointEvaluation>,
) -> Result<(), StoreError> {
    let json = |firings: Option<&Vec<vaaka_core::chart::Firing>>| {
        serde_json::to_value(firings.map_or(&[][..], Vec::as_slice)).map_err(unreadable)
    };
    diesel::update(chart_points::table.find(id))
        .set((
            chart_points::ordinal.eq(Some(i64::try_from(index).map_err(unreadable)?)),
            chart_points::center_line.eq(evaluation.map(|e| e.center_line)),
            chart_points::lower_control_limit.eq(evaluation.map(|e| e.lower_control_limit)),
            chart_points::upper_control_limit.eq(evaluation.map(|e| e.upper_control_limit)),
            chart_points::ewma.eq(evaluation.map(|e| e.ewma)),
            chart_points::ewma_half_width.eq(evaluation.map(|e| e.ewma_half_width)),
            chart_points::provisional.eq(evaluation.is_some_and(|e| e.provisional)),
            chart_points::firings.eq(json(evaluation.map(|e| &e.firings))?),
            chart_points::advisory.eq(json(evaluation.map(|e| &e.advisory))?),
            chart_points::signalled.eq(evaluation.is_some_and(|e| !e.changes.is_empty())),
        ))
        .execute(connection)
        .await?;
    Ok(())
}

/// A mark that is drawn and not counted has no limits, watcher or firings of its own.
async fn write_hollow(connection: &mut AsyncPgConnection, id: PointId) -> Result<(), StoreError> {
    let none = serde_json::json!([]);
    diesel::update(chart_points::table.find(id))
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
        if let Some(state) = before.filter(|state| state.as_str() == "closed") {
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
    for id in streams {
        stream(connection, id).await?;
    }
    Ok(())
}
