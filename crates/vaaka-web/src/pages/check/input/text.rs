//! A line of text.

use vaaka_core::method::{MOST_TEXT, Step};

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, name: &str) -> Shown {
    Shown {
        fields: field(step, step.title.clone(), Look::Line),
        rules: LocalRules {
            kind: "text",
            name: name.to_owned(),
            upper: MOST_TEXT.to_string(),
            ..LocalRules::default()
        },
        ..Shown::plain(format!("{name}, as it stands there"), OnSheet::Value)
    }
}
