//! The register of instruments: states, history, and what a change of state leaves behind.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::instrument::ServiceState;

use crate::audit::{self, Happening};
use crate::ids::{CheckId, InstrumentId, PersonId, SetUpId};
use crate::prepared::{Bind, prepared};
use crate::rows::{Area, Instrument, InstrumentStateRow, SetUp};
use crate::schema::{areas, instrument_states, instruments, people, plan_versions, plans, set_ups};
use crate::types::At;
use crate::{StoreError, notices};

/// All instruments along the walk, the retired ones last.
///
/// # Errors
/// [`StoreError`].
#[boxed]
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
#[boxed]
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
#[boxed]
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
#[boxed]
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
#[boxed]
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
#[boxed]
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

/// Of an instrument with several cells (set-ups that are in use and name one, or have a plan in force) the one that a set-up is:
/// it stands by itself. None where the instrument has only this one, whose state is its own.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn cell_of(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    set_up: SetUpId,
) -> Result<Option<SetUp>, StoreError> {
    let all = cells_of(connection, instrument).await?;
    Ok(all.into_iter().find(|cell| cell.id == set_up))
}

/// The name of a set-up that is on hold by itself.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn held_cell(
    connection: &mut AsyncPgConnection,
    set_up: SetUpId,
) -> Result<Option<String>, StoreError> {
    Ok(set_ups::table
        .find(set_up)
        .filter(set_ups::state.eq("on_hold"))
        .select(set_ups::name)
        .first(connection)
        .await
        .optional()?)
}

/// The cells of an instrument that stand by themselves; none where it has only one.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn cells_of(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<SetUp>, StoreError> {
    let planned = plan_versions::table
        .inner_join(plans::table)
        .filter(plan_versions::state.eq("approved"))
        .filter(plans::instrument_id.eq(instrument))
        .select(plans::set_up_id);
    let named = set_ups::probe.ne("").or(set_ups::scale.ne("")).or(set_ups::material.ne(""));
    // What was decided about a cell stays decided where the cells around it go out of use.
    let decided = set_ups::state.ne("in_service");
    let found: Vec<SetUp> = set_ups::table
        .filter(set_ups::instrument_id.eq(instrument))
        .filter(set_ups::in_use.or(set_ups::state.ne("in_service")))
        .filter(named.or(set_ups::id.eq_any(planned)).or(decided))
        .order(set_ups::id)
        .select(SetUp::as_select())
        .load(connection)
        .await?;
    let several = found.len() > 1 || found.iter().any(|cell| cell.state != "in_service");
    Ok(if several { found } else { vec![] })
}

/// A change of state with who made it.
#[derive(Debug, Clone)]
pub struct StateChanged {
    /// The change.
    pub row: InstrumentStateRow,
    /// Who.
    pub person: String,
    /// The cell that it is about; none where it is about the whole instrument.
    pub cell: Option<String>,
}

impl StateChanged {
    /// What changed in words: "on hold: dropped", "HRC, steel: restricted, soft plates: …".
    #[must_use]
    pub fn words(&self) -> String {
        let cell = self.cell.as_ref().map(|cell| format!("{cell}: ")).unwrap_or_default();
        let state = self.row.state.parse::<ServiceState>().map_or("", ServiceState::words);
        let only =
            self.row.restricted_to.as_ref().map(|only| format!(", {only}")).unwrap_or_default();
        format!("{cell}{state}{only}: {} ({})", self.row.reason, self.person)
    }
}

/// Changes of state with who made them, newest first, of the whole instrument and of its cells.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn states(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
) -> Result<Vec<StateChanged>, StoreError> {
    let rows: Vec<(InstrumentStateRow, String, Option<String>)> = instrument_states::table
        .inner_join(people::table.on(people::id.eq(instrument_states::person_id)))
        .left_join(set_ups::table.on(set_ups::id.nullable().eq(instrument_states::set_up_id)))
        .filter(instrument_states::instrument_id.eq(id))
        .order(instrument_states::id.desc())
        .select((InstrumentStateRow::as_select(), people::name, set_ups::name.nullable()))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(|(row, person, cell)| StateChanged { row, person, cell }).collect())
}

/// Since when a check of a cell has to be made to speak for the state that is to be changed. For the whole instrument: its newest
/// change, or a newer one of the cell. For the cell alone: its own newest change, or a newer one of the instrument away from use
/// (that the instrument came back does not un-make the good check before). None where nothing was ever changed.
#[must_use]
pub fn as_it_is_since(
    states: &[StateChanged],
    set_up: SetUpId,
    of_cell: bool,
) -> Option<Timestamp> {
    let own = |one: &&StateChanged| match one.row.set_up_id {
        Some(cell) => cell == set_up,
        None => !of_cell || one.row.state != ServiceState::InService.word(),
    };
    states.iter().filter(own).map(|one| one.row.at.0).max()
}

/// The set-ups in use that name a probe, a scale or a material, of all instruments.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn cells(connection: &mut AsyncPgConnection) -> Result<Vec<SetUp>, StoreError> {
    Ok(set_ups::table
        .filter(set_ups::in_use)
        .filter(set_ups::probe.ne("").or(set_ups::scale.ne("")).or(set_ups::material.ne("")))
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
    #[diesel(sql_type = Text)]
    probe: String,
    #[diesel(sql_type = Text)]
    scale: String,
    #[diesel(sql_type = Text)]
    material: String,
}

impl CheckBrief {
    /// What tells the cell that it checked from others of the instrument, where it names one.
    #[must_use]
    pub fn cell_words(&self) -> Option<String> {
        vaaka_core::instrument::cell_words(&self.probe, &self.scale, &self.material)
    }

    /// Failed, then passed: never a pass.
    #[must_use]
    pub fn is_doubtful(&self) -> bool {
        self.repeat_state.as_deref() == Some("doubtful")
    }
}

macro_rules! brief {
    ($rest:literal) => {
        concat!("SELECT c.id, c.instrument_id, c.purpose, c.state, coalesce(c.closed_at, c.opened_at) AS at,
    p.name AS person, r.conforms, r.control, r.repeat_state, c.void_reason, u.probe, u.scale, u.material
    FROM checks c JOIN people p ON p.id = coalesce(c.closed_by, c.opened_by)
    JOIN plan_versions v ON v.id = c.plan_version_id JOIN plans l ON l.id = v.plan_id JOIN set_ups u ON u.id = l.set_up_id
    LEFT JOIN LATERAL (SELECT conforms, control, repeat_state FROM results WHERE check_id = c.id
        ORDER BY version DESC LIMIT 1) r ON true ", $rest)
    };
}

/// The newest checks of an instrument, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
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
#[boxed]
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
#[boxed]
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
    /// The cell that is meant; none where the whole instrument is.
    pub cell: Option<&'a SetUp>,
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
/// instrument since it was read. Cells that are not proven stay behind: they are put on hold by themselves.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_version` when it was changed meanwhile.
#[boxed]
pub async fn change_state(
    connection: &mut AsyncPgConnection,
    new: NewState<'_>,
    left_behind: &[SetUp],
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let mut instrument = new.instrument.clone();
            change_state_locked(connection, new).await?;
            for cell in left_behind {
                instrument.version += 1;
                let held = NewState {
                    instrument: &instrument,
                    cell: Some(cell),
                    to: ServiceState::OnHold,
                    restricted_to: None,
                    reason: "not proven since the instrument came back",
                    ..new
                };
                change_state_locked(connection, held).await?;
            }
            Ok(())
        })
        .await
}

/// As [`change_state`], inside a transaction of the caller's.
///
/// # Errors
/// [`StoreError::Conflict`] on `instruments_version` when it was changed meanwhile.
#[boxed]
pub async fn change_state_locked(
    connection: &mut AsyncPgConnection,
    new: NewState<'_>,
) -> Result<(), StoreError> {
    let id = new.instrument.id;
    {
        {
            // Back in use, away or gone: whoever was called about its failed checks need not come.
            if !matches!(new.to, ServiceState::OnHold | ServiceState::Restricted) {
                let over = notices::Over::FailuresOf(id, new.cell.map(|cell| cell.id));
                notices::end(connection, over, new.person, new.at).await?;
            }
            let own = diesel::update(instruments::table.find(id))
                .filter(instruments::version.eq(new.instrument.version));
            let next = instruments::version.eq(instruments::version + 1);
            let changed = match new.cell {
                None => {
                    let (state, only) = (new.to.word(), new.restricted_to);
                    own.set((
                        instruments::state.eq(state),
                        instruments::restricted_to.eq(only),
                        next,
                    ))
                    .execute(connection)
                    .await?
                }
                Some(_) => own.set(next).execute(connection).await?,
            };
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "instruments_version".to_owned() });
            }
            if let Some(cell) = new.cell {
                diesel::update(set_ups::table.find(cell.id))
                    .set((
                        set_ups::state.eq(new.to.word()),
                        set_ups::restricted_to.eq(new.restricted_to),
                    ))
                    .execute(connection)
                    .await?;
            }
            diesel::insert_into(instrument_states::table)
                .values(InstrumentStateRow {
                    instrument_id: id,
                    state: new.to.word().to_owned(),
                    restricted_to: new.restricted_to.map(str::to_owned),
                    reason: new.reason.to_owned(),
                    person_id: new.person,
                    at: At(new.at),
                    set_up_id: new.cell.map(|cell| cell.id),
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
                    detail: match new.cell {
                        None => json!({
                            "from": new.instrument.state, "to": new.to.word(),
                            "restricted_to": new.restricted_to, "reason": new.reason,
                        }),
                        Some(cell) => json!({
                            "set_up": cell.id, "cell": cell.name,
                            "from": cell.state, "to": new.to.word(),
                            "restricted_to": new.restricted_to, "reason": new.reason,
                        }),
                    },
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
#[boxed]
pub async fn tags(
    connection: &mut AsyncPgConnection,
) -> Result<std::collections::HashSet<String>, StoreError> {
    let tags: Vec<String> = instruments::table.select(instruments::tag).load(connection).await?;
    Ok(tags.into_iter().collect())
}
