//! Seals over the audit trail. Chains hold single records together; seals hold the chains
//! together, so that also a cut-off tail and a removed chain are seen.

use std::collections::{BTreeMap, HashMap};

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Binary, Integer, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use jiff::Timestamp;
use sha2::{Digest, Sha256};

use crate::StoreError;
use crate::audit::{AuditEntry, first_break};
use crate::schema::{audit_entries, audit_seals};
use crate::types::At;

/// Entries in a seal at most, so that a first seal over an old trail is no single huge row.
const MOST_ENTRIES: i64 = 5_000;
/// Entries younger than this may be committed out of the order of their ids.
const STRAGGLERS: &str = "10 minutes";

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
}

#[derive(QueryableByName)]
struct Unsealed {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Text)]
    chain: String,
    #[diesel(sql_type = Integer)]
    sequence: i32,
    #[diesel(sql_type = Binary)]
    hash: Vec<u8>,
}

fn hash_of(hashes: &[&[u8]]) -> Vec<u8> {
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
        digest.finalize().to_vec()
    }

    /// The first bytes of its hash, for a page that is printed.
    #[must_use]
    pub fn short(&self) -> String {
        self.hash.iter().take(6).map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
    }
}

/// Seals what no seal covers yet; none when there is nothing. Only one process seals at a time; the
/// others find the lock taken and leave it to that one.
///
/// # Errors
/// [`StoreError`].
pub async fn seal(
    connection: &mut AsyncPgConnection,
    at: Timestamp,
) -> Result<Option<i32>, StoreError> {
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
            let unsealed: Vec<Unsealed> = diesel::sql_query(format!(
                "WITH young AS (
                     SELECT unnest(entry_ids) AS id FROM audit_seals
                     WHERE at > (SELECT max(at) FROM audit_seals) - interval '{STRAGGLERS}'
                 ), old AS (
                     SELECT coalesce(max(entry_ids[cardinality(entry_ids)]), 0) AS id FROM audit_seals
                     WHERE at <= (SELECT max(at) FROM audit_seals) - interval '{STRAGGLERS}'
                 )
                 SELECT e.id, e.chain, e.sequence, e.hash FROM audit_entries e, old
                 WHERE e.id > old.id AND NOT EXISTS (SELECT FROM young WHERE young.id = e.id)
                 ORDER BY e.id LIMIT $1"
            ))
            .bind::<BigInt, _>(MOST_ENTRIES)
            .load(connection)
            .await?;
            if unsealed.is_empty() {
                return Ok(None);
            }
            let hashes: Vec<&[u8]> = unsealed.iter().map(|entry| entry.hash.as_slice()).collect();
            let mut seal = Seal {
                sequence: last.as_ref().map_or(1, |seal| seal.sequence + 1),
                at: At(at),
                entry_ids: unsealed.iter().map(|entry| entry.id).collect(),
                chains: unsealed.iter().map(|entry| entry.chain.clone()).collect(),
                sequences: unsealed.iter().map(|entry| entry.sequence).collect(),
                entries_hash: hash_of(&hashes),
                previous_hash: last.map(|seal| seal.hash),
                hash: Vec::new(),
            };
            seal.hash = seal.expected_hash();
            diesel::insert_into(audit_seals::table).values(&seal).execute(connection).await?;
            Ok(Some(seal.sequence))
        })
        .await
}

/// The newest seal.
///
/// # Errors
/// [`StoreError`].
pub async fn newest(connection: &mut AsyncPgConnection) -> Result<Option<Seal>, StoreError> {
    Ok(audit_seals::table
        .order(audit_seals::sequence.desc())
        .select(Seal::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The seal that covers the newest entry of a chain, if one does already.
///
/// # Errors
/// [`StoreError`].
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

/// What is wrong with the audit trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// An entry was edited, or does not follow from the one before it.
    Entry {
        /// Its chain.
        chain: String,
        /// Its place.
        sequence: i32,
    },
    /// A seal covers an entry that is gone.
    Missing {
        /// The seal.
        seal: i32,
        /// Its chain.
        chain: String,
        /// Its place.
        sequence: i32,
    },
    /// A seal covers an entry whose hash is another one now.
    Changed {
        /// The seal.
        seal: i32,
    },
    /// A seal was edited or does not follow from the one before it.
    Seal {
        /// Its place.
        seal: i32,
    },
    /// An entry older than the newest seals is covered by none: it was put in afterwards.
    Unsealed {
        /// Its chain.
        chain: String,
        /// Its place.
        sequence: i32,
    },
}

impl std::fmt::Display for Fault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Entry { chain, sequence } => write!(
                f,
                "entry {sequence} of “{chain}” was changed or does not follow from the one before it"
            ),
            Self::Missing { seal, chain, sequence } => {
                write!(f, "entry {sequence} of “{chain}”, which seal {seal} covers, is gone")
            }
            Self::Changed { seal } => {
                write!(f, "seal {seal} no longer fits the entries that it covers")
            }
            Self::Seal { seal } => {
                write!(f, "seal {seal} was changed or does not follow from the one before it")
            }
            Self::Unsealed { chain, sequence } => write!(
                f,
                "entry {sequence} of “{chain}” is older than the newest seals and covered by none"
            ),
        }
    }
}

/// What a look over the whole trail found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Verification {
    /// Entries read.
    pub entries: usize,
    /// Chains among them.
    pub chains: usize,
    /// Seals.
    pub seals: usize,
    /// Entries that no seal covers yet.
    pub unsealed: usize,
    /// What is wrong.
    pub faults: Vec<Fault>,
}

#[derive(QueryableByName)]
struct SealedRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Timestamptz)]
    at: At,
    #[diesel(sql_type = Text)]
    chain: String,
    #[diesel(sql_type = Integer)]
    sequence: i32,
    #[diesel(sql_type = Binary)]
    hash: Vec<u8>,
}

/// Looks over every chain and every seal, in one snapshot of the database.
///
/// # Errors
/// [`StoreError`].
pub async fn verify(connection: &mut AsyncPgConnection) -> Result<Verification, StoreError> {
    connection
        .transaction(async |connection| {
            connection
                .batch_execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                .await?;
            let mut found = Verification::default();
            chains(connection, &mut found).await?;
            seals(connection, &mut found).await?;
            Ok(found)
        })
        .await
}

/// Chains are read in slices by name, so that a long history needs no more memory than a short one.
async fn chains(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
) -> Result<(), StoreError> {
    const SLICE: i64 = 20_000;
    let mut after = (String::new(), 0_i32);
    let mut open: Vec<AuditEntry> = Vec::new();
    loop {
        let (chain, sequence) = (after.0.clone(), after.1);
        let same = audit_entries::chain.eq(chain.clone());
        let later =
            audit_entries::chain.gt(chain).or(same.and(audit_entries::sequence.gt(sequence)));
        let slice: Vec<AuditEntry> = audit_entries::table
            .filter(later)
            .order((audit_entries::chain, audit_entries::sequence))
            .limit(SLICE)
            .select(AuditEntry::as_select())
            .load(connection)
            .await?;
        let is_last = slice.len() < usize::try_from(SLICE).unwrap_or(usize::MAX);
        if let Some(last) = slice.last() {
            after = (last.chain.clone(), last.sequence);
        }
        for entry in slice {
            if open.as_slice().first().is_some_and(|first| first.chain != entry.chain) {
                close_chain(&mut open, found);
            }
            open.push(entry);
        }
        if is_last {
            close_chain(&mut open, found);
            return Ok(());
        }
    }
}

fn close_chain(open: &mut Vec<AuditEntry>, found: &mut Verification) {
    let Some(first) = open.as_slice().first() else { return };
    if let Some(sequence) = first_break(open) {
        found.faults.push(Fault::Entry { chain: first.chain.clone(), sequence });
    }
    found.entries += open.len();
    found.chains += 1;
    open.clear();
}

async fn seals(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
) -> Result<(), StoreError> {
    let mut previous: Option<Seal> = None;
    let mut covered: u64 = 0;
    let mut highest = 0_i64;
    loop {
        let after = previous.as_ref().map_or(0, |seal| seal.sequence);
        let next: Option<Seal> = audit_seals::table
            .filter(audit_seals::sequence.gt(after))
            .order(audit_seals::sequence)
            .select(Seal::as_select())
            .first(connection)
            .await
            .optional()?;
        let Some(seal) = next else { break };
        found.seals += 1;
        let follows = seal.sequence == after + 1
            && seal.previous_hash == previous.as_ref().map(|seal| seal.hash.clone())
            && seal.hash == seal.expected_hash();
        if !follows {
            found.faults.push(Fault::Seal { seal: seal.sequence });
        }
        let rows: Vec<SealedRow> = diesel::sql_query(
            "SELECT id, at, chain, sequence, hash FROM audit_entries WHERE id = ANY($1) ORDER BY id",
        )
        .bind::<diesel::sql_types::Array<BigInt>, _>(&seal.entry_ids)
        .load(connection)
        .await?;
        let by_id: HashMap<i64, &SealedRow> = rows.iter().map(|row| (row.id, row)).collect();
        let mut missing = false;
        for ((id, chain), sequence) in seal.entry_ids.iter().zip(&seal.chains).zip(&seal.sequences)
        {
            let there =
                by_id.get(id).is_some_and(|row| row.chain == *chain && row.sequence == *sequence);
            if !there {
                missing = true;
                found.faults.push(Fault::Missing {
                    seal: seal.sequence,
                    chain: chain.clone(),
                    sequence: *sequence,
                });
            }
        }
        let hashes: Vec<&[u8]> = rows.iter().map(|row| row.hash.as_slice()).collect();
        if !missing && hash_of(&hashes) != seal.entries_hash {
            found.faults.push(Fault::Changed { seal: seal.sequence });
        }
        covered += rows.len() as u64;
        highest = highest.max(seal.entry_ids.iter().copied().max().unwrap_or(0));
        previous = Some(seal);
    }
    unsealed(connection, found, previous.as_ref(), highest, covered).await
}

/// Entries that no seal covers: the newest are waiting for theirs, an older one was put in.
async fn unsealed(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
    last: Option<&Seal>,
    highest: i64,
    covered: u64,
) -> Result<(), StoreError> {
    found.unsealed = found.entries.saturating_sub(usize::try_from(covered).unwrap_or(usize::MAX));
    let Some(last) = last.filter(|_| found.unsealed > 0) else { return Ok(()) };
    let rows: Vec<SealedRow> = diesel::sql_query(format!(
        "SELECT e.id, e.at, e.chain, e.sequence, e.hash FROM audit_entries e
         WHERE e.id <= $1 AND e.at < $2 - interval '{STRAGGLERS}'
           AND NOT EXISTS (SELECT FROM audit_seals s WHERE e.id = ANY(s.entry_ids))
         ORDER BY e.id LIMIT 100"
    ))
    .bind::<BigInt, _>(highest)
    .bind::<Timestamptz, _>(last.at)
    .load(connection)
    .await?;
    let sorted: BTreeMap<i64, SealedRow> = rows.into_iter().map(|row| (row.id, row)).collect();
    for row in sorted.into_values() {
        debug_assert!(row.at < last.at);
        found.faults.push(Fault::Unsealed { chain: row.chain, sequence: row.sequence });
    }
    Ok(())
}
