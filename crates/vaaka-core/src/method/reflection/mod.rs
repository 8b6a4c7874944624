//! One port of a network analyzer: short, open and load from raw sweeps, and a piece of its own that proves them.
//!
//! The correction is computed here and not by the instrument, so that the check proves the instrument and not its menu
//! ([`crate::network::one_port_terms`]). The piece was not used to calibrate: its error is the vector Γ − Γ_C, whose real and imaginary parts
//! are judged and charted at each certified frequency; decibels of a small reflection are never charted, because they have no middle.
//! Between its points a sweep is read on a straight line.

mod evaluate;
mod keys;
mod kit;
mod live;
mod scene;
mod sheet;
mod way;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

pub use kit::KitSettings;

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{
    EntryValue, Family, Limit, Live, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step,
    Travel,
};
use crate::judgement::Characteristic;
use crate::quantity::{Dimension, to_f64};

/// Key of this method.
pub const KEY: &str = "reflection";

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "reflection-1")]
    V1(SettingsV1),
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// Tag of the kit.
    pub kit: String,
    /// Its standards by their models.
    #[serde(flatten)]
    pub models: KitSettings,
    /// How far a standard may be from its model, ± in either part.
    pub kit_limit: Decimal,
    /// How far apart two standards stand at least where something is certified.
    pub least_apart: Decimal,
    /// Longest step of a sweep, GHz.
    pub largest_step: Decimal,
    /// Limit of either part of the mean error vector.
    pub vector_limit: Limit,
    /// Limit of the range over reconnections; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.unit.dimension() != Dimension::Reflection {
            return Some("an error vector is a reflection: the instrument's unit is Γ".into());
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        let Some(first) = plan.points.first() else {
            return Some("a plan needs at least one certified value of the piece".into());
        };
        if self.kit.trim().is_empty() {
            return Some(
                "the tag of the kit is needed: it is taken and read before anything is measured"
                    .into(),
            );
        }
        for point in &plan.points {
            if keys::place_of(point).is_none() {
                let name = point.pieces.first().map_or("", |piece| piece.tag.as_str());
                return Some(format!(
                    "“{name}” names no frequency and part: name the values of the certificate like “2.4 GHz real” and “2.4 GHz imaginary”"
                ));
            }
            if point.repeats == 0 || point.repeats != first.repeats {
                return Some("all values come from the same sweeps of the piece: give all of them the same number of repeats".into());
            }
            if point.standard != first.standard {
                return Some("one sweep shows one piece: all values belong to the same".into());
            }
            if point.travel != Travel::Rising || point.pieces.len() != 1 {
                return Some("a certified reflection is one value, reached rising".into());
            }
        }
        let positive = [self.kit_limit, self.least_apart, self.largest_step];
        if positive.iter().any(|one| *one <= Decimal::ZERO) {
            return Some("what the kit may be off, how far its standards stand apart and the step of a sweep are greater than zero".into());
        }
        if self.least_apart >= Decimal::ONE {
            return Some("an open and a load stand 1 apart: the smallest separation of two standards is less than that".into());
        }
        measured_twice(plan, |point| keys::key_of("vector", point))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| self.models.fault())
            .or_else(|| self.fault_of_kit(plan))
            .or_else(|| {
                let limits = [Some(&self.vector_limit), self.range_limit.as_ref()];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }

    /// Standards that are alike where something is certified correct nothing there.
    fn fault_of_kit(&self, plan: &PlanSpec) -> Option<String> {
        frequencies(plan).into_iter().find_map(|gigahertz| {
            let [short, open, load] = self.models.at(to_f64(gigahertz) * 1e9)?;
            let least = (short - open).norm().min((short - load).norm()).min((open - load).norm());
            (least < to_f64(self.least_apart)).then(|| {
                format!("at {gigahertz} GHz two standards of the kit are alike by their models: nothing is corrected with them there")
            })
        })
    }
}

/// Frequencies at which something is certified, GHz, rising.
fn frequencies(plan: &PlanSpec) -> Vec<Decimal> {
    let mut all: Vec<Decimal> =
        plan.points.iter().filter_map(|point| Some(keys::place_of(point)?.0)).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: (
        "verification standard",
        "It verifies the calibration and takes no part in it. Inspect both connectors; scan or type the tag on it.",
    ),
    make_ready: ("Make ready", "Make analyzer and cable ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Reflections;

impl Family for Reflections {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Reflection by short, open and load";
    const ON_PAPER: bool = false;
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

    fn doubt(
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
        step: &Step,
        value: &EntryValue,
    ) -> Option<String> {
        live::doubt(plan, settings, run, step, value)
    }

    fn chart_key(point: &PlanPoint) -> String {
        keys::key_of("vector", point)
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
