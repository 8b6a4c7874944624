//! The look over everything: chains, seals, evidence, and the results computed again from their readings. Linear in what
//! there is, one at a time, and it ends where nobody waits for it.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Integer, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{AuditEntry, first_break};
use crate::ids::CheckId;
use crate::recompute;
use crate::schema::{audit_entries, audit_seals, checks};
use crate::seals::{EntryHash, STRAGGLERS, Seal, evidence_of, hash_of, one};
use crate::types::At;

/// What is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)] // The words of each say what its fields are.
pub enum Fault {
    /// An entry was edited, or does not follow from the one before it.
    Entry { chain: String, sequence: i32 },
    /// A seal covers an entry that is gone.
    Missing { seal: i32, chain: String, sequence: i32 },
    /// A seal covers an entry whose hash is another one now.
    Changed { seal: i32 },
    /// A seal covers evidence that is not what it was.
    Evidence { seal: i32 },
    /// A seal was edited or does not follow from the one before it.
    Seal { seal: i32 },
    /// An entry older than the newest seals is covered by none: it was put in afterwards.
    Unsealed { chain: String, sequence: i32 },
    /// A row does not fit its evidence.
    Row { relation: String, row: String, what: String },
    /// The bytes of a file do not fit their hash.
    File { file: i64 },
    /// The numbers of a trace do not fit their digest, or its file does not fit its hash.
    Trace { reading: i64 },
    /// A row was changed without an entry in the trail.
    Unnoted { relation: String, row: String },
    /// A result is not what its readings come to.
    Result { check: CheckId, what: String },
    /// A seal that is known from outside is not in the trail: its end was cut off.
    Cut { seal: i32 },
    /// The seal of that number is another one than the one that is known from outside.
    Other { seal: i32 },
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
            Self::Evidence { seal } => {
                write!(f, "seal {seal} no longer fits the evidence that it covers")
            }
            Self::Seal { seal } => {
                write!(f, "seal {seal} was changed or does not follow from the one before it")
            }
            Self::Unsealed { chain, sequence } => write!(
                f,
                "entry {sequence} of “{chain}” is older than the newest seals and covered by none"
            ),
            Self::Row { relation, row, what } => {
                write!(f, "{} {row}: {what} outside of the application", relation.replace('_', " "))
            }
            Self::File { file } => write!(f, "file {file} is not what was kept"),
            Self::Trace { reading } => {
                write!(f, "the trace of entry {reading} is not what was kept")
            }
            Self::Unnoted { relation, row } => write!(
                f,
                "{} {row}: written without an entry in the audit trail",
                relation.replace('_', " ")
            ),
            Self::Result { check, what } => {
                write!(f, "check {check}: {what} is not what its readings come to")
            }
            Self::Cut { seal } => write!(
                f,
                "seal {seal} is known from outside and is not here: the end of the trail was cut off"
            ),
            Self::Other { seal } => {
                write!(f, "seal {seal} is another one than the one that is known from outside")
            }
        }
    }
}

/// What a look over everything found.
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
    /// Rows of evidence.
    pub rows: usize,
    /// Results computed again.
    pub results: usize,
    /// What is wrong.
    pub faults: Vec<Fault>,
}

/// How far a look has come, for whoever waits; and the way to end it.
#[derive(Debug, Default)]
pub struct Progress {
    /// Steps done.
    pub done: AtomicUsize,
    /// Steps in all, as far as they are known.
    pub all: AtomicUsize,
    /// Set by whoever waits no longer.
    pub cancelled: AtomicBool,
}

impl Verification {
    /// What was looked at, in a sentence.
    #[must_use]
    pub fn words(&self) -> String {
        format!(
            "{} entries in {} chains under {} seals, {} rows of evidence, {} results computed again; {} entries wait for their seal.",
            self.entries, self.chains, self.seals, self.rows, self.results, self.unsealed
        )
    }
}

impl Progress {
    /// Share that is done, in percent.
    #[must_use]
    pub fn percent(&self) -> usize {
        let of = |count: &AtomicUsize| AtomicUsize::load(count, Ordering::Relaxed);
        let (done, all) = (of(&self.done), of(&self.all));
        (100 * done).checked_div(all).unwrap_or(0).min(99)
    }

    fn step(&self, steps: usize) -> Result<(), StoreError> {
        self.done.fetch_add(steps, Ordering::Relaxed);
        if AtomicBool::load(&self.cancelled, Ordering::Relaxed) {
            Err(StoreError::Cancelled)
        } else {
            Ok(())
        }
    }
}

/// A seal as it is known from outside of the database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownSeal {
    /// Its number.
    pub sequence: i32,
    /// The beginning of its hash, in hexadecimal digits, or all of it.
    pub hash: String,
}

impl KnownSeal {
    /// Reads a line as [`Seal::line`] writes it or a printed record shows it: number, then hash.
    #[must_use]
    pub fn parse(line: &str) -> Option<Self> {
        let mut words = line.split_whitespace();
        let sequence = words.next()?.parse().ok()?;
        // On paper the hash stands in groups; in a file its moment follows it.
        let hash: String =
            words.take_while(|word| word.chars().all(|c| c.is_ascii_hexdigit())).collect();
        (hash.len() >= 8).then(|| Self { sequence, hash: hash.to_lowercase() })
    }
}

/// What is asked of a look.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Seals that are known from outside.
    pub known: Vec<KnownSeal>,
    /// Whether results are left out, which are computed again one by one.
    pub trail_only: bool,
}

/// Entries read at a time.
const SLICE: i64 = 20_000;
/// Checks computed again between two looks whether somebody still waits.
const CHECKS: usize = 50;
/// Faults of one kind that are named one by one.
const NAMED: i32 = 50;

/// Looks over everything, in one snapshot of the database.
///
/// # Errors
/// [`StoreError::Busy`] while another look is under way; [`StoreError::Cancelled`] when nobody waits any more.
#[boxed]
pub async fn verify(
    connection: &mut AsyncPgConnection,
    wanted: &Wanted,
    progress: &Progress,
) -> Result<Verification, StoreError> {
    #[derive(QueryableByName)]
    struct Counts {
        #[diesel(sql_type = Bool)]
        mine: bool,
        #[diesel(sql_type = BigInt)]
        entries: i64,
        #[diesel(sql_type = BigInt)]
        checks: i64,
        #[diesel(sql_type = BigInt)]
        tables: i64,
    }
    connection
        .transaction(async |connection| {
            connection
                .batch_execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                .await?;
            let counts: Counts = diesel::sql_query(
                "SELECT pg_try_advisory_xact_lock(7305132461) AS mine,
                     (SELECT count(*) FROM audit_entries) AS entries,
                     (SELECT count(*) FROM checks) AS checks,
                     (SELECT count(*) FROM evidence_tables) AS tables",
            )
            .get_result(connection)
            .await?;
            if !counts.mine {
                return Err(StoreError::Busy);
            }
            // Entries are read twice: by chain, and under their seals.
            let all = 2 * counts.entries + counts.checks + 1_000 * counts.tables;
            progress.all.store(usize::try_from(all).unwrap_or(usize::MAX), Ordering::Relaxed);
            let mut found = Verification::default();
            chains(connection, &mut found, progress).await?;
            seals(connection, &mut found, &wanted.known, progress).await?;
            evidence(connection, &mut found, progress).await?;
            if !wanted.trail_only {
                results(connection, &mut found, progress).await?;
            }
            Ok(found)
        })
        .await
}

/// Chains are read in slices by name, so that a long history needs no more memory than a short one.
async fn chains(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
    progress: &Progress,
) -> Result<(), StoreError> {
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
        progress.step(slice.len())?;
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
    known: &[KnownSeal],
    progress: &Progress,
) -> Result<(), StoreError> {
    let mut previous: Option<Seal> = None;
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
        under_seal(connection, &seal, found).await?;
        progress.step(seal.entry_ids.len())?;
        previous = Some(seal);
    }
    for known in known {
        match one(connection, known.sequence).await? {
            None => found.faults.push(Fault::Cut { seal: known.sequence }),
            Some(seal) if !hex::encode(&seal.hash).starts_with(&known.hash) => {
                found.faults.push(Fault::Other { seal: known.sequence });
            }
            Some(_) => {}
        }
    }
    unsealed(connection, found, previous.as_ref()).await
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

/// Each row against its newest hash, and each hash against the trail.
async fn evidence(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
    progress: &Progress,
) -> Result<(), StoreError> {
    #[derive(QueryableByName)]
    struct Relation {
        #[diesel(sql_type = Text)]
        relation: String,
        #[diesel(sql_type = BigInt)]
        rows: i64,
    }
    let tables: Vec<Relation> = diesel::sql_query(
        "SELECT t.relation, (SELECT count(DISTINCT row_key) FROM evidence e WHERE e.relation = t.relation) AS rows
         FROM evidence_tables t ORDER BY t.relation",
    )
    .load(connection)
    .await?;
    for table in tables {
        let faults: Vec<RowFault> =
            diesel::sql_query("SELECT row_key, fault FROM evidence_faults($1, $2)")
                .bind::<Text, _>(&table.relation)
                .bind::<Integer, _>(NAMED)
                .load(connection)
                .await?;
        found.faults.extend(faults.into_iter().map(|fault| Fault::Row {
            relation: table.relation.clone(),
            row: fault.row_key,
            what: fault.fault,
        }));
        found.rows += usize::try_from(table.rows).unwrap_or(0);
        progress.step(1_000)?;
    }
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
    let traces = crate::traces::faults(connection).await?;
    found.faults.extend(traces.into_iter().map(|id| Fault::Trace { reading: id.0 }));
    Ok(())
}

/// The newest result of every concluded check, from its readings.
async fn results(
    connection: &mut AsyncPgConnection,
    found: &mut Verification,
    progress: &Progress,
) -> Result<(), StoreError> {
    let ids: Vec<CheckId> = checks::table
        .filter(checks::state.ne("open"))
        .order(checks::id)
        .select(checks::id)
        .load(connection)
        .await?;
    let mut memory = recompute::Memory::default();
    for slice in ids.chunks(CHECKS) {
        for id in slice {
            match recompute::result(connection, *id, &mut memory).await? {
                recompute::Outcome::None => {}
                recompute::Outcome::Same => found.results += 1,
                recompute::Outcome::Other(what) => {
                    found.results += 1;
                    found.faults.push(Fault::Result { check: *id, what });
                }
            }
        }
        progress.step(slice.len())?;
    }
    Ok(())
}
