//! Reading an instrument over its line: from here, or by the station that stands near it. One person at a time has the line;
//! who leaves in the middle gives it back.

use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use tokio::time::sleep;
use uuid::Uuid;
use vaaka_devices::{Address, Answer, Link, Ready, Way, text};
use vaaka_store::Store;
use vaaka_store::ids::{CheckId, InstrumentId, KeyId, PersonId};
use vaaka_store::link_turns::{self, Brought, Holder, NewTurn};
use vaaka_store::links::{self, LinkRow};

use crate::error::WebError;
use crate::shell::Here;
use crate::state::{AppState, local_time};

/// What is to be read, and for whom.
#[derive(Debug)]
pub struct ToRead<'a> {
    /// The instrument.
    pub instrument: InstrumentId,
    /// Where it is.
    pub address: &'a str,
    /// How it is read.
    pub link: &'a Link,
    /// The station that reads it; none where this server does.
    pub station: Option<KeyId>,
    /// Who reads.
    pub person: PersonId,
    /// For which check; none where the line is tried.
    pub check: Option<CheckId>,
}

/// How a stored line is read.
pub fn link_of(row: &LinkRow) -> Result<Link, WebError> {
    serde_json::from_value(row.link.clone()).map_err(|cause| WebError::Inner(cause.to_string()))
}

/// How much longer than a reading may take the line is somebody's: the way to a station and back.
const GRACE: SignedDuration = SignedDuration::from_secs(3);
/// How long a station may take to fetch its work; one that is there asks all the time.
const STATION_COMES_WITHIN: Duration = Duration::from_secs(4);
/// How often it is asked whether a station has brought something.
const LOOK_EVERY: Duration = Duration::from_millis(30);

/// Gives the line back, also where whoever waited has gone.
struct Turn {
    store: Store,
    turn: Uuid,
}

impl Drop for Turn {
    fn drop(&mut self) {
        let (store, turn) = (self.store.clone(), self.turn);
        tokio::spawn(async move {
            if let Ok(mut connection) = store.connection().await
                && let Err(error) = link_turns::give_back(&mut connection, turn).await
            {
                // It ends by itself some seconds later.
                tracing::warn!(%error, "a line could not be given back");
            }
        });
    }
}

/// Reads an instrument; words where nothing came of it.
pub async fn read_line(
    state: &AppState,
    of: ToRead<'_>,
) -> Result<Result<Answer, String>, WebError> {
    let inner = |cause: &dyn std::fmt::Display| WebError::Inner(cause.to_string());
    let address: Address = match of.address.parse() {
        Ok(address) => address,
        Err(fault) => return Ok(Err(format!("{fault}"))),
    };
    let ready = match of.link.clone().ready() {
        Ok(ready) => ready,
        Err(fault) => return Ok(Err(format!("The connection cannot be used: {fault}"))),
    };
    let stored = serde_json::to_value(of.link).map_err(|cause| inner(&cause))?;
    let now = state.now();
    let longest = SignedDuration::from_millis(i64::from(of.link.timeout_ms)) + GRACE;
    let turn = Uuid::new_v4();
    let new = NewTurn {
        instrument: of.instrument,
        turn,
        person: of.person,
        check: of.check,
        now,
        ends_at: now + longest,
        station: of.station,
        address: of.address,
        link: &stored,
    };
    let mut connection = state.store.connection().await?;
    if let Err(holder) = link_turns::take(&mut connection, &new).await? {
        return Ok(Err(held_words(state, &mut connection, &holder).await?));
    }
    // No connection is held while an instrument takes its time.
    drop(connection);
    let _given_back = Turn { store: state.store.clone(), turn };
    match of.station {
        None => Ok(vaaka_devices::read(&address, &ready).await.map_err(|error| error.to_string())),
        Some(station) => from_station(state, station, turn, &ready, now + longest).await,
    }
}

async fn held_words(
    state: &AppState,
    connection: &mut vaaka_store::Connection,
    holder: &Holder,
) -> Result<String, WebError> {
    let here = Here::find(state, connection).await?;
    let at = local_time(holder.began_at.0, &here.zone);
    let what = match holder.check {
        Some(_) => "for a check",
        None => "to test its connection",
    };
    Ok(format!(
        "{} has been reading this instrument since {at}, {what}. Read again when they have finished, or type the value.",
        holder.person
    ))
}

/// Waits for what a station brings.
async fn from_station(
    state: &AppState,
    station: KeyId,
    turn: Uuid,
    ready: &Ready,
    until: Timestamp,
) -> Result<Result<Answer, String>, WebError> {
    let begun_by = tokio::time::Instant::now() + STATION_COMES_WITHIN;
    loop {
        let brought = {
            let mut connection = state.store.connection().await?;
            link_turns::brought(&mut connection, turn).await?
        };
        match brought {
            Brought::Bytes(bytes) => return Ok(as_answer(ready, bytes)),
            Brought::Trouble(words) => return Ok(Err(words)),
            Brought::Gone => {
                return Ok(Err(
                    "Read was pressed again, on this page or another; that reading counts.".into(),
                ));
            }
            Brought::NotYet { begun: false } if tokio::time::Instant::now() > begun_by => {
                return Ok(Err(absent_words(state, station).await?));
            }
            Brought::NotYet { .. } if state.now() >= until => {
                return Ok(Err(
                    "The bench PC started to read this instrument and sent nothing back. Read again, or type the value.".into(),
                ));
            }
            Brought::NotYet { .. } => sleep(LOOK_EVERY).await,
        }
    }
}

/// What a station sent, read here once more: what counts is decided in one place.
fn as_answer(ready: &Ready, bytes: Vec<u8>) -> Result<Answer, String> {
    if ready.link.way == Way::Block {
        return Ok(Answer::File { bytes });
    }
    match ready.line(&bytes) {
        Ok(reading) => Ok(Answer::Number { raw: bytes, reading }),
        Err(fault) => Err(format!(
            "The bench PC sent “{}”: {fault}. Read again, or type the value.",
            text::shown(&bytes, 80)
        )),
    }
}

async fn absent_words(state: &AppState, station: KeyId) -> Result<String, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(state, &mut connection).await?;
    let all = links::stations(&mut connection, Some(station)).await?;
    let Some(own) = all.iter().find(|one| one.id == station) else {
        return Err(WebError::Inner("a link of no station".into()));
    };
    if own.ended_at.is_some() {
        return Ok(format!(
            "The key of the bench PC “{}” has ended, so it no longer reads. Type the value, and tell your lead.",
            own.name
        ));
    }
    let last = own.asked_at.map_or_else(
        || "It has never been seen.".to_owned(),
        |at| format!("It was last seen at {}.", local_time(at.0, &here.zone)),
    );
    Ok(format!(
        "The bench PC “{}” does not answer. {last} Check that it is on and that “vaaka link” runs there, and read again, or type the value.",
        own.name
    ))
}
