//! The register of instruments: states, history, and what a change of state leaves behind.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_core::instrument::ServiceState;

use crate::audit::{self, Happening};
use crate::ids::{CheckId, InstrumentId, PersonId};
use crate::prepared::{Bind, prepared};
use crate::rows::{Area, Instrument, InstrumentStateRow, SetUp};
use crate::schema::{areas, instrument_states, instruments, people, set_ups};
use crate::types::At;
use crate::{StoreError, notices};

/// All instruments along the walk, the retired ones last.
///
/// # Errors
/// [`StoreError`].
pub async fn all(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(Instrument, Area)>, StoreError> {
    let mut rows: Vec<(Instrument, Area)> = instruments::table
        .inner_join(areas::table)
        .order((areas::walk_order, instruments::tag))
        .select((Instrument::as_select(), Area::as_select()))
        .load(connection)
        .await?;
    rows.sort_by_key(|(instrument, _)| instrument.state == ServiceState::Retired.word());
    Ok(rows)
}

/// Locks the row of an instrument, so that two who write about it follow each other in its audit
/// chain.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn lock(connection: &mut AsyncPgConnection, id: InstrumentId) -> Result<(), StoreError> {
    let _: InstrumentId = instruments::table
        .find(id)
        .for_no_key_update()
        .select(instruments::id)
        .first(connection)
        .await?;
    Ok(())
}

/// An instrument by its tag.
///
/// # Errors
/// [`StoreError`].
pub async fn by_tag(
    connection: &mut AsyncPgConnection,
    tag: &str,
) -> Result<(Instrument, Area), StoreError> {
    Ok(instruments::table
        .inner_join(areas::table)
        .filter(instruments::tag.eq(tag))
        .select((Instrument::as_select(), Area::as_select()))
        .first(connection)
        .await?)
}

/// An instrument as far as telling whether it may stand in for another needs it.
#[derive(Debug, Clone, Queryable)]
#[allow(missing_docs)] // The columns say what they are.
pub struct Sieved {
    pub id: InstrumentId,
    pub tag: String,
    pub name: String,
    pub walk_order: i32,
    pub unit: String,
    pub range_low: Decimal,
    pub maximum: Decimal,
    pub work_low: Option<Decimal>,
    pub work_high: Option<Decimal>,
    pub resolution: Decimal,
    pub state: String,
}

/// The instruments that show one of these units and may be used.
///
/// # Errors
/// [`StoreError`].
pub async fn sieve(
    connection: &mut AsyncPgConnection,
    units: &[&str],
) -> Result<Vec<Sieved>, StoreError> {
    Ok(instruments::table
        .inner_join(areas::table)
        .filter(instruments::unit.eq_any(units.to_vec()))
        .filter(instruments::state.eq("in_service"))
        .order((areas::walk_order, instruments::tag))
        .select((
            instruments::id,
            instruments::tag,
            instruments::name,
            areas::walk_order,
            instruments::unit,
            instruments::range_low,
            instruments::maximum,
            instruments::work_low,
            instruments::work_high,
            instruments::resolution,
            instruments::state,
        ))
        .load(connection)
        .await?)
}

/// Instruments by their ids, along the walk.
///
/// # Errors
/// [`StoreError`].
pub async fn by_ids(
    connection: &mut AsyncPgConnection,
    ids: &[InstrumentId],
) -> Result<Vec<(Instrument, Area)>, StoreError> {
    Ok(instruments::table
        .inner_join(areas::table)
        .filter(instruments::id.eq_any(ids.to_vec()))
        .order((areas::walk_order, instruments::tag))
        .select((Instrument::as_select(), Area::as_select()))
        .load(connection)
        .await?)
}

/// Set-ups of an instrument.
///
/// # Errors
/// [`StoreError`].
pub async fn set_ups(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
) -> Result<Vec<SetUp>, StoreError> {
    Ok(set_ups::table
        .filter(set_ups::instrument_id.eq(id))
        .order(set_ups::id)
        .select(SetUp::as_select())
        .load(connection)
        .await?)
}

/// Changes of state with who made them, newest first.
///
/// # Errors
/// [`StoreError`].
pub async fn states(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
) -> Result<Vec<(InstrumentStateRow, String)>, StoreError> {
    Ok(instrument_states::table
        .inner_join(people::table.on(people::id.eq(instrument_states::person_id)))
        .filter(instrument_states::instrument_id.eq(id))
        .order(instrument_states::id.desc())
        .select((InstrumentStateRow::as_select(), people::name))
        .load(connection)
        .await?)
}

/// The set-ups in use that name a scale or a material, of all instruments.
///
/// # Errors
/// [`StoreError`].
pub async fn cells(connection: &mut AsyncPgConnection) -> Result<Vec<SetUp>, StoreError> {
    Ok(set_ups::table
        .filter(set_ups::in_use)
        .filter(set_ups::scale.ne("").or(set_ups::material.ne("")))
        .order(set_ups::id)
        .select(SetUp::as_select())
        .load(connection)
        .await?)
}

/// A check of an instrument in brief.
#[derive(Debug, Clone, QueryableByName)]
pub struct CheckBrief {
    /// The check.
    #[diesel(sql_type = BigInt)]
    pub id: CheckId,
    /// The instrument.
    #[diesel(sql_type = BigInt)]
    pub instrument_id: InstrumentId,
    /// as_found or as_left.
    #[diesel(sql_type = Text)]
    pub purpose: String,
    /// open, concluded or void.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// When it was closed, or opened while it is open.
    #[diesel(sql_type = Timestamptz)]
    pub at: At,
    /// Who closed it, or opened it.
    #[diesel(sql_type = Text)]
    pub person: String,
    /// Conformity, when concluded.
    #[diesel(sql_type = Nullable<Text>)]
    pub conforms: Option<String>,
    /// Control state, when concluded.
    #[diesel(sql_type = Nullable<Text>)]
    pub control: Option<String>,
    /// Where the one repeat stood after it, when concluded.
    #[diesel(sql_type = Nullable<Text>)]
    pub repeat_state: Option<String>,
    /// Why it is void.
    #[diesel(sql_type = Nullable<Text>)]
    pub void_reason: Option<String>,
}

impl CheckBrief {
    /// Failed, then passed: never a pass.
    #[must_use]
    pub fn is_doubtful(&self) -> bool {
        self.repeat_state.as_deref() == Some("doubtful")
    }
}

macro_rules! brief {
    ($rest:literal) => {
        concat!("SELECT c.id, c.instrument_id, c.purpose, c.state, coalesce(c.closed_at, c.opened_at) AS at,
    p.name AS person, r.conforms, r.control, r.repeat_state, c.void_reason
    FROM checks c JOIN people p ON p.id = coalesce(c.closed_by, c.opened_by)
    LEFT JOIN LATERAL (SELECT conforms, control, repeat_state FROM results WHERE check_id = c.id
        ORDER BY version DESC LIMIT 1) r ON true ", $rest)
    };
}

/// The newest checks of an instrument, newest first.
///
/// # Errors
/// [`StoreError`].
pub async fn checks_of(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
    count: i64,
) -> Result<Vec<CheckBrief>, StoreError> {
    Ok(prepared(
        brief!("WHERE c.instrument_id = ? ORDER BY c.opened_at DESC, c.id DESC LIMIT ?"),
        vec![Bind::Int(id.0), Bind::Int(count)],
    )
    .load(connection)
    .await?)
}

/// A check in brief, for a strip of months.
#[derive(Debug, Clone, QueryableByName)]
pub struct CheckMark {
    /// When it was closed.
    #[diesel(sql_type = diesel::sql_types::Timestamptz)]
    pub at: crate::types::At,
    /// Whether it conforms.
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub conforms: String,
    /// What its charts said.
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub control: String,
}

/// The concluded checks of an instrument since a moment, oldest first, trials left out.
///
/// # Errors
/// [`StoreError`].
pub async fn check_marks(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
    since: Timestamp,
) -> Result<Vec<CheckMark>, StoreError> {
    Ok(prepared(
        "SELECT c.closed_at AS at, r.conforms, r.control FROM checks c
         CROSS JOIN LATERAL (SELECT conforms, control FROM results WHERE check_id = c.id
             ORDER BY version DESC LIMIT 1) r
         WHERE c.instrument_id = ? AND c.state = 'concluded' AND c.purpose <> 'trial'
             AND c.opened_at >= to_timestamp(?) ORDER BY c.opened_at LIMIT 2000",
        vec![Bind::Int(id.0), Bind::Int(since.as_second())],
    )
    .load(connection)
    .await?)
}

/// The newest concluded check of each instrument that has one.
///
/// # Errors
/// [`StoreError`].
pub async fn latest_checks(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<CheckBrief>, StoreError> {
    Ok(prepared(
        concat!(
            "SELECT latest.* FROM instruments i CROSS JOIN LATERAL (",
            brief!(
                "WHERE c.instrument_id = i.id AND c.state = 'concluded'
                 ORDER BY c.opened_at DESC, c.id DESC LIMIT 1) latest"
            )
        ),
        vec![],
    )
    .load(connection)
    .await?)
}

/// A change of state as it is written.
#[derive(Debug, Clone, Copy)]
pub struct NewState<'a> {
    /// The instrument as it was read.
    pub instrument: &'a Instrument,
    /// New state.
    pub to: ServiceState,
    /// What it may still be used for.
    pub restricted_to: Option<&'a str>,
    /// Why.
    pub reason: &'a str,
    /// Who.
    pub person: PersonId,
    /// When.
    pub at: Timestamp,
}

/// Changes the state with its record and audit entry, unless somebody else changed the
/// instrument since it was read.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_version` when it was changed meanwhile.
pub async fn change_state(
    connection: &mut AsyncPgConnection,
    new: NewState<'_>,
) -> Result<(), StoreError> {
    connection.transaction(async |connection| change_state_locked(connection, new).await).await
}

/// As [`change_state`], inside a transaction of the caller's.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_version` when it was changed meanwhile.
pub async fn change_state_locked(
    connection: &mut AsyncPgConnection,
    new: NewState<'_>,
) -> Result<(), StoreError> {
    let id = new.instrument.id;
    {
        {
            // Back in use, away or gone: whoever was called about its failed checks need not come.
            if !matches!(new.to, ServiceState::OnHold | ServiceState::Restricted) {
                notices::end(connection, notices::Over::FailuresOf(id), new.person, new.at).await?;
            }
            let changed = diesel::update(instruments::table.find(id))
                .filter(instruments::version.eq(new.instrument.version))
                .set((
                    instruments::state.eq(new.to.word()),
                    instruments::restricted_to.eq(new.restricted_to),
                    instruments::version.eq(instruments::version + 1),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "instruments_version".to_owned() });
            }
            diesel::insert_into(instrument_states::table)
                .values(InstrumentStateRow {
                    instrument_id: id,
                    state: new.to.word().to_owned(),
                    restricted_to: new.restricted_to.map(str::to_owned),
                    reason: new.reason.to_owned(),
                    person_id: new.person,
                    at: At(new.at),
                })
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &format!("instrument:{id}"),
                    at: new.at,
                    person: Some(new.person),
                    action: "instrument_state_changed",
                    detail: json!({
                        "from": new.instrument.state, "to": new.to.word(),
                        "restricted_to": new.restricted_to, "reason": new.reason,
                    }),
                },
            )
            .await
        }
    }
}

/// Tags of all instruments.
///
/// # Errors
/// [`StoreError`].
pub async fn tags(
    connection: &mut AsyncPgConnection,
) -> Result<std::collections::HashSet<String>, StoreError> {
    let tags: Vec<String> = instruments::table.select(instruments::tag).load(connection).await?;
    Ok(tags.into_iter().collect())
}
