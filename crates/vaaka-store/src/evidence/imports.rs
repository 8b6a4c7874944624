//! Tables that are brought in: looked at first, then brought in whole or not at all.

use std::collections::HashSet;

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Integer, Numeric, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use serde_json::json;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::audit::{self, Happening};
use crate::ids::{ImportId, InstrumentId, PersonId, SetUpId};
use crate::instrument_changes::{self, InstrumentFields};
use crate::jobs::{self, Mapping, Work};
use crate::rows::Stream;
use crate::schema::{earlier_values, imports, people};
use crate::standard_changes::{self, NewLot, StandardFields};
use crate::types::At;
use crate::types::By;
use crate::{StoreError, certificate_reviews};

/// A table as it came.
#[derive(Debug, Clone, Queryable)]
pub struct Import {
    /// Id.
    pub id: ImportId,
    /// What its lines are: instruments, standards, history.
    pub kind: String,
    /// Name of the file.
    pub file_name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Who brought it.
    pub person_id: PersonId,
    /// Looked at, coming, done, withdrawn.
    pub state: String,
    /// What reading it found, where it is too large to be read while its page is asked for: [`Kept`].
    pub reading: Option<serde_json::Value>,
    /// Why it did not come in, where it did not.
    pub refused: String,
}

/// What reading a table found, with what its columns were said to be.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Kept {
    /// What the columns were said to be.
    pub mapping: Mapping,
    /// What its page shows.
    pub shown: serde_json::Value,
}

/// The page of a table, under which its jobs stand.
#[must_use]
pub fn path(id: ImportId) -> String {
    format!("/import/{id}")
}

/// A table that was brought in, without its bytes.
#[derive(Debug, Clone, Queryable)]
pub struct ImportBrief {
    /// Id.
    pub id: ImportId,
    /// What its lines are.
    pub kind: String,
    /// Name of the file.
    pub file_name: String,
    /// SHA-256 of its bytes.
    pub sha256: Vec<u8>,
    /// Who brought it.
    pub person: String,
    /// When it was brought in.
    pub done_at: Option<At>,
    /// Done or withdrawn.
    pub state: String,
    /// Lines.
    pub lines: Option<i32>,
    /// Why it was withdrawn.
    pub reason: String,
}

fn chain(id: ImportId) -> String {
    format!("import:{id}")
}

/// Keeps a file to be looked at. One that the same person looked at before and left is thrown away.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn look_at(
    connection: &mut AsyncPgConnection,
    kind: &str,
    file_name: &str,
    bytes: &[u8],
    by: By,
) -> Result<ImportId, StoreError> {
    connection
        .transaction(async |connection| {
            diesel::delete(imports::table)
                .filter(imports::person_id.eq(by.person))
                .filter(imports::state.eq("looked_at"))
                .execute(connection)
                .await?;
            Ok(diesel::insert_into(imports::table)
                .values((
                    imports::kind.eq(kind),
                    imports::file_name.eq(file_name),
                    imports::bytes.eq(bytes),
                    imports::sha256.eq(Sha256::digest(bytes).to_vec()),
                    imports::person_id.eq(by.person),
                    imports::at.eq(At(by.at)),
                ))
                .returning(imports::id)
                .get_result(connection)
                .await?)
        })
        .await
}

/// One table with its bytes.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn by_id(connection: &mut AsyncPgConnection, id: ImportId) -> Result<Import, StoreError> {
    Ok(imports::table
        .find(id)
        .select((
            imports::id,
            imports::kind,
            imports::file_name,
            imports::bytes,
            imports::person_id,
            imports::state,
            imports::reading,
            imports::refused,
        ))
        .first(connection)
        .await?)
}

/// Asks for a table to be read, its columns being what was said of them, unless that is under way.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn ask_to_read(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    mapping: &[(String, String)],
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            audit::hold(connection, &chain(id)).await?;
            if jobs::of(connection, &path(id)).await?.is_some_and(|job| job.is_open()) {
                return Ok(());
            }
            let work = Work::ReadTable { import: id, mapping: mapping.to_vec() };
            jobs::ask(connection, work, (&path(id), 1), (by.person, by.at)).await
        })
        .await
}

/// Keeps what reading a table found, inside the transaction of its job.
pub(crate) async fn keep_reading(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    kept: &Kept,
) -> Result<(), StoreError> {
    diesel::update(imports::table.find(id))
        .filter(imports::state.eq("looked_at"))
        .set(imports::reading.eq(serde_json::to_value(kept).map_err(crate::unreadable)?))
        .execute(connection)
        .await?;
    Ok(())
}

/// Asks for a table to be brought in by a job: it is coming from now on.
///
/// # Errors
/// [`StoreError::Conflict`] on `imports_state` when somebody asked for it already.
#[boxed]
pub async fn ask_to_bring_in(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    (count, mapping): (usize, &[(String, String)]),
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(imports::table.find(id))
                .filter(imports::state.eq("looked_at"))
                .set((imports::state.eq("coming"), imports::refused.eq("")))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "imports_state".to_owned() });
            }
            let work = Work::BringIn { import: id, mapping: mapping.to_vec() };
            jobs::ask(connection, work, (&path(id), count), (by.person, by.at)).await
        })
        .await
}

/// Tables that are coming in, and those of a person that did not: id, name of the file, kind, state, why not.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn under_way(
    connection: &mut AsyncPgConnection,
    person: PersonId,
) -> Result<Vec<(ImportId, String, String, String, String)>, StoreError> {
    let not = imports::person_id.eq(person).and(imports::refused.ne(""));
    Ok(imports::table
        .filter(imports::state.eq("coming").or(imports::state.eq("looked_at").and(not)))
        .order(imports::id.desc())
        .select((imports::id, imports::file_name, imports::kind, imports::state, imports::refused))
        .load(connection)
        .await?)
}

/// What was brought in, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn done(connection: &mut AsyncPgConnection) -> Result<Vec<ImportBrief>, StoreError> {
    Ok(imports::table
        .inner_join(people::table)
        .filter(imports::state.eq_any(["done", "withdrawn"]))
        .order(imports::id.desc())
        .select((
            imports::id,
            imports::kind,
            imports::file_name,
            imports::sha256,
            people::name,
            imports::done_at,
            imports::state,
            imports::lines,
            imports::reason,
        ))
        .load(connection)
        .await?)
}

/// An instrument of a table.
#[derive(Debug, Clone)]
pub struct NewInstrument {
    /// Tag.
    pub tag: String,
    /// The rest.
    pub fields: InstrumentFields,
}

/// A standard of a table, with its first lot.
#[derive(Debug, Clone)]
pub struct NewStandard {
    /// Tag.
    pub tag: String,
    /// Name.
    pub name: String,
    /// Kind, as it is stored.
    pub kind: String,
    /// Where it is kept.
    pub location: String,
    /// Lot with its certificate.
    pub lot: NewLot,
}

/// Which characteristic of which set-up of which instrument.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Place {
    /// Instrument.
    pub instrument: InstrumentId,
    /// Set-up.
    pub set_up: SetUpId,
    /// Key of the characteristic.
    pub key: String,
}

/// A value from before.
#[derive(Debug, Clone)]
pub struct EarlierValue {
    /// Line of the file.
    pub line: i32,
    /// What it is a value of.
    pub place: Place,
    /// When it was measured.
    pub at: At,
    /// Value: error or deviation, in the unit of the characteristic.
    pub value: Decimal,
    /// That unit.
    pub unit: String,
    /// Who measured, as the table names them.
    pub person: String,
    /// Remark.
    pub remark: String,
}

/// What a table brings.
#[derive(Debug, Clone)]
pub enum Lines {
    /// Instruments.
    Instruments(Vec<NewInstrument>),
    /// Standards.
    Standards(Vec<NewStandard>),
    /// Values from before.
    History(Vec<EarlierValue>),
}

/// Brings a table in: every line, or none.
///
/// # Errors
/// [`StoreError::Conflict`] on `imports_state` when it was brought in already, or on what stands in
/// the way of a line (a tag that was taken meanwhile, a value that was brought in meanwhile).
#[boxed]
pub async fn bring_in(
    connection: &mut AsyncPgConnection,
    import: &Import,
    lines: Lines,
    (count, mapping): (usize, &[(String, String)]),
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            // First of all, so that of two who press at one moment the second finds it in, not its own lines in the way.
            enter(connection, import, "looked_at", (count, mapping), by).await?;
            match lines {
                Lines::History(found) => {
                    insert_values(connection, import.id, &found).await?;
                    none_twice(connection, found.iter().map(|value| &value.place), import.id).await
                }
                others => register(connection, others, by).await,
            }
        })
        .await
}

/// Writes instruments or standards into their registers.
pub(crate) async fn register(
    connection: &mut AsyncPgConnection,
    lines: Lines,
    by: By,
) -> Result<(), StoreError> {
    match lines {
        Lines::Instruments(found) => {
            for one in found {
                instrument_changes::register(connection, &one.tag, &one.fields, by).await?;
            }
        }
        Lines::Standards(found) => {
            for one in found {
                let fields = StandardFields {
                    tag: &one.tag,
                    name: &one.name,
                    kind: &one.kind,
                    location: &one.location,
                };
                let id = standard_changes::register(connection, fields, by).await?;
                standard_changes::add_lot_quietly(connection, id, one.lot, by).await?;
            }
            certificate_reviews::tell_of_many(connection, by).await?;
        }
        Lines::History(_) => {}
    }
    Ok(())
}

/// That no value of a table which is about to be in use is in use already, until the transaction ends: two tables with the
/// same values, brought in at one moment, follow each other.
///
/// # Errors
/// [`StoreError::Conflict`] on `earlier_values_place`.
pub(crate) async fn none_twice<'a>(
    connection: &mut AsyncPgConnection,
    places: impl Iterator<Item = &'a Place>,
    import: ImportId,
) -> Result<(), StoreError> {
    #[derive(QueryableByName)]
    struct Twice {
        #[diesel(sql_type = Bool)]
        twice: bool,
    }
    diesel::sql_query("SELECT pg_advisory_xact_lock(7817)").execute(connection).await?;
    let instruments: HashSet<InstrumentId> = places.map(|place| place.instrument).collect();
    let found: Twice = diesel::sql_query(
        "SELECT EXISTS (SELECT FROM earlier_values n JOIN earlier_values o USING (instrument_id, set_up_id,
             characteristic_key, measured_at) JOIN imports i ON i.id = o.import_id
         WHERE n.import_id = $1 AND o.import_id <> $1 AND i.state = 'done'
             AND o.instrument_id = ANY($2)) AS twice",
    )
    .bind::<BigInt, _>(import)
    .bind::<Array<BigInt>, _>(instruments.into_iter().collect::<Vec<_>>())
    .get_result(connection)
    .await?;
    match found.twice {
        true => Err(StoreError::Conflict { constraint: "earlier_values_place".to_owned() }),
        false => Ok(()),
    }
}

/// Says that a table is in.
///
/// # Errors
/// [`StoreError::Conflict`] on `imports_state` when it is not in the state that it comes from.
pub(crate) async fn enter(
    connection: &mut AsyncPgConnection,
    import: &Import,
    from: &str,
    (count, mapping): (usize, &[(String, String)]),
    by: By,
) -> Result<(), StoreError> {
    let changed = diesel::update(imports::table.find(import.id))
        .filter(imports::state.eq(from))
        .set((
            imports::state.eq("done"),
            imports::lines.eq(i32::try_from(count).map_err(crate::unreadable)?),
            imports::done_at.eq(At(by.at)),
            imports::refused.eq(""),
        ))
        .execute(connection)
        .await?;
    if changed == 0 {
        return Err(StoreError::Conflict { constraint: "imports_state".to_owned() });
    }
    let happening = Happening {
        chain: &chain(import.id),
        at: by.at,
        person: Some(by.person),
        action: "table_brought_in",
        detail: json!({
            "kind": import.kind, "file": import.file_name, "lines": count,
            "sha256": hex::encode(Sha256::digest(&import.bytes)), "columns": mapping,
        }),
    };
    audit::record(connection, &happening).await
}

/// Says that a table that was coming did not come in, and why; nothing of it is left. False where it was not coming.
pub(crate) async fn send_back(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    words: &str,
) -> Result<bool, StoreError> {
    let coming = imports::table.filter(imports::id.eq(id)).filter(imports::state.eq("coming"));
    diesel::delete(earlier_values::table)
        .filter(earlier_values::import_id.eq_any(coming.select(imports::id)))
        .execute(connection)
        .await?;
    let sent = diesel::update(imports::table.find(id))
        .filter(imports::state.eq("coming"))
        .set((
            imports::state.eq("looked_at"),
            imports::refused.eq(words),
            imports::reading.eq(None::<serde_json::Value>),
        ))
        .execute(connection)
        .await?;
    Ok(sent > 0)
}

/// One statement for many lines: an array a column.
pub(crate) async fn insert_values(
    connection: &mut AsyncPgConnection,
    import: ImportId,
    values: &[EarlierValue],
) -> Result<(), StoreError> {
    let texts = |of: fn(&EarlierValue) -> &str| -> Vec<String> {
        values.iter().map(|value| of(value).to_owned()).collect()
    };
    diesel::sql_query(
        "INSERT INTO earlier_values (import_id, line, instrument_id, set_up_id, characteristic_key,
             measured_at, value, unit, person, remark)
         SELECT $1, * FROM unnest($2, $3, $4, $5, $6, $7, $8, $9, $10)",
    )
    .bind::<BigInt, _>(import)
    .bind::<Array<Integer>, _>(values.iter().map(|value| value.line).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(values.iter().map(|v| v.place.instrument).collect::<Vec<_>>())
    .bind::<Array<BigInt>, _>(values.iter().map(|v| v.place.set_up).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(texts(|value| &value.place.key))
    .bind::<Array<Timestamptz>, _>(values.iter().map(|value| value.at).collect::<Vec<_>>())
    .bind::<Array<Numeric>, _>(values.iter().map(|value| value.value).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(texts(|value| &value.unit))
    .bind::<Array<Text>, _>(texts(|value| &value.person))
    .bind::<Array<Text>, _>(texts(|value| &value.remark))
    .execute(connection)
    .await?;
    Ok(())
}

/// Places and moments of the values that are there already, of the instruments of these places.
///
/// # Errors
/// [`StoreError`].
pub async fn known<'a>(
    connection: &mut AsyncPgConnection,
    places: impl Iterator<Item = &'a Place>,
) -> Result<HashSet<(Place, At)>, StoreError> {
    let instruments: HashSet<InstrumentId> = places.map(|place| place.instrument).collect();
    let rows: Vec<(InstrumentId, SetUpId, String, At)> = earlier_values::table
        .inner_join(imports::table)
        .filter(imports::state.eq("done"))
        .filter(earlier_values::instrument_id.eq_any(instruments))
        .select((
            earlier_values::instrument_id,
            earlier_values::set_up_id,
            earlier_values::characteristic_key,
            earlier_values::measured_at,
        ))
        .load(connection)
        .await?;
    let place = |(instrument, set_up, key, at)| (Place { instrument, set_up, key }, at);
    Ok(rows.into_iter().map(place).collect())
}

/// Gives up a table that was coming and does not go on: nothing of it is left, and it can be looked at again.
///
/// # Errors
/// [`StoreError::Conflict`] on `imports_state` where it is not coming, or goes on.
#[boxed]
pub async fn give_up(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let failed = jobs::put_aside(connection, &path(id), by).await?;
            let words = "It did not go on, and was given up.";
            if !failed || !send_back(connection, id, words).await? {
                return Err(StoreError::Conflict { constraint: "imports_state".to_owned() });
            }
            let happening = Happening {
                chain: &chain(id),
                at: by.at,
                person: Some(by.person),
                action: "table_given_up",
                detail: json!({}),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Withdraws values of the time before; they stay on record and are shown no more.
///
/// # Errors
/// [`StoreError::Conflict`] on `imports_state` when there is nothing to withdraw.
#[boxed]
pub async fn withdraw(
    connection: &mut AsyncPgConnection,
    id: ImportId,
    reason: &str,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(imports::table.find(id))
                .filter(imports::state.eq("done"))
                .filter(imports::kind.eq("history"))
                .set((
                    imports::state.eq("withdrawn"),
                    imports::withdrawn_by.eq(by.person),
                    imports::withdrawn_at.eq(At(by.at)),
                    imports::reason.eq(reason),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "imports_state".to_owned() });
            }
            let happening = Happening {
                chain: &chain(id),
                at: by.at,
                person: Some(by.person),
                action: "table_withdrawn",
                detail: json!({ "reason": reason }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// A value from before, as a chart shows it.
#[derive(Debug, Clone, Queryable)]
pub struct Earlier {
    /// When it was measured.
    pub at: At,
    /// Value.
    pub value: Decimal,
    /// Who measured.
    pub person: String,
    /// Remark.
    pub remark: String,
    /// Table it came with.
    pub import: ImportId,
}

/// Values from before of a stream between two moments, oldest first, `most` at most: the newest.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn earlier(
    mut connection: &AsyncPgConnection,
    stream: &Stream,
    from: At,
    until: At,
    most: i64,
) -> Result<Vec<Earlier>, StoreError> {
    let mut found: Vec<Earlier> = earlier_values::table
        .inner_join(imports::table)
        .filter(imports::state.eq("done"))
        .filter(earlier_values::instrument_id.eq(stream.instrument_id))
        .filter(earlier_values::set_up_id.eq(stream.set_up_id))
        .filter(earlier_values::characteristic_key.eq(&stream.characteristic_key))
        .filter(earlier_values::unit.eq(&stream.unit))
        .filter(earlier_values::measured_at.ge(from))
        .filter(earlier_values::measured_at.lt(until))
        .order(earlier_values::measured_at.desc())
        .limit(most)
        .select((
            earlier_values::measured_at,
            earlier_values::value,
            earlier_values::person,
            earlier_values::remark,
            earlier_values::import_id,
        ))
        .load(&mut connection)
        .await?;
    found.reverse();
    Ok(found)
}

/// How many values from before an instrument has, with the first and the last moment.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn span_of(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Option<(i64, At, At)>, StoreError> {
    use diesel::dsl::{count_star, max, min};
    let (count, first, last): (i64, Option<At>, Option<At>) = earlier_values::table
        .inner_join(imports::table)
        .filter(imports::state.eq("done"))
        .filter(earlier_values::instrument_id.eq(instrument))
        .select((count_star(), min(earlier_values::measured_at), max(earlier_values::measured_at)))
        .first(connection)
        .await?;
    Ok(first.zip(last).map(|(first, last)| (count, first, last)))
}
