//! How long a chart runs until it signals: average run lengths, for points that are independent and
//! normal about a centre that has shifted by a number of sigmas.
//!
//! All of it is exact: the zone rules as a Markov chain (Champ and Woodall 1987), cumulative sums and the
//! EWMA together with control limits as integral equations. What no chain of a reasonable size holds
//! (trends, alternation, zone rules beside an EWMA) is refused here, never guessed.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use statrs::function::erf::erfc;
use thiserror::Error;

use super::{Criterion, CusumDesign, EwmaDesign};
use crate::stats::gauss_legendre;

/// An average run length.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RunLength {
    /// Points until the first signal, on average.
    pub average: f64,
}

/// Why there is no run length.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum RunLengthError {
    /// A rule whose patterns no chain over zones holds.
    #[error("{criterion:?} is no zone rule: its run length has no exact form here")]
    NoZoneRule {
        /// The rule.
        criterion: Criterion,
    },
    /// Nothing that could signal.
    #[error("no criterion is given, so that nothing ever signals")]
    Nothing,
    /// A number that means nothing here.
    #[error("{what} is {value}: give a number {wanted}")]
    Number {
        /// Which.
        what: &'static str,
        /// Its value.
        value: f64,
        /// What would do.
        wanted: &'static str,
    },
}

/// Φ(x), the standard normal distribution function.
fn phi_below(x: f64) -> f64 {
    0.5 * erfc(-x / std::f64::consts::SQRT_2)
}

fn density(x: f64) -> f64 {
    (-0.5 * x * x).exp() / (2.0 * std::f64::consts::PI).sqrt()
}

fn in_range(
    what: &'static str,
    value: f64,
    fits: bool,
    wanted: &'static str,
) -> Result<(), RunLengthError> {
    if value.is_finite() && fits {
        Ok(())
    } else {
        Err(RunLengthError::Number { what, value, wanted })
    }
}

/// Average run length of zone and side rules together after a shift of `shift` sigmas: the chain over
/// what the rules remember, as Champ and Woodall 1987 set it up, in its steady form by elimination.
///
/// # Errors
/// [`RunLengthError`].
pub fn zone_rules(criteria: &[Criterion], shift: f64) -> Result<RunLength, RunLengthError> {
    in_range("the shift", shift, shift.abs() <= 10.0, "of sigmas from -10 to 10")?;
    if criteria.is_empty() {
        return Err(RunLengthError::Nothing);
    }
    let rules: Vec<ZoneRule> =
        criteria.iter().map(|criterion| ZoneRule::of(*criterion)).collect::<Result<_, _>>()?;
    // Ends of the zones, in sigmas; a point on an end has no probability.
    let ends = [f64::NEG_INFINITY, -3.0, -2.0, -1.0, 0.0, 1.0, 2.0, 3.0, f64::INFINITY];
    let below = |end: f64| match end {
        f64::NEG_INFINITY => 0.0,
        f64::INFINITY => 1.0,
        end => phi_below(end - shift),
    };
    let share: Vec<f64> = ends.windows(2).map(|pair| below(pair[1]) - below(pair[0])).collect();
    // Of each point a rule remembers whether it was beyond its zone, on which side.
    let start: Memory = vec![(0, 0); rules.len()];
    let mut places: HashMap<Memory, usize> = HashMap::from([(start.clone(), 0)]);
    let mut waiting = vec![start];
    let mut steps: Vec<Vec<(usize, f64)>> = Vec::new();
    let mut next = 0;
    while next < waiting.len() {
        let memory = waiting[next].clone();
        next += 1;
        let mut own = Vec::new();
        for (zone, probability) in share.iter().enumerate() {
            let Some(after) = after(&rules, &memory, zone) else { continue };
            let place = match places.get(&after) {
                Some(place) => *place,
                None => {
                    places.insert(after.clone(), waiting.len());
                    waiting.push(after);
                    waiting.len() - 1
                }
            };
            own.push((place, *probability));
        }
        steps.push(own);
    }
    Ok(RunLength { average: expected_steps(&steps) })
}

/// Bits of points beyond a zone, above and below, newest lowest, as far back as the rule looks.
type Memory = Vec<(u16, u16)>;

#[derive(Debug, Clone, Copy)]
struct ZoneRule {
    needed: u32,
    out_of: u32,
    zone: usize,
}

impl ZoneRule {
    fn of(criterion: Criterion) -> Result<Self, RunLengthError> {
        use Criterion as C;
        let (needed, out_of, zone) = match criterion {
            C::Beyond3 => (1, 1, 3),
            C::TwoOfThree => (2, 3, 2),
            C::FourOfFive => (4, 5, 1),
            C::EightOnASide => (8, 8, 0),
            C::NineOnASide => (9, 9, 0),
            _ => return Err(RunLengthError::NoZoneRule { criterion }),
        };
        Ok(Self { needed, out_of, zone })
    }

    /// Bits that can still be part of a pattern with the points to come; none after a signal.
    fn remember(self, before: u16, beyond: bool) -> Option<u16> {
        let bits = before << 1 | u16::from(beyond);
        let window = bits & ((1_u32 << self.out_of) - 1) as u16;
        if beyond && window.count_ones() >= self.needed {
            return None;
        }
        let mut kept = bits & ((1_u32 << (self.out_of - 1)) - 1) as u16;
        // The oldest bit is dropped as long as no pattern could be completed with it: fewer states,
        // and the same future.
        while kept != 0 {
            let oldest = 15 - kept.leading_zeros();
            let missing = self.needed.saturating_sub(kept.count_ones());
            if oldest + missing < self.out_of {
                break;
            }
            kept &= !(1 << oldest);
        }
        Some(kept)
    }
}

/// What is remembered after a point in a zone (0 below −3σ … 7 above 3σ); none when a rule fires.
fn after(rules: &[ZoneRule], memory: &Memory, zone: usize) -> Option<Memory> {
    rules
        .iter()
        .zip(memory)
        .map(|(rule, (above, below))| {
            let is_above = zone >= 4 + rule.zone;
            let is_below = zone < 4 - rule.zone;
            Some((rule.remember(*above, is_above)?, rule.remember(*below, is_below)?))
        })
        .collect()
}

/// Expected steps from the first state to the end: the solution of L = 1 + Q·L.
fn expected_steps(steps: &[Vec<(usize, f64)>]) -> f64 {
    let n = steps.len();
    let mut matrix = vec![vec![0.0; n]; n];
    for (row, own) in steps.iter().enumerate() {
        matrix[row][row] += 1.0;
        for (place, probability) in own {
            matrix[row][*place] -= probability;
        }
    }
    solve(matrix, vec![1.0; n])[0]
}

/// Solves a linear system by elimination with row pivots. The systems here are those of chains that
/// end, and have one solution.
fn solve(mut matrix: Vec<Vec<f64>>, mut right: Vec<f64>) -> Vec<f64> {
    let n = right.len();
    for column in 0..n {
        let pivot = (column..n)
            .max_by(|a, b| matrix[*a][column].abs().total_cmp(&matrix[*b][column].abs()))
            .unwrap_or(column);
        matrix.swap(column, pivot);
        right.swap(column, pivot);
        let (head, tail) = matrix.split_at_mut(column + 1);
        let top = &head[column];
        for (offset, row) in tail.iter_mut().enumerate() {
            let factor = row[column] / top[column];
            if factor == 0.0 {
                continue;
            }
            for (cell, above) in row[column..].iter_mut().zip(&top[column..]) {
                *cell -= factor * above;
            }
            right[column + 1 + offset] -= factor * right[column];
        }
    }
    for column in (0..n).rev() {
        let known: f64 = (column + 1..n).map(|k| matrix[column][k] * right[k]).sum();
        right[column] = (right[column] - known) / matrix[column][column];
    }
    right
}

/// Nodes of the integral equations: the tests see no change in the eighth digit beyond.
const NODES: usize = 80;

/// Average run length of tabular cumulative sums on both sides after a shift from the first point on.
///
/// One side is the integral equation L(u) = 1 + L(0)·Φ(k − u − δ) + ∫₀ʰ L(y)·φ(y + k − u − δ) dy (Page
/// 1954); both together by 1/L = 1/L⁺ + 1/L⁻, with a head start as Lucas and Crosier 1982 combine them.
///
/// # Errors
/// [`RunLengthError`].
pub fn cusum(design: CusumDesign, shift: f64) -> Result<RunLength, RunLengthError> {
    in_range("the shift", shift, shift.abs() <= 10.0, "of sigmas from -10 to 10")?;
    in_range("k", design.reference, design.reference >= 0.0, "not below zero")?;
    in_range(
        "h",
        design.interval,
        design.interval > 0.0 && design.interval <= 50.0,
        "up to 50, above zero",
    )?;
    let start = design.head_start;
    in_range("the head start", start, (0.0..=design.interval).contains(&start), "from zero to h")?;
    let nodes = gauss_legendre(NODES, 0.0, design.interval);
    // From zero and from the head start.
    let one_sided = |shift: f64| -> (f64, f64) {
        let drift = |from: f64| design.reference - from - shift;
        let n = NODES + 1;
        let mut matrix = vec![vec![0.0; n]; n];
        for (row, from) in std::iter::once(0.0).chain(nodes.iter().map(|node| node.0)).enumerate() {
            matrix[row][row] += 1.0;
            matrix[row][0] -= phi_below(drift(from));
            for (column, (to, weight)) in nodes.iter().enumerate() {
                matrix[row][column + 1] -= weight * density(to + drift(from));
            }
        }
        let lengths = solve(matrix, vec![1.0; n]);
        let ahead = 1.0
            + lengths[0] * phi_below(drift(start))
            + nodes
                .iter()
                .zip(&lengths[1..])
                .map(|((to, weight), length)| weight * length * density(to + drift(start)))
                .sum::<f64>();
        (lengths[0], ahead)
    };
    let ((upper, upper_ahead), (lower, lower_ahead)) = (one_sided(shift), one_sided(-shift));
    // Lucas and Crosier 1982, equation 2: the arms renew each other at zero.
    let average = (upper_ahead * lower + upper * lower_ahead - upper * lower) / (upper + lower);
    Ok(RunLength { average })
}

/// Average run length of control limits at ±`limit` sigmas together with an EWMA in its steady form,
/// after a shift from the first point on. `None` for the limits leaves the EWMA alone.
///
/// L(z) = 1 + ∫ L(z′)·φ((z′ − (1 − λ)z)/λ − δ)/λ dz′ over the z′ within the EWMA's limits whose point
/// lies within the control limits (Lucas and Saccucci 1990).
///
/// # Errors
/// [`RunLengthError`].
pub fn ewma_with_limits(
    design: EwmaDesign,
    limit: Option<f64>,
    shift: f64,
) -> Result<RunLength, RunLengthError> {
    let lambda = design.lambda;
    in_range("the shift", shift, shift.abs() <= 10.0, "of sigmas from -10 to 10")?;
    in_range("λ", lambda, lambda > 0.0 && lambda <= 1.0, "up to 1, above zero")?;
    in_range(
        "L",
        design.width,
        design.width > 0.0 && design.width <= 10.0,
        "up to 10, above zero",
    )?;
    if let Some(limit) = limit {
        in_range("the limit", limit, limit > 0.0, "above zero")?;
    }
    let edge = design.width * (lambda / (2.0 - lambda)).sqrt();
    // The control limits cut the range of z′ that a z can reach, so that each row has nodes of its
    // own; L between the common nodes is read off its polynomial there.
    let nodes = gauss_legendre(NODES, -edge, edge);
    let reach = |from: f64| {
        let middle = (1.0 - lambda) * from;
        let cut = limit.map_or(f64::INFINITY, |limit| lambda * limit);
        ((middle - cut).max(-edge), (middle + cut).min(edge))
    };
    let row_of = |from: f64| -> Vec<f64> {
        let (low, high) = reach(from);
        let mut row = vec![0.0; NODES];
        if low >= high {
            return row;
        }
        for (to, weight) in gauss_legendre(NODES, low, high) {
            let point = (to - (1.0 - lambda) * from) / lambda;
            let mass = weight * density(point - shift) / lambda;
            for (cell, share) in row.iter_mut().zip(interpolation(&nodes, to)) {
                *cell += mass * share;
            }
        }
        row
    };
    let mut matrix: Vec<Vec<f64>> = nodes.iter().map(|(from, _)| row_of(*from)).collect();
    for (index, row) in matrix.iter_mut().enumerate() {
        for cell in row.iter_mut() {
            *cell = -*cell;
        }
        row[index] += 1.0;
    }
    let lengths = solve(matrix, vec![1.0; NODES]);
    let from_centre: f64 =
        row_of(0.0).iter().zip(&lengths).map(|(share, length)| share * length).sum();
    Ok(RunLength { average: 1.0 + from_centre })
}

/// Shares of the values at Gauss-Legendre nodes in the polynomial through them at `x`: barycentric, with
/// the weights (−1)ⁱ·√((1 − xᵢ²)·wᵢ) that these nodes have (Wang and Xiang 2012).
fn interpolation(nodes: &[(f64, f64)], x: f64) -> Vec<f64> {
    if let Some(at) = nodes.iter().position(|(node, _)| *node == x) {
        return (0..nodes.len()).map(|index| f64::from(u8::from(index == at))).collect();
    }
    let half = nodes.iter().map(|(_, weight)| weight).sum::<f64>() / 2.0;
    let middle = nodes.iter().map(|(node, _)| node).sum::<f64>() / nodes.len() as f64;
    let parts: Vec<f64> = nodes
        .iter()
        .enumerate()
        .map(|(index, (node, weight))| {
            let t = (node - middle) / half;
            let sign = if index % 2 == 0 { 1.0 } else { -1.0 };
            sign * ((1.0 - t * t) * weight / half).sqrt() / (x - node)
        })
        .collect();
    let sum: f64 = parts.iter().sum();
    parts.into_iter().map(|part| part / sum).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    use Criterion as C;

    /// Champ and Woodall 1987, table 1 (from memory): in-control run lengths of the zone rules, and
    /// after shifts of one and two sigmas.
    #[rstest]
    #[case(&[C::Beyond3], 0.0, 370.40)]
    #[case(&[C::Beyond3, C::TwoOfThree], 0.0, 225.44)]
    #[case(&[C::Beyond3, C::FourOfFive], 0.0, 166.05)]
    #[case(&[C::Beyond3, C::EightOnASide], 0.0, 152.73)]
    #[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive], 0.0, 132.89)]
    #[case(&[C::Beyond3, C::TwoOfThree, C::EightOnASide], 0.0, 122.05)]
    #[case(&[C::Beyond3, C::FourOfFive, C::EightOnASide], 0.0, 105.78)]
    #[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 0.0, 91.75)]
    #[case(&[C::Beyond3], 1.0, 43.89)]
    #[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 1.0, 9.22)]
    #[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 2.0, 3.13)]
    fn zone_rules_as_published(
        #[case] criteria: &[Criterion],
        #[case] shift: f64,
        #[case] published: f64,
    ) {
        for side in [1.0, -1.0] {
            let found = zone_rules(criteria, side * shift).unwrap().average;
            assert!((found - published).abs() <= 0.0051, "{found} beside {published}");
        }
    }

    /// Published run lengths of k = 0.5 (Hawkins and Olwell 1998; Lucas and Crosier 1982 with a head
    /// start of h/2; both from memory, to the digits that are printed).
    #[rstest]
    #[case(4.0, 0.0, 0.0, 168.0, 0.6)]
    #[case(4.0, 0.0, 1.0, 8.38, 0.006)]
    #[case(5.0, 0.0, 0.0, 465.0, 0.6)]
    #[case(5.0, 0.0, 1.0, 10.4, 0.06)]
    #[case(5.0, 0.0, 2.0, 4.01, 0.006)]
    #[case(4.77, 0.0, 0.0, 370.0, 1.5)]
    #[case(5.0, 2.5, 0.0, 430.0, 0.6)]
    #[case(5.0, 2.5, 1.0, 6.35, 0.006)]
    #[case(4.0, 2.0, 1.0, 5.29, 0.006)]
    fn cusum_as_published(
        #[case] interval: f64,
        #[case] head_start: f64,
        #[case] shift: f64,
        #[case] published: f64,
        #[case] within: f64,
    ) {
        let design = CusumDesign { reference: 0.5, interval, head_start };
        let found = cusum(design, shift).unwrap().average;
        assert!((found - published).abs() <= within, "{found} beside {published}");
    }

    /// Lucas and Saccucci 1990, table 3 (from memory): λ = 0.1, L = 2.814 and λ = 0.25, L = 2.998 are made
    /// for 500 in control and find one sigma after 10.3 and 11.1 points.
    #[rstest]
    #[case(0.1, 2.814, 0.0, 500.0, 1.5)]
    #[case(0.1, 2.814, 1.0, 10.3, 0.06)]
    #[case(0.25, 2.998, 0.0, 500.0, 1.5)]
    #[case(0.25, 2.998, 1.0, 11.1, 0.06)]
    fn ewma_as_published(
        #[case] lambda: f64,
        #[case] width: f64,
        #[case] shift: f64,
        #[case] published: f64,
        #[case] within: f64,
    ) {
        let design = EwmaDesign { lambda, width };
        let found = ewma_with_limits(design, None, shift).unwrap().average;
        assert!((found - published).abs() <= within, "{found} beside {published}");
    }

    /// λ = 1 makes the EWMA the point itself: limits alone, 1/(2Φ(−L)).
    #[test]
    fn at_the_ends_they_agree() {
        let alone = zone_rules(&[C::Beyond3], 0.5).unwrap().average;
        let point = EwmaDesign { lambda: 1.0, width: 3.0 };
        let as_ewma = ewma_with_limits(point, None, 0.5).unwrap().average;
        assert!((alone / as_ewma - 1.0).abs() < 1e-7, "{alone} {as_ewma}");
        // Limits so wide that they never matter change nothing; narrow ones rule alone.
        let design = EwmaDesign { lambda: 0.1, width: 3.1 };
        let free = ewma_with_limits(design, None, 0.0).unwrap().average;
        let wide = ewma_with_limits(design, Some(60.0), 0.0).unwrap().average;
        assert!((free / wide - 1.0).abs() < 1e-9, "{free} {wide}");
        let narrow = ewma_with_limits(EwmaDesign { lambda: 0.1, width: 8.0 }, Some(3.0), 0.5);
        assert!((narrow.unwrap().average / alone - 1.0).abs() < 1e-6);
    }

    /// The default design is the one that `tools/reference/control_constants.py` computed with SciPy:
    /// at least 500 checks in control.
    #[test]
    fn the_default_design_again() {
        let design =
            EwmaDesign { lambda: super::super::EWMA_LAMBDA, width: super::super::EWMA_WIDTH };
        let limit = super::super::DEFAULT_OUTER_MULTIPLIER;
        let found = ewma_with_limits(design, Some(limit), 0.0).unwrap().average;
        assert!((500.0..515.0).contains(&found), "{found}");
    }

    #[test]
    fn what_cannot_be_computed_is_said() {
        assert_eq!(
            zone_rules(&[C::SixTrending], 0.0),
            Err(RunLengthError::NoZoneRule { criterion: C::SixTrending })
        );
        assert_eq!(zone_rules(&[], 0.0), Err(RunLengthError::Nothing));
        assert!(zone_rules(&[C::Beyond3], f64::NAN).is_err());
        let none = CusumDesign { interval: 0.0, ..CusumDesign::default() };
        let words = cusum(none, 0.0).unwrap_err().to_string();
        assert_eq!(words, "h is 0: give a number up to 50, above zero");
        assert!(ewma_with_limits(EwmaDesign { lambda: 0.0, width: 3.0 }, None, 0.0).is_err());
    }
}
