//! Ultrasonic thickness gauges on a step block.
//!
//! Error of each step E = M̄ − M_C, the mean of its readings minus its certified thickness (VIM 2.16). A gauge makes a thickness of the
//! time of an echo, d = v·(t − t₀)/2, by a velocity v that it is set to and a probe zero t₀: where v is read, a line through what it shows
//! of the steps, shown = a + b·d, tells the velocity that they speak for, v/b, and what is wrong of the zero, a. Both are charted: a probe
//! that wears and a velocity that was changed are told apart there before a limit is reached.

mod evaluate;
mod keys;
mod line;
mod scene;
mod sheet;
mod sound;
mod way;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

pub use line::{LineError, Pattern, StepLine, VelocityZero, velocity_and_zero};
pub use sound::{
    AmplitudeStep, Echo, Elements, EncoderScale, GainCurve, SoundError, SoundPlace,
    amplitude_linearity, elements, encoder_scale, gain_curve, gain_to_height, refracted_angle,
    sound_place, velocity_at,
};

use super::around::{Around, Words, temperature_condition};
use super::common::measured_twice;
use super::{Family, Limit, Live, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;
use crate::quantity::{Dimension, show_decimal};

/// Key of this method.
pub const KEY: &str = "ultrasonic";

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "ultrasonic-1")]
    V1(SettingsV1),
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Limit of the mean error at each step.
    pub mean_limit: Limit,
    /// Limit of every single reading; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// Limit of the range of the readings at a step; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// Limit of the largest departure from a line; recorded only where absent.
    pub residual_limit: Option<Limit>,
    /// Velocity in the block's material at 20 °C in m/s, where the velocity of the gauge is read.
    pub velocity: Option<Decimal>,
    /// Its band, ± %; recorded only where absent.
    pub velocity_band: Option<Decimal>,
    /// By how many m/s it falls for each °C.
    pub per_degree: Option<Decimal>,
    /// Steps on which velocity and zero are set; unknown where there are none.
    pub set_on: Vec<SetOn>,
    /// Thinnest thickness that counts.
    pub thinnest: Option<Decimal>,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

/// A step on which a gauge is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetOn {
    /// Its nominal thickness.
    pub thickness: Decimal,
}

impl SettingsV1 {
    fn is_set_on(&self, nominal: Decimal) -> bool {
        self.set_on.iter().any(|one| one.thickness == nominal)
    }

    /// Whether a step proves a gauge that was set on others.
    fn proves(&self, nominal: Decimal) -> bool {
        !self.set_on.is_empty() && !self.is_set_on(nominal)
    }

    /// Limits of the velocity, where it has a band.
    fn velocity_limits(&self) -> Option<(Decimal, Decimal)> {
        let (velocity, band) = self.velocity.zip(self.velocity_band)?;
        let half = velocity * band / Decimal::ONE_HUNDRED;
        Some((velocity - half, velocity + half))
    }

    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.unit.dimension() != Dimension::Length {
            return Some("a thickness is a length: the instrument's unit is mm".into());
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one step".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            let words = show_decimal(nominal, nominal.scale());
            if point.repeats == 0 {
                return Some(format!("the step {words} is read at least once"));
            }
            if point.pieces.len() != 1 {
                return Some(format!(
                    "the step {words} is one step of a block: nothing is stacked"
                ));
            }
            if point.travel != Travel::Rising {
                return Some("a step is neither reached from above nor off centre".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the step {words} lies outside the range"));
            }
            if self.thinnest.is_some_and(|thinnest| point.nominal < thinnest) {
                return Some(format!(
                    "the step {words} is thinner than what counts with this probe"
                ));
            }
        }
        self.fault_of_velocity(plan)
            .or_else(|| measured_twice(plan, |point| keys::key_of("error", point)))
            .or_else(|| self.around.fault(plan, true))
            .or_else(|| {
                let limits = [
                    Some(&self.mean_limit),
                    self.single_limit.as_ref(),
                    self.range_limit.as_ref(),
                    self.residual_limit.as_ref(),
                ];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }

    fn fault_of_velocity(&self, plan: &PlanSpec) -> Option<String> {
        let positive = |value: &Option<Decimal>| value.is_none_or(|value| value > Decimal::ZERO);
        if !positive(&self.velocity) || !positive(&self.velocity_band) {
            return Some("a velocity and its band are greater than zero".into());
        }
        if self.velocity_band.is_some_and(|band| band >= Decimal::ONE_HUNDRED) {
            return Some("the band of a velocity is less than 100 %".into());
        }
        if self.velocity.is_none() && (self.velocity_band.is_some() || self.per_degree.is_some()) {
            return Some("a band, or how the velocity falls, needs the velocity itself".into());
        }
        if self.per_degree.is_some() && temperature_condition(&self.around.conditions).is_none() {
            return Some(
                "how the velocity falls needs a temperature: say which condition is the standard's"
                    .into(),
            );
        }
        let all = plan.points.iter().all(|point| self.is_set_on(point.nominal));
        all.then(|| {
            "the gauge is set on every step of the check: one more is needed that proves it".into()
        })
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: ("block", "Clean, no burr, no old couplant. Scan or type the tag that is on it."),
    make_ready: ("Make ready", "Make gauge and probe ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Ultrasonic;

impl Family for Ultrasonic {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Ultrasonic thickness";
    const DRAWS: bool = true;

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
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
        step: &Step,
    ) -> Result<Step, MethodError> {
        evaluate::settle(plan, settings, run, step)
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

    fn live(plan: &PlanSpec, settings: &SettingsV1, run: &RunState) -> Result<Live, MethodError> {
        evaluate::live(plan, settings, run)
    }
}
