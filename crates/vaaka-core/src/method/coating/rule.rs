//! Whether a coating is thick enough, by the rule of ISO 19840.

use thiserror::Error;

/// Why nothing can be said.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum CoatingError {
    /// No readings.
    #[error("there are no readings: give one at least")]
    Nothing,
    /// A number that cannot be.
    #[error("{0} must be a finite number, zero or more; the nominal thickness above zero")]
    Number(&'static str),
    /// A maximum below the nominal thickness.
    #[error("the maximum lies below the nominal thickness")]
    Maximum,
}

/// Smallest share of the nominal thickness that a single reading may have, and the largest share of readings below the nominal
/// thickness (ISO 19840: 80 % and 20 %; from memory).
const LEAST_SINGLE: f64 = 0.8;
const MOST_BELOW: f64 = 0.2;

/// What readings say of a coating; all values with the correction for the rough base taken off.
#[derive(Debug, Clone, PartialEq)]
pub struct CoatingJudgement {
    /// Mean.
    pub mean: f64,
    /// Smallest reading.
    pub least: f64,
    /// Largest reading.
    pub most: f64,
    /// Readings below 80 % of the nominal thickness.
    pub far_below: usize,
    /// Readings from 80 % to below the nominal thickness.
    pub below: usize,
    /// Readings above the maximum.
    pub above: usize,
    /// Whether the mean is at least the nominal thickness.
    pub mean_holds: bool,
    /// Whether no reading is below 80 % of it.
    pub singles_hold: bool,
    /// Whether fewer than a fifth of them are below it.
    pub share_holds: bool,
    /// Whether none is above the maximum.
    pub maximum_holds: bool,
}

impl CoatingJudgement {
    /// Whether all of it holds.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.mean_holds && self.singles_hold && self.share_holds && self.maximum_holds
    }
}

/// Judges readings against a nominal dry film thickness: their mean is at least nominal, none below 80 % of it, fewer than
/// 20 % of them between 80 % and 100 %, none above the maximum where there is
/// one. `correction` is taken off each: what a gauge set on a smooth base shows too much on a rough one.
///
/// # Errors
/// [`CoatingError`].
pub fn coating_rule(
    readings: &[f64],
    nominal: f64,
    maximum: Option<f64>,
    correction: f64,
) -> Result<CoatingJudgement, CoatingError> {
    let fine = |value: f64| value.is_finite() && value >= 0.0;
    if readings.is_empty() {
        return Err(CoatingError::Nothing);
    }
    if !readings.iter().all(|one| fine(*one)) {
        return Err(CoatingError::Number("a reading"));
    }
    if !fine(nominal) || nominal == 0.0 {
        return Err(CoatingError::Number("the nominal thickness"));
    }
    if !fine(correction) {
        return Err(CoatingError::Number("the correction"));
    }
    if maximum.is_some_and(|maximum| !fine(maximum) || maximum < nominal) {
        return Err(CoatingError::Maximum);
    }
    let values: Vec<f64> = readings.iter().map(|one| one - correction).collect();
    let n = values.len();
    let mean = values.iter().sum::<f64>() / n as f64;
    let limit = LEAST_SINGLE * nominal;
    let far_below = values.iter().filter(|one| **one < limit).count();
    let below = values.iter().filter(|one| **one >= limit && **one < nominal).count();
    let above = maximum.map_or(0, |maximum| values.iter().filter(|one| **one > maximum).count());
    Ok(CoatingJudgement {
        mean,
        least: values.iter().copied().fold(f64::INFINITY, f64::min),
        most: values.iter().copied().fold(f64::NEG_INFINITY, f64::max),
        far_below,
        below,
        above,
        mean_holds: mean >= nominal,
        singles_hold: far_below == 0,
        share_holds: below == 0 || (below as f64) < MOST_BELOW * n as f64,
        maximum_holds: above == 0,
    })
}
