//! When a check is due by the calendar, and who is trained to run it.

use jiff::civil::Date;
use jiff::{SignedDuration, ToSpan};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// How often a plan is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DueRule {
    /// In every shift.
    EachShift,
    /// Once a business day, in whichever shift comes to it first.
    EachDay,
    /// A week after the last one, counted in business days.
    EachWeek,
    /// A month after the last one.
    EachMonth,
    /// Three months after the last one.
    EachQuarter,
    /// A year after the last one.
    EachYear,
    /// Before each use: never by the calendar, and a use without a good check in its shift is not
    /// released.
    BeforeUse,
}

impl DueRule {
    /// All, the most frequent first.
    pub const ALL: [Self; 7] = [
        Self::EachShift,
        Self::EachDay,
        Self::EachWeek,
        Self::EachMonth,
        Self::EachQuarter,
        Self::EachYear,
        Self::BeforeUse,
    ];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::EachShift => "each_shift",
            Self::EachDay => "each_day",
            Self::EachWeek => "each_week",
            Self::EachMonth => "each_month",
            Self::EachQuarter => "each_quarter",
            Self::EachYear => "each_year",
            Self::BeforeUse => "before_use",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::EachShift => "each shift",
            Self::EachDay => "each day",
            Self::EachWeek => "each week",
            Self::EachMonth => "each month",
            Self::EachQuarter => "each quarter of a year",
            Self::EachYear => "each year",
            Self::BeforeUse => "before each use",
        }
    }

    /// Usual distance between two checks, for the gaps of a chart.
    #[must_use]
    pub fn interval(self) -> SignedDuration {
        SignedDuration::from_hours(match self {
            Self::EachShift | Self::BeforeUse => 8,
            Self::EachDay => 24,
            Self::EachWeek => 7 * 24,
            Self::EachMonth => 31 * 24,
            Self::EachQuarter => 92 * 24,
            Self::EachYear => 366 * 24,
        })
    }

    /// Whether it is due on a business date, when the last check belongs to another one (or to
    /// none). A rule of every shift is due until the shift itself has its check.
    #[must_use]
    pub fn is_due(self, last: Option<Date>, today: Date) -> bool {
        match self.next(last) {
            Some(next) => today >= next,
            None => self == Self::EachShift || (last.is_none() && self != Self::BeforeUse),
        }
    }

    /// Days after a check in which the calendar cannot have it due again, at least: a list of what is
    /// due need not look at it before. None for rules that the calendar says nothing of.
    #[must_use]
    pub fn rests_for(self) -> Option<i64> {
        match self {
            Self::EachShift | Self::BeforeUse => None,
            Self::EachDay => Some(1),
            Self::EachWeek => Some(7),
            // From the end of January to the end of February.
            Self::EachMonth => Some(28),
            // From the end of January to the end of April.
            Self::EachQuarter => Some(89),
            Self::EachYear => Some(365),
        }
    }

    /// The business date on which it falls due after a check; none for rules without a date of
    /// their own, and before the first check.
    #[must_use]
    pub fn next(self, last: Option<Date>) -> Option<Date> {
        let last = last?;
        Some(match self {
            Self::EachShift | Self::BeforeUse => return None,
            Self::EachDay => last.saturating_add(1.day()),
            Self::EachWeek => last.saturating_add(7.days()),
            Self::EachMonth => last.saturating_add(1.month()),
            Self::EachQuarter => last.saturating_add(3.months()),
            Self::EachYear => last.saturating_add(1.year()),
        })
    }

    /// Whether what a check showed is ageing: the day on which the next one fell due has passed. Of a rule of every shift that
    /// is the day after the last check; before each use nothing ages, because nothing is used unchecked.
    #[must_use]
    pub fn ages(self, last: Date, today: Date) -> bool {
        match self {
            Self::BeforeUse => false,
            Self::EachShift => today > last.saturating_add(1.day()),
            _ => self.next(Some(last)).is_some_and(|due| today > due),
        }
    }
}

impl std::str::FromStr for DueRule {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|rule| rule.word() == text);
        known.ok_or_else(|| format!("“{text}” is no due rule"))
    }
}

/// The newest training of a person in a method.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Training {
    /// Last day on which it holds.
    pub valid_until: Date,
}

/// A person may not run checks by a method.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TrainingError {
    /// Never trained.
    #[error("You are not trained for this kind of check ({method}). {who}")]
    Never {
        /// The method's name.
        method: String,
        /// Who can, a sentence.
        who: String,
    },
    /// The training ran out.
    #[error("Your training for this kind of check ({method}) ended on {ended}. {who}")]
    Ended {
        /// The method's name.
        method: String,
        /// Last day.
        ended: Date,
        /// Who can, a sentence.
        who: String,
    },
}

/// Whether somebody may run a check today; otherwise who can. `others` are the names of those
/// whose training holds.
///
/// # Errors
/// [`TrainingError`].
pub fn check_training(
    own: Option<Training>,
    method: &str,
    others: &[String],
    today: Date,
) -> Result<(), TrainingError> {
    let method = method.to_lowercase();
    let who = match others {
        [] => "Nobody is trained for it now: ask a lead.".to_owned(),
        [one] => format!("{one} can."),
        [most @ .., last] => format!("{} and {last} can.", most.join(", ")),
    };
    match own {
        Some(training) if today <= training.valid_until => Ok(()),
        Some(training) => Err(TrainingError::Ended { method, ended: training.valid_until, who }),
        None => Err(TrainingError::Never { method, who }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use rstest::rstest;

    const MONDAY: Date = date(2026, 11, 23);

    #[rstest]
    #[case(DueRule::EachShift, Some(MONDAY), MONDAY, true)]
    #[case(DueRule::EachDay, Some(MONDAY), MONDAY, false)]
    #[case(DueRule::EachDay, Some(MONDAY), date(2026, 11, 24), true)]
    #[case(DueRule::EachWeek, Some(MONDAY), date(2026, 11, 29), false)]
    #[case(DueRule::EachWeek, Some(MONDAY), date(2026, 11, 30), true)]
    #[case(DueRule::EachWeek, Some(MONDAY), date(2026, 12, 24), true)]
    // A month after the last of January is the last of February.
    #[case(DueRule::EachMonth, Some(date(2027, 1, 31)), date(2027, 2, 27), false)]
    #[case(DueRule::EachMonth, Some(date(2027, 1, 31)), date(2027, 2, 28), true)]
    #[case(DueRule::EachMonth, None, MONDAY, true)]
    #[case(DueRule::BeforeUse, None, MONDAY, false)]
    #[case(DueRule::BeforeUse, Some(MONDAY), date(2027, 11, 23), false)]
    fn due_by_the_calendar(
        #[case] rule: DueRule,
        #[case] last: Option<Date>,
        #[case] today: Date,
        #[case] due: bool,
    ) {
        assert_eq!(rule.is_due(last, today), due);
    }

    #[rstest]
    // The day on which it falls due is a day to do it in.
    #[case(DueRule::EachWeek, date(2026, 11, 30), false)]
    #[case(DueRule::EachWeek, date(2026, 12, 1), true)]
    #[case(DueRule::EachShift, date(2026, 11, 24), false)]
    #[case(DueRule::EachShift, date(2026, 11, 25), true)]
    #[case(DueRule::EachDay, date(2026, 11, 24), false)]
    #[case(DueRule::EachDay, date(2026, 11, 25), true)]
    #[case(DueRule::EachYear, date(2027, 11, 24), true)]
    #[case(DueRule::BeforeUse, date(2027, 11, 24), false)]
    fn what_a_check_showed_ages(#[case] rule: DueRule, #[case] today: Date, #[case] ages: bool) {
        assert_eq!(rule.ages(MONDAY, today), ages);
    }

    #[test]
    fn words_and_stored_words_are_one_list() {
        for rule in DueRule::ALL {
            assert_eq!(rule.word().parse(), Ok(rule));
            // Through two years, one of them a leap year: nothing is due before its rest is over.
            let mut day = jiff::civil::date(2027, 1, 1);
            while day.year() < 2029 {
                if let (Some(days), Some(next)) = (rule.rests_for(), rule.next(Some(day))) {
                    let rest = day.until(next).unwrap().get_days();
                    assert!(i64::from(rest) >= days, "{rule:?} {day}");
                }
                day = day.tomorrow().unwrap();
            }
            assert!(rule.interval() >= SignedDuration::from_hours(8), "{}", rule.words());
        }
        assert!("now and then".parse::<DueRule>().is_err());
    }

    #[test]
    fn the_untrained_are_told_who_can() {
        let others = ["Aino".to_owned(), "Teemu".to_owned(), "Sirja".to_owned()];
        let until = |valid_until| Some(Training { valid_until });
        let ask = |own, others: &[String]| {
            check_training(own, "Scale with weights", others, MONDAY)
                .map_or_else(|error| error.to_string(), |()| "may".to_owned())
        };
        assert_eq!(ask(until(MONDAY), &others), "may");
        let never = ask(None, &others);
        assert!(
            never.contains("not trained") && never.ends_with("Aino, Teemu and Sirja can."),
            "{never}"
        );
        let ended = ask(until(date(2026, 11, 22)), &others[..1]);
        assert!(ended.contains("ended on 2026-11-22. Aino can."), "{ended}");
        assert!(ask(None, &[]).ends_with("ask a lead."));
    }
}
