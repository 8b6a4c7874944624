//! People who sign in.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};

use crate::StoreError;
use crate::ids::PersonId;
use crate::rows::Person;
use crate::schema::people;

/// The active person with this sign-in name, if there is one.
///
/// # Errors
/// [`StoreError`].
pub async fn by_sign_in(
    connection: &mut AsyncPgConnection,
    sign_in: &str,
) -> Result<Option<Person>, StoreError> {
    Ok(people::table
        .filter(people::sign_in.eq(sign_in.trim().to_lowercase()))
        .filter(people::active)
        .select(Person::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The active person with this id, if there is one.
///
/// # Errors
/// [`StoreError`].
pub async fn by_id(
    connection: &mut AsyncPgConnection,
    id: PersonId,
) -> Result<Option<Person>, StoreError> {
    Ok(people::table
        .find(id)
        .filter(people::active)
        .select(Person::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// How many people there are; zero means that nobody can sign in yet.
///
/// # Errors
/// [`StoreError`].
pub async fn count(connection: &mut AsyncPgConnection) -> Result<i64, StoreError> {
    Ok(people::table.count().get_result(connection).await?)
}
