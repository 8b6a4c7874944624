//! What came of instruments at steps of checks: appended as it came, with its audit entry, whether it was kept or not.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::json;
use sha2::{Digest, Sha256};
use uuid::Uuid;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening, chain};
use crate::ids::{CaptureId, CheckId, PersonId};
use crate::schema::{captures, people};
use crate::types::{At, By};

/// A capture that is to be kept.
#[derive(Debug, Clone)]
pub struct NewCapture<'a> {
    /// Check.
    pub check: CheckId,
    /// Step.
    pub step: &'a str,
    /// Which of the step's entries.
    pub repeat: u32,
    /// Key of the entry that it is for.
    pub key: Uuid,
    /// Where it came from.
    pub address: &'a str,
    /// The bench PC that read it; empty where the server did.
    pub station: &'a str,
    /// What goes into the field; empty for a file.
    pub typed: &'a str,
    /// As it came.
    pub bytes: &'a [u8],
    /// As it came, to look at.
    pub shown: &'a str,
}

/// A capture.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = captures)]
pub struct Capture {
    /// Id.
    pub id: CaptureId,
    /// Step.
    pub step_key: String,
    /// Which of the step's entries.
    pub repeat: i32,
    /// Key of the entry that it was for.
    pub entry_key: Uuid,
    /// Who read it.
    pub person_id: PersonId,
    /// When.
    pub at: At,
    /// Where it came from.
    pub address: String,
    /// The bench PC that read it.
    pub station: String,
    /// What went into the field.
    pub typed: String,
    /// As it came.
    pub bytes: Vec<u8>,
}

/// Keeps a capture with its audit entry.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn keep(
    connection: &mut AsyncPgConnection,
    new: &NewCapture<'_>,
    by: By,
) -> Result<CaptureId, StoreError> {
    let hash = Sha256::digest(new.bytes).to_vec();
    let detail = json!({
        "step": new.step, "repeat": new.repeat, "typed": new.typed, "raw": new.shown,
        "from": new.address, "station": new.station, "sha256": hex::encode(&hash),
    });
    // Whoever writes to the check at the same moment takes the next place of its chain: then once more.
    for _ in 0..4 {
        let hash = hash.clone();
        let kept = connection
            .transaction(async |connection| {
                let id: CaptureId = diesel::insert_into(captures::table)
                    .values((
                        captures::check_id.eq(new.check),
                        captures::step_key.eq(new.step),
                        captures::repeat.eq(i32::try_from(new.repeat).unwrap_or(i32::MAX)),
                        captures::entry_key.eq(new.key),
                        captures::person_id.eq(by.person),
                        captures::at.eq(At(by.at)),
                        captures::address.eq(new.address),
                        captures::station.eq(new.station),
                        captures::typed.eq(new.typed),
                        captures::bytes.eq(new.bytes),
                        captures::sha256.eq(hash),
                    ))
                    .returning(captures::id)
                    .get_result(connection)
                    .await?;
                let happening = Happening {
                    chain: &chain(new.check),
                    at: by.at,
                    person: Some(by.person),
                    action: "value_captured",
                    detail: detail.clone(),
                };
                audit::record(connection, &happening).await?;
                Ok::<_, StoreError>(id)
            })
            .await;
        match kept {
            Err(StoreError::Conflict { constraint }) if constraint.starts_with("audit_entries") => {
            }
            other => return other,
        }
    }
    Err(StoreError::Conflict { constraint: "audit_entries".to_owned() })
}

/// The capture of a check with an id.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn find(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    id: CaptureId,
) -> Result<Option<Capture>, StoreError> {
    Ok(captures::table
        .filter(captures::check_id.eq(check))
        .filter(captures::id.eq(id))
        .select(Capture::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// Captures of a check, oldest first, with who made them; of files the first bytes only.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<(Capture, String)>, StoreError> {
    Ok(captures::table
        .inner_join(people::table)
        .filter(captures::check_id.eq(check))
        .order(captures::id)
        .select((Capture::as_select(), people::name))
        .load(connection)
        .await?)
}
