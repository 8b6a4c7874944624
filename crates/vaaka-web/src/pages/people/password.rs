//! One's own password: changed by its owner, and set anew after a sign-in with one that an administrator chose.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tower_sessions::Session;
use vaaka_store::people;

use crate::auth::{Address, prove_on};
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader};
use crate::pages::form::Form;
use crate::pages::people::long_enough;
use crate::passwords::hash_in_background;
use crate::session::SignedIn;
use crate::state::AppState;

fn form(signed: &SignedIn) -> Form {
    let fields = vec![
        Field::new("password", "Password until now", Look::Password),
        Field::new("new", "New password", Look::Password)
            .hint("At least ten characters. A sentence is easier to remember than signs."),
        Field::new("again", "The new one once more", Look::Password),
    ];
    Form {
        intro: match signed.person.must_change {
            true => "The password with which you signed in was chosen by somebody else. Set your own; then go on with your work.".into(),
            false => "You stay signed in here; everywhere else you are signed out.".into(),
        },
        groups: vec![Group::new("", fields)],
        ..Form::new("people", "Your password", "/password", "/", "Set it")
    }
}

/// The form.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let desk = Desk::open(&state).await?;
    form(&signed).draw(&signed, &desk.here, &Fields::default(), &BTreeMap::new())
}

/// Sets it.
pub async fn set(
    session: Session,
    address: Address,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let raw = |name: &str| typed.0.get(name).cloned().unwrap_or_default();
    let mut reader = Reader::of(&typed);
    if !long_enough(&raw("new")) {
        reader.fault("new", "At least 10 characters, and at most 200.");
    } else if raw("new") == raw("password") {
        reader.fault("new", "This is the old one. Choose another.");
    }
    if raw("again") != raw("new") {
        reader.fault("again", "This is not what stands above. Type both once more.");
    }
    let name = &signed.person.sign_in;
    let (old, what) = (raw("password"), "set a new password");
    let proof = prove_on(&mut desk.connection, (name, &old), &address, what, desk.now).await?;
    if let Some(words) = proof.refusal("nothing was changed") {
        reader.fault("password", words);
    }
    if !reader.is_fine() {
        return form(&signed).draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let hash = hash_in_background(raw("new")).await?;
    let id = session.id().map(|id| id.to_string()).unwrap_or_default();
    people::own_password(&mut desk.connection, signed.person.id, &hash, &id, desk.now).await?;
    Ok(Redirect::to("/").into_response())
}
