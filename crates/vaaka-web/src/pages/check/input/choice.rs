//! One of several words.

use vaaka_core::method::{ChoiceWord, Step};

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, name: &str, words: &[ChoiceWord]) -> Shown {
    let choices: Vec<String> = words.iter().map(|one| one.word.clone()).collect();
    let offered: Vec<(String, String)> = std::iter::once((String::new(), "Choose".to_owned()))
        .chain(choices.iter().map(|word| (word.clone(), word.clone())))
        .collect();
    let ways = words.iter().flat_map(|one| std::iter::once(&one.word).chain(&one.also));
    Shown {
        fields: field(
            step,
            format!("What it showed: {}", step.title.to_lowercase()),
            Look::Choice(offered),
        ),
        rules: LocalRules {
            kind: "choice",
            wanted: choices.join(", "),
            also: ways.map(String::as_str).collect::<Vec<_>>().join("\n"),
            name: name.to_owned(),
            ..LocalRules::default()
        },
        asks: format!("one of these: {}", choices.join(", ")),
        choices,
        ..Shown::plain("", OnSheet::Value)
    }
}
