//! Long work that waits to be done outside of any request: asked for in the transaction of what asks for it, done by a
//! worker ([`crate::worker`]).

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vaaka_boxed::boxed;

use crate::ids::{CertificateId, CheckId, ImportId, PersonId, ReportId, TrailLookId};
use crate::schema::jobs;
use crate::types::{At, By};
use crate::{StoreError, notices, unreadable};

/// Kind of the notice about what does not go on.
pub(crate) const FAILED: &str = "job_failed";

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Work {
    /// Every check that rested on a certificate is evaluated again with its clerical fix.
    Amend {
        /// The certificate as it was.
        from: CertificateId,
        /// As it is.
        to: CertificateId,
    },
    /// Whose fault a change is, is looked at because a check brought a signal.
    Culprit {
        /// The check.
        check: CheckId,
    },
    /// A table that is too large to be read while its page is asked for is read.
    ReadTable {
        /// The table.
        import: ImportId,
        /// What its columns were said to be.
        mapping: Mapping,
    },
    /// A table that somebody said yes to is brought in.
    BringIn {
        /// The table.
        import: ImportId,
        /// What its columns were said to be.
        mapping: Mapping,
    },
    /// Everything is looked over.
    LookOver {
        /// The look.
        look: TrailLookId,
    },
    /// A report is written.
    WriteReport {
        /// The report.
        report: ReportId,
    },
}

/// What the columns of a table were said to be: column, field.
pub type Mapping = Vec<(String, String)>;

impl Job {
    /// Whether it is still to be done.
    #[must_use]
    pub fn is_open(&self) -> bool {
        matches!(self.state.as_str(), "waiting" | "running")
    }
}

/// A job as it stands.
#[derive(Debug, Clone, PartialEq, QueryableByName)]
pub struct Job {
    /// Number.
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    /// What is to be done.
    #[diesel(sql_type = Jsonb)]
    pub work: serde_json::Value,
    /// Where it belongs.
    #[diesel(sql_type = Text)]
    pub path: String,
    /// Who asked for it.
    #[diesel(sql_type = BigInt)]
    pub asked_by: i64,
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub asked_at: At,
    /// waiting, running, done or failed.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// Pieces done.
    #[diesel(sql_type = Integer)]
    pub done: i32,
    /// Pieces in all, as far as is known.
    #[diesel(sql_type = Integer)]
    pub total: i32,
    /// What went wrong last, if anything did.
    #[diesel(sql_type = Nullable<Text>)]
    pub trouble: Option<String>,
    /// The piece that was done last in this pass.
    #[diesel(sql_type = BigInt)]
    pub place: i64,
    /// Until when whoever took it is believed to be at it: also whose it is, since each lease is another.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub leased_until: Option<At>,
}

pub(crate) const COLUMNS: &str =
    "id, work, path, asked_by, asked_at, state, done, total, trouble, place, leased_until";

/// Asks for work, inside the transaction of what asks for it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn ask(
    connection: &mut AsyncPgConnection,
    work: Work,
    (path, total): (&str, usize),
    (person, at): (PersonId, Timestamp),
) -> Result<(), StoreError> {
    diesel::insert_into(jobs::table)
        .values((
            jobs::work.eq(serde_json::to_value(work).map_err(unreadable)?),
            jobs::path.eq(path),
            jobs::total.eq(i32::try_from(total).map_err(unreadable)?),
            jobs::asked_by.eq(person),
            jobs::asked_at.eq(At(at)),
        ))
        .execute(connection)
        .await?;
    Ok(())
}

/// Whether a job of a page waits that nobody has begun.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn waits(
    connection: &mut AsyncPgConnection,
    path: &str,
) -> Result<bool, StoreError> {
    let waiting = jobs::table.filter(jobs::path.eq(path)).filter(jobs::state.eq("waiting"));
    Ok(diesel::select(diesel::dsl::exists(waiting)).get_result(connection).await?)
}

/// The newest job of a page.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(connection: &mut AsyncPgConnection, path: &str) -> Result<Option<Job>, StoreError> {
    let query = format!("SELECT {COLUMNS} FROM jobs WHERE path = $1 ORDER BY id DESC LIMIT 1");
    let found = diesel::sql_query(query).bind::<Text, _>(path);
    Ok(found.load::<Job>(connection).await?.pop())
}

/// Lets a job that failed be tried again.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn try_again(
    connection: &mut AsyncPgConnection,
    path: &str,
    (person, at): (PersonId, Timestamp),
) -> Result<bool, StoreError> {
    let query =
        "UPDATE jobs SET state = 'waiting', attempts = 0 WHERE path = $1 AND state = 'failed'";
    let found = diesel::sql_query(query).bind::<Text, _>(path).execute(connection).await? > 0;
    if found {
        notices::end(connection, notices::Over::At(FAILED, path), person, at).await?;
    }
    Ok(found)
}

/// Ends a job that failed without doing the rest of it; false where none of this page did.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn put_aside(
    connection: &mut AsyncPgConnection,
    path: &str,
    by: By,
) -> Result<bool, StoreError> {
    let query = "UPDATE jobs SET state = 'done', finished_at = clock_timestamp()
         WHERE path = $1 AND state = 'failed'";
    let found = diesel::sql_query(query).bind::<Text, _>(path).execute(connection).await? > 0;
    if found {
        notices::end(connection, notices::Over::At(FAILED, path), by.person, by.at).await?;
    }
    Ok(found)
}
