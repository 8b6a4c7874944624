//! What a check wears off the standards that it uses: indentations, matings, openings, pieces.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use vaaka_core::method::{Input, RunState, Step};
use vaaka_core::quantity::to_f64;
use vaaka_core::standard::{Face, Spot, UseKind, free_spots};

use crate::ids::PersonId;
use crate::rows::{Check, Lot, StandardUse};
use crate::schema::{certificates, standard_lots, standard_uses};
use crate::types::At;
use crate::{StoreError, checks, unreadable};

/// The face of a lot's block, where it has one.
#[must_use]
pub fn face_of(lot: &Lot) -> Option<Face> {
    Some(Face {
        width: to_f64(lot.face_width?),
        height: to_f64(lot.face_height?),
        spacing: to_f64(lot.face_spacing?),
        edge: to_f64(lot.face_edge?),
    })
}

/// Places of a lot that are used up.
///
/// # Errors
/// [`StoreError`].
pub async fn used_spots(
    connection: &mut AsyncPgConnection,
    lot: &Lot,
) -> Result<Vec<Spot>, StoreError> {
    let rows: Vec<(Option<Decimal>, Option<Decimal>)> = standard_uses::table
        .filter(standard_uses::lot_id.eq(lot.id))
        .filter(standard_uses::place_x.is_not_null())
        .order(standard_uses::id)
        .select((standard_uses::place_x, standard_uses::place_y))
        .load(connection)
        .await?;
    Ok(rows.into_iter().filter_map(|(x, y)| Some(Spot { x: to_f64(x?), y: to_f64(y?) })).collect())
}

/// Records what a check used, also when it came to nothing: material that was opened is open.
///
/// # Errors
/// [`StoreError`].
pub async fn record(
    connection: &mut AsyncPgConnection,
    check: &Check,
    steps: &[Step],
    run: &RunState,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    let used = checks::certificates_of(connection, check).await?;
    for (place, certificate) in used.iter().enumerate() {
        let lot: Lot = certificates::table
            .inner_join(standard_lots::table)
            .filter(certificates::id.eq(certificate))
            .select(Lot::as_select())
            .first(connection)
            .await?;
        let Some(kind) = &lot.use_kind else { continue };
        let kind: UseKind = kind.parse().map_err(unreadable)?;
        let count = kind.uses_of_check(readings_taken(steps, run, place));
        insert(connection, &lot, count, check, person, at).await?;
    }
    Ok(())
}

/// Readings that were really taken on a standard, whatever became of the check.
fn readings_taken(steps: &[Step], run: &RunState, place: usize) -> u32 {
    let on_it = |step: &&Step| {
        step.standard == place
            && (matches!(step.input, Input::Trace { .. })
                || step.reference_value.is_some_and(|value| !value.is_zero()))
    };
    let taken: usize = steps
        .iter()
        .filter(on_it)
        .map(|step| run.of_step(&step.key).filter(|entry| entry.value.measures()).count())
        .sum();
    u32::try_from(taken).unwrap_or(u32::MAX)
}

async fn insert(
    connection: &mut AsyncPgConnection,
    lot: &Lot,
    count: u32,
    check: &Check,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    if count == 0 {
        return Ok(());
    }
    let row = |count: i32, spot: Option<Spot>| {
        let part = |value: f64| Decimal::from_f64(value).map(|value| value.round_dp(3));
        StandardUse {
            lot_id: lot.id,
            count,
            place_x: spot.and_then(|spot| part(spot.x)),
            place_y: spot.and_then(|spot| part(spot.y)),
            check_id: Some(check.id),
            reason: String::new(),
            person_id: person,
            at: At(at),
        }
    };
    let mut rows = Vec::new();
    let mut left = count;
    if let Some(face) = face_of(lot) {
        let free = free_spots(&face, &used_spots(connection, lot).await?);
        for spot in free.into_iter().take(count as usize) {
            rows.push(row(1, Some(spot)));
            left -= 1;
        }
    }
    if left > 0 {
        rows.push(row(i32::try_from(left).map_err(unreadable)?, None));
    }
    diesel::insert_into(standard_uses::table).values(rows).execute(connection).await?;
    Ok(())
}
