//! What a record rests on, and how it is shown to be whole; tables in and out.

pub mod audit;
pub mod bulk;
pub mod files;
pub mod imports;
pub mod recompute;
pub mod records;
pub mod seals;
pub mod verification;
