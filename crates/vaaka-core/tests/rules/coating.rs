//! Coating thickness on foils over a bare base, and the rule by which a coating is thick enough.

use jiff::Timestamp;
use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::judgement::{Characteristic, CharacteristicKind, ContributionSource, Decision};
use vaaka_core::method::coating::{Coating, CoatingError, KEY, coating_rule};
use vaaka_core::method::{
    AttemptKind, Entry, Input, Method, MethodError, Place, PlanPoint, PlanSpec, PlanStandard,
    Proposal, Purpose, RunState, Travel, accept, by_key,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn plan(changes: &[(&str, Value)]) -> PlanSpec {
    let mut settings = json!({
        "schema": "coating-1",
        "mean_limit": { "form": "larger_of", "half_width": "2", "percent": "2" },
        "single_limit": null, "range_limit": null,
        "base_limit": { "form": "absolute", "half_width": "3" },
        "return_limit": { "form": "absolute", "half_width": "2" },
        "base": "B-7", "base_readings": "3", "take_off": false, "again": true,
        "settings": [], "conditions": [], "waits": [], "cautions": [], "preparation": [], "closing": [],
    });
    for (key, value) in changes {
        settings[*key] = value.clone();
    }
    let point = |nominal: &str, value: &str| PlanPoint {
        nominal: d(nominal),
        travel: Travel::Rising,
        place: Place::Middle,
        repeats: 2,
        charted: true,
        pieces: vec![CertifiedPiece {
            tag: nominal.into(),
            nominal: d(nominal),
            certified_value: d(value),
            expanded_uncertainty: d("0.6"),
            coverage_factor: d("2"),
            unit: Unit::Micrometre,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }],
        standard: 0,
    };
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Micrometre,
        resolution: d("1"),
        range_low: d("0"),
        maximum: d("1500"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "FS-1".into(),
            name: "Foils".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: vec![point("50", "49.2"), point("250", "251.6")],
    }
}

fn run(plan: &PlanSpec, shown: &[&str]) -> RunState {
    let mut shown = shown.iter();
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Coating.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let mut proposal = Proposal::default();
        match &step.input {
            Input::Reading { .. } => match shown.next() {
                Some(reading) => proposal.typed = (*reading).into(),
                None => return run,
            },
            Input::Tag { expected, .. } | Input::Setting { expected, .. } => {
                proposal.typed.clone_from(expected);
            }
            _ => {}
        }
        proposal.confirm_far = Some(proposal.typed.clone());
        let value = accept(step, &proposal, &run, at).unwrap();
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    run
}

fn found(plan: &PlanSpec, shown: &[&str]) -> Vec<Characteristic> {
    let run = run(plan, shown);
    assert_eq!(Coating.so_far(plan, &run).unwrap(), Coating.evaluate(plan, &run).unwrap());
    Coating.evaluate(plan, &run).unwrap()
}

/// Base three times, each foil twice, base three times again.
const SHOWN: [&str; 10] = ["1", "2", "3", "50", "51", "253", "254", "2", "3", "4"];

#[test]
fn foils_over_a_bare_base() {
    assert_eq!(by_key(KEY).unwrap().name(), "Coating thickness on foils");
    let all = found(&plan(&[]), &SHOWN);
    let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(keys, ["error-50", "error-250", "range-50", "range-250", "base", "return"]);
    assert!((all[0].value() - 1.3).abs() < 1e-12 && (all[1].value() - 1.9).abs() < 1e-12);
    // The larger of 2 µm and 2 %.
    assert_eq!(all[1].limits.unwrap().upper.unwrap().normalize(), d("5.032"));
    assert!((all[4].value() - 2.0).abs() < 1e-12 && all[4].charted);
    assert_eq!(all[4].kind, CharacteristicKind::Indication);
    assert_eq!((all[5].kind, all[5].value()), (CharacteristicKind::ReturnToZero, 1.0));
    assert_eq!(all[5].limits.unwrap().upper, Some(d("2")));
}

/// A rough base shows 2 µm by itself: taken off, it is no error of a foil, and what is uncertain of it is in the budget. The same
/// number is shown while measuring.
#[test]
fn what_a_rough_base_shows_is_taken_off() {
    let plan = plan(&[("take_off", json!(true)), ("again", json!(false))]);
    let all = found(&plan, &SHOWN[..7]);
    assert!((all[0].value() + 0.7).abs() < 1e-12, "{}", all[0].value());
    let zero: Vec<f64> = all[0]
        .contributions
        .iter()
        .filter(|part| part.source == ContributionSource::Zero)
        .map(|part| part.standard_uncertainty)
        .collect();
    // d/√12 and s/√3 with s = 1.
    assert!((zero[0] - 1.0 / 12.0_f64.sqrt()).abs() < 1e-12);
    assert!((zero[1] - 1.0 / 3.0_f64.sqrt()).abs() < 1e-12);
    let so_far = run(&plan, &SHOWN[..3]);
    let way = Coating.way(&plan).unwrap();
    let foil = way.iter().find(|step| step.point == Some(0)).unwrap();
    let settled = Coating.settle(&plan, &so_far, foil).unwrap();
    assert_eq!(settled.error_of(d("50"), None).unwrap().normalize(), d("-1.2"));
    assert!(all.iter().all(|one| one.key != "return"));
}

/// A foil on another base is refused and kept as what was found; a base read anew voids the foils.
#[test]
fn another_base_is_refused() {
    let plan = plan(&[]);
    let way = Coating.way(&plan).unwrap();
    let base = way.iter().find(|step| matches!(step.input, Input::Setting { .. })).unwrap();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let proposal = Proposal { typed: "B-8".into(), ..Proposal::default() };
    let refused = accept(base, &proposal, &RunState::default(), at).unwrap_err();
    assert_eq!(refused.attempt(), Some(AttemptKind::Setting), "{refused}");
    for key in ["base", "foil-1-50", "foil-2-250", "base-after", "review"] {
        assert!(base.voids.iter().any(|step| step.0 == key), "{key}");
    }
    let first = way.iter().find(|step| step.key.0 == "foil-1-50").unwrap();
    assert!(first.voids.iter().any(|step| step.0 == "base-after"));
    assert!(first.scene.as_ref().unwrap().description.contains("B-7"));
}

#[test]
fn settings_that_cannot_be_say_why() {
    for (changes, words) in [
        (("base", json!(" ")), "needs a tag"),
        (("base_readings", json!("0")), "read once to 50"),
        (("base_readings", json!("2.5")), "read once to 50"),
        (("base_readings", json!("51")), "read once to 50"),
    ] {
        match Coating.way(&plan(&[changes])) {
            Err(MethodError::Settings { why }) => assert!(why.contains(words), "{why}"),
            other => panic!("{words}: {other:?}"),
        }
    }
    let with = |change: fn(&mut PlanSpec)| {
        let mut plan = plan(&[]);
        change(&mut plan);
        Coating.way(&plan).unwrap_err().to_string()
    };
    assert!(with(|plan| plan.unit = Unit::Bar).contains("thickness is a length"));
    assert!(with(|plan| plan.points.clear()).contains("at least one foil"));
    assert!(with(|plan| plan.points[0].nominal = Decimal::ZERO).contains("bare base"));
    assert!(with(|plan| plan.maximum = d("100")).contains("outside the range"));
}

/// ISO 19840 (from memory): mean at least nominal, no single below 80 %, fewer than 20 % of them below nominal.
#[rstest]
#[case(&[100.0, 102.0, 98.0, 104.0, 101.0, 103.0], None, 0.0, [true, true, true, true])]
// One of five below is a fifth, and a fifth is not fewer than a fifth.
#[case(&[110.0, 110.0, 98.0, 110.0, 110.0], None, 0.0, [true, true, false, true])]
#[case(&[130.0, 130.0, 130.0, 130.0, 130.0, 79.9], None, 0.0, [true, false, true, true])]
#[case(&[130.0, 130.0, 130.0, 130.0, 130.0, 80.0], None, 0.0, [true, true, true, true])]
#[case(&[99.0, 99.9], None, 0.0, [false, true, false, true])]
#[case(&[100.0], Some(300.0), 0.0, [true, true, true, true])]
#[case(&[100.0, 301.0], Some(300.0), 0.0, [true, true, true, false])]
// A gauge set on smooth steel shows 25 µm too much on blasted one.
#[case(&[120.0, 130.0], None, 25.0, [true, true, false, true])]
fn a_coating_is_thick_enough(
    #[case] readings: &[f64],
    #[case] maximum: Option<f64>,
    #[case] correction: f64,
    #[case] expected: [bool; 4],
) {
    let found = coating_rule(readings, 100.0, maximum, correction).unwrap();
    let parts = [found.mean_holds, found.singles_hold, found.share_holds, found.maximum_holds];
    assert_eq!(parts, expected, "{found:?}");
    assert_eq!(found.holds(), expected.iter().all(|one| *one));
}

#[test]
fn a_coating_that_cannot_be_says_why() {
    assert_eq!(coating_rule(&[], 100.0, None, 0.0), Err(CoatingError::Nothing));
    assert_eq!(coating_rule(&[f64::NAN], 100.0, None, 0.0), Err(CoatingError::Number("a reading")));
    assert!(coating_rule(&[-1.0], 100.0, None, 0.0).is_err());
    assert!(coating_rule(&[1.0], 0.0, None, 0.0).is_err());
    assert!(coating_rule(&[1.0], 1.0, None, -1.0).is_err());
    assert_eq!(coating_rule(&[1.0], 100.0, Some(99.0), 0.0), Err(CoatingError::Maximum));
}
