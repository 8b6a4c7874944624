//! What a series of checks has done: nothing, a step, a drift, a drift that stopped, a knock that passed, each with its
//! posterior probability; since when, how fast, and when a limit is reached, each with its interval.
//!
//! Bayesian comparison of shapes h with an effect β on first-order autoregressive noise: y = c + βh + e with
//! (c, β, σ²) normal-inverse-gamma, so that every marginal likelihood is a closed form (Bernardo and Smith 1994,
//! *Bayesian Theory*, § 5.2 and appendix A; from memory, and integrated numerically in `tools/reference/shapes.py`).
//! The centre and σ² come from the frozen baseline; ρ is one of four values, weighed by baseline and points alike.

mod forecast;
mod influence;
mod mixture;
mod posterior;
mod series;
mod sums;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::stats::StatsError;

pub use forecast::{Ahead, FanPoint, When};
pub use influence::Influence;
use posterior::{Found, Kind};
use series::Series;

/// How many of the newest checks are looked at.
pub const SHAPE_WINDOW: usize = 400;
/// How many of the newest checks say where an instrument stands now.
const LEVEL_WINDOW: usize = 120;
/// Checks that a change needs after it before it can be seen.
pub const AFTER_CHANGE: usize = 4;
/// Posterior probability from which a shape is told.
pub const TOLD_FROM: f64 = 0.8;
/// Checks since the median onset before a drift is told: before, it is not told from a step.
pub const DRIFT_AFTER: usize = 8;

/// What is known of a chart before the points that are looked at.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Ground<'a> {
    /// The check means of its frozen baseline, in their order.
    Baseline(&'a [f64]),
    /// What they left behind, where they are too long ago or the centre is a target.
    Known {
        /// Centre line.
        center: f64,
        /// Standard deviation of a check about it.
        std_dev: f64,
        /// Of how many checks the centre is worth the mean: its variance is σ² divided by this.
        center_worth: f64,
        /// Degrees of freedom of the standard deviation; none where it was given.
        degrees_of_freedom: Option<f64>,
        /// How much neighbouring checks resemble each other, with the number of checks that says so; none where
        /// nothing is known.
        autocorrelation: Option<(f64, usize)>,
    },
}

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ShapeInput<'a> {
    /// What is known before.
    pub ground: Ground<'a>,
    /// The checks after the baseline, oldest first; those before the newest [`SHAPE_WINDOW`] are left out.
    pub points: &'a [(Timestamp, f64)],
    /// Noted events (a move, a repair, another lot): a change at one of them is twice as likely as at another check.
    pub events: &'a [Timestamp],
    /// Lower tolerance limit.
    pub lower: Option<f64>,
    /// Upper tolerance limit.
    pub upper: Option<f64>,
    /// Step of the display in the unit of the values: no scatter is smaller than what it leaves.
    pub resolution: f64,
    /// What acts on the values besides, each known only so well; none where nothing is known.
    pub influences: &'a [Influence<'a>],
    /// Moments at which the level of a drift is told, from its onset to its crossing; none where nothing is drawn.
    pub fan: usize,
}

/// Why nothing can be said.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum ShapeError {
    /// A statistic cannot be formed.
    #[error(transparent)]
    Stats(#[from] StatsError),
    /// A check is older than the one before it.
    #[error("the check at place {index} is older than the one before it: give them oldest first")]
    TimesFall {
        /// Where it stands.
        index: usize,
    },
    /// An influence does not say how it acts on each check.
    #[error("an influence acts on {got} checks, and there are {required}")]
    Influence {
        /// Checks that there are.
        required: usize,
        /// Checks of which it says something.
        got: usize,
    },
}

/// Three points of a posterior: 2.5, 50 and 97.5 %.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Interval<T> {
    /// 2.5 %.
    pub low: T,
    /// 50 %.
    pub median: T,
    /// 97.5 %.
    pub high: T,
}

/// Posterior probabilities of the shapes; their sum is one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Posterior {
    /// Nothing changed.
    pub flat: f64,
    /// The level stepped and stays.
    pub step: f64,
    /// The level drifts.
    pub drift: f64,
    /// The level drifted and stays.
    pub stopped: f64,
    /// One to four checks were elsewhere; it is over.
    pub knock: f64,
}

/// What is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Told {
    /// Nothing changed.
    Flat,
    /// A step.
    Step,
    /// A drift that goes on.
    Drift,
    /// A drift that has stopped.
    Stopped,
    /// A passing knock.
    Knock,
    /// Something changed and lasts; a step cannot be told from a drift yet.
    Changed,
    /// No change is told: nothing changed, or too little or too lately to be seen.
    Unclear,
}

/// What a series of checks has done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// What is told.
    pub told: Told,
    /// The probabilities behind it.
    pub posterior: Posterior,
    /// When it began, given the shape that is told, or the likeliest change while none is.
    pub onset: Option<Interval<Timestamp>>,
    /// Checks from the median onset to the newest.
    pub checks_since: Option<usize>,
    /// When a stopped drift stopped.
    pub stopped_at: Option<Interval<Timestamp>>,
    /// Height of a step or of a knock, or how far a stopped drift went.
    pub size: Option<Interval<f64>>,
    /// Slope of a drift, in units a week.
    pub per_week: Option<Interval<f64>>,
    /// Level at the newest check, over all shapes.
    pub level: Interval<f64>,
    /// What a drift that is told leads to.
    pub ahead: Option<Ahead>,
    /// The level in time since the onset and as far as is looked ahead, given the drift that is told.
    pub fan: Vec<FanPoint>,
    /// How much neighbouring checks resemble each other: posterior mean of ρ.
    pub autocorrelation: f64,
    /// Standard deviation of a check about the level: posterior median, over all shapes.
    pub std_dev: f64,
    /// Checks that were looked at.
    pub points: usize,
}

/// What a shape tells, as far as a verdict keeps it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ToldShape {
    /// What is told.
    pub told: Told,
    /// When it began.
    pub onset: Option<Interval<Timestamp>>,
    /// When a stopped drift stopped.
    pub stopped_at: Option<Interval<Timestamp>>,
    /// Height of a step or of a knock, or how far a stopped drift went.
    pub size: Option<Interval<f64>>,
}

impl From<&Shape> for ToldShape {
    fn from(shape: &Shape) -> Self {
        let Shape { told, onset, stopped_at, size, .. } = *shape;
        Self { told, onset, stopped_at, size }
    }
}

impl Told {
    /// Whether a change is told.
    #[must_use]
    pub fn is_change(self) -> bool {
        !matches!(self, Self::Flat | Self::Unclear)
    }
}

impl Posterior {
    /// The change that is likeliest, whether it is told or not.
    fn likeliest_change(&self) -> Kind {
        let all = [
            (Kind::Step, self.step),
            (Kind::Drift, self.drift),
            (Kind::Stopped, self.stopped),
            (Kind::Knock, self.knock),
        ];
        all.into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).map_or(Kind::Step, |best| best.0)
    }
}

/// Looks at a series of checks.
///
/// A shape is told from a posterior of [`TOLD_FROM`] on, a drift moreover only when its median onset is at least
/// [`DRIFT_AFTER`] checks ago.
///
/// # Errors
/// [`StatsError::TooFewPoints`] below five points or a baseline of three, [`StatsError::NotFinite`],
/// [`StatsError::NoSpread`] where neither baseline nor display leave any scatter, [`StatsError::NoSpreadInX`] where all
/// checks were at one moment, [`StatsError::CrossedLimits`]; [`ShapeError::TimesFall`].
pub fn shape(input: &ShapeInput<'_>) -> Result<Shape, ShapeError> {
    let series = Series::new(input, AFTER_CHANGE)?;
    let found = Found::of(&series, AFTER_CHANGE);
    let posterior = found.posterior();
    let told = told(&posterior, &found);
    let of = match told {
        Told::Flat | Told::Unclear => None,
        Told::Step => Some(Kind::Step),
        Told::Drift => Some(Kind::Drift),
        Told::Stopped => Some(Kind::Stopped),
        Told::Knock => Some(Kind::Knock),
        Told::Changed => Some(posterior.likeliest_change()),
    };
    let onset = of.map(|kind| found.onset(kind));
    let drifts = told == Told::Drift;
    let (ahead, fan) = if drifts { forecast::of(&found, input) } else { (None, vec![]) };
    let size = of.filter(|kind| *kind != Kind::Drift).map(|kind| found.size(kind));
    let (level, std_dev) = found.level_and_std_dev();
    Ok(Shape {
        told,
        posterior,
        onset: onset.map(|at| at.map(|index| series.at(index))),
        checks_since: onset.map(|at| series.len() - at.median),
        stopped_at: (told == Told::Stopped).then(|| found.end().map(|index| series.at(index))),
        size,
        per_week: drifts.then(|| found.per_week()),
        level,
        ahead,
        fan,
        autocorrelation: found.autocorrelation(),
        std_dev,
        points: series.len(),
    })
}

/// The level of an instrument at its newest check.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LevelEstimate {
    /// The level, in the unit of the chart.
    pub level: f64,
    /// Its standard uncertainty.
    pub standard_uncertainty: f64,
}

/// The level now, averaged over what may have happened, up to the newest check itself: what an adjustment corrects. The newest
/// error alone, of a check that failed, is chosen for being far out: corrected by it the instrument is left two sigmas off on
/// the other side, by this by a tenth to a quarter (`docs/DETECTION.md`). Without any points it is the centre.
///
/// # Errors
/// As [`shape`]; it does with a single point.
pub fn level_now(input: &ShapeInput<'_>) -> Result<LevelEstimate, ShapeError> {
    if input.points.is_empty() {
        let (level, standard_uncertainty) = series::centre_of(input)?;
        return Ok(LevelEstimate { level, standard_uncertainty });
    }
    // Older ones say nothing about now that these do not.
    let newest = input.points.len().saturating_sub(LEVEL_WINDOW);
    let points = &input.points[newest..];
    let series = Series::new(&ShapeInput { points, influences: &[], ..*input }, 1)?;
    let (level, standard_uncertainty) = Found::of(&series, 1).level_moments();
    Ok(LevelEstimate { level, standard_uncertainty })
}

fn told(posterior: &Posterior, found: &Found<'_>) -> Told {
    let old_enough = || found.series().len() - found.onset(Kind::Drift).median >= DRIFT_AFTER;
    match *posterior {
        Posterior { flat, .. } if flat >= TOLD_FROM => Told::Flat,
        Posterior { step, .. } if step >= TOLD_FROM => Told::Step,
        Posterior { drift, .. } if drift >= TOLD_FROM && old_enough() => Told::Drift,
        Posterior { stopped, .. } if stopped >= TOLD_FROM => Told::Stopped,
        Posterior { knock, .. } if knock >= TOLD_FROM => Told::Knock,
        Posterior { step, drift, stopped, .. } if step + drift + stopped >= TOLD_FROM => {
            Told::Changed
        }
        _ => Told::Unclear,
    }
}

impl<T: Copy> Interval<T> {
    /// The same in another measure that keeps the order.
    pub fn map<U>(self, to: impl Fn(T) -> U) -> Interval<U> {
        Interval { low: to(self.low), median: to(self.median), high: to(self.high) }
    }
}
