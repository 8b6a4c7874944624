//! Instruments, areas and standards.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use vaaka_boxed::boxed;
use vaaka_core::quantity::Unit;
use vaaka_core::standard::{CertifiedPiece, ValueAt};

use crate::ids::{CertificateId, InstrumentId};
use crate::rows::{Area, Certificate, CertifiedValue, Instrument, InstrumentEvent};
use crate::schema::{
    areas, certificates, certified_values, instrument_events, instruments, people,
};
use crate::{StoreError, unreadable};

/// An instrument with its area.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn instrument(
    connection: &mut AsyncPgConnection,
    id: InstrumentId,
) -> Result<(Instrument, Area), StoreError> {
    Ok(instruments::table
        .inner_join(areas::table)
        .filter(instruments::id.eq(id))
        .select((Instrument::as_select(), Area::as_select()))
        .first(connection)
        .await?)
}

/// What happened to an instrument, with who noted it, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn events(
    mut connection: &AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<(InstrumentEvent, String)>, StoreError> {
    Ok(instrument_events::table
        .inner_join(people::table.on(people::id.eq(instrument_events::person_id)))
        .filter(instrument_events::instrument_id.eq(instrument))
        .order((instrument_events::at, instrument_events::id))
        .select((InstrumentEvent::as_select(), people::name))
        .load(&mut connection)
        .await?)
}

/// A certificate by its id.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn certificate(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
) -> Result<Certificate, StoreError> {
    Ok(certificates::table.find(id).select(Certificate::as_select()).first(connection).await?)
}

/// Certified values of a certificate.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn certified_pieces(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<Vec<CertifiedPiece>, StoreError> {
    let rows: Vec<CertifiedValue> = certified_values::table
        .filter(certified_values::certificate_id.eq(certificate))
        .order(certified_values::id)
        .select(CertifiedValue::as_select())
        .load(connection)
        .await?;
    pieces(rows)
}

/// Stored certified values as the core knows them: rows of one piece at several temperatures
/// become one piece.
///
/// # Errors
/// [`StoreError::Unreadable`] for a unit that is not known.
pub fn pieces(rows: Vec<CertifiedValue>) -> Result<Vec<CertifiedPiece>, StoreError> {
    let mut found: Vec<CertifiedPiece> = Vec::new();
    for row in rows {
        let at = row.temperature.map(|temperature| ValueAt {
            temperature,
            certified_value: row.certified_value,
            expanded_uncertainty: Some(row.expanded_uncertainty),
        });
        if let Some(known) = found.iter_mut().find(|piece| piece.tag == row.piece) {
            known.by_temperature.extend(at.map(|at| {
                ValueAt {
                    // With the factor of the piece, so that one factor holds for all of its table.
                    expanded_uncertainty: (!row.coverage_factor.is_zero() && !row.class_limit)
                        .then(|| {
                            row.expanded_uncertainty * known.coverage_factor / row.coverage_factor
                        })
                        .or(at.expanded_uncertainty),
                    ..at
                }
            }));
            continue;
        }
        found.push(CertifiedPiece {
            tag: row.piece,
            nominal: row.nominal,
            certified_value: row.certified_value,
            expanded_uncertainty: row.expanded_uncertainty,
            coverage_factor: row.coverage_factor,
            unit: row.unit.parse::<Unit>().map_err(unreadable)?,
            class_limit: row.class_limit,
            non_uniformity: row.non_uniformity,
            by_temperature: at.into_iter().collect(),
            at_unit: row.at_unit,
        });
    }
    for piece in &mut found {
        piece.by_temperature.sort_by_key(|row| row.temperature);
    }
    Ok(found)
}
