//! Running a check: one step a screen, each entry kept as it is made.

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::judgement::{RepeatState, repeat_state};
use vaaka_core::method::{EntryError, Input, Proposal, Purpose, Step, accept};
use vaaka_core::round::{Due, due_of};
use vaaka_core::standard::check_validity;
use vaaka_store::audit::Head;
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::entries::{self, Kept, NewEntry};
use vaaka_store::ids::{CheckId, PlanVersionId, ReadingId};
use vaaka_store::rows::{Check, Reading};
use vaaka_store::{Concluded, Connection, conclude_check, plans, registers};

use super::check_view::{OpenRun, Typed, load};
use super::{Here, page, sign_in};
use crate::error::WebError;
use crate::forms::{Asked, PathId, Posted, encode};
use crate::session::SignedIn;
use crate::state::AppState;

/// Starting a check.
#[derive(Debug, Deserialize)]
pub struct StartForm {
    #[serde(default)]
    form_token: String,
    plan_version: i64,
    key: Uuid,
}

/// Opens a check of a plan, or goes on with the one that is open.
pub async fn start(
    signed: SignedIn,
    State(state): State<AppState>,
    Posted(form): Posted<StartForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    signed.may_check()?;
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let view = plans::version(&mut connection, PlanVersionId(form.plan_version)).await?;
    if view.version.state != "approved" {
        return Err(WebError::NotNow {
            words: "This plan was changed a moment ago. Go back to the round and start the check from there.".into(),
        });
    }
    let runs = checks::attempts(&mut connection, view.plan.id, here.shift.id).await?;
    let open = checks::of_shift(&mut connection, here.shift.id).await?;
    let open = open.iter().find(|c| c.plan == view.plan.id && c.check.state == "open");
    if let Some(open) = open {
        return Ok(Redirect::to(&format!("/checks/{}", open.check.id)).into_response());
    }
    if due_of(false, &runs) == Due::Nothing {
        return Err(WebError::NotNow { words: nothing_due(repeat_state(&runs)).into() });
    }
    let now = state.now();
    let today = now.to_zoned_datetime(here.zone.clone()).date();
    let certificate = registers::certificate_in_use(&mut connection, view.standard.id, today)
        .await?
        .ok_or_else(|| WebError::NotNow {
            words: format!(
                "{} has no certificate with certified values, so it cannot prove anything. Ask a lead for another standard.",
                view.standard.tag
            ),
        })?;
    check_validity(
        &view.standard.tag,
        &certificate.number,
        certificate.valid_from.0,
        certificate.valid_until.0,
        today,
    )
    .map_err(|error| WebError::NotNow {
        words: format!("{error}. It cannot be used before it is calibrated again; ask a lead which standard to take."),
    })?;
    let id = checks::open(
        &mut connection,
        &NewCheck {
            plan: &view,
            shift: here.shift.id,
            certificate: certificate.id,
            purpose: Purpose::AsFound,
            person: signed.person.id,
            now,
            key: form.key,
        },
    )
    .await?;
    Ok(Redirect::to(&format!("/checks/{id}")).into_response())
}

fn nothing_due(state: RepeatState) -> &'static str {
    match state {
        RepeatState::Confirmed => {
            "This instrument failed twice in this shift and is on hold. Running it again proves nothing: a lead decides what happens next."
        }
        RepeatState::Doubtful => {
            "This instrument failed, then passed. A lead decides; running it again would only hide the doubt."
        }
        RepeatState::None | RepeatState::RepeatAllowed => {
            "This check is done for this shift. Nothing more is due here."
        }
    }
}

/// What the address may carry.
#[derive(Debug, Default, Deserialize)]
pub struct ShowQuery {
    #[serde(default)]
    typed: String,
    #[serde(default)]
    added: String,
    #[serde(default)]
    correct: Option<i64>,
    #[serde(default)]
    overtaken: bool,
}

/// Shows the step that is next, or an entry to correct.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ShowQuery>,
) -> Result<Response, WebError> {
    signed.may_check()?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(response) = not_open(&now.check)? {
        return Ok(response);
    }
    let view = load(&state, &mut connection, now).await?;
    let mut typed = Typed { text: query.typed, added: query.added, ..Typed::default() };
    if query.overtaken {
        typed.notice = Some("This step was kept a moment ago, here or on another screen. Nothing was kept twice; go on from here.".into());
    } else if !typed.text.is_empty() {
        typed.notice = Some("You were signed out before this was kept. Look at the display once more, then keep it.".into());
    }
    page(
        StatusCode::OK,
        &view.page(&state, &mut connection, &signed, query.correct.map(ReadingId), typed).await?,
    )
}

/// Where to go when a check is no longer open.
fn not_open(check: &Check) -> Result<Option<Response>, WebError> {
    match check.state.as_str() {
        "open" => Ok(None),
        "void" => Err(WebError::NotNow {
            words: format!(
                "This check is void: {}. It stays on record and off the chart. Start it again from the round.",
                check.void_reason.clone().unwrap_or_default()
            ),
        }),
        _ => {
            let verdict = format!("/checks/{}/verdict", check.id);
            Ok(Some(Redirect::to(&verdict).into_response()))
        }
    }
}

/// An entry as it is sent.
#[derive(Debug, Default, Deserialize)]
pub struct EntryForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    step: String,
    #[serde(default)]
    repeat: u32,
    #[serde(default)]
    key: Uuid,
    #[serde(default)]
    typed: String,
    #[serde(default)]
    added: String,
    /// One character for each ticked sentence, joined by the page's own names tick0, tick1 …
    #[serde(flatten)]
    others: std::collections::HashMap<String, String>,
    #[serde(default)]
    confirm_far: bool,
    #[serde(default)]
    replaces: Option<i64>,
    #[serde(default)]
    reason: String,
}

impl EntryForm {
    fn proposal(&self) -> Proposal {
        Proposal {
            typed: self.typed.clone(),
            added: self.added.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).count(),
            confirm_far: self.confirm_far,
        }
    }

    fn as_typed(&self) -> Typed {
        Typed {
            text: self.typed.clone(),
            added: self.added.clone(),
            reason: self.reason.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).cloned().collect(),
            ..Typed::default()
        }
    }
}

/// Keeps an entry, or shows the step again with what was typed and the words at the field.
pub async fn keep(
    signed: Option<SignedIn>,
    State(state): State<AppState>,
    headers: HeaderMap,
    PathId(id): PathId,
    Posted(form): Posted<EntryForm>,
) -> Result<Response, WebError> {
    let Some(signed) = signed else {
        let next =
            format!("/checks/{id}?typed={}&added={}", encode(&form.typed), encode(&form.added));
        let notice = format!(
            "You were signed out, so “{}” is not kept yet. Sign in and it is there again.",
            form.typed
        );
        return sign_in::ask_again(&state, &headers, next, notice);
    };
    signed.check_form(&form.form_token)?;
    signed.may_check()?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(response) = not_open(&now.check)? {
        return Ok(response);
    }
    let view = load(&state, &mut connection, now).await?;
    let target = match view.target(&form.step, form.repeat, form.replaces.map(ReadingId)) {
        Some(target) => target,
        None => return overtaken(&mut connection, &view, &form).await,
    };
    let now = state.now();
    let value = match accept(target.step, &form.proposal(), &view.run, now) {
        Ok(value) => value,
        Err(error) => return refuse(&state, &mut connection, &view, &signed, &form, error).await,
    };
    if target.replaces.is_some() && form.reason.trim().is_empty() {
        let mut typed = form.as_typed();
        typed.reason_error =
            Some("Say in a few words why it is corrected, for example “typed wrongly”.".into());
        let correct = form.replaces.map(ReadingId);
        return page(
            StatusCode::UNPROCESSABLE_ENTITY,
            &view.page(&state, &mut connection, &signed, correct, typed).await?,
        );
    }
    let reason = form.reason.trim();
    let new = NewEntry {
        check: view.check.id,
        step: &target.step.key,
        repeat: target.repeat,
        value: &value,
        typed: form.typed.trim(),
        unit: unit_of(target.step),
        person: signed.person.id,
        measured_at: now,
        received_at: now,
        key: form.key,
        replaces: match target.replaces {
            Some(old) => Some((old, reason)),
            None => target.redone.map(|old| (old, "redone after an earlier step")),
        },
    };
    let kept =
        keep_and_void(&mut connection, &new, view.seen.clone(), target.step, target.replaces)
            .await?;
    if kept == Kept::Overtaken {
        return overtaken(&mut connection, &view, &form).await;
    }
    if target.is_last && target.replaces.is_none() {
        return finish(&mut connection, &view, &signed, &state).await;
    }
    Ok(Redirect::to(&format!("/checks/{id}")).into_response())
}

fn unit_of(step: &Step) -> Option<&str> {
    match &step.input {
        Input::Reading { unit, .. } => Some(unit.symbol()),
        Input::Condition { unit, .. } => Some(unit),
        _ => None,
    }
}

/// A correction and what it voids stand or fall together: half of it would leave readings that
/// rest on a zero that no longer holds.
async fn keep_and_void(
    connection: &mut Connection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
    step: &Step,
    corrected: Option<ReadingId>,
) -> Result<Kept, WebError> {
    let Some(corrected) = corrected.filter(|_| !step.voids.is_empty()) else {
        return Ok(entries::keep(connection, new, seen).await?);
    };
    Ok(entries::keep_and_void(connection, new, seen, corrected, &step.voids).await?)
}

async fn refuse(
    state: &AppState,
    connection: &mut Connection,
    view: &OpenRun,
    signed: &SignedIn,
    form: &EntryForm,
    error: EntryError,
) -> Result<Response, WebError> {
    let mut typed = form.as_typed();
    typed.may_confirm = error.may_confirm();
    typed.too_late = error.is_too_late();
    if error.is_about_added() {
        typed.added_error = Some(error.to_string());
    } else {
        typed.error = Some(error.to_string());
    }
    let correct = form.replaces.map(ReadingId);
    let shown = view.page(state, connection, signed, correct, typed).await?;
    page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
}

/// The step was kept already: by this very form (then all is well) or by somebody else.
async fn overtaken(
    connection: &mut Connection,
    view: &OpenRun,
    form: &EntryForm,
) -> Result<Response, WebError> {
    let id = view.check.id;
    let same = entries::has_key(connection, id, form.key).await?;
    let path = if same { format!("/checks/{id}") } else { format!("/checks/{id}?overtaken=true") };
    Ok(Redirect::to(&path).into_response())
}

async fn finish(
    connection: &mut Connection,
    view: &OpenRun,
    signed: &SignedIn,
    state: &AppState,
) -> Result<Response, WebError> {
    let id = view.check.id;
    match conclude_check(connection, id, signed.person.id, state.now()).await? {
        Concluded::Now | Concluded::Before => {
            Ok(Redirect::to(&format!("/checks/{id}/verdict")).into_response())
        }
        Concluded::Void => Ok(Redirect::to(&format!("/checks/{id}")).into_response()),
    }
}

/// A form with its token alone.
#[derive(Debug, Deserialize)]
pub struct ConcludeForm {
    #[serde(default)]
    form_token: String,
}

/// Concludes a check whose last entry was kept when the server went down before the verdict.
pub async fn conclude(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<ConcludeForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    signed.may_check()?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(response) = not_open(&now.check)? {
        return Ok(response);
    }
    let view = load(&state, &mut connection, now).await?;
    finish(&mut connection, &view, &signed, &state).await
}

/// Voiding a check.
#[derive(Debug, Deserialize)]
pub struct VoidForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    reason: String,
    #[serde(default)]
    words: String,
}

/// Voids the open check with a reason.
pub async fn void(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<VoidForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    signed.may_check()?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(response) = not_open(&now.check)? {
        return Ok(response);
    }
    let words = form.words.trim();
    let reason = match (form.reason.trim(), words) {
        ("" | "other", "") => {
            let view = load(&state, &mut connection, now).await?;
            let typed = Typed {
                void_error: Some("Choose what went wrong, or say it in a few words.".into()),
                ..Typed::default()
            };
            return page(
                StatusCode::UNPROCESSABLE_ENTITY,
                &view.page(&state, &mut connection, &signed, None, typed).await?,
            );
        }
        ("" | "other", words) => words.to_owned(),
        (reason, "") => reason.to_owned(),
        (reason, words) => format!("{reason}: {words}"),
    };
    let reason: String = reason.chars().filter(|c| !c.is_control()).take(200).collect();
    checks::void(&mut connection, CheckId(id), signed.person.id, &reason, state.now()).await?;
    Ok(Redirect::to("/").into_response())
}

/// The reading that a correction replaces.
pub(super) fn find_reading(view: &OpenRun, id: ReadingId) -> Option<&Reading> {
    view.entries.standing.iter().map(|standing| &standing.reading).find(|reading| reading.id == id)
}
