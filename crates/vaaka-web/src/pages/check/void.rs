//! Voiding a check: with a reason, at any time; one that failed is voided by a lead only, who did
//! not run it.

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_core::judgement::may_void;
use vaaka_store::entries::{self, CheckNow};
use vaaka_store::ids::CheckId;
use vaaka_store::outcomes::result_of;
use vaaka_store::{Connection, StoreError, attempts, checks};

use crate::error::WebError;
use crate::fields::sentence;
use crate::forms::{PathId, Posted};
use crate::open_run::load;
use crate::pages::check::step::Typed;
use crate::session::SignedIn;
use crate::shell::page;
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

/// How often a check is looked at again when an entry came between looking and voiding.
const TRIES: usize = 4;

const BUSY: &str =
    "Something was kept in this check at the same moment. Look at it again, and decide anew.";

/// Voids a check with a reason.
pub async fn void(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<VoidForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    for _ in 0..TRIES {
        let mut connection = state.store.connection().await?;
        let now = entries::check_now(&connection, CheckId(id)).await?;
        let done = if now.check.state == "open" {
            void_open(&state, &mut connection, &signed, now, &form).await
        } else {
            void_concluded(&state, &mut connection, &signed, now, &form).await
        };
        match done {
            // What was judged is not what stands any more: an entry or the verdict came in between.
            Err(WebError::Store(StoreError::Conflict { constraint }))
                if constraint == "checks_seen" => {}
            other => return other,
        }
    }
    Err(WebError::NotNow { words: BUSY.into() })
}

async fn void_open(
    state: &AppState,
    connection: &mut Connection,
    signed: &SignedIn,
    now: CheckNow,
    form: &VoidForm,
) -> Result<Response, WebError> {
    let id = now.check.id;
    let hands = checks::hands(connection, &now.check).await?;
    let view = load(state, connection, now).await?;
    let attempts = attempts::of(connection, id).await?;
    let failing = view.was_failing()? || view.awaits_far(&attempts);
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    let refusal = match (form.reason(), may_void(failing, own, signed.person.role == "lead")) {
        (Err(words), _) => Some(words),
        (Ok(_), Err(error)) => Some(error.to_string()),
        (Ok(reason), Ok(())) => {
            let seen = view.seen.as_ref();
            vaaka_store::voids::void(connection, id, signed.person.id, &reason, seen, state.now())
                .await?;
            return Ok(Redirect::to("/").into_response());
        }
    };
    let typed = Typed { void_error: refusal, void_words: form.words.clone(), ..Typed::default() };
    let shown = view.page(state, connection, signed, None, typed).await?;
    page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
}

/// A concluded check is voided by a lead: it stays on record and leaves the charts.
async fn void_concluded(
    state: &AppState,
    connection: &mut Connection,
    signed: &SignedIn,
    now: CheckNow,
    form: &VoidForm,
) -> Result<Response, WebError> {
    let CheckNow { check, head, .. } = &now;
    let id = check.id;
    let refuse = |words: String| Err(WebError::NotNow { words });
    if check.state == "void" {
        return refuse("This check is void already.".into());
    }
    if signed.person.role != "lead" {
        return refuse("A check that was judged is voided by a lead only. Tell your lead what went wrong; until then it counts.".into());
    }
    let hands = checks::hands(connection, check).await?;
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    // Also what failed before it was corrected: every value ever kept counts.
    let failed = result_of(connection, id).await?.is_some_and(|own| own.row.conforms == "fail");
    let (seen, state_now) = (head.clone(), state.now());
    let failed = failed || load(state, connection, now).await?.was_failing()?;
    if let Err(error) = may_void(failed, own, true) {
        return refuse(error.to_string());
    }
    let reason = match form.reason() {
        Ok(reason) => reason,
        Err(words) => return refuse(words),
    };
    vaaka_store::voids::void(connection, id, signed.person.id, &reason, seen.as_ref(), state_now)
        .await?;
    Ok(Redirect::to(&format!("/checks/{id}/verdict")).into_response())
}
