//! Moisture on material: the empty chamber, the fillings, and the density of the heap.

use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::judgement::{
    Characteristic, CharacteristicKind, Conformity, Decision, Surroundings, judge_conformity,
};
use vaaka_core::method::moisture::{KEY, Moisture};
use vaaka_core::method::{
    Entry, Input, Method, Place, PlanPoint, PlanSpec, PlanStandard, Proposal, Purpose, RunState,
    Travel, accept, by_key,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn plan(changes: &[(&str, Value)]) -> PlanSpec {
    let mut settings = json!({
        "schema": "moisture-1",
        "empty_limit": { "form": "absolute", "half_width": "0.05" },
        "mean_limit": { "form": "absolute", "half_width": "0.3" }, "single_limit": null,
        "range_limit": { "form": "absolute", "half_width": "0.4" },
        "container_volume": "250", "pause_seconds": 0,
        "settings": [{ "name": "the curve", "expected": "GC48" }],
        "conditions": [], "waits": [],
        "cautions": ["Fibres: gloves on."], "preparation": ["Brushed out."], "closing": ["Bag shut."],
    });
    for (key, value) in changes {
        settings[*key] = value.clone();
    }
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Percent,
        resolution: d("0.01"),
        range_low: d("0"),
        maximum: d("20"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "MM-1".into(),
            name: "Moisture material".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: vec![PlanPoint {
            nominal: d("6"),
            travel: Travel::Rising,
            place: Place::Middle,
            repeats: 3,
            charted: true,
            pieces: vec![CertifiedPiece {
                tag: "bag".into(),
                nominal: d("6"),
                certified_value: d("6.04"),
                expanded_uncertainty: d("0.08"),
                coverage_factor: d("2"),
                unit: Unit::Percent,
                class_limit: false,
                non_uniformity: None,
                by_temperature: vec![],
                at_unit: None,
            }],
            standard: 0,
        }],
    }
}

fn found(plan: &PlanSpec, empty: &str, fillings: &[(&str, &str)]) -> Vec<Characteristic> {
    let mut fillings = fillings.iter();
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Moisture.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let mut proposal = Proposal::default();
        match &step.input {
            Input::Reading { .. } if step.key.0 == "empty" => proposal.typed = empty.into(),
            Input::Reading { beside, .. } => {
                let (shown, mass) = fillings.next().expect("a filling");
                proposal.typed = (*shown).into();
                proposal.added = if beside.is_some() { (*mass).into() } else { String::new() };
            }
            Input::Tag { expected, .. } | Input::Setting { expected, .. } => {
                proposal.typed.clone_from(expected);
            }
            Input::Confirm { sentences, .. } => proposal.ticked = sentences.len(),
            _ => {}
        }
        proposal.confirm_far = Some(proposal.typed.clone());
        let value = accept(step, &proposal, &run, at).unwrap();
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    assert_eq!(Moisture.so_far(plan, &run).unwrap(), Moisture.evaluate(plan, &run).unwrap());
    Moisture.evaluate(plan, &run).unwrap()
}

const FILLINGS: [(&str, &str); 3] = [("6.10", "103.5"), ("6.16", "102.8"), ("6.12", "104.1")];

#[test]
fn fillings_are_held_against_the_material_and_the_heap_is_told_by_itself() {
    assert_eq!(by_key(KEY).unwrap().name(), "Moisture on material");
    let all = found(&plan(&[]), "0.01", &FILLINGS);
    let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(keys, ["error-6", "range-6", "empty", "bulk-6"]);
    // 18.38/3 − 6.04; 6.16 − 6.10.
    assert!((all[0].value() - (18.38 / 3.0 - 6.04)).abs() < 1e-12);
    assert_eq!(all[1].singles, [d("0.06")]);
    assert_eq!(all[1].limits.unwrap().upper, Some(d("0.4")));
    // m/V of 250 cm³: 103.5 g are 414 kg/m³.
    assert_eq!(all[3].singles, [d("414"), d("411.2"), d("416.4")]);
    assert_eq!(
        (all[3].unit, all[3].kind),
        (Unit::KilogramPerCubicMetre, CharacteristicKind::Indication)
    );
    assert!(all[3].charted && all[3].limits.is_none());
    let judged = |one: &Characteristic| judge_conformity(one, &Surroundings::default()).conformity;
    assert_eq!(judged(&all[3]), Conformity::NotJudged);
    assert_eq!(judged(&all[2]), Conformity::Pass);
    // What is left in the chamber fails by itself, however good the fillings.
    let dirty = found(&plan(&[]), "0.08", &FILLINGS);
    assert_eq!(judged(&dirty[2]), Conformity::Fail);
    // Nothing is weighed where no volume is stated; a single filling has no range.
    let mut plain = plan(&[("container_volume", Value::Null)]);
    plain.points[0].repeats = 1;
    let keys: Vec<String> =
        found(&plain, "0.00", &FILLINGS[..1]).into_iter().map(|one| one.key).collect();
    assert_eq!(keys, ["error-6", "empty"]);
}

#[test]
fn what_is_no_moisture_is_refused() {
    let refused = |plan: &PlanSpec| Moisture.way(plan).unwrap_err().to_string();
    let mut of_mass = plan(&[]);
    of_mass.unit = Unit::Gram;
    assert!(refused(&of_mass).contains("mass fraction"), "{}", refused(&of_mass));
    let mut beyond = plan(&[]);
    (beyond.maximum, beyond.points[0].nominal) = (d("200"), d("101"));
    assert!(refused(&beyond).contains("no moisture"), "{}", refused(&beyond));
    let mut mixed = plan(&[]);
    let piece = mixed.points[0].pieces[0].clone();
    mixed.points[0].pieces.push(piece);
    assert!(refused(&mixed).contains("nothing is mixed"));
    assert!(refused(&plan(&[("container_volume", json!("0"))])).contains("greater than zero"));
    let mut none = plan(&[]);
    none.points.clear();
    assert!(refused(&none).contains("at least one material"));
}

/// An empty chamber that is read again makes every filling new.
#[test]
fn brushing_out_again_voids_the_fillings() {
    let way = Moisture.way(&plan(&[])).unwrap();
    let empty = way.iter().find(|step| step.key.0 == "empty").unwrap();
    let voided: Vec<&str> = empty.voids.iter().map(|key| key.0.as_str()).collect();
    assert_eq!(voided, ["fill-1-6", "review"]);
    let place = |key: &str| way.iter().position(|step| step.key.0 == key).unwrap();
    assert!(place("empty") < place("fill-1-6"));
}
