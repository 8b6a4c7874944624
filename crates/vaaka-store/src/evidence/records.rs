//! Signatures and amendments: what is added to a record that is never edited.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening, chain};
use crate::checks;
use crate::ids::{CheckId, PersonId, ResultId};
use crate::rows::ResultRow;
use crate::schema::{amendments, people, results, signatures};
use crate::types::At;

/// What somebody signs for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Meaning {
    /// "I made this check."
    Performed,
    /// "I reviewed this check."
    Reviewed,
}

impl Meaning {
    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Performed => "performed",
            Self::Reviewed => "reviewed",
        }
    }
}

/// A signature, held against the version of the result that it stands under.
#[derive(Debug, Clone)]
pub struct Signature {
    /// Who.
    pub person: String,
    /// Their id.
    pub person_id: PersonId,
    /// What for.
    pub meaning: String,
    /// When.
    pub at: At,
    /// Version of the result that was signed.
    pub version: i32,
    /// Whether that version is still what was signed.
    pub fits: bool,
}

/// SHA-256 over what a signature stands for: the result with its verdict, and the meaning. A
/// signature that no longer fits its result shows.
fn statement_hash(result: &ResultRow, meaning: &str) -> Vec<u8> {
    let mut digest = Sha256::new();
    let at = result.computed_at.0.as_microsecond();
    digest.update(format!(
        "{}|{}|{}|{}|{}|{}|{at}|{meaning}|",
        result.check_id,
        result.version,
        result.conforms,
        result.control,
        result.action,
        result.repeat_state,
    ));
    digest.update(&result.inputs_hash);
    digest.update(audit::canonical(&result.verdict));
    digest.finalize().to_vec()
}

/// The signatures under the results of a check, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn signatures_of(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<Signature>, StoreError> {
    let rows: Vec<(String, PersonId, String, At, Vec<u8>, ResultRow)> = signatures::table
        .inner_join(people::table)
        .inner_join(results::table.on(results::id.eq(signatures::result_id)))
        .filter(results::check_id.eq(check))
        .order(signatures::id)
        .select((
            people::name,
            people::id,
            signatures::meaning,
            signatures::at,
            signatures::statement_hash,
            ResultRow::as_select(),
        ))
        .load(connection)
        .await?;
    let held = rows.into_iter().map(|(person, person_id, meaning, at, hash, result)| Signature {
        fits: statement_hash(&result, &meaning) == hash,
        version: result.version,
        person,
        person_id,
        meaning,
        at,
    });
    Ok(held.collect())
}

/// Signs a result.
///
/// # Errors
/// [`StoreError::Conflict`] when this person signed it so before.
#[boxed]
pub async fn sign(
    connection: &mut AsyncPgConnection,
    id: ResultId,
    person: PersonId,
    meaning: Meaning,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let result: ResultRow =
                results::table.find(id).select(ResultRow::as_select()).first(connection).await?;
            checks::lock(connection, result.check_id).await?;
            let hash = statement_hash(&result, meaning.word());
            diesel::insert_into(signatures::table)
                .values((
                    signatures::result_id.eq(id),
                    signatures::person_id.eq(person),
                    signatures::meaning.eq(meaning.word()),
                    signatures::statement_hash.eq(&hash),
                    signatures::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain(result.check_id),
                    at,
                    person: Some(person),
                    action: "check_signed",
                    detail: json!({
                        "result": id, "meaning": meaning.word(), "statement": hex::encode(hash),
                    }),
                },
            )
            .await
        })
        .await
}

/// An amendment.
#[derive(Debug, Clone, Queryable)]
pub struct Amendment {
    /// What is added.
    pub words: String,
    /// Who.
    pub person: String,
    /// When.
    pub at: At,
}

/// The amendments of a check, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn amendments_of(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<Amendment>, StoreError> {
    Ok(amendments::table
        .inner_join(people::table)
        .filter(amendments::check_id.eq(check))
        .order(amendments::id)
        .select((amendments::words, people::name, amendments::at))
        .load(connection)
        .await?)
}

/// Adds an amendment; the record itself stays as it is.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn amend(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    words: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            checks::lock(connection, check).await?;
            diesel::insert_into(amendments::table)
                .values((
                    amendments::check_id.eq(check),
                    amendments::words.eq(words),
                    amendments::person_id.eq(person),
                    amendments::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain(check),
                    at,
                    person: Some(person),
                    action: "check_amendment",
                    detail: json!({ "words": words }),
                },
            )
            .await
        })
        .await
}
