//! Properties of the baseline study, of designs and of the back-test.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::chart::simulate::{Change, Circumstances, run_length_of};
use vaaka_core::chart::{
    ChartDesign, ChartPoint, Criteria, Criterion, LimitBasis, Scatter, Spread, evaluate,
};
use vaaka_core::study::{
    BackTestSegment, DesignChoice, Fault, LimitChoice, Study, StudyInput, StudyPoint, back_test,
    study,
};

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

fn at(index: i64) -> Timestamp {
    Timestamp::from_second(1_760_000_000 + index * 8 * 3_600).unwrap()
}

fn normal(rng: &mut ChaCha8Rng) -> f64 {
    let radius = (-2.0 * (1.0 - rng.random::<f64>()).ln()).sqrt();
    radius * (std::f64::consts::TAU * rng.random::<f64>()).cos()
}

fn points(values: &[f64], readings: u32, rng: &mut ChaCha8Rng) -> Vec<StudyPoint> {
    values
        .iter()
        .enumerate()
        .map(|(index, value)| {
            let own: Vec<f64> = (0..readings).map(|_| normal(rng)).collect();
            StudyPoint {
                measured_at: at(index as i64),
                value: *value,
                readings,
                scatter: Scatter::of(&own),
                segment: 1,
                shift: Some(index as i64),
                shift_kind: ["Early", "Late"][index % 2].to_owned(),
                person: ["A", "B", "C"][index % 3].to_owned(),
                excluded: false,
            }
        })
        .collect()
}

fn of(points: &[StudyPoint]) -> Study {
    study(&StudyInput {
        points,
        interval: SHIFT,
        resolution: 0.0,
        multiplier: 3.25,
        shift_kinds: &[],
        regulars: &[],
    })
}

/// Values moved and stretched move and stretch the limits, and change nothing that has no unit.
#[test]
fn the_study_has_no_unit_of_its_own() {
    let mut rng = ChaCha8Rng::seed_from_u64(71);
    for _ in 0..20 {
        let values: Vec<f64> = (0..60).map(|_| normal(&mut rng)).collect();
        let (shift, scale) = (rng.random_range(-50.0..50.0), rng.random_range(0.01..100.0));
        let moved: Vec<f64> = values.iter().map(|value| shift + scale * value).collect();
        let (a, b) = (of(&points(&values, 1, &mut rng)), of(&points(&moved, 1, &mut rng)));
        let (la, lb) = (a.limits.as_ref().unwrap().limits, b.limits.as_ref().unwrap().limits);
        assert!((lb.sigma / la.sigma / scale - 1.0).abs() < 1e-9);
        assert!((lb.center_line - shift - scale * la.center_line).abs() < 1e-9 * (1.0 + scale));
        let near = |x: Option<f64>, y: Option<f64>| (x.unwrap() - y.unwrap()).abs() < 1e-6;
        assert!(near(a.autocorrelation, b.autocorrelation));
        assert!(near(
            a.normality.map(|one| one.probability),
            b.normality.map(|one| one.probability)
        ));
        assert!(near(
            a.technicians.test.map(|one| one.probability),
            b.technicians.test.map(|one| one.probability)
        ));
        assert_eq!(a.unstable.len(), b.unstable.len());
        assert_eq!(a.cautions.len(), b.cautions.len());
    }
}

/// Groups that do not differ are marked about once in a hundred times, as the test's level says.
#[test]
fn differences_are_not_seen_where_there_are_none() {
    let mut rng = ChaCha8Rng::seed_from_u64(72);
    let runs = 600;
    let marked = (0..runs)
        .filter(|_| {
            let values: Vec<f64> = (0..45).map(|_| normal(&mut rng)).collect();
            of(&points(&values, 1, &mut rng)).technicians.is_marked()
        })
        .count();
    // 6 expected; four standard deviations of a Poisson count more.
    assert!(marked <= 16, "{marked} of {runs}");
}

/// Leaving a point out is as if it had not been there, but for the gap that it leaves.
#[test]
fn what_is_left_out_counts_nowhere() {
    let mut rng = ChaCha8Rng::seed_from_u64(73);
    let mut values: Vec<f64> = (0..50).map(|_| normal(&mut rng)).collect();
    values[0] = 40.0;
    let mut with = points(&values, 1, &mut rng);
    with[0].excluded = true;
    let without: Vec<StudyPoint> = with[1..].to_vec();
    let (a, b) = (of(&with), of(&without));
    assert_eq!(a.limits, b.limits);
    assert_eq!((a.normality, a.technicians), (b.normality, b.technicians));
    assert_eq!((a.excluded, a.used), (1, b.used));
}

fn choice(limits: LimitChoice) -> DesignChoice {
    let like = ChartDesign::given(0.0, 1.0);
    DesignChoice {
        limits,
        below: 3.25,
        above: 3.25,
        ewma: like.ewma,
        cusum: like.cusum,
        spread: Spread::Range,
        by_readings: true,
        raising: like.raising,
        advisory: like.advisory,
    }
}

/// Limits from a baseline hold what comes after it as often as they promise: over many baselines of sixty
/// checks the share beyond the limits is that of ±3.25 sigma, a little more for their own uncertainty.
#[test]
fn limits_hold_what_they_promise() {
    let mut rng = ChaCha8Rng::seed_from_u64(74);
    let (mut beyond, mut all) = (0, 0);
    for _ in 0..200 {
        let values: Vec<f64> = (0..60).map(|_| 5.0 + 2.0 * normal(&mut rng)).collect();
        let found = of(&points(&values, 1, &mut rng));
        let design = found.design(&choice(LimitChoice::Baseline), 0.0).unwrap();
        let later: Vec<ChartPoint> =
            (0..200).map(|i| ChartPoint::new(at(i), 5.0 + 2.0 * normal(&mut rng))).collect();
        let design = ChartDesign {
            raising: Criteria::NONE.with(Criterion::BeyondLimits),
            advisory: Criteria::NONE,
            ..design
        };
        let (_, evaluations) = evaluate(&design, SHIFT, &later);
        beyond += evaluations.iter().filter(|one| !one.firings().is_empty()).count();
        all += later.len();
    }
    let share = beyond as f64 / all as f64;
    // 2Φ(−3.25) = 0.00115.
    assert!((0.0009..0.0040).contains(&share), "{share}");
}

/// Scatter within checks is charted where readings were repeated, with limits that hold it.
#[test]
fn scatter_is_charted_where_readings_are_repeated() {
    let mut rng = ChaCha8Rng::seed_from_u64(75);
    let values: Vec<f64> = (0..60).map(|_| normal(&mut rng)).collect();
    let single = of(&points(&values, 1, &mut rng));
    assert_eq!(single.design(&choice(LimitChoice::Baseline), 0.0).unwrap().spread, None);
    let repeated = points(&values, 4, &mut rng);
    let design = of(&repeated).design(&choice(LimitChoice::Baseline), 0.0).unwrap();
    let spread = design.spread.unwrap();
    assert!((spread.within - 1.0).abs() < 0.15, "{spread:?}");
    let lines = spread.lines(4).unwrap();
    let outside = repeated.iter().filter(|point| {
        let range = point.scatter.unwrap().by(Spread::Range);
        range > lines.upper || range < lines.lower
    });
    assert!(outside.count() <= 2);
    assert!(spread.lines(1).is_none());
}

/// Whatever limits rest on, the design says so, and its run length is there or refused in words.
#[test]
fn every_basis_has_its_words() {
    let mut rng = ChaCha8Rng::seed_from_u64(76);
    let values: Vec<f64> = (0..60).map(|_| normal(&mut rng)).collect();
    let found = of(&points(&values, 1, &mut rng));
    let mut seen = std::collections::BTreeSet::new();
    for limits in [
        LimitChoice::Baseline,
        LimitChoice::Given { target: 1.0, sigma: 2.0 },
        LimitChoice::Certificate { sigma: 2.0, standard_uncertainty: 0.5 },
        LimitChoice::ActionLines { lower: -3.0, upper: 4.0 },
    ] {
        let design = found.design(&choice(limits), 0.0).unwrap();
        assert!(seen.insert(design.basis.words()));
        let length = run_length_of(&design, Change::None, Circumstances::default());
        assert!(length.is_ok_and(|length| length.average > 1.0), "{:?}", design.basis);
        // A design is stored, and reads back as it was.
        let stored = serde_json::to_string(&design).unwrap();
        assert_eq!(serde_json::from_str::<ChartDesign>(&stored).unwrap(), design);
    }
    assert!(seen.insert(LimitBasis::Levels.words()));
}

/// Faults that nothing announced are counted, and a signal long before one is not before it.
#[test]
fn only_signals_that_still_speak_come_before_a_fault() {
    let quiet = |from: i64, to: i64| -> Vec<StudyPoint> {
        (from..to)
            .map(|index| StudyPoint {
                measured_at: at(index),
                value: if index % 2 == 0 { 0.3 } else { -0.3 },
                readings: 1,
                scatter: None,
                segment: 1,
                shift: Some(index),
                shift_kind: String::new(),
                person: String::new(),
                excluded: false,
            })
            .collect()
    };
    let mut series = quiet(0, 100);
    series[20].value = 9.0;
    series[90].value = 9.0;
    let mut design = ChartDesign::given(0.0, 1.0);
    design.raising = Criteria::NONE.with(Criterion::BeyondLimits);
    let segment = BackTestSegment { design, points: series };
    let fault = |index| Fault { at: at(index), words: "failed".to_owned() };
    // At 60 nothing speaks any more; at 95 the signal of 90 does; before 10 there is none.
    let found = back_test(&[segment], &[fault(10), fault(60), fault(95)], SHIFT);
    assert_eq!((found.signals.len(), found.seen, found.faults), (2, 1, 3));
    assert_eq!(found.signals[0].before, None);
    assert_eq!(found.signals[1].before, Some((2, 5)));
    let words = found.words();
    assert!(words.contains("signalled twice, 1 of them before known faults: 1 of 3"), "{words}");
}
