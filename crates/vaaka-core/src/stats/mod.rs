//! Summaries and straight lines, on plain slices.

mod components;
mod line;
mod normality;
mod quadrature;
mod summary;

pub use components::{Components, variance_components};
pub use line::{StraightLine, fit_line};
pub use normality::{NORMALITY_POINTS, Normality, anderson_darling};
pub(crate) use quadrature::gauss_legendre;
pub use summary::{
    autocorrelation, lag_one_autocorrelation, mean, mean_moving_range, sample_std_dev,
};

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
    /// All values are the same, so that there is no spread to compare with.
    #[error("all values are the same, so there is no spread to compare with")]
    NoSpread,
    /// All abscissae are the same, so that no line has a slope.
    #[error("all times are the same, so no slope can be found")]
    NoSpreadInX,
}

/// Two-sided coverage quantile of Student's t: P(|T| ≤ t) = `confidence`.
///
/// # Errors
/// [`StatsError::TooFewPoints`] when `degrees_of_freedom` is not positive.
pub fn student_t(confidence: f64, degrees_of_freedom: f64) -> Result<f64, StatsError> {
    use statrs::distribution::{ContinuousCDF, StudentsT};
    let distribution = StudentsT::new(0.0, 1.0, degrees_of_freedom)
        .map_err(|_| StatsError::TooFewPoints { required: 2, got: 1 })?;
    Ok(distribution.inverse_cdf(0.5 + confidence / 2.0))
}
