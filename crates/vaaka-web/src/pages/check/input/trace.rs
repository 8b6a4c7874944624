//! A trace, as a file or pasted.

use vaaka_core::method::{Input, Step};

use super::{LocalRules, OnSheet, Shown};

/// Largest file with a trace.
pub const MOST_TRACE_BYTES: usize = 16 * 1024 * 1024;

pub fn shown(step: &Step) -> Shown {
    let Input::Trace { name, wanted, peaks, .. } = &step.input else {
        return Shown::plain("a trace", OnSheet::NotThere);
    };
    let peaks = match peaks.len() {
        0 => String::new(),
        1 => "; it asks first where its peak is not".to_owned(),
        n => format!("; it asks first where one of its {n} peaks is not"),
    };
    Shown {
        rules: LocalRules {
            kind: "trace",
            name: name.clone(),
            wanted: wanted.words(),
            upper: MOST_TRACE_BYTES.to_string(),
            ..LocalRules::default()
        },
        ..Shown::plain(format!("{name} as a file: {}{peaks}", wanted.words()), OnSheet::NotThere)
    }
}
