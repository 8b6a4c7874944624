//! The other gauges of the mill: pressure, temperature, length.

use serde_json::Value;
use vaaka_core::method::gauge::{self, Presentation};
use vaaka_core::method::{self, Around, Bound, Place, Travel};
use vaaka_core::round::DueRule;

use super::gear::{Gear, Player, Story};
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::{Falling, Rising};

/// What the plan of a gauge says.
#[derive(Debug, Clone, Copy)]
pub struct GaugePlan {
    /// How the reference comes to the gauge.
    pub presentation: gauge::Presentation,
    /// Form, half-width and percentage of the limit of the mean.
    pub mean_limit: (Form, &'static str, &'static str),
    /// Half-width of the limit of the hysteresis, in the unit of the display.
    pub hysteresis_limit: Option<&'static str>,
    /// Settings: name, expected.
    pub settings: &'static [(&'static str, &'static str)],
    /// Conditions: name, unit, least, greatest, advice.
    pub conditions:
        &'static [(&'static str, &'static str, &'static str, &'static str, &'static str)],
    /// Waits: what, shortest and longest in seconds.
    pub waits: &'static [(&'static str, u32, Option<u32>)],
    /// Shortest time between readings.
    pub pause_seconds: u32,
    /// Cautions.
    pub cautions: &'static [&'static str],
    /// Preparation.
    pub preparation: &'static [&'static str],
    /// Closing.
    pub closing: &'static [&'static str],
    /// How often it is due.
    pub due: DueRule,
}

/// Form of a limit.
#[derive(Debug, Clone, Copy)]
pub enum Form {
    /// Absolute.
    Absolute,
    /// Percentage of the span.
    PercentOfRange,
    /// The larger of an absolute value and a percentage of the reading.
    LargerOf,
}

impl Player for GaugePlan {
    fn method_key(&self) -> &'static str {
        gauge::KEY
    }

    fn words(&self, unit: &str) -> &'static str {
        match unit {
            "bar" => "pressure gauge",
            "°C" => "thermometer",
            _ => "length gauge",
        }
    }

    fn firmware(&self, tag: &str) -> &'static str {
        if tag == "R-21" { "1.08" } else { "" }
    }

    fn due_rule(&self) -> DueRule {
        self.due
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(gauge_settings(self)?).map_err(fault)
    }
}

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
        family: &PRESSURE,
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
        family: &TEMPERATURE,
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
        family: &MICROMETER,
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
        family: &CALLIPER,
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

fn limit((form, half_width, percent): (Form, &str, &str)) -> Result<method::Limit, AppError> {
    Ok(method::Limit::both(match form {
        Form::Absolute => method::LimitForm::Absolute { half_width: decimal(half_width)? },
        Form::PercentOfRange => method::LimitForm::PercentOfRange { percent: decimal(percent)? },
        Form::LargerOf => method::LimitForm::LargerOf {
            half_width: decimal(half_width)?,
            percent: decimal(percent)?,
        },
    }))
}

/// Settings of the plan of a gauge.
pub fn gauge_settings(plan: &GaugePlan) -> Result<gauge::Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let bound = |text: &str| -> Result<Option<Bound>, AppError> {
        if text.is_empty() { Ok(None) } else { Ok(Some(Bound::Fixed(decimal(text)?))) }
    };
    let conditions = plan
        .conditions
        .iter()
        .map(|(name, unit, lower, upper, advice)| {
            Ok(method::Precondition {
                name: (*name).to_owned(),
                unit: (*unit).to_owned(),
                lower: bound(lower)?,
                upper: bound(upper)?,
                advice: (*advice).to_owned(),
                standard_temperature: false,
                half_width: None,
            })
        })
        .collect::<Result<_, AppError>>()?;
    let hysteresis_limit = plan
        .hysteresis_limit
        .map(|half_width| limit((Form::Absolute, half_width, "0")))
        .transpose()?;
    Ok(gauge::Settings::V1(gauge::SettingsV1 {
        presentation: plan.presentation,
        mean_limit: limit(plan.mean_limit)?,
        single_limit: None,
        hysteresis_limit,
        range_limit: None,
        pause_seconds: plan.pause_seconds,
        points_together: false,
        around: Around {
            capture_saves: false,
            settings: plan
                .settings
                .iter()
                .map(|(name, expected)| method::RequiredSetting {
                    name: (*name).to_owned(),
                    kind: Some(method::SettingKind::Exactly),
                    expected: (*expected).to_owned(),
                    by_lead: false,
                })
                .collect(),
            conditions,
            waits: plan
                .waits
                .iter()
                .map(|(what, minimum_seconds, maximum_seconds)| method::Wait {
                    what: (*what).to_owned(),
                    minimum_seconds: *minimum_seconds,
                    maximum_seconds: *maximum_seconds,
                })
                .collect(),
            cautions: lines(plan.cautions),
            preparation: lines(plan.preparation),
            closing: lines(plan.closing),
            fold_cautions: true,
            together: false,
        },
    }))
}
