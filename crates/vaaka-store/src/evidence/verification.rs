//! The look over everything: chains, seals, evidence, and the results computed again from their readings. Linear in what
//! there is, one at a time, and it ends where nobody waits for it.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use diesel::sql_types::Bool;
use diesel::{QueryableByName, sql_query};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use serde::{Deserialize, Serialize};
use vaaka_boxed::boxed;

use crate::StoreError;
pub use crate::faults::Fault;
use crate::looking::Looking;
use crate::recompute;

/// What a look over everything found.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
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

    /// Says how far a look has come; an error where nobody waits any more.
    fn say(&self, look: &Looking) -> Result<(), StoreError> {
        self.done.store(look.done, Ordering::Relaxed);
        self.all.store(look.all, Ordering::Relaxed);
        if AtomicBool::load(&self.cancelled, Ordering::Relaxed) {
            Err(StoreError::Cancelled)
        } else {
            Ok(())
        }
    }
}

/// A seal as it is known from outside of the database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// Seals that are known from outside.
    pub known: Vec<KnownSeal>,
    /// Whether results are left out, which are computed again one by one.
    pub trail_only: bool,
}

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
    struct Mine {
        #[diesel(sql_type = Bool)]
        mine: bool,
    }
    connection
        .transaction(async |connection| {
            connection
                .batch_execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                .await?;
            let lock: Mine = sql_query("SELECT pg_try_advisory_xact_lock(7305132461) AS mine")
                .get_result(connection)
                .await?;
            if !lock.mine {
                return Err(StoreError::Busy);
            }
            let mut look = Looking::begin(connection, wanted.clone()).await?;
            let mut memory = recompute::Memory::default();
            while !look.is_over() {
                progress.say(&look)?;
                look.step(connection, &mut memory).await?;
            }
            Ok(look.found)
        })
        .await
}
