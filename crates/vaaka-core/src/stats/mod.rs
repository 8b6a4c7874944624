//! Summaries and straight lines, on plain slices.

mod calibration;
mod components;
mod line;
mod normality;
mod outlier;
mod polynomial;
mod quadrature;
mod summary;
mod trend;

pub use calibration::{CalibrationError, CalibrationLine, DetectionLimits, Estimate, LackOfFit};
pub use components::{Components, variance_components};
pub use line::{StraightLine, fit_line};
pub use normality::{NORMALITY_POINTS, Normality, anderson_darling};
pub use outlier::{Outlier, grubbs};
pub use polynomial::{MOST_DEGREE, Polynomial};
pub(crate) use quadrature::gauss_legendre;
pub(crate) use summary::median;
pub use summary::{
    autocorrelation, lag_one_autocorrelation, mean, mean_moving_range, sample_std_dev,
};

pub use trend::{Step, TREND_POINTS, Trend, step, trend};

use thiserror::Error;

/// A statistic cannot be formed from what was given.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum StatsError {
    /// Fewer points than the statistic needs.
    #[error("{got} points are too few, {required} are needed")]
    TooFewPoints {
        /// The least number of points.
        required: usize,
        /// The number that was given.
        got: usize,
    },
    /// A value is infinite or not a number.
    #[error("the value at place {index} is not finite")]
    NotFinite {
        /// Where the value stands.
        index: usize,
    },
    /// What would come out is beyond the largest number.
    #[error("the values are too large to compute with")]
    TooLarge,
    /// The lower limit is not below the upper one.
    #[error("the lower limit is not below the upper one: give them the right way round")]
    CrossedLimits,
    /// All values are the same, so that there is no spread to compare with.
    #[error("all values are the same, so there is no spread to compare with")]
    NoSpread,
    /// All abscissae are the same, so that no line has a slope.
    #[error("all times are the same, so no slope can be found")]
    NoSpreadInX,
}

/// 1 − Φ(z) of the standard normal distribution, with all digits far out.
#[must_use]
pub fn normal_tail(z: f64) -> f64 {
    0.5 * libm::erfc(z / std::f64::consts::SQRT_2)
}

/// P(T > t) of Student's t, ½·I(ν/(ν + t²); ν/2, ½) for t ≥ 0; the normal tail where nothing was estimated.
#[must_use]
pub fn student_tail(t: f64, degrees_of_freedom: Option<f64>) -> f64 {
    let Some(nu) = degrees_of_freedom.filter(|nu| *nu < 1e6) else { return normal_tail(t) };
    if t.is_infinite() {
        return if t > 0.0 { 0.0 } else { 1.0 };
    }
    let nu = nu.max(1e-3);
    let beyond = 0.5 * statrs::function::beta::beta_reg(nu / 2.0, 0.5, nu / (nu + t * t));
    if t >= 0.0 { beyond } else { 1.0 - beyond }
}

/// From so many degrees of freedom on the quantile is taken from its expansion about the normal one. An effective
/// number by Welch and Satterthwaite may be any.
const MANY_DEGREES: f64 = 1e4;

/// Two-sided coverage quantile of Student's t: P(|T| ≤ t) = `confidence`, to nine digits at least.
///
/// By bisection of the probability outside, I(ν/(ν + t²); ν/2, 1/2), or inside, I(t²/(ν + t²); 1/2, ν/2),
/// whichever is smaller, so that neither is the difference of two like numbers (Abramowitz and Stegun 1964,
/// 26.5.27; from memory). For many degrees of freedom ν by t = z + (z³ + z)/(4ν) + (5z⁵ + 16z³ + 3z)/(96ν²) + …
/// about the normal quantile z (26.7.5; from memory). Checked against closed forms and printed tables.
///
/// # Errors
/// [`StatsError::TooFewPoints`] when `degrees_of_freedom` is not positive, or so small that no number is large
/// enough.
pub fn student_t(confidence: f64, degrees_of_freedom: f64) -> Result<f64, StatsError> {
    use statrs::distribution::{ContinuousCDF, Normal};
    use statrs::function::beta::beta_reg;
    if degrees_of_freedom >= MANY_DEGREES {
        let z = Normal::standard().inverse_cdf(0.5 + confidence / 2.0);
        let nu = degrees_of_freedom;
        let (z3, z5, z7) = (z.powi(3), z.powi(5), z.powi(7));
        return Ok(z
            + (z3 + z) / (4.0 * nu)
            + (5.0 * z5 + 16.0 * z3 + 3.0 * z) / (96.0 * nu * nu)
            + (3.0 * z7 + 19.0 * z5 + 17.0 * z3 - 15.0 * z) / (384.0 * nu.powi(3)));
    }
    // Natural logarithms of the least and the largest t whose square is a number.
    const LEAST: f64 = -350.0;
    const LARGEST: f64 = 350.0;
    let nu = degrees_of_freedom;
    let inside = confidence <= 0.5;
    let is_covered = |t: f64| {
        let square = t * t;
        if inside {
            beta_reg(0.5, nu / 2.0, square / (nu + square)) >= confidence
        } else {
            beta_reg(nu / 2.0, 0.5, nu / (nu + square)) <= 1.0 - confidence
        }
    };
    // With less than a thousandth of a degree every quantile in use lies beyond.
    if nu.is_nan() || nu < 1e-3 || !is_covered(LARGEST.exp()) {
        return Err(StatsError::TooFewPoints { required: 2, got: 1 });
    }
    let (mut low, mut high) = (LEAST, LARGEST);
    // Each step halves 700; after sixty the two are neighbours.
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if is_covered(middle.exp()) {
            high = middle;
        } else {
            low = middle;
        }
    }
    Ok(high.exp())
}
