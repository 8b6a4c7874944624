//! Backup and restore, by PostgreSQL's own programs: a backup is one consistent file, a restore goes
//! into an empty database only and ends with a look over the audit trail.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use tokio::process::Command;
use vaaka_store::verification::{Progress, Verification, Wanted, verify};

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
    // Before anything is in it: nobody else reads it at any moment.
    private(file).map_err(|cause| AppError::Io {
        what: format!("the backup {} cannot be written", file.display()),
        cause,
    })?;
    let file_text = file.to_string_lossy().into_owned();
    let (address, password) = apart(database_url);
    let arguments = ["--format=custom", "--no-owner", "--file", &file_text, "--dbname", &address];
    let outcome = run("pg_dump", &arguments, password.as_deref()).await;
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
    let (address, password) = apart(database_url);
    let arguments =
        ["--no-owner", "--exit-on-error", "--single-transaction", "--dbname", &address, &file_text];
    run("pg_restore", &arguments, password.as_deref()).await?;
    let found = verify(&mut connection, &Wanted::default(), &Progress::default()).await?;
    if found.faults.is_empty() {
        Ok(found)
    } else {
        Err(AppError::Audit { faults: found.faults.len() })
    }
}

fn trouble(words: String) -> AppError {
    AppError::Backup(words)
}

/// Makes a file that only its owner reads and writes.
fn private(file: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(file).map(drop)
}

/// The address of a database without its password, and that password: command lines are seen by everybody on the
/// machine, the environment of a program by its owner.
fn apart(database_url: &str) -> (String, Option<String>) {
    let Some((scheme, rest)) = database_url.split_once("://") else {
        return (database_url.to_owned(), None);
    };
    let (authority, path) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
    let Some((user, host)) = authority.rsplit_once('@') else {
        return (database_url.to_owned(), None);
    };
    let Some((name, password)) = user.split_once(':') else {
        return (database_url.to_owned(), None);
    };
    (format!("{scheme}://{name}@{host}{path}"), Some(decoded(password)))
}

/// Percent signs undone (RFC 3986, 2.1).
fn decoded(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let [first, tail @ ..] = rest {
        let pair = match (first, tail) {
            (b'%', [high, low, ..]) => std::str::from_utf8(&[*high, *low])
                .ok()
                .and_then(|two| u8::from_str_radix(two, 16).ok()),
            _ => None,
        };
        bytes.push(pair.unwrap_or(*first));
        rest = if pair.is_some() { tail.get(2..).unwrap_or_default() } else { tail };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Runs one of PostgreSQL's programs.
async fn run(program: &str, arguments: &[&str], password: Option<&str>) -> Result<(), AppError> {
    let path = find(program).ok_or_else(|| {
        trouble(format!("“{program}” is missing: install PostgreSQL's client programs first."))
    })?;
    let mut command = Command::new(path);
    command.args(arguments).stdin(Stdio::null());
    if let Some(password) = password {
        command.env("PGPASSWORD", password);
    }
    let output = command
        .output()
        .await
        .map_err(|cause| AppError::Io { what: format!("“{program}” cannot be run"), cause })?;
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_leaves_the_address() {
        for (url, address, password) in [
            (
                "postgres://vaaka:s%40%3Acret@db:5432/v",
                "postgres://vaaka@db:5432/v",
                Some("s@:cret"),
            ),
            (
                "postgresql://u:p@[::1]/v?sslmode=require",
                "postgresql://u@[::1]/v?sslmode=require",
                Some("p"),
            ),
            ("postgres://vaaka@db/v", "postgres://vaaka@db/v", None),
            ("postgres:///v?host=/run/postgresql", "postgres:///v?host=/run/postgresql", None),
            ("host=db dbname=v", "host=db dbname=v", None),
        ] {
            assert_eq!(apart(url), (address.to_owned(), password.map(str::to_owned)), "{url}");
        }
        assert_eq!(decoded("50%"), "50%");
        assert_eq!(decoded("%C3%A4%zz"), "ä%zz");
    }

    #[test]
    fn a_backup_is_its_owners_alone() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("b");
        private(&file).unwrap();
        assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(private(&file).is_err(), "never over another");
    }
}
