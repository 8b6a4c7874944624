//! The reaction ladder on the verdict's page: what is tried, rung by rung, when a check fails.

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::method::{Purpose, Rung};
use vaaka_core::reaction::{Noted, Outcome, check_note, next_rung};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::ids::CheckId;
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{Check, LadderStepRow};
use vaaka_store::{At, Connection, StoreError, adjustments, ladder};

use super::check_start::{fits, may_run, other_standard, refuse_other_open, standards_for};
use super::verdict;
use crate::desk::Desk;
use crate::error::WebError;
use crate::fields::sentence;
use crate::forms::{PathId, Posted, new_key};
use crate::session::SignedIn;
use crate::shell::Here;
use crate::state::{AppState, local_day_time};

/// A rung as it is shown.
#[derive(Debug)]
pub(super) struct RungShown {
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
pub(super) struct LadderShown {
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
pub(super) struct Refused {
    pub outcome: String,
    pub note: String,
    pub words: String,
}

/// The failing run that opened the ladder which a check stands on: the first of its shift.
pub(super) async fn failed_before(
    connection: &mut Connection,
    check: &Check,
) -> Result<Option<CheckId>, WebError> {
    Ok(checks::first_failure(connection, check).await?)
}

fn rungs(view: &PlanView) -> Vec<Rung> {
    view.version.reaction.iter().filter_map(|word| word.parse().ok()).collect()
}

/// Whether what a rung consists of is on record: the repeat, a trial, an adjustment.
async fn run_of(
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
pub(super) async fn of(
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

fn noted(steps: &[(LadderStepRow, String)]) -> Vec<Noted> {
    steps
        .iter()
        .filter_map(|(row, _)| {
            Some(Noted { rung: row.rung.parse().ok()?, outcome: row.outcome.parse().ok()? })
        })
        .collect()
}

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

fn first_words(rung: Rung, run: Option<CheckId>) -> Option<String> {
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

fn over_words(open: Option<Rung>, noted: &[Noted]) -> Option<&'static str> {
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

/// A rung as it is noted.
#[derive(Debug, Deserialize)]
pub struct NoteForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    rung: String,
    #[serde(default)]
    outcome: String,
    #[serde(default)]
    note: String,
    /// The verdict on which it was noted: the first run's, or that of its repeat.
    #[serde(default)]
    back: String,
}

/// Notes a rung, or shows the verdict again with what was typed and what is missing.
pub async fn note(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<NoteForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut connection = state.store.connection().await?;
    let check = checks::by_id(&mut connection, CheckId(id)).await?;
    let Some(failed) = checks::first_failure(&mut connection, &check).await? else {
        return Err(WebError::NotNow {
            words: "This check did not fail: there is nothing to try on it.".into(),
        });
    };
    let view = plans::version(&mut connection, check.plan_version_id).await?;
    let steps = ladder::of_check(&mut connection, failed).await?;
    let asked = form.rung.parse::<Rung>().ok().zip(form.outcome.parse::<Outcome>().ok());
    let Some((rung, outcome)) = asked else {
        return Err(WebError::NotNow { words: "Choose what came of it.".into() });
    };
    let said = sentence(&form.note, 300);
    let taken: Vec<CheckId> = steps.iter().filter_map(|(row, _)| row.trial_id).collect();
    let run = run_of(&mut connection, failed, rung, &taken).await?;
    let has_run = run.is_some()
        || (rung == Rung::Adjust && adjustments::since(&mut connection, failed).await?);
    let open = next_rung(&rungs(&view), &noted(&steps));
    let allowed = |words: &String| {
        check_note(rung, outcome, words, open, has_run).map_err(|error| error.to_string())
    };
    let refusal = match said.and_then(|words| allowed(&words).map(|()| words)) {
        Err(words) => Some(words),
        Ok(words) => {
            let row = LadderStepRow {
                check_id: failed,
                rung: rung.word().to_owned(),
                outcome: outcome.word().to_owned(),
                note: words,
                trial_id: run,
                person_id: signed.person.id,
                at: At(state.now()),
            };
            match ladder::note(&mut connection, row).await {
                Ok(()) => None,
                Err(StoreError::Conflict { .. }) => {
                    Some("Somebody noted this rung a moment ago. Look at the ladder again.".into())
                }
                Err(other) => return Err(other.into()),
            }
        }
    };
    drop(connection);
    match refusal {
        None => {
            let back = crate::forms::local_path(&form.back);
            let on_a_verdict = back.starts_with("/checks/") && back.ends_with("/verdict");
            let path = if on_a_verdict { back } else { format!("/checks/{id}/verdict") };
            Ok(Redirect::to(&format!("{path}#ladder-title")).into_response())
        }
        Some(words) => {
            let refused = Refused { outcome: form.outcome, note: form.note, words };
            let mut shown = verdict::draw(&state, &signed, id, Some(&refused)).await?;
            *shown.status_mut() = StatusCode::UNPROCESSABLE_ENTITY;
            Ok(shown)
        }
    }
}

/// A trial as it is started.
#[derive(Debug, Deserialize)]
pub struct TrialForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    rung: String,
    key: Uuid,
}

/// Starts a trial with another standard or by another person.
pub async fn trial(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<TrialForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let not_now = |words: &str| WebError::NotNow { words: words.to_owned() };
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    let Some(failed) = checks::first_failure(&mut desk.connection, &check).await? else {
        return Err(not_now("This check did not fail: there is nothing to try on it."));
    };
    let view = plans::version(&mut desk.connection, check.plan_version_id).await?;
    let steps = ladder::of_check(&mut desk.connection, failed).await?;
    let open = next_rung(&rungs(&view), &noted(&steps));
    let rung = form.rung.parse::<Rung>().ok().filter(|rung| open == Some(*rung));
    if view.version.state != "approved" {
        return Err(not_now(
            "The plan was changed since this check. Start its check from the round; the ladder begins anew when that fails.",
        ));
    }
    let current = view;
    may_run(&mut desk, &signed, &current).await?;
    refuse_other_open(&mut desk, &current, Purpose::Trial).await?;
    let certificates = match rung {
        Some(Rung::OtherStandard) => other_standard(&mut desk, &current, &check).await?,
        Some(Rung::OtherPerson) => {
            let hands = checks::hands(&mut desk.connection, &check).await?;
            if hands.iter().any(|(person, ..)| *person == signed.person.id) {
                return Err(not_now(
                    "You measured it yourself. This rung is for somebody else: they sign in under their name above and start the trial.",
                ));
            }
            standards_for(&mut desk, &current).await?
        }
        _ => return Err(not_now("Another rung is open now. Look at the ladder again.")),
    };
    fits(&mut desk.connection, &current, &certificates, Purpose::Trial).await?;
    let trial = checks::open(
        &mut desk.connection,
        &NewCheck {
            plan: &current,
            shift: desk.here.shift.id,
            certificates,
            purpose: Purpose::Trial,
            person: signed.person.id,
            now: desk.now,
            key: form.key,
            late: None,
        },
    )
    .await?;
    Ok(Redirect::to(&format!("/checks/{trial}")).into_response())
}
