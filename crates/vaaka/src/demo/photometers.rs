//! The photometers of the colour lab: one on grey filters, one with a curve of its own in each check.

use rust_decimal::Decimal;
use serde_json::Value;
use vaaka_core::method::assay::{self, Blank, CurveFrom, Settings, SettingsV1, Weighting};
use vaaka_core::method::gauge::{self, Presentation};
use vaaka_core::method::{
    Around, Limit, LimitForm, Place, RequiredSetting, SettingKind, Step, Travel, Wait,
};
use vaaka_core::quantity::to_f64;
use vaaka_core::round::DueRule;

use super::gauges::{Form, GaugePlan, gauge_settings};
use super::gear::{Gear, Moment, Player, Story};
use super::noise::Noise;
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// What the plan of an assay says.
#[derive(Debug, Clone, Copy)]
pub struct AssayPlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// Its solutions: those of the curve, those of the control.
    pub solutions: &'static [&'static str],
    /// Usual slope over one unit of concentration.
    pub slope: &'static str,
    /// Wavelength.
    pub wavelength: &'static str,
}

impl Player for AssayPlan {
    fn method_key(&self) -> &'static str {
        assay::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "photometer"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.solutions))
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self)?).map_err(fault)
    }

    fn shown(&self, gear: &Gear, step: &Step, now: &Moment<'_>, noise: &mut Noise) -> Option<f64> {
        Some(shown(gear, step, (now.left, now.disturbance), noise))
    }
}

/// What the plan of a photometer on filters says.
#[derive(Debug, Clone, Copy)]
pub struct FilterPlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// Its filters.
    pub filters: &'static [&'static str],
    /// The rest of it.
    pub gauge: GaugePlan,
}

impl Player for FilterPlan {
    fn method_key(&self) -> &'static str {
        gauge::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "photometer"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.filters))
    }

    fn due_rule(&self) -> DueRule {
        self.gauge.due
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(gauge_settings(&self.gauge)?).map_err(fault)
    }
}

const FILTERS: FilterPlan = FilterPlan {
    cell: "10 mm holder, Abs, 546 nm",
    filters: &["NF-1"],
    gauge: GaugePlan {
        presentation: Presentation::Inserted,
        mean_limit: (Form::LargerOf, "0.006", "1"),
        hysteresis_limit: None,
        settings: &[("the wavelength", "546 nm = 546"), ("the display", "absorbance = Abs = A")],
        conditions: &[],
        waits: &[("Let the lamp settle", 600, None)],
        pause_seconds: 0,
        cautions: &["Filters by their mount only; a finger on the glass is measured, too."],
        preparation: &["Empty holder in the beam, lid shut: zeroed.", "Filters free of dust."],
        closing: &["Filters back in their case."],
        due: DueRule::EachWeek,
    },
};

/// The photometers that are checked.
pub const PHOTOMETERS: [Gear; 2] = [
    Gear {
        tag: "C-11",
        name: "Varnish photometer",
        area: 3,
        unit: "Abs",
        resolution: "0.001",
        maximum: "3",
        serial: "VP-011",
        family: &FILTERS,
        set: 0,
        minutes: 6,
        loads: &[
            ("0.3", Rising, Middle, 3, true, &["light"]),
            ("0.6", Rising, Middle, 3, true, &["middle"]),
            ("1", Rising, Middle, 3, true, &["dark"]),
        ],
        between: 0.0014,
        within: 0.0007,
        bias: 0.001,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        // Knocked against the lamp housing, set straight two weeks later.
        story: Story::Knocked { knock: 75.0, step: -0.006, levelled: 60.0 },
    },
    Gear {
        tag: "C-12",
        name: "Tin bath photometer",
        area: 3,
        unit: "mg/L",
        resolution: "0.01",
        maximum: "10",
        serial: "VP-012",
        family: &AssayPlan {
            cell: "10 mm cell, mg/L, tin by 490 nm",
            solutions: &["TN-1", "TN-5"],
            slope: "0.152",
            wavelength: "490 nm = 490",
        },
        set: 0,
        minutes: 18,
        loads: &[
            ("1", Rising, Middle, 2, false, &["1"]),
            // The control is of another lot.
            ("5", Rising, Middle, 2, true, &["5"]),
            ("2", Rising, Middle, 2, false, &["2"]),
            ("4", Rising, Middle, 2, false, &["4"]),
            ("6", Rising, Middle, 2, false, &["6"]),
            ("8", Rising, Middle, 2, false, &["8"]),
        ],
        between: 0.004,
        within: 0.0015,
        bias: 0.0,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        // The bottle of the control is left open: what is in it thickens.
        story: Story::Drift { onset: 84.0, per_week: 0.0030 },
    },
];

/// Settings of the plan of an assay.
pub fn settings(plan: &AssayPlan) -> Result<Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let larger = |half_width: &str, percent: &str| -> Result<Limit, AppError> {
        let (half_width, percent) = (decimal(half_width)?, decimal(percent)?);
        Ok(Limit::both(LimitForm::LargerOf { half_width, percent }))
    };
    let setting = |name: &str, expected: &str| RequiredSetting {
        name: name.into(),
        kind: Some(SettingKind::Exactly),
        expected: expected.into(),
        by_lead: false,
    };
    Ok(Settings::V1(SettingsV1 {
        curve: CurveFrom::Measured,
        slope: decimal(plan.slope)?,
        intercept: None,
        kept_uncertainty: None,
        slope_band: decimal("8")?,
        through_origin: false,
        weighting: Weighting::Equal,
        blank: Blank::Point,
        blank_limit: Some(decimal("0.010")?),
        blank_readings: Decimal::TWO,
        absorbance_step: decimal("0.001")?,
        bends_above: Some(Decimal::ONE),
        linear_to: decimal("1.6")?,
        curve_limit: Some(larger("0.08", "3")?),
        control_limit: larger("0.1", "5")?,
        around: Around {
            capture_saves: false,
            settings: vec![
                setting("the wavelength", plan.wavelength),
                setting("the path of the cell", "10 mm = 10 = 1 cm"),
            ],
            conditions: vec![],
            waits: vec![Wait {
                what: "Let the lamp settle".into(),
                minimum_seconds: 900,
                maximum_seconds: None,
            }],
            cautions: lines(&[
                "Acid and tin salt: glasses and gloves on, spills wiped up at once.",
                "What was measured goes into the drum for tin, not down the drain.",
            ]),
            preparation: lines(&[
                "Reagent of this week, coloured solutions left to stand for ten minutes.",
                "Nothing in the beam, lid shut: the dark value taken.",
            ]),
            closing: lines(&[
                "Bottles shut and back in the cool cupboard.",
                "Cell rinsed with water, upside down on the rack.",
            ]),
            fold_cautions: true,
            together: false,
        },
    }))
}

/// What the photometer shows at a step, before rounding: the colour of the day is the same for all solutions; what thickens
/// is the control alone.
fn shown(gear: &Gear, step: &Step, (left, disturbance): (f64, f64), noise: &mut Noise) -> f64 {
    let usual = step.reference_value.map_or(0.0, to_f64);
    let thicker = match gear.story {
        Story::Drift { onset, per_week } if step.standard > 0 && left < onset => {
            per_week * (onset - left) / 7.0
        }
        _ => 0.0,
    };
    // Each filling of a solution is a little different.
    let filling = if usual > 0.0 { 1.0 + 0.0012 * noise.normal() } else { 1.0 };
    let foot = 0.002 + 0.1 * disturbance;
    foot + usual * (1.0 + 2.0 * disturbance + thicker) * filling + gear.within * noise.normal()
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::method::Input;
    use vaaka_core::quantity::Unit;

    fn step(standard: usize) -> Step {
        let input = Input::Reading {
            unit: Unit::Absorbance,
            resolution: decimal("0.001").unwrap(),
            expected: Decimal::ONE,
            guard: Decimal::ONE,
            guard_question: String::new(),
            beside: None,
        };
        Step {
            standard,
            reference_value: Some(decimal("0.759").unwrap()),
            ..Step::plain("solution", String::new(), String::new(), input)
        }
    }

    fn mean(gear: &Gear, standard: usize, left: f64) -> f64 {
        let mut noise = Noise::seeded(5);
        let step = step(standard);
        (0..400).map(|_| shown(gear, &step, (left, 0.0), &mut noise)).sum::<f64>() / 400.0
    }

    /// The control thickens from its onset on, and the standards of the curve do not.
    #[test]
    fn the_story_is_that_of_the_control_alone() {
        let gear = PHOTOMETERS.iter().find(|gear| gear.tag == "C-12").unwrap();
        for standard in [0, 1] {
            assert!((mean(gear, standard, 200.0) - 0.761).abs() < 5e-4);
        }
        assert!((mean(gear, 0, 0.0) - 0.761).abs() < 5e-4);
        // Twelve weeks of 3 in a thousand.
        assert!((mean(gear, 1, 0.0) / mean(gear, 1, 200.0) - 1.036).abs() < 1e-3);
    }

    #[test]
    fn its_settings_are_stored_and_read() {
        let stored = PHOTOMETERS[1].family.settings(&PHOTOMETERS[1]).unwrap();
        assert_eq!(stored["schema"], "assay-1");
        assert_eq!(stored["blank_readings"], "2");
    }
}
