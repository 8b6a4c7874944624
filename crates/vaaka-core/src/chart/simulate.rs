//! What a whole design does, all its criteria together: run lengths and detection, for steps and drifts.
//!
//! Where there is an exact form it is taken from [`super::run_length`]; where there is none (trends,
//! alternation, zone rules beside a watcher, any drift) the fold itself runs over seeded normal values,
//! and the answer has its standard error. The two are never mixed without a mark. Run lengths in control
//! are told from the start of a segment on, with the exact limits of the slow average that the fold uses; those
//! after a change speak of a chart that has run quietly for long.

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use super::run_length::{
    CusumSides, EwmaStart, RunLength, RunLengthError, cusum, ewma_with_limits, upper_tail,
    zone_rules,
};
use super::{
    ChartDesign, ChartPoint, ChartState, Criteria, Criterion, Level, Levels, LimitBasis, Scatter,
    SigmaSource,
};
use crate::stats::{mean, mean_moving_range, sample_std_dev};

/// What happens to the level of an instrument.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Change {
    /// Nothing: every signal is a false alarm.
    None,
    /// A step, from the first point on.
    Step {
        /// Its size in sigmas.
        sigmas: f64,
    },
    /// A linear drift, from the first point on.
    Drift {
        /// Change from one check to the next, in sigmas.
        sigmas_a_check: f64,
    },
}

impl Change {
    fn at(self, index: u32) -> f64 {
        match self {
            Self::None => 0.0,
            Self::Step { sigmas } => sigmas,
            Self::Drift { sigmas_a_check } => sigmas_a_check * f64::from(index + 1),
        }
    }

    /// From where on a run is counted: the start of a segment for false alarms, a quiet chart for a change.
    fn start(self) -> EwmaStart {
        match self {
            Self::None => EwmaStart::Segment,
            Self::Step { .. } | Self::Drift { .. } => EwmaStart::Steady,
        }
    }

    fn size(self) -> f64 {
        match self {
            Self::None => 0.0,
            Self::Step { sigmas } => sigmas,
            Self::Drift { sigmas_a_check } => sigmas_a_check,
        }
    }
}

/// A run length, and how it is known.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Estimate {
    /// Points until the first signal, on average.
    pub average: f64,
    /// Standard deviation of that number.
    pub std_dev: f64,
    /// The number within which one half of all charts has signalled.
    pub median: f64,
    /// Standard error, where it was simulated; none where it is exact.
    pub standard_error: Option<f64>,
    /// True where some runs were stopped before a signal, so that the average is at least this.
    pub at_least: bool,
}

impl From<RunLength> for Estimate {
    fn from(RunLength { average, std_dev, median }: RunLength) -> Self {
        Self { average, std_dev, median, standard_error: None, at_least: false }
    }
}

/// What is not part of a design and yet matters to its run length.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Circumstances {
    /// Readings in a check, for the chart of their scatter.
    pub readings: u32,
    /// Levels in a check, for the chart of all of them together.
    pub levels: u32,
    /// How much neighbouring checks resemble each other: ρ of a first-order autoregression, −1 < ρ < 1.
    pub autocorrelation: f64,
}

impl Default for Circumstances {
    fn default() -> Self {
        Self { readings: 1, levels: 1, autocorrelation: 0.0 }
    }
}

/// Longest run that a simulation follows.
const LONGEST: u32 = 20_000;

/// Seed and number of runs of a simulation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Runs {
    /// Seed.
    pub seed: u64,
    /// Runs.
    pub runs: u32,
}

/// Those that pages show, always the same, so that nothing flickers.
impl Default for Runs {
    fn default() -> Self {
        Self { seed: 20, runs: 400 }
    }
}

/// Run length of a design, all raising criteria together: exact where that is possible, else simulated with
/// its standard error.
///
/// # Errors
/// [`RunLengthError::Nothing`] when nothing raises a signal; [`RunLengthError::Number`] for a change that is
/// not finite.
pub fn run_length_of(
    design: &ChartDesign,
    change: Change,
    around: Circumstances,
) -> Result<Estimate, RunLengthError> {
    run_length_by(design, change, around, Runs::default())
}

/// The same with runs and seed of one's own, where it has to be simulated.
///
/// # Errors
/// As [`run_length_of`].
pub fn run_length_by(
    design: &ChartDesign,
    change: Change,
    around: Circumstances,
    runs: Runs,
) -> Result<Estimate, RunLengthError> {
    let standard = standardised(design);
    match exact(&standard, change)? {
        Some(length) if around.autocorrelation == 0.0 => Ok(length.into()),
        _ => simulated(&standard, change, around, runs),
    }
}

/// The design about zero with a sigma of one.
fn standardised(design: &ChartDesign) -> ChartDesign {
    let mut raising = design.raising.both(design.basis.allows());
    if design.resolution_floor {
        raising = raising.without_zones();
    }
    ChartDesign {
        level: Level::Frozen { center_line: 0.0 },
        sigma: 1.0,
        below: design.below / design.sigma,
        above: design.above / design.sigma,
        components: None,
        spread: design.spread.map(|spread| super::SpreadDesign { within: 1.0, ..spread }),
        raising,
        advisory: Criteria::NONE,
        earlier: vec![],
        ..design.clone()
    }
}

/// `None` where there is no exact form.
fn exact(design: &ChartDesign, change: Change) -> Result<Option<RunLength>, RunLengthError> {
    let shift = match change {
        Change::None => 0.0,
        Change::Step { sigmas } => sigmas,
        Change::Drift { .. } => return Ok(None),
    };
    if !change.size().is_finite() || change.size().abs() > 10.0 {
        return Ok(None);
    }
    let raising: Vec<Criterion> = design.raising.iter().collect();
    let even = (design.below - design.above).abs() <= 1e-9 * design.above.abs();
    let limit = design.above;
    Ok(match raising.as_slice() {
        [] => return Err(RunLengthError::Nothing),
        [Criterion::BeyondLimits] => {
            let beyond = upper_tail(design.above - shift) + upper_tail(design.below + shift);
            Some(RunLength::geometric(beyond)?)
        }
        [Criterion::BeyondLimits, Criterion::Ewma] if even => {
            Some(ewma_with_limits(design.ewma, Some(limit), shift, change.start())?)
        }
        [Criterion::Ewma] => Some(ewma_with_limits(design.ewma, None, shift, change.start())?),
        [Criterion::Cusum] => Some(cusum(design.cusum, shift, CusumSides::Both)?),
        rules if design.basis != LimitBasis::Levels => match zone_rules(rules, shift) {
            Ok(length) => Some(length),
            Err(RunLengthError::NoZoneRule { .. }) => None,
            Err(error) => return Err(error),
        },
        _ => None,
    })
}

/// Run length by running the fold over normal values.
///
/// # Errors
/// As [`run_length_of`].
pub fn simulated(
    design: &ChartDesign,
    change: Change,
    around: Circumstances,
    runs: Runs,
) -> Result<Estimate, RunLengthError> {
    let design = standardised(design);
    guard(&design, change)?;
    let mut source = Source::new(runs.seed, around);
    let mut lengths: Vec<u32> = Vec::with_capacity(runs.runs as usize);
    for _ in 0..runs.runs {
        source.begin();
        let mut state = match change.start() {
            EwmaStart::Segment => ChartState::new(SHIFT),
            EwmaStart::Steady => ChartState::steady(SHIFT),
        };
        let length = (0..LONGEST)
            .find(|index| {
                let point = source.point(*index, change.at(*index));
                !state.push(&design, &point).firings().is_empty()
            })
            .map_or(LONGEST, |index| index + 1);
        lengths.push(length);
    }
    Ok(summary(lengths))
}

/// What simulated run lengths come to.
fn summary(mut lengths: Vec<u32>) -> Estimate {
    lengths.sort_unstable();
    let n = lengths.len().max(2) as f64;
    let average = lengths.iter().map(|length| f64::from(*length)).sum::<f64>() / n;
    let squares: f64 = lengths.iter().map(|length| (f64::from(*length) - average).powi(2)).sum();
    let std_dev = (squares / (n - 1.0)).sqrt();
    Estimate {
        average,
        std_dev,
        median: lengths.get(lengths.len().saturating_sub(1) / 2).copied().map_or(0.0, f64::from),
        standard_error: Some(std_dev / n.sqrt()),
        at_least: lengths.last() == Some(&LONGEST),
    }
}

fn guard(design: &ChartDesign, change: Change) -> Result<(), RunLengthError> {
    if design.raising.is_empty() {
        return Err(RunLengthError::Nothing);
    }
    if !change.size().is_finite() {
        return Err(RunLengthError::Number {
            what: "the change",
            value: change.size(),
            wanted: "of sigmas that is finite",
        });
    }
    Ok(())
}

/// What a design makes of a change after a quiet time.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Detection {
    /// Share of the runs in which it was seen within the checks watched, on its own side.
    pub found: f64,
    /// Standard error of that share, √(p(1 − p)/n).
    pub found_standard_error: f64,
    /// Checks until it was seen, median over the runs in which it was; none where it never was.
    pub delay: Option<Delay>,
    /// Signals in a thousand checks of the quiet time.
    pub false_alarms: f64,
    /// Standard error of that number.
    pub false_alarms_standard_error: f64,
}

/// A median with what it is uncertain by.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Delay {
    /// Median.
    pub median: f64,
    /// Lower end of its 95 % interval, an order statistic.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

impl Delay {
    /// The median of sorted values, with the order statistics n/2 ± 0.98·√n about it (the binomial interval of a
    /// quantile).
    fn of(sorted: &[u32]) -> Option<Self> {
        let n = sorted.len();
        let reach = 0.98 * (n as f64).sqrt();
        let at = |place: f64| {
            let place = place.round().clamp(0.0, n.saturating_sub(1) as f64) as usize;
            sorted.get(place).copied().map(f64::from)
        };
        let middle = n as f64 / 2.0;
        Some(Self {
            median: at((middle - 0.5).floor())?,
            low: at(middle - reach - 1.0)?,
            high: at(middle + reach)?,
        })
    }
}

/// Runs a design over `quiet` checks in control and `watch` checks after the change, many times.
/// A signal that was opened before the change is no finding; a new one on the side of the change is.
///
/// # Errors
/// As [`run_length_of`].
pub fn detection(
    design: &ChartDesign,
    change: Change,
    (quiet, watch): (u32, u32),
    runs: Runs,
) -> Result<Detection, RunLengthError> {
    let design = standardised(design);
    guard(&design, change)?;
    let mut source = Source::new(runs.seed, Circumstances::default());
    let (mut delays, mut alarms) = (Vec::new(), Vec::new());
    for _ in 0..runs.runs {
        let mut state = ChartState::new(SHIFT);
        let mut opened = 0_u32;
        for index in 0..quiet {
            let evaluation = state.push(&design, &source.point(index, 0.0));
            let opens = |change: &&super::SignalChange| {
                matches!(change, super::SignalChange::Opened { .. })
            };
            opened += evaluation.changes().iter().filter(opens).count() as u32;
        }
        alarms.push(f64::from(opened));
        let side = if change.size() >= 0.0 { super::Side::Above } else { super::Side::Below };
        let found = (0..watch).find(|index| {
            let point = source.point(quiet + index, change.at(*index));
            let evaluation = state.push(&design, &point);
            evaluation.firings().iter().any(|firing| firing.side.is_none_or(|own| own == side))
        });
        if let Some(index) = found {
            delays.push(index + 1);
        }
    }
    delays.sort_unstable();
    let n = f64::from(runs.runs.max(1));
    let found = delays.len() as f64 / n;
    let per_thousand = 1_000.0 / f64::from(quiet.max(1));
    let mean = alarms.iter().sum::<f64>() / n;
    let variance = alarms.iter().map(|own| (own - mean).powi(2)).sum::<f64>() / (n - 1.0).max(1.0);
    Ok(Detection {
        found,
        found_standard_error: (found * (1.0 - found) / n).sqrt(),
        delay: Delay::of(&delays),
        false_alarms: per_thousand * mean,
        false_alarms_standard_error: per_thousand * (variance / n).sqrt(),
    })
}

/// Checks within which the chance of a false signal is told.
pub const HUNDRED: u32 = 100;

/// What limits from few checks do in control, beside what the same limits would do if centre and sigma were
/// known. It is simulated as it happens: a baseline is drawn, its limits are formed, and the chart goes on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Estimated {
    /// Share of charts with a false signal within [`HUNDRED`] checks.
    pub within: f64,
    /// Its standard error.
    pub within_standard_error: f64,
    /// The same share with known centre and sigma, of independent checks.
    pub within_if_known: f64,
    /// Run length over all baselines: the median is that of half of all charts, and the average is drawn up by
    /// the few that came out wide.
    pub length: Estimate,
}

/// What limits from a baseline of `points` checks do. `around` says how much neighbouring checks resemble each
/// other; `source` how sigma was estimated. A sigma that was given is taken as known.
///
/// # Errors
/// As [`run_length_of`].
pub fn with_estimated_limits(
    design: &ChartDesign,
    source: SigmaSource,
    points: usize,
    around: Circumstances,
    runs: Runs,
) -> Result<Estimated, RunLengthError> {
    let standard = standardised(design);
    guard(&standard, Change::None)?;
    let lengths = first_signals(&standard, source, points, around, runs, LONGEST);
    let n = f64::from(runs.runs.max(1));
    let within = lengths.iter().filter(|length| **length <= HUNDRED).count() as f64 / n;
    let mut known = Source::new(runs.seed, Circumstances { autocorrelation: 0.0, ..around });
    let mut signalled = 0_u32;
    for _ in 0..runs.runs {
        let mut state = ChartState::new(SHIFT);
        let seen = (0..HUNDRED)
            .any(|index| !state.push(&standard, &known.point(index, 0.0)).firings().is_empty());
        signalled += u32::from(seen);
    }
    Ok(Estimated {
        within,
        within_standard_error: (within * (1.0 - within) / n).sqrt(),
        within_if_known: f64::from(signalled) / n,
        length: summary(lengths),
    })
}

/// Share of charts with a false signal within [`HUNDRED`] checks, as [`with_estimated_limits`], for a hundredth of
/// its work: the runs end there.
///
/// # Errors
/// As [`run_length_of`].
pub fn falsely_within_hundred(
    design: &ChartDesign,
    source: SigmaSource,
    points: usize,
    around: Circumstances,
    runs: Runs,
) -> Result<f64, RunLengthError> {
    let standard = standardised(design);
    guard(&standard, Change::None)?;
    let lengths = first_signals(&standard, source, points, around, runs, HUNDRED + 1);
    let found = lengths.iter().filter(|length| **length <= HUNDRED).count();
    Ok(found as f64 / f64::from(runs.runs.max(1)))
}

/// The check of the first signal behind a baseline of `points` checks, for each run; `longest` where none came
/// before it.
fn first_signals(
    standard: &ChartDesign,
    source: SigmaSource,
    points: usize,
    around: Circumstances,
    runs: Runs,
    longest: u32,
) -> Vec<u32> {
    let mut noise = Source::new(runs.seed, around);
    let mut baseline: Vec<f64> = Vec::with_capacity(points);
    (0..runs.runs)
        .map(|_| {
            noise.begin();
            baseline.clear();
            baseline.extend((0..points).map(|_| noise.noise()));
            let (center, sigma) = estimate(&baseline, source);
            let mut state = ChartState::new(SHIFT);
            (0..longest)
                .find(|index| {
                    let mut point = noise.point(*index, 0.0);
                    point.value = (point.value - center) / sigma;
                    !state.push(standard, &point).firings().is_empty()
                })
                .map_or(longest, |index| index + 1)
        })
        .collect()
}

/// Centre and sigma of a baseline, as limits are formed from it.
fn estimate(baseline: &[f64], source: SigmaSource) -> (f64, f64) {
    let center = mean(baseline).unwrap_or(0.0);
    let sigma = match source {
        SigmaSource::MovingRange => {
            mean_moving_range(&[baseline]).map(|range| range / super::constants::D2_OF_TWO)
        }
        SigmaSource::SampleStdDev => sample_std_dev(baseline),
        SigmaSource::Resolution | SigmaSource::Given => Ok(1.0),
    };
    (center, sigma.unwrap_or(1.0).max(f64::MIN_POSITIVE))
}

/// By how much all limits of a design are to be widened so that checks which resemble their neighbours by
/// `autocorrelation` give as few false alarms as independent ones would with the limits as they are, and what that costs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Widened {
    /// Factor of all widths.
    pub factor: f64,
    /// Run length in control without it.
    pub before: Estimate,
    /// Run length in control with it.
    pub after: Estimate,
    /// After a step of one sigma, without it.
    pub step_before: Estimate,
    /// After a step of one sigma, with it.
    pub step_after: Estimate,
}

/// All widths of a design times a factor.
#[must_use]
pub fn widened_by(design: &ChartDesign, factor: f64) -> ChartDesign {
    let mut design = design.clone();
    design.multiplier *= factor;
    design.below *= factor;
    design.above *= factor;
    design.ewma.width *= factor;
    design.cusum.interval *= factor;
    design
}

/// Finds the factor by bisection over the same seeded values, so that wider limits never give more alarms.
///
/// # Errors
/// As [`run_length_of`].
pub fn widened_for(
    design: &ChartDesign,
    around: Circumstances,
    runs: Runs,
) -> Result<Widened, RunLengthError> {
    let target =
        run_length_of(design, Change::None, Circumstances { autocorrelation: 0.0, ..around })?
            .average;
    let of = |factor: f64| simulated(&widened_by(design, factor), Change::None, around, runs);
    let step = |factor: f64| {
        simulated(&widened_by(design, factor), Change::Step { sigmas: 1.0 }, around, runs)
    };
    let before = of(1.0)?;
    let (mut low, mut high) = (1.0, 4.0);
    if before.average >= target {
        high = 1.0;
    }
    // Twelve halvings of three leave a thousandth, finer than the simulation.
    for _ in 0..12 {
        let middle = f64::midpoint(low, high);
        if of(middle)?.average < target {
            low = middle;
        } else {
            high = middle;
        }
    }
    Ok(Widened {
        factor: high,
        before,
        after: of(high)?,
        step_before: step(1.0)?,
        step_after: step(high)?,
    })
}

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

/// Seeded normal values as points.
struct Source {
    random: ChaCha8Rng,
    spare: Option<f64>,
    around: Circumstances,
    /// The noise of the check before; none at the start of a run.
    before: Option<f64>,
}

impl Source {
    fn new(seed: u64, around: Circumstances) -> Self {
        Self { random: ChaCha8Rng::seed_from_u64(seed), spare: None, around, before: None }
    }

    /// Box and Muller 1958, both of each pair.
    fn normal(&mut self) -> f64 {
        if let Some(spare) = self.spare.take() {
            return spare;
        }
        let radius = (-2.0 * (1.0 - self.random.random::<f64>()).ln()).sqrt();
        let angle = std::f64::consts::TAU * self.random.random::<f64>();
        self.spare = Some(radius * angle.sin());
        radius * angle.cos()
    }

    /// Noise of the next check, xᵢ = ρ·xᵢ₋₁ + √(1 − ρ²)·eᵢ, of standard deviation one.
    fn noise(&mut self) -> f64 {
        let fresh = self.normal();
        let rho = self.around.autocorrelation;
        if rho == 0.0 {
            return fresh;
        }
        let noise =
            self.before.map_or(fresh, |before| rho * before + (1.0 - rho * rho).sqrt() * fresh);
        self.before = Some(noise);
        noise
    }

    /// Another run: nothing of the one before is left.
    fn begin(&mut self) {
        self.before = None;
    }

    fn point(&mut self, index: u32, shift: f64) -> ChartPoint {
        let at = Timestamp::from_second(i64::from(index) * 8 * 3_600).unwrap_or(Timestamp::MAX);
        if self.around.levels > 1 {
            let z: Vec<f64> = (0..self.around.levels).map(|_| shift + self.normal()).collect();
            let levels = Levels::of(&z);
            let furthest = levels.map_or(0.0, |levels| levels.furthest());
            return ChartPoint { levels, ..ChartPoint::new(at, furthest) };
        }
        let value = shift + self.noise();
        if self.around.readings < 2 {
            return ChartPoint::new(at, value);
        }
        let readings: Vec<f64> = (0..self.around.readings).map(|_| self.normal()).collect();
        ChartPoint {
            readings: self.around.readings,
            scatter: Scatter::of(&readings),
            ..ChartPoint::new(at, value)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn design(raising: &[Criterion]) -> ChartDesign {
        ChartDesign { raising: raising.iter().copied().collect(), ..ChartDesign::given(7.0, 0.5) }
    }

    use Criterion as C;

    /// What has an exact form is exact, and the simulation agrees with it within four standard errors:
    /// the whole fold is held against the integral equations and the Markov chain.
    #[rstest]
    #[case(&[C::BeyondLimits], Change::None)]
    #[case(&[C::BeyondLimits, C::Ewma], Change::Step { sigmas: 1.0 })]
    #[case(&[C::Ewma], Change::Step { sigmas: -0.75 })]
    #[case(&[C::Cusum], Change::Step { sigmas: 1.0 })]
    #[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], Change::None)]
    fn simulation_agrees_with_what_is_exact(#[case] raising: &[Criterion], #[case] change: Change) {
        let design = design(raising);
        let exact = run_length_of(&design, change, Circumstances::default()).unwrap();
        assert_eq!((exact.standard_error, exact.at_least), (None, false));
        let found =
            simulated(&design, change, Circumstances::default(), Runs { seed: 3, runs: 3_000 })
                .unwrap();
        let error = found.standard_error.unwrap();
        assert!((found.average - exact.average).abs() < 4.0 * error, "{found:?} beside {exact:?}");
    }

    /// Limits at ±3 alone: 1/(2Φ(−3)) = 370.4.
    #[test]
    fn limits_alone() {
        let mut three = design(&[C::BeyondLimits]);
        (three.below, three.above) = (1.5, 1.5);
        let found = run_length_of(&three, Change::None, Circumstances::default()).unwrap();
        assert!((found.average - 370.398).abs() < 0.001, "{found:?}");
        // One side alone has twice that.
        three.below = 1e6;
        let found = run_length_of(&three, Change::None, Circumstances::default()).unwrap();
        assert!((found.average - 740.797).abs() < 0.001, "{found:?}");
    }

    /// All eight of Nelson's together: Nelson 1984 gives no run length; the chain knows part of them, and
    /// adding rules can only shorten.
    #[test]
    fn rules_without_an_exact_form_are_simulated() {
        let all: Vec<Criterion> = super::super::RuleSet::Nelson.rules().to_vec();
        let found = run_length_of(&design(&all), Change::None, Circumstances::default()).unwrap();
        let error = found.standard_error.unwrap();
        let zones = zone_rules(&[C::Beyond3, C::TwoOfThree, C::FourOfFive], 0.0).unwrap().average;
        assert!(found.average + 2.0 * error < zones, "{found:?} beside {zones}");
        assert!(error > 0.0 && error < 0.1 * found.average);
        // The same each time: nothing flickers on a page.
        assert_eq!(
            found,
            run_length_of(&design(&all), Change::None, Circumstances::default()).unwrap()
        );
    }

    /// A drift is seen the sooner the steeper it is, and the default design sees a slow one sooner than
    /// limits alone.
    #[test]
    fn drifts() {
        let of = |raising: &[Criterion], slope| {
            let change = Change::Drift { sigmas_a_check: slope };
            run_length_of(&design(raising), change, Circumstances::default()).unwrap().average
        };
        let both = [C::BeyondLimits, C::Ewma];
        assert!(of(&both, 0.2) < of(&both, 0.05));
        assert!(of(&both, 0.05) + 5.0 < of(&[C::BeyondLimits], 0.05));
    }

    /// Five readings a check: a chart of their scatter alone at ±3 of its own deviations has false alarms
    /// a little more often than one in 370, since scatter is skewed (Montgomery's textbook; from memory).
    #[test]
    fn scatter_and_levels_take_part() {
        let spread = super::super::SpreadDesign {
            within: 0.2,
            by: super::super::Spread::Range,
            multiplier: 3.0,
        };
        let around = Circumstances { readings: 5, ..Circumstances::default() };
        let of_range = ChartDesign { spread: Some(spread), ..design(&[C::Spread]) };
        let found = run_length_of(&of_range, Change::None, around).unwrap();
        assert!((150.0..300.0).contains(&found.average), "{found:?}");
        // Two levels beyond 2σ on one side, of two: 2·Φ(−2)² = 1 in 966.
        let around = Circumstances { levels: 2, ..Circumstances::default() };
        let mut levels = ChartDesign::levels();
        levels.raising = Criteria::NONE.with(C::TwoLevelsBeyond2);
        let found = run_length_of(&levels, Change::None, around).unwrap();
        let error = found.standard_error.unwrap();
        assert!((found.average - 966.1).abs() < 4.0 * error, "{found:?}");
    }

    /// Limits from 20, 50 and 150 independent shifts: a false signal within a hundred checks in 47, 34 and 24 % of
    /// charts, 18 % with known limits (an independent simulation of 20 000 charts each); checks that resemble their
    /// neighbours shorten the run length to a fraction.
    #[rstest]
    #[case(20, 0.47)]
    #[case(50, 0.34)]
    #[case(150, 0.24)]
    fn limits_from_few_shifts(#[case] points: usize, #[case] share: f64) {
        let design = design(&[C::BeyondLimits, C::Ewma]);
        let (around, source) = (Circumstances::default(), SigmaSource::MovingRange);
        let runs = Runs { seed: 5, runs: 500 };
        let found = with_estimated_limits(&design, source, points, around, runs).unwrap();
        assert!((found.within - share).abs() < 4.0 * found.within_standard_error, "{found:?}");
        assert!((found.within_if_known - 0.18).abs() < 0.05, "{found:?}");
        // The median falls short of the average, which a few wide charts draw up.
        assert!(found.length.median < 0.6 * found.length.average, "{found:?}");
    }

    /// Known limits, ρ = 0.3: about 160 checks instead of 508 (an independent simulation); the widened limits
    /// bring the rate back and see a step later.
    #[test]
    fn checks_that_resemble_their_neighbours() {
        let design = design(&[C::BeyondLimits, C::Ewma]);
        let around = Circumstances { autocorrelation: 0.3, ..Circumstances::default() };
        let found = widened_for(&design, around, Runs { seed: 4, runs: 600 }).unwrap();
        assert!((130.0..200.0).contains(&found.before.average), "{found:?}");
        assert!((450.0..580.0).contains(&found.after.average), "{found:?}");
        assert!((1.05..1.5).contains(&found.factor), "{found:?}");
        assert!(found.step_after.average > found.step_before.average, "{found:?}");
        // Independent checks need nothing.
        let found = widened_for(&design, Circumstances::default(), Runs { seed: 4, runs: 200 });
        assert!(found.unwrap().factor < 1.1);
    }

    #[test]
    fn what_never_signals_is_said() {
        let none = design(&[]);
        assert_eq!(
            run_length_of(&none, Change::None, Circumstances::default()),
            Err(RunLengthError::Nothing)
        );
        let change = Change::Drift { sigmas_a_check: f64::NAN };
        assert!(run_length_of(&design(&[C::Ewma]), change, Circumstances::default()).is_err());
        // A floor takes the zone rules away; nothing is left.
        let mut coarse = design(&[C::EightOnASide]);
        coarse.resolution_floor = true;
        assert!(run_length_of(&coarse, Change::None, Circumstances::default()).is_err());
    }

    /// A step of one sigma after a quiet time: nearly always found within sixty checks, on its side.
    #[test]
    fn detection_after_a_quiet_time() {
        let design = design(&[C::BeyondLimits, C::Ewma]);
        let runs = Runs { seed: 7, runs: 300 };
        let found = detection(&design, Change::Step { sigmas: -1.0 }, (100, 60), runs).unwrap();
        let delay = found.delay.unwrap();
        assert!(found.found > 0.97 && delay.median < 20.0, "{found:?}");
        assert!(delay.low <= delay.median && delay.median <= delay.high, "{found:?}");
        assert!((0.5..5.0).contains(&found.false_alarms), "{found:?}");
        let nothing = detection(&design, Change::None, (100, 1), runs).unwrap();
        assert!(nothing.found < 0.03, "{nothing:?}");
        // What was never found has no delay.
        let far = ChartDesign { below: 50.0, above: 50.0, ..self::design(&[C::BeyondLimits]) };
        let never = detection(&far, Change::Step { sigmas: 1.0 }, (10, 5), runs).unwrap();
        assert_eq!((never.found, never.delay), (0.0, None));
    }
}
