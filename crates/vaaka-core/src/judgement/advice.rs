//! Adjust, or leave alone.

use serde::{Deserialize, Serialize};

/// What the advice rests on, all in one unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AdjustmentInput {
    /// Mean error of the check.
    pub mean_error: f64,
    /// The estimated level of the instrument ([`crate::history::level_now`]): what is corrected. A failing check is
    /// chosen for being far out, so that its own error says more than the instrument does.
    pub level: f64,
    /// Standard deviation of check means, √(σ_b² + σ_w²/n), from the frozen baseline.
    pub check_mean_std_dev: f64,
    /// Standard uncertainty of the reference.
    pub reference_standard_uncertainty: f64,
    /// Scale interval of the instrument.
    pub resolution: f64,
    /// Coverage factor k.
    pub coverage_factor: f64,
    /// Whether the error is within tolerance.
    pub within_tolerance: bool,
}

/// The advice with its reason.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum AdjustmentAdvice {
    /// The correction is smaller than one step of the display.
    SmallerThanResolution {
        /// The step.
        resolution: f64,
    },
    /// The error is inside what varies from check to check anyway.
    WithinNoise {
        /// k·√(σ_b² + σ_w²/n + u_ref²).
        noise: f64,
    },
    /// Real, and inside tolerance: the default policy waits.
    WithinTolerance {
        /// The noise that the error exceeds.
        noise: f64,
    },
    /// Adjust, with a full as-found first.
    Adjust {
        /// Correction to apply, minus the estimated level.
        correction: f64,
    },
}

/// Advises on an adjustment under the default policy, "only when out".
///
/// Leave alone while |mean error| ≤ k·√(σ_b² + σ_w²/n + u_ref²): adjusting by the last error
/// of a stable process doubles its variance (rule 2 of the funnel experiment).
#[must_use]
pub fn advise_adjustment(input: &AdjustmentInput) -> AdjustmentAdvice {
    let size = input.mean_error.abs();
    let noise = input.coverage_factor
        * input.check_mean_std_dev.hypot(input.reference_standard_uncertainty);
    if size < input.resolution {
        AdjustmentAdvice::SmallerThanResolution { resolution: input.resolution }
    } else if size <= noise {
        AdjustmentAdvice::WithinNoise { noise }
    } else if input.within_tolerance {
        AdjustmentAdvice::WithinTolerance { noise }
    } else {
        AdjustmentAdvice::Adjust { correction: -input.level }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn input(mean_error: f64, within_tolerance: bool) -> AdjustmentInput {
        AdjustmentInput {
            mean_error,
            level: 0.8 * mean_error,
            check_mean_std_dev: 3.0,
            reference_standard_uncertainty: 4.0,
            resolution: 1.0,
            coverage_factor: 2.0,
            within_tolerance,
        }
    }

    #[test]
    fn each_advice_has_its_reason() {
        assert!(matches!(
            advise_adjustment(&input(0.9, true)),
            AdjustmentAdvice::SmallerThanResolution { .. }
        ));
        // Noise is 2·√(3² + 4²) = 10; the limit itself is still noise.
        assert_eq!(
            advise_adjustment(&input(-10.0, false)),
            AdjustmentAdvice::WithinNoise { noise: 10.0 }
        );
        assert_eq!(
            advise_adjustment(&input(10.5, true)),
            AdjustmentAdvice::WithinTolerance { noise: 10.0 }
        );
        assert_eq!(
            advise_adjustment(&input(-25.0, false)),
            AdjustmentAdvice::Adjust { correction: 20.0 }
        );
    }
}
