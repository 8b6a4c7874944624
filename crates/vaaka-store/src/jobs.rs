//! Long work, outside of any request: asked for in the transaction of what asks for it, done piece by piece, each in a
//! transaction of its own, by whichever process comes to it; a process that stops leaves the rest to another.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vaaka_boxed::boxed;

use crate::ids::{CertificateId, CheckId, PersonId};
use crate::schema::jobs;
use crate::types::At;
use crate::{StoreError, certificate_reviews, conclude, culprits, notices, unreadable};

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
    /// Whose fault a change is, is looked at because a check brought a signal.
    Culprit {
        /// The check.
        check: CheckId,
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
    /// The piece that was done last in this pass.
    #[diesel(sql_type = BigInt)]
    pub place: i64,
    /// Until when whoever took it is believed to be at it: also whose it is, since each lease is another.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub leased_until: Option<At>,
}

const COLUMNS: &str =
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

/// Does a part of the job whose turn it is. False where there is none to do now.
///
/// # Errors
/// [`StoreError`] of the database; what goes wrong in a job is written at it, and it is tried again.
#[boxed]
pub async fn work(connection: &mut AsyncPgConnection, now: Timestamp) -> Result<bool, StoreError> {
    let Some(mut job) = take(connection).await? else { return Ok(false) };
    match part(connection, &mut job, now).await {
        Ok(()) => Ok(true),
        // Another process took it over meanwhile: it is at it, and nothing is wrong.
        Err(StoreError::Busy) => Ok(false),
        Err(error) => {
            tracing::error!(job = job.id, %error, "a job did not go on");
            // Let another process try, or this one a little later; what is broken is told and left.
            let query =
                "UPDATE jobs SET attempts = attempts + 1, trouble = $3, leased_until = NULL,
                 turn_at = clock_timestamp(),
                 state = CASE WHEN attempts + 1 >= $4 THEN 'failed' ELSE 'waiting' END
                 WHERE id = $1 AND leased_until = $2 RETURNING state";
            let after: Option<State> = diesel::sql_query(query)
                .bind::<BigInt, _>(job.id)
                .bind::<Nullable<Timestamptz>, _>(job.leased_until)
                .bind::<Text, _>(error.to_string())
                .bind::<Integer, _>(MOST_ATTEMPTS)
                .load(connection)
                .await?
                .pop();
            if after.is_some_and(|after| after.state == "failed") {
                tell(connection, &job, now).await?;
            }
            Ok(false)
        }
    }
}

#[derive(QueryableByName)]
struct State {
    #[diesel(sql_type = Text)]
    state: String,
}

#[derive(QueryableByName)]
struct Lease {
    #[diesel(sql_type = Timestamptz)]
    leased_until: At,
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

/// Takes the job that has waited longest for its turn, or whose holder has not been heard of; two processes never take
/// one, and one in the midst of a piece has its row locked.
async fn take(connection: &mut AsyncPgConnection) -> Result<Option<Job>, StoreError> {
    let query = format!(
        "UPDATE jobs SET state = 'running', leased_until = clock_timestamp() + make_interval(secs => $1)
         WHERE id = (SELECT id FROM jobs WHERE state = 'waiting'
                 OR (state = 'running' AND leased_until < clock_timestamp())
             ORDER BY turn_at, id LIMIT 1 FOR UPDATE SKIP LOCKED)
         RETURNING {COLUMNS}"
    );
    let taken = diesel::sql_query(query).bind::<Double, _>(LEASE_SECONDS);
    Ok(taken.load::<Job>(connection).await?.pop())
}

async fn part(
    connection: &mut AsyncPgConnection,
    job: &mut Job,
    now: Timestamp,
) -> Result<(), StoreError> {
    let work: Work = serde_json::from_value(job.work.clone()).map_err(unreadable)?;
    let by = PersonId(job.asked_by);
    match work {
        Work::Culprit { check } => {
            let taken = &*job;
            connection
                .transaction(async |connection| {
                    let lease = said(connection, taken, Some(check.0)).await?;
                    culprits::say(connection, check, now).await?;
                    // One that failed before is made good by this one: nothing waits for a person.
                    let over_at = notices::Over::At(FAILED, &taken.path);
                    notices::end(connection, over_at, by, now).await?;
                    over(connection, taken.id, lease).await
                })
                .await
        }
        Work::Amend { from, to } => {
            let next =
                certificate_reviews::to_amend(connection, (from, to), job.place, PIECES).await?;
            for check in &next {
                let taken = &*job;
                let lease = connection
                    .transaction(async |connection| {
                        let lease = said(connection, taken, Some(check.0)).await?;
                        conclude::amend(connection, *check, (from, to), by, now).await?;
                        Ok::<_, StoreError>(lease)
                    })
                    .await?;
                job.leased_until = Some(lease);
            }
            // At the end it is looked through once more from the beginning, for what was concluded meanwhile.
            if !next.is_empty() || job.place > 0 {
                let place = next.last().map_or(0, |check| check.0);
                return give_back(connection, job, place).await;
            }
            let taken = &*job;
            connection
                .transaction(async |connection| {
                    let lease = said(connection, taken, None).await?;
                    certificate_reviews::carried_through(connection, (from, to), (by, now)).await?;
                    over(connection, taken.id, lease).await
                })
                .await
        }
    }
}

/// Says that somebody is at it, and with a piece how far it has come: first of all in the transaction of what is done, so
/// that the row of the job is locked meanwhile and whoever lost it does nothing twice. Gives the new lease.
async fn said(
    connection: &mut AsyncPgConnection,
    job: &Job,
    piece: Option<i64>,
) -> Result<At, StoreError> {
    let query = "UPDATE jobs SET attempts = 0, trouble = NULL, place = COALESCE($3, place),
         done = CASE WHEN $3 IS NULL THEN done ELSE done + 1 END,
         total = GREATEST(total, CASE WHEN $3 IS NULL THEN done ELSE done + 1 END),
         leased_until = clock_timestamp() + make_interval(secs => $4)
         WHERE id = $1 AND leased_until = $2 RETURNING leased_until";
    let lease: Option<Lease> = diesel::sql_query(query)
        .bind::<BigInt, _>(job.id)
        .bind::<Nullable<Timestamptz>, _>(job.leased_until)
        .bind::<Nullable<BigInt>, _>(piece)
        .bind::<Double, _>(LEASE_SECONDS)
        .load(connection)
        .await?
        .pop();
    lease.map(|lease| lease.leased_until).ok_or(StoreError::Busy)
}

/// Lets another job have its turn.
async fn give_back(
    connection: &mut AsyncPgConnection,
    job: &Job,
    place: i64,
) -> Result<(), StoreError> {
    let query = "UPDATE jobs SET state = 'waiting', leased_until = NULL, place = $3,
         turn_at = clock_timestamp() WHERE id = $1 AND leased_until = $2";
    diesel::sql_query(query)
        .bind::<BigInt, _>(job.id)
        .bind::<Nullable<Timestamptz>, _>(job.leased_until)
        .bind::<BigInt, _>(place)
        .execute(connection)
        .await?;
    Ok(())
}

async fn over(connection: &mut AsyncPgConnection, id: i64, lease: At) -> Result<(), StoreError> {
    let query = "UPDATE jobs SET state = 'done', done = total, leased_until = NULL,
         finished_at = clock_timestamp() WHERE id = $1 AND leased_until = $2";
    diesel::sql_query(query)
        .bind::<BigInt, _>(id)
        .bind::<Timestamptz, _>(lease)
        .execute(connection)
        .await?;
    Ok(())
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
