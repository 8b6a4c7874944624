//! What long work needs of the floors above: tables are read, and reports written, where pages are.

use std::pin::Pin;

use serde_json::Value;

use crate::StoreError;
use crate::imports::{Import, Lines};
use crate::reports::Report;

/// Something that takes a while.
pub type Later<'a, T> = Pin<Box<dyn Future<Output = Result<T, StoreError>> + Send + 'a>>;

/// What a table would bring, read against the registers as they are.
#[derive(Debug, Clone)]
pub struct Reading {
    /// Its lines; none where something is wrong with one of them.
    pub lines: Option<Lines>,
    /// How many there are.
    pub count: usize,
    /// What its page shows of it.
    pub shown: Value,
}

/// Does for [`crate::worker`] what is not the business of the store.
pub trait Clerk: Send + Sync {
    /// Reads a table, its columns being what was said of them.
    fn read_table<'a>(
        &'a self,
        import: &'a Import,
        mapping: &'a [(String, String)],
    ) -> Later<'a, Reading>;

    /// Writes a report, as it is at the moment.
    fn write_report<'a>(&'a self, report: &'a Report) -> Later<'a, Value>;
}
