//! A place on the face of a standard that cannot be used: it bears a mark already, and the next one is proposed.

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_store::ids::CheckId;
use vaaka_store::{entries, wear};

use crate::error::WebError;
use crate::forms::{PathId, Posted};
use crate::open_run::load;
use crate::session::SignedIn;
use crate::state::AppState;

/// Which place.
#[derive(Debug, Deserialize)]
pub struct PlaceForm {
    #[serde(default)]
    form_token: String,
    /// The standard, by its place among those of the check.
    #[serde(default)]
    standard: usize,
    /// Places that were used up when this one was proposed: sent twice, it refuses one place.
    #[serde(default)]
    seen: usize,
}

/// What is kept of it.
const REASON: &str = "bore a mark already";

/// Refuses the place that is proposed, and shows the step with the next one.
pub async fn refuse(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<PlaceForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    let back = Redirect::to(&format!("/checks/{id}")).into_response();
    if now.check.state != "open" || now.check.held_by != signed.person.id {
        return Ok(back);
    }
    let open = load(&state, &mut connection, now).await?;
    let faces = open.faces(&mut connection).await?;
    let on = faces.get(form.standard).and_then(Option::as_ref);
    let certificate = open.certificate_at(form.standard);
    let (Some((face, taken)), Some(certificate)) = (on, certificate) else { return Ok(back) };
    if face.used.len() == form.seen && *taken < face.free().len() {
        let by = (REASON, signed.person.id, state.now());
        let of = (CheckId(id), certificate);
        wear::refuse_place(&mut connection, of, *taken, by).await?;
    }
    Ok(back)
}
