//! The control chart with its drift watcher, under one time axis.

use super::Svg;
use vaaka_core::quantity::{decimals_for, show_signed_float};

/// A point as it is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct DrawnPoint {
    /// Seconds since the Unix epoch.
    pub at: f64,
    /// Plotted value.
    pub value: f64,
    /// "ok", "signal" or "out".
    pub state: &'static str,
    /// Hollow marks are drawn and not counted: a confirming repeat, as left.
    pub hollow: bool,
    /// False where the checks before it are too long ago to be joined by a line.
    pub joined: bool,
    /// Drift watcher, where it has limits.
    pub ewma: Option<f64>,
    /// Centre and half-width of the drift watcher's limits.
    pub ewma_limits: Option<(f64, f64)>,
    /// Whether the drift watcher is beyond its limits here.
    pub ewma_beyond: bool,
    /// Id of its check, for the way to its verdict.
    pub check: i64,
    /// What screen readers say of it.
    pub label: String,
}

/// Limits that hold over a stretch of time.
#[derive(Debug, Clone, PartialEq)]
pub struct ChartSegment {
    /// Start and end, seconds.
    pub from: f64,
    /// End.
    pub to: f64,
    /// Lower control limit, centre line, upper control limit.
    pub control: Option<(f64, f64, f64)>,
    /// True while the level is provisional.
    pub provisional: bool,
    /// Tolerance limits.
    pub tolerance: (Option<f64>, Option<f64>),
}

/// Something written on the chart at a time.
#[derive(Debug, Clone, PartialEq)]
pub struct DrawnEvent {
    /// Seconds.
    pub at: f64,
    /// Words.
    pub words: String,
    /// True for the estimated onset, which is drawn dotted.
    pub estimated: bool,
}

/// A drift with its fan.
#[derive(Debug, Clone, PartialEq)]
pub struct DrawnForecast {
    /// Onset, seconds.
    pub since: f64,
    /// Newest point, seconds.
    pub now: f64,
    /// Level at the newest point and half-width of its interval.
    pub level: (f64, f64),
    /// Slope a second, its lower and upper end.
    pub slope: (f64, f64, f64),
    /// Words at the crossing, and when it is.
    pub crossing: Option<(f64, String)>,
}

/// What the chart shows.
#[derive(Debug, Clone, PartialEq)]
pub struct ChartDrawing {
    /// Sentence.
    pub description: String,
    /// Time shown, seconds.
    pub from: f64,
    /// End of the time shown.
    pub to: f64,
    /// Marks of time.
    pub times: Vec<(f64, String)>,
    /// Limits.
    pub segments: Vec<ChartSegment>,
    /// Points, oldest first.
    pub points: Vec<DrawnPoint>,
    /// Values from before this program, oldest first: seconds and value. They have no limits.
    pub earlier: Vec<(f64, f64)>,
    /// Events.
    pub events: Vec<DrawnEvent>,
    /// Forecast.
    pub forecast: Option<DrawnForecast>,
    /// What the errors would be had nobody ever adjusted; empty where nobody did.
    pub uncorrected: Vec<(f64, f64)>,
    /// Decimals of the axis.
    pub decimals: u32,
    /// Symbol of the unit.
    pub unit: String,
}

const WIDTH: f64 = 920.0;
const LEFT: f64 = 64.0;
const RIGHT: f64 = 112.0;
const TOP: f64 = 54.0;
const BOTTOM: f64 = 372.0;
const WATCH_TOP: f64 = 428.0;
const WATCH_BOTTOM: f64 = 516.0;
const HEIGHT: f64 = 530.0;
const BARE_TOP: f64 = 562.0;
const BARE_BOTTOM: f64 = 640.0;
/// Height with the pane of the uncorrected drift.
const TALL: f64 = 654.0;

struct Axis {
    least: f64,
    most: f64,
    top: f64,
    bottom: f64,
}

impl Axis {
    fn over(values: impl Iterator<Item = f64>, top: f64, bottom: f64) -> Self {
        let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in values.filter(|value| value.is_finite()) {
            least = least.min(value);
            most = most.max(value);
        }
        if least > most {
            (least, most) = (-1.0, 1.0);
        }
        let room = ((most - least) * 0.05).max(f64::MIN_POSITIVE.max(most.abs() * 1e-9));
        Self { least: least - room, most: most + room, top, bottom }
    }

    fn y(&self, value: f64) -> f64 {
        let share = (value - self.least) / (self.most - self.least);
        (self.bottom - share * (self.bottom - self.top)).clamp(self.top - 8.0, self.bottom + 8.0)
    }
}

impl ChartDrawing {
    fn x(&self, at: f64) -> f64 {
        let share = (at - self.from) / (self.to - self.from).max(1.0);
        LEFT + share.clamp(0.0, 1.0) * (WIDTH - LEFT - RIGHT)
    }

    /// Draws it.
    pub fn draw(&self) -> String {
        let limits = self.segments.iter().flat_map(|segment| {
            let control = segment.control.map(|(l, _, u)| [l, u]).into_iter().flatten();
            control.chain(segment.tolerance.0).chain(segment.tolerance.1)
        });
        let axis = Axis::over(
            limits
                .chain(self.points.iter().map(|point| point.value))
                .chain(self.earlier.iter().map(|(_, value)| *value)),
            TOP,
            BOTTOM,
        );
        let height = if self.uncorrected.is_empty() { HEIGHT } else { TALL };
        let mut svg = Svg::begin("chart", WIDTH, height, &self.description);
        self.draw_times(&mut svg);
        for segment in &self.segments {
            self.draw_segment(&mut svg, segment, &axis);
        }
        self.draw_axis_words(&mut svg, &axis);
        self.draw_forecast(&mut svg, &axis);
        self.draw_events(&mut svg);
        self.draw_earlier(&mut svg, &axis);
        self.draw_points(&mut svg, &axis);
        self.draw_watcher(&mut svg);
        self.draw_uncorrected(&mut svg);
        svg.end()
    }

    /// The drift with every adjustment taken out again, on an axis of its own.
    fn draw_uncorrected(&self, svg: &mut Svg) {
        let Some((last, value)) = self.uncorrected.last() else {
            return;
        };
        let values = self.uncorrected.iter().map(|(_, value)| *value).chain([0.0]);
        let axis = Axis::over(values, BARE_TOP, BARE_BOTTOM);
        let words = "had nobody ever adjusted: the uncorrected drift";
        svg.words("watch-title", (LEFT, BARE_TOP - 8.0), "start", words);
        svg.line("center-line", (LEFT, axis.y(0.0)), (WIDTH - RIGHT, axis.y(0.0)));
        svg.words("control-words", (LEFT - 8.0, axis.y(0.0) + 4.0), "end", "0");
        let line: Vec<(f64, f64)> =
            self.uncorrected.iter().map(|(at, value)| (self.x(*at), axis.y(*value))).collect();
        svg.path("bare-line", &line, false);
        let words = show_signed_float(*value, self.decimals);
        svg.words("control-words", (self.x(*last) + 6.0, axis.y(*value) + 4.0), "start", &words);
    }

    fn draw_times(&self, svg: &mut Svg) {
        for (at, words) in &self.times {
            let x = self.x(*at);
            svg.line("chart-grid", (x, TOP), (x, BOTTOM));
            svg.words("chart-time", (x, BOTTOM + 20.0), "middle", words);
        }
    }

    fn draw_segment(&self, svg: &mut Svg, segment: &ChartSegment, axis: &Axis) {
        let (left, right) = (self.x(segment.from), self.x(segment.to));
        if right <= left {
            return;
        }
        if let Some((lower, center, upper)) = segment.control {
            let (top, bottom) = (axis.y(upper), axis.y(lower));
            let class =
                if segment.provisional { "control-band provisional" } else { "control-band" };
            svg.rect(class, (left, top), (right - left, bottom - top), 0.0);
            svg.line("control-limit", (left, top), (right, top));
            svg.line("control-limit", (left, bottom), (right, bottom));
            svg.line("center-line", (left, axis.y(center)), (right, axis.y(center)));
        }
        for limit in [segment.tolerance.0, segment.tolerance.1].into_iter().flatten() {
            svg.line("tolerance-limit", (left, axis.y(limit)), (right, axis.y(limit)));
        }
    }

    /// Limits are named at the right end, from the newest segment; names that would overlap are
    /// moved apart.
    fn draw_axis_words(&self, svg: &mut Svg, axis: &Axis) {
        let show = |value| show_signed_float(value, self.decimals);
        let Some(newest) = self.segments.last() else {
            return;
        };
        let mut names: Vec<(f64, String, &str)> = Vec::new();
        for limit in [newest.tolerance.0, newest.tolerance.1].into_iter().flatten() {
            names.push((axis.y(limit), format!("{} tolerance", show(limit)), "tolerance-words"));
        }
        let mut left: Vec<(f64, String)> = Vec::new();
        if let Some((lower, center, upper)) = newest.control {
            // Limits narrower than a few steps of the display need a digit more than it shows.
            let places = decimals_for((upper - lower) / 2.0).max(self.decimals);
            let show = |value| show_signed_float(value, places);
            left = vec![
                (axis.y(upper), show(upper)),
                (axis.y(center), show(center)),
                (axis.y(lower), show(lower)),
            ];
        }
        for (y, words, class) in names {
            svg.words(class, (WIDTH - RIGHT + 8.0, y + 4.0), "start", &words);
        }
        let mut last = f64::NEG_INFINITY;
        for (y, words) in left {
            let y = y.max(last + 14.0);
            last = y;
            svg.words("control-words", (LEFT - 8.0, y + 4.0), "end", &words);
        }
        svg.words("axis-unit", (LEFT - 8.0, TOP - 14.0), "end", &self.unit);
    }

    fn draw_forecast(&self, svg: &mut Svg, axis: &Axis) {
        let Some(forecast) = &self.forecast else {
            return;
        };
        let (slope, low, high) = forecast.slope;
        let (level, half) = forecast.level;
        let ahead = self.to - forecast.now;
        let (now, end) = (self.x(forecast.now), self.x(self.to));
        let at = |level: f64, slope: f64| axis.y(level + slope * ahead);
        svg.path(
            "fan",
            &[
                (now, axis.y(level + half)),
                (end, at(level + half, high)),
                (end, at(level - half, low)),
                (now, axis.y(level - half)),
            ],
            true,
        );
        let start = forecast.since.max(self.from);
        let begin = (self.x(start), axis.y(level + slope * (start - forecast.now)));
        svg.path("drift-line", &[begin, (now, axis.y(level)), (end, at(level, slope))], false);
        if let Some((at, words)) = &forecast.crossing
            && *at <= self.to
        {
            let x = self.x(*at);
            svg.line("crossing", (x, TOP), (x, BOTTOM));
            svg.words("crossing-words", (x - 4.0, TOP - 6.0), "end", words);
        }
    }

    /// Words of events stand in two rows, so that neighbours do not run into each other; where a
    /// third would, its line stays and the words are left to the list beside the chart.
    fn draw_events(&self, svg: &mut Svg) {
        let mut taken = [f64::NEG_INFINITY; 2];
        for event in self.events.iter().filter(|event| event.at >= self.from && event.at <= self.to)
        {
            let x = self.x(event.at);
            let class = if event.estimated { "event estimated" } else { "event" };
            svg.line(class, (x, TOP - 6.0), (x, WATCH_BOTTOM));
            let length = 6.6 * event.words.chars().count() as f64;
            let near_end = x + 6.0 + length > WIDTH - 4.0;
            let from = if near_end { x - 6.0 - length } else { x + 6.0 };
            if let Some(row) = taken.iter().position(|end| from >= *end) {
                taken[row] = from + length + 8.0;
                let y = 14.0 + 16.0 * row as f64;
                svg.words("event-words", (from, y), "start", &event.words);
            }
        }
    }

    /// A short stroke each: no mark of a check, since none was made here.
    fn draw_earlier(&self, svg: &mut Svg, axis: &Axis) {
        let Some((first, _)) = self.earlier.first() else {
            return;
        };
        for (at, value) in &self.earlier {
            let (x, y) = (self.x(*at), axis.y(*value));
            svg.line("earlier", (x - 3.0, y), (x + 3.0, y));
        }
        let x = self.x(*first);
        svg.words("event-words", (x, BOTTOM - 24.0), "start", "brought in, from before");
    }

    fn draw_points(&self, svg: &mut Svg, axis: &Axis) {
        let mut run: Vec<(f64, f64)> = Vec::new();
        for point in self.points.iter().filter(|point| !point.hollow) {
            if !point.joined {
                if run.len() > 1 {
                    svg.path("joined", &run, false);
                }
                run.clear();
            }
            run.push((self.x(point.at), axis.y(point.value)));
        }
        if run.len() > 1 {
            svg.path("joined", &run, false);
        }
        let size: f64 = if self.points.len() > 400 { 2.2 } else { 3.4 };
        for point in &self.points {
            let class = if point.hollow { "point hollow" } else { "point" };
            svg.open(class, &[("check", &point.check.to_string()), ("label", &point.label)]);
            let size = if point.state == "ok" { size } else { size.max(3.4) + 0.8 };
            svg.mark(point.state, (self.x(point.at), axis.y(point.value)), size);
            svg.close();
        }
    }

    fn draw_watcher(&self, svg: &mut Svg) {
        let watched: Vec<&DrawnPoint> = self
            .points
            .iter()
            .filter(|point| point.ewma.is_some() && point.ewma_limits.is_some())
            .collect();
        if watched.is_empty() {
            return;
        }
        let around = watched.iter().flat_map(|point| {
            let (center, half) = point.ewma_limits.unwrap_or_default();
            [center - half, center + half, point.ewma.unwrap_or(center)]
        });
        let axis = Axis::over(around, WATCH_TOP, WATCH_BOTTOM);
        svg.words(
            "watch-title",
            (LEFT, WATCH_TOP - 12.0),
            "start",
            "slow average, watches for drift",
        );
        let mut runs: Vec<Vec<&DrawnPoint>> = Vec::new();
        for point in watched {
            let same = runs.last().and_then(|run| run.last()).is_some_and(|last| {
                last.ewma_limits.map(|(center, _)| center)
                    == point.ewma_limits.map(|(center, _)| center)
            });
            match runs.last_mut() {
                Some(run) if same => run.push(point),
                _ => runs.push(vec![point]),
            }
        }
        for run in runs {
            let edge = |sign: f64| {
                run.iter().map(move |point| {
                    let (center, half) = point.ewma_limits.unwrap_or_default();
                    (point.at, center + sign * half)
                })
            };
            let mut band: Vec<(f64, f64)> =
                edge(1.0).map(|(at, v)| (self.x(at), axis.y(v))).collect();
            let mut lower: Vec<(f64, f64)> =
                edge(-1.0).map(|(at, v)| (self.x(at), axis.y(v))).collect();
            lower.reverse();
            band.extend(lower);
            svg.path("watch-band", &band, true);
            let line: Vec<(f64, f64)> = run
                .iter()
                .map(|point| (self.x(point.at), axis.y(point.ewma.unwrap_or_default())))
                .collect();
            svg.path("watch-line", &line, false);
            for stretch in run.chunk_by(|a, b| a.ewma_beyond == b.ewma_beyond) {
                if stretch.first().is_some_and(|point| point.ewma_beyond) {
                    let line: Vec<(f64, f64)> = stretch
                        .iter()
                        .map(|point| (self.x(point.at), axis.y(point.ewma.unwrap_or_default())))
                        .collect();
                    svg.path("watch-line beyond", &line, false);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn point(at: f64, value: f64, joined: bool) -> DrawnPoint {
        DrawnPoint {
            at,
            value,
            state: "ok",
            hollow: false,
            joined,
            ewma: Some(value / 2.0),
            ewma_limits: Some((0.0, 1.0)),
            ewma_beyond: false,
            check: 1,
            label: "a check".into(),
        }
    }

    fn drawing(points: Vec<DrawnPoint>) -> ChartDrawing {
        ChartDrawing {
            description: "errors".into(),
            from: 0.0,
            to: 100.0,
            times: vec![(0.0, "1 Nov".into())],
            segments: vec![ChartSegment {
                from: 0.0,
                to: 100.0,
                control: Some((-3.0, 0.0, 3.0)),
                provisional: false,
                tolerance: (Some(-20.0), Some(20.0)),
            }],
            points,
            earlier: vec![],
            events: vec![DrawnEvent { at: 50.0, words: "moved".into(), estimated: false }],
            forecast: None,
            uncorrected: vec![],
            decimals: 1,
            unit: "g".into(),
        }
    }

    #[test]
    fn a_gap_is_not_joined_by_a_line() {
        let points = vec![
            point(0.0, 0.0, false),
            point(1.0, 1.0, true),
            point(60.0, 0.0, false),
            point(61.0, 1.0, true),
        ];
        assert_eq!(drawing(points).draw().matches("class=\"joined\"").count(), 2);
    }

    #[test]
    fn tolerance_and_control_limits_are_drawn_apart() {
        let text = drawing(vec![point(0.0, 0.0, false)]).draw();
        assert_eq!(text.matches("tolerance-limit").count(), 2);
        assert_eq!(text.matches("control-limit").count(), 2);
        assert!(text.contains("+20.0 tolerance") && text.contains("moved"));
    }

    #[test]
    fn the_uncorrected_drift_has_a_pane_of_its_own() {
        let mut adjusted = drawing(vec![point(0.0, 0.0, false)]);
        assert!(!adjusted.draw().contains("bare-line"));
        adjusted.uncorrected = vec![(0.0, 0.0), (50.0, 4.0)];
        let text = adjusted.draw();
        assert!(text.contains("bare-line") && text.contains("+4.0"), "{text}");
    }

    #[test]
    fn nothing_and_one_equal_point_are_drawn_without_nan() {
        for points in [vec![], vec![point(0.0, 0.0, false)]] {
            let mut empty = drawing(points);
            empty.segments.clear();
            let text = empty.draw();
            assert!(!text.contains("NaN") && !text.contains("inf"), "{text}");
        }
    }
}
