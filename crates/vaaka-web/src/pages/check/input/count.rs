//! A whole number.

use vaaka_core::method::Step;

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, name: &str) -> Shown {
    Shown {
        fields: field(step, step.title.clone(), Look::Number),
        rules: LocalRules { kind: "count", name: name.to_owned(), ..LocalRules::default() },
        ..Shown::plain(format!("{name}, a whole number"), OnSheet::Value)
    }
}
