//! Photometry: absorbance from raw signals, dilutions, what stray light does, whether absorbances lie on a line, and how many spots of an
//! uneven sample it takes.

use statrs::distribution::{ContinuousCDF, StudentsT};
use thiserror::Error;

use crate::stats::{CalibrationError, CalibrationLine};

/// Most spots that are looked for.
const MOST_SPOTS: u32 = 10_000;

/// Why nothing can be said of light. The words say what to do.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum PhotometryError {
    /// A number that is none.
    #[error("the values are finite numbers")]
    NotFinite,
    /// The blank lets nothing through.
    #[error(
        "the blank is no brighter than the dark: lamp, shutter or blank are not what they should be"
    )]
    DarkBlank,
    /// The sample lets nothing through.
    #[error(
        "the sample is no brighter than the dark: its transmittance is nothing or less, and it has no absorbance. Dilute it, or take a shorter path"
    )]
    Opaque,
    /// The detector is at its end.
    #[error(
        "{what} reads {value:?}, at or above the full scale of {full:?}: the detector is saturated. Close the slit, or take less gain"
    )]
    Saturated {
        /// Of what.
        what: &'static str,
        /// What it reads.
        value: f64,
        /// Its full scale.
        full: f64,
    },
    /// A quantity that cannot be.
    #[error("{0}")]
    Asked(&'static str),
    /// No line.
    #[error(transparent)]
    Line(#[from] CalibrationError),
}

/// Transmittance T = (S − D)/(B − D) and absorbance A = −lg T.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Absorbance {
    /// T.
    pub transmittance: f64,
    /// A; negative where the sample lets more through than the blank.
    pub absorbance: f64,
}

/// Absorbance from raw signals of sample, blank and dark; `full_scale` of the detector where it is known.
///
/// # Errors
/// [`PhotometryError`].
pub fn absorbance(
    (sample, blank, dark): (f64, f64, f64),
    full_scale: Option<f64>,
) -> Result<Absorbance, PhotometryError> {
    if ![sample, blank, dark].iter().all(|one| one.is_finite()) {
        return Err(PhotometryError::NotFinite);
    }
    if full_scale.is_some_and(|full| !(full.is_finite() && full > 0.0)) {
        return Err(PhotometryError::Asked("the full scale of a detector is above zero"));
    }
    for (what, value) in [("the sample", sample), ("the blank", blank)] {
        if let Some(full) = full_scale.filter(|full| value >= *full) {
            return Err(PhotometryError::Saturated { what, value, full });
        }
    }
    if blank <= dark {
        return Err(PhotometryError::DarkBlank);
    }
    if sample <= dark {
        return Err(PhotometryError::Opaque);
    }
    let transmittance = (sample - dark) / (blank - dark);
    Ok(Absorbance { transmittance, absorbance: -transmittance.log10() })
}

/// One step of a dilution: so much taken, made up to so much, each with its standard uncertainty.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DilutionStep {
    /// Volume taken.
    pub taken: f64,
    /// Its standard uncertainty.
    pub of_taken: f64,
    /// Volume made up to, in the same unit.
    pub made_up: f64,
    /// Its standard uncertainty.
    pub of_made_up: f64,
}

/// Concentrations after each step of a dilution, with their standard uncertainties: c = c₀·Π V/V', relative uncertainties squared and added
/// (JCGM 100, 5.1.6).
///
/// # Errors
/// [`PhotometryError::Asked`].
pub fn dilution(
    (stock, of_stock): (f64, f64),
    steps: &[DilutionStep],
) -> Result<Vec<(f64, f64)>, PhotometryError> {
    let uncertain = |value: f64| value.is_finite() && value >= 0.0;
    if !(stock.is_finite() && stock > 0.0 && uncertain(of_stock)) {
        return Err(PhotometryError::Asked(
            "a stock solution has a concentration above zero, and its uncertainty is not negative",
        ));
    }
    let (mut concentration, mut relative) = (stock, (of_stock / stock).powi(2));
    let mut found = vec![];
    for step in steps {
        let DilutionStep { taken, of_taken, made_up, of_made_up } = *step;
        if !(taken > 0.0 && made_up >= taken && made_up.is_finite()) {
            return Err(PhotometryError::Asked(
                "a volume that is taken is above zero, and no more than what it is made up to",
            ));
        }
        if !uncertain(of_taken) || !uncertain(of_made_up) {
            return Err(PhotometryError::Asked("the uncertainty of a volume is not negative"));
        }
        concentration *= taken / made_up;
        relative += (of_taken / taken).powi(2) + (of_made_up / made_up).powi(2);
        found.push((concentration, concentration * relative.sqrt()));
    }
    Ok(found)
}

/// What a share of stray light makes of a true absorbance: A' = −lg((10^−A + s)/(1 + s)).
///
/// # Errors
/// [`PhotometryError::Asked`].
pub fn with_stray_light(absorbance: f64, share: f64) -> Result<f64, PhotometryError> {
    if !(absorbance.is_finite() && (0.0..1.0).contains(&share)) {
        return Err(PhotometryError::Asked(
            "an absorbance is a number, and a share of stray light lies between 0 and 1",
        ));
    }
    Ok(-((10.0_f64.powf(-absorbance) + share) / (1.0 + share)).log10())
}

/// Highest true absorbance that stray light of a share lowers by no more than so much; none where it never does.
///
/// # Errors
/// [`PhotometryError::Asked`].
pub fn highest_with(share: f64, error: f64) -> Result<Option<f64>, PhotometryError> {
    if !(error.is_finite() && error > 0.0) {
        return Err(PhotometryError::Asked("an error that is allowed is above zero"));
    }
    with_stray_light(0.0, share)?;
    if share == 0.0 {
        return Ok(None);
    }
    // (10^−A + s)/(1 + s) = 10^(e − A): linear in 10^−A.
    let transmittance = share / ((1.0 + share) * 10.0_f64.powf(error) - 1.0);
    Ok((transmittance < 1.0).then(|| -transmittance.log10()))
}

/// Absorbances that were read over certified ones.
#[derive(Debug, Clone, PartialEq)]
pub struct Linearity {
    /// The line through them.
    pub line: CalibrationLine,
    /// Largest departure from it, with its sign, and of which.
    pub largest: (usize, f64),
    /// Read less certified, of each.
    pub errors: Vec<f64>,
}

/// Photometric linearity on filters or solutions: the line through what was read, and how far the worst lies off it.
///
/// # Errors
/// [`PhotometryError::Line`]; three are the fewest of which one can lie off a line.
pub fn linearity(certified: &[f64], read: &[f64]) -> Result<Linearity, PhotometryError> {
    if certified.len() < 3 {
        return Err(PhotometryError::Asked(
            "three absorbances are the fewest of which one can lie off a line",
        ));
    }
    let line = CalibrationLine::fit(certified, read, None, false)?;
    let worst = line.residuals.iter().enumerate().max_by(|a, b| a.1.abs().total_cmp(&b.1.abs()));
    let largest = worst.map_or((0, 0.0), |(place, residual)| (place, *residual));
    let errors = read.iter().zip(certified).map(|(read, certified)| read - certified).collect();
    Ok(Linearity { line, largest, errors })
}

/// How many spots of an uneven sample it takes until the mean is known to ± so much: the least n with t(n − 1)·s/√n ≤ h.
///
/// # Errors
/// [`PhotometryError::Asked`].
pub fn spots_needed(
    std_dev: f64,
    half_width: f64,
    confidence: f64,
) -> Result<u32, PhotometryError> {
    if !(std_dev.is_finite() && std_dev >= 0.0 && half_width.is_finite() && half_width > 0.0) {
        return Err(PhotometryError::Asked(
            "a standard deviation is not negative, and a half-width above zero",
        ));
    }
    if !(confidence > 0.0 && confidence < 1.0) {
        return Err(PhotometryError::Asked("a confidence lies between 0 and 1"));
    }
    let enough = |n: u32| {
        let t = StudentsT::new(0.0, 1.0, f64::from(n - 1))
            .map(|t| t.inverse_cdf(0.5 + confidence / 2.0));
        t.is_ok_and(|t| t * std_dev / f64::from(n).sqrt() <= half_width)
    };
    // t/√n falls with n: the least is found by halves.
    if !enough(MOST_SPOTS) {
        return Err(PhotometryError::Asked(
            "more than ten thousand spots: the sample is too uneven for this half-width",
        ));
    }
    let (mut low, mut high) = (1, MOST_SPOTS);
    while high - low > 1 {
        let middle = low.midpoint(high);
        if enough(middle) { high = middle } else { low = middle }
    }
    Ok(high)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_tenth_of_the_light_is_an_absorbance_of_one() {
        let found = absorbance((110.0, 1_010.0, 10.0), Some(4_096.0)).unwrap();
        assert!(
            (found.absorbance - 1.0).abs() < 1e-12 && (found.transmittance - 0.1).abs() < 1e-12
        );
        assert!(absorbance((1_100.0, 1_000.0, 0.0), None).unwrap().absorbance < 0.0);
        assert_eq!(absorbance((5.0, 10.0, 10.0), None), Err(PhotometryError::DarkBlank));
        assert_eq!(absorbance((10.0, 100.0, 10.0), None), Err(PhotometryError::Opaque));
        assert_eq!(absorbance((f64::NAN, 100.0, 10.0), None), Err(PhotometryError::NotFinite));
        let full = absorbance((100.0, 4_096.0, 10.0), Some(4_096.0)).unwrap_err();
        assert!(full.to_string().contains("the blank reads 4096"), "{full}");
    }

    /// 10.00 ± 0.02 mL to 100.0 ± 0.1 mL twice, of 1000 ± 2 (worked by hand: √(0.002² + 2·(0.002² + 0.001²)) = 0.003742).
    #[test]
    fn a_dilution_carries_its_uncertainty() {
        let step = DilutionStep { taken: 10.0, of_taken: 0.02, made_up: 100.0, of_made_up: 0.1 };
        let found = dilution((1_000.0, 2.0), &[step, step]).unwrap();
        assert!((found[1].0 - 10.0).abs() < 1e-12);
        assert!((found[1].1 / 10.0 - 14e-6_f64.sqrt()).abs() < 1e-9, "{found:?}");
        assert!(dilution((0.0, 0.0), &[step]).is_err());
        assert!(dilution((1.0, -1.0), &[step]).is_err());
        assert!(dilution((1.0, 0.0), &[DilutionStep { taken: 0.0, ..step }]).is_err());
        assert!(dilution((1.0, 0.0), &[DilutionStep { made_up: 5.0, ..step }]).is_err());
        assert!(dilution((1.0, 0.0), &[DilutionStep { of_taken: -0.1, ..step }]).is_err());
    }

    /// A thousandth of stray light turns 3 into 2.70 and 2 into 1.96 (textbook values; from memory).
    #[rstest]
    #[case(3.0, 2.699)]
    #[case(2.0, 1.959)]
    #[case(1.0, 0.996)]
    #[case(0.0, 0.0)]
    fn stray_light_ends_an_absorbance(#[case] of: f64, #[case] wanted: f64) {
        assert!((with_stray_light(of, 0.001).unwrap() - wanted).abs() < 5e-4);
    }

    #[test]
    fn how_high_stray_light_lets_one_go() {
        let highest = highest_with(0.001, 0.01).unwrap().unwrap();
        assert!((highest - with_stray_light(highest, 0.001).unwrap() - 0.01).abs() < 1e-12);
        assert_eq!(highest_with(0.0, 0.01).unwrap(), None);
        assert!(highest_with(0.001, 0.0).is_err() && highest_with(1.5, 0.01).is_err());
        assert!(with_stray_light(f64::NAN, 0.1).is_err());
    }

    #[test]
    fn the_worst_filter_is_named() {
        let found = linearity(&[0.3, 0.6, 1.0, 1.5], &[0.302, 0.604, 1.006, 1.489]).unwrap();
        assert_eq!(found.largest.0, 2);
        assert!((found.errors[3] + 0.011).abs() < 1e-12);
        assert!(linearity(&[0.3, 0.6], &[0.3, 0.6]).is_err());
        assert!(linearity(&[0.3, 0.3, 0.3], &[0.3, 0.3, 0.3]).is_err());
    }

    /// s = h: t/√n ≤ 1 first at n = 7 (t of 6 degrees 2.447, √7 = 2.646; of 5 degrees 2.571 > √6 = 2.449).
    #[test]
    fn spots_until_the_mean_is_known() {
        assert_eq!(spots_needed(1.0, 1.0, 0.95).unwrap(), 7);
        assert_eq!(spots_needed(0.0, 1.0, 0.95).unwrap(), 2);
        assert!(spots_needed(1.0, 1e-4, 0.95).unwrap_err().to_string().contains("too uneven"));
        assert!(spots_needed(-1.0, 1.0, 0.95).is_err() && spots_needed(1.0, 0.0, 0.95).is_err());
        assert!(spots_needed(1.0, 1.0, 1.0).is_err());
    }
}
