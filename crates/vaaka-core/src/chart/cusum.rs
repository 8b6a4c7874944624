//! Tabular cumulative sums, with a head start if wanted.
//!
//! C⁺ᵢ = max(0, C⁺ᵢ₋₁ + xᵢ − k), C⁻ᵢ = max(0, C⁻ᵢ₋₁ − xᵢ − k), in sigmas from the frozen centre; a signal
//! where one is beyond h. Source: ISO 7870-4. Head start (fast initial response): Lucas and Crosier
//! 1982, usually h/2, so that a chart that begins out of control says so at once.

use serde::{Deserialize, Serialize};

use super::Side;

/// Half of the shift, in sigmas, that the sums are to find: the usual 0.5 looks for one sigma.
pub const CUSUM_REFERENCE: f64 = 0.5;
/// Decision interval: with k = 0.5 a false alarm about every 370 points.
pub const CUSUM_INTERVAL: f64 = 4.77;

/// Reference value, decision interval and head start.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CusumDesign {
    /// Reference value k, in sigmas.
    pub reference: f64,
    /// Decision interval h, in sigmas.
    pub interval: f64,
    /// Where both sums begin, in sigmas; zero for none.
    pub head_start: f64,
}

impl Default for CusumDesign {
    fn default() -> Self {
        Self { reference: CUSUM_REFERENCE, interval: CUSUM_INTERVAL, head_start: 0.0 }
    }
}

/// One of the two sums.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CusumArm {
    /// The sum, in sigmas.
    pub sum: f64,
    /// Points since it was last zero.
    pub length: u32,
}

/// Where the sums stand after some points.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CusumState {
    /// C⁺.
    pub upper: CusumArm,
    /// C⁻.
    pub lower: CusumArm,
}

/// A sum beyond its decision interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CusumSignal {
    /// On which side.
    pub side: Side,
    /// Points since the sum was last zero: when the shift began, by its own account.
    pub length: u32,
    /// The shift that the sum suggests, in sigmas, with its sign: ±(k + C/N), N points since zero.
    pub shift: f64,
}

impl CusumState {
    /// At the start of a segment.
    #[must_use]
    pub fn new(design: CusumDesign) -> Self {
        let arm = CusumArm { sum: design.head_start, length: 0 };
        Self { upper: arm, lower: arm }
    }

    /// Takes one standardised value; it must be finite.
    #[inline]
    pub fn push(&mut self, design: CusumDesign, standardised: f64) -> Option<CusumSignal> {
        self.upper.push(standardised - design.reference);
        self.lower.push(-standardised - design.reference);
        self.signal(design)
    }

    /// What the sums say as they stand.
    #[inline]
    pub(super) fn signal(&self, design: CusumDesign) -> Option<CusumSignal> {
        let signal = |arm: CusumArm, side, sign: f64| CusumSignal {
            side,
            length: arm.length,
            shift: sign * (design.reference + arm.sum / f64::from(arm.length.max(1))),
        };
        // Both at once happens with a head start only; the larger says more.
        if self.upper.sum > design.interval && self.upper.sum >= self.lower.sum {
            Some(signal(self.upper, Side::Above, 1.0))
        } else if self.lower.sum > design.interval {
            Some(signal(self.lower, Side::Below, -1.0))
        } else {
            None
        }
    }
}

impl CusumArm {
    #[inline]
    pub(super) fn push(&mut self, step: f64) {
        // Without a branch, which would be guessed wrong at every other point.
        let sum = self.sum + step;
        let stays = sum > 0.0;
        self.sum = if stays { sum } else { 0.0 };
        self.length = std::hint::select_unpredictable(stays, self.length.saturating_add(1), 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// NIST/SEMATECH e-Handbook of Statistical Methods, section 6.3.2.3, "CUSUM Control Charts": twenty
    /// subgroup means, target 325, k = 0.3175, h = 4.1959 (data and sums from memory; each sum
    /// confirmed by hand). The upper sum is beyond h from the fourteenth on.
    #[test]
    fn handbook_example() {
        let data = [
            324.925, 324.675, 324.725, 324.350, 325.350, 325.225, 324.125, 324.525, 325.225,
            324.600, 324.625, 325.150, 328.325, 327.250, 327.825, 328.500, 326.675, 327.775,
            326.875, 328.350,
        ];
        let upper = [
            0.0, 0.0, 0.0, 0.0, 0.03, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 3.01, 4.94, 7.45, 10.63,
            11.99, 14.44, 16.00, 19.04,
        ];
        let lower = [
            0.0, 0.01, 0.0, 0.33, 0.0, 0.0, 0.56, 0.72, 0.17, 0.25, 0.31, 0.0, 0.0, 0.0, 0.0, 0.0,
            0.0, 0.0, 0.0, 0.0,
        ];
        let design = CusumDesign { reference: 0.3175, interval: 4.1959, head_start: 0.0 };
        let mut state = CusumState::new(design);
        for (index, value) in data.iter().enumerate() {
            let signal = state.push(design, value - 325.0);
            assert!((state.upper.sum - upper[index]).abs() < 0.0061, "{index}: {state:?}");
            assert!((state.lower.sum - lower[index]).abs() < 0.0061, "{index}: {state:?}");
            assert_eq!(signal.is_some(), index >= 13, "{index}: {state:?}");
        }
        // From the thirteenth point on the level is about 327.7: 2.7 above the target.
        let last = state.push(design, 328.0 - 325.0).unwrap();
        assert_eq!((last.side, last.length), (Side::Above, 9));
        assert!((last.shift - (0.3175 + state.upper.sum / 9.0)).abs() < 1e-12);
        assert!((2.2..3.0).contains(&last.shift), "{last:?}");
    }

    /// With a head start of h/2 a shift that is there from the start is found sooner.
    #[test]
    fn a_head_start_finds_what_is_there_from_the_start() {
        let plain = CusumDesign::default();
        let ahead = CusumDesign { head_start: plain.interval / 2.0, ..plain };
        let first = |design: CusumDesign, value: f64| {
            let mut state = CusumState::new(design);
            (1..).find(|_| state.push(design, value).is_some()).unwrap()
        };
        assert_eq!((first(plain, 1.5), first(ahead, 1.5)), (5, 3));
        assert_eq!((first(plain, -1.5), first(ahead, -1.5)), (5, 3));
        // Nothing is there: the head start dies away.
        let mut state = CusumState::new(ahead);
        for _ in 0..5 {
            assert_eq!(state.push(ahead, 0.0), None);
        }
        assert_eq!(state.upper, CusumArm { sum: 0.0, length: 0 });
    }
}
