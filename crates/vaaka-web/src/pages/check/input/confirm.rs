//! Sentences that are ticked off.

use vaaka_core::method::Step;

use super::{OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, sentences: &[String]) -> Shown {
    Shown {
        sentences: sentences.to_vec(),
        fields: field(step, format!("{}: every line was ticked", step.title), Look::Tick),
        ..Shown::plain("ticked, line by line", OnSheet::Nothing)
    }
}
