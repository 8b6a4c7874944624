//! A lead orders a check.

use crate::desk::Sent;
use crate::error::WebError;
use crate::fields::Refusal;
use crate::forms::PathId;
use crate::pages::check::start::away;
use crate::pages::instrument::refused;
use crate::pages::round;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::round::Due;
use vaaka_store::checks::{self};
use vaaka_store::ids::PlanId;
use vaaka_store::orders;
use vaaka_store::plans::{self};

/// Orders a check of a plan out of turn.
pub async fn order(
    axum::extract::State(state): axum::extract::State<crate::state::AppState>,
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let plan = PlanId(id);
    let views = plans::versions(&mut desk.connection, plan).await?;
    let view = views.first().ok_or(WebError::NotFound)?;
    let tag = view.instrument.tag.clone();
    let reason = crate::fields::sentence(typed.get("reason"), 200);
    let in_force = plans::version_in_force(&mut desk.connection, plan).await?;
    let due = round::due_now(&mut desk.connection, &desk.here, desk.now).await?;
    let due = due.get(&plan);
    let open = checks::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let open = open.iter().any(|check| check.plan == plan && check.check.state == "open");
    let words = match &reason {
        Err(words) => Some(words.clone()),
        Ok(text) if vaaka_core::study::is_reason(text).is_err() => Some(
            "Say in a sentence what was settled, for example “cleaned and levelled, the pan was touching”."
                .to_owned(),
        ),
        Ok(_) if away(&view.instrument.state).is_some() => {
            away(&view.instrument.state).map(str::to_owned)
        }
        Ok(_) if in_force.is_none() => Some("No version of this plan is in force.".to_owned()),
        Ok(_) if open => Some("A check of it is open already: go on with that one.".to_owned()),
        Ok(_) if matches!(due, Some(Due::Due | Due::Repeat)) => {
            Some("Its check is due already: it waits on the round.".to_owned())
        }
        Ok(_) => None,
    };
    if let Some(words) = words {
        let refusal = Refusal::of(format!("order-{id}"), "reason", typed, words);
        return refused(&state, &mut desk.connection, &signed, &tag, refusal).await;
    }
    let reason = reason.unwrap_or_default();
    let place = (plan, desk.here.shift.id);
    orders::order(&mut desk.connection, place, &reason, signed.person.id, desk.now).await?;
    Ok(Redirect::to(&format!("/instruments/{tag}")).into_response())
}
