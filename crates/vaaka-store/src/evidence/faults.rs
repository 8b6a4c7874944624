//! What a look over everything can find wrong, in words.

use serde::{Deserialize, Serialize};

use crate::ids::CheckId;

/// What is wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[allow(missing_docs)] // The words of each say what its fields are.
pub enum Fault {
    /// An entry was edited, or does not follow from the one before it.
    Entry { chain: String, sequence: i32 },
    /// A seal covers an entry that is gone.
    Missing { seal: i32, chain: String, sequence: i32 },
    /// A seal covers an entry whose hash is another one now.
    Changed { seal: i32 },
    /// A seal covers evidence that is not what it was.
    Evidence { seal: i32 },
    /// A seal was edited or does not follow from the one before it.
    Seal { seal: i32 },
    /// An entry older than the newest seals is covered by none: it was put in afterwards.
    Unsealed { chain: String, sequence: i32 },
    /// A row does not fit its evidence.
    Row { relation: String, row: String, what: String },
    /// The bytes of a file do not fit their hash.
    File { file: i64 },
    /// What came of an instrument does not fit its hash.
    Capture { capture: i64 },
    /// The numbers of a trace do not fit their digest, or its file does not fit its hash.
    Trace { reading: i64 },
    /// A row was changed without an entry in the trail.
    Unnoted { relation: String, row: String },
    /// A result is not what its readings come to.
    Result { check: CheckId, what: String },
    /// A seal that is known from outside is not in the trail: its end was cut off.
    Cut { seal: i32 },
    /// The seal of that number is another one than the one that is known from outside.
    Other { seal: i32 },
}

impl std::fmt::Display for Fault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Entry { chain, sequence } => write!(
                f,
                "entry {sequence} of “{chain}” was changed or does not follow from the one before it"
            ),
            Self::Missing { seal, chain, sequence } => {
                write!(f, "entry {sequence} of “{chain}”, which seal {seal} covers, is gone")
            }
            Self::Changed { seal } => {
                write!(f, "seal {seal} no longer fits the entries that it covers")
            }
            Self::Evidence { seal } => {
                write!(f, "seal {seal} no longer fits the evidence that it covers")
            }
            Self::Seal { seal } => {
                write!(f, "seal {seal} was changed or does not follow from the one before it")
            }
            Self::Unsealed { chain, sequence } => write!(
                f,
                "entry {sequence} of “{chain}” is older than the newest seals and covered by none"
            ),
            Self::Row { relation, row, what } => {
                write!(f, "{} {row}: {what} outside of the application", relation.replace('_', " "))
            }
            Self::File { file } => write!(f, "file {file} is not what was kept"),
            Self::Capture { capture } => {
                write!(f, "what came of an instrument (capture {capture}) is not what was kept")
            }
            Self::Trace { reading } => {
                write!(f, "the trace of entry {reading} is not what was kept")
            }
            Self::Unnoted { relation, row } => write!(
                f,
                "{} {row}: written without an entry in the audit trail",
                relation.replace('_', " ")
            ),
            Self::Result { check, what } => {
                write!(f, "check {check}: {what} is not what its readings come to")
            }
            Self::Cut { seal } => write!(
                f,
                "seal {seal} is known from outside and is not here: the end of the trail was cut off"
            ),
            Self::Other { seal } => {
                write!(f, "seal {seal} is another one than the one that is known from outside")
            }
        }
    }
}
