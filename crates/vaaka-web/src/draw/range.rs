//! A correction over the whole range: errors as found (hollow) and afterwards (filled) against the
//! reference value, between the tolerance of each point.

use vaaka_core::adjustment::Effect;

use super::Svg;

const WIDTH: f64 = 720.0;
const HEIGHT: f64 = 300.0;
const LEFT: f64 = 74.0;
const RIGHT: f64 = 20.0;
const TOP: f64 = 18.0;
const BOTTOM: f64 = 44.0;

struct Scale {
    x: (f64, f64),
    y: f64,
}

impl Scale {
    fn of(effects: &[Effect]) -> Self {
        let references = effects.iter().map(|effect| effect.point.reference);
        let low = references.clone().fold(f64::INFINITY, f64::min);
        let high = references.fold(f64::NEG_INFINITY, f64::max);
        let margin = if high > low { 0.06 * (high - low) } else { high.abs().max(1.0) };
        let most = effects
            .iter()
            .flat_map(|effect| {
                let point = &effect.point;
                [Some(point.error), Some(effect.after), point.lower, point.upper]
            })
            .flatten()
            .map(f64::abs)
            .fold(0.0, f64::max);
        Self { x: (low - margin, high + margin), y: if most > 0.0 { 1.15 * most } else { 1.0 } }
    }

    fn at(&self, reference: f64, error: f64) -> (f64, f64) {
        let across = (reference - self.x.0) / (self.x.1 - self.x.0);
        let up = (self.y - error) / (2.0 * self.y);
        (
            LEFT + across * (WIDTH - LEFT - RIGHT),
            TOP + up.clamp(-0.05, 1.05) * (HEIGHT - TOP - BOTTOM),
        )
    }
}

/// Draws the effect of a correction, in the unit of the errors.
pub fn draw_effects(description: &str, unit: &str, effects: &[Effect]) -> String {
    let mut svg = Svg::begin("effects", WIDTH, HEIGHT, description);
    if effects.is_empty() {
        return svg.end();
    }
    let scale = Scale::of(effects);
    svg.line("center-line", scale.at(scale.x.0, 0.0), scale.at(scale.x.1, 0.0));
    svg.words("axis-unit", (LEFT - 8.0, scale.at(0.0, 0.0).1 + 4.0), "end", "0");
    svg.words("axis-unit", (6.0, TOP), "start", unit);
    for side in [|effect: &Effect| effect.point.upper, |effect: &Effect| effect.point.lower] {
        let limits: Vec<(f64, f64)> = effects
            .iter()
            .filter_map(|effect| Some(scale.at(effect.point.reference, side(effect)?)))
            .collect();
        match limits.as_slice() {
            [(_, y)] => {
                svg.line("tolerance-limit", (LEFT, *y), (WIDTH - RIGHT, *y));
            }
            [] => {}
            many => {
                svg.path("tolerance-limit open", many, false);
            }
        }
    }
    if let Some(first) = effects.iter().find_map(|effect| effect.point.upper) {
        let (_, y) = scale.at(0.0, first);
        svg.words("tolerance-words", (LEFT, y - 5.0), "start", "tolerance");
    }
    let line = |of: fn(&Effect) -> f64| -> Vec<(f64, f64)> {
        effects.iter().map(|effect| scale.at(effect.point.reference, of(effect))).collect()
    };
    let (before, after) = (line(|effect| effect.point.error), line(|effect| effect.after));
    for (index, effect) in effects.iter().enumerate() {
        let (from, to) = (before[index], after[index]);
        svg.line("moves", from, to);
        svg.open("point hollow", &[]);
        svg.mark("ok", from, 6.0);
        svg.close();
        svg.mark(if effect.holds_after { "ok" } else { "out" }, to, 5.5);
        // Two points of one level share their words.
        let shown = index > 0
            && (effects[index - 1].point.reference - effect.point.reference).abs() < f64::EPSILON;
        if !shown {
            let words = format!("{}", (effect.point.reference * 1e6).round() / 1e6);
            svg.words("chart-time", (from.0, HEIGHT - 22.0), "middle", &words);
        }
    }
    svg.words("chart-time", (WIDTH / 2.0, HEIGHT - 4.0), "middle", &format!("reference, {unit}"));
    svg.end()
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::adjustment::{Correction, ErrorPoint, effects};

    #[test]
    fn a_point_that_stays_out_is_a_square() {
        let point = |reference: f64, error: f64| ErrorPoint {
            key: "a".into(),
            label: "a".into(),
            reference,
            error,
            level: error,
            lower: Some(-1.0),
            upper: Some(1.0),
        };
        let found =
            effects(&[point(0.0, 0.0), point(10.0, 4.0)], Correction { offset: -2.0, gain: 0.0 });
        let text = draw_effects("x", "g", &found);
        // Both are out afterwards: at zero by −2, at ten by +2.
        assert_eq!(text.matches("mark out").count(), 2);
        assert!(!text.contains("NaN"));
        assert!(draw_effects("x", "g", &[]).ends_with("</svg>"));
        let one = effects(&[point(5.0, 0.5)], Correction::default());
        assert!(!draw_effects("x", "g", &one).contains("NaN"));
    }
}
