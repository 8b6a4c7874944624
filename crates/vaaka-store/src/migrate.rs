//! Migrations, shipped inside the program.

use diesel_async::{AsyncConnection, AsyncMigrationHarness, AsyncPgConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

use crate::StoreError;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");

async fn harness(url: &str) -> Result<AsyncMigrationHarness<AsyncPgConnection>, StoreError> {
    let connection = AsyncPgConnection::establish(url)
        .await
        .map_err(|error| StoreError::Database(error.to_string()))?;
    Ok(AsyncMigrationHarness::new(connection))
}

fn database(error: impl std::fmt::Display) -> StoreError {
    StoreError::Database(error.to_string())
}

/// Runs what is pending and returns its names. Needs the owner's connection and a runtime with
/// several threads.
///
/// # Errors
/// [`StoreError::Database`].
pub async fn run(owner_url: &str) -> Result<Vec<String>, StoreError> {
    let mut harness = harness(owner_url).await?;
    let ran = harness.run_pending_migrations(MIGRATIONS).map_err(database)?;
    Ok(ran.iter().map(ToString::to_string).collect())
}

/// Reverts the newest migration; used by tests.
///
/// # Errors
/// [`StoreError::Database`], also when there is none left.
pub async fn revert_last(owner_url: &str) -> Result<String, StoreError> {
    let mut harness = harness(owner_url).await?;
    let reverted = harness.revert_last_migration(MIGRATIONS).map_err(database)?;
    Ok(reverted.to_string())
}
