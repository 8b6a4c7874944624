//! The settings of a gauge plan as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Limit, Seconds, Tick};
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
                ),
                field("points_together", "All points are read off one screen", Tick).hint(
                    "For one piece that shows several values at once; each is kept as a reading of its own.",
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
            settings_group(),
            conditions_group(true),
            waits_group(Some(
                field(
                    "pause_seconds",
                    "Pause between two readings of a point",
                    Seconds { optional: false },
                )
                .hint("0 s where none is needed."),
            )),
            sentences_group(),
        ],
    }
}
