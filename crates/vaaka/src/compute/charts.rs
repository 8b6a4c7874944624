//! Control charts: limits, evaluation, run lengths, drift.

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::chart::constants::{c4, d2, d3};
use vaaka_core::chart::run_length::{CusumSides, EwmaStart};
use vaaka_core::chart::{
    ChartDesign, ChartPoint, ControlLimits, Criterion, CusumDesign, CusumState,
    DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, EwmaDesign, EwmaState, SigmaSource, Spread,
    evaluate, run_length, study_baseline, study_subgroups,
};
use vaaka_core::history::estimate_drift;
use vaaka_core::stats::StatsError;

use super::words::{Moment, Word, ZoneRule};
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Limits>(),
        Computation::of::<Chart>(),
        Computation::of::<Subgroups>(),
        Computation::of::<Constants>(),
        Computation::of::<Cusum>(),
        Computation::of::<Ewma>(),
        Computation::of::<RulesLength>(),
        Computation::of::<CusumLength>(),
        Computation::of::<EwmaLength>(),
        Computation::of::<Drifting>(),
    ]
}

fn multiplier() -> f64 {
    DEFAULT_OUTER_MULTIPLIER
}

struct Limits;

/// A baseline of check means.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Baseline {
    /// Check means in their order, one a shift, at least twenty.
    values: Vec<f64>,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "multiplier")]
    #[schemars(extend("exclusiveMinimum" = 0))]
    multiplier: f64,
    /// Step of the display in the unit of the values; zero where it does not matter.
    #[serde(default)]
    resolution: f64,
}

/// Control limits.
#[derive(Debug, Serialize, JsonSchema)]
struct LimitsOutput {
    /// Centre line.
    center_line: f64,
    /// Lower control limit.
    lower_control_limit: f64,
    /// Upper control limit.
    upper_control_limit: f64,
    /// Standard deviation of the check means.
    sigma: f64,
    /// Where sigma comes from: sample_std_dev where consecutive checks are correlated, resolution where the
    /// display is coarser than the spread.
    sigma_source: Word<SigmaSource>,
    /// Whether the resolution sets sigma or the width, so that zone rules mean nothing.
    resolution_floor: bool,
}

fn limits_of(input: &Baseline) -> Result<ControlLimits, String> {
    positive("the multiplier", input.multiplier)?;
    if !(input.resolution.is_finite() && input.resolution >= 0.0) {
        return Err(format!("the resolution is {}: it is not negative", input.resolution));
    }
    let study = study_baseline(&[&input.values], input.multiplier, input.resolution);
    Ok(study.map_err(said)?.limits)
}

impl Compute for Limits {
    const NAME: &'static str = "chart-limits";
    const ABOUT: &'static str = "limits of an individuals chart from a baseline";
    type Input = Baseline;
    type Output = LimitsOutput;

    fn compute(input: Baseline) -> Result<LimitsOutput, String> {
        let limits = limits_of(&input)?;
        Ok(LimitsOutput {
            center_line: limits.center_line,
            lower_control_limit: limits.lower_control_limit,
            upper_control_limit: limits.upper_control_limit,
            sigma: limits.sigma,
            sigma_source: Word(limits.sigma_source),
            resolution_floor: limits.resolution_floor,
        })
    }
}

struct Chart;

/// Points and what they are held against.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ChartInput {
    /// Points in their order, at equal distances of time.
    values: Vec<f64>,
    /// Centre line.
    center_line: f64,
    /// Standard deviation of a point.
    #[schemars(extend("exclusiveMinimum" = 0))]
    sigma: f64,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "multiplier")]
    #[schemars(extend("exclusiveMinimum" = 0))]
    multiplier: f64,
}

/// The chart, point by point.
#[derive(Debug, Serialize, JsonSchema)]
struct ChartOutput {
    /// Lower control limit.
    lower_control_limit: f64,
    /// Upper control limit.
    upper_control_limit: f64,
    /// Centre line of the moving ranges, d₂·σ.
    moving_range_center: f64,
    /// Upper limit of the moving ranges, (d₂ + L·d₃)·σ; the lower one is zero.
    moving_range_limit: f64,
    /// Points beyond the control limits, by their place from 0.
    beyond: Vec<usize>,
    /// Points whose moving range from the one before is beyond its limit.
    moving_range_beyond: Vec<usize>,
    /// The points.
    points: Vec<Evaluated>,
}

/// A point as it was judged.
#[derive(Debug, Serialize, JsonSchema)]
struct Evaluated {
    /// Value of the drift watcher.
    ewma: f64,
    /// Half-width of the drift watcher's limits.
    ewma_half_width: f64,
    /// What raises a signal here.
    raising: Vec<Fired>,
    /// Patterns of the named rule sets, which are advisory.
    advisory: Vec<Fired>,
}

/// A criterion that fired.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Fired {
    /// Which.
    criterion: Word<Criterion>,
    /// Side of the centre: above, below; null for patterns without one.
    side: Option<String>,
    /// Places of the points that make the pattern, from 0.
    points: Vec<u64>,
    /// The shift that it suggests, in sigmas; null for patterns without a side.
    shift: Option<f64>,
}

/// Firings as they are written out.
pub fn fired(firings: &[vaaka_core::chart::Firing]) -> Vec<Fired> {
    firings
        .iter()
        .map(|firing| Fired {
            criterion: Word(firing.criterion),
            side: firing.side.map(|side| side.word().to_owned()),
            points: firing.points.clone(),
            shift: firing.shift,
        })
        .collect()
}

impl Compute for Chart {
    const NAME: &'static str = "chart";
    const ABOUT: &'static str = "limits, drift watcher and every rule, point by point";
    type Input = ChartInput;
    type Output = ChartOutput;

    fn compute(input: ChartInput) -> Result<ChartOutput, String> {
        let (sigma, wide) =
            (positive("sigma", input.sigma)?, positive("the multiplier", input.multiplier)?);
        if input.values.is_empty() {
            return Err("there are no points: give one at least".to_owned());
        }
        let limits = ControlLimits {
            center_line: input.center_line,
            lower_control_limit: input.center_line - wide * sigma,
            upper_control_limit: input.center_line + wide * sigma,
            sigma,
            multiplier: wide,
            sigma_source: SigmaSource::MovingRange,
            resolution_floor: false,
        };
        let design = ChartDesign::from_limits(&limits);
        let points: Vec<ChartPoint> = input
            .values
            .iter()
            .enumerate()
            .map(|(index, value)| ChartPoint::new(at(index), *value))
            .collect();
        let (_, evaluations) = evaluate(&design, SHIFT, &points);
        let mut judged = Vec::with_capacity(evaluations.len());
        for one in &evaluations {
            judged.push(Evaluated {
                ewma: one.ewma,
                ewma_half_width: one.ewma_half_width,
                raising: fired(one.firings()),
                advisory: fired(one.advisory()),
            });
        }
        let places =
            |is: &dyn Fn(usize) -> bool| (0..input.values.len()).filter(|i| is(*i)).collect();
        let moving_range_limit = sigma * (d2(2) + wide * d3(2));
        let of = |index: usize| input.values[index];
        Ok(ChartOutput {
            lower_control_limit: limits.lower_control_limit,
            upper_control_limit: limits.upper_control_limit,
            moving_range_center: sigma * d2(2),
            moving_range_limit,
            beyond: places(&|i| {
                of(i) > limits.upper_control_limit || of(i) < limits.lower_control_limit
            }),
            moving_range_beyond: places(&|i| {
                i > 0 && (of(i) - of(i - 1)).abs() > moving_range_limit
            }),
            points: judged,
        })
    }
}

/// The distance of points without times.
pub const SHIFT: SignedDuration = SignedDuration::from_hours(8);

/// When a point without a time is taken to be.
pub fn at(index: usize) -> Timestamp {
    let index = i32::try_from(index).unwrap_or(i32::MAX);
    Timestamp::UNIX_EPOCH.checked_add(SHIFT.saturating_mul(index)).unwrap_or(Timestamp::MAX)
}

struct Subgroups;

/// Checks with their readings.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SubgroupInput {
    /// The readings of each check, two at least in each; twenty checks at least.
    checks: Vec<Vec<f64>>,
    /// How the scatter is charted.
    #[serde(default = "by_range")]
    spread: Word<Spread>,
    /// Half-width of the limits, in sigmas.
    #[serde(default = "multiplier")]
    #[schemars(extend("exclusiveMinimum" = 0))]
    multiplier: f64,
    /// Readings in a check that the limits are for.
    #[schemars(range(min = 2, max = 100))]
    n: usize,
}

fn by_range() -> Word<Spread> {
    Word(Spread::Range)
}

/// Limits of means and of their scatter.
#[derive(Debug, Serialize, JsonSchema)]
struct SubgroupOutput {
    /// Standard deviation of a reading within a check.
    within: f64,
    /// Standard deviation of checks beside that of their readings.
    between: f64,
    /// Lower limit, centre and upper limit of means if checks differed by their readings alone.
    mean: [f64; 3],
    /// The same from all that varies between checks.
    mean_with_between: [f64; 3],
    /// The same of the range or standard deviation within a check.
    spread: [f64; 3],
    /// Checks whose own scatter is beyond these limits, by their place from 0: with another number of readings
    /// than n they are held against limits of their own.
    scatter_beyond: Vec<usize>,
}

impl Compute for Subgroups {
    const NAME: &'static str = "subgroup-limits";
    const ABOUT: &'static str = "limits of means of repeated readings and of their scatter";
    type Input = SubgroupInput;
    type Output = SubgroupOutput;

    fn compute(input: SubgroupInput) -> Result<SubgroupOutput, String> {
        let spread = input.spread.0;
        let wide = positive("the multiplier", input.multiplier)?;
        let slices: Vec<&[f64]> = input.checks.iter().map(Vec::as_slice).collect();
        let study = study_subgroups(&slices, spread).map_err(said)?;
        let lines = |lines: vaaka_core::chart::Lines| [lines.lower, lines.center, lines.upper];
        let of_spread = study
            .spread_lines(input.n, spread, wide)
            .ok_or_else(|| format!("n is {}: give a whole number from 2 to 100", input.n))?;
        Ok(SubgroupOutput {
            within: study.within,
            between: study.between,
            mean: lines(study.mean_lines(input.n, wide)),
            mean_with_between: lines(study.between_lines(input.n, wide)),
            spread: lines(of_spread),
            scatter_beyond: input
                .checks
                .iter()
                .enumerate()
                .filter(|(_, check)| study.scatter_is_beyond(check, spread, wide))
                .map(|(place, _)| place)
                .collect(),
        })
    }
}

struct Constants;

/// Size of a subgroup.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Size {
    /// Values in a subgroup.
    #[schemars(range(min = 2, max = 100))]
    n: usize,
}

/// Constants of subgroups of normal data.
#[derive(Debug, Serialize, JsonSchema)]
struct ConstantsOutput {
    /// Mean range, in sigmas.
    d2: f64,
    /// Standard deviation of the range.
    d3: f64,
    /// Mean of the standard deviation.
    c4: f64,
}

impl Compute for Constants {
    const NAME: &'static str = "chart-constants";
    const ABOUT: &'static str = "d2, d3 and c4 of subgroups of normal data";
    type Input = Size;
    type Output = ConstantsOutput;

    fn compute(Size { n }: Size) -> Result<ConstantsOutput, String> {
        if !(2..=100).contains(&n) {
            return Err(format!("n is {n}: give a whole number from 2 to 100"));
        }
        Ok(ConstantsOutput { d2: d2(n), d3: d3(n), c4: c4(n) })
    }
}

fn reference() -> f64 {
    vaaka_core::chart::CUSUM_REFERENCE
}

fn interval() -> f64 {
    vaaka_core::chart::CUSUM_INTERVAL
}

struct Cusum;

/// Points of a cumulative sum.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CusumInput {
    /// Points in their order.
    values: Vec<f64>,
    /// Centre line.
    center_line: f64,
    /// Standard deviation of a point.
    #[schemars(extend("exclusiveMinimum" = 0))]
    sigma: f64,
    /// Reference value k, in sigmas: half of the shift that is looked for.
    #[serde(default = "reference")]
    #[schemars(range(min = 0, max = 10))]
    k: f64,
    /// Decision interval h, in sigmas.
    #[serde(default = "interval")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 50))]
    h: f64,
    /// Where the sums begin, in sigmas; h/2 for a fast initial response.
    #[serde(default)]
    head_start: f64,
}

/// Both sums, point by point.
#[derive(Debug, Serialize, JsonSchema)]
struct CusumOutput {
    /// Upper sums, in sigmas.
    upper: Vec<f64>,
    /// Lower sums, in sigmas.
    lower: Vec<f64>,
    /// Points at which a sum is beyond h.
    signals: Vec<CusumFired>,
}

/// A sum beyond its interval.
#[derive(Debug, Serialize, JsonSchema)]
struct CusumFired {
    /// Place of the point, from 0.
    point: usize,
    /// above or below.
    side: String,
    /// The shift that the sum suggests, in the unit of the values.
    shift: f64,
    /// First point of the shift, by the sum's own account.
    since: usize,
}

fn standardised(values: &[f64], center: f64, sigma: f64) -> Result<Vec<f64>, String> {
    let sigma = positive("sigma", sigma)?;
    let found: Vec<f64> = values.iter().map(|value| (value - center) / sigma).collect();
    match found.iter().position(|value| !value.is_finite()) {
        Some(index) => Err(format!("the value at place {index} is not finite")),
        None => Ok(found),
    }
}

impl Compute for Cusum {
    const NAME: &'static str = "cusum";
    const ABOUT: &'static str = "tabular cumulative sums with an estimate of the shift";
    type Input = CusumInput;
    type Output = CusumOutput;

    fn compute(input: CusumInput) -> Result<CusumOutput, String> {
        let (reference, interval) = (input.k, input.h);
        let design = CusumDesign { reference, interval, head_start: input.head_start };
        run_length::check_cusum(design).map_err(said)?;
        let mut state = CusumState::new(design);
        let mut output = CusumOutput { upper: vec![], lower: vec![], signals: vec![] };
        let points = standardised(&input.values, input.center_line, input.sigma)?;
        for (point, z) in points.into_iter().enumerate() {
            let signal = state.push(design, z);
            output.upper.push(state.upper.sum);
            output.lower.push(state.lower.sum);
            output.signals.extend(signal.map(|signal| CusumFired {
                point,
                side: signal.side.word().to_owned(),
                shift: signal.shift * input.sigma,
                since: (point + 1).saturating_sub(signal.length as usize),
            }));
        }
        Ok(output)
    }
}

fn lambda() -> f64 {
    EWMA_LAMBDA
}

fn width() -> f64 {
    EWMA_WIDTH
}

struct Ewma;

/// Points of an EWMA.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct EwmaInput {
    /// Points in their order.
    values: Vec<f64>,
    /// Centre line.
    center_line: f64,
    /// Standard deviation of a point.
    #[schemars(extend("exclusiveMinimum" = 0))]
    sigma: f64,
    /// Weight λ of the newest point.
    #[serde(default = "lambda")]
    #[schemars(range(min = 0.001, max = 1))]
    lambda: f64,
    /// Width L of the limits, in standard deviations of the average.
    #[serde(default = "width")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 10))]
    width: f64,
}

/// The average, point by point.
#[derive(Debug, Serialize, JsonSchema)]
struct EwmaOutput {
    /// Averages, in the unit of the values.
    average: Vec<f64>,
    /// Half-widths of the limits about the centre, exact from the first point on.
    half_width: Vec<f64>,
    /// Points at which the average is beyond its limits.
    beyond: Vec<usize>,
}

impl Compute for Ewma {
    const NAME: &'static str = "ewma";
    const ABOUT: &'static str = "exponentially weighted moving average with exact limits";
    type Input = EwmaInput;
    type Output = EwmaOutput;

    fn compute(input: EwmaInput) -> Result<EwmaOutput, String> {
        let design = EwmaDesign { lambda: input.lambda, width: input.width };
        run_length::check_ewma(design).map_err(said)?;
        let mut state = EwmaState::default();
        let mut output = EwmaOutput { average: vec![], half_width: vec![], beyond: vec![] };
        let points = standardised(&input.values, input.center_line, input.sigma)?;
        for (point, z) in points.into_iter().enumerate() {
            let half = state.push(design, z);
            output.average.push(input.center_line + input.sigma * state.z);
            output.half_width.push(input.sigma * half);
            if state.z.abs() > half {
                output.beyond.push(point);
            }
        }
        Ok(output)
    }
}

/// A run length.
#[derive(Debug, Serialize, JsonSchema)]
struct Length {
    /// Points until the first signal, on average.
    average: f64,
    /// Standard deviation of that number.
    standard_deviation: f64,
    /// Points within which one half of all charts has signalled.
    median: f64,
}

impl From<run_length::RunLength> for Length {
    fn from(found: run_length::RunLength) -> Self {
        Self { average: found.average, standard_deviation: found.std_dev, median: found.median }
    }
}

struct RulesLength;

/// Rules and a shift.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RulesInput {
    /// Zone and side rules.
    rules: Vec<Word<ZoneRule>>,
    /// Shift of the mean, in sigmas; zero for the distance of false alarms.
    #[serde(default)]
    #[schemars(range(min = -10, max = 10))]
    shift: f64,
}

impl Compute for RulesLength {
    const NAME: &'static str = "run-length-rules";
    const ABOUT: &'static str = "exact run length of zone and side rules together";
    type Input = RulesInput;
    type Output = Length;

    fn compute(input: RulesInput) -> Result<Length, String> {
        let rules: Vec<Criterion> = input.rules.iter().map(|word| word.0.0).collect();
        Ok(run_length::zone_rules(&rules, input.shift).map_err(said)?.into())
    }
}

struct CusumLength;

/// Cumulative sums and a shift.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CusumLengthInput {
    /// Reference value k, in sigmas: half of the shift that is looked for.
    #[serde(default = "reference")]
    #[schemars(range(min = 0, max = 10))]
    k: f64,
    /// Decision interval h, in sigmas.
    #[serde(default = "interval")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 50))]
    h: f64,
    /// Where the sums begin, in sigmas; h/2 for a fast initial response.
    #[serde(default)]
    head_start: f64,
    /// Shift of the mean, in sigmas.
    #[serde(default)]
    #[schemars(range(min = -10, max = 10))]
    shift: f64,
    /// Which of the two sums are kept.
    #[serde(default = "both_sides")]
    sides: Word<CusumSides>,
}

fn both_sides() -> Word<CusumSides> {
    Word(CusumSides::Both)
}

impl Compute for CusumLength {
    const NAME: &'static str = "run-length-cusum";
    const ABOUT: &'static str = "exact run length of cumulative sums, on both sides or one";
    type Input = CusumLengthInput;
    type Output = Length;

    fn compute(input: CusumLengthInput) -> Result<Length, String> {
        let (reference, interval) = (input.k, input.h);
        let design = CusumDesign { reference, interval, head_start: input.head_start };
        let found = run_length::cusum(design, input.shift, input.sides.0);
        Ok(found.map_err(said)?.into())
    }
}

struct EwmaLength;

/// A drift watcher, limits and a shift.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct EwmaLengthInput {
    /// Weight λ of the newest point.
    #[serde(default = "lambda")]
    #[schemars(range(min = 0.001, max = 1))]
    lambda: f64,
    /// Width L of the limits, in standard deviations of the average.
    #[serde(default = "width")]
    #[schemars(extend("exclusiveMinimum" = 0, "maximum" = 10))]
    width: f64,
    /// Half-width of control limits that signal, too, in sigmas; null for the average alone.
    #[serde(default)]
    multiplier: Option<f64>,
    /// Shift of the mean, in sigmas.
    #[serde(default)]
    #[schemars(range(min = -10, max = 10))]
    shift: f64,
    /// Limits at the first points: those of a segment that begins, exact and narrower at first, or the steady ones of
    /// a chart that has run quietly for long.
    #[serde(default = "of_a_segment")]
    start: Word<EwmaStart>,
}

fn of_a_segment() -> Word<EwmaStart> {
    Word(EwmaStart::Segment)
}

impl Compute for EwmaLength {
    const NAME: &'static str = "run-length-ewma";
    const ABOUT: &'static str =
        "exact run length of the drift watcher, with control limits or alone";
    type Input = EwmaLengthInput;
    type Output = Length;

    fn compute(input: EwmaLengthInput) -> Result<Length, String> {
        let design = EwmaDesign { lambda: input.lambda, width: input.width };
        let found =
            run_length::ewma_with_limits(design, input.multiplier, input.shift, input.start.0);
        Ok(found.map_err(said)?.into())
    }
}

struct Drifting;

/// Points that may drift.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DriftInput {
    /// When each was measured, oldest first, from the likely onset on.
    at: Vec<Moment>,
    /// Values.
    values: Vec<f64>,
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
}

/// A drift and where it leads.
#[derive(Debug, Serialize, JsonSchema)]
struct DriftOutput {
    /// Slope a week.
    per_week: f64,
    /// Lower end of its 95 % interval.
    per_week_low: f64,
    /// Upper end.
    per_week_high: f64,
    /// Level of the line at the newest point.
    level_now: f64,
    /// When it meets the limit it runs towards; null when not within a year.
    crosses_at: Option<Moment>,
    /// With the steeper end of the interval.
    crosses_earliest: Option<Moment>,
    /// With the flatter end; null when not within a year.
    crosses_latest: Option<Moment>,
}

impl Compute for Drifting {
    const NAME: &'static str = "drift";
    const ABOUT: &'static str = "slope a week with its interval, and when it meets the tolerance";
    type Input = DriftInput;
    type Output = DriftOutput;

    fn compute(input: DriftInput) -> Result<DriftOutput, String> {
        if input.at.len() != input.values.len() {
            let (at, values) = (input.at.len(), input.values.len());
            return Err(format!("{at} times and {values} values: give as many of each"));
        }
        if input.lower.zip(input.upper).is_some_and(|(lower, upper)| lower >= upper) {
            return Err(said(StatsError::CrossedLimits));
        }
        let points: Vec<(Timestamp, f64)> =
            input.at.iter().map(|at| at.0).zip(input.values.iter().copied()).collect();
        if points.windows(2).any(|pair| pair[1].0 < pair[0].0) {
            return Err("the times are not in order: give the oldest first".to_owned());
        }
        let found = estimate_drift(&points, input.lower, input.upper).map_err(said)?;
        Ok(DriftOutput {
            per_week: found.per_week,
            per_week_low: found.per_week_low,
            per_week_high: found.per_week_high,
            level_now: found.level_now,
            crosses_at: found.crossing.map(|crossing| Moment(crossing.at)),
            crosses_earliest: found.crossing.map(|crossing| Moment(crossing.earliest)),
            crosses_latest: found.crossing.and_then(|crossing| crossing.latest).map(Moment),
        })
    }
}

#[cfg(test)]
mod tests {
    fn run(name: &str, input: &str) -> Result<serde_json::Value, String> {
        let found = super::super::all().into_iter().find(|one| one.name == name).unwrap();
        found.run(input).map(|text| serde_json::from_str(&text).unwrap())
    }

    /// The same core as the application: a point beyond the limits, and the rule's own points.
    #[test]
    fn a_chart_point_by_point() {
        let input = r#"{"values":[0,0.5,-0.5,2.2,0.1,2.3,4.5],"center_line":0,"sigma":1}"#;
        let found = run("chart", input).unwrap();
        assert_eq!(found["upper_control_limit"], 3.25);
        assert_eq!(
            (&found["beyond"], &found["moving_range_beyond"]),
            (&serde_json::json!([6]), &serde_json::json!([]))
        );
        // (2/√π + 3.25·d₃)·σ with d₃(2) = 0.8525 (ISO 7870-2 prints 0.853; from memory).
        let range = found["moving_range_limit"].as_f64().unwrap();
        assert!(
            (range - (std::f64::consts::FRAC_2_SQRT_PI + 3.25 * 0.852_502)).abs() < 1e-4,
            "{range}"
        );
        assert_eq!(found["points"][6]["raising"][0]["criterion"], "beyond_limits");
        let advisory = found["points"][5]["advisory"].as_array().unwrap();
        let two = advisory.iter().find(|one| one["criterion"] == "two_of_three").unwrap();
        assert_eq!((&two["side"], &two["points"]), (&"above".into(), &serde_json::json!([3, 5])));
    }

    #[test]
    fn sums_and_lengths() {
        let sums = r#"{"values":[1.5,1.5,1.5,1.5,1.5],"center_line":0,"sigma":1}"#;
        let found = run("cusum", sums).unwrap();
        assert_eq!(found["signals"][0]["point"], 4);
        assert_eq!(found["signals"][0]["since"], 0);
        let rules = r#"{"rules":["beyond3"]}"#;
        let length = run("run-length-rules", rules).unwrap()["average"].as_f64().unwrap();
        assert!((length - 370.4).abs() < 0.01, "{length}");
        let both = run("run-length-ewma", r#"{"multiplier":3.25}"#).unwrap();
        assert!((500.0..515.0).contains(&both["average"].as_f64().unwrap()), "{both}");
        let slow = run("run-length-ewma", r#"{"width":3.1,"lambda":0.003,"start":"steady"}"#);
        let slow = slow.unwrap()["average"].as_f64().unwrap();
        assert!((slow / 21_013.0 - 1.0).abs() < 1e-3, "{slow}");
        let one = run("run-length-cusum", r#"{"h":4,"sides":"upper"}"#).unwrap();
        let two = run("run-length-cusum", r#"{"h":4}"#).unwrap();
        let ratio = one["average"].as_f64().unwrap() / two["average"].as_f64().unwrap();
        assert!((ratio - 2.0).abs() < 1e-9, "{one} {two}");
        assert!(two["median"].as_f64().unwrap() < two["average"].as_f64().unwrap(), "{two}");
        let ewma = run("ewma", r#"{"values":[1,1,1],"center_line":0,"sigma":1}"#).unwrap();
        assert!((ewma["average"][2].as_f64().unwrap() - 0.271).abs() < 1e-12, "{ewma}");
        let n = run("chart-constants", r#"{"n":5}"#).unwrap();
        assert!((n["d2"].as_f64().unwrap() - 2.325_929).abs() < 1e-6);
    }

    #[test]
    fn bad_charts_are_said() {
        for (name, input, said) in [
            ("chart", r#"{"values":[],"center_line":0,"sigma":1}"#, "no points"),
            ("chart", r#"{"values":[1],"center_line":0,"sigma":0}"#, "sigma is 0"),
            ("chart-limits", r#"{"values":[1,2]}"#, "2 shifts are in this baseline"),
            ("cusum", r#"{"values":[1],"center_line":0,"sigma":1,"h":0}"#, "h is 0"),
            ("ewma", r#"{"values":[1],"center_line":0,"sigma":1,"lambda":2}"#, "λ is 2"),
            ("run-length-rules", r#"{"rules":["six_trending"]}"#, "no rule that has an exact"),
            ("run-length-rules", r#"{"rules":["moon"]}"#, "“moon” is no rule"),
            ("run-length-ewma", r#"{"lambda":0.0001}"#, "λ is 0.0001"),
            ("run-length-ewma", r#"{"width":9}"#, "as good as never"),
            ("run-length-cusum", r#"{"k":0.5,"h":50}"#, "as good as never"),
            ("run-length-cusum", r#"{"sides":"left"}"#, "give one of both, upper, lower"),
            ("subgroup-limits", r#"{"checks":[[1,2]],"n":2}"#, "at least 20"),
            ("chart-constants", r#"{"n":1}"#, "from 2 to 100"),
            ("drift", r#"{"at":["soon"],"values":[1]}"#, "no time"),
            ("drift", r#"{"at":[],"values":[]}"#, "0 points are too few"),
            ("drift", r#"{"at":[],"values":[],"lower":2,"upper":1}"#, "right way round"),
        ] {
            let found = run(name, input).unwrap_err();
            assert!(found.contains(said), "{name}: {found}");
        }
    }
}
