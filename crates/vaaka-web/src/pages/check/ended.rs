//! A check at its end: judged when its last step is done, and where to go when it is no longer open.

use jiff::Timestamp;
use vaaka_store::ids::{CheckId, PersonId};
use vaaka_store::rows::Check;
use vaaka_store::{Concluded, Connection, conclude_check};

use crate::error::WebError;

/// Where to go when a check is no longer open.
pub(super) fn not_open(check: &Check) -> Result<Option<String>, WebError> {
    match check.state.as_str() {
        "open" => Ok(None),
        "void" => Err(WebError::NotNow {
            words: format!(
                "This check is void: {}. It stays on record and off the chart. Start it again from the round.",
                check.void_reason.clone().unwrap_or_default()
            ),
        }),
        _ => Ok(Some(format!("/checks/{}/verdict", check.id))),
    }
}

/// Judges a check, and says where it goes on.
pub(super) async fn finish(
    connection: &mut Connection,
    id: CheckId,
    person: PersonId,
    now: Timestamp,
) -> Result<String, WebError> {
    Ok(match conclude_check(connection, id, person, now).await? {
        Concluded::Now | Concluded::Before => format!("/checks/{id}/verdict"),
        Concluded::Void => format!("/checks/{id}"),
    })
}
