//! Migrations, shipped inside the program.

use diesel_async::{AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};

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
#[boxed]
pub async fn run(owner_url: &str) -> Result<Vec<String>, StoreError> {
    let mut harness = harness(owner_url).await?;
    let ran = harness.run_pending_migrations(MIGRATIONS).map_err(database)?;
    let ran: Vec<String> = ran.iter().map(ToString::to_string).collect();
    if !ran.is_empty() {
        note_evidence(owner_url, &ran).await?;
    }
    Ok(ran)
}

#[derive(diesel::QueryableByName)]
struct Unnoted {
    #[diesel(sql_type = diesel::sql_types::Text)]
    tx: String,
}

/// Evidence that a migration took, of rows that it found or changed, gets its entry in the audit trail.
async fn note_evidence(owner_url: &str, ran: &[String]) -> Result<(), StoreError> {
    let mut connection = AsyncPgConnection::establish(owner_url).await.map_err(database)?;
    connection
        .transaction(async |connection| {
            const CHAIN: &str = "migrations";
            audit::hold(connection, CHAIN).await?;
            let unnoted: Vec<Unnoted> = diesel::sql_query(
                "SELECT DISTINCT e.tx::text AS tx FROM evidence e
                 WHERE NOT EXISTS (SELECT FROM audit_entries a WHERE a.tx = e.tx)
                   AND NOT EXISTS (SELECT FROM audit_entries a WHERE a.action = 'evidence_taken'
                       AND a.detail->'transactions' ? e.tx::text)",
            )
            .load(connection)
            .await?;
            if unnoted.is_empty() {
                return Ok(());
            }
            let transactions: Vec<String> = unnoted.into_iter().map(|row| row.tx).collect();
            let happening = Happening {
                chain: CHAIN,
                at: jiff::Timestamp::now(),
                person: None,
                action: "evidence_taken",
                detail: serde_json::json!({ "migrations": ran, "transactions": transactions }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Reverts the newest migration; used by tests.
///
/// # Errors
/// [`StoreError::Database`], also when there is none left.
#[boxed]
pub async fn revert_last(owner_url: &str) -> Result<String, StoreError> {
    let mut harness = harness(owner_url).await?;
    let reverted = harness.revert_last_migration(MIGRATIONS).map_err(database)?;
    Ok(reverted.to_string())
}
