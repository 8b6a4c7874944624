//! The tag on the standard in hand.

use vaaka_core::method::Step;

use super::{OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step, expected: &str) -> Shown {
    Shown {
        fields: field(step, format!("{}: tag on it", step.title), Look::Line),
        ..Shown::plain(format!("the tag, here {expected}"), OnSheet::Value)
    }
}
