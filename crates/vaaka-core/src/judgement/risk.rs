//! Probability of conformity and the risks of a decision (JCGM 106).

use serde::{Deserialize, Serialize};

use crate::stats::student_tail;

/// Interval whose ends may be open.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Interval {
    /// Lower end; none for −∞.
    pub lower: Option<f64>,
    /// Upper end; none for +∞.
    pub upper: Option<f64>,
}

impl Interval {
    /// Drawn in by `band` on each side that has an end.
    #[must_use]
    pub fn drawn_in(self, band: f64) -> Self {
        Self {
            lower: self.lower.map(|lower| lower + band),
            upper: self.upper.map(|upper| upper - band),
        }
    }

    /// Probability that a normal value of this mean and standard deviation lies in it,
    /// Φ((b − y)/u) − Φ((a − y)/u) (JCGM 106, 7.2 and 7.4); a certain value for u = 0. Zero when
    /// the ends cross.
    #[must_use]
    pub fn probability(self, mean: f64, std_dev: f64) -> f64 {
        self.probabilities(mean, std_dev, None).inside
    }

    /// Probabilities inside and outside of a value known to a standard uncertainty with so many degrees of freedom:
    /// Student's t where it was estimated. Each is a sum of tails, so that a small one keeps its digits.
    #[must_use]
    pub fn probabilities(
        self,
        mean: f64,
        std_dev: f64,
        degrees_of_freedom: Option<f64>,
    ) -> Probabilities {
        let (lower, upper) =
            (self.lower.unwrap_or(f64::NEG_INFINITY), self.upper.unwrap_or(f64::INFINITY));
        if lower > upper {
            return Probabilities { inside: 0.0, outside: 1.0 };
        }
        if std_dev <= 0.0 {
            let inside = f64::from(u8::from(mean >= lower && mean <= upper));
            return Probabilities { inside, outside: 1.0 - inside };
        }
        let tail = |t: f64| student_tail(t, degrees_of_freedom);
        let (a, b) = ((lower - mean) / std_dev, (upper - mean) / std_dev);
        let outside = tail(-a) + tail(b);
        // From the nearer tail, so that small probabilities keep their digits.
        let inside = if a > 0.0 {
            tail(a) - tail(b)
        } else if b < 0.0 {
            tail(-b) - tail(-a)
        } else {
            1.0 - outside
        };
        Probabilities { inside: inside.clamp(0.0, 1.0), outside: outside.clamp(0.0, 1.0) }
    }
}

/// How probable it is that a value lies within an interval, and beyond it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Probabilities {
    /// Within.
    pub inside: f64,
    /// Beyond.
    pub outside: f64,
}

/// What is known of the true value before the check, from the history of this kind of check.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Prior {
    /// Mean.
    pub mean: f64,
    /// Standard deviation of the true values.
    pub std_dev: f64,
    /// Checks that it comes from.
    pub checks: u64,
}

/// Fewest checks from which a prior is taken.
pub const MINIMUM_PRIOR_CHECKS: usize = 20;

impl Prior {
    /// A prior from measured values: what was measured varies by the truth *and* by reading it, and a reference that is
    /// off by its own uncertainty is off in all of them alike. So the variance of the truth is s² − u²(reading) +
    /// u²(reference), and never below what the reference alone gives (JCGM 106, 9.5.4, by the same argument). What varies
    /// from check to check is the truth here, and stays. None for fewer than [`MINIMUM_PRIOR_CHECKS`].
    #[must_use]
    pub fn from_history(values: &[f64], reading: f64, reference: f64) -> Option<Self> {
        if values.len() < MINIMUM_PRIOR_CHECKS {
            return None;
        }
        let mean = crate::stats::mean(values).ok()?;
        let s = crate::stats::sample_std_dev(values).ok()?;
        let left = (s.powi(2) - reading.powi(2)).max(0.0);
        let std_dev = left.sqrt().hypot(reference);
        let checks = u64::try_from(values.len()).unwrap_or(u64::MAX);
        (std_dev > 0.0).then_some(Self { mean, std_dev, checks })
    }
}

/// Both global risks of a decision rule (JCGM 106, 9.5.2).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GlobalRisk {
    /// Probability that a check is accepted while the instrument is out of tolerance.
    pub false_accept: f64,
    /// Probability that a check is rejected while the instrument is within tolerance.
    pub false_reject: f64,
}

/// Nodes and weights of the eight-point Gauss–Legendre rule on (−1, 1), positive half
/// (Abramowitz and Stegun, table 25.4).
const GAUSS: [(f64, f64); 4] = [
    (0.183_434_642_495_649_8, 0.362_683_783_378_362),
    (0.525_532_409_916_329, 0.313_706_645_877_887_3),
    (0.796_666_477_413_626_7, 0.222_381_034_453_374_48),
    (0.960_289_856_497_536_3, 0.101_228_536_290_376_26),
];

fn integrate(f: &dyn Fn(f64) -> f64, from: f64, to: f64) -> f64 {
    if to <= from {
        return 0.0;
    }
    const PANELS: usize = 48;
    let half = (to - from) / (2.0 * PANELS as f64);
    (0..PANELS)
        .map(|panel| {
            let middle = from + (2 * panel + 1) as f64 * half;
            let one: f64 =
                GAUSS.iter().map(|(x, w)| w * (f(middle - half * x) + f(middle + half * x))).sum();
            one * half
        })
        .sum()
}

/// Global risks for a tolerance, an acceptance interval, a prior and the uncertainty of the check:
/// R_C = ∫ outside tolerance of g₀(η)·P(accepted | η) dη, R_P = ∫ inside of g₀(η)·P(rejected | η) dη
/// (JCGM 106, 9.5.2, equations 19 and 20; the numbers from memory).
#[must_use]
pub fn global_risk(
    tolerance: Interval,
    acceptance: Interval,
    prior: Prior,
    standard_uncertainty: f64,
) -> GlobalRisk {
    const REACH: f64 = 9.0;
    let density = |value: f64| {
        let z = (value - prior.mean) / prior.std_dev;
        (-0.5 * z * z).exp() / (prior.std_dev * std::f64::consts::TAU.sqrt())
    };
    let (from, to) = (prior.mean - REACH * prior.std_dev, prior.mean + REACH * prior.std_dev);
    let accepted =
        |value: f64| density(value) * acceptance.probability(value, standard_uncertainty);
    let rejected =
        |value: f64| density(value) * (1.0 - acceptance.probability(value, standard_uncertainty));
    let (lower, upper) = (
        tolerance.lower.unwrap_or(f64::NEG_INFINITY).clamp(from, to),
        tolerance.upper.unwrap_or(f64::INFINITY).clamp(from, to),
    );
    // Panels break where acceptance changes, so that a small uncertainty is not stepped over.
    let piecewise = |f: &dyn Fn(f64) -> f64, from: f64, to: f64| {
        let mut marks = vec![from];
        for edge in [acceptance.lower, acceptance.upper].into_iter().flatten() {
            for step in [-REACH, 0.0, REACH] {
                marks.push((edge + step * standard_uncertainty).clamp(from, to));
            }
        }
        marks.push(to);
        marks.sort_by(f64::total_cmp);
        marks.windows(2).map(|pair| integrate(f, pair[0], pair[1])).sum::<f64>()
    };
    GlobalRisk {
        false_accept: piecewise(&accepted, from, lower) + piecewise(&accepted, upper, to),
        false_reject: piecewise(&rejected, lower, upper),
    }
}

/// The narrowest guard band w ≥ 0 that keeps the global false-accept risk at or below `most`;
/// none when nothing would be left to accept.
#[must_use]
pub fn guard_band_for(
    tolerance: Interval,
    prior: Prior,
    standard_uncertainty: f64,
    most: f64,
) -> Option<f64> {
    let risk = |band: f64| {
        global_risk(tolerance, tolerance.drawn_in(band), prior, standard_uncertainty).false_accept
    };
    if risk(0.0) <= most {
        return Some(0.0);
    }
    let widest = match (tolerance.lower, tolerance.upper) {
        (Some(lower), Some(upper)) => (upper - lower) / 2.0,
        // A one-sided interval may be drawn in as far as it takes.
        _ => 20.0 * (standard_uncertainty + prior.std_dev),
    };
    if widest <= 0.0 {
        return None;
    }
    let (mut narrow, mut wide) = (0.0, widest);
    for _ in 0..50 {
        let middle = (narrow + wide) / 2.0;
        if risk(middle) <= most {
            wide = middle;
        } else {
            narrow = middle;
        }
    }
    // An interval of no length accepts one value only: that is no acceptance interval.
    (wide < widest * (1.0 - 1e-6)).then_some(wide)
}

#[cfg(test)]
mod tests {
    use super::*;

    const BOTH: Interval = Interval { lower: Some(-1.0), upper: Some(1.0) };

    /// JCGM 106:2012, 7.4 (a breakdown voltage of −5.47 V with u = 0.05 V against at most −5.40 V;
    /// from memory): p = Φ(1.4) = 0.919.
    #[test]
    fn breakdown_voltage_of_the_guide() {
        let at_most = Interval { lower: None, upper: Some(-5.40) };
        let p = at_most.probability(-5.47, 0.05);
        assert!((p - 0.919_243_340_766_229).abs() < 1e-9, "{p}");
    }

    /// On the limit one half is out; a guard band of U = 2u leaves 2.275 % (ILAC-G8:2019, table 1
    /// says at most 2.5 %).
    #[test]
    fn on_the_limit_and_behind_a_guard_band() {
        let upper = Interval { lower: None, upper: Some(10.0) };
        assert!((upper.probability(10.0, 0.3) - 0.5).abs() < 1e-15);
        assert!((1.0 - upper.probability(9.4, 0.3) - 0.022_750_131_948_179).abs() < 1e-9);
        // 1.6449 u: exactly 5 %.
        assert!((1.0 - upper.probability(10.0 - 1.644_853_626_951 * 0.3, 0.3) - 0.05).abs() < 1e-9);
    }

    #[test]
    fn no_uncertainty_is_certain_and_crossed_ends_hold_nothing() {
        assert_eq!(BOTH.probability(1.0, 0.0), 1.0);
        assert_eq!(BOTH.probability(1.000_001, 0.0), 0.0);
        assert_eq!(BOTH.drawn_in(1.5).probability(0.0, 0.1), 0.0);
        let open = Interval { lower: None, upper: None };
        assert_eq!(open.probability(3.0, 1.0), 1.0);
    }

    #[test]
    fn a_far_tail_keeps_its_digits() {
        // 1 − Φ(8) = 6.22096e−16 (tables).
        let far = Interval { lower: Some(8.0), upper: None };
        assert!((far.probability(0.0, 1.0) / 6.220_960_574_271_78e-16 - 1.0).abs() < 1e-6);
    }

    #[test]
    fn risks_and_what_is_decided_add_up() {
        let prior = Prior { mean: 0.2, std_dev: 0.6, checks: 40 };
        let acceptance = BOTH.drawn_in(0.2);
        let risk = global_risk(BOTH, acceptance, prior, 0.15);
        // P(accepted) = P(accepted and in) + R_C; what is measured is N(mean, σ₀² + u²).
        let accepted = acceptance.probability(0.2, 0.6_f64.hypot(0.15));
        let inside = BOTH.probability(0.2, 0.6);
        let accepted_and_in = inside - risk.false_reject;
        assert!((accepted_and_in + risk.false_accept - accepted).abs() < 1e-9, "{risk:?}");
    }

    #[test]
    fn the_guard_band_meets_its_risk() {
        let prior = Prior { mean: 0.0, std_dev: 0.8, checks: 40 };
        let band = guard_band_for(BOTH, prior, 0.3, 0.02).unwrap();
        assert!(band > 0.0 && band < 0.3 * 2.0, "{band}");
        let risk = global_risk(BOTH, BOTH.drawn_in(band), prior, 0.3).false_accept;
        assert!((risk - 0.02).abs() < 1e-6, "{risk}");
        // An instrument that never comes near its limits needs none.
        let calm = Prior { std_dev: 0.1, ..prior };
        assert_eq!(guard_band_for(BOTH, calm, 0.05, 0.02), Some(0.0));
    }

    /// s² = 0.2564, read to 0.3: 0.1664 are left for the truth; with a reference of 0.5 beside it 0.4164. A history that
    /// varies less than its reading leaves what the reference gives, never certainty.
    #[test]
    fn a_prior_needs_a_history_and_takes_the_reading_out() {
        let history: Vec<f64> = (0..40).map(|n| if n % 2 == 0 { 0.5 } else { -0.5 }).collect();
        assert_eq!(Prior::from_history(&history[..19], 0.1, 0.0), None);
        let of = |reading, reference| Prior::from_history(&history, reading, reference);
        let s2: f64 = 40.0 * 0.25 / 39.0;
        assert!((of(0.3, 0.0).unwrap().std_dev - (s2 - 0.09).sqrt()).abs() < 1e-12);
        assert!((of(0.3, 0.5).unwrap().std_dev - (s2 + 0.16).sqrt()).abs() < 1e-12);
        assert!((of(3.0, 0.5).unwrap().std_dev - 0.5).abs() < 1e-12);
        assert_eq!(of(3.0, 0.0), None);
        assert_eq!(Prior::from_history(&[1.0; 30], 0.1, 0.0), None);
    }

    /// 19.0 with U = 4.05 at a limit of 20: 31 % lie outside. With a history as wide as its own sigma a rule of 2 % draws
    /// the limits in; with a tenth of it, as it once was, it saw no risk at all.
    #[test]
    fn a_risky_history_has_a_guard_band() {
        let tolerance = Interval { lower: Some(-20.0), upper: Some(20.0) };
        let outside = tolerance.probabilities(19.0, 2.025, None).outside;
        assert!((outside - 0.311).abs() < 0.001, "{outside}");
        let history: Vec<f64> =
            (0..60).map(|n| 18.0 + 2.0 * f64::from(n * 7 % 13 - 6) / 3.7).collect();
        let prior = Prior::from_history(&history, 0.3, 0.2).unwrap();
        let band = guard_band_for(tolerance, prior, 2.025, 0.02).unwrap();
        assert!(band > 1.0, "{band} {prior:?}");
        let tenth = Prior { std_dev: 0.1 * prior.std_dev, ..prior };
        assert_eq!(guard_band_for(tolerance, tenth, 2.025, 0.02), Some(0.0));
    }

    /// Ends of the range: Student's t with two degrees of freedom has its tails in closed form, ½ − t/(2√(2 + t²)); a risk
    /// of 10⁻²⁰ keeps its digits as a complement.
    #[test]
    fn few_degrees_of_freedom_and_far_tails() {
        let upper = Interval { lower: None, upper: Some(10.0) };
        for t in [0.5_f64, 2.0, 5.0] {
            let found = upper.probabilities(10.0 - t * 0.3, 0.3, Some(2.0)).outside;
            let exact = 0.5 - t / (2.0 * (2.0 + t * t).sqrt());
            assert!((found / exact - 1.0).abs() < 1e-9, "{t}: {found} {exact}");
        }
        // 1 − Φ(9.3) = 7.0223e−21 (tables; SciPy's norm.sf gives 7.02228e−21).
        let far = upper.probabilities(10.0 - 9.3, 1.0, None).outside;
        assert!((far / 7.022_28e-21 - 1.0).abs() < 1e-4, "{far}");
        assert_eq!(
            upper.probabilities(0.0, 1.0, Some(f64::INFINITY)),
            upper.probabilities(0.0, 1.0, None)
        );
    }
}
