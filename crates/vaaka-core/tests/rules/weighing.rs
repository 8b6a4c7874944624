//! A weighing check from its plan to its verdict, worked by hand.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_core::chart::{ChartDesign, ChartState, Criteria};
use vaaka_core::check::{RunContext, StreamSlot, complete};
use vaaka_core::judgement::{
    Attempt, Characteristic, Conformity, ContributionSource, Control, Decision, NextAction, Reason,
    RepeatState,
};
use vaaka_core::method::weighing::Weighing;
use vaaka_core::method::{
    Entry, EntryValue, Input, Method, MethodError, Place, PlanPoint, PlanSpec, PlanStandard,
    Primitive, Purpose, RunState, SpotState, Step, StepKey, Travel,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn piece(tag: &str, nominal: &str, value: &str) -> CertifiedPiece {
    CertifiedPiece {
        tag: tag.into(),
        nominal: d(nominal),
        certified_value: d(value),
        expanded_uncertainty: d("0.00015"),
        coverage_factor: d("2"),
        unit: Unit::Kilogram,
        class_limit: false,
        non_uniformity: None,
        by_temperature: vec![],
        at_unit: None,
    }
}

fn load(nominal: &str, travel: Travel, repeats: u32, pieces: Vec<CertifiedPiece>) -> PlanPoint {
    PlanPoint {
        nominal: d(nominal),
        travel,
        place: Place::Middle,
        repeats,
        charted: true,
        pieces,
        standard: 0,
    }
}

/// A class III scale, e = 10 g, d = 1 g: 10 kg up, 20 kg twice, 10 kg down.
fn plan() -> PlanSpec {
    let (a, b) = (piece("10-1", "10", "10.00011"), piece("10-2", "10", "10.00010"));
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Kilogram,
        resolution: d("0.001"),
        maximum: d("60"),
        range_low: d("0"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "M1-B".into(),
            name: "Kitchen weights".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings: json!({
            "schema": "weighing-1", "class": "III", "verification_interval": "0.01",
            "stage": "in_service", "pan": "rectangular", "added_weights": false,
            "case": "red case", "preparation": ["level"], "cautions": ["feet clear"], "closing": ["put away"],
        }),
        points: vec![
            load("10", Travel::Rising, 1, vec![a.clone()]),
            load("20", Travel::Rising, 2, vec![a.clone(), b]),
            load("10", Travel::Falling, 1, vec![a]),
        ],
    }
}

fn run(plan: &PlanSpec, readings: &[&str]) -> RunState {
    let mut readings = readings.iter();
    let mut run = RunState::default();
    for step in Weighing.way(plan).unwrap() {
        for repeat in 1..=step.repeats {
            let value = match &step.input {
                Input::Tag { expected, .. } => EntryValue::Tag { tag: expected.clone() },
                Input::Reading { .. } => {
                    let text = readings.next().expect("a reading for each step");
                    let (indication, added) = match text.split_once('+') {
                        Some((indication, added)) => (d(indication), Some(d(added))),
                        None => (d(text), None),
                    };
                    EntryValue::Reading { indication, added, far_confirmed: false }
                }
                _ => EntryValue::Confirmed,
            };
            run.entries.push(Entry {
                step: step.key.clone(),
                repeat,
                at: Timestamp::UNIX_EPOCH,
                value,
            });
        }
    }
    assert!(readings.next().is_none());
    run
}

fn find<'a>(found: &'a [Characteristic], key: &str) -> &'a Characteristic {
    found.iter().find(|c| c.key == key).unwrap_or_else(|| panic!("{key} in {found:?}"))
}

#[test]
fn errors_repeatability_hysteresis_and_return_worked_by_hand() {
    let plan = plan();
    let found = Weighing
        .evaluate(&plan, &run(&plan, &["0.001", "10.004", "20.010", "20.013", "10.006", "0.000"]))
        .unwrap();
    // E_c = I − L − E₀: 10.004 − 10.00011 − 0.001 = 0.00289 kg = 2.89 g.
    let ten = find(&found, "error-10-rising");
    assert_eq!((ten.singles.as_slice(), ten.unit), (&[d("2.89000")][..], Unit::Gram));
    // 20 kg: 20.010 − 20.00021 − 0.001 = 8.79 g and 11.79 g; their mean 10.29 g.
    let twenty = find(&found, "error-20-rising");
    assert_eq!(twenty.singles, [d("8.79"), d("11.79")]);
    assert!((twenty.value() - 10.29).abs() < 1e-12);
    assert_eq!(twenty.reference_value, Some(d("20000.21")));
    let of = |source: ContributionSource| {
        let part = twenty.contributions.iter().find(|part| part.source == source);
        part.map_or(0.0, |part| part.standard_uncertainty)
    };
    // The pieces' uncertainties add linearly: 2 · 0.075 g; up to U of drift is 0.3 g/√3; buoyancy 1.5e−5 · 20 kg/√3.
    assert!((of(ContributionSource::Certificate) - 0.15).abs() < 1e-12);
    assert!((of(ContributionSource::StandardDrift) - 0.3 / 3.0_f64.sqrt()).abs() < 1e-12);
    assert!((of(ContributionSource::AirBuoyancy) - 0.300_003_15 / 3.0_f64.sqrt()).abs() < 1e-8);
    // s of the two is 3/√2, of their mean 1.5 g; one rounding of the load, one of the zero beside it.
    assert!((of(ContributionSource::Repeatability) - 1.5).abs() < 1e-12);
    assert!((of(ContributionSource::Resolution) - 1.0 / 12.0_f64.sqrt()).abs() < 1e-12);
    assert!((of(ContributionSource::Zero) - 1.0 / 12.0_f64.sqrt()).abs() < 1e-12);
    // Class III, 2000 e, upper boundary included: 1.0 e, in service twice: 20 g.
    assert_eq!(twenty.limits.unwrap().upper, Some(d("20")));
    assert_eq!(ten.limits.unwrap().upper, Some(d("20")), "1000 e");
    assert_eq!(find(&found, "range-20-rising").singles, [d("3")]);
    // Falling minus rising at 10 kg: 6 − 4 = 2 g.
    assert_eq!(find(&found, "hysteresis-10-falling").singles, [d("2")]);
    let back = find(&found, "zero-return");
    assert_eq!((back.singles[0], back.limits.unwrap().upper), (d("-1"), Some(d("10"))));
    assert!(found.iter().all(|c| !c.indicative), "d = 0.1 e");
}

#[test]
fn as_left_is_judged_by_initial_limits() {
    let plan = PlanSpec { purpose: Purpose::AsLeft, ..plan() };
    let found = Weighing.evaluate(&plan, &run(&plan, &["0", "10", "20", "20", "10", "0"])).unwrap();
    assert_eq!(find(&found, "error-20-rising").limits.unwrap().upper, Some(d("10")));
}

#[test]
fn added_weights_remove_the_rounding() {
    let mut plan = plan();
    plan.resolution = d("0.01");
    // d = e: without added weights the result is indicative.
    let plain = Weighing.evaluate(&plan, &run(&plan, &["0", "10", "20", "20", "10", "0"])).unwrap();
    assert!(find(&plain, "error-20-rising").indicative);
    plan.settings["added_weights"] = json!(true);
    // OIML R 76-1, A.4.4.3: P = I + e/2 − ΔL = 10.00 + 0.005 − 0.003 = 10.002; E = 1.89 g.
    let readings = ["0", "10.00+0.003", "20.00+0.005", "20.00+0.005", "10.00+0.005", "0"];
    let found = Weighing.evaluate(&plan, &run(&plan, &readings)).unwrap();
    assert_eq!(find(&found, "error-10-rising").singles, [d("1.89")]);
    assert!(!find(&found, "error-20-rising").indicative);
}

/// Shifting every indication shifts every error by the same, and nothing else.
#[test]
fn data_shift_errors_shift() {
    let plan = plan();
    let base = Weighing
        .evaluate(&plan, &run(&plan, &["0", "10.001", "20.002", "20.004", "10.003", "0"]))
        .unwrap();
    let moved = Weighing
        .evaluate(&plan, &run(&plan, &["0", "10.006", "20.007", "20.009", "10.008", "0"]))
        .unwrap();
    for (a, b) in base.iter().zip(&moved) {
        let by = if a.key.starts_with("error") { d("5") } else { d("0") };
        for (x, y) in a.singles.iter().zip(&b.singles) {
            assert_eq!(*y - *x, by, "{}", a.key);
        }
    }
}

#[test]
fn incomplete_runs_and_bad_settings_are_named() {
    let plan = plan();
    let mut short = run(&plan, &["0", "10", "20", "20", "10", "0"]);
    short.entries.retain(|entry| !(entry.step.0.starts_with("load-2") && entry.repeat == 2));
    assert_eq!(
        Weighing.evaluate(&plan, &short),
        Err(MethodError::Incomplete {
            step: StepKey("load-2-20-rising".into()),
            required: 2,
            got: 1
        })
    );
    for (key, value) in [
        ("verification_interval", json!("0")),
        ("class", json!("V")),
        ("schema", json!("weighing-9")),
    ] {
        let mut bad = plan.clone();
        bad.settings[key] = value;
        assert!(matches!(Weighing.way(&bad), Err(MethodError::Settings { .. })), "{key}");
    }
    let mut none = plan;
    none.points.clear();
    assert!(Weighing.way(&none).is_err());
}

#[test]
fn the_way_begins_with_cautions_and_a_redone_zero_voids_the_loads() {
    let way = Weighing.way(&plan()).unwrap();
    assert!(matches!(&way[0].input, Input::Confirm { caution: true, .. }));
    let keys: Vec<&str> = way.iter().map(|step| step.key.0.as_str()).collect();
    assert_eq!(
        keys,
        [
            "cautions",
            "standard",
            "prepared",
            "zero",
            "load-1-10-rising",
            "load-2-20-rising",
            "load-3-10-falling",
            "zero-return",
            "review",
            "closing"
        ]
    );
    let zero = &way[3];
    assert_eq!(
        zero.voids.iter().map(|k| k.0.as_str()).collect::<Vec<_>>(),
        ["load-1-10-rising", "load-2-20-rising", "load-3-10-falling", "zero-return", "review"]
    );
    assert!(way[1].voids.contains(&"zero".into()), "another standard voids everything measured");
}

fn active_spot(step: &Step) -> (f64, f64, f64, String) {
    step.scene
        .as_ref()
        .unwrap()
        .primitives
        .iter()
        .find_map(|p| match p {
            Primitive::Spot { x, y, radius, state: SpotState::Active, label } => {
                Some((*x, *y, *radius, label.clone()))
            }
            _ => None,
        })
        .unwrap()
}

#[test]
fn the_drawing_follows_the_plan() {
    let mut plan = plan();
    let before = active_spot(&Weighing.way(&plan).unwrap()[5]);
    plan.points[1].place = Place::BackLeft;
    plan.points[1].nominal = d("50");
    let after = active_spot(&Weighing.way(&plan).unwrap()[5]);
    assert!(after.0 < before.0 && after.1 < before.1, "to the back left");
    assert!(after.2 > before.2, "a larger load is drawn larger");
    assert_eq!((before.3.as_str(), after.3.as_str()), ("20 kg", "50 kg"));
}

fn slot(key: &str) -> StreamSlot {
    StreamSlot {
        key: key.into(),
        design: Some(ChartDesign { advisory: Criteria::NONE, ..ChartDesign::given(1.0, 2.0) }),
        sigma_source: None,
        state: ChartState::new(SignedDuration::from_hours(8)),
        recent: vec![],
    }
}

fn context(earlier: &[Conformity]) -> RunContext {
    RunContext {
        measured_at: Timestamp::from_second(1_760_000_000).unwrap(),
        earlier: earlier.iter().map(|conforms| Attempt { conforms: *conforms }).collect(),
        slots: vec![slot("error-20-rising")],
        ..RunContext::default()
    }
}

/// In tolerance or not, in control or not: four combinations, four different answers.
#[test]
fn tolerance_and_control_are_never_merged() {
    let plan = plan();
    let judge = |twenty: &str, earlier: &[Conformity]| {
        let readings = ["0", "10.000", twenty, twenty, "10.000", "0"];
        complete(&Weighing, &plan, &run(&plan, &readings), &context(earlier)).unwrap()
    };
    let good = judge("20.001", &[]).verdict;
    assert_eq!(
        (good.conforms, good.control, good.action),
        (Conformity::Pass, Control::InControl, NextAction::Use)
    );
    let drifted = judge("20.012", &[]).verdict;
    assert_eq!((drifted.conforms, drifted.action), (Conformity::Pass, NextAction::UseAndFindCause));
    assert!(matches!(drifted.control, Control::Signal { .. }));
    assert!(
        drifted.reasons.iter().any(|r| matches!(r, Reason::Advice { .. })),
        "a signal alone adjusts nothing"
    );
    let out = judge("20.030", &[]);
    assert_eq!(
        (out.verdict.conforms, out.verdict.action),
        (Conformity::Fail, NextAction::RepeatOnce)
    );
    assert!(out.points[0].ordinal.is_some(), "the first run is the point");

    // The repeat is a hollow mark, whatever it says; the chart's state does not move.
    let confirmed = judge("20.030", &[Conformity::Fail]);
    assert_eq!(
        (confirmed.verdict.repeat, confirmed.verdict.action),
        (RepeatState::Confirmed, NextAction::Hold)
    );
    assert_eq!(
        (confirmed.points[0].ordinal, confirmed.points[0].evaluation.is_none()),
        (None, true)
    );
    assert_eq!(confirmed.points[0].state, slot("error-20-rising").state);
    let doubtful = judge("20.001", &[Conformity::Fail]).verdict;
    assert_eq!((doubtful.repeat, doubtful.action), (RepeatState::Doubtful, NextAction::AskLead));
}

/// Averaging hides nothing: one single reading outside fails the check though the mean is inside.
#[test]
fn one_bad_single_fails() {
    let plan = plan();
    let readings = ["0", "10.000", "20.022", "20.000", "10.000", "0"];
    let verdict =
        complete(&Weighing, &plan, &run(&plan, &readings), &context(&[])).unwrap().verdict;
    assert_eq!(verdict.conforms, Conformity::Fail);
    assert!(
        verdict.reasons.iter().any(|r| matches!(r, Reason::SingleOutside { .. })),
        "{:?}",
        verdict.reasons
    );
}

/// What surrounds any measuring surrounds weighing, too: settings and conditions before the scale is made ready, and a wait that
/// binds whatever is read on it. No certified mass follows a temperature, so that no plan may seem to take one.
#[test]
fn weighing_has_surroundings_like_any_other() {
    let with = |more: serde_json::Value| {
        let mut plan = plan();
        let own = plan.settings.as_object_mut().unwrap();
        own.extend(more.as_object().unwrap().clone());
        plan
    };
    let condition = |of_standard: bool| {
        json!({ "name": "Room", "unit": "°C", "lower": "15", "upper": "30", "advice": "Wait.",
        "standard_temperature": of_standard })
    };
    let full = with(json!({
        "settings": [{ "name": "the unit", "kind": "exactly", "expected": "kg" }],
        "conditions": [condition(false)],
        "waits": [{ "what": "Warm up", "minimum_seconds": 600, "maximum_seconds": 7200 }],
    }));
    let way = Weighing.way(&full).unwrap();
    let place = |key: &str| {
        way.iter()
            .position(|step| step.key.0.starts_with(key))
            .unwrap_or_else(|| panic!("no {key}"))
    };
    let order = [
        "cautions",
        "standard",
        "setting",
        "condition",
        "prepared",
        "wait",
        "zero",
        "load-1",
        "zero-return",
        "review",
        "closing",
    ];
    assert!(order.windows(2).all(|pair| place(pair[0]) < place(pair[1])), "{order:?}");
    let bound = way.iter().filter(|step| step.within.is_some()).count();
    let read = way.iter().filter(|step| step.input.measures()).count();
    assert_eq!((bound, read), (5, 5));
    assert!(Weighing.way(&plan()).unwrap().iter().all(|step| step.within.is_none()));

    let said =
        Weighing.way(&with(json!({ "conditions": [condition(true)] }))).unwrap_err().to_string();
    assert!(
        said.contains("Room: this method takes its certified values at no temperature"),
        "{said}"
    );
    let said = Weighing.way(&with(
        json!({ "settings": [{ "name": "the unit", "kind": "exactly", "expected": "" }] }),
    ));
    assert!(said.is_err(), "a setting that must be nothing");
}
