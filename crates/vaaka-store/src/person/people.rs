//! People who sign in.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{AreaId, PersonId, SiteId};
use crate::rows::Person;
use crate::schema::{areas, people, sessions, shift_starts, sites};
use crate::types::By;
use crate::types::{At, WallTime};

/// The active person with this sign-in name, if there is one.
///
/// # Errors
/// [`StoreError`].
#[boxed]
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
#[boxed]
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

/// Whether the site says that it has one lead, and has no more: then nothing can be countersigned.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn is_only_lead(connection: &mut AsyncPgConnection) -> Result<bool, StoreError> {
    use crate::schema::sites;
    let says: Option<bool> =
        sites::table.select(sites::one_lead).first(connection).await.optional()?;
    if says != Some(true) {
        return Ok(false);
    }
    let leads: i64 = people::table
        .filter(people::role.eq("lead"))
        .filter(people::active)
        .count()
        .get_result(connection)
        .await?;
    Ok(leads <= 1)
}

/// How many people there are; zero means that nobody can sign in yet.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn count(connection: &mut AsyncPgConnection) -> Result<i64, StoreError> {
    Ok(people::table.count().get_result(connection).await?)
}

/// Everybody, those who have left last, by name.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(connection: &mut AsyncPgConnection) -> Result<Vec<Person>, StoreError> {
    Ok(people::table
        .order((people::active.desc(), people::name, people::id))
        .select(Person::as_select())
        .load(connection)
        .await?)
}

/// A person by id, also one who has left.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn anybody(
    connection: &mut AsyncPgConnection,
    id: PersonId,
) -> Result<Person, StoreError> {
    Ok(people::table.find(id).select(Person::as_select()).first(connection).await?)
}

/// What is said of a person.
#[derive(Debug, Clone, Copy)]
pub struct PersonFields<'a> {
    /// Sign-in name, in small letters.
    pub sign_in: &'a str,
    /// Name.
    pub name: &'a str,
    /// Address for mail; empty where there is none.
    pub email: &'a str,
    /// Role.
    pub role: &'a str,
    /// Whether they may sign in.
    pub active: bool,
    /// New password, hashed; the old one stays where none is given.
    pub password_hash: Option<&'a str>,
}

/// Adds a person.
///
/// # Errors
/// [`StoreError::Conflict`] on `people_sign_in_key`.
#[boxed]
pub async fn add(
    connection: &mut AsyncPgConnection,
    fields: PersonFields<'_>,
    password_hash: &str,
    by: By,
) -> Result<PersonId, StoreError> {
    connection
        .transaction(async |connection| {
            // What somebody else chose is good for one sign-in.
            let id = insert(connection, fields, (password_hash, true), by.at).await?;
            let detail =
                json!({ "sign_in": fields.sign_in, "name": fields.name, "role": fields.role });
            note(connection, id, Some(by.person), by.at, "person_added", detail).await?;
            Ok(id)
        })
        .await
}

async fn insert(
    connection: &mut AsyncPgConnection,
    fields: PersonFields<'_>,
    (password_hash, once): (&str, bool),
    at: Timestamp,
) -> Result<PersonId, StoreError> {
    Ok(diesel::insert_into(people::table)
        .values((
            people::sign_in.eq(fields.sign_in),
            people::name.eq(fields.name),
            people::email.eq(fields.email),
            people::role.eq(fields.role),
            people::password_hash.eq(password_hash),
            people::active.eq(fields.active),
            people::created_at.eq(At(at)),
            people::must_change.eq(once),
        ))
        .returning(people::id)
        .get_result(connection)
        .await?)
}

async fn note(
    connection: &mut AsyncPgConnection,
    id: PersonId,
    by: Option<PersonId>,
    at: Timestamp,
    action: &str,
    detail: serde_json::Value,
) -> Result<(), StoreError> {
    let chain = format!("person:{id}");
    audit::hold(connection, &chain).await?;
    audit::record(connection, &Happening { chain: &chain, at, person: by, action, detail }).await
}

/// Sets one's own password; every other sign-in of the person ends.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn own_password(
    connection: &mut AsyncPgConnection,
    person: PersonId,
    password_hash: &str,
    keep_session: &str,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::update(people::table.find(person))
                .set((
                    people::password_hash.eq(password_hash),
                    people::must_change.eq(false),
                    people::version.eq(people::version + 1),
                ))
                .execute(connection)
                .await?;
            let others = sessions::table
                .filter(sessions::person_id.eq(person))
                .filter(sessions::id_hash.ne(crate::sessions::hash(keep_session)));
            diesel::delete(others).execute(connection).await?;
            note(connection, person, Some(person), at, "own_password_set", json!({})).await
        })
        .await
}

/// Changes a person; who may no longer sign in, or has a new password or role, is signed out.
///
/// # Errors
/// [`StoreError::Conflict`] on `people_version` when somebody changed them meanwhile, on
/// `people_last_administrator` when nobody would be left to change people.
#[boxed]
pub async fn edit(
    connection: &mut AsyncPgConnection,
    seen: &Person,
    fields: PersonFields<'_>,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(people::table.find(seen.id))
                .filter(people::version.eq(seen.version))
                .set((
                    people::sign_in.eq(fields.sign_in),
                    people::name.eq(fields.name),
                    people::email.eq(fields.email),
                    people::role.eq(fields.role),
                    people::active.eq(fields.active),
                    people::version.eq(people::version + 1),
                    fields.password_hash.map(|hash| people::password_hash.eq(hash)),
                    fields.password_hash.map(|_| people::must_change.eq(seen.id != by.person)),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "people_version".to_owned() });
            }
            let left: i64 = people::table
                .filter(people::role.eq("administrator"))
                .filter(people::active)
                .count()
                .get_result(connection)
                .await?;
            if left == 0 && seen.role == "administrator" {
                let constraint = "people_last_administrator".to_owned();
                return Err(StoreError::Conflict { constraint });
            }
            if !fields.active || fields.role != seen.role || fields.password_hash.is_some() {
                diesel::delete(sessions::table.filter(sessions::person_id.eq(seen.id)))
                    .execute(connection)
                    .await?;
            }
            let detail = json!({
                "sign_in": fields.sign_in, "name": fields.name, "role": fields.role,
                "active": fields.active, "new_password": fields.password_hash.is_some(),
            });
            note(connection, seen.id, Some(by.person), by.at, "person_edited", detail).await
        })
        .await
}

/// A site as its first administrator sets it up.
#[derive(Debug, Clone)]
pub struct FirstSite<'a> {
    /// Name.
    pub name: &'a str,
    /// Time zone.
    pub zone: &'a str,
    /// Shifts: label and start on the wall clock.
    pub shifts: Vec<(&'a str, WallTime)>,
    /// Areas along the walk.
    pub areas: Vec<&'a str>,
}

/// Makes the first administrator and the site, on an empty database only: the table of people is
/// locked, so that of two at one moment one is refused.
///
/// # Errors
/// [`StoreError::Conflict`] on `people_first` when there are people already.
#[boxed]
pub async fn first(
    connection: &mut AsyncPgConnection,
    fields: PersonFields<'_>,
    password_hash: &str,
    site: &FirstSite<'_>,
    at: Timestamp,
) -> Result<PersonId, StoreError> {
    connection
        .transaction(async |connection| {
            diesel::sql_query("LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE")
                .execute(connection)
                .await?;
            if count(connection).await? > 0 {
                return Err(StoreError::Conflict { constraint: "people_first".to_owned() });
            }
            let id = insert(connection, fields, (password_hash, false), at).await?;
            let site_id: SiteId = diesel::insert_into(sites::table)
                .values((sites::name.eq(site.name), sites::zone.eq(site.zone)))
                .returning(sites::id)
                .get_result(connection)
                .await?;
            for (label, start) in &site.shifts {
                diesel::insert_into(shift_starts::table)
                    .values((
                        shift_starts::site_id.eq(site_id),
                        shift_starts::label.eq(label),
                        shift_starts::starts_at_local.eq(*start),
                    ))
                    .execute(connection)
                    .await?;
            }
            for (name, order) in site.areas.iter().zip(1_i32..) {
                insert_area(connection, site_id, name, order).await?;
            }
            note(connection, id, None, at, "first_administrator", json!({ "site": site.name }))
                .await?;
            Ok(id)
        })
        .await
}

async fn insert_area(
    connection: &mut AsyncPgConnection,
    site: SiteId,
    name: &str,
    order: i32,
) -> Result<AreaId, StoreError> {
    Ok(diesel::insert_into(areas::table)
        .values((areas::site_id.eq(site), areas::name.eq(name), areas::walk_order.eq(order)))
        .returning(areas::id)
        .get_result(connection)
        .await?)
}

/// Adds an area at the end of the walk.
///
/// # Errors
/// [`StoreError::Conflict`] on `areas_site_id_name_key` when it exists.
#[boxed]
pub async fn add_area(
    connection: &mut AsyncPgConnection,
    name: &str,
    by: By,
) -> Result<AreaId, StoreError> {
    connection
        .transaction(async |connection| {
            let site: SiteId =
                sites::table.order(sites::id).select(sites::id).first(connection).await?;
            // Two who add areas at one moment put them one after the other.
            let chain = format!("site:{site}");
            audit::hold(connection, &chain).await?;
            let last: Option<i32> =
                areas::table.select(diesel::dsl::max(areas::walk_order)).first(connection).await?;
            let id = insert_area(connection, site, name, last.unwrap_or(0) + 1).await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain,
                    at: by.at,
                    person: Some(by.person),
                    action: "area_added",
                    detail: json!({ "area": name }),
                },
            )
            .await?;
            Ok(id)
        })
        .await
}
