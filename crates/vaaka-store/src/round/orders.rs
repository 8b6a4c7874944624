//! Checks that a lead orders: the way out where nothing is due and something has to be proven.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{PersonId, PlanId, ResultId, ShiftId};
use crate::schema::{check_orders, checks, people, plan_versions, results};
use crate::types::At;

/// Orders a check of a plan in a shift; the runs that the shift has are settled by it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn order(
    connection: &mut AsyncPgConnection,
    (plan, shift): (PlanId, ShiftId),
    reason: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let chain = format!("plan:{plan}");
            audit::hold(connection, &chain).await?;
            let newest: Option<ResultId> = results::table
                .inner_join(checks::table.inner_join(plan_versions::table))
                .filter(plan_versions::plan_id.eq(plan))
                .filter(checks::shift_instance_id.eq(shift))
                .order(results::id.desc())
                .select(results::id)
                .first(connection)
                .await
                .optional()?;
            let after = newest.map_or(0, |id| id.0);
            diesel::insert_into(check_orders::table)
                .values((
                    check_orders::plan_id.eq(plan),
                    check_orders::shift_instance_id.eq(shift),
                    check_orders::after_result.eq(after),
                    check_orders::reason.eq(reason),
                    check_orders::person_id.eq(person),
                    check_orders::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: &chain,
                at,
                person: Some(person),
                action: "check_ordered",
                detail: json!({ "shift": shift, "reason": reason, "after_result": after }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// For each plan of a shift the results after which a check was ordered, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_shift(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<HashMap<PlanId, Vec<i64>>, StoreError> {
    let rows: Vec<(PlanId, i64)> = check_orders::table
        .filter(check_orders::shift_instance_id.eq(shift))
        .order(check_orders::id)
        .select((check_orders::plan_id, check_orders::after_result))
        .load(connection)
        .await?;
    let mut found: HashMap<PlanId, Vec<i64>> = HashMap::new();
    for (plan, after) in rows {
        found.entry(plan).or_default().push(after);
    }
    Ok(found)
}

/// The newest order of a plan in a shift: by whom, why.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<Option<(String, String)>, StoreError> {
    Ok(check_orders::table
        .inner_join(people::table)
        .filter(check_orders::plan_id.eq(plan))
        .filter(check_orders::shift_instance_id.eq(shift))
        .order(check_orders::id.desc())
        .select((people::name, check_orders::reason))
        .first(connection)
        .await
        .optional()?)
}
