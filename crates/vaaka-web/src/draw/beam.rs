//! The beam: one small drawing used wherever a value is judged, always in the same direction.
//!
//! End bars are the tolerance, the band the control limits, the small fulcrum their centre, the
//! trail the checks before, the mark the latest in the shape of its state, the arrow the
//! direction of a proven drift. A value beyond an end stands just outside it.

use super::Svg;

/// The two sizes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BeamSize {
    /// In a row of a table.
    Row,
    /// Across a page.
    Page,
}

/// The latest value with its state.
#[derive(Debug, Clone, PartialEq)]
pub struct BeamMark {
    /// The value.
    pub value: f64,
    /// "ok", "signal" or "out".
    pub state: &'static str,
}

/// What a beam shows; all values in one unit.
#[derive(Debug, Clone, PartialEq)]
pub struct Beam {
    /// Size.
    pub size: BeamSize,
    /// The sentence it stands for.
    pub description: String,
    /// Tolerance, either side of which may be absent.
    pub tolerance: (Option<f64>, Option<f64>),
    /// Acceptance limits, where a guard band draws them in from the tolerance.
    pub acceptance: (Option<f64>, Option<f64>),
    /// Control limits and centre, when there are any: lower, centre, upper.
    pub control: Option<(f64, f64, f64)>,
    /// Earlier values, oldest first.
    pub trail: Vec<f64>,
    /// Latest value.
    pub mark: Option<BeamMark>,
    /// Single readings kept so far, drawn as ticks with their number; never judged.
    pub ticks: Vec<f64>,
    /// +1 for a drift upwards, −1 downwards, 0 for none.
    pub drift: i8,
}

struct Scale {
    middle: f64,
    half: f64,
    center: f64,
    reach: f64,
    least: f64,
    most: f64,
}

impl Scale {
    fn x(&self, value: f64) -> f64 {
        (self.center + (value - self.middle) / self.half * self.reach).clamp(self.least, self.most)
    }
}

impl Beam {
    /// An empty beam.
    pub fn new(size: BeamSize, description: String) -> Self {
        Self {
            size,
            description,
            tolerance: (None, None),
            acceptance: (None, None),
            control: None,
            trail: Vec::new(),
            mark: None,
            ticks: Vec::new(),
            drift: 0,
        }
    }

    fn scale(&self, width: f64, margin: f64, outside: f64) -> Scale {
        let (lower, upper) = match self.tolerance {
            (Some(lower), Some(upper)) => (lower, upper),
            // A one-sided tolerance with nothing inside it is drawn with nothing in the middle; else as far as anything lies.
            (None, Some(upper)) if upper > 0.0 => (-upper, upper),
            (Some(lower), None) if lower < 0.0 => (lower, -lower),
            (None, Some(upper)) => (upper - self.reach_from(upper), upper),
            (Some(lower), None) => (lower, lower + self.reach_from(lower)),
            (None, None) => {
                let control = self.control.map_or(0.0, |(l, _, u)| l.abs().max(u.abs()));
                let seen = self.mark.iter().map(|mark| mark.value.abs()).fold(control, f64::max);
                (-seen * 1.2, seen * 1.2)
            }
        };
        let half = (upper - lower) / 2.0;
        Scale {
            middle: (upper + lower) / 2.0,
            half: if half > 0.0 { half } else { 1.0 },
            center: width / 2.0,
            reach: width / 2.0 - margin,
            least: margin - outside,
            most: width - margin + outside,
        }
    }

    /// How far from a limit anything lies that is drawn, with some room; a tenth of the limit where nothing does.
    fn reach_from(&self, limit: f64) -> f64 {
        let control = self.control.into_iter().flat_map(|(lower, _, upper)| [lower, upper]);
        let marks = self.mark.iter().map(|mark| mark.value);
        let all = marks.chain(self.trail.iter().copied()).chain(self.ticks.iter().copied());
        let farthest = all.chain(control).map(|value| (value - limit).abs()).fold(0.0, f64::max);
        let least = if limit == 0.0 { 1.0 } else { limit.abs() / 10.0 };
        (1.2 * farthest).max(least)
    }

    /// Where the mark stands: a value beyond an end clears the end bar however small the excess,
    /// so that inside and outside are told apart at a glance.
    fn mark_x(&self, scale: &Scale, value: f64, size: f64) -> f64 {
        let x = scale.x(value);
        match self.tolerance {
            (_, Some(upper)) if value > upper => x.max(scale.x(upper) + size),
            (Some(lower), _) if value < lower => x.min(scale.x(lower) - size),
            _ => x,
        }
    }

    /// Draws it.
    pub fn draw(&self) -> String {
        let (width, height, margin, end, band, size) = match self.size {
            BeamSize::Row => (230.0, 34.0, 16.0, 9.0, 5.0, 5.5),
            BeamSize::Page => (700.0, 58.0, 16.0, 11.0, 5.5, 7.0),
        };
        let class = match self.size {
            BeamSize::Row => "beam row-beam",
            BeamSize::Page => "beam page-beam",
        };
        let y = match self.size {
            BeamSize::Row => 16.0,
            BeamSize::Page => 22.0,
        };
        let scale = self.scale(width, margin, size * 1.7);
        let mut svg = Svg::begin(class, width, height, &self.description);
        svg.line("beam-line", (margin, y), (width - margin, y));
        for (limit, x) in [(self.tolerance.0, margin), (self.tolerance.1, width - margin)] {
            if limit.is_some() {
                svg.line("beam-end", (x, y - end), (x, y + end));
            }
        }
        // Short bars between the line and the ends, with their feet turned inward: what is accepted lies between them.
        for (limit, way) in [(self.acceptance.0, 1.0), (self.acceptance.1, -1.0)] {
            if let Some(limit) = limit {
                let (x, reach) = (scale.x(limit), end - 2.0);
                svg.path(
                    "beam-accepted",
                    &[
                        (x + way * 4.0, y - reach),
                        (x, y - reach),
                        (x, y + reach),
                        (x + way * 4.0, y + reach),
                    ],
                    false,
                );
            }
        }
        if let Some((lower, center, upper)) = self.control {
            let (left, right) = (scale.x(lower), scale.x(upper));
            svg.rect("beam-band", (left, y - band), ((right - left).max(2.0), 2.0 * band), 0.0);
            let fulcrum = scale.x(center);
            let foot = y + band + 8.0;
            svg.path(
                "beam-fulcrum",
                &[(fulcrum - 4.5, foot), (fulcrum, y + band), (fulcrum + 4.5, foot)],
                true,
            );
        }
        let count = self.trail.len();
        for (index, value) in self.trail.iter().enumerate() {
            let age = (5 * (count - index)).div_ceil(count.max(1)).clamp(1, 5);
            svg.circle(&format!("beam-trail age-{age}"), (scale.x(*value), y), 2.2);
        }
        for (index, value) in self.ticks.iter().enumerate() {
            let x = scale.x(*value);
            svg.line("beam-tick", (x, y - 10.0), (x, y + 10.0));
            svg.words("beam-words", (x, y + 26.0), "middle", &(index + 1).to_string());
        }
        if let Some(mark) = &self.mark {
            let x = self.mark_x(&scale, mark.value, size);
            svg.mark(mark.state, (x, y), size);
            if self.drift != 0 {
                let way = f64::from(self.drift);
                let (from, to) = (x + way * 9.0, x + way * 27.0);
                // Keep the arrow on the sheet when the mark stands at an end.
                let shift = (to.clamp(4.0, width - 4.0)) - to;
                let (from, to, top) = (from + shift, to + shift, y - 11.0);
                svg.line("beam-arrow", (from, top), (to, top));
                svg.path(
                    "beam-arrow",
                    &[(to - way * 5.0, top - 4.0), (to, top), (to - way * 5.0, top + 4.0)],
                    false,
                );
            }
        }
        svg.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use scraper::{Html, Selector};

    fn beam(value: f64) -> Beam {
        Beam {
            tolerance: (Some(-20.0), Some(20.0)),
            control: Some((-5.0, 1.0, 7.0)),
            trail: vec![0.0, 1.0, 2.0],
            mark: Some(BeamMark { value, state: "ok" }),
            ..Beam::new(BeamSize::Row, "error".into())
        }
    }

    fn mark_x(drawing: &str) -> f64 {
        let page = Html::parse_fragment(drawing);
        let mark = page.select(&Selector::parse("circle.mark").unwrap()).next().unwrap();
        mark.value().attr("cx").unwrap().parse().unwrap()
    }

    #[test]
    fn larger_values_stand_further_right_and_never_leave_the_sheet() {
        let places: Vec<f64> =
            [-1e9, -20.0, 0.0, 20.0, 1e9].iter().map(|v| mark_x(&beam(*v).draw())).collect();
        assert!(places.windows(2).all(|pair| pair[0] < pair[1]), "{places:?}");
        assert!(places[0] > 0.0 && places[4] < 230.0);
    }

    #[test]
    fn a_value_beyond_the_end_stands_just_outside_it() {
        assert!(mark_x(&beam(20.000_1).draw()) > 230.0 - 16.0 + 5.0);
        assert!(mark_x(&beam(20.0).draw()) <= 230.0 - 16.0);
        assert!(mark_x(&beam(-20.000_1).draw()) < 16.0 - 5.0);
    }

    #[test]
    fn acceptance_limits_stand_inside_the_ends() {
        let guarded = Beam { acceptance: (Some(-18.0), Some(18.0)), ..beam(0.0) };
        assert_eq!(guarded.draw().matches("beam-accepted").count(), 2);
        assert_eq!(beam(0.0).draw().matches("beam-accepted").count(), 0);
    }

    #[test]
    fn a_missing_side_has_no_end_bar() {
        let mut one_sided = beam(1.0);
        one_sided.tolerance.0 = None;
        assert_eq!(one_sided.draw().matches("beam-end").count(), 1);
        assert_eq!(beam(1.0).draw().matches("beam-end").count(), 2);
    }
}
