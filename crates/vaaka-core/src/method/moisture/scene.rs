//! The chamber: empty, or filled level.

use crate::method::{Primitive, Scene, SpotState};

/// Left edge, top edge, width and height of the chamber.
const CHAMBER: (f64, f64, f64, f64) = (230.0, 60.0, 200.0, 110.0);

fn chamber() -> Vec<Primitive> {
    let (x, y, width, height) = CHAMBER;
    vec![
        Primitive::Plate {
            x: x - 14.0,
            y: y + height,
            width: width + 28.0,
            height: 22.0,
            corner: 6.0,
        },
        Primitive::Line { from: (x, y), to: (x, y + height) },
        Primitive::Line { from: (x + width, y), to: (x + width, y + height) },
    ]
}

/// Nothing is in it.
pub fn empty() -> Scene {
    let (x, y, width, height) = CHAMBER;
    let mut primitives = chamber();
    primitives.push(Primitive::Heading {
        x: x + width / 2.0,
        y: y + height / 2.0 + 10.0,
        text: "empty".into(),
    });
    primitives.push(Primitive::Note {
        x: x + width / 2.0,
        y: 200.0,
        text: "brushed out, untouched".into(),
    });
    Scene {
        description: "The chamber is empty and brushed out; nobody touches it.".into(),
        primitives,
    }
}

/// Filled to the rim, level.
pub fn filled(tag: &str, words: &str) -> Scene {
    let (x, y, width, height) = CHAMBER;
    let mut primitives = chamber();
    primitives.push(Primitive::Plate {
        x: x + 2.0,
        y: y + 6.0,
        width: width - 4.0,
        height: height - 6.0,
        corner: 2.0,
    });
    primitives.push(Primitive::Line { from: (x - 40.0, y + 6.0), to: (x + width + 40.0, y + 6.0) });
    primitives.push(Primitive::Spot {
        x: x + width / 2.0,
        y: y + height / 2.0,
        radius: 34.0,
        state: SpotState::Active,
        label: words.to_owned(),
    });
    primitives.push(Primitive::Note {
        x: x + width / 2.0,
        y: 34.0,
        text: format!("{tag}, loosely to the rim"),
    });
    primitives.push(Primitive::Note {
        x: x + width + 110.0,
        y: y + 11.0,
        text: "level, not pressed".into(),
    });
    primitives.push(Primitive::Note {
        x: x - 100.0,
        y: y + height - 10.0,
        text: "no gaps, nothing on the rim".into(),
    });
    Scene {
        description: format!(
            "{tag}, {words}, is filled loosely into the chamber to its rim, levelled without pressing, gaps topped up."
        ),
        primitives,
    }
}
