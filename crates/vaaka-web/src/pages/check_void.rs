//! Voiding a check: with a reason, at any time; one that failed is voided by a lead only, who did
//! not run it.

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_core::judgement::may_void;
use vaaka_store::attempts;
use vaaka_store::checks;
use vaaka_store::entries;
use vaaka_store::ids::CheckId;
use vaaka_store::outcomes::result_of;

use super::check_view::{Typed, load};
use super::page;
use crate::error::WebError;
use crate::fields::sentence;
use crate::forms::{PathId, Posted};
use crate::session::SignedIn;
use crate::state::AppState;

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

impl VoidForm {
    /// The reason as it is kept, or what is wrong with it.
    fn reason(&self) -> Result<String, String> {
        let said = match (self.reason.trim(), self.words.trim()) {
            ("" | "other", "") => return Err(NO_REASON.to_owned()),
            ("" | "other", words) => words.to_owned(),
            (reason, "") => reason.to_owned(),
            (reason, words) => format!("{reason}: {words}"),
        };
        let said = sentence(&said, 200)?;
        if said.is_empty() { Err(NO_REASON.to_owned()) } else { Ok(said) }
    }
}

const NO_REASON: &str = "Choose what went wrong, or say it in a few words.";

/// Voids an open check with a reason.
pub async fn void(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<VoidForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if now.check.state != "open" {
        return void_concluded(&state, &signed, id, &form).await;
    }
    let hands = checks::hands(&mut connection, &now.check).await?;
    let view = load(&state, &mut connection, now).await?;
    let attempts = attempts::of(&connection, CheckId(id)).await?;
    let failing = view.is_failing() || view.awaits_far(&attempts);
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    let refusal = match (form.reason(), may_void(failing, own, signed.person.role == "lead")) {
        (Err(words), _) => Some(words),
        (Ok(_), Err(error)) => Some(error.to_string()),
        (Ok(reason), Ok(())) => {
            checks::void(&mut connection, CheckId(id), signed.person.id, &reason, state.now())
                .await?;
            return Ok(Redirect::to("/").into_response());
        }
    };
    let typed = Typed { void_error: refusal, void_words: form.words, ..Typed::default() };
    let shown = view.page(&state, &mut connection, &signed, None, typed).await?;
    page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
}

/// A concluded check is voided by a lead: it stays on record and leaves the charts.
async fn void_concluded(
    state: &AppState,
    signed: &SignedIn,
    id: i64,
    form: &VoidForm,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let check = checks::by_id(&mut connection, CheckId(id)).await?;
    let refuse = |words: String| Err(WebError::NotNow { words });
    if check.state == "void" {
        return refuse("This check is void already.".into());
    }
    let hands = checks::hands(&mut connection, &check).await?;
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    let failed = result_of(&mut connection, check.id)
        .await?
        .is_some_and(|stored| stored.row.conforms == "fail");
    if signed.person.role != "lead" {
        return refuse("A check that was judged is voided by a lead only. Tell your lead what went wrong; until then it counts.".into());
    }
    if let Err(error) = may_void(failed, own, true) {
        return refuse(error.to_string());
    }
    let reason = match form.reason() {
        Ok(reason) => reason,
        Err(words) => return refuse(words),
    };
    checks::void(&mut connection, CheckId(id), signed.person.id, &reason, state.now()).await?;
    Ok(Redirect::to(&format!("/checks/{id}/verdict")).into_response())
}
