//! The reaction ladder of a failed check: one rung after the other, each noted before the next.

use thiserror::Error;

use crate::method::Rung;

/// What came of a rung.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// The cause was found here.
    CauseFound,
    /// Nothing changed.
    NoChange,
    /// It could not be tried.
    NotPossible,
}

impl Outcome {
    /// All, in the order in which a form offers them.
    pub const ALL: [Self; 3] = [Self::NoChange, Self::CauseFound, Self::NotPossible];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::CauseFound => "cause_found",
            Self::NoChange => "no_change",
            Self::NotPossible => "not_possible",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::CauseFound => "the cause was found here",
            Self::NoChange => "no change",
            Self::NotPossible => "could not be tried",
        }
    }
}

impl std::str::FromStr for Outcome {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|outcome| outcome.word() == text);
        known.ok_or_else(|| format!("“{text}” is no outcome"))
    }
}

/// A rung that was noted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Noted {
    /// Which.
    pub rung: Rung,
    /// What came of it.
    pub outcome: Outcome,
}

/// The rung that is open now: the first that was not noted. None once the cause was found, or when
/// all are noted.
#[must_use]
pub fn next_rung(ladder: &[Rung], noted: &[Noted]) -> Option<Rung> {
    if noted.iter().any(|one| one.outcome == Outcome::CauseFound) {
        return None;
    }
    ladder.iter().copied().find(|rung| noted.iter().all(|one| one.rung != *rung))
}

/// Why a rung is not noted. The words say what to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum LadderError {
    /// Another rung is open.
    #[error(
        "The rungs are taken one after the other, and another one is open now. Look at the ladder again."
    )]
    NotOpen,
    /// Nothing said.
    #[error(
        "Say in a few words what was done and what was seen; the next person starts from there."
    )]
    NoWords,
    /// A rung that is a check, without its check.
    #[error("This rung is a check: run it first, or say that it could not be tried.")]
    NoRun,
    /// Adjusting, without an adjustment on record.
    #[error(
        "No adjustment is on record after this check. A lead records it first, or say that it could not be tried."
    )]
    NoAdjustment,
}

/// Whether a rung may be noted. `has_run` tells whether the repeat, trial or adjustment that the
/// rung consists of is on record.
///
/// # Errors
/// [`LadderError`].
pub fn check_note(
    rung: Rung,
    outcome: Outcome,
    words: &str,
    open: Option<Rung>,
    has_run: bool,
) -> Result<(), LadderError> {
    if open != Some(rung) {
        return Err(LadderError::NotOpen);
    }
    if words.trim().is_empty() {
        return Err(LadderError::NoWords);
    }
    match rung {
        _ if outcome == Outcome::NotPossible || has_run => Ok(()),
        Rung::Repeat | Rung::OtherStandard | Rung::OtherPerson => Err(LadderError::NoRun),
        Rung::Adjust => Err(LadderError::NoAdjustment),
        Rung::Clean | Rung::Settings | Rung::Service => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Outcome::{CauseFound, NoChange, NotPossible};
    use rstest::rstest;

    #[test]
    fn one_rung_after_the_other_until_the_cause_is_found() {
        let ladder = [Rung::Clean, Rung::Repeat, Rung::Service];
        let noted = |rung, outcome| Noted { rung, outcome };
        assert_eq!(next_rung(&ladder, &[]), Some(Rung::Clean));
        let first = [noted(Rung::Clean, NoChange)];
        assert_eq!(next_rung(&ladder, &first), Some(Rung::Repeat));
        let found = [noted(Rung::Clean, NoChange), noted(Rung::Repeat, CauseFound)];
        assert_eq!(next_rung(&ladder, &found), None);
        let all = ladder.map(|rung| noted(rung, NotPossible));
        assert_eq!(next_rung(&ladder, &all), None);
        assert_eq!(next_rung(&[], &[]), None);
    }

    #[rstest]
    #[case(Rung::Clean, NoChange, "wiped the pan", false, Ok(()))]
    #[case(Rung::Clean, NoChange, "  ", false, Err(LadderError::NoWords))]
    #[case(Rung::Repeat, NoChange, "ran it", false, Err(LadderError::NoRun))]
    #[case(Rung::Repeat, NoChange, "ran it", true, Ok(()))]
    #[case(Rung::OtherStandard, NotPossible, "none at hand", false, Ok(()))]
    #[case(Rung::OtherPerson, CauseFound, "reads the same", false, Err(LadderError::NoRun))]
    #[case(Rung::Adjust, CauseFound, "span", false, Err(LadderError::NoAdjustment))]
    #[case(Rung::Adjust, CauseFound, "span", true, Ok(()))]
    #[case(Rung::Service, NoChange, "called", false, Ok(()))]
    fn notes(
        #[case] rung: Rung,
        #[case] outcome: Outcome,
        #[case] words: &str,
        #[case] has_run: bool,
        #[case] expected: Result<(), LadderError>,
    ) {
        assert_eq!(check_note(rung, outcome, words, Some(rung), has_run), expected);
        assert_eq!(check_note(rung, outcome, words, None, has_run), Err(LadderError::NotOpen));
        assert_eq!(outcome.word().parse(), Ok(outcome));
    }
}
