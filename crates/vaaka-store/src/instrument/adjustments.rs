//! Adjustments: recorded with what they change, and what they do to the charts.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::adjustment::Factors;
use vaaka_core::instrument::ServiceState;
use vaaka_core::quantity::to_f64;

use crate::audit::{self, Happening};
use crate::ids::{AdjustmentId, CheckId, EventId, InstrumentId, SetUpId};
use crate::instruments::{NewState, cell_of, change_state_locked};
use crate::rows::{AdjustmentRow, Instrument, InstrumentEvent};
use crate::schema::{
    adjustments, checks, instrument_events, instruments, people, plan_versions, plans,
};
use crate::types::At;
use crate::{StoreError, seams};

/// An adjustment with the names of those who made and decided it.
#[derive(Debug, Clone, Queryable)]
pub struct AdjustmentView {
    /// Its id.
    pub id: AdjustmentId,
    /// The row.
    pub row: AdjustmentRow,
    /// Who decided.
    pub approved_by: String,
}

macro_rules! view_query {
    () => {
        adjustments::table
            .inner_join(people::table.on(people::id.eq(adjustments::approved_by)))
            .select((adjustments::id, AdjustmentRow::as_select(), people::name))
    };
}

/// The adjustments of an instrument, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_instrument(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<AdjustmentView>, StoreError> {
    Ok(view_query!()
        .filter(adjustments::instrument_id.eq(instrument))
        .order(adjustments::id.desc())
        .load(connection)
        .await?)
}

/// The adjustment that followed a check, if any.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn after(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Option<AdjustmentView>, StoreError> {
    Ok(view_query!().filter(adjustments::check_id.eq(check)).first(connection).await.optional()?)
}

/// Whether the instrument of a check was adjusted after it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn since(connection: &mut AsyncPgConnection, check: CheckId) -> Result<bool, StoreError> {
    let (instrument, opened): (InstrumentId, At) = checks::table
        .find(check)
        .select((checks::instrument_id, checks::opened_at))
        .first(connection)
        .await?;
    let found: Option<AdjustmentId> = adjustments::table
        .filter(adjustments::instrument_id.eq(instrument))
        .filter(adjustments::at.ge(opened))
        .select(adjustments::id)
        .first(connection)
        .await
        .optional()?;
    Ok(found.is_some())
}

/// One adjustment.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn by_id(
    connection: &mut AsyncPgConnection,
    id: AdjustmentId,
) -> Result<AdjustmentView, StoreError> {
    Ok(view_query!().filter(adjustments::id.eq(id)).first(connection).await?)
}

/// The factors that a set-up of an instrument works with: those that its newest adjustment left,
/// or those of the factory.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn factors(
    connection: &mut AsyncPgConnection,
    set_up: SetUpId,
) -> Result<Factors, StoreError> {
    let found: Option<(Decimal, Decimal)> = adjustments::table
        .filter(adjustments::set_up_id.eq(set_up))
        .order(adjustments::id.desc())
        .select((adjustments::new_offset, adjustments::new_gain))
        .first(connection)
        .await
        .optional()?;
    Ok(found.map_or(Factors::FACTORY, |(offset, gain)| Factors {
        offset: to_f64(offset),
        gain: to_f64(gain),
    }))
}

/// The newest moment at which something that affects measurement happened to an instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn last_touched(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Option<At>, StoreError> {
    Ok(instrument_events::table
        .filter(instrument_events::instrument_id.eq(instrument))
        .filter(instrument_events::affects_measurement)
        .select(diesel::dsl::max(instrument_events::at))
        .first(connection)
        .await?)
}

/// Adjustments that no concluded as-left check has proven yet, with where they were made.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn unproven(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(InstrumentId, SetUpId, AdjustmentId)>, StoreError> {
    let proof = checks::table
        .inner_join(plan_versions::table.inner_join(plans::table))
        .filter(checks::instrument_id.eq(adjustments::instrument_id))
        .filter(plans::set_up_id.eq(adjustments::set_up_id))
        .filter(checks::purpose.eq("as_left"))
        .filter(checks::state.eq("concluded"))
        .filter(checks::opened_at.ge(adjustments::at))
        .select(checks::id);
    Ok(adjustments::table
        .filter(diesel::dsl::not(diesel::dsl::exists(proof)))
        .order(adjustments::id)
        .select((adjustments::instrument_id, adjustments::set_up_id, adjustments::id))
        .load(connection)
        .await?)
}

/// The newest concluded as-left check that followed an adjustment.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn proof(
    connection: &mut AsyncPgConnection,
    of: &AdjustmentRow,
) -> Result<Option<CheckId>, StoreError> {
    Ok(checks::table
        .inner_join(plan_versions::table.inner_join(plans::table))
        .filter(checks::instrument_id.eq(of.instrument_id))
        .filter(plans::set_up_id.eq(of.set_up_id))
        .filter(checks::purpose.eq("as_left"))
        .filter(checks::state.eq("concluded"))
        .filter(checks::opened_at.ge(of.at))
        .order(checks::id.desc())
        .select(checks::id)
        .first(connection)
        .await
        .optional()?)
}

/// Records an adjustment: its event, the seam of every chart of the set-up, and the instrument out
/// of use until it is proven.
///
/// # Errors
/// [`StoreError::Conflict`] on `adjustments_check_id_key` when this check led to one already.
#[boxed]
pub async fn record(
    connection: &mut AsyncPgConnection,
    mut row: AdjustmentRow,
    note: &str,
) -> Result<AdjustmentId, StoreError> {
    connection
        .transaction(async |connection| {
            let instrument: Instrument = instruments::table
                .find(row.instrument_id)
                .for_update()
                .select(Instrument::as_select())
                .first(connection)
                .await?;
            let event: EventId = diesel::insert_into(instrument_events::table)
                .values((
                    instrument_events::instrument_id.eq(row.instrument_id),
                    instrument_events::kind.eq("adjusted"),
                    instrument_events::at.eq(row.at),
                    instrument_events::note.eq(note),
                    instrument_events::person_id.eq(row.performed_by),
                    instrument_events::applied_correction.eq(row.offset_change),
                    instrument_events::unit.eq(&row.unit),
                    instrument_events::applied_gain.eq(row.gain_change),
                    instrument_events::affects_measurement.eq(true),
                ))
                .returning(instrument_events::id)
                .get_result(connection)
                .await?;
            row.event_id = event;
            let id: AdjustmentId = diesel::insert_into(adjustments::table)
                .values(&row)
                .returning(adjustments::id)
                .get_result(connection)
                .await?;
            seams::open_after_event(
                connection,
                row.instrument_id,
                Some(row.set_up_id),
                event,
                note,
            )
            .await?;
            let cell = cell_of(connection, row.instrument_id, row.set_up_id).await?;
            let state = cell.as_ref().map_or(&instrument.state, |cell| &cell.state);
            if matches!(state.as_str(), "in_service" | "restricted") {
                change_state_locked(
                    connection,
                    NewState {
                        instrument: &instrument,
                        cell: cell.as_ref(),
                        to: ServiceState::OnHold,
                        restricted_to: None,
                        reason: "adjusted, and not proven yet: its as-left check is due",
                        person: row.performed_by,
                        at: row.at.0,
                    },
                )
                .await?;
            }
            let happening = Happening {
                chain: &format!("instrument:{}", row.instrument_id),
                at: row.at.0,
                person: Some(row.performed_by),
                action: "instrument_adjusted",
                detail: json!({
                    "adjustment": id, "check": row.check_id, "kind": row.kind,
                    "offset": row.offset_change, "gain": row.gain_change, "unit": row.unit,
                    "old": [row.old_offset, row.old_gain], "new": [row.new_offset, row.new_gain],
                    "approved_by": row.approved_by, "authority": row.authority,
                    "reason": row.reason,
                }),
            };
            audit::record(connection, &happening).await?;
            Ok(id)
        })
        .await
}

/// Something that happened to an instrument: moved, repaired, noted. What affects measurement
/// opens a new segment on every chart of it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn happened(
    connection: &mut AsyncPgConnection,
    event: &InstrumentEvent,
) -> Result<EventId, StoreError> {
    connection
        .transaction(async |connection| {
            crate::instruments::lock(connection, event.instrument_id).await?;
            let id: EventId = diesel::insert_into(instrument_events::table)
                .values((
                    instrument_events::instrument_id.eq(event.instrument_id),
                    instrument_events::kind.eq(&event.kind),
                    instrument_events::at.eq(event.at),
                    instrument_events::note.eq(&event.note),
                    instrument_events::person_id.eq(event.person_id),
                    instrument_events::affects_measurement.eq(event.affects_measurement),
                ))
                .returning(instrument_events::id)
                .get_result(connection)
                .await?;
            if event.affects_measurement {
                let note = &event.note;
                seams::open_after_event(connection, event.instrument_id, None, id, note).await?;
            }
            let happening = Happening {
                chain: &format!("instrument:{}", event.instrument_id),
                at: event.at.0,
                person: Some(event.person_id),
                action: "instrument_event",
                detail: json!({
                    "kind": event.kind, "note": event.note,
                    "affects_measurement": event.affects_measurement,
                }),
            };
            audit::record(connection, &happening).await?;
            Ok(id)
        })
        .await
}
