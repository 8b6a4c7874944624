//! Hardness on blocks: errors, the three ways to state repeatability, the order of the blocks, the map of a face.

use jiff::Timestamp;
use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::judgement::{
    Characteristic, CharacteristicKind, Conformity, ContributionSource, Decision, Surroundings,
    judge_conformity,
};
use vaaka_core::method::hardness::{CurveBy, CurveError, Hardness, KEY, SensorCurve};
use vaaka_core::method::{Entry, EntryValue, MethodError};
use vaaka_core::method::{
    Input, Method, Place, PlanPoint, PlanSpec, PlanStandard, Primitive, Proposal, Purpose,
    RunState, SpotState, Step, Travel, accept, by_key,
};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::standard::{CertifiedPiece, Face, Spot, UsedFace};

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn block(nominal: &str, certified: &str, standard: usize, repeats: u32) -> PlanPoint {
    PlanPoint {
        nominal: d(nominal),
        travel: Travel::Rising,
        place: Place::Middle,
        repeats,
        charted: true,
        pieces: vec![CertifiedPiece {
            tag: nominal.into(),
            nominal: d(nominal),
            certified_value: d(certified),
            expanded_uncertainty: d("0.30"),
            coverage_factor: d("2"),
            unit: Unit::RockwellC,
            class_limit: false,
            non_uniformity: Some(d("0.45")),
            by_temperature: vec![],
            at_unit: None,
        }],
        standard,
    }
}

fn settings() -> Value {
    json!({
        "schema": "hardness-1", "procedure": "rockwell", "force": null, "ball": null,
        "mean_limit": { "form": "absolute", "half_width": "1.5" }, "single_limit": null,
        "repeatability_by": "range", "repeatability_limit": "0.8",
        "depth_share": "2", "scale_end": "100",
        "settings": [{ "name": "the scale", "expected": "HRC" }],
        "conditions": [], "waits": [],
        "cautions": ["Fingers away."], "preparation": ["Wrung on."], "closing": ["Put away."],
    })
}

fn plan(repeats: u32) -> PlanSpec {
    let standard = |tag: &str| PlanStandard {
        tag: tag.into(),
        name: format!("Block {tag}"),
        any_of_kind: None,
    };
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::RockwellC,
        resolution: d("0.1"),
        range_low: d("20"),
        maximum: d("70"),
        configuration: vec![],
        standards: vec![standard("HB-25"), standard("HB-62")],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings: settings(),
        points: vec![block("25", "25.36", 0, repeats), block("62", "62.41", 1, repeats)],
    }
}

fn with(mut plan: PlanSpec, changes: &[(&str, Value)]) -> PlanSpec {
    for (key, value) in changes {
        plan.settings[*key] = value.clone();
    }
    plan
}

/// In another unit, certified in it, too.
fn in_unit(mut plan: PlanSpec, unit: Unit, values: [&str; 2]) -> PlanSpec {
    plan.unit = unit;
    (plan.range_low, plan.maximum, plan.resolution) = (d("1"), d("1000"), d("1"));
    for (point, value) in plan.points.iter_mut().zip(values) {
        point.nominal = d(value);
        point.pieces[0] = CertifiedPiece {
            nominal: d(value),
            certified_value: d(value),
            unit,
            ..point.pieces[0].clone()
        };
    }
    plan
}

fn run(plan: &PlanSpec, readings: &[&str]) -> RunState {
    run_with(plan, readings, &[])
}

/// With a number beside each reading.
fn run_with(plan: &PlanSpec, readings: &[&str], beside: &[&str]) -> RunState {
    let mut readings = readings.iter();
    let mut beside = beside.iter();
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Hardness.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let typed = match &step.input {
            Input::Reading { .. } => (*readings.next().expect("a reading")).to_owned(),
            Input::Tag { expected, .. } | Input::Setting { expected, .. } => expected.clone(),
            _ => String::new(),
        };
        let ticked = match &step.input {
            Input::Confirm { sentences, .. } => sentences.len(),
            _ => 0,
        };
        let confirm_far = Some(typed.clone());
        let added = match &step.input {
            Input::Reading { beside: Some(_), .. } => (*beside.next().unwrap()).to_owned(),
            _ => String::new(),
        };
        let proposal = Proposal { typed, ticked, confirm_far, added, ..Proposal::default() };
        let value = accept(step, &proposal, &run, at).unwrap();
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    run
}

fn found(plan: &PlanSpec, readings: &[&str]) -> Vec<Characteristic> {
    Hardness.evaluate(plan, &run(plan, readings)).unwrap()
}

fn conforms(characteristic: &Characteristic) -> Conformity {
    judge_conformity(characteristic, &Surroundings::default()).conformity
}

const THREE: [&str; 6] = ["25.3", "25.6", "25.5", "62.9", "63.1", "63.0"];

#[test]
fn errors_are_those_of_the_means_against_the_certified_values() {
    let plan = plan(3);
    let all = found(&plan, &THREE);
    assert_eq!(all.len(), 4);
    let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(keys, ["error-25", "error-62", "repeatability-25", "repeatability-62"]);
    // 76.4/3 − 25.36 and 189.0/3 − 62.41.
    assert!((all[0].value() - (76.4 / 3.0 - 25.36)).abs() < 1e-12);
    assert!((all[1].value() - 0.59).abs() < 1e-12);
    assert_eq!(all[1].rests_on, [1]);
    assert_eq!(Hardness.chart_key(&plan.points[1]), "error-62");
    assert_eq!(by_key(KEY).unwrap().key(), KEY);
    // U/k, the places of the block ±a/√3, one rounding d/√12, the scatter of three.
    let u = |source| {
        let own = all[1].contributions.iter().find(|part| part.source == source).unwrap();
        own.standard_uncertainty
    };
    assert!((u(ContributionSource::Certificate) - 0.15).abs() < 1e-12);
    assert!((u(ContributionSource::NonUniformity) - 0.45 / 3.0_f64.sqrt()).abs() < 1e-12);
    assert!((u(ContributionSource::Resolution) - 0.1 / 12.0_f64.sqrt()).abs() < 1e-12);
    assert!((u(ContributionSource::Repeatability) - 0.1 / 3.0_f64.sqrt()).abs() < 1e-12);
}

/// Five readings make a full check: below, repeatability is recorded and not judged.
#[test]
fn repeatability_is_judged_from_five_readings_on() {
    let few = found(&plan(3), &THREE);
    assert!(
        few.iter()
            .filter(|one| one.kind == CharacteristicKind::Repeatability)
            .all(|one| one.limits.is_none())
    );
    let soft = ["24.9", "25.3", "25.6", "25.5", "26.4"];
    let hard = ["62.1", "62.4", "62.6", "62.3", "62.9"];
    let readings: Vec<&str> = soft.into_iter().chain(hard).collect();
    let full = found(&plan(5), &readings);
    // The greater of 0.8 and 2 % of the depth (100 − H̄), H̄ = 25.54 and 62.46.
    let upper = |one: &Characteristic| one.limits.unwrap().upper.unwrap();
    assert_eq!((full[2].singles[0], upper(&full[2])), (d("1.5"), d("1.4892")));
    assert_eq!((full[3].singles[0], upper(&full[3])), (d("0.8"), d("0.8")));
    assert_eq!(conforms(&full[2]), Conformity::Fail);
    // On the limit is inside.
    assert_eq!(conforms(&full[3]), Conformity::Pass);
    // One reading says nothing about repeatability.
    let single = found(&plan(1), &["25.4", "62.5"]);
    assert!(single.iter().all(|one| one.kind == CharacteristicKind::Error));
}

/// Sizes by a second way: HV 10 from 1.8544·10 kgf/d².
#[test]
fn vickers_repeatability_is_that_of_the_diagonals() {
    let plan = with(
        in_unit(plan(5), Unit::Vickers, ["200", "700"]),
        &[
            ("procedure", json!("vickers")),
            ("force", json!("98.07")),
            ("repeatability_by", json!("range_of_sizes")),
            ("repeatability_limit", json!("2")),
            ("depth_share", Value::Null),
            ("scale_end", Value::Null),
            ("mean_limit", json!({ "form": "percent_of_reading", "percent": "3" })),
        ],
    );
    let soft = ["201", "198", "203", "205", "199"];
    let hard = ["690", "702", "711", "698", "705"];
    let readings: Vec<&str> = soft.into_iter().chain(hard).collect();
    let all = found(&plan, &readings);
    for (own, characteristic) in [soft, hard].iter().zip(&all[2..]) {
        let sizes: Vec<f64> =
            own.iter().map(|hv| (18.544 / hv.parse::<f64>().unwrap()).sqrt()).collect();
        let mean = sizes.iter().sum::<f64>() / 5.0;
        let most = sizes.iter().copied().fold(0.0, f64::max);
        let least = sizes.iter().copied().fold(1.0, f64::min);
        let expected = 100.0 * (most - least) / mean;
        let value = to_f64(characteristic.singles[0]);
        assert!((value - expected).abs() < 1e-3, "{value} {expected}");
        assert_eq!(characteristic.unit, Unit::Percent);
        assert_eq!(characteristic.limits.unwrap().upper, Some(d("2")));
    }
    assert_eq!(all[0].limits.unwrap().upper, Some(d("6")), "3 % of 200 HV");
    // A reading of which no indentation could tell leaves the error, and says nothing of sizes.
    let mut odd = readings.clone();
    odd[0] = "0";
    let run = run(&plan, &odd);
    let some = Hardness.so_far(&plan, &run).unwrap();
    assert_eq!(some.len(), 3);
}

#[test]
fn rebound_repeatability_is_a_coefficient_of_variation() {
    let plan = with(
        plan(5),
        &[
            ("procedure", json!("rebound")),
            ("repeatability_by", json!("variation")),
            ("depth_share", Value::Null),
            ("scale_end", Value::Null),
            ("repeatability_limit", json!("2")),
        ],
    );
    let readings = ["25.0", "25.5", "26.0", "25.5", "25.5", "62.0", "62.0", "62.0", "62.0", "62.0"];
    let all = found(&plan, &readings);
    // s = √(0.5/4) = 0.353553…, H̄ = 25.5.
    assert_eq!(all[2].singles[0], d("1.3865"));
    assert_eq!(all[3].singles[0], d("0"));
    assert_eq!(conforms(&all[2]), Conformity::Pass);
}

#[rstest]
#[case(&[("procedure", json!("rebound")), ("repeatability_by", json!("range_of_sizes"))], "Vickers and Brinell")]
#[case(&[("procedure", json!("vickers")), ("repeatability_by", json!("range_of_sizes"))], "test force")]
#[case(&[("procedure", json!("brinell")), ("repeatability_by", json!("range_of_sizes")), ("force", json!("29420"))], "the ball")]
#[case(&[("procedure", json!("brinell")), ("repeatability_by", json!("range_of_sizes")), ("force", json!("29420")), ("ball", json!("1"))], "can have the hardness")]
#[case(&[("repeatability_limit", json!("0"))], "greater than zero")]
#[case(&[("scale_end", Value::Null)], "share of the depth")]
#[case(&[("scale_end", json!("62"))], "ends above its hardest block")]
fn settings_that_make_no_sense_are_refused(#[case] changes: &[(&str, Value)], #[case] words: &str) {
    let refused = Hardness.way(&with(plan(5), changes)).unwrap_err();
    assert!(matches!(&refused, MethodError::Settings { why } if why.contains(words)), "{refused}");
}

#[test]
fn blocks_go_one_way() {
    let mut back = plan(3);
    back.points.reverse();
    let refused = Hardness.way(&back).unwrap_err();
    assert!(refused.to_string().contains("never mixed"), "{refused}");
    for point in &mut back.points {
        point.travel = Travel::Falling;
    }
    let way = Hardness.way(&back).unwrap();
    let titles: Vec<&str> = way.iter().map(|step| step.title.as_str()).collect();
    let hard = titles.iter().position(|title| *title == "Block 62 HRC").unwrap();
    assert_eq!(titles[hard + 1], "Block 25 HRC");
    assert!(way[hard + 1].detail.contains("Hard to soft"));
    let mut mixed = plan(3);
    mixed.points[1].travel = Travel::Falling;
    assert!(Hardness.way(&mixed).is_err());
    let mut two = plan(3);
    let piece = two.points[0].pieces[0].clone();
    two.points[0].pieces.push(piece);
    assert!(Hardness.way(&two).unwrap_err().to_string().contains("is one piece"));
    let mut beyond = plan(3);
    beyond.points[1].nominal = d("71");
    assert!(Hardness.way(&beyond).unwrap_err().to_string().contains("outside the range"));
}

fn step_of(plan: &PlanSpec, title: &str) -> Step {
    Hardness.way(plan).unwrap().into_iter().find(|step| step.title == title).unwrap()
}

#[test]
fn the_map_proposes_places_that_keep_their_distance() {
    let plan = plan(3);
    let step = step_of(&plan, "Block 62 HRC");
    let face = Face { width: 50.0, height: 35.0, spacing: 3.0, edge: 2.5 };
    let used: Vec<Spot> = face.spots().into_iter().take(18).collect();
    let face = UsedFace { face, used };
    let free = face.free();
    let drawn = |taken| Hardness.scene_on(&plan, &step, Some((&face, taken))).unwrap();
    let states = |taken| -> Vec<SpotState> {
        let spots = drawn(taken).primitives.into_iter().filter_map(|one| match one {
            Primitive::Spot { state, .. } => Some(state),
            _ => None,
        });
        spots.collect()
    };
    for taken in [0, 1, free.len() - 1] {
        let states = states(taken);
        let count = |wanted| states.iter().filter(|state| **state == wanted).count();
        assert_eq!(count(SpotState::Used), 18);
        assert_eq!(count(SpotState::Done), taken);
        assert_eq!(count(SpotState::Here), 1);
        assert_eq!(count(SpotState::Free), free.len() - 1 - taken);
    }
    // Nineteenth of a row of sixteen: the third place of the second row.
    let words = drawn(0).description;
    assert!(words.contains("8.5 mm from the left edge, 5.5 mm from the lower one"), "{words}");
    assert!(words.contains(&format!("with it {} are left", free.len())), "{words}");
    assert!(drawn(free.len() - 1).description.contains("with it 1 are left"));
    // All used up: another block is asked for, and no place is drawn as the next.
    let over = drawn(free.len());
    assert!(over.description.contains("no place is left on this face"), "{}", over.description);
    assert!(!states(free.len()).contains(&SpotState::Here));
    // Without a face the drawing is that of the step; steps that read nothing keep theirs.
    assert_eq!(Hardness.scene_on(&plan, &step, None), step.scene);
    let review =
        Hardness.way(&plan).unwrap().into_iter().find(|step| step.point.is_none()).unwrap();
    assert_eq!(Hardness.scene_on(&plan, &review, Some((&face, 0))), review.scene);
}

/// The curve of a sensor against SciPy and NumPy (`tools/reference/sensor_curve.py`).
#[test]
fn curves_agree_with_scipy_and_numpy() {
    let reference: Value = serde_json::from_str(include_str!("../data/sensor_curve.json")).unwrap();
    let numbers = |value: &Value| -> Vec<f64> {
        value.as_array().unwrap().iter().map(|number| number.as_f64().unwrap()).collect()
    };
    let (mut parabolas, mut turned) = (0, 0);
    let cases = reference["cases"].as_array().unwrap();
    assert!(cases.len() >= 25);
    for case in cases {
        let blocks: Vec<(f64, f64)> =
            numbers(&case["codes"]).into_iter().zip(numbers(&case["hardness"])).collect();
        let agrees = |by, expected: &Value| {
            let curve = SensorCurve::through(&blocks, by).unwrap();
            for (code, expected) in numbers(&case["at"]).iter().zip(numbers(expected)) {
                // The last place of a code may lie a hair beyond its block.
                let (from, to) = curve.range();
                let found = curve.at(code.clamp(from, to)).unwrap();
                assert!((found - expected).abs() < 1e-7, "{by:?} {code}: {found} {expected}");
            }
        };
        agrees(CurveBy::Monotone, &case["monotone"]);
        match case["parabola"].as_array().map(Vec::len) {
            None => assert!(blocks.len() > 3),
            Some(0) => {
                turned += 1;
                let refused = SensorCurve::through(&blocks, CurveBy::Parabola);
                assert!(matches!(refused, Err(CurveError::Turns(_))), "{refused:?}");
            }
            Some(_) => {
                parabolas += 1;
                agrees(CurveBy::Parabola, &case["parabola"]);
            }
        }
    }
    assert!(parabolas >= 5 && turned >= 2, "{parabolas} {turned}");
}

/// A sensor's code is read beside each value, and charted by itself: it has neither reference nor limits.
#[test]
fn codes_are_kept_beside_the_readings() {
    let plan = with(plan(3), &[("sensor", json!("Sensor code"))]);
    let step = step_of(&plan, "Block 25 HRC");
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let typed = |typed: &str, added: &str| Proposal {
        typed: typed.into(),
        added: added.into(),
        ..Proposal::default()
    };
    let accepted = |added: &str| accept(&step, &typed("25.4", added), &RunState::default(), at);
    let refused = |added: &str| {
        let error = accepted(added).unwrap_err();
        assert!(error.is_about_added(), "{error}");
        error.to_string()
    };
    assert!(refused("").starts_with("Sensor code: "), "{}", refused(""));
    assert!(
        refused("-3").contains("it is at least 0, and −3 was typed. Read it again"),
        "{}",
        refused("-3")
    );
    assert!(refused("5x5").starts_with("Sensor code: "));
    let kept = accepted("512,5").unwrap();
    assert_eq!(
        kept,
        EntryValue::Reading {
            indication: d("25.4"),
            added: Some(d("512.5")),
            far_confirmed: false
        }
    );
    // It is none of the small weights: the error is that of the display.
    assert_eq!(step.error_of(d("25.4"), Some(d("512.5"))), Some(d("0.04")));

    let mut run = run_with(&plan, &THREE, &["510", "512", "514", "795", "796", "797.5"]);
    let all = Hardness.evaluate(&plan, &run).unwrap();
    let codes: Vec<&Characteristic> =
        all.iter().filter(|one| one.kind == CharacteristicKind::Indication).collect();
    let labels: Vec<&str> = codes.iter().map(|one| one.label.as_str()).collect();
    assert_eq!(labels, ["Sensor code at 25 HRC", "Sensor code at 62 HRC"]);
    assert_eq!(
        (codes[0].key.as_str(), codes[0].value(), codes[0].charted),
        ("code-25", 512.0, true)
    );
    assert_eq!((codes[0].unit, codes[1].decimals), (Unit::SensorCode, 1));
    assert!(codes[0].limits.is_none() && codes[0].reference_value.is_none());
    assert!(codes[0].rests_on.is_empty());
    assert_eq!(conforms(codes[0]), Conformity::NotJudged);
    // A plan that asks for none has none.
    run.entries.truncate(1);
    assert!(
        found(&self::plan(3), &THREE).iter().all(|one| one.kind != CharacteristicKind::Indication)
    );
}
