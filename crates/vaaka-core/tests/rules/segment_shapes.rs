//! What the points of a chart have done, with what its baseline knows of the temperature and what adjustments took away.

use jiff::{SignedDuration, Timestamp};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use vaaka_core::adjustment::{AppliedCorrection, Correction};
use vaaka_core::chart::{ChartDesign, ChartPoint};
use vaaka_core::check::{
    PastPoint, ShapeAround, TemperatureEffect, freeze_baseline, segment_level, segment_shape,
    shape_over_adjustments,
};
use vaaka_core::history::{Shape, Told};

use super::policies::normal;

const BASELINE: usize = 50;
const ONSET: usize = 75;
const AROUND: ShapeAround<'_> =
    ShapeAround { events: &[], lower: Some(-8.0), upper: Some(8.0), fan: 0 };

fn at(index: usize) -> Timestamp {
    Timestamp::from_second(1_790_000_000 + 28_800 * index as i64).unwrap()
}

fn points(values: &[(f64, Option<f64>)]) -> Vec<PastPoint> {
    let of = |(index, (value, temperature)): (usize, &(f64, Option<f64>))| PastPoint {
        ordinal: index as u64,
        measured_at: at(index),
        value: *value,
        temperature: *temperature,
    };
    values.iter().enumerate().map(of).collect()
}

fn design(points: &[PastPoint]) -> ChartDesign {
    let own: Vec<ChartPoint> = points[..BASELINE]
        .iter()
        .map(|past| ChartPoint::new(past.measured_at, past.value))
        .collect();
    freeze_baseline(&own, BASELINE, SignedDuration::from_hours(8), 0.01).unwrap().design
}

fn told(shape: &Shape) -> Told {
    shape.told
}

/// A season that the baseline knows half of: with the temperatures nothing changed, without them something did.
#[test]
fn a_season_is_no_drift() {
    let mut random = ChaCha8Rng::seed_from_u64(11);
    let values: Vec<(f64, Option<f64>)> = (0..120)
        .map(|index| {
            let degrees = 21.0 + 2.5 * (index as f64 / 14.0).sin() + 0.035 * index as f64;
            (0.9 * (degrees - 21.0) + normal(&mut random), Some(degrees))
        })
        .collect();
    let known = points(&values);
    let bare: Vec<PastPoint> =
        known.iter().map(|past| PastPoint { temperature: None, ..*past }).collect();
    let design = design(&known);
    let effect = TemperatureEffect::of_baseline(&design, &known).unwrap();
    let half = 3.0 * effect.standard_uncertainty;
    assert!((effect.per_degree - 0.9).abs() < half, "{effect:?}");
    assert!(
        effect.per_degree > half && effect.degrees_of_freedom == Some(BASELINE - 2),
        "{effect:?}"
    );
    assert!(effect.span.0 < 21.1 && effect.span.1 > 23.0, "{effect:?}");
    let with = segment_shape(&design, &known, &AROUND).unwrap();
    assert!(!told(&with).is_change(), "{with:?}");
    let without = segment_shape(&design, &bare, &AROUND).unwrap();
    assert!(without.posterior.flat < with.posterior.flat, "{without:?} {with:?}");
    assert_eq!(TemperatureEffect::of_baseline(&design, &bare), None);
}

/// Temperatures that hardly differ, are not numbers or were read at a few checks only, say nothing; the shape is the one without.
#[test]
fn temperatures_that_say_nothing() {
    let mut random = ChaCha8Rng::seed_from_u64(12);
    let values: Vec<f64> = (0..90).map(|_| normal(&mut random)).collect();
    let with = |temperature: &dyn Fn(usize) -> Option<f64>| {
        let all: Vec<(f64, Option<f64>)> =
            values.iter().enumerate().map(|(index, value)| (*value, temperature(index))).collect();
        points(&all)
    };
    let bare = with(&|_| None);
    let design = design(&bare);
    let plain = segment_shape(&design, &bare, &AROUND).unwrap();
    for temperature in [&|_| Some(21.0) as Option<f64>, &|_| Some(f64::NAN), &|index| {
        (index < 15).then_some(20.0 + index as f64)
    }] as [&dyn Fn(usize) -> Option<f64>; 3]
    {
        let known = with(temperature);
        assert_eq!(TemperatureEffect::of_baseline(&design, &known), None);
        assert_eq!(segment_shape(&design, &known, &AROUND).unwrap(), plain);
    }
}

/// It drifts by a tenth of a sigma a check and is adjusted back every thirty: each segment alone hardly shows it, all together do,
/// and the level that is told is that of the instrument as it is adjusted now.
#[test]
fn adjusted_every_month_it_still_drifts() {
    let mut random = ChaCha8Rng::seed_from_u64(13);
    let mut taken = 0.0;
    let mut adjustments = Vec::new();
    let mut level = 0.0;
    let values: Vec<(f64, Option<f64>)> = (0..196)
        .map(|index| {
            if index >= ONSET && (index - ONSET) % 30 == 29 {
                let effect = -(level * 10.0_f64).round() / 10.0;
                taken += effect;
                let moment = at(index) - SignedDuration::from_hours(2);
                let correction = Correction { offset: effect, gain: 0.0 };
                adjustments.push(AppliedCorrection::known(moment, correction, 0.0));
            }
            level = 0.1 * (index as f64 - ONSET as f64).max(0.0) + taken;
            (level + normal(&mut random), None)
        })
        .collect();
    let all = points(&values);
    let design = design(&all);
    assert_eq!(adjustments.len(), 4);
    let over = shape_over_adjustments(&design, &all, &adjustments, &AROUND).unwrap();
    assert_eq!(told(&over), Told::Drift, "{over:?}");
    let slope = over.per_week.unwrap();
    assert!(slope.low < 2.1 && slope.high > 2.1, "0.1 a check, 21 a week: {slope:?}");
    assert!(over.level.low < level && level < over.level.high, "{level}: {over:?}");
    // As if nobody had written down what was done.
    let blind = segment_shape(&design, &all, &AROUND).unwrap();
    assert_ne!(told(&blind), Told::Drift, "{blind:?}");
    // Without any adjustment it is the shape of the segment.
    let none = shape_over_adjustments(&design, &all, &[], &AROUND).unwrap();
    assert_eq!(none, blind);
    // Before the first of them it has come where an adjustment would have to correct it from.
    let near = segment_level(&design, &all[..ONSET + 29]);
    assert!((near.level - 2.9).abs() < 1.2, "{near:?}");
}

/// A room that gets warmer, and an instrument that is adjusted twice on the way by what it showed: with the temperatures
/// nothing is told of it, without them it is told to go on.
#[test]
fn adjusted_through_a_season() {
    let mut random = ChaCha8Rng::seed_from_u64(14);
    let mut adjustments = Vec::new();
    let mut taken = 0.0;
    let values: Vec<(f64, Option<f64>)> = (0..170)
        .map(|index| {
            let warmer = 0.06 * (index as f64 - ONSET as f64).max(0.0);
            let degrees = 21.0 + 1.5 * (index as f64 / 9.0).sin() + warmer;
            if index == 110 || index == 140 {
                let effect = -2.0;
                taken += effect;
                let moment = at(index) - SignedDuration::from_hours(2);
                let correction = Correction { offset: effect, gain: 0.0 };
                adjustments.push(AppliedCorrection::known(moment, correction, 0.0));
            }
            (1.2 * (degrees - 21.0) + taken + normal(&mut random), Some(degrees))
        })
        .collect();
    let all = points(&values);
    let bare: Vec<PastPoint> =
        all.iter().map(|past| PastPoint { temperature: None, ..*past }).collect();
    let design = design(&all);
    let of = |points| shape_over_adjustments(&design, points, &adjustments, &AROUND).unwrap();
    let (known, unknown) = (of(&all), of(&bare));
    assert!(!told(&known).is_change(), "{known:?}");
    assert!(told(&unknown).is_change(), "{unknown:?}");
}
