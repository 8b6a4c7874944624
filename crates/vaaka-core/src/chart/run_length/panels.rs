//! A function on an interval by short panels with Gauss and Legendre's nodes, read between them off the
//! polynomial of each panel: what changes over one sigma of a point needs nodes by that length, however long
//! the interval is.

use std::sync::OnceLock;

use crate::stats::gauss_legendre;

/// Nodes of a panel.
pub(super) const ORDER: usize = 12;
/// Length of a panel in sigmas of what is smoothed: with twelve nodes the polynomial is right to 10⁻¹⁰.
pub(super) const PANEL: f64 = 1.5;
/// Beyond so many sigmas a normal density is nothing in double precision.
pub(super) const REACH: f64 = 8.8;

/// Nodes and weights, and the barycentric weights of the nodes.
type Rule = ([(f64, f64); ORDER], [f64; ORDER]);

/// Nodes and weights on (−1, 1), and barycentric weights (−1)ⁱ·√((1 − xᵢ²)·wᵢ) (Wang and Xiang 2012).
fn rule() -> &'static Rule {
    static RULE: OnceLock<Rule> = OnceLock::new();
    RULE.get_or_init(|| {
        let (mut nodes, mut barycentric) = ([(0.0, 0.0); ORDER], [0.0; ORDER]);
        for (index, (x, weight)) in gauss_legendre(ORDER, -1.0, 1.0).into_iter().enumerate() {
            nodes[index] = (x, weight);
            let sign = if index % 2 == 0 { 1.0 } else { -1.0 };
            barycentric[index] = sign * ((1.0 - x * x) * weight).sqrt();
        }
        (nodes, barycentric)
    })
}

/// An interval in panels.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Grid {
    /// Ends of the panels, rising.
    ends: Vec<f64>,
}

impl Grid {
    /// Panels of at most `panel` each; none reaches over one of `breaks`, where the function has a kink.
    pub(super) fn new(low: f64, high: f64, panel: f64, breaks: &[f64]) -> Self {
        let mut marks: Vec<f64> =
            breaks.iter().copied().filter(|x| *x > low && *x < high).collect();
        marks.push(high);
        marks.sort_by(f64::total_cmp);
        let mut ends = vec![low];
        for mark in marks {
            let from = ends[ends.len() - 1];
            // Two kinks at one place to the last digits are one.
            if mark - from < 1e-9 * panel && mark < high {
                continue;
            }
            let parts = ((mark - from) / panel).ceil().max(1.0);
            ends.extend((1..parts as usize).map(|part| from + (mark - from) * part as f64 / parts));
            ends.push(mark);
        }
        Self { ends }
    }

    pub(super) fn low(&self) -> f64 {
        self.ends[0]
    }

    pub(super) fn len(&self) -> usize {
        (self.ends.len() - 1) * ORDER
    }

    pub(super) fn nodes(&self) -> Vec<(f64, f64)> {
        self.ends
            .windows(2)
            .flat_map(|ends| {
                let (middle, half) = ((ends[0] + ends[1]) / 2.0, (ends[1] - ends[0]) / 2.0);
                rule().0.map(|(x, weight)| (middle + half * x, half * weight))
            })
            .collect()
    }

    fn panel_of(&self, x: f64) -> usize {
        let after = self.ends.partition_point(|end| *end <= x);
        after.saturating_sub(1).min(self.ends.len() - 2)
    }

    /// Adds to `row` what the integral of `mass` times a function over part of the interval takes of the function
    /// at each node: whole panels by their own nodes, panels that are cut by nodes of the part. `total` is
    /// told each mass.
    pub(super) fn integrate(
        &self,
        (from, to): (f64, f64),
        mass: impl Fn(f64) -> f64,
        total: &mut f64,
        row: &mut [f64],
    ) {
        for panel in self.panel_of(from)..=self.panel_of(to) {
            let (begin, end) = (self.ends[panel], self.ends[panel + 1]);
            let (low, high) = (begin.max(from), end.min(to));
            if high <= low {
                continue;
            }
            let whole = low == begin && high == end;
            let (middle, half) = ((low + high) / 2.0, (high - low) / 2.0);
            for (index, (u, weight)) in rule().0.iter().enumerate() {
                let x = middle + half * u;
                let share = half * weight * mass(x);
                *total += share;
                if whole {
                    row[panel * ORDER + index] += share;
                } else {
                    self.share_out(panel, x, share, row);
                }
            }
        }
    }

    /// Adds to `row` what a value at `x` takes of each node of its panel, times `mass`.
    fn share_out(&self, panel: usize, x: f64, mass: f64, row: &mut [f64]) {
        let (begin, end) = (self.ends[panel], self.ends[panel + 1]);
        let u = (2.0 * x - begin - end) / (end - begin);
        let own = &mut row[panel * ORDER..][..ORDER];
        let (nodes, barycentric) = rule();
        if let Some(at) = nodes.iter().position(|(node, _)| *node == u) {
            own[at] += mass;
            return;
        }
        let mut parts = [0.0; ORDER];
        let mut sum = 0.0;
        for ((part, (node, _)), weight) in parts.iter_mut().zip(nodes).zip(barycentric) {
            *part = weight / (u - node);
            sum += *part;
        }
        for (cell, part) in own.iter_mut().zip(parts) {
            *cell += mass * part / sum;
        }
    }
}
