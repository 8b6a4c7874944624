//! Writes a world into an empty database, in one transaction.

use diesel_async::{AsyncConnection, AsyncPgConnection};
use vaaka_store::{StoreError, bulk};

use super::World;

/// Writes everything or nothing.
///
/// # Errors
/// [`StoreError`].
pub async fn load(connection: &mut AsyncPgConnection, world: World) -> Result<(), StoreError> {
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
        .await
}
