//! The beam: lamp, slit, the standard in its holder, detector.

use super::SettingsV1;
use crate::method::common::value_words;
use crate::method::{PlanSpec, Primitive, Scene, SpotState};

/// The standard stands in the beam.
pub fn in_the_beam(plan: &PlanSpec, settings: &SettingsV1) -> Scene {
    let tag = plan
        .points
        .first()
        .and_then(|point| plan.standard(point.standard))
        .map_or_else(String::new, |standard| standard.tag.clone());
    let beam = 96.0;
    let box_at = |x: f64, width: f64| Primitive::Plate {
        x,
        y: beam - 34.0,
        width,
        height: 68.0,
        corner: 6.0,
    };
    let note = |x: f64, text: String| Primitive::Note { x, y: beam + 58.0, text };
    let named: Vec<String> =
        plan.points.iter().map(|point| value_words(plan, point.nominal)).collect();
    let peaks = match named.as_slice() {
        [one] => one.clone(),
        [first, .., last] => format!("{} peaks, {first} to {last}", named.len()),
        [] => String::new(),
    };
    let primitives = vec![
        Primitive::Line { from: (96.0, beam), to: (604.0, beam) },
        Primitive::Disc { x: 80.0, y: beam, radius: 22.0 },
        note(80.0, "lamp".into()),
        box_at(160.0, 60.0),
        note(190.0, "slit and grating".into()),
        box_at(306.0, 88.0),
        Primitive::Spot {
            x: 350.0,
            y: beam,
            radius: 26.0,
            state: SpotState::Active,
            label: tag.clone(),
        },
        note(350.0, "its marked side to the lamp".into()),
        box_at(560.0, 64.0),
        note(592.0, "detector".into()),
        Primitive::Heading { x: 350.0, y: 30.0, text: peaks },
    ];
    Scene {
        description: format!(
            "{tag} stands in its holder, in the beam between the slit and the detector, lid closed; the scan shows {} of it.",
            settings.quantity.name()
        ),
        primitives,
    }
}
