//! The scales of the mill, their weights, and what happens to each in a year.

use vaaka_core::method::weighing::{AccuracyClass, Pan};
use vaaka_core::method::{Place, Travel};

/// A weight set.
#[derive(Debug, Clone, Copy)]
pub struct WeightSet {
    /// Tag.
    pub tag: &'static str,
    /// Name.
    pub name: &'static str,
    /// Unit of all values.
    pub unit: &'static str,
    /// Serial number of the set.
    pub lot: &'static str,
    /// Certificate number.
    pub certificate: &'static str,
    /// Tag, nominal, certified value, expanded uncertainty (k = 2).
    pub pieces: &'static [(&'static str, &'static str, &'static str, &'static str)],
}

/// The sets.
pub const SETS: [WeightSet; 5] = [
    WeightSet {
        tag: "E2-A",
        name: "Fine weights, wooden case",
        unit: "g",
        lot: "VR-0417",
        certificate: "V-2207",
        pieces: &[
            ("50", "50", "50.00002", "0.00003"),
            ("100", "100", "99.99996", "0.00005"),
            ("200", "200", "200.00008", "0.00010"),
        ],
    },
    WeightSet {
        tag: "F2-A",
        name: "Bench weights, grey case",
        unit: "g",
        lot: "VR-0533",
        certificate: "V-2219",
        pieces: &[
            ("1k", "1000", "1000.004", "0.005"),
            ("2k", "2000", "1999.991", "0.010"),
            ("5k", "5000", "5000.012", "0.025"),
        ],
    },
    WeightSet {
        tag: "M1-A",
        name: "Counting weights, tray by the shelf",
        unit: "g",
        lot: "VR-0588",
        certificate: "V-2226",
        pieces: &[("5k-1", "5000", "5000.06", "0.08"), ("5k-2", "5000", "4999.94", "0.08")],
    },
    WeightSet {
        tag: "M1-B",
        name: "Kitchen weights, red case",
        unit: "kg",
        lot: "VR-0602",
        certificate: "V-2231",
        pieces: &[
            ("5", "5", "5.00007", "0.00008"),
            ("10-1", "10", "10.00011", "0.00015"),
            ("10-2", "10", "10.00010", "0.00015"),
        ],
    },
    WeightSet {
        tag: "M1-C",
        name: "Floor weights, trolley",
        unit: "kg",
        lot: "VR-0611",
        certificate: "V-2240",
        pieces: &[
            ("20-1", "20", "20.0003", "0.0003"),
            ("20-2", "20", "19.9996", "0.0003"),
            ("20-3", "20", "20.0005", "0.0003"),
            ("20-4", "20", "20.0001", "0.0003"),
            ("20-5", "20", "19.9998", "0.0003"),
        ],
    },
];

/// What happens to a scale.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Story {
    /// Nothing but noise.
    Quiet,
    /// From some days before the end on, the gain creeps up by this much a week (parts of the load).
    Drift {
        /// Days before the end.
        onset: f64,
        /// Relative change a week.
        per_week: f64,
    },
    /// Knocked some days before the end, levelled again later.
    Knocked {
        /// Days before the end.
        knock: f64,
        /// Step of the error at the largest load, in display units.
        step: f64,
        /// Days before the end at which it was levelled again.
        levelled: f64,
    },
    /// Somebody adjusts it by its last error every few days, between these days before the end.
    OverAdjusted {
        /// First day, counted back.
        from: f64,
        /// Last day, counted back.
        until: f64,
    },
    /// Fails some days before the end for residue under the pan; cleaned, adjusted, proven.
    Failed {
        /// Days before the end.
        at: f64,
        /// Error at the largest load, in display units.
        error: f64,
    },
}

/// A load of a plan: nominal, travel, place, repeats, charted, pieces.
pub type Load = (&'static str, Travel, Place, i32, bool, &'static [&'static str]);

/// A scale with its plan and story.
#[derive(Debug, Clone, Copy)]
pub struct Scale {
    /// Tag.
    pub tag: &'static str,
    /// Name.
    pub name: &'static str,
    /// Area, by its place in the walk.
    pub area: usize,
    /// Unit.
    pub unit: &'static str,
    /// Scale interval d.
    pub resolution: &'static str,
    /// Maximum.
    pub maximum: &'static str,
    /// Serial number.
    pub serial: &'static str,
    /// Accuracy class.
    pub class: AccuracyClass,
    /// Verification scale interval e.
    pub verification_interval: &'static str,
    /// Pan.
    pub pan: Pan,
    /// Rounding removed with small weights.
    pub added_weights: bool,
    /// Weight set.
    pub set: usize,
    /// Minutes of the check.
    pub minutes: i32,
    /// Loads.
    pub loads: &'static [Load],
    /// Between-check standard deviation at the largest load, display units.
    pub between: f64,
    /// Within-check standard deviation, display units.
    pub within: f64,
    /// Constant error at the largest load, display units.
    pub bias: f64,
    /// Falling minus rising, display units.
    pub hysteresis: f64,
    /// Heavy weights want other cautions.
    pub heavy: bool,
    /// Story.
    pub story: Story,
}

/// Areas along the walk.
pub const AREAS: [&str; 4] = ["Resin kitchen", "Press hall", "Finishing", "Colour lab"];

use Place::{BackLeft, FrontRight, Middle};
use Travel::{Corner, Falling, Rising};

/// The scales.
pub const SCALES: [Scale; 7] = [
    Scale {
        tag: "R-02",
        name: "Tank scale",
        area: 0,
        unit: "kg",
        resolution: "0.001",
        maximum: "60",
        serial: "KT-60-118",
        class: AccuracyClass::III,
        verification_interval: "0.01",
        pan: Pan::Rectangular,
        added_weights: false,
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
        heavy: true,
        story: Story::Drift { onset: 25.0, per_week: 0.0002 },
    },
    Scale {
        tag: "R-05",
        name: "Bench scale",
        area: 0,
        unit: "g",
        resolution: "0.01",
        maximum: "6200",
        serial: "KB-6-077",
        class: AccuracyClass::II,
        verification_interval: "0.1",
        pan: Pan::Round,
        added_weights: false,
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
        heavy: false,
        story: Story::OverAdjusted { from: 150.0, until: 62.0 },
    },
    Scale {
        tag: "R-08",
        name: "Counting scale",
        area: 0,
        unit: "g",
        resolution: "5",
        maximum: "15000",
        serial: "KC-15-204",
        class: AccuracyClass::III,
        verification_interval: "5",
        pan: Pan::Rectangular,
        added_weights: false,
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
        heavy: false,
        story: Story::Quiet,
    },
    Scale {
        tag: "R-09",
        name: "Mixing scale",
        area: 0,
        unit: "kg",
        resolution: "0.001",
        maximum: "30",
        serial: "KT-30-121",
        class: AccuracyClass::III,
        verification_interval: "0.01",
        pan: Pan::Rectangular,
        added_weights: false,
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
        heavy: true,
        story: Story::Quiet,
    },
    Scale {
        tag: "P-06",
        name: "Roll scale",
        area: 1,
        unit: "kg",
        resolution: "0.01",
        maximum: "150",
        serial: "KP-150-031",
        class: AccuracyClass::III,
        verification_interval: "0.05",
        pan: Pan::Rectangular,
        added_weights: false,
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
        heavy: true,
        story: Story::Knocked { knock: 23.2, step: 0.052, levelled: 20.9 },
    },
    Scale {
        tag: "F-04",
        name: "Drum scale",
        area: 2,
        unit: "kg",
        resolution: "0.1",
        maximum: "300",
        serial: "KD-300-009",
        class: AccuracyClass::III,
        verification_interval: "0.1",
        pan: Pan::Rectangular,
        added_weights: true,
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
        heavy: true,
        story: Story::Failed { at: 37.4, error: 0.27 },
    },
    Scale {
        tag: "C-01",
        name: "Analytical balance",
        area: 3,
        unit: "g",
        resolution: "0.0001",
        maximum: "220",
        serial: "KA-220-012",
        class: AccuracyClass::I,
        verification_interval: "0.001",
        pan: Pan::Round,
        added_weights: false,
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
        heavy: false,
        story: Story::Quiet,
    },
];

/// Sentences to tick before anything is lifted.
pub fn cautions(scale: &Scale) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    if scale.heavy {
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

/// Sentences of the preparation.
pub fn preparation(scale: &Scale) -> Vec<String> {
    let warm = if scale.class == AccuracyClass::I {
        "Switched on for an hour at least."
    } else {
        "Switched on for half an hour at least."
    };
    let mut lines = vec![
        "Level, clean and free on all sides; nothing on the pan.".to_owned(),
        warm.to_owned(),
        "Loaded once to about its largest load, and emptied.".to_owned(),
    ];
    if scale.class == AccuracyClass::I {
        lines.push("Doors shut, no draught, weights as warm as the room.".to_owned());
    }
    lines
}

/// Sentences of the close.
pub fn closing(scale: &Scale) -> Vec<String> {
    let set = SETS[scale.set];
    vec![
        format!("Weights wiped and back in their place: {}.", set.name.to_lowercase()),
        "Pan clean, scale free for work.".to_owned(),
    ]
}
