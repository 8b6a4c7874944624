//! Command line, start-up and demo data.

pub mod backup;
pub mod bench;
pub mod cli;
pub mod compute;
pub mod demo;
pub mod init;
pub mod mail;
pub mod station;

use thiserror::Error;

/// Why the program stops.
#[derive(Debug, Error)]
pub enum AppError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] vaaka_store::StoreError),
    /// A file or socket failed; the text names it.
    #[error("{what}: {cause}")]
    Io {
        /// What was tried.
        what: String,
        /// What came of it.
        cause: std::io::Error,
    },
    /// The demo world does not fit the rules of the core; a fault in its data.
    #[error("the demo world cannot be made: {0}")]
    Demo(String),
    /// A backup or restore did not come about; the words say what to do.
    #[error("{0}")]
    Backup(String),
    /// The audit trail is not as it was written.
    #[error("the audit trail was changed: {faults} faults, each named above")]
    Audit {
        /// How many.
        faults: usize,
    },
    /// The database is of another version than the program; the words say what to do.
    #[error("{0}")]
    Schema(String),
    /// What a computation was given does not fit; ends with 2.
    #[error("{0}")]
    Input(String),
    /// A value on the command line or in the environment does not fit.
    #[error("{name} is “{value}”: {expected}")]
    Setting {
        /// Its name.
        name: &'static str,
        /// What was given.
        value: String,
        /// What is expected.
        expected: &'static str,
    },
}
