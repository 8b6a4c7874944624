//! Verdicts over whole random plans: that a failure is never lost on the way, and that each verdict
//! can be told and kept.

use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use vaaka_core::check::{
    Completion, RunContext, brought_inside, complete, ever_failing, failing_so_far,
};
use vaaka_core::judgement::{
    Attempt, Conformity, NextAction, RepeatState, Verdict, action_sentence, reason_sentence,
};
use vaaka_core::method::{Entry, EntryValue, Purpose, RunState};

use crate::player::{is_reading, play, start};
use crate::{Planned, planned};

fn context(earlier: &[Conformity]) -> RunContext {
    RunContext {
        measured_at: start(),
        earlier: earlier.iter().map(|conforms| Attempt { conforms: *conforms }).collect(),
        ..RunContext::default()
    }
}

fn concluded(planned: &Planned, run: &RunState, earlier: &[Conformity]) -> Completion {
    complete(planned.method, &planned.plan, run, &context(earlier)).unwrap()
}

/// An instrument that is off by hundreds of steps, by nothing, and by something between.
const OFFS: [i64; 4] = [0, 2, 40, 4_000];

#[test]
fn a_verdict_is_told_and_kept_and_says_what_its_parts_say() {
    let mut seen = std::collections::BTreeSet::new();
    for planned in planned() {
        for off in OFFS {
            let Some(run) = play(planned.method, &planned.plan, &planned.way, off) else {
                continue;
            };
            let done = concluded(&planned, &run, &[]);
            let words = format!("{}, plan {}, off {off}", planned.method.key(), planned.seed);
            let verdict = &done.verdict;
            seen.insert(format!("{:?}", verdict.conforms));
            // One that fails fails the check, and nothing else does.
            let any_fails = done.results.iter().any(|(_, one)| one.conformity == Conformity::Fail);
            assert_eq!(verdict.conforms == Conformity::Fail, any_fails, "{words}");
            assert_eq!(
                done.results.len(),
                planned.method.evaluate(&planned.plan, &run).unwrap().len()
            );
            // A trial and an as-left check are never repeated, and only a first failure is.
            let repeats = verdict.action == NextAction::RepeatOnce;
            let first_failure = any_fails && planned.plan.purpose == Purpose::AsFound;
            assert_eq!(repeats, first_failure, "{words}: {:?}", verdict.action);
            assert_eq!(verdict.repeat == RepeatState::RepeatAllowed, first_failure, "{words}");
            // It comes back from the store as it was, and every reason has words of its own.
            let text = serde_json::to_string(verdict).unwrap();
            assert_eq!(serde_json::from_str::<Verdict>(&text).unwrap(), *verdict, "{words}");
            assert!(action_sentence(verdict.action).ends_with('.'), "{words}");
            for reason in &verdict.reasons {
                let told = reason_sentence(reason, &done.results, &TimeZone::UTC);
                assert!(told.ends_with(['.', '!', '?']) && told.len() > 8, "{words}: {told}");
                for odd in ["NaN", "inf", "{", "}", "  ", "-0 ", "Some("] {
                    assert!(!told.contains(odd), "{words}: {told}");
                }
            }
            // Nothing that an interface may do with it makes it another: the same run, the same bits.
            assert_eq!(concluded(&planned, &run, &[]), done, "{words}");
        }
    }
    assert!(seen.len() > 1, "all verdicts were {seen:?}");
}

#[test]
fn what_came_before_in_the_shift_decides_only_what_to_do_next() {
    let histories: [&[Conformity]; 4] = [
        &[],
        &[Conformity::Fail],
        &[Conformity::Fail, Conformity::Fail],
        &[Conformity::Fail, Conformity::Pass],
    ];
    for planned in planned() {
        for off in [0, 4_000] {
            let Some(run) = play(planned.method, &planned.plan, &planned.way, off) else {
                continue;
            };
            let alone = concluded(&planned, &run, &[]);
            for earlier in histories {
                let done = concluded(&planned, &run, earlier);
                assert_eq!(done.results, alone.results);
                assert_eq!(done.verdict.conforms, alone.verdict.conforms);
                if !earlier.is_empty() && planned.plan.purpose == Purpose::AsFound {
                    // One repeat, and no second.
                    assert_ne!(done.verdict.action, NextAction::RepeatOnce, "{earlier:?}");
                }
            }
        }
    }
}

/// A check that fails at its end was seen to fail on the way: nobody could have stopped or voided
/// it alone in between, whatever the family.
#[test]
fn no_failure_comes_out_of_nothing() {
    let mut failed = 0;
    for planned in planned() {
        for off in OFFS {
            let Some(run) = play(planned.method, &planned.plan, &planned.way, off) else {
                continue;
            };
            let fails = concluded(&planned, &run, &[]).verdict.conforms == Conformity::Fail;
            let seen =
                ever_failing(planned.method, &planned.plan, &planned.way, &run.entries).unwrap();
            let words = format!("{}, plan {}, off {off}", planned.method.key(), planned.seed);
            assert!(seen || !fails, "{words}: it failed unseen");
            failed += u32::from(fails);
            let outside = failing_so_far(planned.method, &planned.plan, &run).unwrap();
            assert!(!fails || !outside.is_empty(), "{words}");
        }
    }
    assert!(failed > 20, "{failed} failed");
}

/// A reading far outside that is typed again as a good one: what it brings inside is named, once
/// for each thing that it brings inside, and a correction that brings nothing inside names nothing.
#[test]
fn a_correction_to_the_good_is_named() {
    let mut named = 0;
    for planned in planned() {
        let Some(good) = play(planned.method, &planned.plan, &planned.way, 0) else { continue };
        for (at, entry) in good.entries.iter().enumerate().filter(|(_, entry)| is_reading(entry)) {
            let step = planned.way.iter().find(|step| step.key == entry.step).unwrap();
            let mut bad = RunState { entries: good.entries[..=at].to_vec() };
            if let EntryValue::Reading { indication, .. } = &mut bad.entries[at].value {
                *indication += Decimal::from(50);
            }
            let again = Entry { ..entry.clone() };
            let words = format!("{}, plan {}: {}", planned.method.key(), planned.seed, step.key);
            let (method, plan) = (planned.method, &planned.plan);
            let before = failing_so_far(method, plan, &bad).unwrap();
            let brought = brought_inside(method, plan, &bad, (&again, &step.voids)).unwrap();
            let good_so_far = RunState { entries: good.entries[..=at].to_vec() };
            let after = failing_so_far(method, plan, &good_so_far).unwrap();
            let expected: Vec<String> = before.difference(&after).cloned().collect();
            assert_eq!(brought, expected, "{words}");
            named += brought.len();
            // The other way round nothing is brought inside.
            let worse = &bad.entries[at];
            let back = brought_inside(method, plan, &good_so_far, (worse, &step.voids)).unwrap();
            assert!(back.iter().all(|key| after.contains(key)), "{words}: {back:?}");
            // And both are remembered.
            let mut kept = bad.entries.clone();
            kept.push(again);
            let seen = ever_failing(method, plan, &planned.way, &kept).unwrap();
            assert!(seen || brought.is_empty(), "{words}: the bad one is forgotten");
        }
    }
    assert!(named > 50, "{named}");
}
