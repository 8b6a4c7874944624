//! The first administrator of an empty database: proven by a code that only whoever started the
//! server can read, never by a default password.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::time;
use jiff::tz::TimeZone;
use tower_sessions::Session;
use vaaka_store::people::{self, FirstSite, PersonFields};
use vaaka_store::{StoreError, WallTime};

use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader};
use crate::pages::people::{long_enough, read_sign_in};
use crate::passwords::hash_in_background;
use crate::session;
use crate::shell::{Shell, page};
use crate::state::AppState;

#[derive(Debug, Template)]
#[template(path = "first.html")]
struct FirstPage {
    shell: Shell,
    groups: Vec<Group>,
    error: Option<String>,
}

fn groups() -> Vec<Group> {
    vec![
        Group::new(
            "You",
            vec![
                Field::new("code", "Code", Look::Line)
                    .hint("It stands where the server was started: in its terminal or its log."),
                Field::new("name", "Name", Look::Line),
                Field::new("sign_in", "Sign-in name", Look::Line).hint("Small letters."),
                Field::new("password", "Password", Look::Password).hint("At least ten characters."),
                Field::new("again", "The same again", Look::Password),
            ],
        ),
        Group::new(
            "The site",
            vec![
                Field::new("site", "Its name", Look::Line),
                Field::new("zone", "Time zone", Look::Line).hint("Like Europe/Helsinki."),
                Field::new("areas", "Areas, in the order of the walk, one a line", Look::Lines),
            ],
        ),
    ]
}

fn draw(
    headers: &HeaderMap,
    typed: &Fields,
    faults: &BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let mut groups = groups();
    for group in &mut groups {
        group.fill(typed, faults);
    }
    let shell = Shell::plain(session::look_of(headers));
    let error = faults.get("*").cloned();
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    page(status, &FirstPage { shell, groups, error })
}

async fn is_empty(state: &AppState) -> Result<bool, WebError> {
    let mut connection = state.store.connection().await?;
    Ok(people::count(&mut connection).await? == 0)
}

/// Shows the page while there is nobody.
pub async fn show(State(state): State<AppState>, headers: HeaderMap) -> Result<Response, WebError> {
    if !is_empty(&state).await? {
        return Ok(Redirect::to("/sign-in").into_response());
    }
    let typed = Fields::default().with("zone", "Europe/Helsinki");
    draw(&headers, &typed, &BTreeMap::new())
}

/// Makes the first administrator and the site, and signs in.
pub async fn submit(
    State(state): State<AppState>,
    session: Session,
    headers: HeaderMap,
    typed: Fields,
) -> Result<Response, WebError> {
    if !is_empty(&state).await? {
        return Ok(Redirect::to("/sign-in").into_response());
    }
    let mut reader = Reader::of(&typed);
    if typed.get("code").is_empty() || typed.get("code") != state.settings.first_code {
        reader.fault("code", "This is not the code. It stands in the server's terminal or log, after “first administrator”.");
    }
    let name = reader.required("name", 80, "Give your name; it stands on the records.");
    let sign_in = read_sign_in(&mut reader);
    let password = typed.0.get("password").cloned().unwrap_or_default();
    if !long_enough(&password) {
        reader.fault("password", "At least ten characters.");
    }
    if typed.0.get("again") != Some(&password) {
        reader.fault("again", "The two passwords differ. Type both again.");
    }
    let site = reader.required("site", 80, "Name the site.");
    let zone = reader.required("zone", 60, "Give the time zone of the site.");
    if !zone.is_empty() && TimeZone::get(&zone).is_err() {
        reader.fault(
            "zone",
            "This is no time zone of the tz database. Type one like Europe/Helsinki.",
        );
    }
    let areas =
        reader.required("areas", 2_000, "Name one area at least; instruments stand in areas.");
    let mut areas: Vec<&str> =
        areas.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    areas.dedup();
    if !reader.is_fine() {
        return draw(&headers, &typed, &reader.faults);
    }
    let hash = hash_in_background(password).await?;
    let fields = PersonFields {
        sign_in: &sign_in,
        email: "",
        name: &name,
        role: "administrator",
        active: true,
        password_hash: None,
    };
    let start = |hour| WallTime(time(hour, 0, 0, 0));
    let site = FirstSite {
        name: &site,
        zone: &zone,
        shifts: vec![("Morning", start(6)), ("Evening", start(14)), ("Night", start(22))],
        areas,
    };
    let mut connection = state.store.connection().await?;
    match people::first(&mut connection, fields, &hash, &site, state.now()).await {
        Ok(id) => {
            session::sign_in(&session, id).await?;
            Ok(Redirect::to("/people").into_response())
        }
        Err(StoreError::Conflict { constraint }) if constraint == "people_first" => {
            Ok(Redirect::to("/sign-in").into_response())
        }
        Err(StoreError::Conflict { .. }) => {
            let faults =
                BTreeMap::from([("areas".to_owned(), "An area is here twice.".to_owned())]);
            draw(&headers, &typed, &faults)
        }
        Err(other) => Err(other.into()),
    }
}
