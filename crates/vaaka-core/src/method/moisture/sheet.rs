//! The settings of a moisture check as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Decimal, Limit, Seconds};
    let field = SheetField::new;
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("mean_limit", "Mean error of each material", Limit { optional: false }),
            field("single_limit", "Every single filling", Limit { optional: true })
                .hint("As the mean when left empty."),
            field("range_limit", "Range of the fillings", Limit { optional: true })
                .hint("Recorded only when left empty."),
            field("empty_limit", "What the empty chamber shows", Limit { optional: true })
                .hint("Recorded only when left empty."),
        ],
    };
    let filling = SheetGroup {
        title: "The filling",
        fields: vec![
            field("container_volume", "Volume of the container, cm³", Decimal { optional: true })
                .hint("Where it is stated, the mass of each filling is read beside it, and the bulk density charted."),
            field("pause_seconds", "Pause between two fillings", Seconds { optional: false })
                .hint("0 s where none is needed."),
        ],
    };
    Sheet {
        schema: "moisture-1",
        groups: vec![
            limits,
            filling,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
