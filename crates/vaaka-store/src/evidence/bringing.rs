//! Large tables come in as jobs: values of the time before in pieces, which count for nothing until all of them are there,
//! and registers in one piece.

use diesel_async::{AsyncConnection, AsyncPgConnection};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::clerk::{Clerk, Reading};
use crate::ids::{ImportId, PersonId};
use crate::imports::{self, EarlierValue, Import, Kept, Lines};
use crate::jobs::{Job, Mapping};
use crate::turn;
use crate::types::By;

/// Values that are written in one piece.
const PIECE: usize = 10_000;

/// Reads a table for its page.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn read(
    connection: &mut AsyncPgConnection,
    clerk: &dyn Clerk,
    job: &mut Job,
    (import, mapping): (ImportId, &Mapping),
) -> Result<(), StoreError> {
    let kept = match imports::by_id(connection, import).await {
        // Thrown away meanwhile: another one was sent.
        Err(StoreError::NotFound) => None,
        found => {
            let import = found?;
            let read = clerk.read_table(&import, mapping);
            let reading = turn::beating(connection, job, read).await?;
            Some(Kept { mapping: mapping.clone(), shown: reading.shown })
        }
    };
    let taken = &*job;
    connection
        .transaction(async |connection| {
            let lease = turn::said(connection, taken, None, 1).await?;
            if let Some(kept) = kept {
                imports::keep_reading(connection, import, &kept).await?;
            }
            turn::over(connection, taken.id, lease).await
        })
        .await
}

/// Brings a table in, or says why not.
///
/// # Errors
/// [`StoreError`] of the database.
#[boxed]
pub(crate) async fn bring_in(
    connection: &mut AsyncPgConnection,
    clerk: &dyn Clerk,
    job: &mut Job,
    (import, mapping): (ImportId, &Mapping),
    now: Timestamp,
) -> Result<(), StoreError> {
    let import = imports::by_id(connection, import).await?;
    if import.state != "coming" {
        // It came in, and whoever did it was gone before it was noted here.
        return turn::end(connection, job).await;
    }
    let by = By { person: PersonId(job.asked_by), at: now };
    let read = clerk.read_table(&import, mapping);
    let reading = turn::beating(connection, job, read).await?;
    let brought = match reading {
        Reading { lines: None, .. } => {
            return send_back(
                connection,
                job,
                import.id,
                "The registers have changed since you looked, and some lines are not right any more.",
            )
            .await;
        }
        Reading { lines: Some(Lines::History(values)), count, .. } => {
            history(connection, job, (&import, values), (count, mapping), by).await
        }
        Reading { lines: Some(lines), count, .. } => {
            let taken = &*job;
            connection
                .transaction(async |connection| {
                    let done = i32::try_from(count).unwrap_or(i32::MAX);
                    let lease = turn::said(connection, taken, None, done).await?;
                    imports::enter(connection, &import, "coming", (count, mapping), by).await?;
                    imports::register(connection, lines, by).await?;
                    turn::over(connection, taken.id, lease).await
                })
                .await
        }
    };
    match brought {
        // What the database's own rules refuse in a line is no matter of who was first.
        Err(StoreError::Conflict { constraint }) if !constraint.ends_with("_check") => {
            tracing::info!(import = import.id.0, constraint, "a table did not come in");
            let words = "Somebody registered or brought in some of these meanwhile.";
            send_back(connection, job, import.id, words).await
        }
        brought => brought,
    }
}

/// Values in pieces, from where the job has come; then, in one moment, all of them count.
async fn history(
    connection: &mut AsyncPgConnection,
    job: &mut Job,
    (import, values): (&Import, Vec<EarlierValue>),
    (count, mapping): (usize, &Mapping),
    by: By,
) -> Result<(), StoreError> {
    let begun = values.partition_point(|value| i64::from(value.line) <= job.place);
    for piece in values.get(begun..).unwrap_or_default().chunks(PIECE) {
        let Some(last) = piece.last() else { continue };
        let taken = &*job;
        let lease = connection
            .transaction(async |connection| {
                let done = i32::try_from(piece.len()).unwrap_or(i32::MAX);
                let lease = turn::said(connection, taken, Some(i64::from(last.line)), done).await?;
                imports::insert_values(connection, import.id, piece).await?;
                Ok::<_, StoreError>(lease)
            })
            .await?;
        job.leased_until = Some(lease);
    }
    let taken = &*job;
    connection
        .transaction(async |connection| {
            let lease = turn::said(connection, taken, None, 0).await?;
            let places = values.iter().map(|value| &value.place);
            imports::none_twice(connection, places, import.id).await?;
            imports::enter(connection, import, "coming", (count, mapping), by).await?;
            turn::over(connection, taken.id, lease).await
        })
        .await
}

async fn send_back(
    connection: &mut AsyncPgConnection,
    job: &Job,
    import: ImportId,
    words: &str,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let lease = turn::said(connection, job, None, 0).await?;
            imports::send_back(connection, import, words).await?;
            turn::over(connection, job.id, lease).await
        })
        .await
}
