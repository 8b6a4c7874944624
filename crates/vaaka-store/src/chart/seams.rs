//! Seams of a chart where its standard changes: another certificate than the point before.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use vaaka_boxed::boxed;
use vaaka_core::adjustment::Correction;
use vaaka_core::chart::ChartState;
use vaaka_core::check::{StreamSlot, segment_level};
use vaaka_core::judgement::Characteristic;
use vaaka_core::method::{Method, PlanSpec, RunState};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::standard::{ValueChangeKind, classify};

use crate::charts::{LockedStream, current_segment, interval, recent_points, slot};
use crate::ids::{CertificateId, EventId, InstrumentId, LotId, SegmentId, SetUpId};
use crate::plans::{self, PlanView};
use crate::rows::{Segment, Stream};
use crate::schema::{
    certificates, chart_points, chart_streams, instrument_events, instruments, segments,
};
use crate::types::At;
use crate::{StoreError, standards, to_word, unreadable, word};

/// What a check rests on.
#[derive(Clone, Copy)]
pub struct Place<'a> {
    /// Its plan.
    pub view: &'a PlanView,
    /// The plan with the certified values used.
    pub plan: &'a PlanSpec,
    /// Certificates, in the order of the plan's standards.
    pub certificates: &'a [CertificateId],
    /// The method.
    pub method: &'a dyn Method,
    /// The entries of the check.
    pub run: &'a RunState,
    /// What they come to.
    pub found: &'a [Characteristic],
}

type Before = (CertificateId, Option<f64>);

/// Opens a new segment when the check rests on another certificate than the newest counted point
/// of the chart: about a moved centre where the change is known (certified anew, or an accepted
/// crossover), else with a provisional level. Where a plan takes any standard of a kind, the
/// standard is an attribute of the point and no seam.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open_where_due(
    connection: &mut AsyncPgConnection,
    place: &Place<'_>,
    at: &mut LockedStream,
    measured_at: Timestamp,
) -> Result<bool, StoreError> {
    let key = at.stream.characteristic_key.clone();
    let found = place.found.iter().find(|one| one.key == key);
    let Some((found, on)) =
        found.and_then(|one| Some((one, one.rests_on.as_slice().first().copied()?)))
    else {
        return Ok(false);
    };
    let standard = place.plan.standards.get(on);
    if standard.is_none_or(|standard| standard.any_of_kind.is_some()) {
        return Ok(false);
    }
    let before: Option<Before> = chart_points::table
        .filter(chart_points::segment_id.eq(at.segment.id))
        .filter(chart_points::ordinal.is_not_null())
        .order(chart_points::ordinal.desc())
        .select((chart_points::certificate_id, chart_points::center_line))
        .first(connection)
        .await
        .optional()?;
    let (Some((old, center)), Some(new)) = (before, place.certificates.get(on)) else {
        return Ok(false);
    };
    if old == *new {
        return Ok(false);
    }
    let (old_lot, _) = lot_and_change(connection, old).await?;
    let (new_lot, kind) = lot_and_change(connection, *new).await?;
    let Some(cause) = classify(old_lot == new_lot, kind) else {
        return Ok(false);
    };
    let moved = if old_lot == new_lot {
        let mut with_old = place.certificates.to_vec();
        with_old[on] = old;
        let spec = plans::spec(connection, place.view, &with_old, place.plan.purpose).await?;
        // What the same readings make with the values of before.
        let before = place.method.evaluate(&spec, place.run)?;
        let before = before.iter().find(|one| one.key == key);
        Some(before.map_or(0.0, |before| found.value() - before.value()))
    } else {
        crossed_over(connection, &at.stream, (old_lot, new_lot)).await?
    };
    let design = at.slot.design.as_ref().map(|design| match (moved, center) {
        (Some(moved), Some(center)) => design.about(center + moved),
        _ => design.after_adjustment(center.unwrap_or(0.0)),
    });
    let fresh = StreamSlot {
        design,
        state: ChartState::new(interval(&at.stream)),
        recent: Vec::new(),
        ..at.slot.clone()
    };
    at.segment = open(connection, &at.segment, cause, None, &fresh, measured_at).await?;
    at.slot = slot(&at.stream, &at.segment, Vec::new())?;
    Ok(true)
}

/// Opens a new segment on a chart of all levels together, because one of its levels began one: by how
/// much its own level moved nobody knows, so that it is provisional.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open_derived(
    connection: &mut AsyncPgConnection,
    at: &mut LockedStream,
    cause: &str,
    measured_at: Timestamp,
) -> Result<(), StoreError> {
    let (center, _) =
        at.slot.design.as_ref().map_or((0.0, false), |design| at.slot.state.center_line(design));
    let fresh = StreamSlot {
        design: at.slot.design.as_ref().map(|design| design.after_adjustment(center)),
        state: ChartState::new(interval(&at.stream)),
        recent: Vec::new(),
        ..at.slot.clone()
    };
    at.segment = open(connection, &at.segment, cause, None, &fresh, measured_at).await?;
    at.slot = slot(&at.stream, &at.segment, Vec::new())?;
    Ok(())
}

/// Opens a new segment on the charts of an instrument after something that affects measurement, all
/// of them or those of one set-up: sigma is kept, the centre is on the target, and the level is
/// provisional until five as-founds are in.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open_after_event(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    set_up: Option<SetUpId>,
    event: EventId,
    cause: &str,
) -> Result<(), StoreError> {
    let streams: Vec<Stream> = chart_streams::table
        .filter(chart_streams::instrument_id.eq(instrument))
        .order(chart_streams::id)
        .for_no_key_update()
        .select(Stream::as_select())
        .load(connection)
        .await?;
    let what: EventFacts = instrument_events::table
        .find(event)
        .select((
            instrument_events::at,
            instrument_events::applied_correction,
            instrument_events::applied_gain,
            instrument_events::unit,
        ))
        .first(connection)
        .await?;
    let at = what.0;
    let display: String =
        instruments::table.find(instrument).select(instruments::unit).first(connection).await?;
    let display: Unit = display.parse().map_err(unreadable)?;
    for stream in streams.into_iter().filter(|s| set_up.is_none_or(|wanted| s.set_up_id == wanted))
    {
        let segment = current_segment(connection, stream.id).await?;
        let before = slot(&stream, &segment, Vec::new())?;
        let left = match (effect_on(&stream, &what, display)?, &before.design) {
            (Some(effect), Some(design)) => {
                let recent = recent_points(connection, segment.id).await?;
                let estimate = segment_level(design, &recent);
                // How far the level may be from the target: what the estimate leaves open, and what was not corrected.
                Some(estimate.standard_uncertainty.hypot(estimate.level + effect))
            }
            _ => None,
        };
        // What nothing certifies has no target to come back to: its level begins anew, unknown.
        let known = before.design.as_ref().filter(|_| stream.is_indication != Some(true));
        let fresh = StreamSlot {
            design: known.map(|design| design.after_correction(0.0, left)),
            state: ChartState::new(interval(&stream)),
            ..before
        };
        open(connection, &segment, cause, Some(event), &fresh, at.0).await?;
    }
    Ok(())
}

type EventFacts = (At, Option<Decimal>, Option<Decimal>, Option<String>);

/// What an adjustment does to the errors on a chart, in its unit: offset + gain·indication at its nominal value. None for
/// other events.
fn effect_on(stream: &Stream, what: &EventFacts, display: Unit) -> Result<Option<f64>, StoreError> {
    let (_, Some(offset), Some(gain), Some(unit)) = what else { return Ok(None) };
    let (from, to): (Unit, Unit) =
        (unit.parse().map_err(unreadable)?, stream.unit.parse().map_err(unreadable)?);
    let Ok(offset) = from.try_convert(*offset, to) else { return Ok(None) };
    // A chart of all levels together has no nominal value; its effect is not told.
    let Some(nominal) = stream.nominal.filter(|_| stream.derived.is_none()) else {
        return Ok(None);
    };
    let level = display.try_convert(nominal, to).map_or(0.0, to_f64);
    Ok(Some(Correction { offset: to_f64(offset), gain: to_f64(*gain) }.at(level)))
}

async fn lot_and_change(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<(LotId, ValueChangeKind), StoreError> {
    let (lot, change): (LotId, String) = certificates::table
        .find(certificate)
        .select((certificates::lot_id, certificates::change))
        .first(connection)
        .await?;
    Ok((lot, word(&change)?))
}

/// The offset of an accepted crossover at the nominal value of a chart, in its unit.
async fn crossed_over(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    (old, new): (LotId, LotId),
) -> Result<Option<f64>, StoreError> {
    let unit: Unit = stream.unit.parse().map_err(unreadable)?;
    for row in standards::accepted_crossovers(connection, old, new).await? {
        let of: Unit = row.unit.parse().map_err(unreadable)?;
        if stream.nominal.is_some_and(|nominal| nominal.normalize() == row.nominal.normalize())
            && let Ok(scale) = of.try_convert(1.into(), unit)
        {
            return Ok(Some(row.offset_found * to_f64(scale)));
        }
    }
    Ok(None)
}

/// Opens the segment that follows another. Its signals stay with whoever works on them.
#[boxed]
pub(crate) async fn open(
    connection: &mut AsyncPgConnection,
    last: &Segment,
    cause: &str,
    event: Option<EventId>,
    slot: &StreamSlot,
    at: Timestamp,
) -> Result<Segment, StoreError> {
    // Those that were joined with the one before keep their places.
    let newest: Option<i32> = segments::table
        .filter(segments::stream_id.eq(last.stream_id))
        .select(diesel::dsl::max(segments::ordinal))
        .first(connection)
        .await?;
    let id: SegmentId = diesel::insert_into(segments::table)
        .values((
            segments::stream_id.eq(last.stream_id),
            segments::ordinal.eq(newest.unwrap_or(last.ordinal) + 1),
            segments::opened_at.eq(At(at)),
            segments::cause.eq(cause),
            segments::event_id.eq(event),
            segments::design.eq(slot
                .design
                .as_ref()
                .map(serde_json::to_value)
                .transpose()
                .map_err(unreadable)?),
            segments::sigma_source.eq(slot.sigma_source.as_ref().map(to_word).transpose()?),
            segments::state.eq(serde_json::to_value(&slot.state).map_err(unreadable)?),
        ))
        .returning(segments::id)
        .get_result(connection)
        .await?;
    Ok(segments::table.find(id).select(Segment::as_select()).first(connection).await?)
}
