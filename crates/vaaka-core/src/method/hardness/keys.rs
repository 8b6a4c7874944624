//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use crate::method::{PlanPoint, StepKey};

/// Key of the step of one block.
pub fn block_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("block-{}-{}", index + 1, point.nominal.normalize()))
}

/// Key of the characteristic that a block makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
