//! Coating thickness gauges, magnetic (ISO 2178) and eddy-current (ISO 2360), on foils over a bare base.
//!
//! The bare base first, of the material, shape and roughness of the work; then foils laid on it. Error of each foil E = M̄ − M_C
//! (VIM 2.16), less what the base shows by itself where it is rough and the plan takes that off. Read again after the foils, the base says
//! whether the gauge came back.

mod evaluate;
mod keys;
mod rule;
mod scene;
mod sheet;
mod way;

use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use serde::{Deserialize, Serialize};

pub use rule::{CoatingError, CoatingJudgement, coating_rule};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{Family, Limit, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;
use crate::quantity::{Dimension, show_decimal};

/// Key of this method.
pub const KEY: &str = "coating";

/// Most readings of the bare base.
const MOST_READINGS: u32 = 50;

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "coating-1")]
    V1(SettingsV1),
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Limit of the mean error of each foil.
    pub mean_limit: Limit,
    /// Limit of every single reading; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// Limit of the range of the readings of a foil; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// Limit of what the bare base shows; recorded only where absent.
    pub base_limit: Option<Limit>,
    /// Limit of the bare base after the foils, minus before; recorded only where absent.
    pub return_limit: Option<Limit>,
    /// Tag of the base.
    pub base: String,
    /// Readings of it, a whole number.
    pub base_readings: Decimal,
    /// Whether what it shows is taken off.
    pub take_off: bool,
    /// Whether it is read again after the foils.
    pub again: bool,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn base_count(&self) -> u32 {
        self.base_readings.to_u32().unwrap_or(1)
    }

    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.unit.dimension() != Dimension::Length {
            return Some("a thickness is a length: the instrument's unit is µm or mm".into());
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        if self.base.trim().is_empty() {
            return Some("the base needs a tag: a foil on another base reads otherwise".into());
        }
        let whole = self.base_readings.fract().is_zero();
        if !whole || !(Decimal::ONE..=Decimal::from(MOST_READINGS)).contains(&self.base_readings) {
            return Some(format!("the bare base is read once to {MOST_READINGS} times"));
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one foil".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            let words = show_decimal(nominal, nominal.scale());
            if point.repeats == 0 {
                return Some(format!("the foil {words} is read at least once"));
            }
            if point.travel != Travel::Rising {
                return Some("a foil is neither reached from above nor off centre".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the foil {words} lies outside the range"));
            }
            if point.nominal <= Decimal::ZERO {
                return Some("a foil has a thickness: nothing at all is the bare base".into());
            }
        }
        measured_twice(plan, |point| keys::key_of("error", point))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| {
                let limits = [
                    Some(&self.mean_limit),
                    self.single_limit.as_ref(),
                    self.range_limit.as_ref(),
                    self.base_limit.as_ref(),
                    self.return_limit.as_ref(),
                ];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: (
        "foils",
        "Look at each against the light: no dent, no crease, no scratch. Scan or type the tag that is on their case.",
    ),
    make_ready: ("Make ready", "Make gauge and probe ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Coating;

impl Family for Coating {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Coating thickness on foils";

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
        Ok(evaluate::settle(plan, settings, run, step))
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
