//! A photograph or document.

use vaaka_core::method::Step;

use super::{OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, name: &str) -> Shown {
    Shown {
        fields: field(step, format!("{}: name of the picture or print", step.title), Look::Line),
        ..Shown::plain(format!("a photograph or document: {name}"), OnSheet::Value)
    }
}
