//! The settings of a check of one port as a sheet.

use crate::method::around::{conditions_group, sentences_group, settings_group, waits_group};
use crate::method::{Sheet, SheetField, SheetGroup, SheetKind};

pub fn sheet() -> Sheet {
    use SheetKind::{Decimal, Limit, Text};
    let field = SheetField::new;
    let needed = || Decimal { optional: false };
    let free = || Decimal { optional: true };
    let sweep = SheetGroup {
        title: "Sweep and limits",
        fields: vec![
            field("largest_step", "Largest frequency step, GHz", needed())
                .hint("Corrected values are interpolated linearly between points."),
            field("vector_limit", "Mean error, real and imaginary part", Limit { optional: false }),
            field("range_limit", "Range over reconnects", Limit { optional: true })
                .hint("Recorded only when left empty."),
        ],
    };
    let kit = SheetGroup {
        title: "Calibration kit",
        fields: vec![
            field("kit", "Tag of the kit", Text),
            field("impedance", "Reference impedance, Ω", needed()),
            field("kit_limit", "Definition of a standard known to ±", needed())
                .hint("In Γ, real and imaginary part; enters the uncertainty."),
            field("least_apart", "Smallest separation of two standards", needed())
                .hint("In Γ, as measured. Closer than this the same standard was connected twice, and the check fails."),
            field("open_c0", "Open: C₀, fF", needed()),
            field("open_c1", "Open: C₁, 10⁻²⁷ F/Hz", free()),
            field("open_c2", "Open: C₂, 10⁻³⁶ F/Hz²", free()),
            field("open_c3", "Open: C₃, 10⁻⁴⁵ F/Hz³", free()),
            field("open_delay", "Open: delay, ps", needed()),
            field("short_l0", "Short: L₀, pH", needed()),
            field("short_l1", "Short: L₁, 10⁻²⁴ H/Hz", free()),
            field("short_l2", "Short: L₂, 10⁻³³ H/Hz²", free()),
            field("short_l3", "Short: L₃, 10⁻⁴² H/Hz³", free()),
            field("short_delay", "Short: delay, ps", needed()),
            field("load_resistance", "Load: resistance, Ω", needed()),
            field("load_inductance", "Load: series inductance, pH", free()),
            field("load_delay", "Load: delay, ps", free()),
            field("loss", "Offset loss of open and short, GΩ/s at 1 GHz", free()),
        ],
    };
    Sheet {
        schema: "reflection-1",
        groups: vec![
            sweep,
            kit,
            settings_group(),
            conditions_group(false),
            waits_group(None),
            sentences_group(),
        ],
    }
}
