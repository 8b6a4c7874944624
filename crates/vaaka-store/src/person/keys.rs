//! Keys of other programs. The table holds a hash of each, so that a stolen copy of the database lets
//! nobody in.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::KeyId;
use crate::schema::{people, program_keys};
use crate::types::At;
use crate::types::By;

/// How often at most the moment of use is written.
const USE_NOTED_EVERY: SignedDuration = SignedDuration::from_mins(5);

/// A key, which itself is known to its program only.
#[derive(Debug, Clone, Queryable)]
pub struct ProgramKey {
    /// Id.
    pub id: KeyId,
    /// What the program is called.
    pub name: String,
    /// Who made the key.
    pub made_by: String,
    /// When.
    pub made_at: At,
    /// When it was used last, to within some minutes.
    pub last_used_at: Option<At>,
    /// When it was ended.
    pub ended_at: Option<At>,
    /// Whether it is that of a bench PC that reads instruments.
    pub station: bool,
}

/// A key that was shown and is in use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// Id.
    pub id: KeyId,
    /// Name of its program or station.
    pub name: String,
    /// Whether it is that of a bench PC that reads instruments.
    pub station: bool,
}

fn hash(key: &str) -> Vec<u8> {
    Sha256::digest(key.as_bytes()).to_vec()
}

async fn note(
    connection: &mut AsyncPgConnection,
    id: KeyId,
    by: By,
    action: &str,
    name: &str,
) -> Result<(), StoreError> {
    let happening = Happening {
        chain: &format!("key:{id}"),
        at: by.at,
        person: Some(by.person),
        action,
        detail: json!({ "name": name }),
    };
    audit::record(connection, &happening).await
}

/// Keeps a new key.
///
/// # Errors
/// [`StoreError::Conflict`] on `program_keys_name` when a key of this name is in use.
#[boxed]
pub async fn make(
    connection: &mut AsyncPgConnection,
    (name, station): (&str, bool),
    key: &str,
    by: By,
) -> Result<KeyId, StoreError> {
    connection
        .transaction(async |connection| {
            let id: KeyId = diesel::insert_into(program_keys::table)
                .values((
                    program_keys::name.eq(name),
                    program_keys::key_hash.eq(hash(key)),
                    program_keys::made_by.eq(by.person),
                    program_keys::made_at.eq(At(by.at)),
                    program_keys::station.eq(station),
                ))
                .returning(program_keys::id)
                .get_result(connection)
                .await?;
            note(connection, id, by, "key_made", name).await?;
            Ok(id)
        })
        .await
}

/// Ends a key; one that has ended stays as it is.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn end(connection: &mut AsyncPgConnection, id: KeyId, by: By) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let name: Option<String> = diesel::update(program_keys::table.find(id))
                .filter(program_keys::ended_at.is_null())
                .set((program_keys::ended_by.eq(by.person), program_keys::ended_at.eq(At(by.at))))
                .returning(program_keys::name)
                .get_result(connection)
                .await
                .optional()?;
            let Some(name) = name else { return Ok(()) };
            note(connection, id, by, "key_ended", &name).await
        })
        .await
}

/// All keys, those in use first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(connection: &mut AsyncPgConnection) -> Result<Vec<ProgramKey>, StoreError> {
    Ok(program_keys::table
        .inner_join(people::table.on(people::id.eq(program_keys::made_by)))
        .order((program_keys::ended_at.is_not_null(), program_keys::id))
        .select((
            program_keys::id,
            program_keys::name,
            people::name,
            program_keys::made_at,
            program_keys::last_used_at,
            program_keys::ended_at,
            program_keys::station,
        ))
        .load(connection)
        .await?)
}

/// The program whose key this is, if it is in use; notes that it was used.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    connection: &mut AsyncPgConnection,
    key: &str,
    now: Timestamp,
) -> Result<Option<Known>, StoreError> {
    let found: Option<(KeyId, String, Option<At>, bool)> = program_keys::table
        .filter(program_keys::key_hash.eq(hash(key)))
        .filter(program_keys::ended_at.is_null())
        .select((
            program_keys::id,
            program_keys::name,
            program_keys::last_used_at,
            program_keys::station,
        ))
        .first(connection)
        .await
        .optional()?;
    let Some((id, name, used, station)) = found else { return Ok(None) };
    if used.is_none_or(|used| now.duration_since(used.0).abs() >= USE_NOTED_EVERY) {
        diesel::update(program_keys::table.find(id))
            .set(program_keys::last_used_at.eq(At(now)))
            .execute(connection)
            .await?;
    }
    Ok(Some(Known { id, name, station }))
}
