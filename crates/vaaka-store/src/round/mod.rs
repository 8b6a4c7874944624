//! What is due, when, and in which shift.

pub mod calendar;
pub mod orders;
pub mod rounds;
pub mod shifts;
