//! The round: shifts, what is due, and in which order.

mod plan;
mod shift;

pub use plan::{Due, RoundPlan, RoundTask, Scheduled, plan_round};
pub use shift::{ShiftError, ShiftPattern, ShiftSpan, ShiftStart};
