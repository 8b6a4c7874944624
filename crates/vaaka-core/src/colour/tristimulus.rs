//! Tristimulus values of a reflectance or transmittance (ASTM E308, weights at 10 nm; no bandpass is corrected).

use super::ColourError;
use super::weights::{A_TEN, A_TWO, COUNT, D50_TEN, D50_TWO, D65_TEN, D65_TWO, FROM, STEP};

/// Longest and shortest wavelength between which a spectrum must reach, nm.
const NEEDED: (f64, f64) = (400.0, 700.0);

/// Under which light.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Illuminant {
    /// Daylight of 6500 K.
    D65,
    /// Daylight of 5000 K.
    D50,
    /// Incandescent light.
    A,
}

/// By whose eyes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Observer {
    /// CIE 1931, 2°.
    Two,
    /// CIE 1964, 10°.
    Ten,
}

fn weights(illuminant: Illuminant, observer: Observer) -> &'static [[f64; 3]; COUNT] {
    match (illuminant, observer) {
        (Illuminant::D65, Observer::Two) => &D65_TWO,
        (Illuminant::D65, Observer::Ten) => &D65_TEN,
        (Illuminant::D50, Observer::Two) => &D50_TWO,
        (Illuminant::D50, Observer::Ten) => &D50_TEN,
        (Illuminant::A, Observer::Two) => &A_TWO,
        (Illuminant::A, Observer::Ten) => &A_TEN,
    }
}

/// X, Y and Z of a perfect white.
#[must_use]
pub fn white(illuminant: Illuminant, observer: Observer) -> [f64; 3] {
    let all = weights(illuminant, observer);
    [0, 1, 2].map(|part| all.iter().map(|one| one[part]).sum())
}

/// X, Y and Z of a spectrum: wavelengths in nm by tens, each with a factor (1 is a perfect white). Where a spectrum ends before the
/// weights do, the weights beyond count at its last value (ASTM E308, 7.3; from memory).
///
/// # Errors
/// [`ColourError::Spectrum`], [`ColourError::NotFinite`].
pub fn tristimulus(
    spectrum: &[(f64, f64)],
    illuminant: Illuminant,
    observer: Observer,
) -> Result<[f64; 3], ColourError> {
    if spectrum.iter().any(|(x, y)| !(x.is_finite() && y.is_finite())) {
        return Err(ColourError::NotFinite);
    }
    let by_tens = spectrum.windows(2).all(|pair| pair[1].0 - pair[0].0 == STEP as f64);
    let (Some(first), Some(last)) = (spectrum.first(), spectrum.last()) else {
        return Err(ColourError::Spectrum);
    };
    if !by_tens || first.0 % STEP as f64 != 0.0 || first.0 > NEEDED.0 || last.0 < NEEDED.1 {
        return Err(ColourError::Spectrum);
    }
    let mut found = [0.0; 3];
    for (nth, weight) in weights(illuminant, observer).iter().enumerate() {
        let at = (FROM + STEP * nth) as f64;
        let place = ((at - first.0) / STEP as f64).max(0.0) as usize;
        let factor = spectrum[place.min(spectrum.len() - 1)].1;
        for (sum, weight) in found.iter_mut().zip(weight) {
            *sum += weight * factor;
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn flat(from: u32, to: u32, value: f64) -> Vec<(f64, f64)> {
        (from / 10..=to / 10).map(|ten| (f64::from(ten * 10), value)).collect()
    }

    /// Whites of ASTM E308, table 5 (from memory).
    #[rstest]
    #[case(Illuminant::D65, Observer::Two, [95.047, 100.0, 108.883])]
    #[case(Illuminant::D65, Observer::Ten, [94.811, 100.0, 107.304])]
    #[case(Illuminant::D50, Observer::Two, [96.422, 100.0, 82.521])]
    #[case(Illuminant::A, Observer::Two, [109.850, 100.0, 35.585])]
    fn whites(
        #[case] illuminant: Illuminant,
        #[case] observer: Observer,
        #[case] wanted: [f64; 3],
    ) {
        for (found, wanted) in white(illuminant, observer).into_iter().zip(wanted) {
            assert!((found - wanted).abs() < 0.01, "{found} {wanted}");
        }
        // A shorter spectrum of one value is still that share of white.
        let half = tristimulus(&flat(400, 700, 0.5), illuminant, observer).unwrap();
        for (found, whole) in half.into_iter().zip(white(illuminant, observer)) {
            assert!((found - whole / 2.0).abs() < 1e-9);
        }
    }

    #[test]
    fn spectra_that_do_not_fit() {
        let of = |spectrum: &[(f64, f64)]| tristimulus(spectrum, Illuminant::D65, Observer::Ten);
        assert_eq!(of(&[]), Err(ColourError::Spectrum));
        assert_eq!(of(&flat(410, 700, 0.5)), Err(ColourError::Spectrum));
        assert_eq!(of(&flat(400, 690, 0.5)), Err(ColourError::Spectrum));
        let shifted: Vec<(f64, f64)> =
            flat(390, 700, 0.5).iter().map(|(x, y)| (x + 1.0, *y)).collect();
        assert_eq!(of(&shifted), Err(ColourError::Spectrum));
        let mut falling = flat(400, 700, 0.5);
        falling.reverse();
        assert_eq!(of(&falling), Err(ColourError::Spectrum));
        let mut odd = flat(400, 700, 0.5);
        odd[3].1 = f64::NAN;
        assert_eq!(of(&odd), Err(ColourError::NotFinite));
    }
}
