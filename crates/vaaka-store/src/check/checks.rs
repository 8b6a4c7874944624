//! Checks and the entries kept in them.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use uuid::Uuid;
use vaaka_boxed::boxed;
use vaaka_core::judgement::{Attempt, unsettled};
use vaaka_core::method::Purpose;

use crate::audit::{self, Happening, chain};
use crate::ids::{
    CertificateId, CheckId, InstrumentId, PersonId, PlanId, PlanVersionId, ResultId, ShiftId,
};
use crate::plans::PlanView;
use crate::rows::Check;
use crate::schema::{
    check_hands, check_standards, checks, people, plan_versions, plans, reading_voids, readings,
    results,
};
use crate::types::{At, Day};
use crate::{StoreError, word};

/// Locks the row of a check, so that two who add to its record follow each other in its audit chain.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn lock(connection: &mut AsyncPgConnection, id: CheckId) -> Result<(), StoreError> {
    let _: CheckId =
        checks::table.find(id).for_no_key_update().select(checks::id).first(connection).await?;
    Ok(())
}

/// Holds a check until the transaction ends: its plan first, whose runs of a shift have a rank together, then its own
/// row. Keeping an entry locks the row alone; whoever concludes or voids comes through here.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn hold(connection: &mut AsyncPgConnection, id: CheckId) -> Result<Check, StoreError> {
    let version: PlanVersionId =
        checks::table.find(id).select(checks::plan_version_id).first(connection).await?;
    let plan = plan_of(connection, version).await?;
    audit::hold(connection, &format!("plan:{plan}")).await?;
    Ok(checks::table
        .find(id)
        .for_no_key_update()
        .select(Check::as_select())
        .first(connection)
        .await?)
}

/// What opening a check needs.
#[derive(Debug, Clone)]
pub struct NewCheck<'a> {
    /// Plan version in force.
    pub plan: &'a PlanView,
    /// Shift that it belongs to.
    pub shift: ShiftId,
    /// Certificates: first that of the plan's own standard, then those of single points'.
    pub certificates: Vec<CertificateId>,
    /// Purpose.
    pub purpose: Purpose,
    /// Who.
    pub person: PersonId,
    /// When.
    pub now: Timestamp,
    /// Key that makes a second click the same check.
    pub key: Uuid,
    /// For a check from a paper sheet.
    pub late: Option<Late<'a>>,
}

/// What makes a check one from paper.
#[derive(Debug, Clone, Copy)]
pub struct Late<'a> {
    /// Why it was done on paper.
    pub reason: &'a str,
    /// Name of who measured.
    pub measured_by: &'a str,
    /// The shift had its check already: this one stands beside it, without a rank.
    pub beside: bool,
}

/// Opens a check, or finds the one that is open: two people, or one who clicks twice, come to
/// the same.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open(
    connection: &mut AsyncPgConnection,
    new: &NewCheck<'_>,
) -> Result<CheckId, StoreError> {
    let result = connection
        .transaction(async |connection| {
            let found = find_open(connection, new.plan.plan.id).await?;
            if let Some(id) = found {
                return Ok(id);
            }
            let main = new.certificates.as_slice().first().copied().ok_or(StoreError::NotFound)?;
            let id: CheckId = diesel::insert_into(checks::table)
                .values((
                    checks::plan_version_id.eq(new.plan.version.id),
                    checks::instrument_id.eq(new.plan.instrument.id),
                    checks::shift_instance_id.eq(new.shift),
                    checks::certificate_id.eq(main),
                    checks::purpose.eq(new.purpose.word()),
                    checks::state.eq("open"),
                    checks::opened_by.eq(new.person),
                    checks::opened_at.eq(At(new.now)),
                    checks::idempotency_key.eq(new.key),
                    checks::held_by.eq(new.person),
                    checks::late_reason.eq(new.late.map(|late| late.reason)),
                    checks::measured_by.eq(new.late.map(|late| late.measured_by)),
                    checks::beside.eq(new.late.is_some_and(|late| late.beside)),
                ))
                .returning(checks::id)
                .get_result(connection)
                .await?;
            for (certificate, place) in new.certificates.iter().skip(1).zip(1_i32..) {
                diesel::insert_into(check_standards::table)
                    .values((
                        check_standards::check_id.eq(id),
                        check_standards::place.eq(place),
                        check_standards::certificate_id.eq(*certificate),
                    ))
                    .execute(connection)
                    .await?;
            }
            let detail = json!({
                "plan_version": new.plan.version.id,
                "certificates": new.certificates,
                "late": new.late.map(|late| json!({
                    "reason": late.reason, "measured_by": late.measured_by, "beside": late.beside,
                })),
                "shift": new.shift,
                "purpose": new.purpose.word(),
            });
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: new.now,
                    person: Some(new.person),
                    action: "check_opened",
                    detail,
                },
            )
            .await?;
            Ok(id)
        })
        .await;
    match result {
        // Someone else opened it at the same moment.
        Err(StoreError::Conflict { .. }) => {
            find_open(connection, new.plan.plan.id).await?.ok_or(StoreError::NotFound)
        }
        other => other,
    }
}

async fn find_open(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
) -> Result<Option<CheckId>, StoreError> {
    Ok(checks::table
        .inner_join(plan_versions::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("open"))
        .select(checks::id)
        .first(connection)
        .await
        .optional()?)
}

/// The newest check that is open on an instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open_on(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Option<CheckId>, StoreError> {
    Ok(checks::table
        .filter(checks::instrument_id.eq(instrument))
        .filter(checks::state.eq("open"))
        .order(checks::id.desc())
        .select(checks::id)
        .first(connection)
        .await
        .optional()?)
}

/// When the newest check was begun.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(connection: &mut AsyncPgConnection) -> Result<Option<At>, StoreError> {
    Ok(checks::table.select(diesel::dsl::max(checks::opened_at)).first(connection).await?)
}

/// A check by its id.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn by_id(connection: &mut AsyncPgConnection, id: CheckId) -> Result<Check, StoreError> {
    Ok(checks::table.find(id).select(Check::as_select()).first(connection).await?)
}

/// Certificates that a check rests on, in the order of its plan's standards.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn certificates_of(
    connection: &mut AsyncPgConnection,
    check: &Check,
) -> Result<Vec<CertificateId>, StoreError> {
    let extra: Vec<CertificateId> = check_standards::table
        .filter(check_standards::check_id.eq(check.id))
        .order(check_standards::place)
        .select(check_standards::certificate_id)
        .load(connection)
        .await?;
    Ok(std::iter::once(check.certificate_id).chain(extra).collect())
}

/// Takes a check over from whoever has it in hand; both names stay on record.
///
/// # Errors
/// [`StoreError::NotFound`] when it is not open; [`StoreError::Conflict`] when somebody else took
/// it over since `from` was read.
#[boxed]
pub async fn take_over(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    from: PersonId,
    to: PersonId,
    now: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let check: Check = checks::table
                .find(id)
                .for_no_key_update()
                .select(Check::as_select())
                .first(connection)
                .await?;
            if check.state != "open" {
                return Err(StoreError::NotFound);
            }
            if check.held_by == to {
                return Ok(());
            }
            if check.held_by != from {
                return Err(StoreError::Conflict { constraint: "checks_held_by".to_owned() });
            }
            diesel::update(checks::table.find(id))
                .set(checks::held_by.eq(to))
                .execute(connection)
                .await?;
            diesel::insert_into(check_hands::table)
                .values((
                    check_hands::check_id.eq(id),
                    check_hands::from_person_id.eq(from),
                    check_hands::to_person_id.eq(to),
                    check_hands::at.eq(At(now)),
                ))
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: now,
                    person: Some(to),
                    action: "check_taken_over",
                    detail: json!({ "from": from, "to": to }),
                },
            )
            .await
        })
        .await
}

/// Names of those who had a check in hand, in order, with when they took it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn hands(
    connection: &mut AsyncPgConnection,
    check: &Check,
) -> Result<Vec<(PersonId, String, At)>, StoreError> {
    let opener: (PersonId, String) = people::table
        .find(check.opened_by)
        .select((people::id, people::name))
        .first(connection)
        .await?;
    let taken: Vec<(PersonId, String, At)> = check_hands::table
        .inner_join(people::table.on(people::id.eq(check_hands::to_person_id)))
        .filter(check_hands::check_id.eq(check.id))
        .order(check_hands::id)
        .select((people::id, people::name, check_hands::at))
        .load(connection)
        .await?;
    Ok(std::iter::once((opener.0, opener.1, check.opened_at)).chain(taken).collect())
}

/// Attaches a check to the certificate of the standard that is really in hand, before anything
/// is read on it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn use_certificate(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    place: usize,
    certificate: CertificateId,
) -> Result<(), StoreError> {
    if place == 0 {
        diesel::update(checks::table.find(id).filter(checks::state.eq("open")))
            .set(checks::certificate_id.eq(certificate))
            .execute(connection)
            .await?;
        return Ok(());
    }
    let place = i32::try_from(place).map_err(crate::unreadable)?;
    diesel::update(check_standards::table.find((id, place)))
        .set(check_standards::certificate_id.eq(certificate))
        .execute(connection)
        .await?;
    Ok(())
}

/// A check of a shift in brief, for the round.
#[derive(Debug, Clone)]
pub struct ShiftCheck {
    /// The check.
    pub check: Check,
    /// Its plan.
    pub plan: PlanId,
    /// Conformity, when concluded.
    pub conforms: Option<String>,
    /// Control state, when concluded.
    pub control: Option<String>,
}

/// The checks of a shift, and those that are open from an earlier one, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_shift(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<Vec<ShiftCheck>, StoreError> {
    let rows: Vec<(Check, PlanId, Option<String>, Option<String>)> = checks::table
        .inner_join(plan_versions::table)
        .left_join(results::table)
        .filter(checks::shift_instance_id.eq(shift).or(checks::state.eq("open")))
        .order((checks::id, results::version))
        .select((
            Check::as_select(),
            plan_versions::plan_id,
            results::conforms.nullable(),
            results::control.nullable(),
        ))
        .load(connection)
        .await?;
    let mut found: Vec<ShiftCheck> = Vec::new();
    for (check, plan, conforms, control) in rows {
        // Of a check that was evaluated again the newest version says how it stands.
        found.pop_if(|known| known.check.id == check.id);
        found.push(ShiftCheck { check, plan, conforms, control });
    }
    Ok(found)
}

/// Valid as-found runs of a plan in a shift that no order has settled, in their rank, which is the order in which they were concluded; each by
/// the newest version of its result. What came from paper beside them has no rank.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn attempts(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<Vec<Attempt>, StoreError> {
    let runs = ranked(connection, plan, shift).await?;
    Ok(runs.into_iter().filter(|run| !run.settled).map(|run| run.attempt).collect())
}

/// As [`attempts`], of all plans of a shift.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn attempts_of_shift(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<HashMap<PlanId, Vec<Attempt>>, StoreError> {
    let mut found: HashMap<PlanId, Vec<Attempt>> = HashMap::new();
    let runs = ranked_of(connection, None, shift).await?;
    for (plan, run) in runs.into_iter().filter(|(_, run)| !run.settled) {
        found.entry(plan).or_default().push(run.attempt);
    }
    Ok(found)
}

/// A run with its rank in its shift.
#[derive(Debug, Clone, Copy)]
pub struct Ranked {
    /// The check.
    pub check: CheckId,
    /// What it came to.
    pub attempt: Attempt,
    /// When it was over.
    pub closed_at: At,
    /// How many checks were ordered before it.
    pub order: usize,
    /// Settled by an order that came after it.
    pub settled: bool,
}

/// As [`attempts`], with the checks.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn ranked(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<Vec<Ranked>, StoreError> {
    let runs = ranked_of(connection, Some(plan), shift).await?;
    Ok(runs.into_iter().map(|(_, run)| run).collect())
}

async fn ranked_of(
    connection: &mut AsyncPgConnection,
    plan: Option<PlanId>,
    shift: ShiftId,
) -> Result<Vec<(PlanId, Ranked)>, StoreError> {
    let mut query = checks::table
        .inner_join(plan_versions::table)
        .inner_join(results::table)
        .filter(checks::shift_instance_id.eq(shift))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .filter(checks::beside.eq(false))
        .order((results::version, results::id))
        .select((
            checks::id,
            plan_versions::plan_id,
            checks::closed_at,
            results::conforms,
            results::id,
        ))
        .into_boxed();
    if let Some(plan) = plan {
        query = query.filter(plan_versions::plan_id.eq(plan));
    }
    let rows: Vec<(CheckId, PlanId, Option<At>, String, ResultId)> = query.load(connection).await?;
    let orders = crate::orders::of_shift(connection, shift).await?;
    let mut runs: Vec<(PlanId, Ranked)> = Vec::new();
    for (check, plan, closed_at, conforms, result) in rows {
        let attempt = Attempt { conforms: word(&conforms)? };
        match runs.iter_mut().find(|(_, run)| run.check == check) {
            // A later version keeps the rank of the first.
            Some((_, known)) => known.attempt = attempt,
            None => {
                let closed_at = closed_at.unwrap_or(At(Timestamp::MIN));
                let of_plan = orders.get(&plan).map_or(&[][..], Vec::as_slice);
                let before = of_plan.iter().filter(|after| **after < result.0).count();
                let settled = before < of_plan.len();
                runs.push((plan, Ranked { check, attempt, closed_at, order: before, settled }));
            }
        }
    }
    Ok(runs)
}

/// Notes which runs of a shift are points of their charts: each that follows none which failed. A void one hands its
/// rank on.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn rank(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<(), StoreError> {
    let runs = ranked(connection, plan, shift).await?;
    let mut counting: Vec<CheckId> = Vec::new();
    // What a lead ordered begins anew.
    for group in runs.chunk_by(|a, b| a.order == b.order) {
        let all: Vec<Attempt> = group.iter().map(|run| run.attempt).collect();
        let own = group.iter().enumerate();
        let first = own.filter(|(index, _)| unsettled(&all[..*index]).is_empty());
        counting.extend(first.map(|(_, run)| run.check));
    }
    let of_shift = checks::shift_instance_id.eq(shift).and(checks::plan_version_id.eq_any(
        plan_versions::table.filter(plan_versions::plan_id.eq(plan)).select(plan_versions::id),
    ));
    let concerned = checks::state.ne("open");
    diesel::update(checks::table.filter(of_shift).filter(concerned))
        .set(
            checks::counts
                .eq(checks::id.eq_any(counting).and(diesel::dsl::not(checks::late_place))),
        )
        .execute(connection)
        .await?;
    Ok(())
}

/// Business date of the newest concluded as-found check of each of these plans that has one, as the
/// database notes it whenever a check is concluded or voided.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn last_dates(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanId],
) -> Result<Vec<(PlanId, Day)>, StoreError> {
    let rows: Vec<(PlanId, Option<Day>)> = plans::table
        .filter(plans::id.eq_any(wanted))
        .select((plans::id, plans::last_done_on))
        .load(connection)
        .await?;
    Ok(rows.into_iter().filter_map(|(plan, day)| Some((plan, day?))).collect())
}

/// The concluded as-found check of a plan that came before another, by when they were opened.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn one_before(
    connection: &mut AsyncPgConnection,
    check: &Check,
    plan: PlanId,
) -> Result<Option<Check>, StoreError> {
    Ok(checks::table
        .inner_join(plan_versions::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .filter(checks::opened_at.lt(check.opened_at))
        .order((checks::opened_at.desc(), checks::id.desc()))
        .select(Check::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The shift of the newest concluded check of a plan, as found or as left: of those that have a place of their own.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest_shift(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
) -> Result<Option<ShiftId>, StoreError> {
    Ok(checks::table
        .inner_join(plan_versions::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.ne("trial"))
        .filter(checks::beside.eq(false))
        .filter(checks::late_place.eq(false))
        .order((checks::opened_at.desc(), checks::id.desc()))
        .select(checks::shift_instance_id)
        .first(connection)
        .await
        .optional()?)
}

/// The failing run that opened the reaction ladder which a check stands on: the first valid
/// as-found run of its plan in its shift, when that failed. For a trial, the newest one before it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn first_failure(
    connection: &mut AsyncPgConnection,
    check: &Check,
) -> Result<Option<CheckId>, StoreError> {
    let plan = plan_of(connection, check.plan_version_id).await?;
    let runs: Vec<(CheckId, ShiftId, String)> = checks::table
        .inner_join(plan_versions::table)
        .inner_join(results::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .filter(checks::beside.eq(false))
        .filter(checks::opened_at.le(check.opened_at))
        .filter(results::version.eq(1))
        .order((checks::opened_at.desc(), checks::id.desc()))
        .limit(8)
        .select((checks::id, checks::shift_instance_id, results::conforms))
        .load(connection)
        .await?;
    let shift = match check.purpose.as_str() {
        "as_found" => check.shift_instance_id,
        _ => match runs.iter().find(|(_, _, conforms)| conforms == "fail") {
            Some((_, shift, _)) => *shift,
            None => return Ok(None),
        },
    };
    let first = runs.iter().rev().find(|(_, of, _)| *of == shift);
    Ok(first.filter(|(_, _, conforms)| conforms == "fail").map(|(id, ..)| *id))
}

/// The plan that a version belongs to.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn plan_of(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
) -> Result<PlanId, StoreError> {
    Ok(plan_versions::table.find(version).select(plan_versions::plan_id).first(connection).await?)
}

/// When `person` last ticked these very cautions one by one in another check of this shift, of this plan or of one with the
/// same; nothing where they did not, or it was done anew since. Confirmed all at once, or written down from paper, they were not
/// read line by line then: such an entry says so in what was typed, or in where it came from.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn cautions_ticked(
    connection: &mut AsyncPgConnection,
    check: &Check,
    person: PersonId,
    (step_key, settings): (&str, &serde_json::Value),
) -> Result<Option<At>, StoreError> {
    let voided = diesel::dsl::exists(
        reading_voids::table.filter(reading_voids::reading_id.eq(readings::id)),
    );
    let ticked: Vec<(At, serde_json::Value)> = readings::table
        .inner_join(checks::table.on(checks::id.eq(readings::check_id)))
        .inner_join(plan_versions::table.on(plan_versions::id.eq(checks::plan_version_id)))
        .filter(checks::shift_instance_id.eq(check.shift_instance_id))
        .filter(checks::id.ne(check.id))
        .filter(readings::step_key.eq(step_key).and(readings::kind.eq("confirmed")))
        .filter(readings::person_id.eq(person).and(readings::typed.eq("")))
        .filter(readings::source.ne("paper"))
        .filter(diesel::dsl::not(voided))
        .order(readings::measured_at.desc())
        .select((readings::measured_at, plan_versions::settings))
        .load(connection)
        .await?;
    let cautions = |of: &serde_json::Value| of.get("cautions").cloned();
    let same =
        |of: &serde_json::Value| cautions(of).is_some() && cautions(of) == cautions(settings);
    Ok(ticked.into_iter().find(|(_, of)| same(of)).map(|(at, _)| at))
}
