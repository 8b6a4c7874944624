//! The round: shifts, what is due, and in which order.

mod due;
mod late;
mod missed;
mod plan;
mod release;
mod sheet_time;
mod shift;
mod standing;
mod trigger;

pub use due::{DueRule, Training, TrainingError, check_training};
pub use late::{LateRank, LateRemark, late_rank, late_remarks, shortest_run};
pub use missed::{Missed, MissedInput, missed};
pub use plan::{Due, RoundPlan, RoundTask, Scheduled, plan_round};
pub use release::{PlanStanding, Release, ReleaseInput, release};
pub use sheet_time::{SheetTime, SheetTimeError};
pub use shift::{ShiftError, ShiftPattern, ShiftSpan, ShiftStart};
pub use standing::{
    Cell, LastPoint, Newest, PlanFacts, Standing, due_of, of_chart, of_instrument, usable_cells,
    use_words, vouched,
};
pub use trigger::{MayFail, Occasion, OccasionInput, SinceCheck, Trigger, occasions, triggered};
