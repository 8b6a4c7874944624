//! Lines to instruments: where each is and how it is read, changed by leads with an entry in the trail.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::{Value, json};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{InstrumentId, KeyId, PersonId};
use crate::schema::{instrument_links, instruments, program_keys};
use crate::types::{At, By};

/// A line to an instrument.
#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = instrument_links)]
pub struct LinkRow {
    /// The instrument.
    pub instrument_id: InstrumentId,
    /// The station that reads it; none where the server does.
    pub station_id: Option<KeyId>,
    /// Where it is.
    pub address: String,
    /// How it is read.
    pub link: Value,
    /// Whether it is read; else its readings are typed.
    pub in_use: bool,
    /// Optimistic version.
    pub version: i32,
    /// Who changed it last.
    pub changed_by: PersonId,
    /// When.
    pub changed_at: At,
}

/// What a lead says of a line.
#[derive(Debug, Clone, PartialEq)]
pub struct LinkFields {
    /// The station that reads it; none where the server does.
    pub station: Option<KeyId>,
    /// Where it is.
    pub address: String,
    /// How it is read.
    pub link: Value,
    /// Whether it is read.
    pub in_use: bool,
}

/// The line of an instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_instrument(
    mut connection: &AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Option<LinkRow>, StoreError> {
    Ok(instrument_links::table
        .find(instrument)
        .select(LinkRow::as_select())
        .first(&mut connection)
        .await
        .optional()?)
}

/// All lines, with tag and name of their instruments, by tag.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(LinkRow, String, String)>, StoreError> {
    Ok(instrument_links::table
        .inner_join(instruments::table)
        .order(instruments::tag)
        .select((LinkRow::as_select(), instruments::tag, instruments::name))
        .load(connection)
        .await?)
}

/// Says how an instrument is read. `seen` is the version that the form showed; 0 where there was none.
///
/// # Errors
/// [`StoreError::Conflict`] on `version` where somebody else has changed it since.
#[boxed]
pub async fn save(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    fields: &LinkFields,
    seen: i32,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let row = LinkRow {
                instrument_id: instrument,
                station_id: fields.station,
                address: fields.address.clone(),
                link: fields.link.clone(),
                in_use: fields.in_use,
                version: seen + 1,
                changed_by: by.person,
                changed_at: At(by.at),
            };
            let changed = if seen == 0 {
                diesel::insert_into(instrument_links::table)
                    .values(&row)
                    .on_conflict_do_nothing()
                    .execute(connection)
                    .await?
            } else {
                diesel::update(instrument_links::table.find(instrument))
                    .filter(instrument_links::version.eq(seen))
                    .set((
                        instrument_links::station_id.eq(row.station_id),
                        instrument_links::address.eq(&row.address),
                        instrument_links::link.eq(&row.link),
                        instrument_links::in_use.eq(row.in_use),
                        instrument_links::version.eq(row.version),
                        instrument_links::changed_by.eq(row.changed_by),
                        instrument_links::changed_at.eq(row.changed_at),
                    ))
                    .execute(connection)
                    .await?
            };
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "version".to_owned() });
            }
            let happening = Happening {
                chain: &format!("instrument:{instrument}"),
                at: by.at,
                person: Some(by.person),
                action: "link_changed",
                detail: json!({
                    "address": row.address, "station": row.station_id, "in_use": row.in_use, "link": row.link,
                }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// A bench PC that reads instruments near it.
#[derive(Debug, Clone, Queryable)]
pub struct Station {
    /// Its key.
    pub id: KeyId,
    /// Its name.
    pub name: String,
    /// When it last asked whether there is something to read.
    pub asked_at: Option<At>,
    /// When its key was ended.
    pub ended_at: Option<At>,
}

/// Stations whose keys are in use, and those that are named by `also`.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn stations(
    connection: &mut AsyncPgConnection,
    also: Option<KeyId>,
) -> Result<Vec<Station>, StoreError> {
    Ok(program_keys::table
        .filter(program_keys::station)
        .filter(program_keys::ended_at.is_null().or(program_keys::id.nullable().eq(also)))
        .order(program_keys::name)
        .select((
            program_keys::id,
            program_keys::name,
            program_keys::asked_at,
            program_keys::ended_at,
        ))
        .load(connection)
        .await?)
}
