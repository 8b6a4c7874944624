//! Crossover: old and new lot of a standard read in turn on one instrument, before the new one
//! takes over.

use crate::stats::{StatsError, mean, sample_std_dev, student_t};

/// Fewer pairs than this say nothing about the offset.
pub const MINIMUM_CROSSOVER_PAIRS: usize = 5;

/// By how much an instrument reads the new lot differently.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Crossover {
    /// Mean of the differences of the errors, new less old: what the chart's level moves by.
    pub offset: f64,
    /// Expanded uncertainty of the offset, t·s/√n at 95 %.
    pub expanded_uncertainty: f64,
    /// Pairs.
    pub pairs: usize,
    /// Whether the offset differs from zero by more than its uncertainty.
    pub differs: bool,
}

/// The offset from interleaved errors of indication, each against its own certified value: pairs
/// cancel what drifts while they are read (paired comparison, NIST/SEMATECH e-Handbook 7.3.1.1).
///
/// # Errors
/// [`StatsError::TooFewPoints`] for fewer than [`MINIMUM_CROSSOVER_PAIRS`] pairs.
pub fn crossover(old: &[f64], new: &[f64]) -> Result<Crossover, StatsError> {
    let pairs = old.len().min(new.len());
    if pairs < MINIMUM_CROSSOVER_PAIRS {
        return Err(StatsError::TooFewPoints { required: MINIMUM_CROSSOVER_PAIRS, got: pairs });
    }
    let differences: Vec<f64> = old.iter().zip(new).map(|(old, new)| new - old).collect();
    let offset = mean(&differences)?;
    let std_dev = sample_std_dev(&differences)?;
    let n = pairs as f64;
    let expanded_uncertainty = student_t(0.95, n - 1.0)? * std_dev / n.sqrt();
    Ok(Crossover {
        offset,
        expanded_uncertainty,
        pairs,
        differs: offset.abs() > expanded_uncertainty,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: differences 2, 1, 3, 2, 2: mean 2, s = √(2/4) = 0.7071, t(0.975; 4) = 2.7764
    /// (tables), U = 2.7764·0.7071/√5 = 0.8780.
    #[test]
    fn by_hand() {
        let found = crossover(&[1.0, 2.0, 0.0, 1.0, 3.0], &[3.0, 3.0, 3.0, 3.0, 5.0]).unwrap();
        assert!((found.offset - 2.0).abs() < 1e-12);
        assert!((found.expanded_uncertainty - 0.8780).abs() < 2e-4, "{found:?}");
        assert!(found.differs);
    }

    #[test]
    fn identical_lots_and_too_few() {
        let same = [1.0, 2.0, 3.0, 4.0, 5.0];
        let found = crossover(&same, &same).unwrap();
        assert!(!found.differs && found.offset == 0.0 && found.expanded_uncertainty == 0.0);
        assert!(crossover(&same[..4], &same).is_err());
        assert!(crossover(&[f64::NAN, 1.0, 1.0, 1.0, 1.0], &same).is_err());
    }
}
