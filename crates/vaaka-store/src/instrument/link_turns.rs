//! Whose turn it is at an instrument's line: one at a time, for as long as a reading may take. A station takes its work here,
//! and brings back what came.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use uuid::Uuid;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::ids::{CheckId, InstrumentId, KeyId, PersonId};
use crate::schema::{link_turns, people, program_keys};
use crate::types::At;

/// A turn that is asked for.
#[derive(Debug, Clone)]
pub struct NewTurn<'a> {
    /// The instrument.
    pub instrument: InstrumentId,
    /// Its own number.
    pub turn: Uuid,
    /// Who reads.
    pub person: PersonId,
    /// For which check; none where the link is tried.
    pub check: Option<CheckId>,
    /// From when.
    pub now: Timestamp,
    /// Until when, at the latest.
    pub ends_at: Timestamp,
    /// The station that is to read.
    pub station: Option<KeyId>,
    /// Where the instrument is.
    pub address: &'a str,
    /// How it is read.
    pub link: &'a Value,
}

/// Who has the turn instead.
#[derive(Debug, Clone, PartialEq, Eq, Queryable)]
pub struct Holder {
    /// Who.
    pub person: String,
    /// Since when.
    pub began_at: At,
    /// For which check.
    pub check: Option<CheckId>,
}

/// Takes a turn, unless somebody has it. A turn that is over counts for nothing; who reads again for the same check takes the
/// place of their own earlier turn, whose answer nobody waits for any more.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn take(
    connection: &mut AsyncPgConnection,
    new: &NewTurn<'_>,
) -> Result<Result<(), Holder>, StoreError> {
    let taken = diesel::sql_query(
        "INSERT INTO link_turns (instrument_id, turn, person_id, check_id, began_at, ends_at, station_id, address, link)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
         ON CONFLICT (instrument_id) DO UPDATE SET turn = excluded.turn, person_id = excluded.person_id,
             check_id = excluded.check_id, began_at = excluded.began_at, ends_at = excluded.ends_at,
             station_id = excluded.station_id, address = excluded.address, link = excluded.link,
             taken_at = NULL, answered_at = NULL, answer = NULL, trouble = NULL
         WHERE link_turns.ends_at <= excluded.began_at OR (link_turns.person_id = excluded.person_id
             AND link_turns.check_id IS NOT DISTINCT FROM excluded.check_id)",
    )
    .bind::<BigInt, _>(new.instrument)
    .bind::<SqlUuid, _>(new.turn)
    .bind::<BigInt, _>(new.person)
    .bind::<Nullable<BigInt>, _>(new.check)
    .bind::<Timestamptz, _>(At(new.now))
    .bind::<Timestamptz, _>(At(new.ends_at))
    .bind::<Nullable<BigInt>, _>(new.station)
    .bind::<Text, _>(new.address)
    .bind::<Jsonb, _>(new.link)
    .execute(connection)
    .await?;
    if taken == 1 {
        return Ok(Ok(()));
    }
    let holder: Option<Holder> = link_turns::table
        .inner_join(people::table.on(people::id.eq(link_turns::person_id)))
        .filter(link_turns::instrument_id.eq(new.instrument))
        .select((people::name, link_turns::began_at, link_turns::check_id))
        .first(connection)
        .await
        .optional()?;
    // Given back between the two: the next try gets it.
    let nobody = Holder { person: "Somebody".to_owned(), began_at: At(new.now), check: None };
    Ok(Err(holder.unwrap_or(nobody)))
}

/// Gives a turn back; one that is somebody else's by now stays theirs.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn give_back(connection: &mut AsyncPgConnection, turn: Uuid) -> Result<(), StoreError> {
    diesel::delete(link_turns::table.filter(link_turns::turn.eq(turn))).execute(connection).await?;
    Ok(())
}

/// What a station brought back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Brought {
    /// Nothing yet; whether it has begun.
    NotYet {
        /// Whether it has begun.
        begun: bool,
    },
    /// What came.
    Bytes(Vec<u8>),
    /// Why nothing came.
    Trouble(String),
    /// The turn is somebody else's by now.
    Gone,
}

/// What a station has brought back for a turn.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn brought(
    connection: &mut AsyncPgConnection,
    turn: Uuid,
) -> Result<Brought, StoreError> {
    type Row = (Option<At>, Option<Vec<u8>>, Option<String>);
    let row: Option<Row> = link_turns::table
        .filter(link_turns::turn.eq(turn))
        .select((link_turns::taken_at, link_turns::answer, link_turns::trouble))
        .first(connection)
        .await
        .optional()?;
    Ok(match row {
        None => Brought::Gone,
        Some((_, Some(bytes), _)) => Brought::Bytes(bytes),
        Some((_, _, Some(words))) => Brought::Trouble(words),
        Some((taken, ..)) => Brought::NotYet { begun: taken.is_some() },
    })
}

/// What a station is to read next.
#[derive(Debug, Clone, QueryableByName)]
pub struct Work {
    /// The turn.
    #[diesel(sql_type = SqlUuid)]
    pub turn: Uuid,
    /// Where the instrument is.
    #[diesel(sql_type = Text)]
    pub address: String,
    /// How it is read.
    #[diesel(sql_type = Jsonb)]
    pub link: Value,
}

/// How often at most it is noted that a station asks.
const ASKED_NOTED_EVERY: SignedDuration = SignedDuration::from_secs(10);

/// Notes that a station is there.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn station_asks(
    connection: &mut AsyncPgConnection,
    station: KeyId,
    now: Timestamp,
) -> Result<(), StoreError> {
    let before = now.checked_sub(ASKED_NOTED_EVERY).unwrap_or(now);
    diesel::update(program_keys::table.find(station))
        .filter(program_keys::asked_at.is_null().or(program_keys::asked_at.le(At(before))))
        .set(program_keys::asked_at.eq(At(now)))
        .execute(connection)
        .await?;
    Ok(())
}

/// Hands the oldest turn of a station out to it, once.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn next_of(
    connection: &mut AsyncPgConnection,
    station: KeyId,
    now: Timestamp,
) -> Result<Option<Work>, StoreError> {
    Ok(diesel::sql_query(
        "UPDATE link_turns SET taken_at = $2 WHERE turn = (
             SELECT turn FROM link_turns WHERE station_id = $1 AND taken_at IS NULL AND ends_at > $2
             ORDER BY began_at LIMIT 1 FOR UPDATE SKIP LOCKED)
         RETURNING turn, address, link",
    )
    .bind::<BigInt, _>(station)
    .bind::<Timestamptz, _>(At(now))
    .get_result(connection)
    .await
    .optional()?)
}

/// Takes what a station brings; false where nobody waits for it any more.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn bring(
    connection: &mut AsyncPgConnection,
    (station, turn): (KeyId, Uuid),
    came: Result<&[u8], &str>,
    now: Timestamp,
) -> Result<bool, StoreError> {
    let brought = diesel::update(link_turns::table)
        .filter(link_turns::turn.eq(turn))
        .filter(link_turns::station_id.eq(station))
        .filter(link_turns::answered_at.is_null())
        .set((
            link_turns::answered_at.eq(At(now)),
            link_turns::answer.eq(came.ok()),
            link_turns::trouble.eq(came.err()),
        ))
        .execute(connection)
        .await?;
    Ok(brought == 1)
}
