//! The second pair of eyes on what a lead typed from a certificate: it serves when another lead has compared it with the paper.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::ids::{CertificateId, LotId, PersonId};
use crate::rows::{Certificate, Standard};
use crate::schema::{certificate_reviews, certificates, standard_lots, standards};
use crate::types::{At, By};
use crate::{StoreError, notices};

/// A look-back that the values of a new certificate ask for.
#[derive(Debug, Clone)]
pub struct Asked {
    /// What was found.
    pub finding: String,
    /// From when on what rested on the old certificate is in doubt.
    pub suspect_from: Timestamp,
}

/// Kind of the notice by which leads hear of it.
pub(crate) const TO_COUNTERSIGN: &str = "certificate_to_countersign";

/// Where a certificate is decided.
#[must_use]
pub fn path(id: CertificateId) -> String {
    format!("/certificates/{id}")
}

/// A certificate under review, and what came of it.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = certificate_reviews)]
pub struct Review {
    /// The certificate.
    pub certificate_id: CertificateId,
    /// Who typed it.
    pub entered_by: PersonId,
    /// When.
    pub entered_at: At,
    /// What its values ask to look back for.
    pub finding: Option<String>,
    /// From when on.
    pub suspect_from: Option<At>,
    /// waiting, countersigned or rejected.
    pub state: String,
    /// Who decided.
    pub decided_by: Option<PersonId>,
    /// When.
    pub decided_at: Option<At>,
    /// Why.
    pub decided_reason: Option<String>,
    /// The site has one lead, and says so.
    pub alone: bool,
}

/// Asks for a second look at a certificate that was just kept.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn ask(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
    asked: Option<Asked>,
    by: By,
) -> Result<(), StoreError> {
    let finding = asked.as_ref().map(|asked| asked.finding.clone());
    let from = asked.as_ref().map(|asked| At(asked.suspect_from.min(by.at)));
    diesel::insert_into(certificate_reviews::table)
        .values((
            certificate_reviews::certificate_id.eq(id),
            certificate_reviews::entered_by.eq(by.person),
            certificate_reviews::entered_at.eq(At(by.at)),
            certificate_reviews::finding.eq(&finding),
            certificate_reviews::suspect_from.eq(from),
        ))
        .execute(connection)
        .await?;
    Ok(())
}

/// Tells the leads that a certificate waits.
#[boxed]
pub(crate) async fn tell(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
    by: By,
) -> Result<(), StoreError> {
    let (certificate, standard) = one(connection, id).await?;
    let finding = of(connection, id).await?.and_then(|review| review.finding);
    let task = "Compare the values with the paper; until then nothing rests on them.";
    let words = finding.map_or_else(|| task.to_owned(), |finding| format!("{finding}. {task}"));
    let title =
        format!("{}: certificate {} waits for a second lead", standard.tag, certificate.number);
    call(connection, &title, &words, &path(id), by).await
}

/// Where all that wait are listed.
pub const LIST: &str = "/certificates";

/// Tells the leads that certificates of a table wait.
#[boxed]
pub(crate) async fn tell_of_many(
    connection: &mut AsyncPgConnection,
    by: By,
) -> Result<(), StoreError> {
    let words = "A table brought them in. Compare the values with the papers; until then nothing rests on them.";
    call(connection, "Certificates wait for a second lead", words, LIST, by).await
}

async fn call(
    connection: &mut AsyncPgConnection,
    title: &str,
    words: &str,
    path: &str,
    by: By,
) -> Result<(), StoreError> {
    let notice = notices::NewNotice {
        kind: TO_COUNTERSIGN,
        instrument: None,
        check: None,
        title,
        words,
        path,
        at: by.at,
    };
    notices::tell_leads(connection, &notice).await?;
    Ok(())
}

/// A certificate that waits: it, its standard's tag, who typed it and when.
pub type Waiting = (Certificate, String, PersonId, At);

/// All that wait, the oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn waiting(connection: &mut AsyncPgConnection) -> Result<Vec<Waiting>, StoreError> {
    Ok(certificate_reviews::table
        .inner_join(
            certificates::table.inner_join(standard_lots::table.inner_join(standards::table)),
        )
        .filter(certificate_reviews::state.eq("waiting"))
        .order(certificates::id)
        .select((
            Certificate::as_select(),
            standards::tag,
            certificate_reviews::entered_by,
            certificate_reviews::entered_at,
        ))
        .load(connection)
        .await?)
}

/// A certificate with its standard.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn one(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
) -> Result<(Certificate, Standard), StoreError> {
    Ok(certificates::table
        .inner_join(standard_lots::table.inner_join(standards::table))
        .filter(certificates::id.eq(id))
        .select((Certificate::as_select(), Standard::as_select()))
        .first(connection)
        .await?)
}

/// The review of a certificate; none for one of before there were reviews.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
) -> Result<Option<Review>, StoreError> {
    Ok(certificate_reviews::table
        .find(id)
        .select(Review::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The reviews of some certificates.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_these(
    connection: &mut AsyncPgConnection,
    ids: &[CertificateId],
) -> Result<Vec<Review>, StoreError> {
    Ok(certificate_reviews::table
        .filter(certificate_reviews::certificate_id.eq_any(ids))
        .select(Review::as_select())
        .load(connection)
        .await?)
}

/// The certificate of a lot that waits for its second lead.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn waiting_of_lot(
    connection: &mut AsyncPgConnection,
    lot: LotId,
) -> Result<Option<CertificateId>, StoreError> {
    Ok(certificate_reviews::table
        .inner_join(certificates::table)
        .filter(certificates::lot_id.eq(lot))
        .filter(certificate_reviews::state.eq("waiting"))
        .select(certificates::id)
        .first(connection)
        .await
        .optional()?)
}

/// The newest version of a lot's certificate of this number that was rejected; zero where none was.
#[boxed]
pub(crate) async fn rejected_version(
    connection: &mut AsyncPgConnection,
    lot: LotId,
    number: &str,
) -> Result<i32, StoreError> {
    let found: Option<i32> = certificate_reviews::table
        .inner_join(certificates::table)
        .filter(certificates::lot_id.eq(lot))
        .filter(certificates::number.eq(number))
        .filter(certificate_reviews::state.eq("rejected"))
        .select(diesel::dsl::max(certificates::version))
        .first(connection)
        .await?;
    Ok(found.unwrap_or(0))
}
