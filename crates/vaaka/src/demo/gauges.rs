//! The other gauges of the mill: pressure, temperature, length.

use vaaka_core::method::gauge::Presentation;
use vaaka_core::method::{Place, Travel};
use vaaka_core::round::DueRule;

use super::gear::{Family, Form, GaugePlan, Gear, Story};

use Place::Middle;
use Travel::{Falling, Rising};

const PRESSURE: GaugePlan = GaugePlan {
    presentation: Presentation::Applied,
    mean_limit: (Form::PercentOfRange, "0", "1"),
    hysteresis_limit: Some("4"),
    settings: &[("the unit on the display", "bar")],
    conditions: &[],
    waits: &[],
    pause_seconds: 0,
    cautions: &[
        "Oil under pressure: shield closed, glasses on, nobody in line with the fitting.",
        "The press stands open and locked; only the hand pump makes pressure.",
    ],
    preparation: &[
        "Reference connected at the test port, valve to the press shut.",
        "Pumped once to the highest point and let down again.",
        "Vented: the gauge shows zero.",
    ],
    closing: &[
        "Vented, then disconnected; drops wiped up.",
        "Reference capped and back in its case.",
    ],
    due: DueRule::EachShift,
};

const TEMPERATURE: GaugePlan = GaugePlan {
    presentation: Presentation::Applied,
    mean_limit: (Form::LargerOf, "0.8", "0.7"),
    hysteresis_limit: None,
    settings: &[("the probe type", "Pt100"), ("the unit on the display", "°C = C = degC")],
    conditions: &[(
        "Room temperature",
        "°C",
        "15",
        "30",
        "Shut the door and wait, or check it in the next shift.",
    )],
    waits: &[("Let probe and well settle at the first point", 600, None)],
    pause_seconds: 0,
    cautions: &[
        "The well is hot to 160 °C: gloves, and nothing that burns near it.",
        "Never quench the probe; lay it on the rack to cool.",
    ],
    preparation: &["Well clean and dry.", "Probe pushed down to the mark."],
    closing: &["Well set to 40 °C, probe on the rack.", "Lid on once it is cool."],
    due: DueRule::EachShift,
};

const MICROMETER: GaugePlan = GaugePlan {
    presentation: Presentation::Inserted,
    mean_limit: (Form::Absolute, "0.004", "0"),
    hysteresis_limit: None,
    settings: &[("the unit on the display", "mm")],
    conditions: &[(
        "Temperature at the bench",
        "°C",
        "18",
        "24",
        "Wait until the bench is back between 18 and 24 °C; warm blocks read long.",
    )],
    waits: &[("Let blocks and micrometer lie together", 120, None)],
    pause_seconds: 0,
    cautions: &["Blocks in gloves or with the tongs; edges are sharp, faces mark easily."],
    preparation: &[
        "Faces of the micrometer wiped with a clean cloth.",
        "Faces together with the ratchet: it shows zero.",
    ],
    closing: &["Blocks oiled and back in their case.", "Micrometer open by a turn and in its box."],
    due: DueRule::EachShift,
};

const CALLIPER: GaugePlan = GaugePlan {
    presentation: Presentation::Inserted,
    mean_limit: (Form::Absolute, "0.03", "0"),
    hysteresis_limit: None,
    settings: &[("the unit on the display", "mm")],
    conditions: &[],
    waits: &[],
    pause_seconds: 0,
    cautions: &["Blocks in gloves or with the tongs; jaws are sharp."],
    preparation: &[
        "Jaws wiped; no light between them when they are shut.",
        "Jaws shut: it shows zero.",
    ],
    closing: &["Blocks oiled and back in their case.", "Calliper wiped, switched off."],
    due: DueRule::EachShift,
};

/// The gauges.
pub const GAUGES: [Gear; 4] = [
    Gear {
        tag: "P-11",
        name: "Press gauge",
        area: 1,
        unit: "bar",
        resolution: "1",
        maximum: "400",
        serial: "VG-400-031",
        family: Family::Gauge(&PRESSURE),
        set: 5,
        minutes: 7,
        loads: &[
            ("80", Rising, Middle, 1, false, &["80"]),
            ("200", Rising, Middle, 1, true, &["200"]),
            ("320", Rising, Middle, 1, true, &["320"]),
            ("200", Falling, Middle, 1, false, &["200"]),
            ("80", Falling, Middle, 1, false, &["80"]),
        ],
        between: 0.55,
        within: 0.25,
        bias: 0.6,
        hysteresis: 0.8,
        work: Some(("80", "320")),
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "R-21",
        name: "Pot thermometer",
        area: 0,
        unit: "°C",
        resolution: "0.1",
        maximum: "200",
        serial: "VT-200-009",
        family: Family::Gauge(&TEMPERATURE),
        set: 6,
        minutes: 16,
        loads: &[
            ("60", Rising, Middle, 1, false, &["60"]),
            ("110", Rising, Middle, 1, true, &["110"]),
            ("160", Rising, Middle, 2, true, &["160"]),
        ],
        between: 0.09,
        within: 0.04,
        bias: -0.08,
        hysteresis: 0.0,
        work: Some(("60", "160")),
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "F-11",
        name: "Micrometer",
        area: 2,
        unit: "mm",
        resolution: "0.001",
        maximum: "25",
        serial: "VM-25-140",
        family: Family::Gauge(&MICROMETER),
        set: 7,
        minutes: 8,
        loads: &[
            ("2.5", Rising, Middle, 2, false, &["2.5"]),
            ("10.3", Rising, Middle, 2, true, &["10.3"]),
            ("17.6", Rising, Middle, 2, false, &["17.6"]),
            ("25", Rising, Middle, 2, true, &["25"]),
        ],
        between: 0.00075,
        within: 0.0004,
        bias: 0.0005,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "F-14",
        name: "Calliper",
        area: 2,
        unit: "mm",
        resolution: "0.01",
        maximum: "150",
        serial: "VC-150-066",
        family: Family::Gauge(&CALLIPER),
        set: 7,
        minutes: 4,
        loads: &[
            ("10.3", Rising, Middle, 1, false, &["10.3"]),
            ("50", Rising, Middle, 1, true, &["50"]),
            ("125", Rising, Middle, 2, true, &["50", "75"]),
        ],
        between: 0.006,
        within: 0.003,
        bias: 0.002,
        hysteresis: 0.0,
        work: Some(("10", "125")),
        any_of_kind: true,
        story: Story::Quiet,
    },
];
