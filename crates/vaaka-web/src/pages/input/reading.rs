//! A number from the display.

use rust_decimal::Decimal;
use vaaka_core::method::{Input, Step};
use vaaka_core::quantity::show_decimal;

use super::{LocalRules, OnSheet, Shown, name_of};
use crate::fields::{Field, Look};

pub fn shown(step: &Step) -> Shown {
    let Input::Reading { unit, resolution, expected, guard, guard_question, with_added } =
        &step.input
    else {
        return Shown::plain("a reading", OnSheet::Value);
    };
    let show = |value: Decimal| show_decimal(value, value.scale());
    let added = if *with_added { ", and the small weights added" } else { "" };
    let mut fields = Vec::new();
    for repeat in 1..=step.repeats {
        let label = match step.repeats {
            1 => step.title.clone(),
            all => format!("{}, {repeat} of {all}", step.title),
        };
        let name = name_of(step, repeat);
        if *with_added {
            fields.push(Field::new(name.clone(), label.clone(), Look::Number));
            let label = format!("{label}: small weights added, {unit}");
            fields.push(Field::new(format!("{name}.added"), label, Look::Number));
        } else {
            fields.push(Field::new(name, label, Look::Number));
        }
    }
    Shown {
        with_added: *with_added,
        fields,
        rules: LocalRules {
            kind: "reading",
            wanted: expected.to_string(),
            guard: guard.to_string(),
            words: guard_question.clone(),
            step: resolution.to_string(),
            name: unit.symbol().to_owned(),
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
