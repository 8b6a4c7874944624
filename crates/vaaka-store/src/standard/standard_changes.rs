//! What people change in the register of standards, each with its audit entry.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::{Value, json};
use vaaka_boxed::boxed;

use crate::audit::{self, Happening};
pub use crate::certificate_reviews::Asked;
use crate::ids::{CertificateId, CheckId, CrossoverId, LookBackId, LotId, StandardId};
use crate::rows::{
    Certificate, CertifiedValue, CrossoverRow, LookBack, Lot, Standard, StandardStateRow,
    StandardUse,
};
use crate::schema::{
    certificate_acceptances, certificates, certified_values, check_standards, checks, crossovers,
    look_backs, standard_lots, standard_states, standard_uses, standards,
};
use crate::types::{At, By, Day};
use crate::{StoreError, certificate_reviews};

#[boxed]
pub(crate) async fn note(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    by: By,
    action: &str,
    detail: Value,
) -> Result<(), StoreError> {
    audit::record(
        connection,
        &Happening {
            chain: &format!("standard:{standard}"),
            at: by.at,
            person: Some(by.person),
            action,
            detail,
        },
    )
    .await
}

/// What is said of a standard itself.
#[derive(Debug, Clone, Copy)]
pub struct StandardFields<'a> {
    /// Tag.
    pub tag: &'a str,
    /// Name.
    pub name: &'a str,
    /// Kind.
    pub kind: &'a str,
    /// Where it is kept.
    pub location: &'a str,
}

/// Registers a standard.
///
/// # Errors
/// [`StoreError::Conflict`] on `standards_tag_key`.
#[boxed]
pub async fn register(
    connection: &mut AsyncPgConnection,
    fields: StandardFields<'_>,
    by: By,
) -> Result<StandardId, StoreError> {
    connection
        .transaction(async |connection| {
            let id: StandardId = diesel::insert_into(standards::table)
                .values((
                    standards::tag.eq(fields.tag),
                    standards::name.eq(fields.name),
                    standards::kind.eq(fields.kind),
                    standards::location.eq(fields.location),
                ))
                .returning(standards::id)
                .get_result(connection)
                .await?;
            let detail = json!({ "tag": fields.tag, "name": fields.name, "kind": fields.kind });
            note(connection, id, by, "standard_registered", detail).await?;
            Ok(id)
        })
        .await
}

/// Changes what is said of a standard; its tag stays.
///
/// # Errors
/// [`StoreError::Conflict`] on `standards_version` when it was changed meanwhile.
#[boxed]
pub async fn edit(
    connection: &mut AsyncPgConnection,
    seen: &Standard,
    fields: StandardFields<'_>,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(standards::table.find(seen.id))
                .filter(standards::version.eq(seen.version))
                .set((
                    standards::name.eq(fields.name),
                    standards::kind.eq(fields.kind),
                    standards::location.eq(fields.location),
                    standards::version.eq(standards::version + 1),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "standards_version".to_owned() });
            }
            let detail =
                json!({ "name": fields.name, "kind": fields.kind, "location": fields.location });
            note(connection, seen.id, by, "standard_edited", detail).await
        })
        .await
}

/// Changes the state of a standard.
///
/// # Errors
/// [`StoreError::Conflict`] on `standards_version` when it was changed meanwhile.
#[boxed]
pub async fn change_state(
    connection: &mut AsyncPgConnection,
    seen: &Standard,
    to: &str,
    reason: &str,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(standards::table.find(seen.id))
                .filter(standards::version.eq(seen.version))
                .set((
                    standards::state.eq(to),
                    standards::state_reason.eq(if to == "in_use" { "" } else { reason }),
                    standards::version.eq(standards::version + 1),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::Conflict { constraint: "standards_version".to_owned() });
            }
            diesel::insert_into(standard_states::table)
                .values(StandardStateRow {
                    standard_id: seen.id,
                    state: to.to_owned(),
                    reason: reason.to_owned(),
                    person_id: by.person,
                    at: At(by.at),
                })
                .execute(connection)
                .await?;
            let detail = json!({ "from": seen.state, "to": to, "reason": reason });
            note(connection, seen.id, by, "standard_state_changed", detail).await
        })
        .await
}

/// A lot that is new, with its certificate.
#[derive(Debug, Clone)]
pub struct NewLot {
    /// The lot; its ids are given by the database.
    pub lot: Lot,
    /// Its first certificate.
    pub certificate: Certificate,
    /// What that certificate states.
    pub values: Vec<CertifiedValue>,
}

/// Registers a lot with its first certificate. The first lot of a standard is in use at once;
/// later ones wait until they are put in use, so that a crossover can be made.
///
/// # Errors
/// [`StoreError::Conflict`] when the lot or the certificate's number exists already.
#[boxed]
pub async fn add_lot(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    new: NewLot,
    by: By,
) -> Result<(LotId, CertificateId), StoreError> {
    connection
        .transaction(async |connection| {
            let (lot, certificate) = add_lot_quietly(connection, standard, new, by).await?;
            certificate_reviews::tell(connection, certificate, by).await?;
            Ok((lot, certificate))
        })
        .await
}

/// As [`add_lot`], and nobody is called about its certificate: a table brings many.
#[boxed]
pub(crate) async fn add_lot_quietly(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    new: NewLot,
    by: By,
) -> Result<(LotId, CertificateId), StoreError> {
    connection
        .transaction(async |connection| {
            let known: i64 = standard_lots::table
                .filter(standard_lots::standard_id.eq(standard))
                .count()
                .get_result(connection)
                .await?;
            let from = (known == 0).then_some(At(by.at));
            let lot = new.lot;
            let id: LotId = diesel::insert_into(standard_lots::table)
                .values((
                    standard_lots::standard_id.eq(standard),
                    standard_lots::lot.eq(&lot.lot),
                    standard_lots::in_use_from.eq(from),
                    standard_lots::expires_on.eq(lot.expires_on),
                    standard_lots::opened_at.eq(lot.opened_at),
                    standard_lots::open_hours.eq(lot.open_hours),
                    standard_lots::use_kind.eq(&lot.use_kind),
                    standard_lots::use_limit.eq(lot.use_limit),
                    standard_lots::face_width.eq(lot.face_width),
                    standard_lots::face_height.eq(lot.face_height),
                    standard_lots::face_spacing.eq(lot.face_spacing),
                    standard_lots::face_edge.eq(lot.face_edge),
                ))
                .returning(standard_lots::id)
                .get_result(connection)
                .await?;
            let certificate =
                insert_certificate(connection, id, new.certificate, new.values).await?;
            let detail = json!({ "lot": lot.lot, "certificate": certificate });
            note(connection, standard, by, "lot_registered", detail).await?;
            certificate_reviews::ask(connection, certificate, None, by).await?;
            Ok((id, certificate))
        })
        .await
}

async fn insert_certificate(
    connection: &mut AsyncPgConnection,
    lot: LotId,
    certificate: Certificate,
    values: Vec<CertifiedValue>,
) -> Result<CertificateId, StoreError> {
    // What was rejected keeps its number and stays on record; typed again it is the next version.
    let rejected =
        certificate_reviews::rejected_version(connection, lot, &certificate.number).await?;
    let id: CertificateId = diesel::insert_into(certificates::table)
        .values((
            certificates::lot_id.eq(lot),
            certificates::number.eq(&certificate.number),
            certificates::version.eq(certificate.version.max(rejected + 1)),
            certificates::kind.eq(&certificate.kind),
            certificates::issuer.eq(&certificate.issuer),
            certificates::issued_on.eq(certificate.issued_on),
            certificates::valid_from.eq(certificate.valid_from),
            certificates::valid_until.eq(certificate.valid_until),
            certificates::change.eq(&certificate.change),
            certificates::replaces_id.eq(certificate.replaces_id),
        ))
        .returning(certificates::id)
        .get_result(connection)
        .await?;
    let values: Vec<CertifiedValue> =
        values.into_iter().map(|value| CertifiedValue { certificate_id: id, ..value }).collect();
    diesel::insert_into(certified_values::table).values(values).execute(connection).await?;
    Ok(id)
}

/// Adds a certificate to a lot that has one. It waits for a second lead ([`crate::certificate_reviews`]); what follows from it,
/// amendments and look-backs, follows when it is countersigned.
///
/// # Errors
/// [`StoreError`]; [`StoreError::Conflict`] when the number and version exist already, or another certificate of the lot waits.
#[boxed]
pub async fn add_certificate(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    lot: LotId,
    certificate: Certificate,
    values: Vec<CertifiedValue>,
    asked: Option<Asked>,
    by: By,
) -> Result<CertificateId, StoreError> {
    connection
        .transaction(async |connection| {
            audit::hold(connection, &format!("standard:{standard}")).await?;
            if certificate_reviews::waiting_of_lot(connection, lot).await?.is_some() {
                return Err(StoreError::Conflict { constraint: "certificate_reviews_one".to_owned() });
            }
            let (replaces, change) = (certificate.replaces_id, certificate.change.clone());
            let number = certificate.number.clone();
            let id = insert_certificate(connection, lot, certificate, values).await?;
            let detail = json!({ "certificate": id, "number": number, "change": change, "replaces": replaces });
            note(connection, standard, by, "certificate_added", detail).await?;
            certificate_reviews::ask(connection, id, asked, by).await?;
            certificate_reviews::tell(connection, id, by).await?;
            Ok(id)
        })
        .await
}

/// Concluded checks that rest on a certificate, oldest first.
#[boxed]
pub(crate) async fn rested(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<Vec<CheckId>, StoreError> {
    let extra = check_standards::table
        .filter(check_standards::certificate_id.eq(certificate))
        .select(check_standards::check_id);
    Ok(checks::table
        .filter(checks::state.eq("concluded"))
        .filter(checks::certificate_id.eq(certificate).or(checks::id.eq_any(extra)))
        .order(checks::id)
        .select(checks::id)
        .load(connection)
        .await?)
}

#[boxed]
pub(crate) async fn replay_all(
    connection: &mut AsyncPgConnection,
    found: &[CheckId],
) -> Result<(), StoreError> {
    use crate::ids::StreamId;
    use crate::schema::chart_points;
    let streams: Vec<StreamId> = chart_points::table
        .filter(chart_points::check_id.eq_any(found))
        .distinct()
        .order(chart_points::stream_id)
        .select(chart_points::stream_id)
        .load(connection)
        .await?;
    crate::replay::these(connection, streams).await
}

/// Accepts a certificate of conformance as a reference, with a lead's written reason.
///
/// # Errors
/// [`StoreError::Conflict`] when it was accepted before.
#[boxed]
pub async fn accept_conformance(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    certificate: CertificateId,
    reason: &str,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(certificate_acceptances::table)
                .values((
                    certificate_acceptances::certificate_id.eq(certificate),
                    certificate_acceptances::reason.eq(reason),
                    certificate_acceptances::person_id.eq(by.person),
                    certificate_acceptances::at.eq(At(by.at)),
                ))
                .execute(connection)
                .await?;
            let detail = json!({ "certificate": certificate, "reason": reason });
            note(connection, standard, by, "conformance_accepted", detail).await
        })
        .await
}

/// Puts a waiting lot in use; the one before it ends.
///
/// # Errors
/// [`StoreError::NotFound`] when the lot does not wait.
#[boxed]
pub async fn use_lot(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    lot: LotId,
    reason: &str,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::update(standard_lots::table)
                .filter(standard_lots::standard_id.eq(standard))
                .filter(standard_lots::in_use_from.is_not_null())
                .filter(standard_lots::in_use_until.is_null())
                .set(standard_lots::in_use_until.eq(At(by.at)))
                .execute(connection)
                .await?;
            let changed = diesel::update(standard_lots::table.find(lot))
                .filter(standard_lots::standard_id.eq(standard))
                .filter(standard_lots::in_use_from.is_null())
                .set(standard_lots::in_use_from.eq(At(by.at)))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::NotFound);
            }
            let detail = json!({ "lot": lot, "reason": reason });
            note(connection, standard, by, "lot_put_in_use", detail).await
        })
        .await
}

/// Records that the lot in use was opened.
///
/// # Errors
/// [`StoreError::NotFound`] when it is open already.
#[boxed]
pub async fn open_lot(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    lot: LotId,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(standard_lots::table.find(lot))
                .filter(standard_lots::opened_at.is_null())
                .set(standard_lots::opened_at.eq(At(by.at)))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::NotFound);
            }
            note(connection, standard, by, "lot_opened", json!({ "lot": lot })).await
        })
        .await
}

/// Strikes off uses by hand, or gives them back (a negative count), with a reason.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn strike_off(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
    row: StandardUse,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let detail = json!({ "lot": row.lot_id, "count": row.count, "reason": row.reason });
            diesel::insert_into(standard_uses::table).values(row).execute(connection).await?;
            note(connection, standard, by, "uses_struck_off", detail).await
        })
        .await
}

/// Keeps a crossover, accepted by nobody yet.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn add_crossover(
    connection: &mut AsyncPgConnection,
    row: CrossoverRow,
    by: By,
) -> Result<CrossoverId, StoreError> {
    connection
        .transaction(async |connection| {
            let standard = row.standard_id;
            let detail = json!({ "offset": row.offset_found, "pairs": row.old_errors.len() });
            let id: CrossoverId = diesel::insert_into(crossovers::table)
                .values(row)
                .returning(crossovers::id)
                .get_result(connection)
                .await?;
            note(connection, standard, by, "crossover_kept", detail).await?;
            Ok(id)
        })
        .await
}

/// A lead accepts a crossover.
///
/// # Errors
/// [`StoreError::NotFound`] when it was accepted before.
#[boxed]
pub async fn accept_crossover(
    connection: &mut AsyncPgConnection,
    id: CrossoverId,
    by: By,
) -> Result<StandardId, StoreError> {
    connection
        .transaction(async |connection| {
            let standard: StandardId = diesel::update(crossovers::table.find(id))
                .filter(crossovers::accepted_at.is_null())
                .set((crossovers::accepted_by.eq(by.person), crossovers::accepted_at.eq(At(by.at))))
                .returning(crossovers::standard_id)
                .get_result(connection)
                .await?;
            note(connection, standard, by, "crossover_accepted", json!({ "crossover": id }))
                .await?;
            Ok(standard)
        })
        .await
}

#[boxed]
pub(crate) async fn open_look_back_inside(
    connection: &mut AsyncPgConnection,
    row: LookBack,
    by: By,
) -> Result<LookBackId, StoreError> {
    let standard = row.standard_id;
    let detail = json!({
        "finding": row.finding, "certificate": row.certificate_id,
        "from": row.suspect_from.0.to_string(), "until": row.suspect_until.0.to_string(),
    });
    let id: LookBackId = diesel::insert_into(look_backs::table)
        .values(row)
        .returning(look_backs::id)
        .get_result(connection)
        .await?;
    note(connection, standard, by, "look_back_opened", detail).await?;
    Ok(id)
}

/// Opens a look-back: a standard was found wrong. The standard goes on hold with it.
///
/// # Errors
/// [`StoreError::Conflict`] on `standards_version`.
#[boxed]
pub async fn found_wrong(
    connection: &mut AsyncPgConnection,
    seen: &Standard,
    row: LookBack,
    by: By,
) -> Result<LookBackId, StoreError> {
    connection
        .transaction(async |connection| {
            let reason = row.finding.clone();
            let id = open_look_back_inside(connection, row, by).await?;
            if seen.state == "in_use" {
                change_state(connection, seen, "on_hold", &reason, by).await?;
            }
            Ok(id)
        })
        .await
}

/// Closes a look-back with what came of it.
///
/// # Errors
/// [`StoreError::NotFound`] when it is closed.
#[boxed]
pub async fn close_look_back(
    connection: &mut AsyncPgConnection,
    id: LookBackId,
    conclusion: &str,
    by: By,
) -> Result<StandardId, StoreError> {
    connection
        .transaction(async |connection| {
            let standard: StandardId = diesel::update(look_backs::table.find(id))
                .filter(look_backs::closed_at.is_null())
                .set((
                    look_backs::closed_by.eq(by.person),
                    look_backs::closed_at.eq(At(by.at)),
                    look_backs::conclusion.eq(conclusion),
                ))
                .returning(look_backs::standard_id)
                .get_result(connection)
                .await?;
            let detail = json!({ "look_back": id, "conclusion": conclusion });
            note(connection, standard, by, "look_back_closed", detail).await?;
            Ok(standard)
        })
        .await
}

/// The day from which a certificate of this lot was first used, for the words of a page.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn valid_from(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<Day, StoreError> {
    Ok(certificates::table
        .find(certificate)
        .select(certificates::valid_from)
        .first(connection)
        .await?)
}
