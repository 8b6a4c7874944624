//! Two ports by twelve terms: reflection standards on each, a known thru, isolation where it was measured.

use super::convert::passing;
use super::{Complex, NetworkError, OnePort, TwoPort, frequency_words};

/// Raw sweeps of a two-port are scattering parameters that nobody corrected.
pub type Raw = TwoPort;

/// Error terms of two ports at one frequency, forward (port 1 drives) and reverse.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TwelveTerms {
    /// Reflection terms of port 1.
    pub forward: OnePort,
    /// Of port 2.
    pub reverse: OnePort,
    /// Load match seen from port 1 at port 2; seen from port 2 at port 1.
    pub load_match: (Complex, Complex),
    /// Transmission tracking, forward and reverse.
    pub transmission: (Complex, Complex),
    /// Crosstalk, forward and reverse.
    pub isolation: (Complex, Complex),
}

/// The terms of transmission, from what was measured of a known thru. `isolation` is what was measured between ports that see nothing
/// of each other; where it was not, it is nothing.
///
/// # Errors
/// [`NetworkError`]; a thru that passes nothing on is named with the frequencies.
pub fn twelve_terms(
    frequencies: &[f64],
    (forward, reverse): (&[OnePort], &[OnePort]),
    (thru, measured): (&[TwoPort], &[Raw]),
    isolation: Option<&[(Complex, Complex)]>,
) -> Result<Vec<TwelveTerms>, NetworkError> {
    let wanted = frequencies.len();
    let lengths = [forward.len(), reverse.len(), thru.len(), measured.len()];
    if let Some(found) =
        lengths.into_iter().chain(isolation.map(<[_]>::len)).find(|found| *found != wanted)
    {
        return Err(NetworkError::Lengths { found, wanted });
    }
    passing(frequencies, thru, "The thru")?;
    passing(frequencies, measured, "What was measured of the thru")?;
    let terms: Vec<TwelveTerms> = (0..wanted)
        .map(|at| {
            let (one, other, t, m) = (forward[at], reverse[at], thru[at], measured[at]);
            let crosstalk = isolation.map_or((Complex::ZERO, Complex::ZERO), |own| own[at]);
            // What port 1 sees through the thru is the load match behind it.
            let behind = |seen: Complex, own: Complex, far: Complex| {
                let left = seen - own;
                left / (t.s12 * t.s21 + far * left)
            };
            let load_1 = behind(one.corrected(m.s11), t.s11, t.s22);
            let load_2 = behind(other.corrected(m.s22), t.s22, t.s11);
            let through = |source: Complex, load: Complex, own: Complex, far: Complex| {
                (Complex::ONE - source * own) * (Complex::ONE - load * far)
                    - source * load * t.s12 * t.s21
            };
            let track_1 =
                (m.s21 - crosstalk.0) * through(one.source_match, load_1, t.s11, t.s22) / t.s21;
            let track_2 =
                (m.s12 - crosstalk.1) * through(other.source_match, load_2, t.s22, t.s11) / t.s12;
            TwelveTerms {
                forward: one,
                reverse: other,
                load_match: (load_1, load_2),
                transmission: (track_1, track_2),
                isolation: crosstalk,
            }
        })
        .collect();
    let dead: Vec<f64> = terms
        .iter()
        .zip(frequencies)
        .filter(|(one, _)| {
            let (a, b) = one.transmission;
            !(a.is_finite() && b.is_finite() && a.norm() > 0.0 && b.norm() > 0.0)
        })
        .map(|(_, f)| *f)
        .collect();
    if dead.is_empty() {
        return Ok(terms);
    }
    Err(NetworkError::Blocked { what: "The thru".into(), places: frequency_words(&dead) })
}

impl TwelveTerms {
    /// What a piece is, from what was measured of it (the twelve-term model of the textbooks; from memory).
    #[must_use]
    pub fn corrected(&self, measured: &Raw) -> TwoPort {
        let (one, other) = (&self.forward, &self.reverse);
        let a = (measured.s11 - one.directivity) / one.tracking;
        let b = (measured.s22 - other.directivity) / other.tracking;
        let c = (measured.s21 - self.isolation.0) / self.transmission.0;
        let d = (measured.s12 - self.isolation.1) / self.transmission.1;
        let (load_1, load_2) = self.load_match;
        let unity = Complex::ONE;
        let from_1 = unity + a * one.source_match;
        let from_2 = unity + b * other.source_match;
        let by = (from_1 * from_2 - c * d * load_1 * load_2).inv();
        TwoPort {
            s11: (a * from_2 - load_1 * c * d) * by,
            s21: c * (unity + b * (other.source_match - load_1)) * by,
            s12: d * (unity + a * (one.source_match - load_2)) * by,
            s22: (b * from_1 - load_2 * c * d) * by,
        }
    }

    /// What would be measured of a piece.
    #[must_use]
    pub fn measured(&self, of: &TwoPort) -> Raw {
        let (one, other) = (&self.forward, &self.reverse);
        let (load_1, load_2) = self.load_match;
        let unity = Complex::ONE;
        let determinant = of.s11 * of.s22 - of.s12 * of.s21;
        let through = |source: Complex, load: Complex, own: Complex, far: Complex| {
            unity - source * own - load * far + source * load * determinant
        };
        let by_1 = through(one.source_match, load_1, of.s11, of.s22).inv();
        let by_2 = through(other.source_match, load_2, of.s22, of.s11).inv();
        TwoPort {
            s11: one.directivity + one.tracking * (of.s11 - load_1 * determinant) * by_1,
            s21: self.isolation.0 + self.transmission.0 * of.s21 * by_1,
            s12: self.isolation.1 + self.transmission.1 * of.s12 * by_2,
            s22: other.directivity + other.tracking * (of.s22 - load_2 * determinant) * by_2,
        }
    }
}
