//! Mean, spread, moving range and autocorrelation.

use super::StatsError;

pub(super) fn check(values: &[f64], required: usize) -> Result<(), StatsError> {
    if values.len() < required {
        return Err(StatsError::TooFewPoints { required, got: values.len() });
    }
    match values.iter().position(|value| !value.is_finite()) {
        Some(index) => Err(StatsError::NotFinite { index }),
        None => Ok(()),
    }
}

/// Arithmetic mean x̄ = Σx/n.
///
/// # Errors
/// [`StatsError::TooFewPoints`] for no value, [`StatsError::NotFinite`] for a value that is not finite,
/// [`StatsError::TooLarge`] when their sum is beyond every number.
pub fn mean(values: &[f64]) -> Result<f64, StatsError> {
    check(values, 1)?;
    let mean = values.iter().sum::<f64>() / values.len() as f64;
    if mean.is_finite() { Ok(mean) } else { Err(StatsError::TooLarge) }
}

/// Sample standard deviation s = √(Σ(x − x̄)²/(n − 1)).
///
/// # Errors
/// As [`mean`], with at least two values needed.
pub fn sample_std_dev(values: &[f64]) -> Result<f64, StatsError> {
    check(values, 2)?;
    let center = mean(values)?;
    let squares: f64 = values.iter().map(|value| (value - center).powi(2)).sum();
    Ok((squares / (values.len() - 1) as f64).sqrt())
}

/// Median; the mean of the two middle ones of an even number. Puts the values in order.
pub(crate) fn median(values: &mut [f64]) -> f64 {
    let n = values.len();
    if n == 0 {
        return f64::NAN;
    }
    let (below, middle, _) = values.select_nth_unstable_by(n / 2, f64::total_cmp);
    let middle = *middle;
    if n % 2 == 1 {
        return middle;
    }
    let before = below.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    f64::midpoint(before, middle)
}

/// Mean of the moving ranges |xᵢ − xᵢ₋₁| over runs of consecutive points.
///
/// `runs` are stretches without a reset between them: no moving range is taken across a gap,
/// an exclusion or a segment change.
///
/// # Errors
/// [`StatsError::TooFewPoints`] when no run has two points.
pub fn mean_moving_range(runs: &[&[f64]]) -> Result<f64, StatsError> {
    let (mut sum, mut count) = (0.0, 0_usize);
    for run in runs {
        check(run, 0)?;
        for pair in run.windows(2) {
            sum += (pair[1] - pair[0]).abs();
            count += 1;
        }
    }
    if count == 0 {
        let got = runs.iter().map(|run| run.len()).max().unwrap_or(0);
        return Err(StatsError::TooFewPoints { required: 2, got });
    }
    Ok(sum / count as f64)
}

/// Lag-one autocorrelation r₁; zero for constant data.
///
/// # Errors
/// As [`mean`], with at least three values needed.
pub fn lag_one_autocorrelation(values: &[f64]) -> Result<f64, StatsError> {
    autocorrelation(values, 1)
}

/// Autocorrelation at a lag, rₖ = Σ(xᵢ − x̄)(xᵢ₊ₖ − x̄)/Σ(xᵢ − x̄)²; zero for constant data.
///
/// # Errors
/// As [`mean`], with at least two values more than the lag needed.
pub fn autocorrelation(values: &[f64], lag: usize) -> Result<f64, StatsError> {
    check(values, lag.saturating_add(2))?;
    let center = mean(values)?;
    let denominator: f64 = values.iter().map(|value| (value - center).powi(2)).sum();
    if denominator == 0.0 {
        return Ok(0.0);
    }
    let later = values[lag..].iter();
    let numerator: f64 = values.iter().zip(later).map(|(a, b)| (a - center) * (b - center)).sum();
    Ok(numerator / denominator)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hand_worked_summary() {
        let values = [2.0, 4.0, 4.0, 4.0, 5.0, 5.0, 7.0, 9.0];
        assert_eq!(mean(&values), Ok(5.0));
        // Sum of squares is 32, n − 1 = 7.
        assert!((sample_std_dev(&values).unwrap() - (32.0_f64 / 7.0).sqrt()).abs() < 1e-15);
        // Ranges 2 0 0 1 0 2 2 over seven pairs.
        assert_eq!(mean_moving_range(&[&values]), Ok(1.0));
    }

    #[test]
    fn no_moving_range_across_a_break() {
        assert_eq!(mean_moving_range(&[&[0.0, 1.0], &[100.0, 101.0]]), Ok(1.0));
        assert!(mean_moving_range(&[&[0.0], &[1.0]]).is_err());
    }

    #[test]
    fn alternating_values_are_negatively_autocorrelated() {
        let values: Vec<f64> = (0..40).map(|i| if i % 2 == 0 { 1.0 } else { -1.0 }).collect();
        assert!(lag_one_autocorrelation(&values).unwrap() < -0.9);
        assert_eq!(lag_one_autocorrelation(&[3.0; 5]), Ok(0.0));
    }

    #[test]
    fn bad_values_are_named() {
        assert_eq!(mean(&[]), Err(StatsError::TooFewPoints { required: 1, got: 0 }));
        assert_eq!(mean(&[1.0, f64::NAN]), Err(StatsError::NotFinite { index: 1 }));
        assert!(sample_std_dev(&[1.0]).is_err());
    }
}
