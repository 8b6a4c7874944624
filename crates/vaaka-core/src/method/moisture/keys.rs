//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use crate::method::{PlanPoint, StepKey};

/// Key of the step that reads the empty chamber.
pub fn empty_key() -> StepKey {
    StepKey::from("empty")
}

/// Key of the step of one material.
pub fn fill_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("fill-{}-{}", index + 1, point.nominal.normalize()))
}

/// Key of the characteristic that a material makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
