//! Whole designs: run lengths and detection of all their rules together, the multirules over levels, offset
//! and gain, the baseline study, the back-test, capability.

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::chart::simulate::{self, Change, Circumstances};
use vaaka_core::chart::{
    ChartDesign, ChartPoint, Criteria, Criterion, CusumDesign, DEFAULT_OUTER_MULTIPLIER,
    EWMA_LAMBDA, EWMA_WIDTH, EwmaDesign, Levels, evaluate, fit_levels,
};
use vaaka_core::study::{self, BackTestSegment, Fault, StudyInput, StudyPoint};

use super::charts::{Fired, SHIFT, at, fired};
use super::{Computation, Compute, positive, words};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<RunLength>(),
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
    /// Criteria by their words: beyond_limits, ewma, cusum, beyond3, two_of_three, four_of_five,
    /// eight_on_a_side, nine_on_a_side, six_trending, fourteen_alternating, fifteen_hugging,
    /// eight_avoiding, two_in_a_row_beyond2, four_in_a_row_beyond1, ten_on_a_side.
    raising: Vec<String>,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "outer")]
    multiplier: f64,
    /// Weight of the slow average.
    #[serde(default = "lambda")]
    lambda: f64,
    /// Width of its limits, in its own sigmas.
    #[serde(default = "width")]
    width: f64,
    /// Reference value of the cumulative sums, in sigmas.
    #[serde(default = "reference")]
    reference: f64,
    /// Their decision interval, in sigmas.
    #[serde(default = "interval")]
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
        let mut raising = Criteria::NONE;
        for word in &self.raising {
            let criterion: Criterion = serde_json::from_value(word.clone().into())
                .map_err(|_| format!("“{word}” is no criterion"))?;
            if criterion.across_levels() || criterion == Criterion::Spread {
                return Err(format!(
                    "“{word}” looks at more than one value a check; leave it out here"
                ));
            }
            if !criterion.may_raise() {
                return Err(format!("“{word}” is a warning and never raises a signal"));
            }
            raising = raising.with(criterion);
        }
        let half = positive("the multiplier", self.multiplier)?;
        let (reference, interval) = (positive("k", self.reference)?, positive("h", self.interval)?);
        if !(0.0..=1.0).contains(&self.lambda) || self.lambda == 0.0 {
            return Err(format!("λ is {}: give a number above zero, at most one", self.lambda));
        }
        if !(0.0..=interval).contains(&self.head_start) {
            return Err(format!("the head start is {}: give one from zero to h", self.head_start));
        }
        Ok(ChartDesign {
            multiplier: half,
            below: half,
            above: half,
            ewma: EwmaDesign { lambda: self.lambda, width: positive("the width", self.width)? },
            cusum: CusumDesign { reference, interval, head_start: self.head_start },
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
}

/// Points until the first signal.
#[derive(Debug, Serialize, JsonSchema)]
struct RunLengthOutput {
    /// On average.
    average: f64,
    /// Standard error where it was simulated; null where it is exact.
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
        let found =
            simulate::run_length_of(&design, change, Circumstances::default()).map_err(words)?;
        Ok(RunLengthOutput {
            average: found.average,
            standard_error: found.standard_error,
            at_least: found.at_least,
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
    /// Checks until then, median.
    delay: f64,
    /// Signals opened in a thousand quiet checks.
    false_alarms: f64,
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
        let found =
            simulate::detection(&design, change, span, input.seed, input.runs).map_err(words)?;
        Ok(DetectionOutput {
            found: found.found,
            delay: found.delay,
            false_alarms: found.false_alarms,
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
    /// Across the levels of each check.
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
        if levels < 2 || input.checks.iter().any(|check| check.len() != levels) {
            return Err("give the same levels for each check, two at least".to_owned());
        }
        let of_both = |one: &vaaka_core::chart::PointEvaluation| -> Result<Vec<Fired>, String> {
            let mut all = fired(one.firings())?;
            all.extend(fired(one.advisory())?);
            Ok(all)
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
        let (_, across) = evaluate(&ChartDesign::levels(), SHIFT, &together);
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
            within.push(evaluations.iter().map(of_both).collect::<Result<_, _>>()?);
        }
        Ok(MultirulesOutput {
            across: across.iter().map(of_both).collect::<Result<_, _>>()?,
            within,
        })
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
        let found = study::capability(&input.values, input.lower, input.upper).map_err(words)?;
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
    use vaaka_store::to_word;

    fn run(name: &str, input: &Value) -> Result<Value, String> {
        let all = compute::all();
        let found = all.iter().find(|one| one.name == name).unwrap();
        found.run(&input.to_string()).map(|text| serde_json::from_str(&text).unwrap())
    }

    /// The words in the schema are those that are read.
    #[test]
    fn criteria_have_the_words_that_are_promised() {
        for criterion in Criterion::ALL {
            let word = to_word(&criterion).unwrap();
            let read = Design {
                raising: vec![word.clone()],
                multiplier: 3.0,
                lambda: 0.1,
                width: 3.0,
                reference: 0.5,
                interval: 5.0,
                head_start: 0.0,
            }
            .read();
            let alone = !criterion.across_levels() && criterion != Criterion::Spread;
            assert_eq!(read.is_ok(), alone && criterion.may_raise(), "{word}");
            if read.is_ok() {
                let schema = schemars::schema_for!(Design);
                assert!(schema.to_value().to_string().contains(&word), "{word}");
            }
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
