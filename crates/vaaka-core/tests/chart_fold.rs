//! The fold along a segment: signals, resets, provisional levels, and the false-alarm rate.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::chart::{
    ChartDesign, ChartPoint, ChartState, Criteria, Criterion, IN_CONTROL_RUN_LENGTH, RuleSet, Side,
    SignalChange, evaluate,
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
    // A level from five checks is uncertain by σ²/5: the limits are wider by √1.2.
    let width = evaluations[5].upper_control_limit - 2.0;
    assert!((width - 3.25 * 1.2_f64.sqrt()).abs() < 1e-12);
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
        let mut full = design(vec![Criterion::BeyondLimits, Criterion::Ewma]);
        full.advisory = Criterion::named_sets();
        let full = if round % 2 == 0 { full } else { full.after_adjustment(0.3) };
        let series: Vec<ChartPoint> = (0..200)
            .map(|i| {
                let mut p = point(i + rng.random_range(0..2) * 4, normal(&mut rng));
                p.excluded = rng.random::<f64>() < 0.05;
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
