//! The register of standards: the lot in use, its certificate, and what rests on it.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};

use crate::StoreError;
use crate::ids::{CertificateId, StandardId};
use crate::rows::{Certificate, CertifiedValue, Instrument, Lot, Standard};
use crate::schema::{
    certificates, certified_values, instruments, plan_versions, plans, standard_lots, standards,
};

/// A standard with the lot in use and that lot's newest certificate of calibration.
#[derive(Debug, Clone)]
pub struct StandardView {
    /// The standard.
    pub standard: Standard,
    /// The lot in use, if any.
    pub lot: Option<Lot>,
    /// Its newest certificate of calibration, if any.
    pub certificate: Option<Certificate>,
}

/// All standards by tag.
///
/// # Errors
/// [`StoreError`].
pub async fn all(connection: &mut AsyncPgConnection) -> Result<Vec<StandardView>, StoreError> {
    let rows: Vec<(Standard, Option<Lot>)> = standards::table
        .left_join(standard_lots::table.on(
            standard_lots::standard_id.eq(standards::id).and(standard_lots::in_use_until.is_null()),
        ))
        .order(standards::tag)
        .select((Standard::as_select(), Option::<Lot>::as_select()))
        .load(connection)
        .await?;
    let newest: Vec<Certificate> = certificates::table
        .distinct_on(certificates::lot_id)
        .filter(certificates::kind.eq("calibration"))
        .order((
            certificates::lot_id,
            certificates::valid_from.desc(),
            certificates::version.desc(),
        ))
        .select(Certificate::as_select())
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(standard, lot)| {
            let certificate = lot
                .as_ref()
                .and_then(|lot| newest.iter().find(|certificate| certificate.lot_id == lot.id))
                .cloned();
            StandardView { standard, lot, certificate }
        })
        .collect())
}

/// Certified values of a certificate, in its order.
///
/// # Errors
/// [`StoreError`].
pub async fn values(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<Vec<CertifiedValue>, StoreError> {
    Ok(certified_values::table
        .filter(certified_values::certificate_id.eq(certificate))
        .order(certified_values::id)
        .select(CertifiedValue::as_select())
        .load(connection)
        .await?)
}

/// Instruments whose plans in force use each standard.
///
/// # Errors
/// [`StoreError`].
pub async fn used_by(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(StandardId, Instrument)>, StoreError> {
    Ok(plan_versions::table
        .inner_join(plans::table.inner_join(instruments::table))
        .filter(plan_versions::state.eq("approved"))
        .order((plan_versions::standard_id, instruments::tag))
        .select((plan_versions::standard_id, Instrument::as_select()))
        .load(connection)
        .await?)
}
