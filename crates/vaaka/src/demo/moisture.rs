//! The moisture meters of the press hall: each product's curve with its material, its plan and its story.

use serde_json::Value;
use vaaka_core::method::moisture::{self, Settings, SettingsV1};
use vaaka_core::method::{Around, Limit, LimitForm, Place, RequiredSetting, SettingKind, Travel};

use super::gear::{Gear, Player, Story};
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// What the plan of a curve says.
#[derive(Debug, Clone, Copy)]
pub struct MoisturePlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// Its material.
    pub materials: &'static [&'static str],
    /// What the meter must show as its curve.
    pub curve: &'static str,
    /// Volume of the container in cm³, where fillings are weighed.
    pub volume: Option<&'static str>,
}

impl Player for MoisturePlan {
    fn method_key(&self) -> &'static str {
        moisture::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "moisture meter"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.materials))
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self)?).map_err(fault)
    }
}

const LIGHT_CLOTH: Gear = Gear {
    tag: "P-31",
    name: "Cloth moisture meter, 48 g",
    area: 1,
    unit: "%",
    resolution: "0.01",
    maximum: "20",
    serial: "VM-031",
    family: &MoisturePlan {
        cell: "chamber, %, glass cloth 48 g",
        materials: &["MM-1"],
        curve: "glass cloth 48 = GC48",
        volume: Some("250"),
    },
    set: 0,
    minutes: 11,
    loads: &[("6", Rising, Middle, 3, true, &["bag"])],
    between: 0.04,
    within: 0.05,
    bias: 0.05,
    hysteresis: 0.0,
    work: None,
    any_of_kind: false,
    // What stays in the chamber is measured with every filling.
    story: Story::Drift { onset: 48.0, per_week: 0.0022 },
};

/// The curves that are checked.
pub const METERS: [Gear; 3] = [
    LIGHT_CLOTH,
    Gear {
        name: "Cloth moisture meter, 200 g",
        family: &MoisturePlan {
            cell: "chamber, %, glass cloth 200 g",
            materials: &["MM-2"],
            curve: "glass cloth 200 = GC200",
            volume: None,
        },
        minutes: 8,
        loads: &[("4", Rising, Middle, 3, true, &["bag"])],
        bias: -0.03,
        story: Story::Quiet,
        ..LIGHT_CLOTH
    },
    Gear {
        tag: "P-32",
        name: "Cloth moisture meter, stores",
        serial: "VM-032",
        family: &MoisturePlan {
            cell: "as installed",
            materials: &["MM-1"],
            curve: "glass cloth 48 = GC48",
            volume: None,
        },
        minutes: 8,
        bias: 0.02,
        story: Story::Quiet,
        ..LIGHT_CLOTH
    },
];

/// Settings of the plan of a curve.
pub fn settings(plan: &MoisturePlan) -> Result<Settings, AppError> {
    let half = |half_width: &str| -> Result<Limit, AppError> {
        Ok(Limit::both(LimitForm::Absolute { half_width: decimal(half_width)? }))
    };
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    Ok(Settings::V1(SettingsV1 {
        empty_limit: Some(half("0.05")?),
        mean_limit: half("0.3")?,
        single_limit: Some(half("0.5")?),
        range_limit: Some(half("0.4")?),
        container_volume: plan.volume.map(decimal).transpose()?,
        pause_seconds: 30,
        around: Around {
            capture_saves: false,
            settings: vec![
                RequiredSetting {
                    name: "what it shows after switching on".into(),
                    kind: Some(SettingKind::Exactly),
                    expected: "ready".into(),
                    by_lead: false,
                },
                RequiredSetting {
                    name: "the curve".into(),
                    kind: Some(SettingKind::Exactly),
                    expected: plan.curve.into(),
                    by_lead: false,
                },
            ],
            conditions: vec![],
            waits: vec![],
            cautions: lines(&[
                "Glass cloth sheds fibres: gloves on, sleeves down, no rubbing of eyes.",
            ]),
            preparation: lines(&[
                "Chamber brushed out; empty and untouched when it was switched on.",
                "Meter as warm as the hall: not carried in from outside within the last ten minutes.",
            ]),
            closing: lines(&["Chamber brushed out.", "Material back in its bag, bag shut."]),
            fold_cautions: true,
            together: false,
        },
    }))
}
