//! The course through the points as a line that climbs and comes down, with the point of now,
//! and beside it what to set or which piece to take.

use rust_decimal::Decimal;

use super::{Presentation, SettingsV1};
use crate::method::common::value_words;
use crate::method::{PlanSpec, Primitive, Scene, SpotState, Travel};
use crate::quantity::{show_decimal, to_f64};

const LEFT: f64 = 70.0;
const RIGHT: f64 = 400.0;
const TOP: f64 = 38.0;
const BOTTOM: f64 = 176.0;

/// Where a point stands on the sheet: along by its order, up by its value.
fn place(plan: &PlanSpec, index: usize) -> (f64, f64) {
    let count = plan.points.len();
    let along = if count > 1 { index as f64 / (count - 1) as f64 } else { 0.5 };
    let span = plan.span();
    let share = plan.points.get(index).map_or(0.5, |point| {
        if span > Decimal::ZERO {
            to_f64((point.nominal - plan.range_low) / span).clamp(0.0, 1.0)
        } else {
            0.5
        }
    });
    (LEFT + along * (RIGHT - LEFT), BOTTOM - share * (BOTTOM - TOP))
}

/// The scene of one point.
pub fn at_point(plan: &PlanSpec, settings: &SettingsV1, now: usize) -> Scene {
    let mut primitives = vec![
        Primitive::Line { from: (LEFT - 34.0, TOP - 14.0), to: (LEFT - 34.0, BOTTOM + 12.0) },
        Primitive::Note { x: LEFT - 34.0, y: TOP - 20.0, text: end_words(plan, plan.maximum) },
        Primitive::Note { x: LEFT - 34.0, y: BOTTOM + 28.0, text: end_words(plan, plan.range_low) },
    ];
    for index in 1..plan.points.len() {
        let (from, to) = (place(plan, index - 1), place(plan, index));
        primitives.push(Primitive::Line { from, to });
    }
    for index in 0..plan.points.len() {
        let (x, y) = place(plan, index);
        let state = match index.cmp(&now) {
            std::cmp::Ordering::Less => SpotState::Done,
            std::cmp::Ordering::Equal => continue,
            std::cmp::Ordering::Greater => SpotState::Idle,
        };
        primitives.push(Primitive::Spot { x, y, radius: 9.0, state, label: String::new() });
    }
    let words = plan.points.get(now).map_or_else(String::new, |p| value_words(plan, p.nominal));
    let (x, y) = place(plan, now);
    primitives.push(Primitive::Spot {
        x,
        y,
        radius: 15.0,
        state: SpotState::Here,
        label: String::new(),
    });
    primitives.extend(beside(plan, settings, now, &words));
    let way = match plan.points.get(now).map(|point| point.travel) {
        Some(Travel::Falling) => "coming from above",
        _ => "coming from below",
    };
    Scene {
        description: format!(
            "Point {} of {}: {words}, {way}. Standard {}.",
            now + 1,
            plan.points.len(),
            tag_at(plan, now)
        ),
        primitives,
    }
}

fn tag_at(plan: &PlanSpec, index: usize) -> &str {
    let place = plan.points.get(index).map_or(0, |point| point.standard);
    plan.standard(place).map_or("", |standard| standard.tag.as_str())
}

fn end_words(plan: &PlanSpec, value: Decimal) -> String {
    let value = value.normalize();
    format!("{} {}", show_decimal(value, value.scale()), plan.unit)
}

/// On the right: the reference with the value to set, or the piece to take.
fn beside(plan: &PlanSpec, settings: &SettingsV1, now: usize, words: &str) -> Vec<Primitive> {
    let Some(point) = plan.points.get(now) else {
        return Vec::new();
    };
    match settings.presentation {
        Presentation::Applied => vec![
            Primitive::Note { x: 570.0, y: 34.0, text: format!("set {}", tag_at(plan, now)) },
            Primitive::Plate { x: 470.0, y: 48.0, width: 200.0, height: 96.0, corner: 14.0 },
            Primitive::Heading { x: 570.0, y: 106.0, text: words.to_owned() },
            Primitive::Note {
                x: 570.0,
                y: 170.0,
                text: match point.travel {
                    Travel::Falling => "from above".into(),
                    Travel::Rising | Travel::Corner => "from below".into(),
                },
            },
        ],
        Presentation::Inserted => pieces_between_faces(point, tag_at(plan, now)),
    }
}

/// Two faces with the pieces between them, each drawn by its share of the whole.
fn pieces_between_faces(point: &crate::method::PlanPoint, tag: &str) -> Vec<Primitive> {
    const FROM: f64 = 486.0;
    const TO: f64 = 654.0;
    let total: Decimal = point.pieces.iter().map(|piece| piece.nominal).sum();
    let mut drawn = vec![
        Primitive::Note { x: 570.0, y: 34.0, text: format!("from {tag}") },
        Primitive::Plate { x: FROM - 18.0, y: 60.0, width: 16.0, height: 96.0, corner: 2.0 },
        Primitive::Plate { x: TO + 2.0, y: 60.0, width: 16.0, height: 96.0, corner: 2.0 },
    ];
    let mut left = FROM;
    for piece in &point.pieces {
        let share = if total > Decimal::ZERO { to_f64(piece.nominal / total) } else { 1.0 };
        let width = share * (TO - FROM);
        drawn.push(Primitive::Plate { x: left, y: 76.0, width, height: 64.0, corner: 3.0 });
        let nominal = piece.nominal.normalize();
        drawn.push(Primitive::Note {
            x: left + width / 2.0,
            y: 113.0,
            text: show_decimal(nominal, nominal.scale()),
        });
        left += width;
    }
    if point.pieces.is_empty() {
        drawn.push(Primitive::Note { x: 570.0, y: 113.0, text: "faces together".into() });
    }
    drawn
}
