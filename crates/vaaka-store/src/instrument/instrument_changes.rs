//! What people change in the register of instruments, each with its audit entry.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{AreaId, InstrumentId, SetUpId};
use crate::rows::{Area, Instrument, InstrumentStateRow, SetUp};
use crate::schema::{areas, instrument_states, instruments, set_ups};
use crate::types::By;
use crate::types::{At, Day};

/// What is said of an instrument.
#[derive(Debug, Clone, Insertable, AsChangeset)]
#[diesel(table_name = instruments, treat_none_as_null = true)]
#[allow(missing_docs)] // The columns say what they are.
pub struct InstrumentFields {
    pub name: String,
    pub area_id: AreaId,
    pub family: String,
    pub unit: String,
    pub resolution: Decimal,
    pub range_low: Decimal,
    pub maximum: Decimal,
    pub work_low: Option<Decimal>,
    pub work_high: Option<Decimal>,
    pub serial: String,
    pub owner: String,
    pub firmware: String,
    pub calibration_file: String,
    pub configuration_names: Vec<String>,
    pub configuration_values: Vec<Decimal>,
    pub adjustable: bool,
    pub sealed: bool,
    pub critical: bool,
    pub maker: String,
    pub model: String,
    pub calibrated_until: Option<Day>,
}

async fn note(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
    by: By,
    action: &str,
    detail: serde_json::Value,
) -> Result<(), StoreError> {
    audit::record(
        connection,
        &Happening {
            chain: &format!("instrument:{id}"),
            at: by.at,
            person: Some(by.person),
            action,
            detail,
        },
    )
    .await
}

/// Registers an instrument, with a first set-up so that it can have a plan.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_tag_key`.
#[boxed]
pub async fn register(
    connection: &mut AsyncPgConnection,
    tag: &str,
    fields: &InstrumentFields,
    by: By,
) -> Result<InstrumentId, StoreError> {
    connection
        .transaction(async |connection| {
            let id: InstrumentId = diesel::insert_into(instruments::table)
                // Nothing vouches for it yet: it serves after its first good check, when a lead takes it into service.
                .values((instruments::tag.eq(tag), instruments::state.eq("on_hold"), fields))
                .returning(instruments::id)
                .get_result(connection)
                .await?;
            diesel::insert_into(instrument_states::table)
                .values(InstrumentStateRow {
                    instrument_id: id,
                    state: "on_hold".to_owned(),
                    restricted_to: None,
                    set_up_id: None,
                    reason: "new in the register: in service after its first good check".to_owned(),
                    person_id: by.person,
                    at: At(by.at),
                })
                .execute(connection)
                .await?;
            diesel::insert_into(set_ups::table)
                .values((set_ups::instrument_id.eq(id), set_ups::name.eq("as installed")))
                .execute(connection)
                .await?;
            note(connection, id, by, "instrument_registered", detail(tag, fields)).await?;
            Ok(id)
        })
        .await
}

fn detail(tag: &str, fields: &InstrumentFields) -> serde_json::Value {
    json!({
        "tag": tag, "name": fields.name, "unit": fields.unit, "resolution": fields.resolution,
        "range": [fields.range_low, fields.maximum], "work": [fields.work_low, fields.work_high],
        "serial": fields.serial, "firmware": fields.firmware,
        "calibration_file": fields.calibration_file, "sealed": fields.sealed,
        "maker": fields.maker, "model": fields.model,
        "calibrated_until": fields.calibrated_until.map(|day| day.0.to_string()),
        "configuration": fields.configuration_names.iter().zip(&fields.configuration_values)
            .map(|(name, value)| json!([name, value])).collect::<Vec<_>>(),
    })
}

/// Changes what is said of an instrument; its tag stays.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_version` when it was changed meanwhile.
#[boxed]
pub async fn edit(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
    seen: i32,
    fields: &InstrumentFields,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let tag: Option<String> = diesel::update(instruments::table.find(id))
                .filter(instruments::version.eq(seen))
                .set((fields, instruments::version.eq(instruments::version + 1)))
                .returning(instruments::tag)
                .get_result(connection)
                .await
                .optional()?;
            let tag = tag.ok_or_else(|| StoreError::Conflict {
                constraint: "instruments_version".to_owned(),
            })?;
            note(connection, id, by, "instrument_edited", detail(&tag, fields)).await
        })
        .await
}

/// Adds a cell of probe × scale × material.
///
/// # Errors
/// [`StoreError::Conflict`] when the cell or the name exists.
#[boxed]
pub async fn add_set_up(
    connection: &mut AsyncPgConnection,
    instrument: &Instrument,
    [name, probe, scale, material]: [&str; 4],
    by: By,
) -> Result<SetUpId, StoreError> {
    connection
        .transaction(async |connection| {
            let id: SetUpId = diesel::insert_into(set_ups::table)
                .values((
                    set_ups::instrument_id.eq(instrument.id),
                    set_ups::name.eq(name),
                    set_ups::probe.eq(probe),
                    set_ups::scale.eq(scale),
                    set_ups::material.eq(material),
                ))
                .returning(set_ups::id)
                .get_result(connection)
                .await?;
            let detail = json!({ "set_up": id, "name": name });
            note(connection, instrument.id, by, "set_up_added", detail).await?;
            Ok(id)
        })
        .await
}

/// Takes a set-up out of use, or back into it.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn set_up_in_use(
    connection: &mut AsyncPgConnection,
    set_up: &SetUp,
    in_use: bool,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::update(set_ups::table.find(set_up.id))
                .set(set_ups::in_use.eq(in_use))
                .execute(connection)
                .await?;
            let detail = json!({ "set_up": set_up.id, "in_use": in_use });
            note(connection, set_up.instrument_id, by, "set_up_changed", detail).await
        })
        .await
}

/// All areas along the walk.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all_areas(connection: &mut AsyncPgConnection) -> Result<Vec<Area>, StoreError> {
    Ok(areas::table
        .order((areas::walk_order, areas::id))
        .select(Area::as_select())
        .load(connection)
        .await?)
}
