//! The design of a chart: its level, its sigma, and what counts as a signal.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{
    ControlLimits, Criteria, Criterion, CusumDesign, EwmaDesign, Lines, SigmaSource, Spread,
    SubgroupStudy,
};

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
/// Share of a level's variance by which limits about it are widened. With all of it the limits of a single check
/// would be right and those of many too wide, since the level's error is the same in all of them: with this share 18 % of
/// charts signal falsely within a hundred checks, as with a known level, whatever its variance up to a fifth
/// (`tests/estimated_limits.rs` simulates it).
pub const LEVEL_SHARE: f64 = 0.62;
/// As-found checks after an adjustment before the segment gets a level of its own.
pub const PROVISIONAL_POINTS: u32 = 5;

/// How the centre line of a segment is found.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Level {
    /// Frozen from a named baseline, or given.
    Frozen {
        /// The centre line.
        center_line: f64,
    },
    /// After an adjustment: the target first, then the mean of the first
    /// [`PROVISIONAL_POINTS`] as-found checks, until a baseline is frozen.
    AfterAdjustment {
        /// What the adjustment aimed at, zero error as a rule.
        target: f64,
        /// Variance of the level about it, in σ²: that of the estimate by which was corrected. None where nothing is
        /// known of it; then the first as-founds are taken alone.
        #[serde(default)]
        variance: Option<f64>,
    },
}

impl Level {
    /// The level after `count` as-founds of sum `sum` (at most [`PROVISIONAL_POINTS`] are taken) and its variance in σ²:
    /// (target/v + Σx)/(1/v + n) and 1/(1/v + n), the posterior of a normal level.
    pub(super) fn after(self, count: u32, sum: f64) -> (f64, f64) {
        match self {
            Self::Frozen { center_line } => (center_line, 0.0),
            Self::AfterAdjustment { target, variance } if count < PROVISIONAL_POINTS => {
                (target, variance.unwrap_or(0.0))
            }
            Self::AfterAdjustment { target, variance } => {
                let n = f64::from(PROVISIONAL_POINTS);
                match variance.filter(|v| *v > 0.0) {
                    Some(v) => ((target / v + sum) / (1.0 / v + n), 1.0 / (1.0 / v + n)),
                    None => (sum / n, 1.0 / n),
                }
            }
        }
    }
}

/// What the limits rest on; the chart's label says it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LimitBasis {
    /// A frozen baseline of this instrument.
    #[default]
    Baseline,
    /// A target and a sigma that were given.
    Given,
    /// The certified value and its uncertainty beside a given sigma.
    Certificate,
    /// A share of the tolerance, or an owner's lines: action lines. They are no control limits: no
    /// watcher, no run rules, no run length, another drawing.
    ActionLines,
    /// Standardised levels of one check together: the furthest of several values is not normal, so that
    /// no watcher and no run rule means anything here.
    Levels,
}

impl LimitBasis {
    /// The criteria that mean something about such limits.
    #[must_use]
    pub fn allows(self) -> Criteria {
        use Criterion as C;
        match self {
            Self::Baseline | Self::Given | Self::Certificate => C::ALL.into_iter().collect(),
            Self::ActionLines => Criteria::NONE.with(C::BeyondLimits),
            Self::Levels => [
                C::BeyondLimits,
                C::Beyond3,
                C::WarningBeyond2,
                C::TwoLevelsBeyond2,
                C::LevelsFourApart,
            ]
            .into_iter()
            .collect(),
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Baseline => "a frozen baseline",
            Self::Given => "a given target and sigma",
            Self::Certificate => "the certified value and a given sigma",
            Self::ActionLines => "action lines",
            Self::Levels => "all levels of a check, each in its own sigmas",
        }
    }
}

/// Between and within, for limits of means of unequal numbers of readings: σ²(n) = σ_b² + σ_w²/n.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Components {
    /// Standard deviation between checks beside that of their readings, σ_b.
    pub between: f64,
    /// Standard deviation of a reading within a check, σ_w.
    pub within: f64,
    /// Readings for which `sigma` of the design stands.
    pub readings: u32,
}

impl Components {
    /// σ(n)/σ(readings).
    #[must_use]
    pub fn scale(&self, n: u32) -> f64 {
        let of = |n: u32| self.between.hypot(self.within / f64::from(n.max(1)).sqrt());
        let own = of(self.readings);
        if own > 0.0 { of(n) / own } else { 1.0 }
    }
}

/// The chart of the scatter within checks. It has limits only: no watcher, no run rules.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SpreadDesign {
    /// Standard deviation of a reading within a check.
    pub within: f64,
    /// What is drawn.
    pub by: Spread,
    /// Half-width of its limits, in its own standard deviations.
    pub multiplier: f64,
}

impl SpreadDesign {
    /// Limits for `n` readings; none for a single one, or for more than the constants are kept for.
    #[must_use]
    pub fn lines(&self, n: u32) -> Option<Lines> {
        let study = SubgroupStudy { center: 0.0, within: self.within, between: 0.0, checks: 0 };
        study.spread_lines(n as usize, self.by, self.multiplier)
    }
}

/// Which criteria held until a time: rules are switched for what comes, never for what was judged.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct EarlierRules {
    /// Points measured before this.
    pub until: Timestamp,
    /// What raised a signal.
    pub raising: Criteria,
    /// What was only mentioned.
    pub advisory: Criteria,
}

/// The baseline that limits were estimated from, as far as it says how sure they are.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct FromBaseline {
    /// Check means.
    pub points: usize,
    /// How sigma was estimated.
    pub source: SigmaSource,
    /// How much neighbouring checks resemble each other, ρ; zero where it is not told from none.
    pub autocorrelation: f64,
    /// Degrees of freedom of the scatter within checks; none where nothing was repeated.
    pub within_degrees_of_freedom: Option<f64>,
}

impl FromBaseline {
    /// Degrees of freedom of sigma: 0.62(n − 1) for a mean moving range (its variance beside that of χ; simulated,
    /// `tests/estimated_limits.rs`), n − 1 for a standard deviation, times (1 − ρ²)/(1 + ρ²) where neighbours resemble
    /// each other (Bartlett 1946, for the variance of a first-order autoregression; from memory). None for a sigma
    /// that was not estimated.
    #[must_use]
    pub fn degrees_of_freedom(&self) -> Option<f64> {
        let n = self.points.saturating_sub(1).max(1) as f64;
        let rho = self.autocorrelation;
        match self.source {
            SigmaSource::MovingRange => Some(0.62 * n),
            SigmaSource::SampleStdDev => Some((n * (1.0 - rho * rho) / (1.0 + rho * rho)).max(1.0)),
            SigmaSource::Resolution | SigmaSource::Given => None,
        }
    }

    /// ρ from the lag-one autocorrelation r of n values: nothing where it is not told from none, |r| ≤ 2/√n, or
    /// below zero; else r + (1 + 3r)/n, since r comes out too small by that (Kendall 1954; from memory).
    #[must_use]
    pub fn resemblance(r: f64, points: usize) -> f64 {
        let n = points.max(1) as f64;
        if r.is_nan() || r <= 2.0 / n.sqrt() { 0.0 } else { (r + (1.0 + 3.0 * r) / n).min(0.95) }
    }
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
    /// Distance of the lower limit from the centre, in the unit of the chart; more than
    /// `multiplier`·`sigma` while the resolution floor binds.
    pub below: f64,
    /// Distance of the upper limit from the centre.
    pub above: f64,
    /// True while the resolution floor sets sigma or the width: zone rules are off then.
    pub resolution_floor: bool,
    /// What the limits rest on.
    #[serde(default)]
    pub basis: LimitBasis,
    /// For checks of unequal numbers of readings.
    #[serde(default)]
    pub components: Option<Components>,
    /// The chart of the scatter within checks.
    #[serde(default)]
    pub spread: Option<SpreadDesign>,
    /// The drift watcher.
    pub ewma: EwmaDesign,
    /// The cumulative sums.
    #[serde(default)]
    pub cusum: CusumDesign,
    /// What raises a signal.
    pub raising: Criteria,
    /// What is only mentioned until a lead turns it on.
    pub advisory: Criteria,
    /// What held before, oldest first.
    #[serde(default)]
    pub earlier: Vec<EarlierRules>,
    /// The baseline that sigma and centre were estimated from; none where they were given.
    #[serde(default)]
    pub estimated: Option<FromBaseline>,
}

impl ChartDesign {
    /// Whether the control limits reach beyond a tolerance: then the instrument, doing what it normally does,
    /// cannot hold it.
    #[must_use]
    pub fn reaches_beyond(&self, lower: Option<f64>, upper: Option<f64>) -> bool {
        let Level::Frozen { center_line } = self.level else { return false };
        self.basis != LimitBasis::Levels
            && (lower.is_some_and(|lower| center_line - self.below < lower)
                || upper.is_some_and(|upper| center_line + self.above > upper))
    }

    /// The default design over frozen limits: beyond the limits or the drift watcher raises a
    /// signal; both named rule sets, the cumulative sums and the scatter within checks are advisory.
    #[must_use]
    pub fn from_limits(limits: &ControlLimits) -> Self {
        Self {
            below: limits.center_line - limits.lower_control_limit,
            above: limits.upper_control_limit - limits.center_line,
            multiplier: limits.multiplier,
            resolution_floor: limits.resolution_floor,
            ..Self::given(limits.center_line, limits.sigma)
        }
    }

    /// The default design about a given centre with a given sigma.
    #[must_use]
    pub fn given(center_line: f64, sigma: f64) -> Self {
        let half = DEFAULT_OUTER_MULTIPLIER * sigma;
        Self {
            level: Level::Frozen { center_line },
            sigma,
            multiplier: DEFAULT_OUTER_MULTIPLIER,
            below: half,
            above: half,
            resolution_floor: false,
            basis: LimitBasis::Baseline,
            components: None,
            spread: None,
            ewma: EwmaDesign { lambda: EWMA_LAMBDA, width: EWMA_WIDTH },
            cusum: CusumDesign::default(),
            raising: [Criterion::BeyondLimits, Criterion::Ewma].into_iter().collect(),
            advisory: Criterion::named_sets().with(Criterion::Cusum).with(Criterion::Spread),
            earlier: vec![],
            estimated: None,
        }
    }

    /// Action lines: limits that somebody set, and nothing else.
    #[must_use]
    pub fn action_lines(lower: f64, center_line: f64, upper: f64) -> Self {
        Self {
            below: center_line - lower,
            above: upper - center_line,
            // Nothing is held against this sigma; it only keeps the scale of the fold sound.
            sigma: ((upper - lower) / 2.0).max(f64::MIN_POSITIVE),
            multiplier: 1.0,
            basis: LimitBasis::ActionLines,
            raising: Criteria::NONE.with(Criterion::BeyondLimits),
            advisory: Criteria::NONE,
            ..Self::given(center_line, 1.0)
        }
    }

    /// The chart of all levels of a check together, in sigmas: limits at ±3, the rules across levels.
    #[must_use]
    pub fn levels() -> Self {
        Self {
            multiplier: 3.0,
            below: 3.0,
            above: 3.0,
            basis: LimitBasis::Levels,
            raising: [Criterion::Beyond3, Criterion::TwoLevelsBeyond2, Criterion::LevelsFourApart]
                .into_iter()
                .collect(),
            advisory: Criteria::NONE.with(Criterion::WarningBeyond2),
            ..Self::given(0.0, 1.0)
        }
    }

    /// The same design about another centre, for the segment after a change whose effect on the
    /// level is known (a standard certified anew, a crossover between lots).
    #[must_use]
    pub fn about(&self, center_line: f64) -> Self {
        Self { level: Level::Frozen { center_line }, earlier: vec![], ..self.clone() }
    }

    /// The same design for the segment after an adjustment: sigma is kept, the level starts at
    /// the target and is provisional. Action lines stay where their owner set them.
    #[must_use]
    pub fn after_adjustment(&self, target: f64) -> Self {
        self.after_correction(target, None)
    }

    /// The same where it is known how sure the level was by which was corrected: `std_dev` in the unit of the chart.
    #[must_use]
    pub fn after_correction(&self, target: f64, std_dev: Option<f64>) -> Self {
        let variance = std_dev.map(|own| (own / self.sigma).powi(2)).filter(|v| v.is_finite());
        match self.basis {
            LimitBasis::ActionLines | LimitBasis::Levels => {
                Self { earlier: vec![], ..self.clone() }
            }
            _ => Self {
                level: Level::AfterAdjustment { target, variance },
                earlier: vec![],
                ..self.clone()
            },
        }
    }

    /// The same design with other rules from a moment on; what was judged before keeps its own.
    #[must_use]
    pub fn with_rules(&self, raising: Criteria, advisory: Criteria, from: Timestamp) -> Self {
        let mut earlier = self.earlier.clone();
        earlier.push(EarlierRules { until: from, raising: self.raising, advisory: self.advisory });
        Self { raising, advisory: advisory.without(raising), earlier, ..self.clone() }
    }

    /// What raises and what is mentioned at a moment.
    #[inline]
    pub(super) fn rules_at(&self, at: Timestamp) -> (Criteria, Criteria) {
        if self.earlier.is_empty() {
            return (self.raising, self.advisory);
        }
        let then = self.earlier.iter().find(|earlier| at < earlier.until);
        then.map_or((self.raising, self.advisory), |then| (then.raising, then.advisory))
    }

    /// Everything that is raised or mentioned now.
    pub(super) fn wanted(&self) -> Criteria {
        let wanted = self.raising.or(self.advisory).both(self.basis.allows());
        if self.resolution_floor { wanted.without_zones() } else { wanted }
    }

    /// Whether its points are watched by averages and sums: action lines are lines only.
    #[must_use]
    pub fn is_statistical(&self) -> bool {
        !matches!(self.basis, LimitBasis::ActionLines | LimitBasis::Levels)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A design that was stored before there were lower and upper limits apart would not read; the
    /// migration writes both. What is new and not there has its default.
    #[test]
    fn a_stored_design_reads_back() {
        let design = ChartDesign::given(1.0, 2.0);
        let mut stored = serde_json::to_value(&design).unwrap();
        for name in ["basis", "components", "spread", "cusum", "earlier", "estimated"] {
            stored.as_object_mut().unwrap().remove(name);
        }
        assert_eq!(serde_json::from_value::<ChartDesign>(stored).unwrap(), design);
    }

    #[test]
    fn rules_are_switched_for_what_comes() {
        let at = |second| Timestamp::from_second(second).unwrap();
        let design = ChartDesign::given(0.0, 1.0);
        let zones: Criteria = [Criterion::TwoOfThree].into_iter().collect();
        let later = design.with_rules(zones, design.advisory, at(100));
        assert_eq!(later.rules_at(at(99)), (design.raising, design.advisory));
        assert_eq!(later.rules_at(at(100)), (zones, design.advisory.without(zones)));
        // Another segment has nothing behind it.
        assert!(
            later.about(1.0).earlier.is_empty() && later.after_adjustment(0.0).earlier.is_empty()
        );
    }

    #[test]
    fn means_of_more_readings_have_narrower_limits() {
        let components = Components { between: 3.0, within: 8.0, readings: 4 };
        // √(9 + 16) = 5 for four readings, √(9 + 64) for one.
        assert!((components.scale(4) - 1.0).abs() < 1e-15);
        assert!((components.scale(1) - 73.0_f64.sqrt() / 5.0).abs() < 1e-15);
        assert!(components.scale(1_000_000) > 3.0 / 5.0 - 1e-9);
    }
}
