//! The base with a foil on it, and the probe.

use crate::method::{Primitive, Scene};

/// Left edge, top edge, width and height of the base.
const BASE: (f64, f64, f64, f64) = (130.0, 150.0, 440.0, 46.0);

fn base_and_probe(lift: f64) -> Vec<Primitive> {
    let (x, y, width, height) = BASE;
    let middle = x + width / 2.0;
    vec![
        Primitive::Plate { x, y, width, height, corner: 3.0 },
        Primitive::Plate {
            x: middle - 22.0,
            y: y - lift - 76.0,
            width: 44.0,
            height: 62.0,
            corner: 8.0,
        },
        Primitive::Disc { x: middle, y: y - lift - 8.0, radius: 8.0 },
        Primitive::Line { from: (middle, y - lift - 76.0), to: (middle, y - lift - 112.0) },
    ]
}

/// Nothing is on it.
pub fn bare(base: &str) -> Scene {
    let (x, y, width, height) = BASE;
    let mut primitives = base_and_probe(0.0);
    primitives.push(Primitive::Note {
        x: x + width / 2.0,
        y: y + height / 2.0 + 5.0,
        text: format!("{base}, bare and clean"),
    });
    Scene {
        description: format!(
            "The probe stands upright on the bare base {base}, away from edges; each reading at another place."
        ),
        primitives,
    }
}

/// A foil lies on it.
pub fn with_foil(base: &str, words: &str) -> Scene {
    let (x, y, width, height) = BASE;
    let mut primitives = base_and_probe(12.0);
    primitives.push(Primitive::Plate {
        x: x + 60.0,
        y: y - 12.0,
        width: width - 120.0,
        height: 12.0,
        corner: 0.0,
    });
    primitives.push(Primitive::Heading {
        x: x + width - 60.0,
        y: y - 36.0,
        text: words.to_owned(),
    });
    primitives.push(Primitive::Note {
        x: x + width / 2.0,
        y: y + height / 2.0 + 5.0,
        text: format!("on {base}, flat, nothing between"),
    });
    Scene {
        description: format!(
            "The foil of {words} lies flat on the base {base}, nothing between; the probe is set down upright and lifted between readings."
        ),
        primitives,
    }
}
