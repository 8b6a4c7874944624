//! Voiding a check: it stays on record, and leaves its charts.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::audit::{self, Happening, Head, chain};
use crate::ids::{CheckId, PersonId};
use crate::schema::checks as rows;
use crate::types::At;
use crate::{StoreError, checks, notices, plans, replay, wear, word};

/// Voids a check with a reason: it stays on record and off the chart. A concluded one leaves
/// its charts, which are replayed without it. What was used up stays used up.
///
/// # Errors
/// [`StoreError::NotFound`] when it is void already; [`StoreError::Conflict`] when something was added to its record
/// since `seen`, the newest entry of its chain, was read.
#[boxed]
pub async fn void(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    person: PersonId,
    reason: &str,
    seen: Option<&Head>,
    now: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let check = checks::hold(connection, id).await?;
            // Who may void was judged by what was kept: an entry or verdict that came since may say otherwise.
            if audit::head(connection, &chain(id)).await?.as_ref() != seen {
                return Err(StoreError::Conflict { constraint: "checks_seen".to_owned() });
            }
            if check.state == "void" {
                return Err(StoreError::NotFound);
            }
            let closed = check.closed_by.zip(check.closed_at).unwrap_or((person, At(now)));
            diesel::update(rows::table.find(id))
                .set((
                    rows::state.eq("void"),
                    rows::void_reason.eq(reason),
                    rows::closed_by.eq(closed.0),
                    rows::closed_at.eq(closed.1),
                    rows::voided_by.eq(person),
                    rows::voided_at.eq(At(now)),
                ))
                .execute(connection)
                .await?;
            notices::end(connection, notices::Over::Of(id), person, now).await?;
            let plan = checks::plan_of(connection, check.plan_version_id).await?;
            checks::rank(connection, plan, check.shift_instance_id).await?;
            if check.state == "open" {
                let view = plans::version(connection, check.plan_version_id).await?;
                let certificates = checks::certificates_of(connection, &check).await?;
                let purpose = word(&check.purpose)?;
                let plan = plans::spec(connection, &view, &certificates, purpose).await?;
                let method = vaaka_core::method::by_key(&view.plan.method_key)?;
                let steps = method.way(&plan)?;
                wear::record(connection, &check, &steps, person, now).await?;
            } else {
                replay::of_shift(connection, plan, check.shift_instance_id).await?;
            }
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: now,
                    person: Some(person),
                    action: "check_voided",
                    detail: json!({ "reason": reason, "was": check.state }),
                },
            )
            .await
        })
        .await
}
