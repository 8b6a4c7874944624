//! Curves over an axis, with the places that matter. Of a curve with more points than the drawing has columns, each column
//! shows from its least to its greatest value: no peak is lost, and the drawing stays small whatever the trace.

use std::fmt::Write;

use vaaka_core::method::{CurveKind, Plot, PlotAxis};

use super::Svg;
use super::svg::number;

const WIDTH: f64 = 700.0;
const HEIGHT: f64 = 300.0;
const LEFT: f64 = 64.0;
const RIGHT: f64 = 688.0;
const TOP: f64 = 42.0;
const BOTTOM: f64 = 258.0;
/// Columns in which a long curve is drawn.
const COLUMNS: usize = 620;

/// From and to of what is drawn along an axis.
#[derive(Debug, Clone, Copy)]
struct Span {
    from: f64,
    to: f64,
}

impl Span {
    fn of(values: impl Iterator<Item = f64>) -> Self {
        let (mut from, mut to) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in values.filter(|value| value.is_finite()) {
            from = from.min(value);
            to = to.max(value);
        }
        if from > to {
            return Self { from: 0.0, to: 1.0 };
        }
        if from < to { Self { from, to } } else { Self { from: from - 1.0, to: to + 1.0 } }
    }

    fn wider(self, share: f64) -> Self {
        let more = (self.to - self.from) * share;
        Self { from: self.from - more, to: self.to + more }
    }

    fn share(self, value: f64) -> f64 {
        (value - self.from) / (self.to - self.from)
    }

    /// Round values, four to nine of them, with the places that they need.
    fn ticks(self) -> (Vec<f64>, usize) {
        let rough = (self.to - self.from) / 5.0;
        let power = 10.0_f64.powf(rough.log10().floor());
        let step = [1.0, 2.0, 5.0, 10.0]
            .into_iter()
            .map(|times| times * power)
            .find(|step| *step >= rough * 0.999)
            .unwrap_or(power * 10.0);
        let places = (-step.log10().floor()).clamp(0.0, 12.0) as usize;
        let first = (self.from / step).ceil();
        let ticks = (0..20)
            .map(|n| (first + f64::from(n)) * step)
            .take_while(|tick| *tick <= self.to + step * 1e-9);
        (ticks.collect(), places)
    }
}

/// A curve as it is drawn: its points, or of each column the least and greatest value in the order in which they come.
fn drawn(points: &[(f64, f64)], x: Span) -> Vec<(f64, f64)> {
    if points.len() <= 2 * COLUMNS {
        return points.to_vec();
    }
    let column = |at: f64| ((x.share(at) * COLUMNS as f64) as usize).min(COLUMNS - 1);
    let mut drawn: Vec<(f64, f64)> = Vec::with_capacity(2 * COLUMNS);
    for part in points.chunk_by(|one, other| column(one.0) == column(other.0)) {
        let least = part.iter().copied().min_by(|a, b| a.1.total_cmp(&b.1));
        let most = part.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1));
        if let (Some(least), Some(most)) = (least, most) {
            let (first, second) = if least.0 <= most.0 { (least, most) } else { (most, least) };
            drawn.push(first);
            if second.0 > first.0 {
                drawn.push(second);
            }
        }
    }
    drawn
}

fn named(axis: &PlotAxis) -> String {
    if axis.unit.is_empty() { axis.name.clone() } else { format!("{} / {}", axis.name, axis.unit) }
}

/// Draws a plot.
pub fn draw_plot(plot: &Plot) -> String {
    let all = || plot.curves.iter().flat_map(|curve| &curve.points);
    let marks = || plot.marks.iter().map(|mark| mark.x);
    let x = Span::of(all().map(|point| point.0).chain(marks()));
    let y = Span::of(all().map(|point| point.1)).wider(0.06);
    let at = |(vx, vy): (f64, f64)| {
        (
            LEFT + x.share(vx).clamp(0.0, 1.0) * (RIGHT - LEFT),
            BOTTOM - y.share(vy).clamp(0.0, 1.0) * (BOTTOM - TOP),
        )
    };
    let mut svg = Svg::begin("plot", WIDTH, HEIGHT, &plot.description);
    let (ticks, places) = y.ticks();
    for tick in ticks {
        let (_, row) = at((x.from, tick));
        svg.line("chart-grid", (LEFT, row), (RIGHT, row));
        svg.words("plot-words", (LEFT - 8.0, row + 4.0), "end", &format!("{tick:.places$}"));
    }
    // Where each place that matters may be, behind everything.
    for mark in &plot.marks {
        let (left, _) = at((mark.x - mark.half_width, y.from));
        let (right, _) = at((mark.x + mark.half_width, y.from));
        svg.rect("plot-band", (left, TOP), (right - left, BOTTOM - TOP), 0.0);
    }
    let (ticks, places) = x.ticks();
    for tick in ticks {
        let (column, _) = at((tick, y.from));
        svg.line("chart-grid", (column, BOTTOM), (column, BOTTOM + 5.0));
        let words = format!("{tick:.places$}");
        svg.words("plot-words", (column, BOTTOM + 20.0), "middle", &words);
    }
    svg.line("plot-axis", (LEFT, BOTTOM), (RIGHT, BOTTOM));
    svg.words("plot-words", (RIGHT, BOTTOM + 38.0), "end", &named(&plot.x));
    svg.words("plot-words", (LEFT, TOP - 26.0), "start", &named(&plot.y));
    for curve in &plot.curves {
        let class = match curve.kind {
            CurveKind::Line => "plot-line",
            CurveKind::Before => "plot-before",
            CurveKind::Fit => "plot-fit",
            CurveKind::Points => "plot-points",
        };
        let points: Vec<(f64, f64)> = drawn(&curve.points, x).into_iter().map(at).collect();
        if curve.kind == CurveKind::Points {
            for point in points {
                svg.circle(class, point, 3.0);
            }
        } else {
            svg.path(class, &points, false);
        }
    }
    let mut taken = f64::NEG_INFINITY;
    for mark in &plot.marks {
        let (column, _) = at((mark.x, y.from));
        svg.line("plot-mark", (column, TOP), (column, BOTTOM));
        match mark.found {
            Some(found) => {
                svg.circle("plot-found", at(found), 5.0);
            }
            None => {
                svg.mark("out", (column, TOP + 12.0), 6.0);
            }
        }
        // Words that would run into each other stand in the list beside.
        let length = 7.0 * mark.name.chars().count() as f64;
        if column - length / 2.0 > taken {
            let middle = column.clamp(LEFT + length / 2.0, RIGHT - length / 2.0);
            svg.words("plot-words", (middle, TOP - 5.0), "middle", &mark.name);
            taken = middle + length / 2.0 + 6.0;
        }
    }
    svg.end()
}

/// What a reader of values needs: the place of the drawing, and the points of the curve of now as they are drawn.
pub fn plot_values(plot: &Plot) -> String {
    let Some(curve) = plot.curves.iter().rev().find(|curve| curve.kind == CurveKind::Line) else {
        return String::new();
    };
    let all = plot.curves.iter().flat_map(|curve| &curve.points).map(|point| point.0);
    let x = Span::of(all.chain(plot.marks.iter().map(|mark| mark.x)));
    let mut text = format!(
        "{{\"left\":{},\"right\":{},\"top\":{},\"bottom\":{},\"x\":\"{}\",\"y\":\"{}\",\"points\":[",
        LEFT, RIGHT, TOP, BOTTOM, plot.x.unit, plot.y.unit
    );
    for (index, (at, value)) in drawn(&curve.points, x).into_iter().enumerate() {
        let column = LEFT + x.share(at) * (RIGHT - LEFT);
        let comma = if index == 0 { "" } else { "," };
        let _ = write!(text, "{comma}[{},{at},{value}]", number(column));
    }
    text.push_str("]}");
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::method::{Curve, PlotMark};

    fn plot(points: Vec<(f64, f64)>) -> Plot {
        let axis = |name: &str, unit: &str| PlotAxis { name: name.into(), unit: unit.into() };
        Plot {
            title: "Scan 1".into(),
            description: "a peak & its foot".into(),
            x: axis("wavelength", "nm"),
            y: axis("absorbance", ""),
            curves: vec![Curve { name: "scan".into(), kind: CurveKind::Line, points }],
            marks: vec![],
        }
    }

    /// One needle among 200 001 points is drawn, and the drawing is no larger for the rest.
    #[test]
    fn a_long_trace_loses_no_peak_and_stays_small() {
        let points: Vec<(f64, f64)> = (0..200_001)
            .map(|n| (f64::from(n), if n == 123_456 { 9.0 } else { f64::from(n % 2) }))
            .collect();
        let x = Span::of(points.iter().map(|point| point.0));
        let shown = drawn(&points, x);
        assert!(shown.len() <= 2 * COLUMNS, "{}", shown.len());
        assert!(shown.contains(&(123_456.0, 9.0)));
        assert!(shown.windows(2).all(|pair| pair[0].0 < pair[1].0), "out of order");
        let text = draw_plot(&plot(points.clone()));
        assert!(text.len() < 30_000, "{}", text.len());
        let values = plot_values(&plot(points));
        let read: serde_json::Value = serde_json::from_str(&values).unwrap();
        let points = read["points"].as_array().unwrap();
        assert_eq!((read["x"].as_str(), points.len()), (Some("nm"), shown.len()));
    }

    #[test]
    fn ends_of_the_range_are_drawn() {
        for points in [
            vec![],
            vec![(1.0, 1.0)],
            vec![(1.0, 0.0), (2.0, 0.0)],
            vec![(-1e-9, 1e12), (1e-9, -1e12)],
        ] {
            let text = draw_plot(&plot(points));
            assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
            assert!(text.contains("a peak &amp; its foot"));
        }
        assert_eq!(plot_values(&Plot { curves: vec![], ..plot(vec![]) }), "");
    }

    #[test]
    fn ticks_are_round_and_few() {
        for (from, to) in [(340.0, 660.0), (0.0, 0.31), (-1e-6, 1e-6), (1e9, 9e9), (-3.0, 2.0)] {
            let (ticks, _) = Span { from, to }.ticks();
            assert!((3..=11).contains(&ticks.len()), "{from} {to}: {ticks:?}");
            assert!(
                ticks.iter().all(|tick| *tick >= from - 1e-12 && *tick <= to + (to - from) * 1e-9)
            );
        }
    }

    #[test]
    fn a_peak_that_is_missing_is_marked_by_a_shape_of_its_own() {
        let mark = |x: f64, found| PlotMark { x, half_width: 2.0, name: format!("{x} nm"), found };
        let marks = vec![mark(10.0, Some((10.2, 1.0))), mark(10.5, None), mark(20.0, None)];
        let text = draw_plot(&Plot { marks, ..plot(vec![(0.0, 0.0), (30.0, 1.0)]) });
        assert_eq!(text.matches("plot-found").count(), 1);
        assert_eq!(text.matches("mark out").count(), 2);
        // Names that would run into each other are left to the list.
        assert!(text.contains("10 nm") && !text.contains("10.5 nm") && text.contains("20 nm"));
    }
}
