//! What varies within groups of values, and what between them.

use statrs::distribution::{ContinuousCDF, FisherSnedecor};

use super::summary::check;
use super::{StatsError, mean};

/// Variance components of values in groups.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Components {
    /// Variance of values within a group, pooled: the mean square within.
    pub within: f64,
    /// Variance of the groups' own means, what is left of the mean square between; not negative.
    pub between: f64,
    /// Mean square between over mean square within.
    pub f: f64,
    /// Probability of a ratio as large if the groups did not differ.
    pub probability: f64,
    /// Groups.
    pub groups: usize,
    /// Values.
    pub values: usize,
}

/// One-way layout with unequal groups, by the method of moments: σ_w² = MS_w,
/// σ_b² = max(0, (MS_b − MS_w)/n₀) with n₀ = (N − Σnᵢ²/N)/(a − 1) (JCGM 100, H.5 for equal groups; Searle,
/// Casella and McCulloch 1992 for unequal ones).
///
/// # Errors
/// [`StatsError::TooFewPoints`] with fewer than two groups that have values, or without a group of two;
/// [`StatsError::NotFinite`].
pub fn variance_components(groups: &[&[f64]]) -> Result<Components, StatsError> {
    let groups: Vec<&[f64]> = groups.iter().copied().filter(|group| !group.is_empty()).collect();
    if groups.len() < 2 {
        return Err(StatsError::TooFewPoints { required: 2, got: groups.len() });
    }
    for group in &groups {
        check(group, 1)?;
    }
    let all: Vec<f64> = groups.iter().flat_map(|group| group.iter().copied()).collect();
    let (total, count) = (all.len(), groups.len());
    if total == count {
        return Err(StatsError::TooFewPoints { required: count + 1, got: total });
    }
    let center = mean(&all)?;
    let (mut within, mut between, mut squares) = (0.0, 0.0, 0.0);
    for group in &groups {
        let own = mean(group)?;
        let n = group.len() as f64;
        within += group.iter().map(|value| (value - own).powi(2)).sum::<f64>();
        between += n * (own - center).powi(2);
        squares += n * n;
    }
    let (of_within, of_between) = ((total - count) as f64, (count - 1) as f64);
    let (within, between) = (within / of_within, between / of_between);
    let size = (total as f64 - squares / total as f64) / of_between;
    let f = if within > 0.0 { between / within } else { f64::INFINITY };
    let probability = match FisherSnedecor::new(of_between, of_within) {
        Ok(distribution) if f.is_finite() => 1.0 - distribution.cdf(f),
        _ if between > 0.0 => 0.0,
        _ => 1.0,
    };
    let between = ((between - within) / size).max(0.0);
    Ok(Components { within, between, f, probability, groups: count, values: total })
}
