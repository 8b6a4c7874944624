//! Photometric assays: a curve from standards, controls that are read back by it.

use jiff::{SignedDuration, Timestamp};
use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::chart::{ChartDesign, ChartState, Spread, SpreadDesign};
use vaaka_core::check::{RunContext, StreamSlot, complete};
use vaaka_core::judgement::{Characteristic, Conformity, ContributionSource, Decision};
use vaaka_core::method::assay::{Assay, KEY};
use vaaka_core::method::{
    Entry, Input, Method, MethodError, Picture, Place, PlanPoint, PlanSpec, PlanStandard, Proposal,
    Purpose, RunState, Travel, accept, by_key,
};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

/// Standards of 2 to 12 on place 0, a control of 6 on place 1.
fn plan(changes: &[(&str, Value)]) -> PlanSpec {
    let mut settings = json!({
        "schema": "assay-1", "curve": "measured", "slope": "0.0965", "intercept": null,
        "kept_uncertainty": null, "slope_band": "10", "through_origin": false, "weighting": "equal",
        "blank": "point", "blank_limit": null, "blank_readings": "1", "absorbance_step": "0.001",
        "bends_above": "1", "linear_to": "2", "curve_limit": null,
        "control_limit": { "form": "percent_of_reading", "percent": "10" },
        "settings": [], "conditions": [], "waits": [], "cautions": [], "preparation": [], "closing": [],
    });
    for (key, value) in changes {
        settings[*key] = value.clone();
    }
    let point = |nominal: &str, standard: usize| PlanPoint {
        nominal: d(nominal),
        travel: Travel::Rising,
        place: Place::Middle,
        repeats: 1,
        charted: standard > 0,
        pieces: vec![CertifiedPiece {
            tag: nominal.into(),
            nominal: d(nominal),
            certified_value: d(nominal),
            expanded_uncertainty: d(nominal) / Decimal::from(100),
            coverage_factor: d("2"),
            unit: Unit::MilligramPerLitre,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }],
        standard,
    };
    let standard =
        |tag: &str| PlanStandard { tag: tag.into(), name: "Solutions".into(), any_of_kind: None };
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::MilligramPerLitre,
        resolution: d("0.01"),
        range_low: d("0"),
        maximum: d("12"),
        configuration: vec![],
        standards: vec![standard("SN-1"), standard("SN-2")],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: [("12", 0), ("6.2", 1), ("2", 0), ("4", 0), ("8", 0), ("6", 0), ("10", 0)]
            .map(|(nominal, standard)| point(nominal, standard))
            .to_vec(),
    }
}

fn run(plan: &PlanSpec, shown: &[&str]) -> RunState {
    let mut shown = shown.iter();
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Assay.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let mut proposal = Proposal::default();
        match &step.input {
            Input::Reading { .. } => match shown.next() {
                Some(reading) => proposal.typed = (*reading).into(),
                None => return run,
            },
            Input::Tag { expected, .. } => proposal.typed.clone_from(expected),
            Input::Confirm { sentences, .. } => proposal.ticked = sentences.len(),
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
    assert_eq!(Assay.so_far(plan, &run).unwrap(), Assay.evaluate(plan, &run).unwrap());
    Assay.evaluate(plan, &run).unwrap()
}

fn of<'a>(all: &'a [Characteristic], key: &str) -> &'a Characteristic {
    all.iter().find(|one| one.key == key).unwrap_or_else(|| panic!("no {key}"))
}

/// Fluorescence of 0 to 12 pg/mL (Miller and Miller, Statistics and Chemometrics for Analytical Chemistry, the example of chapter 5;
/// from memory), a twentieth of it as absorbance: 2.1, 5.0, 9.0, 12.6, 17.3, 21.0, 24.7, and 13.5 of the unknown.
const SHOWN: [&str; 8] = ["0.105", "0.250", "0.450", "0.630", "0.865", "1.050", "1.235", "0.675"];

#[test]
fn a_textbook_curve_reads_back_what_the_book_does() {
    assert_eq!(by_key(KEY).unwrap().name(), "Photometric assay");
    let all = found(&plan(&[]), &SHOWN);
    // b = 1.93, a = 1.52, s = 0.4329, and 6.21 ± 0.62 for 13.5.
    assert!((20.0 * of(&all, "slope").value() - 1.93).abs() < 0.005);
    assert!((20.0 * of(&all, "intercept").value() - 1.52).abs() < 0.005);
    assert!((1.93 * of(&all, "residual").value() - 0.4329).abs() < 0.0007);
    let control = of(&all, "error-6.2");
    assert!((6.2 + control.value() - 6.21).abs() < 0.005, "{control:?}");
    assert!(control.charted && control.limits.unwrap().upper == Some(d("0.62")));
    let by_line: f64 = control
        .contributions
        .iter()
        .filter(|part| {
            part.source == ContributionSource::Repeatability || part.label == "Regression line"
        })
        .map(|part| part.standard_uncertainty.powi(2))
        .sum();
    // t of five degrees of freedom at 95 %.
    assert!((2.571 * by_line.sqrt() - 0.62).abs() < 0.005, "{by_line}");
    assert!(control.contributions.iter().any(|part| part.degrees_of_freedom == Some(5.0)));
    // One stock makes them all: half a per cent of what is read back, beside half a per cent of the control's own.
    let stock = control.contributions.iter().find(|part| part.label == "Calibration standards");
    assert!((stock.unwrap().standard_uncertainty - 0.005 * 6.21).abs() < 1e-4);
    assert_eq!(control.rests_on, [0, 1]);
    assert_eq!(of(&all, "highest").value(), 1.235);
    assert_eq!(of(&all, "error-12").label, "Error at 12 mg/L, calibration standard");
    assert_eq!(of(&all, "error-12").limits, None);
}

#[test]
fn the_way_begins_with_cell_and_blank_and_rises() {
    let plan = plan(&[]);
    let way = Assay.way(&plan).unwrap();
    let keys: Vec<&str> = way.iter().map(|step| step.key.0.as_str()).collect();
    let measured: Vec<&str> = keys[2..].to_vec();
    assert_eq!(
        measured,
        [
            "cell",
            "blank",
            "solution-3-2",
            "solution-4-4",
            "solution-6-6",
            "solution-5-8",
            "solution-7-10",
            "solution-1-12",
            "solution-2-6.2",
            "review"
        ]
    );
    // Another blank or another cell makes all that follows new.
    assert_eq!(way[3].voids.len(), 8);
    assert_eq!(way[2].voids.len(), 9);
    let control = &way[10];
    let before = Assay.settle(&plan, &run(&plan, &SHOWN[..3]), control).unwrap();
    assert_eq!((before.reference_value, before.tolerance), (Some(d("0.598")), None));
    // Nothing is judged of one standard, and a reading of another one is asked about all the same: three times a tenth.
    let standard = &way[5];
    assert_eq!((standard.key.0.as_str(), standard.tolerance), ("solution-4-4", None));
    let Input::Reading { guard, .. } = standard.clone().guarded(None).input else { panic!() };
    assert_eq!(guard, d("0.1158"));
    // Once the curve is known the control is expected where it puts it, within its limit.
    let after = Assay.settle(&plan, &run(&plan, &SHOWN[..7]), control).unwrap();
    let expected = to_f64(after.reference_value.unwrap());
    assert!((expected - (1.518 + 1.930 * 6.2) / 20.0).abs() < 5e-4, "{expected}");
    let half = to_f64(after.tolerance.unwrap().upper.unwrap());
    assert!((half - 0.62 * 1.93 / 20.0).abs() < 2e-4, "{half}");
}

/// Nothing is told of a part of a curve; what rests on it comes when it is whole.
#[test]
fn a_part_of_a_curve_reads_nothing_back() {
    let plan = plan(&[]);
    let part = Assay.so_far(&plan, &run(&plan, &SHOWN[..6])).unwrap();
    let keys: Vec<&str> = part.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(keys, ["blank", "highest"]);
    let error = Assay.evaluate(&plan, &run(&plan, &SHOWN[..7])).unwrap_err();
    assert!(matches!(error, MethodError::Incomplete { got: 0, .. }), "{error:?}");
}

/// A lamp that is out: nothing rises, nothing is read back, and the check fails by its slope.
#[test]
fn a_curve_that_does_not_rise_fails() {
    let plan = plan(&[]);
    let all = found(&plan, &["0.001"; 8]);
    assert!(all.iter().all(|one| !one.key.starts_with("error")));
    let slope = of(&all, "slope");
    assert!(!slope.limits.unwrap().hold_mean(slope.sum(), 1));
    let live = Assay.live(&plan, &run(&plan, &["0.001"; 8])).unwrap();
    assert!(
        live.facts.iter().any(|fact| fact.value == "none: the calibration curve does not rise")
    );
}

#[test]
fn the_blank_is_taken_off_and_standards_weigh() {
    let changes = [
        ("blank", json!("subtracted")),
        ("weighting", json!("by_square")),
        ("blank_readings", json!("2")),
    ];
    // A straight line over a blank of 0.010 on the mean.
    let shown = ["0.008", "0.012", "0.203", "0.396", "0.589", "0.782", "0.975", "1.168", "0.6083"];
    let mut plan = plan(&changes);
    plan.settings["absorbance_step"] = json!("0.0001");
    let all = found(&plan, &shown);
    assert!((of(&all, "slope").value() - 0.0965).abs() < 1e-9);
    assert!((of(&all, "intercept").value()).abs() < 1e-9);
    assert!((of(&all, "error-6.2").value()).abs() < 1e-9);
    assert_eq!(of(&all, "blank").value(), 0.01);
    let control = of(&all, "error-6.2");
    let blank = control.contributions.iter().find(|part| part.label == "Blank subtracted");
    // s/√2 of 8 and 12 is 2 thousandths.
    assert!((blank.unwrap().standard_uncertainty - 0.002 / 0.0965).abs() < 1e-6);
    assert!(all.iter().all(|one| one.key != "residual"), "weights leave no one scatter");
}

#[test]
fn a_kept_curve_reads_controls_back() {
    let changes = [
        ("curve", json!("kept")),
        ("intercept", json!("0.02")),
        ("kept_uncertainty", json!("1")),
        ("blank", json!("subtracted")),
    ];
    let mut plan = plan(&changes);
    plan.points.truncate(2);
    let all = found(
        &plan,
        &["0.000", "0.6183", "1.178"].map(|text| if text == "0.6183" { "0.618" } else { text }),
    );
    let control = of(&all, "error-6.2");
    assert!((control.value() - (0.598 / 0.0965 - 6.2)).abs() < 1e-6, "{control:?}");
    let kept =
        control.contributions.iter().find(|part| part.label == "Stored calibration curve").unwrap();
    assert!((kept.standard_uncertainty - 0.0598 / 0.965).abs() < 1e-4);
    let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(keys, ["error-6.2", "error-12", "blank", "highest"]);
}

#[test]
fn what_the_curve_proves_and_what_not_is_said() {
    let plan = plan(&[]);
    let live = Assay.live(&plan, &run(&plan, &SHOWN)).unwrap();
    let value = |name: &str| {
        let fact = live.facts.iter().find(|fact| fact.name == name);
        fact.unwrap_or_else(|| panic!("no {name}: {:?}", live.facts)).value.clone()
    };
    // Miller and Miller: r = 0.9989, 6.21 ± 0.62 (by Fieller's interval a little crooked).
    assert!(value("Correlation r").starts_with("0.9988796"), "{}", value("Correlation r"));
    assert!(value("Control 6.2 mg/L").contains("5.591 to 6.825"), "{}", value("Control 6.2 mg/L"));
    assert!(value("Intercept, 95 %").contains("excludes zero"));
    assert!(value("Lack of fit").starts_with("cannot be tested"));
    assert!(value("High absorbance").starts_with("1.235 Abs: above 1.000 Abs"));
    let plots = live.pictures.iter().filter(|one| matches!(one, Picture::Plot(_))).count();
    assert_eq!((plots, live.pictures.len()), (2, 3));
    // Two standards held to the origin leave something; two that are free leave nothing.
    let mut two = plan.clone();
    two.points = [2, 5].map(|at| plan.points[at].clone()).to_vec();
    two.settings["blank"] = json!("subtracted");
    let live = Assay.live(&two, &run(&two, &["0.000", "0.193", "0.579"])).unwrap();
    assert!(live.facts.iter().any(|fact| fact.value.contains("prove nothing about the curve")));
}

#[rstest]
#[case(&[("slope", json!("0"))], "greater than zero")]
#[case(&[("slope_band", json!("100"))], "less than 100 %")]
#[case(&[("blank_readings", json!("2.5"))], "once to 20 times")]
#[case(&[("blank_limit", json!("-0.1"))], "not negative")]
#[case(&[("bends_above", json!("3"))], "below the end")]
#[case(&[("linear_to", json!("1.1")), ("bends_above", json!(null))], "highest standard")]
#[case(&[("intercept", json!("0.1"))], "leave both empty")]
#[case(&[("weighting", json!("by_square"))], "subtract it from")]
#[case(&[("through_origin", json!(true))], "subtract it from")]
// ±100 % of 6.2 reaches beyond 12.
#[case(&[("control_limit", json!({ "form": "percent_of_reading", "percent": "100" }))], "beyond the curve")]
fn what_cannot_be_is_refused(#[case] changes: &[(&str, Value)], #[case] words: &str) {
    let error = Assay.way(&plan(changes)).unwrap_err().to_string();
    assert!(error.contains(words), "{error}");
}

#[test]
fn points_that_cannot_be_are_refused() {
    let refused = |change: &dyn Fn(&mut PlanSpec)| {
        let mut plan = plan(&[]);
        change(&mut plan);
        Assay.way(&plan).unwrap_err().to_string()
    };
    assert!(refused(&|plan| plan.unit = Unit::Millimetre).contains("mg/L"));
    assert!(refused(&|plan| plan.points.clear()).contains("at least one solution"));
    assert!(refused(&|plan| plan.points[0].nominal = d("0")).contains("the blank"));
    assert!(refused(&|plan| plan.points[0].nominal = d("13")).contains("outside the range"));
    assert!(refused(&|plan| plan.points.truncate(2)).contains("five are good"));
    assert!(refused(&|plan| plan.points[3].nominal = d("2")).contains("measure the same thing"));
}

/// What a chart in mg/L knows of the scatter says nothing of an absorbance, and nobody borrows it there.
#[test]
fn scatter_is_borrowed_in_its_own_unit_only() {
    let plan = plan(&[("blank_limit", json!("0.2"))]);
    let design = ChartDesign {
        spread: Some(SpreadDesign { within: 5.0, by: Spread::StdDev, multiplier: 3.0 }),
        ..ChartDesign::given(0.0, 7.0)
    };
    let context = RunContext {
        slots: vec![StreamSlot {
            key: "error-6.2".into(),
            design: Some(design),
            sigma_source: None,
            state: ChartState::new(SignedDuration::from_hours(8)),
            recent: vec![],
        }],
        ..RunContext::default()
    };
    let done = complete(&Assay, &plan, &run(&plan, &SHOWN), &context).unwrap();
    let u = |key: &str| {
        let (_, result) = done.results.iter().find(|(one, _)| one.key == key).unwrap();
        result.budget.combined_standard_uncertainty
    };
    // Its own chart, and that of its neighbour in the same unit.
    assert!(u("error-6.2") > 5.0 && u("error-4") > 5.0);
    for key in ["blank", "highest", "slope", "intercept"] {
        assert!(u(key) < 0.1, "{key}: {}", u(key));
    }
}

/// Above the linear range the check fails, however well the line fits; at its end it does not.
#[rstest]
#[case("1.235", true)]
#[case("1.234", false)]
fn a_reading_above_the_linear_range_fails(#[case] linear_to: &str, #[case] holds: bool) {
    let mut plan = plan(&[("bends_above", json!(null))]);
    plan.settings["linear_to"] = json!(linear_to);
    plan.settings["slope"] = json!("0.0965");
    let all = found(&plan, &SHOWN);
    let highest = of(&all, "highest");
    assert_eq!(highest.limits.unwrap().hold_mean(highest.sum(), highest.n()), holds);
    let done = complete(&Assay, &plan, &run(&plan, &SHOWN), &RunContext::default()).unwrap();
    assert_eq!(done.verdict.conforms == Conformity::Fail, !holds);
}

/// The line through the origin has no intercept, and its slope is Σcy/Σc² of what is left of the blank.
#[test]
fn a_line_through_the_origin_has_no_intercept() {
    let changes = [("through_origin", json!(true)), ("blank", json!("subtracted"))];
    let plan = plan(&changes);
    let all = found(&plan, &SHOWN);
    assert!(all.iter().all(|one| one.key != "intercept"));
    let (c, y) = ([2.0, 4.0, 6.0, 8.0, 10.0, 12.0], [0.145, 0.345, 0.525, 0.760, 0.945, 1.130]);
    let above: f64 = c.iter().zip(y).map(|(c, y)| c * y).sum();
    let below: f64 = c.iter().map(|c| c * c).sum();
    assert!((of(&all, "slope").value() - above / below).abs() < 1e-9);
    // A control below the lowest standard is within the curve: it begins at nothing.
    let mut low = plan.clone();
    low.points[1].nominal = d("1");
    low.points[1].pieces[0].nominal = d("1");
    assert!(Assay.way(&low).is_ok());
    low.settings["through_origin"] = json!(false);
    assert!(Assay.way(&low).unwrap_err().to_string().contains("beyond the curve"));
}

/// A concentration in per cent is one, too; the blank has limits of its own; a control without a limit of the curve is judged alone.
#[test]
fn what_is_judged_is_what_has_a_limit() {
    let changes = [
        ("blank_limit", json!("0.1")),
        ("curve_limit", json!({ "form": "absolute", "half_width": "0.15" })),
    ];
    let mut plan = plan(&changes);
    plan.unit = Unit::Percent;
    for point in &mut plan.points {
        point.pieces[0].unit = Unit::Percent;
    }
    let all = found(&plan, &SHOWN);
    assert_eq!(of(&all, "error-6.2").unit, Unit::Percent);
    let outside = |key: &str| {
        let one = of(&all, key);
        !one.limits.unwrap().hold_mean(one.sum(), one.n())
    };
    // 0.105 of the blank; what is left at 2 and 6 is 0.19 and 0.26, at 12 nearly nothing.
    assert!(outside("blank") && outside("error-2") && outside("error-6"));
    assert!(!outside("error-12") && !outside("error-6.2"));
    assert_eq!(of(&all, "intercept").limits, None);
}
