//! The design of a chart: its level, its sigma, and what counts as a signal.

use serde::{Deserialize, Serialize};

use super::{ControlLimits, Criterion, EwmaDesign};

/// λ of the drift watcher.
pub const EWMA_LAMBDA: f64 = 0.1;
/// Half-width of the individuals limits in the default design, in sigmas.
///
/// Limits at exactly 3σ alone give a false alarm every 370 checks, so together with a drift
/// watcher they can never reach the 500 that is asked for; see `docs/ARCHITECTURE.md`.
pub const DEFAULT_OUTER_MULTIPLIER: f64 = 3.25;
/// Width L of the drift watcher, tuned jointly with [`DEFAULT_OUTER_MULTIPLIER`].
pub const EWMA_WIDTH: f64 = 3.1;
/// Checks between false alarms of the default design on independent normal data, rounded down
/// to tens. Made by `tools/reference/control_constants.py`; a seeded simulation tests it.
pub const IN_CONTROL_RUN_LENGTH: f64 = 500.0;
/// As-found checks after an adjustment before the segment gets a level of its own.
pub const PROVISIONAL_POINTS: u32 = 5;

/// How the centre line of a segment is found.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Level {
    /// Frozen from a named baseline.
    Frozen {
        /// The centre line.
        center_line: f64,
    },
    /// After an adjustment: the target first, then the mean of the first
    /// [`PROVISIONAL_POINTS`] as-found checks, until a baseline is frozen.
    AfterAdjustment {
        /// What the adjustment aimed at, zero error as a rule.
        target: f64,
    },
}

/// Everything the fold needs to judge a segment's points.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChartDesign {
    /// Where the centre line comes from.
    pub level: Level,
    /// Standard deviation of the plotted statistic, after the resolution floor.
    pub sigma: f64,
    /// Half-width of the individuals limits, in sigmas.
    pub multiplier: f64,
    /// Half-width of the limits, in the unit of the chart; wider than `multiplier`·`sigma`
    /// while the resolution floor binds.
    pub half_width: f64,
    /// True while the resolution floor sets sigma or the width: zone rules are off then.
    pub resolution_floor: bool,
    /// The drift watcher.
    pub ewma: EwmaDesign,
    /// What raises a signal.
    pub raising: Vec<Criterion>,
    /// What is only mentioned until a lead turns it on.
    pub advisory: Vec<Criterion>,
}

impl ChartDesign {
    /// The default design over frozen limits: beyond the limits or the drift watcher raises a
    /// signal; both named rule sets are advisory.
    #[must_use]
    pub fn from_limits(limits: &ControlLimits) -> Self {
        Self {
            level: Level::Frozen { center_line: limits.center_line },
            sigma: limits.sigma,
            multiplier: limits.multiplier,
            half_width: limits.half_width(),
            resolution_floor: limits.resolution_floor,
            ewma: EwmaDesign { lambda: EWMA_LAMBDA, width: EWMA_WIDTH },
            raising: vec![Criterion::BeyondLimits, Criterion::Ewma],
            advisory: Criterion::named_sets(),
        }
    }

    /// The same design about another centre, for the segment after a change whose effect on the
    /// level is known (a standard certified anew, a crossover between lots).
    #[must_use]
    pub fn about(&self, center_line: f64) -> Self {
        Self { level: Level::Frozen { center_line }, ..self.clone() }
    }

    /// The same design for the segment after an adjustment: sigma is kept, the level starts at
    /// the target and is provisional.
    #[must_use]
    pub fn after_adjustment(&self, target: f64) -> Self {
        Self { level: Level::AfterAdjustment { target }, ..self.clone() }
    }
}
