//! Where an instrument stands now, estimated from its chart: what an adjustment corrects.

/// The level of an instrument at its newest check.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LevelEstimate {
    /// The level, in the unit of the chart.
    pub level: f64,
    /// Its standard uncertainty.
    pub standard_uncertainty: f64,
}

/// What is known of a chart before its points.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KnownChart {
    /// Centre line.
    pub center_line: f64,
    /// Standard deviation of a check about the level.
    pub sigma: f64,
    /// Variance of the centre line, in σ².
    pub center_variance: f64,
}

/// Points that are looked at; older ones say nothing about now that these do not.
const WINDOW: usize = 120;
/// Prior of no change, of a step and of a drift.
const FLAT: f64 = 0.4;
const STEP: f64 = 0.3;
const RAMP: f64 = 0.3;
/// Prior standard deviation of a step, in sigmas.
const STEP_SIZE: f64 = 3.0;
/// Prior standard deviations of a drift, in sigmas a check, equally likely.
const RAMP_SIZES: [f64; 3] = [0.03, 0.1, 0.3];

/// The level now, averaged over what may have happened: nothing, a step at any of the points, a drift from any of them,
/// each with a normal size beside a normal centre. In sigmas from the centre, with the constant a ~ N(0, v) and the change
/// β ~ N(0, κ²) along the shape h, the posterior precision of (a, β) is [[1/v + n, Σh], [Σh, 1/κ² + Σh²]] and its
/// mean follows from (Σz, Σhz); the marginal likelihood weighs the shapes.
///
/// The newest error alone, of a check that failed, is chosen for being far out: corrected by it the instrument is left two
/// sigmas off on the other side, by this by a tenth to a quarter (`docs/DETECTION.md`). `values` are oldest first.
#[must_use]
pub fn estimate_level(values: &[f64], known: KnownChart) -> LevelEstimate {
    let skip = values.len().saturating_sub(WINDOW);
    let z: Vec<f64> = values[skip..]
        .iter()
        .map(|value| (value - known.center_line) / known.sigma)
        .filter(|z| z.is_finite())
        .collect();
    let n = z.len() as f64;
    let v = known.center_variance.max(1e-6);
    let sum: f64 = z.iter().sum();
    let p = 1.0 / v + n;
    let mut found: Vec<Shape> = vec![Shape {
        weight: FLAT.ln() - 0.5 * (p * v).ln() + 0.5 * sum * sum / p,
        level: sum / p,
        variance: 1.0 / p,
    }];
    // Sums along each shape, from the newest point backward: a step is one from τ on, a drift 1, 2, … m.
    let (mut step_z, mut ramp_z) = (0.0, 0.0);
    for (count, value) in z.iter().rev().enumerate() {
        let m = count as f64 + 1.0;
        // One point more before: every later one is one further along the ramp.
        step_z += value;
        ramp_z += step_z;
        let each = 1.0 / n;
        let step = Sums { h: m, hh: m, hz: step_z, now: 1.0 };
        found.push(step.shape((STEP * each).ln(), STEP_SIZE, p, v, sum));
        let hh = m * (m + 1.0) * (2.0 * m + 1.0) / 6.0;
        let ramp = Sums { h: m * (m + 1.0) / 2.0, hh, hz: ramp_z, now: m };
        for size in RAMP_SIZES {
            let prior = (RAMP * each / RAMP_SIZES.len() as f64).ln();
            found.push(ramp.shape(prior, size, p, v, sum));
        }
    }
    let most = found.iter().map(|shape| shape.weight).fold(f64::NEG_INFINITY, f64::max);
    let weight = |shape: &Shape| (shape.weight - most).exp();
    let total: f64 = found.iter().map(weight).sum();
    let level = found.iter().map(|shape| weight(shape) * shape.level).sum::<f64>() / total;
    let spread = found
        .iter()
        .map(|shape| weight(shape) * (shape.variance + (shape.level - level).powi(2)))
        .sum::<f64>()
        / total;
    LevelEstimate {
        level: known.center_line + known.sigma * level,
        standard_uncertainty: known.sigma * spread.sqrt(),
    }
}

/// One explanation: logarithm of its weight, the level now and its variance under it, in sigmas.
struct Shape {
    weight: f64,
    level: f64,
    variance: f64,
}

struct Sums {
    h: f64,
    hh: f64,
    hz: f64,
    /// The shape at the newest point.
    now: f64,
}

impl Sums {
    fn shape(&self, prior: f64, size: f64, p: f64, v: f64, sum: f64) -> Shape {
        let q = 1.0 / (size * size) + self.hh;
        let det = p * q - self.h * self.h;
        let a = (q * sum - self.h * self.hz) / det;
        let beta = (p * self.hz - self.h * sum) / det;
        Shape {
            weight: prior - 0.5 * (det * v * size * size).ln() + 0.5 * (a * sum + beta * self.hz),
            level: a + beta * self.now,
            variance: (q - 2.0 * self.now * self.h + self.now * self.now * p) / det,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const KNOWN: KnownChart = KnownChart { center_line: 10.0, sigma: 2.0, center_variance: 0.01 };

    #[test]
    fn quiet_charts_stand_on_their_centre() {
        let quiet: Vec<f64> = (0..60).map(|i| 10.0 + [1.0, -1.5, 0.5, 0.0][i % 4]).collect();
        let found = estimate_level(&quiet, KNOWN);
        assert!((found.level - 10.0).abs() < 0.4, "{found:?}");
        // Nothing at all: the centre, as sure as the prior of a change at no point leaves it.
        let none = estimate_level(&[], KNOWN);
        assert!((none.level - 10.0).abs() < 1e-9);
        // One far point among quiet ones is mostly noise; two more like it are a level.
        let mut one = quiet.clone();
        one.push(18.0);
        let after_one = estimate_level(&one, KNOWN).level;
        assert!((10.2..16.0).contains(&after_one), "{after_one}");
        one.extend([18.2, 17.9, 18.1]);
        let after_four = estimate_level(&one, KNOWN);
        assert!((17.0..18.5).contains(&after_four.level), "{after_four:?}");
        assert!(after_four.standard_uncertainty < 1.3, "{after_four:?}");
    }

    #[test]
    fn a_drift_is_where_it_has_come_to() {
        let drifting: Vec<f64> = (0..100)
            .map(|i| 10.0 + 0.12 * f64::from(i) + [0.9, -1.1, 0.4, -0.2][i as usize % 4])
            .collect();
        let found = estimate_level(&drifting, KNOWN);
        assert!((found.level - 21.9).abs() < 1.2, "{found:?}");
        let bad = estimate_level(&[f64::NAN, f64::INFINITY], KNOWN);
        assert!(bad.level.is_finite());
    }

    /// The closed form against sums over a grid of sizes and centres, an independent way.
    #[test]
    fn the_posterior_by_brute_force() {
        let values = [10.4, 9.1, 11.0, 14.9, 13.2];
        let found = estimate_level(&values, KNOWN);
        let z: Vec<f64> = values.iter().map(|value| (value - 10.0) / 2.0).collect();
        let n = z.len();
        let (mut total, mut sum, mut squares) = (0.0, 0.0, 0.0);
        let grid = |reach: f64| (-400..=400).map(move |i| f64::from(i) * reach / 400.0);
        let mut add = |prior: f64, size: f64, shape: &dyn Fn(usize) -> f64| {
            for a in grid(0.8) {
                for beta in if size > 0.0 { grid(7.0 * size).collect() } else { vec![0.0] } {
                    let misfit: f64 =
                        z.iter().enumerate().map(|(i, z)| (z - a - beta * shape(i)).powi(2)).sum();
                    let of_beta = if size > 0.0 { beta * beta / (size * size) } else { 0.0 };
                    let w = prior * (-0.5 * (misfit + a * a / 0.01 + of_beta)).exp();
                    let level = a + beta * shape(n - 1);
                    total += w;
                    sum += w * level;
                    squares += w * level * level;
                }
            }
        };
        // The grid of β has 801 cells of 7κ/400, its prior density 1/(κ√2π): the product does not depend on κ.
        let cell = 7.0 / 400.0 / std::f64::consts::TAU.sqrt();
        add(0.4, 0.0, &|_| 0.0);
        for tau in 0..n {
            add(0.3 / n as f64 * cell, 3.0, &|i| f64::from(u8::from(i >= tau)));
            for size in RAMP_SIZES {
                let prior = 0.1 / n as f64 * cell;
                add(prior, size, &|i| if i >= tau { (i - tau) as f64 + 1.0 } else { 0.0 });
            }
        }
        let mean = sum / total;
        assert!((found.level - (10.0 + 2.0 * mean)).abs() < 1e-3, "{found:?} {mean}");
        let deviation = (squares / total - mean * mean).sqrt();
        assert!(
            (found.standard_uncertainty - 2.0 * deviation).abs() < 1e-3,
            "{found:?} {deviation}"
        );
    }
}
