//! The control chart with its drift watcher, under one time axis.

use super::Svg;
use super::axis::Axis;
use super::panes::{PANE_HEIGHT, Pane};
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};

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
    /// Left out by a lead, because its cause is known: drawn as a cross.
    pub excluded: bool,
    /// Whether somebody has said something of it.
    pub commented: bool,
    /// False where the checks before it are too long ago to be joined by a line.
    pub joined: bool,
    /// Drift watcher, where it has limits.
    pub ewma: Option<f64>,
    /// Centre and half-width of the drift watcher's limits.
    pub ewma_limits: Option<(f64, f64)>,
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
    /// The level in time, from the onset on: seconds, then 2.5, 50 and 97.5 % of it.
    pub fan: Vec<(f64, [f64; 3])>,
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
    /// Interval of the onset of a change, seconds.
    pub onset: Option<(f64, f64)>,
    /// Forecast.
    pub forecast: Option<DrawnForecast>,
    /// Where many points lie in one place: first, last, least, most, mean. Then `points` are only those
    /// that say something by themselves.
    pub condensed: Vec<Condensed>,
    /// Stretches in which a signal gathered its evidence.
    pub flagged: Vec<(f64, f64)>,
    /// False for limits that are no control limits: action lines.
    pub statistical: bool,
    /// Further panes under the drift watcher.
    pub panes: Vec<Pane>,
    /// Decimals of the axis.
    pub decimals: u32,
    /// Whether values are told with their sign.
    pub signed: bool,
    /// Symbol of the unit.
    pub unit: String,
}

/// Many checks in one place.
#[derive(Debug, Clone, PartialEq)]
pub struct Condensed {
    /// First, seconds.
    pub from: f64,
    /// Last, seconds.
    pub to: f64,
    /// Least value.
    pub least: f64,
    /// Largest value.
    pub most: f64,
    /// Mean.
    pub mean: f64,
    /// False where the checks before it are too long ago to be joined by a line.
    pub joined: bool,
    /// Mean of the drift watcher, and centre and half-width of its limits.
    pub ewma: Option<(f64, f64, f64)>,
}

const WIDTH: f64 = 920.0;
const LEFT: f64 = 64.0;
const RIGHT: f64 = 112.0;
const TOP: f64 = 54.0;
const BOTTOM: f64 = 372.0;
const WATCH_TOP: f64 = 428.0;
const WATCH_BOTTOM: f64 = 516.0;
const HEIGHT: f64 = 530.0;
/// Height without the drift watcher.
const SHORT: f64 = 402.0;

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
                .chain(self.condensed.iter().flat_map(|part| [part.least, part.most]))
                .chain(self.earlier.iter().map(|(_, value)| *value)),
            TOP,
            BOTTOM,
        );
        let watched = self.is_watched();
        let base = if watched { HEIGHT } else { SHORT };
        let panes: Vec<&Pane> = self.panes.iter().filter(|pane| !pane.is_empty()).collect();
        let height = base + PANE_HEIGHT * panes.len() as f64;
        let mut svg = Svg::begin("chart", WIDTH, height, &self.description);
        for (from, to) in &self.flagged {
            let (left, right) = (self.x(*from) - 3.0, self.x(*to) + 3.0);
            svg.rect("flagged", (left, TOP), (right - left, BOTTOM - TOP), 3.0);
        }
        self.draw_times(&mut svg);
        for segment in &self.segments {
            self.draw_segment(&mut svg, segment, &axis);
        }
        self.draw_axis_words(&mut svg, &axis);
        self.draw_onset(&mut svg);
        self.draw_forecast(&mut svg, &axis);
        self.draw_events(&mut svg);
        self.draw_earlier(&mut svg, &axis);
        self.draw_condensed(&mut svg, &axis);
        self.draw_points(&mut svg, &axis);
        if watched {
            self.draw_watcher(&mut svg);
        }
        for (place, pane) in panes.into_iter().enumerate() {
            let top = base + PANE_HEIGHT * place as f64;
            pane.draw(&mut svg, top, (LEFT, WIDTH - RIGHT), &|at| self.x(at));
        }
        svg.end()
    }

    /// Whether the pane of the drift watcher has anything to show.
    fn is_watched(&self) -> bool {
        self.statistical
            && (self.points.iter().any(|point| point.ewma.is_some() && point.ewma_limits.is_some())
                || self.condensed.iter().any(|part| part.ewma.is_some()))
    }

    /// From least to largest as a stroke, the means joined.
    fn draw_condensed(&self, svg: &mut Svg, axis: &Axis) {
        let mut way = String::new();
        for part in &self.condensed {
            let x = self.x((part.from + part.to) / 2.0);
            let (high, low) = (axis.y(part.most), axis.y(part.least));
            way.push_str(&format!(
                "M{} {}V{}",
                super::svg::number(x),
                super::svg::number(high - 0.8),
                super::svg::number(low + 0.8)
            ));
        }
        if !way.is_empty() {
            svg.raw_path("condensed", &way);
        }
        for run in self.condensed_runs() {
            let line: Vec<(f64, f64)> = run
                .iter()
                .map(|part| (self.x((part.from + part.to) / 2.0), axis.y(part.mean)))
                .collect();
            svg.path("joined", &line, false);
        }
    }

    fn condensed_runs(&self) -> Vec<Vec<&Condensed>> {
        let mut runs: Vec<Vec<&Condensed>> = Vec::new();
        for part in &self.condensed {
            match runs.last_mut() {
                Some(run) if part.joined => run.push(part),
                _ => runs.push(vec![part]),
            }
        }
        runs
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
            // Action lines are another drawing: no band of what is normal, and lines of long strokes.
            let line = if self.statistical { "control-limit" } else { "action-line" };
            if self.statistical {
                svg.rect(class, (left, top), (right - left, bottom - top), 0.0);
            }
            svg.line(line, (left, top), (right, top));
            svg.line(line, (left, bottom), (right, bottom));
            svg.line("center-line", (left, axis.y(center)), (right, axis.y(center)));
        }
        for limit in [segment.tolerance.0, segment.tolerance.1].into_iter().flatten() {
            svg.line("tolerance-limit", (left, axis.y(limit)), (right, axis.y(limit)));
        }
    }

    fn shown(&self, value: f64, places: u32) -> String {
        if self.signed { show_signed_float(value, places) } else { show_float(value, places) }
    }

    /// Limits are named at the right end, from the newest segment; names that would overlap are
    /// moved apart.
    fn draw_axis_words(&self, svg: &mut Svg, axis: &Axis) {
        let show = |value| self.shown(value, self.decimals);
        svg.words("axis-unit", (LEFT - 8.0, TOP - 14.0), "end", &self.unit);
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
            let show = |value| self.shown(value, places);
            left = vec![
                (axis.y(upper), show(upper)),
                (axis.y(center), show(center)),
                (axis.y(lower), show(lower)),
            ];
        }
        if left.is_empty() && names.is_empty() {
            // Nothing says yet what is normal: then the values themselves say what the height means.
            let values = || {
                let parts = self.condensed.iter().flat_map(|part| [part.most, part.least]);
                self.points.iter().map(|point| point.value).chain(parts)
            };
            let ends = [values().reduce(f64::max), values().reduce(f64::min)];
            left = ends.into_iter().flatten().map(|end| (axis.y(end), show(end))).collect();
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
    }

    /// A bar with two ends over the time in which a change began.
    fn draw_onset(&self, svg: &mut Svg) {
        let Some((begin, end)) = self.onset else { return };
        if end < self.from || begin > self.to {
            return;
        }
        let (left, right) = (self.x(begin.max(self.from)), self.x(end.min(self.to)));
        svg.line("onset", (left, TOP), (right, TOP));
        for (x, seen) in [(left, begin >= self.from), (right, end <= self.to)] {
            if seen {
                svg.line("onset", (x, TOP - 5.0), (x, TOP + 5.0));
            }
        }
    }

    fn draw_forecast(&self, svg: &mut Svg, axis: &Axis) {
        let Some(forecast) = &self.forecast else {
            return;
        };
        let fan = self.seen(&forecast.fan, axis);
        let edge =
            |which: usize| fan.iter().map(move |(at, level)| (self.x(*at), axis.y(level[which])));
        let around: Vec<(f64, f64)> = edge(2).chain(edge(0).rev()).collect();
        if around.len() > 3 {
            svg.path("fan", &around, true);
            svg.path("drift-line", &edge(1).collect::<Vec<_>>(), false);
        }
        if let Some((at, words)) = &forecast.crossing
            && *at <= self.to
        {
            let x = self.x(*at);
            svg.line("crossing", (x, TOP), (x, BOTTOM));
            svg.words("crossing-words", (x - 4.0, TOP - 6.0), "end", words);
        }
    }

    /// The part of a fan that lies in the drawing. It ends where the first of its lines leaves: cut off at the edge they
    /// would seem to bend.
    fn seen(&self, fan: &[(f64, [f64; 3])], axis: &Axis) -> Vec<(f64, [f64; 3])> {
        let (least, most) = axis.ends();
        let (least, most) = (least - axis.room(), most + axis.room());
        let inside = |(at, level): &(f64, [f64; 3])| {
            *at >= self.from && *at <= self.to && level.iter().all(|l| *l >= least && *l <= most)
        };
        let between = |a: &(f64, [f64; 3]), b: &(f64, [f64; 3]), share: f64| {
            let mix = |a: f64, b: f64| a + share * (b - a);
            (mix(a.0, b.0), std::array::from_fn(|n| mix(a.1[n], b.1[n])))
        };
        let mut seen = Vec::new();
        for pair in fan.windows(2) {
            let (is, will) = (inside(&pair[0]), inside(&pair[1]));
            if is {
                seen.push(pair[0]);
            }
            if is != will {
                // Where it comes in or goes out, to a two hundredth of the step.
                let at = |step: u32| between(&pair[0], &pair[1], f64::from(step) / 200.0);
                let mut place = (0..=200).map(at).filter(inside);
                seen.extend(if is { place.next_back() } else { place.next() });
            }
        }
        seen.extend(fan.last().filter(|last| inside(last)));
        seen
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
            let class = match (point.hollow, point.excluded) {
                (_, true) => "point excluded",
                (true, _) => "point hollow",
                _ => "point",
            };
            svg.open(class, &[("check", &point.check.to_string()), ("label", &point.label)]);
            let size = if point.state == "ok" { size } else { size.max(3.4) + 0.8 };
            let (x, y) = (self.x(point.at), axis.y(point.value));
            if point.excluded {
                let r = 4.2;
                svg.line("cross", (x - r, y - r), (x + r, y + r));
                svg.line("cross", (x - r, y + r), (x + r, y - r));
            } else {
                svg.mark(point.state, (x, y), size);
            }
            if point.commented {
                svg.path(
                    "remark",
                    &[(x + 3.0, y - 6.0), (x + 9.0, y - 12.0), (x + 9.0, y - 6.0)],
                    true,
                );
            }
            svg.close();
        }
    }

    fn draw_watcher(&self, svg: &mut Svg) {
        let runs = self.watched();
        let around = runs
            .iter()
            .flatten()
            .flat_map(|point| [point.center - point.half, point.center + point.half, point.value]);
        let axis = Axis::over(around, WATCH_TOP, WATCH_BOTTOM);
        let title = "slow average, watches for drift";
        svg.words("watch-title", (LEFT, WATCH_TOP - 12.0), "start", title);
        for run in runs {
            let edge = |sign: f64| {
                run.iter().map(move |point| (point.at, point.center + sign * point.half))
            };
            let mut band: Vec<(f64, f64)> =
                edge(1.0).map(|(at, v)| (self.x(at), axis.y(v))).collect();
            let mut lower: Vec<(f64, f64)> =
                edge(-1.0).map(|(at, v)| (self.x(at), axis.y(v))).collect();
            lower.reverse();
            band.extend(lower);
            svg.path("watch-band", &band, true);
            let way = |points: &[Watched]| -> Vec<(f64, f64)> {
                points.iter().map(|point| (self.x(point.at), axis.y(point.value))).collect()
            };
            svg.path("watch-line", &way(&run), false);
            for stretch in run.chunk_by(|a, b| a.is_beyond() == b.is_beyond()) {
                if stretch.first().is_some_and(Watched::is_beyond) {
                    svg.path("watch-line beyond", &way(stretch), false);
                }
            }
        }
    }

    /// The drift watcher in stretches of one centre.
    fn watched(&self) -> Vec<Vec<Watched>> {
        let of_points = self.points.iter().filter(|_| self.condensed.is_empty()).filter_map(|p| {
            let (center, half) = p.ewma_limits?;
            Some(Watched { at: p.at, value: p.ewma?, center, half })
        });
        let of_parts = self.condensed.iter().filter_map(|part| {
            let (value, center, half) = part.ewma?;
            Some(Watched { at: (part.from + part.to) / 2.0, value, center, half })
        });
        let mut runs: Vec<Vec<Watched>> = Vec::new();
        for point in of_points.chain(of_parts) {
            match runs.last_mut() {
                Some(run) if run.last().is_some_and(|last| last.center == point.center) => {
                    run.push(point);
                }
                _ => runs.push(vec![point]),
            }
        }
        runs
    }
}

/// The drift watcher at a time.
#[derive(Debug, Clone, Copy)]
struct Watched {
    at: f64,
    value: f64,
    center: f64,
    half: f64,
}

impl Watched {
    fn is_beyond(&self) -> bool {
        (self.value - self.center).abs() > self.half
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
            excluded: false,
            commented: false,
            joined,
            ewma: Some(value / 2.0),
            ewma_limits: Some((0.0, 1.0)),
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
            onset: None,
            forecast: None,
            condensed: vec![],
            flagged: vec![],
            statistical: true,
            panes: vec![],
            decimals: 1,
            signed: true,
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

    /// Before anybody said what is normal the height still means something: its ends are the values' own.
    #[test]
    fn without_limits_the_values_name_the_height() {
        let mut bare = drawing(vec![point(0.0, -1.5, false), point(1.0, 7.25, true)]);
        bare.segments[0].control = None;
        let with_tolerance = bare.draw();
        assert!(!with_tolerance.contains("control-words"), "the tolerance names it already");
        bare.segments[0].tolerance = (None, None);
        let text = bare.draw();
        assert_eq!(text.matches("control-words").count(), 2);
        assert!(text.contains("\u{2212}1.5<") || text.contains("−1.5"), "{text}");
        assert!(text.contains("+7.2") || text.contains("+7.3"), "{text}");
        // Strokes count like points; without either nothing is named.
        bare.points.clear();
        let empty = bare.draw();
        assert!(!empty.contains("control-words") && empty.contains("axis-unit"), "{empty}");
        let stroke = Condensed {
            from: 0.0,
            to: 1.0,
            least: -4.0,
            most: 9.0,
            mean: 1.0,
            joined: false,
            ewma: None,
        };
        bare.condensed.push(stroke);
        assert!(bare.draw().contains("+9.0"));
    }

    #[test]
    fn panes_stand_under_each_other() {
        let mut adjusted = drawing(vec![point(0.0, 0.0, false)]);
        let before = adjusted.draw();
        let mut pane = Pane::new("had nobody ever adjusted", "g");
        pane.lines.push(crate::draw::PaneLine {
            class: "bare-line",
            runs: vec![vec![(0.0, 0.0), (50.0, 4.0)]],
        });
        // One with nothing in it takes no room.
        adjusted.panes = vec![Pane::new("empty", ""), pane];
        let text = adjusted.draw();
        assert!(!before.contains("bare-line") && text.contains("bare-line"), "{text}");
        assert!(text.contains("viewBox=\"0 0 920 650\"") && before.contains("0 0 920 530"));
        assert!(!text.contains("empty"));
    }

    /// Action lines are no control limits: no band, no watcher.
    #[test]
    fn action_lines_are_another_drawing() {
        let mut lines = drawing(vec![point(0.0, 0.0, false)]);
        lines.statistical = false;
        let text = lines.draw();
        assert_eq!(text.matches("action-line").count(), 2);
        assert!(!text.contains("control-band") && !text.contains("watch-band"), "{text}");
    }

    #[test]
    fn many_points_are_strokes_and_those_left_out_crosses() {
        let mut many = drawing(vec![DrawnPoint { excluded: true, ..point(9.0, 2.0, false) }]);
        let part = |from: f64, joined| Condensed {
            from,
            to: from + 1.0,
            least: -1.0,
            most: 1.0,
            mean: 0.2,
            joined,
            ewma: Some((0.1, 0.0, 1.0)),
        };
        many.condensed = vec![part(0.0, false), part(2.0, true), part(50.0, false)];
        let text = many.draw();
        assert_eq!(text.matches("class=\"condensed\"").count(), 1);
        assert_eq!(text.matches("class=\"cross\"").count(), 2);
        assert!(text.contains("watch-band") && !text.contains("NaN"), "{text}");
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
