//! The slow average, alone or together with control limits, as an integral equation.

use super::panels::{Grid, PANEL, REACH};
use super::{
    LONGEST, RunLength, RunLengthError, density, in_range, law, shift_in_range, upper_tail,
};
use crate::chart::EwmaDesign;

/// Which limits the slow average has at its first points.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum EwmaStart {
    /// At the start of a segment: its exact limits, which widen point by point, as the fold uses them.
    #[default]
    Segment,
    /// A chart that has run quietly for long: the average on the centre, the limits steady.
    Steady,
}

/// Most nodes; beyond that a run length would take minutes.
const MOST_NODES: usize = 1_200;
/// How far kinks are followed from point to point: each is one derivative weaker than the one before.
const KINKS: usize = 4;
/// When the exact limits differ from the steady ones by less than this they are taken as steady.
const AS_GOOD_AS_STEADY: f64 = 1e-6;

/// Whether an EWMA is one.
///
/// # Errors
/// [`RunLengthError::Number`].
pub fn check_ewma(design: EwmaDesign) -> Result<(), RunLengthError> {
    let (lambda, width) = (design.lambda, design.width);
    in_range("λ", lambda, (1e-3..=1.0).contains(&lambda), "from 0.001 to 1")?;
    in_range("L", width, width > 0.0 && width <= 10.0, "up to 10, above zero")
}

/// Run length of control limits at ±`limit` sigmas together with an EWMA, after a shift from the first point
/// on. `None` for the limits leaves the EWMA alone.
///
/// The density of z over those charts that have not signalled is carried from point to point,
/// pᵢ₊₁(z′) = ∫ pᵢ(z)·φ((z′ − (1 − λ)z)/λ − δ)/λ dz over what lies within the EWMA's limits at each point and whose
/// point lies within the control limits (Lucas and Saccucci 1990); nodes by the width of the limits over λ.
///
/// # Errors
/// [`RunLengthError`].
pub fn ewma_with_limits(
    design: EwmaDesign,
    limit: Option<f64>,
    shift: f64,
    start: EwmaStart,
) -> Result<RunLength, RunLengthError> {
    shift_in_range(shift)?;
    check_ewma(design)?;
    if let Some(limit) = limit {
        in_range("the limit", limit, limit > 0.0, "above zero")?;
    }
    let chart = Watched { design, limit: limit.unwrap_or(f64::INFINITY), shift };
    if chart.never_signals() {
        return Err(RunLengthError::TooLong);
    }
    let steady = chart.grid(0.0);
    if steady.len() > MOST_NODES {
        return Err(RunLengthError::Unresolved);
    }
    let lambda = design.lambda;
    let keep = (1.0 - lambda).powi(2);
    // (1 − λ)²ⁱ after the points taken so far; the limits of the next point have one power more.
    let mut shrink = match start {
        EwmaStart::Segment => 1.0,
        EwmaStart::Steady => 0.0,
    };
    let mut from = vec![0.0];
    let mut here = vec![1.0];
    let mut settled: Option<Step> = None;
    // After 6/λ points what the average began with is a four hundredth of it.
    law::of((6.0 / lambda).ceil() as usize, || {
        if let Some(step) = &settled {
            return step.advance(&mut here);
        }
        shrink *= keep;
        if shrink < AS_GOOD_AS_STEADY {
            shrink = 0.0;
        }
        let to = chart.grid(shrink);
        let step = chart.step(&from, &to);
        let signals = step.advance(&mut here);
        from = to.nodes().into_iter().map(|(node, _)| node).collect();
        if shrink == 0.0 {
            settled = Some(chart.step(&from, &steady));
        }
        signals
    })
}

struct Watched {
    design: EwmaDesign,
    limit: f64,
    shift: f64,
}

/// One point: what leaves each node with a signal, and where the rest goes.
struct Step {
    exits: Vec<f64>,
    /// First column and cells of each row.
    rows: Vec<(usize, Vec<f64>)>,
    columns: usize,
}

impl Step {
    /// Moves the masses on, and gives what signalled.
    fn advance(&self, here: &mut Vec<f64>) -> f64 {
        let signals = here.iter().zip(&self.exits).map(|(mass, exit)| mass * exit).sum();
        let mut next = vec![0.0; self.columns];
        for (mass, (first, row)) in here.iter().zip(&self.rows) {
            for (cell, share) in next[*first..].iter_mut().zip(row) {
                *cell += mass * share;
            }
        }
        *here = next;
        signals
    }
}

impl Watched {
    /// Whether the run length is beyond what is computed whatever comes: a point signals at most with the
    /// probability p that an average without any limits would lie beyond them, or the point itself; then
    /// P(N ≤ n) ≤ n·p, and the average is 1/(2p) at least.
    fn never_signals(&self) -> bool {
        let EwmaDesign { lambda, width } = self.design;
        let moved = self.shift.abs() / (lambda / (2.0 - lambda)).sqrt();
        let average = upper_tail(width - moved) + upper_tail(width + moved);
        let point = upper_tail(self.limit - self.shift) + upper_tail(self.limit + self.shift);
        2.0 * (average + point) * LONGEST < 1.0
    }

    /// Panels over what lies within the limits of a point, by the sigma λ of one step of z.
    ///
    /// Where the control limits cut what a z can reach of the next point's limits its future has a kink; it
    /// has weaker ones where a step leads there. Panels end at them.
    fn grid(&self, shrink: f64) -> Grid {
        let EwmaDesign { lambda, .. } = self.design;
        let half = self.design.half_width(shrink);
        let cut = lambda * self.limit;
        let mut breaks = vec![];
        if cut.is_finite() && lambda < 1.0 {
            let next = self.design.half_width(shrink * (1.0 - lambda).powi(2));
            let mut newest = vec![(next - cut) / (1.0 - lambda)];
            for _ in 0..KINKS {
                newest.retain(|z| z.abs() < half);
                breaks.extend(newest.iter().flat_map(|z| [*z, -z]));
                newest = newest
                    .iter()
                    .flat_map(|z| [(z - cut) / (1.0 - lambda), (z + cut) / (1.0 - lambda)])
                    .collect();
            }
        }
        Grid::new(-half, half, PANEL * lambda, &breaks)
    }

    fn step(&self, from: &[f64], to: &Grid) -> Step {
        let lambda = self.design.lambda;
        let edge = -to.low();
        let (mut exits, mut rows) =
            (Vec::with_capacity(from.len()), Vec::with_capacity(from.len()));
        for z in from {
            let kept = (1.0 - lambda) * z;
            // In sigmas of the point itself.
            let low = ((-edge - kept) / lambda).max(-self.limit);
            let high = ((edge - kept) / lambda).min(self.limit);
            let mut row = vec![0.0; to.len()];
            if low >= high {
                exits.push(1.0);
                rows.push((0, vec![]));
                continue;
            }
            let exit = upper_tail(self.shift - low) + upper_tail(high - self.shift);
            let (near, far) = (low.max(self.shift - REACH), high.min(self.shift + REACH));
            let mut inside = 0.0;
            let mass = |z: f64| density((z - kept) / lambda - self.shift) / lambda;
            to.integrate((kept + lambda * near, kept + lambda * far), mass, &mut inside, &mut row);
            // What stays is what does not leave, to the last digit: a rare signal is then no difference.
            let scale = if inside > 0.0 { (1.0 - exit) / inside } else { 0.0 };
            let begin = row.iter().position(|cell| *cell != 0.0).unwrap_or(0);
            let end = row.iter().rposition(|cell| *cell != 0.0).map_or(begin, |last| last + 1);
            exits.push(exit);
            rows.push((begin, row[begin..end].iter().map(|cell| cell * scale).collect()));
        }
        Step { exits, rows, columns: to.len() }
    }
}
