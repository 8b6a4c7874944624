//! The pan, seen from above, with the place of the weight and the pieces to take.

use rust_decimal::Decimal;

use super::{Pan, SettingsV1};
use crate::method::{Place, PlanPoint, PlanSpec, Primitive, Scene, SpotState};
use crate::quantity::{show_decimal, to_f64};

const PAN_X: f64 = 40.0;
const PAN_Y: f64 = 4.0;
const PAN_WIDTH: f64 = 300.0;
const PAN_HEIGHT: f64 = 182.0;
const MIDDLE_X: f64 = PAN_X + PAN_WIDTH / 2.0;
const MIDDLE_Y: f64 = PAN_Y + PAN_HEIGHT / 2.0;

fn pan(shape: Pan) -> Primitive {
    match shape {
        Pan::Round => Primitive::Disc { x: MIDDLE_X, y: MIDDLE_Y, radius: PAN_HEIGHT / 2.0 },
        Pan::Rectangular => Primitive::Plate {
            x: PAN_X,
            y: PAN_Y,
            width: PAN_WIDTH,
            height: PAN_HEIGHT,
            corner: 10.0,
        },
    }
}

fn stand_here() -> Primitive {
    Primitive::Note {
        x: MIDDLE_X,
        y: PAN_Y + PAN_HEIGHT + 20.0,
        text: "front, where you stand".into(),
    }
}

/// Centre of a place on the pan.
fn place_center(shape: Pan, place: Place) -> (f64, f64) {
    let (dx, dy) = match shape {
        Pan::Round => (44.0, 44.0),
        Pan::Rectangular => (86.0, 48.0),
    };
    let (x, y) = match place {
        Place::Middle => (0.0, 0.0),
        Place::BackLeft => (-dx, -dy),
        Place::BackRight => (dx, -dy),
        Place::FrontLeft => (-dx, dy),
        Place::FrontRight => (dx, dy),
    };
    (MIDDLE_X + x, MIDDLE_Y + y)
}

/// The empty pan.
pub fn empty(shape: Pan) -> Scene {
    Scene {
        description: "The pan, empty, seen from above.".into(),
        primitives: vec![
            pan(shape),
            Primitive::Note { x: MIDDLE_X, y: MIDDLE_Y + 5.0, text: "nothing on it".into() },
            stand_here(),
        ],
    }
}

/// The pan with the load's place, and beside it the pieces to take.
pub fn load(plan: &PlanSpec, settings: &SettingsV1, point: &PlanPoint, words: &str) -> Scene {
    let mut primitives = vec![pan(settings.pan)];
    let places =
        [Place::BackLeft, Place::BackRight, Place::FrontLeft, Place::FrontRight, Place::Middle];
    for place in places {
        let (x, y) = place_center(settings.pan, place);
        let active = place == point.place;
        if !active && place == Place::Middle {
            continue;
        }
        primitives.push(Primitive::Spot {
            x,
            y,
            radius: if active { spot_radius(settings.pan, load_share(plan, point)) } else { 22.0 },
            state: if active { SpotState::Active } else { SpotState::Idle },
            label: if active { words.to_owned() } else { String::new() },
        });
    }
    primitives.push(stand_here());
    primitives.extend(pieces(point, &settings.case));
    Scene {
        description: format!(
            "The pan seen from above: {words} goes {}. Pieces: {}.",
            super::keys::place_words(point.place),
            piece_list(point)
        ),
        primitives,
    }
}

/// How much of the instrument's range the load is, 0 to 1.
fn load_share(plan: &PlanSpec, point: &PlanPoint) -> f64 {
    if plan.maximum <= Decimal::ZERO {
        return 0.5;
    }
    to_f64(point.nominal / plan.maximum).clamp(0.0, 1.0)
}

/// A larger load is drawn larger, so that a small one is not mistaken for it.
fn spot_radius(shape: Pan, share: f64) -> f64 {
    let (least, most) = match shape {
        Pan::Round => (30.0, 40.0),
        Pan::Rectangular => (34.0, 50.0),
    };
    least + (most - least) * share.sqrt()
}

fn piece_label(nominal: Decimal) -> String {
    let nominal = nominal.normalize();
    show_decimal(nominal, nominal.scale())
}

fn piece_list(point: &PlanPoint) -> String {
    let list: Vec<String> = point
        .pieces
        .iter()
        .map(|piece| format!("{} {}", piece_label(piece.nominal), piece.unit))
        .collect();
    list.join(", ")
}

fn pieces(point: &PlanPoint, case: &str) -> Vec<Primitive> {
    const LEFT: f64 = 400.0;
    const BOTTOM: f64 = 186.0;
    const ROOM: f64 = 290.0;
    let count = point.pieces.len().max(1) as f64;
    let width = ((ROOM - 14.0 * (count - 1.0)) / count).min(78.0);
    let largest = point.pieces.iter().map(|piece| to_f64(piece.nominal)).fold(0.0, f64::max);
    let mut drawn: Vec<Primitive> = Vec::new();
    let total = count * width + (count - 1.0) * 14.0;
    let start = LEFT + (ROOM - total) / 2.0;
    for (index, piece) in point.pieces.iter().enumerate() {
        let share = if largest > 0.0 { to_f64(piece.nominal) / largest } else { 1.0 };
        drawn.push(Primitive::Weight {
            x: start + index as f64 * (width + 14.0),
            bottom: BOTTOM,
            width,
            height: 70.0 + 46.0 * share.cbrt(),
            label: piece_label(piece.nominal),
        });
    }
    drawn.push(Primitive::Note { x: LEFT + ROOM / 2.0, y: 26.0, text: format!("from {case}") });
    drawn
}
