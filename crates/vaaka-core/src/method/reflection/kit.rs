//! The kit as a plan states it, in units that people write.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::keys::Put;
use crate::network::{Complex, Load, Offset, Standard};
use crate::quantity::to_f64;

/// Models of short, open and load.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KitSettings {
    /// Reference impedance, Ω.
    pub impedance: Decimal,
    /// C₀ of the open, fF.
    pub open_c0: Decimal,
    /// C₁, 10⁻²⁷ F/Hz.
    pub open_c1: Option<Decimal>,
    /// C₂, 10⁻³⁶ F/Hz².
    pub open_c2: Option<Decimal>,
    /// C₃, 10⁻⁴⁵ F/Hz³.
    pub open_c3: Option<Decimal>,
    /// Delay of the open, ps.
    pub open_delay: Decimal,
    /// L₀ of the short, pH.
    pub short_l0: Decimal,
    /// L₁, 10⁻²⁴ H/Hz.
    pub short_l1: Option<Decimal>,
    /// L₂, 10⁻³³ H/Hz².
    pub short_l2: Option<Decimal>,
    /// L₃, 10⁻⁴² H/Hz³.
    pub short_l3: Option<Decimal>,
    /// Delay of the short, ps.
    pub short_delay: Decimal,
    /// Resistance of the load, Ω.
    pub load_resistance: Decimal,
    /// Its inductance, pH.
    pub load_inductance: Option<Decimal>,
    /// Its delay, ps.
    pub load_delay: Option<Decimal>,
    /// Loss of the lines in front of open and short, GΩ/s at 1 GHz.
    pub loss: Option<Decimal>,
}

impl KitSettings {
    pub(super) fn fault(&self) -> Option<String> {
        if self.impedance <= Decimal::ZERO || self.load_resistance <= Decimal::ZERO {
            return Some("an impedance and the resistance of a load are greater than zero".into());
        }
        let delays = [Some(self.open_delay), Some(self.short_delay), self.load_delay, self.loss];
        if delays.into_iter().flatten().any(|one| one < Decimal::ZERO) {
            return Some("a delay and a loss are not negative".into());
        }
        None
    }

    fn offset(&self, delay: Decimal, loss: Option<Decimal>) -> Offset {
        Offset {
            delay: to_f64(delay) * 1e-12,
            loss: loss.map_or(0.0, to_f64) * 1e9,
            impedance: to_f64(self.impedance),
        }
    }

    /// The model of a standard.
    pub(super) fn model(&self, of: Put) -> Standard {
        let number = |value: Option<Decimal>| value.map_or(0.0, to_f64);
        match of {
            Put::Open => Standard::Open {
                capacitance: [
                    to_f64(self.open_c0) * 1e-15,
                    number(self.open_c1) * 1e-27,
                    number(self.open_c2) * 1e-36,
                    number(self.open_c3) * 1e-45,
                ],
                offset: self.offset(self.open_delay, self.loss),
            },
            Put::Short => Standard::Short {
                inductance: [
                    to_f64(self.short_l0) * 1e-12,
                    number(self.short_l1) * 1e-24,
                    number(self.short_l2) * 1e-33,
                    number(self.short_l3) * 1e-42,
                ],
                offset: self.offset(self.short_delay, self.loss),
            },
            Put::Load => Standard::Load {
                load: Load {
                    resistance: to_f64(self.load_resistance),
                    inductance: number(self.load_inductance) * 1e-12,
                    capacitance: 0.0,
                },
                offset: self.offset(self.load_delay.unwrap_or_default(), None),
            },
        }
    }

    /// What a standard reflects at a frequency in Hz; none where its model has no value.
    pub(super) fn reflection(&self, of: Put, hertz: f64) -> Option<Complex> {
        self.model(of).reflection(hertz, to_f64(self.impedance)).ok()
    }

    /// What short, open and load reflect.
    pub(super) fn at(&self, hertz: f64) -> Option<[Complex; 3]> {
        let [a, b, c] = Put::ALL.map(|of| self.reflection(of, hertz));
        Some([a?, b?, c?])
    }
}
