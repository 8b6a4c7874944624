//! The beginning and the end of a wait.

use jiff::SignedDuration;
use vaaka_core::method::{Step, duration_words};

use super::{OnSheet, Shown, field};
use crate::fields::Look;

pub fn start(step: &Step, what: &str, minimum_seconds: u32) -> Shown {
    let seconds = duration_words(SignedDuration::from_secs(i64::from(minimum_seconds)));
    let mut fields = field(step, format!("{what}: began at"), Look::Line);
    fields.iter_mut().for_each(|field| field.hint = "Like 22:40.".into());
    Shown { fields, ..Shown::plain(format!("starts a wait of {seconds}"), OnSheet::Time) }
}

pub fn over(step: &Step, what: &str) -> Shown {
    let mut fields = field(step, format!("{what}: went on at"), Look::Line);
    fields.iter_mut().for_each(|field| field.hint = "Like 22:52.".into());
    Shown { fields, ..Shown::plain("goes on when the time is up", OnSheet::NotThere) }
}
