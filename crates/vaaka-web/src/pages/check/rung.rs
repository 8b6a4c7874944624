//! What people do on the ladder: they note a rung, or begin a trial with another standard.

use crate::desk::Desk;
use crate::error::WebError;
use crate::fields::sentence;
use crate::forms::{PathId, Posted};
use crate::pages::check::ladder::{Refused, noted, run_of, rungs};
use crate::pages::check::start::{fits, may_run, other_standard, refuse_other_open, standards_for};
use crate::pages::check::verdict;
use crate::session::SignedIn;
use crate::state::AppState;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::method::{Purpose, Rung};
use vaaka_core::reaction::{Outcome, check_note, next_rung};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::ids::CheckId;
use vaaka_store::plans::{self};
use vaaka_store::rows::LadderStepRow;
use vaaka_store::{At, StoreError, adjustments, ladder};

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
            let back = crate::paths::local_path(&form.back);
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
