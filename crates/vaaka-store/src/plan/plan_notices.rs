//! What leads are told of a draft, and where it leads.

use diesel_async::AsyncPgConnection;
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::ids::{PersonId, PlanId, PlanVersionId};
use crate::{StoreError, notices};

/// Kind of the notice by which leads hear of a draft that waits for them.
pub(crate) const TO_APPROVE: &str = "plan_to_approve";
/// Kind of the notice by which its author hears that it was sent back.
pub(crate) const SENT_BACK: &str = "plan_sent_back";

pub(crate) fn version_path(version: PlanVersionId) -> String {
    format!("/versions/{version}")
}

pub(crate) fn edit_path(plan: PlanId) -> String {
    format!("/plans/{plan}/edit")
}

/// Ends the notices about a draft that was decided.
#[boxed]
pub(crate) async fn asked_no_more(
    connection: &mut AsyncPgConnection,
    (plan, version): (PlanId, PlanVersionId),
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    notices::end(connection, notices::Over::At(TO_APPROVE, &version_path(version)), person, at)
        .await?;
    notices::end(connection, notices::Over::At(SENT_BACK, &edit_path(plan)), person, at).await
}
