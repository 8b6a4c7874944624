//! The audit trail: every state change writes its entry in the same transaction, chained by
//! hash per check or record.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::Value;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::ids::{CheckId, PersonId};
use crate::prepared::{Bind, prepared};
use crate::schema::audit_entries;
use crate::types::At;

/// Chain of a check in the audit trail; its length is also the check's optimistic version.
#[must_use]
pub fn chain(id: CheckId) -> String {
    format!("check:{id}")
}

/// What happened, to what, by whom.
#[derive(Debug, Clone)]
pub struct Happening<'a> {
    /// The chain, for example `check:12`.
    pub chain: &'a str,
    /// When.
    pub at: Timestamp,
    /// Who; none for the program itself and for failed sign-ins.
    pub person: Option<PersonId>,
    /// What, as a stable word.
    pub action: &'a str,
    /// The particulars.
    pub detail: Value,
}

/// An entry as it is stored.
#[derive(Debug, Clone, Insertable, Queryable, Selectable)]
#[diesel(table_name = audit_entries)]
pub struct AuditEntry {
    /// Chain.
    pub chain: String,
    /// Place in the chain, from 1.
    pub sequence: i32,
    /// When.
    pub at: At,
    /// Who.
    pub person_id: Option<PersonId>,
    /// What.
    pub action: String,
    /// Particulars.
    pub detail: Value,
    /// Hash of the entry before.
    pub previous_hash: Option<Vec<u8>>,
    /// Hash of this entry over all of the above.
    pub hash: Vec<u8>,
}

impl AuditEntry {
    /// Makes the entry that follows `previous` in its chain.
    #[must_use]
    pub fn following(previous: Option<(i32, &[u8])>, happening: &Happening<'_>) -> Self {
        let mut entry = Self {
            chain: happening.chain.to_owned(),
            sequence: previous.map_or(1, |(sequence, _)| sequence + 1),
            at: At(happening.at),
            person_id: happening.person,
            action: happening.action.to_owned(),
            detail: happening.detail.clone(),
            previous_hash: previous.map(|(_, hash)| hash.to_vec()),
            hash: Vec::new(),
        };
        entry.hash = entry.expected_hash();
        entry
    }

    /// Whether it is what it was when it was written, and the next one after sequence and hash of the one before.
    #[must_use]
    pub fn follows(&self, previous: Option<(i32, &[u8])>) -> bool {
        self.previous_hash.as_deref() == previous.map(|(_, hash)| hash)
            && self.sequence == previous.map_or(1, |(sequence, _)| sequence + 1)
            && self.hash == self.expected_hash()
    }

    /// SHA-256 over the fields, each with its length before it so that none runs into the next.
    #[must_use]
    pub fn expected_hash(&self) -> Vec<u8> {
        let mut digest = Sha256::new();
        let mut field = |bytes: &[u8]| {
            digest.update((bytes.len() as u64).to_be_bytes());
            digest.update(bytes);
        };
        field(self.previous_hash.as_deref().unwrap_or_default());
        field(self.chain.as_bytes());
        field(&self.sequence.to_be_bytes());
        field(&self.at.0.as_microsecond().to_be_bytes());
        field(&self.person_id.map_or(0, |id| id.0).to_be_bytes());
        field(self.action.as_bytes());
        field(canonical(&self.detail).as_bytes());
        digest.finalize().to_vec()
    }
}

/// JSON with sorted keys: jsonb keeps no order, so neither may the hash.
pub(crate) fn canonical(value: &Value) -> String {
    match value {
        Value::Object(map) => {
            let mut keys: Vec<&String> = map.keys().collect();
            keys.sort();
            let fields: Vec<String> = keys
                .into_iter()
                .map(|key| format!("{}:{}", Value::String(key.clone()), canonical(&map[key])))
                .collect();
            format!("{{{}}}", fields.join(","))
        }
        Value::Array(items) => {
            let items: Vec<String> = items.iter().map(canonical).collect();
            format!("[{}]", items.join(","))
        }
        other => other.to_string(),
    }
}

/// Newest entry of a chain: its sequence and hash.
pub type Head = (i32, Vec<u8>);

/// The newest entry of a chain, if it has any.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn head(
    mut connection: &AsyncPgConnection,
    chain: &str,
) -> Result<Option<Head>, StoreError> {
    Ok(audit_entries::table
        .filter(audit_entries::chain.eq(chain))
        .order(audit_entries::sequence.desc())
        .select((audit_entries::sequence, audit_entries::hash))
        .first(&mut connection)
        .await
        .optional()?)
}

/// Holds a chain until the transaction ends, for records that have no row to lock.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn hold(
    connection: &mut AsyncPgConnection,
    chain: &str,
) -> Result<(), StoreError> {
    let digest = Sha256::digest(chain.as_bytes());
    let key = digest.iter().take(8).fold(0_i64, |key, byte| key << 8 | i64::from(*byte));
    prepared("SELECT pg_advisory_xact_lock(?)", vec![Bind::Int(key)]).execute(connection).await?;
    Ok(())
}

/// Appends an entry; call inside the transaction of the change itself, with the record's row locked or its chain
/// [held](hold), so that two writers cannot follow the same entry.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn record(
    connection: &mut AsyncPgConnection,
    happening: &Happening<'_>,
) -> Result<(), StoreError> {
    let previous = head(connection, happening.chain).await?;
    let previous = previous.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice()));
    diesel::insert_into(audit_entries::table)
        .values(AuditEntry::following(previous, happening))
        .execute(connection)
        .await?;
    Ok(())
}

/// Reads a chain, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn read_chain(
    connection: &mut AsyncPgConnection,
    chain: &str,
) -> Result<Vec<AuditEntry>, StoreError> {
    Ok(audit_entries::table
        .filter(audit_entries::chain.eq(chain))
        .order(audit_entries::sequence)
        .select(AuditEntry::as_select())
        .load(connection)
        .await?)
}

/// The sequence of the first entry that does not follow from the one before, if any.
#[must_use]
pub fn first_break(entries: &[AuditEntry]) -> Option<i32> {
    let mut previous: Option<(i32, &[u8])> = None;
    for entry in entries {
        if !entry.follows(previous) {
            return Some(entry.sequence);
        }
        previous = Some((entry.sequence, &entry.hash));
    }
    None
}
