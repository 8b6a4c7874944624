//! Server-side sessions. The table holds a hash of the session's id, so that a stolen copy of
//! the database signs nobody in.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::Value;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::ids::PersonId;
use crate::rows::Person;
use crate::schema::{people, sessions};
use crate::types::At;
use crate::{Store, StoreError};

pub(crate) fn hash(id: &str) -> Vec<u8> {
    Sha256::digest(id.as_bytes()).to_vec()
}

/// Inserts a session; false when the id is taken.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn create(
    store: &Store,
    id: &str,
    data: Value,
    person: Option<PersonId>,
    expires_at: Timestamp,
) -> Result<bool, StoreError> {
    let mut connection = store.connection().await?;
    let inserted = diesel::insert_into(sessions::table)
        .values((
            sessions::id_hash.eq(hash(id)),
            sessions::data.eq(data),
            sessions::person_id.eq(person),
            sessions::expires_at.eq(At(expires_at)),
        ))
        .on_conflict_do_nothing()
        .execute(&mut connection)
        .await?;
    Ok(inserted == 1)
}

/// Writes a session, new or not.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn save(
    store: &Store,
    id: &str,
    data: Value,
    person: Option<PersonId>,
    expires_at: Timestamp,
) -> Result<(), StoreError> {
    let mut connection = store.connection().await?;
    let values = (
        sessions::data.eq(data),
        sessions::person_id.eq(person),
        sessions::expires_at.eq(At(expires_at)),
    );
    diesel::insert_into(sessions::table)
        .values((sessions::id_hash.eq(hash(id)), values.clone()))
        .on_conflict(sessions::id_hash)
        .do_update()
        .set(values)
        .execute(&mut connection)
        .await?;
    Ok(())
}

/// Data and end of a session that has not ended by `now`.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn load(
    store: &Store,
    id: &str,
    now: Timestamp,
) -> Result<Option<(Value, Timestamp)>, StoreError> {
    let mut connection = store.connection().await?;
    let found: Option<(Value, At)> = sessions::table
        .find(hash(id))
        .filter(sessions::expires_at.gt(At(now)))
        .select((sessions::data, sessions::expires_at))
        .first(&mut connection)
        .await
        .optional()?;
    Ok(found.map(|(data, At(expires_at))| (data, expires_at)))
}

/// Data of a session that has not ended by `now`, with the active person who is signed in by it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn signed_in(
    connection: &mut AsyncPgConnection,
    id: &str,
    now: Timestamp,
) -> Result<Option<(Value, Person)>, StoreError> {
    Ok(sessions::table
        .inner_join(people::table)
        .filter(sessions::id_hash.eq(hash(id)))
        .filter(sessions::expires_at.gt(At(now)))
        .filter(people::active)
        .select((sessions::data, Person::as_select()))
        .first(connection)
        .await
        .optional()?)
}

/// Forgets a session.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn delete(store: &Store, id: &str) -> Result<(), StoreError> {
    let mut connection = store.connection().await?;
    diesel::delete(sessions::table.find(hash(id))).execute(&mut connection).await?;
    Ok(())
}

/// Forgets all that ended before `now`.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn delete_ended(store: &Store, now: Timestamp) -> Result<usize, StoreError> {
    let mut connection = store.connection().await?;
    Ok(diesel::delete(sessions::table.filter(sessions::expires_at.le(At(now))))
        .execute(&mut connection)
        .await?)
}
