//! A setting that the instrument must show.

use vaaka_core::method::{Input, Step};

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step) -> Shown {
    let Input::Setting { name, expected, also, by_lead } = &step.input else {
        return Shown::plain("what it shows", OnSheet::Value);
    };
    let or = match also.is_empty() {
        true => String::new(),
        false => format!(" (or {})", also.join(", ")),
    };
    let lead = if *by_lead { "; found otherwise, a lead decides" } else { "" };
    Shown {
        fields: field(step, format!("What it showed: {}", step.title.to_lowercase()), Look::Line),
        rules: LocalRules {
            kind: "setting",
            wanted: expected.clone(),
            also: also.join("\n"),
            name: name.clone(),
            by_lead: *by_lead,
            ..LocalRules::default()
        },
        ..Shown::plain(format!("what it shows; it must be {expected}{or}{lead}"), OnSheet::Value)
    }
}
