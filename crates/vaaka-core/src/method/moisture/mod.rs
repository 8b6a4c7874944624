//! Moisture meters on reference material: the empty chamber first, then the material filled in n times.
//!
//! Error of each material E = M̄ − M_C, the mean of its fillings minus its certified moisture (VIM 2.16). A curve for one product says
//! nothing of another: product and curve are the cell. Where the volume of the container is stated, the mass of each filling is read
//! beside it, and the bulk density ρ = m/V is told by itself: it is that of a heap, not of its grains.

mod evaluate;
mod keys;
mod scene;
mod sheet;
mod way;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{Family, Limit, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;
use crate::quantity::Dimension;

/// Key of this method.
pub const KEY: &str = "moisture";

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "moisture-1")]
    V1(SettingsV1),
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Limit of what the empty chamber shows; recorded only where absent.
    pub empty_limit: Option<Limit>,
    /// Limit of the mean error of each material.
    pub mean_limit: Limit,
    /// Limit of every single filling; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// Limit of the range of the fillings; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// Volume of the container in cm³, where the mass of each filling is read.
    pub container_volume: Option<Decimal>,
    /// Shortest time between two fillings, in seconds.
    pub pause_seconds: u32,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.unit.dimension() != Dimension::MassFraction {
            return Some("moisture is a mass fraction: the instrument's unit is %".into());
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one material".into());
        }
        if self.container_volume.is_some_and(|volume| volume <= Decimal::ZERO) {
            return Some("the volume of the container is greater than zero".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            if point.repeats == 0 {
                return Some(format!("the material {nominal} is filled in at least once"));
            }
            if point.pieces.len() != 1 {
                return Some(format!("the material {nominal} is one bag: nothing is mixed"));
            }
            if point.travel != Travel::Rising {
                return Some("a filling is neither reached from above nor off centre".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the material {nominal} lies outside the range"));
            }
            if point.nominal > Decimal::ONE_HUNDRED || point.nominal < Decimal::ZERO {
                return Some(format!("{nominal} % is no moisture: it is a share of the wet mass"));
            }
        }
        measured_twice(plan, |point| keys::key_of("error", point))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| {
                let limits = [
                    self.empty_limit.as_ref(),
                    Some(&self.mean_limit),
                    self.single_limit.as_ref(),
                    self.range_limit.as_ref(),
                ];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: (
        "material",
        "Look when its bag was opened; it goes back into it at once. Scan or type the tag that is on it.",
    ),
    make_ready: ("Make ready", "Make the meter ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Moisture;

impl Family for Moisture {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Moisture on material";

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
