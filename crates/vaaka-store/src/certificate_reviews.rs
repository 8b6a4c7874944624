//! The second pair of eyes on what a lead typed from a certificate: it serves when another lead has compared it with the paper.

use diesel::prelude::*;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::ids::{CertificateId, CheckId, LookBackId, LotId, PersonId, StandardId};
use crate::rows::{Certificate, LookBack, Standard};
use crate::schema::{certificate_reviews, certificates, standard_lots, standards};
use crate::second_look::Decision;
use crate::standard_changes::{Asked, By, note, open_look_back_inside, replay_all, rested};
use crate::types::At;
use crate::{StoreError, conclude, jobs, notices, unreadable};

/// Kind of the notice by which leads hear of it.
const TO_COUNTERSIGN: &str = "certificate_to_countersign";

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

/// What follows from a certificate that was countersigned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Followed {
    /// Checks of the past that are evaluated again.
    pub to_amend: usize,
    /// The look-back that its values opened.
    pub look_back: Option<LookBackId>,
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

async fn decide(
    connection: &mut AsyncPgConnection,
    (id, standard): (CertificateId, StandardId),
    state: &str,
    decision: Decision<'_>,
) -> Result<Option<Review>, StoreError> {
    let asked =
        certificate_reviews::table.find(id).filter(certificate_reviews::state.eq("waiting"));
    let review: Option<Review> = diesel::update(asked)
        .set((
            certificate_reviews::state.eq(state),
            certificate_reviews::decided_by.eq(decision.by),
            certificate_reviews::decided_at.eq(At(decision.at)),
            certificate_reviews::decided_reason.eq(decision.reason),
            certificate_reviews::alone.eq(decision.alone),
        ))
        .returning(Review::as_returning())
        .get_result(connection)
        .await
        .optional()?;
    if review.is_some() {
        notices::end(
            connection,
            notices::Over::At(TO_COUNTERSIGN, &path(id)),
            decision.by,
            decision.at,
        )
        .await?;
        let by = By { person: decision.by, at: decision.at };
        let detail =
            json!({ "certificate": id, "reason": decision.reason, "alone": decision.alone });
        note(connection, standard, by, &format!("certificate_{state}"), detail).await?;
        if waiting(connection).await?.is_empty() {
            notices::end(
                connection,
                notices::Over::At(TO_COUNTERSIGN, LIST),
                decision.by,
                decision.at,
            )
            .await?;
        }
    }
    Ok(review)
}

/// Countersigns a certificate: it serves from now on. A clerical fix evaluates every check again that rested on the old version,
/// as amendments; a re-certification leaves the past alone, and opens a look-back where its values say so. None where it was
/// decided meanwhile.
///
/// # Errors
/// [`StoreError`]; [`StoreError::Unreadable`] when a piece that past checks need is missing.
#[boxed]
pub async fn countersign(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
    decision: Decision<'_>,
) -> Result<Option<Followed>, StoreError> {
    connection
        .transaction(async |connection| {
            let (certificate, standard) = one(connection, id).await?;
            let by = By { person: decision.by, at: decision.at };
            let Some(review) =
                decide(connection, (id, standard.id), "countersigned", decision).await?
            else {
                return Ok(None);
            };
            let mut to_amend = 0;
            if let (Some(old), "clerical") = (certificate.replaces_id, certificate.change.as_str())
            {
                let found = rested(connection, old).await?;
                to_amend = found.len();
                // Whether it can be done is known before it is decided; the work itself may take minutes.
                conclude::may_amend(connection, (old, id)).await?;
                if to_amend > 0 {
                    let who = (by.person, by.at);
                    let work = jobs::Work::Amend { from: old, to: id };
                    jobs::ask(connection, work, (&path(id), to_amend), who).await?;
                }
            }
            let asked = review.finding.zip(review.suspect_from).zip(certificate.replaces_id);
            let look_back = match asked {
                Some(((finding, suspect_from), old)) => {
                    let row = LookBack {
                        standard_id: standard.id,
                        certificate_id: old,
                        suspect_from,
                        suspect_until: At(by.at),
                        finding,
                        opened_by: by.person,
                        opened_at: At(by.at),
                        closed_by: None,
                        closed_at: None,
                        conclusion: None,
                    };
                    Some(open_look_back_inside(connection, row, by).await?)
                }
                None => None,
            };
            Ok(Some(Followed { to_amend, look_back }))
        })
        .await
}

/// The next checks after a place that rested on a certificate and are not evaluated again with its clerical fix yet: those
/// that were concluded since the fix was decided, too.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn to_amend(
    connection: &mut AsyncPgConnection,
    (from, to): (CertificateId, CertificateId),
    place: i64,
    most: usize,
) -> Result<Vec<CheckId>, StoreError> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let rows: Vec<Row> = diesel::sql_query(
        "SELECT c.id FROM checks c WHERE c.state = 'concluded' AND c.id > $3
             AND (c.certificate_id = $1 OR EXISTS (SELECT 1 FROM check_standards s
                 WHERE s.check_id = c.id AND s.certificate_id = $1))
             AND NOT EXISTS (SELECT 1 FROM audit_entries a WHERE a.chain = 'check:' || c.id
                 AND a.action = 'check_amended' AND (a.detail->>'to')::bigint = $2)
         ORDER BY c.id LIMIT $4",
    )
    .bind::<BigInt, _>(from.0)
    .bind::<BigInt, _>(to.0)
    .bind::<BigInt, _>(place)
    .bind::<BigInt, _>(i64::try_from(most).map_err(unreadable)?)
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| CheckId(row.id)).collect())
}

/// All checks are evaluated again: the charts are replayed, and the trail says so.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn carried_through(
    connection: &mut AsyncPgConnection,
    (from, to): (CertificateId, CertificateId),
    (person, at): (PersonId, Timestamp),
) -> Result<(), StoreError> {
    let found = rested(connection, from).await?;
    replay_all(connection, &found).await?;
    let (_, standard) = one(connection, to).await?;
    let detail = json!({ "certificate": to, "checks": found.len() });
    note(connection, standard.id, By { person, at }, "certificate_carried_through", detail).await
}

/// Rejects a certificate: it stays on record and serves for nothing. False where it was decided meanwhile.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn reject(
    connection: &mut AsyncPgConnection,
    id: CertificateId,
    decision: Decision<'_>,
) -> Result<bool, StoreError> {
    connection
        .transaction(async |connection| {
            let (_, standard) = one(connection, id).await?;
            Ok(decide(connection, (id, standard.id), "rejected", decision).await?.is_some())
        })
        .await
}
