//! The fold along a segment: signals, resets, provisional levels, and the false-alarm rate.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::chart::{
    ChartDesign, ChartPoint, ChartState, Components, Criteria, Criterion, IN_CONTROL_RUN_LENGTH,
    LEVEL_SHARE, Levels, RuleSet, Scatter, Side, SignalChange, Spread, SpreadDesign, evaluate,
};
use vaaka_core::check::freeze_baseline;

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

fn at(index: i64) -> Timestamp {
    Timestamp::from_second(1_760_000_000 + index * 8 * 3600).unwrap()
}

fn point(index: i64, value: f64) -> ChartPoint {
    ChartPoint::new(at(index), value)
}

fn points_of(series: &[(Timestamp, f64)]) -> Vec<ChartPoint> {
    series.iter().map(|(at, value)| ChartPoint::new(*at, *value)).collect()
}

fn points(values: &[f64]) -> Vec<ChartPoint> {
    values.iter().enumerate().map(|(index, value)| point(index as i64, *value)).collect()
}

fn design(raising: Vec<Criterion>) -> ChartDesign {
    ChartDesign {
        raising: raising.into(),
        advisory: Criteria::NONE,
        ..ChartDesign::given(0.0, 1.0)
    }
}

fn normal(rng: &mut ChaCha8Rng) -> f64 {
    let radius = (-2.0 * (1.0 - rng.random::<f64>()).ln()).sqrt();
    radius * (std::f64::consts::TAU * rng.random::<f64>()).cos()
}

#[test]
fn a_point_on_the_limit_is_not_beyond_it() {
    let design = design(vec![Criterion::BeyondLimits]);
    let (_, evaluations) = evaluate(&design, SHIFT, &points(&[3.25, 3.250_001, -3.25, -4.0]));
    let fired: Vec<bool> = evaluations.iter().map(|e| !e.firings().is_empty()).collect();
    assert_eq!(fired, [false, true, false, true]);
    assert_eq!(evaluations[3].firings()[0].side, Some(Side::Below));
}

#[test]
fn a_slow_drift_is_one_signal_that_names_its_onset() {
    // Quiet by turns, then rising by a twentieth of sigma a check.
    let mut values: Vec<f64> = (0..60).map(|i| if i % 2 == 0 { 0.4 } else { -0.4 }).collect();
    values.extend((0..60).map(|i| 0.05 * f64::from(i) + if i % 2 == 0 { 0.4 } else { -0.4 }));
    let design = design(vec![Criterion::BeyondLimits, Criterion::Ewma]);
    let (state, evaluations) = evaluate(&design, SHIFT, &points(&values));
    let opened: Vec<u64> = evaluations
        .iter()
        .filter(|e| e.changes().iter().any(|c| matches!(c, SignalChange::Opened { .. })))
        .map(|e| e.ordinal)
        .collect();
    assert_eq!(opened.len(), 1, "one signal, not one a point: {opened:?}");
    assert!((61..90).contains(&opened[0]), "{opened:?}");
    assert_eq!(state.active_side(), Some(Side::Above));
    let onset = state.onset(Side::Above);
    assert!((58..70).contains(&onset), "onset {onset}, the drift began at 60");
}

#[test]
fn gaps_exclusions_and_segments_reset_patterns_and_missed_checks_do_not() {
    let eight = vec![Criterion::EightOnASide];
    let run = |points: &[ChartPoint]| {
        let (_, evaluations) = evaluate(&design(eight.clone()), SHIFT, points);
        evaluations.last().unwrap().firings().len()
    };
    let plain: Vec<ChartPoint> = (0..8).map(|i| point(i, 0.5)).collect();
    assert_eq!(run(&plain), 1);
    // Two missed checks: the gap is three intervals, and nothing is broken.
    let missed: Vec<ChartPoint> =
        (0..8).map(|i| point(if i < 4 { i } else { i + 2 }, 0.5)).collect();
    assert_eq!(run(&missed), 1);
    // Three missed: more than three intervals.
    let gap: Vec<ChartPoint> = (0..8).map(|i| point(if i < 4 { i } else { i + 3 }, 0.5)).collect();
    assert_eq!(run(&gap), 0);
    let mut excluded = plain.clone();
    excluded[3].excluded = true;
    assert_eq!(run(&excluded), 0);
}

#[test]
fn baseline_points_are_judged_for_drawing_and_raise_nothing() {
    let mut series = points(&[0.0, 5.0, 0.0, 5.0]);
    series[1].monitored = false;
    let (_, evaluations) = evaluate(&design(vec![Criterion::BeyondLimits]), SHIFT, &series);
    assert_eq!(evaluations[1].firings().len(), 1);
    assert!(evaluations[1].changes().is_empty());
    assert!(!evaluations[3].changes().is_empty());
}

#[test]
fn after_an_adjustment_the_level_is_the_target_then_the_first_five() {
    let design = design(vec![Criterion::BeyondLimits]).after_adjustment(0.0);
    let values = [1.0, 2.0, 3.0, 2.0, 2.0, 2.0, 2.0];
    let (_, evaluations) = evaluate(&design, SHIFT, &points(&values));
    assert!(evaluations[..5].iter().all(|e| e.center_line == 0.0 && e.provisional));
    assert!(evaluations[5..].iter().all(|e| e.center_line == 2.0 && e.provisional));
    // A level from five checks is uncertain by σ²/5: the limits are wider by a share of that.
    let width = evaluations[5].upper_control_limit - 2.0;
    assert!((width - 3.25 * (1.0 + LEVEL_SHARE / 5.0).sqrt()).abs() < 1e-12);
}

#[test]
fn zone_rules_are_off_while_the_resolution_floor_binds() {
    let mut coarse = design(vec![Criterion::BeyondLimits, Criterion::EightOnASide]);
    coarse.resolution_floor = true;
    let (_, evaluations) = evaluate(&coarse, SHIFT, &points(&[0.5; 10]));
    assert!(evaluations.iter().all(|e| e.firings().is_empty()));
    coarse.resolution_floor = false;
    let (_, evaluations) = evaluate(&coarse, SHIFT, &points(&[0.5; 10]));
    assert!(evaluations.iter().any(|e| !e.firings().is_empty()));
}

/// Property: pushing one by one, with the state written to JSON and read back between any two
/// points, gives the same bits as evaluating all at once.
#[test]
fn a_stored_state_goes_on_to_the_same_bits() {
    let mut rng = ChaCha8Rng::seed_from_u64(3);
    for round in 0..20 {
        let mut full = design(vec![Criterion::BeyondLimits, Criterion::Ewma, Criterion::Spread]);
        full.advisory = Criterion::ALL.into_iter().collect::<Criteria>().without(full.raising);
        full.components = Some(Components { between: 0.6, within: 1.4, readings: 3 });
        full.spread = Some(SpreadDesign { within: 1.0, by: Spread::Range, multiplier: 3.0 });
        full.cusum.head_start = 2.0;
        // Rules that were switched in the middle.
        full = full.with_rules(full.raising.with(Criterion::Cusum), full.advisory, at(90));
        let full = match round % 3 {
            0 => full,
            1 => ChartDesign { earlier: full.earlier.clone(), ..full.after_adjustment(0.3) },
            _ => ChartDesign { above: 2.5, below: 4.0, ..full },
        };
        let series: Vec<ChartPoint> = (0..200)
            .map(|i| {
                let mut p = point(i + rng.random_range(0..2) * 4, normal(&mut rng));
                p.excluded = rng.random::<f64>() < 0.05;
                p.readings = rng.random_range(1..5);
                let readings: Vec<f64> = (0..p.readings).map(|_| normal(&mut rng)).collect();
                p.scatter = Scatter::of(&readings);
                p
            })
            .collect();
        let (whole, expected) = evaluate(&full, SHIFT, &series);
        let mut state = ChartState::new(SHIFT);
        for (p, expected) in series.iter().zip(&expected) {
            let stored = serde_json::to_string(&state).unwrap();
            state = serde_json::from_str(&stored).unwrap();
            assert_eq!(&state.push(&full, p), expected);
        }
        assert_eq!(state, whole);
    }
}

/// Property: many values in a row come to the same bits as one by one, over gaps, values that are no
/// numbers, provisional levels and rules that were switched, and nothing that fires is left out.
#[test]
fn many_in_a_row_come_to_the_same_bits() {
    let mut rng = ChaCha8Rng::seed_from_u64(31);
    for round in 0..12 {
        let mut full = design(vec![Criterion::BeyondLimits, Criterion::Ewma]);
        full.advisory = Criterion::ALL.into_iter().collect::<Criteria>().without(full.raising);
        let full = match round % 4 {
            0 => full,
            1 => full.after_adjustment(0.2),
            2 => full.with_rules(full.advisory, full.raising, at(700)),
            _ => ChartDesign { resolution_floor: true, ..full },
        };
        let mut index = 0;
        let series: Vec<(Timestamp, f64)> = (0..2_000)
            .map(|_| {
                index += if rng.random::<f64>() < 0.01 { 9 } else { 1 };
                let value = if rng.random::<f64>() < 0.005 { f64::NAN } else { normal(&mut rng) };
                (at(index), value)
            })
            .collect();
        let points: Vec<ChartPoint> =
            series.iter().map(|(at, value)| ChartPoint::new(*at, *value)).collect();
        let (expected, evaluations) = evaluate(&full, SHIFT, &points);
        let mut state = ChartState::new(SHIFT);
        let mut found = Vec::new();
        state.run(&full, series, |evaluation| found.push(evaluation));
        let loud: Vec<_> = evaluations.into_iter().filter(|one| one.found.is_some()).collect();
        assert_eq!(found, loud, "{round}");
        assert_eq!(
            serde_json::to_string(&state).unwrap(),
            serde_json::to_string(&expected).unwrap(),
            "{round}"
        );
    }
}

/// In-control run length of the default design, by a seeded simulation of independent normal
/// data: the claim of at least 500, within five standard errors of the integral-equation value
/// (508, `tools/reference/control_constants.py`).
#[test]
fn false_alarms_are_as_rare_as_the_chart_says() {
    let design = design(vec![Criterion::BeyondLimits, Criterion::Ewma]);
    let mut rng = ChaCha8Rng::seed_from_u64(2026);
    let runs = 2500;
    let mut lengths = Vec::with_capacity(runs);
    for _ in 0..runs {
        let mut state = ChartState::new(SHIFT);
        let mut length = 0_u32;
        loop {
            length += 1;
            let evaluation = state.push(&design, &point(i64::from(length), normal(&mut rng)));
            if !evaluation.firings().is_empty() {
                break;
            }
        }
        lengths.push(f64::from(length));
    }
    let mean = lengths.iter().sum::<f64>() / runs as f64;
    let variance = lengths.iter().map(|l| (l - mean).powi(2)).sum::<f64>() / (runs - 1) as f64;
    let standard_error = (variance / runs as f64).sqrt();
    assert!((mean - 507.9).abs() < 5.0 * standard_error, "{mean} ± {standard_error}");
    assert!(mean + 2.0 * standard_error > IN_CONTROL_RUN_LENGTH, "{mean} ± {standard_error}");
}

#[test]
fn a_frozen_baseline_does_not_move_with_later_points() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let series: Vec<(Timestamp, f64)> = (0..90).map(|i| (at(i), normal(&mut rng))).collect();
    let frozen = freeze_baseline(&points_of(&series[..60]), 60, SHIFT, 0.0).unwrap();
    let longer = freeze_baseline(&points_of(&series), 60, SHIFT, 0.0).unwrap();
    assert_eq!(frozen.study, longer.study);
    assert_eq!(longer.evaluations.len(), 90);
    assert!(longer.evaluations[..60].iter().all(|e| e.changes().is_empty()));
    assert!(freeze_baseline(&points_of(&series[..19]), 19, SHIFT, 0.0).is_err());
}

#[test]
fn both_named_sets_are_advisory_by_default() {
    let mut rng = ChaCha8Rng::seed_from_u64(8);
    let series: Vec<(Timestamp, f64)> = (0..40).map(|i| (at(i), normal(&mut rng))).collect();
    let design = freeze_baseline(&points_of(&series), 40, SHIFT, 0.0).unwrap().design;
    let raising: Vec<Criterion> = design.raising.iter().collect();
    assert_eq!(raising, [Criterion::BeyondLimits, Criterion::Ewma]);
    for rule in RuleSet::Zones.rules().iter().chain(RuleSet::Nelson.rules()) {
        assert!(design.advisory.has(*rule), "{rule:?}");
    }
}

/// σ_b = 3, σ_w = 8, limits at ±3 sigmas for four readings (σ = 5): one reading alone has √73 sigmas.
#[test]
fn limits_follow_the_number_of_readings() {
    let mut of_four = design(vec![Criterion::BeyondLimits]);
    of_four.sigma = 5.0;
    (of_four.below, of_four.above) = (15.0, 15.0);
    of_four.components = Some(Components { between: 3.0, within: 8.0, readings: 4 });
    let of = |index, readings| ChartPoint { readings, ..point(index, 20.0) };
    let (_, found) = evaluate(&of_four, SHIFT, &[of(0, 4), of(1, 1), of(2, 16)]);
    let limits: Vec<f64> = found.iter().map(|one| one.upper_control_limit).collect();
    assert!((limits[0] - 15.0).abs() < 1e-12);
    assert!((limits[1] - 3.0 * 73.0_f64.sqrt()).abs() < 1e-12);
    assert!((limits[2] - 3.0 * 13.0_f64.sqrt()).abs() < 1e-12);
    let fired: Vec<bool> = found.iter().map(|one| !one.firings().is_empty()).collect();
    assert_eq!(fired, [true, false, true]);
    assert!((found[1].standardised - 20.0 / 73.0_f64.sqrt()).abs() < 1e-12);
}

#[test]
fn lower_and_upper_limits_stand_apart() {
    let mut uneven = design(vec![Criterion::BeyondLimits]);
    (uneven.below, uneven.above) = (4.0, 2.0);
    let (_, found) = evaluate(&uneven, SHIFT, &points(&[2.1, -3.9, -4.1]));
    let sides: Vec<_> =
        found.iter().map(|one| one.firings().first().and_then(|f| f.side)).collect();
    assert_eq!(sides, [Some(Side::Above), None, Some(Side::Below)]);
}

/// Scatter of three readings with σ = 1 and limits at ±3 of its own deviations: B₆ = 2.276 (ISO 7870-2,
/// table 2; from memory). A single reading has none.
#[test]
fn scatter_has_limits_and_no_run_rules() {
    let mut scattered = design(vec![Criterion::Spread]);
    scattered.spread = Some(SpreadDesign { within: 1.0, by: Spread::StdDev, multiplier: 3.0 });
    let of = |index, std_dev: f64, readings| ChartPoint {
        readings,
        scatter: Some(Scatter { std_dev, range: 2.0 * std_dev }),
        ..point(index, 0.1)
    };
    let series = [of(0, 2.27, 3), of(1, 2.28, 3), of(2, 9.0, 1)];
    let (state, found) = evaluate(&scattered, SHIFT, &series);
    let fired: Vec<usize> = found.iter().map(|one| one.firings().len()).collect();
    assert_eq!(fired, [0, 1, 0]);
    assert_eq!(found[1].firings()[0].side, Some(Side::Above));
    assert_eq!(state.active_side(), Some(Side::Above));
}

/// Action lines are lines: nothing else is ever said about their points.
#[test]
fn action_lines_carry_no_rules() {
    let mut lines = ChartDesign::action_lines(-1.0, 0.5, 2.0);
    lines.raising = Criterion::ALL.into_iter().collect();
    let (_, found) = evaluate(&lines, SHIFT, &points(&[1.9; 40]));
    assert!(found.iter().all(|one| one.firings().is_empty()));
    let (_, found) = evaluate(&lines, SHIFT, &points(&[2.1, -1.1]));
    let fired: Vec<Vec<Criterion>> = found
        .iter()
        .map(|one| one.firings().iter().map(|firing| firing.criterion).collect())
        .collect();
    assert_eq!(fired, [[Criterion::BeyondLimits], [Criterion::BeyondLimits]]);
}

#[test]
fn rules_across_levels_look_at_one_check() {
    let design = ChartDesign::levels();
    let of = |index, z: &[f64]| {
        let levels = Levels::of(z).unwrap();
        ChartPoint { levels: Some(levels), ..point(index, levels.furthest()) }
    };
    let series =
        [of(0, &[2.1, 0.3]), of(1, &[2.1, 2.2]), of(2, &[2.1, -2.2, 0.0]), of(3, &[3.2, 0.1])];
    let (_, found) = evaluate(&design, SHIFT, &series);
    let fired = |index: usize| -> Vec<Criterion> {
        found[index].firings().iter().map(|firing| firing.criterion).collect()
    };
    assert_eq!(fired(0), []);
    assert_eq!(found[0].advisory()[0].criterion, Criterion::WarningBeyond2);
    assert_eq!(fired(1), [Criterion::TwoLevelsBeyond2]);
    assert!((found[1].firings()[0].shift.unwrap() - 2.15).abs() < 1e-12);
    assert_eq!(fired(2), [Criterion::LevelsFourApart]);
    assert_eq!(fired(3), [Criterion::Beyond3]);
}

/// Each firing suggests a shift; after a step of 1.5 sigmas they all say about that.
#[test]
fn firings_estimate_the_shift() {
    let all: Vec<Criterion> =
        vec![Criterion::BeyondLimits, Criterion::Ewma, Criterion::Cusum, Criterion::EightOnASide];
    let design = design(all.clone());
    let mut rng = ChaCha8Rng::seed_from_u64(6);
    let mut sums: std::collections::HashMap<String, (f64, f64)> = std::collections::HashMap::new();
    for _ in 0..300 {
        let mut state = ChartState::new(SHIFT);
        for index in 0..70 {
            let shift = if index < 40 { 0.0 } else { 1.5 };
            let evaluation = state.push(&design, &point(index, shift + normal(&mut rng)));
            if index == 69 {
                for firing in
                    evaluation.firings().iter().filter(|f| f.criterion != Criterion::BeyondLimits)
                {
                    let entry = sums.entry(format!("{:?}", firing.criterion)).or_default();
                    entry.0 += firing.shift.unwrap();
                    entry.1 += 1.0;
                }
            }
        }
    }
    assert_eq!(sums.len(), 3, "{sums:?}");
    for (name, (sum, count)) in sums {
        let mean = sum / count;
        assert!((1.2..1.9).contains(&mean), "{name}: {mean}");
    }
}

/// A value beyond any number, a point before the one before, two at one instant: nothing panics, and what is
/// no number is not judged.
#[test]
fn odd_points_do_no_harm() {
    let mut design = design(vec![Criterion::BeyondLimits, Criterion::Ewma, Criterion::Cusum]);
    design.advisory = Criterion::named_sets();
    let series = [
        point(0, f64::INFINITY),
        point(5, f64::MAX),
        point(1, 0.2),
        point(1, -0.2),
        point(2, f64::NAN),
        point(900_000, 0.1),
    ];
    let (state, found) = evaluate(&design, SHIFT, &series);
    assert!(found[0].firings().is_empty() && found[4].firings().is_empty());
    assert!(!found[1].firings().is_empty(), "the largest number there is lies outside");
    assert_eq!(state.points(), 6);
    let (empty, none) = evaluate(&design, SHIFT, &[]);
    assert!(none.is_empty() && empty.active_side().is_none());
}
