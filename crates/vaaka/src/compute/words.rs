//! Words and moments in the input of computations: their schemas list what is read.

use std::borrow::Cow;

use jiff::Timestamp;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use vaaka_core::chart::run_length::{CusumSides, EwmaStart};
use vaaka_core::chart::{Criterion, SigmaSource, Spread};
use vaaka_core::history::Told;
use vaaka_core::judgement::{ContributionSource, Coverage};
use vaaka_core::quantity::Unit;

/// Something that is said by one of a few words.
pub trait Worded: Sized + Copy + PartialEq + 'static {
    /// What it is called.
    const WHAT: &'static str;

    /// Everything that may be said, with its word.
    fn all() -> Vec<(Self, &'static str)>;
}

/// One of a few words; the schema is their enumeration.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Word<T>(pub T);

impl<'de, T: Worded> Deserialize<'de> for Word<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let all = T::all();
        match all.iter().find(|(_, word)| *word == text) {
            Some((found, _)) => Ok(Self(*found)),
            None => {
                let known: Vec<&str> = all.iter().map(|(_, word)| *word).collect();
                Err(serde::de::Error::custom(format!(
                    "“{text}” is no {}: give one of {}",
                    T::WHAT,
                    known.join(", ")
                )))
            }
        }
    }
}

impl<T: Worded> Serialize for Word<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let all = T::all();
        let word = all.iter().find(|(one, _)| *one == self.0).map_or("", |(_, word)| *word);
        serializer.serialize_str(word)
    }
}

impl<T: Worded> JsonSchema for Word<T> {
    fn schema_name() -> Cow<'static, str> {
        T::WHAT.replace(' ', "_").into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let words: Vec<&str> = T::all().into_iter().map(|(_, word)| word).collect();
        json_schema!({ "type": "string", "enum": words })
    }
}

macro_rules! worded {
    ($kind:ty, $what:literal, $all:expr) => {
        impl Worded for $kind {
            const WHAT: &'static str = $what;

            fn all() -> Vec<(Self, &'static str)> {
                $all
            }
        }
    };
}

worded!(Coverage, "coverage", Coverage::ALL.map(|one| (one, one.word())).to_vec());
worded!(
    ContributionSource,
    "source of uncertainty",
    ContributionSource::ALL.map(|one| (one, one.word())).to_vec()
);
worded!(Unit, "unit that is known here", Unit::ALL.map(|one| (one, one.symbol())).to_vec());
worded!(Spread, "spread", vec![(Spread::Range, "range"), (Spread::StdDev, "std_dev")]);
worded!(
    SigmaSource,
    "source of sigma",
    vec![
        (SigmaSource::MovingRange, "moving_range"),
        (SigmaSource::SampleStdDev, "sample_std_dev"),
        (SigmaSource::Resolution, "resolution"),
        (SigmaSource::Given, "given"),
    ]
);
worded!(
    CusumSides,
    "side",
    vec![(CusumSides::Both, "both"), (CusumSides::Upper, "upper"), (CusumSides::Lower, "lower")]
);
worded!(
    Told,
    "shape",
    vec![
        (Told::Flat, "flat"),
        (Told::Step, "step"),
        (Told::Drift, "drift"),
        (Told::Stopped, "stopped"),
        (Told::Knock, "knock"),
        (Told::Changed, "changed"),
        (Told::Unclear, "unclear"),
    ]
);
worded!(EwmaStart, "start", vec![(EwmaStart::Segment, "segment"), (EwmaStart::Steady, "steady")]);
worded!(Criterion, "criterion", Criterion::ALL.map(|one| (one, one.word())).to_vec());

/// A criterion that looks at one value a check and may raise a signal.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Raising(pub Criterion);

impl Worded for Raising {
    const WHAT: &'static str = "criterion that raises a signal by one value a check";

    fn all() -> Vec<(Self, &'static str)> {
        let alone =
            |one: &Criterion| !one.across_levels() && *one != Criterion::Spread && one.may_raise();
        Criterion::ALL.into_iter().filter(alone).map(|one| (Self(one), one.word())).collect()
    }
}

/// A rule whose run length is exact.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ZoneRule(pub Criterion);

impl Worded for ZoneRule {
    const WHAT: &'static str = "rule that has an exact run length";

    fn all() -> Vec<(Self, &'static str)> {
        use Criterion as C;
        [
            C::Beyond3,
            C::TwoOfThree,
            C::FourOfFive,
            C::EightOnASide,
            C::NineOnASide,
            C::TwoInARowBeyond2,
            C::FourInARowBeyond1,
            C::TenOnASide,
        ]
        .map(|one| (Self(one), one.word()))
        .to_vec()
    }
}

/// A moment (RFC 3339).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment(pub Timestamp);

impl<'de> Deserialize<'de> for Moment {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map(Self).map_err(|_| {
            serde::de::Error::custom(format!(
                "“{text}” is no time: write it like 2026-11-24T20:34:00Z"
            ))
        })
    }
}

impl Serialize for Moment {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&self.0)
    }
}

impl JsonSchema for Moment {
    fn schema_name() -> Cow<'static, str> {
        "moment".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "format": "date-time" })
    }
}

/// What a reader of JSON says about input that does not fit, in words for people who do not know its types.
pub fn plain(cause: &serde_json::Error) -> String {
    const PLAIN: [(&str, &str); 12] = [
        ("a sequence", "a list"),
        ("sequence", "list"),
        ("f64", "a number"),
        ("usize", "a whole number that is not negative"),
        ("u32", "a whole number that is not negative"),
        ("u64", "a whole number that is not negative"),
        ("i64", "a whole number"),
        ("floating point ", "number "),
        ("integer ", "number "),
        ("a map", "an object"),
        ("unit value", "null"),
        ("map", "an object"),
    ];
    let mut text = cause.to_string();
    // “expected struct DriftInput” is how a program says “an object”.
    if let Some(at) = text.find("struct ") {
        let rest = &text[at + "struct ".len()..];
        let end = rest.find(|c: char| !c.is_alphanumeric()).unwrap_or(rest.len());
        text.replace_range(at..at + "struct ".len() + end, "an object");
    }
    for (from, to) in PLAIN {
        for before in ["invalid type: ", "expected ", "invalid value: "] {
            text = text.replace(&format!("{before}{from}"), &format!("{before}{to}"));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_go_there_and_back() {
        fn both<T: Worded + std::fmt::Debug>() {
            for (one, word) in T::all() {
                let text = serde_json::to_string(&Word(one)).unwrap();
                assert_eq!(text, format!("\"{word}\""));
                assert_eq!(serde_json::from_str::<Word<T>>(&text).unwrap().0, one);
            }
            let said = serde_json::from_str::<Word<T>>("\"moon\"").unwrap_err().to_string();
            assert!(said.contains("“moon” is no") && said.contains(T::all()[0].1), "{said}");
        }
        both::<Criterion>();
        both::<Raising>();
        both::<ZoneRule>();
        both::<Coverage>();
        both::<ContributionSource>();
        both::<Unit>();
        both::<Spread>();
        both::<SigmaSource>();
        both::<CusumSides>();
        both::<EwmaStart>();
    }

    #[test]
    fn no_type_of_a_program_is_named() {
        #[derive(Debug, Deserialize)]
        #[serde(deny_unknown_fields)]
        #[allow(dead_code)]
        struct Inner {
            n: usize,
            values: Vec<f64>,
        }
        for (text, said) in [
            (r#"[]"#, "an object"),
            (r#"{"n":-1,"values":[]}"#, "a whole number that is not negative"),
            (r#"{"n":1,"values":"x"}"#, "a list"),
            (r#"{"n":1,"values":["x"]}"#, "a number"),
            (r#"{"n":1,"values":null}"#, "a list"),
        ] {
            let words = plain(&serde_json::from_str::<Inner>(text).unwrap_err());
            assert!(words.contains(said), "{text}: {words}");
            for program in ["f64", "usize", "struct", "Inner", "sequence"] {
                assert!(!words.contains(program), "{text}: {words}");
            }
        }
    }
}
