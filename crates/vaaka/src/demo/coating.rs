//! The paint gauge of the coating laboratory, on foils over a bare base.

use rust_decimal::Decimal;
use serde_json::Value;
use vaaka_core::method::coating::{self, Settings, SettingsV1};
use vaaka_core::method::{Around, Limit, LimitForm, Place, RequiredSetting, SettingKind, Travel};

use super::gear::{Gear, Player, Story};
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// What the plan of a gauge says.
#[derive(Debug, Clone, Copy)]
pub struct CoatingPlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// Its foils.
    pub foils: &'static [&'static str],
    /// Its base.
    pub base: &'static str,
    /// Whether the base is rough, so that what it shows is taken off.
    pub rough: bool,
}

impl Player for CoatingPlan {
    fn method_key(&self) -> &'static str {
        coating::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "coating gauge"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.foils))
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self)?).map_err(fault)
    }
}

/// The gauges that are checked.
pub const COATING_GAUGES: [Gear; 1] = [Gear {
    tag: "C-21",
    name: "Paint thickness gauge",
    area: 3,
    unit: "µm",
    resolution: "1",
    maximum: "1500",
    serial: "VC-021",
    family: &CoatingPlan {
        cell: "magnetic, µm, blasted steel",
        foils: &["FS-1"],
        base: "BP-2",
        rough: true,
    },
    set: 0,
    minutes: 7,
    loads: &[
        ("50", Rising, Middle, 3, true, &["50"]),
        ("125", Rising, Middle, 3, false, &["125"]),
        ("500", Rising, Middle, 3, true, &["500"]),
    ],
    between: 1.4,
    within: 1.1,
    bias: 1.5,
    hysteresis: 0.0,
    work: None,
    any_of_kind: false,
    // Its tip wears round.
    story: Story::Drift { onset: 95.0, per_week: 0.0011 },
}];

/// Settings of the plan of a gauge.
pub fn settings(plan: &CoatingPlan) -> Result<Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let half = |half_width: &str| -> Result<Limit, AppError> {
        Ok(Limit::both(LimitForm::Absolute { half_width: decimal(half_width)? }))
    };
    Ok(Settings::V1(SettingsV1 {
        mean_limit: Limit::both(LimitForm::LargerOf {
            half_width: decimal("4")?,
            percent: decimal("3")?,
        }),
        single_limit: Some(Limit::both(LimitForm::LargerOf {
            half_width: decimal("8")?,
            percent: decimal("5")?,
        })),
        range_limit: Some(half("9")?),
        base_limit: Some(half("6")?),
        return_limit: Some(half("4")?),
        base: plan.base.to_owned(),
        base_readings: Decimal::from(5),
        take_off: plan.rough,
        again: true,
        around: Around {
            capture_saves: true,
            settings: vec![RequiredSetting {
                name: "the probe".into(),
                kind: Some(SettingKind::Exactly),
                expected: "Fe = magnetic = ferrous".into(),
                by_lead: false,
            }],
            conditions: vec![],
            waits: vec![],
            cautions: lines(&["Foils cut like paper: take them by the frame."]),
            preparation: lines(&[
                "Tip of the probe wiped; no grain of grit on it.",
                "Base and foils wiped dry, no dust between.",
            ]),
            closing: lines(&["Foils back in their case.", "Base oiled lightly and wrapped."]),
            fold_cautions: true,
            together: false,
        },
    }))
}
