//! The settings of a check of the wavelength scale as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Decimal, Limit};
    let field = SheetField::new;
    let scan = SheetGroup {
        title: "The scan, and what is a peak",
        fields: vec![
            field(
                "quantity",
                "The file holds",
                Choice(vec![
                    ("absorbance", "absorbance: peaks stand up"),
                    ("transmittance", "transmittance in %: peaks hang down"),
                ]),
            ),
            field("largest_step", "Steps of the scan, at most", Decimal { optional: false })
                .hint("In the unit of the display."),
            field("window", "Each peak is looked for within ±", Decimal { optional: false })
                .hint("Further than its limit, nearer than the next peak."),
            field("least_height", "A peak stands out by at least", Decimal { optional: false })
                .hint("In absorbance or %; half of the lowest one's height is a good choice."),
            field(
                "peak_by",
                "Its position is",
                Choice(vec![
                    ("parabola", "the vertex of a parabola through its top"),
                    ("centroid", "the centroid of its upper half"),
                ]),
            )
            .hint(
                "As the certificate of the standard defines it; the two differ on a crooked peak.",
            ),
        ],
    };
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("position_limit", "Mean error of each peak", Limit { optional: false }),
            field("range_limit", "Range of repeated scans", Limit { optional: true })
                .hint("Recorded only when left empty."),
        ],
    };
    Sheet {
        schema: "spectrum-1",
        groups: vec![
            scan,
            limits,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
