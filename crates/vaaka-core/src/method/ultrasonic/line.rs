//! Velocity and probe zero from steps of known thickness, and what the errors look like.

use statrs::distribution::{ChiSquared, ContinuousCDF};
use thiserror::Error;

/// Why steps say nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum LineError {
    /// Fewer than two steps.
    #[error("two steps at least: velocity and zero are two unknowns")]
    TooFew,
    /// All of one thickness.
    #[error("the steps are of one thickness: nothing tells velocity from zero")]
    Equal,
    /// A thickness that is none.
    #[error("step {place}: a thickness is greater than zero, and both numbers are finite")]
    NoNumber {
        /// Which of them, from 1.
        place: usize,
    },
    /// The times do not rise with the thickness.
    #[error(
        "the times fall as the steps get thicker: the echoes are not those of these steps (another echo, another order)"
    )]
    Falls,
}

/// A straight line through what was read of steps, y = a + b·d, by least squares.
#[derive(Debug, Clone, PartialEq)]
pub struct StepLine {
    /// a: what is read at no thickness.
    pub at_nothing: f64,
    /// b: how much more for each unit of thickness.
    pub slope: f64,
    /// y − a − b·d of each step; none of two thicknesses, which a line always hits.
    pub residuals: Option<Vec<f64>>,
    /// Share of each y in a, and in b: what is uncertain of a reading goes into them by these.
    pub weights: Vec<(f64, f64)>,
    /// Standard deviation about the line with its degrees of freedom, from three readings of two thicknesses on.
    pub scatter: Option<(f64, usize)>,
}

impl StepLine {
    /// The line through pairs of thickness and reading.
    ///
    /// # Errors
    /// [`LineError`].
    pub fn through(steps: &[(f64, f64)]) -> Result<Self, LineError> {
        if steps.len() < 2 {
            return Err(LineError::TooFew);
        }
        if let Some(place) =
            steps.iter().position(|(d, y)| !(d.is_finite() && *d > 0.0 && y.is_finite()))
        {
            return Err(LineError::NoNumber { place: place + 1 });
        }
        let n = steps.len() as f64;
        let mean = steps.iter().map(|(d, _)| d).sum::<f64>() / n;
        let spread: f64 = steps.iter().map(|(d, _)| (d - mean) * (d - mean)).sum();
        if spread <= mean * mean * 1e-12 {
            return Err(LineError::Equal);
        }
        let weights: Vec<(f64, f64)> = steps
            .iter()
            .map(|(d, _)| {
                let of_slope = (d - mean) / spread;
                (1.0 / n - mean * of_slope, of_slope)
            })
            .collect();
        let sum = |of: fn(&(f64, f64)) -> f64| -> f64 {
            weights.iter().zip(steps).map(|(weight, (_, y))| of(weight) * y).sum()
        };
        let (at_nothing, slope) = (sum(|weight| weight.0), sum(|weight| weight.1));
        let residual = |(d, y): &(f64, f64)| y - at_nothing - slope * d;
        let residuals: Vec<f64> = steps.iter().map(residual).collect();
        let several =
            steps.iter().any(|(d, _)| *d != steps[0].0 && *d != other_than(steps, steps[0].0));
        let free = steps.len() - 2;
        let squares: f64 = residuals.iter().map(|r| r * r).sum();
        let scatter = (free > 0).then(|| ((squares / free as f64).sqrt(), free));
        Ok(Self { at_nothing, slope, residuals: several.then_some(residuals), weights, scatter })
    }

    /// Standard uncertainties of a and b, where those of the readings are independent.
    #[must_use]
    pub fn uncertainties(&self, of_readings: &[f64]) -> (f64, f64) {
        let sum = |of: fn(&(f64, f64)) -> f64| -> f64 {
            let parts = self.weights.iter().zip(of_readings).map(|(weight, u)| of(weight) * u);
            parts.map(|part| part * part).sum::<f64>().sqrt()
        };
        (sum(|weight| weight.0), sum(|weight| weight.1))
    }

    /// The residual that lies farthest out.
    #[must_use]
    pub fn largest_residual(&self) -> Option<f64> {
        self.residuals.as_ref()?.iter().copied().max_by(|a, b| a.abs().total_cmp(&b.abs()))
    }
}

fn other_than(steps: &[(f64, f64)], first: f64) -> f64 {
    steps.iter().map(|(d, _)| *d).find(|d| *d != first).unwrap_or(first)
}

/// Velocity and probe zero: the time of an echo t = t₀ + 2·d/v.
#[derive(Debug, Clone, PartialEq)]
pub struct VelocityZero {
    /// v in m/s.
    pub velocity: f64,
    /// t₀ in µs: delay of the probe.
    pub zero: f64,
    /// The line t = t₀ + (2/v)·d, with d in mm and t in µs.
    pub line: StepLine,
}

/// Velocity and probe zero from thicknesses in mm and times in µs, of two steps or of many by least squares.
///
/// # Errors
/// [`LineError`].
pub fn velocity_and_zero(steps: &[(f64, f64)]) -> Result<VelocityZero, LineError> {
    let line = StepLine::through(steps)?;
    if line.slope <= 0.0 {
        return Err(LineError::Falls);
    }
    // mm/µs are km/s.
    Ok(VelocityZero { velocity: 2_000.0 / line.slope, zero: line.at_nothing, line })
}

/// What the errors of the steps look like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pattern {
    /// Nothing beyond what readings scatter.
    Nothing,
    /// The same at every step.
    Zero,
    /// They grow with the thickness.
    Velocity,
    /// Both.
    ZeroAndVelocity,
    /// The thinnest step alone.
    ThinEnd,
    /// None of these.
    Other,
}

/// From which probability on a shape is believed.
const BELIEVED: f64 = 0.01;

impl Pattern {
    /// The simplest shape of errors that fits: none, one number (the same everywhere, in proportion, at the thinnest step
    /// alone), two. Each step is its thickness, error and standard uncertainty; a shape fits when χ² of what it leaves is
    /// not in the last hundredth of its distribution. Of fewer than three thicknesses nothing is said.
    #[must_use]
    pub fn of(steps: &[(f64, f64, f64)]) -> Option<Self> {
        let thinnest = steps.iter().map(|step| step.0).fold(f64::INFINITY, f64::min);
        let mut thicknesses: Vec<f64> = steps.iter().map(|step| step.0).collect();
        thicknesses.sort_by(f64::total_cmp);
        thicknesses.dedup();
        let known = |step: &(f64, f64, f64)| step.1.is_finite() && step.2 > 0.0;
        if thicknesses.len() < 3 || !steps.iter().all(known) {
            return None;
        }
        let of = |basis: &dyn Fn(f64) -> f64| {
            let (mut bb, mut be) = (0.0, 0.0);
            for (d, error, u) in steps {
                let b = basis(*d) / u;
                bb += b * b;
                be += b * error / u;
            }
            let size = be / bb;
            left(steps, &|d| size * basis(d))
        };
        let one = steps.len() - 1;
        let candidates = [
            (Self::Nothing, left(steps, &|_| 0.0), steps.len()),
            (Self::Zero, of(&|_| 1.0), one),
            (Self::Velocity, of(&|d| d), one),
            (Self::ThinEnd, of(&|d| if d == thinnest { 1.0 } else { 0.0 }), one),
            (Self::ZeroAndVelocity, left_of_line(steps), steps.len() - 2),
        ];
        let fits = |free: usize, square: f64| {
            ChiSquared::new(free as f64).is_ok_and(|of| 1.0 - of.cdf(square) > BELIEVED)
        };
        let found = candidates
            .into_iter()
            .filter(|(_, square, free)| fits(*free, *square))
            // Fewer numbers first; of as many the one that leaves less.
            .min_by(|a, b| b.2.cmp(&a.2).then(a.1.total_cmp(&b.1)));
        Some(found.map_or(Self::Other, |found| found.0))
    }

    /// What it says, in words; what there is to do is the reader's.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Nothing => "none beyond what readings scatter",
            Self::Zero => "the same at every step: the probe zero",
            Self::Velocity => "grows with the thickness: the velocity",
            Self::ZeroAndVelocity => {
                "the same at every step, and more with the thickness: zero and velocity"
            }
            Self::ThinEnd => {
                "the thinnest step alone: a worn probe face, the V-path correction, or couplant that lifts the probe"
            }
            Self::Other => "no simple one: look at couplant, echo and the order of the steps",
        }
    }
}

/// χ² of what a shape leaves.
fn left(steps: &[(f64, f64, f64)], shape: &dyn Fn(f64) -> f64) -> f64 {
    steps.iter().map(|(d, error, u)| ((error - shape(*d)) / u).powi(2)).sum()
}

/// χ² of what a line leaves, each step with its weight 1/u².
fn left_of_line(steps: &[(f64, f64, f64)]) -> f64 {
    let sums = steps.iter().fold([0.0; 5], |sums, (d, error, u)| {
        let w = 1.0 / (u * u);
        let [s, sd, sdd, se, sde] = sums;
        [s + w, sd + w * d, sdd + w * d * d, se + w * error, sde + w * d * error]
    });
    let [s, sd, sdd, se, sde] = sums;
    let det = s * sdd - sd * sd;
    let (a, b) = ((sdd * se - sd * sde) / det, (s * sde - sd * se) / det);
    left(steps, &|d| a + b * d)
}
