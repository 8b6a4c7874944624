//! Draws the scenes that methods compose.

use vaaka_core::method::{Primitive, Scene, SpotState};

use super::Svg;

/// Draws a scene.
pub fn draw_scene(scene: &Scene) -> String {
    let mut svg = Svg::begin("scene", Scene::WIDTH, Scene::HEIGHT, &scene.description);
    for primitive in &scene.primitives {
        draw(&mut svg, primitive);
    }
    svg.end()
}

fn draw(svg: &mut Svg, primitive: &Primitive) {
    match primitive {
        Primitive::Plate { x, y, width, height, corner } => {
            svg.rect("plate", (*x, *y), (*width, *height), *corner);
        }
        Primitive::Disc { x, y, radius } => {
            svg.circle("plate", (*x, *y), *radius);
        }
        // Used up: a cross, told from a place to come without its colour.
        Primitive::Spot { x, y, radius, state: SpotState::Used, .. } => {
            let arm = radius * 0.7;
            svg.line("spot-used", (x - arm, y - arm), (x + arm, y + arm));
            svg.line("spot-used", (x - arm, y + arm), (x + arm, y - arm));
        }
        Primitive::Spot { x, y, radius, state, label } => {
            let class = match state {
                SpotState::Active => "spot active",
                SpotState::Idle => "spot idle",
                SpotState::Done | SpotState::Used => "spot done",
                SpotState::Free => "spot-free",
                SpotState::Here => "spot active",
            };
            svg.circle(class, (*x, *y), *radius);
            if *state == SpotState::Active {
                svg.words("spot-label", (*x, *y - 1.0), "middle", label);
                svg.words("spot-here", (*x, *y + 17.0), "middle", "here");
            }
        }
        Primitive::Line { from, to } => {
            svg.line("course", *from, *to);
        }
        Primitive::Heading { x, y, text } => {
            svg.words("heading", (*x, *y), "middle", text);
        }
        Primitive::Weight { x, bottom, width, height, label } => {
            let top = bottom - height;
            let knob = (width * 0.36).min(28.0);
            svg.rect("weight", (x + (width - knob) / 2.0, top - 18.0), (knob, 22.0), 7.0);
            svg.rect("weight", (*x, top), (*width, *height), 8.0);
            svg.words(
                "weight-label",
                (x + width / 2.0, bottom - height / 2.0 + 7.0),
                "middle",
                label,
            );
        }
        Primitive::Note { x, y, text } => {
            svg.words("note", (*x, *y), "middle", text);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_primitive_is_drawn() {
        let scene = Scene {
            description: "a pan".into(),
            primitives: vec![
                Primitive::Plate { x: 0.0, y: 0.0, width: 10.0, height: 10.0, corner: 1.0 },
                Primitive::Disc { x: 5.0, y: 5.0, radius: 2.0 },
                Primitive::Spot {
                    x: 5.0,
                    y: 5.0,
                    radius: 2.0,
                    state: SpotState::Active,
                    label: "5 kg".into(),
                },
                Primitive::Weight {
                    x: 0.0,
                    bottom: 9.0,
                    width: 4.0,
                    height: 4.0,
                    label: "5".into(),
                },
                Primitive::Note { x: 1.0, y: 1.0, text: "front".into() },
            ],
        };
        let drawing = draw_scene(&scene);
        for part in ["aria-label=\"a pan\"", "spot active", "5 kg", "here", "weight-label", "front"]
        {
            assert!(drawing.contains(part), "{part} in {drawing}");
        }
    }
}
