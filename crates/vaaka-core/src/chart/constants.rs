//! Constants of control charts for normal data.
//!
//! d₂(n) and d₃(n) are mean and standard deviation of the range of n standard normal values, c₄(n) the
//! mean of their standard deviation. They are computed here, and checked against adaptive quadrature
//! (`tools/reference/baseline_statistics.py` and `control_constants.py`, SciPy); tests read the output.

use std::sync::OnceLock;

use statrs::function::gamma::ln_gamma;

use crate::stats::gauss_legendre;

/// d₂(2) = 2/√π: mean moving range of two consecutive individuals, in sigmas.
pub const D2_OF_TWO: f64 = std::f64::consts::FRAC_2_SQRT_PI;

/// Largest n that the constants are kept for.
const MOST: usize = 100;
/// Beyond nine sigmas nothing is left in double precision.
const REACH: f64 = 9.0;

fn below(x: f64) -> f64 {
    crate::stats::normal_tail(-x)
}

/// Mean and standard deviation of the range of n values:
/// E[R] = ∫ 1 − Φⁿ − (1 − Φ)ⁿ dx, E[R²] = 2∬_{x<y} 1 − Φ(y)ⁿ − (1 − Φ(x))ⁿ + (Φ(y) − Φ(x))ⁿ dx dy.
fn of_range(n: usize) -> (f64, f64) {
    let power = n as i32;
    let outer: Vec<(f64, f64)> = panels(-REACH);
    let (mut d2, mut square) = (0.0, 0.0);
    for (x, weight) in outer {
        let low = below(x);
        let tail = (1.0 - low).powi(power);
        d2 += weight * (1.0 - low.powi(power) - tail);
        // From x on, so that the edge where the integrand ends is an end of the rule.
        let inner: f64 = panels(x)
            .into_iter()
            .map(|(y, weight)| {
                let high = below(y);
                weight * (1.0 - high.powi(power) - tail + (high - low).powi(power))
            })
            .sum();
        square += weight * inner;
    }
    (d2, (2.0 * square - d2 * d2).max(0.0).sqrt())
}

/// Nodes and weights from a point to the end.
fn panels(from: f64) -> Vec<(f64, f64)> {
    const PANELS: usize = 6;
    let step = (REACH - from) / PANELS as f64;
    (0..PANELS)
        .flat_map(|panel| {
            let start = from + step * panel as f64;
            gauss_legendre(20, start, start + step)
        })
        .collect()
}

fn kept(n: usize) -> (f64, f64) {
    static KEPT: [OnceLock<(f64, f64)>; MOST + 1] = [const { OnceLock::new() }; MOST + 1];
    match KEPT.get(n) {
        Some(place) if n >= 2 => *place.get_or_init(|| of_range(n)),
        _ => (f64::NAN, f64::NAN),
    }
}

/// d₂(n) for n from 2 to 100; not a number for others.
#[must_use]
pub fn d2(n: usize) -> f64 {
    kept(n).0
}

/// d₃(n) for n from 2 to 100; not a number for others.
#[must_use]
pub fn d3(n: usize) -> f64 {
    kept(n).1
}

/// c₄(n) = √(2/(n − 1))·Γ(n/2)/Γ((n − 1)/2) for n from 2 on; not a number for others.
#[must_use]
pub fn c4(n: usize) -> f64 {
    if n < 2 {
        return f64::NAN;
    }
    let n = n as f64;
    (2.0 / (n - 1.0)).sqrt() * (ln_gamma(n / 2.0) - ln_gamma((n - 1.0) / 2.0)).exp()
}
