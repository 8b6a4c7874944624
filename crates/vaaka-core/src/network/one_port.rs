//! One port: directivity, source match and tracking from three standards or more, and what is measured corrected by them.

use super::{Complex, NetworkError, fit, frequency_words};

/// Standards whose normal equations are worse conditioned than this are too much alike.
const ALIKE: f64 = 1e-6;

/// Error terms of one port at one frequency: Γ_m = D + R·Γ/(1 − M·Γ).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OnePort {
    /// Directivity D.
    pub directivity: Complex,
    /// Source match M.
    pub source_match: Complex,
    /// Reflection tracking R.
    pub tracking: Complex,
}

impl OnePort {
    /// Γ = (Γ_m − D)/(R + M(Γ_m − D)).
    #[must_use]
    pub fn corrected(&self, measured: Complex) -> Complex {
        let above = measured - self.directivity;
        above / (self.tracking + self.source_match * above)
    }

    /// What would be measured of a reflection.
    #[must_use]
    pub fn measured(&self, gamma: Complex) -> Complex {
        self.directivity + self.tracking * gamma / (Complex::ONE - self.source_match * gamma)
    }
}

/// Error terms from standards, each with what it reflects and what was measured of it, by least squares where there are more than three:
/// D + Γ·Γ_m·M − Γ·Δ = Γ_m with Δ = D·M − R. Beside them the root mean square of what is left of each, |corrected − Γ|, over all
/// standards; of three none is left.
///
/// # Errors
/// [`NetworkError`]; standards that are too much alike are named with the frequencies.
pub fn one_port_terms(
    frequencies: &[f64],
    standards: &[(&[Complex], &[Complex])],
) -> Result<(Vec<OnePort>, Vec<f64>), NetworkError> {
    if standards.len() < 3 {
        return Err(NetworkError::TooFew { wanted: 3, found: standards.len() });
    }
    for (of, measured) in standards {
        fit(frequencies, &[("A standard's model", of), ("A standard's sweep", measured)])?;
    }
    let (mut terms, mut left, mut alike) = (vec![], vec![], vec![]);
    for (at, frequency) in frequencies.iter().enumerate() {
        let rows: Vec<([Complex; 3], Complex)> = standards
            .iter()
            .map(|(of, measured)| ([Complex::ONE, of[at] * measured[at], -of[at]], measured[at]))
            .collect();
        let Some([directivity, source_match, delta]) = solved(&rows) else {
            alike.push(*frequency);
            continue;
        };
        let one =
            OnePort { directivity, source_match, tracking: directivity * source_match - delta };
        let squares: f64 = standards
            .iter()
            .map(|(of, measured)| (one.corrected(measured[at]) - of[at]).norm_sqr())
            .sum();
        terms.push(one);
        left.push((squares / standards.len() as f64).sqrt());
    }
    if alike.is_empty() {
        Ok((terms, left))
    } else {
        Err(NetworkError::Alike { places: frequency_words(&alike) })
    }
}

/// Least squares of three unknowns by Gram and Schmidt, twice over; none where the columns are too much alike.
fn solved(rows: &[([Complex; 3], Complex)]) -> Option<[Complex; 3]> {
    let column = |nth: usize| rows.iter().map(move |(row, _)| row[nth]).collect::<Vec<Complex>>();
    let y: Vec<Complex> = rows.iter().map(|(_, y)| *y).collect();
    let dot = |a: &[Complex], b: &[Complex]| -> Complex {
        a.iter().zip(b).map(|(a, b)| a.conj() * b).sum()
    };
    let norm = |a: &[Complex]| a.iter().map(num_complex::Complex::norm_sqr).sum::<f64>().sqrt();
    // What each column is of those before it, and what is its own.
    let mut bases: Vec<Vec<Complex>> = vec![];
    let mut shares: Vec<Vec<Complex>> = vec![];
    for nth in 0..3 {
        let mut own = column(nth);
        let whole = norm(&own);
        let mut of_before = vec![Complex::ZERO; bases.len()];
        for _ in 0..2 {
            for (basis, share) in bases.iter().zip(&mut of_before) {
                let more = dot(basis, &own);
                *share += more;
                own.iter_mut().zip(basis).for_each(|(own, basis)| *own -= more * basis);
            }
        }
        let length = norm(&own);
        if length.is_nan() || length <= ALIKE * whole {
            return None;
        }
        bases.push(own.into_iter().map(|one| one / length).collect());
        of_before.push(Complex::new(length, 0.0));
        shares.push(of_before);
    }
    let [q0, q1, q2] = bases.as_slice() else { return None };
    let [r0, r1, r2] = shares.as_slice() else { return None };
    let third = dot(q2, &y) / r2[2];
    let second = (dot(q1, &y) - r2[1] * third) / r1[1];
    let first = (dot(q0, &y) - r1[0] * second - r2[0] * third) / r0[0];
    let x = [first, second, third];
    x.iter().all(|one| one.is_finite()).then_some(x)
}
