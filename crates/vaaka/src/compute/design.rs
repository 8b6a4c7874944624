//! Whole designs: run lengths and detection of all their rules together, the multirules over levels, offset
//! and gain, the baseline study, the back-test, capability.

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::chart::simulate::{self, Change, Circumstances, Runs};
use vaaka_core::chart::{
    ChartDesign, ChartPoint, Criteria, CusumDesign, DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA,
    EWMA_WIDTH, EwmaDesign, Levels, SigmaSource, evaluate, fit_levels, run_length,
};
use vaaka_core::study::{self, BackTestSegment, Fault, StudyInput, StudyPoint};

use super::charts::{Fired, SHIFT, at, fired};
use super::words::{Raising, Word};
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<RunLength>(),
        Computation::of::<FromFewShifts>(),
        Computation::of::<Widening>(),
        Computation::of::<Detection>(),
        Computation::of::<Multirules>(),
        Computation::of::<OffsetGain>(),
        Computation::of::<BaselineStudy>(),
        Computation::of::<BackTest>(),
        Computation::of::<Capability>(),
    ]
}

/// What raises a signal, and how wide.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Design {
    /// Criteria that raise a signal.
    raising: Vec<Word<Raising>>,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "outer")]
    #[schemars(extend("exclusiveMinimum" = 0))]
    multiplier: f64,
    /// Weight of the slow average.
    #[serde(default = "lambda")]
    #[schemars(range(min = 0.001, max = 1))]
    lambda: f64,
    /// Width of its limits, in its own sigmas.
    #[serde(default = "width")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 10))]
    width: f64,
    /// Reference value of the cumulative sums, in sigmas.
    #[serde(default = "reference")]
    #[schemars(range(min = 0, max = 10))]
    reference: f64,
    /// Their decision interval, in sigmas.
    #[serde(default = "interval")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 50))]
    interval: f64,
    /// Where they begin, in sigmas.
    #[serde(default)]
    head_start: f64,
}

fn outer() -> f64 {
    DEFAULT_OUTER_MULTIPLIER
}
fn lambda() -> f64 {
    EWMA_LAMBDA
}
fn width() -> f64 {
    EWMA_WIDTH
}
fn reference() -> f64 {
    CusumDesign::default().reference
}
fn interval() -> f64 {
    CusumDesign::default().interval
}

impl Design {
    fn read(&self) -> Result<ChartDesign, String> {
        let raising: Criteria = self.raising.iter().map(|word| word.0.0).collect();
        let half = positive("the multiplier", self.multiplier)?;
        let cusum = CusumDesign {
            reference: self.reference,
            interval: self.interval,
            head_start: self.head_start,
        };
        run_length::check_cusum(cusum).map_err(said)?;
        let ewma = EwmaDesign { lambda: self.lambda, width: self.width };
        run_length::check_ewma(ewma).map_err(said)?;
        Ok(ChartDesign {
            multiplier: half,
            below: half,
            above: half,
            ewma,
            cusum,
            raising,
            advisory: Criteria::NONE,
            ..ChartDesign::given(0.0, 1.0)
        })
    }
}

fn change(step: f64, drift: f64) -> Result<Change, String> {
    match (step == 0.0, drift == 0.0) {
        (true, true) => Ok(Change::None),
        (false, true) => Ok(Change::Step { sigmas: step }),
        (true, false) => Ok(Change::Drift { sigmas_a_check: drift }),
        (false, false) => Err("give a step or a drift, not both".to_owned()),
    }
}

struct RunLength;

/// A design and what happens to the level.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RunLengthInput {
    /// The design.
    design: Design,
    /// A step from the first point on, in sigmas.
    #[serde(default)]
    step: f64,
    /// A drift from the first point on, in sigmas from check to check.
    #[serde(default)]
    drift: f64,
    /// How much neighbouring checks resemble each other: ρ of a first-order autoregression.
    #[serde(default)]
    #[schemars(extend("exclusiveMinimum" = -1, "exclusiveMaximum" = 1))]
    autocorrelation: f64,
    /// Runs, where it has to be simulated.
    #[serde(default = "few")]
    #[schemars(range(min = 2, max = 20_000))]
    runs: u32,
    /// Seed, where it has to be simulated.
    #[serde(default = "seed")]
    seed: u64,
}

fn few() -> u32 {
    Runs::default().runs
}
fn seed() -> u64 {
    Runs::default().seed
}

/// Circumstances and runs that were asked for.
fn asked(autocorrelation: f64, seed: u64, runs: u32) -> Result<(Circumstances, Runs), String> {
    if !(autocorrelation > -1.0 && autocorrelation < 1.0) {
        return Err(format!(
            "the autocorrelation is {}: give a number between -1 and 1",
            super::shown(autocorrelation)
        ));
    }
    if !(2..=20_000).contains(&runs) {
        return Err(format!("{runs} runs: give a whole number from 2 to 20000"));
    }
    Ok((Circumstances { autocorrelation, ..Circumstances::default() }, Runs { seed, runs }))
}

/// Points until the first signal.
#[derive(Debug, Serialize, JsonSchema)]
struct RunLengthOutput {
    /// On average.
    average: f64,
    /// Standard deviation of that number.
    standard_deviation: f64,
    /// The number within which one half of all charts has signalled.
    median: f64,
    /// Standard error of the average where it was simulated; null where it is exact.
    standard_error: Option<f64>,
    /// Whether some runs were stopped before a signal, so that the average is at least this.
    at_least: bool,
}

impl Compute for RunLength {
    const NAME: &'static str = "run-length";
    const ABOUT: &'static str =
        "average run length of all rules together, after a step or with a drift";
    type Input = RunLengthInput;
    type Output = RunLengthOutput;

    fn compute(input: RunLengthInput) -> Result<RunLengthOutput, String> {
        let design = input.design.read()?;
        let change = change(input.step, input.drift)?;
        let (around, runs) = asked(input.autocorrelation, input.seed, input.runs)?;
        Ok(simulate::run_length_by(&design, change, around, runs).map_err(said)?.into())
    }
}

impl From<simulate::Estimate> for RunLengthOutput {
    fn from(found: simulate::Estimate) -> Self {
        Self {
            average: found.average,
            standard_deviation: found.std_dev,
            median: found.median,
            standard_error: found.standard_error,
            at_least: found.at_least,
        }
    }
}

struct FromFewShifts;

/// A design whose centre and sigma come from a baseline.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct FewShiftsInput {
    /// The design.
    design: Design,
    /// Shifts of the baseline.
    #[schemars(range(min = 20, max = 10_000))]
    shifts: usize,
    /// How much neighbouring checks resemble each other: ρ of a first-order autoregression.
    #[serde(default)]
    #[schemars(extend("exclusiveMinimum" = -1, "exclusiveMaximum" = 1))]
    autocorrelation: f64,
    /// How sigma is estimated.
    #[serde(default = "moving_range")]
    sigma_source: Word<SigmaSource>,
    /// Runs.
    #[serde(default = "few")]
    #[schemars(range(min = 2, max = 20_000))]
    runs: u32,
    /// Seed.
    #[serde(default = "seed")]
    seed: u64,
}

fn moving_range() -> Word<SigmaSource> {
    Word(SigmaSource::MovingRange)
}

/// What such limits do in control.
#[derive(Debug, Serialize, JsonSchema)]
struct FewShiftsOutput {
    /// Share of charts with a false signal within a hundred checks.
    within_hundred: f64,
    /// Its standard error.
    within_hundred_standard_error: f64,
    /// The same share if centre and sigma were known and checks independent.
    within_hundred_if_known: f64,
    /// Run length over all baselines.
    run_length: RunLengthOutput,
}

impl Compute for FromFewShifts {
    const NAME: &'static str = "limits-from-shifts";
    const ABOUT: &'static str = "what limits from few shifts, or from shifts that resemble each other, really do in control";
    type Input = FewShiftsInput;
    type Output = FewShiftsOutput;

    fn compute(input: FewShiftsInput) -> Result<FewShiftsOutput, String> {
        if !(20..=10_000).contains(&input.shifts) {
            return Err(format!("{} shifts: give a whole number from 20 to 10000", input.shifts));
        }
        let design = input.design.read()?;
        let (around, runs) = asked(input.autocorrelation, input.seed, input.runs)?;
        let source = input.sigma_source.0;
        let found = simulate::with_estimated_limits(&design, source, input.shifts, around, runs);
        let found = found.map_err(said)?;
        Ok(FewShiftsOutput {
            within_hundred: found.within,
            within_hundred_standard_error: found.within_standard_error,
            within_hundred_if_known: found.within_if_known,
            run_length: found.length.into(),
        })
    }
}

struct Widening;

/// A design, and how much neighbouring checks resemble each other.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WideningInput {
    /// The design.
    design: Design,
    /// ρ of a first-order autoregression.
    #[schemars(extend("exclusiveMinimum" = -1, "exclusiveMaximum" = 1))]
    autocorrelation: f64,
    /// Runs.
    #[serde(default = "few")]
    #[schemars(range(min = 2, max = 20_000))]
    runs: u32,
    /// Seed.
    #[serde(default = "seed")]
    seed: u64,
}

/// Wider limits and what they cost.
#[derive(Debug, Serialize, JsonSchema)]
struct WideningOutput {
    /// Factor of all widths that brings the rate of false alarms back to that of independent checks.
    factor: f64,
    /// In control, with the limits as they are.
    in_control_before: RunLengthOutput,
    /// In control, with the wider ones.
    in_control_after: RunLengthOutput,
    /// After a step of one sigma, with the limits as they are.
    step_before: RunLengthOutput,
    /// After a step of one sigma, with the wider ones.
    step_after: RunLengthOutput,
}

impl Compute for Widening {
    const NAME: &'static str = "widened-limits";
    const ABOUT: &'static str = "by how much limits are widened for checks that resemble their neighbours, and what it costs";
    type Input = WideningInput;
    type Output = WideningOutput;

    fn compute(input: WideningInput) -> Result<WideningOutput, String> {
        let design = input.design.read()?;
        let (around, runs) = asked(input.autocorrelation, input.seed, input.runs)?;
        let found = simulate::widened_for(&design, around, runs).map_err(said)?;
        Ok(WideningOutput {
            factor: found.factor,
            in_control_before: found.before.into(),
            in_control_after: found.after.into(),
            step_before: found.step_before.into(),
            step_after: found.step_after.into(),
        })
    }
}

struct Detection;

/// A design, a change, and how long it is watched.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DetectionInput {
    /// The design.
    design: Design,
    /// A step, in sigmas.
    #[serde(default)]
    step: f64,
    /// A drift, in sigmas from check to check.
    #[serde(default)]
    drift: f64,
    /// Quiet checks before the change.
    #[serde(default = "hundred")]
    quiet: u32,
    /// Checks after it.
    #[serde(default = "sixty")]
    watch: u32,
    /// Runs.
    #[serde(default = "runs")]
    runs: u32,
    /// Seed.
    #[serde(default)]
    seed: u64,
}

fn hundred() -> u32 {
    100
}
fn sixty() -> u32 {
    60
}
fn runs() -> u32 {
    1_000
}

/// What the design made of it.
#[derive(Debug, Serialize, JsonSchema)]
struct DetectionOutput {
    /// Share of the runs in which the change was found.
    found: f64,
    /// Standard error of that share.
    found_standard_error: f64,
    /// Checks until then, median over the runs in which it was found; null where it never was.
    delay: Option<DelayOutput>,
    /// Signals opened in a thousand quiet checks.
    false_alarms: f64,
    /// Standard error of that number.
    false_alarms_standard_error: f64,
}

/// A delay with its interval.
#[derive(Debug, Serialize, JsonSchema)]
struct DelayOutput {
    /// Median.
    median: f64,
    /// Lower end of its 95 % interval.
    low: f64,
    /// Upper end.
    high: f64,
}

impl Compute for Detection {
    const NAME: &'static str = "detection";
    const ABOUT: &'static str = "share of steps or drifts found, delay and false alarms, simulated";
    type Input = DetectionInput;
    type Output = DetectionOutput;

    fn compute(input: DetectionInput) -> Result<DetectionOutput, String> {
        const MOST: u64 = 50_000_000;
        let checks = u64::from(input.runs) * (u64::from(input.quiet) + u64::from(input.watch));
        if input.runs == 0 || input.watch == 0 || checks > MOST {
            return Err(format!("{checks} checks in all: give some, and at most {MOST}"));
        }
        let design = input.design.read()?;
        let change = change(input.step, input.drift)?;
        let span = (input.quiet, input.watch);
        let runs = Runs { seed: input.seed, runs: input.runs };
        let found = simulate::detection(&design, change, span, runs).map_err(said)?;
        Ok(DetectionOutput {
            found: found.found,
            found_standard_error: found.found_standard_error,
            delay: found.delay.map(|delay| DelayOutput {
                median: delay.median,
                low: delay.low,
                high: delay.high,
            }),
            false_alarms: found.false_alarms,
            false_alarms_standard_error: found.false_alarms_standard_error,
        })
    }
}

struct Multirules;

/// Standardised levels of checks.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct MultirulesInput {
    /// Of each check, in their order, the value of each level in sigmas from its own centre.
    checks: Vec<Vec<f64>>,
}

/// What the rules say.
#[derive(Debug, Serialize, JsonSchema)]
struct MultirulesOutput {
    /// Across the levels of each check; empty for a single level.
    across: Vec<Vec<Fired>>,
    /// Within each level, for each check: the first index is the level.
    within: Vec<Vec<Vec<Fired>>>,
}

impl Compute for Multirules {
    const NAME: &'static str = "multirules";
    const ABOUT: &'static str = "the laboratory multirules, within each level and across levels";
    type Input = MultirulesInput;
    type Output = MultirulesOutput;

    fn compute(input: MultirulesInput) -> Result<MultirulesOutput, String> {
        let levels = input.checks.first().map_or(0, Vec::len);
        if levels == 0 || input.checks.iter().any(|check| check.len() != levels) {
            return Err("give the same levels for each check, one at least".to_owned());
        }
        let of_both = |one: &vaaka_core::chart::PointEvaluation| -> Vec<Fired> {
            let mut all = fired(one.firings());
            all.extend(fired(one.advisory()));
            all
        };
        let together: Vec<ChartPoint> = input
            .checks
            .iter()
            .enumerate()
            .map(|(index, check)| {
                let levels = Levels::of(check);
                let furthest = levels.map_or(f64::NAN, |levels| levels.furthest());
                ChartPoint { levels, ..ChartPoint::new(at(index), furthest) }
            })
            .collect();
        // One level has nothing beside it: the rules within it are all there are.
        let across =
            if levels < 2 { vec![] } else { evaluate(&ChartDesign::levels(), SHIFT, &together).1 };
        let rules: Criteria =
            vaaka_core::chart::RuleSet::Multirules.rules().iter().copied().collect();
        let alone = ChartDesign {
            raising: rules,
            advisory: Criteria::NONE,
            ..ChartDesign::given(0.0, 1.0)
        };
        let mut within = Vec::new();
        for level in 0..levels {
            let points: Vec<ChartPoint> = input
                .checks
                .iter()
                .enumerate()
                .map(|(index, check)| ChartPoint::new(at(index), check[level]))
                .collect();
            let (_, evaluations) = evaluate(&alone, SHIFT, &points);
            within.push(evaluations.iter().map(of_both).collect());
        }
        Ok(MultirulesOutput { across: across.iter().map(of_both).collect(), within })
    }
}

struct OffsetGain;

/// The levels of one check.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct OffsetGainInput {
    /// Levels.
    levels: Vec<f64>,
    /// Errors at them.
    errors: Vec<f64>,
}

/// Offset and gain.
#[derive(Debug, Serialize, JsonSchema)]
struct OffsetGainOutput {
    /// Fitted error in the middle of the levels.
    offset: f64,
    /// Fitted change of error from the lowest level to the highest.
    gain: f64,
    /// The middle.
    middle: f64,
    /// From the lowest level to the highest.
    span: f64,
}

impl Compute for OffsetGain {
    const NAME: &'static str = "offset-gain";
    const ABOUT: &'static str = "the errors of one check as offset and gain";
    type Input = OffsetGainInput;
    type Output = OffsetGainOutput;

    fn compute(input: OffsetGainInput) -> Result<OffsetGainOutput, String> {
        if input.levels.len() != input.errors.len() {
            return Err("give as many errors as levels".to_owned());
        }
        let pairs: Vec<(f64, f64)> = input.levels.into_iter().zip(input.errors).collect();
        let fit = fit_levels(&pairs).ok_or("two different levels at least make a line")?;
        Ok(OffsetGainOutput {
            offset: fit.offset,
            gain: fit.gain,
            middle: fit.middle,
            span: fit.span,
        })
    }
}

struct BaselineStudy;

/// A check of the period.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct StudiedPoint {
    /// Its mean.
    value: f64,
    /// Number of its shift; equal numbers are one shift. Its place where it is left out.
    #[serde(default)]
    shift: Option<i64>,
    /// Kind of the shift.
    #[serde(default)]
    shift_kind: String,
    /// Who measured.
    #[serde(default)]
    person: String,
    /// Left out because its cause is known.
    #[serde(default)]
    excluded: bool,
}

/// A period.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct StudiedPeriod {
    /// Its checks, in their order, eight hours apart.
    points: Vec<StudiedPoint>,
    /// Step of the display; zero where it does not matter.
    #[serde(default)]
    resolution: f64,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "outer")]
    #[schemars(extend("exclusiveMinimum" = 0))]
    multiplier: f64,
    /// Kinds of shift that have to be among them.
    #[serde(default)]
    shift_kinds: Vec<String>,
    /// People who have to be among them.
    #[serde(default)]
    regulars: Vec<String>,
}

/// What the period says.
#[derive(Debug, Serialize, JsonSchema)]
struct StudiedOutput {
    /// Checks used.
    used: usize,
    /// Different shifts.
    shifts: usize,
    /// Centre line; null where no limits can be formed.
    center_line: Option<f64>,
    /// Sigma.
    sigma: Option<f64>,
    /// Probability that the values are as far from normal by chance.
    normality: Option<f64>,
    /// Lag-one autocorrelation.
    autocorrelation: Option<f64>,
    /// Probability that technicians differ so much by chance.
    technicians: Option<f64>,
    /// Probability that kinds of shift differ so much by chance.
    shift_kinds: Option<f64>,
    /// Checks beyond the limits that they propose, or in a pattern.
    unstable: usize,
    /// Why it makes no baseline; empty where it does.
    faults: Vec<String>,
}

fn study_points(points: &[StudiedPoint]) -> Vec<StudyPoint> {
    points
        .iter()
        .enumerate()
        .map(|(index, point)| StudyPoint {
            measured_at: at(index),
            value: point.value,
            readings: 1,
            scatter: None,
            segment: 1,
            shift: Some(point.shift.unwrap_or(index as i64)),
            shift_kind: point.shift_kind.clone(),
            person: point.person.clone(),
            excluded: point.excluded,
        })
        .collect()
}

impl Compute for BaselineStudy {
    const NAME: &'static str = "baseline-study";
    const ABOUT: &'static str = "whether a period makes a baseline, and what it says of itself";
    type Input = StudiedPeriod;
    type Output = StudiedOutput;

    fn compute(input: StudiedPeriod) -> Result<StudiedOutput, String> {
        let points = study_points(&input.points);
        let found = study::study(&StudyInput {
            points: &points,
            interval: SHIFT,
            resolution: input.resolution.max(0.0),
            multiplier: positive("the multiplier", input.multiplier)?,
            shift_kinds: &input.shift_kinds,
            regulars: &input.regulars,
        });
        let limits = found.limits.as_ref().map(|study| study.limits);
        let mut unstable: Vec<usize> = found.unstable.iter().map(|(place, _)| *place).collect();
        unstable.dedup();
        Ok(StudiedOutput {
            used: found.used,
            shifts: found.shifts,
            center_line: limits.map(|limits| limits.center_line),
            sigma: limits.map(|limits| limits.sigma),
            normality: found.normality.map(|normality| normality.probability),
            autocorrelation: found.autocorrelation,
            technicians: found.technicians.test.map(|test| test.probability),
            shift_kinds: found.shift_kinds.test.map(|test| test.probability),
            unstable: unstable.len(),
            faults: found.faults.iter().map(ToString::to_string).collect(),
        })
    }
}

struct BackTest;

/// A past, a design and known faults.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BackTestInput {
    /// Points, eight hours apart.
    values: Vec<f64>,
    /// Centre line.
    center_line: f64,
    /// Sigma.
    sigma: f64,
    /// What raises a signal, and how wide.
    design: Design,
    /// Places of the points at which a fault was known, from 0.
    #[serde(default)]
    faults: Vec<usize>,
}

/// What would have been.
#[derive(Debug, Serialize, JsonSchema)]
struct BackTestOutput {
    /// Places of the points at which a signal would have been opened.
    signals: Vec<usize>,
    /// Of them, how many came before a known fault.
    before_faults: usize,
    /// Of the faults, how many a signal came before.
    seen: usize,
    /// The same in a sentence.
    words: String,
}

impl Compute for BackTest {
    const NAME: &'static str = "back-test";
    const ABOUT: &'static str =
        "what a design would have signalled in the past, and before which faults";
    type Input = BackTestInput;
    type Output = BackTestOutput;

    fn compute(input: BackTestInput) -> Result<BackTestOutput, String> {
        let sigma = positive("sigma", input.sigma)?;
        let plain = input.design.read()?;
        if input.values.is_empty() {
            return Err("there are no points: give one at least".to_owned());
        }
        let points: Vec<StudiedPoint> = input
            .values
            .iter()
            .map(|value| StudiedPoint {
                value: *value,
                shift: None,
                shift_kind: String::new(),
                person: String::new(),
                excluded: false,
            })
            .collect();
        let design = ChartDesign {
            below: plain.below * sigma,
            above: plain.above * sigma,
            sigma,
            ..plain.about(input.center_line)
        };
        let faults: Vec<Fault> = input
            .faults
            .iter()
            .map(|place| Fault { at: at(*place), words: "known".to_owned() })
            .collect();
        let segment = BackTestSegment { design, points: study_points(&points) };
        let found = study::back_test(&[segment], &faults, SHIFT);
        let place = |moment: Timestamp| {
            let since: SignedDuration = moment.duration_since(at(0));
            usize::try_from(since.as_secs() / SHIFT.as_secs()).unwrap_or(0)
        };
        Ok(BackTestOutput {
            signals: found.signals.iter().map(|signal| place(signal.at)).collect(),
            before_faults: found.before_faults(),
            seen: found.seen,
            words: found.words(),
        })
    }
}

struct Capability;

/// Values and their tolerance.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CapabilityInput {
    /// Values.
    values: Vec<f64>,
    /// Lower tolerance limit.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
}

/// Capability.
#[derive(Debug, Serialize, JsonSchema)]
struct CapabilityOutput {
    /// Mean.
    mean: f64,
    /// Sample standard deviation s.
    std_dev: f64,
    /// (U − L)/(6 s); null for one-sided tolerances.
    pp: Option<f64>,
    /// The nearer limit's distance from the mean over 3 s.
    ppk: f64,
}

impl Compute for Capability {
    const NAME: &'static str = "capability";
    const ABOUT: &'static str = "how much of a tolerance values use: Pp and Ppk";
    type Input = CapabilityInput;
    type Output = CapabilityOutput;

    fn compute(input: CapabilityInput) -> Result<CapabilityOutput, String> {
        let found = study::capability(&input.values, input.lower, input.upper).map_err(said)?;
        let found = found.ok_or("give a lower or an upper limit at least")?;
        Ok(CapabilityOutput {
            mean: found.mean,
            std_dev: found.std_dev,
            pp: found.pp,
            ppk: found.ppk,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::compute;
    use serde_json::{Value, json};
    use vaaka_core::chart::Criterion;

    fn run(name: &str, input: &Value) -> Result<Value, String> {
        let all = compute::all();
        let found = all.iter().find(|one| one.name == name).unwrap();
        found.run(&input.to_string()).map(|text| serde_json::from_str(&text).unwrap())
    }

    /// The words in the schema are those that are read.
    #[test]
    fn criteria_have_the_words_that_are_promised() {
        let schema = schemars::schema_for!(Design).to_value().to_string();
        for criterion in Criterion::ALL {
            let word = criterion.word();
            let read = serde_json::from_value::<Design>(json!({ "raising": [word] }));
            let alone = !criterion.across_levels() && criterion != Criterion::Spread;
            assert_eq!(read.is_ok(), alone && criterion.may_raise(), "{word}");
            assert_eq!(schema.contains(&format!("\"{word}\"")), read.is_ok(), "{word}");
        }
    }

    #[test]
    fn run_lengths_exact_and_simulated() {
        let default = json!({ "raising": ["beyond_limits", "ewma"] });
        let found = run("run-length", &json!({ "design": default })).unwrap();
        assert!(found["standard_error"].is_null());
        assert!((500.0..520.0).contains(&found["average"].as_f64().unwrap()), "{found}");
        let drift = run("run-length", &json!({ "design": default, "drift": 0.05 })).unwrap();
        assert!(drift["standard_error"].as_f64().unwrap() > 0.0);
        let both = run("run-length", &json!({ "design": default, "drift": 0.05, "step": 1.0 }));
        assert!(both.unwrap_err().contains("not both"));
        let none = run("run-length", &json!({ "design": { "raising": [] } })).unwrap_err();
        assert!(none.contains("nothing ever signals"), "{none}");
        let odd = run("run-length", &json!({ "design": { "raising": ["moon"] } })).unwrap_err();
        assert!(odd.contains("“moon” is no criterion"), "{odd}");
        // Runs and seed are asked for; resemblance is never exact.
        let seeded = |seed: u64| {
            let input =
                json!({ "design": default, "autocorrelation": 0.4, "runs": 100, "seed": seed });
            run("run-length", &input).unwrap()
        };
        assert_eq!(seeded(1), seeded(1));
        assert!(seeded(1)["average"] != seeded(2)["average"]);
        assert!(seeded(1)["average"].as_f64().unwrap() < 250.0);
        let few = json!({ "design": default, "shifts": 20, "runs": 200 });
        let few = run("limits-from-shifts", &few).unwrap();
        let (real, known) =
            (few["within_hundred"].as_f64(), few["within_hundred_if_known"].as_f64());
        assert!(real.unwrap() > known.unwrap() + 0.1, "{few}");
        let wide = json!({ "design": default, "autocorrelation": 0.5, "runs": 60 });
        assert!(run("widened-limits", &wide).unwrap()["factor"].as_f64().unwrap() > 1.2);
    }

    #[test]
    fn the_others_by_hand() {
        let fit = run("offset-gain", &json!({ "levels": [0, 10, 20], "errors": [1, 2, 6] }));
        assert_eq!(
            fit.unwrap(),
            json!({ "offset": 3.0, "gain": 5.0, "middle": 10.0, "span": 20.0 })
        );
        assert!(run("offset-gain", &json!({ "levels": [1], "errors": [1] })).is_err());
        let rules = run("multirules", &json!({ "checks": [[2.1, 2.3], [2.2, 0.0]] })).unwrap();
        assert_eq!(rules["across"][0][0]["criterion"], "two_levels_beyond2");
        let within = rules["within"][0][1].as_array().unwrap();
        assert!(within.iter().any(|one| one["criterion"] == "two_in_a_row_beyond2"), "{rules}");
        let one = run("multirules", &json!({ "checks": [[2.1], [2.2]] })).unwrap();
        assert_eq!((&one["across"], one["within"].as_array().unwrap().len()), (&json!([]), 1));
        let crossed = run("capability", &json!({ "values": [1, 2, 3], "lower": 8, "upper": 0 }));
        assert!(crossed.unwrap_err().contains("right way round"));
        let never = json!({ "design": { "raising": ["beyond_limits"], "multiplier": 30.0 },
            "step": 0.5, "runs": 50 });
        assert_eq!(run("detection", &never).unwrap()["delay"], Value::Null);
        let found = run("capability", &json!({ "values": [1, 2, 3], "lower": 0, "upper": 8 }));
        assert!((found.unwrap()["ppk"].as_f64().unwrap() - 2.0 / 3.0).abs() < 1e-12);
        let mut values = vec![0.1; 40];
        values.extend([5.0, 5.0, 5.0]);
        let past = json!({ "values": values, "center_line": 0.1, "sigma": 1.0,
            "design": { "raising": ["beyond_limits"] }, "faults": [42] });
        let tested = run("back-test", &past).unwrap();
        assert_eq!((&tested["signals"], &tested["seen"]), (&json!([40]), &json!(1)), "{tested}");
        let points: Vec<Value> = (0..30).map(|i| json!({ "value": (i * 7 % 11) })).collect();
        let study = run("baseline-study", &json!({ "points": points })).unwrap();
        assert_eq!((&study["shifts"], &study["faults"]), (&json!(30), &json!([])), "{study}");
        let short = run("baseline-study", &json!({ "points": [{ "value": 1.0 }] })).unwrap();
        assert!(short["faults"][0].as_str().unwrap().contains("at least 20"));
        let step =
            json!({ "design": { "raising": ["beyond_limits", "ewma"] }, "step": 2.0, "runs": 200 });
        assert!(run("detection", &step).unwrap()["found"].as_f64().unwrap() > 0.99);
    }
}
