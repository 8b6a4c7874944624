//! Long work, outside of any request: asked for in the transaction of what asks for it, done piece by piece, each in a
//! transaction of its own, by whichever process comes to it; a process that stops leaves the rest to another.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::ids::{CertificateId, PersonId};
use crate::schema::jobs;
use crate::types::At;
use crate::{StoreError, certificate_reviews, conclude, notices, unreadable};

/// For how long whoever took a job is believed to be at it, in seconds; it says so again with each piece.
const LEASE_SECONDS: f64 = 30.0;
/// Pieces that are done before another job has its turn.
const PIECES: usize = 20;
/// Kind of the notice about what does not go on.
const FAILED: &str = "job_failed";
/// Times in a row that a part may go wrong before the job waits for a person.
const MOST_ATTEMPTS: i32 = 5;

/// What is to be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Work {
    /// Every check that rested on a certificate is evaluated again with its clerical fix.
    Amend {
        /// The certificate as it was.
        from: CertificateId,
        /// As it is.
        to: CertificateId,
    },
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
}

const COLUMNS: &str = "id, work, path, asked_by, asked_at, state, done, total, trouble";

/// Asks for work, inside the transaction of what asks for it.
///
/// # Errors
/// [`StoreError`].
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

/// The newest job of a page.
///
/// # Errors
/// [`StoreError`].
pub async fn of(connection: &mut AsyncPgConnection, path: &str) -> Result<Option<Job>, StoreError> {
    let query = format!("SELECT {COLUMNS} FROM jobs WHERE path = $1 ORDER BY id DESC LIMIT 1");
    let found = diesel::sql_query(query).bind::<Text, _>(path);
    Ok(found.load::<Job>(connection).await?.pop())
}

/// Does a part of the oldest job that nobody is at. False where there is none to do now.
///
/// # Errors
/// [`StoreError`] of the database; what goes wrong in a job is written at it, and it is tried again.
pub async fn work(connection: &mut AsyncPgConnection, now: Timestamp) -> Result<bool, StoreError> {
    let Some(job) = take(connection).await? else { return Ok(false) };
    match part(connection, &job, now).await {
        Ok(()) => Ok(true),
        Err(error) => {
            tracing::error!(job = job.id, %error, "a job did not go on");
            // Let another process try, or this one a little later; what is broken is told and left.
            let query = "UPDATE jobs SET attempts = attempts + 1, trouble = $2, leased_until = NULL,
                 state = CASE WHEN attempts + 1 >= $3 THEN 'failed' ELSE 'waiting' END WHERE id = $1
                 AND state = 'running' RETURNING id, work, path, asked_by, asked_at, state, done, total, trouble";
            let after = diesel::sql_query(query)
                .bind::<BigInt, _>(job.id)
                .bind::<Text, _>(error.to_string())
                .bind::<Integer, _>(MOST_ATTEMPTS)
                .load::<Job>(connection)
                .await?;
            if after.iter().any(|job| job.state == "failed") {
                tell(connection, &job, now).await?;
            }
            Ok(false)
        }
    }
}

/// Leads hear of what does not go on by itself.
async fn tell(
    connection: &mut AsyncPgConnection,
    job: &Job,
    at: Timestamp,
) -> Result<(), StoreError> {
    let notice = notices::NewNotice {
        kind: FAILED,
        instrument: None,
        check: None,
        title: "Work in the background did not go on",
        words: "What was done stands; the rest waits. Look at it, and let it be tried again.",
        path: &job.path,
        at,
    };
    notices::tell_leads(connection, &notice).await?;
    Ok(())
}

/// Takes the oldest job that waits, or whose holder has not been heard of; two processes never take one.
async fn take(connection: &mut AsyncPgConnection) -> Result<Option<Job>, StoreError> {
    let query = format!(
        "UPDATE jobs SET state = 'running', leased_until = now() + make_interval(secs => $1)
         WHERE id = (SELECT id FROM jobs WHERE state = 'waiting'
                 OR (state = 'running' AND leased_until < now())
             ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
         RETURNING {COLUMNS}"
    );
    let taken = diesel::sql_query(query).bind::<Double, _>(LEASE_SECONDS);
    Ok(taken.load::<Job>(connection).await?.pop())
}

async fn part(
    connection: &mut AsyncPgConnection,
    job: &Job,
    now: Timestamp,
) -> Result<(), StoreError> {
    let work: Work = serde_json::from_value(job.work.clone()).map_err(unreadable)?;
    let by = PersonId(job.asked_by);
    match work {
        Work::Amend { from, to } => {
            let left = certificate_reviews::not_amended(connection, (from, to)).await?;
            let done = job.done.max(0) as usize;
            for (index, check) in left.iter().take(PIECES).enumerate() {
                connection
                    .transaction(async |connection| {
                        conclude::amend(connection, *check, (from, to), by, now).await?;
                        said(connection, job.id, done + index + 1, done + left.len()).await
                    })
                    .await?;
            }
            if left.len() > PIECES {
                return give_back(connection, job.id).await;
            }
            connection
                .transaction(async |connection| {
                    certificate_reviews::carried_through(connection, (from, to), (by, now)).await?;
                    over(connection, job.id).await
                })
                .await
        }
    }
}

/// How far it has come, and that somebody is at it.
async fn said(
    connection: &mut AsyncPgConnection,
    id: i64,
    done: usize,
    total: usize,
) -> Result<(), StoreError> {
    let number = |n: usize| i32::try_from(n).map_err(unreadable);
    let query = "UPDATE jobs SET done = $2, total = $3, attempts = 0, trouble = NULL,
         leased_until = now() + make_interval(secs => $4) WHERE id = $1 AND state = 'running'";
    let told = diesel::sql_query(query)
        .bind::<BigInt, _>(id)
        .bind::<Integer, _>(number(done)?)
        .bind::<Integer, _>(number(total)?)
        .bind::<Double, _>(LEASE_SECONDS)
        .execute(connection)
        .await?;
    // Another process took it over meanwhile: this piece is its to do.
    if told == 1 { Ok(()) } else { Err(StoreError::Busy) }
}

async fn give_back(connection: &mut AsyncPgConnection, id: i64) -> Result<(), StoreError> {
    let query = "UPDATE jobs SET state = 'waiting', leased_until = NULL WHERE id = $1 AND state = 'running'";
    diesel::sql_query(query).bind::<BigInt, _>(id).execute(connection).await?;
    Ok(())
}

async fn over(connection: &mut AsyncPgConnection, id: i64) -> Result<(), StoreError> {
    let query = "UPDATE jobs SET state = 'done', done = total, leased_until = NULL, trouble = NULL,
         finished_at = now() WHERE id = $1 AND state = 'running'";
    diesel::sql_query(query).bind::<BigInt, _>(id).execute(connection).await?;
    Ok(())
}

/// Lets a job that failed be tried again.
///
/// # Errors
/// [`StoreError`].
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
