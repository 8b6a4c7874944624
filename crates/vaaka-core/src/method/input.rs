//! What a step asks for, and what is known of each kind of it.

use rust_decimal::Decimal;

use super::StepKey;
use crate::quantity::Unit;
use crate::trace::{Search, TraceWanted};

/// A word that can be chosen, with the other ways to write it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChoiceWord {
    /// As it is kept and shown.
    pub word: String,
    /// What is taken for it.
    pub also: Vec<String>,
}

/// Longest line of text that a step keeps.
pub const MOST_TEXT: usize = 200;

/// A second number that is read at the same moment, and typed beside the reading.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beside {
    /// Small weights ΔL that were added until the display turned over, in the unit of the display or as they are marked
    /// (OIML R 76-1, A.4.4.3).
    Weights,
    /// Another number that the instrument shows, or that goes with the reading: the code of its sensor, the mass of the sample.
    Number {
        /// What it is called, "the code of the sensor".
        name: String,
        /// Symbol of its unit; empty for a plain number.
        unit: String,
        /// Least value that can be true.
        lower: Option<Decimal>,
        /// Greatest one.
        upper: Option<Decimal>,
    },
}

/// A peak that a trace must show.
#[derive(Debug, Clone, PartialEq)]
pub struct PeakWanted {
    /// What it is called, "361.5 nm".
    pub name: String,
    /// Channel in which it is looked for.
    pub channel: usize,
    /// How.
    pub search: Search,
}

/// What a step asks for; a closed set, so that no page knows a family.
#[derive(Debug, Clone, PartialEq)]
pub enum Input {
    /// Each sentence is ticked off.
    Confirm {
        /// What is confirmed, one sentence each.
        sentences: Vec<String>,
        /// True for cautions, which are drawn as such.
        caution: bool,
        /// Whether who has ticked them in this shift confirms them all with one key the next time.
        folds: bool,
    },
    /// The tag on the standard in hand is scanned or typed.
    Tag {
        /// The tag of the standard that the plan names, or that is first at hand.
        expected: String,
        /// The kind, where any standard of it will do.
        any_of_kind: Option<String>,
        /// Its place among the plan's standards.
        place: usize,
    },
    /// A setting of the instrument, read from it and typed; a mismatch stops the check here.
    Setting {
        /// What it is called.
        name: String,
        /// What the instrument must show.
        expected: String,
        /// Other ways to write the same.
        also: Vec<String>,
        /// Whether one that was found wrong is set right by a lead only.
        by_lead: bool,
    },
    /// One of several words, kept as it was found.
    Choice {
        /// What it is called.
        name: String,
        /// The words, in their order.
        words: Vec<ChoiceWord>,
    },
    /// A line of text, kept as it was found: a serial, a lot, the name of a file.
    Text {
        /// What it is called.
        name: String,
    },
    /// A photograph or document, kept with the check: the face of a block, a print of the instrument.
    File {
        /// What it is of.
        name: String,
    },
    /// A whole number, kept as it was found.
    Count {
        /// What it is called.
        name: String,
    },
    /// A condition that must hold before anything is measured.
    Condition {
        /// What it is called.
        name: String,
        /// Symbol of its unit.
        unit: String,
        /// Least value that will do.
        lower: Option<Decimal>,
        /// Greatest value that will do.
        upper: Option<Decimal>,
        /// What to do when it does not hold.
        advice: String,
    },
    /// A wait begins; the server keeps the time.
    WaitStart {
        /// What is waited for.
        what: String,
        /// Shortest wait.
        minimum_seconds: u32,
        /// Longest time from the start until the last thing that depends on it.
        maximum_seconds: Option<u32>,
    },
    /// A wait is over, not before its shortest time.
    WaitOver {
        /// The step that began it.
        start: StepKey,
        /// What is waited for.
        what: String,
    },
    /// Everything kept is looked over before the standard is put away.
    Review,
    /// A number from the display.
    Reading {
        /// Unit of the display.
        unit: Unit,
        /// Scale interval.
        resolution: Decimal,
        /// What it should be about.
        expected: Decimal,
        /// Further away than this, the guard asks before it records.
        guard: Decimal,
        /// What the guard asks, as a question that yes answers.
        guard_question: String,
        /// What is typed beside it.
        beside: Option<Beside>,
    },
    /// A trace, as a file or pasted.
    Trace {
        /// What it is called, "the spectrum".
        name: String,
        /// Its columns, and what they cover.
        wanted: TraceWanted,
        /// The peaks that must be in it; where one is not, the guard asks before it records.
        peaks: Vec<PeakWanted>,
        /// What the guard asks, as a question that yes answers.
        guard_question: String,
    },
}

impl Input {
    /// The word of its kind: the class of its form, and the room that draws it.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Confirm { caution: true, .. } => "caution",
            Self::Confirm { .. } => "confirm",
            Self::Tag { .. } => "tag",
            Self::Setting { .. } => "setting",
            Self::Choice { .. } => "choice",
            Self::Text { .. } => "text",
            Self::File { .. } => "file",
            Self::Count { .. } => "count",
            Self::Condition { .. } => "condition",
            Self::WaitStart { .. } => "wait-start",
            Self::WaitOver { .. } => "wait-over",
            Self::Review => "review",
            Self::Reading { .. } => "reading",
            Self::Trace { .. } => "trace",
        }
    }

    /// The unit of what is typed, where it has one.
    #[must_use]
    pub fn unit(&self) -> Option<&str> {
        match self {
            Self::Reading { unit, .. } => Some(unit.symbol()),
            Self::Condition { unit, .. } => Some(unit),
            _ => None,
        }
    }

    /// Whether it cannot be answered without the server: its registers, its clock, everything kept.
    #[must_use]
    pub fn needs_server(&self) -> bool {
        matches!(self, Self::Tag { .. } | Self::File { .. } | Self::Review) || self.is_wait()
    }

    /// Whether the server keeps a time with it.
    #[must_use]
    pub fn is_wait(&self) -> bool {
        matches!(self, Self::WaitStart { .. } | Self::WaitOver { .. })
    }

    /// Whether it reads the instrument against the standard: what wears the standard, is corrected with a reason, and is
    /// held against limits.
    #[must_use]
    pub fn measures(&self) -> bool {
        matches!(self, Self::Reading { .. } | Self::Trace { .. })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_told_apart_and_know_themselves() {
        let confirm = |caution| Input::Confirm { sentences: vec![], caution, folds: false };
        let wait =
            Input::WaitStart { what: "soak".into(), minimum_seconds: 1, maximum_seconds: None };
        let over = Input::WaitOver { start: "wait-1".into(), what: "soak".into() };
        let tag = Input::Tag { expected: "S".into(), any_of_kind: None, place: 0 };
        let text = Input::Text { name: "the serial".into() };
        let count = Input::Count { name: "modules".into() };
        let file = Input::File { name: "the block".into() };
        let choice = Input::Choice { name: "the mode".into(), words: vec![] };
        let all = [
            &confirm(false),
            &confirm(true),
            &wait,
            &over,
            &tag,
            &text,
            &count,
            &file,
            &choice,
            &Input::Review,
        ];
        let mut kinds: Vec<&str> = all.iter().map(|input| input.kind()).collect();
        kinds.sort_unstable();
        kinds.dedup();
        assert_eq!(kinds.len(), all.len(), "{kinds:?}");
        let of_server: Vec<&str> =
            all.iter().filter(|one| one.needs_server()).map(|one| one.kind()).collect();
        assert_eq!(of_server, ["wait-start", "wait-over", "tag", "file", "review"]);
        assert!(all.iter().all(|one| !one.measures() && one.unit().is_none()));
    }
}
