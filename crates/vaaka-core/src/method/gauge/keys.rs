//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use rust_decimal::Decimal;

use super::SettingsV1;
use crate::judgement::ToleranceLimits;
use crate::method::{PlanPoint, PlanSpec, StepKey};

/// Limits of the mean at a point, in the unit of the display.
pub fn mean_limits(
    plan: &PlanSpec,
    settings: &SettingsV1,
    reference: Decimal,
) -> Option<ToleranceLimits> {
    settings.mean_limit.limits(reference, plan)
}

/// Key of the step of one point; the ordinal keeps two visits of one value apart.
pub fn point_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("point-{}-{}-{}", index + 1, point.nominal.normalize(), point.travel.word()))
}

/// Key of the characteristic that a point makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}-{}", point.nominal.normalize(), point.travel.word())
}
