//! Checks and the entries kept in them.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use uuid::Uuid;
use vaaka_core::judgement::Attempt;
use vaaka_core::method::Purpose;

use crate::audit::{self, Happening};
use crate::ids::{CertificateId, CheckId, PersonId, PlanId, PlanVersionId, ShiftId};
use crate::plans::PlanView;
use crate::rows::Check;
use crate::schema::{checks, plan_versions, results};
use crate::types::At;
use crate::{StoreError, word};

/// Chain of a check in the audit trail; its length is also the check's optimistic version.
#[must_use]
pub fn chain(id: CheckId) -> String {
    format!("check:{id}")
}

/// What opening a check needs.
#[derive(Debug, Clone)]
pub struct NewCheck<'a> {
    /// Plan version in force.
    pub plan: &'a PlanView,
    /// Shift that it belongs to.
    pub shift: ShiftId,
    /// Certificate of the standard.
    pub certificate: CertificateId,
    /// Purpose.
    pub purpose: Purpose,
    /// Who.
    pub person: PersonId,
    /// When.
    pub now: Timestamp,
    /// Key that makes a second click the same check.
    pub key: Uuid,
}

/// Opens a check, or finds the one that is open: two people, or one who clicks twice, come to
/// the same.
///
/// # Errors
/// [`StoreError`].
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
            let id: CheckId = diesel::insert_into(checks::table)
                .values((
                    checks::plan_version_id.eq(new.plan.version.id),
                    checks::instrument_id.eq(new.plan.instrument.id),
                    checks::shift_instance_id.eq(new.shift),
                    checks::certificate_id.eq(new.certificate),
                    checks::purpose.eq(new.purpose.word()),
                    checks::state.eq("open"),
                    checks::opened_by.eq(new.person),
                    checks::opened_at.eq(At(new.now)),
                    checks::idempotency_key.eq(new.key),
                ))
                .returning(checks::id)
                .get_result(connection)
                .await?;
            let detail = json!({
                "plan_version": new.plan.version.id,
                "certificate": new.certificate,
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

/// A check by its id.
///
/// # Errors
/// [`StoreError`].
pub async fn by_id(connection: &mut AsyncPgConnection, id: CheckId) -> Result<Check, StoreError> {
    Ok(checks::table.find(id).select(Check::as_select()).first(connection).await?)
}

/// Voids an open check with a reason: it stays on record and off the chart.
///
/// # Errors
/// [`StoreError::NotFound`] when it is not open.
pub async fn void(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    person: PersonId,
    reason: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(checks::table.find(id).filter(checks::state.eq("open")))
                .set((
                    checks::state.eq("void"),
                    checks::void_reason.eq(reason),
                    checks::closed_by.eq(person),
                    checks::closed_at.eq(At(now)),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::NotFound);
            }
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: now,
                    person: Some(person),
                    action: "check_voided",
                    detail: json!({ "reason": reason }),
                },
            )
            .await
        })
        .await
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
pub async fn of_shift(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<Vec<ShiftCheck>, StoreError> {
    let rows: Vec<(Check, PlanId, Option<String>, Option<String>)> = checks::table
        .inner_join(plan_versions::table)
        .left_join(results::table)
        .filter(checks::shift_instance_id.eq(shift).or(checks::state.eq("open")))
        .order(checks::id)
        .select((
            Check::as_select(),
            plan_versions::plan_id,
            results::conforms.nullable(),
            results::control.nullable(),
        ))
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(check, plan, conforms, control)| ShiftCheck { check, plan, conforms, control })
        .collect())
}

/// Earlier valid as-found runs of a plan in a shift, oldest first.
///
/// # Errors
/// [`StoreError`].
pub async fn attempts(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<Vec<Attempt>, StoreError> {
    let rows: Vec<String> = checks::table
        .inner_join(plan_versions::table)
        .inner_join(results::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::shift_instance_id.eq(shift))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .filter(results::version.eq(1))
        .order((checks::closed_at, checks::id))
        .select(results::conforms)
        .load(connection)
        .await?;
    rows.iter().map(|text| Ok(Attempt { conforms: word(text)? })).collect()
}

/// The plan that a version belongs to.
///
/// # Errors
/// [`StoreError`].
pub async fn plan_of(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
) -> Result<PlanId, StoreError> {
    Ok(plan_versions::table.find(version).select(plan_versions::plan_id).first(connection).await?)
}
