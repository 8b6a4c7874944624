//! The state of a run: what has been kept, what is next, and what may be kept.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Input, Step, StepKey};
use crate::quantity::{TypedDecimal, TypedDecimalError, Unit, show_decimal};

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
    /// A reading of the display.
    Reading {
        /// Indication, digits as typed.
        indication: Decimal,
        /// Small added weights ΔL, in the same unit.
        added: Option<Decimal>,
        /// True when the guard asked and the technician confirmed.
        far_confirmed: bool,
    },
}

/// One kept entry that still stands (not corrected, not voided by a redo).
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Step.
    pub step: StepKey,
    /// Which of the step's entries, from 1.
    pub repeat: u32,
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
                EntryValue::Confirmed | EntryValue::Tag { .. } => None,
            })
            .collect()
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

/// What a technician sends for a step, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Proposal {
    /// Tag or number, as typed.
    pub typed: String,
    /// Small added weights, as typed.
    pub added: String,
    /// How many sentences were ticked.
    pub ticked: usize,
    /// True when the guard's question was answered with yes.
    pub confirm_far: bool,
}

/// Why an entry is not kept. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EntryError {
    /// The number cannot be read.
    #[error(transparent)]
    Number(#[from] TypedDecimalError),
    /// The added weights cannot be read.
    #[error("Added weights: {0}")]
    Added(TypedDecimalError),
    /// Added weights are negative or not less than a full step beyond reason.
    #[error(
        "The added weights are between 0 and one step of the display ({step} {unit}). Type their sum."
    )]
    AddedOutOfRange {
        /// One step.
        step: String,
        /// Unit.
        unit: Unit,
    },
    /// A separator that could mean thousands.
    #[error(
        "“{typed}” can be read as {as_decimal} {unit} or as {as_thousands} {unit}. Type it without thousands marks: {as_thousands}."
    )]
    Thousands {
        /// As typed.
        typed: String,
        /// Read with a decimal mark.
        as_decimal: String,
        /// Read with a thousands mark.
        as_thousands: String,
        /// Unit of the display.
        unit: Unit,
    },
    /// The display cannot show this value.
    #[error(
        "This display moves in steps of {step} {unit}, so it cannot show {shown}. Read it again."
    )]
    NotAStep {
        /// One step.
        step: String,
        /// What was typed.
        shown: String,
        /// Unit.
        unit: Unit,
    },
    /// Far from the load: the guard asks before it records.
    #[error("{question} {shown} {unit} was typed; about {expected} {unit} is expected here.")]
    Far {
        /// The question.
        question: String,
        /// What was typed.
        shown: String,
        /// What is expected.
        expected: String,
        /// Unit.
        unit: Unit,
    },
    /// Another standard than the plan wants.
    #[error(
        "“{typed}” is not the standard of this plan. Take {expected}, and scan or type the tag on it."
    )]
    WrongStandard {
        /// As typed.
        typed: String,
        /// Tag wanted.
        expected: String,
    },
    /// No tag typed.
    #[error("Scan or type the tag that is on the standard in your hand: {expected} is wanted.")]
    NoTag {
        /// Tag wanted.
        expected: String,
    },
    /// Not every sentence is ticked.
    #[error("Tick each line when it is done: {ticked} of {required} are.")]
    NotAllTicked {
        /// Ticked.
        ticked: usize,
        /// Needed.
        required: usize,
    },
}

impl EntryError {
    /// True when the technician may confirm and keep it all the same.
    #[must_use]
    pub fn may_confirm(&self) -> bool {
        matches!(self, Self::Far { .. })
    }

    /// True when the words belong at the field of the added weights.
    #[must_use]
    pub fn is_about_added(&self) -> bool {
        matches!(self, Self::Added(_) | Self::AddedOutOfRange { .. })
    }
}

/// Turns what was typed into an entry, or says why it is not kept.
///
/// # Errors
/// [`EntryError`], each with words for the field.
pub fn accept(step: &Step, proposal: &Proposal) -> Result<EntryValue, EntryError> {
    match &step.input {
        Input::Confirm { sentences, .. } => {
            if proposal.ticked < sentences.len() {
                return Err(EntryError::NotAllTicked {
                    ticked: proposal.ticked,
                    required: sentences.len(),
                });
            }
            Ok(EntryValue::Confirmed)
        }
        Input::Tag { expected } => accept_tag(expected, &proposal.typed),
        Input::Reading { unit, resolution, expected, guard, guard_question, with_added } => {
            let typed = TypedDecimal::parse(&proposal.typed)?;
            let near = |value: Decimal| (value - *expected).abs() <= *guard;
            let decimals = crate::quantity::decimals_of(*resolution);
            if let Some(thousands) = typed.if_thousands
                && !near(typed.value)
                && near(thousands)
            {
                return Err(EntryError::Thousands {
                    as_decimal: show_decimal(typed.value, typed.value.scale()),
                    as_thousands: show_decimal(thousands, 0),
                    typed: typed.text,
                    unit: *unit,
                });
            }
            if !(typed.value % *resolution).is_zero() {
                return Err(EntryError::NotAStep {
                    step: show_decimal(*resolution, decimals),
                    shown: show_decimal(typed.value, typed.value.scale()),
                    unit: *unit,
                });
            }
            let far = !near(typed.value);
            if far && !proposal.confirm_far {
                return Err(EntryError::Far {
                    question: guard_question.clone(),
                    shown: show_decimal(typed.value, typed.value.scale()),
                    expected: show_decimal(*expected, decimals),
                    unit: *unit,
                });
            }
            let added = if *with_added {
                Some(accept_added(&proposal.added, *resolution, *unit)?)
            } else {
                None
            };
            Ok(EntryValue::Reading { indication: typed.value, added, far_confirmed: far })
        }
    }
}

fn accept_tag(expected: &str, typed: &str) -> Result<EntryValue, EntryError> {
    let typed = typed.trim();
    if typed.is_empty() {
        return Err(EntryError::NoTag { expected: expected.to_owned() });
    }
    // Scanners and gloves differ in case and hyphens; the tag itself does not.
    let plain = |text: &str| -> String {
        text.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_uppercase).collect()
    };
    if plain(typed) != plain(expected) {
        return Err(EntryError::WrongStandard {
            typed: typed.to_owned(),
            expected: expected.to_owned(),
        });
    }
    Ok(EntryValue::Tag { tag: expected.to_owned() })
}

fn accept_added(typed: &str, resolution: Decimal, unit: Unit) -> Result<Decimal, EntryError> {
    let added = TypedDecimal::parse(typed).map_err(EntryError::Added)?.value;
    if added < Decimal::ZERO || added > resolution {
        return Err(EntryError::AddedOutOfRange {
            step: show_decimal(resolution, crate::quantity::decimals_of(resolution)),
            unit,
        });
    }
    Ok(added)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn reading_step(with_added: bool) -> Step {
        Step {
            key: "load-1".into(),
            title: "20 kg".into(),
            instruction: String::new(),
            detail: String::new(),
            input: Input::Reading {
                unit: Unit::Kilogram,
                resolution: "0.001".parse().unwrap(),
                expected: "20.000".parse().unwrap(),
                guard: "0.2".parse().unwrap(),
                guard_question: "Is the 20 kg on the pan?".into(),
                with_added,
            },
            repeats: 1,
            reference_value: None,
            tolerance: None,
            charted_as: None,
            scene: None,
            voids: vec![],
        }
    }

    fn typed(text: &str) -> Proposal {
        Proposal { typed: text.into(), ..Proposal::default() }
    }

    #[rstest]
    #[case("20.012")]
    #[case("20,012")]
    #[case("20.0120")]
    #[case("19.8")]
    fn near_readings_are_kept(#[case] text: &str) {
        assert!(accept(&reading_step(false), &typed(text)).is_ok());
    }

    #[test]
    fn a_far_reading_is_asked_about_and_kept_only_when_confirmed() {
        let step = reading_step(false);
        let error = accept(&step, &typed("2.001")).unwrap_err();
        assert!(error.may_confirm());
        assert!(error.to_string().starts_with("Is the 20 kg on the pan?"), "{error}");
        let confirmed = Proposal { confirm_far: true, ..typed("2.001") };
        assert!(matches!(
            accept(&step, &confirmed),
            Ok(EntryValue::Reading { far_confirmed: true, .. })
        ));
    }

    #[test]
    fn thousands_are_told_apart_where_the_load_decides() {
        let mut step = reading_step(false);
        if let Input::Reading { unit, resolution, expected, guard, .. } = &mut step.input {
            *unit = Unit::Gram;
            *resolution = Decimal::ONE;
            *expected = Decimal::from(20_000);
            *guard = Decimal::from(200);
        }
        let error = accept(&step, &typed("20,012")).unwrap_err();
        assert!(matches!(error, EntryError::Thousands { .. }), "{error}");
        assert!(error.to_string().contains("20012"), "{error}");
        assert!(!error.may_confirm());
        assert!(accept(&step, &typed("20012")).is_ok());
    }

    #[test]
    fn a_value_between_steps_is_refused() {
        assert!(matches!(
            accept(&reading_step(false), &typed("20.0125")),
            Err(EntryError::NotAStep { .. })
        ));
    }

    #[rstest]
    #[case("", true)]
    #[case("0.002", true)]
    #[case("-0.0001", true)]
    #[case("0.0004", false)]
    fn added_weights_lie_within_a_step(#[case] added: &str, #[case] refused: bool) {
        let proposal = Proposal { added: added.into(), ..typed("20.000") };
        let result = accept(&reading_step(true), &proposal);
        assert_eq!(result.is_err(), refused);
        assert!(result.err().is_none_or(|error| error.is_about_added()));
    }

    #[rstest]
    #[case("M1-B", true)]
    #[case(" m1b ", true)]
    #[case("M1-A", false)]
    #[case("", false)]
    fn tags_forgive_case_and_hyphen_only(#[case] text: &str, #[case] fits: bool) {
        assert_eq!(accept_tag("M1-B", text).is_ok(), fits);
    }
}
