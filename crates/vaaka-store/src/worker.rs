//! Does the long work that was asked for ([`crate::jobs`]): piece by piece, each in a transaction of its own, by whichever
//! process comes to it; a process that stops leaves the rest to another.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::clerk::Clerk;
use crate::ids::PersonId;
use crate::jobs::{COLUMNS, FAILED, Job, Work};
use crate::turn::{self, LEASE_SECONDS};
use crate::{
    StoreError, bringing, conclude, countersigning, culprits, notices, reports, trail_looks,
    unreadable,
};

/// Pieces that are done before another job has its turn.
const PIECES: usize = 20;
/// Times in a row that a part may go wrong before the job waits for a person.
const MOST_ATTEMPTS: i32 = 5;

/// Does a part of the job whose turn it is. False where there is none to do now.
///
/// # Errors
/// [`StoreError`] of the database; what goes wrong in a job is written at it, and it is tried again.
#[boxed]
pub async fn work(
    connection: &mut AsyncPgConnection,
    clerk: &dyn Clerk,
    now: Timestamp,
) -> Result<bool, StoreError> {
    let Some(mut job) = take(connection).await? else { return Ok(false) };
    match part(connection, clerk, &mut job, now).await {
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
    clerk: &dyn Clerk,
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
                    let lease = turn::said(connection, taken, Some(check.0), 1).await?;
                    culprits::say(connection, check, now).await?;
                    // One that failed before is made good by this one: nothing waits for a person.
                    let over_at = notices::Over::At(FAILED, &taken.path);
                    notices::end(connection, over_at, by, now).await?;
                    turn::over(connection, taken.id, lease).await
                })
                .await
        }
        Work::ReadTable { import, mapping } => {
            bringing::read(connection, clerk, job, (import, &mapping)).await
        }
        Work::BringIn { import, mapping } => {
            bringing::bring_in(connection, clerk, job, (import, &mapping), now).await
        }
        Work::WriteReport { report } => {
            let report = reports::by_id(connection, report).await?;
            let body = turn::beating(connection, job, clerk.write_report(&report)).await?;
            let taken = &*job;
            connection
                .transaction(async |connection| {
                    let lease = turn::said(connection, taken, None, 1).await?;
                    reports::keep(connection, &report, body, (by, now)).await?;
                    turn::over(connection, taken.id, lease).await
                })
                .await
        }
        Work::LookOver { look } => {
            let taken = &*job;
            // One snapshot a part: what is compared with each other is of one moment.
            connection
                .build_transaction()
                .repeatable_read()
                .run(async |connection| {
                    let lease = turn::said(connection, taken, None, 0).await?;
                    let (looking, done) = trail_looks::go_on(connection, look, (by, now)).await?;
                    let done = i32::try_from(done).unwrap_or(i32::MAX);
                    let held = Job { leased_until: Some(lease), ..taken.clone() };
                    let lease = turn::said(connection, &held, None, done).await?;
                    if looking.is_over() {
                        return turn::over(connection, taken.id, lease).await;
                    }
                    let held = Job { leased_until: Some(lease), ..held };
                    turn::give_back(connection, &held, taken.place).await
                })
                .await
        }
        Work::Amend { from, to } => {
            let next = countersigning::to_amend(connection, (from, to), job.place, PIECES).await?;
            for check in &next {
                let taken = &*job;
                let lease = connection
                    .transaction(async |connection| {
                        let lease = turn::said(connection, taken, Some(check.0), 1).await?;
                        conclude::amend(connection, *check, (from, to), by, now).await?;
                        Ok::<_, StoreError>(lease)
                    })
                    .await?;
                job.leased_until = Some(lease);
            }
            // At the end it is looked through once more from the beginning, for what was concluded meanwhile.
            if !next.is_empty() || job.place > 0 {
                let place = next.last().map_or(0, |check| check.0);
                return turn::give_back(connection, job, place).await;
            }
            let taken = &*job;
            connection
                .transaction(async |connection| {
                    let lease = turn::said(connection, taken, None, 0).await?;
                    countersigning::carried_through(connection, (from, to), (by, now)).await?;
                    turn::over(connection, taken.id, lease).await
                })
                .await
        }
    }
}
