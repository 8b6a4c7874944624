//! What a record rests on, and how it is shown to be whole; tables in and out.

pub mod audit;
pub(crate) mod bringing;
pub mod bulk;
pub(crate) mod faults;
pub mod files;
pub mod imports;
pub mod looking;
pub mod recompute;
pub mod records;
pub mod reports;
pub mod seals;
pub mod trail_looks;
pub mod verification;
