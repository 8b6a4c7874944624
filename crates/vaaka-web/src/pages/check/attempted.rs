//! What was typed and not kept, and says something about the instrument or the standard: it stays on record.

use jiff::Timestamp;
use vaaka_core::method::{AttemptKind, EntryError, Proposal, Step, accept};
use vaaka_store::ids::{CheckId, PersonId};
use vaaka_store::rows::AttemptRow;
use vaaka_store::{At, Connection, attempts};

use super::sent::EntryForm;
use crate::error::WebError;
use crate::fields::clean;
use crate::open_run::{OpenRun, Target};
use crate::session::SignedIn;

/// What a setting was found at before, where that was not the one wanted.
pub(super) async fn found_wrong(
    connection: &Connection,
    view: &OpenRun,
    step: &Step,
) -> Result<Option<String>, WebError> {
    let kept = attempts::of(connection, view.check.id).await?;
    let of_step = |row: &AttemptRow| row.step_key == step.key.0 && row.kind == "setting";
    Ok(kept.into_iter().find(|(row, _)| of_step(row)).map(|(row, _)| row.typed))
}

/// Keeps what was typed first while the network was gone, and what the rules would have refused or asked about.
pub(super) async fn keep_attempted(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    (form, proposal): (&EntryForm, &Proposal),
    (measured, signed): (Timestamp, &SignedIn),
) -> Result<(), WebError> {
    /// Nobody types more wrong values at one step.
    const MOST: usize = 20;
    let lines: Vec<&str> = form.attempted.lines().map(str::trim).collect();
    if lines.iter().all(|line| line.is_empty()) {
        return Ok(());
    }
    // Sent again, they are there already.
    let before = attempts::of(connection, view.check.id).await?;
    let known = |typed: &str| {
        before.iter().any(|(row, _)| row.step_key == target.step.key.0 && row.typed == typed)
    };
    let kept = form.typed.trim();
    let new = lines.into_iter().filter(|typed| !typed.is_empty() && *typed != kept);
    for typed in new.filter(|typed| !known(typed)).take(MOST) {
        let first = Proposal { typed: typed.to_owned(), confirm_far: None, ..proposal.clone() };
        if let Err(error) = accept(target.step, &first, &view.run, measured)
            && let Some(kind) = error.attempt()
        {
            let at = (measured, signed.person.id);
            keep_attempt(connection, view, target, (kind, typed), at, &error).await?;
        }
    }
    Ok(())
}

/// What the browser held and the server did not take is no entry; that it was read stays on record.
pub(super) async fn keep_given_up(
    connection: &mut Connection,
    check: CheckId,
    (form, words): (&EntryForm, &str),
    (now, person): (Timestamp, PersonId),
) -> Result<(), WebError> {
    let short = |text: &str, most: usize| clean(text).chars().take(most).collect::<String>();
    let said = short(words, 400);
    let row = AttemptRow {
        check_id: check,
        step_key: short(&form.step, 80),
        repeat: i32::try_from(form.repeat.max(1)).unwrap_or(i32::MAX),
        kind: "held".to_owned(),
        typed: short(form.file.as_ref().map_or(&form.typed, |file| &file.name), 40),
        said: if said.is_empty() { "not taken".to_owned() } else { said },
        person_id: person,
        at: At(now),
    };
    Ok(attempts::keep(connection, &row).await?)
}

/// Keeps what was refused and says something about the instrument or the standard.
pub(super) async fn keep_attempt(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    (kind, typed): (AttemptKind, &str),
    (at, person): (Timestamp, PersonId),
    error: &EntryError,
) -> Result<(), WebError> {
    let row = AttemptRow {
        check_id: view.check.id,
        step_key: target.step.key.0.clone(),
        repeat: i32::try_from(target.repeat).unwrap_or(i32::MAX),
        kind: kind.word().to_owned(),
        typed: clean(typed).chars().take(40).collect(),
        said: error.to_string(),
        person_id: person,
        at: At(at),
    };
    Ok(attempts::keep(connection, &row).await?)
}
