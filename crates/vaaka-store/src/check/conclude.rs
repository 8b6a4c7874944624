//! Concluding a check: evaluation, chart points and verdict in one transaction.

use diesel::prelude::*;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::chart::{ChartDesign, ChartState, SignalChange};
use vaaka_core::check::{Completion, RunContext, StreamPoint, complete};
use vaaka_core::instrument::in_cell;
use vaaka_core::judgement::{Characteristic, CharacteristicKind, ConformityResult, unsettled};
use vaaka_core::method::{self, Method, PlanSpec, Purpose, RunState};
use vaaka_core::quantity::to_f64;
use vaaka_core::round::DueRule;

use crate::audit::{self, Happening};
use crate::charts::{self, LockedStream};
use crate::ids::{CertificateId, CheckId, PersonId, ResultId, SegmentId, StreamId};
use crate::outcomes::{Basis, budget_rows, characteristic_rows, result_row};
use crate::plans::{self, PlanView};
use crate::points::{apply_changes, firings_json, spread_lines};
use crate::rows::{Check, Point, ResultRow, Segment, Stream};
use crate::schema::{
    adjustments, budgets, characteristics, chart_points, chart_streams, checks, results, segments,
    standards,
};
use crate::types::At;
use crate::{
    StoreError, checks as check_store, culprits, reactions, replay, seams, signals, to_word,
    unreadable, wear, word,
};

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
#[boxed]
pub async fn conclude_check(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    person: PersonId,
    now: Timestamp,
) -> Result<Concluded, StoreError> {
    connection
        .transaction(async |connection| {
            let check = check_store::hold(connection, id).await?;
            match check.state.as_str() {
                "open" => {}
                "void" => return Ok(Concluded::Void),
                _ => return Ok(Concluded::Before),
            }
            let ready = read(connection, &check, now).await?;
            let Ready { view, plan, run, method, locked, context, .. } = &ready;
            let completion = complete(*method, plan, run, context)?;
            let result_id = next_result_id(connection).await?;
            let result = result_row(&Basis {
                result: result_id,
                check: &check,
                method: *method,
                plan,
                run,
                completion: &completion,
                person,
                now,
                version: 1,
            })?;
            let measured_at = ready.context.measured_at;
            let points = locked_for(&completion, locked);
            write(connection, &ready, &check, &result, &completion, &points).await?;
            diesel::update(checks::table.find(id))
                .set((
                    checks::state.eq("concluded"),
                    checks::closed_by.eq(person),
                    // A check from paper was over when it was measured.
                    checks::closed_at.eq(At(measured_at)),
                    checks::late_place.eq(ready.is_late),
                ))
                .execute(connection)
                .await?;
            check_store::rank(connection, view.plan.id, check.shift_instance_id).await?;
            wear::record(connection, &check, &method.way(plan)?, person, now).await?;
            reactions::after_check(connection, &check, view, &completion.verdict, person, now)
                .await?;
            if plan.purpose == Purpose::AsFound && !ready.is_late {
                reactions::tell_drifts(connection, &check, view, &completion.verdict, now).await?;
            }
            // Whose fault a change may be is looked at when a signal comes, not on a clock; and when a check comes
            // that would tell, whether it was made for that or not.
            let opens = |point: &StreamPoint| {
                let changes = point.evaluation.as_ref().map_or(&[][..], |e| e.changes());
                changes.iter().any(|change| matches!(change, SignalChange::Opened { .. }))
            };
            let tells = plan.purpose == Purpose::Trial
                || !ready.is_late && completion.points.iter().any(opens);
            if tells || culprits::waits_for(connection, id).await? {
                culprits::ask(connection, id, (person, now)).await?;
            }
            let detail = json!({
                "result": result_id,
                "inputs": hex::encode(&result.inputs_hash),
                "conforms": result.conforms,
                "control": result.control,
                "action": result.action,
                "plan": view.plan.name,
            });
            audit::record(
                connection,
                &Happening {
                    chain: &audit::chain(id),
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

/// Everything that evaluating a check needs, with its charts locked.
struct Ready {
    view: PlanView,
    plan: PlanSpec,
    run: RunState,
    method: &'static dyn Method,
    certificates: Vec<CertificateId>,
    locked: Vec<LockedStream>,
    context: RunContext,
    /// From paper, measured before the newest point of a chart: it is judged at its place and stands beside. What
    /// people have seen since is not made anew.
    is_late: bool,
}

async fn read(
    connection: &mut AsyncPgConnection,
    check: &Check,
    now: Timestamp,
) -> Result<Ready, StoreError> {
    let view = plans::version(connection, check.plan_version_id).await?;
    let purpose: Purpose = word(&check.purpose)?;
    let certificates = check_store::certificates_of(connection, check).await?;
    let mut plan = plans::spec(connection, &view, &certificates, purpose).await?;
    let entries = crate::entries::entries(connection, check.id).await?;
    let run = entries.run_state()?;
    let method = method::by_key(&view.plan.method_key)?;
    let characteristics = method.evaluate(&plan, &run)?;
    let measured_at = match &check.late_reason {
        Some(_) => run.entries.iter().map(|entry| entry.at).max().unwrap_or(now),
        None => now,
    };
    plan.standard_age_years = plans::age_years(connection, &certificates, measured_at).await?;
    ensure_streams(connection, &view, &characteristics, measured_at).await?;
    let mut locked =
        charts::lock_streams(connection, view.instrument.id, view.plan.set_up_id, method.key())
            .await?;
    // What came from paper beside the check of its shift repeats nothing.
    let earlier = match check.beside {
        true => Vec::new(),
        false => check_store::attempts(connection, view.plan.id, check.shift_instance_id).await?,
    };
    // What counts for nothing, a trial with another standard above all, moves no chart either.
    let counts = purpose == Purpose::AsFound && unsettled(&earlier).is_empty() && !check.beside;
    let mut is_late = check.beside;
    let mut seam: Option<String> = None;
    // Charts of all levels come after those that they are made of.
    if check.late_reason.is_some() && !is_late {
        for at in &locked {
            is_late |= charts::newest_at(connection, at.stream.id).await? > Some(At(measured_at));
        }
    }
    for at in &mut locked {
        if is_late {
            (at.segment, at.slot) =
                replay::slot_before(connection, &at.stream, measured_at, check.id).await?;
        } else if counts {
            let place = seams::Place {
                view: &view,
                plan: &plan,
                certificates: &certificates,
                method,
                run: &run,
                found: &characteristics,
            };
            if seams::open_where_due(connection, &place, at, measured_at).await? {
                seam = Some(at.segment.cause.clone());
            } else if let (Some(cause), true) = (&seam, at.stream.derived.is_some()) {
                seams::open_derived(connection, at, cause, measured_at).await?;
            }
        }
    }
    let in_force = plans::version_in_force(connection, view.plan.id).await?;
    let context = RunContext {
        measured_at,
        earlier,
        slots: locked.iter().map(|locked| locked.slot.clone()).collect(),
        superseded: in_force
            .filter(|current| *current != view.version.version)
            .map(|current| (view.version.version, current)),
        late: check.late_reason.clone(),
        beside: is_late,
        corrected: crate::entries::corrected(connection, check.id, &method.way(&plan)?).await?,
        set_right: crate::attempts::set_right(connection, check.id, &method.way(&plan)?, &run)
            .await?,
        adjusted_with: match purpose {
            Purpose::AsLeft => adjusted_with(connection, &view).await?,
            Purpose::AsFound | Purpose::Trial => None,
        },
        events: crate::registers::events(connection, view.instrument.id)
            .await?
            .into_iter()
            .filter(|(event, _)| event.affects_measurement)
            .map(|(event, _)| event.at.0)
            .collect(),
    };
    Ok(Ready { view, plan, run, method, certificates, locked, context, is_late })
}

/// Tag of the standard that the newest adjustment of a set-up was made with.
async fn adjusted_with(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
) -> Result<Option<String>, StoreError> {
    Ok(adjustments::table
        .inner_join(standards::table.on(standards::id.nullable().eq(adjustments::standard_id)))
        .filter(adjustments::set_up_id.eq(view.plan.set_up_id))
        .order(adjustments::id.desc())
        .select(standards::tag)
        .first(connection)
        .await
        .optional()?)
}

/// The points of a completion with the charts that they go onto.
fn locked_for<'a>(
    completion: &'a Completion,
    locked: &'a [LockedStream],
) -> Vec<(&'a StreamPoint, &'a LockedStream)> {
    completion
        .points
        .iter()
        .filter_map(|point| {
            let at = locked.iter().find(|locked| locked.slot.key == point.key)?;
            Some((point, at))
        })
        .collect()
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
    judged: Option<&(Characteristic, ConformityResult)>,
    design: Option<&ChartDesign>,
    measured_at: Timestamp,
) -> Result<Point, StoreError> {
    let evaluation = point.evaluation.as_ref();
    let limits = judged.and_then(|judged| judged.0.limits);
    let spread = spread_lines(design, point.readings);
    Ok(Point {
        stream_id: stream,
        segment_id: segment,
        check_id: check.id,
        certificate_id: check.certificate_id,
        ordinal: point.ordinal.map(i64::try_from).transpose().map_err(unreadable)?,
        measured_at: At(measured_at),
        value: point.value,
        // Charts of all levels together have no tolerance of their own.
        conformity: to_word(
            &judged.map_or(vaaka_core::judgement::Conformity::NotJudged, |j| j.1.conformity),
        )?,
        lower_tolerance_limit: limits.and_then(|limits| limits.lower).map(to_f64),
        upper_tolerance_limit: limits.and_then(|limits| limits.upper).map(to_f64),
        center_line: evaluation.map(|e| e.center_line),
        lower_control_limit: evaluation.map(|e| e.lower_control_limit),
        upper_control_limit: evaluation.map(|e| e.upper_control_limit),
        ewma: evaluation.map(|e| e.ewma),
        ewma_half_width: evaluation.map(|e| e.ewma_half_width),
        provisional: evaluation.is_some_and(|e| e.provisional),
        firings: firings_json(evaluation.map_or(&[], |e| e.firings()))?,
        advisory: firings_json(evaluation.map_or(&[], |e| e.advisory()))?,
        signalled: evaluation.is_some_and(|e| !e.changes().is_empty()),
        withdrawn: false,
        excluded: false,
        readings: i32::try_from(point.readings.max(1)).map_err(unreadable)?,
        std_dev: point.scatter.map(|scatter| scatter.std_dev),
        reading_range: point.scatter.map(|scatter| scatter.range),
        lower_spread_limit: spread.map(|lines| lines.lower).filter(|_| evaluation.is_some()),
        upper_spread_limit: spread.map(|lines| lines.upper).filter(|_| evaluation.is_some()),
        standardised: evaluation.map(|e| e.standardised).filter(|z| z.is_finite()),
        cusum_above: evaluation.map(|e| e.cusum.0),
        cusum_below: evaluation.map(|e| e.cusum.1),
        temperature: point.temperature,
    })
}

/// A stream and its first segment, for a characteristic that is charted for the first time.
async fn ensure_streams(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
    found: &[Characteristic],
    now: Timestamp,
) -> Result<(), StoreError> {
    let rule: DueRule = view.version.due_rule.parse().map_err(unreadable)?;
    let seconds = rule.interval().as_secs();
    for characteristic in found.iter().filter(|characteristic| characteristic.charted) {
        let stream: Option<StreamId> = diesel::insert_into(chart_streams::table)
            .values((
                chart_streams::instrument_id.eq(view.instrument.id),
                chart_streams::set_up_id.eq(view.plan.set_up_id),
                chart_streams::method_key.eq(&view.plan.method_key),
                chart_streams::characteristic_key.eq(&characteristic.key),
                chart_streams::label.eq(in_cell(&characteristic.label, view.cell.as_deref())),
                chart_streams::nominal.eq(characteristic.nominal),
                chart_streams::unit.eq(characteristic.unit.symbol()),
                chart_streams::decimals
                    .eq(i32::try_from(characteristic.mean_decimals()).map_err(unreadable)?),
                chart_streams::interval_seconds.eq(seconds),
                chart_streams::is_indication
                    .eq((characteristic.kind == CharacteristicKind::Indication).then_some(true)),
            ))
            .on_conflict_do_nothing()
            .returning(chart_streams::id)
            .get_result(connection)
            .await
            .optional()?;
        if let Some(stream) = stream {
            let state = ChartState::new(SignedDuration::from_secs(seconds));
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

async fn write(
    connection: &mut AsyncPgConnection,
    ready: &Ready,
    check: &Check,
    result: &ResultRow,
    completion: &Completion,
    points: &[(&StreamPoint, &LockedStream)],
) -> Result<(), StoreError> {
    diesel::insert_into(results::table).values(result).execute(connection).await?;
    diesel::insert_into(characteristics::table)
        .values(characteristic_rows(result.id, &completion.results)?)
        .execute(connection)
        .await?;
    diesel::insert_into(budgets::table)
        .values(budget_rows(result.id, &completion.results)?)
        .execute(connection)
        .await?;
    let measured_at = ready.context.measured_at;
    for (point, at) in points {
        let judged = completion.results.iter().find(|(c, _)| c.key == point.key);
        let design = at.slot.design.as_ref();
        let (stream, segment) = (at.stream.id, at.segment.id);
        let mut row = point_row(point, stream, segment, check, judged, design, measured_at)?;
        // The standard that it rests on.
        let place =
            judged.and_then(|(one, _)| one.rests_on.as_slice().first().copied()).unwrap_or(0);
        if let Some(certificate) = ready.certificates.get(place) {
            row.certificate_id = *certificate;
        }
        if ready.is_late {
            // It has a place in time and none among those that count.
            row.ordinal = None;
            row.signalled = false;
        }
        diesel::insert_into(chart_points::table).values(row).execute(connection).await?;
        if !ready.is_late {
            write_segment(connection, &at.stream, &at.segment, point, measured_at).await?;
        }
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
    if evaluation.changes().is_empty() {
        return Ok(());
    }
    let known = signals::of_segment(connection, segment.id).await?;
    let mut rows = known.clone();
    apply_changes(&mut rows, evaluation.changes(), stream.id, segment.id, evaluation.ordinal, now)?;
    rows.retain(|row| row.last_evidence_at == At(now));
    signals::write(connection, &known, rows).await
}

/// Whether checks can be evaluated again with another certificate: their plans find all their pieces on it.
///
/// # Errors
/// [`StoreError::Unreadable`] with the piece that is missing.
#[boxed]
pub async fn may_amend(
    connection: &mut AsyncPgConnection,
    (from, to): (CertificateId, CertificateId),
) -> Result<(), StoreError> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = diesel::sql_types::BigInt)]
        id: i64,
    }
    // One check for each plan and set of certificates: there may be ten thousand checks.
    let rows: Vec<Row> = diesel::sql_query(
        "SELECT DISTINCT ON (c.plan_version_id, c.certificate_id, used.ids) c.id
         FROM checks c, LATERAL (SELECT array_agg(s.certificate_id ORDER BY s.place) AS ids
             FROM check_standards s WHERE s.check_id = c.id) used
         WHERE c.state = 'concluded' AND (c.certificate_id = $1 OR $1 = ANY (used.ids))
         ORDER BY c.plan_version_id, c.certificate_id, used.ids, c.id",
    )
    .bind::<diesel::sql_types::BigInt, _>(from.0)
    .load(connection)
    .await?;
    for row in rows {
        let check: Check =
            checks::table.find(row.id).select(Check::as_select()).first(connection).await?;
        let used = check_store::certificates_of(connection, &check).await?;
        let amended = with_instead(&used, (from, to));
        let view = plans::version(connection, check.plan_version_id).await?;
        let plan = plans::spec(connection, &view, &amended, word(&check.purpose)?).await?;
        // What the new values make impossible (a limit that is crossed, a temperature beyond the table) shows here.
        method::by_key(&view.plan.method_key)?.way(&plan)?;
    }
    Ok(())
}

/// Certificates with another one in the place of one.
fn with_instead(
    used: &[CertificateId],
    (from, to): (CertificateId, CertificateId),
) -> Vec<CertificateId> {
    used.iter().map(|used| if *used == from { to } else { *used }).collect()
}

/// Evaluates a concluded check again after a clerical fix of a certificate: another version of
/// its result stands beside the first, which is kept as it was; the charts are replayed.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn amend(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    (from, to): (CertificateId, CertificateId),
    person: PersonId,
    now: Timestamp,
) -> Result<(), StoreError> {
    let mut check: Check = check_store::hold(connection, id).await?;
    let view = plans::version(connection, check.plan_version_id).await?;
    let used = check_store::certificates_of(connection, &check).await?;
    let amended = with_instead(&used, (from, to));
    let purpose: Purpose = word(&check.purpose)?;
    let mut plan = plans::spec(connection, &view, &amended, purpose).await?;
    plan.standard_age_years = plans::age_years(connection, &amended, check.opened_at.0).await?;
    let run = crate::entries::entries(connection, id).await?.run_state()?;
    let method = method::by_key(&view.plan.method_key)?;
    let before = crate::outcomes::result_of(connection, id).await?.ok_or(StoreError::NotFound)?;
    // What the charts said stays for the replay to say; only values and conformity are new.
    let context = RunContext {
        measured_at: before.row.computed_at.0,
        earlier: Vec::new(),
        slots: Vec::new(),
        superseded: None,
        late: check.late_reason.clone(),
        beside: false,
        corrected: crate::entries::corrected(connection, id, &method.way(&plan)?).await?,
        set_right: crate::attempts::set_right(connection, id, &method.way(&plan)?, &run).await?,
        adjusted_with: None,
        events: Vec::new(),
    };
    let mut completion = complete(method, &plan, &run, &context)?;
    completion.verdict.control = before.verdict.control.clone();
    completion.verdict.reasons.push(vaaka_core::judgement::Reason::Amended);
    if let Some(first) = amended.as_slice().first() {
        check.certificate_id = *first;
    }
    let result = result_row(&Basis {
        result: next_result_id(connection).await?,
        check: &check,
        method,
        plan: &plan,
        run: &run,
        completion: &completion,
        person,
        now,
        version: before.row.version + 1,
    })?;
    diesel::insert_into(results::table).values(&result).execute(connection).await?;
    diesel::insert_into(characteristics::table)
        .values(characteristic_rows(result.id, &completion.results)?)
        .execute(connection)
        .await?;
    diesel::insert_into(budgets::table)
        .values(budget_rows(result.id, &completion.results)?)
        .execute(connection)
        .await?;
    for (stream, _) in charts::of_check(connection, id).await? {
        let found = completion.results.iter().find(|(c, _)| c.key == stream.characteristic_key);
        let Some((characteristic, judged)) = found else { continue };
        diesel::update(chart_points::table)
            .filter(chart_points::stream_id.eq(stream.id))
            .filter(chart_points::check_id.eq(id))
            .set((
                chart_points::value.eq(characteristic.value()),
                chart_points::conformity.eq(to_word(&judged.conformity)?),
            ))
            .execute(connection)
            .await?;
    }
    diesel::update(chart_points::table)
        .filter(chart_points::check_id.eq(id))
        .filter(chart_points::certificate_id.eq(from))
        .set(chart_points::certificate_id.eq(to))
        .execute(connection)
        .await?;
    audit::record(
        connection,
        &Happening {
            chain: &audit::chain(id),
            at: now,
            person: Some(person),
            action: "check_amended",
            detail: json!({
                "result": result.id, "from": from, "to": to, "conforms": result.conforms,
                "before": before.row.conforms,
            }),
        },
    )
    .await
}
