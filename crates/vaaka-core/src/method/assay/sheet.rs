//! The settings of an assay as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Choice, Decimal, Limit, Tick};
    let field = SheetField::new;
    let absorbance = SheetGroup {
        title: "Absorbance",
        fields: vec![
            field("absorbance_step", "Resolution, absorbance", Decimal { optional: false }),
            field("linear_to", "Linear range ends at", Decimal { optional: false })
                .hint("In absorbance. A reading above it fails the check."),
            field("bends_above", "Warn above", Decimal { optional: true })
                .hint("In absorbance; no warning when left empty."),
            field(
                "blank",
                "The blank",
                Choice(vec![
                    ("point", "is the zero point of the curve"),
                    ("subtracted", "is subtracted from every reading"),
                ]),
            ),
            field(
                "blank_readings",
                "Blank readings",
                Choice(vec![
                    ("1", "once"),
                    ("2", "twice"),
                    ("3", "three times"),
                    ("5", "five times"),
                ]),
            ),
            field("blank_limit", "Limit of the blank, ±", Decimal { optional: true })
                .hint("In absorbance; recorded only when left empty."),
        ],
    };
    let curve = SheetGroup {
        title: "Calibration curve",
        fields: vec![
            field(
                "curve",
                "Source",
                Choice(vec![
                    ("measured", "measured in each check: the first standard set is the calibration, all other points are controls"),
                    ("kept", "stored, as entered below: every point is a control"),
                ]),
            )
            .hint("Each plan version is a version of the curve."),
            field("slope", "Usual slope, absorbance per unit of concentration", Decimal { optional: false })
                .hint("For a stored curve: its slope."),
            field("slope_band", "Slope limit, ± %", Decimal { optional: false })
                .hint("A slope outside it fails the check."),
            field("intercept", "Intercept of a stored curve, absorbance", Decimal { optional: true }),
            field("kept_uncertainty", "Relative standard uncertainty of a stored curve, %", Decimal { optional: true }),
            field(
                "weighting",
                "Weighting",
                Choice(vec![
                    ("equal", "none"),
                    ("by_concentration", "1/c"),
                    ("by_square", "1/c²"),
                ]),
            )
            .hint("Weighted fits need the blank subtracted."),
            field("through_origin", "Through the origin", Tick)
                .hint("Only where a zero intercept has been shown."),
        ],
    };
    let limits = SheetGroup {
        title: "Limits",
        fields: vec![
            field("control_limit", "Error of each control", Limit { optional: false }),
            field("curve_limit", "Error of each calibration standard", Limit { optional: true })
                .hint("Recorded only when left empty."),
        ],
    };
    Sheet {
        schema: "assay-1",
        groups: vec![
            absorbance,
            curve,
            limits,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
