//! Plans as a lead writes them: sheets of settings, and warnings before they go live.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::judgement::{ContributionSource, Decision, DecisionRule};
use vaaka_core::method::{
    BudgetAddition, Method, Place, PlanPoint, PlanSpec, PlanStandard, PlanWarning, Purpose,
    SheetTexts, Travel, all, by_key, plan_warnings,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn gauge_settings() -> Value {
    json!({
        "schema": "gauge-1", "presentation": "applied", "points_together": false,
        "mean_limit": { "form": "larger_of", "half_width": "2", "percent": "0.5", "side": "upper" },
        "single_limit": { "form": "configured", "half_width": "1", "per": "0.25",
            "of": { "configuration": "modules" }, "side": "both" },
        "hysteresis_limit": { "form": "percent_of_range", "percent": "1.6", "side": "both" },
        "range_limit": null,
        "settings": [
            { "name": "the unit", "kind": "exactly", "expected": "bar", "by_lead": false },
            { "name": "the filter", "kind": "one_of", "expected": "slow = S; fast", "by_lead": true },
        ],
        "conditions": [
            { "name": "Room", "unit": "°C", "lower": "18", "upper": "28", "advice": "Wait.", "standard_temperature": true,
              "half_width": "0.2" },
            { "name": "Filling pressure", "unit": "bar",
              "lower": { "base": "0.3", "per": "0.2", "of": { "configuration": "modules" } },
              "upper": { "base": "0", "per": "0.5", "of": "span" }, "advice": "", "standard_temperature": false, "half_width": null },
        ],
        "waits": [{ "what": "Settle", "minimum_seconds": 600, "maximum_seconds": 5400 },
            { "what": "Soak", "minimum_seconds": 45, "maximum_seconds": null }],
        "pause_seconds": 30,
        "cautions": ["Pressure: shield closed.", "Nobody in line."], "fold_cautions": true, "together": true, "capture_saves": true,
        "preparation": [], "closing": ["Vented."],
    })
}

fn weighing_settings() -> Value {
    json!({
        "schema": "weighing-1", "class": "III", "verification_interval": "0.01",
        "stage": "in_service", "pan": "rectangular", "added_weights": false, "case": "red case",
        "settings": [{ "name": "the unit", "kind": "exactly", "expected": "kg", "by_lead": false }],
        "conditions": [{ "name": "Room", "unit": "°C", "lower": "15", "upper": "30", "advice": "Wait." }],
        "waits": [{ "what": "Warm up", "minimum_seconds": 600, "maximum_seconds": null }],
        "cautions": ["feet clear"], "fold_cautions": false, "together": false, "capture_saves": false, "preparation": ["level", "warm"], "closing": ["put away"],
    })
}

/// What is stored becomes texts and the same again; the order of keys does not matter.
#[rstest]
#[case("gauge", gauge_settings())]
#[case("weighing", weighing_settings())]
fn a_sheet_gives_back_what_was_stored(#[case] key: &str, #[case] settings: Value) {
    let sheet = by_key(key).unwrap().sheet();
    let texts = sheet.show(&settings);
    assert_eq!(sheet.read(&texts).unwrap(), settings, "{texts:#?}");
}

#[test]
fn every_method_reads_the_sheet_that_it_asks_for() {
    for method in all() {
        let faults = method.sheet().read(&SheetTexts::new()).unwrap_err();
        assert!(!faults.is_empty(), "{}: an empty sheet is no plan", method.key());
        assert!(faults.iter().all(|(_, words)| words.len() > 10), "{faults:?}");
    }
}

#[rstest]
#[case("mean_limit.form", "", "Choose the form")]
#[case("mean_limit.form", "somehow", "Choose one of these forms")]
#[case("mean_limit.half_width", "much", "not part of a number")]
#[case("mean_limit.half_width", "", "Nothing is typed yet")]
#[case("mean_limit.side", "inner", "Choose one of these")]
#[case("single_limit.of", "", "computed from")]
#[case("presentation", "thrown", "Choose one of these")]
#[case("waits.0.minimum_seconds", "a while", "no time")]
#[case("waits.0.minimum_seconds", "", "Give a time")]
#[case("waits.1.maximum_seconds", "-5 min", "no time")]
#[case("conditions.0.lower", "<b>", "not part of a number")]
#[case("conditions.1.upper.of", " ", "computed from")]
#[case("pause_seconds", "40 days", "no time")]
fn each_fault_is_named_at_its_field(#[case] field: &str, #[case] typed: &str, #[case] words: &str) {
    let sheet = by_key("gauge").unwrap().sheet();
    let mut texts = sheet.show(&gauge_settings());
    texts.insert(field.into(), typed.into());
    let faults = sheet.read(&texts).unwrap_err();
    let found = faults.iter().find(|(name, _)| name == field);
    assert!(found.is_some_and(|(_, said)| said.contains(words)), "{faults:?}");
}

#[rstest]
#[case("10 min", 600)]
#[case("1,5 h", 5_400)]
#[case("30s", 30)]
#[case("45", 45)]
#[case("0", 0)]
#[case("2h", 7_200)]
#[case("0,5 min", 30)]
#[case("90 sec", 90)]
fn times_are_typed_as_people_say_them(#[case] typed: &str, #[case] seconds: u32) {
    let sheet = by_key("gauge").unwrap().sheet();
    let mut texts = sheet.show(&gauge_settings());
    texts.insert("pause_seconds".into(), typed.into());
    assert_eq!(sheet.read(&texts).unwrap()["pause_seconds"], json!(seconds));
}

#[test]
fn rows_without_anything_in_them_are_no_rows() {
    let sheet = by_key("gauge").unwrap().sheet();
    let mut texts = sheet.show(&gauge_settings());
    texts.insert("settings.2.name".into(), "  ".into());
    texts.insert("settings.2.expected".into(), String::new());
    assert_eq!(sheet.read(&texts).unwrap()["settings"].as_array().unwrap().len(), 2);
}

fn plan(points: &[(&str, Travel, u32)]) -> PlanSpec {
    let mut settings = gauge_settings();
    settings["single_limit"] = Value::Null;
    settings["conditions"] = json!([]);
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Bar,
        resolution: d("1"),
        range_low: d("0"),
        maximum: d("400"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "PR-1".into(),
            name: "Reference".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: points
            .iter()
            .map(|(nominal, travel, repeats)| PlanPoint {
                nominal: d(nominal),
                travel: *travel,
                place: Place::Middle,
                repeats: *repeats,
                charted: true,
                pieces: vec![CertifiedPiece {
                    tag: (*nominal).into(),
                    nominal: d(nominal),
                    certified_value: d(nominal),
                    expanded_uncertainty: d("0.2"),
                    coverage_factor: d("2"),
                    unit: Unit::Bar,
                    class_limit: false,
                    non_uniformity: None,
                    by_temperature: vec![],
                    at_unit: None,
                }],
                standard: 0,
            })
            .collect(),
    }
}

fn warned(plan: &PlanSpec, work: (&str, &str)) -> Vec<PlanWarning> {
    let method: &dyn Method = by_key("gauge").unwrap();
    plan_warnings(method, plan, (d(work.0), d(work.1))).unwrap()
}

use Travel::{Falling, Rising};

#[test]
fn a_sound_plan_raises_no_warning() {
    let sound =
        plan(&[("80", Rising, 2), ("200", Rising, 2), ("320", Rising, 2), ("200", Falling, 2)]);
    assert_eq!(warned(&sound, ("80", "320")), []);
}

/// Coming down means taking pieces off: 10 kg of one piece is not among 20 kg of another.
#[test]
fn loads_that_cannot_come_down_are_named() {
    let mut falling = plan(&[("10", Rising, 2), ("20", Rising, 2), ("10", Falling, 2)]);
    let tag = |tags: &[&str], like: &PlanPoint| -> Vec<CertifiedPiece> {
        tags.iter()
            .map(|tag| CertifiedPiece { tag: (*tag).into(), ..like.pieces[0].clone() })
            .collect()
    };
    for (top, down, comes) in [
        (&["10", "10*"][..], &["10"][..], true),
        (&["10", "10*"], &["10*"], true),
        (&["20"], &["10"], false),
        (&["10"], &["10", "10"], false),
    ] {
        let like = falling.points[0].clone();
        falling.points[1].pieces = tag(top, &like);
        falling.points[2].pieces = tag(down, &like);
        assert_eq!(falling.comes_down(2), comes, "{top:?} then {down:?}");
    }
    assert!(!falling.comes_down(0) && !falling.comes_down(9));
    // A gauge has nothing put on: there it is no matter of pieces.
    let named = |found: &[PlanWarning]| {
        found.iter().any(|one| matches!(one, PlanWarning::NotComingDown { .. }))
    };
    assert!(!named(&warned(&falling, ("10", "20"))));
}

#[test]
fn points_that_do_not_bracket_the_work_are_named() {
    let narrow = plan(&[("100", Rising, 2), ("200", Rising, 2), ("300", Rising, 2)]);
    let words: Vec<String> =
        warned(&narrow, ("80", "320")).iter().map(ToString::to_string).collect();
    assert_eq!(words.len(), 2, "{words:?}");
    assert!(words[0].contains("80 bar") && words[0].contains("100 bar"), "{words:?}");
    assert!(words[1].contains("320 bar") && words[1].contains("300 bar"), "{words:?}");
}

#[test]
fn the_same_thing_twice_is_refused_and_another_way_is_not() {
    let points = [("80", Rising, 2), ("200", Rising, 2), ("200.0", Rising, 2), ("320", Rising, 2)];
    let error = by_key("gauge").unwrap().way(&plan(&points)).unwrap_err().to_string();
    assert!(error.contains("points 2 and 3 measure the same thing (200 bar"), "{error}");
    let both_ways = plan(&[("80", Rising, 2), ("200", Rising, 2), ("200", Falling, 2)]);
    assert!(by_key("gauge").unwrap().way(&both_ways).is_ok());
}

#[test]
fn what_else_is_lost_is_said() {
    let poor = plan(&[("80", Rising, 1), ("320", Falling, 2)]);
    let found = warned(&poor, ("80", "320"));
    assert!(found.iter().any(|w| matches!(w, PlanWarning::ReadOnce { .. })), "{found:?}");
    assert!(found.iter().any(|w| matches!(w, PlanWarning::NotRising { .. })), "{found:?}");
    assert!(found.contains(&PlanWarning::NoMiddle), "{found:?}");
    let mut silent = plan(&[("80", Rising, 2), ("200", Rising, 2), ("320", Rising, 2)]);
    silent.points.iter_mut().for_each(|point| point.charted = false);
    assert_eq!(warned(&silent, ("80", "320")), [PlanWarning::NothingCharted]);
}

/// A guard band rests on an uncertainty, and two readings give none: a plan says where its scatter comes from.
#[test]
fn a_guard_band_wants_the_repeatability_stated() {
    let mut guarded = plan(&[("80", Rising, 2), ("200", Rising, 2), ("320", Rising, 2)]);
    guarded.decision = Decision::by(DecisionRule::GuardBandU);
    assert_eq!(warned(&guarded, ("80", "320")), [PlanWarning::ScatterUnknown]);
    guarded.additions.push(BudgetAddition {
        source: ContributionSource::Temperature,
        label: "room between 18 and 24 °C".into(),
        half_width: d("0.1"),
        per_year: false,
        of_reference: false,
    });
    assert_eq!(warned(&guarded, ("80", "320")), [PlanWarning::ScatterUnknown]);
    guarded.additions[0].source = ContributionSource::Repeatability;
    assert_eq!(warned(&guarded, ("80", "320")), []);
    guarded.additions.clear();
    guarded.points.iter_mut().for_each(|point| point.repeats = 10);
    assert_eq!(warned(&guarded, ("80", "320")), [], "ten readings tell it themselves");
}

#[test]
fn a_weak_standard_and_a_coarse_display_are_said_once_a_point() {
    let mut weak = plan(&[("80", Rising, 2), ("200", Rising, 2), ("320", Rising, 2)]);
    // Limit 2 bar; U of 0.8 takes 40 %.
    weak.points[0].pieces[0].expanded_uncertainty = d("0.8");
    let found = warned(&weak, ("80", "320"));
    assert!(
        matches!(found.as_slice(), [PlanWarning::WeakStandard { percent, .. }] if percent == "40")
    );
    weak.points[0].pieces[0].expanded_uncertainty = d("0.2");
    weak.resolution = d("5");
    let found = warned(&weak, ("80", "320"));
    assert!(found.iter().all(|w| matches!(w, PlanWarning::CoarseDisplay { .. })), "{found:?}");
    assert_eq!(found.len(), 3);
}
