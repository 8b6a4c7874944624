//! Whether values drift or step, by ranks: a few bad values, and values that are not normal, do not mislead.

use statrs::distribution::{ContinuousCDF, Normal};

use super::summary::{check, median};
use super::{StatsError, lag_one_autocorrelation, mean};

/// Fewest values that a trend or a step is looked for in.
pub const TREND_POINTS: usize = 10;
/// Longer series are looked at by the means of so many stretches, since every pair is compared.
const MOST: usize = 1_000;

/// A straight trend by the median of all slopes (Theil 1950, Sen 1968) with the test of Mann 1945 and Kendall.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trend {
    /// Change from the first value to the last.
    pub change: f64,
    /// Probability of an S as far from zero if nothing drifted, two-sided.
    pub probability: f64,
    /// Lag-one autocorrelation of what is left beside the trend; where positive the test allows for it.
    pub autocorrelation: f64,
}

/// Tests values at equal distances for a trend.
///
/// S = Σ sgn(xⱼ − xᵢ) over i < j; Var S = (n(n − 1)(2n + 5) − Σt(t − 1)(2t + 5))/18 with ties of t, times
/// (1 + r)/(1 − r) where the residuals resemble their neighbours (the factor of effective size, Bayley and Hammersley
/// 1946; from memory); Z = (S ∓ 1)/√Var S. S, ties and slope agree with SciPy's `kendalltau` and `theilslopes`
/// (`tools/reference/trends.py`).
///
/// # Errors
/// [`StatsError::TooFewPoints`] below [`TREND_POINTS`], [`StatsError::NotFinite`].
pub fn trend(values: &[f64]) -> Result<Trend, StatsError> {
    check(values, TREND_POINTS)?;
    let values = &thinned(values);
    let n = values.len();
    let mut slopes = Vec::with_capacity(n * (n - 1) / 2);
    let mut s = 0.0;
    for (i, early) in values.iter().enumerate() {
        for (j, late) in values.iter().enumerate().skip(i + 1) {
            let difference = late - early;
            s += if difference > 0.0 { 1.0 } else { -f64::from(u8::from(difference < 0.0)) };
            slopes.push(difference / (j - i) as f64);
        }
    }
    let slope = median(&mut slopes);
    let residuals: Vec<f64> =
        values.iter().enumerate().map(|(i, value)| value - slope * i as f64).collect();
    let r = lag_one_autocorrelation(&residuals)?;
    let variance = kendall_variance(values) * inflation(r, n);
    let probability = if variance > 0.0 {
        let z = (s - f64::signum(s)) / variance.sqrt();
        if s == 0.0 { 1.0 } else { two_sided(z) }
    } else {
        1.0
    };
    Ok(Trend { change: slope * (n - 1) as f64, probability, autocorrelation: r })
}

/// Where the level most likely changed at once.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// Place of the first value after it.
    pub at: usize,
    /// Median after less median before.
    pub size: f64,
    /// Probability of a statistic as large if nothing stepped.
    pub probability: f64,
}

/// Tests values for one step (Pettitt 1979; from memory): K = max |U_t|, U_t = Σ_{i ≤ t < j} sgn(xᵢ − xⱼ) and
/// p ≈ 2·exp(−6K²/(n³ + n²)), with K² divided by (1 + r)/(1 − r) where values resemble their neighbours beside the step.
///
/// # Errors
/// As [`trend`].
pub fn step(values: &[f64]) -> Result<Step, StatsError> {
    check(values, TREND_POINTS)?;
    let stretch = values.len().div_ceil(MOST);
    let values = &thinned(values);
    let n = values.len();
    // U_t from U_{t−1}: each value is compared with all others once.
    let (mut u, mut most, mut place) = (0.0, 0.0, 1);
    for (t, own) in values[..n - 1].iter().enumerate() {
        u += values
            .iter()
            .map(|other| f64::from(i8::from(own > other) - i8::from(own < other)))
            .sum::<f64>();
        if f64::abs(u) > most {
            (most, place) = (f64::abs(u), t + 1);
        }
    }
    let of = |part: &[f64]| median(&mut part.to_vec());
    let (before, after) = (of(&values[..place]), of(&values[place..]));
    let residuals: Vec<f64> = values
        .iter()
        .enumerate()
        .map(|(i, value)| value - if i < place { before } else { after })
        .collect();
    let r = lag_one_autocorrelation(&residuals)?;
    let size = n as f64;
    let exponent = 6.0 * most * most / (size.powi(3) + size.powi(2)) / inflation(r, n);
    let probability = (2.0 * (-exponent).exp()).min(1.0);
    Ok(Step { at: place * stretch, size: after - before, probability })
}

/// Means of stretches, where there are more values than are compared with each other.
fn thinned(values: &[f64]) -> Vec<f64> {
    let stretch = values.len().div_ceil(MOST);
    values.chunks(stretch).map(|part| mean(part).unwrap_or(f64::NAN)).collect()
}

/// By how much values that resemble their neighbours count less; only where that is told from chance.
fn inflation(r: f64, n: usize) -> f64 {
    if r > 2.0 / (n as f64).sqrt() { (1.0 + r.min(0.95)) / (1.0 - r.min(0.95)) } else { 1.0 }
}

fn kendall_variance(values: &[f64]) -> f64 {
    let term = |t: f64| t * (t - 1.0) * (2.0 * t + 5.0);
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let ties: f64 = sorted.chunk_by(|a, b| a == b).map(|tied| term(tied.len() as f64)).sum();
    (term(values.len() as f64) - ties) / 18.0
}

fn two_sided(z: f64) -> f64 {
    2.0 * Normal::standard().cdf(-z.abs())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Ten rising values: S = 45 of 45, Var S = 10·9·25/18 = 125, Z = 44/√125 = 3.935, p = 8.3e−5 (tables).
    #[test]
    fn a_trend_by_hand() {
        let values: Vec<f64> = (0..10).map(|i| f64::from(i) * 0.5).collect();
        let found = trend(&values).unwrap();
        assert!((found.change - 4.5).abs() < 1e-12);
        assert!((found.probability - 8.3e-5).abs() < 1e-6, "{found:?}");
        let flat = trend(&[2.0; 12]).unwrap();
        assert_eq!((flat.change, flat.probability), (0.0, 1.0));
    }

    /// Five of one level, five of another: U₅ = −25, p = 2·exp(−6·625/1100) = 0.066; ten and ten: U₁₀ = −100,
    /// p = 2·exp(−60 000/8 400) = 0.0016.
    #[test]
    fn a_step_by_hand() {
        let levels =
            |n: usize| -> Vec<f64> { (0..2 * n).map(|i| f64::from(u8::from(i >= n))).collect() };
        let found = step(&levels(5)).unwrap();
        assert_eq!((found.at, found.size), (5, 1.0));
        assert!((found.probability - 0.0662).abs() < 1e-3, "{found:?}");
        let found = step(&levels(10)).unwrap();
        assert!((found.probability - 0.00158).abs() < 1e-5, "{found:?}");
    }

    #[test]
    fn one_bad_value_is_no_trend_and_too_little_is_refused() {
        let mut values: Vec<f64> = (0..20).map(|i| f64::from(i * 7 % 5)).collect();
        values[19] = 1e6;
        assert!(trend(&values).unwrap().probability > 0.1);
        assert!(step(&values).unwrap().probability > 0.1);
        assert!(trend(&values[..9]).is_err() && step(&values[..9]).is_err());
        assert!(trend(&[f64::NAN; 12]).is_err());
    }

    /// Ten thousand values in stretches: the same change, quickly.
    #[test]
    fn long_series_are_thinned() {
        let values: Vec<f64> =
            (0..10_000).map(|i| f64::from(i) / 1e4 + f64::from(i * 37 % 11)).collect();
        let found = trend(&values).unwrap();
        assert!((found.change - 1.0).abs() < 0.05 && found.probability < 0.01, "{found:?}");
        let stepped: Vec<f64> = (0..10_000).map(|i| f64::from(u8::from(i >= 6_000))).collect();
        assert_eq!(step(&stepped).unwrap().at, 6_000);
    }
}
