//! Every verdict, reason and rule has words that a person at a bench can act on.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_core::chart::{Criterion, Firing, Side, SigmaSource};
use vaaka_core::history::{Crossing, Drift, Interval, Told, ToldShape};
use vaaka_core::judgement::{
    AdjustmentAdvice, Characteristic, CharacteristicKind, ChartOutcome, Conformity,
    ConformityResult, Contribution, ContributionSource, Control, NextAction, Reason, RepeatState,
    Scatter, Surroundings, ToleranceLimits, Validity, VerdictInput, action_sentence, ahead_words,
    conclude, criterion_words, drift_words, firing_short, firing_words, judge_conformity,
    reason_numbers, reason_sentence, shape_words, sigma_words,
};
use vaaka_core::method::Purpose;
use vaaka_core::quantity::Unit;

const ACTIONS: [NextAction; 9] = [
    NextAction::Use,
    NextAction::UseAndFindCause,
    NextAction::RepeatOnce,
    NextAction::Hold,
    NextAction::AskLead,
    NextAction::AskLeadLate,
    NextAction::CheckAgain,
    NextAction::ProvenAsLeft,
    NextAction::NoteTrial,
];

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn drift(crossing: bool) -> Drift {
    Drift {
        since: at("2026-10-28T04:00:00Z"),
        since_interval: Some((at("2026-10-24T04:00:00Z"), at("2026-10-30T04:00:00Z"))),
        probability: Some(0.97),
        first_check: crossing.then(|| Crossing {
            limit: 20.0,
            at: at("2026-11-26T10:00:00Z"),
            earliest: at("2026-11-24T10:00:00Z"),
            latest: None,
        }),
        per_week: 3.824,
        per_week_low: 3.372,
        per_week_high: 4.276,
        level_now: 15.0,
        level_half_width: 0.8,
        crossing: crossing.then(|| Crossing {
            limit: 20.0,
            at: at("2026-12-03T10:00:00Z"),
            earliest: at("2026-11-30T10:00:00Z"),
            latest: None,
        }),
        beyond: None,
    }
}

fn stepped() -> ToldShape {
    ToldShape {
        told: Told::Step,
        onset: Some(Interval {
            low: at("2026-10-30T04:00:00Z"),
            median: at("2026-10-31T04:00:00Z"),
            high: at("2026-11-01T04:00:00Z"),
        }),
        stopped_at: None,
        size: Some(Interval { low: 2.31, median: 3.02, high: 3.77 }),
    }
}

/// Each shape has its sentence; an interval says month and year once where they are the same.
#[test]
fn what_a_series_has_done_in_words() {
    let zone = TimeZone::get("Europe/Helsinki").unwrap();
    let step = stepped();
    assert_eq!(
        shape_words(&step, "g", &zone),
        "The level stepped by +3.02 g (95 %: +2.31 to +3.77) about 31 October 2026 (95 %: 30 October to 1 November 2026)."
    );
    let one_day =
        step.onset.map(|onset| Interval { low: onset.median, high: onset.median, ..onset });
    let knock = ToldShape { told: Told::Knock, onset: one_day, ..step };
    assert_eq!(
        shape_words(&knock, "", &zone),
        "A few checks were off by +3.02 (95 %: +2.31 to +3.77) on 31 October 2026; the level is back."
    );
    let over_years = Interval {
        low: at("2025-12-30T04:00:00Z"),
        median: at("2026-01-02T04:00:00Z"),
        high: at("2026-01-09T04:00:00Z"),
    };
    let stopped =
        ToldShape { told: Told::Stopped, onset: Some(over_years), stopped_at: step.onset, ..step };
    let words = shape_words(&stopped, "g", &zone);
    assert!(
        words.contains("from about 2 January 2026 (95 %: 30 December 2025 to 9 January 2026) to"),
        "{words}"
    );
    let alike = |told| shape_words(&ToldShape { told, ..step }, "g", &zone);
    let all = [
        Told::Flat,
        Told::Unclear,
        Told::Step,
        Told::Drift,
        Told::Stopped,
        Told::Knock,
        Told::Changed,
    ];
    let said: std::collections::BTreeSet<String> = all.into_iter().map(alike).collect();
    assert_eq!(said.len(), all.len());
    assert!(said.iter().all(|words| words.ends_with('.') && !words.contains("  ")), "{said:?}");
}

fn firing(criterion: Criterion, side: Option<Side>) -> Firing {
    serde_json::from_value(json!({ "criterion": criterion, "side": side, "points": [4, 5, 6] }))
        .unwrap()
}

fn every_criterion() -> Vec<Criterion> {
    Criterion::ALL.to_vec()
}

/// Words that send people away, and words that only statisticians use.
fn is_plain(text: &str) {
    let lower = text.to_lowercase();
    for word in ["manual", "rule 1", "null", "some(", "nan", "error code", "{", "  "] {
        assert!(!lower.contains(word), "“{word}” in: {text}");
    }
    assert!(text.len() > 5, "{text}");
}

#[test]
fn each_action_says_what_to_do_and_no_two_are_alike() {
    let sentences: std::collections::BTreeSet<&str> =
        ACTIONS.iter().map(|action| action_sentence(*action)).collect();
    assert_eq!(sentences.len(), ACTIONS.len());
    for sentence in sentences {
        is_plain(sentence);
        assert!(sentence.ends_with('.'), "{sentence}");
    }
}

#[test]
fn nobody_is_told_to_adjust_by_a_signal_or_a_failure() {
    for action in [NextAction::Use, NextAction::UseAndFindCause] {
        let words = action_sentence(action).to_lowercase();
        assert!(words.contains("adjust nothing"), "{words}");
    }
    assert!(action_sentence(NextAction::Hold).contains("Do not adjust before the lead"));
    for action in
        [NextAction::RepeatOnce, NextAction::Hold, NextAction::AskLead, NextAction::AskLeadLate]
    {
        assert!(action_sentence(action).contains("out of use"), "{action:?}");
    }
}

#[test]
fn each_criterion_has_words_of_its_own_with_its_side() {
    let all = every_criterion();
    let words: std::collections::BTreeSet<&str> =
        all.iter().map(|criterion| criterion_words(*criterion)).collect();
    let kinds: std::collections::BTreeSet<String> =
        all.iter().map(|criterion| format!("{criterion:?}")).collect();
    assert_eq!(words.len(), kinds.len());
    for criterion in all {
        for side in [Side::Above, Side::Below] {
            let long = firing_words(&firing(criterion, Some(side)));
            let short = firing_short(&firing(criterion, Some(side)));
            is_plain(&long);
            assert!(short.len() <= long.len(), "{short} is not shorter than {long}");
            let told = match (criterion, side) {
                (Criterion::SixTrending, Side::Above) => "rising",
                (Criterion::SixTrending, Side::Below) => "falling",
                (_, side) => side.word(),
            };
            assert!(long.ends_with(told) && short.ends_with(told), "{long} / {short}");
        }
        is_plain(&firing_words(&firing(criterion, None)));
    }
}

#[rstest]
#[case(SigmaSource::MovingRange, "moving ranges")]
#[case(SigmaSource::SampleStdDev, "resemble each other")]
#[case(SigmaSource::Resolution, "coarser than the spread")]
fn the_label_says_where_sigma_came_from(#[case] source: SigmaSource, #[case] words: &str) {
    assert!(sigma_words(source).contains(words));
}

#[test]
fn a_drift_is_told_with_its_interval_onset_and_crossing() {
    let zone = TimeZone::get("Europe/Helsinki").unwrap();
    assert_eq!(
        drift_words(&drift(true), "g", &zone),
        "+3.82 g a week (95 %: +3.37 to +4.28) since about 28 October 2026 \
         (95 %: 24 to 30 October 2026); if it goes on like this, its level reaches the tolerance about \
         3 December 2026 (95 %: 30 November 2026 to later than in a year), and a single check is outside for the first \
         time about 26 November 2026 (95 %: 24 November 2026 to later than in a year)"
    );
    // Both ends of either interval are told.
    let mut ended = drift(true);
    let latest = Some(at("2026-11-29T10:00:00Z"));
    ended.first_check = ended.first_check.map(|first| Crossing { latest, ..first });
    let words = drift_words(&ended, "g", &zone);
    assert!(words.ends_with("about 26 November 2026 (95 %: 24 to 29 November 2026)"), "{words}");
    // Where there is room for no more, where it leads is told in the same words.
    let ahead = ahead_words(&ended, &zone).unwrap();
    assert!(words.contains(&ahead) && ahead.starts_with("its level reaches"), "{ahead}");
    assert_eq!(ahead_words(&drift(false), &zone), None);
    // What was told before there was an interval of the onset is told as it was.
    let old: Drift = serde_json::from_value(json!({
        "since": "2026-10-28T04:00:00Z", "per_week": 3.824, "per_week_low": 3.372, "per_week_high": 4.276,
        "level_now": 15.0, "level_half_width": 0.8, "crossing": null
    }))
    .unwrap();
    let words = drift_words(&old, "g", &zone);
    assert!(words.ends_with("since about 28 October 2026"), "{words}");
    let flat = drift_words(&drift(false), "g", &zone);
    assert!(!flat.contains("tolerance"), "{flat}");
    // Two significant digits of the interval set the places of all three numbers.
    let coarse = Drift { per_week_low: -20.0, per_week_high: 28.0, ..drift(false) };
    assert!(drift_words(&coarse, "g", &zone).starts_with("+4 g a week (95 %: \u{2212}20 to +28)"));
    let outside = Drift { beyond: Some(20.0), ..drift(false) };
    let words = drift_words(&outside, "g", &zone);
    assert!(words.ends_with("its level is beyond the tolerance already"), "{words}");
}

#[test]
fn every_reason_is_a_sentence_even_when_its_characteristic_is_gone() {
    let key = || "error-20".to_owned();
    let zone = TimeZone::UTC;
    let mut reasons = vec![
        Reason::Void { reason: "the bench was bumped".into() },
        Reason::Within { key: key() },
        Reason::MeanOutside { key: key() },
        Reason::SingleOutside { key: key() },
        Reason::SingleInGuardBand { key: key() },
        Reason::NotProven {
            key: key(),
            scatter: Scatter::FewReadings { readings: 2 },
            accepted: true,
        },
        Reason::NotProven { key: key(), scatter: Scatter::RoundingOnly, accepted: false },
        Reason::CannotHold { key: key(), lower_control_limit: -2.7, upper_control_limit: 22.9 },
        Reason::Indicative { key: key() },
        Reason::NoBaseline { key: key(), got: 7, required: 20 },
        Reason::InControl { key: key() },
        Reason::Fired { key: key(), firing: firing(Criterion::Ewma, Some(Side::Above)) },
        Reason::StillActive { key: key(), side: Some(Side::Below) },
        Reason::StillActive { key: key(), side: None },
        Reason::Drifting { key: key(), drift: drift(true) },
        Reason::Changed { key: key(), shape: stepped() },
        Reason::PlanSuperseded { used: 1, current: 2 },
        Reason::FarReadingConfirmed { step: "load-3".into() },
    ];
    for advice in [
        AdjustmentAdvice::SmallerThanResolution { resolution: 1.0 },
        AdjustmentAdvice::WithinNoise { noise: 4.0 },
        AdjustmentAdvice::WithinTolerance { noise: 4.0 },
        AdjustmentAdvice::Adjust { correction: -21.0 },
    ] {
        reasons.push(Reason::Advice { key: key(), advice });
    }
    for state in [
        RepeatState::None,
        RepeatState::RepeatAllowed,
        RepeatState::Confirmed,
        RepeatState::Doubtful,
    ] {
        reasons.push(Reason::Repeat { state });
    }
    for reason in &reasons {
        let words = reason_sentence(reason, &[], &zone);
        is_plain(&words);
        assert!(words.ends_with(['.', '!']), "{words}");
        // What is stored reads back the same.
        let stored = serde_json::to_value(reason).unwrap();
        assert_eq!(&serde_json::from_value::<Reason>(stored).unwrap(), reason);
    }
}

fn outcome(key: &str, control: Control, drift: Option<Drift>) -> ChartOutcome {
    ChartOutcome {
        key: key.into(),
        control,
        firings: vec![],
        advisory: vec![],
        drift,
        shape: None,
        sigma: Some(1.0),
        sigma_source: Some(SigmaSource::MovingRange),
        advice: None,
        cannot_hold: None,
    }
}

#[test]
fn the_worst_chart_speaks_for_the_check_and_the_first_crossing_is_the_forecast() {
    let signal = Control::Signal { side: Some(Side::Above) };
    let late = Drift {
        crossing: drift(true).crossing.map(|c| Crossing { at: at("2027-05-01T00:00:00Z"), ..c }),
        ..drift(true)
    };
    let charts = [
        outcome("a", Control::InControl, None),
        outcome("b", signal.clone(), Some(late)),
        outcome("c", Control::NoBaseline { got: 3, required: 20 }, Some(drift(true))),
        outcome("d", Control::NotCharted, Some(drift(false))),
    ];
    let verdict = conclude(VerdictInput {
        validity: Validity::Valid,
        results: &[],
        charts: &charts,
        earlier: &[],
        purpose: Purpose::AsFound,
        from_run: vec![],
    });
    assert_eq!(verdict.control, signal);
    assert_eq!(verdict.forecast, Some(drift(true)));
    assert_eq!(verdict.action, NextAction::UseAndFindCause);
}

#[test]
fn a_void_check_is_neither_passed_nor_charted() {
    let verdict = conclude(VerdictInput {
        validity: Validity::Void { reason: "draught".into() },
        results: &[],
        charts: &[outcome("a", Control::Signal { side: None }, Some(drift(true)))],
        earlier: &[],
        purpose: Purpose::AsFound,
        from_run: vec![Reason::PlanSuperseded { used: 1, current: 2 }],
    });
    assert_eq!(verdict.control, Control::NotCharted);
    assert_eq!((verdict.action, verdict.forecast), (NextAction::CheckAgain, None));
    assert_eq!(verdict.reasons.len(), 2);
}

/// A result of a scale, for sentences.
fn judged(singles: &[&str], limit: &str, decimals: u32) -> (Characteristic, ConformityResult) {
    let characteristic = Characteristic {
        key: "error-20".into(),
        label: "Error at 20 kg".into(),
        kind: CharacteristicKind::Error,
        nominal: None,
        unit: Unit::Gram,
        decimals,
        singles: singles.iter().map(|text| text.parse().unwrap()).collect(),
        mean: None,
        reference_value: None,
        limits: Some(ToleranceLimits::symmetric(limit.parse().unwrap())),
        single_limits: None,
        contributions: vec![Contribution::known(ContributionSource::Certificate, 0.5)],
        indicative: false,
        charted: true,
        scatter_weight: 1.0 / (singles.len() as f64).sqrt(),
        rests_on: vec![],
    };
    let stated = Contribution::known(ContributionSource::Repeatability, 0.5);
    let around = Surroundings { additions: vec![stated], ..Surroundings::default() };
    let result = judge_conformity(&characteristic, &around);
    (characteristic, result)
}

/// A number is shown with as many places as it takes to see why: 100.1 against ±100 is no "+100, outside"; limits have
/// the places of the display, judged unrounded.
#[rstest]
#[case(&["100.1"], "100", 0, "+100.1 g against ±100.0 g", "outside the tolerance")]
#[case(&["100"], "100", 0, "+100 g against ±100 g", "inside the tolerance")]
#[case(&["1.1", "1.2"], "1.12035", 1, "+1.15 g against ±1.1 g", "outside the tolerance")]
#[case(&["0.4"], "1.12035", 1, "+0.4 g against ±1.1 g", "inside the tolerance")]
#[case(&["-3", "-2"], "0.5", 0, "\u{2212}2.5 g against ±0.5 g", "outside the tolerance")]
fn numbers_never_hide_their_verdict(
    #[case] singles: &[&str],
    #[case] limit: &str,
    #[case] decimals: u32,
    #[case] numbers: &str,
    #[case] verdict: &str,
) {
    let pair = judged(singles, limit, decimals);
    let key = || "error-20".to_owned();
    let reason = if pair.1.conformity == Conformity::Pass {
        Reason::Within { key: key() }
    } else {
        Reason::MeanOutside { key: key() }
    };
    let opened = reason_numbers(&reason, std::slice::from_ref(&pair));
    let words = reason_sentence(&reason, &[pair], &TimeZone::UTC);
    assert!(words.contains(numbers) && words.contains(verdict), "{words}");
    // Opened, the sentence shows the same value.
    let value = numbers.split(" against").next().unwrap();
    assert_eq!(opened[0], ("value", value.to_owned()));
    assert!(!words.contains("times the uncertainty"), "{words}");
}

/// An average has no points of its own; a pattern has.
#[test]
fn points_of_what_fired() {
    let pair = judged(&["7"], "20", 0);
    let of = |criterion| {
        let firing = firing(criterion, Some(Side::Above));
        reason_numbers(
            &Reason::Fired { key: "error-20".into(), firing },
            std::slice::from_ref(&pair),
        )
    };
    assert_eq!(of(Criterion::Ewma).len(), 1);
    assert_eq!(of(Criterion::Cusum)[1], ("checks since the sum left zero", "3".to_owned()));
    assert_eq!(of(Criterion::TwoOfThree)[1].1, "3");
}

/// Whatever the digits: the numbers that a reason opens to lie on the side of the limit that the verdict names, also where
/// they are so near that the usual places would show them as equal.
#[test]
fn opened_numbers_lie_on_the_side_that_is_judged() {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let number = |text: &str| {
        let plain = text.trim().trim_end_matches(" g").replace('\u{2212}', "-").replace('+', "");
        plain.parse::<f64>().unwrap_or_else(|_| panic!("“{text}”"))
    };
    let (mut inside, mut outside) = (0, 0);
    for _ in 0..2_000 {
        let decimals = random.random_range(0..4);
        let limit = Decimal::new(random.random_range(1..400_000), random.random_range(0..5));
        let off = Decimal::new(random.random_range(-30..30), random.random_range(0..6));
        let pair = judged(&[&(limit + off).to_string()], &limit.to_string(), decimals);
        let passes = pair.1.conformity == Conformity::Pass;
        let key = "error-20".to_owned();
        let reason = if passes { Reason::Within { key } } else { Reason::MeanOutside { key } };
        let opened = reason_numbers(&reason, std::slice::from_ref(&pair));
        let told = |name: &str| opened.iter().find(|(own, _)| *own == name).unwrap().1.clone();
        let (value, tolerance) = (told("value"), told("tolerance"));
        let (lower, upper) = tolerance.split_once(" to ").unwrap();
        let shown = number(&value);
        let shows_inside = number(lower) <= shown && shown <= number(upper);
        assert_eq!(shows_inside, passes, "{value} against {tolerance} ({limit} and {off})");
        if passes { inside += 1 } else { outside += 1 }
    }
    assert!(inside > 500 && outside > 500, "{inside} inside, {outside} outside");
}
