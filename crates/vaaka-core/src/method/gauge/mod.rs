//! Any other gauge: n points, each read m times, going up or both ways, against a reference.
//!
//! Error of indication E = I − R at each point and direction (VIM 2.16); hysteresis is the mean
//! falling minus the mean rising at one point. Limits stand on the mean and, where the plan says
//! so, apart on every reading.

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

/// Key of this method.
pub const KEY: &str = "gauge";

/// Settings of a gauge plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "gauge-1")]
    V1(SettingsV1),
}

/// How the reference comes to the gauge, which the drawing shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Presentation {
    /// The reference is set to a value (a pressure, a temperature) and the gauge follows.
    Applied,
    /// A piece is put into the gauge (a block between its faces).
    Inserted,
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// How the reference comes to the gauge.
    pub presentation: Presentation,
    /// Limit of the mean error at each point and direction.
    pub mean_limit: Limit,
    /// Limit of every single reading; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// Limit of the hysteresis; recorded only where absent.
    pub hysteresis_limit: Option<Limit>,
    /// Limit of the range of repeated readings; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
    /// Shortest time between two readings of one point, in seconds.
    pub pause_seconds: u32,
    /// Whether all points are read off one screen of the instrument, the standard staying where it is: the parameters of one
    /// solution, the coordinates of one tile. Each is kept as a reading of its own.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub points_together: bool,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.resolution <= Decimal::ZERO {
            return Some("the resolution must be greater than zero".into());
        }
        if plan.span() <= Decimal::ZERO {
            return Some("the range must end above where it begins".into());
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one point".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            if point.repeats == 0 {
                return Some(format!("the point {nominal} is read at least once"));
            }
            if point.travel == Travel::Corner {
                return Some("a gauge has no corners: a point is reached rising or falling".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the point {nominal} lies outside the range"));
            }
        }
        if let Some(words) = measured_twice(plan, |point| keys::key_of("error", point)) {
            return Some(words);
        }
        if self.points_together {
            let one_after_the_other = plan.points.iter().any(|point| {
                point.repeats > 1
                    || point.travel == Travel::Falling
                    || point.standard != plan.points[0].standard
            });
            if one_after_the_other || self.presentation == Presentation::Applied {
                return Some("points that are read off one screen are of one piece that stays where it is, and each is read once: one standard, no repeats, nothing falling, put into the gauge".into());
            }
        }
        self.around.fault(plan, true).or_else(|| {
            let limits = [
                Some(&self.mean_limit),
                self.single_limit.as_ref(),
                self.hysteresis_limit.as_ref(),
                self.range_limit.as_ref(),
            ];
            limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
        })
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: ("standard", "Scan or type the tag that is on it."),
    make_ready: ("Make ready", "Make the gauge ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Gauge;

impl Family for Gauge {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Gauge against a reference";
    const TRAVELS: &'static [Travel] = &[Travel::Rising, Travel::Falling];

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
}
