//! Further panes under the chart, on the same time axis: scatter, cumulative sums, surroundings, another
//! chart beside it, the uncorrected drift.

use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};

use super::Svg;
use super::axis::Axis;

/// A line of a pane, in the stretches between its gaps.
#[derive(Debug, Clone, PartialEq)]
pub struct PaneLine {
    /// Class: "pane-line", "pane-line second" or "bare-line".
    pub class: &'static str,
    /// Time and value, stretch by stretch.
    pub runs: Vec<Vec<(f64, f64)>>,
}

/// A pane.
#[derive(Debug, Clone, PartialEq)]
pub struct Pane {
    /// What it shows, in a few words.
    pub title: String,
    /// Symbol of its unit.
    pub unit: String,
    /// Limits over stretches of time: from, to, lower, upper.
    pub bands: Vec<(f64, f64, f64, f64)>,
    /// A level that is drawn through, such as zero.
    pub level: Option<f64>,
    /// Lines.
    pub lines: Vec<PaneLine>,
    /// Marks: time, value, state.
    pub marks: Vec<(f64, f64, &'static str)>,
}

/// Height of a pane with its title.
pub const PANE_HEIGHT: f64 = 120.0;
const TITLE: f64 = 30.0;

impl Pane {
    /// A pane with nothing in it yet.
    pub fn new(title: impl Into<String>, unit: impl Into<String>) -> Self {
        Self {
            title: title.into(),
            unit: unit.into(),
            bands: vec![],
            level: None,
            lines: vec![],
            marks: vec![],
        }
    }

    /// Whether it has anything to show.
    pub fn is_empty(&self) -> bool {
        self.lines.iter().all(|line| line.runs.iter().all(Vec::is_empty)) && self.marks.is_empty()
    }

    /// Draws it with its upper edge at `top`.
    pub fn draw(&self, svg: &mut Svg, top: f64, (left, right): (f64, f64), x: &dyn Fn(f64) -> f64) {
        let values = self
            .bands
            .iter()
            .flat_map(|(_, _, lower, upper)| [*lower, *upper])
            .chain(self.level)
            .chain(self.lines.iter().flat_map(|line| line.runs.iter().flatten().map(|(_, v)| *v)))
            .chain(self.marks.iter().map(|(_, value, _)| *value));
        let axis = Axis::over(values, top + TITLE, top + PANE_HEIGHT - 8.0);
        for (from, to, lower, upper) in &self.bands {
            let (begin, end) = (x(*from), x(*to));
            let (high, low) = (axis.y(*upper), axis.y(*lower));
            svg.rect("control-band", (begin, high), (end - begin, low - high), 0.0);
            svg.line("control-limit", (begin, high), (end, high));
            svg.line("control-limit", (begin, low), (end, low));
        }
        if let Some(level) = self.level {
            svg.line("center-line", (left, axis.y(level)), (right, axis.y(level)));
        }
        for line in &self.lines {
            for run in line.runs.iter().filter(|run| run.len() > 1) {
                let way: Vec<(f64, f64)> =
                    run.iter().map(|(at, value)| (x(*at), axis.y(*value))).collect();
                svg.path(line.class, &way, false);
            }
        }
        let size = if self.marks.len() > 400 { 1.6 } else { 2.6 };
        for (at, value, state) in &self.marks {
            let size = if *state == "ok" { size } else { 3.6 };
            svg.mark(state, (x(*at), axis.y(*value)), size);
        }
        svg.words("watch-title", (left, top + 18.0), "start", &self.title);
        self.draw_ends(svg, &axis, left);
    }

    /// The ends of the newest limits, or else of what is shown, stand at the left.
    fn draw_ends(&self, svg: &mut Svg, axis: &Axis, left: f64) {
        let (low, high) =
            self.bands.last().map_or_else(|| axis.ends(), |(_, _, lower, upper)| (*lower, *upper));
        let places = decimals_for(((high - low) / 2.0).abs().max(f64::MIN_POSITIVE)).min(6);
        for value in [low, high] {
            // What is never below zero, such as scatter, has no sign.
            let words = if low >= 0.0 && self.level.is_none() {
                show_float(value, places)
            } else {
                show_signed_float(value, places)
            };
            svg.words("control-words", (left - 8.0, axis.y(value) + 4.0), "end", &words);
        }
        svg.words("axis-unit", (left - 8.0, axis.y(high) - 12.0), "end", &self.unit);
    }
}

/// Splits points at gaps, so that no line runs over a time without checks.
pub fn runs(points: impl IntoIterator<Item = (f64, f64)>, gap: f64) -> Vec<Vec<(f64, f64)>> {
    let mut runs: Vec<Vec<(f64, f64)>> = Vec::new();
    for point in points.into_iter().filter(|point| point.1.is_finite()) {
        match runs.last_mut() {
            Some(run) if run.last().is_some_and(|last| point.0 - last.0 <= gap) => run.push(point),
            _ => runs.push(vec![point]),
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_stop_at_gaps_and_nothing_is_no_number() {
        assert_eq!(runs([(0.0, 1.0), (1.0, 2.0), (9.0, 3.0)], 3.0).len(), 2);
        assert_eq!(runs([(0.0, f64::NAN)], 3.0).len(), 0);
        let mut pane = Pane::new("scatter", "g");
        assert!(pane.is_empty());
        pane.marks.push((0.0, 1.0, "ok"));
        assert!(!pane.is_empty());
        let mut svg = Svg::begin("a", 10.0, 10.0, "a");
        pane.draw(&mut svg, 0.0, (1.0, 9.0), &|at| at);
        let text = svg.end();
        assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
    }
}
