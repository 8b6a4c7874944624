//! Any other gauge: limits of every form, both directions, waits and settings.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::judgement::{
    Characteristic, CharacteristicKind, Conformity, Decision, Surroundings, judge_conformity,
};
use vaaka_core::method::gauge::{Gauge, KEY};
use vaaka_core::method::{
    Entry, EntryError, EntryValue, Input, Method, MethodError, Place, PlanPoint, PlanSpec,
    PlanStandard, Primitive, Proposal, Purpose, RunState, SpotState, Step, Travel, accept, by_key,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::{CertifiedPiece, ValueAt};

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn point(nominal: &str, travel: Travel, repeats: u32, certified: &str) -> PlanPoint {
    PlanPoint {
        nominal: d(nominal),
        travel,
        place: Place::Middle,
        repeats,
        charted: true,
        pieces: vec![CertifiedPiece {
            tag: nominal.into(),
            nominal: d(nominal),
            certified_value: d(certified),
            expanded_uncertainty: d("0.4"),
            coverage_factor: d("2"),
            unit: Unit::Kilopascal,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }],
        standard: 0,
    }
}

fn settings() -> Value {
    json!({
        "schema": "gauge-1", "presentation": "applied", "range_low": "0",
        "mean_limit": { "form": "percent_of_range", "percent": "1.6" },
        "single_limit": null, "hysteresis_limit": { "form": "percent_of_range", "percent": "1.6" },
        "range_limit": null,
        "settings": [{ "name": "the unit on the display", "expected": "kPa" }],
        "conditions": [{ "name": "Room temperature", "unit": "°C", "lower": "18", "upper": "28",
            "advice": "Wait until the room is back." }],
        "waits": [{ "what": "Let it settle", "minimum_seconds": 120, "maximum_seconds": 900 }],
        "pause_seconds": 0,
        "cautions": ["Pressure: shield closed, eyes and ears protected."],
        "preparation": ["Vented, pointer at zero"], "closing": ["Vented again"],
    })
}

/// A pressure gauge of 600 kPa: 100 and 400 up, 400 and 100 down, the upper one twice.
fn plan() -> PlanSpec {
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Kilopascal,
        resolution: d("1"),
        range_low: d("0"),
        maximum: d("600"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "PC-1".into(),
            name: "Pressure reference".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings: settings(),
        points: vec![
            point("100", Travel::Rising, 1, "100.2"),
            point("400", Travel::Rising, 2, "399.8"),
            point("400", Travel::Falling, 2, "399.8"),
            point("100", Travel::Falling, 1, "100.2"),
        ],
    }
}

fn with(change: impl FnOnce(&mut Value)) -> PlanSpec {
    let mut plan = plan();
    change(&mut plan.settings);
    plan
}

/// Runs the whole way through `accept`, as a bench does, a quarter of a minute a step.
fn run(plan: &PlanSpec, readings: &[&str]) -> Result<RunState, EntryError> {
    let mut readings = readings.iter();
    let mut run = RunState::default();
    let mut at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Gauge.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        at += SignedDuration::from_secs(15);
        if matches!(step.input, Input::WaitOver { .. }) {
            at += SignedDuration::from_secs(120);
        }
        let typed = match &step.input {
            Input::Reading { .. } => (*readings.next().expect("a reading")).to_owned(),
            Input::Tag { expected, .. } | Input::Setting { expected, .. } => expected.clone(),
            Input::Condition { .. } => "21,5".to_owned(),
            _ => String::new(),
        };
        let confirm_far = Some(typed.clone());
        let proposal = Proposal { typed, ticked: 9, confirm_far, ..Proposal::default() };
        let value = accept(step, &proposal, &run, at)?;
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    Ok(run)
}

fn evaluate(plan: &PlanSpec, readings: &[&str]) -> Vec<Characteristic> {
    Gauge.evaluate(plan, &run(plan, readings).unwrap()).unwrap()
}

fn find<'a>(found: &'a [Characteristic], key: &str) -> &'a Characteristic {
    found.iter().find(|c| c.key == key).unwrap_or_else(|| panic!("no {key}"))
}

/// Titles of the steps that stand on one screen with each step of the way, itself among them.
fn screens(plan: &PlanSpec) -> Vec<Vec<String>> {
    let way = Gauge.way(plan).unwrap();
    let titles = |steps: &[Step]| steps.iter().map(|step| step.title.clone()).collect();
    way.iter().map(|step| titles(RunState::together(&way, &step.key))).collect()
}

/// Settings and conditions stand on one screen where the plan says so, and nothing else does; one alone is a step like any other.
#[test]
fn what_is_noted_side_by_side_stands_together() {
    assert!(screens(&plan()).iter().all(Vec::is_empty), "not where the plan says nothing");
    let together = with(|settings| settings["together"] = true.into());
    let shared: Vec<Vec<String>> =
        screens(&together).into_iter().filter(|screen| !screen.is_empty()).collect();
    let both = vec!["Unit on the display".to_owned(), "Room temperature".to_owned()];
    assert_eq!(shared, [both.clone(), both], "from either of the two");
    let alone = with(|settings| {
        settings["together"] = true.into();
        settings["conditions"] = json!([]);
    });
    assert!(screens(&alone).iter().all(Vec::is_empty));
    // Between two screens stands what measures: they do not run together.
    let way = Gauge.way(&together).unwrap();
    assert!(RunState::together(&way, &"no such step".into()).is_empty());
    assert!(way.iter().all(|step| !step.together || !step.input.measures()));
}

/// In whichever order they are kept, the check goes on behind both and comes to the same.
#[test]
fn the_order_on_one_screen_changes_nothing() {
    let plan = with(|settings| settings["together"] = true.into());
    let straight = run(&plan, &QUIET).unwrap();
    let way = Gauge.way(&plan).unwrap();
    let place = straight.entries.iter().position(|entry| entry.step.0 == "setting-1").unwrap();
    let mut swapped = straight.clone();
    swapped.entries.swap(place, place + 1);
    assert_eq!(Gauge.evaluate(&plan, &swapped).unwrap(), Gauge.evaluate(&plan, &straight).unwrap());
    // With the second alone the first is still what is asked for.
    let mut second = RunState { entries: swapped.entries[..=place].to_vec() };
    assert_eq!(second.next(&way).unwrap().0.key.0, "setting-1");
    second.entries.push(swapped.entries[place + 1].clone());
    assert_eq!(second.next(&way).unwrap().0.title, "Make ready");
}

const QUIET: [&str; 6] = ["101", "401", "402", "404", "403", "102"];

#[test]
fn errors_range_and_hysteresis_worked_by_hand() {
    let found = evaluate(&plan(), &QUIET);
    // 101 − 100.2; the mean of 401 and 402 less 399.8, by the exact sum.
    assert_eq!(find(&found, "error-100-rising").singles, [d("0.8")]);
    let up = find(&found, "error-400-rising");
    assert_eq!((up.singles.clone(), up.sum()), (vec![d("1.2"), d("2.2")], d("3.4")));
    assert_eq!(find(&found, "range-400-rising").singles, [d("1")]);
    // (4.2 + 3.2)/2 − (1.2 + 2.2)/2 = 2.0; 1.8 − 0.8 = 1.0.
    assert_eq!(find(&found, "hysteresis-400").singles, [d("2.0")]);
    assert_eq!(find(&found, "hysteresis-100").singles, [d("1.0")]);
    assert_eq!(find(&found, "hysteresis-400").kind, CharacteristicKind::Hysteresis);
    // 1.6 % of 600 kPa on both sides, at every point.
    assert_eq!(up.limits.unwrap().upper, Some(d("9.6")));
    assert_eq!(find(&found, "hysteresis-100").limits.unwrap().lower, Some(d("-9.6")));
    // u of the reference is U/k = 0.2; a single reading has one rounding, 1/√12.
    assert!((up.reference_standard_uncertainty() - 0.2).abs() < 1e-12);
    let single = find(&found, "error-100-rising").reading_standard_uncertainty();
    assert!((single - 1.0 / 12.0_f64.sqrt()).abs() < 1e-12);
}

#[test]
fn data_shift_errors_shift_and_hysteresis_does_not() {
    let shifted: Vec<String> = QUIET
        .iter()
        .map(|text| (text.parse::<Decimal>().unwrap() + Decimal::from(3)).to_string())
        .collect();
    let shifted: Vec<&str> = shifted.iter().map(String::as_str).collect();
    let (before, after) = (evaluate(&plan(), &QUIET), evaluate(&plan(), &shifted));
    for (a, b) in before.iter().zip(&after) {
        let expected = match a.kind {
            CharacteristicKind::Error => a.singles.iter().map(|e| e + Decimal::from(3)).collect(),
            _ => a.singles.clone(),
        };
        assert_eq!(b.singles, expected, "{}", a.key);
    }
}

/// Averaging hides nothing: a limit on the mean and a wider one on each reading, both hold.
#[rstest]
#[case(&["100", "400", "400", "400", "400", "100"], Conformity::Pass)]
// Mean error 0.2, singles −11.8 and +12.2: inside ±9.6 as a mean, outside ±12 as singles.
#[case(&["100", "388", "412", "400", "400", "100"], Conformity::Fail)]
#[case(&["100", "389", "411", "400", "400", "100"], Conformity::Pass)]
#[case(&["100", "410", "410", "400", "400", "100"], Conformity::Fail)]
fn the_mean_and_each_reading_have_limits(#[case] readings: &[&str], #[case] expected: Conformity) {
    let plan = with(|s| s["single_limit"] = json!({ "form": "absolute", "half_width": "12" }));
    let found = evaluate(&plan, readings);
    let up = find(&found, "error-400-rising");
    assert_eq!(judge_conformity(up, &Surroundings::default()).conformity, expected);
}

#[test]
fn a_gauge_in_bar_speaks_of_its_errors_in_bar() {
    let mut plan = plan();
    plan.unit = Unit::Bar;
    plan.maximum = d("6");
    plan.resolution = d("0.01");
    for (point, nominal) in plan.points.iter_mut().zip(["1", "4", "4", "1"]) {
        point.nominal = d(nominal);
    }
    let found = evaluate(&plan, &["1.01", "4.01", "4.02", "4.04", "4.03", "1.02"]);
    let up = find(&found, "error-1-rising");
    assert_eq!((up.unit, up.singles.clone()), (Unit::Bar, vec![d("0.008")]));
    assert_eq!(up.limits.unwrap().upper, Some(d("0.096")), "1.6 % of 6 bar");
}

/// Hysteresis as the greatest difference of rising and falling readings at a point, and
/// repeatability as the range of repeated ones, as EN 837-1:1996 has them for pressure gauges
/// (clause from memory): class 1.6 bears 1.6 % of the span for each of them.
#[rstest]
#[case("409.6", Conformity::Pass)]
#[case("409.7", Conformity::Fail)]
fn hysteresis_of_a_pressure_gauge_of_class_1_6(#[case] down: &str, #[case] expected: Conformity) {
    let mut plan = plan();
    plan.resolution = d("0.1");
    let found = evaluate(&plan, &["100", "400", "400", down, down, "100"]);
    let hysteresis = find(&found, "hysteresis-400");
    assert_eq!(hysteresis.singles, [d(down) - d("400")]);
    let judged = judge_conformity(hysteresis, &Surroundings::default());
    assert_eq!(judged.conformity, expected);
}

#[test]
fn a_value_that_depends_on_temperature_is_taken_at_the_one_that_was_read() {
    let mut plan = with(|s| s["conditions"][0]["standard_temperature"] = json!(true));
    let row = |t: &str, v: &str| ValueAt {
        temperature: d(t),
        certified_value: d(v),
        expanded_uncertainty: None,
    };
    plan.points[0].pieces[0].by_temperature = vec![row("20", "100.2"), row("25", "101.2")];
    // Read at 21.5 °C: 100.2 + 1.5/5.
    let found = evaluate(&plan, &QUIET);
    assert_eq!(find(&found, "error-100-rising").singles, [d("0.5")]);
    // The other points do not depend on it.
    assert_eq!(find(&found, "error-100-falling").singles, [d("1.8")]);
}

/// Levels of 0 and −6 dB average as powers: 10·lg((1 + 10^−0.6)/2) = −2.0371 dB, not −3.
#[test]
fn decibels_are_averaged_as_powers() {
    let mut plan = plan();
    plan.unit = Unit::Decibel;
    plan.range_low = d("-60");
    plan.maximum = d("0");
    plan.resolution = d("0.1");
    for (point, nominal) in plan.points.iter_mut().zip(["-10", "0", "0", "-10"]) {
        point.nominal = d(nominal);
        point.pieces.clear();
    }
    let found = evaluate(&plan, &["0", "0", "-6", "0", "0", "0"]);
    let up = &found[1];
    assert_eq!(up.mean, Some(d("-2.0371")));
    assert!((up.value() + 2.0371).abs() < 1e-9);
    assert_eq!(up.singles, [d("0"), d("-6")]);
}

#[test]
fn a_limit_of_one_side_lets_the_other_go() {
    let plan = with(|s| {
        s["mean_limit"] = json!({ "form": "absolute", "half_width": "5", "side": "upper" });
    });
    let judge = |readings: &[&str]| {
        let found = evaluate(&plan, readings);
        judge_conformity(&found[0], &Surroundings::default()).conformity
    };
    assert_eq!(judge(&["90", "400", "400", "400", "400", "100"]), Conformity::Pass);
    assert_eq!(judge(&["106", "400", "400", "400", "400", "100"]), Conformity::Fail);
}

#[test]
fn a_condition_is_computed_from_the_configuration() {
    let mut plan = with(|s| {
        s["conditions"][0] = json!({ "name": "Filling pressure", "unit": "bar",
            "lower": { "base": "0.3", "per": "0.2", "of": { "configuration": "modules" } },
            "upper": null, "advice": "Open the valve further." });
    });
    assert!(Gauge.way(&plan).unwrap_err().to_string().contains("modules"), "unknown is named");
    plan.configuration.push(("modules".into(), d("3")));
    let way = Gauge.way(&plan).unwrap();
    let step = way.iter().find(|step| step.key.0 == "condition-1").unwrap();
    assert!(matches!(&step.input, Input::Condition { lower: Some(l), .. } if *l == d("0.9")));
    assert!(step.detail.contains("0.3 + 0.2 × modules"), "{}", step.detail);
}

#[test]
fn each_standard_is_proven_and_voids_what_was_measured_on_it() {
    let mut plan = plan();
    plan.standards.push(PlanStandard {
        tag: "PC-2".into(),
        name: "High reference".into(),
        any_of_kind: Some("pressure_reference".into()),
    });
    plan.points[1].standard = 1;
    let way = Gauge.way(&plan).unwrap();
    let second = way.iter().find(|step| step.key.0 == "standard-2").unwrap();
    let voids: Vec<&str> = second.voids.iter().map(|key| key.0.as_str()).collect();
    assert_eq!(voids, ["point-2-400-rising", "review"]);
    assert!(second.instruction.contains("any pressure reference"), "{}", second.instruction);
    assert_eq!((plan.readings_on(0), plan.readings_on(1)), (4, 2));
}

#[test]
fn a_standard_of_another_quantity_is_refused() {
    let mut plan = plan();
    plan.points[0].pieces[0].unit = Unit::Millimetre;
    assert!(matches!(Gauge.way(&plan), Err(MethodError::Standard(_))));
}

#[test]
fn the_way_proves_standard_set_up_and_conditions_before_it_measures() {
    let way = Gauge.way(&plan()).unwrap();
    let keys: Vec<&str> = way.iter().map(|step| step.key.0.as_str()).collect();
    assert_eq!(
        keys,
        [
            "cautions",
            "standard",
            "setting-1",
            "condition-1",
            "prepared",
            "wait-1",
            "wait-1-over",
            "point-1-100-rising",
            "point-2-400-rising",
            "point-3-400-falling",
            "point-4-100-falling",
            "review",
            "closing",
        ]
    );
    // What comes before a reading voids it when it is redone.
    for early in ["standard", "setting-1", "condition-1", "prepared", "wait-1"] {
        let step = way.iter().find(|step| step.key.0 == early).unwrap();
        for late in &keys[7..11] {
            assert!(step.voids.iter().any(|key| key.0 == *late), "{early} must void {late}");
        }
    }
    assert!(way[0].instruction.contains("Before"), "cautions stand first");
}

#[test]
fn a_wrong_setting_and_a_cold_room_stop_the_check_before_the_first_reading() {
    let way = Gauge.way(&plan()).unwrap();
    let now = Timestamp::UNIX_EPOCH;
    let try_step = |index: usize, typed: &str| {
        let proposal = Proposal { typed: typed.into(), ..Proposal::default() };
        accept(&way[index], &proposal, &RunState::default(), now)
    };
    assert!(matches!(try_step(2, "bar"), Err(EntryError::WrongSetting { .. })));
    assert!(matches!(try_step(2, "KPA"), Ok(EntryValue::Setting { .. })));
    let cold = try_step(3, "17.9").unwrap_err();
    assert_eq!(
        cold.to_string(),
        "Room temperature is 17.9 °C; 18 to 28 °C is needed. Wait until the room is back."
    );
}

#[test]
fn readings_after_the_longest_time_do_not_count() {
    let plan = with(|s| s["waits"][0]["maximum_seconds"] = json!(180));
    let error = run(&plan, &QUIET).unwrap_err();
    assert!(error.is_too_late(), "{error}");
    assert!(run(&self::plan(), &QUIET).is_ok());
}

#[rstest]
#[case(|s: &mut Value| s["mean_limit"] = json!({ "form": "absolute", "half_width": "-1" }), "negative")]
#[case(|s: &mut Value| s["waits"][0]["maximum_seconds"] = json!(120), "longest time")]
#[case(|s: &mut Value| s["conditions"][0]["lower"] = json!("30"), "least value")]
#[case(|s: &mut Value| s["schema"] = json!("gauge-99"), "gauge-99")]
#[case(|s: &mut Value| s["mean_limit"] = json!({ "form": "about right" }), "about right")]
fn settings_that_cannot_stand_are_named(#[case] change: fn(&mut Value), #[case] word: &str) {
    let error = Gauge.way(&with(change)).unwrap_err().to_string();
    assert!(error.contains(word), "{error}");
}

#[test]
fn points_that_cannot_stand_are_named() {
    let refused = |change: fn(&mut PlanSpec)| {
        let mut plan = plan();
        change(&mut plan);
        Gauge.way(&plan).unwrap_err().to_string()
    };
    assert!(refused(|p| p.points.clear()).contains("at least one point"));
    assert!(refused(|p| p.points[0].repeats = 0).contains("at least once"));
    assert!(refused(|p| p.points[0].travel = Travel::Corner).contains("no corners"));
    assert!(refused(|p| p.points[0].nominal = Decimal::from(601)).contains("outside the range"));
    assert!(refused(|p| p.resolution = Decimal::ZERO).contains("resolution"));
    assert!(refused(|p| p.range_low = d("600")).contains("range"));
    assert!(refused(|p| p.range_low = d("200")).contains("outside the range"));
    let percent_at_zero = refused(|p| {
        p.points[0].nominal = Decimal::ZERO;
        p.settings["mean_limit"] = json!({ "form": "percent_of_reading", "percent": "1" });
    });
    assert!(percent_at_zero.contains("larger of two"), "{percent_at_zero}");
}

fn here(step: &Step) -> (f64, f64) {
    let scene = step.scene.as_ref().unwrap();
    scene
        .primitives
        .iter()
        .find_map(|primitive| match primitive {
            Primitive::Spot { x, y, state: SpotState::Here, .. } => Some((*x, *y)),
            _ => None,
        })
        .unwrap()
}

#[test]
fn the_drawing_climbs_and_comes_down_with_the_plan() {
    let way = Gauge.way(&plan()).unwrap();
    let places: Vec<(f64, f64)> = way[7..11].iter().map(here).collect();
    assert!(places.windows(2).all(|pair| pair[0].0 < pair[1].0), "left to right: {places:?}");
    assert!(places[1].1 < places[0].1, "a higher value stands higher");
    assert_eq!((places[1].1, places[0].1), (places[2].1, places[3].1));
    // Change a point and its place changes.
    let mut moved = plan();
    moved.points[1].nominal = d("600");
    assert!(here(&Gauge.way(&moved).unwrap()[8]).1 < places[1].1);
}

#[test]
fn both_methods_are_found_by_their_keys_and_a_stranger_is_named() {
    assert_eq!(by_key(KEY).unwrap().key(), "gauge");
    assert_eq!(by_key("weighing").unwrap().key(), "weighing");
    assert!(by_key("dowsing").is_err_and(|error| error.to_string().contains("dowsing")));
}

#[test]
fn an_unfinished_run_is_not_evaluated() {
    let mut unfinished = run(&plan(), &QUIET).unwrap();
    unfinished.entries.retain(|entry| entry.step.0 != "point-4-100-falling");
    assert!(matches!(
        Gauge.evaluate(&plan(), &unfinished),
        Err(MethodError::Incomplete { required: 1, got: 0, .. })
    ));
}

/// A temperature at which no value is certified could be kept, and nothing computed after it: the condition is no wider
/// than the tables of the pieces, says so, and a plan that asks for other temperatures is refused.
#[rstest]
#[case(json!("18"), json!("28"), Some(("18", "25")))]
#[case(json!("10"), json!("22"), Some(("15", "22")))]
#[case(Value::Null, Value::Null, Some(("15", "25")))]
#[case(json!("26"), Value::Null, None)]
#[case(Value::Null, json!("14.9"), None)]
fn a_temperature_is_asked_for_where_values_are_certified(
    #[case] lower: Value,
    #[case] upper: Value,
    #[case] expected: Option<(&str, &str)>,
) {
    let mut plan = with(|settings| {
        settings["conditions"][0]["standard_temperature"] = json!(true);
        settings["conditions"][0]["lower"] = lower;
        settings["conditions"][0]["upper"] = upper;
    });
    let at = |text: &str| ValueAt {
        temperature: d(text),
        certified_value: d("100.2"),
        expanded_uncertainty: None,
    };
    plan.points[0].pieces[0].by_temperature = vec![at("10"), at("20"), at("25")];
    plan.points[1].pieces[0].by_temperature = vec![at("15"), at("20"), at("30")];
    match (Gauge.way(&plan), expected) {
        (Ok(way), Some((least, most))) => {
            let step =
                way.iter().find(|step| matches!(step.input, Input::Condition { .. })).unwrap();
            let Input::Condition { lower, upper, .. } = &step.input else { panic!() };
            assert_eq!((*lower, *upper), (Some(d(least)), Some(d(most))));
            assert!(
                step.detail.contains("Certified values are known at 15 to 25 °C."),
                "{}",
                step.detail
            );
            let proposal = |typed: &str| Proposal { typed: typed.into(), ..Proposal::default() };
            let now = Timestamp::UNIX_EPOCH;
            for typed in [least, most] {
                let value = accept(step, &proposal(typed), &RunState::default(), now).unwrap();
                let run = RunState {
                    entries: vec![Entry { step: step.key.clone(), repeat: 1, at: now, value }],
                };
                assert!(way.iter().all(|step| Gauge.settle(&plan, &run, step).is_ok()), "{typed}");
            }
            let beyond = accept(step, &proposal("25.1"), &RunState::default(), now);
            assert!(beyond.unwrap_err().to_string().contains("is needed"));
        }
        (Err(error), None) => {
            let words = error.to_string();
            assert!(words.contains("Room temperature: the plan asks for"), "{words}");
            assert!(words.contains("known at 15 to 25"), "{words}");
        }
        (found, _) => panic!("{found:?}"),
    }
}

/// A plan of before there were kinds is frozen: it goes on to ask for just what stands there, also where that holds the
/// marks that have a meaning since.
#[rstest]
#[case("Pt100", "pt 100", "Pt1000")]
#[case("gain = 5", "GAIN=5", "5")]
#[case("A; B", "a;b", "A")]
#[case("=", "=", "x")]
fn settings_of_old_plans_mean_what_they_meant(
    #[case] expected: &str,
    #[case] right: &str,
    #[case] wrong: &str,
) {
    let plan = with(|settings| {
        settings["settings"] = json!([{ "name": "it", "expected": expected }]);
    });
    let way = Gauge.way(&plan).unwrap();
    let step = way.iter().find(|step| step.key.0 == "setting-1").unwrap();
    let typed = |text: &str| {
        let proposal = Proposal { typed: text.into(), ..Proposal::default() };
        accept(step, &proposal, &RunState::default(), Timestamp::UNIX_EPOCH)
    };
    assert!(typed(right).is_ok(), "{expected}");
    assert!(typed(wrong).unwrap_err().to_string().contains(&format!("must be {expected}")));
    assert!(matches!(&step.input, Input::Setting { also, by_lead: false, .. } if also.is_empty()));
}
