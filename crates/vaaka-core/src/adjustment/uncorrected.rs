//! What the instrument would read today had nobody ever adjusted it.

use jiff::Timestamp;

use super::Correction;

/// A correction that was applied at a moment, as its effect at one point of a chart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AppliedCorrection {
    /// When.
    pub at: Timestamp,
    /// What it did to the error at this point, offset + gain·indication.
    pub effect: f64,
    /// Variance of that effect where it is only known as as-left minus as-found; zero where the
    /// amount that was entered is known.
    pub variance: f64,
}

impl AppliedCorrection {
    /// An adjustment whose factors are known, projected to the nominal value of a chart.
    #[must_use]
    pub fn known(at: Timestamp, correction: Correction, nominal: f64) -> Self {
        Self { at, effect: correction.at(nominal), variance: 0.0 }
    }

    /// An adjustment of which only the checks before and after are known: as left − as found, with
    /// the variance of both check means.
    #[must_use]
    pub fn between(at: Timestamp, as_found: f64, as_left: f64, check_mean_std_dev: f64) -> Self {
        Self { at, effect: as_left - as_found, variance: 2.0 * check_mean_std_dev.powi(2) }
    }
}

/// One point of the uncorrected chart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct UncorrectedPoint {
    /// When.
    pub at: Timestamp,
    /// Error without the corrections before it.
    pub value: f64,
    /// Standard uncertainty that the corrections bring in.
    pub standard_uncertainty: f64,
}

/// The errors with every earlier correction taken out again: E_u(t) = E(t) − Σ effects before t.
/// `points` and `corrections` are by rising time; a point at the moment of a correction is as found.
#[must_use]
pub fn uncorrected_drift(
    points: &[(Timestamp, f64)],
    corrections: &[AppliedCorrection],
) -> Vec<UncorrectedPoint> {
    let mut next = corrections.iter().peekable();
    let (mut sum, mut variance) = (0.0, 0.0);
    points
        .iter()
        .map(|(at, value)| {
            while let Some(correction) = next.next_if(|correction| correction.at < *at) {
                sum += correction.effect;
                variance += correction.variance;
            }
            UncorrectedPoint {
                at: *at,
                value: value - sum,
                standard_uncertainty: f64::sqrt(variance),
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(hours: i64) -> Timestamp {
        Timestamp::from_second(hours * 3600).unwrap()
    }

    /// A steady drift of 1 an hour, adjusted to zero by −4 at the fourth hour and by −3 (known only
    /// from the checks around it) at the seventh: uncorrected it is the straight line again.
    #[test]
    fn the_straight_line_comes_back() {
        let points: Vec<_> = [(1, 1.0), (4, 4.0), (5, 1.0), (7, 3.0), (8, 1.0), (9, 2.0)]
            .map(|(hour, value)| (at(hour), value))
            .to_vec();
        let corrections = [
            AppliedCorrection::known(at(4), Correction { offset: -2.0, gain: -0.02 }, 100.0),
            AppliedCorrection::between(at(7), 3.0, 0.0, 0.1),
        ];
        let found = uncorrected_drift(&points, &corrections);
        let values: Vec<f64> = found.iter().map(|point| point.value).collect();
        assert_eq!(values, [1.0, 4.0, 5.0, 7.0, 8.0, 9.0]);
        assert_eq!(found[3].standard_uncertainty, 0.0);
        assert!((found[4].standard_uncertainty - 0.02_f64.sqrt()).abs() < 1e-15);
    }

    #[test]
    fn nothing_adjusted_nothing_changed() {
        let points = [(at(1), 0.3), (at(2), -0.1)];
        let found = uncorrected_drift(&points, &[]);
        assert!(found.iter().zip(&points).all(|(found, point)| found.value == point.1));
        assert!(uncorrected_drift(&[], &[]).is_empty());
    }
}
