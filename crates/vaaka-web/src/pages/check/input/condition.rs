//! A condition that must hold.

use rust_decimal::Decimal;
use vaaka_core::method::{Input, Step, condition_words};

use super::{LocalRules, OnSheet, Shown, field};
use crate::fields::Look;

pub fn shown(step: &Step) -> Shown {
    let Input::Condition { name, unit, lower, upper, advice } = &step.input else {
        return Shown::plain("a condition", OnSheet::Value);
    };
    let text = |limit: &Option<Decimal>| limit.map(|own| own.to_string()).unwrap_or_default();
    let wanted = condition_words(*lower, *upper, unit);
    Shown {
        fields: field(step, format!("{name}, {unit}"), Look::Number),
        rules: LocalRules {
            kind: "condition",
            wanted: wanted.clone(),
            words: advice.clone(),
            step: unit.clone(),
            name: name.clone(),
            lower: text(lower),
            upper: text(upper),
            ..LocalRules::default()
        },
        ..Shown::plain(wanted, OnSheet::Value)
    }
}
