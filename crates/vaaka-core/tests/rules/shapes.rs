//! Shapes of a series against the kept output of `tools/reference/shapes.py`: posteriors by multivariate t densities
//! (SciPy), places of steps by pruned exact segmentation (ruptures). And what cannot be looked at.

use jiff::{SignedDuration, Timestamp};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use serde_json::Value;
use vaaka_core::history::{Ground, Influence, ShapeError, ShapeInput, Told, shape};
use vaaka_core::stats::StatsError;

use super::policies::normal;

fn reference() -> Value {
    serde_json::from_str(include_str!("../data/shapes.json")).unwrap()
}

fn floats(value: &Value) -> Vec<f64> {
    value.as_array().unwrap().iter().map(|one| one.as_f64().unwrap()).collect()
}

fn at(seconds: f64) -> Timestamp {
    Timestamp::from_second(1_790_000_000 + seconds as i64).unwrap()
}

/// No change is told.
fn is_quiet(told: Told) -> bool {
    matches!(told, Told::Flat | Told::Unclear)
}

/// Checks eight hours apart.
fn every_shift(values: &[f64]) -> Vec<(Timestamp, f64)> {
    values.iter().enumerate().map(|(i, value)| (at(28_800.0 * i as f64), *value)).collect()
}

fn near(what: &str, found: f64, wanted: f64, tolerance: f64) {
    assert!((found - wanted).abs() <= tolerance, "{what}: {found} instead of {wanted}");
}

#[test]
fn posteriors_are_those_of_the_reference() {
    for case in reference()["cases"].as_array().unwrap() {
        let name = case["name"].as_str().unwrap();
        let baseline = case.get("baseline").map(floats).unwrap_or_default();
        let ground = case.get("known").map_or(Ground::Baseline(&baseline), |known| Ground::Known {
            center: known["center"].as_f64().unwrap(),
            std_dev: known["std_dev"].as_f64().unwrap(),
            center_worth: known["center_worth"].as_f64().unwrap(),
            degrees_of_freedom: known["degrees_of_freedom"].as_f64(),
            autocorrelation: Some((
                known["autocorrelation"][0].as_f64().unwrap(),
                known["autocorrelation"][1].as_u64().unwrap() as usize,
            )),
        });
        let seconds = floats(&case["seconds"]);
        let points: Vec<_> = seconds.iter().map(|s| at(*s)).zip(floats(&case["values"])).collect();
        let events: Vec<Timestamp> =
            case.get("events").map(floats).unwrap_or_default().into_iter().map(at).collect();
        let number = |of: &Value, key: &str| of[key].as_f64().unwrap();
        let given = case.get("influences").and_then(Value::as_array);
        let given: Vec<(&Value, Vec<f64>)> =
            given.into_iter().flatten().map(|one| (one, floats(&one["acts"]))).collect();
        let influences: Vec<Influence<'_>> = given
            .iter()
            .map(|(one, acts)| Influence {
                acts,
                ahead: number(one, "ahead"),
                effect: number(one, "effect"),
                standard_uncertainty: number(one, "standard_uncertainty"),
            })
            .collect();
        let found = shape(&ShapeInput {
            ground,
            points: &points,
            events: &events,
            lower: None,
            upper: case["upper"].as_f64(),
            resolution: 0.0,
            influences: &influences,
            fan: 24,
        })
        .unwrap();
        let wanted = &case["expected"];
        let of = |kind: &str| wanted["posterior"][kind].as_f64().unwrap();
        for (kind, value) in [
            ("flat", found.posterior.flat),
            ("step", found.posterior.step),
            ("drift", found.posterior.drift),
            ("stopped", found.posterior.stopped),
            ("knock", found.posterior.knock),
        ] {
            near(&format!("{name}: {kind}"), value, of(kind), 1e-8);
        }
        let rho = wanted["autocorrelation"].as_f64().unwrap();
        near(&format!("{name}: autocorrelation"), found.autocorrelation, rho, 1e-8);
        // What is mixed leaves out a two-thousandth.
        let level = floats(&wanted["level"]);
        let width = level[2] - level[0];
        for (value, wanted) in
            [found.level.low, found.level.median, found.level.high].into_iter().zip(&level)
        {
            near(&format!("{name}: level"), value, *wanted, 1e-2 * width);
        }
        if let (Some(onset), Some(wanted)) = (found.onset, wanted.get("onset"))
            && found.told != Told::Changed
        {
            let index = |of: Timestamp| points.iter().position(|(at, _)| *at == of).unwrap() as u64;
            let indices = [index(onset.low), index(onset.median), index(onset.high)];
            let wanted: Vec<u64> =
                wanted.as_array().unwrap().iter().map(|one| one.as_u64().unwrap()).collect();
            assert_eq!(indices.as_slice(), wanted, "{name}");
        }
        if let Some(slopes) = wanted.get("per_week").filter(|_| found.told == Told::Drift) {
            let slopes = floats(slopes);
            let width = slopes[2] - slopes[0];
            let per_week = found.per_week.unwrap();
            for (value, wanted) in
                [per_week.low, per_week.median, per_week.high].into_iter().zip(&slopes)
            {
                near(&format!("{name}: slope"), value, *wanted, 1e-2 * width);
            }
            let newest = points.last().unwrap().0;
            let when = found.ahead.unwrap().level.unwrap();
            let seconds = |at: Timestamp| at.duration_since(newest).as_secs_f64();
            let crossings: Vec<Option<f64>> =
                wanted["crossing_seconds"].as_array().unwrap().iter().map(Value::as_f64).collect();
            let found = [Some(when.earliest), when.median, when.latest].map(|at| at.map(seconds));
            for (found, wanted) in found.into_iter().zip(crossings) {
                assert_eq!(found.is_some(), wanted.is_some(), "{name}: {found:?} {wanted:?}");
                if let (Some(found), Some(wanted)) = (found, wanted) {
                    near(&format!("{name}: crossing"), found, wanted, 30.0 + 1e-2 * wanted);
                }
            }
        }
    }
}

/// A clear step is placed where another method places it, and told.
#[test]
fn clear_steps_stand_where_segmentation_puts_them() {
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let baseline: Vec<f64> = (0..40).map(|_| normal(&mut random)).collect();
    for place in reference()["places"].as_array().unwrap() {
        let points = every_shift(&floats(&place["values"]));
        let found = shape(&ShapeInput {
            ground: Ground::Baseline(&baseline),
            points: &points,
            events: &[],
            lower: None,
            upper: None,
            resolution: 0.0,
            influences: &[],
            fan: 24,
        })
        .unwrap();
        assert_eq!(found.told, Told::Step);
        let pelt = place["pelt"][0].as_u64().unwrap() as usize;
        assert_eq!(found.onset.unwrap().median, points[pelt].0);
        assert!(found.ahead.is_none() && found.fan.is_empty());
        let size = found.size.unwrap();
        assert!(size.low < 6.0 && size.high > 6.0, "{size:?}");
    }
}

fn looked(
    baseline: &[f64],
    points: &[(Timestamp, f64)],
    resolution: f64,
) -> Result<Told, ShapeError> {
    let ground = Ground::Baseline(baseline);
    let input = ShapeInput {
        ground,
        points,
        events: &[],
        lower: Some(-9.0),
        upper: Some(9.0),
        resolution,
        influences: &[],
        fan: 0,
    };
    shape(&input).map(|shape| shape.told)
}

#[test]
fn what_cannot_be_looked_at_says_why() {
    let baseline = [0.4, -1.1, 0.9, 0.2, -0.6, 0.3];
    let points = every_shift(&[0.1, 0.5, -0.3, 0.8, -0.4, 0.0, 0.6]);
    assert!(looked(&baseline, &points, 0.0).is_ok());
    let few = StatsError::TooFewPoints { required: 5, got: 1 };
    assert_eq!(looked(&baseline, &points[..1], 0.0), Err(few.into()));
    let few = StatsError::TooFewPoints { required: 5, got: 0 };
    assert_eq!(looked(&baseline, &[], 0.0), Err(few.into()));
    let few = StatsError::TooFewPoints { required: 3, got: 0 };
    assert_eq!(looked(&[], &points, 0.0), Err(few.into()));
    // A baseline without scatter: nothing without a display, its step with one.
    let same = every_shift(&[20.03; 9]);
    assert_eq!(looked(&[20.03; 20], &same, 0.0), Err(StatsError::NoSpread.into()));
    let told = looked(&[2.03; 20], &every_shift(&[2.03; 30]), 0.01).unwrap();
    assert!(is_quiet(told), "{told:?}");
    let mut falling = points.clone();
    falling.swap(3, 4);
    assert_eq!(looked(&baseline, &falling, 0.0), Err(ShapeError::TimesFall { index: 4 }));
    let at_once: Vec<_> = points.iter().map(|(_, value)| (points[0].0, *value)).collect();
    assert_eq!(looked(&baseline, &at_once, 0.0), Err(StatsError::NoSpreadInX.into()));
    let mut wild = points.clone();
    wild[2].1 = f64::NAN;
    assert_eq!(looked(&baseline, &wild, 0.0), Err(StatsError::NotFinite { index: 2 }.into()));
    wild[2].1 = f64::MAX;
    assert_eq!(looked(&baseline, &wild, 0.0), Err(StatsError::TooLarge.into()));
    let crossed = ShapeInput {
        ground: Ground::Baseline(&baseline),
        points: &points,
        events: &[],
        lower: Some(1.0),
        upper: Some(-1.0),
        resolution: 0.0,
        influences: &[],
        fan: 24,
    };
    assert_eq!(shape(&crossed), Err(StatsError::CrossedLimits.into()));
}

/// Ten thousand points and a gap of a year: the newest count, and the gap is no drift.
#[test]
fn long_series_and_long_gaps() {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let mut noise =
        |count: usize| -> Vec<f64> { (0..count).map(|_| normal(&mut random)).collect() };
    let baseline = noise(50);
    let many = every_shift(&noise(10_000));
    assert!(is_quiet(looked(&baseline, &many, 0.0).unwrap()));
    let mut gap = every_shift(&noise(200));
    for (at, _) in &mut gap[120..] {
        *at = at.checked_add(SignedDuration::from_hours(24 * 365)).unwrap();
    }
    assert!(is_quiet(looked(&baseline, &gap, 0.0).unwrap()));
}

fn drift_from(baseline: &[f64], random: &mut ChaCha8Rng, slope: f64) -> Vec<(Timestamp, f64)> {
    assert!(!baseline.is_empty());
    let values: Vec<f64> =
        (0..60).map(|i| slope * f64::max(0.0, i as f64 - 20.0) + normal(random)).collect();
    every_shift(&values)
}

/// A limit on one side only, a limit that is passed already, a drift away from the only limit.
#[test]
fn limits_of_a_drift() {
    let mut random = ChaCha8Rng::seed_from_u64(8);
    let baseline: Vec<f64> = (0..50).map(|_| normal(&mut random)).collect();
    let points = drift_from(&baseline, &mut random, 0.2);
    let of = |lower, upper| {
        let ground = Ground::Baseline(&baseline);
        let input = ShapeInput {
            ground,
            points: &points,
            events: &[],
            lower,
            upper,
            resolution: 0.0,
            influences: &[],
            fan: 24,
        };
        shape(&input).unwrap()
    };
    let up = of(None, Some(15.0));
    assert_eq!(up.told, Told::Drift, "{:?}", up.posterior);
    let ahead = up.ahead.unwrap();
    let (level, check) = (ahead.level.unwrap(), ahead.first_check.unwrap());
    assert!(!ahead.beyond && level.earliest < level.median.unwrap());
    assert!(level.median.unwrap() < level.latest.unwrap());
    // A single check is outside before the level is.
    assert!(check.median.unwrap() < level.median.unwrap() && check.earliest <= level.earliest);
    assert_eq!(of(Some(-15.0), None).ahead, None);
    let passed = of(Some(-3.0), Some(3.0)).ahead.unwrap();
    assert!(passed.beyond && passed.level.is_none());
    // Far away the end is open.
    let far = of(None, Some(600.0)).ahead.unwrap();
    assert!(far.level.is_none_or(|level| level.latest.is_none()), "{far:?}");
    // The fan begins at the onset, widens ahead, and keeps its order.
    assert!(up.fan.windows(2).all(|pair| pair[0].at < pair[1].at));
    assert!(
        up.fan
            .iter()
            .all(|one| one.level.low <= one.level.median && one.level.median <= one.level.high)
    );
    let widths: Vec<f64> = up.fan.iter().map(|one| one.level.high - one.level.low).collect();
    assert!(widths.last() > widths.get(widths.len() / 2));
}

/// What a noted event does: a change is looked for there first, and what is flat stays flat.
#[test]
fn an_event_draws_the_onset_and_invents_none() {
    let mut random = ChaCha8Rng::seed_from_u64(13);
    let mut noise =
        |count: usize| -> Vec<f64> { (0..count).map(|_| normal(&mut random)).collect() };
    let baseline = noise(50);
    let mut values = noise(60);
    let of = |values: &[f64], events: &[Timestamp]| {
        let points = every_shift(values);
        let ground = Ground::Baseline(&baseline);
        let input = ShapeInput {
            ground,
            points: &points,
            events,
            lower: None,
            upper: None,
            resolution: 0.0,
            influences: &[],
            fan: 24,
        };
        shape(&input).unwrap()
    };
    let event = at(28_800.0 * 35.0 - 60.0);
    assert!(is_quiet(of(&values, &[event]).told));
    for value in &mut values[35..] {
        *value += 2.0;
    }
    let (without, with) = (of(&values, &[]), of(&values, &[event]));
    let width = |of: &vaaka_core::history::Shape| {
        let onset = of.onset.unwrap();
        onset.high.duration_since(onset.low)
    };
    assert!(width(&with) <= width(&without));
    assert_eq!(with.onset.unwrap().median, at(28_800.0 * 35.0));
}

fn level(values: &[f64]) -> vaaka_core::history::LevelEstimate {
    let points = every_shift(values);
    vaaka_core::history::level_now(&ShapeInput {
        ground: Ground::Known {
            center: 10.0,
            std_dev: 2.0,
            center_worth: 100.0,
            degrees_of_freedom: Some(99.0),
            autocorrelation: Some((0.0, 100)),
        },
        points: &points,
        events: &[],
        lower: None,
        upper: None,
        resolution: 0.0,
        influences: &[],
        fan: 0,
    })
    .unwrap()
}

/// What an adjustment corrects: the centre while nothing is known, hardly moved by one far check, and there where four of them
/// stand; where a drift has come to.
#[test]
fn the_level_of_now() {
    let none = level(&[]);
    assert!((none.level - 10.0).abs() < 1e-12 && (none.standard_uncertainty - 0.2).abs() < 1e-12);
    let one = level(&[16.0]);
    assert!((10.0..16.0).contains(&one.level), "{one:?}");
    let quiet: Vec<f64> = (0..60).map(|i| 10.0 + [1.0, -1.5, 0.5, 0.0][i % 4]).collect();
    assert!((level(&quiet).level - 10.0).abs() < 0.5, "{:?}", level(&quiet));
    let mut far = quiet.clone();
    far.push(18.0);
    let after_one = level(&far).level;
    assert!((10.2..17.5).contains(&after_one), "{after_one}");
    far.extend([18.2, 17.9, 18.1]);
    let after_four = level(&far);
    assert!((16.8..18.5).contains(&after_four.level), "{after_four:?}");
    assert!(after_four.standard_uncertainty < 1.5, "{after_four:?}");
    let drifting: Vec<f64> = (0..100)
        .map(|i| 10.0 + 0.12 * f64::from(i) + [0.9, -1.1, 0.4, -0.2][i as usize % 4])
        .collect();
    let found = level(&drifting);
    assert!((found.level - 21.9).abs() < 1.5, "{found:?}");
    // Two checks at one moment have no distance in time.
    let at_once = [(at(0.0), 10.0), (at(0.0), 11.0)];
    let input = ShapeInput {
        ground: Ground::Baseline(&[9.0, 10.0, 11.0]),
        points: &at_once,
        events: &[],
        lower: None,
        upper: None,
        resolution: 0.0,
        influences: &[],
        fan: 0,
    };
    assert_eq!(vaaka_core::history::level_now(&input), Err(StatsError::NoSpreadInX.into()));
}

/// A seasonal wave that the temperature explains is no drift; without the temperature it is told as one.
#[test]
fn temperature_explains_a_wave() {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let temperature: Vec<f64> = (0..150).map(|i| 3.0 * (f64::from(i) / 45.0).sin()).collect();
    let values: Vec<f64> =
        temperature.iter().map(|degrees| 1.2 * degrees + normal(&mut random)).collect();
    let (baseline, later) = values.split_at(40);
    let clean: Vec<f64> =
        baseline.iter().zip(&temperature).map(|(value, degrees)| value - 1.2 * degrees).collect();
    // The part of the wave that rises after the baseline.
    let (points, acts) = (every_shift(&later[..50]), &temperature[40..90]);
    let acts: Vec<f64> = acts.iter().map(|degrees| -degrees).collect();
    let effect = Influence { acts: &acts, ahead: 0.0, effect: -1.2, standard_uncertainty: 0.1 };
    let looked = |influences: &[Influence<'_>]| {
        shape(&ShapeInput {
            ground: Ground::Baseline(&clean),
            points: &points,
            events: &[],
            lower: None,
            upper: None,
            resolution: 0.0,
            influences,
            fan: 0,
        })
        .unwrap()
    };
    let with = looked(&[effect]);
    assert!(is_quiet(with.told), "{with:?}");
    let without = looked(&[]);
    assert!(without.told.is_change(), "{without:?}");
}

#[test]
fn influences_that_cannot_be() {
    let points = every_shift(&[0.1, -0.2, 0.3, 0.0, 0.2, -0.1]);
    let looked = |acts: &[f64], standard_uncertainty: f64| {
        let influence = Influence { acts, ahead: 0.0, effect: 0.0, standard_uncertainty };
        shape(&ShapeInput {
            ground: Ground::Baseline(&[0.2, -0.1, 0.1, -0.2]),
            points: &points,
            events: &[],
            lower: None,
            upper: None,
            resolution: 0.0,
            influences: &[influence],
            fan: 0,
        })
    };
    let short = looked(&[1.0], 1.0).unwrap_err();
    assert_eq!(short, ShapeError::Influence { required: 6, got: 1 });
    assert!(looked(&[f64::NAN; 6], 1.0).is_err());
    assert!(looked(&[1.0; 6], -1.0).is_err() && looked(&[1.0; 6], f64::INFINITY).is_err());
    // All of one kind from the first check on, known to the last digit, and not at all.
    assert!(looked(&[1.0; 6], 0.0).is_ok() && looked(&[0.0; 6], 1e6).is_ok());
}
