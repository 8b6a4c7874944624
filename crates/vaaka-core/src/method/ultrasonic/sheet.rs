//! The settings of an ultrasonic thickness check as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Decimal, Limit, Rows};
    let field = SheetField::new;
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("mean_limit", "Mean error at each step", Limit { optional: false }),
            field("single_limit", "Every single reading", Limit { optional: true })
                .hint("As the mean when left empty."),
            field("range_limit", "Range of the readings at a step", Limit { optional: true })
                .hint("Recorded only when left empty."),
            field("residual_limit", "Largest departure from a line", Limit { optional: true })
                .hint("Recorded only when left empty; known from three steps on."),
        ],
    };
    let gauge = SheetGroup {
        title: "Velocity and zero",
        fields: vec![
            field("velocity", "Velocity in the block's material at 20 °C, m/s", Decimal { optional: true })
                .hint("Where it is stated, the velocity which the gauge is set to is read, and velocity and zero that the steps speak for are charted."),
            field("velocity_band", "Its band, ± %", Decimal { optional: true })
                .hint("Recorded only when left empty."),
            field("per_degree", "It falls by so much for each °C, m/s", Decimal { optional: true })
                .hint("Needs a condition below that is the standard's temperature; the charted velocity is brought to 20 °C."),
            field(
                "set_on",
                "Steps on which velocity and zero are set",
                Rows(vec![field("thickness", "Thickness, mm", Decimal { optional: false })]),
            )
            .hint("At least one step of the check is none of them: it is the one that proves."),
            field("thinnest", "Thinnest thickness that counts, mm", Decimal { optional: true })
                .hint("Below it this probe is not used, and no step is checked."),
        ],
    };
    Sheet {
        schema: "ultrasonic-1",
        groups: vec![
            limits,
            gauge,
            settings_group(),
            conditions_group(true),
            waits_group(None),
            sentences_group(),
        ],
    }
}
