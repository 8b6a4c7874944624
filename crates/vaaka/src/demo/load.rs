//! Writes a world into an empty database, in one transaction.

use std::collections::HashSet;

use diesel_async::{AsyncConnection, AsyncPgConnection};
use jiff::{SignedDuration, Timestamp};
use vaaka_store::ids::{CheckId, InstrumentId};
use vaaka_store::rows::Check;
use vaaka_store::{At, StoreError, bulk, culprits};

use super::{World, sheet_gauges};

/// Writes everything or nothing.
///
/// # Errors
/// [`StoreError`].
pub async fn load(connection: &mut AsyncPgConnection, world: World) -> Result<(), StoreError> {
    let looked = looked_at(&world);
    connection
        .transaction(async |connection| {
            bulk::insert(connection, world.people).await?;
            bulk::insert(connection, world.sites).await?;
            bulk::insert(connection, world.areas).await?;
            bulk::insert(connection, world.shift_starts).await?;
            bulk::insert(connection, world.shifts).await?;
            bulk::insert(connection, world.instruments).await?;
            bulk::insert(connection, world.set_ups).await?;
            bulk::insert(connection, world.events).await?;
            bulk::insert(connection, world.standards).await?;
            bulk::insert(connection, world.lots).await?;
            bulk::insert(connection, world.certificates).await?;
            bulk::insert(connection, world.certified_values).await?;
            bulk::insert(connection, world.standard_states).await?;
            bulk::insert(connection, world.trainings).await?;
            bulk::insert(connection, world.plans).await?;
            bulk::insert(connection, world.plan_versions).await?;
            bulk::insert(connection, world.plan_points).await?;
            bulk::insert(connection, world.checks).await?;
            bulk::insert(connection, world.check_standards).await?;
            bulk::insert(connection, world.standard_uses).await?;
            bulk::insert(connection, world.readings).await?;
            bulk::insert(connection, world.traces).await?;
            bulk::insert(connection, world.trace_channels).await?;
            bulk::insert(connection, world.results).await?;
            bulk::insert(connection, world.characteristics).await?;
            bulk::insert(connection, world.budgets).await?;
            bulk::insert(connection, world.streams).await?;
            bulk::insert(connection, world.segments).await?;
            bulk::insert(connection, world.baselines).await?;
            bulk::insert(connection, world.points).await?;
            bulk::insert(connection, world.signals).await?;
            bulk::insert(connection, world.signal_steps).await?;
            bulk::insert(connection, world.audit).await?;
            bulk::finish(connection).await
        })
        .await?;
    // As it was said when it came: each looks no further than its own day.
    for (check, at) in looked {
        culprits::say(connection, check, at).await?;
    }
    Ok(())
}

/// The checks at which it was looked at whose fault a change is: the first signal after each moment, of the gauges that
/// tell it.
fn looked_at(world: &World) -> Vec<(CheckId, Timestamp)> {
    let Some(ends_at) = world.checks.iter().filter_map(|check| check.closed_at).max() else {
        return vec![];
    };
    let gauges: Vec<InstrumentId> = world
        .instruments
        .iter()
        .filter(|one| sheet_gauges::is_one(&one.tag))
        .map(|one| one.id)
        .collect();
    let own = |check: &&Check| gauges.contains(&check.instrument_id) && check.closed_at.is_some();
    let checks: Vec<&Check> = world.checks.iter().filter(own).collect();
    let first = checks.iter().map(|check| check.opened_at).min();
    let signalled: HashSet<CheckId> =
        world.points.iter().filter(|point| point.signalled).map(|point| point.check_id).collect();
    sheet_gauges::LOOKED
        .iter()
        .filter_map(|days| {
            let back = SignedDuration::from_secs((days * 86_400.0) as i64);
            let moment = At(ends_at.0.checked_sub(back).ok()?);
            let soon = At(moment.0 + SignedDuration::from_hours(24 * 6));
            let after = || checks.iter().filter(|check| check.opened_at >= moment);
            let signal =
                after().find(|check| check.opened_at < soon && signalled.contains(&check.id));
            let check = signal.or(after().next())?;
            let at = check.closed_at?.0;
            // Of a history that begins later there was nothing to say.
            (first? < moment).then_some((check.id, at))
        })
        .collect()
}
