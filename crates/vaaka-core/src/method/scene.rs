//! A scene: where to put what, as typed primitives that the web draws.
//!
//! Families compose scenes; only the web crate knows SVG. The coordinates are those of a sheet
//! 700 wide and 214 high, x to the right, y down.

/// State of a place where something can be put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SpotState {
    /// Put it here now.
    Active,
    /// A place, not meant now.
    Idle,
    /// A point of a course, behind us.
    Done,
    /// A point of a course, where we are.
    Here,
    /// Used before: not a place any more.
    Used,
    /// A place to come, small: one of many.
    Free,
}

/// One thing in a drawing.
#[derive(Debug, Clone, PartialEq)]
pub enum Primitive {
    /// A rectangular surface.
    Plate {
        /// Left edge.
        x: f64,
        /// Top edge.
        y: f64,
        /// Width.
        width: f64,
        /// Height.
        height: f64,
        /// Corner radius.
        corner: f64,
    },
    /// A round surface.
    Disc {
        /// Centre.
        x: f64,
        /// Centre.
        y: f64,
        /// Radius.
        radius: f64,
    },
    /// A place for a piece.
    Spot {
        /// Centre.
        x: f64,
        /// Centre.
        y: f64,
        /// Radius.
        radius: f64,
        /// Meant now or not.
        state: SpotState,
        /// What goes there, large.
        label: String,
    },
    /// A piece to take, drawn as a weight with a knob.
    Weight {
        /// Left edge.
        x: f64,
        /// Bottom edge.
        bottom: f64,
        /// Width.
        width: f64,
        /// Height without the knob.
        height: f64,
        /// What is engraved on it.
        label: String,
    },
    /// A line, for a course or an axis.
    Line {
        /// Start.
        from: (f64, f64),
        /// End.
        to: (f64, f64),
    },
    /// A value in large digits.
    Heading {
        /// Middle.
        x: f64,
        /// Base line.
        y: f64,
        /// The words.
        text: String,
    },
    /// A few words.
    Note {
        /// Middle.
        x: f64,
        /// Base line.
        y: f64,
        /// The words.
        text: String,
    },
}

/// A drawing with the sentence that says the same.
#[derive(Debug, Clone, PartialEq)]
pub struct Scene {
    /// The sentence, for those who do not see the drawing.
    pub description: String,
    /// What is drawn, back to front.
    pub primitives: Vec<Primitive>,
}

impl Scene {
    /// Width of the sheet.
    pub const WIDTH: f64 = 700.0;
    /// Height of the sheet.
    pub const HEIGHT: f64 = 214.0;
}
