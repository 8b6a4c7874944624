//! What the points of a chart have done, with what is known of its baseline, of the temperature and of its adjustments.

use jiff::Timestamp;

use super::PastPoint;
use crate::adjustment::AppliedCorrection;
use crate::chart::{ChartDesign, Level, MINIMUM_BASELINE_POINTS};
use crate::history::{
    Ground, Influence, LevelEstimate, Shape, ShapeError, ShapeInput, Told, level_now, shape,
};
use crate::stats::{fit_line, mean, sample_std_dev};

/// What a shape is looked at with, besides the points.
#[derive(Debug, Clone, Copy)]
pub struct ShapeAround<'a> {
    /// When something happened to the instrument.
    pub events: &'a [Timestamp],
    /// Lower tolerance limit.
    pub lower: Option<f64>,
    /// Upper tolerance limit.
    pub upper: Option<f64>,
    /// Moments at which the level of a drift is told.
    pub fan: usize,
}

/// What the points of a segment have done, oldest first, from what its design knows: its baseline point by point where
/// that is among them, else what it left behind.
///
/// # Errors
/// [`ShapeError`].
pub fn segment_shape(
    design: &ChartDesign,
    points: &[PastPoint],
    around: &ShapeAround<'_>,
) -> Result<Shape, ShapeError> {
    shape_over_adjustments(design, points, &[], around)
}

/// What an instrument has done over its adjustments: the shape of all points since the baseline of `design`, what each
/// adjustment took away an influence that is known with its uncertainty. An instrument that is adjusted every month still
/// shows its drift. The level, and when it reaches a limit, are those of the instrument as it is adjusted now.
///
/// # Errors
/// [`ShapeError`].
pub fn shape_over_adjustments(
    design: &ChartDesign,
    points: &[PastPoint],
    adjustments: &[AppliedCorrection],
    around: &ShapeAround<'_>,
) -> Result<Shape, ShapeError> {
    let values: Vec<f64> = points.iter().map(|past| past.value).collect();
    let own = own_baseline(design, points, &values);
    let (mut baseline, looked_at) = (values[..own].to_vec(), &points[own..]);
    let mut acting: Vec<Acting> = adjustments
        .iter()
        .filter_map(|one| Acting::of_adjustment(one, looked_at, design.sigma))
        .collect();
    if let Some(effect) = TemperatureEffect::of(design, points, own) {
        baseline.iter_mut().zip(points).for_each(|(value, past)| *value -= effect.on(past));
        acting.push(Acting::of_temperature(&effect, looked_at));
    }
    let influences: Vec<Influence<'_>> = acting.iter().map(Acting::influence).collect();
    let ground = match own {
        0 => known_ground(design, &values),
        _ => Ground::Baseline(&baseline),
    };
    let ShapeAround { events, lower, upper, fan } = *around;
    shape(&ShapeInput {
        events,
        lower,
        upper,
        influences: &influences,
        fan,
        ..input_of(design, ground, &series_of(looked_at))
    })
}

/// How well an adjustment does what was entered: a twentieth of it and a fifth of the usual scatter (common practice, no
/// published source).
const AS_ENTERED: (f64, f64) = (0.05, 0.2);

/// What acts on each of the points that are looked at.
struct Acting {
    acts: Vec<f64>,
    ahead: f64,
    effect: f64,
    standard_uncertainty: f64,
}

impl Acting {
    /// Nothing of an adjustment from before the first of them: it is in their ground.
    fn of_adjustment(made: &AppliedCorrection, on: &[PastPoint], sigma: f64) -> Option<Self> {
        if on.first().is_none_or(|first| made.at < first.measured_at) {
            return None;
        }
        let entered = (AS_ENTERED.0 * made.effect).hypot(AS_ENTERED.1 * sigma);
        Some(Self {
            acts: on.iter().map(|past| f64::from(u8::from(past.measured_at > made.at))).collect(),
            ahead: 1.0,
            effect: made.effect,
            standard_uncertainty: made.variance.sqrt().hypot(entered),
        })
    }

    /// The level that is told is that of the mean temperature.
    fn of_temperature(effect: &TemperatureEffect, on: &[PastPoint]) -> Self {
        Self {
            acts: on.iter().map(|past| effect.degrees(past)).collect(),
            ahead: 0.0,
            effect: effect.per_degree,
            standard_uncertainty: effect.standard_uncertainty,
        }
    }

    fn influence(&self) -> Influence<'_> {
        let Self { ref acts, ahead, effect, standard_uncertainty } = *self;
        Influence { acts, ahead, effect, standard_uncertainty }
    }
}

/// A series on its ground; nothing known besides.
fn input_of<'a>(
    design: &ChartDesign,
    ground: Ground<'a>,
    points: &'a [(Timestamp, f64)],
) -> ShapeInput<'a> {
    ShapeInput {
        ground,
        points,
        events: &[],
        lower: None,
        upper: None,
        resolution: resolution_of(design),
        influences: &[],
        fan: 0,
    }
}

fn series_of(points: &[PastPoint]) -> Vec<(Timestamp, f64)> {
    points.iter().map(|past| (past.measured_at, past.value)).collect()
}

/// Where the display is coarser than the spread, no scatter is smaller than what the limits were frozen with.
fn resolution_of(design: &ChartDesign) -> f64 {
    if design.resolution_floor { design.sigma * 12.0_f64.sqrt() } else { 0.0 }
}

/// Where an instrument stands now, from the points of its segment: what an adjustment corrects. As read: what a degree does
/// is not taken off, for an adjustment made in a warm room is made for a warm room.
#[must_use]
pub fn segment_level(design: &ChartDesign, points: &[PastPoint]) -> LevelEstimate {
    let known = known_chart(design);
    let values: Vec<f64> = points.iter().map(|past| past.value).collect();
    let own = own_baseline(design, points, &values);
    let series = series_of(&points[own..]);
    let ground = match own {
        0 => known_ground(design, &values),
        own => Ground::Baseline(&values[..own]),
    };
    let input = input_of(design, ground, &series);
    // Checks at one moment, or a scatter of nothing: the centre is what is known.
    level_now(&input).unwrap_or(LevelEstimate {
        level: known.center_line,
        standard_uncertainty: known.sigma * known.center_variance.sqrt(),
    })
}

/// Fewest checks with a temperature from which anything is said of its effect.
const FEWEST_TEMPERATURES: usize = 20;
/// Degrees by which temperatures differ at least before they say anything: less is the thermometer's own.
const LEAST_SPREAD: f64 = 0.2;

/// What a degree does to the values of a chart, as far as its baseline knows: a regression of the baseline's values on
/// their temperatures. Where the baseline is not among the points, a degree is only known to do no more than what is usual
/// between checks. It is taken into account when a change is looked for, and no value is ever corrected by it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TemperatureEffect {
    /// Units of the chart per degree.
    pub per_degree: f64,
    /// Standard uncertainty of that.
    pub standard_uncertainty: f64,
    /// Degrees of freedom of it; none where it is not known from the baseline.
    pub degrees_of_freedom: Option<usize>,
    /// Temperature about which it is told, in °C: the mean.
    pub about: f64,
    /// Lowest and highest temperature from which it is known.
    pub span: (f64, f64),
}

impl TemperatureEffect {
    fn of(design: &ChartDesign, points: &[PastPoint], own: usize) -> Option<Self> {
        let from = if own > 0 { &points[..own] } else { points };
        let known: Vec<(f64, f64)> = from
            .iter()
            .filter_map(|past| Some((past.temperature?, past.value)))
            .filter(|(temperature, _)| temperature.is_finite())
            .collect();
        if known.len() < FEWEST_TEMPERATURES || !design.is_statistical() {
            return None;
        }
        let (temperatures, values): (Vec<f64>, Vec<f64>) = known.into_iter().unzip();
        let about = mean(&temperatures).ok()?;
        let spread = sample_std_dev(&temperatures).ok()?;
        if spread < LEAST_SPREAD {
            return None;
        }
        let low = temperatures.iter().copied().fold(f64::INFINITY, f64::min);
        let high = temperatures.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let of = |per_degree, standard_uncertainty, degrees_of_freedom| Self {
            per_degree,
            standard_uncertainty,
            degrees_of_freedom,
            about,
            span: (low, high),
        };
        if own == 0 {
            return Some(of(0.0, design.sigma / spread, None));
        }
        let line = fit_line(&temperatures, &values).ok()?;
        // Values that all agree leave no scatter of which the slope could be uncertain.
        let least = 1e-6 * design.sigma / spread;
        let uncertainty = line.slope_standard_error.max(least);
        Some(of(line.slope, uncertainty, Some(line.degrees_of_freedom)))
    }

    /// What the baseline of these points says.
    #[must_use]
    pub fn of_baseline(design: &ChartDesign, points: &[PastPoint]) -> Option<Self> {
        let values: Vec<f64> = points.iter().map(|past| past.value).collect();
        match own_baseline(design, points, &values) {
            0 => None,
            own => Self::of(design, points, own),
        }
    }

    /// Degrees about the mean; nothing where none was read.
    fn degrees(&self, past: &PastPoint) -> f64 {
        past.temperature.filter(|read| read.is_finite()).map_or(0.0, |read| read - self.about)
    }

    fn on(&self, past: &PastPoint) -> f64 {
        self.per_degree * self.degrees(past)
    }
}

/// How many more checks at the level of now take a drift back that these points tell: among 4, 8, 16, 32 and 64; none where
/// none of them does, or no drift is told. The further checks scatter as those before them.
///
/// # Errors
/// [`ShapeError`].
pub fn drift_taken_back(
    design: &ChartDesign,
    points: &[PastPoint],
    around: &ShapeAround<'_>,
) -> Result<Option<u32>, ShapeError> {
    // A scatter without draws: quantiles of the normal distribution in a fixed order, of mean zero and deviation one.
    const SCATTER: [f64; 8] = [0.49, -1.17, 0.16, 1.63, -0.49, -1.63, 1.17, -0.16];
    let around = ShapeAround { fan: 0, ..*around };
    let now = segment_shape(design, points, &around)?;
    let (Told::Drift, Some(last), Some(first)) = (now.told, points.last(), points.first()) else {
        return Ok(None);
    };
    let span = last.measured_at.duration_since(first.measured_at);
    let each = span / i32::try_from(points.len().saturating_sub(1).max(1)).unwrap_or(i32::MAX);
    for more in [4_u32, 8, 16, 32, 64] {
        let mut points = points.to_vec();
        points.extend((1..=more).filter_map(|ahead| {
            let later = each.checked_mul(i32::try_from(ahead).ok()?)?;
            let scatter = SCATTER[ahead as usize % SCATTER.len()];
            Some(PastPoint {
                ordinal: last.ordinal.saturating_add(u64::from(ahead)),
                measured_at: last.measured_at.checked_add(later).ok()?,
                value: now.level.median + now.std_dev * scatter,
                temperature: None,
            })
        }));
        if segment_shape(design, &points, &around)?.told != Told::Drift {
            return Ok(Some(more));
        }
    }
    Ok(None)
}

/// How many of the first points are the baseline of the design. A segment may bear the design of one before it, whose
/// baseline it does not hold: then the centre is another mean.
fn own_baseline(design: &ChartDesign, points: &[PastPoint], values: &[f64]) -> usize {
    let (Level::Frozen { center_line }, Some(from)) = (design.level, design.estimated) else {
        return 0;
    };
    let own = points.iter().take_while(|past| past.ordinal < from.points as u64).count();
    let mean = values[..own].iter().sum::<f64>() / own.max(1) as f64;
    let is_its_mean = (mean - center_line).abs() <= 1e-6 * design.sigma;
    if own >= 3 && own == from.points && is_its_mean { own } else { 0 }
}

/// What a design knows without its baseline.
fn known_ground<'a>(design: &ChartDesign, values: &[f64]) -> Ground<'a> {
    let known = known_chart(design);
    if !design.is_statistical() {
        // Action lines know no sigma: the differences of the points themselves say a little, and the target less.
        let squares: f64 = values.windows(2).map(|pair| (pair[1] - pair[0]).powi(2)).sum();
        let std_dev = (squares / (2.0 * values.len().saturating_sub(1).max(1) as f64)).sqrt();
        return Ground::Known {
            center: known.center_line,
            std_dev,
            center_worth: 0.1,
            degrees_of_freedom: Some(2.0),
            autocorrelation: None,
        };
    }
    let estimated = design.estimated;
    Ground::Known {
        center: known.center_line,
        std_dev: known.sigma,
        center_worth: 1.0 / known.center_variance.max(1e-6),
        degrees_of_freedom: estimated.and_then(|from| from.degrees_of_freedom()),
        autocorrelation: estimated.map(|from| (from.autocorrelation, from.points)),
    }
}

/// What is known of a chart before its points.
#[derive(Debug, Clone, Copy, PartialEq)]
struct KnownChart {
    /// Centre line.
    center_line: f64,
    /// Standard deviation of a check about the level.
    sigma: f64,
    /// Variance of the centre line, in σ².
    center_variance: f64,
}

fn known_chart(design: &ChartDesign) -> KnownChart {
    let (center_line, variance) = match design.level {
        // A centre from n checks is uncertain by σ²/n.
        Level::Frozen { center_line } => {
            let points = design.estimated.map_or(MINIMUM_BASELINE_POINTS, |from| from.points);
            (center_line, 1.0 / points.max(1) as f64)
        }
        // Of the target; its own points are looked at all together.
        Level::AfterAdjustment { target, variance } => (target, variance.unwrap_or(1.0)),
    };
    KnownChart { center_line, sigma: design.sigma, center_variance: variance }
}
