//! Photometric assays: a calibration curve from standards, and control solutions read back by it.
//!
//! Absorbances A of standards of concentration c make a line A = a + b·c by weighted least squares (ISO 8466-1, ISO 11095; Draper and
//! Smith 1998, §§ 1.4, 3.2; from memory). A control of another lot is read back, ĉ = (Ā − a)/b, and its error is ĉ − c_C. Where the plan
//! keeps a curve that was made before, blank and controls alone are read: a version of the plan is a version of the curve, with its
//! author. Slope and intercept are charted by themselves: a tired lamp, a stray blank and a wrong lot are told apart there.

mod curve;
mod evaluate;
mod keys;
mod live;
mod scene;
mod sheet;
mod way;

use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use serde::{Deserialize, Serialize};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{Family, Limit, Live, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;
use crate::quantity::{Dimension, show_decimal};

/// Key of this method.
pub const KEY: &str = "assay";

/// How often a blank may be read at most.
const MOST_READINGS: u32 = 20;

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "assay-1")]
    V1(SettingsV1),
}

/// Where the curve comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CurveFrom {
    /// The points of the first standard make it, in each check.
    Measured,
    /// It was made before: every point is a control.
    Kept,
}

/// What the blank is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Blank {
    /// A point of the curve, at nothing.
    Point,
    /// Its mean is taken off every absorbance.
    Subtracted,
}

/// How much a standard weighs in the fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Weighting {
    /// All alike: the scatter of absorbance is the same everywhere.
    Equal,
    /// 1/c: its variance grows with the concentration.
    ByConcentration,
    /// 1/c²: it grows with the concentration itself.
    BySquare,
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Where the curve comes from.
    pub curve: CurveFrom,
    /// Usual slope of the absorbance over one unit of concentration; of a kept curve its own.
    pub slope: Decimal,
    /// Intercept of a kept curve, in absorbance.
    pub intercept: Option<Decimal>,
    /// Relative standard uncertainty of a kept curve, in per cent.
    pub kept_uncertainty: Option<Decimal>,
    /// How far the slope may be from the usual one, ± %.
    pub slope_band: Decimal,
    /// Whether the line is held to the origin.
    pub through_origin: bool,
    /// How much a standard weighs.
    pub weighting: Weighting,
    /// What the blank is.
    pub blank: Blank,
    /// Limit of the blank, ± so much absorbance; recorded only where absent.
    pub blank_limit: Option<Decimal>,
    /// How often the blank is read.
    pub blank_readings: Decimal,
    /// Smallest step of the absorbance.
    pub absorbance_step: Decimal,
    /// From this absorbance on it is said that curves bend; nothing is said where absent.
    pub bends_above: Option<Decimal>,
    /// Highest absorbance at which the instrument is linear.
    pub linear_to: Decimal,
    /// Limit of what each standard of the curve reads back; recorded only where absent.
    pub curve_limit: Option<Limit>,
    /// Limit of the error of each control.
    pub control_limit: Limit,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn readings_of_blank(&self) -> u32 {
        self.blank_readings.to_u32().unwrap_or(1)
    }

    /// Whether a point is read back by the curve, and is not of it: a control is another standard than the one that makes the curve.
    fn is_control(&self, point: &PlanPoint) -> bool {
        self.curve == CurveFrom::Kept || point.standard > 0
    }

    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        let unit = plan.unit.dimension();
        if unit != Dimension::MassConcentration && unit != Dimension::MassFraction {
            return Some(
                "an assay tells a concentration: the instrument's unit is mg/L, g/L or %".into(),
            );
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one solution".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            let words = show_decimal(nominal, nominal.scale());
            if point.repeats == 0 {
                return Some(format!("the solution {words} is read at least once"));
            }
            if point.pieces.len() != 1 {
                return Some(format!("the solution {words} is one solution: nothing is mixed"));
            }
            if point.travel != Travel::Rising {
                return Some("a solution is neither reached from above nor off centre".into());
            }
            if nominal <= Decimal::ZERO {
                return Some("nothing in it is the blank, which is read by itself".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the solution {words} lies outside the range"));
            }
        }
        self.fault_of_numbers()
            .or_else(|| self.fault_of_curve(plan))
            .or_else(|| measured_twice(plan, |point| keys::key_of("error", point)))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| {
                let limits = [Some(&self.control_limit), self.curve_limit.as_ref()];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }

    fn fault_of_numbers(&self) -> Option<String> {
        let positive = [self.slope, self.slope_band, self.absorbance_step, self.linear_to];
        if positive.iter().any(|one| *one <= Decimal::ZERO) {
            return Some("slope, its band, the step of the absorbance and the end of the linear range are greater than zero".into());
        }
        if self.slope_band >= Decimal::ONE_HUNDRED {
            return Some("the band of the slope is less than 100 %".into());
        }
        let readings = self.blank_readings;
        if !readings.fract().is_zero()
            || !(Decimal::ONE..=Decimal::from(MOST_READINGS)).contains(&readings)
        {
            return Some(format!("the blank is read once to {MOST_READINGS} times"));
        }
        let negative = |value: &Option<Decimal>| value.is_some_and(|value| value < Decimal::ZERO);
        if [&self.blank_limit, &self.bends_above, &self.kept_uncertainty].into_iter().any(negative)
        {
            return Some(
                "a limit of the blank, an absorbance and an uncertainty are not negative".into(),
            );
        }
        (self.bends_above.is_some_and(|bends| bends >= self.linear_to)).then(|| {
            "a curve is said to bend below the end of the linear range, not above it".into()
        })
    }

    fn fault_of_curve(&self, plan: &PlanSpec) -> Option<String> {
        if self.curve == CurveFrom::Kept {
            return None;
        }
        if self.intercept.is_some() || self.kept_uncertainty.is_some() {
            return Some("a curve that is measured tells its intercept and its uncertainty itself: leave both empty".into());
        }
        if self.blank == Blank::Point && (self.weighting != Weighting::Equal || self.through_origin)
        {
            return Some("a blank that is a point of the curve has no weight by its concentration, and says nothing of a line held to the origin: subtract it from every reading".into());
        }
        let of_curve = || {
            plan.points.iter().filter(|point| !self.is_control(point)).map(|point| point.nominal)
        };
        if of_curve().count() < 2 {
            return Some(
                "a curve needs two solutions of the first standard at least; five are good".into(),
            );
        }
        let (Some(lowest), Some(highest)) = (of_curve().min(), of_curve().max()) else {
            return None;
        };
        if self.slope * highest > self.linear_to {
            return Some(
                "by the usual slope the highest standard lies above the end of the linear range"
                    .into(),
            );
        }
        // A line that is known at nothing is known from there on.
        let from = match self.blank == Blank::Point || self.through_origin {
            true => Decimal::ZERO,
            false => lowest,
        };
        plan.points.iter().filter(|point| self.is_control(point)).find_map(|point| {
            let inside = |value: Decimal| value >= from && value <= highest;
            let limits = self.control_limit.limits(point.nominal, plan);
            let ends = limits.iter().flat_map(|limits| [limits.lower, limits.upper]).flatten();
            let mut all = ends.map(|end| point.nominal + end).chain([point.nominal]);
            let words = show_decimal(point.nominal.normalize(), point.nominal.normalize().scale());
            (!all.all(inside)).then(|| {
                format!("the control {words} with its limit reaches beyond the curve, where no result is given")
            })
        })
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: (
        "set of solutions",
        "At room temperature, turned over, not past its date. Scan or type the tag that is on it.",
    ),
    make_ready: ("Make ready", "Make the instrument ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Assay;

impl Family for Assay {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Photometric assay";
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
        way::settle(plan, settings, run, step)
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
        live::live(plan, settings, run)
    }
}
