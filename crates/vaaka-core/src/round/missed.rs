//! Missed checks: a state of its own, defined here and nowhere else.
//!
//! A calendar rule asks for one check in each *window*: a shift, a business day, a week, a month, a quarter, a year.
//! From the end of the first working shift of a window on the check is late; when the window is over
//! without one, it is missed. A voided check is none, and one that is still open is not missed yet.

use std::collections::BTreeSet;

use jiff::civil::Date;
use jiff::{Timestamp, ToSpan as _};

use super::{DueRule, ShiftSpan};

/// A window that went by without its check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Missed {
    /// Start of the first shift of the window.
    pub from: Timestamp,
    /// End of its last shift.
    pub until: Timestamp,
    /// Business date on which it began.
    pub date: Date,
    /// Name of its shift, where the window is one.
    pub shift: Option<String>,
}

/// What missing rests on.
#[derive(Debug, Clone, Copy)]
pub struct MissedInput<'a> {
    /// The rule.
    pub rule: DueRule,
    /// From when the plan has been in force.
    pub since: Timestamp,
    /// Shifts without gap, oldest first; those that do not work ask for nothing.
    pub spans: &'a [ShiftSpan],
    /// Starts of the shifts that have a concluded check of the plan, or an open one.
    pub done: &'a BTreeSet<Timestamp>,
    /// Now.
    pub now: Timestamp,
}

/// The windows that were missed, oldest first. A window counts once it is over and only when it began
/// after the plan came into force.
#[must_use]
pub fn missed(input: MissedInput<'_>) -> Vec<Missed> {
    let spans: Vec<&ShiftSpan> =
        input.spans.iter().filter(|span| span.works && span.starts_at >= input.since).collect();
    match input.rule {
        DueRule::EachShift => spans
            .iter()
            .filter(|span| span.ends_at <= input.now && !input.done.contains(&span.starts_at))
            .map(|span| window(&[span], Some(span.label.clone())))
            .collect(),
        DueRule::EachDay => spans
            .chunk_by(|a, b| a.business_date == b.business_date)
            .filter(|day| is_missed(day, &input))
            .map(|day| window(day, None))
            .collect(),
        DueRule::BeforeUse => vec![],
        DueRule::EachWeek | DueRule::EachMonth | DueRule::EachQuarter | DueRule::EachYear => {
            by_interval(&spans, &input)
        }
    }
}

fn is_missed(shifts: &[&ShiftSpan], input: &MissedInput<'_>) -> bool {
    shifts.iter().all(|span| span.ends_at <= input.now && !input.done.contains(&span.starts_at))
}

fn window(shifts: &[&ShiftSpan], shift: Option<String>) -> Missed {
    let (first, last) = (shifts[0], shifts[shifts.len() - 1]);
    Missed { from: first.starts_at, until: last.ends_at, date: first.business_date, shift }
}

/// Weeks and months run from the last check, or from the first shift of the plan: a window is as long
/// as the rule says and begins on the day on which the check falls due.
fn by_interval(spans: &[&ShiftSpan], input: &MissedInput<'_>) -> Vec<Missed> {
    let step = |date: Date| input.rule.next(Some(date)).unwrap_or(date.saturating_add(7.days()));
    let mut found = Vec::new();
    let Some(first) = spans.first() else { return found };
    let mut opens = first.business_date;
    let mut rest = spans;
    loop {
        let closes = step(opens);
        let from = rest.iter().position(|span| span.business_date >= opens);
        let Some(from) = from else { return found };
        rest = &rest[from..];
        let done = rest
            .iter()
            .take_while(|span| span.business_date < closes)
            .find(|span| input.done.contains(&span.starts_at));
        if let Some(done) = done {
            // The next is due one step after this one.
            opens = step(done.business_date);
            continue;
        }
        let length = rest.iter().take_while(|span| span.business_date < closes).count();
        let inside = &rest[..length];
        if length == rest.len() && inside.last().is_some_and(|last| last.ends_at > input.now) {
            return found;
        }
        let is_over = rest.get(length).is_some_and(|next| next.starts_at <= input.now);
        if !is_over {
            return found;
        }
        if !inside.is_empty() {
            found.push(window(inside, None));
        }
        opens = closes;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::round::{ShiftPattern, ShiftStart};
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;
    use rstest::rstest;

    /// Two years of three shifts, with both clock changes of each.
    fn spans() -> Vec<ShiftSpan> {
        let start = |label: &str, hour| ShiftStart::every_day(label, time(hour, 0, 0, 0));
        let pattern = ShiftPattern {
            zone: TimeZone::get("Europe/Helsinki").unwrap(),
            starts: vec![start("Morning", 6), start("Evening", 14), start("Night", 22)],
            holidays: [date(2026, 12, 25)].into(),
        };
        pattern.spans(date(2025, 1, 1), date(2026, 12, 31)).unwrap()
    }

    fn look(
        rule: DueRule,
        spans: &[ShiftSpan],
        done: &BTreeSet<Timestamp>,
        now: Timestamp,
    ) -> Vec<Missed> {
        missed(MissedInput { rule, since: spans[0].starts_at, spans, done, now })
    }

    /// The brute force: every shift is asked by itself, day by day.
    fn brute(rule: DueRule, spans: &[ShiftSpan], done: &BTreeSet<Timestamp>) -> Vec<Date> {
        let works = |span: &&ShiftSpan| span.works;
        let mut found = Vec::new();
        match rule {
            DueRule::EachShift => {
                for span in spans.iter().filter(works) {
                    if !done.contains(&span.starts_at) {
                        found.push(span.business_date);
                    }
                }
            }
            DueRule::EachDay => {
                let mut day = spans[0].business_date;
                while day <= spans[spans.len() - 1].business_date {
                    let of_day: Vec<_> =
                        spans.iter().filter(works).filter(|s| s.business_date == day).collect();
                    if !of_day.is_empty() && of_day.iter().all(|s| !done.contains(&s.starts_at)) {
                        found.push(day);
                    }
                    day = day.tomorrow().unwrap();
                }
            }
            _ => {
                // A counter of days: it runs out on the day before the window closes.
                let mut opens = spans[0].business_date;
                let mut day = opens;
                while day <= spans[spans.len() - 1].business_date {
                    let next = match rule {
                        DueRule::EachMonth => opens.saturating_add(1.month()),
                        _ => opens.saturating_add(7.days()),
                    };
                    if day >= next {
                        found.push(opens);
                        opens = next;
                        continue;
                    }
                    let hit = spans.iter().any(|s| {
                        s.business_date == day && day >= opens && done.contains(&s.starts_at)
                    });
                    day = day.tomorrow().unwrap();
                    if hit {
                        let did = day.yesterday().unwrap();
                        opens = match rule {
                            DueRule::EachMonth => did.saturating_add(1.month()),
                            _ => did.saturating_add(7.days()),
                        };
                        day = opens;
                    }
                }
            }
        }
        found
    }

    #[rstest]
    #[case(DueRule::EachShift)]
    #[case(DueRule::EachDay)]
    #[case(DueRule::EachWeek)]
    #[case(DueRule::EachMonth)]
    fn against_a_brute_force_calendar(#[case] rule: DueRule) {
        use rand::{Rng, SeedableRng};
        let spans = spans();
        let now = spans[spans.len() - 1].ends_at;
        for (seed, share) in [(1, 0.02), (2, 0.2), (3, 0.6), (4, 0.97)] {
            let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let done: BTreeSet<Timestamp> = spans
                .iter()
                .filter(|span| span.works && random.random_bool(share))
                .map(|span| span.starts_at)
                .collect();
            let dates: Vec<Date> =
                look(rule, &spans, &done, now).iter().map(|missed| missed.date).collect();
            assert_eq!(dates, brute(rule, &spans, &done), "seed {seed}");
        }
    }

    #[test]
    fn what_is_not_over_is_not_missed() {
        let spans = spans();
        let none = BTreeSet::new();
        let now = spans[2].starts_at;
        assert_eq!(look(DueRule::EachShift, &spans, &none, now).len(), 2);
        assert!(look(DueRule::EachDay, &spans, &none, now).is_empty());
        assert!(look(DueRule::EachMonth, &spans, &none, spans[80].starts_at).is_empty());
        // The night of the 1st is over when the morning of the 2nd begins.
        assert_eq!(look(DueRule::EachDay, &spans, &none, spans[3].starts_at).len(), 1);
    }

    #[test]
    fn a_plan_asks_from_when_it_is_in_force_and_never_on_a_holiday() {
        let spans = spans();
        let none = BTreeSet::new();
        let now = spans[spans.len() - 1].ends_at;
        let since = spans[3].starts_at;
        let input =
            MissedInput { rule: DueRule::EachShift, since, spans: &spans, done: &none, now };
        let found = missed(input);
        assert_eq!(found.len(), spans.len() - 3 - 3);
        assert!(found.iter().all(|one| one.date != date(2026, 12, 25)));
        assert!(missed(MissedInput { spans: &[], ..input }).is_empty());
    }

    /// The night of a clock change is one shift, whether it has seven hours or nine.
    #[test]
    fn both_clock_changes() {
        let spans = spans();
        let none = BTreeSet::new();
        let now = spans[spans.len() - 1].ends_at;
        let found = look(DueRule::EachShift, &spans, &none, now);
        for (day, hours) in [(date(2026, 3, 28), 7), (date(2026, 10, 24), 9)] {
            let nights: Vec<&Missed> = found
                .iter()
                .filter(|one| one.date == day && one.shift.as_deref() == Some("Night"))
                .collect();
            assert_eq!(nights.len(), 1);
            assert_eq!(nights[0].until.duration_since(nights[0].from).as_hours(), hours);
        }
    }
}
