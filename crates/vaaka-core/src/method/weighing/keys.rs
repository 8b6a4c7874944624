//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use rust_decimal::Decimal;

use super::{LimitStage, SettingsV1, maximum_permissible_error};
use crate::method::{Place, PlanPoint, PlanSpec, Purpose, StepKey, Travel};

/// How keys of loads begin.
pub const LOAD: &str = "load-";

/// Key of the return to zero.
pub const RETURN: &str = "zero-return";

/// Key of the zero step.
pub const ZERO: &str = "zero";

/// The limit at a load: *as left* is judged by the initial limits, *as found* by those of the plan.
pub fn limit_at(plan: &PlanSpec, settings: &SettingsV1, load: Decimal) -> Decimal {
    let stage = match plan.purpose {
        Purpose::AsFound | Purpose::Trial => settings.stage,
        Purpose::AsLeft => LimitStage::Initial,
    };
    maximum_permissible_error(settings.class, settings.verification_interval, stage, load)
}

/// Key of the step of one point; the ordinal keeps two visits of one load apart.
pub fn load_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("{LOAD}{}-{}-{}", index + 1, point.nominal.normalize(), point.travel.word()))
}

/// In words where a piece goes, "in the middle of the pan".
pub fn place_words(place: Place) -> &'static str {
    match place {
        Place::Middle => "in the middle of the pan",
        Place::BackLeft => "at the back left of the pan",
        Place::BackRight => "at the back right of the pan",
        Place::FrontLeft => "at the front left of the pan",
        Place::FrontRight => "at the front right of the pan",
    }
}

/// Key of the characteristic that a point makes; two visits of one load differ by their travel.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    let nominal = point.nominal.normalize();
    match point.travel {
        Travel::Corner => format!("{prefix}-{nominal}-{}", point.place.word()),
        travel => format!("{prefix}-{nominal}-{}", travel.word()),
    }
}
