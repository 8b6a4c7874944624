//! Corrections that need no known reflection: thru, reflect and line (Engen and Hoer 1979), or thru, reflect and match; from memory.
//!
//! M = X·T·Y with X = [[a, b], [c, 1]] and Y = [[α, β], [γ, 1]] but for one factor. The reference plane lies in the middle of the thru; of
//! a thru without length it is where the ports meet. Raw sweeps are those of an analyzer whose ports match alike, whichever drives.

use super::convert::{Matrix, passing};
use super::{Complex, NetworkError, Raw, TwoPort, frequency_words};

/// Line and thru that differ by less than this (as 1 − e^(∓2γl)) from a half wave tell nothing of the port.
const HALF_WAVE: f64 = 1e-3;

/// What the reflect is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reflect {
    /// Like an open circuit.
    Open,
    /// Like a short circuit.
    Short,
}

impl Reflect {
    fn about(self) -> Complex {
        match self {
            Self::Open => Complex::ONE,
            Self::Short => -Complex::ONE,
        }
    }
}

/// The error boxes of both ports at one frequency, and what was found out on the way.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LineReflect {
    x: Matrix,
    y: Matrix,
    /// What the reflect reflects.
    pub reflect: Complex,
    /// e^(−γl) of the line, where one was measured.
    pub line: Option<Complex>,
    /// Impedance of the match over the reference, where one was measured.
    of_match: Option<Complex>,
}

impl LineReflect {
    /// What a piece is, from what was measured of it; in the impedance of the line, or of the reference where a match was measured.
    #[must_use]
    pub fn corrected(&self, measured: &Raw) -> TwoPort {
        let found = self.x.inverse().times(&measured.transfer()).times(&self.y.inverse());
        let piece = TwoPort::of_transfer(&found);
        match self.of_match {
            Some(gamma) => from_match(&piece, gamma),
            None => piece,
        }
    }
}

/// A two-port told in the impedance of the match, brought to the reference: Γ of the match there is nothing, here it is what it is.
/// T = A·T'·A⁻¹ with A = [[1, Γ], [Γ, 1]].
fn from_match(piece: &TwoPort, gamma: Complex) -> TwoPort {
    let a = Matrix([[Complex::ONE, gamma], [gamma, Complex::ONE]]);
    TwoPort::of_transfer(&a.times(&piece.transfer()).times(&a.inverse()))
}

/// What thru and one port's b and c/a leave: see the head of this room.
struct Half {
    b: Complex,
    c_over_a: Complex,
}

fn boxes(
    thru: &Matrix,
    half: &Half,
    (w1, w2): (Complex, Complex),
    reflect: Reflect,
) -> Option<(Matrix, Matrix, Complex)> {
    let [[m11, m12], [m21, m22]] = thru.0;
    let (d, e, f, g) = (m11 / m22, m12 / m22, m21 / m22, m22);
    let Half { b, c_over_a } = *half;
    let one = Complex::ONE;
    let gamma = (f - c_over_a * d) / (one - c_over_a * e);
    let beta_over_alpha = (e - b) / (d - b * f);
    let a_alpha = (d - b * f) / (one - c_over_a * e);
    let scale = g * (one - c_over_a * e) / (one - b * c_over_a);
    let a_over_alpha =
        (w1 - b) * (one + w2 * beta_over_alpha) / ((w2 + gamma) * (one - w1 * c_over_a));
    let mut a = (a_alpha * a_over_alpha).sqrt();
    let seen = |a: Complex| (w1 - b) / (a * (one - w1 * c_over_a));
    if (seen(a) - reflect.about()).norm() > (seen(-a) - reflect.about()).norm() {
        a = -a;
    }
    let alpha = a_alpha / a;
    let x = Matrix([[a, b], [c_over_a * a, one]]).scaled(scale);
    let y = Matrix([[alpha, beta_over_alpha * alpha], [gamma, one]]);
    let found = seen(a);
    let all = x.0.iter().chain(&y.0).flatten();
    all.copied().chain([found]).all(|one| one.is_finite()).then_some((x, y, found))
}

/// Looks at the sweeps that both corrections need.
fn looked_at(
    frequencies: &[f64],
    thru: &[Raw],
    reflect: &[(Complex, Complex)],
    other: usize,
) -> Result<(), NetworkError> {
    let wanted = frequencies.len();
    if let Some(found) =
        [thru.len(), reflect.len(), other].into_iter().find(|found| *found != wanted)
    {
        return Err(NetworkError::Lengths { found, wanted });
    }
    passing(frequencies, thru, "What was measured of the thru")
}

/// Thru, reflect and line. `reflect` is what was measured of the same reflect on port 1 and port 2.
///
/// # Errors
/// [`NetworkError`]; a line that is a half wave longer than the thru, or as long, is named with the frequencies.
pub fn line_correction(
    frequencies: &[f64],
    thru: &[Raw],
    line: &[Raw],
    (reflect, about): (&[(Complex, Complex)], Reflect),
) -> Result<Vec<LineReflect>, NetworkError> {
    looked_at(frequencies, thru, reflect, line.len())?;
    passing(frequencies, line, "What was measured of the line")?;
    let (mut found, mut half_waves, mut alike) = (vec![], vec![], vec![]);
    for (at, frequency) in frequencies.iter().enumerate() {
        let through = thru[at].transfer();
        let q = line[at].transfer().times(&through.inverse());
        let [[q11, q12], [q21, q22]] = q.0;
        // Its eigenvalues are e^(−γl) and e^(+γl).
        let middle = (q11 + q22) / 2.0;
        let root = (middle * middle - q.determinant()).sqrt();
        let (one, other) = (middle + root, middle - root);
        if (one - other).norm() <= HALF_WAVE * middle.norm().max(1.0) {
            half_waves.push(*frequency);
            continue;
        }
        // An eigenvector (z, 1): b is the small one of the two, a/c the large one.
        let vector = |of: Complex| -> (Complex, Complex) {
            // Both rows say the same: the one with the larger numbers says it better.
            if (of - q22).norm() + q21.norm() >= (of - q11).norm() + q12.norm() {
                (of - q22, q21)
            } else {
                (q12, of - q11)
            }
        };
        let ((u1, v1), (u2, v2)) = (vector(one), vector(other));
        let first_is_small = u1.norm() * v2.norm() <= u2.norm() * v1.norm();
        let ((bu, bv), (au, av), factor) =
            if first_is_small { ((u1, v1), (u2, v2), other) } else { ((u2, v2), (u1, v1), one) };
        let half = Half { b: bu / bv, c_over_a: av / au };
        match boxes(&through, &half, reflect[at], about) {
            Some((x, y, reflected)) => found.push(LineReflect {
                x,
                y,
                reflect: reflected,
                line: Some(factor),
                of_match: None,
            }),
            None => alike.push(*frequency),
        }
    }
    told(found, &half_waves, &alike)
}

/// Thru, reflect and match. `of_match` is what was measured of the same match on port 1 and port 2, beside what it reflects.
///
/// # Errors
/// [`NetworkError`].
pub fn match_correction(
    frequencies: &[f64],
    thru: &[Raw],
    of_match: (&[(Complex, Complex)], &[Complex]),
    (reflect, about): (&[(Complex, Complex)], Reflect),
) -> Result<Vec<LineReflect>, NetworkError> {
    let (measured, known) = of_match;
    looked_at(frequencies, thru, reflect, measured.len())?;
    if known.len() != frequencies.len() {
        return Err(NetworkError::Lengths { found: known.len(), wanted: frequencies.len() });
    }
    let (mut found, mut alike) = (vec![], vec![]);
    for (at, frequency) in frequencies.iter().enumerate() {
        let through = thru[at].transfer();
        let [[m11, m12], [m21, m22]] = through.0;
        let (d, e, f) = (m11 / m22, m12 / m22, m21 / m22);
        // In the impedance of the match it reflects nothing: b is what port 1 shows of it, −γ what port 2 does.
        let (b, gamma) = (measured[at].0, -measured[at].1);
        let half = Half { b, c_over_a: (f - gamma) / (d - gamma * e) };
        // What the reflect is about, seen from there, is still nearer to itself than to its opposite.
        match boxes(&through, &half, reflect[at], about) {
            Some((x, y, reflected)) => found.push(LineReflect {
                x,
                y,
                reflect: (reflected + known[at]) / (Complex::ONE + reflected * known[at]),
                line: None,
                of_match: Some(known[at]),
            }),
            None => alike.push(*frequency),
        }
    }
    told(found, &[], &alike)
}

fn told(
    found: Vec<LineReflect>,
    half_waves: &[f64],
    alike: &[f64],
) -> Result<Vec<LineReflect>, NetworkError> {
    if !half_waves.is_empty() {
        return Err(NetworkError::HalfWave { places: frequency_words(half_waves) });
    }
    if !alike.is_empty() {
        return Err(NetworkError::Alike { places: frequency_words(alike) });
    }
    Ok(found)
}
