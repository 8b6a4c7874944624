//! Two-ports as scattering and transfer parameters, joined and taken apart; reflections as impedances and in words.

use super::{Complex, NetworkError};

/// Below this magnitude something passes nothing on.
const NOTHING: f64 = 1e-15;

/// Scattering parameters of a two-port at one frequency.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TwoPort {
    /// Reflection of port 1.
    pub s11: Complex,
    /// From port 1 to port 2.
    pub s21: Complex,
    /// From port 2 to port 1.
    pub s12: Complex,
    /// Reflection of port 2.
    pub s22: Complex,
}

/// A matrix of two by two.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Matrix(pub [[Complex; 2]; 2]);

impl Matrix {
    pub fn determinant(&self) -> Complex {
        let [[a, b], [c, d]] = self.0;
        a * d - b * c
    }

    pub fn times(&self, other: &Self) -> Self {
        let of = |row: usize, column: usize| {
            self.0[row][0] * other.0[0][column] + self.0[row][1] * other.0[1][column]
        };
        Self([[of(0, 0), of(0, 1)], [of(1, 0), of(1, 1)]])
    }

    pub fn inverse(&self) -> Self {
        let [[a, b], [c, d]] = self.0;
        let by = self.determinant().inv();
        Self([[d * by, -b * by], [-c * by, a * by]])
    }

    pub fn scaled(&self, by: Complex) -> Self {
        let [[a, b], [c, d]] = self.0;
        Self([[a * by, b * by], [c * by, d * by]])
    }
}

impl TwoPort {
    /// What joins two ports without any length.
    pub const THRU: Self =
        Self { s11: Complex::ZERO, s21: Complex::ONE, s12: Complex::ONE, s22: Complex::ZERO };

    /// A matched line of a propagation factor e^(−γl).
    #[must_use]
    pub fn line(factor: Complex) -> Self {
        Self { s11: Complex::ZERO, s21: factor, s12: factor, s22: Complex::ZERO }
    }

    /// Whether it passes anything on from port 1 to port 2: without that it has no transfer parameters.
    #[must_use]
    pub fn passes(&self) -> bool {
        self.s21.norm() > NOTHING
    }

    /// T = 1/S₂₁·[[−det S, S₁₁], [−S₂₂, 1]].
    pub(super) fn transfer(&self) -> Matrix {
        let determinant = self.s11 * self.s22 - self.s12 * self.s21;
        let by = self.s21.inv();
        Matrix([[-determinant * by, self.s11 * by], [-self.s22 * by, by]])
    }

    pub(super) fn of_transfer(transfer: &Matrix) -> Self {
        let [[_, b], [c, d]] = transfer.0;
        let by = d.inv();
        Self { s11: b * by, s21: by, s12: transfer.determinant() * by, s22: -c * by }
    }

    /// Largest singular value of S: above one it gives out more than it takes.
    #[must_use]
    pub fn largest_gain(&self) -> f64 {
        let squares =
            self.s11.norm_sqr() + self.s12.norm_sqr() + self.s21.norm_sqr() + self.s22.norm_sqr();
        let determinant = (self.s11 * self.s22 - self.s12 * self.s21).norm_sqr();
        let root = (squares * squares - 4.0 * determinant).max(0.0).sqrt();
        ((squares + root) / 2.0).sqrt()
    }

    fn each(&self, of: impl Fn(Complex) -> bool) -> bool {
        [self.s11, self.s21, self.s12, self.s22].into_iter().all(of)
    }

    /// Whether all four are numbers.
    #[must_use]
    pub fn is_finite(&self) -> bool {
        self.each(num_complex::Complex::is_finite)
    }
}

/// One behind the other, frequency by frequency.
///
/// # Errors
/// [`NetworkError::Lengths`], [`NetworkError::Blocked`] with the frequencies.
pub fn cascade(
    frequencies: &[f64],
    first: &[TwoPort],
    second: &[TwoPort],
) -> Result<Vec<TwoPort>, NetworkError> {
    both(frequencies, (first, "The first"), (second, "The second"), |one, other| {
        one.transfer().times(&other.transfer())
    })
}

/// What stands between two known two-ports: T = T₁⁻¹·T·T₂⁻¹.
///
/// # Errors
/// As [`cascade`].
pub fn deembed(
    frequencies: &[f64],
    whole: &[TwoPort],
    before: Option<&[TwoPort]>,
    after: Option<&[TwoPort]>,
) -> Result<Vec<TwoPort>, NetworkError> {
    let mut left = whole.to_vec();
    if let Some(before) = before {
        left = both(
            frequencies,
            (&left, "The whole"),
            (before, "What stands before"),
            |whole, before| before.transfer().inverse().times(&whole.transfer()),
        )?;
    }
    if let Some(after) = after {
        left = both(
            frequencies,
            (&left, "The whole"),
            (after, "What stands after"),
            |whole, after| whole.transfer().times(&after.transfer().inverse()),
        )?;
    }
    Ok(left)
}

fn both(
    frequencies: &[f64],
    (first, first_name): (&[TwoPort], &str),
    (second, second_name): (&[TwoPort], &str),
    joined: impl Fn(&TwoPort, &TwoPort) -> Matrix,
) -> Result<Vec<TwoPort>, NetworkError> {
    for (sweep, name) in [(first, first_name), (second, second_name)] {
        if sweep.len() != frequencies.len() {
            return Err(NetworkError::Lengths { found: sweep.len(), wanted: frequencies.len() });
        }
        passing(frequencies, sweep, name)?;
    }
    Ok(first
        .iter()
        .zip(second)
        .map(|(one, other)| TwoPort::of_transfer(&joined(one, other)))
        .collect())
}

/// Whether a sweep passes something on everywhere, and has numbers only.
pub(super) fn passing(
    frequencies: &[f64],
    sweep: &[TwoPort],
    what: &str,
) -> Result<(), NetworkError> {
    if let Some(index) = sweep.iter().position(|one| !one.is_finite()) {
        return Err(NetworkError::NotFinite { what: what.to_owned(), index: index + 1 });
    }
    let blocked: Vec<f64> =
        frequencies.iter().zip(sweep).filter(|(_, one)| !one.passes()).map(|(f, _)| *f).collect();
    if blocked.is_empty() {
        return Ok(());
    }
    Err(NetworkError::Blocked { what: what.to_owned(), places: super::frequency_words(&blocked) })
}

/// A reflection in another real reference impedance: Γ' = (Γ + r)/(1 + rΓ) with r = (Z₀ − Z₀')/(Z₀ + Z₀').
#[must_use]
pub fn renormalized_one_port(gamma: Complex, from: f64, to: f64) -> Complex {
    let r = (from - to) / (from + to);
    (gamma + r) / (gamma * r + 1.0)
}

/// A two-port in other real reference impedances, one for each port: S' = K(S − R)(1 − R·S)⁻¹K⁻¹ with R = diag((Z' − Z)/(Z' + Z)) and
/// K = diag(1/√(1 − r²)): new waves are a' = k(a − rb) and b' = k(b − ra) (power waves of Kurokawa 1965, for real impedances).
#[must_use]
pub fn renormalized(of: &TwoPort, from: (f64, f64), to: (f64, f64)) -> TwoPort {
    let r1 = (to.0 - from.0) / (to.0 + from.0);
    let r2 = (to.1 - from.1) / (to.1 + from.1);
    let one = Complex::ONE;
    let less = Matrix([[of.s11 - r1, of.s12], [of.s21, of.s22 - r2]]);
    let over = Matrix([[one - of.s11 * r1, -of.s12 * r1], [-of.s21 * r2, one - of.s22 * r2]]);
    let [[s11, s12], [s21, s22]] = less.times(&over.inverse()).0;
    let [k1, k2] = [r1, r2].map(|r| 1.0 / (1.0 - r * r).sqrt());
    TwoPort { s11, s12: s12 * (k1 / k2), s21: s21 * (k2 / k1), s22 }
}

/// A reflection, told in every way.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reflection {
    /// |Γ|.
    pub magnitude: f64,
    /// Its angle in degrees.
    pub degrees: f64,
    /// Return loss −20·lg|Γ| in dB; endless where nothing comes back.
    pub return_loss: f64,
    /// Standing wave ratio (1 + |Γ|)/(1 − |Γ|); endless where everything comes back.
    pub standing_wave_ratio: f64,
    /// Mismatch loss −10·lg(1 − |Γ|²) in dB; endless where everything comes back.
    pub mismatch_loss: f64,
    /// Impedance Z₀(1 + Γ)/(1 − Γ); none of an open circuit.
    pub impedance: Option<Complex>,
    /// Admittance; none of a short circuit.
    pub admittance: Option<Complex>,
}

/// Tells a reflection in every way, in a real reference impedance.
///
/// # Errors
/// [`NetworkError::NotFinite`], [`NetworkError::Asked`] where the reference impedance is none.
pub fn reflection(gamma: Complex, impedance: f64) -> Result<Reflection, NetworkError> {
    if !(impedance.is_finite() && impedance > 0.0) {
        return Err(NetworkError::Asked("The reference impedance is greater than zero."));
    }
    if !gamma.is_finite() {
        return Err(NetworkError::NotFinite { what: "The reflection".into(), index: 1 });
    }
    let magnitude = gamma.norm();
    let (above, below) = (Complex::ONE + gamma, Complex::ONE - gamma);
    let passed = 1.0 - magnitude * magnitude;
    Ok(Reflection {
        magnitude,
        degrees: gamma.arg().to_degrees(),
        return_loss: if magnitude > 0.0 { -20.0 * magnitude.log10() } else { f64::INFINITY },
        standing_wave_ratio: if magnitude < 1.0 {
            (1.0 + magnitude) / (1.0 - magnitude)
        } else {
            f64::INFINITY
        },
        mismatch_loss: if passed > 0.0 { -10.0 * passed.log10() } else { f64::INFINITY },
        impedance: (below.norm() > 0.0).then(|| above / below * impedance),
        admittance: (above.norm() > 0.0).then(|| below / above / impedance),
    })
}
