//! What every second pair of eyes decides with.

use jiff::Timestamp;

use crate::ids::PersonId;

/// How a sheet of paper or a certificate is decided.
#[derive(Debug, Clone, Copy)]
pub struct Decision<'a> {
    /// Who.
    pub by: PersonId,
    /// Why.
    pub reason: &'a str,
    /// The one lead of a site decides about what he did himself, and everything says so.
    pub alone: bool,
    /// When.
    pub at: Timestamp,
}
