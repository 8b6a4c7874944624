//! Mixtures of Student's t.

use std::collections::HashMap;

use super::Interval;
use crate::stats::{normal_tail, student_tail};

/// One part: a t distribution with its place, scale and weight.
#[derive(Debug, Clone, Copy)]
pub(super) struct Part {
    pub weight: f64,
    pub location: f64,
    pub scale: f64,
    pub degrees_of_freedom: f64,
}

/// A mixture whose weights sum to one.
#[derive(Debug, Clone)]
pub(super) struct Mixture {
    parts: Vec<Part>,
    /// Where all its quantiles that are asked for lie.
    range: (f64, f64),
    mean: f64,
}

/// From so many degrees of freedom on the tail is taken from its normal equivalent.
const MANY_DEGREES: f64 = 20.0;
/// Width of a cell in which parts are joined, in scales.
const CELL: f64 = 0.25;
/// Most steps towards a quantile.
const STEPS: usize = 60;

/// P(T > t): for many degrees of freedom by the normal equivalent of Hill (1970), *Algorithm 395*, CACM 13, 617 (from
/// memory; held against the incomplete beta function in the tests).
pub(super) fn tail(t: f64, degrees_of_freedom: f64) -> f64 {
    if degrees_of_freedom < MANY_DEGREES || !t.is_finite() {
        return student_tail(t, Some(degrees_of_freedom));
    }
    let a = degrees_of_freedom - 0.5;
    let b = 48.0 * a * a;
    let square = a * libm::log1p(t * t / degrees_of_freedom);
    let inner = (((-0.4 * square - 3.3) * square - 24.0) * square - 85.5)
        / (0.8 * square * square + 100.0 + b);
    let z = ((inner + square + 3.0) / b + 1.0) * square.sqrt();
    normal_tail(z.copysign(t))
}

impl Mixture {
    pub(super) fn new(parts: Vec<Part>) -> Self {
        // Of few degrees of freedom the tails are long.
        let wide =
            |part: &Part| part.scale * if part.degrees_of_freedom < 8.0 { 60.0 } else { 6.0 };
        let range = parts.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), part| {
            (low.min(part.location - wide(part)), high.max(part.location + wide(part)))
        });
        let mean = parts.iter().map(|part| part.weight * part.location).sum();
        Self { parts, range, mean }
    }

    /// Mean and standard deviation. Of a part with two degrees of freedom or fewer, whose variance is none, its scale stands.
    pub(super) fn moments(&self) -> (f64, f64) {
        let variance = |part: &Part| {
            let nu = part.degrees_of_freedom;
            let own = part.scale * part.scale * if nu > 2.0 { nu / (nu - 2.0) } else { 1.0 };
            own + (part.location - self.mean).powi(2)
        };
        let variance: f64 = self.parts.iter().map(|part| part.weight * variance(part)).sum();
        (self.mean, variance.sqrt())
    }

    /// P(X > x).
    pub(super) fn above(&self, x: f64) -> f64 {
        self.parts
            .iter()
            .map(|part| {
                if part.scale > 0.0 {
                    part.weight * tail((x - part.location) / part.scale, part.degrees_of_freedom)
                } else {
                    part.weight * f64::from(u8::from(part.location > x))
                }
            })
            .sum()
    }

    /// By Newton's steps with a normal density of each part, from where it is guessed, halved where they leave what is known
    /// of the place.
    fn quantile(&self, p: f64, begin: f64) -> f64 {
        let (mut low, mut high) = self.range;
        let enough = (high - low) * 1e-6;
        let mut x = begin.clamp(low, high);
        for _ in 0..STEPS {
            let missing = p - (1.0 - self.above(x));
            if missing.abs() < 1e-12 {
                break;
            }
            if missing > 0.0 {
                low = x;
            } else {
                high = x;
            }
            let newton = x + missing / self.density(x);
            let next = if newton > low && newton < high { newton } else { 0.5 * (low + high) };
            let done = (next - x).abs() <= enough;
            x = next;
            if done {
                break;
            }
        }
        x
    }

    fn density(&self, x: f64) -> f64 {
        let of = |part: &Part| {
            let z = (x - part.location) / part.scale;
            part.weight / part.scale * libm::exp(-0.5 * z * z)
        };
        self.parts.iter().filter(|part| part.scale > 0.0).map(of).sum::<f64>()
            / (2.0 * std::f64::consts::PI).sqrt()
    }

    /// The same with neighbours made one: parts of nearly one scale (within a quarter of an octave), of one number of degrees
    /// of freedom, that lie in one cell of a quarter of that scale. Weight, mean and variance of what is joined stay, so
    /// that what is lost is of third order in an eighth of a scale: the ends of an interval move by less than a thousandth
    /// of its width (tested), for a fiftieth of the work.
    fn joined(&self) -> Self {
        let mut cells: HashMap<(u64, i64, u64), usize> = HashMap::new();
        // Weight, and sums of location and of its square and that of the scale as far as they make the variance.
        let mut sums: Vec<(Part, f64)> = vec![];
        let mut kept = vec![];
        for part in &self.parts {
            let nu = part.degrees_of_freedom;
            // Exponent and the two leading binary digits.
            let octave = part.scale.to_bits() >> 50;
            let width = f64::from_bits(octave << 50) * CELL;
            let place = ((part.location - self.mean) / width).floor();
            if nu <= 2.0 || width <= 0.0 || place.abs() > 1e15 {
                kept.push(*part);
                continue;
            }
            let cell = *cells.entry((octave, place as i64, nu.to_bits())).or_insert_with(|| {
                sums.push((Part { weight: 0.0, location: 0.0, scale: 0.0, ..*part }, 0.0));
                sums.len() - 1
            });
            let (sum, square) = &mut sums[cell];
            let away = part.location - self.mean;
            sum.weight += part.weight;
            sum.location += part.weight * away;
            sum.scale += part.weight * part.scale * part.scale;
            *square += part.weight * away * away;
        }
        kept.extend(sums.into_iter().filter(|(sum, _)| sum.weight > 0.0).map(|(sum, square)| {
            let nu = sum.degrees_of_freedom;
            let away = sum.location / sum.weight;
            let between = (square / sum.weight - away * away).max(0.0) * (nu - 2.0) / nu;
            let scale = (sum.scale / sum.weight + between).sqrt();
            Part { location: self.mean + away, scale, ..sum }
        }));
        Self { parts: kept, ..*self }
    }

    pub(super) fn interval(&self) -> Interval<f64> {
        let joined = self.joined();
        let (mean, std_dev) = joined.moments();
        let of = |p, deviations: f64| joined.quantile(p, mean + deviations * std_dev);
        Interval { low: of(0.025, -2.0), median: of(0.5, 0.0), high: of(0.975, 2.0) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Both ways to the tail agree where they meet, from the middle to far out.
    #[test]
    fn the_normal_equivalent_is_the_t_distribution() {
        for degrees in [20.0, 25.5, 47.0, 120.0, 800.0] {
            for t in [-6.0, -2.0, -0.3, 0.0, 0.7, 1.96, 3.5, 8.0] {
                let (quick, exact) = (tail(t, degrees), student_tail(t, Some(degrees)));
                let wrong = (quick - exact).abs() / exact.min(1.0 - exact).max(1e-12);
                assert!(wrong < 2e-5, "{degrees} {t}: {quick} {exact}");
            }
        }
    }

    #[test]
    fn quantiles_of_one_part_are_those_of_its_distribution() {
        let part = Part { weight: 1.0, location: 3.0, scale: 2.0, degrees_of_freedom: 10.0 };
        let interval = Mixture::new(vec![part]).interval();
        // t(0.975; 10) = 2.228139 (printed tables; from memory).
        assert!((interval.high - (3.0 + 2.0 * 2.228139)).abs() < 1e-4, "{interval:?}");
        assert!((interval.median - 3.0).abs() < 1e-6);
        assert!((interval.low - (3.0 - 2.0 * 2.228139)).abs() < 1e-4);
    }

    /// Joined parts give the same quantiles to a thousandth of the interval: of parts near each other, of wide and narrow
    /// ones on one place, of two heaps, of a few far out, of parts without scale; and the same moments.
    #[test]
    fn joined_parts_say_the_same() {
        let many = |count: usize, of: &dyn Fn(f64) -> (f64, f64, f64)| -> Vec<Part> {
            let all: Vec<_> = (0..count).map(|at| of(at as f64 / count as f64)).collect();
            let total: f64 = all.iter().map(|(weight, ..)| weight).sum();
            let part = |(weight, location, scale): (f64, f64, f64)| Part {
                weight: weight / total,
                location,
                scale,
                degrees_of_freedom: 24.0,
            };
            all.into_iter().map(part).collect()
        };
        let cases: [(&str, Vec<Part>); 5] = [
            ("a ramp", many(900, &|u| (1.0 + u, 1000.0 + u, 0.3))),
            ("narrow in wide", many(900, &|u| (1.0, u * u, 0.01 + (17.0 * u).sin().abs()))),
            ("two heaps", many(800, &|u| (1.0, if u < 0.5 { u } else { 40.0 + u }, 0.2 + u))),
            ("far out", many(600, &|u| (libm::exp(-9.0 * u), 50.0 * u.powi(3), 0.05 + u))),
            ("points", many(400, &|u| (1.0, u, 0.0))),
        ];
        for (name, parts) in cases {
            let whole = Mixture::new(parts);
            let joined = whole.joined();
            let (mean, std_dev) = whole.moments();
            let (joined_mean, joined_deviation) = joined.moments();
            assert!((joined_mean - mean).abs() <= 1e-12 * mean.abs(), "{name}: {joined_mean}");
            assert!((joined_deviation / std_dev - 1.0).abs() < 1e-9, "{name}: {joined_deviation}");
            if name != "points" {
                let count = joined.parts.len();
                assert!(count * 3 < whole.parts.len() * 2, "{name}: {count}");
            }
            let of = |mixture: &Mixture, p| mixture.quantile(p, mean);
            let width = of(&whole, 0.975) - of(&whole, 0.025);
            for p in [0.025, 0.5, 0.975] {
                let away = of(&joined, p) - of(&whole, p);
                assert!(away.abs() < 1e-3 * width, "{name} at {p}: {away} of {width}");
            }
        }
    }
}
