//! The fold along a segment: one point in, one evaluation out, constant work and memory.
//!
//! Stored and incremental evaluation are the same code: the store keeps a [`ChartState`] beside
//! the stream and pushes a new point onto it; a late, amended or excluded point replays the
//! segment from its start and comes to the same bits.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{
    ChartDesign, Criterion, EwmaState, Firing, Level, PROVISIONAL_POINTS, RuleWindow, Side,
    SignalChange, SignalTracker,
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
    /// True while the level is provisional (after an adjustment).
    pub provisional: bool,
    /// Raising criteria that fired.
    pub firings: Vec<Firing>,
    /// Advisory rules that fired.
    pub advisory: Vec<Firing>,
    /// What this did to the signals.
    pub changes: Vec<SignalChange>,
}

/// Where a segment stands; stored as it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChartState {
    next: u64,
    ewma: EwmaState,
    window: RuleWindow,
    signals: SignalTracker,
    counted: u32,
    level_sum: f64,
    last_at: Option<Timestamp>,
    /// Ordinal of the last point at which the drift watcher was not above / not below the centre.
    not_above: Option<u64>,
    not_below: Option<u64>,
    /// Usual distance between checks, for the gap rule.
    interval: SignedDuration,
}

impl ChartState {
    /// The state at the start of a segment.
    #[must_use]
    pub fn new(interval: SignedDuration) -> Self {
        Self {
            next: 0,
            ewma: EwmaState::default(),
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

    /// Number of points taken, excluded ones too.
    #[must_use]
    pub fn points(&self) -> u64 {
        self.next
    }

    /// The centre line that the next point will be held against, and whether it is provisional.
    #[must_use]
    pub fn center_line(&self, design: &ChartDesign) -> (f64, bool) {
        match design.level {
            Level::Frozen { center_line } => (center_line, false),
            Level::AfterAdjustment { target } if self.counted < PROVISIONAL_POINTS => {
                (target, true)
            }
            Level::AfterAdjustment { .. } => (self.level_sum / f64::from(PROVISIONAL_POINTS), true),
        }
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
        let gap = self.last_at.is_some_and(|last| {
            point.measured_at.duration_since(last) > self.interval.saturating_mul(3)
        });
        self.last_at = Some(point.measured_at);
        let level_variance = self.level_variance(design);
        let half_width = if level_variance > 0.0 {
            widened(design.half_width, level_variance)
        } else {
            design.half_width
        };
        let (lower_control_limit, upper_control_limit) =
            (center_line - half_width, center_line + half_width);
        if gap || point.excluded {
            self.window.reset();
        }
        let judged = !point.excluded && point.value.is_finite();
        let mut ewma_half_width = 0.0;
        let (mut firings, mut advisory, mut changes) = (Vec::new(), Vec::new(), Vec::new());
        if judged {
            let standardised = (point.value - center_line) / design.sigma;
            let of_the_average = self.ewma.push(design.ewma, standardised);
            ewma_half_width = if level_variance > 0.0 {
                beside_the_level(of_the_average, design.ewma.width, level_variance)
            } else {
                of_the_average
            };
            self.window.push(ordinal, standardised);
            self.remember_crossings(ordinal);
        }
        let ewma = center_line + design.sigma * self.ewma.z;
        if judged {
            self.settle_level(design, point.value);
            let side = |above: bool, below: bool| match (above, below) {
                (true, _) => Some(Side::Above),
                (_, true) => Some(Side::Below),
                _ => None,
            };
            let beyond = Beyond {
                limits: side(point.value > upper_control_limit, point.value < lower_control_limit),
                // After the level is settled the average begins anew.
                ewma: side(self.ewma.z > ewma_half_width, self.ewma.z < -ewma_half_width),
            };
            if beyond.limits.is_some() || beyond.ewma.is_some() || !self.window.is_quiet() {
                firings = self.fire(design, &design.raising, ordinal, beyond);
                advisory = self.fire(design, &design.advisory, ordinal, beyond);
            }
            if point.monitored && !firings.is_empty() {
                changes = self.signals.push(ordinal, &firings);
            }
        }
        PointEvaluation {
            ordinal,
            center_line,
            lower_control_limit,
            upper_control_limit,
            ewma,
            ewma_half_width: design.sigma * ewma_half_width,
            provisional,
            firings,
            advisory,
            changes,
        }
    }

    /// Variance of the centre line in units of sigma squared: a level from five checks is itself
    /// uncertain by σ²/5, and limits that ignored it would cry wolf until a baseline is frozen.
    fn level_variance(&self, design: &ChartDesign) -> f64 {
        match design.level {
            Level::AfterAdjustment { .. } if self.counted >= PROVISIONAL_POINTS => {
                1.0 / f64::from(PROVISIONAL_POINTS)
            }
            Level::AfterAdjustment { .. } | Level::Frozen { .. } => 0.0,
        }
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
            self.window.reset();
            self.not_above = None;
            self.not_below = None;
        }
    }

    fn fire(
        &self,
        design: &ChartDesign,
        criteria: &[Criterion],
        ordinal: u64,
        beyond: Beyond,
    ) -> Vec<Firing> {
        let alone = |criterion, side: Option<Side>| {
            side.map(|side| Firing { criterion, side: Some(side), points: vec![ordinal] })
        };
        criteria
            .iter()
            .filter(|criterion| !(design.resolution_floor && criterion.needs_zones()))
            .filter_map(|criterion| match criterion {
                Criterion::BeyondLimits => alone(*criterion, beyond.limits),
                Criterion::Ewma => alone(*criterion, beyond.ewma),
                other => self.window.check(*other),
            })
            .collect()
    }
}

/// Limits about a level that is itself uncertain. Apart, so that the usual point does not wait for roots
/// that only provisional limits need.
#[cold]
#[inline(never)]
fn widened(half_width: f64, level_variance: f64) -> f64 {
    half_width * (1.0 + level_variance).sqrt()
}

/// The same for the drift watcher.
#[cold]
#[inline(never)]
fn beside_the_level(half_width: f64, width: f64, level_variance: f64) -> f64 {
    half_width.hypot(width * level_variance.sqrt())
}

/// On which sides a point and the drift watcher are beyond their limits.
#[derive(Debug, Clone, Copy)]
struct Beyond {
    limits: Option<Side>,
    ewma: Option<Side>,
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
