//! A number from the display.

use rust_decimal::Decimal;
use vaaka_core::method::{Beside, Input, Step, condition_words};
use vaaka_core::quantity::show_decimal;

use super::{LocalRules, OnSheet, Shown, name_of};
use crate::fields::{Field, Look};

pub fn shown(step: &Step) -> Shown {
    let Input::Reading { unit, resolution, expected, guard, guard_question, beside } = &step.input
    else {
        return Shown::plain("a reading", OnSheet::Value);
    };
    let show = |value: Decimal| show_decimal(value, value.scale());
    let (label_beside, added) = match beside {
        None => (None, String::new()),
        Some(Beside::Weights) => (
            Some(format!("+ small weights added, {unit} or with their unit")),
            ", and the small weights added".to_owned(),
        ),
        Some(Beside::Number { name, unit, .. }) => {
            let label = if unit.is_empty() { name.clone() } else { format!("{name}, {unit}") };
            (Some(label), format!(", and {name}"))
        }
    };
    let mut fields = Vec::new();
    for repeat in 1..=step.repeats {
        let label = match step.repeats {
            1 => step.title.clone(),
            all => format!("{}, {repeat} of {all}", step.title),
        };
        let name = name_of(step, repeat);
        if let Some(beside) = &label_beside {
            fields.push(Field::new(name.clone(), label.clone(), Look::Number));
            let beside = beside.trim_start_matches("+ ");
            let label = format!("{label}: {beside}");
            fields.push(Field::new(format!("{name}.added"), label, Look::Number));
        } else {
            fields.push(Field::new(name, label, Look::Number));
        }
    }
    Shown {
        beside: label_beside,
        fields,
        rules: LocalRules {
            kind: "reading",
            wanted: expected.to_string(),
            guard: guard.to_string(),
            words: guard_question.clone(),
            step: resolution.to_string(),
            name: unit.symbol().to_owned(),
            beside: beside_rule(beside.as_ref()),
            ..LocalRules::default()
        },
        ..Shown::plain(
            format!(
                "a reading in steps of {} {unit}{added}; further than {} {unit} from {} it asks first",
                show(*resolution),
                show(guard.normalize()),
                show(expected.normalize()),
            ),
            OnSheet::Value,
        )
    }
}

/// What the browser asks about the number beside: "weights", or its name, unit and limits a line each.
fn beside_rule(beside: Option<&Beside>) -> String {
    let end = |value: &Option<Decimal>| value.map(|value| value.to_string()).unwrap_or_default();
    match beside {
        None => String::new(),
        Some(Beside::Weights) => "weights".to_owned(),
        Some(Beside::Number { name, unit, lower, upper }) => {
            let wanted = condition_words(*lower, *upper, unit).trim_end().to_owned();
            [name.clone(), unit.clone(), end(lower), end(upper), wanted].join("\n")
        }
    }
}
