//! Keys of other programs: made, shown once, ended.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_store::ids::KeyId;
use vaaka_store::{StoreError, keys};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::Reader;
use crate::forms::PathId;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "keys.html")]
struct KeysPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
    made: Option<(String, String)>,
    error: Option<String>,
    typed: String,
}

#[derive(Debug)]
struct Row {
    id: i64,
    name: String,
    made: String,
    used: String,
    ended: Option<String>,
    station: bool,
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    made: Option<(String, String)>,
    error: Option<String>,
    typed: String,
) -> Result<Response, WebError> {
    let zone = desk.here.zone.clone();
    let when = |at: vaaka_store::At| local_day_time(at.0, &zone);
    let rows: Vec<Row> = keys::all(&mut desk.connection)
        .await?
        .into_iter()
        .map(|key| Row {
            id: key.id.0,
            name: key.name,
            station: key.station,
            made: format!("{} by {}", when(key.made_at), key.made_by),
            used: key.last_used_at.map_or("not yet".to_owned(), when),
            ended: key.ended_at.map(when),
        })
        .collect();
    let status = if error.is_none() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let heading = match rows.iter().filter(|row| row.ended.is_none()).count() {
        0 => "none is in use".to_owned(),
        1 => "one is in use".to_owned(),
        n => format!("{n} are in use"),
    };
    let shell = Shell::new(signed, "people", &desk.here);
    page(status, &KeysPage { shell, heading, rows, made, error, typed })
}

/// Shows the keys.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, None, None, String::new()).await
}

/// Makes a key and shows it, this once.
pub async fn make(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let name = reader.required("name", 80, "Say which program it is for.");
    let sent = typed.get("name").to_owned();
    if let Some(words) = reader.faults.clone().into_values().next() {
        return draw(&mut desk, &signed, None, Some(words), sent).await;
    }
    // 244 random bits: nobody guesses it, so that a plain hash of it is enough.
    let random = || uuid::Uuid::new_v4().simple().to_string();
    let key = format!("vaaka_{}{}", random(), random());
    let by = desk.by(&signed);
    let station = reader.ticked("station");
    match keys::make(&mut desk.connection, (&name, station), &key, by).await {
        Ok(_) => draw(&mut desk, &signed, Some((name, key)), None, String::new()).await,
        Err(StoreError::Conflict { .. }) => {
            let words = format!(
                "A key for “{name}” is in use already. End that one first, or give this one another name."
            );
            draw(&mut desk, &signed, None, Some(words), sent).await
        }
        Err(other) => Err(other.into()),
    }
}

/// Ends a key.
pub async fn end(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let by = desk.by(&signed);
    keys::end(&mut desk.connection, KeyId(id), by).await?;
    Ok(Redirect::to("/keys").into_response())
}
