//! The reaction ladder on the verdict's page: what is tried, rung by rung, when a check fails.

use uuid::Uuid;
use vaaka_core::method::Rung;
use vaaka_core::reaction::{Noted, Outcome, next_rung};
use vaaka_store::checks::{self};
use vaaka_store::ids::CheckId;
use vaaka_store::plans::PlanView;
use vaaka_store::rows::{Check, LadderStepRow};
use vaaka_store::{Connection, ladder};

use crate::error::WebError;
use crate::forms::new_key;
use crate::shell::Here;
use crate::state::local_day_time;

/// A rung as it is shown.
#[derive(Debug)]
pub(in crate::pages) struct RungShown {
    pub word: &'static str,
    pub words: &'static str,
    /// "done", "now" or "later".
    pub state: &'static str,
    pub said: Option<String>,
    pub run: Option<String>,
    /// What stands before noting it.
    pub first: Option<String>,
    pub may_try: bool,
}

/// The ladder as it is shown.
#[derive(Debug)]
pub(in crate::pages) struct LadderShown {
    pub check: i64,
    pub rungs: Vec<RungShown>,
    pub outcomes: Vec<(&'static str, &'static str, bool)>,
    pub note: String,
    pub error: Option<String>,
    pub over: Option<&'static str>,
    pub key: Uuid,
}

/// What was sent and refused, to be shown again.
#[derive(Debug, Default)]
pub(in crate::pages) struct Refused {
    pub outcome: String,
    pub note: String,
    pub words: String,
}

/// The failing run that opened the ladder which a check stands on: the first of its shift.
pub(in crate::pages) async fn failed_before(
    connection: &mut Connection,
    check: &Check,
) -> Result<Option<CheckId>, WebError> {
    Ok(checks::first_failure(connection, check).await?)
}

pub(super) fn rungs(view: &PlanView) -> Vec<Rung> {
    view.version.reaction.iter().filter_map(|word| word.parse().ok()).collect()
}

/// Whether what a rung consists of is on record: the repeat, a trial, an adjustment.
pub(super) async fn run_of(
    connection: &mut Connection,
    failed: CheckId,
    rung: Rung,
    taken: &[CheckId],
) -> Result<Option<CheckId>, WebError> {
    let concluded = |found: Option<(CheckId, String)>| {
        found.filter(|(id, state)| state == "concluded" && !taken.contains(id)).map(|(id, _)| id)
    };
    Ok(match rung {
        Rung::Repeat => concluded(ladder::newest_run(connection, failed, "as_found").await?),
        Rung::OtherStandard | Rung::OtherPerson => {
            concluded(ladder::newest_run(connection, failed, "trial").await?)
        }
        _ => None,
    })
}

/// The ladder of a failed check, or of the failing run that a check repeats.
pub(in crate::pages) async fn of(
    connection: &mut Connection,
    check: &Check,
    view: &PlanView,
    here: &Here,
    refused: Option<&Refused>,
) -> Result<Option<LadderShown>, WebError> {
    if check.purpose != "as_found" || check.state == "void" {
        return Ok(None);
    }
    let Some(failed) = checks::first_failure(connection, check).await? else {
        return Ok(None);
    };
    let steps = ladder::of_check(connection, failed).await?;
    let noted = noted(&steps);
    let rungs = rungs(view);
    let open = next_rung(&rungs, &noted);
    let taken: Vec<CheckId> = steps.iter().filter_map(|(row, _)| row.trial_id).collect();
    let run = match open {
        Some(rung) => run_of(connection, failed, rung, &taken).await?,
        None => None,
    };
    let shown = rungs
        .iter()
        .map(|rung| {
            let step = steps.iter().find(|(row, _)| row.rung == rung.word());
            let first = (open == Some(*rung)).then(|| first_words(*rung, run)).flatten();
            RungShown {
                word: rung.word(),
                words: rung.words(),
                state: match (step, open) {
                    (Some(_), _) => "done",
                    (None, Some(open)) if open == *rung => "now",
                    _ => "later",
                },
                said: step.map(|(row, by)| {
                    let outcome = row.outcome.parse::<Outcome>().map_or("", Outcome::words);
                    let when = local_day_time(row.at.0, &here.zone);
                    format!("{}: {} ({by}, {when})", capital(outcome), row.note)
                }),
                run: step
                    .and_then(|(row, _)| row.trial_id)
                    .map(|id| format!("/checks/{id}/verdict")),
                may_try: run.is_none()
                    && open == Some(*rung)
                    && matches!(rung, Rung::OtherStandard | Rung::OtherPerson),
                first,
            }
        })
        .collect();
    let chosen = refused.map_or(Outcome::NoChange.word(), |refused| refused.outcome.as_str());
    Ok(Some(LadderShown {
        check: failed.0,
        rungs: shown,
        outcomes: Outcome::ALL
            .iter()
            .map(|outcome| (outcome.word(), outcome.words(), outcome.word() == chosen))
            .collect(),
        note: refused.map_or(String::new(), |refused| refused.note.clone()),
        error: refused.map(|refused| refused.words.clone()),
        over: over_words(open, &noted),
        key: new_key(),
    }))
}

pub(super) fn noted(steps: &[(LadderStepRow, String)]) -> Vec<Noted> {
    steps
        .iter()
        .filter_map(|(row, _)| {
            Some(Noted { rung: row.rung.parse().ok()?, outcome: row.outcome.parse().ok()? })
        })
        .collect()
}

pub(super) fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

pub(super) fn first_words(rung: Rung, run: Option<CheckId>) -> Option<String> {
    match (rung, run) {
        (Rung::Repeat, None) => {
            Some("Repeat the check with the button above; then note here what came of it.".into())
        }
        (Rung::Repeat, Some(_)) => Some("The repeat is on record. Note what came of it.".into()),
        (Rung::OtherStandard | Rung::OtherPerson, Some(_)) => {
            Some("The trial is on record. Note what it showed.".into())
        }
        (Rung::OtherPerson, None) => {
            Some("Somebody else signs in and starts the trial; it counts for nothing.".into())
        }
        (Rung::OtherStandard, None) => {
            Some("A trial with another standard of the kind; it counts for nothing.".into())
        }
        (Rung::Adjust, _) => {
            Some("“Adjust?” above says whether it may be done and what it would do.".into())
        }
        _ => None,
    }
}

pub(super) fn over_words(open: Option<Rung>, noted: &[Noted]) -> Option<&'static str> {
    match open {
        Some(_) => None,
        None if noted.iter().any(|one| one.outcome == Outcome::CauseFound) => Some(
            "The cause is found. The instrument goes back in service by a lead, after a check that is within tolerance.",
        ),
        None if noted.is_empty() => None,
        None => Some(
            "Everything on the ladder was tried. A lead decides what becomes of the instrument.",
        ),
    }
}
