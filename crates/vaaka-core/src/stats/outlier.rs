//! Whether one of a few values stands too far from the rest.

use super::{StatsError, mean, sample_std_dev, student_t};

/// The value that stands furthest from the mean, with its test.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Outlier {
    /// Its place.
    pub index: usize,
    /// G = |x − x̄|/s.
    pub g: f64,
    /// What G exceeds by chance with the probability of the test.
    pub critical: f64,
}

impl Outlier {
    /// Whether it stands out.
    #[must_use]
    pub fn stands_out(&self) -> bool {
        self.g > self.critical
    }
}

/// Grubbs' test for one outlier on either side (ISO 5725-2, 7.3.4; ISO 16269-4): G of the value furthest from the mean,
/// against (n − 1)/√n·√(t²/(n − 2 + t²)) with the t that Student's distribution of n − 2 degrees of freedom exceeds on
/// both sides with α/n.
///
/// # Errors
/// [`StatsError::TooFewPoints`] below three, [`StatsError::NoSpread`] where all are the same, and
/// [`StatsError::NotFinite`].
pub fn grubbs(values: &[f64], significance: f64) -> Result<Outlier, StatsError> {
    let n = values.len();
    if n < 3 {
        return Err(StatsError::TooFewPoints { required: 3, got: n });
    }
    let (middle, s) = (mean(values)?, sample_std_dev(values)?);
    if s <= 0.0 {
        return Err(StatsError::NoSpread);
    }
    let far = |index: &usize| (values[*index] - middle).abs();
    let index = (0..n).max_by(|a, b| far(a).total_cmp(&far(b))).unwrap_or(0);
    let count = n as f64;
    let t = student_t(1.0 - significance / count, count - 2.0)?;
    let critical = (count - 1.0) / count.sqrt() * (t * t / (count - 2.0 + t * t)).sqrt();
    Ok(Outlier { index, g: far(&index) / s, critical })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// ISO 5725-2:1994, table 5 (one outlying observation): 1 % and 5 % (from memory); with n = 3 the largest possible G
    /// is 2/√3.
    #[rstest]
    #[case(3, 0.05, 1.155)]
    #[case(5, 0.05, 1.715)]
    #[case(5, 0.01, 1.764)]
    #[case(10, 0.05, 2.290)]
    #[case(10, 0.01, 2.482)]
    #[case(20, 0.05, 2.709)]
    #[case(20, 0.01, 3.001)]
    fn critical_values(#[case] n: usize, #[case] significance: f64, #[case] printed: f64) {
        let values: Vec<f64> = (0..n).map(|i| i as f64).collect();
        let found = grubbs(&values, significance).unwrap();
        // Tables differ by one in their last digit.
        assert!((found.critical - printed).abs() < 1.1e-3, "{found:?}");
        assert!(!found.stands_out());
    }

    #[test]
    fn one_that_stands_out_is_found_wherever_it_is() {
        for place in 0..6 {
            let mut values = vec![20.0, 20.1, 19.9, 20.0, 20.1, 19.9];
            values[place] = 22.0;
            let found = grubbs(&values, 0.01).unwrap();
            assert_eq!((found.index, found.stands_out()), (place, true));
        }
    }

    #[test]
    fn what_cannot_be_tested_says_so() {
        assert_eq!(
            grubbs(&[1.0, 2.0], 0.05),
            Err(StatsError::TooFewPoints { required: 3, got: 2 })
        );
        assert_eq!(grubbs(&[2.0; 5], 0.05), Err(StatsError::NoSpread));
        assert!(grubbs(&[1.0, f64::NAN, 2.0], 0.05).is_err());
    }
}
