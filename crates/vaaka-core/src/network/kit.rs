//! Standards of a kit by their models: what each reflects at a frequency.

use serde::{Deserialize, Serialize};

use super::{Complex, NetworkError};

/// Velocity of light in vacuum, m/s, exact.
const LIGHT: f64 = 299_792_458.0;

/// A line in front of a standard: delay τ, loss r in Ω/s at 1 GHz, characteristic impedance Z_c without loss. The loss grows with the root
/// of the frequency (skin effect): αl = rτ/(2Z_c)·√(f/1 GHz), βl = ωτ + αl, Z = Z_c + (1 − j)·r/(2ω)·√(f/1 GHz) (published in many
/// application notes on kits; from memory).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Offset {
    /// τ, s.
    pub delay: f64,
    /// r, Ω/s at 1 GHz.
    pub loss: f64,
    /// Z_c, Ω.
    pub impedance: f64,
}

impl Offset {
    /// No line at all.
    #[must_use]
    pub fn none(impedance: f64) -> Self {
        Self { delay: 0.0, loss: 0.0, impedance }
    }

    /// γl and Z at a frequency.
    fn at(&self, frequency: f64) -> (Complex, Complex) {
        let omega = std::f64::consts::TAU * frequency;
        let root = (frequency / 1e9).sqrt();
        let alpha = self.loss * self.delay / (2.0 * self.impedance) * root;
        let beta = omega * self.delay + alpha;
        let more = self.loss / (2.0 * omega) * root;
        (Complex::new(alpha, beta), Complex::new(self.impedance + more, -more))
    }

    /// Impedance of what ends it, seen through it: Z·(Z_t·cosh γl + Z·sinh γl)/(Z·cosh γl + Z_t·sinh γl), by admittances where the end
    /// is open.
    fn seen(&self, frequency: f64, end: End) -> End {
        let (gamma, z) = self.at(frequency);
        let (c, s) = (gamma.cosh(), gamma.sinh());
        let (above, below) = match end {
            End::Impedance(of) => (z * (of * c + z * s), z * c + of * s),
            End::Admittance(of) => (z * (c + z * of * s), z * of * c + s),
        };
        // By whichever is finite.
        if above.norm() <= below.norm() {
            End::Impedance(above / below)
        } else {
            End::Admittance(below / above)
        }
    }
}

/// What ends a line: by whichever of the two is finite.
#[derive(Debug, Clone, Copy)]
enum End {
    Impedance(Complex),
    Admittance(Complex),
}

impl End {
    fn reflection(self, reference: f64) -> Complex {
        match self {
            Self::Impedance(z) => (z - reference) / (z + reference),
            Self::Admittance(y) => (Complex::ONE - y * reference) / (Complex::ONE + y * reference),
        }
    }
}

/// A load: resistance with an inductance in series and a capacitance across both.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Load {
    /// Ω.
    pub resistance: f64,
    /// H.
    pub inductance: f64,
    /// F.
    pub capacitance: f64,
}

/// A standard by its model.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "kind")]
pub enum Standard {
    /// Open circuit: C = C₀ + C₁f + C₂f² + C₃f³, in F and F/Hzⁿ.
    Open {
        /// C₀ to C₃.
        capacitance: [f64; 4],
        /// The line in front of it.
        offset: Offset,
    },
    /// Short circuit: L = L₀ + L₁f + L₂f² + L₃f³, in H and H/Hzⁿ.
    Short {
        /// L₀ to L₃.
        inductance: [f64; 4],
        /// The line in front of it.
        offset: Offset,
    },
    /// A load.
    Load {
        /// The load itself.
        load: Load,
        /// The line in front of it.
        offset: Offset,
    },
}

fn polynomial(coefficients: &[f64; 4], x: f64) -> f64 {
    coefficients.iter().rev().fold(0.0, |sum, one| sum * x + one)
}

impl Standard {
    /// What it reflects at a frequency, in a real reference impedance.
    ///
    /// # Errors
    /// [`NetworkError::Asked`] for an impedance that is none, [`NetworkError::Frequency`].
    pub fn reflection(&self, frequency: f64, reference: f64) -> Result<Complex, NetworkError> {
        if !(frequency.is_finite() && frequency > 0.0) {
            return Err(NetworkError::Frequency { index: 1 });
        }
        let omega = Complex::new(0.0, std::f64::consts::TAU * frequency);
        let (end, offset) = match self {
            Self::Open { capacitance, offset } => {
                (End::Admittance(omega * polynomial(capacitance, frequency)), offset)
            }
            Self::Short { inductance, offset } => {
                (End::Impedance(omega * polynomial(inductance, frequency)), offset)
            }
            Self::Load { load, offset } => {
                let series = omega * load.inductance + load.resistance;
                let across = omega * load.capacitance;
                let end = if series.norm() > 0.0 {
                    End::Admittance(series.inv() + across)
                } else {
                    End::Impedance(Complex::ZERO)
                };
                (end, offset)
            }
        };
        let positive = |value: f64| value.is_finite() && value > 0.0;
        if !positive(offset.impedance) || !positive(reference) {
            return Err(NetworkError::Asked("An impedance is greater than zero."));
        }
        if !(offset.delay.is_finite() && offset.loss.is_finite() && offset.loss >= 0.0) {
            return Err(NetworkError::Asked(
                "Delay and loss of a line are numbers, and a loss is not negative.",
            ));
        }
        let gamma = offset.seen(frequency, end).reflection(reference);
        if gamma.is_finite() {
            Ok(gamma)
        } else {
            Err(NetworkError::Asked("The standard resonates: its model has no value there."))
        }
    }
}

/// Delay of a length: τ = l·√ε/c. Electrical or effective length is one in vacuum (ε = 1); a physical length has the permittivity of
/// what fills the line.
///
/// # Errors
/// [`NetworkError::Asked`] for a permittivity below one.
pub fn offset_delay(length: f64, permittivity: f64) -> Result<f64, NetworkError> {
    if !(permittivity.is_finite() && permittivity >= 1.0) {
        return Err(NetworkError::Asked("A permittivity is one or more."));
    }
    if !length.is_finite() {
        return Err(NetworkError::Asked("A length is a number, in metres."));
    }
    Ok(length * permittivity.sqrt() / LIGHT)
}
