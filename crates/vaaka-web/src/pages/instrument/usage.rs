//! Changing whether an instrument, or one of its cells, may be used.

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::instrument::{
    LatestCheck, ServiceState, StateChange, StateError, check_change, latest_of_cells,
};
use vaaka_store::ids::SetUpId;
use vaaka_store::instruments::{self, NewState};
use vaaka_store::rows::{Instrument, SetUp};
use vaaka_store::standing::{Of, Standings};
use vaaka_store::{StoreError, unreadable_word};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Reader, Refusal};
use crate::forms::PathTag;
use crate::pages::instrument::way_on::latest_of;
use crate::pages::instrument::{first_fault, refused, refused_as};

use crate::session::SignedIn;
use crate::state::AppState;

/// A change as it was asked for, and what it rests on.
struct Asked {
    to: ServiceState,
    cell: Option<SetUp>,
    /// Cells that are not proven: they are put on hold where the whole instrument comes back to use.
    left_behind: Vec<SetUp>,
}

/// Changes the state, or shows the page again with the words at the form.
pub async fn change(
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let mut reader = Reader::of(&typed);
    let (reason, only) = (reader.sentence("reason", 200), reader.sentence("restricted_to", 200));
    if let Some((field, words)) = first_fault(&mut reader, ["reason", "restricted_to"]) {
        let refusal = Refusal::of("state", field, typed, words);
        return refused(&state, &mut desk.connection, &signed, &tag, refusal).await;
    }
    let asked = ask(&mut desk, &signed, &instrument, &typed, (&reason, &only)).await?;
    let asked = match asked {
        Ok(asked) => asked,
        Err((field, words)) => {
            let refusal = Refusal::of("state", field, typed, words);
            return refused(&state, &mut desk.connection, &signed, &tag, refusal).await;
        }
    };
    let mut seen = instrument;
    seen.version = typed.get("version").parse().unwrap_or(0);
    let new = NewState {
        instrument: &seen,
        cell: asked.cell.as_ref(),
        to: asked.to,
        restricted_to: (asked.to == ServiceState::Restricted).then_some(only.as_str()),
        reason: &reason,
        person: signed.person.id,
        at: desk.now,
    };
    match instruments::change_state(&mut desk.connection, new, &asked.left_behind).await {
        Ok(()) => Ok(Redirect::to(&format!("/instruments/{tag}")).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "Somebody changed this instrument a moment ago. Look at its state above, then decide again.";
            let refusal = Refusal::of("state", "to", typed, words);
            let again = (tag.as_str(), refusal);
            refused_as(StatusCode::CONFLICT, &state, &mut desk.connection, &signed, again).await
        }
        Err(other) => Err(other.into()),
    }
}

/// Asks the core whether the change may be made; the field and the words where it may not.
async fn ask(
    desk: &mut Desk,
    signed: &SignedIn,
    instrument: &Instrument,
    typed: &Fields,
    (reason, restricted_to): (&str, &str),
) -> Result<Result<Asked, (&'static str, String)>, WebError> {
    let connection = &mut desk.connection;
    let cells = instruments::cells_of(connection, instrument.id).await?;
    let cell = match typed.get("of").trim() {
        "" => None,
        id => {
            let meant = id.parse().ok().map(SetUpId);
            let Some(cell) = cells.iter().find(|cell| Some(cell.id) == meant) else {
                let words = "This cell is not in use any more. Choose what you mean again.";
                return Ok(Err(("of", words.to_owned())));
            };
            Some(cell.clone())
        }
    };
    let word = cell.as_ref().map_or(&instrument.state, |cell| &cell.state);
    let from: ServiceState = word.parse().map_err(|_| unreadable_word(word))?;
    let to: ServiceState = match typed.get("to").parse() {
        Ok(to) => to,
        Err(error) => return Ok(Err(("to", StateError::to_string(&error)))),
    };
    let standings =
        Standings::read(connection, Of::Instruments(&[instrument.id]), desk.now).await?;
    let plans = standings.plans(instrument.id);
    let states = instruments::states(connection, instrument.id).await?;
    let mut planned: Vec<SetUpId> = plans.iter().map(|plan| plan.set_up).collect();
    planned.sort_unstable();
    planned.dedup();
    let of_cell = cell.is_some();
    let by_cell: Vec<(SetUpId, Option<LatestCheck>)> = planned
        .into_iter()
        .map(|set_up| (set_up, latest_of(&states, plans, (set_up, of_cell))))
        .collect();
    let latest = match &cell {
        Some(cell) => by_cell.iter().find(|(id, _)| *id == cell.id).and_then(|(_, one)| *one),
        None => latest_of_cells(to, &by_cell.iter().map(|(_, one)| *one).collect::<Vec<_>>()),
    };
    let asked = check_change(&StateChange {
        from,
        to,
        reason,
        restricted_to,
        by_lead: signed.person.role == "lead",
        latest,
        of_cell,
    });
    if let Err(error) = asked {
        let field = match error {
            StateError::NoReason => "reason",
            StateError::NoRestriction => "restricted_to",
            _ => "to",
        };
        return Ok(Err((field, error.to_string())));
    }
    // Taken into use as a whole: what was not checked since is not proven by what was.
    let to_use = matches!(to, ServiceState::InService | ServiceState::Restricted)
        && from.is_worse_than(to)
        && cell.is_none();
    let unproven = |cell: &SetUp| {
        let own = by_cell.iter().find(|(id, _)| *id == cell.id);
        cell.state != ServiceState::OnHold.word()
            && own.is_some_and(|(_, latest)| latest.is_none_or(|one| !one.is_good_since()))
    };
    let left_behind =
        if to_use { cells.into_iter().filter(unproven).collect() } else { Vec::new() };
    Ok(Ok(Asked { to, cell, left_behind }))
}
