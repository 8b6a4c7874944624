//! The face of a block, from above: places used, and the next one.

use vaaka_core::standard::{Face, Spot};

use super::Svg;

/// Draws the face to scale, 8 px a millimetre at most.
#[must_use]
pub fn draw_face(face: &Face, used: &[Spot], next: Option<&Spot>) -> String {
    let scale = (520.0 / face.width).min(8.0);
    let (width, height) = (face.width * scale, face.height * scale);
    let radius = (face.spacing * scale / 5.0).max(1.5);
    let place = |spot: &Spot| (4.0 + spot.x * scale, 4.0 + height - spot.y * scale);
    let words = format!(
        "The face of the block: {} places used{}.",
        used.len(),
        next.map_or_else(String::new, |spot| format!(
            "; the next is {} mm along and {} mm up",
            spot.x, spot.y
        ))
    );
    let mut svg = Svg::begin("face", width + 8.0, height + 8.0, &words);
    svg.rect("plate", (4.0, 4.0), (width, height), 3.0);
    for spot in used {
        svg.circle("used", place(spot), radius);
    }
    if let Some((x, y)) = next.map(place) {
        let arm = radius * 2.2;
        svg.line("next", (x - arm, y), (x + arm, y));
        svg.line("next", (x, y - arm), (x, y + arm));
    }
    svg.end()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_use_is_drawn_and_the_next_place_is_another_shape() {
        let face = Face { width: 30.0, height: 20.0, spacing: 3.0, edge: 2.5 };
        let used = [Spot { x: 2.5, y: 2.5 }, Spot { x: 5.5, y: 2.5 }];
        let svg = draw_face(&face, &used, Some(&Spot { x: 8.5, y: 2.5 }));
        assert_eq!(svg.matches("class=\"used\"").count(), 2);
        assert_eq!(svg.matches("class=\"next\"").count(), 2);
        // 2.5 mm up from the bottom of 20 mm at 8 px a millimetre.
        assert!(svg.contains(r#"cx="24" cy="144""#), "{svg}");
    }
}
