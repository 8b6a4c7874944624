//! The settings of a weighing plan as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Decimal, Text, Tick};
    let field = SheetField::new;
    Sheet {
        schema: "weighing-1",
        groups: vec![
            SheetGroup {
                title: "Limits, by OIML R 76-1 table 6",
                fields: vec![
                    field(
                        "class",
                        "Accuracy class",
                        Choice(vec![("I", "I, special"), ("II", "II, high"), ("III", "III, medium"), ("IIII", "IIII, ordinary")]),
                    ),
                    field("verification_interval", "Verification scale interval e", Decimal { optional: false })
                        .hint("From the plate of the scale, in the unit of its display; never guessed from d."),
                    field(
                        "stage",
                        "Limits as found",
                        Choice(vec![("in_service", "in service"), ("initial", "initial verification (half as wide)")]),
                    )
                    .hint("As left is always judged by the initial ones."),
                ],
            },
            SheetGroup {
                title: "The scale",
                fields: vec![
                    field(
                        "pan",
                        "Pan",
                        Choice(vec![("round", "round"), ("rectangular", "rectangular or a platform")]),
                    ),
                    field("added_weights", "Rounding is removed with small added weights", Tick),
                    field("case", "Where the weights stand", Text).hint("For the drawing, like “kitchen weights, red case”."),
                ],
            },
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
