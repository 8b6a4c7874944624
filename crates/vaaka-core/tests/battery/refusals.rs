//! What is typed wrongly at any step of any method: refused in words that say what to do, and
//! nothing of it kept.

use jiff::SignedDuration;
use rust_decimal::Decimal;
use vaaka_core::method::{
    AttemptKind, Beside, EntryError, EntryValue, Input, Proposal, RunState, Step, accept,
};

use crate::player::{answer, go_on, now, pause, proposal};
use crate::{Planned, planned};

/// What no display shows, no tag says and no condition is.
const NONSENSE: [&str; 12] =
    ["", "   ", "x", "twenty", "1..2", "1,2,3", "--5", "5-", "1e5", "NaN", "∞", "<b>5</b>"];

/// Walks each way to its end, calling at every step before it is answered.
fn each_step(mut look: impl FnMut(&Planned, &RunState, &Step, u32)) {
    let mut steps = 0;
    for planned in planned() {
        let mut run = RunState::default();
        while let Some((step, repeat)) = run.next(&planned.way) {
            let settled = planned.method.settle(&planned.plan, &run, step).unwrap().guarded(None);
            // A longest time that is over asks for its wait alone.
            let Ok(entry) = answer(planned.method, &planned.plan, &run, (step, repeat), 0) else {
                break;
            };
            look(&planned, &run, &settled, repeat);
            steps += 1;
            run.entries.push(entry);
        }
    }
    assert!(steps > 500, "{steps}");
}

fn says_what_to_do(error: &EntryError, step: &Step) {
    let words = error.to_string();
    // The advice of a condition is the lead's own words.
    let own = matches!(error, EntryError::ConditionOutside { .. });
    assert!(words.len() > 12 && (own || words.ends_with(['.', ')'])), "{}: {words}", step.key);
    assert!(!words.contains("{") && !words.contains("Some("), "{}: {words}", step.key);
}

#[test]
fn nonsense_is_refused_at_every_step_that_is_typed() {
    each_step(|_, run, step, _| {
        let typed = matches!(
            step.input,
            Input::Tag { .. }
                | Input::Setting { .. }
                | Input::Choice { .. }
                | Input::Count { .. }
                | Input::Condition { .. }
                | Input::Reading { .. }
        );
        for nonsense in NONSENSE.iter().filter(|_| typed) {
            let sent = Proposal { typed: (*nonsense).to_owned(), ..Proposal::default() };
            let at = now(run) + pause(step, run);
            let error = accept(step, &sent, run, at).expect_err(nonsense);
            says_what_to_do(&error, step);
            if let Input::Reading { .. } = step.input {
                // A slip of typing says nothing about the instrument, and no yes keeps it.
                assert_eq!(error.attempt(), None, "{}: {error}", step.key);
                assert!(!error.may_confirm(), "{}: {error}", step.key);
            }
        }
    });
}

#[test]
fn sentences_are_ticked_one_and_all() {
    each_step(|_, run, step, _| {
        let Input::Confirm { sentences, .. } = &step.input else { return };
        for ticked in 0..sentences.len() {
            let sent = Proposal { ticked, ..Proposal::default() };
            let error = accept(step, &sent, run, now(run)).unwrap_err();
            let required = sentences.len();
            assert_eq!(error, EntryError::NotAllTicked { ticked, required });
            says_what_to_do(&error, step);
        }
    });
}

/// What says something about instrument or standard is an attempt, by its kind.
#[test]
fn what_says_something_about_the_instrument_is_an_attempt() {
    each_step(|_, run, step, _| {
        let at = now(run) + pause(step, run);
        let (typed, kind) = match &step.input {
            Input::Tag { .. } => ("OTHER-7".to_owned(), AttemptKind::Tag),
            Input::Setting { expected, .. } => (format!("{expected}x9"), AttemptKind::Setting),
            Input::Choice { .. } => ("nobody offered this".to_owned(), AttemptKind::Setting),
            Input::Condition { upper: Some(upper), .. } => {
                ((upper + Decimal::ONE).to_string(), AttemptKind::Condition)
            }
            Input::Condition { lower: Some(lower), .. } => {
                ((lower - Decimal::ONE).to_string(), AttemptKind::Condition)
            }
            Input::Reading { resolution, expected, guard, .. } => {
                let steps = ((expected + guard) / resolution).ceil() + Decimal::TEN;
                ((steps * resolution).to_string(), AttemptKind::Far)
            }
            _ => return,
        };
        let sent = Proposal { typed, ..Proposal::default() };
        let error = accept(step, &sent, run, at).unwrap_err();
        assert_eq!(error.attempt(), Some(kind), "{}: {error}", step.key);
        assert_eq!(error.may_confirm(), kind == AttemptKind::Far, "{}", step.key);
        says_what_to_do(&error, step);
        assert!(error.to_string().contains(sent.typed.trim_start_matches('-')), "{error}");
    });
}

/// A yes to the guard's question holds for the value that was asked about, however it is written,
/// and for no other.
#[test]
fn a_yes_holds_for_the_value_that_was_asked_about() {
    each_step(|_, run, step, _| {
        let Input::Reading { resolution, expected, guard, beside, .. } = &step.input else {
            return;
        };
        let at = now(run) + pause(step, run);
        let steps = ((expected + guard) / resolution).ceil() + Decimal::TEN;
        let (far, other) = (steps * resolution, (steps + Decimal::ONE) * resolution);
        let sent = |typed: String, asked: Option<String>| {
            let added = match beside {
                None => String::new(),
                Some(Beside::Weights) => "0".to_owned(),
                Some(Beside::Number { .. }) => "12".to_owned(),
            };
            Proposal { typed, added, confirm_far: asked, ..Proposal::default() }
        };
        let kept = accept(step, &sent(far.to_string(), Some(far.to_string())), run, at).unwrap();
        assert!(matches!(kept, EntryValue::Reading { far_confirmed: true, .. }), "{}", step.key);
        let comma = far.to_string().replace('.', ",");
        assert!(accept(step, &sent(far.to_string(), Some(comma.clone())), run, at).is_ok());
        assert!(accept(step, &sent(comma, Some(far.to_string())), run, at).is_ok());
        for asked in [None, Some(String::new()), Some("yes".to_owned()), Some(far.to_string())] {
            let error = accept(step, &sent(other.to_string(), asked), run, at).unwrap_err();
            assert!(error.may_confirm(), "{}: {error}", step.key);
        }
    });
}

/// The same number with comma, with point, with its unit and with spaces around is the same reading;
/// half a step is none.
#[test]
fn a_reading_is_its_number_however_it_is_written() {
    each_step(|planned, run, step, repeat| {
        let Input::Reading { unit, resolution, .. } = &step.input else { return };
        let at = now(run) + pause(step, run);
        let plain = proposal(step, repeat, 1);
        let kept = accept(step, &plain, run, at).unwrap();
        let number = plain.typed.clone();
        for written in [
            number.replace('.', ","),
            format!("  {number} "),
            format!("{number} {unit}"),
            format!("{number}{unit}"),
            number.replace('-', "−"),
        ] {
            let sent = Proposal { typed: written.clone(), ..plain.clone() };
            assert_eq!(accept(step, &sent, run, at).as_ref(), Ok(&kept), "“{written}”");
        }
        let between: Decimal = number.parse::<Decimal>().unwrap() + resolution / Decimal::TWO;
        let sent = Proposal { typed: between.to_string(), ..plain };
        let error = accept(step, &sent, run, at).unwrap_err();
        assert!(matches!(error, EntryError::NotAStep { .. }), "{}: {error}", planned.seed);
        says_what_to_do(&error, step);
    });
}

/// Small added weights lie between nothing and a step of the display.
#[test]
fn added_weights_are_refused_at_their_own_field() {
    let mut asked = 0;
    each_step(|_, run, step, repeat| {
        let Input::Reading { resolution, beside: Some(Beside::Weights), .. } = &step.input else {
            return;
        };
        asked += 1;
        let plain = proposal(step, repeat, 0);
        let beyond = (resolution * Decimal::TEN).to_string();
        for added in ["", "x", "-1", "1..2", &beyond] {
            let sent = Proposal { added: added.to_owned(), ..plain.clone() };
            let error = accept(step, &sent, run, now(run)).expect_err(added);
            assert!(error.is_about_added(), "{added}: {error}");
            says_what_to_do(&error, step);
        }
    });
    assert!(asked > 20, "{asked}");
}

/// A pause and a wait are refused a second before their time, and taken at it; after a longest time
/// no yes and no repetition makes it right but beginning the wait anew.
#[test]
fn a_second_too_early_is_too_early() {
    let (mut early, mut late) = (0, 0);
    each_step(|planned, run, step, repeat| {
        let second = SignedDuration::from_secs(1);
        let sent = proposal(step, repeat, 0);
        if let Input::WaitOver { start, .. } = &step.input {
            let (ready, latest) = run.wait(start).unwrap();
            if ready > now(run) {
                let error = accept(step, &sent, run, ready - second).unwrap_err();
                assert!(error.to_string().starts_with("Too early by 1 s"), "{error}");
                early += 1;
            }
            assert!(accept(step, &sent, run, ready.max(now(run))).is_ok(), "{}", planned.seed);
            if let Some(latest) = latest {
                let error = accept(step, &sent, run, latest + second).unwrap_err();
                assert!(error.is_too_late() && !error.may_confirm(), "{error}");
                assert_eq!(error.attempt(), None);
                late += 1;
            }
        }
        if repeat > 1 && step.pause_seconds > 0 {
            let last = run.of_step(&step.key).map(|entry| entry.at).max().unwrap();
            let ready = last + SignedDuration::from_secs(i64::from(step.pause_seconds));
            let error = accept(step, &sent, run, ready - second).unwrap_err();
            assert!(error.to_string().starts_with("Too early by 1 s"), "{error}");
            early += 1;
        }
    });
    assert!(early > 10 && late > 5, "{early} early, {late} late");
}

/// From wherever a run stands there is a way to its end, or a wait that can begin again.
#[test]
fn no_run_is_stuck() {
    each_step(|planned, run, step, _| {
        let Planned { method, plan, way, .. } = planned;
        if go_on(*method, plan, way, run.clone(), 0).is_some() {
            return;
        }
        // Too late: the wait that binds the readings begins again, and what rests on it goes.
        let start = way
            .iter()
            .rev()
            .find(|one| matches!(one.input, Input::WaitStart { maximum_seconds: Some(_), .. }));
        let start = start.unwrap_or_else(|| panic!("stuck before {}", step.key));
        let gone =
            |key: &vaaka_core::method::StepKey| *key == start.key || start.voids.contains(key);
        let mut left = run.clone();
        left.entries.retain(|entry| !gone(&entry.step));
        let next = left.next(way).unwrap();
        assert!(answer(*method, plan, &left, next, 0).is_ok(), "stuck at {}", next.0.key);
    });
}

/// Nobody but a lead sets right what was found wrong, where the plan says so; otherwise whoever found it does.
#[test]
fn a_setting_found_wrong_is_the_leads_only_where_the_plan_says_so() {
    let mut asked = [0, 0];
    each_step(|_, run, step, repeat| {
        let Input::Setting { name, also, by_lead, .. } = &step.input else { return };
        let right = proposal(step, repeat, 0);
        for way in also {
            let sent = Proposal { typed: way.to_uppercase(), ..Proposal::default() };
            assert!(accept(step, &sent, run, now(run)).is_ok(), "{name}: {way}");
        }
        for (lead, found) in
            [(false, None), (true, None), (false, Some("psi")), (true, Some("psi"))]
        {
            let sent = Proposal { by_lead: lead, found: found.map(str::to_owned), ..right.clone() };
            let answer = accept(step, &sent, run, now(run));
            let refused = *by_lead && found.is_some() && !lead;
            assert_eq!(answer.is_err(), refused, "{name}: {answer:?}");
            if let Err(error) = answer {
                assert!(
                    error.to_string().contains("“psi”") && error.attempt().is_none(),
                    "{error}"
                );
                assert!(!error.may_confirm());
            }
            asked[usize::from(*by_lead)] += 1;
        }
    });
    assert!(asked.iter().all(|asked| *asked > 8), "{asked:?}");
}

/// A text is kept as it stands there, without the spaces around it, and no longer than anybody reads.
#[test]
fn a_text_is_kept_as_it_stands_there() {
    let mut asked = 0;
    each_step(|_, run, step, _| {
        let Input::Text { .. } = &step.input else { return };
        asked += 1;
        let sent = |typed: String| Proposal { typed, ..Proposal::default() };
        let most = "ß".repeat(vaaka_core::method::MOST_TEXT);
        for text in ["4711", "№ 12/b «µ»", "=1+1", "<script>", &most] {
            let kept = accept(step, &sent(format!("  {text}\u{a0} ")), run, now(run)).unwrap();
            assert_eq!(kept, EntryValue::Text { text: text.to_owned() });
        }
        for text in
            [String::new(), " \t ".into(), format!("{most}x"), "a\u{0}b".into(), "a\nb".into()]
        {
            let error = accept(step, &sent(text), run, now(run)).unwrap_err();
            says_what_to_do(&error, step);
        }
    });
    assert!(asked > 5, "{asked}");
}
