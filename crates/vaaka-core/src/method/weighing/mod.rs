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
use super::{Method, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
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

impl Settings {
    /// Reads and checks stored settings.
    ///
    /// # Errors
    /// [`MethodError::Settings`].
    pub fn read(plan: &PlanSpec) -> Result<SettingsV1, MethodError> {
        let Self::V1(settings) = serde_json::from_value(plan.settings.clone())
            .map_err(|error| MethodError::Settings { why: error.to_string() })?;
        let why = if settings.verification_interval <= Decimal::ZERO {
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
        let twice = || measured_twice(plan, |point| keys::key_of("error", point));
        let around = || settings.around.fault(plan, false);
        match why.map(str::to_owned).or_else(twice).or_else(around) {
            Some(why) => Err(MethodError::Settings { why }),
            None => Ok(settings),
        }
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

impl Method for Weighing {
    fn key(&self) -> &'static str {
        KEY
    }

    fn version(&self) -> i32 {
        1
    }

    fn table_edition(&self) -> &'static str {
        "OIML R 76-1:2006 table 6"
    }

    fn name(&self) -> &'static str {
        "Scale with weights"
    }

    fn sheet(&self) -> Sheet {
        sheet::sheet()
    }

    fn travels(&self) -> &'static [Travel] {
        &[Travel::Rising, Travel::Falling, Travel::Corner]
    }

    fn has_places(&self) -> bool {
        true
    }

    fn way(&self, plan: &PlanSpec) -> Result<Vec<Step>, MethodError> {
        way::way(plan, &Settings::read(plan)?)
    }

    fn settle(&self, _: &PlanSpec, run: &RunState, step: &Step) -> Result<Step, MethodError> {
        Ok(evaluate::settle(run, step))
    }

    fn chart_key(&self, point: &PlanPoint) -> String {
        keys::key_of("error", point)
    }

    fn evaluate(
        &self,
        plan: &PlanSpec,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::evaluate(plan, &Settings::read(plan)?, run)
    }

    fn so_far(&self, plan: &PlanSpec, run: &RunState) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::so_far(plan, &Settings::read(plan)?, run)
    }
}
