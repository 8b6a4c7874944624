//! One port by short, open and load: what is corrected by the sweeps of a check, and what is refused.

use jiff::Timestamp;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rstest::rstest;
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use serde_json::{Value, json};
use vaaka_core::check::{RunContext, complete};
use vaaka_core::judgement::{Characteristic, CharacteristicKind, Conformity, Decision};
use vaaka_core::method::reflection::{KEY, Reflections};
use vaaka_core::method::{
    Entry, EntryValue, Input, Method, MethodError, Picture, Place, PlanPoint, PlanSpec,
    PlanStandard, Proposal, Purpose, RunState, Travel, accept, by_key, guarded,
};
use vaaka_core::network::{Complex, Load, Offset, OnePort, Standard};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::standard::CertifiedPiece;
use vaaka_core::trace::{Channel, Trace};

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

/// What the piece is, at a frequency in GHz.
fn piece_at(gigahertz: f64) -> Complex {
    Complex::from_polar(0.2, -1.9 * gigahertz)
}

fn plan(changes: &[(&str, Value)]) -> PlanSpec {
    let mut settings = json!({
        "schema": "reflection-1", "kit": "KT-1", "impedance": "50",
        "open_c0": "48", "open_c1": "-310", "open_c2": null, "open_c3": null, "open_delay": "29",
        "short_l0": "2", "short_l1": null, "short_l2": null, "short_l3": null, "short_delay": "31.5",
        "load_resistance": "50.2", "load_inductance": "6", "load_delay": null, "loss": "2.2",
        "kit_limit": "0.004", "least_apart": "0.3", "largest_step": "0.1",
        "vector_limit": { "form": "absolute", "half_width": "0.01" },
        "range_limit": { "form": "absolute", "half_width": "0.006" },
        "settings": [], "conditions": [], "waits": [], "cautions": [], "preparation": [], "closing": [],
    });
    for (key, value) in changes {
        settings[*key] = value.clone();
    }
    let point = |name: &str, value: f64| {
        let certified = Decimal::from_f64(value).unwrap().round_dp(4);
        PlanPoint {
            nominal: certified.round_dp(2),
            travel: Travel::Rising,
            place: Place::Middle,
            repeats: 2,
            charted: true,
            pieces: vec![CertifiedPiece {
                tag: name.into(),
                nominal: certified.round_dp(2),
                certified_value: certified,
                expanded_uncertainty: d("0.004"),
                coverage_factor: d("2"),
                unit: Unit::Reflection,
                class_limit: false,
                non_uniformity: None,
                by_temperature: vec![],
                at_unit: None,
            }],
            standard: 0,
        }
    };
    PlanSpec {
        purpose: Purpose::AsFound,
        unit: Unit::Reflection,
        resolution: d("0.0001"),
        range_low: d("-1"),
        maximum: d("1"),
        configuration: vec![],
        standards: vec![PlanStandard {
            tag: "MM-2".into(),
            name: "Mismatch".into(),
            any_of_kind: None,
        }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.0,
        settings,
        points: vec![
            point("2.4 GHz real", piece_at(2.4).re),
            point("2400 MHz, imaginary", piece_at(2.4).im),
            point("5.225GHz re", piece_at(5.225).re),
            point("5.225 GHz (im)", piece_at(5.225).im),
        ],
    }
}

fn terms(gigahertz: f64) -> OnePort {
    OnePort {
        directivity: Complex::from_polar(0.03, 0.7 * gigahertz),
        source_match: Complex::from_polar(0.08, -0.4 * gigahertz),
        // A cable of two thirds of a metre turns it by a third of a turn from point to point.
        tracking: Complex::from_polar(0.93 - 0.01 * gigahertz, -40.0 * gigahertz),
    }
}

/// The kit of the plan, standard by standard.
fn kit(word: &str, gigahertz: f64) -> Complex {
    let offset = |delay: f64| Offset { delay: delay * 1e-12, loss: 2.2e9, impedance: 50.0 };
    let standard = match word {
        "kit-open" => {
            Standard::Open { capacitance: [48e-15, -310e-27, 0.0, 0.0], offset: offset(29.0) }
        }
        "kit-short" => Standard::Short { inductance: [2e-12, 0.0, 0.0, 0.0], offset: offset(31.5) },
        _ => Standard::Load {
            load: Load { resistance: 50.2, inductance: 6e-12, capacitance: 0.0 },
            offset: Offset::none(50.0),
        },
    };
    standard.reflection(gigahertz * 1e9, 50.0).unwrap()
}

/// A raw sweep, from 2 to 5.5 GHz in steps of 50 MHz.
fn sweep(of: impl Fn(f64) -> Complex) -> Trace {
    let axis: Vec<f64> = (0..71).map(|n| 2.0 + 0.05 * f64::from(n)).collect();
    let raw: Vec<Complex> = axis.iter().map(|x| terms(*x).measured(of(*x))).collect();
    Trace {
        axis_unit: "GHz".into(),
        channels: vec![Channel {
            name: "reflection".into(),
            unit: String::new(),
            re: raw.iter().map(|one| one.re).collect(),
            im: Some(raw.iter().map(|one| one.im).collect()),
        }],
        axis,
    }
}

/// A run in which each sweep is of what `of` says for its step.
fn run(plan: &PlanSpec, of: &dyn Fn(&str, f64) -> Complex) -> RunState {
    let mut run = RunState::default();
    let at = Timestamp::from_second(1_760_000_000).unwrap();
    let way = Reflections.way(plan).unwrap();
    while let Some((step, repeat)) = run.next(&way) {
        let mut proposal = Proposal::default();
        let value = match &step.input {
            Input::Trace { .. } => EntryValue::of_trace(sweep(|x| of(&step.key.0, x)), false),
            input => {
                if let Input::Tag { expected, .. } | Input::Setting { expected, .. } = input {
                    proposal.typed.clone_from(expected);
                }
                accept(step, &proposal, &run, at).unwrap()
            }
        };
        run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
    }
    run
}

fn good(key: &str, gigahertz: f64) -> Complex {
    if key == "piece" { piece_at(gigahertz) } else { kit(key, gigahertz) }
}

fn evaluated(plan: &PlanSpec, of: &dyn Fn(&str, f64) -> Complex) -> Vec<Characteristic> {
    Reflections.evaluate(plan, &run(plan, of)).unwrap()
}

#[test]
fn the_piece_comes_back_through_the_port() {
    assert_eq!(by_key(KEY).unwrap().name(), "Reflection by short, open and load");
    let plan = plan(&[]);
    let all = evaluated(&plan, &good);
    let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
    assert_eq!(
        keys,
        [
            "apart",
            "vector-2.4-real",
            "vector-2.4-imaginary",
            "vector-5.225-real",
            "vector-5.225-imaginary",
            "range-2.4-real",
            "range-2.4-imaginary",
            "range-5.225-real",
            "range-5.225-imaginary"
        ]
    );
    for one in all.iter().filter(|one| one.kind == CharacteristicKind::Error) {
        // Half way between two points a straight line cuts the corner by Γ·(1.9·0.025)²/2.
        let within = if one.key.contains("5.225") { 3e-4 } else { 1e-4 };
        assert!(one.value().abs() < within, "{}: {}", one.key, one.value());
        assert!(one.charted && one.rests_on == [0] && one.singles.len() == 2);
    }
    // Half a nanosecond between short and open is nothing; they stand across the plane.
    assert!(all[0].value() > 0.8, "{}", all[0].value());
}

/// Off by a vector at every frequency: both parts say so, each by its own.
#[test]
fn an_error_vector_is_told_by_its_parts() {
    let plan = plan(&[]);
    let off = Complex::new(0.004, -0.013);
    let all =
        evaluated(&plan, &|key, x| if key == "piece" { piece_at(x) + off } else { kit(key, x) });
    let value = |key: &str| all.iter().find(|one| one.key == key).unwrap().value();
    assert!((value("vector-2.4-real") - 0.004).abs() < 1e-4);
    assert!((value("vector-5.225-imaginary") + 0.013).abs() < 3e-4);
    let done = complete(
        &Reflections,
        &plan,
        &run(&plan, &|key, x| if key == "piece" { piece_at(x) + off } else { kit(key, x) }),
        &RunContext::default(),
    )
    .unwrap();
    assert_eq!(done.verdict.conforms, Conformity::Fail);
}

/// The short put on twice: nothing is corrected, nothing is told of the piece, and the check fails.
#[test]
fn a_short_for_an_open_fails_and_is_seen_at_once() {
    let plan = plan(&[]);
    let wrong = |key: &str, x: f64| match key {
        "kit-open" => kit("kit-short", x),
        _ => good(key, x),
    };
    let all = evaluated(&plan, &wrong);
    let apart = all.iter().find(|one| one.key == "apart").unwrap();
    assert!(!apart.limits.unwrap().hold_mean(apart.sum(), 1), "{}", apart.value());
    assert_eq!(all.len(), 1, "nothing is told of the piece: {all:?}");
    let live = Reflections.live(&plan, &run(&plan, &wrong)).unwrap();
    assert!(live.pictures.is_empty() && live.facts.iter().any(|fact| fact.name == "Result"));
    let open = live.facts.iter().find(|fact| fact.name == "Kit: open").unwrap();
    assert_eq!(open.inside, Some(false));
    assert!(open.value.starts_with("looks like the short, not the open"), "{}", open.value);
    // A nut that is not tight: like an open, and far from where it belongs.
    let loose = |key: &str, x: f64| match key {
        "kit-open" => Complex::from_polar(1.0, -0.8) * kit("kit-open", x),
        _ => good(key, x),
    };
    let live = Reflections.live(&plan, &run(&plan, &loose)).unwrap();
    let open = live.facts.iter().find(|fact| fact.name == "Kit: open").unwrap();
    assert!(open.value.contains("is the nut tight?"), "{}", open.value);
}

/// The guard asks before a wrong standard is kept, and keeps it when it is told so.
#[test]
fn the_guard_asks_about_another_standard() {
    let plan = plan(&[]);
    let whole = run(&plan, &good);
    let until = |key: &str| {
        let at = whole.entries.iter().position(|entry| entry.step.0 == key).unwrap();
        RunState { entries: whole.entries[..at].to_vec() }
    };
    let way = Reflections.way(&plan).unwrap();
    let step = |key: &str| way.iter().find(|step| step.key.0 == key).unwrap();
    let asked = |key: &str, of: &dyn Fn(f64) -> Complex| {
        let value = EntryValue::of_trace(sweep(of), false);
        Reflections.doubt(&plan, &until(key), step(key), &value).unwrap()
    };
    // Put on as they should be, nothing is asked, whatever the cable.
    for key in ["kit-short", "kit-open", "kit-load", "piece"] {
        assert_eq!(asked(key, &|x| good(key, x)), None, "{key}");
    }
    let words = asked("kit-open", &|x| kit("kit-short", x)).unwrap();
    assert!(words.contains("looks like the short, not the open"), "{words}");
    assert!(asked("kit-load", &|x| kit("kit-open", x)).unwrap().contains("not the load"));
    assert!(asked("kit-short", &|x| kit("kit-load", x)).unwrap().contains("not a short"));
    // The answer repeats the sweep that was asked about, and no other.
    let value = EntryValue::of_trace(sweep(|x| kit("kit-short", x)), false);
    let input = &step("kit-open").input;
    let doubt = || Some("it is another".to_owned());
    let refused = guarded(input, &Proposal::default(), value.clone(), doubt()).unwrap_err();
    assert!(refused.may_confirm() && refused.to_string().contains("it is another"), "{refused}");
    let confirm_far = refused.asked_about().map(str::to_owned);
    let answer = Proposal { confirm_far, ..Proposal::default() };
    assert!(guarded(input, &answer, value, doubt()).unwrap().far_confirmed());
    let other = EntryValue::of_trace(sweep(|x| kit("kit-load", x)), false);
    assert!(guarded(input, &answer, other, doubt()).is_err());
}

/// Standards that are off their models as the plan allows: the vectors lie within what it says of them.
#[test]
fn what_the_kit_leaves_uncertain_holds_what_it_does() {
    let plan = plan(&[]);
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let half = 0.004;
    let (mut squares, mut stated, worlds) = (0.0, 0.0, 300);
    for _ in 0..worlds {
        let mut draw = || {
            use rand::Rng;
            Complex::new(random.random_range(-half..half), random.random_range(-half..half))
        };
        let off = [draw(), draw(), draw()];
        let all = evaluated(&plan, &|key, x| match key {
            "kit-short" => kit(key, x) + off[0],
            "kit-open" => kit(key, x) + off[1],
            "kit-load" => kit(key, x) + off[2],
            _ => piece_at(x),
        });
        let one = all.iter().find(|one| one.key == "vector-2.4-real").unwrap();
        squares += one.value().powi(2);
        let part = one.contributions.iter().find(|part| part.label.starts_with("Calibration kit"));
        stated = part.unwrap().standard_uncertainty;
    }
    let found = (squares / f64::from(worlds)).sqrt();
    assert!((found / stated - 1.0).abs() < 0.12, "{found} {stated}");
}

#[test]
fn the_piece_waits_for_its_kit_and_is_drawn() {
    let plan = plan(&[]);
    let whole = run(&plan, &good);
    let traces = |run: &RunState| -> Vec<usize> {
        (0..run.entries.len())
            .filter(|at| matches!(run.entries[*at].value, EntryValue::Trace { .. }))
            .collect()
    };
    let at = traces(&whole);
    // Two standards: a picture of the newest beside its model, and nothing is judged.
    let part = RunState { entries: whole.entries[..=at[1]].to_vec() };
    assert!(Reflections.so_far(&plan, &part).unwrap().is_empty());
    let live = Reflections.live(&plan, &part).unwrap();
    let Picture::Plane(plane) = &live.pictures[0] else { panic!() };
    assert_eq!((plane.title.as_str(), plane.curves.len()), ("Open, relative to the short", 2));
    let error = Reflections.evaluate(&plan, &part).unwrap_err();
    assert!(matches!(error, MethodError::Incomplete { got: 0, .. }));
    let live = Reflections.live(&plan, &whole).unwrap();
    let Picture::Plane(plane) = &live.pictures[0] else { panic!() };
    assert_eq!((plane.title.as_str(), plane.marks.len()), ("Verification standard, corrected", 2));
    assert!(plane.marks[0].name.starts_with("2.4 GHz, |ΔΓ| 0.000"), "{}", plane.marks[0].name);
    let port = live.facts.iter().find(|fact| fact.name == "Port at 2.4 GHz").unwrap();
    // 0.03, 0.08 and 0.906.
    assert_eq!(port.value, "directivity −30.5 dB, source match −21.9 dB, tracking −0.9 dB");
    // Another standard of the kit makes the piece new.
    let way = Reflections.way(&plan).unwrap();
    let short = way.iter().find(|step| step.key.0 == "kit-short").unwrap();
    assert!(short.voids.iter().any(|key| key.0 == "piece"));
}

#[rstest]
#[case(&[("kit", json!(" "))], "tag of the kit")]
#[case(&[("least_apart", json!("0"))], "greater than zero")]
#[case(&[("least_apart", json!("1"))], "less than that")]
#[case(&[("impedance", json!("0"))], "an impedance")]
#[case(&[("open_delay", json!("-1"))], "not negative")]
// A quarter of a wave behind the open makes it the short: 100 ps more are a half turn at 2.5 GHz.
#[case(&[("open_delay", json!("130.7")), ("short_delay", json!("31.5")), ("open_c0", json!("0")), ("open_c1", json!(null)), ("loss", json!(null))], "at 2.4 GHz two standards of the kit are alike")]
fn what_cannot_be_is_refused(#[case] changes: &[(&str, Value)], #[case] words: &str) {
    let error = Reflections.way(&plan(changes)).unwrap_err().to_string();
    assert!(error.contains(words), "{error}");
}

#[test]
fn points_that_cannot_be_are_refused() {
    let refused = |change: &dyn Fn(&mut PlanSpec)| {
        let mut plan = plan(&[]);
        change(&mut plan);
        Reflections.way(&plan).unwrap_err().to_string()
    };
    assert!(refused(&|plan| plan.unit = Unit::Decibel).contains("the instrument's unit is Γ"));
    assert!(refused(&|plan| plan.points.clear()).contains("at least one"));
    for name in ["10-1", "2.4 GHz", "GHz real", "2.4 THz real", "2.4 GHz real part", "0 GHz real"] {
        let words = refused(&|plan| plan.points[0].pieces[0].tag = name.into());
        assert!(words.contains("names no frequency and part"), "{name}: {words}");
    }
    assert!(
        refused(&|plan| plan.points[1].pieces[0].tag = "2.4 GHz real".into())
            .contains("measure the same thing")
    );
    assert!(refused(&|plan| plan.points[1].repeats = 3).contains("same number of repeats"));
    let unit = Unit::Reflection;
    assert_eq!((to_f64(unit.convert(d("0.2"), unit)), unit.symbol()), (0.2, "Γ"));
}
