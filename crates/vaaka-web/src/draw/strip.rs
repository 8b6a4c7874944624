//! A strip: the newest values of something in their own sigmas, small enough for a cell of a table.

use super::Svg;

const WIDTH: f64 = 120.0;
const HEIGHT: f64 = 30.0;
/// Sigmas from the middle to an edge; what is further lies on it.
const REACH: f64 = 4.0;

/// Draws values in sigmas about their level, oldest first, on a scale that all strips share: the band is two sigmas wide on
/// each side.
pub fn strip(values: &[f64], name: &str) -> String {
    let description =
        format!("{name}: the newest {} errors in sigmas about their level", values.len());
    let mut svg = Svg::begin("pair-strip", WIDTH, HEIGHT, &description);
    let y = |value: f64| HEIGHT / 2.0 * (1.0 - value.clamp(-REACH, REACH) / REACH);
    svg.rect("control-band", (0.0, y(2.0)), (WIDTH, y(-2.0) - y(2.0)), 0.0);
    svg.line("center-line", (0.0, y(0.0)), (WIDTH, y(0.0)));
    let step = (WIDTH - 8.0) / (values.len().max(2) - 1) as f64;
    let way: Vec<(f64, f64)> =
        values.iter().enumerate().map(|(i, value)| (4.0 + step * i as f64, y(*value))).collect();
    if way.len() > 1 {
        svg.path("joined", &way, false);
    }
    if let Some(newest) = way.last() {
        svg.circle("mark ok", *newest, 2.4);
    }
    svg.end()
}

#[cfg(test)]
mod tests {
    use super::strip;

    #[test]
    fn far_values_lie_on_the_edge_and_none_draws_no_line() {
        let drawn = strip(&[0.0, 1.0, 40.0], "R-02 with W-1");
        assert!(drawn.contains("R-02 with W-1: the newest 3 errors"), "{drawn}");
        assert!(drawn.contains("cy=\"0\""), "{drawn}");
        assert!(!strip(&[], "x").contains("joined") && !strip(&[1.0], "x").contains("joined"));
    }
}
