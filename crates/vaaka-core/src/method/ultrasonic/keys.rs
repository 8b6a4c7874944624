//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use crate::method::{PlanPoint, StepKey};

/// Key of the step that reads the velocity which the gauge is set to.
pub fn velocity_key() -> StepKey {
    StepKey::from("velocity")
}

/// Key of the step that measures one step of the block.
pub fn point_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("step-{}-{}", index + 1, point.nominal.normalize()))
}

/// Key of the characteristic that a step of the block makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
