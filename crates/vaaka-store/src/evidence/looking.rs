//! How everything is looked over: in parts, each of which can be the last that one process does. What was done is kept
//! between two parts ([`Looking`] is stored as it is), so that a look over a large site is a job like any other.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Integer, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};

use crate::StoreError;
use crate::audit::AuditEntry;
use crate::faults::Fault;
use crate::ids::CheckId;
use crate::recompute;
use crate::schema::{audit_entries, audit_seals, checks};
use crate::seals::{EntryHash, STRAGGLERS, Seal, evidence_of, hash_of, one};
use crate::types::At;
use crate::verification::{Verification, Wanted};

/// Entries read at a time.
const SLICE: i64 = 20_000;
/// Seals read at a time.
const SEALS: i64 = 50;
/// Checks computed again at a time.
const CHECKS: i64 = 50;
/// Faults of one kind that are named one by one.
const NAMED: i32 = 50;
/// What a table of evidence counts for, beside entries and checks.
const TABLE: usize = 1_000;

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Next {
    /// The chains, after this entry of this one.
    Chains(Tail),
    /// The seals, after this one.
    Seals(i32),
    /// The tables of evidence, from this one of them.
    Tables(usize),
    /// The results, after that of this check.
    Results(i64),
    /// Nothing.
    Over,
}

/// The last entry that was read of a chain.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Tail {
    chain: String,
    sequence: i32,
    hash: Vec<u8>,
    /// Whether a fault of this chain is named already: what follows a broken entry is broken by it.
    broken: bool,
}

/// A look over everything, as far as it has come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Looking {
    wanted: Wanted,
    next: Next,
    /// Steps done.
    pub done: usize,
    /// Steps in all, as far as was known at the beginning.
    pub all: usize,
    /// What was found so far.
    pub found: Verification,
}

impl Looking {
    /// Begins one: how much there is.
    ///
    /// # Errors
    /// [`StoreError`].
    pub(crate) async fn begin(
        connection: &mut AsyncPgConnection,
        wanted: Wanted,
    ) -> Result<Self, StoreError> {
        #[derive(QueryableByName)]
        struct Counts {
            #[diesel(sql_type = BigInt)]
            entries: i64,
            #[diesel(sql_type = BigInt)]
            checks: i64,
            #[diesel(sql_type = BigInt)]
            tables: i64,
        }
        let counts: Counts = diesel::sql_query(
            "SELECT (SELECT count(*) FROM audit_entries) AS entries,
                 (SELECT count(*) FROM checks) AS checks,
                 (SELECT count(*) FROM evidence_tables) AS tables",
        )
        .get_result(connection)
        .await?;
        let of = |count: i64| usize::try_from(count).unwrap_or(usize::MAX);
        // Entries are read twice: by chain, and under their seals.
        let all = 2 * of(counts.entries) + TABLE * of(counts.tables);
        let results = if wanted.trail_only { 0 } else { of(counts.checks) };
        Ok(Self {
            wanted,
            next: Next::Chains(Tail::default()),
            done: 0,
            all: all + results,
            found: Verification::default(),
        })
    }

    /// Whether everything was looked at.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.next == Next::Over
    }

    /// Does the next part.
    ///
    /// # Errors
    /// [`StoreError`] of the database; what is wrong with the evidence is found, not an error.
    pub(crate) async fn step(
        &mut self,
        connection: &mut AsyncPgConnection,
        memory: &mut recompute::Memory,
    ) -> Result<(), StoreError> {
        match self.next.clone() {
            Next::Chains(tail) => self.chains(connection, tail).await,
            Next::Seals(after) => self.seals(connection, after).await,
            Next::Tables(place) => self.table(connection, place).await,
            Next::Results(after) => self.results(connection, after, memory).await,
            Next::Over => Ok(()),
        }
    }

    /// Chains are read in slices by name, so that a long history needs no more memory than a short one.
    async fn chains(
        &mut self,
        connection: &mut AsyncPgConnection,
        mut tail: Tail,
    ) -> Result<(), StoreError> {
        let (chain, sequence) = (tail.chain.clone(), tail.sequence);
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
        self.done += slice.len();
        self.found.entries += slice.len();
        let is_last = slice.len() < usize::try_from(SLICE).unwrap_or(usize::MAX);
        for entry in slice {
            let goes_on = tail.sequence > 0 && tail.chain == entry.chain;
            if !goes_on {
                self.found.chains += 1;
                tail.broken = false;
            }
            let previous = goes_on.then_some((tail.sequence, tail.hash.as_slice()));
            if !tail.broken && !entry.follows(previous) {
                tail.broken = true;
                let (chain, sequence) = (entry.chain.clone(), entry.sequence);
                self.found.faults.push(Fault::Entry { chain, sequence });
            }
            (tail.chain, tail.sequence, tail.hash) = (entry.chain, entry.sequence, entry.hash);
        }
        self.next = if is_last { Next::Seals(0) } else { Next::Chains(tail) };
        Ok(())
    }

    async fn seals(
        &mut self,
        connection: &mut AsyncPgConnection,
        after: i32,
    ) -> Result<(), StoreError> {
        let mut previous = match after {
            0 => None,
            sequence => one(connection, sequence).await?,
        };
        let slice: Vec<Seal> = audit_seals::table
            .filter(audit_seals::sequence.gt(after))
            .order(audit_seals::sequence)
            .limit(SEALS)
            .select(Seal::as_select())
            .load(connection)
            .await?;
        let is_last = slice.len() < usize::try_from(SEALS).unwrap_or(usize::MAX);
        for seal in slice {
            self.found.seals += 1;
            let before = previous.as_ref().map_or(0, |seal| seal.sequence);
            let follows = seal.sequence == before + 1
                && seal.previous_hash == previous.as_ref().map(|seal| seal.hash.clone())
                && seal.hash == seal.expected_hash();
            if !follows {
                self.found.faults.push(Fault::Seal { seal: seal.sequence });
            }
            under_seal(connection, &seal, &mut self.found).await?;
            self.done += seal.entry_ids.len();
            previous = Some(seal);
        }
        self.next = Next::Seals(previous.as_ref().map_or(after, |seal| seal.sequence));
        if is_last {
            for known in &self.wanted.known {
                match one(connection, known.sequence).await? {
                    None => self.found.faults.push(Fault::Cut { seal: known.sequence }),
                    Some(seal) if !hex::encode(&seal.hash).starts_with(&known.hash) => {
                        self.found.faults.push(Fault::Other { seal: known.sequence });
                    }
                    Some(_) => {}
                }
            }
            unsealed(connection, &mut self.found, previous.as_ref()).await?;
            self.next = Next::Tables(0);
        }
        Ok(())
    }

    /// Each row of one table against its newest hash; after the last one what is no row.
    async fn table(
        &mut self,
        connection: &mut AsyncPgConnection,
        place: usize,
    ) -> Result<(), StoreError> {
        #[derive(QueryableByName)]
        struct Relation {
            #[diesel(sql_type = Text)]
            relation: String,
            #[diesel(sql_type = BigInt)]
            rows: i64,
        }
        // Rows are counted of this one only, not of those that are passed over.
        let table: Option<Relation> = diesel::sql_query(
            "SELECT t.relation, count(DISTINCT e.row_key) AS rows
             FROM (SELECT relation FROM evidence_tables ORDER BY relation OFFSET $1 LIMIT 1) t
             LEFT JOIN evidence e ON e.relation = t.relation GROUP BY t.relation",
        )
        .bind::<BigInt, _>(i64::try_from(place).unwrap_or(i64::MAX))
        .get_result(connection)
        .await
        .optional()?;
        let Some(table) = table else {
            not_in_tables(connection, &mut self.found).await?;
            self.next = match self.wanted.trail_only {
                true => Next::Over,
                false => Next::Results(0),
            };
            return Ok(());
        };
        let faults: Vec<RowFault> =
            diesel::sql_query("SELECT row_key, fault FROM evidence_faults($1, $2)")
                .bind::<Text, _>(&table.relation)
                .bind::<Integer, _>(NAMED)
                .load(connection)
                .await?;
        self.found.faults.extend(faults.into_iter().map(|fault| Fault::Row {
            relation: table.relation.clone(),
            row: fault.row_key,
            what: fault.fault,
        }));
        self.found.rows += usize::try_from(table.rows).unwrap_or(0);
        self.done += TABLE;
        self.next = Next::Tables(place + 1);
        Ok(())
    }

    /// The newest result of concluded checks, from their readings.
    async fn results(
        &mut self,
        connection: &mut AsyncPgConnection,
        after: i64,
        memory: &mut recompute::Memory,
    ) -> Result<(), StoreError> {
        let ids: Vec<CheckId> = checks::table
            .filter(checks::state.ne("open"))
            .filter(checks::id.gt(CheckId(after)))
            .order(checks::id)
            .limit(CHECKS)
            .select(checks::id)
            .load(connection)
            .await?;
        for id in &ids {
            match recompute::result(connection, *id, memory).await? {
                recompute::Outcome::None => {}
                recompute::Outcome::Same => self.found.results += 1,
                recompute::Outcome::Other(what) => {
                    self.found.results += 1;
                    self.found.faults.push(Fault::Result { check: *id, what });
                }
            }
        }
        self.done += ids.len();
        self.next = ids.last().map_or(Next::Over, |last| Next::Results(last.0));
        Ok(())
    }
}

/// The entries and the evidence that a seal covers.
async fn under_seal(
    connection: &mut AsyncPgConnection,
    seal: &Seal,
    found: &mut Verification,
) -> Result<(), StoreError> {
    let rows: Vec<EntryHash> = diesel::sql_query(
        "SELECT id, chain, sequence, hash FROM audit_entries WHERE id = ANY($1) ORDER BY id",
    )
    .bind::<Array<BigInt>, _>(&seal.entry_ids)
    .load(connection)
    .await?;
    let by_id: HashMap<i64, &EntryHash> = rows.iter().map(|row| (row.id, row)).collect();
    let mut missing = false;
    for ((id, chain), sequence) in seal.entry_ids.iter().zip(&seal.chains).zip(&seal.sequences) {
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
    if let (Some(rows), Some(hash), false) = (seal.evidence_rows, &seal.evidence_hash, missing) {
        let now = evidence_of(connection, &seal.entry_ids).await?;
        if now.rows != rows || now.hash != *hash {
            found.faults.push(Fault::Evidence { seal: seal.sequence });
        }
    }
    Ok(())
}

/// Entries that no seal covers: the newest are waiting for theirs, an older one was put in.
async fn unsealed(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
    last: Option<&Seal>,
) -> Result<(), StoreError> {
    #[derive(QueryableByName)]
    struct Bare {
        #[diesel(sql_type = Text)]
        chain: String,
        #[diesel(sql_type = Integer)]
        sequence: i32,
        #[diesel(sql_type = Bool)]
        late: bool,
    }
    let last = last.map_or(At(jiff::Timestamp::UNIX_EPOCH), |seal| seal.at);
    // All seals are opened once; asking each entry for its seal takes the square of that.
    let rows: Vec<Bare> = diesel::sql_query(format!(
        "WITH covered AS MATERIALIZED (SELECT unnest(entry_ids) AS id FROM audit_seals),
         highest AS (SELECT coalesce(max(id), 0) AS id FROM covered)
         SELECT e.chain, e.sequence,
             e.id <= highest.id AND e.at < $1 - interval '{STRAGGLERS}' AS late
         FROM highest, audit_entries e LEFT JOIN covered ON covered.id = e.id
         WHERE covered.id IS NULL ORDER BY e.id"
    ))
    .bind::<Timestamptz, _>(last)
    .load(connection)
    .await?;
    found.unsealed = rows.len();
    let late = rows.into_iter().filter(|row| row.late).take(usize::try_from(NAMED).unwrap_or(0));
    found
        .faults
        .extend(late.map(|row| Fault::Unsealed { chain: row.chain, sequence: row.sequence }));
    Ok(())
}

#[derive(QueryableByName)]
struct RowFault {
    #[diesel(sql_type = Text)]
    row_key: String,
    #[diesel(sql_type = Text)]
    fault: String,
}

#[derive(QueryableByName)]
struct Unnoted {
    #[diesel(sql_type = Text)]
    relation: String,
    #[diesel(sql_type = Text)]
    row_key: String,
}

/// What is no row of a table of evidence: hashes that no entry notes, files, traces.
async fn not_in_tables(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
) -> Result<(), StoreError> {
    let unnoted: Vec<Unnoted> = diesel::sql_query(
        "WITH noted AS (
             SELECT DISTINCT tx FROM audit_entries WHERE tx IS NOT NULL
             UNION
             SELECT jsonb_array_elements_text(detail->'transactions')::xid8 FROM audit_entries
             WHERE action = 'evidence_taken')
         SELECT e.relation, e.row_key FROM evidence e LEFT JOIN noted ON noted.tx = e.tx
         WHERE noted.tx IS NULL ORDER BY e.id LIMIT $1",
    )
    .bind::<Integer, _>(NAMED)
    .load(connection)
    .await?;
    found.faults.extend(
        unnoted.into_iter().map(|one| Fault::Unnoted { relation: one.relation, row: one.row_key }),
    );
    #[derive(QueryableByName)]
    struct File {
        #[diesel(sql_type = BigInt)]
        id: i64,
    }
    let files: Vec<File> = diesel::sql_query(
        "SELECT id FROM files WHERE sha256 <> sha256(bytes) ORDER BY id LIMIT $1",
    )
    .bind::<Integer, _>(NAMED)
    .load(connection)
    .await?;
    found.faults.extend(files.into_iter().map(|file| Fault::File { file: file.id }));
    let captures: Vec<File> = diesel::sql_query(
        "SELECT id FROM captures WHERE sha256 <> sha256(bytes) ORDER BY id LIMIT $1",
    )
    .bind::<Integer, _>(NAMED)
    .load(connection)
    .await?;
    found.faults.extend(captures.into_iter().map(|one| Fault::Capture { capture: one.id }));
    let traces = crate::traces::faults(connection).await?;
    found.faults.extend(traces.into_iter().map(|id| Fault::Trace { reading: id.0 }));
    Ok(())
}
