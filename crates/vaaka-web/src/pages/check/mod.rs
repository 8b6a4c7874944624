//! Running a check: one step a screen, each entry kept as it is made.

mod attempted;
pub mod capture;
mod ended;
pub mod input;
pub mod keep;
pub mod ladder;
pub mod live;
pub mod place;
pub mod rung;
mod sent;
pub mod start;
pub mod step;
mod trace_file;
pub mod values;
pub mod verdict;
pub mod verdict_parts;
pub mod view;
pub mod void;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_store::ids::{CheckId, PersonId, ReadingId};
use vaaka_store::{StoreError, checks, entries, plans};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::{Asked, PathId, Posted};
use crate::open_run::load;
use crate::pages::check::ended::{finish, not_open};
use crate::pages::check::step::Typed;
use crate::session::SignedIn;
use crate::shell::page;
use crate::state::AppState;

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
    /// What was typed where several values stand on one screen: key and text, a line each.
    #[serde(default)]
    values: String,
}

/// Shows the step that is next, or an entry to correct.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ShowQuery>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(next) = not_open(&now.check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    let view = load(&state, &mut connection, now).await?;
    let mut typed = Typed { text: query.typed, added: query.added, ..Typed::default() };
    let values = query.values.lines().filter_map(|line| line.split_once('='));
    typed.values = values.map(|(key, text)| (key.into(), (text.into(), None))).collect();
    if query.overtaken {
        typed.notice = Some("This step was kept a moment ago, here or on another screen. Nothing was kept twice; go on from here.".into());
    } else if !typed.text.is_empty() || !query.values.is_empty() {
        typed.notice = Some("You were signed out before this was kept. Look at the display once more, then keep it.".into());
    }
    page(
        StatusCode::OK,
        &view.page(&state, &mut connection, &signed, query.correct.map(ReadingId), typed).await?,
    )
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
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(next) = not_open(&now.check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    // A check is judged when its last step is done, by whoever has it in hand; nothing is skipped by asking for it.
    let id = now.check.id;
    let view = load(&state, &mut connection, now).await?;
    if view.check.held_by != signed.person.id || view.run.next(&view.steps).is_some() {
        return Ok(Redirect::to(&format!("/checks/{id}")).into_response());
    }
    let next = finish(&mut connection, id, signed.person.id, state.now()).await?;
    Ok(Redirect::to(&next).into_response())
}

/// Taking a check over.
#[derive(Debug, Deserialize)]
pub struct TakeOverForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    from: i64,
}

/// Takes a check over from a colleague; both names are kept.
pub async fn take_over(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<TakeOverForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    if let Some(next) = not_open(&check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    let plan = plans::version(&mut desk.connection, check.plan_version_id).await?;
    crate::pages::check::start::may_run(&mut desk, &signed, &plan).await?;
    let by = signed.person.id;
    let taken =
        checks::take_over(&mut desk.connection, check.id, PersonId(form.from), by, desk.now);
    match taken.await {
        Ok(()) => Ok(Redirect::to(&format!("/checks/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words: "Somebody else took this check over a moment ago. Go back to it to see who has it in hand.".into(),
        }),
        Err(other) => Err(other.into()),
    }
}
