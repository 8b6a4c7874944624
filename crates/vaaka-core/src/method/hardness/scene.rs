//! The block on its base, and the map of its face: where it was read, and where next.

use super::{Procedure, SettingsV1};
use crate::method::common::value_words;
use crate::method::{PlanSpec, Primitive, Scene, SpotState};
use crate::quantity::show_decimal;
use crate::standard::{Spot, UsedFace};

/// Where the map stands on the sheet.
const MAP: (f64, f64, f64, f64) = (34.0, 16.0, 390.0, 160.0);

/// One block, with the map of its face where that is known, and how many places this run has taken on it.
pub fn on_block(
    plan: &PlanSpec,
    settings: &SettingsV1,
    index: usize,
    face: Option<(&UsedFace, usize)>,
) -> Scene {
    let point = plan.points.get(index);
    let tag = point
        .and_then(|point| plan.standard(point.standard))
        .map_or("", |standard| standard.tag.as_str());
    let words = point.map_or_else(String::new, |point| value_words(plan, point.nominal));
    let mut primitives = on_base(settings, tag, &words);
    let where_to = match face {
        Some((face, taken)) => map(&mut primitives, face, taken),
        None => {
            primitives.push(Primitive::Heading {
                x: 230.0,
                y: 104.0,
                text: format!("{tag}, {words}"),
            });
            "at a place of its face that nobody has used".to_owned()
        }
    };
    Scene {
        description: format!(
            "Block {} of {}: {tag}, {words}, wrung onto its heavy, rigid base. Read it {where_to}.",
            index + 1,
            plan.points.len()
        ),
        primitives,
    }
}

/// On the right: the base, the block on it, and what comes down on it.
fn on_base(settings: &SettingsV1, tag: &str, words: &str) -> Vec<Primitive> {
    let (middle, top) = (570.0, 112.0);
    let from_above = match settings.procedure {
        Procedure::Rockwell | Procedure::Vickers | Procedure::Brinell => "indenter",
        Procedure::ContactImpedance => "probe, upright",
        Procedure::Rebound => "impact device",
    };
    vec![
        Primitive::Plate { x: middle - 16.0, y: 28.0, width: 32.0, height: 52.0, corner: 6.0 },
        Primitive::Line { from: (middle, 80.0), to: (middle, top - 2.0) },
        Primitive::Note { x: middle, y: 20.0, text: from_above.into() },
        Primitive::Plate { x: middle - 50.0, y: top, width: 100.0, height: 26.0, corner: 3.0 },
        Primitive::Note { x: middle, y: top + 18.0, text: format!("{tag}, {words}") },
        Primitive::Plate {
            x: middle - 96.0,
            y: top + 26.0,
            width: 192.0,
            height: 40.0,
            corner: 4.0,
        },
        Primitive::Note { x: middle, y: top + 51.0, text: "heavy, rigid base".into() },
        Primitive::Note { x: middle, y: top + 86.0, text: "wrung on, nothing between".into() },
    ]
}

/// Draws the map, and says in words where the next reading goes.
fn map(primitives: &mut Vec<Primitive>, used: &UsedFace, taken: usize) -> String {
    let face = &used.face;
    let (left, top, width, height) = MAP;
    let scale = (width / face.width).min(height / face.height);
    let bottom = top + face.height * scale;
    let at = |spot: &Spot| (left + spot.x * scale, bottom - spot.y * scale);
    let radius = (face.spacing * scale * 0.36).clamp(2.5, 10.0);
    primitives.push(Primitive::Plate {
        x: left,
        y: top,
        width: face.width * scale,
        height: face.height * scale,
        corner: 3.0,
    });
    let mut put = |spot: &Spot, state, radius| {
        let (x, y) = at(spot);
        primitives.push(Primitive::Spot { x, y, radius, state, label: String::new() });
    };
    for spot in &used.used {
        put(spot, SpotState::Used, radius);
    }
    let free = used.free();
    for (index, spot) in free.iter().enumerate() {
        match index.cmp(&taken) {
            std::cmp::Ordering::Less => put(spot, SpotState::Done, radius),
            std::cmp::Ordering::Equal => put(spot, SpotState::Here, radius),
            std::cmp::Ordering::Greater => put(spot, SpotState::Free, 1.4),
        }
    }
    let (words, said) = match free.get(taken) {
        Some(spot) => {
            let mm = |value: f64| {
                rust_decimal::Decimal::try_from(value)
                    .map_or_else(|_| value.to_string(), |value| show_decimal(value.round_dp(1), 1))
            };
            let from = format!(
                "{} mm from the left edge, {} mm from the lower one",
                mm(spot.x),
                mm(spot.y)
            );
            let left = free.len() - taken;
            (format!("{from}; {left} left"), format!("{from}; with it {left} are left"))
        }
        None => (
            "no place is left on this face".to_owned(),
            "on another block: no place is left on this face".to_owned(),
        ),
    };
    primitives.push(Primitive::Note {
        // As long as the map may be wide: it stands under the room for it.
        x: left + width / 2.0,
        y: bottom + 20.0,
        text: words,
    });
    said
}
