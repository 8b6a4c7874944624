//! Instruments, areas and standards.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::civil::Date;
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

use crate::ids::{CertificateId, InstrumentId, StandardId};
use crate::rows::{Area, Certificate, CertifiedValue, Instrument, InstrumentEvent};
use crate::schema::{
    areas, certificates, certified_values, instrument_events, instruments, people, standard_lots,
};
use crate::types::Day;
use crate::{StoreError, unreadable};

/// An instrument with its area.
///
/// # Errors
/// [`StoreError`].
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
pub async fn events(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<(InstrumentEvent, String)>, StoreError> {
    Ok(instrument_events::table
        .inner_join(people::table.on(people::id.eq(instrument_events::person_id)))
        .filter(instrument_events::instrument_id.eq(instrument))
        .order((instrument_events::at, instrument_events::id))
        .select((InstrumentEvent::as_select(), people::name))
        .load(connection)
        .await?)
}

/// The newest calibration certificate of the lot in use that had begun by `day`; whether it is
/// still valid is for the core to say.
///
/// # Errors
/// [`StoreError`].
pub async fn certificate_in_use(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    day: Date,
) -> Result<Option<Certificate>, StoreError> {
    Ok(certificates::table
        .inner_join(standard_lots::table)
        .filter(standard_lots::standard_id.eq(standard))
        .filter(standard_lots::in_use_until.is_null())
        // A certificate of conformance carries no data: it is no reference.
        .filter(certificates::kind.eq("calibration"))
        .filter(certificates::valid_from.le(Day(day)))
        .order((certificates::valid_from.desc(), certificates::version.desc()))
        .select(Certificate::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// A certificate by its id.
///
/// # Errors
/// [`StoreError`].
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
    rows.into_iter().map(piece).collect()
}

/// A stored certified value as the core knows it.
///
/// # Errors
/// [`StoreError::Unreadable`] for a unit that is not known.
pub fn piece(row: CertifiedValue) -> Result<CertifiedPiece, StoreError> {
    Ok(CertifiedPiece {
        tag: row.piece,
        nominal: row.nominal,
        certified_value: row.certified_value,
        expanded_uncertainty: row.expanded_uncertainty,
        coverage_factor: row.coverage_factor,
        unit: row.unit.parse::<Unit>().map_err(unreadable)?,
    })
}
