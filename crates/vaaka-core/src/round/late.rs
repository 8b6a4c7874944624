//! A check from a paper sheet: what it is to its shift, how long it must have taken at least, and what a second person
//! looks at before signing. What people have seen is never un-happened by a late entry.

use jiff::{SignedDuration, Timestamp};

use crate::judgement::{Attempt, RepeatState, repeat_state};
use crate::method::{Entry, EntryValue, Input, Step};

/// What a sheet is to the shift in which it was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LateRank {
    /// The shift has no check: it is that check.
    Check,
    /// The check failed, and the sheet was measured after it: it is the one repeat.
    Repeat,
    /// The shift has its check already. The sheet is judged, kept and shown, and changes nothing about that.
    Beside,
}

/// The rank of a sheet that began at `began`, beside the valid as-found runs of its shift in their order, each with
/// when it was over.
#[must_use]
pub fn late_rank(runs: &[(Attempt, Timestamp)], began: Timestamp) -> LateRank {
    let attempts: Vec<Attempt> = runs.iter().map(|(attempt, _)| *attempt).collect();
    match runs.last() {
        None => LateRank::Check,
        Some((_, over))
            if repeat_state(&attempts) == RepeatState::RepeatAllowed && began >= *over =>
        {
            LateRank::Repeat
        }
        Some(_) => LateRank::Beside,
    }
}

/// Seconds in which nobody takes a reading and writes it down (common practice, no published source).
const SECONDS_AN_ENTRY: i64 = 3;

/// The time that a run takes at least: its waits, the pauses between its readings, and a moment for each entry.
#[must_use]
pub fn shortest_run(steps: &[Step]) -> SignedDuration {
    let seconds = |step: &Step| {
        let repeats = i64::from(step.repeats);
        let wait = match &step.input {
            Input::WaitStart { minimum_seconds, .. } => i64::from(*minimum_seconds),
            Input::WaitOver { .. } | Input::Review => return 0,
            _ => SECONDS_AN_ENTRY * repeats,
        };
        wait + i64::from(step.pause_seconds) * (repeats - 1).max(0)
    };
    SignedDuration::from_secs(steps.iter().map(seconds).sum())
}

/// What makes a sheet worth a second look; none of it is a fault by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LateRemark {
    /// Every reading is exactly its nominal value.
    AllNominal {
        /// How many.
        readings: usize,
    },
    /// The readings of every step that was read more than once are alike.
    AllAlike {
        /// How many.
        readings: usize,
    },
}

/// Looks at the readings of a sheet. From four on: fewer are alike by chance on a coarse display.
#[must_use]
pub fn late_remarks(steps: &[Step], entries: &[Entry]) -> Vec<LateRemark> {
    const ENOUGH: usize = 4;
    let mut readings = 0;
    let (mut nominal, mut repeated, mut alike) = (0, 0, 0);
    for step in steps {
        let Input::Reading { expected, resolution, .. } = &step.input else { continue };
        let values: Vec<_> = entries
            .iter()
            .filter(|entry| entry.step == step.key)
            .filter_map(|entry| match &entry.value {
                EntryValue::Reading { indication, .. } => Some(*indication),
                _ => None,
            })
            .collect();
        readings += values.len();
        nominal += values
            .iter()
            .filter(|v| (**v - *expected).abs() * rust_decimal::Decimal::TWO <= *resolution)
            .count();
        if values.len() > 1 {
            repeated += values.len();
            alike +=
                if values.windows(2).all(|pair| pair[0] == pair[1]) { values.len() } else { 0 };
        }
    }
    let mut found = Vec::new();
    if readings >= ENOUGH && nominal == readings {
        found.push(LateRemark::AllNominal { readings });
    } else if repeated >= ENOUGH && alike == repeated {
        found.push(LateRemark::AllAlike { readings: repeated });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judgement::Conformity::{Fail, Pass};
    use crate::method::StepKey;
    use crate::quantity::Unit;

    fn at(minute: i64) -> Timestamp {
        Timestamp::from_second(1_790_000_000 + 60 * minute).unwrap()
    }

    /// All shifts with up to two runs, against a sheet before, between and after them.
    #[test]
    fn a_late_sheet_takes_no_rank_that_was_given() {
        let run = |conforms, minute| (Attempt { conforms }, at(minute));
        type Case<'a> = (&'a [(Attempt, Timestamp)], i64, LateRank);
        let cases: [Case; 9] = [
            (&[], 0, LateRank::Check),
            (&[run(Pass, 10)], 0, LateRank::Beside),
            (&[run(Pass, 10)], 20, LateRank::Beside),
            (&[run(Fail, 10)], 0, LateRank::Beside),
            (&[run(Fail, 10)], 9, LateRank::Beside),
            (&[run(Fail, 10)], 10, LateRank::Repeat),
            (&[run(Fail, 10), run(Pass, 20)], 30, LateRank::Beside),
            (&[run(Fail, 10), run(Fail, 20)], 15, LateRank::Beside),
            (&[run(Pass, 10), run(Fail, 20)], 30, LateRank::Repeat),
        ];
        for (runs, began, wanted) in cases {
            assert_eq!(late_rank(runs, at(began)), wanted, "{runs:?} {began}");
        }
    }

    fn reading(key: &str, expected: &str, repeats: u32) -> Step {
        let input = Input::Reading {
            unit: Unit::Kilogram,
            resolution: "0.001".parse().unwrap(),
            expected: expected.parse().unwrap(),
            guard: "1".parse().unwrap(),
            guard_question: String::new(),
            beside: None,
        };
        Step { repeats, ..Step::plain(key, key.to_owned(), String::new(), input) }
    }

    fn entries(values: &[(&str, &str)]) -> Vec<Entry> {
        values
            .iter()
            .zip(1..)
            .map(|((step, value), repeat)| Entry {
                step: StepKey::from(*step),
                repeat,
                at: at(0),
                value: EntryValue::Reading {
                    indication: value.parse().unwrap(),
                    added: None,
                    far_confirmed: false,
                },
            })
            .collect()
    }

    #[test]
    fn perfect_sheets_are_remarked_and_real_ones_are_not() {
        let steps = [reading("a", "5.00007", 1), reading("b", "20.0002", 3)];
        let of = |values: &[(&str, &str)]| late_remarks(&steps, &entries(values));
        let perfect = [("a", "5.000"), ("b", "20.000"), ("b", "20.000"), ("b", "20.000")];
        assert_eq!(of(&perfect), [LateRemark::AllNominal { readings: 4 }]);
        let real = [("a", "5.001"), ("b", "20.000"), ("b", "20.002"), ("b", "20.001")];
        assert!(of(&real).is_empty());
        let few = [("a", "5.000"), ("b", "20.000")];
        assert!(of(&few).is_empty());
    }

    #[test]
    fn waits_and_pauses_are_part_of_the_shortest_time() {
        let mut pausing = reading("b", "20", 3);
        pausing.pause_seconds = 60;
        let wait = Step::plain(
            "w",
            String::new(),
            String::new(),
            Input::WaitStart { what: "soak".into(), minimum_seconds: 600, maximum_seconds: None },
        );
        let steps = [reading("a", "5", 1), wait, pausing];
        assert_eq!(shortest_run(&steps).as_secs(), 3 + 600 + 9 + 120);
    }
}
