//! A photograph or document.

use vaaka_core::method::Step;

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, name: &str) -> Shown {
    Shown {
        rules: LocalRules { kind: "file", name: name.to_owned(), ..LocalRules::default() },
        fields: field(step, format!("{}: name of the picture or print", step.title), Look::Line),
        ..Shown::plain(format!("a photograph or document: {name}"), OnSheet::Value)
    }
}
