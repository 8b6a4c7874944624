//! The end of the cable and what is screwed on to it.

use crate::method::{Primitive, Scene, SpotState};

/// Something is put on the end of the cable.
pub fn put_on(what: &str) -> Scene {
    let middle = 112.0;
    let note = |x: f64, y: f64, text: &str| Primitive::Note { x, y, text: text.into() };
    let plate = |x: f64, half: f64, width: f64| Primitive::Plate {
        x,
        y: middle - half,
        width,
        height: 2.0 * half,
        corner: 5.0,
    };
    let primitives = vec![
        plate(60.0, 58.0, 130.0),
        note(125.0, middle + 84.0, "analyzer, port 1"),
        plate(190.0, 12.0, 22.0),
        Primitive::Line { from: (212.0, middle - 7.0), to: (366.0, middle - 7.0) },
        Primitive::Line { from: (212.0, middle + 7.0), to: (366.0, middle + 7.0) },
        note(290.0, middle + 34.0, "do not move the cable"),
        plate(366.0, 16.0, 34.0),
        // The plane in which everything is told.
        Primitive::Line { from: (404.0, middle - 62.0), to: (404.0, middle + 62.0) },
        note(404.0, middle - 72.0, "reference plane"),
        plate(408.0, 20.0, 30.0),
        Primitive::Spot {
            x: 480.0,
            y: middle,
            radius: 38.0,
            state: SpotState::Active,
            label: String::new(),
        },
        note(480.0, middle + 64.0, what),
        note(600.0, middle - 30.0, "hold the body,"),
        note(600.0, middle - 12.0, "turn only the nut"),
    ];
    Scene {
        description: format!(
            "{what} is connected to the end of the cable of port 1, at the reference plane: hold the body, turn only the nut, do not move the cable."
        ),
        primitives,
    }
}
