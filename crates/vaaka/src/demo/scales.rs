//! The scales of the mill, and what happens to each in a year.

use serde_json::Value;
use vaaka_core::method::weighing::{self, AccuracyClass, LimitStage, Pan};
use vaaka_core::method::{Around, Place, Travel};
use vaaka_core::round::DueRule;

use super::gear::{Gear, Player, Story};
use super::said::{decimal, fault};
use super::standards::SETS;
use crate::AppError;

use Place::{BackLeft, FrontRight, Middle};
use Travel::{Corner, Falling, Rising};

/// What only a scale has.
#[derive(Debug, Clone, Copy)]
pub struct Scale {
    /// Accuracy class.
    class: AccuracyClass,
    /// Verification scale interval e.
    verification_interval: &'static str,
    /// Pan.
    pan: Pan,
    /// Rounding removed with small weights.
    added_weights: bool,
    /// Heavy weights want other cautions.
    heavy: bool,
}

impl Player for Scale {
    fn method_key(&self) -> &'static str {
        weighing::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "scale"
    }

    fn firmware(&self, _tag: &str) -> &'static str {
        "2.14"
    }

    fn added_weights(&self) -> bool {
        self.added_weights
    }

    fn due_rule(&self) -> DueRule {
        DueRule::EachShift
    }

    fn settings(&self, gear: &Gear) -> Result<Value, AppError> {
        let case = SETS[gear.set].name.to_lowercase();
        let settings = weighing::Settings::V1(weighing::SettingsV1 {
            class: self.class,
            verification_interval: decimal(self.verification_interval)?,
            stage: LimitStage::InService,
            pan: self.pan,
            added_weights: self.added_weights,
            case: case.clone(),
            around: Around {
                preparation: scale_preparation(self.class),
                cautions: scale_cautions(self.heavy),
                // What can crush a foot is read line by line each time.
                fold_cautions: !self.heavy,
                closing: vec![
                    format!("Weights wiped and back in their place: {case}."),
                    "Pan clean, scale free for work.".to_owned(),
                ],
                ..Around::default()
            },
        });
        serde_json::to_value(settings).map_err(fault)
    }
}

/// The scales.
pub const SCALES: [Gear; 7] = [
    Gear {
        tag: "R-02",
        name: "Tank scale",
        area: 0,
        unit: "kg",
        resolution: "0.001",
        maximum: "60",
        serial: "KT-60-118",
        family: &Scale {
            class: AccuracyClass::III,
            verification_interval: "0.01",
            pan: Pan::Rectangular,
            added_weights: false,
            heavy: true,
        },
        set: 3,
        minutes: 6,
        loads: &[
            ("5", Rising, Middle, 1, false, &["5"]),
            ("10", Rising, Middle, 1, true, &["10-1"]),
            ("20", Rising, Middle, 3, true, &["10-1", "10-2"]),
            ("10", Falling, Middle, 1, false, &["10-1"]),
            ("10", Corner, BackLeft, 1, false, &["10-2"]),
        ],
        between: 0.0021,
        within: 0.0011,
        bias: 0.0012,
        hysteresis: 0.0008,
        work: None,
        any_of_kind: false,
        story: Story::Drift { onset: 25.0, per_week: 0.0002 },
    },
    Gear {
        tag: "R-05",
        name: "Bench scale",
        area: 0,
        unit: "g",
        resolution: "0.01",
        maximum: "6200",
        serial: "KB-6-077",
        family: &Scale {
            class: AccuracyClass::II,
            verification_interval: "0.1",
            pan: Pan::Round,
            added_weights: false,
            heavy: false,
        },
        set: 1,
        minutes: 5,
        loads: &[
            ("1000", Rising, Middle, 1, false, &["1k"]),
            ("2000", Rising, Middle, 1, true, &["2k"]),
            ("5000", Rising, Middle, 3, true, &["5k"]),
            ("2000", Falling, Middle, 1, false, &["2k"]),
        ],
        between: 0.032,
        within: 0.018,
        bias: -0.02,
        hysteresis: 0.01,
        work: None,
        any_of_kind: false,
        story: Story::OverAdjusted { from: 150.0, until: 62.0 },
    },
    Gear {
        tag: "R-08",
        name: "Counting scale",
        area: 0,
        unit: "g",
        resolution: "5",
        maximum: "15000",
        serial: "KC-15-204",
        family: &Scale {
            class: AccuracyClass::III,
            verification_interval: "5",
            pan: Pan::Rectangular,
            added_weights: false,
            heavy: false,
        },
        set: 2,
        minutes: 3,
        loads: &[
            ("5000", Rising, Middle, 1, true, &["5k-1"]),
            ("10000", Rising, Middle, 1, true, &["5k-1", "5k-2"]),
        ],
        between: 1.1,
        within: 0.6,
        bias: 0.4,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "R-09",
        name: "Mixing scale",
        area: 0,
        unit: "kg",
        resolution: "0.001",
        maximum: "30",
        serial: "KT-30-121",
        family: &Scale {
            class: AccuracyClass::III,
            verification_interval: "0.01",
            pan: Pan::Rectangular,
            added_weights: false,
            heavy: true,
        },
        set: 3,
        minutes: 5,
        loads: &[
            ("5", Rising, Middle, 1, false, &["5"]),
            ("10", Rising, Middle, 1, true, &["10-1"]),
            ("20", Rising, Middle, 3, true, &["10-1", "10-2"]),
        ],
        between: 0.0018,
        within: 0.0010,
        bias: -0.0009,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "P-06",
        name: "Roll scale",
        area: 1,
        unit: "kg",
        resolution: "0.01",
        maximum: "150",
        serial: "KP-150-031",
        family: &Scale {
            class: AccuracyClass::III,
            verification_interval: "0.05",
            pan: Pan::Rectangular,
            added_weights: false,
            heavy: true,
        },
        set: 4,
        minutes: 9,
        loads: &[
            ("20", Rising, Middle, 1, false, &["20-1"]),
            ("60", Rising, Middle, 1, true, &["20-1", "20-2", "20-3"]),
            ("100", Rising, Middle, 2, true, &["20-1", "20-2", "20-3", "20-4", "20-5"]),
            ("60", Falling, Middle, 1, false, &["20-1", "20-2", "20-3"]),
        ],
        between: 0.011,
        within: 0.006,
        bias: 0.006,
        hysteresis: 0.006,
        work: None,
        any_of_kind: false,
        story: Story::Knocked { knock: 23.2, step: 0.052, levelled: 20.9 },
    },
    Gear {
        tag: "F-04",
        name: "Drum scale",
        area: 2,
        unit: "kg",
        resolution: "0.1",
        maximum: "300",
        serial: "KD-300-009",
        family: &Scale {
            class: AccuracyClass::III,
            verification_interval: "0.1",
            pan: Pan::Rectangular,
            added_weights: true,
            heavy: true,
        },
        set: 4,
        minutes: 8,
        loads: &[
            ("40", Rising, Middle, 1, true, &["20-1", "20-2"]),
            ("100", Rising, Middle, 1, true, &["20-1", "20-2", "20-3", "20-4", "20-5"]),
            ("40", Corner, FrontRight, 1, false, &["20-1", "20-2"]),
        ],
        between: 0.016,
        within: 0.008,
        bias: -0.012,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Failed { at: 37.4, error: 0.27 },
    },
    Gear {
        tag: "C-01",
        name: "Analytical balance",
        area: 3,
        unit: "g",
        resolution: "0.0001",
        maximum: "220",
        serial: "KA-220-012",
        family: &Scale {
            class: AccuracyClass::I,
            verification_interval: "0.001",
            pan: Pan::Round,
            added_weights: false,
            heavy: false,
        },
        set: 0,
        minutes: 7,
        loads: &[
            ("50", Rising, Middle, 1, false, &["50"]),
            ("100", Rising, Middle, 1, true, &["100"]),
            ("200", Rising, Middle, 3, true, &["200"]),
            ("100", Falling, Middle, 1, false, &["100"]),
        ],
        between: 0.00019,
        within: 0.00010,
        bias: 0.00012,
        hysteresis: 0.00003,
        work: None,
        any_of_kind: false,
        story: Story::Quiet,
    },
];

fn scale_cautions(heavy: bool) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    if heavy {
        lines.push(
            "Pieces of 10 kg and more: lift with two or with the hoist, back straight.".into(),
        );
        lines.push(
            "Feet clear of the drop, safety shoes on, nobody reaches under a hanging weight."
                .into(),
        );
    } else {
        lines.push("Weights in gloves or with the fork; never drop one on the pan.".into());
    }
    lines.push(
        "Sealed scales are adjusted by authorised people only; a check changes nothing.".into(),
    );
    lines
}

fn scale_preparation(class: AccuracyClass) -> Vec<String> {
    let fine = class == AccuracyClass::I;
    let warm = if fine {
        "Switched on for an hour at least."
    } else {
        "Switched on for half an hour at least."
    };
    let mut lines = vec![
        "Level, clean and free on all sides; nothing on the pan.".to_owned(),
        warm.to_owned(),
        "Loaded once to about its largest load, and emptied.".to_owned(),
    ];
    if fine {
        lines.push("Doors shut, no draught, weights as warm as the room.".to_owned());
    }
    lines
}
