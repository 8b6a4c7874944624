//! Names of steps and characteristics.

use crate::method::{PlanPoint, StepKey};

/// Key of the step that reads the bare base before the foils, and of the one after them.
pub fn base_key(after: bool) -> StepKey {
    StepKey::from(if after { "base-after" } else { "base" })
}

/// Key of the step of one foil.
pub fn foil_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("foil-{}-{}", index + 1, point.nominal.normalize()))
}

/// Key of the characteristic that a foil makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
