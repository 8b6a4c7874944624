//! The state of a run: what has been kept, and what is next.

use std::sync::Arc;

use jiff::Timestamp;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::{MethodError, Step, StepKey};
use crate::trace::Trace;

/// What one entry holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum EntryValue {
    /// The sentences were confirmed.
    Confirmed,
    /// The tag of the standard in hand.
    Tag {
        /// As read from it.
        tag: String,
    },
    /// What the instrument shows for a setting; it was the one wanted.
    Setting {
        /// As read.
        shown: String,
    },
    /// One of the words that were offered.
    Choice {
        /// The word.
        word: String,
    },
    /// A line of text.
    Text {
        /// As typed, without spaces around it.
        text: String,
    },
    /// A whole number.
    Count {
        /// The number.
        count: u32,
    },
    /// A condition, within its limits.
    Condition {
        /// The value, digits as typed.
        value: Decimal,
    },
    /// A wait began.
    WaitStarted {
        /// Not over before this.
        ready_at: Timestamp,
        /// What depends on it must be kept by then.
        latest_at: Option<Timestamp>,
    },
    /// A wait was long enough.
    WaitOver,
    /// A reading of the display.
    Reading {
        /// Indication, digits as typed.
        indication: Decimal,
        /// Small added weights ΔL, in the same unit.
        added: Option<Decimal>,
        /// True when the guard asked and the technician confirmed.
        far_confirmed: bool,
    },
    /// A trace. Its numbers stand for themselves by their digest: records, fingerprints and the audit trail hold that alone.
    Trace {
        /// Digest of its numbers ([`Trace::digest`]).
        digest: String,
        /// How many points it has.
        points: u32,
        /// True when the guard asked and the technician confirmed.
        far_confirmed: bool,
        /// The numbers.
        #[serde(skip)]
        trace: Arc<Trace>,
    },
}

impl EntryValue {
    /// Whether it reads the instrument against the standard: as [`super::Input::measures`] says of what asked for it.
    #[must_use]
    pub fn measures(&self) -> bool {
        matches!(self, Self::Reading { .. } | Self::Trace { .. })
    }

    /// Whether the guard asked about it and the technician confirmed.
    #[must_use]
    pub fn far_confirmed(&self) -> bool {
        matches!(
            self,
            Self::Reading { far_confirmed: true, .. } | Self::Trace { far_confirmed: true, .. }
        )
    }

    /// A trace as an entry.
    #[must_use]
    pub fn of_trace(trace: Trace, far_confirmed: bool) -> Self {
        Self::Trace {
            digest: trace.digest(),
            points: u32::try_from(trace.len()).unwrap_or(u32::MAX),
            far_confirmed,
            trace: Arc::new(trace),
        }
    }
}

/// One kept entry that still stands (not corrected, not voided by a redo).
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Step.
    pub step: StepKey,
    /// Which of the step's entries, from 1.
    pub repeat: u32,
    /// When it was read.
    pub at: Timestamp,
    /// What was kept.
    pub value: EntryValue,
}

/// The entries of a run that stand, in the order of the way.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RunState {
    /// The entries.
    pub entries: Vec<Entry>,
}

impl RunState {
    /// Entries of one step.
    pub fn of_step<'a>(&'a self, step: &'a StepKey) -> impl Iterator<Item = &'a Entry> {
        self.entries.iter().filter(move |entry| entry.step == *step)
    }

    /// Readings of one step: indication and added weights.
    #[must_use]
    pub fn readings(&self, step: &StepKey) -> Vec<(Decimal, Option<Decimal>)> {
        self.of_step(step)
            .filter_map(|entry| match &entry.value {
                EntryValue::Reading { indication, added, .. } => Some((*indication, *added)),
                _ => None,
            })
            .collect()
    }

    /// Readings of one step, all that it needs.
    ///
    /// # Errors
    /// [`MethodError::Incomplete`] when there are fewer.
    pub fn all_readings(
        &self,
        step: StepKey,
        required: u32,
    ) -> Result<Vec<(Decimal, Option<Decimal>)>, MethodError> {
        let readings = self.readings(&step);
        if readings.len() < required as usize {
            return Err(MethodError::Incomplete { step, required, got: readings.len() });
        }
        Ok(readings)
    }

    /// Traces of one step.
    #[must_use]
    pub fn traces<'a>(&'a self, step: &'a StepKey) -> Vec<&'a Arc<Trace>> {
        self.of_step(step)
            .filter_map(|entry| match &entry.value {
                EntryValue::Trace { trace, .. } => Some(trace),
                _ => None,
            })
            .collect()
    }

    /// The value of a condition that was read.
    #[must_use]
    pub fn condition(&self, step: &StepKey) -> Option<Decimal> {
        self.of_step(step).find_map(|entry| match entry.value {
            EntryValue::Condition { value } => Some(value),
            _ => None,
        })
    }

    /// The wait that a step began, if it stands: when it is ready and when it is too late.
    #[must_use]
    pub fn wait(&self, start: &StepKey) -> Option<(Timestamp, Option<Timestamp>)> {
        self.of_step(start).find_map(|entry| match entry.value {
            EntryValue::WaitStarted { ready_at, latest_at } => Some((ready_at, latest_at)),
            _ => None,
        })
    }

    /// The steps that stand on one screen with this one, itself among them; none where it stands alone.
    #[must_use]
    pub fn together<'a>(way: &'a [Step], step: &StepKey) -> &'a [Step] {
        let Some(place) = way.iter().position(|one| one.key == *step && one.together) else {
            return &[];
        };
        let alone = |one: &Step| !one.together;
        let from = way[..place].iter().rposition(alone).map_or(0, |before| before + 1);
        let to = way[place..].iter().position(alone).map_or(way.len(), |after| place + after);
        &way[from..to]
    }

    /// The first step of the way that still needs entries, and which repeat is next.
    #[must_use]
    pub fn next<'a>(&self, way: &'a [Step]) -> Option<(&'a Step, u32)> {
        way.iter().find_map(|step| {
            let have = u32::try_from(self.of_step(&step.key).count()).unwrap_or(u32::MAX);
            (have < step.repeats).then_some((step, have + 1))
        })
    }
}
