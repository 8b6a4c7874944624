//! A second lead decides about a certificate, and what follows from it.

use diesel::prelude::*;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::certificate_reviews::{LIST, Review, TO_COUNTERSIGN, one, path, waiting};
use crate::ids::{CertificateId, CheckId, LookBackId, PersonId, StandardId};
use crate::rows::LookBack;
use crate::schema::certificate_reviews;
use crate::second_look::Decision;
use crate::standard_changes::{note, open_look_back_inside, replay_all, rested};
use crate::types::{At, By};
use crate::{StoreError, conclude, jobs, notices, unreadable};

/// What follows from a certificate that was countersigned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Followed {
    /// Checks of the past that are evaluated again.
    pub to_amend: usize,
    /// The look-back that its values opened.
    pub look_back: Option<LookBackId>,
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
