//! Tabular cumulative sums as integral equations, one side or both.

use super::law::{Law, Moments, follow};
use super::panels::{Grid, PANEL};
use super::{RunLength, RunLengthError, density, in_range, shift_in_range, upper_tail};
use crate::chart::CusumDesign;

/// Which of the two sums are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CusumSides {
    /// Both.
    #[default]
    Both,
    /// The upper one: it looks for a level that has risen.
    Upper,
    /// The lower one.
    Lower,
}

/// Points of both laws that are laid into one another for a median; beyond that the tail is taken.
const MOST_LAID_TOGETHER: usize = 4_000;

/// Whether cumulative sums are some.
///
/// # Errors
/// [`RunLengthError::Number`].
pub fn check_cusum(design: CusumDesign) -> Result<(), RunLengthError> {
    let (reference, interval, start) = (design.reference, design.interval, design.head_start);
    in_range("k", reference, (0.0..=10.0).contains(&reference), "from 0 to 10")?;
    in_range("h", interval, interval > 0.0 && interval <= 50.0, "up to 50, above zero")?;
    in_range("the head start", start, (0.0..=interval).contains(&start), "from zero to h")
}

/// Run length of tabular cumulative sums after a shift from the first point on.
///
/// One side moves its mass from u to 0 with Φ(k − u − δ) and to y with φ(y + k − u − δ) dy up to h (Page 1954). Both
/// together: when one signals the other is at zero, since two sums above zero lose 2k at each point and never
/// come to more than h together; so with the generating functions A, B of either side from zero and A′, B′ from
/// their head starts, that of both is (A′ + B′ − A′B − B′A)/(1 − AB) (Kemp 1961, Lucas and Crosier 1982 for its mean).
///
/// # Errors
/// [`RunLengthError`].
pub fn cusum(
    design: CusumDesign,
    shift: f64,
    sides: CusumSides,
) -> Result<RunLength, RunLengthError> {
    shift_in_range(shift)?;
    check_cusum(design)?;
    let start = design.head_start;
    match sides {
        CusumSides::Upper => Side::new(design, shift).law(start)?.moments()?.run_length(),
        CusumSides::Lower => Side::new(design, -shift).law(start)?.moments()?.run_length(),
        CusumSides::Both => both(design, shift)?.run_length(),
    }
}

fn both(design: CusumDesign, shift: f64) -> Result<Moments, RunLengthError> {
    let start = design.head_start;
    let (upper, lower) = (Side::new(design, shift), Side::new(design, -shift));
    // A side that never signals by itself leaves the other alone.
    let of = |side: &Side, from: f64| side.law(from).and_then(|law| Ok((law.moments()?, law)));
    let (zero_a, zero_b) = match (of(&upper, 0.0), of(&lower, 0.0)) {
        (Ok(a), Ok(b)) => (a, b),
        (Ok(_), Err(RunLengthError::TooLong)) => return Ok(of(&upper, start)?.0),
        (Err(RunLengthError::TooLong), Ok(_)) => return Ok(of(&lower, start)?.0),
        (Err(error), _) | (_, Err(error)) => return Err(error),
    };
    let (ahead_a, ahead_b) = if start == 0.0 {
        (zero_a.clone(), zero_b.clone())
    } else {
        (of(&upper, start)?, of(&lower, start)?)
    };
    let (a, b, ha, hb) = (zero_a.0, zero_b.0, ahead_a.0, ahead_b.0);
    // The first two moments of the quotient; the third ones drop out.
    let sum = a.first + b.first;
    let first = (ha.first * b.first + hb.first * a.first - a.first * b.first) / sum;
    let second =
        (ha.second * b.first + ha.first * b.second + hb.second * a.first + hb.first * a.second
            - a.second * b.first
            - a.first * b.second
            - first * (a.second + 2.0 * a.first * b.first + b.second))
            / sum;
    let median = median(&zero_a.1, &zero_b.1, &ahead_a.1, &ahead_b.1, first);
    Ok(Moments { first, second, median })
}

/// The median of both together, point by point: of the upper sum signalling first p = A′ − q·A, of the lower one
/// q = B′ − p·B, as power series.
fn median(a: &Law, b: &Law, ahead_a: &Law, ahead_b: &Law, first: f64) -> f64 {
    let most = MOST_LAID_TOGETHER;
    let [a, b, ahead_a, ahead_b] = [a, b, ahead_a, ahead_b].map(|law| law.probabilities(most));
    let (mut p, mut q) = (Vec::with_capacity(most), Vec::with_capacity(most));
    let mut law = Law::new(0);
    for i in 0..most {
        let (mut up, mut down) = (ahead_a[i], ahead_b[i]);
        for j in 0..i {
            up -= q[j] * a[i - j - 1];
            down -= p[j] * b[i - j - 1];
        }
        p.push(up);
        q.push(down);
        law.push(up + down);
        if law.is_half_over() {
            return i as f64 + 1.0;
        }
        if law.is_known() {
            break;
        }
    }
    // So slow a law is geometric to more digits than are shown.
    law.moments().map_or((first * std::f64::consts::LN_2).ceil(), |moments| moments.median)
}

/// One sum.
struct Side {
    nodes: Vec<(f64, f64)>,
    interval: f64,
    /// k − δ.
    drift: f64,
}

impl Side {
    fn new(design: CusumDesign, shift: f64) -> Self {
        Self {
            nodes: Grid::new(0.0, design.interval, PANEL, &[]).nodes(),
            interval: design.interval,
            drift: design.reference - shift,
        }
    }

    /// What leaves u with a signal, what goes to zero, and what to each node.
    fn row(&self, from: f64) -> (f64, Vec<f64>) {
        let exit = upper_tail(self.interval - from + self.drift);
        let mut row = Vec::with_capacity(self.nodes.len() + 1);
        row.push(upper_tail(from - self.drift));
        row.extend(self.nodes.iter().map(|(to, w)| w * density(to + self.drift - from)));
        let inside: f64 = row.iter().sum();
        let scale = if inside > 0.0 { (1.0 - exit) / inside } else { 0.0 };
        for cell in &mut row {
            *cell *= scale;
        }
        (exit, row)
    }

    fn law(&self, start: f64) -> Result<Law, RunLengthError> {
        let from: Vec<f64> =
            std::iter::once(0.0).chain(self.nodes.iter().map(|(node, _)| *node)).collect();
        let rows: Vec<(f64, Vec<f64>)> = from.iter().map(|from| self.row(*from)).collect();
        let mut here: Option<Vec<f64>> = None;
        follow(0, || match &mut here {
            None => {
                let (exit, row) = self.row(start);
                here = Some(row);
                exit
            }
            Some(masses) => {
                let mut next = vec![0.0; masses.len()];
                let mut signals = 0.0;
                for (mass, (exit, row)) in masses.iter().zip(&rows) {
                    signals += mass * exit;
                    for (cell, share) in next.iter_mut().zip(row) {
                        *cell += mass * share;
                    }
                }
                *masses = next;
                signals
            }
        })
    }
}
