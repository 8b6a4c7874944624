//! What a whole design does, all its criteria together: run lengths and detection, for steps and drifts.
//!
//! Where there is an exact form it is taken from [`super::run_length`]; where there is none (trends,
//! alternation, zone rules beside a watcher, any drift) the fold itself runs over seeded normal values,
//! and the answer has its standard error. The two are never mixed without a mark. Both speak of a chart
//! whose slow average has its steady limits; the narrower first ones see a change a little sooner.

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use super::run_length::{RunLengthError, cusum, ewma_with_limits, zone_rules};
use super::{
    ChartDesign, ChartPoint, ChartState, Criteria, Criterion, Level, Levels, LimitBasis, Scatter,
};

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

    fn size(self) -> f64 {
        match self {
            Self::None => 0.0,
            Self::Step { sigmas } => sigmas,
            Self::Drift { sigmas_a_check } => sigmas_a_check,
        }
    }
}

/// An average run length, and how it is known.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Estimate {
    /// Points until the first signal, on average.
    pub average: f64,
    /// Standard error, where it was simulated; none where it is exact.
    pub standard_error: Option<f64>,
    /// True where some runs were stopped before a signal, so that the average is at least this.
    pub at_least: bool,
}

/// What is not part of a design and yet matters to its run length.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Circumstances {
    /// Readings in a check, for the chart of their scatter.
    pub readings: u32,
    /// Levels in a check, for the chart of all of them together.
    pub levels: u32,
}

impl Default for Circumstances {
    fn default() -> Self {
        Self { readings: 1, levels: 1 }
    }
}

/// Longest run that a simulation follows.
const LONGEST: u32 = 20_000;
/// Runs of an estimate.
const RUNS: u32 = 400;
/// Seed of the estimates that pages show, so that they do not flicker.
const SEED: u64 = 20;

/// Average run length of a design, all raising criteria together: exact where that is possible, else
/// simulated with its standard error.
///
/// # Errors
/// [`RunLengthError::Nothing`] when nothing raises a signal; [`RunLengthError::Number`] for a change that is
/// not finite.
pub fn run_length_of(
    design: &ChartDesign,
    change: Change,
    around: Circumstances,
) -> Result<Estimate, RunLengthError> {
    let standard = standardised(design);
    if let Some(average) = exact(&standard, change)? {
        return Ok(Estimate { average, standard_error: None, at_least: false });
    }
    simulated(&standard, change, around, SEED, RUNS)
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
fn exact(design: &ChartDesign, change: Change) -> Result<Option<f64>, RunLengthError> {
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
            let beyond = |edge: f64| 0.5 * statrs::function::erf::erfc(edge / 2.0_f64.sqrt());
            Some(1.0 / (beyond(design.above - shift) + beyond(design.below + shift)))
        }
        [Criterion::BeyondLimits, Criterion::Ewma] if even => {
            Some(ewma_with_limits(design.ewma, Some(limit), shift)?.average)
        }
        [Criterion::Ewma] => Some(ewma_with_limits(design.ewma, None, shift)?.average),
        [Criterion::Cusum] => Some(cusum(design.cusum, shift)?.average),
        rules if design.basis != LimitBasis::Levels => {
            zone_rules(rules, shift).ok().map(|length| length.average)
        }
        _ => None,
    })
}

/// Average run length by running the fold over normal values.
///
/// # Errors
/// As [`run_length_of`].
pub fn simulated(
    design: &ChartDesign,
    change: Change,
    around: Circumstances,
    seed: u64,
    runs: u32,
) -> Result<Estimate, RunLengthError> {
    let design = standardised(design);
    guard(&design, change)?;
    let mut source = Source::new(seed, around);
    let (mut sum, mut squares, mut at_least) = (0.0, 0.0, false);
    for _ in 0..runs {
        let mut state = ChartState::steady(SHIFT);
        let length = (0..LONGEST)
            .find(|index| {
                let point = source.point(*index, change.at(*index));
                !state.push(&design, &point).firings().is_empty()
            })
            .map_or(LONGEST, |index| index + 1);
        at_least |= length == LONGEST;
        sum += f64::from(length);
        squares += f64::from(length).powi(2);
    }
    let n = f64::from(runs.max(2));
    let average = sum / n;
    let variance = ((squares - sum * average) / (n - 1.0)).max(0.0);
    Ok(Estimate { average, standard_error: Some((variance / n).sqrt()), at_least })
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
    /// Checks until it was seen, median over the runs in which it was.
    pub delay: f64,
    /// Signals in a thousand checks of the quiet time.
    pub false_alarms: f64,
}

/// Runs a design over `quiet` checks in control and `watch` checks after the change, `runs` times.
/// A signal that was opened before the change is no finding; a new one on the side of the change is.
///
/// # Errors
/// As [`run_length_of`].
pub fn detection(
    design: &ChartDesign,
    change: Change,
    (quiet, watch): (u32, u32),
    seed: u64,
    runs: u32,
) -> Result<Detection, RunLengthError> {
    let design = standardised(design);
    guard(&design, change)?;
    let mut source = Source::new(seed, Circumstances::default());
    let (mut delays, mut alarms) = (Vec::new(), 0_u32);
    for _ in 0..runs {
        let mut state = ChartState::new(SHIFT);
        for index in 0..quiet {
            let evaluation = state.push(&design, &source.point(index, 0.0));
            let opens = |change: &&super::SignalChange| {
                matches!(change, super::SignalChange::Opened { .. })
            };
            alarms += evaluation.changes().iter().filter(opens).count() as u32;
        }
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
    let middle = delays.get(delays.len() / 2).copied().unwrap_or(watch);
    Ok(Detection {
        found: delays.len() as f64 / f64::from(runs.max(1)),
        delay: f64::from(middle),
        false_alarms: 1_000.0 * f64::from(alarms)
            / (f64::from(quiet.max(1)) * f64::from(runs.max(1))),
    })
}

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

/// Seeded normal values as points.
struct Source {
    random: ChaCha8Rng,
    spare: Option<f64>,
    around: Circumstances,
}

impl Source {
    fn new(seed: u64, around: Circumstances) -> Self {
        Self { random: ChaCha8Rng::seed_from_u64(seed), spare: None, around }
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

    fn point(&mut self, index: u32, shift: f64) -> ChartPoint {
        let at = Timestamp::from_second(i64::from(index) * 8 * 3_600).unwrap_or(Timestamp::MAX);
        if self.around.levels > 1 {
            let z: Vec<f64> = (0..self.around.levels).map(|_| shift + self.normal()).collect();
            let levels = Levels::of(&z);
            let furthest = levels.map_or(0.0, |levels| levels.furthest());
            return ChartPoint { levels, ..ChartPoint::new(at, furthest) };
        }
        let value = shift + self.normal();
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

/// The range of in-control run lengths that limits from `points` baseline checks may really have, at
/// 90 %: sigma was estimated with about `points` − 1 degrees of freedom, and the centre from as many points.
/// From limits that came out narrow about a centre that is off by its own standard error, to wide ones
/// about the right centre.
///
/// # Errors
/// As [`run_length_of`].
pub fn estimation_range(design: &ChartDesign, points: usize) -> Result<(f64, f64), RunLengthError> {
    use statrs::distribution::{ChiSquared, ContinuousCDF};
    let freedom = points.saturating_sub(1).max(2) as f64;
    let quantile =
        |p: f64| ChiSquared::new(freedom).map_or(1.0, |chi| (chi.inverse_cdf(p) / freedom).sqrt());
    let scaled = |ratio: f64| {
        let mut design = design.clone();
        design.below *= ratio;
        design.above *= ratio;
        design.ewma.width *= ratio;
        design.cusum.interval *= ratio;
        design.cusum.reference *= ratio;
        design.cusum.head_start *= ratio;
        design
    };
    let of = |ratio: f64, shift: f64| {
        let change = if shift > 0.0 { Change::Step { sigmas: shift } } else { Change::None };
        run_length_of(&scaled(ratio), change, Circumstances::default())
    };
    let low = of(quantile(0.05), 1.0 / (points.max(1) as f64).sqrt())?.average;
    let high = of(quantile(0.95), 0.0)?.average;
    Ok((low, high))
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
        let found = simulated(&design, change, Circumstances::default(), 3, 3_000).unwrap();
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
        let around = Circumstances { readings: 5, levels: 1 };
        let of_range = ChartDesign { spread: Some(spread), ..design(&[C::Spread]) };
        let found = run_length_of(&of_range, Change::None, around).unwrap();
        assert!((150.0..300.0).contains(&found.average), "{found:?}");
        // Two levels beyond 2σ on one side, of two: 2·Φ(−2)² = 1 in 966.
        let around = Circumstances { readings: 1, levels: 2 };
        let mut levels = ChartDesign::levels();
        levels.raising = Criteria::NONE.with(C::TwoLevelsBeyond2);
        let found = run_length_of(&levels, Change::None, around).unwrap();
        let error = found.standard_error.unwrap();
        assert!((found.average - 966.1).abs() < 4.0 * error, "{found:?}");
    }

    #[test]
    fn twenty_points_leave_the_run_length_wide() {
        let design = design(&[C::BeyondLimits, C::Ewma]);
        let (low, high) = estimation_range(&design, 20).unwrap();
        let (closer, nearer) = estimation_range(&design, 200).unwrap();
        assert!(low < 100.0 && high > 2_000.0, "{low} {high}");
        assert!(low < closer && nearer < high && closer < 508.0 && nearer > 508.0);
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
        let found = detection(&design, Change::Step { sigmas: -1.0 }, (100, 60), 7, 300).unwrap();
        assert!(found.found > 0.97 && found.delay < 20.0, "{found:?}");
        assert!((0.5..5.0).contains(&found.false_alarms), "{found:?}");
        let nothing = detection(&design, Change::None, (100, 1), 7, 300).unwrap();
        assert!(nothing.found < 0.03, "{nothing:?}");
    }
}
