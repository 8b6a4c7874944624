//! The cell in the beam: its marked side to the lamp, filled above the beam.

use crate::method::{Primitive, Scene, SpotState};

/// A cell with something in it.
pub fn in_the_beam(what: &str, of: &str) -> Scene {
    let (left, top, width, height) = (300.0, 52.0, 96.0, 128.0);
    let beam = 122.0;
    let fill = 78.0;
    let note = |x: f64, y: f64, text: &str| Primitive::Note { x, y, text: text.into() };
    let primitives = vec![
        Primitive::Line { from: (104.0, beam), to: (604.0, beam) },
        Primitive::Disc { x: 84.0, y: beam, radius: 22.0 },
        note(84.0, 172.0, "lamp"),
        Primitive::Plate {
            x: left - 16.0,
            y: top + height,
            width: width + 32.0,
            height: 18.0,
            corner: 4.0,
        },
        Primitive::Plate { x: left, y: fill, width, height: top + height - fill, corner: 2.0 },
        Primitive::Line { from: (left, top), to: (left, top + height) },
        Primitive::Line { from: (left + width, top), to: (left + width, top + height) },
        // The mark on the side towards the lamp.
        Primitive::Line { from: (left - 10.0, top + 10.0), to: (left, top + 10.0) },
        Primitive::Line { from: (left - 10.0, top + 10.0), to: (left - 10.0, top + 24.0) },
        note(left - 92.0, top + 18.0, "mark to the lamp"),
        Primitive::Spot {
            x: left + width / 2.0,
            y: beam,
            radius: 34.0,
            state: SpotState::Active,
            label: what.to_owned(),
        },
        note(left + width + 84.0, fill + 4.0, "filled to here"),
        note(left + width / 2.0, top - 14.0, of),
        Primitive::Plate { x: 560.0, y: beam - 30.0, width: 64.0, height: 60.0, corner: 6.0 },
        note(592.0, 172.0, "detector"),
    ];
    Scene {
        description: format!(
            "The cell with {what}, {of}, stands in the beam between lamp and detector: its marked side to the lamp, filled above the beam, down to its stop, lid closed."
        ),
        primitives,
    }
}
