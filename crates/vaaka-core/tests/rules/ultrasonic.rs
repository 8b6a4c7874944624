//! Ultrasonic thickness on a step block: errors, velocity and zero that the steps speak for, and what their errors look like.

use jiff::Timestamp;
use rust_decimal::Decimal;
use serde::Deserialize;
use serde_json::{Value, json};
use vaaka_core::judgement::{Characteristic, CharacteristicKind, Decision};
use vaaka_core::method::ultrasonic::{
    Echo, KEY, LineError, Pattern, SoundError, Ultrasonic, amplitude_linearity, elements,
    encoder_scale, gain_curve, gain_to_height, refracted_angle, sound_place, velocity_and_zero,
    velocity_at,
};
use vaaka_core::method::{
    Entry, Input, Method, MethodError, Picture, Place, PlanPoint, PlanSpec, PlanStandard, Proposal,
    Purpose, RunState, Travel, accept, by_key,
};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::CertifiedPiece;

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

#[derive(Deserialize)]
struct Reference {
    lines: Vec<Line>,
    patterns: Vec<Shape>,
}

#[derive(Deserialize)]
struct Line {
    thickness: Vec<f64>,
    times: Vec<f64>,
    velocity: f64,
    zero: f64,
    residuals: Vec<f64>,
    slope_error: Option<f64>,
    zero_error: Option<f64>,
}

#[derive(Deserialize)]
struct Shape {
    thickness: Vec<f64>,
    errors: Vec<f64>,
    u: Vec<f64>,
    pattern: String,
}

fn reference() -> Reference {
    serde_json::from_str(include_str!("../data/step_lines.json")).unwrap()
}

/// SciPy's linear regression (`tools/reference/step_lines.py`).
#[test]
fn velocity_and_zero_are_those_of_a_regression() {
    let near = |a: f64, b: f64| (a - b).abs() <= 1e-9 * b.abs().max(1.0);
    for case in reference().lines {
        let steps: Vec<(f64, f64)> =
            case.thickness.iter().copied().zip(case.times.iter().copied()).collect();
        let found = velocity_and_zero(&steps).unwrap();
        assert!(near(found.velocity, case.velocity), "{} {}", found.velocity, case.velocity);
        assert!(near(found.zero, case.zero), "{} {}", found.zero, case.zero);
        match (case.slope_error, case.zero_error) {
            (Some(slope), Some(zero)) => {
                let residuals = found.line.residuals.as_ref().unwrap();
                assert!(residuals.iter().zip(&case.residuals).all(|(a, b)| near(*a, *b)));
                let (s, free) = found.line.scatter.unwrap();
                assert_eq!(free, steps.len() - 2);
                let (u_zero, u_slope) = found.line.uncertainties(&vec![s; steps.len()]);
                assert!(near(u_slope, slope) && near(u_zero, zero), "{u_slope} {slope}");
            }
            _ => assert!(found.line.residuals.is_none() && found.line.scatter.is_none()),
        }
    }
}

/// Two steps by hand: v = 2(d₂ − d₁)/(t₂ − t₁), zero = t₁ − 2d₁/v.
#[test]
fn two_steps_have_a_closed_form() {
    let found = velocity_and_zero(&[(5.0, 2.19), (20.0, 7.19)]).unwrap();
    assert!((found.velocity - 6_000.0).abs() < 1e-9 && (found.zero - 0.523_333_333).abs() < 1e-8);
    // The order in which they were measured changes nothing; a step measured twice is no second step.
    let turned = velocity_and_zero(&[(20.0, 7.19), (5.0, 2.19)]).unwrap();
    assert!((turned.velocity - found.velocity).abs() < 1e-9);
    let again = velocity_and_zero(&[(5.0, 2.19), (20.0, 7.19), (5.0, 2.19)]).unwrap();
    assert!(again.line.residuals.is_none(), "two thicknesses leave no residual");
    for (steps, fault) in [
        (vec![(5.0, 2.0)], LineError::TooFew),
        (vec![(5.0, 2.0), (5.0, 2.1)], LineError::Equal),
        (vec![(5.0, 2.0), (f64::NAN, 2.1)], LineError::NoNumber { place: 2 }),
        (vec![(0.0, 2.0), (5.0, 2.1)], LineError::NoNumber { place: 1 }),
        (vec![(5.0, 4.0), (10.0, 3.0)], LineError::Falls),
    ] {
        assert_eq!(velocity_and_zero(&steps), Err(fault));
    }
}

/// The same shapes as SciPy's least squares and χ² name (`tools/reference/step_lines.py`).
#[test]
fn errors_have_the_shape_of_the_reference() {
    let word = |pattern| match pattern {
        Pattern::Nothing => "nothing",
        Pattern::Zero => "zero",
        Pattern::Velocity => "velocity",
        Pattern::ZeroAndVelocity => "zero_and_velocity",
        Pattern::ThinEnd => "thin_end",
        Pattern::Other => "other",
    };
    let cases = reference().patterns;
    for case in &cases {
        let steps: Vec<(f64, f64, f64)> = (0..case.u.len())
            .map(|index| (case.thickness[index], case.errors[index], case.u[index]))
            .collect();
        assert_eq!(word(Pattern::of(&steps).unwrap()), case.pattern, "{:?}", case.errors);
    }
    for name in ["nothing", "zero", "velocity", "thin_end", "zero_and_velocity"] {
        assert!(cases.iter().any(|case| case.pattern == name), "{name}");
    }
    assert_eq!(Pattern::of(&[(1.0, 0.1, 0.01), (2.0, 0.1, 0.01), (2.0, 0.1, 0.01)]), None);
    assert_eq!(Pattern::of(&[(1.0, f64::NAN, 0.01), (2.0, 0.1, 0.01), (3.0, 0.1, 0.01)]), None);
}

fn plan(changes: &[(&str, Value)]) -> PlanSpec {
    let mut settings = json!({
        "schema": "ultrasonic-1",
        "mean_limit": { "form": "larger_of", "half_width": "0.05", "percent": "0.5" },
        "single_limit": null, "range_limit": null,
        "residual_limit": { "form": "absolute", "half_width": "0.03" },
        "velocity": "5934", "velocity_band": "1", "per_degree": "0.8",
        "set_on": [{ "thickness": "5" }, { "thickness": "20" }], "thinnest": "2",
        "settings": [],
        "conditions": [{ "name": "Block", "unit": "°C", "lower": "5", "upper": "40", "advice": "Wait.",
            "standard_temperature": true, "half_width": "0.5" }],
        "waits": [], "cautions": [], "preparation": [], "closing": [],
    });
    for (key, value) in changes {
        settings[*key] = value.clone();
    }
    let piece = |nominal: &str, value: &str| CertifiedPiece {
        tag: nominal.into(),
        nominal: d(nominal),
        certified_value: d(value),
        expanded_uncertainty: d("0.004"),
        coverage_factor: d("2"),
        unit: Unit::Millimetre,
        class_limit: false,
        non_uniformity: None,
        by_temperature: vec![],
        at_unit: None,
    };
    let point = |nominal: &str, value: &str| PlanPoint {
        nominal: d(nominal),
        travel: Travel::Rising,
        place: Place::Middle,
        repeats: 2,
        charted: true,
        pieces: vec![piece(nominal, value)],
        standard: 0,
    };
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Millimetre,
        resolution: d("0.01"),
        range_low: d("1"),
        maximum: d("200"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "SB-5".into(),
            name: "Step block".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: vec![
            point("2.5", "2.503"),
            point("5", "5.001"),
            point("10", "9.998"),
            point("20", "20.002"),
        ],
    }
}

fn run(plan: &PlanSpec, velocity: &str, temperature: &str, shown: &[&str]) -> RunState {
    let mut shown = shown.iter();
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Ultrasonic.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let mut proposal = Proposal::default();
        match &step.input {
            Input::Reading { unit: Unit::MetrePerSecond, .. } => proposal.typed = velocity.into(),
            Input::Reading { .. } => match shown.next() {
                Some(reading) => proposal.typed = (*reading).into(),
                None => return run,
            },
            Input::Condition { .. } => proposal.typed = temperature.into(),
            Input::Tag { expected, .. } => proposal.typed.clone_from(expected),
            _ => {}
        }
        proposal.confirm_far = Some(proposal.typed.clone());
        let value = accept(step, &proposal, &run, at).unwrap();
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    run
}

fn found(
    plan: &PlanSpec,
    velocity: &str,
    temperature: &str,
    shown: &[&str],
) -> Vec<Characteristic> {
    let run = run(plan, velocity, temperature, shown);
    assert_eq!(Ultrasonic.so_far(plan, &run).unwrap(), Ultrasonic.evaluate(plan, &run).unwrap());
    Ultrasonic.evaluate(plan, &run).unwrap()
}

fn of<'a>(all: &'a [Characteristic], key: &str) -> &'a Characteristic {
    all.iter().find(|one| one.key == key).unwrap_or_else(|| panic!("no {key}"))
}

/// Shown a tenth too thick everywhere with the velocity right: the zero is wrong, the velocity is not.
const ZERO: [&str; 8] = ["2.60", "2.60", "5.10", "5.10", "10.10", "10.10", "20.10", "20.10"];

#[test]
fn a_wrong_zero_is_told_from_a_wrong_velocity() {
    assert_eq!(by_key(KEY).unwrap().name(), "Ultrasonic thickness");
    let all = found(&plan(&[]), "5934", "20.0", &ZERO);
    let zero = of(&all, "zero-by-steps");
    assert!((zero.value() - 100.0).abs() < 3.0, "{}", zero.value());
    assert!(zero.charted && zero.limits.is_none() && zero.kind == CharacteristicKind::Indication);
    let velocity = of(&all, "velocity-by-steps");
    assert!((velocity.value() - 5_934.0).abs() < 2.0, "{}", velocity.value());
    assert_eq!(velocity.unit, Unit::MetrePerSecond);
    assert_eq!(velocity.limits.unwrap().lower, Some(d("5874.66")));
    assert_eq!(of(&all, "velocity-set").singles, [d("5934")]);
    assert_eq!(of(&all, "error-5").label, "Error at 5 mm");
    // Set to a velocity that is 2 % off, with the zero right: 5934/6052.68 of what is there is shown as more.
    let wrong = ["2.55", "2.55", "5.10", "5.10", "10.20", "10.20", "20.40", "20.40"];
    let all = found(&plan(&[]), "6052", "20.0", &wrong);
    assert!((of(&all, "velocity-by-steps").value() - 5_934.0).abs() < 6.0);
    assert!(of(&all, "zero-by-steps").value().abs() < 5.0);
    let set = of(&all, "velocity-set");
    assert!(!set.limits.unwrap().hold_mean(set.sum(), 1), "6052 is beyond 1 % of 5934");
}

/// What is uncertain of the velocity, by the law of propagation through the line: each mean of two readings with s/√2 and
/// d/√12, each step with half of 0.004 mm.
#[test]
fn the_velocity_has_a_budget() {
    let shown = ["2.50", "2.51", "5.00", "5.01", "10.00", "10.01", "20.00", "20.01"];
    let all = found(&plan(&[]), "5934", "30.0", &shown);
    let velocity = of(&all, "velocity-by-steps");
    // At 30 °C it falls by 8 m/s; what is charted is brought to 20 °C.
    let steps = [(2.503, 2.505), (5.001, 5.005), (9.998, 10.005), (20.002, 20.005)];
    let mean = steps.iter().map(|step| step.0).sum::<f64>() / 4.0;
    let spread: f64 = steps.iter().map(|step| (step.0 - mean).powi(2)).sum();
    let slope: f64 = steps.iter().map(|step| (step.0 - mean) / spread * step.1).sum();
    assert!((velocity.value() - (5_934.0 / slope + 8.0)).abs() < 1e-3, "{}", velocity.value());
    let part = |u: f64| 5_934.0 / (slope * slope) * u / spread.sqrt();
    let s = 0.000_05_f64.sqrt();
    let expected = [
        part(slope * 0.002),
        part(0.01 / 12.0_f64.sqrt()),
        part(s / 2.0_f64.sqrt()),
        1.0 / 12.0_f64.sqrt() / slope,
        0.8 * 0.5 / 3.0_f64.sqrt(),
    ];
    let parts: Vec<f64> =
        velocity.contributions.iter().map(|part| part.standard_uncertainty).collect();
    assert_eq!(parts.len(), expected.len());
    for (found, expected) in parts.iter().zip(expected) {
        assert!((found - expected).abs() < 1e-6 * expected, "{parts:?} {expected}");
    }
    assert_eq!(velocity.contributions[2].degrees_of_freedom, Some(4.0));
}

/// What is seen while measuring: nothing before two steps, no residual of two, and the pattern by its name from three on.
#[test]
fn live_numbers_say_how_far_they_go() {
    let plan = plan(&[]);
    let live = |count: usize, shown: &[&str]| {
        Ultrasonic.live(&plan, &run(&plan, "5934", "20", &shown[..count])).unwrap()
    };
    let fact = |live: &vaaka_core::method::Live, name: &str| {
        live.facts.iter().find(|fact| fact.name == name).map(|fact| fact.value.clone())
    };
    let one = live(2, &ZERO);
    assert_eq!(fact(&one, "Velocity that it is set to").unwrap(), "5934 m/s");
    assert_eq!(one.facts.len(), 2, "and the proof of the one step");
    let two = live(4, &ZERO);
    assert!(fact(&two, "Departure from a line").unwrap().starts_with("two steps leave none"));
    assert!(two.pictures.iter().all(|picture| matches!(picture, Picture::Bars(_))));
    let all = live(8, &ZERO);
    assert!(fact(&all, "Pattern of the errors").unwrap().ends_with("the probe zero"));
    assert_eq!(fact(&all, "Largest error where it was not set").unwrap(), "+102.0 µm at 10 mm");
    assert!(matches!(&all.pictures[0], Picture::Plot(plot) if plot.curves.len() == 2));
    let worn = ["2.62", "2.62", "5.00", "5.00", "10.00", "10.00", "20.00", "20.00"];
    assert!(
        fact(&live(8, &worn), "Pattern of the errors").unwrap().starts_with("the thinnest step")
    );
    let good = ["2.50", "2.51", "5.00", "5.00", "10.00", "9.99", "20.00", "20.01"];
    assert!(fact(&live(8, &good), "Pattern of the errors").unwrap().starts_with("none beyond"));
}

/// Times that make no line say nothing of a velocity, and the check is judged all the same.
#[test]
fn what_makes_no_line_is_still_judged() {
    let turned = ["20.0", "20.0", "10.0", "10.0", "5.0", "5.0", "2.5", "2.5"];
    let all = found(&plan(&[]), "5934", "20", &turned);
    assert!(all.iter().all(|one| one.key != "velocity-by-steps" && one.key != "zero-by-steps"));
    assert_eq!(all.iter().filter(|one| one.kind == CharacteristicKind::Error).count(), 4);
    // Nobody reads the velocity: errors and the departure from a line are left.
    let plain = plan(&[
        ("velocity", Value::Null),
        ("velocity_band", Value::Null),
        ("per_degree", Value::Null),
    ]);
    let keys: Vec<String> = found(&plain, "", "20", &ZERO).into_iter().map(|one| one.key).collect();
    assert!(
        keys.contains(&"largest-residual".to_owned())
            && !keys.iter().any(|key| key.contains("velocity"))
    );
}

#[test]
fn settings_that_cannot_be_say_why() {
    for (changes, words) in [
        (
            vec![("set_on", json!(["2.5", "5", "10.0", "20"].map(|t| json!({ "thickness": t }))))],
            "one more is needed that proves it",
        ),
        (vec![("thinnest", json!("3"))], "thinner than what counts"),
        (vec![("velocity", json!("0"))], "greater than zero"),
        (vec![("velocity_band", json!("100"))], "less than 100 %"),
        (vec![("velocity", Value::Null)], "needs the velocity itself"),
        (vec![("conditions", json!([]))], "say which condition is the standard's"),
    ] {
        match Ultrasonic.way(&plan(&changes)) {
            Err(MethodError::Settings { why }) => assert!(why.contains(words), "{why}"),
            other => panic!("{words}: {other:?}"),
        }
    }
    let with = |change: fn(&mut PlanSpec)| {
        let mut plan = plan(&[]);
        change(&mut plan);
        Ultrasonic.way(&plan).unwrap_err().to_string()
    };
    assert!(with(|plan| plan.unit = Unit::Kilogram).contains("thickness is a length"));
    assert!(with(|plan| plan.points.clear()).contains("at least one step"));
    assert!(with(|plan| plan.points[0].repeats = 0).contains("read at least once"));
    assert!(with(|plan| plan.maximum = Decimal::TEN).contains("outside the range"));
    let twice = |plan: &mut PlanSpec| {
        let piece = plan.points[0].pieces[0].clone();
        plan.points[0].pieces.push(piece);
    };
    assert!(with(twice).contains("nothing is stacked"));
}

/// Another velocity makes other thicknesses of the same echoes: redoing it voids all steps.
#[test]
fn the_velocity_voids_the_steps() {
    let way = Ultrasonic.way(&plan(&[])).unwrap();
    let velocity = way.iter().find(|step| step.key.0 == "velocity").unwrap();
    for step in way.iter().filter(|step| step.point.is_some()) {
        assert!(velocity.voids.contains(&step.key));
        assert!(step.scene.as_ref().unwrap().description.contains("couplant"));
    }
    let Input::Reading { guard, .. } = &velocity.input else { panic!() };
    assert_eq!(guard.normalize(), d("178.02"), "three times a band of 1 %");
}

/// Closed forms: Snell, the triangle of an angle beam, 6 dB = 1.995.
#[test]
fn what_flaw_detection_computes() {
    // A wedge of 2730 m/s on shear waves of 3250 m/s: sin β = 3250/2730·sin 47.17° (values made up).
    let beta = refracted_angle(47.17, 2_730.0, 3_250.0).unwrap();
    assert!(
        (beta.to_radians().sin() - 3_250.0 / 2_730.0 * 47.17_f64.to_radians().sin()).abs() < 1e-12
    );
    assert_eq!(refracted_angle(60.0, 2_730.0, 3_250.0), Err(SoundError::Critical));
    assert!(
        refracted_angle(-1.0, 2_730.0, 3_250.0).is_err() && refracted_angle(1.0, 0.0, 1.0).is_err()
    );
    // 3-4-5: a beam whose cosine is 0.8.
    let angle = 0.8_f64.acos().to_degrees();
    let near = |a: f64, b: f64| (a - b).abs() < 1e-9;
    let place = sound_place(25.0, angle, None).unwrap();
    assert!(near(place.surface, 15.0) && near(place.depth, 20.0) && place.leg.is_none());
    // In a plate of 12: 20 deep is 8 on the way back up, 24 is at its top.
    let folded = sound_place(25.0, angle, Some(12.0)).unwrap();
    assert!(near(folded.depth, 4.0) && folded.leg == Some(2), "{folded:?}");
    let third = sound_place(32.5, angle, Some(12.0)).unwrap();
    assert!(near(third.depth, 2.0) && third.leg == Some(3), "{third:?}");
    assert!(sound_place(1.0, 90.0, None).is_err() && sound_place(1.0, 45.0, Some(0.0)).is_err());

    assert!(near(gain_to_height(40.0, 80.0).unwrap(), 20.0 * 2.0_f64.log10()));
    assert!(gain_to_height(0.0, 80.0).is_err());
    let echo = |path, height| Echo { path, height };
    let curve =
        gain_curve(&[echo(5.0, 80.0), echo(10.0, 52.0), echo(20.0, 26.0)], 80.0, 0.5).unwrap();
    assert_eq!(curve.points.iter().map(|point| point.2).collect::<Vec<_>>(), [0.0, 3.5, 10.0]);
    assert!(near(curve.largest, 10.0) && near(curve.heights[2], 26.0 * 10.0_f64.sqrt()));
    assert!(curve.largest_residual <= 0.25);
    assert!(
        gain_curve(&[echo(5.0, 100.0), echo(9.0, 50.0)], 80.0, 0.5)
            .unwrap_err()
            .to_string()
            .contains("cut off")
    );
    assert!(gain_curve(&[echo(5.0, 80.0), echo(5.0, 50.0)], 80.0, 0.5).is_err());
    assert!(gain_curve(&[echo(5.0, 80.0)], 80.0, 0.5).is_err());

    // 50.12 % is 6 dB below 100: a factor of 1.995.
    let found = elements(&[100.0, 100.0, 50.1, 100.0, 0.0, 50.0, 100.0], 6.0).unwrap();
    assert_eq!(
        (&found.dead[..], &found.weak[..], &found.neighbours[..]),
        (&[5][..], &[3, 6][..], &[5][..])
    );
    assert!(near(found.spread, 20.0 * 2.0_f64.log10()));
    assert_eq!(elements(&[100.0, 50.2], 6.1).unwrap().weak, Vec::<usize>::new());
    assert!(
        elements(&[], 6.0).is_err()
            && elements(&[0.0], 6.0).is_err()
            && elements(&[-1.0], 6.0).is_err()
    );

    let steps = amplitude_linearity(80.0, &[(-6.0, 40.5), (-12.0, 20.0), (6.0, 100.0)]).unwrap();
    assert!(near(steps[0].expected, 80.0 * 10.0_f64.powf(-0.3)));
    assert!(steps[2].deviation.is_none(), "above the screen nothing is known");
    assert!(
        amplitude_linearity(100.0, &[(-6.0, 50.0)]).is_err()
            && amplitude_linearity(80.0, &[]).is_err()
    );

    let scale = encoder_scale(300.0, 2_985.0, 12.0, Some(0.1)).unwrap();
    assert!(near(scale.error.unwrap(), -1.5) && near(scale.backlash, 1.2));
    assert!(near(scale.per_count, 300.0 / 2_985.0));
    assert!(encoder_scale(300.0, 0.0, 0.0, None).is_err());
    assert!(near(velocity_at(5_934.0, 0.8, 30.0).unwrap(), 5_926.0));
    assert!(velocity_at(5.0, 1.0, 30.0).is_err());
}
