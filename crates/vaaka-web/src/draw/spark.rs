//! A small chart for the wall: the last checks against their limits, readable from some steps away.

use super::Svg;
use super::axis::Axis;

/// A small chart.
#[derive(Debug, Clone, PartialEq)]
pub struct Spark {
    /// Sentence.
    pub description: String,
    /// Values, oldest first; the last is the newest.
    pub values: Vec<f64>,
    /// Lower control limit, centre line, upper control limit.
    pub control: Option<(f64, f64, f64)>,
    /// Tolerance.
    pub tolerance: (Option<f64>, Option<f64>),
    /// State of the newest.
    pub state: &'static str,
}

const WIDTH: f64 = 240.0;
const HEIGHT: f64 = 86.0;

impl Spark {
    /// Draws it. Tolerance limits far outside what happened are left out, so that the checks stay visible.
    pub fn draw(&self) -> String {
        let mut svg = Svg::begin("spark", WIDTH, HEIGHT, &self.description);
        let near: Vec<f64> = self
            .values
            .iter()
            .copied()
            .chain(self.control.into_iter().flat_map(|(lower, _, upper)| [lower, upper]))
            .collect();
        let (low, high) = near
            .iter()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(*v), h.max(*v)));
        let room = (high - low).max(0.0);
        let limits: Vec<f64> = [self.tolerance.0, self.tolerance.1]
            .into_iter()
            .flatten()
            .filter(|limit| *limit >= low - room && *limit <= high + room)
            .collect();
        let axis = Axis::over(near.into_iter().chain(limits.iter().copied()), 8.0, HEIGHT - 8.0);
        if let Some((lower, center, upper)) = self.control {
            let (top, bottom) = (axis.y(upper), axis.y(lower));
            svg.rect("control-band", (0.0, top), (WIDTH, bottom - top), 0.0);
            svg.line("center-line", (0.0, axis.y(center)), (WIDTH, axis.y(center)));
        }
        for limit in limits {
            svg.line("tolerance-limit", (0.0, axis.y(limit)), (WIDTH, axis.y(limit)));
        }
        let count = self.values.len();
        let step = (WIDTH - 24.0) / (count.max(2) - 1) as f64;
        let x =
            |place: usize| 10.0 + step * place as f64 + if count == 1 { WIDTH - 34.0 } else { 0.0 };
        let way: Vec<(f64, f64)> =
            self.values.iter().enumerate().map(|(i, v)| (x(i), axis.y(*v))).collect();
        if way.len() > 1 {
            svg.path("joined", &way, false);
        }
        for at in way.iter().rev().skip(1) {
            svg.circle("mark ok", *at, 2.0);
        }
        if let Some(newest) = way.last() {
            svg.mark(self.state, *newest, 5.0);
        }
        svg.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_one_and_many_are_drawn() {
        for values in [&[][..], &[1.0], &[1.0, 1.0, 1.0], &[0.1, -0.4, 0.2]] {
            let spark = Spark {
                description: "a".into(),
                values: values.to_vec(),
                control: Some((-1.0, 0.0, 1.0)),
                tolerance: (Some(-500.0), Some(2.0)),
                state: "signal",
            };
            let text = spark.draw();
            assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
            // The limit far away is left out, the near one is there.
            assert_eq!(text.matches("tolerance-limit").count(), 1, "{text}");
            assert_eq!(text.matches("mark signal").count(), usize::from(!values.is_empty()));
        }
    }
}
