//! The reaction ladder of a failed check, rung by rung.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::chain;
use crate::audit::{self, Happening};
use crate::checks::lock as lock_check;
use crate::ids::CheckId;
use crate::rows::LadderStepRow;
use crate::schema::{checks, ladder_steps, people};

/// The rungs that were tried, with who noted them, in their order.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_check(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<(LadderStepRow, String)>, StoreError> {
    Ok(ladder_steps::table
        .inner_join(people::table)
        .filter(ladder_steps::check_id.eq(check))
        .order(ladder_steps::id)
        .select((LadderStepRow::as_select(), people::name))
        .load(connection)
        .await?)
}

/// The failed check on whose ladder a trial was made.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn behind_trial(
    connection: &mut AsyncPgConnection,
    trial: CheckId,
) -> Result<Option<CheckId>, StoreError> {
    Ok(ladder_steps::table
        .filter(ladder_steps::trial_id.eq(trial))
        .select(ladder_steps::check_id)
        .first(connection)
        .await
        .optional()?)
}

/// Notes a rung. The check's row is locked, so that two people who note at one moment follow each
/// other; each rung is noted once.
///
/// # Errors
/// [`StoreError::Conflict`] on `ladder_steps_check_id_rung_key` when it was noted meanwhile.
#[boxed]
pub async fn note(
    connection: &mut AsyncPgConnection,
    row: LadderStepRow,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            lock_check(connection, row.check_id).await?;
            let happening = Happening {
                chain: &chain(row.check_id),
                at: row.at.0,
                person: Some(row.person_id),
                action: "ladder_noted",
                detail: json!({
                    "rung": row.rung, "outcome": row.outcome, "note": row.note,
                    "trial": row.trial_id,
                }),
            };
            diesel::insert_into(ladder_steps::table).values(&row).execute(connection).await?;
            audit::record(connection, &happening).await
        })
        .await
}

/// The newest check that was made for a rung since the ladder opened: the repeat, or a trial.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest_run(
    connection: &mut AsyncPgConnection,
    failed: CheckId,
    purpose: &str,
) -> Result<Option<(CheckId, String)>, StoreError> {
    let of: (crate::ids::PlanVersionId, crate::types::At) = checks::table
        .find(failed)
        .select((checks::plan_version_id, checks::opened_at))
        .first(connection)
        .await?;
    Ok(checks::table
        .filter(checks::plan_version_id.eq(of.0))
        .filter(checks::opened_at.gt(of.1))
        .filter(checks::purpose.eq(purpose))
        .filter(checks::state.ne("void"))
        .order(checks::id.desc())
        .select((checks::id, checks::state))
        .first(connection)
        .await
        .optional()?)
}
