//! Completing a check: one pure function from readings to results, chart points and verdict.
//!
//! Live checks and the demo world's year of history go through the same [`complete`]; what
//! differs is only who writes the rows.

mod failing;
mod shapes;

pub use failing::{brought_inside, ever_failing, failing_so_far};
pub use shapes::{
    ShapeAround, TemperatureEffect, drift_taken_back, segment_level, segment_shape,
    shape_over_adjustments,
};

use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;

use crate::chart::{
    BaselineStudy, ChartDesign, ChartPoint, ChartState, DEFAULT_OUTER_MULTIPLIER, FromBaseline,
    LEVELS, LINE_GAIN, LINE_OFFSET, Level, Levels, LimitError, MINIMUM_BASELINE_POINTS,
    PointEvaluation, Scatter, Spread, SpreadDesign, evaluate, fit_levels, study_baseline,
};
use crate::history::{Drift, LevelEstimate, SHAPE_WINDOW, Told, ToldShape, drift_of_shape};
use crate::judgement::{
    AdjustmentAdvice, AdjustmentInput, Attempt, Characteristic, CharacteristicKind, ChartOutcome,
    Conformity, ConformityResult, ContributionSource, Control, DecisionRule, KnownStdDev, Prior,
    Reason, Surroundings, Validity, Verdict, VerdictInput, advise_adjustment, conclude,
    judge_conformity, unsettled,
};
use crate::method::{Input, Method, MethodError, PlanSpec, Purpose, RunState};
use crate::quantity::{Unit, to_f64};
use crate::stats::lag_one_autocorrelation;

/// How many of the newest points of a segment are looked at.
pub const DRIFT_WINDOW: usize = SHAPE_WINDOW;

/// A point that is already on a segment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PastPoint {
    /// Place in the segment.
    pub ordinal: u64,
    /// When it was measured.
    pub measured_at: Timestamp,
    /// Plotted value.
    pub value: f64,
    /// Temperature that was read at its check, in °C.
    pub temperature: Option<f64>,
}

/// The chart that a characteristic runs into, as it stands before this check.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamSlot {
    /// Key of the characteristic.
    pub key: String,
    /// Frozen design; none before the first baseline.
    pub design: Option<ChartDesign>,
    /// Where the sigma of the design came from, for the words.
    pub sigma_source: Option<crate::chart::SigmaSource>,
    /// State of the fold.
    pub state: ChartState,
    /// Newest points of the segment, oldest first, at most [`DRIFT_WINDOW`].
    pub recent: Vec<PastPoint>,
}

/// What a check brings to a chart.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamPoint {
    /// Key of the characteristic.
    pub key: String,
    /// Plotted value.
    pub value: f64,
    /// Place in the segment; none for hollow marks, which are drawn and not counted.
    pub ordinal: Option<u64>,
    /// What the fold says; none without limits and for hollow marks.
    pub evaluation: Option<PointEvaluation>,
    /// State of the fold after this point.
    pub state: ChartState,
    /// Readings that the value is a mean of.
    pub readings: u32,
    /// Their scatter.
    pub scatter: Option<Scatter>,
    /// Temperature that was read at the check, in °C.
    pub temperature: Option<f64>,
}

/// What surrounds a run.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RunContext {
    /// When it was measured.
    pub measured_at: Timestamp,
    /// Earlier valid as-found runs of this shift, in their order.
    pub earlier: Vec<Attempt>,
    /// Charts of the instrument under this set-up.
    pub slots: Vec<StreamSlot>,
    /// Version of the plan that is in force now, and the one used, when they differ.
    pub superseded: Option<(i32, i32)>,
    /// Why it was entered later from a paper sheet, if it was.
    pub late: Option<String>,
    /// From paper, beside the check that its shift has, or at a place that its charts have passed.
    pub beside: bool,
    /// Corrections that brought something from outside to inside its limits.
    pub corrected: Vec<Corrected>,
    /// Settings that were found other than the plan wants them.
    pub set_right: Vec<SetRight>,
    /// When something happened to the instrument that may have changed what it shows.
    pub events: Vec<Timestamp>,
    /// For an as-left check: tag of the standard that the adjustment was made with.
    pub adjusted_with: Option<String>,
}

/// A correction that brought something inside its limits, with the second person who saw it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Corrected {
    /// Step.
    pub step: String,
    /// What was typed before.
    pub was: String,
    /// What stands in its place.
    pub now: String,
    /// Why.
    pub reason: String,
    /// The second person.
    pub second: String,
}

/// A setting that was found other than the plan wants it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetRight {
    /// Step.
    pub step: String,
    /// What it was found at.
    pub found: String,
    /// What it showed then.
    pub now: String,
}

/// Everything that follows from a finished run.
#[derive(Debug, Clone, PartialEq)]
pub struct Completion {
    /// Characteristics with their judgement.
    pub results: Vec<(Characteristic, ConformityResult)>,
    /// Points for the charts.
    pub points: Vec<StreamPoint>,
    /// The verdict.
    pub verdict: Verdict,
}

/// Completes a run: computes, judges, takes the points onto the charts, concludes.
///
/// # Errors
/// [`MethodError`] when readings are missing or the plan does not fit.
pub fn complete(
    method: &dyn Method,
    plan: &PlanSpec,
    run: &RunState,
    context: &RunContext,
) -> Result<Completion, MethodError> {
    let characteristics = method.evaluate(plan, run)?;
    let known = KnownLevels::of(&characteristics, context);
    let results: Vec<(Characteristic, ConformityResult)> = characteristics
        .into_iter()
        .map(|characteristic| {
            let slot = slot_of(context, &characteristic.key);
            let around = surroundings(plan, slot, &known, &characteristic);
            let result = judge_conformity(&characteristic, &around);
            (characteristic, result)
        })
        .collect();
    // The first as-found run of a check is a point; its confirming repeat is a hollow mark. A check that
    // is made anew in the same shift, after a knock, is one of its own.
    let counted = plan.purpose == Purpose::AsFound && unsettled(&context.earlier).is_empty();
    // No advice on a first failing run: one far value in a hundred quiet checks is chance.
    let is_repeat = plan.purpose == Purpose::AsFound && !unsettled(&context.earlier).is_empty();
    let temperature = room_temperature(method, plan, run)?;
    let (mut points, mut charts) = (Vec::new(), Vec::new());
    for (characteristic, result) in results.iter().filter(|(c, _)| c.charted) {
        let Some(slot) = slot_of(context, &characteristic.key) else {
            continue;
        };
        let input = ChartPoint {
            readings: characteristic.n(),
            scatter: scatter(characteristic),
            ..ChartPoint::new(context.measured_at, characteristic.value())
        };
        let point = chart_point(slot, &input, counted, temperature);
        // What is of another quantity than the display moves in its own last place.
        let own = plan.unit.try_convert(plan.resolution, characteristic.unit);
        let resolution = to_f64(own.unwrap_or(Decimal::new(1, characteristic.decimals)));
        let (events, measured_at) = (&context.events, context.measured_at);
        let of = Outcome {
            slot,
            point: &point,
            characteristic,
            result,
            resolution,
            measured_at,
            is_repeat,
            events,
        };
        charts.push(of.told());
        points.push(point);
    }
    for (slot, input) in derived_points(context, &results, &points) {
        let point = chart_point(slot, &input, counted, temperature);
        charts.push(derived_outcome(slot, &point));
        points.push(point);
    }
    let mut from_run = reasons_of_run(run, context);
    if plan.purpose == Purpose::AsLeft
        && let Some(tag) = &context.adjusted_with
        && plan.standards.iter().any(|standard| standard.tag == *tag)
    {
        from_run.push(Reason::NotIndependent { standard: tag.clone() });
    }
    from_run.extend(context.corrected.iter().map(|one| Reason::CorrectedInside {
        step: one.step.clone(),
        was: one.was.clone(),
        now: one.now.clone(),
        reason: one.reason.clone(),
        second: one.second.clone(),
    }));
    from_run.extend(context.set_right.iter().map(|one| Reason::SetRight {
        step: one.step.clone(),
        found: one.found.clone(),
        now: one.now.clone(),
    }));
    if context.beside {
        from_run.push(Reason::StandsBeside);
    }
    let verdict = conclude(VerdictInput {
        validity: Validity::Valid,
        results: &results,
        charts: &charts,
        earlier: &context.earlier,
        purpose: plan.purpose,
        from_run,
    });
    Ok(Completion { results, points, verdict })
}

/// The temperature that was read at a check, in °C: of the first condition in that unit.
fn room_temperature(
    method: &dyn Method,
    plan: &PlanSpec,
    run: &RunState,
) -> Result<Option<f64>, MethodError> {
    let way = method.way(plan)?;
    let of_degrees = |input: &Input| matches!(input, Input::Condition { unit, .. } if unit == "°C");
    let step = way.iter().find(|step| of_degrees(&step.input));
    Ok(step.and_then(|step| run.condition(&step.key)).map(to_f64))
}

/// What the charts of a check know of its levels, for those that have no chart of their own.
struct KnownLevels {
    levels: Vec<KnownLevel>,
}

struct KnownLevel {
    key: String,
    /// "as at 10 kg, rising".
    words: String,
    nominal: Option<f64>,
    unit: Unit,
    /// Whether others may borrow of it: what nothing certifies speaks for itself alone.
    lends: bool,
    between: KnownStdDev,
    within: Option<KnownStdDev>,
}

impl KnownLevels {
    fn of(characteristics: &[Characteristic], context: &RunContext) -> Self {
        let levels = characteristics
            .iter()
            .filter(|one| one.charted)
            .filter_map(|one| {
                let design = slot_of(context, &one.key)?.design.as_ref()?;
                let known = |std_dev: f64, degrees_of_freedom: Option<f64>| KnownStdDev {
                    std_dev,
                    degrees_of_freedom,
                    as_at: None,
                };
                // Action lines know no sigma.
                if !design.is_statistical() {
                    return None;
                }
                let of = design.estimated;
                let within = design.spread.map(|spread| {
                    known(spread.within, of.and_then(|of| of.within_degrees_of_freedom))
                });
                let sigma = of_readings(design, one.n());
                let between = known(sigma, of.and_then(|of| of.degrees_of_freedom()));
                let words = one.label.trim_start_matches("Error ");
                Some(KnownLevel {
                    key: one.key.clone(),
                    words: format!("as {words}"),
                    nominal: one.nominal.map(to_f64),
                    unit: one.unit,
                    lends: one.kind == CharacteristicKind::Error,
                    between,
                    within,
                })
            })
            .collect();
        Self { levels }
    }

    /// The level of a characteristic, its own or the nearest of its unit; none before any has limits.
    fn nearest(&self, characteristic: &Characteristic) -> Option<(&KnownLevel, bool)> {
        if let Some(own) = self.levels.iter().find(|level| level.key == characteristic.key) {
            return Some((own, true));
        }
        let at = characteristic.nominal.map_or(0.0, to_f64);
        let distance = |level: &&KnownLevel| (level.nominal.unwrap_or(0.0) - at).abs();
        let alike = self.levels.iter().filter(|one| one.lends && one.unit == characteristic.unit);
        let nearest = alike.min_by(|a, b| distance(a).total_cmp(&distance(b)))?;
        Some((nearest, false))
    }
}

/// Sigma of a check mean of `n` readings.
fn of_readings(design: &ChartDesign, n: u32) -> f64 {
    design.sigma * design.components.map_or(1.0, |components| components.scale(n))
}

/// What is known around a characteristic: its chart's sigma or that of the nearest level, the plan's rule and
/// additions, and, where the rule asks for one, the prior from its own history.
fn surroundings(
    plan: &PlanSpec,
    slot: Option<&StreamSlot>,
    known: &KnownLevels,
    characteristic: &Characteristic,
) -> Surroundings {
    let mut around = Surroundings {
        decision: plan.decision,
        // Spread and hysteresis are differences of indications: the reference drops out of them; the scatter that a plan
        // states is of readings and stays.
        additions: plan.contributions(characteristic),
        ..Surroundings::default()
    };
    if let Some((level, own)) = known.nearest(characteristic) {
        let borrowed = |of: &KnownStdDev| KnownStdDev {
            as_at: (!own).then(|| level.words.clone()),
            ..of.clone()
        };
        around.between_checks =
            (characteristic.kind == CharacteristicKind::Error).then(|| borrowed(&level.between));
        around.within_checks = level.within.as_ref().map(borrowed);
    }
    if let (DecisionRule::GlobalRisk, Some(slot)) = (plan.decision.rule, slot) {
        let history: Vec<f64> = slot.recent.iter().map(|past| past.value).collect();
        let budget = around.budget(characteristic);
        let of = |source: ContributionSource| {
            let same = budget.contributions.iter().filter(|part| part.source == source);
            same.map(|part| part.standard_uncertainty).fold(0.0, f64::max)
        };
        let reading = of(ContributionSource::Resolution).max(of(ContributionSource::Repeatability));
        let reference = budget
            .contributions
            .iter()
            .filter(|part| part.source.is_of_reference())
            .fold(0.0_f64, |sum, part| sum.hypot(part.standard_uncertainty));
        around.prior = Prior::from_history(&history, reading, reference);
    }
    around
}

fn slot_of<'a>(context: &'a RunContext, key: &str) -> Option<&'a StreamSlot> {
    context.slots.iter().find(|slot| slot.key == key)
}

fn reasons_of_run(run: &RunState, context: &RunContext) -> Vec<Reason> {
    let mut reasons: Vec<Reason> = run
        .entries
        .iter()
        .filter(|entry| entry.value.far_confirmed())
        .map(|entry| Reason::FarReadingConfirmed { step: entry.step.to_string() })
        .collect();
    if let Some(reason) = &context.late {
        reasons.push(Reason::EnteredLate { reason: reason.clone() });
    }
    if let Some((used, current)) = context.superseded {
        reasons.push(Reason::PlanSuperseded { used, current });
    }
    reasons
}

/// Scatter of the readings of a characteristic that is a mean of them; the range of readings is
/// scatter itself and has none of its own.
fn scatter(characteristic: &Characteristic) -> Option<Scatter> {
    let singles: Vec<f64> = characteristic.singles.iter().copied().map(to_f64).collect();
    (characteristic.kind == CharacteristicKind::Error).then(|| Scatter::of(&singles)).flatten()
}

/// What the charts of all levels together take from a check: offset and gain of its errors, and the
/// extremes of its standardised values.
fn derived_points<'a>(
    context: &'a RunContext,
    results: &[(Characteristic, ConformityResult)],
    points: &[StreamPoint],
) -> Vec<(&'a StreamSlot, ChartPoint)> {
    let errors =
        || results.iter().filter(|(c, _)| c.charted && c.kind == CharacteristicKind::Error);
    let pairs: Vec<(f64, f64)> =
        errors().filter_map(|(c, _)| Some((to_f64(c.nominal?), c.value()))).collect();
    let standardised: Vec<f64> = errors()
        .filter_map(|(c, _)| points.iter().find(|point| point.key == c.key))
        .filter_map(|point| point.evaluation.as_ref().map(|evaluation| evaluation.standardised))
        .collect();
    let line = fit_levels(&pairs);
    let levels = Levels::of(&standardised);
    let at = |value| ChartPoint::new(context.measured_at, value);
    context
        .slots
        .iter()
        .filter_map(|slot| {
            let point = match slot.key.as_str() {
                LINE_OFFSET => at(line?.offset),
                LINE_GAIN => at(line?.gain),
                LEVELS => ChartPoint { levels, ..at(levels?.furthest()) },
                _ => return None,
            };
            Some((slot, point))
        })
        .collect()
}

/// Derived charts have no tolerance, so that nothing is forecast or advised by them alone.
fn derived_outcome(slot: &StreamSlot, point: &StreamPoint) -> ChartOutcome {
    ChartOutcome {
        key: slot.key.clone(),
        control: control(point),
        firings: point.evaluation.as_ref().map(|e| e.firings().to_vec()).unwrap_or_default(),
        advisory: point.evaluation.as_ref().map(|e| e.advisory().to_vec()).unwrap_or_default(),
        drift: None,
        shape: None,
        sigma: slot.design.as_ref().map(|design| design.sigma),
        sigma_source: slot.sigma_source,
        advice: None,
        cannot_hold: None,
    }
}

fn control(point: &StreamPoint) -> Control {
    match (&point.evaluation, point.ordinal) {
        (Some(evaluation), _) => control_of(&point.state, evaluation),
        (None, Some(_)) => Control::NoBaseline {
            got: point.state.points(),
            required: MINIMUM_BASELINE_POINTS as u64,
        },
        (None, None) => Control::NotCharted,
    }
}

fn chart_point(
    slot: &StreamSlot,
    point: &ChartPoint,
    counted: bool,
    temperature: Option<f64>,
) -> StreamPoint {
    let mut state = slot.state.clone();
    let (ordinal, evaluation) = match (&slot.design, counted) {
        (_, false) => (None, None),
        (None, true) => (Some(state.push_unjudged(point)), None),
        (Some(design), true) => {
            let evaluation = state.push(design, point);
            (Some(evaluation.ordinal), Some(evaluation))
        }
    };
    StreamPoint {
        key: slot.key.clone(),
        value: point.value,
        ordinal,
        evaluation,
        state,
        readings: point.readings,
        scatter: point.scatter,
        temperature,
    }
}

/// A charted characteristic with all that is told about it.
struct Outcome<'a> {
    slot: &'a StreamSlot,
    point: &'a StreamPoint,
    characteristic: &'a Characteristic,
    result: &'a ConformityResult,
    resolution: f64,
    measured_at: Timestamp,
    /// Whether this is the confirming repeat of a failed run.
    is_repeat: bool,
    events: &'a [Timestamp],
}

impl Outcome<'_> {
    fn told(&self) -> ChartOutcome {
        let (slot, point) = (self.slot, self.point);
        let control = control(point);
        let signal = matches!(control, Control::Signal { .. });
        let (drift, shape) = signal.then(|| self.change()).flatten().unwrap_or((None, None));
        let limits = self.characteristic.limits;
        let tolerance = |side: Option<Decimal>| side.map(to_f64);
        let cannot_hold = slot.design.as_ref().and_then(|design| {
            let (lower, upper) = (
                tolerance(limits.and_then(|limits| limits.lower)),
                tolerance(limits.and_then(|limits| limits.upper)),
            );
            let Level::Frozen { center_line } = design.level else { return None };
            (design.is_statistical() && design.reaches_beyond(lower, upper))
                .then_some((center_line - design.below, center_line + design.above))
        });
        let evaluation = point.evaluation.as_ref();
        ChartOutcome {
            key: slot.key.clone(),
            control,
            firings: evaluation.map(|e| e.firings().to_vec()).unwrap_or_default(),
            advisory: evaluation.map(|e| e.advisory().to_vec()).unwrap_or_default(),
            drift,
            shape,
            sigma: slot.design.as_ref().map(|design| design.sigma),
            sigma_source: slot.sigma_source,
            advice: self.advice(signal),
            cannot_hold,
        }
    }

    fn advice(&self, signal: bool) -> Option<AdjustmentAdvice> {
        let design = self.slot.design.as_ref().filter(|design| design.is_statistical())?;
        let outside = self.result.mean_is_outside(self.characteristic);
        let failed = self.result.conformity == Conformity::Fail;
        if !(outside && self.is_repeat || signal && !failed) {
            return None;
        }
        Some(advise_adjustment(&AdjustmentInput {
            mean_error: self.characteristic.value(),
            level: self.level(design).level,
            check_mean_std_dev: design.sigma,
            reference_standard_uncertainty: self.characteristic.reference_standard_uncertainty(),
            resolution: self.resolution,
            coverage_factor: self.result.coverage_factor(),
            within_tolerance: !outside,
        }))
    }

    /// The estimated level from the points of the segment; a counted point of this check among them.
    fn level(&self, design: &ChartDesign) -> LevelEstimate {
        let mut points = self.slot.recent.clone();
        if let Some(ordinal) = self.point.ordinal {
            let StreamPoint { value, temperature, .. } = *self.point;
            points.push(PastPoint { ordinal, measured_at: self.measured_at, value, temperature });
        }
        segment_level(design, &points)
    }

    /// The drift that the shape of the segment tells, or what else it has done; this check's point is among its points even
    /// where it does not count.
    fn change(&self) -> Option<(Option<Drift>, Option<ToldShape>)> {
        let side = self.point.state.active_side()?;
        let mut points = self.slot.recent.clone();
        let ordinal = self.point.ordinal.unwrap_or(u64::MAX);
        let StreamPoint { value, temperature, .. } = *self.point;
        points.push(PastPoint { ordinal, measured_at: self.measured_at, value, temperature });
        let limit = |side: Option<Decimal>| side.map(to_f64);
        let limits = self.characteristic.limits;
        let around = ShapeAround {
            events: self.events,
            lower: limit(limits.and_then(|limits| limits.lower)),
            upper: limit(limits.and_then(|limits| limits.upper)),
            fan: 0,
        };
        let shape = segment_shape(self.slot.design.as_ref()?, &points, &around).ok()?;
        let other = shape.told.is_change() && shape.told != Told::Drift;
        Some((drift_of_shape(side, &shape), other.then(|| ToldShape::from(&shape))))
    }
}

fn control_of(state: &ChartState, evaluation: &PointEvaluation) -> Control {
    if let Some(firing) = evaluation.firings().first() {
        return Control::Signal { side: firing.side };
    }
    match state.active_side() {
        Some(side) => Control::Signal { side: Some(side) },
        None => Control::InControl,
    }
}

/// A baseline frozen over the points of a segment, and the segment replayed under it.
#[derive(Debug, Clone, PartialEq)]
pub struct FrozenBaseline {
    /// Limits and what is to be said about them.
    pub study: BaselineStudy,
    /// Design of the segment from now on.
    pub design: ChartDesign,
    /// State after the last point.
    pub state: ChartState,
    /// One evaluation a point; those inside the baseline raise no signal.
    pub evaluations: Vec<PointEvaluation>,
}

/// Freezes limits from the first `baseline_points` of a segment and replays all its points.
///
/// # Errors
/// [`LimitError`] when the points make no baseline.
pub fn freeze_baseline(
    points: &[ChartPoint],
    baseline_points: usize,
    interval: SignedDuration,
    resolution: f64,
) -> Result<FrozenBaseline, LimitError> {
    let count = baseline_points.min(points.len());
    let runs = runs_without_gap(&points[..count], interval);
    let runs: Vec<&[f64]> = runs.iter().map(Vec::as_slice).collect();
    let study = study_baseline(&runs, DEFAULT_OUTER_MULTIPLIER, resolution)?;
    let baseline = &points[..count];
    let design = ChartDesign {
        spread: within_checks(baseline, resolution).map(|within| SpreadDesign {
            within,
            by: Spread::StdDev,
            multiplier: DEFAULT_OUTER_MULTIPLIER,
        }),
        estimated: Some(FromBaseline {
            points: count,
            source: study.limits.sigma_source,
            autocorrelation: resemblance(baseline),
            within_degrees_of_freedom: within_checks(baseline, resolution).map(|_| {
                baseline.iter().map(|point| f64::from(point.readings.saturating_sub(1))).sum()
            }),
        }),
        ..ChartDesign::from_limits(&study.limits)
    };
    let chart_points: Vec<ChartPoint> = points
        .iter()
        .enumerate()
        .map(|(index, point)| ChartPoint { monitored: index >= count, ..*point })
        .collect();
    let (state, evaluations) = evaluate(&design, interval, &chart_points);
    Ok(FrozenBaseline { study, design, state, evaluations })
}

/// How much neighbouring checks of a baseline resemble each other.
fn resemblance(baseline: &[ChartPoint]) -> f64 {
    let values: Vec<f64> = baseline.iter().map(|point| point.value).collect();
    let r = lag_one_autocorrelation(&values).unwrap_or(0.0);
    FromBaseline::resemblance(r, values.len())
}

/// Pooled standard deviation of a reading within a check, at least what the resolution leaves; none
/// where nothing was repeated.
pub(crate) fn within_checks(points: &[ChartPoint], resolution: f64) -> Option<f64> {
    let (mut squares, mut freedom) = (0.0, 0.0);
    for point in points.iter().filter(|point| point.readings > 1) {
        let own = f64::from(point.readings - 1);
        squares += own * point.scatter?.std_dev.powi(2);
        freedom += own;
    }
    (freedom > 0.0).then(|| (squares / freedom).sqrt().max(resolution / 12.0_f64.sqrt()))
}

/// Splits at gaps of more than three intervals, over which no moving range is taken.
fn runs_without_gap(points: &[ChartPoint], interval: SignedDuration) -> Vec<Vec<f64>> {
    let longest = interval.saturating_mul(3);
    let mut runs: Vec<Vec<f64>> = Vec::new();
    let mut last: Option<Timestamp> = None;
    for point in points {
        let at = point.measured_at;
        let breaks = last.is_none_or(|last| at.duration_since(last) > longest);
        match runs.last_mut() {
            Some(run) if !breaks => run.push(point.value),
            _ => runs.push(vec![point.value]),
        }
        last = Some(at);
    }
    runs
}
