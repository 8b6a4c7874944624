//! Reflections in the complex plane. Where the unit circle is in sight, a few quiet arcs of resistance and reactance stand behind the
//! curves; nearer to the middle rings of |Γ|. Values are said in words at the pointer, not read off a web of lines.

use std::fmt::Write;

use vaaka_core::method::{CurveKind, Plane};
use vaaka_core::network::{Complex, reflection};
use vaaka_core::quantity::show_float;

use super::Svg;
use super::svg::number;

const WIDTH: f64 = 700.0;
const HEIGHT: f64 = 420.0;
const MIDDLE: (f64, f64) = (230.0, 212.0);
/// Half the side of what is drawn, in pixels.
const HALF: f64 = 186.0;
/// Where the words stand beside it.
const BESIDE: f64 = 452.0;
/// Points of a curve that are drawn.
const MOST: usize = 400;
/// Resistances and reactances over the reference impedance whose arcs are drawn.
const ARCS: [f64; 3] = [1.0 / 3.0, 1.0, 3.0];
/// Points of an arc.
const STEPS: usize = 48;

/// What part of the plane is drawn.
struct View {
    radius: f64,
}

impl View {
    /// The least of a few round radii that holds everything.
    fn of(plane: &Plane) -> Self {
        let curves =
            plane.curves.iter().flat_map(|curve| &curve.points).map(|one| one.0.hypot(one.1));
        let marks = plane.marks.iter().flat_map(|mark| {
            let own = mark.at.0.hypot(mark.at.1) + mark.radius;
            std::iter::once(own).chain(mark.found.map(|one| one.0.hypot(one.1)))
        });
        let most = curves.chain(marks).filter(|one| one.is_finite()).fold(0.0, f64::max);
        let radii = [0.02, 0.05, 0.1, 0.2, 0.5];
        // Beyond the unit circle only as far as something lies there.
        let radius = radii.into_iter().find(|radius| most <= radius * 0.96);
        Self { radius: radius.unwrap_or_else(|| most.clamp(1.0, 4.0) * 1.06) }
    }

    fn at(&self, (re, im): (f64, f64)) -> (f64, f64) {
        let of = |value: f64| (value / self.radius).clamp(-1.05, 1.05) * HALF;
        (MIDDLE.0 + of(re), MIDDLE.1 - of(im))
    }
}

/// Every so many points of a long curve, and its last one.
fn thinned(points: &[(f64, f64, f64)]) -> Vec<(f64, f64, f64)> {
    let every = points.len().div_ceil(MOST).max(1);
    let mut thin: Vec<(f64, f64, f64)> = points.iter().copied().step_by(every).collect();
    if let Some(last) = points.last().filter(|last| thin.last() != Some(*last)) {
        thin.push(*last);
    }
    thin.retain(|one| one.0.is_finite() && one.1.is_finite());
    thin
}

fn ground(svg: &mut Svg, view: &View) {
    let (left, right) = (view.at((-view.radius, 0.0)), view.at((view.radius, 0.0)));
    let (top, bottom) = (view.at((0.0, view.radius)), view.at((0.0, -view.radius)));
    svg.line("plane-quiet", left, right);
    if view.radius < 1.0 {
        svg.line("plane-quiet", top, bottom);
        for share in [0.5, 1.0] {
            let ring = view.radius * share;
            svg.circle("plane-ring", MIDDLE, HALF * share);
            let side = ring * std::f64::consts::FRAC_1_SQRT_2;
            let (x, y) = view.at((-side, side));
            svg.words("plot-words", (x - 4.0, y - 4.0), "end", &format!("{ring}"));
        }
        return;
    }
    let unit = HALF / view.radius;
    svg.circle("plane-ring", MIDDLE, unit);
    for r in ARCS {
        let centre = view.at((r / (1.0 + r), 0.0));
        svg.circle("plane-quiet", centre, unit / (1.0 + r));
        for sign in [1.0, -1.0] {
            // From the unit circle to the open end, as far as a resistance of nothing to a very large one.
            let arc: Vec<(f64, f64)> = (0..=STEPS)
                .map(|step| {
                    let resistance = (step as f64 / STEPS as f64 * 6.0).exp_m1() / 4.0;
                    let z = Complex::new(resistance, sign * r);
                    let gamma = (z - 1.0) / (z + 1.0);
                    view.at((gamma.re, gamma.im))
                })
                .collect();
            svg.path("plane-quiet", &arc, false);
        }
    }
    for (at, anchor, words) in [((-1.0, 0.0), "end", "short"), ((1.0, 0.0), "start", "open")] {
        let (x, y) = view.at(at);
        let away = if anchor == "end" { -6.0 } else { 6.0 };
        svg.words("plot-words", (x + away, y - 6.0), anchor, words);
    }
    let (x, y) = view.at((0.0, 0.0));
    svg.words("plot-words", (x + 5.0, y + 15.0), "start", "match");
}

fn class(kind: CurveKind) -> &'static str {
    match kind {
        CurveKind::Line => "plot-line",
        CurveKind::Before => "plot-before",
        CurveKind::Fit => "plot-fit",
        CurveKind::Points => "plot-points",
    }
}

/// Draws a plane.
pub fn draw_plane(plane: &Plane) -> String {
    let view = View::of(plane);
    let mut svg = Svg::begin("plot plane", WIDTH, HEIGHT, &plane.description);
    ground(&mut svg, &view);
    for mark in &plane.marks {
        let radius = (mark.radius / view.radius * HALF).max(4.0);
        svg.circle("plane-allowed", view.at(mark.at), radius);
    }
    for curve in &plane.curves {
        let points: Vec<(f64, f64)> =
            thinned(&curve.points).into_iter().map(|one| view.at((one.0, one.1))).collect();
        if curve.kind == CurveKind::Points {
            for point in points {
                svg.circle("plot-points", point, 3.0);
            }
            continue;
        }
        // Where it begins, by a shape of its own.
        if let (CurveKind::Line, Some((x, y))) = (curve.kind, points.first().copied()) {
            svg.rect("plane-begin", (x - 4.0, y - 4.0), (8.0, 8.0), 0.0);
        }
        svg.path(class(curve.kind), &points, false);
    }
    let mut row = MIDDLE.1 - HALF + 10.0;
    let mut said = |svg: &mut Svg, class: &str, words: &str| {
        if class == "plot-found" {
            svg.circle(class, (BESIDE + 14.0, row - 4.0), 5.0);
        } else {
            svg.line(class, (BESIDE, row - 4.0), (BESIDE + 28.0, row - 4.0));
        }
        svg.words("plot-words", (BESIDE + 38.0, row), "start", words);
        row += 24.0;
    };
    let mut names: Vec<&str> = vec![];
    for curve in &plane.curves {
        if !names.contains(&curve.name.as_str()) {
            said(&mut svg, class(curve.kind), &curve.name);
            names.push(&curve.name);
        }
    }
    for mark in &plane.marks {
        if let Some(found) = mark.found {
            svg.circle("plot-found", view.at(found), 5.0);
        }
        said(&mut svg, "plot-found", &mark.name);
    }
    let ends = plane.curves.iter().rev().find(|curve| curve.kind == CurveKind::Line);
    if let Some((first, last)) =
        ends.and_then(|curve| Some((curve.points.first()?, curve.points.last()?)))
    {
        let words = format!(
            "■ begins at {} {unit}, ends at {} {unit}",
            plain(first.2),
            plain(last.2),
            unit = plane.axis.1
        );
        svg.words("plot-words", (BESIDE, MIDDLE.1 + HALF), "start", &words);
    }
    svg.end()
}

/// As many digits as it needs, six at most.
fn plain(value: f64) -> String {
    ((value * 1e6).round() / 1e6).to_string()
}

/// What is said of a point: where on the axis, |Γ| and its angle, return loss, impedance.
fn words_of((re, im, x): (f64, f64, f64), plane: &Plane) -> String {
    let at = format!("{} {}", plain(x), plane.axis.1);
    let Ok(told) = reflection(Complex::new(re, im), plane.impedance) else { return at };
    let impedance = told.impedance.map_or("open".to_owned(), |z| {
        if z.norm() > 1e5 {
            "open".to_owned()
        } else {
            let sign = if z.im < 0.0 { "−" } else { "+" };
            format!("{} {sign} j{} Ω", show_float(z.re, 1), show_float(z.im.abs(), 1))
        }
    });
    let loss = if told.return_loss.is_finite() {
        format!("{} dB", show_float(told.return_loss, 1))
    } else {
        "endless".to_owned()
    };
    format!(
        "{at}: |Γ| {:.4} at {}°, return loss {loss}, {impedance}",
        told.magnitude,
        show_float(told.degrees, 1)
    )
}

/// What a reader of values needs: the points of the newest curve as they are drawn, each with its words.
pub fn plane_values(plane: &Plane) -> String {
    let Some(curve) = plane.curves.iter().rev().find(|curve| curve.kind == CurveKind::Line) else {
        return String::new();
    };
    let view = View::of(plane);
    let mut text = String::from("{\"plane\":true,\"points\":[");
    for (index, point) in thinned(&curve.points).into_iter().enumerate() {
        let (x, y) = view.at((point.0, point.1));
        let comma = if index == 0 { "" } else { "," };
        let words = words_of(point, plane);
        let _ = write!(text, "{comma}[{},{},\"{words}\"]", number(x), number(y));
    }
    text.push_str("]}");
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::method::{PlaneCurve, PlaneMark};

    fn plane(points: Vec<(f64, f64, f64)>) -> Plane {
        Plane {
            title: "The piece".into(),
            description: "a sweep & its model".into(),
            impedance: 50.0,
            axis: ("frequency".into(), "GHz".into()),
            curves: vec![PlaneCurve { name: "piece".into(), kind: CurveKind::Line, points }],
            marks: vec![],
        }
    }

    #[test]
    fn a_small_reflection_is_seen_near_and_a_large_one_whole() {
        let near = draw_plane(&plane(vec![(0.01, 0.02, 1.0), (0.03, -0.01, 2.0)]));
        assert!(near.contains("0.05") && !near.contains("short"), "{near}");
        let whole = draw_plane(&plane(vec![(-1.0, 0.0, 1.0), (0.0, 1.0, 2.0)]));
        assert!(whole.contains("short") && whole.contains("open") && whole.contains("match"));
        assert!(whole.contains("begins at 1 GHz, ends at 2 GHz"));
    }

    #[test]
    fn values_are_said_in_words() {
        let values =
            plane_values(&plane(vec![(1.0 / 3.0, 0.0, 2.4), (1.0, 0.0, 2.5), (0.0, 0.0, 2.6)]));
        let read: serde_json::Value = serde_json::from_str(&values).unwrap();
        let words = |n: usize| read["points"][n][2].as_str().unwrap().to_owned();
        assert_eq!(words(0), "2.4 GHz: |Γ| 0.3333 at 0.0°, return loss 9.5 dB, 100.0 + j0.0 Ω");
        assert!(words(1).ends_with("return loss 0.0 dB, open"), "{}", words(1));
        assert!(words(2).contains("return loss endless, 50.0 + j0.0 Ω"), "{}", words(2));
        assert_eq!(plane_values(&Plane { curves: vec![], ..plane(vec![]) }), "");
    }

    #[test]
    fn what_is_long_or_odd_stays_small_and_has_no_odd_numbers() {
        let long: Vec<(f64, f64, f64)> = (0..20_001)
            .map(|n| {
                let turn = f64::from(n) / 500.0;
                (turn.cos(), turn.sin(), f64::from(n))
            })
            .collect();
        assert!(thinned(&long).len() <= MOST + 1);
        assert_eq!(thinned(&long).last(), long.last());
        assert!(draw_plane(&plane(long)).len() < 30_000);
        for points in
            [vec![], vec![(f64::NAN, 0.0, 1.0)], vec![(1e12, -1e12, 1.0)], vec![(0.0, 0.0, 1.0)]]
        {
            let mark = PlaneMark { at: (0.0, 0.0), radius: 0.0, name: "1 GHz".into(), found: None };
            let text = draw_plane(&Plane { marks: vec![mark], ..plane(points) });
            assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
            assert!(text.contains("a sweep &amp; its model") && text.contains("1 GHz"));
        }
    }
}
