//! The look over everything kept.

use super::{OnSheet, Shown};

pub fn shown() -> Shown {
    Shown::plain("looks over everything kept", OnSheet::NotThere)
}
