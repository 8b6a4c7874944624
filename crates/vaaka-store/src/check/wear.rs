//! What a check wears off the standards that it uses: indentations, matings, openings, pieces.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use vaaka_boxed::boxed;
use vaaka_core::method::{Input, Step};
use vaaka_core::quantity::to_f64;
use vaaka_core::standard::{Face, Spot, UseKind, UsedFace, free_spots};

use crate::ids::{CertificateId, CheckId, LotId, PersonId};
use crate::rows::{Check, Lot, StandardUse};
use crate::schema::{certificates, reading_voids, readings, standard_lots, standard_uses};
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
#[boxed]
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
#[boxed]
pub async fn record(
    connection: &mut AsyncPgConnection,
    check: &Check,
    steps: &[Step],
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    let used = checks::certificates_of(connection, check).await?;
    let made = made(connection, check.id).await?;
    for (place, certificate) in used.iter().enumerate() {
        let lot: Lot = certificates::table
            .inner_join(standard_lots::table)
            .filter(certificates::id.eq(certificate))
            .select(Lot::as_select())
            .first(connection)
            .await?;
        let Some(kind) = &lot.use_kind else { continue };
        let kind: UseKind = kind.parse().map_err(unreadable)?;
        let count = kind.uses_of_check(readings_taken(steps, &made, place));
        insert(connection, &lot, count, check, person, at).await?;
    }
    Ok(())
}

/// Step keys of the entries of a check that were really made, in their order: those that a redo voided among them, since a piece was
/// handled and a place used up all the same; corrections of what was typed are none.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn made(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<String>, StoreError> {
    let redone = reading_voids::table.select(reading_voids::reading_id.nullable());
    Ok(readings::table
        .filter(readings::check_id.eq(check))
        .filter(readings::replaces_id.is_null().or(readings::replaces_id.eq_any(redone)))
        .order(readings::id)
        .select(readings::step_key)
        .load(connection)
        .await?)
}

/// Readings that were really taken on a standard, whatever became of them and of the check.
#[must_use]
pub fn readings_taken(steps: &[Step], made: &[String], place: usize) -> u32 {
    let on_it = |step: &&Step| {
        step.standard == place
            && step.input.measures()
            && (matches!(step.input, Input::Trace { .. })
                || step.reference_value.is_some_and(|value| !value.is_zero()))
    };
    let keys: Vec<&str> = steps.iter().filter(on_it).map(|step| step.key.0.as_str()).collect();
    let taken = made.iter().filter(|key| keys.contains(&key.as_str())).count();
    u32::try_from(taken).unwrap_or(u32::MAX)
}

/// The faces of the standards that a check rests on, in their order, with the places that are used up; none for what has no face.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn faces(
    connection: &mut AsyncPgConnection,
    used: &[CertificateId],
) -> Result<Vec<Option<UsedFace>>, StoreError> {
    let lots: Vec<(CertificateId, Lot)> = certificates::table
        .inner_join(standard_lots::table)
        .filter(certificates::id.eq_any(used))
        .select((certificates::id, Lot::as_select()))
        .load(connection)
        .await?;
    let mut found = Vec::new();
    for certificate in used {
        let lot = lots.iter().find(|(id, _)| id == certificate).map(|(_, lot)| lot);
        found.push(match lot.and_then(|lot| Some((lot, face_of(lot)?))) {
            Some((lot, face)) => Some(UsedFace { face, used: used_spots(connection, lot).await? }),
            None => None,
        });
    }
    Ok(found)
}

/// A place of a block that bears a mark already: it is used up, and the next one is proposed.
///
/// # Errors
/// [`StoreError::NotFound`] where the standard has no face, or no place is left on it.
#[boxed]
pub async fn refuse_place(
    connection: &mut AsyncPgConnection,
    (check, certificate): (CheckId, CertificateId),
    taken: usize,
    (reason, person, at): (&str, PersonId, Timestamp),
) -> Result<Spot, StoreError> {
    connection
        .transaction(async |connection| {
            let lot: Lot = certificates::table
                .inner_join(standard_lots::table)
                .filter(certificates::id.eq(certificate))
                .select(Lot::as_select())
                .first(connection)
                .await?;
            // Two who refuse a place of one block follow each other.
            let _: LotId = standard_lots::table
                .find(lot.id)
                .for_no_key_update()
                .select(standard_lots::id)
                .first(connection)
                .await?;
            let face = face_of(&lot).ok_or(StoreError::NotFound)?;
            let face = UsedFace { face, used: used_spots(connection, &lot).await? };
            let spot = *face.free().get(taken).ok_or(StoreError::NotFound)?;
            let part = |value: f64| Decimal::from_f64(value).map(|value| value.round_dp(3));
            let row = StandardUse {
                lot_id: lot.id,
                count: 1,
                place_x: part(spot.x),
                place_y: part(spot.y),
                check_id: Some(check),
                reason: reason.to_owned(),
                person_id: person,
                at: At(at),
            };
            diesel::insert_into(standard_uses::table).values(row).execute(connection).await?;
            Ok(spot)
        })
        .await
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
