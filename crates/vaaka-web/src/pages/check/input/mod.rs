//! How each kind of input looks: on the screen, on paper, in the preview, and what the browser asks by itself. One file a
//! kind; a new kind is one more of them, its part of `step.html`, and a line in [`shown`].

mod choice;
mod condition;
mod confirm;
mod count;
mod file;
#[cfg(test)]
mod local_test;
mod reading;
mod review;
mod setting;
mod tag;
mod text;
mod trace;
mod wait;

pub use trace::MOST_TRACE_BYTES;
use vaaka_core::method::{Input, Step};

use crate::fields::{Field, Look};

/// What stands for a step on a printed sheet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnSheet {
    /// It happens on the screen only.
    NotThere,
    /// Something to do, and nothing to write.
    Nothing,
    /// A line for a value.
    Value,
    /// A line for a time.
    Time,
}

/// A step as its kind shows it.
#[derive(Debug)]
pub struct Shown {
    /// Sentences to tick off.
    pub sentences: Vec<String>,
    /// Words to choose from.
    pub choices: Vec<String>,
    /// What is typed beside it, as its label says.
    pub beside: Option<String>,
    /// What it asks for, in words.
    pub asks: String,
    /// What stands for it on a printed sheet.
    pub on_sheet: OnSheet,
    /// The fields by which a sheet is entered; what is only confirmed stands apart there.
    pub fields: Vec<Field>,
    /// What the browser can ask by itself.
    pub rules: LocalRules,
}

impl Shown {
    /// Something that asks for nothing but what its words say.
    fn plain(asks: impl Into<String>, on_sheet: OnSheet) -> Self {
        Self {
            sentences: vec![],
            choices: vec![],
            beside: None,
            asks: asks.into(),
            on_sheet,
            fields: vec![],
            rules: LocalRules::default(),
        }
    }
}

/// What the browser can ask by itself about what is typed, while the network is gone; empty where a step has none.
/// The server rules on what arrives.
#[derive(Debug, Default)]
pub struct LocalRules {
    /// The kind whose questions are asked, or nothing.
    pub kind: &'static str,
    /// What a reading should be about; what a setting should be.
    pub wanted: String,
    /// Other ways to write it, or the words that are offered with theirs, a line each.
    pub also: String,
    /// Within which distance a reading is not asked about.
    pub guard: String,
    /// The question about a far reading; what a condition advises.
    pub words: String,
    /// Steps in which the display moves; unit of a condition.
    pub step: String,
    /// Name of what is read; unit of a reading.
    pub name: String,
    /// Lower limit of a condition.
    pub lower: String,
    /// Upper limit of it.
    pub upper: String,
    /// What is asked of the number beside a reading.
    pub beside: String,
    /// Whether a setting that was found wrong is a lead's to set right.
    pub by_lead: bool,
}

/// Name of the field of an entry on the form of a sheet.
pub fn name_of(step: &Step, repeat: u32) -> String {
    format!("e.{}.{repeat}", step.key)
}

/// The one field of an entry that is typed once.
fn field(step: &Step, label: String, look: Look) -> Vec<Field> {
    vec![Field::new(name_of(step, 1), label, look)]
}

/// A step as its kind shows it.
pub fn shown(step: &Step) -> Shown {
    match &step.input {
        Input::Confirm { sentences, .. } => confirm::shown(step, sentences),
        Input::Tag { expected, .. } => tag::shown(step, expected),
        Input::Setting { .. } => setting::shown(step),
        Input::Choice { name, words } => choice::shown(step, name, words),
        Input::Text { name } => text::shown(step, name),
        Input::File { name } => file::shown(step, name),
        Input::Count { name } => count::shown(step, name),
        Input::Condition { .. } => condition::shown(step),
        Input::WaitStart { what, minimum_seconds, .. } => wait::start(step, what, *minimum_seconds),
        Input::WaitOver { what, .. } => wait::over(step, what),
        Input::Review => review::shown(),
        Input::Reading { .. } => reading::shown(step),
        Input::Trace { .. } => trace::shown(step),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::method::{Beside, ChoiceWord};

    fn step(input: Input) -> Step {
        Step::plain("it", "The thing".into(), "Do it".into(), input)
    }

    fn every_kind() -> Vec<Step> {
        let word = |word: &str, also: &[&str]| ChoiceWord {
            word: word.into(),
            also: also.iter().map(|one| (*one).to_owned()).collect(),
        };
        [
            Input::Confirm { sentences: vec!["Feet clear".into()], caution: true, folds: false },
            Input::Tag { expected: "S-1".into(), any_of_kind: None, place: 0 },
            Input::Setting {
                name: "the unit".into(),
                expected: "°C".into(),
                also: vec!["C".into()],
                by_lead: true,
            },
            Input::Choice {
                name: "the mode".into(),
                words: vec![word("slow", &["S"]), word("fast", &[])],
            },
            Input::Text { name: "the serial of the probe".into() },
            Input::Count { name: "the number of modules".into() },
            Input::File { name: "the face of the block".into() },
            Input::Condition {
                name: "Room".into(),
                unit: "°C".into(),
                lower: Some(18.into()),
                upper: Some(25.into()),
                advice: "Wait.".into(),
            },
            Input::WaitStart { what: "Soak".into(), minimum_seconds: 90, maximum_seconds: None },
            Input::WaitOver { start: "w".into(), what: "Soak".into() },
            Input::Review,
            Input::Reading {
                unit: vaaka_core::quantity::Unit::Bar,
                resolution: rust_decimal::Decimal::new(1, 1),
                expected: 10.into(),
                guard: 2.into(),
                guard_question: "Is it at 10 bar?".into(),
                beside: Some(Beside::Weights),
            },
            Input::Trace {
                name: "the spectrum".into(),
                wanted: vaaka_core::trace::TraceWanted {
                    axis: "wavelength".into(),
                    axis_unit: "nm".into(),
                    channels: vec![vaaka_core::trace::ChannelWanted {
                        name: "absorbance".into(),
                        unit: String::new(),
                        complex: false,
                    }],
                    covers: (400.0, 500.0),
                    fewest: 5,
                    largest_step: None,
                    impedance: None,
                },
                peaks: vec![],
                guard_question: "Is it in the beam?".into(),
            },
        ]
        .map(step)
        .into()
    }

    /// Each kind says what it asks for; what is written on paper has a field to enter it by, and what is not has none.
    #[test]
    fn every_kind_has_words_and_its_fields() {
        for step in every_kind() {
            let (kind, shown) = (step.input.kind(), shown(&step));
            assert!(shown.asks.len() > 5, "{kind}: {}", shown.asks);
            let names: Vec<&str> = shown.fields.iter().map(|field| field.name.as_str()).collect();
            match shown.on_sheet {
                OnSheet::Value | OnSheet::Time => {
                    assert_eq!(names.first(), Some(&"e.it.1"), "{kind}");
                }
                OnSheet::Nothing => assert_eq!(names.len(), 1, "{kind}"),
                // A wait's end happens on the screen, and its time is on the sheet of a check that had one.
                OnSheet::NotThere => assert!(names.len() < 2, "{kind}"),
            }
            assert!(shown.fields.iter().all(|field| !field.label.is_empty()), "{kind}");
            assert_eq!(shown.beside.is_some(), names.contains(&"e.it.1.added"), "{kind}");
            // What the browser asks while the network is gone bears the name of the kind.
            let local =
                ["setting", "choice", "text", "file", "count", "condition", "reading", "trace"];
            let expected = if local.contains(&kind) { kind } else { "" };
            assert_eq!(shown.rules.kind, expected);
        }
    }

    #[test]
    fn words_to_choose_from_come_with_their_other_ways() {
        let found = every_kind().iter().map(shown).find(|shown| !shown.choices.is_empty()).unwrap();
        assert_eq!(found.choices, ["slow", "fast"]);
        assert_eq!(found.rules.also, "slow\nS\nfast");
        let setting = every_kind().iter().map(shown).find(|shown| shown.rules.by_lead).unwrap();
        assert_eq!((setting.rules.wanted.as_str(), setting.rules.also.as_str()), ("°C", "C"));
        assert!(setting.asks.contains("must be °C (or C)"), "{}", setting.asks);
    }
}
