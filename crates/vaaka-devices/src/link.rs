//! What a lead says of an instrument's line: when it sends, what it is asked with, how a line of it is read.

use std::str::FromStr;

use regex::{Regex, RegexBuilder};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use vaaka_core::quantity::TypedDecimal;

use crate::text::{EscapeFault, bytes, decoded};

/// When an instrument sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Way {
    /// When it is asked.
    Asked,
    /// A line after the other, by itself.
    Streams,
    /// When its own key is pressed.
    OwnKey,
    /// A whole file, when it is asked: a block of data (IEEE 488.2, 8.7.9 and 8.7.10).
    Block,
}

impl Way {
    /// All of them, with what a list calls them.
    pub const ALL: [(Self, &'static str, &'static str); 4] = [
        (Self::Asked, "asked", "on query"),
        (Self::Streams, "streams", "continuously"),
        (Self::OwnKey, "own_key", "on its print key"),
        (Self::Block, "block", "a trace, on query"),
    ];

    /// The word of a form.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|one| one.0 == self).map_or("", |one| one.1)
    }

    /// Whether something is sent to it first.
    #[must_use]
    pub fn asks(self) -> bool {
        matches!(self, Self::Asked | Self::Block)
    }
}

impl FromStr for Way {
    type Err = ();

    fn from_str(word: &str) -> Result<Self, ()> {
        Self::ALL.iter().find(|one| one.1 == word).map(|one| one.0).ok_or(())
    }
}

/// What ends a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LineEnd {
    /// Carriage return, line feed, or both.
    #[default]
    Any,
    /// Carriage return alone.
    Cr,
    /// Line feed alone.
    Lf,
}

impl LineEnd {
    /// All of them, with the word of a form and what a list calls them.
    pub const ALL: [(Self, &'static str, &'static str); 3] = [
        (Self::Any, "any", "CR, LF or both"),
        (Self::Cr, "cr", "CR alone"),
        (Self::Lf, "lf", "LF alone"),
    ];

    /// Whether a byte ends a line.
    #[must_use]
    pub fn ends(self, byte: u8) -> bool {
        match self {
            Self::Any => matches!(byte, b'\r' | b'\n'),
            Self::Cr => byte == b'\r',
            Self::Lf => byte == b'\n',
        }
    }

    /// The word of a form.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|one| one.0 == self).map_or("", |one| one.1)
    }
}

impl FromStr for LineEnd {
    type Err = ();

    fn from_str(word: &str) -> Result<Self, ()> {
        Self::ALL.iter().find(|one| one.1 == word).map(|one| one.0).ok_or(())
    }
}

/// What is said of a line, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// When it sends.
    pub way: Way,
    /// What it is asked with, with escapes.
    #[serde(default)]
    pub ask: String,
    /// What ends its lines.
    #[serde(default)]
    pub line_end: LineEnd,
    /// A regular expression for a whole line, with the groups `value`, and where it sends them `unit` and `stable`.
    #[serde(default)]
    pub pattern: String,
    /// What the group `stable` holds when the display stands still; empty where the group is there then and only then.
    #[serde(default)]
    pub stable_mark: String,
    /// Units as it writes them, each with what it means.
    #[serde(default)]
    pub units: Vec<(String, String)>,
    /// The unit of what it sends, where it sends none.
    #[serde(default)]
    pub unit: String,
    /// How long it may take until a value is there, in milliseconds.
    pub timeout_ms: u32,
    /// How long the display must show the same, in milliseconds; 0 takes the first that is stable.
    #[serde(default)]
    pub settle_ms: u32,
}

/// Longest pattern.
pub const MOST_PATTERN: usize = 300;
/// Longest text that is sent.
pub const MOST_ASK: usize = 200;
/// Longest line that is read.
pub const MOST_LINE: usize = 1_024;
/// Shortest and longest time until a value must be there, in milliseconds: the longest lies within what a request may take.
pub const TIMEOUT_MS: std::ops::RangeInclusive<u32> = 100..=25_000;
/// Longest time that a display must stand still, in milliseconds.
pub const MOST_SETTLE_MS: u32 = 10_000;
/// How much a compiled pattern may take, in bytes: a pattern that would take more is refused, not run.
const MOST_COMPILED: usize = 256 * 1024;

/// What is wrong with what is said of a line; each belongs to a field.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LinkFault {
    /// Nothing to ask with.
    #[error("Type the query, like “READ?\\n”.")]
    NoAsk,
    /// Nothing is sent to one that sends by itself.
    #[error("This instrument sends by itself: leave the query empty.")]
    NeedlessAsk,
    /// Too long.
    #[error("{0} characters are the most.")]
    TooLong(usize),
    /// What is sent cannot be read.
    #[error(transparent)]
    Escape(#[from] EscapeFault),
    /// No pattern.
    #[error(
        "Type the pattern of a whole line: (?<value>[+-]?\\d+\\.\\d+) for the number, .* for the rest."
    )]
    NoPattern,
    /// A pattern that is none, or too large.
    #[error("This pattern is not valid: {0}")]
    BadPattern(String),
    /// No group of the value.
    #[error("The pattern has no (?<value>…) around the number.")]
    NoValue,
    /// It takes a line that says nothing for one that does.
    #[error(
        "This pattern matches an empty line, so it would match anything. Ask for a digit, \\d+, inside (?<value>…)."
    )]
    FitsNothing,
    /// A mark without its group.
    #[error("The pattern has no (?<stable>…) around the stability mark.")]
    NoStable,
    /// Nothing says when the display stands.
    #[error(
        "It sends continuously and no stability mark: type how long the display must show the same value, like 1."
    )]
    NoSettle,
    /// Neither in the line nor said.
    #[error("The pattern has no (?<unit>…): choose the unit of the number.")]
    NoUnit,
    /// Time out of bounds.
    #[error("Between 0.1 s and 25 s.")]
    Timeout,
    /// Time out of bounds.
    #[error("At most 10 s, and less than the timeout.")]
    Settle,
}

/// A line that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// The number, with the digits that were sent.
    pub value: Decimal,
    /// Its unit, as it is known here; none where nothing says it.
    pub unit: Option<String>,
    /// Whether the display stood still; none where the line does not say.
    pub stable: Option<bool>,
}

/// Why a line that fits the pattern gives no number.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LineFault {
    /// It does not fit.
    #[error("it does not match the pattern")]
    Misfit,
    /// What stands where the number should be is none.
    #[error("“{0}” stands in place of the number")]
    NoNumber(String),
    /// SCPI's signs for no number and beyond all bounds.
    #[error("it reports no number: overload, or nothing measured")]
    Overload,
}

/// A link that can be used: its pattern compiled, its bytes known.
#[derive(Debug, Clone)]
pub struct Ready {
    /// What is said of it.
    pub link: Link,
    /// What is sent first.
    pub ask: Vec<u8>,
    pattern: Option<Regex>,
}

impl Link {
    /// What is wrong, each with the name of its field.
    #[must_use]
    pub fn faults(&self) -> Vec<(&'static str, LinkFault)> {
        let mut faults = Vec::new();
        if self.ask.chars().count() > MOST_ASK {
            faults.push(("ask", LinkFault::TooLong(MOST_ASK)));
        } else if self.way.asks() && self.ask.is_empty() {
            faults.push(("ask", LinkFault::NoAsk));
        } else if !self.way.asks() && !self.ask.is_empty() {
            faults.push(("ask", LinkFault::NeedlessAsk));
        } else if let Err(fault) = bytes(&self.ask) {
            faults.push(("ask", fault.into()));
        }
        if !TIMEOUT_MS.contains(&self.timeout_ms) {
            faults.push(("timeout", LinkFault::Timeout));
        }
        if self.settle_ms > MOST_SETTLE_MS || self.settle_ms >= self.timeout_ms {
            faults.push(("settle", LinkFault::Settle));
        }
        if self.way != Way::Block {
            match self.compiled() {
                Ok(pattern) => {
                    let has = |name: &str| pattern.capture_names().flatten().any(|own| own == name);
                    if !self.stable_mark.is_empty() && !has("stable") {
                        faults.push(("stable_mark", LinkFault::NoStable));
                    }
                    if self.way == Way::Streams && !has("stable") && self.settle_ms == 0 {
                        faults.push(("settle", LinkFault::NoSettle));
                    }
                    if !has("unit") && self.unit.is_empty() {
                        faults.push(("unit", LinkFault::NoUnit));
                    }
                }
                Err(fault) => faults.push(("pattern", fault)),
            }
        }
        faults
    }

    fn compiled(&self) -> Result<Regex, LinkFault> {
        if self.pattern.trim().is_empty() {
            return Err(LinkFault::NoPattern);
        }
        if self.pattern.chars().count() > MOST_PATTERN {
            return Err(LinkFault::TooLong(MOST_PATTERN));
        }
        let build = |text: &str| {
            let mut builder = RegexBuilder::new(text);
            let built = builder.size_limit(MOST_COMPILED).dfa_size_limit(MOST_COMPILED).build();
            built.map_err(|cause| LinkFault::BadPattern(short(&cause)))
        };
        // By itself first, so that it cannot end what is put around it.
        build(&self.pattern)?;
        // It fits the line from end to end: a pattern for a part of it would read 0.016 out of “2?0.016”, and 20 out of “-20”.
        let pattern = build(&format!(r"^\s*(?:{})\s*$", self.pattern))?;
        if !pattern.capture_names().flatten().any(|name| name == "value") {
            return Err(LinkFault::NoValue);
        }
        if pattern.is_match("") || pattern.is_match(" ") {
            return Err(LinkFault::FitsNothing);
        }
        Ok(pattern)
    }

    /// Makes it ready for use.
    ///
    /// # Errors
    /// The first of [`Self::faults`].
    pub fn ready(self) -> Result<Ready, LinkFault> {
        if let Some((_, fault)) = self.faults().into_iter().next() {
            return Err(fault);
        }
        let pattern = if self.way == Way::Block { None } else { Some(self.compiled()?) };
        let ask = bytes(&self.ask)?;
        Ok(Ready { link: self, ask, pattern })
    }
}

/// The last line of what the compiler of patterns says, without its picture.
fn short(cause: &regex::Error) -> String {
    match cause {
        regex::Error::CompiledTooBig(_) => "it is too large; ask for less".to_owned(),
        other => {
            let text = other.to_string();
            let last = text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
            last.trim().trim_start_matches("error: ").to_owned()
        }
    }
}

impl Ready {
    /// Reads a line, without its end.
    ///
    /// # Errors
    /// [`LineFault`].
    pub fn line(&self, line: &[u8]) -> Result<Reading, LineFault> {
        let text = decoded(line);
        let found = self.pattern.as_ref().and_then(|pattern| pattern.captures(&text));
        let found = found.ok_or(LineFault::Misfit)?;
        let value = found.name("value").map(|group| group.as_str()).unwrap_or_default();
        let value = number(value)?;
        let unit = match found.name("unit").map(|group| group.as_str().trim()) {
            Some(sent) if !sent.is_empty() => {
                let known = self.link.units.iter().find(|(own, _)| own == sent);
                Some(known.map_or(sent, |(_, meant)| meant.as_str()).to_owned())
            }
            _ => Some(self.link.unit.clone()).filter(|unit| !unit.is_empty()),
        };
        Ok(Reading { value, unit, stable: self.stable(&found) })
    }

    fn stable(&self, found: &regex::Captures<'_>) -> Option<bool> {
        let pattern = self.pattern.as_ref()?;
        pattern.capture_names().flatten().find(|name| *name == "stable")?;
        let mark = found.name("stable").map(|group| group.as_str().trim());
        Some(match (mark, self.link.stable_mark.as_str()) {
            (mark, "") => mark.is_some_and(|mark| !mark.is_empty()),
            (mark, wanted) => mark == Some(wanted.trim()),
        })
    }
}

/// A number as instruments write it: with spaces behind its sign, with a point or a comma, with a power of ten.
///
/// SCPI (1999.0, vol. 1, 7.2.1.4 and 7.2.1.5) writes 9.91E37 for no number and ±9.9E37 for what lies beyond all bounds.
fn number(text: &str) -> Result<Decimal, LineFault> {
    let no_number = || LineFault::NoNumber(text.to_owned());
    let plain: String = text.chars().filter(|letter| !letter.is_whitespace()).collect();
    if let Some(power) = plain.find(['e', 'E']) {
        let wide: f64 = plain.replace(',', ".").parse().map_err(|_| no_number())?;
        if wide.abs() >= 9.9e37 {
            return Err(LineFault::Overload);
        }
        let (mantissa, exponent) = plain.split_at(power);
        let mantissa = TypedDecimal::parse(mantissa).map_err(|_| no_number())?.value;
        let exponent: i32 =
            exponent.get(1..).unwrap_or_default().parse().map_err(|_| no_number())?;
        return shifted(mantissa, exponent).ok_or_else(no_number);
    }
    Ok(TypedDecimal::parse(&plain).map_err(|_| no_number())?.value)
}

/// A decimal with its point moved: exact, digits and all. None beyond what a decimal holds.
fn shifted(mantissa: Decimal, exponent: i32) -> Option<Decimal> {
    let scale = i64::from(mantissa.scale()) - i64::from(exponent);
    let digits = mantissa.mantissa();
    if scale >= 0 {
        let scale = u32::try_from(scale).ok()?;
        // Beyond what is ever shown, and what a decimal holds.
        return (scale <= 20).then(|| Decimal::try_from_i128_with_scale(digits, scale).ok())?;
    }
    let tens = 10_i128.checked_pow(u32::try_from(-scale).ok()?)?;
    Decimal::try_from_i128_with_scale(digits.checked_mul(tens)?, 0).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn link(pattern: &str) -> Link {
        Link {
            way: Way::Streams,
            ask: String::new(),
            line_end: LineEnd::Any,
            pattern: pattern.to_owned(),
            stable_mark: String::new(),
            units: vec![("KG".into(), "kg".into())],
            unit: String::new(),
            timeout_ms: 1_000,
            settle_ms: 500,
        }
    }

    const WHOLE: &str = r"(?:gross )?(?<value>[+-]? *\d+[.,]?\d*) *(?<unit>[A-Za-z]+)? *(?:(?<stable>steady)|moving)?";

    #[rstest]
    #[case("gross +20.016 kg steady", "20.016", Some("kg"), true)]
    #[case("gross -  0.004 KG moving", "-0.004", Some("kg"), false)]
    #[case("20,016 kg", "20.016", Some("kg"), false)]
    #[case("0000.00 g steady", "0.00", Some("g"), true)]
    fn lines_are_read(
        #[case] line: &str,
        #[case] value: &str,
        #[case] unit: Option<&str>,
        #[case] stable: bool,
    ) {
        let read = link(WHOLE).ready().unwrap().line(line.as_bytes()).unwrap();
        assert_eq!(read.value.to_string(), value);
        assert_eq!(read.unit.as_deref(), unit);
        assert_eq!(read.stable, Some(stable));
    }

    /// SCPI 1999.0, 7.2.1: numbers in any of its forms, and the two that are none.
    #[rstest]
    #[case("+1.7602E+01", Ok("17.602"))]
    #[case("1.50E-3", Ok("0.00150"))]
    #[case("-2.5e3", Ok("-2500"))]
    #[case("1E0", Ok("1"))]
    #[case("0.0E+00", Ok("0.0"))]
    #[case("9.91E37", Err(LineFault::Overload))]
    #[case("-9.9E+37", Err(LineFault::Overload))]
    #[case("1E-40", Err(LineFault::NoNumber("1E-40".into())))]
    #[case("1E30", Err(LineFault::NoNumber("1E30".into())))]
    #[case("1E99999999999", Err(LineFault::Overload))]
    #[case("1E-99999999999", Err(LineFault::NoNumber("1E-99999999999".into())))]
    #[case("1.2.3", Err(LineFault::NoNumber("1.2.3".into())))]
    #[case("E5", Err(LineFault::NoNumber("E5".into())))]
    fn powers_of_ten(#[case] text: &str, #[case] expected: Result<&str, LineFault>) {
        assert_eq!(number(text).map(|value| value.to_string()), expected.map(str::to_owned));
    }

    #[test]
    fn a_mark_is_what_it_is_said_to_be() {
        let marked =
            Link { stable_mark: "0".into(), ..link(r"(?<stable>[01]),(?<value>\d+)(?<unit>g)") };
        let marked = marked.ready().unwrap();
        assert_eq!(marked.line(b"0,12g").unwrap().stable, Some(true));
        assert_eq!(marked.line(b"1,12g").unwrap().stable, Some(false));
        // A part of a line is no line: neither its digits nor its sign may be lost.
        let mut unsigned = link(r"(?<value>\d+\.\d+) (?<unit>kg)");
        let read = |link: &Link, line: &str| link.clone().ready().unwrap().line(line.as_bytes());
        assert!(read(&unsigned, " 20.016 kg ").is_ok());
        for line in ["-20.016 kg", "2?0.016 kg", "20.016 kg 3"] {
            assert_eq!(read(&unsigned, line), Err(LineFault::Misfit), "{line}");
        }
        unsigned.pattern = r"a|(?<value>\d+) (?<unit>g)".into();
        assert!(read(&unsigned, "x 3 g").is_err());
        unsigned.pattern = r"a)|((?<value>\d+)(?<unit>g)".into();
        assert!(unsigned.ready().is_err(), "it ends what is around it");
        // One that says nothing of it.
        let silent = Link { unit: "mm".into(), ..link(r"(?<value>\d+)") }.ready().unwrap();
        let read = silent.line(b"12").unwrap();
        assert_eq!((read.stable, read.unit.as_deref()), (None, Some("mm")));
        assert_eq!(silent.line(b"----"), Err(LineFault::Misfit));
    }

    #[rstest]
    #[case("", "pattern", "Type the pattern of a whole line")]
    #[case("(", "pattern", "is not valid")]
    #[case(r"\d+ (?<unit>g)", "pattern", "(?<value>…)")]
    #[case(r"(?<value>\d*)(?<unit>g)?", "pattern", "would match anything")]
    #[case(r"(?<value>\d+)", "unit", "choose the unit")]
    #[case(r"(?<value>(\w{900}){900})(?<unit>g)", "pattern", "too large")]
    #[case(r"(?<value>\d+)(?<unit>g)(?=x)", "pattern", "look-around")]
    fn faults_are_told_at_their_fields(
        #[case] pattern: &str,
        #[case] field: &str,
        #[case] words: &str,
    ) {
        let faults = link(pattern).faults();
        let (at, fault) = faults.first().unwrap();
        assert_eq!(*at, field);
        assert!(fault.to_string().contains(words), "{fault}");
        assert!(link(pattern).ready().is_err());
    }

    #[test]
    fn what_is_sent_and_how_long() {
        let field = |link: Link| link.faults().first().map(|(field, _)| *field);
        let good = link(WHOLE);
        assert_eq!(field(good.clone()), None);
        assert_eq!(field(Link { ask: "Q".into(), ..good.clone() }), Some("ask"));
        assert_eq!(field(Link { way: Way::Asked, ..good.clone() }), Some("ask"));
        let asked = Link { way: Way::Asked, ask: "Q\\r\\n".into(), ..good.clone() };
        assert_eq!(asked.clone().ready().unwrap().ask, b"Q\r\n");
        assert_eq!(field(Link { ask: "Q\\".into(), ..asked }), Some("ask"));
        // Without a mark of stability what streams must stand for a while.
        let unmarked = link(r"(?<value>\d+)(?<unit>g)");
        assert_eq!(field(unmarked.clone()), None);
        assert_eq!(field(Link { settle_ms: 0, ..unmarked }), Some("settle"));
        assert_eq!(field(Link { settle_ms: 0, ..good.clone() }), None, "it has a mark");
        assert_eq!(field(Link { timeout_ms: 0, ..good.clone() }), Some("timeout"));
        assert_eq!(field(Link { timeout_ms: 60_000, ..good.clone() }), Some("timeout"));
        assert_eq!(field(Link { settle_ms: 1_000, ..good.clone() }), Some("settle"));
        assert_eq!(
            field(Link { stable_mark: "S".into(), ..link(r"(?<value>\d+)(?<unit>g)") }),
            Some("stable_mark")
        );
        // A block needs no pattern.
        let block =
            Link { way: Way::Block, ask: "TRACE?\\n".into(), pattern: String::new(), ..good };
        assert_eq!(field(block), None);
    }
}
