//! How values are distributed, against tolerance and control limits.

use vaaka_core::quantity::{decimals_for, show_signed_float};

use super::Svg;

/// A histogram.
#[derive(Debug, Clone, PartialEq)]
pub struct Histogram {
    /// Sentence.
    pub description: String,
    /// Values.
    pub values: Vec<f64>,
    /// Tolerance.
    pub tolerance: (Option<f64>, Option<f64>),
    /// Lower control limit, centre line, upper control limit.
    pub control: Option<(f64, f64, f64)>,
    /// Least width of a bar: a step of the display.
    pub step: f64,
    /// Symbol of the unit.
    pub unit: String,
}

const WIDTH: f64 = 920.0;
const HEIGHT: f64 = 400.0;
const LEFT: f64 = 64.0;
const RIGHT: f64 = 40.0;
const TOP: f64 = 54.0;
const BOTTOM: f64 = 350.0;

impl Histogram {
    /// The bars: lower edge, and how many values. About √n of them, each a whole number of steps of the
    /// display wide, so that no bar is high by rounding alone.
    fn bars(&self) -> (f64, Vec<(f64, usize)>) {
        let finite = || self.values.iter().copied().filter(|value| value.is_finite());
        let (low, high) =
            finite().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
        if low > high {
            return (1.0, vec![]);
        }
        let wanted = (self.values.len() as f64).sqrt().clamp(5.0, 40.0);
        let raw = (high - low) / wanted;
        let step = if self.step > 0.0 { self.step } else { raw.max(f64::MIN_POSITIVE) };
        let width = ((raw / step).round().max(1.0) * step).max(high.abs().max(low.abs()) * 1e-12);
        // Edges half a step beside the values that the display can show.
        let start = ((low / step).round() - 0.5) * step;
        let count = (((high - start) / width).floor() as usize + 1).min(400);
        let mut bars = vec![0_usize; count];
        for value in finite() {
            let place = ((value - start) / width).floor().max(0.0) as usize;
            bars[place.min(count - 1)] += 1;
        }
        let edges = bars.into_iter().enumerate();
        (width, edges.map(|(place, n)| (start + width * place as f64, n)).collect())
    }

    /// Draws it.
    pub fn draw(&self) -> String {
        let (width, bars) = self.bars();
        let mut svg = Svg::begin("chart", WIDTH, HEIGHT, &self.description);
        let most = bars.iter().map(|(_, n)| *n).max().unwrap_or(0).max(1) as f64;
        let limits = self
            .control
            .map(|(lower, _, upper)| [lower, upper])
            .into_iter()
            .flatten()
            .chain(self.tolerance.0)
            .chain(self.tolerance.1);
        let ends = bars.iter().flat_map(|(edge, _)| [*edge, edge + width]).chain(limits);
        let (mut low, mut high) =
            ends.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
        if low >= high {
            (low, high) = (-1.0, 1.0);
        }
        let room = 0.04 * (high - low);
        let x = |value: f64| {
            LEFT + (value - low + room) / (high - low + 2.0 * room) * (WIDTH - LEFT - RIGHT)
        };
        let y = |count: f64| BOTTOM - count / most * (BOTTOM - TOP);
        if let Some((lower, center, upper)) = self.control {
            let (from, to) = (x(lower), x(upper));
            svg.rect("control-band", (from, TOP), (to - from, BOTTOM - TOP), 0.0);
            svg.line("center-line", (x(center), TOP), (x(center), BOTTOM));
        }
        for (edge, count) in &bars {
            let (from, to, top) = (x(*edge), x(edge + width), y(*count as f64));
            svg.rect("bar", (from + 0.5, top), (to - from - 1.0, BOTTOM - top), 0.0);
        }
        svg.line("center-line", (LEFT, BOTTOM), (WIDTH - RIGHT, BOTTOM));
        let places = decimals_for((high - low) / 2.0).min(6);
        let show = |value: f64| show_signed_float(value, places);
        for limit in [self.tolerance.0, self.tolerance.1].into_iter().flatten() {
            svg.line("tolerance-limit", (x(limit), TOP - 12.0), (x(limit), BOTTOM));
            let words = format!("{} tolerance", show(limit));
            let anchor = if limit > (low + high) / 2.0 { "end" } else { "start" };
            svg.words("tolerance-words", (x(limit), TOP - 18.0), anchor, &words);
        }
        for place in 0..=6 {
            let value = low + (high - low) * f64::from(place) / 6.0;
            svg.words("chart-time", (x(value), BOTTOM + 20.0), "middle", &show(value));
        }
        svg.words("axis-unit", (WIDTH - RIGHT, BOTTOM + 40.0), "end", &self.unit);
        svg.words("control-words", (LEFT - 8.0, TOP + 4.0), "end", &format!("{most:.0}"));
        svg.words("control-words", (LEFT - 8.0, BOTTOM + 4.0), "end", "0");
        svg.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(values: &[f64]) -> Histogram {
        Histogram {
            description: "errors".into(),
            values: values.to_vec(),
            tolerance: (Some(-2.0), Some(2.0)),
            control: Some((-1.0, 0.0, 1.0)),
            step: 0.1,
            unit: "g".into(),
        }
    }

    /// Every value is in a bar, and a value that the display can show lies in the middle of one.
    #[test]
    fn bars_hold_all_values() {
        let values: Vec<f64> = (0..200).map(|i| f64::from(i % 21 - 10) / 10.0).collect();
        let (width, bars) = of(&values).bars();
        assert_eq!(bars.iter().map(|(_, count)| count).sum::<usize>(), 200);
        assert!((width / 0.1 - (width / 0.1).round()).abs() < 1e-9, "{width}");
        assert!((bars[0].0 + 1.05).abs() < 1e-9, "{bars:?}");
    }

    #[test]
    fn nothing_one_and_equal_values_are_drawn() {
        for values in [&[][..], &[0.5], &[0.5; 30], &[f64::NAN, f64::INFINITY]] {
            let text = of(values).draw();
            assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
        }
        let mut open = of(&[1.0, 2.0]);
        (open.tolerance, open.control, open.step) = ((None, None), None, 0.0);
        assert!(open.draw().contains("class=\"bar\""));
    }
}
