//! From one shift to the next: a note, and the round signed off.

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_store::{StoreError, checks, rounds};

use crate::desk::Desk;
use crate::error::WebError;
use crate::fields::{Fields, clean, not_longer, sentence};
use crate::pages::round;
use crate::session::SignedIn;
use crate::state::AppState;

/// Hands a note over to the next shift.
pub async fn note(
    signed: SignedIn,
    State(state): State<AppState>,
    typed: Fields,
) -> Result<Response, WebError> {
    signed.check_form(typed.token())?;
    let words = clean(typed.get("words"));
    let refusal = match not_longer(&words, 600) {
        Ok(()) if words.is_empty() => Some("Write what the next shift must know.".to_owned()),
        read => read.err(),
    };
    if let Some(refusal) = refusal {
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return round::draw(&state, &signed, Some(("handover", refusal)), words, status).await;
    }
    let mut desk = Desk::open(&state).await?;
    let shift = desk.here.shift.id;
    rounds::hand_over(&mut desk.connection, shift, &words, signed.person.id, desk.now).await?;
    Ok(Redirect::to("/#handover").into_response())
}

/// Signs the round of this shift off.
pub async fn sign_off(
    signed: SignedIn,
    State(state): State<AppState>,
    typed: Fields,
) -> Result<Response, WebError> {
    signed.check_form(typed.token())?;
    let mut connection = state.store.connection().await?;
    let here = crate::shell::Here::find(&state, &mut connection).await?;
    if rounds::signed_off(&mut connection, here.shift.id).await?.is_some() {
        // By somebody else, a moment ago: the page shows by whom.
        return Ok(Redirect::to("/#handover").into_response());
    }
    let (done, to_go) = round::counts(&mut connection, &here, state.now()).await?;
    let (reason, long) = match sentence(typed.get("reason"), 200) {
        Ok(reason) => (reason, None),
        Err(words) => (clean(typed.get("reason")), Some(words)),
    };
    let open = checks::of_shift(&mut connection, here.shift.id).await?;
    let open = open.iter().filter(|check| check.check.state == "open").count();
    let refusal = if open > 0 {
        Some(format!(
            "{open} checks are begun and not finished. Finish or void them first; who takes over can also go on with them in the next shift, and then signs off."
        ))
    } else if to_go > 0 && reason.is_empty() {
        Some(format!("{to_go} checks are left. Say why; they become missed when the shift ends."))
    } else {
        long
    };
    if let Some(refusal) = refusal {
        drop(connection);
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return round::draw(&state, &signed, Some(("sign-off", refusal)), reason, status).await;
    }
    let counted = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
    let reason = if to_go == 0 { "" } else { reason.as_str() };
    let numbers = (counted(done), counted(to_go));
    let written = rounds::sign_off(
        &mut connection,
        here.shift.id,
        numbers,
        reason,
        signed.person.id,
        state.now(),
    )
    .await;
    match written {
        Ok(()) | Err(StoreError::Conflict { .. }) => Ok(Redirect::to("/#handover").into_response()),
        Err(other) => Err(other.into()),
    }
}
