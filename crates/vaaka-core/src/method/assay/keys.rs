//! Names of steps and characteristics.

use crate::method::{PlanPoint, StepKey};

/// Key of the step in which the cell is filled with blank and put in.
pub fn cell_key() -> StepKey {
    StepKey::from("cell")
}

/// Key of the step that reads the blank.
pub fn blank_key() -> StepKey {
    StepKey::from("blank")
}

/// Key of the step that reads one solution.
pub fn solution_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("solution-{}-{}", index + 1, point.nominal.normalize()))
}

/// Key of the characteristic that a solution makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
