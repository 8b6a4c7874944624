//! The settings of a gauge plan as a sheet.

use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Bound, Choice, Decimal, Limit, Lines, Rows, Seconds, Text, Tick};
    let field = SheetField::new;
    Sheet {
        schema: "gauge-1",
        groups: vec![
            SheetGroup {
                title: "How the reference comes to the gauge",
                fields: vec![field(
                    "presentation",
                    "Way",
                    Choice(vec![
                        (
                            "applied",
                            "it is set to a value, and the gauge follows (pressure, temperature)",
                        ),
                        ("inserted", "a piece is put into the gauge (blocks)"),
                    ]),
                )],
            },
            SheetGroup {
                title: "Limits",
                fields: vec![
                    field("mean_limit", "Mean error at each point", Limit { optional: false }),
                    field("single_limit", "Every single reading", Limit { optional: true })
                        .hint("As the mean when left empty."),
                    field("hysteresis_limit", "Falling minus rising", Limit { optional: true })
                        .hint("Recorded only when left empty."),
                    field("range_limit", "Range of repeated readings", Limit { optional: true })
                        .hint("Recorded only when left empty."),
                ],
            },
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
                            ]),
                        ),
                        field("expected", "This, or these", Text).hint(
                            "Ways to write one with = between, several with ; between: “°C = C; °F = F”.",
                        ),
                        field("by_lead", "Only a lead sets it right", Tick),
                    ]),
                )],
            },
            SheetGroup {
                title: "Conditions before anything is measured",
                fields: vec![field(
                    "conditions",
                    "Conditions",
                    Rows(vec![
                        field("name", "Condition", Text),
                        field("unit", "Unit", Text),
                        field("lower", "At least", Bound),
                        field("upper", "At most", Bound),
                        field("advice", "What to do otherwise", Text)
                            .hint("“Is the standard's” marks the temperature at which a certified value that depends on it is taken."),
                        field(
                            "standard_temperature",
                            "Is the standard's",
                            Tick,
                        ),
                        field("half_width", "Thermometer, ±", Decimal { optional: true })
                            .hint("How far it may be off; half of its last digit at least."),
                    ]),
                )],
            },
            SheetGroup {
                title: "Waits",
                fields: vec![
                    field(
                        "waits",
                        "Waits",
                        Rows(vec![
                            field("what", "What is waited for", Text),
                            field("minimum_seconds", "At least", Seconds { optional: false }),
                            field(
                                "maximum_seconds",
                                "Last reading within",
                                Seconds { optional: true },
                            )
                            .hint("Empty where nothing spoils."),
                        ]),
                    ),
                    field(
                        "pause_seconds",
                        "Pause between two readings of a point",
                        Seconds { optional: false },
                    )
                    .hint("0 s where none is needed."),
                ],
            },
            SheetGroup {
                title: "Sentences to tick off, one a line",
                fields: vec![
                    field("cautions", "Cautions before the first step", Lines)
                        .hint("What can hurt; local rules and licensed work are always mentioned."),
                    field("preparation", "Making ready", Lines),
                    field("closing", "Putting away", Lines)
                        .hint("Clean, put back, let pressure off, strike off what is spent."),
                ],
            },
        ],
    }
}
