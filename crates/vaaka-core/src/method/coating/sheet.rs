//! The settings of a coating thickness check as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Limit, Text, Tick};
    let field = SheetField::new;
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("mean_limit", "Mean error of each foil", Limit { optional: false }),
            field("single_limit", "Every single reading", Limit { optional: true })
                .hint("As the mean when left empty."),
            field("range_limit", "Range of the readings of a foil", Limit { optional: true })
                .hint("Recorded only when left empty."),
            field("base_limit", "What the bare base shows", Limit { optional: true })
                .hint("Recorded only when left empty."),
            field(
                "return_limit",
                "Bare base after the foils, minus before",
                Limit { optional: true },
            )
            .hint("Recorded only when left empty."),
        ],
    };
    let base = SheetGroup {
        title: "The bare base",
        fields: vec![
            field("base", "Its tag", Text)
                .hint("Of the material, shape and roughness of the work. A foil on another base is refused."),
            field(
                "base_readings",
                "Readings on it",
                Choice(vec![("1", "one"), ("3", "three"), ("5", "five"), ("10", "ten")]),
            )
            .hint("At as many places."),
            field("take_off", "Take off what it shows", Tick)
                .hint("For a rough base: what it shows by itself is then no error of a foil."),
            field("again", "Read it again after the foils", Tick),
        ],
    };
    Sheet {
        schema: "coating-1",
        groups: vec![
            limits,
            base,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
