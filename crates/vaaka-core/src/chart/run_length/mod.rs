//! How long a chart runs until it signals, for points that are independent and normal about a centre that has
//! shifted by a number of sigmas: average, standard deviation and median of the run length.
//!
//! All of it is exact: zone rules as a Markov chain (Champ and Woodall 1987), cumulative sums and the slow
//! average together with control limits as integral equations. What is iterated is the law of the run
//! length itself, P(N = i), so that a rare signal is a sum of small probabilities and never the difference of
//! two like numbers; once the hazard has settled the rest is a geometric tail ([`law`]). What no chain of a
//! reasonable size holds (trends, alternation, zone rules beside a slow average) is refused here, never guessed,
//! and so is what double precision cannot resolve.

mod cusum;
mod ewma;
mod law;
mod panels;
mod zones;

pub use cusum::{CusumSides, check_cusum, cusum};
pub use ewma::{EwmaStart, check_ewma, ewma_with_limits};
pub use zones::zone_rules;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::Criterion;

/// The law of a run length, in three numbers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RunLength {
    /// Points until the first signal, on average.
    pub average: f64,
    /// Standard deviation of that number.
    pub std_dev: f64,
    /// The number of points within which one half of all charts has signalled.
    pub median: f64,
}

impl RunLength {
    /// Of points that signal each by itself with `probability`: 1/p, √(1 − p)/p, and the least n with
    /// 1 − (1 − p)ⁿ ≥ 1/2.
    ///
    /// # Errors
    /// [`RunLengthError::TooLong`].
    pub fn geometric(probability: f64) -> Result<Self, RunLengthError> {
        if probability.is_nan() || probability * LONGEST < 1.0 {
            return Err(RunLengthError::TooLong);
        }
        Ok(Self {
            average: 1.0 / probability,
            std_dev: (1.0 - probability).max(0.0).sqrt() / probability,
            median: law::median_of_tail(0, 1.0, probability),
        })
    }
}

/// Longer run lengths than this are refused: the hazard of one step would lie within a thousand roundings
/// of nothing, and nobody waits for it.
pub const LONGEST: f64 = 1e9;

/// Why there is no run length.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum RunLengthError {
    /// A rule whose patterns no chain over zones holds.
    #[error("{} has no exact run length here: only rules that count points beyond a zone have", .criterion.word())]
    NoZoneRule {
        /// The rule.
        criterion: Criterion,
    },
    /// Nothing that could signal.
    #[error("no criterion is given, so that nothing ever signals")]
    Nothing,
    /// A number that means nothing here.
    #[error("{what} is {value}: give a number {wanted}")]
    Number {
        /// Which.
        what: &'static str,
        /// Its value.
        value: f64,
        /// What would do.
        wanted: &'static str,
    },
    /// Practically never.
    #[error(
        "the run length is more than a thousand million checks, which cannot be computed and is as good as never: give narrower limits"
    )]
    TooLong,
    /// More nodes than are reasonable.
    #[error(
        "the slow average is too slow for its width to be computed: give a larger λ or a smaller L"
    )]
    Unresolved,
}

pub(super) use crate::stats::normal_tail as upper_tail;

/// Φ(b) − Φ(a), from the nearer tail.
fn between(a: f64, b: f64) -> f64 {
    if b <= a {
        0.0
    } else if a > 0.0 {
        upper_tail(a) - upper_tail(b)
    } else if b < 0.0 {
        upper_tail(-b) - upper_tail(-a)
    } else {
        1.0 - upper_tail(-a) - upper_tail(b)
    }
}

fn density(x: f64) -> f64 {
    (-0.5 * x * x).exp() / std::f64::consts::TAU.sqrt()
}

fn in_range(
    what: &'static str,
    value: f64,
    fits: bool,
    wanted: &'static str,
) -> Result<(), RunLengthError> {
    if value.is_finite() && fits {
        Ok(())
    } else {
        Err(RunLengthError::Number { what, value, wanted })
    }
}

fn shift_in_range(shift: f64) -> Result<(), RunLengthError> {
    in_range("the shift", shift, shift.abs() <= 10.0, "of sigmas from -10 to 10")
}

#[cfg(test)]
mod tests;
