use super::*;
use crate::chart::{Criterion, Side};
use rand::{Rng, SeedableRng};

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

fn at(index: i64) -> Timestamp {
    Timestamp::from_second(1_760_000_000 + index * 8 * 3_600).unwrap()
}

fn point(index: i64, value: f64) -> StudyPoint {
    StudyPoint {
        measured_at: at(index),
        value,
        readings: 1,
        scatter: None,
        segment: 1,
        shift: Some(index),
        shift_kind: ["Early", "Late", "Night"][index as usize % 3].to_owned(),
        person: ["A", "B"][(index as usize / 3) % 2].to_owned(),
        excluded: false,
    }
}

fn normal(count: i64, seed: u64) -> Vec<f64> {
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    (0..count)
        .map(|_| {
            let radius = (-2.0 * (1.0 - random.random::<f64>()).ln()).sqrt();
            radius * (std::f64::consts::TAU * random.random::<f64>()).cos()
        })
        .collect()
}

fn points(values: &[f64]) -> Vec<StudyPoint> {
    values.iter().enumerate().map(|(index, value)| point(index as i64, *value)).collect()
}

fn of(points: &[StudyPoint]) -> Study {
    let kinds = ["Early", "Late", "Night"].map(str::to_owned);
    let regulars = ["A", "B"].map(str::to_owned);
    study(&StudyInput {
        points,
        interval: SHIFT,
        resolution: 0.1,
        multiplier: 3.25,
        shift_kinds: &kinds,
        regulars: &regulars,
    })
}

#[test]
fn a_quiet_period_has_no_faults() {
    let found = of(&points(&normal(60, 4)));
    assert!(found.faults.is_empty(), "{:?}", found.faults);
    assert_eq!((found.used, found.shifts, found.excluded), (60, 60, 0));
    let limits = found.limits.as_ref().unwrap().limits;
    assert!((0.75..1.25).contains(&limits.sigma), "{limits:?}");
    assert!(found.normality.unwrap().probability > 0.01);
    assert!(!found.technicians.is_marked() && !found.shift_kinds.is_marked());
    assert_eq!(found.technicians.groups.iter().map(|group| group.points).sum::<usize>(), 60);
}

/// Empty, one and two points; all excluded; all equal; a value that is no number.
#[test]
fn what_makes_no_baseline_is_said() {
    assert_eq!(of(&[]).faults, [StudyFault::Nothing]);
    for count in [1, 2, 19] {
        let found = of(&points(&normal(count, 4)));
        assert!(
            found.faults.contains(&StudyFault::TooFewShifts {
                got: count as usize,
                required: MINIMUM_BASELINE_POINTS
            }),
            "{count}: {:?}",
            found.faults
        );
        assert_eq!(found.limits, None);
    }
    let mut all_out = points(&normal(30, 4));
    for point in &mut all_out {
        point.excluded = true;
    }
    let found = of(&all_out);
    assert_eq!((found.faults.as_slice(), found.excluded), ([StudyFault::Nothing].as_slice(), 30));
    let equal = points(&[2.0; 30]);
    assert!(of(&equal).limits.unwrap().limits.resolution_floor);
    let mut no_number = points(&normal(30, 4));
    no_number[7].value = f64::INFINITY;
    let found = of(&no_number);
    assert!(found.faults.contains(&StudyFault::Statistic(StatsError::NotFinite { index: 7 })));
    for fault in found.faults {
        assert!(!fault.to_string().is_empty());
    }
}

#[test]
fn each_kind_of_shift_and_each_regular_has_to_be_there() {
    let mut narrow = points(&normal(40, 4));
    for point in &mut narrow {
        point.shift_kind = "Early".into();
        point.person = "A".into();
    }
    let faults = of(&narrow).faults;
    assert_eq!(
        faults,
        [
            StudyFault::ShiftKindMissing { kind: "Late".into() },
            StudyFault::ShiftKindMissing { kind: "Night".into() },
            StudyFault::RegularMissing { name: "B".into() },
        ]
    );
}

/// Two checks of one shift are one shift, and values from before count by their time.
#[test]
fn different_shifts_are_counted() {
    let mut twice = points(&normal(30, 4));
    for (index, point) in twice.iter_mut().enumerate() {
        point.shift = Some(index as i64 / 2);
    }
    assert_eq!(of(&twice).shifts, 15);
    for point in &mut twice {
        point.shift = None;
    }
    let found = of(&twice);
    assert_eq!(found.shifts, 30);
    assert!(found.cautions.contains(&Caution::FromBefore { points: 30 }));
}

#[test]
fn two_technicians_with_two_levels_are_named() {
    let mut apart = points(&normal(60, 4));
    for point in &mut apart {
        point.value += if point.person == "A" { 1.5 } else { -1.5 };
    }
    let found = of(&apart);
    assert!(found.cautions.contains(&Caution::TechniciansDiffer), "{:?}", found.cautions);
    assert!(!found.cautions.contains(&Caution::ShiftsDiffer));
    let means: Vec<f64> = found.technicians.groups.iter().map(|group| group.mean).collect();
    assert!(means[0] > 1.0 && means[1] < -1.0);
}

#[test]
fn an_outlier_and_a_trend_make_it_unstable_until_they_are_left_out() {
    let mut values = normal(60, 4);
    values[30] = 9.0;
    let mut odd = points(&values);
    let found = of(&odd);
    assert!(
        found
            .unstable
            .iter()
            .any(|(place, firing)| { *place == 30 && firing.criterion == Criterion::BeyondLimits })
    );
    let wide = found.limits.unwrap().limits.sigma;
    odd[30].excluded = true;
    let found = of(&odd);
    assert_eq!((found.excluded, found.used), (1, 59));
    assert!(found.limits.as_ref().unwrap().limits.sigma < wide);
    assert!(!found.unstable.iter().any(|(_, firing)| firing.criterion == Criterion::BeyondLimits));
}

/// σ_w² = 4, σ_b² = 9: means of four vary by √(9 + 1).
#[test]
fn components_of_repeated_readings() {
    let noise = normal(4 * 2_000, 9);
    let own = normal(2_000, 10);
    let repeated: Vec<StudyPoint> = (0..2_000)
        .map(|check| {
            let readings: Vec<f64> =
                (0..4).map(|index| 3.0 * own[check] + 2.0 * noise[4 * check + index]).collect();
            StudyPoint {
                value: mean(&readings).unwrap(),
                readings: 4,
                scatter: Scatter::of(&readings),
                ..point(check as i64, 0.0)
            }
        })
        .collect();
    let found = of(&repeated).components.unwrap();
    assert!((found.within - 2.0).abs() < 0.05, "{found:?}");
    assert!((found.between - 3.0).abs() < 0.15, "{found:?}");
    assert_eq!(found.readings, 4);
}

fn choice(limits: LimitChoice) -> DesignChoice {
    let like = ChartDesign::given(0.0, 1.0);
    DesignChoice {
        limits,
        below: 3.0,
        above: 4.0,
        ewma: like.ewma,
        cusum: like.cusum,
        spread: Spread::StdDev,
        by_readings: true,
        raising: like.raising,
        advisory: like.advisory,
    }
}

#[test]
fn limits_rest_on_what_was_chosen() {
    let found = of(&points(&normal(60, 4)));
    let made = |limits| found.design(&choice(limits), 0.1);
    let design = made(LimitChoice::Baseline).unwrap();
    let sigma = found.limits.as_ref().unwrap().limits.sigma;
    assert!(
        (design.below - 3.0 * sigma).abs() < 1e-12 && (design.above - 4.0 * sigma).abs() < 1e-12
    );
    let given = made(LimitChoice::Given { target: 2.0, sigma: 0.5 }).unwrap();
    assert_eq!((given.sigma, given.basis), (0.5, LimitBasis::Given));
    let certified =
        made(LimitChoice::Certificate { sigma: 0.3, standard_uncertainty: 0.4 }).unwrap();
    assert!((certified.sigma - 0.5).abs() < 1e-15);
    let lines = made(LimitChoice::ActionLines { lower: -2.0, upper: 6.0 }).unwrap();
    assert!(!lines.is_statistical());
    assert_eq!((lines.below, lines.above), (4.0, 4.0));
    // A sigma of zero, lines the wrong way round, a multiplier of nothing, no baseline.
    for limits in [
        LimitChoice::Given { target: 0.0, sigma: 0.0 },
        LimitChoice::Given { target: f64::NAN, sigma: 1.0 },
        LimitChoice::ActionLines { lower: 1.0, upper: 1.0 },
    ] {
        assert!(!made(limits).unwrap_err().to_string().is_empty());
    }
    let narrow = DesignChoice { below: 0.0, ..choice(LimitChoice::Baseline) };
    assert_eq!(found.design(&narrow, 0.1), Err(DesignFault::Multiplier { given: 0.0 }));
    assert_eq!(of(&[]).design(&choice(LimitChoice::Baseline), 0.1), Err(DesignFault::NoBaseline));
    // The floor binds whatever the limits rest on.
    let coarse =
        found.design(&choice(LimitChoice::Given { target: 0.0, sigma: 0.01 }), 0.1).unwrap();
    assert!(coarse.resolution_floor && (coarse.above - 0.15).abs() < 1e-12);
}

/// Quiet, then a drift that ends in a failure and an adjustment, then quiet again with one odd point.
#[test]
fn the_past_is_run_again() {
    let noise = normal(200, 12);
    let value = |index: usize| match index {
        60..100 => noise[index] * 0.6 + 0.15 * (index as f64 - 60.0),
        150 => 6.0,
        _ => noise[index] * 0.6,
    };
    let part = |range: std::ops::Range<usize>, segment| -> Vec<StudyPoint> {
        range.map(|index| StudyPoint { segment, ..point(index as i64, value(index)) }).collect()
    };
    let design = ChartDesign::given(0.0, 0.6);
    let segments = [
        BackTestSegment { design: design.clone(), points: part(0..100, 1) },
        BackTestSegment { design: design.after_adjustment(0.0), points: part(100..200, 2) },
    ];
    let faults = [Fault { at: at(99), words: "failed".into() }];
    let found = back_test(&segments, &faults, SHIFT);
    assert_eq!((found.points, found.faults, found.seen), (200, 1, 1));
    let before: Vec<_> = found.signals.iter().filter_map(|signal| signal.before).collect();
    assert_eq!(before.len(), 1, "{:?}", found.signals);
    assert!((10..40).contains(&before[0].1), "{before:?}");
    assert!(found.signals.iter().any(|s| s.at == at(150) && s.side == Some(Side::Above)));
    assert!(found.words().contains("1 of them before known faults: 1 of 1"), "{}", found.words());
    // Nothing known, nothing raised: words for each.
    let quiet = back_test(
        &segments[..1]
            .iter()
            .map(|s| BackTestSegment { points: s.points[..50].to_vec(), ..s.clone() })
            .collect::<Vec<_>>(),
        &[],
        SHIFT,
    );
    assert!(quiet.words().contains("no fault is known"), "{}", quiet.words());
}

fn about(lower: f64, upper: f64) -> Around {
    Around { lower: Some(lower), upper: Some(upper), open_signals: 0 }
}

fn proposed(found: &Study) -> ChartDesign {
    ChartDesign {
        estimated: found.estimated(),
        ..ChartDesign::from_limits(&found.limits.as_ref().unwrap().limits)
    }
}

/// A quiet period within its tolerance has nothing against it; of a hundred of them few are accused.
#[test]
fn quiet_periods_are_left_alone() {
    let accused = (0..100)
        .filter(|seed| {
            let found = of(&points(&normal(60, 1_000 + seed)));
            !found.objections(&proposed(&found), about(-9.0, 9.0)).is_empty()
        })
        .count();
    assert!(accused <= 4, "{accused}");
}

/// The scale of the tank: a drift of three weeks whose limits swallow it and reach beyond ±20. Each finding is said, so
/// is a signal that nobody has closed.
#[test]
fn a_drift_a_step_wide_limits_and_an_open_signal_are_said() {
    let drifting: Vec<f64> =
        normal(63, 5).iter().enumerate().map(|(i, noise)| 2.5 * noise + 0.3 * i as f64).collect();
    let found = of(&points(&drifting));
    let design = proposed(&found);
    let objections = found.objections(&design, Around { open_signals: 1, ..about(-20.0, 20.0) });
    let has = |is: &dyn Fn(&Objection) -> bool| objections.iter().any(is);
    assert!(has(&|one| matches!(one, Objection::OpenSignal { count: 1 })), "{objections:?}");
    assert!(
        has(&|one| matches!(one, Objection::Slope { change, .. } if (14.0..24.0).contains(change))),
        "{objections:?}"
    );
    assert!(has(&|one| matches!(one, Objection::BeyondTolerance { .. })), "{objections:?}");
    let stepped: Vec<f64> = normal(60, 6)
        .iter()
        .enumerate()
        .map(|(i, noise)| noise + if i < 25 { 0.0 } else { 3.0 })
        .collect();
    let found = of(&points(&stepped));
    let objections = found.objections(&proposed(&found), about(-30.0, 30.0));
    assert!(
        objections.iter().any(|one| matches!(one, Objection::Step { at, size, .. }
            if (22..=28).contains(at) && (2.2..3.8).contains(size))),
        "{objections:?}"
    );
    // Given limits do not rest on the period: only the tolerance and open signals speak against them.
    let given = ChartDesign { basis: LimitBasis::Given, ..ChartDesign::given(0.0, 1.0) };
    assert!(found.objections(&given, about(-30.0, 30.0)).is_empty());
    let one_sided = Around { lower: None, upper: Some(3.0), open_signals: 0 };
    assert!(matches!(found.objections(&given, one_sided)[..], [Objection::BeyondTolerance { .. }]));
}

/// Of six years of checks a slope of a tenth of a sigma is told from none, and does not matter.
#[test]
fn what_is_told_and_does_not_matter_is_no_objection() {
    let long: Vec<f64> =
        normal(6_000, 8).iter().enumerate().map(|(i, noise)| noise + i as f64 * 3e-5).collect();
    let found = of(&points(&long));
    assert!(found.trend.unwrap().probability < TOLD, "{:?}", found.trend);
    assert!(found.objections(&proposed(&found), about(-9.0, 9.0)).is_empty());
}
