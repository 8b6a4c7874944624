//! Looks over everything that were asked for on a page: each is a job, and what it found is kept.

use std::time::{Duration, Instant};

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::audit::{self, Happening};
use crate::ids::{PersonId, TrailLookId};
use crate::looking::Looking;
use crate::schema::{people, trail_looks};
use crate::types::{At, By};
use crate::verification::Wanted;
use crate::{StoreError, jobs, recompute, unreadable};

/// The page that shows them, under which their jobs stand.
pub const PATH: &str = "/audit";
/// The chain in which it is noted that somebody looked.
pub const CHAIN: &str = "trail_looks";
/// A part of a look takes about so long: then another job has its turn.
const TURN: Duration = Duration::from_millis(1_500);

/// A look over everything.
#[derive(Debug, Clone)]
pub struct TrailLook {
    /// Id.
    pub id: TrailLookId,
    /// Who asked for it.
    pub person: String,
    /// When.
    pub at: At,
    /// How far it has come, and what it found.
    pub look: Looking,
    /// When it was over.
    pub finished_at: Option<At>,
}

/// Asks for a look over everything. False where one is under way already, which goes on.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn ask(
    connection: &mut AsyncPgConnection,
    wanted: Wanted,
    by: By,
) -> Result<bool, StoreError> {
    connection
        .transaction(async |connection| {
            // Two that ask at one moment follow each other.
            audit::hold(connection, CHAIN).await?;
            if jobs::of(connection, PATH).await?.is_some_and(|job| job.is_open()) {
                return Ok(false);
            }
            let look = Looking::begin(connection, wanted).await?;
            let all = look.all;
            let id: TrailLookId = diesel::insert_into(trail_looks::table)
                .values((
                    trail_looks::asked_by.eq(by.person),
                    trail_looks::at.eq(At(by.at)),
                    trail_looks::look.eq(serde_json::to_value(look).map_err(unreadable)?),
                ))
                .returning(trail_looks::id)
                .get_result(connection)
                .await?;
            let work = jobs::Work::LookOver { look: id };
            jobs::ask(connection, work, (PATH, all), (by.person, by.at)).await?;
            Ok(true)
        })
        .await
}

/// The newest looks, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(
    connection: &mut AsyncPgConnection,
    most: i64,
) -> Result<Vec<TrailLook>, StoreError> {
    let rows: Vec<(TrailLookId, String, At, serde_json::Value, Option<At>)> = trail_looks::table
        .inner_join(people::table)
        .order(trail_looks::id.desc())
        .limit(most)
        .select((
            trail_looks::id,
            people::name,
            trail_looks::at,
            trail_looks::look,
            trail_looks::finished_at,
        ))
        .load(connection)
        .await?;
    rows.into_iter()
        .map(|(id, person, at, look, finished_at)| {
            let look = serde_json::from_value(look).map_err(unreadable)?;
            Ok(TrailLook { id, person, at, look, finished_at })
        })
        .collect()
}

/// Goes on with a look for a while, in one snapshot of the database; gives it as far as it has come, and how many steps
/// were done.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn go_on(
    connection: &mut AsyncPgConnection,
    id: TrailLookId,
    (person, now): (PersonId, Timestamp),
) -> Result<(Looking, usize), StoreError> {
    let stored: serde_json::Value =
        trail_looks::table.find(id).select(trail_looks::look).first(connection).await?;
    let mut look: Looking = serde_json::from_value(stored).map_err(unreadable)?;
    let (before, since) = (look.done, Instant::now());
    let mut memory = recompute::Memory::default();
    while !look.is_over() {
        look.step(connection, &mut memory).await?;
        if since.elapsed() > TURN {
            break;
        }
    }
    diesel::update(trail_looks::table.find(id))
        .set((
            trail_looks::look.eq(serde_json::to_value(&look).map_err(unreadable)?),
            trail_looks::finished_at.eq(look.is_over().then_some(At(now))),
        ))
        .execute(connection)
        .await?;
    if look.is_over() {
        let happening = Happening {
            chain: CHAIN,
            at: now,
            person: Some(person),
            action: "trail_looked_over",
            detail: json!({
                "look": id.0, "entries": look.found.entries, "seals": look.found.seals,
                "rows": look.found.rows, "results": look.found.results,
                "faults": look.found.faults.len(),
            }),
        };
        audit::record(connection, &happening).await?;
    }
    let done = look.done - before;
    Ok((look, done))
}
