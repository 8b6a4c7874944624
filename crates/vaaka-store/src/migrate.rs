//! Migrations, shipped inside the program.

use diesel::migration::MigrationSource;
use diesel::pg::Pg;
use diesel_async::{
    AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection,
};
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
    let mut connection = AsyncPgConnection::establish(owner_url).await.map_err(database)?;
    // The service asks which version it meets.
    connection.batch_execute("GRANT SELECT ON __diesel_schema_migrations TO vaaka_app").await?;
    Ok(ran)
}

/// How a database stands to this program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Schema {
    /// Nothing was migrated yet.
    Missing,
    /// Migrations of this program wait.
    Older {
        /// Newest version in the database.
        has: String,
        /// Newest version of this program.
        needs: String,
    },
    /// They fit.
    Present,
    /// A newer program was here.
    Newer {
        /// Newest version in the database.
        has: String,
        /// Newest version of this program.
        knows: String,
    },
}

#[derive(diesel::QueryableByName)]
struct Newest {
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Text>)]
    version: Option<String>,
}

/// The newest version of this program.
fn newest_known() -> Result<String, StoreError> {
    let known = MigrationSource::<Pg>::migrations(&MIGRATIONS).map_err(database)?;
    Ok(known.iter().map(|one| one.name().version().to_string()).max().unwrap_or_default())
}

/// Asks which version a database is at, as the application's role.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn schema(connection: &mut AsyncPgConnection) -> Result<Schema, StoreError> {
    let known = newest_known()?;
    // Older databases let nobody but their owner look: they are older for that alone.
    let there: Newest = diesel::sql_query(
        "SELECT CASE WHEN to_regclass('public.__diesel_schema_migrations') IS NULL THEN NULL
             WHEN has_table_privilege('public.__diesel_schema_migrations', 'SELECT') THEN 'yes'
             ELSE 'hidden' END AS version",
    )
    .get_result(connection)
    .await?;
    match there.version.as_deref() {
        None => return Ok(Schema::Missing),
        Some("hidden") => {
            return Ok(Schema::Older { has: "before 0035".to_owned(), needs: known });
        }
        Some(_) => {}
    }
    let newest: Newest =
        diesel::sql_query("SELECT max(version)::text AS version FROM __diesel_schema_migrations")
            .get_result(connection)
            .await?;
    Ok(match newest.version {
        None => Schema::Missing,
        Some(has) if has == known => Schema::Present,
        Some(has) if has < known => Schema::Older { has, needs: known },
        Some(has) => Schema::Newer { has, knows: known },
    })
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
