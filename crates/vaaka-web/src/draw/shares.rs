//! The bar of shares: what an uncertainty consists of, each part as wide as its share of the
//! variance. Parts are told apart by their number and by a pattern of lines, not by colour.

use super::Svg;

/// One part.
#[derive(Debug, Clone, PartialEq)]
pub struct Share {
    /// Its number in the table beside the bar.
    pub number: usize,
    /// Share of the whole, 0 to 1.
    pub share: f64,
}

const WIDTH: f64 = 560.0;
const HEIGHT: f64 = 30.0;

/// Draws the bar; parts without a share are left out.
pub fn draw_shares(description: &str, parts: &[Share]) -> String {
    let mut svg = Svg::begin("shares", WIDTH, HEIGHT, description);
    let mut x = 0.0;
    for (index, part) in parts.iter().filter(|part| part.share > 0.0).enumerate() {
        let width = part.share.min(1.0) * WIDTH;
        let class = format!("share tone-{}", index % 3 + 1);
        svg.rect(&class, (x, 2.0), (width, HEIGHT - 4.0), 0.0);
        if width >= 18.0 {
            svg.words(
                "share-number",
                (x + width / 2.0, HEIGHT / 2.0 + 5.0),
                "middle",
                &part.number.to_string(),
            );
        }
        x += width;
    }
    svg.end()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_fill_the_bar_and_narrow_ones_have_no_number() {
        let part = |number, share| Share { number, share };
        let text = draw_shares("x", &[part(1, 0.98), part(2, 0.02), part(3, 0.0)]);
        assert_eq!(text.matches("<rect").count(), 2);
        assert!(text.contains("width=\"548.8\"") && text.contains("width=\"11.2\""), "{text}");
        assert_eq!(text.matches("<text").count(), 1);
    }
}
