//! The fold along a segment: one point in, one evaluation out, constant work and memory.
//!
//! Stored and incremental evaluation are the same code: the store keeps a [`ChartState`] beside
//! the stream and pushes a new point onto it; a late, amended or excluded point replays the
//! segment from its start and comes to the same bits.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{
    ChartDesign, Criteria, Criterion, CusumSignal, CusumState, EwmaDesign, EwmaState, Firing,
    LEVEL_SHARE, Level, Levels, PROVISIONAL_POINTS, RuleWindow, Side, SignalChange, SignalTracker,
    Spread,
};

/// One check mean on a chart: the first valid as-found run of a check.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ChartPoint {
    /// When it was measured.
    pub measured_at: Timestamp,
    /// The plotted value, in the chart's unit.
    pub value: f64,
    /// Excluded points are drawn, and neither counted nor judged; the patterns reset there.
    pub excluded: bool,
    /// False inside the baseline period: such points are judged for drawing but raise no signal.
    pub monitored: bool,
    /// Readings that the value is a mean of.
    pub readings: u32,
    /// Scatter of those readings; none for a single one.
    pub scatter: Option<Scatter>,
    /// On the chart of all levels: their extremes.
    pub levels: Option<Levels>,
}

/// Scatter of the readings within one check, both ways.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scatter {
    /// Sample standard deviation.
    pub std_dev: f64,
    /// Largest less smallest.
    pub range: f64,
}

impl Scatter {
    /// Of these readings; none for fewer than two, or where one is not finite.
    #[must_use]
    pub fn of(readings: &[f64]) -> Option<Self> {
        let std_dev = crate::stats::sample_std_dev(readings).ok()?;
        let (low, high) =
            readings.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), value| {
                (l.min(*value), h.max(*value))
            });
        Some(Self { std_dev, range: high - low })
    }

    /// As a design charts it.
    #[must_use]
    pub fn by(&self, by: Spread) -> f64 {
        match by {
            Spread::Range => self.range,
            Spread::StdDev => self.std_dev,
        }
    }
}

impl ChartPoint {
    /// A counted, monitored value of one reading.
    #[must_use]
    pub fn new(measured_at: Timestamp, value: f64) -> Self {
        Self {
            measured_at,
            value,
            excluded: false,
            monitored: true,
            readings: 1,
            scatter: None,
            levels: None,
        }
    }
}

/// What the fold says about one point.
#[derive(Debug, Clone, PartialEq)]
pub struct PointEvaluation {
    /// Place in the segment, from 0; excluded points have one too.
    pub ordinal: u64,
    /// Centre line at this point.
    pub center_line: f64,
    /// Lower control limit at this point.
    pub lower_control_limit: f64,
    /// Upper control limit at this point.
    pub upper_control_limit: f64,
    /// Value of the drift watcher, in the chart's unit.
    pub ewma: f64,
    /// Half-width of the drift watcher's limits around the centre, in the chart's unit.
    pub ewma_half_width: f64,
    /// Distance of the value from the centre in sigmas.
    pub standardised: f64,
    /// The cumulative sums above and below, in sigmas.
    pub cusum: (f64, f64),
    /// True while the level is provisional (after an adjustment).
    pub provisional: bool,
    /// What fired; most points are quiet, and carry nothing.
    pub found: Option<Found>,
}

/// What fired at a point.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Found {
    /// Raising criteria that fired.
    pub firings: Vec<Firing>,
    /// Advisory rules that fired.
    pub advisory: Vec<Firing>,
    /// What this did to the signals.
    pub changes: Vec<SignalChange>,
}

impl PointEvaluation {
    /// Raising criteria that fired.
    #[must_use]
    pub fn firings(&self) -> &[Firing] {
        self.found.as_ref().map_or(&[], |found| &found.firings)
    }

    /// Advisory rules that fired.
    #[must_use]
    pub fn advisory(&self) -> &[Firing] {
        self.found.as_ref().map_or(&[], |found| &found.advisory)
    }

    /// What this did to the signals.
    #[must_use]
    pub fn changes(&self) -> &[SignalChange] {
        self.found.as_ref().map_or(&[], |found| &found.changes)
    }
}

/// Where a segment stands; stored as it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChartState {
    pub(super) next: u64,
    pub(super) ewma: EwmaState,
    /// None until the first point, which brings the head start of its design.
    #[serde(default)]
    pub(super) cusum: Option<CusumState>,
    pub(super) window: RuleWindow,
    signals: SignalTracker,
    counted: u32,
    level_sum: f64,
    pub(super) last_at: Option<Timestamp>,
    /// Ordinal of the last point at which the drift watcher was not above / not below the centre.
    pub(super) not_above: Option<u64>,
    pub(super) not_below: Option<u64>,
    /// Usual distance between checks, for the gap rule.
    pub(super) interval: SignedDuration,
}

impl ChartState {
    /// The state at the start of a segment.
    #[must_use]
    pub fn new(interval: SignedDuration) -> Self {
        Self {
            next: 0,
            ewma: EwmaState::default(),
            cusum: None,
            window: RuleWindow::default(),
            signals: SignalTracker::default(),
            counted: 0,
            level_sum: 0.0,
            last_at: None,
            not_above: None,
            not_below: None,
            interval,
        }
    }

    /// The state with the slow average's steady limits: what the integral equations speak of.
    pub(super) fn steady(interval: SignedDuration) -> Self {
        Self { ewma: EwmaState::steady(), ..Self::new(interval) }
    }

    /// Number of points taken, excluded ones too.
    #[must_use]
    pub fn points(&self) -> u64 {
        self.next
    }

    /// The centre line that the next point will be held against, and whether it is provisional.
    #[must_use]
    pub fn center_line(&self, design: &ChartDesign) -> (f64, bool) {
        let (center_line, _) = design.level.after(self.counted, self.level_sum);
        (center_line, matches!(design.level, Level::AfterAdjustment { .. }))
    }

    /// The side on which a signal is active after the newest point, worst first.
    #[must_use]
    pub fn active_side(&self) -> Option<Side> {
        let newest = self.next.checked_sub(1)?;
        let above = self.signals.active(Side::Above, newest);
        let below = self.signals.active(Side::Below, newest);
        match (above, below) {
            (Some(a), Some(b)) if b.last_evidence > a.last_evidence => Some(Side::Below),
            (Some(_), _) => Some(Side::Above),
            (None, Some(_)) => Some(Side::Below),
            (None, None) => None,
        }
    }

    /// First ordinal after the drift watcher last touched the centre: the usual estimate of when
    /// a shift that it shows began (Nishina 1992, for cumulative sums; from memory).
    #[must_use]
    pub fn onset(&self, side: Side) -> u64 {
        let last = match side {
            Side::Above => self.not_above,
            Side::Below => self.not_below,
        };
        last.map_or(0, |ordinal| ordinal + 1)
    }

    /// Takes a point of a segment without limits: it has a place, and nothing is judged.
    pub fn push_unjudged(&mut self, point: &ChartPoint) -> u64 {
        let ordinal = self.next;
        self.next += 1;
        self.last_at = Some(point.measured_at);
        ordinal
    }

    /// Takes one point.
    pub fn push(&mut self, design: &ChartDesign, point: &ChartPoint) -> PointEvaluation {
        let ordinal = self.next;
        self.next += 1;
        let (center_line, provisional) = self.center_line(design);
        let gap = self.last_at.is_some_and(|last| self.is_gap(last, point.measured_at));
        self.last_at = Some(point.measured_at);
        let level_variance = LEVEL_SHARE * design.level.after(self.counted, self.level_sum).1;
        let (mut below, mut above, mut sigma) = (design.below, design.above, design.sigma);
        if let Some(components) = &design.components
            && components.readings != point.readings
        {
            let scale = components.scale(point.readings);
            (below, above, sigma) = (below * scale, above * scale, sigma * scale);
        }
        if level_variance > 0.0 {
            (below, above) = (widened(below, level_variance), widened(above, level_variance));
        }
        let (lower_control_limit, upper_control_limit) = (center_line - below, center_line + above);
        if gap || point.excluded {
            self.window.reset();
        }
        let judged = !point.excluded && point.value.is_finite();
        let standardised = (point.value - center_line) / sigma;
        let mut ewma_half_width = 0.0;
        let mut cusum_signal = None;
        if judged {
            let of_the_average = self.ewma.push(design.ewma, standardised);
            ewma_half_width = if level_variance > 0.0 {
                beside_the_level(of_the_average, design.ewma, self.ewma, level_variance)
            } else {
                of_the_average
            };
            cusum_signal = self
                .cusum
                .get_or_insert_with(|| CusumState::new(design.cusum))
                .push(design.cusum, standardised);
            self.window.push(ordinal, standardised);
            self.remember_crossings(ordinal);
        }
        let ewma = center_line + design.sigma * self.ewma.z;
        let cusum = self.cusum.as_ref().map_or((0.0, 0.0), |sums| (sums.upper.sum, sums.lower.sum));
        let mut found = None;
        if judged {
            let average = self.ewma.z;
            self.settle_level(design, point.value);
            let mut fired = self.window.fired();
            let mut beyond =
                Beyond { standardised, lambda: design.ewma.lambda, ..Beyond::default() };
            if point.value > upper_control_limit || point.value < lower_control_limit {
                fired = fired.with(Criterion::BeyondLimits);
            }
            // After the level is settled the average and the sums begin anew.
            if self.ewma.z.abs() > ewma_half_width {
                fired = fired.with(Criterion::Ewma);
                beyond.average = average;
            }
            if cusum_signal.is_some() && self.cusum.is_some() {
                fired = fired.with(Criterion::Cusum);
                beyond.cusum = cusum_signal;
            }
            if let (Some(scatter), Some(chart)) = (point.scatter, &design.spread) {
                let spread = scatter.by(chart.by);
                beyond.spread = chart
                    .lines(point.readings)
                    .and_then(|lines| side_of(spread > lines.upper, spread < lines.lower));
                if beyond.spread.is_some() {
                    fired = fired.with(Criterion::Spread);
                }
            }
            if let Some(levels) = &point.levels {
                beyond.levels = Some(*levels);
                if levels.two_beyond().is_some() {
                    fired = fired.with(Criterion::TwoLevelsBeyond2);
                }
                if levels.four_apart() {
                    fired = fired.with(Criterion::LevelsFourApart);
                }
            }
            if !fired.is_empty() {
                fired = fired.both(design.basis.allows());
                let (mut raising, mut advisory) = design.rules_at(point.measured_at);
                if design.resolution_floor {
                    (raising, advisory) = (raising.without_zones(), advisory.without_zones());
                }
                (raising, advisory) = (raising.both(fired), advisory.both(fired));
                if !raising.is_empty() || !advisory.is_empty() {
                    let (window, monitored) = (self.window, point.monitored);
                    let pattern = |criterion| window.pattern(criterion);
                    found =
                        Some(self.find(ordinal, raising, advisory, &beyond, monitored, &pattern));
                }
            }
        }
        PointEvaluation {
            ordinal,
            center_line,
            lower_control_limit,
            upper_control_limit,
            ewma,
            ewma_half_width: design.sigma * ewma_half_width,
            standardised,
            cusum,
            provisional,
            found,
        }
    }

    /// Whether more than three intervals lie between two points. Whole seconds decide almost always, and
    /// cost less than exact durations.
    #[inline]
    fn is_gap(&self, last: Timestamp, at: Timestamp) -> bool {
        let (seconds, longest) =
            (at.as_second() - last.as_second(), self.interval.as_secs().saturating_mul(3));
        if (seconds - longest).abs() > 2 {
            return seconds > longest;
        }
        at.duration_since(last) > self.interval.saturating_mul(3)
    }

    /// Words of what fired, and what it does to the signals. Apart, because most points are quiet.
    #[cold]
    #[inline(never)]
    pub(super) fn find(
        &mut self,
        ordinal: u64,
        raising: Criteria,
        advisory: Criteria,
        beyond: &Beyond,
        monitored: bool,
        pattern: &dyn Fn(Criterion) -> Option<Firing>,
    ) -> Found {
        let firings = self.fire(raising, ordinal, beyond, pattern);
        let advisory = self.fire(advisory, ordinal, beyond, pattern);
        let changes = if monitored { self.signals.push(ordinal, &firings) } else { Vec::new() };
        Found { firings, advisory, changes }
    }

    fn remember_crossings(&mut self, ordinal: u64) {
        if self.ewma.z <= 0.0 {
            self.not_above = Some(ordinal);
        }
        if self.ewma.z >= 0.0 {
            self.not_below = Some(ordinal);
        }
    }

    /// Counts the first as-founds after an adjustment; at the last of them the level becomes
    /// their mean, and what looked at the old centre starts anew.
    fn settle_level(&mut self, design: &ChartDesign, value: f64) {
        if !matches!(design.level, Level::AfterAdjustment { .. })
            || self.counted == PROVISIONAL_POINTS
        {
            return;
        }
        self.counted += 1;
        self.level_sum += value;
        if self.counted == PROVISIONAL_POINTS {
            self.ewma = EwmaState::default();
            self.cusum = None;
            self.window.reset();
            self.not_above = None;
            self.not_below = None;
        }
    }

    fn fire(
        &self,
        criteria: Criteria,
        ordinal: u64,
        beyond: &Beyond,
        pattern: &dyn Fn(Criterion) -> Option<Firing>,
    ) -> Vec<Firing> {
        let z = beyond.standardised;
        let alone =
            |criterion, side, shift| Some(Firing { criterion, side, points: vec![ordinal], shift });
        let of_z = side_of(z > 0.0, z < 0.0);
        let mut fired = Vec::with_capacity(criteria.count());
        fired.extend(criteria.iter().filter_map(|criterion| {
            match criterion {
                // These are made by the point itself, whatever came before it.
                Criterion::BeyondLimits | Criterion::Beyond3 | Criterion::WarningBeyond2 => {
                    alone(criterion, of_z, Some(z))
                }
                Criterion::Ewma => {
                    let side = side_of(beyond.average > 0.0, beyond.average < 0.0)?;
                    alone(criterion, Some(side), Some(self.average_shift(ordinal, side, beyond)))
                }
                Criterion::Cusum => {
                    let signal = beyond.cusum?;
                    let first = ordinal.saturating_sub(u64::from(signal.length.max(1)) - 1);
                    Some(Firing {
                        criterion,
                        side: Some(signal.side),
                        // The whole stretch since the sum left zero, by its ends.
                        points: if first < ordinal { vec![first, ordinal] } else { vec![ordinal] },
                        shift: Some(signal.shift),
                    })
                }
                Criterion::Spread => alone(criterion, beyond.spread, None),
                Criterion::TwoLevelsBeyond2 => {
                    let levels = beyond.levels?;
                    let side = levels.two_beyond()?;
                    let two = if side == Side::Above { levels.highest } else { levels.lowest };
                    alone(criterion, Some(side), Some((two[0] + two[1]) / 2.0))
                }
                Criterion::LevelsFourApart => alone(criterion, None, None),
                other => pattern(other),
            }
        }));
        fired
    }

    /// What the slow average says of the shift: it has reached the share 1 − (1 − λ)ᵐ of it after the m
    /// points since it left the centre.
    fn average_shift(&self, ordinal: u64, side: Side, beyond: &Beyond) -> f64 {
        let since = ordinal + 1 - self.onset(side).min(ordinal);
        let keep = 1.0 - beyond.lambda;
        let reached = 1.0 - keep.powi(i32::try_from(since).unwrap_or(i32::MAX));
        beyond.average / reached
    }
}

/// Limits about a level that is itself uncertain. Apart, so that the usual point does not wait for roots
/// that only provisional limits need.
#[cold]
#[inline(never)]
fn widened(half_width: f64, level_variance: f64) -> f64 {
    half_width * (1.0 + level_variance).sqrt()
}

/// The same for the slow average, which has taken on the share 1 − (1 − λ)ⁱ of the level's error.
#[cold]
#[inline(never)]
fn beside_the_level(
    half_width: f64,
    design: EwmaDesign,
    state: EwmaState,
    level_variance: f64,
) -> f64 {
    half_width.hypot(design.width * level_variance.sqrt() * state.reached())
}

/// What is beyond its limits at a point.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Beyond {
    pub standardised: f64,
    pub lambda: f64,
    pub average: f64,
    pub cusum: Option<CusumSignal>,
    pub spread: Option<Side>,
    pub levels: Option<Levels>,
}

fn side_of(above: bool, below: bool) -> Option<Side> {
    match (above, below) {
        (true, _) => Some(Side::Above),
        (_, true) => Some(Side::Below),
        _ => None,
    }
}

/// Evaluates a whole segment from its start.
#[must_use]
pub fn evaluate(
    design: &ChartDesign,
    interval: SignedDuration,
    points: &[ChartPoint],
) -> (ChartState, Vec<PointEvaluation>) {
    let mut state = ChartState::new(interval);
    let evaluations = points.iter().map(|point| state.push(design, point)).collect();
    (state, evaluations)
}
