//! The ultrasonic thickness gauges of the press hall: probe and material with their step block, their plan and their story.

use serde_json::Value;
use vaaka_core::method::ultrasonic::{self, SetOn, Settings, SettingsV1};
use vaaka_core::method::{
    Around, Bound, Limit, LimitForm, Place, Precondition, RequiredSetting, SettingKind, Travel,
};

use super::gear::{Gear, Player, Story};
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// What the plan of a gauge says.
#[derive(Debug, Clone, Copy)]
pub struct UltrasonicPlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// Its block.
    pub blocks: &'static [&'static str],
    /// Velocity in its material at 20 °C, its band in per cent, and how much it falls for each °C.
    pub velocity: [&'static str; 3],
    /// Steps on which it is set.
    pub set_on: &'static [&'static str],
    /// What it must show as its mode.
    pub mode: &'static str,
    /// Thinnest that counts.
    pub thinnest: &'static str,
}

impl Player for UltrasonicPlan {
    fn method_key(&self) -> &'static str {
        ultrasonic::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "ultrasonic gauge"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.blocks))
    }

    fn settings(&self, gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self, gear.resolution)?).map_err(fault)
    }
}

const PLATES: Gear = Gear {
    tag: "P-41",
    name: "Plate thickness gauge",
    area: 1,
    unit: "mm",
    resolution: "0.01",
    maximum: "200",
    serial: "VU-041",
    family: &UltrasonicPlan {
        cell: "5 MHz, 10 mm, mm, press plate steel",
        blocks: &["SB-5"],
        velocity: ["5934", "1", "0.8"],
        set_on: &["5", "20"],
        mode: "first echo = single echo = 1",
        thinnest: "2",
    },
    set: 0,
    minutes: 8,
    loads: &[
        ("2.5", Rising, Middle, 3, true, &["2.5"]),
        ("5", Rising, Middle, 2, false, &["5"]),
        ("10", Rising, Middle, 2, true, &["10"]),
        ("20", Rising, Middle, 2, true, &["20"]),
    ],
    between: 0.012,
    within: 0.006,
    bias: 0.01,
    hysteresis: 0.0,
    work: None,
    any_of_kind: false,
    // Its face wears hollow: thin steps are read thick.
    story: Story::Worn { onset: 110.0, per_week: 0.0041 },
};

/// The gauges that are checked.
pub const THICKNESS_GAUGES: [Gear; 2] = [
    PLATES,
    Gear {
        tag: "P-42",
        name: "Laminate thickness gauge",
        resolution: "0.001",
        maximum: "25",
        serial: "VU-042",
        family: &UltrasonicPlan {
            cell: "15 MHz delay, mm, laminate",
            blocks: &["SB-6"],
            velocity: ["3118", "2", "1.6"],
            set_on: &["0.8", "3.2"],
            mode: "interface to first echo = delay line = 2",
            thinnest: "0.5",
        },
        loads: &[
            ("0.8", Rising, Middle, 3, true, &["0.8"]),
            ("1.6", Rising, Middle, 3, true, &["1.6"]),
            ("3.2", Rising, Middle, 3, true, &["3.2"]),
        ],
        between: 0.004,
        within: 0.002,
        bias: -0.003,
        story: Story::Quiet,
        ..PLATES
    },
];

/// Settings of the plan of a gauge.
pub fn settings(plan: &UltrasonicPlan, resolution: &str) -> Result<Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let thin = resolution == "0.001";
    let (half_width, percent) = if thin { ("0.02", "1") } else { ("0.08", "0.5") };
    let [velocity, band, per_degree] = plan.velocity;
    let set_on = plan
        .set_on
        .iter()
        .map(|thickness| Ok(SetOn { thickness: decimal(thickness)? }))
        .collect::<Result<_, AppError>>()?;
    let setting = |name: &str, expected: &str| RequiredSetting {
        name: name.to_owned(),
        kind: Some(SettingKind::Exactly),
        expected: expected.to_owned(),
        by_lead: false,
    };
    let residual = if thin { "0.02" } else { "0.06" };
    Ok(Settings::V1(SettingsV1 {
        mean_limit: Limit::both(LimitForm::LargerOf {
            half_width: decimal(half_width)?,
            percent: decimal(percent)?,
        }),
        single_limit: None,
        range_limit: None,
        residual_limit: Some(Limit::both(LimitForm::Absolute { half_width: decimal(residual)? })),
        velocity: Some(decimal(velocity)?),
        velocity_band: Some(decimal(band)?),
        per_degree: Some(decimal(per_degree)?),
        set_on,
        thinnest: Some(decimal(plan.thinnest)?),
        around: Around {
            capture_saves: false,
            settings: if thin {
                vec![setting("the mode", plan.mode), setting("the unit on the display", "mm")]
            } else {
                vec![
                    setting("the mode", plan.mode),
                    setting("the path correction of the two elements", "on = yes = V"),
                    setting("the unit on the display", "mm"),
                ]
            },
            conditions: vec![Precondition {
                name: "Temperature of the block".into(),
                unit: "°C".into(),
                lower: Some(Bound::Fixed(decimal("10")?)),
                upper: Some(Bound::Fixed(decimal("35")?)),
                advice: "Let the block lie in the hall until it is between 10 and 35 °C.".into(),
                standard_temperature: true,
                half_width: Some(decimal("0.5")?),
            }],
            waits: vec![],
            cautions: lines(&[
                "Couplant on the floor is slippery: wipe up drops at once.",
                "What accepts or refuses a part that people's safety rests on is measured by certified personnel.",
            ]),
            preparation: lines(&[
                "Face of the probe looked at against the light: flat, whole, no groove.",
                "Couplant fresh: it wets the block and does not run off in beads.",
            ]),
            closing: lines(&[
                "Probe and block wiped dry; the block oiled and back in its box.",
                "Gauge as it was found: nothing was set anew.",
            ]),
            fold_cautions: true,
            together: false,
        },
    }))
}
