//! What a study of a scale gives, beside its check: eccentricity, repeatability, the smallest mass worth weighing, and test loads built
//! up by substitution.

use thiserror::Error;

use crate::stats::{StatsError, mean, sample_std_dev};

/// Why nothing follows. The words say what to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum StudyError {
    /// No number.
    #[error("a reading is no number: type all of them, in one unit")]
    NoNumber,
    /// Too few.
    #[error("there are {found} readings: {wanted} at least")]
    Few {
        /// How many there are.
        found: usize,
        /// How many it takes.
        wanted: usize,
    },
    /// Not above zero.
    #[error("{0} is above zero")]
    Positive(&'static str),
    /// Below zero.
    #[error("{0} is not negative")]
    Negative(&'static str),
    /// A substitute far from what it stands for.
    #[error(
        "substitute {0} differs from the reference by more than a tenth: load it closer to the reference, since the scale is compared there only"
    )]
    Unlike(usize),
}

impl From<StatsError> for StudyError {
    fn from(_: StatsError) -> Self {
        Self::NoNumber
    }
}

fn numbers(values: &[f64], wanted: usize) -> Result<(), StudyError> {
    if values.iter().any(|value| !value.is_finite()) {
        return Err(StudyError::NoNumber);
    }
    if values.len() < wanted {
        return Err(StudyError::Few { found: values.len(), wanted });
    }
    Ok(())
}

fn above_zero(what: &'static str, value: f64) -> Result<f64, StudyError> {
    if value.is_finite() && value > 0.0 { Ok(value) } else { Err(StudyError::Positive(what)) }
}

/// Readings of one load at places of the pan.
#[derive(Debug, Clone, PartialEq)]
pub struct Eccentricity {
    /// Each place less the middle.
    pub differences: Vec<f64>,
    /// Place of the greatest one, counted from 0.
    pub worst: usize,
    /// The greatest one, without its sign.
    pub greatest: f64,
}

/// Differences from the middle: ΔI_ecc = max |I_i − I_1| (EURAMET cg-18, 5.3; OIML R 76-1, A.4.7).
///
/// # Errors
/// [`StudyError`].
pub fn eccentricity(middle: f64, places: &[f64]) -> Result<Eccentricity, StudyError> {
    numbers(&[middle], 1)?;
    numbers(places, 1)?;
    let differences: Vec<f64> = places.iter().map(|place| place - middle).collect();
    let (worst, greatest) = differences
        .iter()
        .map(|difference| difference.abs())
        .enumerate()
        .fold((0, 0.0), |best, one| if one.1 > best.1 { one } else { best });
    Ok(Eccentricity { differences, worst, greatest })
}

/// Readings of one load put on again and again.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Repeatability {
    /// Their mean.
    pub mean: f64,
    /// Standard deviation of a reading, with n − 1.
    pub standard_deviation: f64,
    /// Greatest less smallest: what OIML R 76-1, 3.6.1, holds against the maximum permissible error.
    pub range: f64,
}

/// Repeatability of a series.
///
/// # Errors
/// [`StudyError`].
pub fn repeatability(readings: &[f64]) -> Result<Repeatability, StudyError> {
    numbers(readings, 2)?;
    let (least, most) = readings
        .iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), one| (a.min(*one), b.max(*one)));
    Ok(Repeatability {
        mean: mean(readings)?,
        standard_deviation: sample_std_dev(readings)?,
        range: most - least,
    })
}

/// Share of a scale interval below which a standard deviation is the display's and not the scale's (1/√12 of the two roundings of a
/// net reading: √2·0.29 d).
pub const LEAST_DEVIATION: f64 = 0.41;

/// The smallest net mass whose weighing keeps to a relative `requirement`: k·max(s, 0.41 d)/requirement (the way of the United States
/// Pharmacopeia, general chapter 41, with k = 2 and 0.1 %; from memory).
///
/// # Errors
/// [`StudyError`].
pub fn minimum_weight(
    standard_deviation: f64,
    interval: f64,
    coverage: f64,
    requirement: f64,
) -> Result<f64, StudyError> {
    if !standard_deviation.is_finite() || standard_deviation < 0.0 {
        return Err(StudyError::Negative("a standard deviation"));
    }
    let interval = above_zero("the scale interval", interval)?;
    let coverage = above_zero("the coverage factor", coverage)?;
    let requirement = above_zero("the requirement", requirement)?;
    Ok(coverage * standard_deviation.max(LEAST_DEVIATION * interval) / requirement)
}

/// A test load that was built up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TestLoad {
    /// Its value.
    pub value: f64,
    /// Its standard uncertainty.
    pub standard_uncertainty: f64,
}

/// Test loads from one reference and substitutes: the reference is put on, taken off, and a substitute that shows the same takes its
/// place; then the reference comes on top. L_n = n·m + Σ (I(substitute) − I(reference)), and
/// u²(L_n) = n²·u²(m) + 2·Σ u²(I) (EURAMET cg-18, version 4, 4.3.3 and 7.1.3; from memory).
///
/// A substitute within a tenth of the reference is compared where the scale was; that bound is common practice, no published source.
///
/// `pairs` are indications with the reference and with the substitute at the same load, in their order.
///
/// # Errors
/// [`StudyError`].
pub fn substitution(
    (reference, reference_uncertainty): (f64, f64),
    pairs: &[(f64, f64)],
    reading_uncertainty: f64,
) -> Result<Vec<TestLoad>, StudyError> {
    let reference = above_zero("the mass of the reference", reference)?;
    for (what, value) in [
        ("the uncertainty of the reference", reference_uncertainty),
        ("the uncertainty of a reading", reading_uncertainty),
    ] {
        if !value.is_finite() || value < 0.0 {
            return Err(StudyError::Negative(what));
        }
    }
    let all: Vec<f64> = pairs.iter().flat_map(|(a, b)| [*a, *b]).collect();
    numbers(&all, 0)?;
    let mut loads =
        vec![TestLoad { value: reference, standard_uncertainty: reference_uncertainty }];
    let mut moved = 0.0;
    for (place, (with_reference, with_substitute)) in pairs.iter().enumerate() {
        let difference = with_substitute - with_reference;
        if difference.abs() > reference / 10.0 {
            return Err(StudyError::Unlike(place + 1));
        }
        moved += difference;
        let n = (place + 2) as f64;
        let read = 2.0 * (place + 1) as f64 * reading_uncertainty * reading_uncertainty;
        loads.push(TestLoad {
            value: n * reference + moved,
            standard_uncertainty: (n * n * reference_uncertainty * reference_uncertainty + read)
                .sqrt(),
        });
    }
    Ok(loads)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_worst_place_is_named_and_its_sign_kept() {
        let found = eccentricity(10.001, &[10.003, 9.996, 10.002, 10.001]).unwrap();
        assert_eq!(found.worst, 1);
        assert!((found.greatest - 0.005).abs() < 1e-12);
        assert!((found.differences[1] + 0.005).abs() < 1e-12 && found.differences.len() == 4);
        assert_eq!(eccentricity(1.0, &[]), Err(StudyError::Few { found: 0, wanted: 1 }));
        assert_eq!(eccentricity(f64::NAN, &[1.0]), Err(StudyError::NoNumber));
        assert_eq!(eccentricity(1.0, &[1.0]).unwrap().greatest, 0.0);
    }

    /// NIST Statistical Reference Datasets, NumAcc1: a small spread far from zero loses no digit.
    #[test]
    fn a_series_far_from_zero_keeps_its_spread() {
        let found = repeatability(&[10_000_001.0, 10_000_003.0, 10_000_002.0]).unwrap();
        assert_eq!((found.mean, found.standard_deviation, found.range), (10_000_002.0, 1.0, 2.0));
        assert_eq!(repeatability(&[1.0]), Err(StudyError::Few { found: 1, wanted: 2 }));
    }

    #[test]
    fn the_display_sets_the_least_mass() {
        // A balance of 0.1 mg with s = 0.05 mg: 2·0.05/0.1 % = 100 mg; quieter than its display, 0.41 d counts: 82 mg.
        assert!((minimum_weight(0.05, 0.1, 2.0, 0.001).unwrap() - 100.0).abs() < 1e-9);
        assert!((minimum_weight(0.0, 0.1, 2.0, 0.001).unwrap() - 82.0).abs() < 1e-9);
        assert_eq!(
            minimum_weight(0.0, 0.0, 2.0, 0.001),
            Err(StudyError::Positive("the scale interval"))
        );
        assert_eq!(
            minimum_weight(-1.0, 0.1, 2.0, 0.001),
            Err(StudyError::Negative("a standard deviation"))
        );
        assert_eq!(
            minimum_weight(0.1, 0.1, 2.0, 0.0),
            Err(StudyError::Positive("the requirement"))
        );
    }

    /// 1000 kg of reference and two substitutes: the third load is thrice the reference and what the substitutes showed more.
    #[test]
    fn loads_are_built_up_from_one_reference() {
        let loads =
            substitution((1000.0, 0.025), &[(1000.0, 1000.4), (2000.2, 2000.0)], 0.1).unwrap();
        let values: Vec<f64> = loads.iter().map(|load| load.value).collect();
        for (found, wanted) in values.iter().zip([1000.0, 2000.4, 3000.2]) {
            assert!((found - wanted).abs() < 1e-9, "{values:?}");
        }
        let u = |n: usize| loads[n].standard_uncertainty;
        assert_eq!(u(0), 0.025);
        assert!((u(1) - (4.0 * 0.025f64.powi(2) + 2.0 * 0.01).sqrt()).abs() < 1e-12);
        assert!((u(2) - (9.0 * 0.025f64.powi(2) + 4.0 * 0.01).sqrt()).abs() < 1e-12);
        assert_eq!(substitution((1000.0, 0.0), &[], 0.0).unwrap().len(), 1);
        assert_eq!(
            substitution((1000.0, 0.0), &[(1000.0, 1150.0)], 0.0),
            Err(StudyError::Unlike(1))
        );
        assert_eq!(
            substitution((0.0, 0.0), &[], 0.0),
            Err(StudyError::Positive("the mass of the reference"))
        );
        assert_eq!(
            substitution((1.0, -0.1), &[], 0.0),
            Err(StudyError::Negative("the uncertainty of the reference"))
        );
        assert_eq!(substitution((1.0, 0.0), &[(f64::NAN, 1.0)], 0.0), Err(StudyError::NoNumber));
    }
}
