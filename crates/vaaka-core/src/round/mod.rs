//! The round: shifts, what is due, and in which order.

mod due;
mod plan;
mod shift;
mod standing;

pub use due::{DueRule, Training, TrainingError, check_training};
pub use plan::{Due, RoundPlan, RoundTask, Scheduled, plan_round};
pub use shift::{ShiftError, ShiftPattern, ShiftSpan, ShiftStart};
pub use standing::{LastPoint, Standing, due_of, standing_of};
