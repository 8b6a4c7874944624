//! The parts of a sheet that ask for what surrounds the measuring.

use crate::method::{SheetField, SheetGroup, SheetKind};

/// Settings that the instrument shows.
pub fn settings_group() -> SheetGroup {
    use SheetKind::{Choice, Rows, Text, Tick};
    let field = SheetField::new;
    SheetGroup {
        title: "Settings that the instrument shows",
        fields: vec![field(
            "settings",
            "Settings",
            Rows(vec![
                field("name", "Setting", Text).hint("As it follows “What is … set to?”"),
                field(
                    "kind",
                    "It",
                    Choice(vec![
                        ("exactly", "must be this"),
                        ("one_of", "is one of these"),
                        ("text", "is written down"),
                        ("count", "is counted"),
                        ("file", "is kept as a picture or document"),
                    ]),
                ),
                field("expected", "This, or these", Text).hint(
                    "Ways to write one with = between, several with ; between: “°C = C; °F = F”.",
                ),
                field("by_lead", "Only a lead sets it right", Tick),
            ]),
        ),
        field("together", "Settings and conditions on one screen", Tick).hint(
            "Each is kept as an entry of its own all the same. Good where the instrument shows them side by side.",
        ), field("capture_saves", "What is read over the line is kept at once", Tick).hint(
            "Else it goes into the field, and whoever reads keeps it. What the guard asks about is asked all the same.",
        )],
    }
}

/// Conditions before anything is measured; those of a method that follows the temperature of its standard say which one it is.
pub fn conditions_group(follows_temperature: bool) -> SheetGroup {
    use SheetKind::{Bound, Decimal, Rows, Text, Tick};
    let field = SheetField::new;
    let mut columns = vec![
        field("name", "Condition", Text),
        field("unit", "Unit", Text),
        field("lower", "At least", Bound),
        field("upper", "At most", Bound),
        field("advice", "What to do otherwise", Text),
    ];
    if follows_temperature {
        columns.extend([
            field("standard_temperature", "Values are taken at it", Tick).hint(
                "“Values are taken at it” marks what certified values depend on: the temperature of the standard, or a wavelength or frequency that is set, in the unit of the certificate.",
            ),
            field("half_width", "Known to ±", Decimal { optional: true })
                .hint("How far it may be off; half of its last digit at least."),
        ]);
    }
    SheetGroup {
        title: "Conditions before anything is measured",
        fields: vec![field("conditions", "Conditions", Rows(columns))],
    }
}

/// Waits, and what a family adds to them.
pub fn waits_group(more: Option<SheetField>) -> SheetGroup {
    use SheetKind::{Rows, Seconds, Text};
    let field = SheetField::new;
    let waits = field(
        "waits",
        "Waits",
        Rows(vec![
            field("what", "What is waited for", Text),
            field("minimum_seconds", "At least", Seconds { optional: false }),
            field("maximum_seconds", "Last reading within", Seconds { optional: true })
                .hint("Empty where nothing spoils."),
        ]),
    );
    SheetGroup { title: "Waits", fields: std::iter::once(waits).chain(more).collect() }
}

/// Sentences to tick off.
pub fn sentences_group() -> SheetGroup {
    use SheetKind::{Lines, Tick};
    let field = SheetField::new;
    SheetGroup {
        title: "Sentences to tick off, one a line",
        fields: vec![
            field("cautions", "Cautions before the first step", Lines)
                .hint("What can hurt; local rules and licensed work are always mentioned."),
            field("fold_cautions", "Cautions fold within a shift", Tick).hint(
                "Who has ticked these very sentences one by one confirms them with one key in the next check, until the shift ends.",
            ),
            field("preparation", "Making ready", Lines),
            field("closing", "Putting away", Lines)
                .hint("Clean, put back, let pressure off, strike off what is spent."),
        ],
    }
}
