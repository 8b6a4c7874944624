//! What was typed for a step: whether it is kept, and in which words it is refused.

use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use thiserror::Error;

use super::{Beside, ChoiceWord, EntryValue, Input, MOST_TEXT, RunState, Step};
use crate::quantity::{TypedDecimal, TypedDecimalError, Unit, show_decimal};
use crate::standard::TagRefusal;
use crate::trace::{Table, Trace, TraceFault, find_peak};

/// What a technician sends for a step, as typed.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Proposal {
    /// Tag or number, as typed.
    pub typed: String,
    /// Small added weights, as typed.
    pub added: String,
    /// How many sentences were ticked.
    pub ticked: usize,
    /// The value about which the guard's question was answered with yes, as it was typed then. The answer holds for that
    /// value alone: what is typed afterwards is asked about anew.
    pub confirm_far: Option<String>,
    /// What the setting was found at before, where that was not the one wanted.
    pub found: Option<String>,
    /// Whether a lead has the check in hand.
    pub by_lead: bool,
    /// What the register says of the tag that was typed: the standard taken, or why not. Without
    /// a register the tag is compared with the plan's.
    pub standard: Option<Result<String, TagRefusal>>,
    /// The columns of numbers that came with it, or why the file holds none.
    pub table: Option<Result<Table, String>>,
}

/// "40 s", "12 min", "1 h 5 min": a time to wait, rounded up so that nobody comes too early.
#[must_use]
pub fn duration_words(duration: SignedDuration) -> String {
    let seconds = duration.as_secs() + i64::from(duration.subsec_nanos() > 0);
    match seconds {
        ..=90 => format!("{} s", seconds.max(0)),
        91..=5_400 => format!("{} min", (seconds + 59) / 60),
        _ => {
            let minutes = (seconds + 59) / 60;
            match minutes % 60 {
                0 => format!("{} h", minutes / 60),
                rest => format!("{} h {rest} min", minutes / 60),
            }
        }
    }
}

/// Why an entry is not kept. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EntryError {
    /// The number cannot be read.
    #[error(transparent)]
    Number(#[from] TypedDecimalError),
    /// The number beside the reading cannot be read.
    #[error("{name}: {cause}")]
    Beside {
        /// What it is called.
        name: String,
        /// What is wrong with it.
        cause: TypedDecimalError,
    },
    /// The number beside the reading cannot be true.
    #[error("{name}: it is {wanted}, and {shown} was typed. Read it again.")]
    BesideOutside {
        /// What it is called.
        name: String,
        /// What was typed.
        shown: String,
        /// What it can be.
        wanted: String,
    },
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
    #[error(
        "{question} {shown} {unit} was typed; about {expected} {unit} is expected here. What was typed first stays on record."
    )]
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
    /// The register refuses the standard.
    #[error(transparent)]
    Standard(#[from] TagRefusal),
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
    /// The instrument shows another setting: a right number from a wrong set-up means nothing.
    #[error(
        "The check stops here: {name} must be {expected}, and “{typed}” was typed. Set it right and look again; readings of a wrong set-up mean nothing. If it cannot be set, void the check."
    )]
    WrongSetting {
        /// The setting.
        name: String,
        /// As typed.
        typed: String,
        /// Wanted.
        expected: String,
    },
    /// Found wrong, and set right by somebody who may not decide that.
    #[error(
        "It was found at “{found}”, and under this plan a lead decides about setting {name} right. Tell your lead: they take the check over here and type what it shows then."
    )]
    ForALead {
        /// The setting.
        name: String,
        /// What it was found at.
        found: String,
    },
    /// None of the words that are offered.
    #[error(
        "“{typed}” is none of these. Choose one of: {offered}. Where it is something else, void the check and tell your lead."
    )]
    NotOffered {
        /// As typed.
        typed: String,
        /// The words.
        offered: String,
    },
    /// Nothing chosen.
    #[error("Choose what {name} is: {offered}.")]
    NothingChosen {
        /// What it is called.
        name: String,
        /// The words.
        offered: String,
    },
    /// No file was chosen.
    #[error("Choose the photograph or document of {name}: a picture (PNG, JPEG, WebP) or a PDF.")]
    NoFile {
        /// What it is of.
        name: String,
    },
    /// Nothing typed for a text.
    #[error("Read {name} and type it as it stands there.")]
    NoText {
        /// What it is called.
        name: String,
    },
    /// More than anybody reads.
    #[error("This has {long} characters; {most} are the most.")]
    TextTooLong {
        /// What it has.
        long: usize,
        /// What it may have.
        most: usize,
    },
    /// Marks that no keyboard types.
    #[error("There is something in it that no keyboard types. Type it again by hand.")]
    OddText,
    /// No whole number.
    #[error("Type {name} as a whole number from 0 to 999999, for example 12.")]
    NotACount {
        /// What it is called.
        name: String,
    },
    /// Nothing typed for a setting.
    #[error("Read {name} on the instrument and type what it shows.")]
    NoSetting {
        /// The setting.
        name: String,
    },
    /// A condition does not hold.
    #[error("{name} is {shown} {unit}; {wanted} is needed. {advice}")]
    ConditionOutside {
        /// The condition.
        name: String,
        /// As typed.
        shown: String,
        /// Its unit.
        unit: String,
        /// "18 to 24 °C", "at most 60 %".
        wanted: String,
        /// What to do.
        advice: String,
    },
    /// Neither a file nor anything pasted.
    #[error("Choose the file with {name}, or paste its numbers: {words}.")]
    NoTrace {
        /// What it is called.
        name: String,
        /// Its columns in words.
        words: String,
    },
    /// The file holds no numbers.
    #[error("{words}")]
    File {
        /// Why.
        words: String,
    },
    /// The numbers are not what is asked for.
    #[error(transparent)]
    Trace(#[from] TraceFault),
    /// A peak is missing: the guard asks before it records.
    #[error(
        "{question} No peak is where {name} belongs: {why}. What was measured stays on record."
    )]
    NoPeak {
        /// The question.
        question: String,
        /// What the peak is called.
        name: String,
        /// Why there is none.
        why: String,
        /// Digest of the trace, which the answer repeats.
        digest: String,
    },
    /// What was measured is not like what should be there: the guard asks before it records.
    #[error("{question} {what}. What was measured stays on record.")]
    Unlike {
        /// The question.
        question: String,
        /// What it is like.
        what: String,
        /// Digest of the trace, which the answer repeats.
        digest: String,
    },
    /// Before the shortest wait is over.
    #[error("Too early by {left}: {what}. Nothing is kept; it is ready at the time shown.")]
    TooEarly {
        /// Time left.
        left: String,
        /// What is waited for.
        what: String,
    },
    /// After the longest time.
    #[error(
        "Too late by {past}: the longest time since the wait began is over. Start the wait again, with fresh material where it lies open; what was read since then does not count."
    )]
    TooLate {
        /// Time past.
        past: String,
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

/// What a refused entry says about the instrument or the standard: it is kept as an attempt, beside the record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AttemptKind {
    /// A reading far from what is expected, asked about.
    Far,
    /// A setting that was not the one wanted.
    Setting,
    /// A standard that is not the one wanted, or not fit.
    Tag,
    /// A condition that did not hold.
    Condition,
}

impl AttemptKind {
    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Far => "far",
            Self::Setting => "setting",
            Self::Tag => "tag",
            Self::Condition => "condition",
        }
    }
}

impl EntryError {
    /// What it says about instrument or standard; none for a slip of typing.
    #[must_use]
    pub fn attempt(&self) -> Option<AttemptKind> {
        match self {
            Self::Far { .. } | Self::NoPeak { .. } | Self::Unlike { .. } => Some(AttemptKind::Far),
            Self::WrongSetting { .. } | Self::NotOffered { .. } => Some(AttemptKind::Setting),
            Self::WrongStandard { .. } | Self::Standard(_) => Some(AttemptKind::Tag),
            Self::ConditionOutside { .. } => Some(AttemptKind::Condition),
            _ => None,
        }
    }

    /// True when the technician may confirm and keep it all the same.
    #[must_use]
    pub fn may_confirm(&self) -> bool {
        matches!(self, Self::Far { .. } | Self::NoPeak { .. } | Self::Unlike { .. })
    }

    /// What the answer to the guard's question repeats, where that is not what was typed.
    #[must_use]
    pub fn asked_about(&self) -> Option<&str> {
        match self {
            Self::NoPeak { digest, .. } | Self::Unlike { digest, .. } => Some(digest),
            _ => None,
        }
    }

    /// True when the words belong at the field beside the reading: added weights, or another number.
    #[must_use]
    pub fn is_about_added(&self) -> bool {
        matches!(
            self,
            Self::Added(_)
                | Self::AddedOutOfRange { .. }
                | Self::Beside { .. }
                | Self::BesideOutside { .. }
        )
    }

    /// True when a wait must be started again.
    #[must_use]
    pub fn is_too_late(&self) -> bool {
        matches!(self, Self::TooLate { .. })
    }
}

/// Turns what was typed into an entry, or says why it is not kept. The time is the server's:
/// `run` holds what was kept before, `now` is when this was read.
///
/// # Errors
/// [`EntryError`], each with words for the field.
pub fn accept(
    step: &Step,
    proposal: &Proposal,
    run: &RunState,
    now: Timestamp,
) -> Result<EntryValue, EntryError> {
    in_time(step, run, now)?;
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
        Input::Tag { expected, .. } => match &proposal.standard {
            Some(judged) => Ok(EntryValue::Tag { tag: judged.clone()? }),
            None => accept_tag(expected, &proposal.typed),
        },
        Input::Setting { .. } => accept_setting(&step.input, proposal),
        Input::Choice { name, words } => accept_choice(name, words, &proposal.typed),
        Input::Text { name } => accept_text(name, &proposal.typed),
        // What is typed is the name under which it is kept.
        Input::File { name } if proposal.typed.trim().is_empty() => {
            Err(EntryError::NoFile { name: name.clone() })
        }
        Input::File { name } => accept_text(name, &proposal.typed),
        Input::Count { name } => accept_count(name, &proposal.typed),
        Input::Condition { .. } => accept_condition(&step.input, &proposal.typed),
        Input::WaitStart { minimum_seconds, maximum_seconds, .. } => {
            let after = |seconds: u32| now + SignedDuration::from_secs(i64::from(seconds));
            Ok(EntryValue::WaitStarted {
                ready_at: after(*minimum_seconds),
                latest_at: maximum_seconds.map(after),
            })
        }
        Input::WaitOver { .. } => Ok(EntryValue::WaitOver),
        Input::Review => Ok(EntryValue::Confirmed),
        Input::Reading { .. } => accept_reading(&step.input, proposal),
        Input::Trace { .. } => accept_trace(&step.input, proposal),
    }
}

/// Waits and pauses: too early is refused, and so is too late.
fn in_time(step: &Step, run: &RunState, now: Timestamp) -> Result<(), EntryError> {
    let early = |ready: Timestamp, what: &str| EntryError::TooEarly {
        left: duration_words(ready.duration_since(now)),
        what: what.to_owned(),
    };
    if step.pause_seconds > 0
        && let Some(last) = run.of_step(&step.key).map(|entry| entry.at).max()
    {
        let ready = last + SignedDuration::from_secs(i64::from(step.pause_seconds));
        if now < ready {
            let pause = duration_words(SignedDuration::from_secs(i64::from(step.pause_seconds)));
            return Err(early(ready, &format!("{pause} lie between two readings")));
        }
    }
    let start = match &step.input {
        Input::WaitOver { start, .. } => Some(start),
        _ => step.within.as_ref(),
    };
    let Some((ready, latest)) = start.and_then(|start| run.wait(start)) else {
        return Ok(());
    };
    if let Input::WaitOver { what, .. } = &step.input
        && now < ready
    {
        return Err(early(ready, &what.to_lowercase()));
    }
    match latest {
        Some(latest) if now > latest => {
            Err(EntryError::TooLate { past: duration_words(now.duration_since(latest)) })
        }
        _ => Ok(()),
    }
}

/// Whether two ways to write a setting mean the same: "2,50" is 2.5; words differ in case and spaces only.
fn same_words(one: &str, other: &str) -> bool {
    let number = |text: &str| TypedDecimal::parse(text).ok().map(|typed| typed.value);
    let plain = |text: &str| text.split_whitespace().collect::<String>().to_lowercase();
    match (number(one), number(other)) {
        (Some(one), Some(other)) => one == other,
        _ => plain(one) == plain(other),
    }
}

fn accept_setting(input: &Input, proposal: &Proposal) -> Result<EntryValue, EntryError> {
    let Input::Setting { name, expected, also, by_lead } = input else {
        return Ok(EntryValue::Confirmed);
    };
    let typed = proposal.typed.trim();
    if typed.is_empty() {
        return Err(EntryError::NoSetting { name: name.clone() });
    }
    if !std::iter::once(expected).chain(also).any(|word| same_words(typed, word)) {
        return Err(EntryError::WrongSetting {
            name: name.clone(),
            typed: typed.to_owned(),
            expected: expected.clone(),
        });
    }
    match &proposal.found {
        Some(found) if *by_lead && !proposal.by_lead => {
            Err(EntryError::ForALead { name: name.clone(), found: found.clone() })
        }
        _ => Ok(EntryValue::Setting { shown: typed.to_owned() }),
    }
}

/// A trace: what is asked for, with its peaks. Where one is missing, the standard may not be in the beam, or another one
/// is; the answer holds for these very numbers.
fn accept_trace(input: &Input, proposal: &Proposal) -> Result<EntryValue, EntryError> {
    let Input::Trace { name, wanted, peaks, guard_question } = input else {
        return Ok(EntryValue::Confirmed);
    };
    let table = match &proposal.table {
        None => return Err(EntryError::NoTrace { name: name.clone(), words: wanted.words() }),
        Some(Err(words)) => return Err(EntryError::File { words: words.clone() }),
        Some(Ok(table)) => table,
    };
    let trace = Trace::take(wanted, table)?;
    let missing = peaks.iter().find_map(|peak| {
        let values = &trace.channels.get(peak.channel)?.re;
        let found = find_peak((&trace.axis, values), peak.search);
        found.err().map(|why| (peak, why))
    });
    let Some((peak, why)) = missing else { return Ok(EntryValue::of_trace(trace, false)) };
    let digest = trace.digest();
    if proposal.confirm_far.as_deref() == Some(digest.as_str()) {
        return Ok(EntryValue::of_trace(trace, true));
    }
    Err(EntryError::NoPeak {
        question: guard_question.clone(),
        name: peak.name.clone(),
        why: why.to_string(),
        digest,
    })
}

/// A trace about which the method has a doubt ([`super::Method::doubt`]): kept when the guard's question was answered with yes.
///
/// # Errors
/// [`EntryError::Unlike`].
pub fn guarded(
    input: &Input,
    proposal: &Proposal,
    value: EntryValue,
    doubt: Option<String>,
) -> Result<EntryValue, EntryError> {
    match (input, value, doubt) {
        (
            Input::Trace { guard_question, .. },
            EntryValue::Trace { digest, points, trace, far_confirmed },
            Some(what),
        ) => {
            let answered = far_confirmed || proposal.confirm_far.as_ref() == Some(&digest);
            if answered {
                return Ok(EntryValue::Trace { digest, points, trace, far_confirmed: true });
            }
            Err(EntryError::Unlike { question: guard_question.clone(), what, digest })
        }
        (_, value, _) => Ok(value),
    }
}

fn accept_choice(name: &str, words: &[ChoiceWord], typed: &str) -> Result<EntryValue, EntryError> {
    let typed = typed.trim();
    let offered = || words.iter().map(|one| one.word.as_str()).collect::<Vec<_>>().join(", ");
    if typed.is_empty() {
        return Err(EntryError::NothingChosen { name: name.to_owned(), offered: offered() });
    }
    // A word itself goes before another way to write one.
    let by_word = words.iter().find(|one| same_words(typed, &one.word));
    let by_other = || words.iter().find(|one| one.also.iter().any(|also| same_words(typed, also)));
    match by_word.or_else(by_other) {
        Some(one) => Ok(EntryValue::Choice { word: one.word.clone() }),
        None => Err(EntryError::NotOffered { typed: typed.to_owned(), offered: offered() }),
    }
}

fn accept_text(name: &str, typed: &str) -> Result<EntryValue, EntryError> {
    let text = typed.trim();
    let long = text.chars().count();
    if text.is_empty() {
        Err(EntryError::NoText { name: name.to_owned() })
    } else if long > MOST_TEXT {
        Err(EntryError::TextTooLong { long, most: MOST_TEXT })
    } else if text.chars().any(char::is_control) {
        Err(EntryError::OddText)
    } else {
        Ok(EntryValue::Text { text: text.to_owned() })
    }
}

fn accept_count(name: &str, typed: &str) -> Result<EntryValue, EntryError> {
    let text = typed.trim();
    let digits = !text.is_empty() && text.len() <= 6 && text.bytes().all(|b| b.is_ascii_digit());
    match text.parse() {
        Ok(count) if digits => Ok(EntryValue::Count { count }),
        _ => Err(EntryError::NotACount { name: name.to_owned() }),
    }
}

/// "18 to 24 °C", "at most 60 %": the limits of a condition in words.
#[must_use]
pub fn condition_words(lower: Option<Decimal>, upper: Option<Decimal>, unit: &str) -> String {
    let show = |value: Decimal| show_decimal(value, value.scale());
    match (lower, upper) {
        (Some(lower), Some(upper)) => format!("{} to {} {unit}", show(lower), show(upper)),
        (Some(lower), None) => format!("at least {} {unit}", show(lower)),
        (None, Some(upper)) => format!("at most {} {unit}", show(upper)),
        (None, None) => "any value".to_owned(),
    }
}

fn accept_condition(input: &Input, typed: &str) -> Result<EntryValue, EntryError> {
    let Input::Condition { name, unit, lower, upper, advice } = input else {
        return Ok(EntryValue::Confirmed);
    };
    let value = TypedDecimal::parse_in(typed, unit)?.value;
    let holds =
        lower.is_none_or(|lower| value >= lower) && upper.is_none_or(|upper| value <= upper);
    if holds {
        return Ok(EntryValue::Condition { value });
    }
    Err(EntryError::ConditionOutside {
        name: name.clone(),
        shown: show_decimal(value, value.scale()),
        unit: unit.clone(),
        wanted: condition_words(*lower, *upper, unit),
        advice: advice.clone(),
    })
}

fn accept_reading(input: &Input, proposal: &Proposal) -> Result<EntryValue, EntryError> {
    let Input::Reading { unit, resolution, expected, guard, guard_question, beside } = input else {
        return Ok(EntryValue::Confirmed);
    };
    let typed = TypedDecimal::parse_in(&proposal.typed, unit.symbol())?;
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
    let answered = proposal
        .confirm_far
        .as_deref()
        .and_then(|text| TypedDecimal::parse_in(text, unit.symbol()).ok())
        .is_some_and(|asked| asked.value == typed.value);
    if far && !answered {
        return Err(EntryError::Far {
            question: guard_question.clone(),
            shown: show_decimal(typed.value, typed.value.scale()),
            expected: show_decimal(*expected, decimals),
            unit: *unit,
        });
    }
    let added = match beside {
        None => None,
        Some(Beside::Weights) => Some(accept_added(&proposal.added, *resolution, *unit)?),
        Some(number) => Some(accept_beside(number, &proposal.added)?),
    };
    Ok(EntryValue::Reading { indication: typed.value, added, far_confirmed: far })
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

/// A number that is typed beside the reading, within what can be true.
fn accept_beside(beside: &Beside, typed: &str) -> Result<Decimal, EntryError> {
    let Beside::Number { name, unit, lower, upper } = beside else {
        return Ok(Decimal::ZERO);
    };
    let read = TypedDecimal::parse_in(typed.trim(), unit)
        .map_err(|cause| EntryError::Beside { name: name.clone(), cause })?;
    let outside = |value: Decimal| {
        lower.is_some_and(|lower| value < lower) || upper.is_some_and(|upper| value > upper)
    };
    if outside(read.value) {
        return Err(EntryError::BesideOutside {
            name: name.clone(),
            shown: show_decimal(read.value, read.value.scale()),
            wanted: condition_words(*lower, *upper, unit).trim_end().to_owned(),
        });
    }
    Ok(read.value)
}

/// The sum of small weights, in the unit of the display or, where one stands behind it, in the unit that they are marked in.
fn accept_added(typed: &str, resolution: Decimal, unit: Unit) -> Result<Decimal, EntryError> {
    let typed = typed.trim();
    let marked = Unit::ALL
        .into_iter()
        .filter(|other| other.dimension() == unit.dimension() && typed.ends_with(other.symbol()))
        // "kg" ends with "g".
        .max_by_key(|other| other.symbol().len())
        .unwrap_or(unit);
    let read = TypedDecimal::parse_in(typed, marked.symbol()).map_err(EntryError::Added)?;
    let added = marked.convert(read.value, unit);
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
    use crate::method::Entry;
    use rstest::rstest;

    fn reading_step(with_added: bool) -> Step {
        let input = Input::Reading {
            unit: Unit::Kilogram,
            resolution: "0.001".parse().unwrap(),
            expected: "20.000".parse().unwrap(),
            guard: "0.2".parse().unwrap(),
            guard_question: "Is the 20 kg on the pan?".into(),
            beside: with_added.then_some(Beside::Weights),
        };
        Step::plain("load-1", "20 kg".into(), String::new(), input)
    }

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(1_760_000_000 + seconds).unwrap()
    }

    fn accept(step: &Step, proposal: &Proposal) -> Result<EntryValue, EntryError> {
        super::accept(step, proposal, &RunState::default(), at(0))
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
        let confirmed = Proposal { confirm_far: Some("2,001".into()), ..typed("2.001") };
        assert!(matches!(
            accept(&step, &confirmed),
            Ok(EntryValue::Reading { far_confirmed: true, .. })
        ));
        // The answer was about that value: another one typed meanwhile is asked about anew.
        for other in ["2.002", "100.000", "2.0010"] {
            let proposal = Proposal { confirm_far: Some("2.001".into()), ..typed(other) };
            let same = other == "2.0010";
            assert_eq!(accept(&step, &proposal).is_ok(), same, "{other}");
        }
        assert_eq!(error.attempt(), Some(AttemptKind::Far));
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
    #[case("20.003 kg", "0", "20.003", "0")]
    #[case("20,003kg", "0,0004 kg", "20.003", "0.0004")]
    // Small weights are marked in their own unit.
    #[case("20.003", "0,4 g", "20.003", "0.0004")]
    #[case("20.003", "400mg", "20.003", "0.0004")]
    fn a_unit_may_be_typed_along(
        #[case] reading: &str,
        #[case] added: &str,
        #[case] indication: &str,
        #[case] weights: &str,
    ) {
        let proposal = Proposal { added: added.into(), ..typed(reading) };
        let kept = accept(&reading_step(true), &proposal).unwrap();
        let EntryValue::Reading { indication: got, added: small, .. } = kept else { panic!() };
        assert_eq!(got, indication.parse().unwrap());
        assert_eq!(small.unwrap(), weights.parse().unwrap());
    }

    /// Another unit than the display's is no reading of it: 20003 g are not what a display in kg shows.
    #[rstest]
    #[case("20003 g")]
    #[case("20.003 lb")]
    #[case("kg")]
    fn another_unit_is_no_reading(#[case] reading: &str) {
        assert!(accept(&reading_step(false), &typed(reading)).is_err());
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

    fn setting_step() -> Step {
        let input = Input::Setting {
            name: "the material curve".into(),
            expected: "Glass 2".into(),
            also: vec![],
            by_lead: false,
        };
        Step::plain("setting-1", "Curve".into(), String::new(), input)
    }

    #[rstest]
    #[case("Glass 2", "glass2", true)]
    #[case("Glass 2", "Glass 3", false)]
    #[case("Glass 2", "", false)]
    #[case("2.5", "2,50", true)]
    #[case("2.5", "25", false)]
    fn a_wrong_setting_stops_the_check(
        #[case] expected: &str,
        #[case] text: &str,
        #[case] fits: bool,
    ) {
        let mut step = setting_step();
        step.input = Input::Setting {
            name: "it".into(),
            expected: expected.into(),
            also: vec![],
            by_lead: false,
        };
        assert_eq!(accept(&step, &typed(text)).is_ok(), fits);
    }

    #[rstest]
    #[case("20.0", true)]
    #[case("18", true)]
    #[case("24,0", true)]
    #[case("24.1", false)]
    #[case("warm", false)]
    fn a_condition_holds_or_says_what_to_do(#[case] text: &str, #[case] holds: bool) {
        let input = Input::Condition {
            name: "Room temperature".into(),
            unit: "°C".into(),
            lower: Some(Decimal::from(18)),
            upper: Some(Decimal::from(24)),
            advice: "Wait until it is.".into(),
        };
        let step = Step::plain("room", "Room".into(), String::new(), input);
        let result = accept(&step, &typed(text));
        assert_eq!(result.is_ok(), holds);
        if let Err(error @ EntryError::ConditionOutside { .. }) = result {
            assert_eq!(
                error.to_string(),
                "Room temperature is 24.1 °C; 18 to 24 °C is needed. Wait until it is."
            );
        }
    }

    fn wait_steps() -> (Step, Step, Step) {
        let start = Step::plain(
            "soak",
            "Soak".into(),
            String::new(),
            Input::WaitStart {
                what: "soak".into(),
                minimum_seconds: 600,
                maximum_seconds: Some(900),
            },
        );
        let over = Step::plain(
            "soak-over",
            "Soak".into(),
            String::new(),
            Input::WaitOver { start: "soak".into(), what: "Soak".into() },
        );
        let mut reading = reading_step(false);
        reading.within = Some("soak".into());
        reading.pause_seconds = 30;
        (start, over, reading)
    }

    fn keep(run: &mut RunState, step: &Step, when: i64) -> Result<(), EntryError> {
        let value = super::accept(step, &typed("20.000"), run, at(when))?;
        let repeat = 1 + u32::try_from(run.of_step(&step.key).count()).unwrap();
        run.entries.push(Entry { step: step.key.clone(), repeat, at: at(when), value });
        Ok(())
    }

    #[test]
    fn a_wait_is_neither_cut_short_nor_overrun() {
        let (start, over, reading) = wait_steps();
        let mut run = RunState::default();
        keep(&mut run, &start, 0).unwrap();
        let early = keep(&mut run, &over, 599).unwrap_err();
        assert!(early.to_string().starts_with("Too early by 1 s: soak"), "{early}");
        keep(&mut run, &over, 600).unwrap();
        keep(&mut run, &reading, 610).unwrap();
        let pause = keep(&mut run, &reading, 639).unwrap_err();
        assert!(pause.to_string().contains("30 s lie between"), "{pause}");
        keep(&mut run, &reading, 640).unwrap();
        keep(&mut run, &reading, 900).unwrap();
        let late = keep(&mut run, &reading, 931).unwrap_err();
        assert!(late.is_too_late(), "{late}");
        assert!(late.to_string().starts_with("Too late by 31 s"), "{late}");
        assert!(!late.may_confirm(), "no confirming makes old material fresh");
    }

    #[rstest]
    #[case(0, "0 s")]
    #[case(90, "90 s")]
    #[case(91, "2 min")]
    #[case(3_600, "60 min")]
    #[case(5_460, "1 h 31 min")]
    #[case(7_200, "2 h")]
    #[case(-5, "0 s")]
    fn times_are_rounded_up(#[case] seconds: i64, #[case] words: &str) {
        assert_eq!(duration_words(SignedDuration::from_secs(seconds)), words);
    }
}
