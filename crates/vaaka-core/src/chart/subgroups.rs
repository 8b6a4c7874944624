//! Charts of repeated readings: means with a chart of their range or of their standard deviation, and
//! means with limits from what varies between checks.
//!
//! With sigma known or estimated, the limits of a mean of n are ±L·σ/√n about the centre, those of the
//! range (d₂ ± L·d₃)·σ, those of the standard deviation (c₄ ± L·√(1 − c₄²))·σ, never below zero (ISO 7870-2).

use serde::{Deserialize, Serialize};

use super::constants::{c4, d2, d3};
use super::limits::LimitError;
use crate::stats::{StatsError, mean, sample_std_dev, variance_components};

/// How the scatter within checks is charted and sigma estimated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Spread {
    /// By the range: for few readings, up to about ten.
    Range,
    /// By the standard deviation.
    StdDev,
}

/// Lower limit, centre, upper limit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Lines {
    /// Lower control limit.
    pub lower: f64,
    /// Centre line.
    pub center: f64,
    /// Upper control limit.
    pub upper: f64,
}

impl Lines {
    fn about(center: f64, half: f64) -> Self {
        Self { lower: center - half, center, upper: center + half }
    }

    fn not_negative(self) -> Self {
        Self { lower: self.lower.max(0.0), ..self }
    }
}

/// What a baseline of repeated readings comes to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SubgroupStudy {
    /// Mean of all readings: the centre of the means.
    pub center: f64,
    /// Standard deviation of a reading within a check.
    pub within: f64,
    /// Standard deviation of checks beside that of their readings, √σ_b².
    pub between: f64,
    /// Checks.
    pub checks: usize,
}

/// Least and most readings in a check that the constants are given for.
const SIZES: std::ops::RangeInclusive<usize> = 2..=100;

/// Studies a baseline: sigma within by the mean of R/d₂(n) or of s/c₄(n), each check with its own n and
/// weighted alike; between by the method of moments.
///
/// # Errors
/// [`LimitError::TooFewShifts`] below twenty checks; [`LimitError::Stats`] for a check with fewer than two
/// or more than a hundred readings, or with one that is not finite; [`LimitError::ZeroWidth`] when
/// nothing varies.
pub fn study_subgroups(checks: &[&[f64]], spread: Spread) -> Result<SubgroupStudy, LimitError> {
    let required = super::MINIMUM_BASELINE_POINTS;
    if checks.len() < required {
        return Err(LimitError::TooFewShifts { required, got: checks.len() });
    }
    let mut sigmas = Vec::with_capacity(checks.len());
    for check in checks {
        let n = check.len();
        if !SIZES.contains(&n) {
            return Err(StatsError::TooFewPoints { required: 2, got: n }.into());
        }
        sigmas.push(match spread {
            Spread::Range => range(check) / d2(n),
            Spread::StdDev => sample_std_dev(check)? / c4(n),
        });
    }
    let all: Vec<f64> = checks.iter().flat_map(|check| check.iter().copied()).collect();
    let (center, within) = (mean(&all)?, mean(&sigmas)?);
    let components = variance_components(checks)?;
    if within <= 0.0 && components.between <= 0.0 {
        return Err(LimitError::ZeroWidth);
    }
    Ok(SubgroupStudy { center, within, between: components.between.sqrt(), checks: checks.len() })
}

fn range(values: &[f64]) -> f64 {
    let (low, high) = values
        .iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), value| (l.min(*value), h.max(*value)));
    high - low
}

impl SubgroupStudy {
    /// Limits of a mean of `n` readings if checks differed by their readings alone: the classical chart of
    /// means, too narrow for most instruments, which are also set up anew for each check.
    #[must_use]
    pub fn mean_lines(&self, n: usize, multiplier: f64) -> Lines {
        Lines::about(self.center, multiplier * self.within / (n.max(1) as f64).sqrt())
    }

    /// Limits of a mean of `n` readings from all that varies: σ²(n) = σ_b² + σ_w²/n.
    #[must_use]
    pub fn between_lines(&self, n: usize, multiplier: f64) -> Lines {
        let sigma = self.between.hypot(self.within / (n.max(1) as f64).sqrt());
        Lines::about(self.center, multiplier * sigma)
    }

    /// Whether the scatter of a check is beyond the limits that belong to its own number of readings.
    #[must_use]
    pub fn scatter_is_beyond(&self, check: &[f64], spread: Spread, multiplier: f64) -> bool {
        let own = match spread {
            Spread::Range => range(check),
            Spread::StdDev => sample_std_dev(check).unwrap_or(0.0),
        };
        self.spread_lines(check.len(), spread, multiplier)
            .is_some_and(|lines| own > lines.upper || own < lines.lower)
    }

    /// Limits of the range or the standard deviation of `n` readings; none for a single one.
    #[must_use]
    pub fn spread_lines(&self, n: usize, spread: Spread, multiplier: f64) -> Option<Lines> {
        if !SIZES.contains(&n) {
            return None;
        }
        let (center, half) = match spread {
            Spread::Range => (d2(n), d3(n)),
            Spread::StdDev => (c4(n), (1.0 - c4(n).powi(2)).sqrt()),
        };
        let lines = Lines::about(center * self.within, multiplier * half * self.within);
        Some(lines.not_negative())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rstest::rstest;

    fn unit(within: f64, between: f64) -> SubgroupStudy {
        SubgroupStudy { center: 0.0, within, between, checks: 25 }
    }

    /// Factors of ISO 7870-2, table 2 (from memory): A₂ and D₃, D₄ are of a mean range of one, A₃ and B₃,
    /// B₄ of a mean standard deviation of one.
    #[rstest]
    #[case(2, 1.880, 0.0, 3.267, 2.659, 0.0, 3.267)]
    #[case(5, 0.577, 0.0, 2.114, 1.427, 0.0, 2.089)]
    #[case(6, 0.483, 0.0, 2.004, 1.287, 0.030, 1.970)]
    #[case(7, 0.419, 0.076, 1.924, 1.182, 0.118, 1.882)]
    #[case(10, 0.308, 0.223, 1.777, 0.975, 0.284, 1.716)]
    fn factors_of_the_standard(
        #[case] n: usize,
        #[case] a2: f64,
        #[case] d_lower: f64,
        #[case] d_upper: f64,
        #[case] a3: f64,
        #[case] b_lower: f64,
        #[case] b_upper: f64,
    ) {
        let of_range = unit(1.0 / d2(n), 0.0);
        let of_s = unit(1.0 / c4(n), 0.0);
        let range = of_range.spread_lines(n, Spread::Range, 3.0).unwrap();
        let s = of_s.spread_lines(n, Spread::StdDev, 3.0).unwrap();
        for (found, printed) in [
            (of_range.mean_lines(n, 3.0).upper, a2),
            (range.lower, d_lower),
            (range.center, 1.0),
            (range.upper, d_upper),
            (of_s.mean_lines(n, 3.0).upper, a3),
            (s.lower, b_lower),
            (s.upper, b_upper),
        ] {
            assert!((found - printed).abs() <= 0.000_51, "{found} beside {printed}");
        }
    }

    /// Two thousand checks of known scatter: both ways find it, and only limits with what varies between
    /// hold the means.
    #[test]
    fn known_components_are_found() {
        let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(3);
        let mut normal = || {
            let radius = (-2.0 * (1.0 - random.random::<f64>()).ln()).sqrt();
            radius * (std::f64::consts::TAU * random.random::<f64>()).cos()
        };
        let checks: Vec<Vec<f64>> = (0..2_000)
            .map(|index| {
                let own = 10.0 + 2.0 * normal();
                (0..3 + index % 3).map(|_| own + normal()).collect()
            })
            .collect();
        let slices: Vec<&[f64]> = checks.iter().map(Vec::as_slice).collect();
        for spread in [Spread::Range, Spread::StdDev] {
            let study = study_subgroups(&slices, spread).unwrap();
            assert!((study.within - 1.0).abs() < 0.03, "{study:?}");
            assert!((study.between - 2.0).abs() < 0.1, "{study:?}");
            let outside = |lines: fn(&SubgroupStudy, usize, f64) -> Lines| {
                let beyond = |check: &&Vec<f64>| {
                    let lines = lines(&study, check.len(), 3.0);
                    let own = mean(check).unwrap();
                    own < lines.lower || own > lines.upper
                };
                checks.iter().filter(beyond).count()
            };
            assert!(outside(SubgroupStudy::between_lines) < 15);
            assert!(outside(SubgroupStudy::mean_lines) > 400);
        }
    }

    #[test]
    fn what_cannot_be_studied_is_said() {
        let same = vec![[1.0, 1.0]; 20];
        let slices: Vec<&[f64]> = same.iter().map(|check| check.as_slice()).collect();
        assert_eq!(study_subgroups(&slices, Spread::Range), Err(LimitError::ZeroWidth));
        assert_eq!(
            study_subgroups(&slices[..19], Spread::Range),
            Err(LimitError::TooFewShifts { required: 20, got: 19 })
        );
        let mut short = slices.clone();
        short[3] = &[1.0];
        assert!(study_subgroups(&short, Spread::StdDev).is_err());
        assert_eq!(unit(1.0, 0.0).spread_lines(1, Spread::Range, 3.0), None);
    }
}
