//! What bench PCs ask: what to read next, and here is what came. A bench PC knows its key, the address of this server, and
//! nothing of checks or people.

use std::time::Duration;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tokio::time::{Instant, sleep};
use uuid::Uuid;
use vaaka_store::link_turns;

use crate::error::WebError;
use crate::session::StationKey;
use crate::state::AppState;

/// What a station is to read.
#[derive(Debug, Serialize, Deserialize)]
pub struct Work {
    /// The turn, to send back with what came.
    pub turn: Uuid,
    /// Where the instrument is.
    pub address: String,
    /// How it is read.
    pub link: Value,
}

/// How long a station waits for something to read before it asks again.
const WAIT: Duration = Duration::from_secs(15);
/// How often it is looked whether there is something.
const LOOK_EVERY: Duration = Duration::from_millis(40);

/// What to read next: waits for some seconds until there is something; 204 where there is nothing.
pub async fn next(
    StationKey(known): StationKey,
    State(state): State<AppState>,
) -> Result<Response, WebError> {
    let until = Instant::now() + WAIT;
    let mut connection = state.store.connection().await?;
    link_turns::station_asks(&mut connection, known.id, state.now()).await?;
    drop(connection);
    let closed = state.closed();
    let mut closed = std::pin::pin!(closed);
    loop {
        let mut connection = state.store.connection().await?;
        if let Some(work) = link_turns::next_of(&mut connection, known.id, state.now()).await? {
            let work = Work { turn: work.turn, address: work.address, link: work.link };
            return Ok(Json(work).into_response());
        }
        drop(connection);
        if Instant::now() >= until {
            return Ok(StatusCode::NO_CONTENT.into_response());
        }
        tokio::select! {
            () = sleep(LOOK_EVERY) => {}
            () = &mut closed => return Ok(StatusCode::NO_CONTENT.into_response()),
        }
    }
}

/// Longest words of a station.
const MOST_WORDS: usize = 500;

/// Takes what came: bytes as they are, or words as plain text why there are none. 410 where nobody waits for it any more.
pub async fn bring(
    StationKey(known): StationKey,
    State(state): State<AppState>,
    Path(turn): Path<Uuid>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response, WebError> {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
    let words: String;
    let came: Result<&[u8], &str> = match kind {
        Some(kind) if kind.starts_with("text/plain") => {
            words =
                String::from_utf8_lossy(&body).replace('\0', "").chars().take(MOST_WORDS).collect();
            Err(&words)
        }
        _ => Ok(&body),
    };
    let mut connection = state.store.connection().await?;
    let taken = link_turns::bring(&mut connection, (known.id, turn), came, state.now()).await?;
    Ok(if taken { StatusCode::NO_CONTENT } else { StatusCode::GONE }.into_response())
}
