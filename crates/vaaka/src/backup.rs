//! Backup and restore, by PostgreSQL's own programs: a backup is one consistent file, a restore goes
//! into an empty database only and ends with a look over the audit trail.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use tokio::process::Command;
use vaaka_store::seals::{self, Verification};

use crate::AppError;

/// Writes a backup of the database into a file that does not exist yet.
///
/// # Errors
/// [`AppError::Backup`] with what to do.
pub async fn backup(database_url: &str, file: &Path) -> Result<u64, AppError> {
    if file.exists() {
        return Err(trouble(format!(
            "{} is there already. A backup is never written over another: name a new file.",
            file.display()
        )));
    }
    let file_text = file.to_string_lossy().into_owned();
    let arguments =
        ["--format=custom", "--no-owner", "--file", &file_text, "--dbname", database_url];
    let outcome = run("pg_dump", &arguments).await;
    if let Err(error) = outcome {
        // Half a backup is worse than none.
        let _ = std::fs::remove_file(file);
        return Err(error);
    }
    std::fs::metadata(file).map(|data| data.len()).map_err(|cause| AppError::Io {
        what: format!("the backup {} cannot be read back", file.display()),
        cause,
    })
}

/// Restores a backup into an empty database and looks over its audit trail.
///
/// # Errors
/// [`AppError::Backup`] with what to do; [`AppError::Audit`] when the trail is not as it was written.
pub async fn restore(database_url: &str, file: &Path) -> Result<Verification, AppError> {
    if !file.is_file() {
        return Err(trouble(format!("There is no file {}.", file.display())));
    }
    let mut connection = AsyncPgConnection::establish(database_url)
        .await
        .map_err(|error| trouble(format!("The database does not answer: {error}.")))?;
    #[derive(diesel::QueryableByName)]
    struct Tables {
        #[diesel(sql_type = diesel::sql_types::BigInt)]
        count: i64,
    }
    let found: Tables = diesel::sql_query(
        "SELECT count(*) AS count FROM information_schema.tables WHERE table_schema = 'public'",
    )
    .get_result(&mut connection)
    .await
    .map_err(vaaka_store::StoreError::from)?;
    if found.count > 0 {
        return Err(trouble(
            "This database is not empty. Make a new one and restore into that; nothing was changed."
                .into(),
        ));
    }
    // The rights in the backup are given to this role, which belongs to the cluster.
    connection
        .batch_execute(
            "DO $$ BEGIN
               IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'vaaka_app') THEN
                 CREATE ROLE vaaka_app NOLOGIN;
               END IF;
             END $$",
        )
        .await
        .map_err(vaaka_store::StoreError::from)?;
    let file_text = file.to_string_lossy().into_owned();
    let arguments = [
        "--no-owner",
        "--exit-on-error",
        "--single-transaction",
        "--dbname",
        database_url,
        &file_text,
    ];
    run("pg_restore", &arguments).await?;
    let found = seals::verify(&mut connection).await?;
    if found.faults.is_empty() {
        Ok(found)
    } else {
        Err(AppError::Audit { faults: found.faults.len() })
    }
}

fn trouble(words: String) -> AppError {
    AppError::Backup(words)
}

/// Runs one of PostgreSQL's programs.
async fn run(program: &str, arguments: &[&str]) -> Result<(), AppError> {
    let path = find(program).ok_or_else(|| {
        trouble(format!("“{program}” is missing: install PostgreSQL's client programs first."))
    })?;
    let output =
        Command::new(path).args(arguments).stdin(Stdio::null()).output().await.map_err(
            |cause| AppError::Io { what: format!("“{program}” cannot be run"), cause },
        )?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let line = said.lines().find(|line| line.contains("error")).or(said.lines().next());
    Err(trouble(format!("“{program}” said: {}", line.unwrap_or("nothing").trim())))
}

/// On the path, or where Debian puts them, the newest first.
fn find(program: &str) -> Option<PathBuf> {
    let on_path = std::env::var_os("PATH").into_iter().flat_map(|path| {
        std::env::split_paths(&path).map(|folder| folder.join(program)).collect::<Vec<_>>()
    });
    let mut debian: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .filter_map(|entry| Some(entry.ok()?.path().join("bin").join(program)))
        .collect();
    debian.sort();
    debian.into_iter().rev().chain(on_path).find(|path| path.is_file())
}
