//! Seals over the audit trail. Chains hold single records together; seals hold the chains
//! together, so that also a cut-off tail and a removed chain are seen.

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Binary, Integer, Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::schema::{audit_entries, audit_seals};
use crate::types::At;

/// Entries in a seal at most, so that a first seal over an old trail is no single huge row.
const MOST_ENTRIES: i64 = 5_000;
/// Entries younger than this may be committed out of the order of their ids.
pub(crate) const STRAGGLERS: &str = "10 minutes";

/// A seal.
#[derive(Debug, Clone, Insertable, Queryable, Selectable)]
#[diesel(table_name = audit_seals)]
pub struct Seal {
    /// Place among the seals, from 1.
    pub sequence: i32,
    /// When.
    pub at: At,
    /// Ids of the entries, rising.
    pub entry_ids: Vec<i64>,
    /// Their chains.
    pub chains: Vec<String>,
    /// Their places in them.
    pub sequences: Vec<i32>,
    /// SHA-256 over their hashes.
    pub entries_hash: Vec<u8>,
    /// Hash of the seal before.
    pub previous_hash: Option<Vec<u8>>,
    /// Hash of this seal.
    pub hash: Vec<u8>,
    /// Rows of evidence that were written in the transactions of these entries; none in seals of before.
    pub evidence_rows: Option<i32>,
    /// SHA-256 over their hashes.
    pub evidence_hash: Option<Vec<u8>>,
}

/// What a seal covers of an entry of the record.
#[derive(QueryableByName)]
pub(crate) struct EntryHash {
    #[diesel(sql_type = BigInt)]
    pub(crate) id: i64,
    #[diesel(sql_type = Text)]
    pub(crate) chain: String,
    #[diesel(sql_type = Integer)]
    pub(crate) sequence: i32,
    #[diesel(sql_type = Binary)]
    pub(crate) hash: Vec<u8>,
}

pub(crate) fn hash_of(hashes: &[&[u8]]) -> Vec<u8> {
    let mut digest = Sha256::new();
    for hash in hashes {
        digest.update((hash.len() as u64).to_be_bytes());
        digest.update(hash);
    }
    digest.finalize().to_vec()
}

impl Seal {
    /// Hash over everything that the seal says.
    #[must_use]
    pub fn expected_hash(&self) -> Vec<u8> {
        let mut digest = Sha256::new();
        digest.update(self.previous_hash.as_deref().unwrap_or_default());
        digest.update(self.sequence.to_be_bytes());
        digest.update(self.at.0.as_microsecond().to_be_bytes());
        for ((id, chain), sequence) in self.entry_ids.iter().zip(&self.chains).zip(&self.sequences)
        {
            digest.update(id.to_be_bytes());
            digest.update((chain.len() as u64).to_be_bytes());
            digest.update(chain);
            digest.update(sequence.to_be_bytes());
        }
        digest.update(&self.entries_hash);
        if let (Some(rows), Some(hash)) = (self.evidence_rows, &self.evidence_hash) {
            digest.update(rows.to_be_bytes());
            digest.update(hash);
        }
        digest.finalize().to_vec()
    }

    /// The seal on one line, as it is kept outside of the database: number, hash.
    #[must_use]
    pub fn line(&self) -> String {
        format!("{} {}", self.sequence, hex::encode(&self.hash))
    }

    /// The first bytes of its hash, for a page that is printed.
    #[must_use]
    pub fn short(&self) -> String {
        self.hash.iter().take(6).map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
    }
}

/// What the evidence written in some transactions comes to.
#[derive(QueryableByName)]
pub(crate) struct Covered {
    /// Rows.
    #[diesel(sql_type = Integer)]
    pub rows: i32,
    /// SHA-256 over the hashes of their lines, in their order.
    #[diesel(sql_type = Binary)]
    pub hash: Vec<u8>,
}

/// The evidence of the transactions whose last audit entry is among these: what was committed together is covered
/// together. An entry that takes the evidence of a table again names the transactions in which that was done.
#[boxed]
pub(crate) async fn evidence_of(
    connection: &mut AsyncPgConnection,
    entries: &[i64],
) -> Result<Covered, StoreError> {
    Ok(diesel::sql_query(
        "WITH own AS (SELECT DISTINCT tx FROM audit_entries WHERE id = ANY($1) AND tx IS NOT NULL),
         mine AS (
             SELECT a.tx FROM own JOIN audit_entries a ON a.tx = own.tx
             GROUP BY a.tx HAVING max(a.id) = ANY($1)
             UNION
             SELECT jsonb_array_elements_text(detail->'transactions')::xid8 FROM audit_entries
             WHERE id = ANY($1) AND action = 'evidence_taken')
         SELECT count(*)::int AS rows, sha256(coalesce(string_agg(sha256(convert_to(
             concat_ws('|', e.relation, e.row_key, coalesce(encode(e.hash, 'hex'), '-')), 'UTF8')),
             ''::bytea ORDER BY e.id), ''::bytea)) AS hash
         FROM mine JOIN evidence e ON e.tx = mine.tx",
    )
    .bind::<Array<BigInt>, _>(entries)
    .get_result(connection)
    .await?)
}

/// Seals what no seal covers yet; none when there is nothing. Only one process seals at a time; the
/// others find the lock taken and leave it to that one.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn seal(
    connection: &mut AsyncPgConnection,
    at: Timestamp,
) -> Result<Option<Seal>, StoreError> {
    connection
        .transaction(async |connection| {
            #[derive(QueryableByName)]
            struct Mine {
                #[diesel(sql_type = diesel::sql_types::Bool)]
                mine: bool,
            }
            let lock: Mine =
                diesel::sql_query("SELECT pg_try_advisory_xact_lock(7305132460) AS mine")
                    .get_result(connection)
                    .await?;
            if !lock.mine {
                return Ok(None);
            }
            let last: Option<Seal> = newest(connection).await?;
            let unsealed: Vec<EntryHash> = diesel::sql_query(format!(
                "WITH young AS (
                     SELECT unnest(entry_ids) AS id FROM audit_seals
                     WHERE at > (SELECT max(at) FROM audit_seals) - interval '{STRAGGLERS}'
                 ), old AS (
                     SELECT coalesce(max(entry_ids[cardinality(entry_ids)]), 0) AS id FROM audit_seals
                     WHERE at <= (SELECT max(at) FROM audit_seals) - interval '{STRAGGLERS}'
                 )
                 SELECT e.id, e.chain, e.sequence, e.hash FROM audit_entries e
                 WHERE e.id > (SELECT id FROM old) AND NOT EXISTS (SELECT FROM young WHERE young.id = e.id)
                 ORDER BY e.id LIMIT $1"
            ))
            .bind::<BigInt, _>(MOST_ENTRIES)
            .load(connection)
            .await?;
            if unsealed.is_empty() {
                return Ok(None);
            }
            let hashes: Vec<&[u8]> = unsealed.iter().map(|entry| entry.hash.as_slice()).collect();
            let ids: Vec<i64> = unsealed.iter().map(|entry| entry.id).collect();
            let evidence = evidence_of(connection, &ids).await?;
            let mut seal = Seal {
                sequence: last.as_ref().map_or(1, |seal| seal.sequence + 1),
                at: At(at),
                entry_ids: unsealed.iter().map(|entry| entry.id).collect(),
                chains: unsealed.iter().map(|entry| entry.chain.clone()).collect(),
                sequences: unsealed.iter().map(|entry| entry.sequence).collect(),
                entries_hash: hash_of(&hashes),
                previous_hash: last.map(|seal| seal.hash),
                hash: Vec::new(),
                evidence_rows: Some(evidence.rows),
                evidence_hash: Some(evidence.hash),
            };
            seal.hash = seal.expected_hash();
            diesel::insert_into(audit_seals::table).values(&seal).execute(connection).await?;
            Ok(Some(seal))
        })
        .await
}

/// The newest seal.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(connection: &mut AsyncPgConnection) -> Result<Option<Seal>, StoreError> {
    Ok(audit_seals::table
        .order(audit_seals::sequence.desc())
        .select(Seal::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// One seal.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn one(
    connection: &mut AsyncPgConnection,
    sequence: i32,
) -> Result<Option<Seal>, StoreError> {
    Ok(audit_seals::table
        .filter(audit_seals::sequence.eq(sequence))
        .select(Seal::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The seal that covers the newest entry of a chain, if one does already.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn over_chain(
    connection: &mut AsyncPgConnection,
    chain: &str,
) -> Result<Option<Seal>, StoreError> {
    let head: Option<(i64, At)> = audit_entries::table
        .filter(audit_entries::chain.eq(chain))
        .order(audit_entries::sequence.desc())
        .select((audit_entries::id, audit_entries::at))
        .first(connection)
        .await
        .optional()?;
    let Some((id, at)) = head else { return Ok(None) };
    Ok(audit_seals::table
        .filter(audit_seals::at.ge(at))
        .filter(audit_seals::entry_ids.contains(vec![id]))
        .order(audit_seals::sequence)
        .select(Seal::as_select())
        .first(connection)
        .await
        .optional()?)
}
