//! An instrument under each way of adjusting it, simulated check by check: shared by the funnel experiment and by the
//! table in `docs/DETECTION.md`.
#![allow(dead_code, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::Timestamp;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::adjustment::{PermitInput, permit};
use vaaka_core::history::{Ground, LevelEstimate, ShapeInput, level_now};
use vaaka_core::judgement::{AdjustmentAdvice, AdjustmentInput, Conformity, advise_adjustment};
use vaaka_core::method::AdjustmentPolicy;

/// Half-width of the tolerance, in sigmas of a check: tight, so that it matters when to adjust.
pub const TOLERANCE: f64 = 3.0;
/// Checks a year, three shifts a day.
pub const YEAR: usize = 1_095;

/// A standard normal value, by Box and Muller.
pub fn normal(random: &mut ChaCha8Rng) -> f64 {
    let (a, b): (f64, f64) = (random.random_range(f64::MIN_POSITIVE..1.0), random.random());
    (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
}

/// What is done.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Way {
    /// Nothing, ever.
    Never,
    /// After each check, by its whole error: rule 2 of the funnel.
    Always,
    /// After a failure, by the error of the failing check.
    LastError,
    /// As the program advises where the plan adjusts only what is out: a failure that its repeat confirms, by the
    /// estimated level.
    Advice,
    /// As the program lets a plan adjust at three quarters of the tolerance: by the estimated level.
    GuardFraction,
}

impl Way {
    pub const ALL: [Self; 5] =
        [Self::Never, Self::Always, Self::LastError, Self::Advice, Self::GuardFraction];

    pub fn words(self) -> &'static str {
        match self {
            Self::Never => "never",
            Self::Always => "after each check, by its error",
            Self::LastError => "after a failure, by its error",
            Self::Advice => "by the advice, only when out",
            Self::GuardFraction => "by the advice, at three quarters",
        }
    }
}

/// What came of it.
#[derive(Debug, Clone, Default)]
pub struct Outcome {
    /// Errors found.
    pub errors: Vec<f64>,
    /// Levels of the instrument at each check, what nobody sees.
    pub levels: Vec<f64>,
    /// Levels before and after each adjustment.
    pub adjustments: Vec<(f64, f64)>,
}

impl Outcome {
    pub fn a_year(&self, count: usize) -> f64 {
        count as f64 * YEAR as f64 / self.levels.len() as f64
    }

    pub fn failures(&self) -> usize {
        self.errors.iter().filter(|error| error.abs() > TOLERANCE).count()
    }

    /// Adjustments that left the level further off than it was.
    pub fn worse(&self) -> usize {
        self.adjustments.iter().filter(|(before, after)| after.abs() > before.abs()).count()
    }

    pub fn root_mean_square_level(&self) -> f64 {
        let squares: f64 = self.levels.iter().map(|level| level * level).sum();
        (squares / self.levels.len() as f64).sqrt()
    }

    /// Mean of what adjustments left, towards the side on which the instrument was.
    pub fn left(&self) -> f64 {
        let sum: f64 = self.adjustments.iter().map(|(before, after)| after * before.signum()).sum();
        sum / self.adjustments.len().max(1) as f64
    }
}

/// One check after the other; `drift` in sigmas a check.
pub fn simulate(way: Way, drift: f64, checks: usize) -> Outcome {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let mut outcome = Outcome::default();
    let mut level = 0.0;
    let mut since: Vec<f64> = Vec::new();
    let mut center_variance = 1.0 / 60.0;
    for _ in 0..checks {
        level += drift;
        let error: f64 = level + normal(&mut random);
        outcome.levels.push(level);
        outcome.errors.push(error);
        since.push(error);
        let failed = error.abs() > TOLERANCE;
        // Only where it is asked for: it costs a look at all shapes.
        let asked = way == Way::GuardFraction || way == Way::Advice && failed;
        let nothing = LevelEstimate { level: 0.0, standard_uncertainty: 1.0 };
        let estimate = if asked { level_of(&since, center_variance) } else { nothing };
        let correction = match way {
            Way::Never => None,
            Way::Always => Some(-error),
            Way::LastError => failed.then_some(-error),
            Way::Advice => failed
                .then(|| level + normal(&mut random))
                .filter(|repeat| repeat.abs() > TOLERANCE)
                .and_then(|_| advised(error, estimate.level)),
            Way::GuardFraction => permit(&PermitInput {
                policy: AdjustmentPolicy::AtGuardFraction,
                adjustable: true,
                sealed: false,
                authority: "",
                by_lead: true,
                full_as_found: true,
                touched_since: false,
                // A failure that a repeat does not confirm is none of the instrument.
                conforms: Conformity::Pass,
                level_share: Some(estimate.level.abs() / TOLERANCE),
                crosses_soon: false,
            })
            .is_ok()
            .then_some(-estimate.level),
        };
        if let Some(correction) = correction {
            outcome.adjustments.push((level, level + correction));
            level += correction;
            since.clear();
            center_variance = estimate.standard_uncertainty.powi(2);
        }
    }
    outcome
}

/// The level of checks eight hours apart.
fn level_of(since: &[f64], center_variance: f64) -> LevelEstimate {
    let at = |index: usize| Timestamp::from_second(28_800 * index as i64).unwrap();
    let points: Vec<(Timestamp, f64)> =
        since.iter().enumerate().map(|(index, value)| (at(index), *value)).collect();
    level_now(&ShapeInput {
        ground: Ground::Known {
            center: 0.0,
            std_dev: 1.0,
            center_worth: 1.0 / center_variance,
            degrees_of_freedom: Some(59.0),
            autocorrelation: Some((0.0, 60)),
        },
        points: &points,
        events: &[],
        lower: None,
        upper: None,
        resolution: 0.0,
        influences: &[],
        fan: 0,
    })
    .unwrap()
}

fn advised(error: f64, level: f64) -> Option<f64> {
    let advice = advise_adjustment(&AdjustmentInput {
        mean_error: error,
        level,
        check_mean_std_dev: 1.0,
        reference_standard_uncertainty: 0.0,
        resolution: 0.1,
        coverage_factor: 2.0,
        within_tolerance: false,
    });
    match advice {
        AdjustmentAdvice::Adjust { correction } => Some(correction),
        _ => None,
    }
}
