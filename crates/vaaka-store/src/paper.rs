//! A check from a paper sheet: opened, filled and judged in one transaction, or not at all.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use uuid::Uuid;
use vaaka_core::method::{EntryValue, StepKey};

use crate::StoreError;
use crate::checks::{self, NewCheck};
use crate::conclude::conclude_check;
use crate::entries::{Kept, NewEntry, keep};
use crate::ids::CheckId;
use crate::schema;

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

/// Keeps a sheet and judges it; `now` is when it was received.
///
/// # Errors
/// [`StoreError::Conflict`] when a check of this plan is open: a sheet never goes into a check
/// that somebody has in hand.
pub async fn keep_sheet(
    connection: &mut AsyncPgConnection,
    new: &NewCheck<'_>,
    sheet: &[PaperEntry],
    now: Timestamp,
) -> Result<CheckId, StoreError> {
    let taken = || StoreError::Conflict { constraint: "checks_one_open".to_owned() };
    connection
        .transaction(async |connection| {
            let check = checks::open(connection, new).await?;
            if kept_as(connection, new.key).await? != Some(check) {
                return Err(taken());
            }
            for entry in sheet {
                let kept = keep(
                    connection,
                    &NewEntry {
                        check,
                        step: &entry.step,
                        repeat: entry.repeat,
                        value: &entry.value,
                        typed: &entry.typed,
                        unit: entry.unit.as_deref(),
                        person: new.person,
                        measured_at: entry.at,
                        received_at: now,
                        key: Uuid::new_v4(),
                        replaces: None,
                        source: "paper",
                    },
                    None,
                )
                .await?;
                if kept != Kept::Now {
                    return Err(taken());
                }
            }
            conclude_check(connection, check, new.person, now).await?;
            Ok(check)
        })
        .await
}
