//! Why the store did not do what was asked, and how stored words are read.

use diesel::result::{DatabaseErrorKind, Error as DieselError};
use thiserror::Error;

/// Why the store did not do what was asked.
#[derive(Debug, Error)]
pub enum StoreError {
    /// No such row.
    #[error("there is no such record")]
    NotFound,
    /// A constraint said no.
    #[error("the record conflicts with another one ({constraint})")]
    Conflict {
        /// Name of the constraint.
        constraint: String,
    },
    /// Stored words or settings that this version does not understand.
    #[error("the stored record cannot be read: {what}")]
    Unreadable {
        /// What cannot be read.
        what: String,
    },
    /// The method could not work with what is stored.
    #[error(transparent)]
    Method(#[from] vaaka_core::method::MethodError),
    /// The same is being done already.
    #[error("this is under way already")]
    Busy,
    /// Nobody waits for it any more.
    #[error("it was given up")]
    Cancelled,
    /// The database is out of reach or said something else.
    #[error("the database did not answer as expected: {0}")]
    Database(String),
}

impl From<DieselError> for StoreError {
    fn from(error: DieselError) -> Self {
        match error {
            DieselError::NotFound => Self::NotFound,
            DieselError::DatabaseError(
                DatabaseErrorKind::UniqueViolation
                | DatabaseErrorKind::ForeignKeyViolation
                | DatabaseErrorKind::CheckViolation
                | DatabaseErrorKind::SerializationFailure,
                information,
            ) => Self::Conflict {
                constraint: information.constraint_name().unwrap_or("serialisation").to_owned(),
            },
            other => Self::Database(other.to_string()),
        }
    }
}

/// Turns anything that failed to be read into [`StoreError::Unreadable`].
pub(crate) fn unreadable(what: impl std::fmt::Display) -> StoreError {
    StoreError::Unreadable { what: what.to_string() }
}

/// A stored word that this version does not know.
#[must_use]
pub fn unreadable_word(text: &str) -> StoreError {
    unreadable(format!("“{text}”"))
}

/// Reads a stored word into its core type.
pub(crate) fn word<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, StoreError> {
    serde_json::from_value(serde_json::Value::String(text.to_owned())).map_err(unreadable)
}

/// The stored word of a core type that serialises to one.
///
/// # Errors
/// [`StoreError::Unreadable`] when the type is not a plain word.
pub fn to_word<T: serde::Serialize>(value: &T) -> Result<String, StoreError> {
    match serde_json::to_value(value).map_err(unreadable)? {
        serde_json::Value::String(text) => Ok(text),
        other => Err(unreadable(format!("{other} is not a word"))),
    }
}
