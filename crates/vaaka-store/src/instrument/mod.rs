//! Instruments, their use, and what was done to them.

pub mod adjustments;
pub mod instrument_changes;
pub mod instruments;
pub mod link_turns;
pub mod links;
pub mod registers;
pub mod standing;
