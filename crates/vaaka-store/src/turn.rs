//! The turn that a process has at a job: taken for a while, said again with each piece, given back or ended.

use std::time::Duration;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Nullable, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};

use crate::StoreError;
use crate::clerk::Later;
use crate::jobs::Job;
use crate::types::At;

/// For how long whoever took a job is believed to be at it, in seconds; it says so again with each piece.
pub(crate) const LEASE_SECONDS: f64 = 30.0;

#[derive(QueryableByName)]
struct Lease {
    #[diesel(sql_type = Timestamptz)]
    leased_until: At,
}

/// Says that somebody is at it, and with a piece how far it has come: first of all in the transaction of what is done, so
/// that the row of the job is locked meanwhile and whoever lost it does nothing twice. Gives the new lease.
///
/// # Errors
/// [`StoreError::Busy`] where another process took the job over.
pub(crate) async fn said(
    connection: &mut AsyncPgConnection,
    job: &Job,
    place: Option<i64>,
    pieces: i32,
) -> Result<At, StoreError> {
    let query = "UPDATE jobs SET attempts = 0, trouble = NULL, place = COALESCE($3, place),
         done = done + $5, total = GREATEST(total, done + $5),
         leased_until = clock_timestamp() + make_interval(secs => $4)
         WHERE id = $1 AND leased_until = $2 RETURNING leased_until";
    let lease: Option<Lease> = diesel::sql_query(query)
        .bind::<BigInt, _>(job.id)
        .bind::<Nullable<Timestamptz>, _>(job.leased_until)
        .bind::<Nullable<BigInt>, _>(place)
        .bind::<Double, _>(LEASE_SECONDS)
        .bind::<Integer, _>(pieces)
        .load(connection)
        .await?
        .pop();
    lease.map(|lease| lease.leased_until).ok_or(StoreError::Busy)
}

/// Waits for something that takes a while outside of any transaction, and says meanwhile that somebody is at it.
///
/// # Errors
/// [`StoreError::Busy`] where another process took the job over; whatever the work says.
pub(crate) async fn beating<T>(
    connection: &mut AsyncPgConnection,
    job: &mut Job,
    work: Later<'_, T>,
) -> Result<T, StoreError> {
    let mut work = work;
    let mut every = tokio::time::interval(Duration::from_secs_f64(LEASE_SECONDS / 4.0));
    every.tick().await;
    loop {
        tokio::select! {
            found = &mut work => return found,
            _ = every.tick() => {
                let query = "UPDATE jobs SET leased_until = clock_timestamp() + make_interval(secs => $3)
                     WHERE id = $1 AND leased_until = $2 RETURNING leased_until";
                let lease: Option<Lease> = diesel::sql_query(query)
                    .bind::<BigInt, _>(job.id)
                    .bind::<Nullable<Timestamptz>, _>(job.leased_until)
                    .bind::<Double, _>(LEASE_SECONDS)
                    .load(connection)
                    .await?
                    .pop();
                job.leased_until = Some(lease.ok_or(StoreError::Busy)?.leased_until);
            }
        }
    }
}

/// Ends a job of which nothing is left to do.
///
/// # Errors
/// [`StoreError::Busy`] where another process took it over.
pub(crate) async fn end(connection: &mut AsyncPgConnection, job: &Job) -> Result<(), StoreError> {
    let lease = said(connection, job, None, 0).await?;
    over(connection, job.id, lease).await
}

/// Lets another job have its turn.
pub(crate) async fn give_back(
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

/// Says that it is done.
pub(crate) async fn over(
    connection: &mut AsyncPgConnection,
    id: i64,
    lease: At,
) -> Result<(), StoreError> {
    let query = "UPDATE jobs SET state = 'done', done = total, leased_until = NULL,
         finished_at = clock_timestamp() WHERE id = $1 AND leased_until = $2";
    diesel::sql_query(query)
        .bind::<BigInt, _>(id)
        .bind::<Timestamptz, _>(lease)
        .execute(connection)
        .await?;
    Ok(())
}
