//! Wavelength scale of a spectrophotometer: a filter or solution with certified peaks is scanned n times, and the core finds
//! each peak in the trace, so that the check proves the instrument and not the peak search of its menu.
//!
//! Error of each peak E = λ − λ_R, its position in the trace minus its certified wavelength (VIM 2.16). Certified positions
//! hold for a spectral slit width, which is a setting of the plan.

mod evaluate;
mod keys;
mod scene;
mod sheet;
mod way;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{Family, Limit, Live, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step, Travel};
use crate::judgement::Characteristic;
use crate::quantity::{Dimension, to_f64};
use crate::trace::{Extreme, PositionBy};

/// Key of this method.
pub const KEY: &str = "spectrum";

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "spectrum-1")]
    V1(SettingsV1),
}

/// Which way the peaks of the standard stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Quantity {
    /// Absorbance: they stand up.
    Absorbance,
    /// Transmittance in per cent: they hang down.
    Transmittance,
}

impl Quantity {
    fn name(self) -> &'static str {
        match self {
            Self::Absorbance => "absorbance",
            Self::Transmittance => "transmittance",
        }
    }

    fn unit(self) -> &'static str {
        match self {
            Self::Absorbance => "",
            Self::Transmittance => "%",
        }
    }

    fn extreme(self) -> Extreme {
        match self {
            Self::Absorbance => Extreme::Highest,
            Self::Transmittance => Extreme::Lowest,
        }
    }
}

/// What is taken for the position of a peak.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PeakBy {
    /// Vertex of a parabola through its top.
    Parabola,
    /// Centroid of its upper half.
    Centroid,
}

impl PeakBy {
    fn position(self) -> PositionBy {
        match self {
            Self::Parabola => PositionBy::Parabola,
            Self::Centroid => PositionBy::Centroid,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::Parabola => "vertex of a parabola through the top tenth",
            Self::Centroid => "centroid of the upper half",
        }
    }
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// What is measured.
    pub quantity: Quantity,
    /// What is taken for the position of a peak.
    pub peak_by: PeakBy,
    /// How far to either side of its certified wavelength a peak is looked for.
    pub window: Decimal,
    /// How far a peak of the standard stands off its feet at least, in absorbance or per cent: mere noise is none.
    pub least_height: Decimal,
    /// Longest step of a scan.
    pub largest_step: Decimal,
    /// Limit of the mean error of each peak.
    pub position_limit: Limit,
    /// Limit of the range of repeated scans; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.unit.dimension() != Dimension::Length {
            return Some("a wavelength is a length: the instrument's unit is nm or µm".into());
        }
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        let Some(first) = plan.points.first() else {
            return Some("a plan needs at least one peak".into());
        };
        if [self.largest_step, self.window, self.least_height]
            .iter()
            .any(|one| *one <= Decimal::ZERO)
        {
            return Some("the step of a scan, the half-width of the search and the height of a peak are greater than zero".into());
        }
        // Five points around a peak, and its feet.
        if self.window < self.largest_step * Decimal::from(4) {
            return Some("a peak is looked for at least four steps to either side: widen the search, or scan with smaller steps".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            if point.repeats == 0 || point.repeats != first.repeats {
                return Some("every peak is read from the same scans: give all of them the same number of repeats".into());
            }
            if point.standard != first.standard {
                return Some("one scan shows one standard: all peaks belong to the same".into());
            }
            if point.travel != Travel::Rising || point.pieces.len() > 1 {
                return Some(format!(
                    "the peak at {nominal} is one certified wavelength, reached rising"
                ));
            }
            let inside = |end: Decimal| end >= plan.range_low && end <= plan.maximum;
            if !inside(point.nominal - self.window) || !inside(point.nominal + self.window) {
                return Some(format!(
                    "the search for the peak at {nominal} reaches beyond the range of the instrument"
                ));
            }
            // What lies at the end of the search is taken for a failure, so that it must be one.
            let limits = self.position_limit.limits(point.nominal, plan);
            let ends = limits.iter().flat_map(|limits| [limits.lower, limits.upper]).flatten();
            if ends.into_iter().any(|end| end.abs() >= self.window) {
                return Some(format!(
                    "the peak at {nominal} is looked for no further than its limit: widen the search"
                ));
            }
        }
        measured_twice(plan, |point| keys::key_of("position", point))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| {
                let limits = [Some(&self.position_limit), self.range_limit.as_ref()];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }

    /// Half-width of the search.
    fn half_width(&self) -> f64 {
        to_f64(self.window)
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: ("standard", "Hold it by its mount; scan or type the tag that is on it."),
    make_ready: ("Make ready", "Make the instrument ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Spectrum;

impl Family for Spectrum {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Peaks of a spectrum";
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

    fn chart_key(point: &PlanPoint) -> String {
        keys::key_of("position", point)
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
