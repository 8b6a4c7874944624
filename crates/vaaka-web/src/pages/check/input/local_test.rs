//! What the browser asks by itself is what the server asks: the same steps and the same texts, put to both. Where they
//! differed, an entry kept on a device would be refused on arrival, or one refused there that the server takes.

use std::io::Write;
use std::process::{Command, Stdio};

use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::method::{Beside, ChoiceWord, Input, MOST_TEXT, Proposal, RunState, Step, accept};
use vaaka_core::quantity::Unit;

use super::shown;

/// One question put to both.
struct Case {
    step: Step,
    proposal: Proposal,
    /// The first lines that the device holds as tried before.
    attempts: Vec<String>,
}

fn step(input: Input) -> Step {
    Step::plain("it", "The thing".into(), "Do it".into(), input)
}

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn typed(step: &Step, text: &str) -> Case {
    let proposal = Proposal { typed: text.to_owned(), ..Proposal::default() };
    Case { step: step.clone(), proposal, attempts: vec![] }
}

fn reading(resolution: &str, expected: &str, guard: &str, unit: Unit, with_added: bool) -> Step {
    step(Input::Reading {
        unit,
        resolution: d(resolution),
        expected: d(expected),
        guard: d(guard),
        guard_question: "Is it on the pan?".into(),
        beside: with_added.then_some(Beside::Weights),
    })
}

/// The case as the stand-in for a form takes it: what the template writes into the form's data.
fn as_form(case: &Case) -> Value {
    let shown = shown(&case.step);
    let rules = shown.rules;
    let mut data = json!({
        "rules": rules.kind, "wanted": rules.wanted, "step": rules.step, "guard": rules.guard,
        "words": rules.words, "name": rules.name, "lower": rules.lower, "upper": rules.upper, "also": rules.also,
        "beside": rules.beside,
    });
    if rules.by_lead {
        data["byLead"] = json!("");
    }
    let ticks: Vec<bool> =
        (0..shown.sentences.len()).map(|place| place < case.proposal.ticked).collect();
    json!({
        "rules": data,
        "typed": case.proposal.typed,
        "added": shown.beside.as_ref().map(|_| &case.proposal.added),
        "choices": (!shown.choices.is_empty()).then_some(shown.choices),
        "ticks": ticks,
        "attempts": case.attempts,
        "asked": case.proposal.confirm_far,
    })
}

/// Answers of the browser's own rules.
fn asked(cases: &[Case]) -> Vec<Value> {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../e2e/local.mjs");
    let mut node = Command::new("node")
        .arg(script)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("node is there: bin/test asks for it");
    let forms: Vec<Value> = cases.iter().map(as_form).collect();
    let text = serde_json::to_vec(&forms).unwrap();
    node.stdin.take().unwrap().write_all(&text).unwrap();
    let output = node.wait_with_output().unwrap();
    assert!(output.status.success());
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Puts the cases to both; gives how many were kept.
fn compared(cases: &[Case]) -> usize {
    let mut kept = 0;
    for (case, answer) in cases.iter().zip(asked(cases)) {
        let mut proposal = case.proposal.clone();
        proposal.found = case.attempts.first().cloned();
        let judged = accept(&case.step, &proposal, &RunState::default(), Timestamp::UNIX_EPOCH);
        let told = format!(
            "{} “{}” (+ “{}”)\n  server: {judged:?}\n  browser: {answer}",
            case.step.input.kind(),
            case.proposal.typed,
            case.proposal.added
        );
        assert_eq!(answer["kept"], json!(judged.is_ok()), "{told}");
        match judged {
            Ok(_) => kept += 1,
            Err(error) => {
                assert_eq!(answer["asks"], json!(error.may_confirm()), "{told}");
                assert_eq!(answer["attempt"], json!(error.attempt().is_some()), "{told}");
                assert!(answer["words"].as_str().unwrap().len() > 10, "{told}");
            }
        }
    }
    kept
}

/// Numbers as they come from a keyboard, a scanner, a habit and a slip.
const NUMBERS: [&str; 44] = [
    "",
    " ",
    "10",
    "10.0",
    "10,0",
    "10.000",
    "10.001",
    "10,001",
    "10.0005",
    "10.5",
    "11",
    "12",
    "9.4",
    "9.5",
    "-10",
    "−10.001",
    "+10.002",
    "1",
    "100",
    "1000",
    "10 .001",
    " 10.003 ",
    "1 0",
    "10.",
    ".5",
    "0",
    "0.000",
    "-0",
    "00010.001",
    "10..1",
    "10.0.1",
    "1,0.1",
    "10-",
    "--10",
    "+-10",
    "1e1",
    "0x10",
    "ten",
    "10 g",
    "10kg",
    "10 kg",
    "10kgkg",
    "123456789012345",
    "1234567890123456",
];

#[test]
fn a_reading_is_asked_alike() {
    let mut cases = Vec::new();
    for (resolution, expected, guard) in [
        ("0.001", "10", "0.5"),
        ("0.5", "10", "2"),
        ("1", "1000", "20"),
        ("0.1", "0", "0.3"),
        ("5", "-40", "10"),
    ] {
        let step = reading(resolution, expected, guard, Unit::Kilogram, false);
        for text in NUMBERS {
            cases.push(typed(&step, text));
            // Asked about before, and answered: for this value, and for another.
            for before in [text, "77"] {
                let mut case = typed(&step, text);
                case.proposal.confirm_far =
                    Some(before.to_owned()).filter(|text| !text.trim().is_empty());
                cases.push(case);
            }
        }
        // Just at the guard, and one step beyond it, on both sides.
        let (about, guard, one) = (d(expected), d(guard), d(resolution));
        for value in [about + guard, about - guard, about + guard + one, about - guard - one] {
            cases.push(typed(&step, &value.to_string()));
            cases.push(typed(&step, &value.to_string().replace('.', ",")));
        }
    }
    assert!(compared(&cases) > 60);
}

/// "2.000" can be two or two thousand; it is asked about where only the latter makes sense.
#[test]
fn thousands_are_asked_alike() {
    let texts = [
        "2.000", "2,000", "2000", "2.0005", "20.000", "0.200", "200.000", "2.00", "2 000", "1.999",
        "2.001",
    ];
    let mut cases = Vec::new();
    for expected in ["2000", "2", "20000", "200000", "0.2"] {
        let step = reading("0.001", expected, "0.05", Unit::Gram, false);
        cases.extend(texts.iter().map(|text| typed(&step, text)));
    }
    assert_eq!(compared(&cases), 8);
}

#[test]
fn added_weights_are_asked_alike() {
    let mut cases = Vec::new();
    for (unit, resolution) in [(Unit::Kilogram, "0.01"), (Unit::Gram, "0.1"), (Unit::Gram, "5")] {
        let step = reading(resolution, "10", "0.5", unit, true);
        for added in [
            "", "0", "0.004", "0,004", "0.01", "0.011", "-0.001", "4 g", "4g", "0,1 g", "3 mg",
            "500 mg", "0.05", "5", "5.1", "x", "1..2", "0.1 kg", "10 g", "10.1 g",
        ] {
            let mut case = typed(&step, "10.0");
            case.proposal.typed = "10".into();
            case.proposal.added = added.to_owned();
            cases.push(case);
        }
    }
    assert!(compared(&cases) > 15);
}

#[test]
fn a_number_beside_is_asked_alike() {
    let mut cases = Vec::new();
    for (unit, lower, upper) in
        [("", Some("0"), None), ("g", Some("0.5"), Some("250")), ("mm", None, None)]
    {
        let step = step(Input::Reading {
            unit: Unit::RockwellC,
            resolution: d("0.1"),
            expected: d("25"),
            guard: d("3"),
            guard_question: "Is it the right block?".into(),
            beside: Some(Beside::Number {
                name: "Sensor code".into(),
                unit: unit.into(),
                lower: lower.map(d),
                upper: upper.map(d),
            }),
        });
        for added in NUMBERS.into_iter().chain(["0", "-1", "0.5", "0,49", "250", "250.01", "12 g"])
        {
            let mut case = typed(&step, "25.4");
            case.proposal.added = added.to_owned();
            cases.push(case);
        }
    }
    assert!(compared(&cases) > 15);
}

#[test]
fn a_condition_is_asked_alike() {
    let mut cases = Vec::new();
    for (lower, upper) in
        [(Some("18"), Some("25.5")), (None, Some("60")), (Some("-5"), None), (None, None)]
    {
        let step = step(Input::Condition {
            name: "Room temperature".into(),
            unit: "°C".into(),
            lower: lower.map(d),
            upper: upper.map(d),
            advice: "Shut the door.".into(),
        });
        for text in NUMBERS.into_iter().chain([
            "18", "17.9", "18,0", "25.5", "25.51", "25,6", "60", "60.1", "-5", "-5.01", "20 °C",
            "20°C", "20 °F", "20 K",
        ]) {
            cases.push(typed(&step, text));
        }
    }
    assert!(compared(&cases) > 40);
}

#[test]
fn a_setting_is_asked_alike() {
    let mut cases = Vec::new();
    for by_lead in [false, true] {
        for (expected, also) in [
            ("Pt100", &["Pt 100 (IEC)"][..]),
            ("2.5", &[]),
            ("°C", &["C", "degC"]),
            ("slow", &["1"]),
            ("-0.5", &[]),
        ] {
            let step = step(Input::Setting {
                name: "the probe".into(),
                expected: expected.into(),
                also: also.iter().map(|one| (*one).to_owned()).collect(),
                by_lead,
            });
            for text in [
                "",
                "  ",
                "Pt100",
                "pt 100",
                "PT100",
                "Pt1000",
                "pt100(iec)",
                "2.5",
                "2,50",
                "2.500",
                "+2.5",
                "2.51",
                "°C",
                "°c",
                "c",
                "DEGC",
                "deg C",
                "F",
                "slow",
                "SLOW ",
                "1",
                "1.0",
                "01",
                "-0.5",
                "−0,50",
                "0.5",
                "x<y",
            ] {
                for attempts in [&[][..], &["psi"], &["psi", "kPa"]] {
                    let mut case = typed(&step, text);
                    case.attempts = attempts.iter().map(|one| (*one).to_owned()).collect();
                    cases.push(case);
                }
            }
        }
    }
    assert!(compared(&cases) > 40);
}

#[test]
fn choices_texts_counts_and_ticks_are_asked_alike() {
    let word = |word: &str| ChoiceWord { word: word.into(), also: vec![] };
    let choice =
        step(Input::Choice { name: "the mode".into(), words: vec![word("slow"), word("a, b")] });
    let text = step(Input::Text { name: "the serial".into() });
    let count = step(Input::Count { name: "the number of modules".into() });
    let mut cases: Vec<Case> =
        ["", "slow", "a, b"].iter().map(|word| typed(&choice, word)).collect();
    let most = "ß".repeat(MOST_TEXT);
    let long = format!("{most}x");
    let clef = "𝄞".repeat(MOST_TEXT);
    for line in ["", "  ", "4711", " № 12/b «µ» ", "<b>", "=1+1", &most, &long, &clef] {
        cases.push(typed(&text, line));
    }
    for number in [
        "", "0", "7", "007", "999999", "1000000", "-1", "+1", "1.5", "1,0", "x", " 12 ", "1 2",
        "٣", "1e3",
    ] {
        cases.push(typed(&count, number));
    }
    for sentences in 1..4 {
        let step = step(Input::Confirm {
            sentences: vec!["Feet clear".into(); sentences],
            caution: false,
            folds: false,
        });
        for ticked in 0..=sentences {
            let proposal = Proposal { ticked, ..Proposal::default() };
            cases.push(Case { step: step.clone(), proposal, attempts: vec![] });
        }
    }
    assert_eq!(compared(&cases), 2 + 6 + 5 + 3);
}
