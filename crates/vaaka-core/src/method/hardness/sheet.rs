//! The settings of a hardness check as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Decimal, Limit, Text};
    let field = SheetField::new;
    let number = |key, label| field(key, label, Decimal { optional: true });
    let tester = SheetGroup {
        title: "The tester",
        fields: vec![
            field(
                "procedure",
                "It measures by",
                Choice(vec![
                    ("rockwell", "depth between two forces (Rockwell, ISO 6508)"),
                    ("vickers", "diagonals of a pyramid (Vickers, ISO 6507)"),
                    ("brinell", "diameter of a ball's indentation (Brinell, ISO 6506)"),
                    ("contact_impedance", "a vibrating rod (contact impedance, DIN 50159)"),
                    ("rebound", "a body that springs back (rebound, ISO 16859)"),
                ]),
            ),
            number("force", "Test force, N")
                .hint("For the sizes of Vickers and Brinell indentations: 98.07 N for HV 10."),
            field("sensor", "Code of its sensor, read beside each value", Text).hint(
                "What the tester calls it; empty where it shows none. Its drift is told by a chart of its own.",
            ),
            number("ball", "Diameter of the ball, mm")
                .hint("For the sizes of Brinell indentations."),
        ],
    };
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("mean_limit", "Mean error of each block", Limit { optional: false }),
            field("single_limit", "Every single reading", Limit { optional: true })
                .hint("As the mean when left empty."),
            field(
                "repeatability_by",
                "Repeatability is",
                Choice(vec![
                    ("range", "the range of the readings (Rockwell)"),
                    ("range_of_sizes", "the range of the indentations’ sizes, % of their mean (Vickers, Brinell)"),
                    ("variation", "their standard deviation, % of their mean (contact impedance, rebound)"),
                ]),
            ),
            number("repeatability_limit", "Its limit")
                .hint("In the unit of the display, or in %. Judged from five readings a block on; recorded only when left empty."),
            number("depth_share", "Or so much of the depth, %")
                .hint("For Rockwell, where that is greater: % of what is missing to the end of the scale."),
            number("scale_end", "End of the scale, where the depth is zero")
                .hint("100 for the scales of the cone, 130 for those of the ball."),
        ],
    };
    Sheet {
        schema: "hardness-1",
        groups: vec![
            tester,
            limits,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
