//! What was typed and refused, and says something about the instrument or the standard: kept beside the record.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::check::SetRight;
use vaaka_core::method::{EntryValue, Input, RunState, Step};

use crate::StoreError;
use crate::audit::chain;
use crate::audit::{self, Happening};
use crate::ids::CheckId;
use crate::rows::AttemptRow;
use crate::schema::{attempts, people};

/// Keeps an attempt with its audit entry. The same text at the same step twice in a row is one attempt: a page that is
/// sent again says nothing new.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn keep(connection: &mut AsyncPgConnection, row: &AttemptRow) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let newest: Option<(String, i32, String)> = attempts::table
                .filter(attempts::check_id.eq(row.check_id))
                .order(attempts::id.desc())
                .select((attempts::step_key, attempts::repeat, attempts::typed))
                .first(connection)
                .await
                .optional()?;
            let same = newest.is_some_and(|(step, repeat, typed)| {
                step == row.step_key && repeat == row.repeat && typed == row.typed
            });
            if same {
                return Ok(());
            }
            diesel::insert_into(attempts::table).values(row).execute(connection).await?;
            let happening = Happening {
                chain: &chain(row.check_id),
                at: row.at.0,
                person: Some(row.person_id),
                action: "attempt_refused",
                detail: json!({
                    "step": row.step_key, "repeat": row.repeat, "kind": row.kind, "typed": row.typed,
                }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Attempts of a check, oldest first, with who made them.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    mut connection: &AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<(AttemptRow, String)>, StoreError> {
    Ok(attempts::table
        .inner_join(people::table)
        .filter(attempts::check_id.eq(check))
        .order(attempts::id)
        .select((AttemptRow::as_select(), people::name))
        .load(&mut connection)
        .await?)
}

/// Settings of a check that were found other than its plan wants them, each with what it was found at first and what was
/// kept in the end.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn set_right(
    connection: &AsyncPgConnection,
    check: CheckId,
    steps: &[Step],
    run: &RunState,
) -> Result<Vec<SetRight>, StoreError> {
    let attempts = of(connection, check).await?;
    let found = steps.iter().filter(|step| matches!(step.input, Input::Setting { .. }));
    Ok(found
        .filter_map(|step| {
            let first = attempts
                .iter()
                .find(|(row, _)| row.step_key == step.key.0 && row.kind == "setting")?;
            let now = run.of_step(&step.key).find_map(|entry| match &entry.value {
                EntryValue::Setting { shown } => Some(shown.clone()),
                _ => None,
            })?;
            Some(SetRight { step: step.title.clone(), found: first.0.typed.clone(), now })
        })
        .collect())
}
