//! Limits of an individuals chart from a baseline of check means.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::constants::D2_OF_TWO;
use crate::stats::{StatsError, lag_one_autocorrelation, mean, mean_moving_range, sample_std_dev};

/// Fewest different shifts that a baseline may rest on.
pub const MINIMUM_BASELINE_POINTS: usize = 20;

/// Where sigma came from; the chart's label says it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SigmaSource {
    /// Mean moving range / 1.128.
    MovingRange,
    /// Sample standard deviation, because consecutive checks resemble each other.
    SampleStdDev,
    /// The resolution of the instrument, which is coarser than its spread.
    Resolution,
    /// Given by somebody, not estimated here.
    Given,
}

/// Control limits of an individuals chart. They say what this instrument normally does, and
/// are never tolerance limits.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ControlLimits {
    /// Centre line: mean of the baseline.
    pub center_line: f64,
    /// Lower control limit.
    pub lower_control_limit: f64,
    /// Upper control limit.
    pub upper_control_limit: f64,
    /// Standard deviation of the plotted check means.
    pub sigma: f64,
    /// Half-width in sigmas.
    pub multiplier: f64,
    /// Where sigma came from.
    pub sigma_source: SigmaSource,
    /// Whether the resolution floor binds.
    pub resolution_floor: bool,
}

impl ControlLimits {
    /// Half the distance between the limits.
    #[must_use]
    pub fn half_width(&self) -> f64 {
        (self.upper_control_limit - self.lower_control_limit) / 2.0
    }
}

/// Something about a baseline that makes chart verdicts less sure; said on the chart.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum BaselineNote {
    /// Consecutive checks are correlated.
    Autocorrelated {
        /// Lag-one autocorrelation.
        r: f64,
    },
    /// The resolution is coarser than the spread.
    CoarseResolution {
        /// Scale interval in the chart's unit.
        resolution: f64,
    },
}

/// Limits proposed from a baseline, with what is to be said about them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BaselineStudy {
    /// The proposed limits.
    pub limits: ControlLimits,
    /// Number of check means used.
    pub points: usize,
    /// Mean moving range.
    pub mean_moving_range: f64,
    /// Cautions.
    pub notes: Vec<BaselineNote>,
}

/// Why no limits can be proposed.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum LimitError {
    /// Too few shifts in the baseline.
    #[error("{got} shifts are in this baseline, at least {required} different ones are needed")]
    TooFewShifts {
        /// The least number.
        required: usize,
        /// The number given.
        got: usize,
    },
    /// All values agree and no resolution is known, so that limits would have no width.
    #[error(
        "all values are the same and the resolution is not known: the limits would have no width"
    )]
    ZeroWidth,
    /// A statistic could not be formed.
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// Proposes limits from baseline check means.
///
/// σ̂ = MR̄/1.128 (ISO 7870-2, individuals), or the sample standard deviation when
/// |r₁| > 2/√n, since moving ranges of correlated checks are too small. With resolution d,
/// σ ≥ d/√12 and limits at least ±1.5 d.
///
/// `runs` are stretches of consecutive checks (one check mean a shift).
///
/// # Errors
/// [`LimitError::TooFewShifts`] below [`MINIMUM_BASELINE_POINTS`]; [`LimitError::ZeroWidth`] when
/// all values agree and `resolution` is zero.
pub fn study_baseline(
    runs: &[&[f64]],
    multiplier: f64,
    resolution: f64,
) -> Result<BaselineStudy, LimitError> {
    let all: Vec<f64> = runs.iter().flat_map(|run| run.iter().copied()).collect();
    if all.len() < MINIMUM_BASELINE_POINTS {
        return Err(LimitError::TooFewShifts { required: MINIMUM_BASELINE_POINTS, got: all.len() });
    }
    let center_line = mean(&all)?;
    let moving_range = mean_moving_range(runs)?;
    let r = lag_one_autocorrelation(&all)?;
    let mut notes = Vec::new();
    let (mut sigma, mut sigma_source) = (moving_range / D2_OF_TWO, SigmaSource::MovingRange);
    if r.abs() > 2.0 / (all.len() as f64).sqrt() {
        sigma = sample_std_dev(&all)?;
        sigma_source = SigmaSource::SampleStdDev;
        notes.push(BaselineNote::Autocorrelated { r });
    }
    let floor = resolution / 12.0_f64.sqrt();
    if sigma < floor {
        sigma = floor;
        sigma_source = SigmaSource::Resolution;
    }
    let half_width = (multiplier * sigma).max(1.5 * resolution);
    let resolution_floor =
        half_width > multiplier * sigma || sigma_source == SigmaSource::Resolution;
    if resolution_floor {
        notes.push(BaselineNote::CoarseResolution { resolution });
    }
    if half_width <= 0.0 {
        return Err(LimitError::ZeroWidth);
    }
    Ok(BaselineStudy {
        limits: ControlLimits {
            center_line,
            lower_control_limit: center_line - half_width,
            upper_control_limit: center_line + half_width,
            sigma,
            multiplier,
            sigma_source,
            resolution_floor,
        },
        points: all.len(),
        mean_moving_range: moving_range,
        notes,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// NIST/SEMATECH e-Handbook, section 6.3.2.2, "Individuals Control Charts": batch flow-rate
    /// data of ten batches, mean 50.81, mean moving range 1.8778, limits 45.8159 and 55.8041
    /// (from memory; mean and ranges confirmed by hand). The worked example has ten
    /// batches, fewer than a baseline may have, so it is repeated here in two separate runs.
    #[test]
    fn handbook_individuals_example() {
        let flow = [49.6, 47.6, 49.9, 51.3, 47.8, 51.2, 52.6, 52.4, 53.6, 52.1];
        let study = study_baseline(&[&flow, &flow], 3.0, 0.0).unwrap();
        assert!((study.mean_moving_range - 1.8778).abs() < 5e-5);
        let limits = study.limits;
        assert!((limits.center_line - 50.81).abs() < 1e-9);
        assert_eq!(limits.sigma_source, SigmaSource::MovingRange);
        // The handbook rounds d₂ to 1.128.
        assert!((limits.upper_control_limit - 55.8041).abs() < 5e-3);
        assert!((limits.lower_control_limit - 45.8159).abs() < 5e-3);
    }

    fn quiet(n: usize, step: f64) -> Vec<f64> {
        // A fixed pattern with mean zero, moving ranges 1, 2, 1, 2 …
        (0..n).map(|i| step * [0.0, 1.0, -1.0, 0.0][i % 4]).collect()
    }

    #[test]
    fn limits_shift_with_the_data() {
        let base = quiet(24, 1.0);
        let moved: Vec<f64> = base.iter().map(|value| value + 7.0).collect();
        let (a, b) = (
            study_baseline(&[&base], 3.0, 0.0).unwrap().limits,
            study_baseline(&[&moved], 3.0, 0.0).unwrap().limits,
        );
        assert!((b.center_line - a.center_line - 7.0).abs() < 1e-12);
        assert!((b.sigma - a.sigma).abs() < 1e-12);
    }

    #[test]
    fn correlated_checks_use_the_sample_std_dev() {
        let slow: Vec<f64> = (0..60).map(|i| (f64::from(i) / 8.0).sin()).collect();
        let study = study_baseline(&[&slow], 3.0, 0.0).unwrap();
        assert_eq!(study.limits.sigma_source, SigmaSource::SampleStdDev);
        assert!(matches!(study.notes[0], BaselineNote::Autocorrelated { r } if r > 0.9));
    }

    #[test]
    fn coarse_resolution_sets_a_floor() {
        let study = study_baseline(&[&[5.0; 24]], 3.0, 5.0).unwrap();
        assert!(study.limits.resolution_floor);
        assert!((study.limits.sigma - 5.0 / 12.0_f64.sqrt()).abs() < 1e-12);
        assert!((study.limits.half_width() - 7.5).abs() < 1e-12);
        assert_eq!(study_baseline(&[&[5.0; 24]], 3.0, 0.0), Err(LimitError::ZeroWidth));
    }

    #[test]
    fn nineteen_shifts_are_no_baseline() {
        assert_eq!(
            study_baseline(&[&quiet(19, 1.0)], 3.0, 0.0),
            Err(LimitError::TooFewShifts { required: 20, got: 19 })
        );
    }
}
