//! Whether values could come from a normal distribution.

use super::summary::check;
use super::{StatsError, mean, sample_std_dev};

/// Result of the Anderson-Darling test.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Normality {
    /// A², mean and standard deviation estimated from the values.
    pub statistic: f64,
    /// Probability of a statistic as large if the values were normal.
    pub probability: f64,
}

/// Fewest values that the test says anything about.
pub const NORMALITY_POINTS: usize = 8;

/// Anderson-Darling test of normality, mean and deviation unknown.
///
/// A² = −n − (1/n)·Σ(2i − 1)·[ln Φ(yᵢ) + ln(1 − Φ(yₙ₊₁₋ᵢ))] over the standardised values in order; the
/// probability by the formulas of D'Agostino and Stephens 1986, table 4.9, for
/// A²·(1 + 0.75/n + 2.25/n²).
///
/// # Errors
/// [`StatsError::TooFewPoints`] below [`NORMALITY_POINTS`], [`StatsError::NoSpread`] when all values agree,
/// [`StatsError::NotFinite`].
pub fn anderson_darling(values: &[f64]) -> Result<Normality, StatsError> {
    check(values, NORMALITY_POINTS)?;
    let (center, spread) = (mean(values)?, sample_std_dev(values)?);
    if spread <= 0.0 {
        return Err(StatsError::NoSpread);
    }
    let mut sorted: Vec<f64> = values.iter().map(|value| (value - center) / spread).collect();
    sorted.sort_by(f64::total_cmp);
    let n = sorted.len() as f64;
    // ln Φ by the complementary error function, which keeps its digits in the tails.
    let ln_below = |y: f64| super::normal_tail(-y).max(f64::MIN_POSITIVE).ln();
    let sum: f64 = sorted
        .iter()
        .zip(sorted.iter().rev())
        .enumerate()
        .map(|(index, (low, high))| {
            (2.0 * index as f64 + 1.0) * (ln_below(*low) + ln_below(-*high))
        })
        .sum();
    let statistic = -n - sum / n;
    let a = statistic * (1.0 + 0.75 / n + 2.25 / (n * n));
    let probability = if a >= 0.6 {
        (1.2937 - 5.709 * a + 0.0186 * a * a).exp()
    } else if a >= 0.34 {
        (0.9177 - 4.279 * a - 1.38 * a * a).exp()
    } else if a >= 0.2 {
        1.0 - (-8.318 + 42.796 * a - 59.938 * a * a).exp()
    } else {
        1.0 - (-13.436 + 101.14 * a - 223.73 * a * a).exp()
    };
    Ok(Normality { statistic, probability: probability.clamp(0.0, 1.0) })
}
