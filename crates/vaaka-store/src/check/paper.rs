//! Checks from paper: entered as a sheet, and a check when a lead countersigns it.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use uuid::Uuid;
use vaaka_boxed::boxed;
use vaaka_core::method::{EntryValue, StepKey};
use vaaka_core::round::{LateRank, late_rank};

use crate::audit::{self, Happening};
use crate::checks::{self, Late, NewCheck};
use crate::conclude::conclude_check;
use crate::entries::{Kept, NewEntry, keep};
use crate::ids::{CheckId, FileId, InstrumentId, PersonId, PlanId, PlanVersionId, ShiftId};
use crate::notices::{self, NewNotice, tell_leads};
use crate::rows::PaperSheetRow;
use crate::second_look::Decision;
use crate::types::At;
use crate::{StoreError, schema};

/// An entry as it stands on the sheet.
#[derive(Debug, Clone)]
pub struct PaperEntry {
    /// Step.
    pub step: StepKey,
    /// Which of the step's entries.
    pub repeat: u32,
    /// When it was written down.
    pub at: Timestamp,
    /// What was typed.
    pub typed: String,
    /// Unit that it was typed in.
    pub unit: Option<String>,
    /// What to keep.
    pub value: EntryValue,
}

/// The check that a sheet with this key was kept as.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn kept_as(
    connection: &mut AsyncPgConnection,
    key: Uuid,
) -> Result<Option<CheckId>, StoreError> {
    Ok(schema::checks::table
        .filter(schema::checks::idempotency_key.eq(key))
        .select(schema::checks::id)
        .first(connection)
        .await
        .optional()?)
}

/// Kind of the notice by which leads hear of a sheet.
const TO_COUNTERSIGN: &str = "paper_to_countersign";

/// Where a sheet is decided.
#[must_use]
pub fn path(sheet: i64) -> String {
    format!("/paper/{sheet}")
}

fn chain(sheet: i64) -> String {
    format!("sheet:{sheet}")
}

/// A sheet as it was entered, and what became of it.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = schema::paper_sheets)]
#[allow(missing_docs)] // The columns say what they are, and the migration why.
pub struct Sheet {
    pub id: i64,
    pub plan_version_id: PlanVersionId,
    pub shift_instance_id: ShiftId,
    pub idempotency_key: Uuid,
    pub measured_by: PersonId,
    pub reason: String,
    pub began_at: At,
    pub ended_at: At,
    pub typed: serde_json::Value,
    pub file_id: FileId,
    pub entered_by: PersonId,
    pub entered_at: At,
    pub state: String,
    pub decided_by: Option<PersonId>,
    pub decided_at: Option<At>,
    pub decided_reason: Option<String>,
    pub alone: bool,
    pub check_id: Option<CheckId>,
}

/// Enters a sheet; the same key twice is the same sheet. It counts for nothing until it is countersigned.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn enter(
    connection: &mut AsyncPgConnection,
    row: &PaperSheetRow,
    (title, instrument): (&str, InstrumentId),
) -> Result<i64, StoreError> {
    use schema::paper_sheets::dsl;
    connection
        .transaction(async |connection| {
            let entered: Option<i64> = diesel::insert_into(dsl::paper_sheets)
                .values(row)
                .on_conflict(dsl::idempotency_key)
                .do_nothing()
                .returning(dsl::id)
                .get_result(connection)
                .await
                .optional()?;
            let Some(id) = entered else {
                let same = dsl::paper_sheets.filter(dsl::idempotency_key.eq(row.idempotency_key));
                return Ok(same.select(dsl::id).first(connection).await?);
            };
            let notice = NewNotice {
                kind: TO_COUNTERSIGN,
                instrument: Some(instrument),
                check: None,
                title,
                words: "A sheet of paper counts when a lead has countersigned it who neither measured nor entered it.",
                path: &path(id),
                at: row.entered_at.0,
            };
            tell_leads(connection, &notice).await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: row.entered_at.0,
                    person: Some(row.entered_by),
                    action: "paper_entered",
                    detail: json!({
                        "plan_version": row.plan_version_id, "shift": row.shift_instance_id,
                        "measured_by": row.measured_by, "reason": row.reason,
                        "began_at": row.began_at.0.to_string(), "ended_at": row.ended_at.0.to_string(),
                        "typed": row.typed, "file": row.file_id,
                    }),
                },
            )
            .await?;
            Ok(id)
        })
        .await
}

/// One sheet.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn sheet(connection: &mut AsyncPgConnection, id: i64) -> Result<Sheet, StoreError> {
    Ok(schema::paper_sheets::table.find(id).select(Sheet::as_select()).first(connection).await?)
}

/// The sheet of which a check came.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_check(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Option<Sheet>, StoreError> {
    Ok(schema::paper_sheets::table
        .filter(schema::paper_sheets::check_id.eq(check))
        .select(Sheet::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// Sheets, those that wait first, then the newest.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(connection: &mut AsyncPgConnection, most: i64) -> Result<Vec<Sheet>, StoreError> {
    use schema::paper_sheets::dsl;
    Ok(dsl::paper_sheets
        .order((dsl::state.ne("waiting"), dsl::id.desc()))
        .limit(most)
        .select(Sheet::as_select())
        .load(connection)
        .await?)
}

/// Plans and shifts of the sheets that wait.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn waiting(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(i64, PlanId, ShiftId)>, StoreError> {
    Ok(schema::paper_sheets::table
        .inner_join(schema::plan_versions::table)
        .filter(schema::paper_sheets::state.eq("waiting"))
        .order(schema::paper_sheets::id)
        .select((
            schema::paper_sheets::id,
            schema::plan_versions::plan_id,
            schema::paper_sheets::shift_instance_id,
        ))
        .load(connection)
        .await?)
}

/// Locks a sheet that waits; none where it was decided meanwhile.
async fn lock_waiting(
    connection: &mut AsyncPgConnection,
    id: i64,
) -> Result<Option<Sheet>, StoreError> {
    Ok(schema::paper_sheets::table
        .find(id)
        .filter(schema::paper_sheets::state.eq("waiting"))
        .for_no_key_update()
        .select(Sheet::as_select())
        .first(connection)
        .await
        .optional()?)
}

async fn write_decision(
    connection: &mut AsyncPgConnection,
    sheet: &Sheet,
    (state, check): (&str, Option<CheckId>),
    decision: Decision<'_>,
) -> Result<(), StoreError> {
    use schema::paper_sheets::dsl;
    diesel::update(dsl::paper_sheets.find(sheet.id))
        .set((
            dsl::state.eq(state),
            dsl::decided_by.eq(decision.by),
            dsl::decided_at.eq(At(decision.at)),
            dsl::decided_reason.eq(decision.reason),
            dsl::alone.eq(decision.alone),
            dsl::check_id.eq(check),
        ))
        .execute(connection)
        .await?;
    notices::end(
        connection,
        notices::Over::At(TO_COUNTERSIGN, &path(sheet.id)),
        decision.by,
        decision.at,
    )
    .await?;
    audit::record(
        connection,
        &Happening {
            chain: &chain(sheet.id),
            at: decision.at,
            person: Some(decision.by),
            action: &format!("paper_{state}"),
            detail: json!({ "reason": decision.reason, "alone": decision.alone, "check": check }),
        },
    )
    .await
}

/// Rejects a sheet with a reason: it stays on record and counts for nothing. False where it was decided meanwhile.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn reject(
    connection: &mut AsyncPgConnection,
    id: i64,
    decision: Decision<'_>,
) -> Result<bool, StoreError> {
    connection
        .transaction(async |connection| {
            let Some(sheet) = lock_waiting(connection, id).await? else { return Ok(false) };
            write_decision(connection, &sheet, ("rejected", None), decision).await?;
            Ok(true)
        })
        .await
}

/// What a sheet is to its shift, as the shift stands now.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn rank_of(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
    began: Timestamp,
) -> Result<LateRank, StoreError> {
    let runs = checks::ranked(connection, plan, shift).await?;
    // A settled run was seen like any other: a sheet does not come before it.
    let runs: Vec<_> = runs.iter().map(|run| (run.attempt, run.closed_at.0)).collect();
    Ok(late_rank(&runs, began))
}

/// Countersigns a sheet: the check of it is opened, filled and judged in one transaction with the signature, or
/// nothing is. None where it was decided meanwhile.
///
/// # Errors
/// [`StoreError::Conflict`] when a check of this plan is open: a sheet never goes into a check that somebody has in
/// hand.
#[boxed]
pub async fn countersign(
    connection: &mut AsyncPgConnection,
    id: i64,
    new: &NewCheck<'_>,
    entries: &[PaperEntry],
    decision: Decision<'_>,
) -> Result<Option<CheckId>, StoreError> {
    let taken = || StoreError::Conflict { constraint: "checks_one_open".to_owned() };
    connection
        .transaction(async |connection| {
            let Some(sheet) = lock_waiting(connection, id).await? else { return Ok(None) };
            audit::hold(connection, &format!("plan:{}", new.plan.plan.id)).await?;
            let rank = rank_of(connection, new.plan.plan.id, new.shift, sheet.began_at.0).await?;
            let late = new.late.map(|late| Late { beside: rank == LateRank::Beside, ..late });
            let new = NewCheck { late, ..new.clone() };
            let check = checks::open(connection, &new).await?;
            if kept_as(connection, new.key).await? != Some(check) {
                return Err(taken());
            }
            for entry in entries {
                let kept = keep(
                    connection,
                    &NewEntry {
                        original: None,
                        capture: None,
                        check,
                        step: &entry.step,
                        repeat: entry.repeat,
                        value: &entry.value,
                        typed: &entry.typed,
                        unit: entry.unit.as_deref(),
                        person: new.person,
                        measured_at: entry.at,
                        received_at: sheet.entered_at.0,
                        key: Uuid::new_v4(),
                        replaces: None,
                        second: None,
                        source: "paper",
                    },
                    None,
                )
                .await?;
                if kept != Kept::Now {
                    return Err(taken());
                }
            }
            conclude_check(connection, check, new.person, decision.at).await?;
            write_decision(connection, &sheet, ("countersigned", Some(check)), decision).await?;
            Ok(Some(check))
        })
        .await
}
