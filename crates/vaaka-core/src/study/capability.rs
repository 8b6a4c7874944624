//! How much of the tolerance the checks use: capability figures, each with its definition.

use crate::stats::{StatsError, mean, sample_std_dev};

/// Pp and Ppk of ISO 22514-2 for check means against the tolerance (from memory): the long-term spread,
/// since the standard deviation is that of all values shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Capability {
    /// Values.
    pub points: usize,
    /// Mean.
    pub mean: f64,
    /// Sample standard deviation.
    pub std_dev: f64,
    /// (U − L)/(6 s); none for one-sided tolerances.
    pub pp: Option<f64>,
    /// min(U − mean, mean − L)/(3 s).
    pub ppk: f64,
}

/// Capability of values against a tolerance that has at least one side.
///
/// # Errors
/// [`StatsError`]; [`StatsError::NoSpread`] when all values agree, [`StatsError::CrossedLimits`] for a tolerance
/// whose ends have changed places. `Ok(None)` without a tolerance.
pub fn capability(
    values: &[f64],
    lower: Option<f64>,
    upper: Option<f64>,
) -> Result<Option<Capability>, StatsError> {
    if lower.is_none() && upper.is_none() {
        return Ok(None);
    }
    if lower.zip(upper).is_some_and(|(lower, upper)| lower >= upper) {
        return Err(StatsError::CrossedLimits);
    }
    let (mean, std_dev) = (mean(values)?, sample_std_dev(values)?);
    if std_dev <= 0.0 {
        return Err(StatsError::NoSpread);
    }
    let to_upper = upper.map_or(f64::INFINITY, |upper| upper - mean);
    let to_lower = lower.map_or(f64::INFINITY, |lower| mean - lower);
    Ok(Some(Capability {
        points: values.len(),
        mean,
        std_dev,
        pp: lower.zip(upper).map(|(lower, upper)| (upper - lower) / (6.0 * std_dev)),
        ppk: to_upper.min(to_lower) / (3.0 * std_dev),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: 1, 2, 3 have mean 2 and s = 1; within 0 and 8 Pp = 8/6 and Ppk = 2/3.
    #[test]
    fn by_hand() {
        let found = capability(&[1.0, 2.0, 3.0], Some(0.0), Some(8.0)).unwrap().unwrap();
        assert!((found.pp.unwrap() - 8.0 / 6.0).abs() < 1e-15);
        assert!((found.ppk - 2.0 / 3.0).abs() < 1e-15);
        let one = capability(&[1.0, 2.0, 3.0], None, Some(8.0)).unwrap().unwrap();
        assert_eq!((one.pp, one.ppk), (None, 2.0));
        assert_eq!(capability(&[1.0, 2.0], None, None), Ok(None));
        assert_eq!(capability(&[1.0, 1.0], None, Some(2.0)), Err(StatsError::NoSpread));
        assert!(capability(&[], None, Some(2.0)).is_err());
        for (lower, upper) in [(8.0, 0.0), (1.0, 1.0)] {
            let crossed = capability(&[1.0, 2.0, 3.0], Some(lower), Some(upper));
            assert_eq!(crossed, Err(StatsError::CrossedLimits));
        }
    }
}
