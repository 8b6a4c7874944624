//! The drift watcher: an exponentially weighted moving average with exact time-varying limits.
//!
//! zᵢ = λ·xᵢ + (1 − λ)·zᵢ₋₁, z₀ = the frozen centre; limits centre ± L·σ·√(λ/(2 − λ)·(1 − (1 − λ)²ⁱ)).
//! Source: Lucas and Saccucci 1990; ISO 7870-6.

use serde::{Deserialize, Serialize};

/// Weight and width of an EWMA.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct EwmaDesign {
    /// Weight λ of the newest point, 0 < λ ≤ 1.
    pub lambda: f64,
    /// Width L of the limits, in standard deviations of z.
    pub width: f64,
}

impl EwmaDesign {
    /// Half-width of the limits after i points, with (1 − λ)²ⁱ = `shrink`; zero for the steady ones.
    pub(super) fn half_width(&self, shrink: f64) -> f64 {
        self.width * (self.lambda / (2.0 - self.lambda) * (1.0 - shrink)).sqrt()
    }
}

/// Where an EWMA stands after some points, in sigmas from the centre.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct EwmaState {
    /// The average z, in sigmas from the centre.
    pub z: f64,
    /// (1 − λ)²ⁱ, which makes the limits exact without a power a point.
    shrink: f64,
}

/// Half of a half of the last digit of one: 1 − x is 1 for every smaller x.
const NOTHING_BESIDE_ONE: f64 = f64::EPSILON / 4.0;

impl Default for EwmaState {
    fn default() -> Self {
        Self { z: 0.0, shrink: 1.0 }
    }
}

impl EwmaState {
    /// On the centre with the steady limits, as after many quiet points.
    pub(super) fn steady() -> Self {
        Self { z: 0.0, shrink: 0.0 }
    }

    /// Whether the limits are the steady ones from now on.
    pub(super) fn is_steady(&self) -> bool {
        self.shrink == 0.0
    }

    /// The share of a constant that the average has taken on, 1 − (1 − λ)ⁱ.
    pub(super) fn reached(&self) -> f64 {
        1.0 - self.shrink.sqrt()
    }

    /// The average after another value.
    #[inline]
    pub(super) fn after(&self, design: EwmaDesign, standardised: f64) -> f64 {
        design.lambda * standardised + (1.0 - design.lambda) * self.z
    }

    /// Takes one standardised value and returns the half-width of the limits at this point.
    pub fn push(&mut self, design: EwmaDesign, standardised: f64) -> f64 {
        let keep = 1.0 - design.lambda;
        self.z = self.after(design, standardised);
        self.shrink *= keep * keep;
        // Beside one it is nothing long before it is too small for a normal number, and numbers too
        // small for that take a processor many times as long.
        if self.shrink < NOTHING_BESIDE_ONE {
            self.shrink = 0.0;
        }
        design.half_width(self.shrink)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// NIST/SEMATECH e-Handbook of Statistical Methods, section 6.3.2.4, "EWMA Control Charts":
    /// target 50, s = 2.0539, λ = 0.3, limits 50 ± 3·(0.4201)·(2.0539); data and averages as
    /// printed there (from memory; confirmed by recomputing each average by hand).
    #[test]
    fn handbook_example() {
        let data = [
            52.0, 47.0, 53.0, 49.3, 50.1, 47.0, 51.0, 50.1, 51.2, 50.5, 49.6, 47.6, 49.9, 51.3,
            47.8, 51.2, 52.6, 52.4, 53.6, 52.1,
        ];
        let printed = [
            50.60, 49.52, 50.56, 50.18, 50.16, 49.21, 49.75, 49.85, 50.26, 50.33, 50.11, 49.36,
            49.52, 50.05, 49.38, 49.92, 50.73, 51.23, 51.94, 51.99,
        ];
        let design = EwmaDesign { lambda: 0.3, width: 3.0 };
        let (center, sigma) = (50.0, 2.0539);
        let mut state = EwmaState::default();
        let mut half = 0.0;
        for (value, expected) in data.iter().zip(printed) {
            half = state.push(design, (value - center) / sigma);
            let z = center + sigma * state.z;
            assert!((z - expected).abs() <= 0.0051, "{z} beside {expected}");
        }
        // After twenty points the exact limits have reached the printed steady ones.
        assert!((center + half * sigma - 52.5884).abs() < 0.001);
        assert!((center - half * sigma - 47.4115).abs() < 0.001);
    }

    /// After ten thousand points the limits are the steady ones to the last bit, and nothing is left that
    /// is too small for a normal number.
    #[test]
    fn limits_become_steady() {
        let design = EwmaDesign { lambda: 0.1, width: 3.0 };
        let steady = 3.0 * (0.1_f64 / (2.0 - 0.1)).sqrt();
        let mut state = EwmaState::default();
        for point in 0..10_000 {
            let half = state.push(design, 0.5);
            assert!(half <= steady && (point < 200 || half == steady), "{point}: {half}");
            assert!(state.shrink == 0.0 || state.shrink.is_normal(), "{point}");
        }
    }

    #[test]
    fn first_limits_are_exact() {
        // After one point z = λ·x, so its standard deviation is λ, not √(λ/(2 − λ)).
        let mut state = EwmaState::default();
        let half = state.push(EwmaDesign { lambda: 0.1, width: 3.0 }, 0.0);
        assert!((half - 0.3).abs() < 1e-15);
    }
}
