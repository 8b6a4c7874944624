//! Scales and balances: weights put on, indications read.
//!
//! Error of indication E = I − L, or with small added weights E = I + d/2 − ΔL − L
//! (OIML R 76-1:2006, A.4.4.3); corrected for the error at zero, E_c = E − E₀.

mod evaluate;
mod keys;
mod mpe;
mod scene;
mod sheet;
mod studies;
mod way;

pub use mpe::{AccuracyClass, LimitStage, maximum_permissible_error};
pub use studies::{
    Eccentricity, LEAST_DEVIATION, Repeatability, StudyError, TestLoad, eccentricity,
    minimum_weight, repeatability, substitution,
};

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{Family, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;

/// Key of this method.
pub const KEY: &str = "weighing";

/// Shape of the load receptor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Pan {
    /// A round pan.
    Round,
    /// A rectangular pan or platform.
    Rectangular,
}

/// Settings of a weighing plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "weighing-1")]
    V1(SettingsV1),
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Accuracy class.
    pub class: AccuracyClass,
    /// Verification scale interval e, entered, never guessed from d.
    pub verification_interval: Decimal,
    /// Initial or in service.
    pub stage: LimitStage,
    /// Pan.
    pub pan: Pan,
    /// True when rounding is removed with small added weights.
    pub added_weights: bool,
    /// Where the weights stand, for the drawing.
    pub case: String,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        let why = if self.verification_interval <= Decimal::ZERO {
            Some("the verification interval e must be greater than zero")
        } else if plan.resolution <= Decimal::ZERO {
            Some("the scale interval d must be greater than zero")
        } else if plan.points.is_empty() {
            Some("a plan needs at least one load")
        } else if plan.points.iter().any(|point| point.repeats == 0) {
            Some("every load is read at least once")
        } else {
            None
        };
        why.map(str::to_owned)
            .or_else(|| measured_twice(plan, |point| keys::key_of("error", point)))
            .or_else(|| self.around.fault(plan, false))
    }
}

/// How what surrounds the weighing is called.
const WORDS: Words = Words {
    begin: "Before you lift anything",
    standard: ("weight set", "Scan or type the tag that is on the case in your hand."),
    make_ready: ("Level, clean, empty", "Make the scale ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Weighing;

impl Family for Weighing {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Scale with weights";
    const TABLE_EDITION: &'static str = "OIML R 76-1:2006 table 6";
    const TRAVELS: &'static [Travel] = &[Travel::Rising, Travel::Falling, Travel::Corner];
    const HAS_PLACES: bool = true;

    fn newest(Settings::V1(settings): Settings) -> SettingsV1 {
        settings
    }

    fn fault(settings: &SettingsV1, plan: &PlanSpec) -> Option<String> {
        settings.fault(plan)
    }

    fn around(settings: &Self::Settings) -> &Around {
        &settings.around
    }

    fn sheet() -> Sheet {
        sheet::sheet()
    }

    fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
        way::way(plan, settings)
    }

    fn settle(
        _plan: &PlanSpec,
        _settings: &SettingsV1,
        run: &RunState,
        step: &Step,
    ) -> Result<Step, MethodError> {
        Ok(evaluate::settle(run, step))
    }

    fn chart_key(point: &PlanPoint) -> String {
        keys::key_of("error", point)
    }

    fn evaluate(
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::evaluate(plan, settings, run)
    }

    fn so_far(
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::so_far(plan, settings, run)
    }
}
