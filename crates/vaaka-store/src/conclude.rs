//! Concluding a check: evaluation, chart points and verdict in one transaction.

use diesel::prelude::*;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_core::chart::{ChartState, SignalChange};
use vaaka_core::check::{Completion, RunContext, StreamPoint, complete};
use vaaka_core::judgement::{Characteristic, ConformityResult};
use vaaka_core::method::{self, Purpose};
use vaaka_core::quantity::to_f64;

use crate::audit::{self, Happening};
use crate::charts::{self, LockedStream};
use crate::ids::{CheckId, PersonId, ResultId, SegmentId, StreamId};
use crate::outcomes::{Basis, characteristic_rows, result_row};
use crate::plans::{self, PlanView};
use crate::rows::{Check, Point, ResultRow, Segment, SignalRow, Stream};
use crate::schema::{
    characteristics, chart_points, chart_streams, checks, results, segments, signals,
};
use crate::types::At;
use crate::{StoreError, checks as check_store, to_word, unreadable, word};

/// What became of concluding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Concluded {
    /// It is concluded now.
    Now,
    /// It was concluded before: a double click.
    Before,
    /// It is void.
    Void,
}

#[derive(QueryableByName)]
struct NextId {
    #[diesel(sql_type = BigInt)]
    id: i64,
}

async fn next_result_id(connection: &mut AsyncPgConnection) -> Result<ResultId, StoreError> {
    let next: NextId =
        diesel::sql_query("SELECT nextval(pg_get_serial_sequence('results', 'id')) AS id")
            .get_result(connection)
            .await?;
    Ok(ResultId(next.id))
}

/// Evaluates a finished run and stores everything that follows from it.
///
/// # Errors
/// [`StoreError::Method`] when readings are missing.
pub async fn conclude_check(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    person: PersonId,
    now: Timestamp,
) -> Result<Concluded, StoreError> {
    connection
        .transaction(async |connection| {
            let check: Check = checks::table
                .find(id)
                .for_update()
                .select(Check::as_select())
                .first(connection)
                .await?;
            match check.state.as_str() {
                "open" => {}
                "void" => return Ok(Concluded::Void),
                _ => return Ok(Concluded::Before),
            }
            let view = plans::version(connection, check.plan_version_id).await?;
            let purpose: Purpose = word(&check.purpose)?;
            let plan = plans::spec(connection, &view, check.certificate_id, purpose).await?;
            let entries = crate::entries::entries(connection, id).await?;
            let run = entries.run_state()?;
            let method = method::by_key(&view.plan.method_key)?;
            let characteristics = method.evaluate(&plan, &run)?;
            ensure_streams(connection, &view, &characteristics, now).await?;
            let locked = charts::lock_streams(
                connection,
                view.instrument.id,
                view.plan.set_up_id,
                method.key(),
            )
            .await?;
            let in_force = plans::version_in_force(connection, view.plan.id).await?;
            let context = RunContext {
                measured_at: now,
                earlier: check_store::attempts(connection, view.plan.id, check.shift_instance_id)
                    .await?,
                slots: locked.iter().map(|locked| locked.slot.clone()).collect(),
                superseded: in_force
                    .filter(|current| *current != view.version.version)
                    .map(|current| (view.version.version, current)),
            };
            let completion = complete(method, &plan, &run, &context)?;
            let result_id = next_result_id(connection).await?;
            let result = result_row(&Basis {
                result: result_id,
                check: &check,
                method,
                plan: &plan,
                run: &run,
                completion: &completion,
                person,
                now,
            })?;
            write(connection, &check, &result, &completion, &locked, now).await?;
            diesel::update(checks::table.find(id))
                .set((
                    checks::state.eq("concluded"),
                    checks::closed_by.eq(person),
                    checks::closed_at.eq(At(now)),
                ))
                .execute(connection)
                .await?;
            let detail = json!({
                "result": result_id,
                "inputs": hex::encode(&result.inputs_hash),
                "conforms": result.conforms,
                "control": result.control,
                "action": result.action,
            });
            audit::record(
                connection,
                &Happening {
                    chain: &check_store::chain(id),
                    at: now,
                    person: Some(person),
                    action: "check_concluded",
                    detail,
                },
            )
            .await?;
            Ok(Concluded::Now)
        })
        .await
}

/// The row of a point on a chart.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn point_row(
    point: &StreamPoint,
    stream: StreamId,
    segment: SegmentId,
    check: &Check,
    judged: &(Characteristic, ConformityResult),
    measured_at: Timestamp,
) -> Result<Point, StoreError> {
    let evaluation = point.evaluation.as_ref();
    let limits = judged.0.limits;
    let json = |firings: Option<&Vec<vaaka_core::chart::Firing>>| {
        serde_json::to_value(firings.map_or(&[][..], Vec::as_slice)).map_err(unreadable)
    };
    Ok(Point {
        stream_id: stream,
        segment_id: segment,
        check_id: check.id,
        certificate_id: check.certificate_id,
        ordinal: point.ordinal.map(i64::try_from).transpose().map_err(unreadable)?,
        measured_at: At(measured_at),
        value: point.value,
        conformity: to_word(&judged.1.conformity)?,
        lower_tolerance_limit: limits.and_then(|limits| limits.lower).map(to_f64),
        upper_tolerance_limit: limits.and_then(|limits| limits.upper).map(to_f64),
        center_line: evaluation.map(|e| e.center_line),
        lower_control_limit: evaluation.map(|e| e.lower_control_limit),
        upper_control_limit: evaluation.map(|e| e.upper_control_limit),
        ewma: evaluation.map(|e| e.ewma),
        ewma_half_width: evaluation.map(|e| e.ewma_half_width),
        provisional: evaluation.is_some_and(|e| e.provisional),
        firings: json(evaluation.map(|e| &e.firings))?,
        advisory: json(evaluation.map(|e| &e.advisory))?,
        signalled: evaluation.is_some_and(|e| !e.changes.is_empty()),
    })
}

/// Applies what a point did to the signals of its segment to rows held in memory.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn apply_changes(
    rows: &mut Vec<SignalRow>,
    changes: &[SignalChange],
    stream: StreamId,
    segment: SegmentId,
    ordinal: u64,
    measured_at: Timestamp,
) -> Result<(), StoreError> {
    for change in changes {
        let (side, opened_ordinal) = match change {
            SignalChange::Opened { side } => (side, ordinal),
            SignalChange::Evidence { side, opened_at } => (side, *opened_at),
        };
        let side = side.as_ref().map(to_word).transpose()?;
        let opened_ordinal = i64::try_from(opened_ordinal).map_err(unreadable)?;
        let known = rows.iter_mut().find(|row| {
            row.segment_id == segment && row.side == side && row.opened_ordinal == opened_ordinal
        });
        match known {
            Some(row) => {
                row.last_evidence_at = At(measured_at);
                row.evidence += 1;
            }
            None => rows.push(SignalRow {
                stream_id: stream,
                segment_id: segment,
                side,
                opened_ordinal,
                opened_at: At(measured_at),
                last_evidence_at: At(measured_at),
                evidence: 1,
                state: "open".to_owned(),
            }),
        }
    }
    Ok(())
}

/// A stream and its first segment, for a characteristic that is charted for the first time.
async fn ensure_streams(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
    found: &[Characteristic],
    now: Timestamp,
) -> Result<(), StoreError> {
    for characteristic in found.iter().filter(|characteristic| characteristic.charted) {
        let stream: Option<StreamId> = diesel::insert_into(chart_streams::table)
            .values((
                chart_streams::instrument_id.eq(view.instrument.id),
                chart_streams::set_up_id.eq(view.plan.set_up_id),
                chart_streams::method_key.eq(&view.plan.method_key),
                chart_streams::characteristic_key.eq(&characteristic.key),
                chart_streams::label.eq(&characteristic.label),
                chart_streams::nominal.eq(characteristic.nominal),
                chart_streams::unit.eq(characteristic.unit.symbol()),
                chart_streams::decimals
                    .eq(i32::try_from(characteristic.mean_decimals()).map_err(unreadable)?),
                chart_streams::interval_seconds.eq(EACH_SHIFT_SECONDS),
            ))
            .on_conflict_do_nothing()
            .returning(chart_streams::id)
            .get_result(connection)
            .await
            .optional()?;
        if let Some(stream) = stream {
            let state = ChartState::new(SignedDuration::from_secs(EACH_SHIFT_SECONDS));
            diesel::insert_into(segments::table)
                .values((
                    segments::stream_id.eq(stream),
                    segments::ordinal.eq(1),
                    segments::opened_at.eq(At(now)),
                    segments::cause.eq("first checks"),
                    segments::state.eq(serde_json::to_value(state).map_err(unreadable)?),
                ))
                .execute(connection)
                .await?;
        }
    }
    Ok(())
}

/// Distance between the checks of a plan that is due each shift.
pub const EACH_SHIFT_SECONDS: i64 = 8 * 3600;

async fn write(
    connection: &mut AsyncPgConnection,
    check: &Check,
    result: &ResultRow,
    completion: &Completion,
    locked: &[LockedStream],
    now: Timestamp,
) -> Result<(), StoreError> {
    diesel::insert_into(results::table).values(result).execute(connection).await?;
    diesel::insert_into(characteristics::table)
        .values(characteristic_rows(result.id, &completion.results)?)
        .execute(connection)
        .await?;
    for point in &completion.points {
        let (Some(at), Some(judged)) = (
            locked.iter().find(|locked| locked.slot.key == point.key),
            completion.results.iter().find(|(c, _)| c.key == point.key),
        ) else {
            continue;
        };
        let row = point_row(point, at.stream.id, at.segment.id, check, judged, now)?;
        diesel::insert_into(chart_points::table).values(row).execute(connection).await?;
        write_segment(connection, &at.stream, &at.segment, point, now).await?;
    }
    Ok(())
}

async fn write_segment(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    segment: &Segment,
    point: &StreamPoint,
    now: Timestamp,
) -> Result<(), StoreError> {
    if point.ordinal.is_none() {
        return Ok(());
    }
    diesel::update(segments::table.find(segment.id))
        .set(segments::state.eq(serde_json::to_value(&point.state).map_err(unreadable)?))
        .execute(connection)
        .await?;
    let Some(evaluation) = &point.evaluation else {
        return Ok(());
    };
    if evaluation.changes.is_empty() {
        return Ok(());
    }
    let mut rows: Vec<SignalRow> = signals::table
        .filter(signals::segment_id.eq(segment.id))
        .select(SignalRow::as_select())
        .load(connection)
        .await?;
    apply_changes(&mut rows, &evaluation.changes, stream.id, segment.id, evaluation.ordinal, now)?;
    for row in rows.iter().filter(|row| row.last_evidence_at == At(now)) {
        diesel::insert_into(signals::table)
            .values(row)
            .on_conflict((signals::segment_id, signals::side, signals::opened_ordinal))
            .do_update()
            .set((
                signals::last_evidence_at.eq(row.last_evidence_at),
                signals::evidence.eq(row.evidence),
            ))
            .execute(connection)
            .await?;
    }
    Ok(())
}
