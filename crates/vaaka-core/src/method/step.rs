//! Steps: one thing to do, with one kind of input and a drawing.

use std::fmt;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::Scene;
use crate::quantity::Unit;

/// Stable key of a step within a plan version.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct StepKey(pub String);

impl fmt::Display for StepKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl From<&str> for StepKey {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
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
    },
    /// The tag on the standard in hand is scanned or typed.
    Tag {
        /// The tag that the plan wants.
        expected: String,
    },
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
        /// Whether small added weights ΔL are typed beside it.
        with_added: bool,
    },
}

/// One step of the way.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Stable key.
    pub key: StepKey,
    /// Short name, for the way.
    pub title: String,
    /// What to do, one sentence.
    pub instruction: String,
    /// How, in a sentence or two.
    pub detail: String,
    /// What is asked for.
    pub input: Input,
    /// How many entries it needs.
    pub repeats: u32,
    /// Certified value of what is put on, in the unit of the display, where something is.
    pub reference_value: Option<Decimal>,
    /// Limit of the error at this point, ±, in the unit of the display.
    pub tolerance: Option<Decimal>,
    /// Key of the charted characteristic that this step's readings make, for the beam under it.
    pub charted_as: Option<String>,
    /// Where to put what.
    pub scene: Option<Scene>,
    /// Steps that must be redone when this one is.
    pub voids: Vec<StepKey>,
}

impl Step {
    /// Error of a single reading as shown, before the zero is taken off: I − L, or with added
    /// weights I + d/2 − ΔL − L. `None` where nothing is put on or no reading is asked for.
    #[must_use]
    pub fn error_as_shown(&self, indication: Decimal, added: Option<Decimal>) -> Option<Decimal> {
        let Input::Reading { resolution, .. } = &self.input else {
            return None;
        };
        let rounding = added.map_or(Decimal::ZERO, |added| *resolution / Decimal::TWO - added);
        Some(indication + rounding - self.reference_value?)
    }
}
