//! Drawings, as SVG made on the server: they print, they are tested, and they are the same
//! everywhere. Shapes carry classes and no colours, so that the style sheet themes them.

mod axis;
mod beam;
mod chart;
mod face;
mod histogram;
mod history;
mod label;
mod panes;
mod plane;
mod plot;
mod range;
mod ribbon;
mod scene;
mod shares;
mod spark;
mod strip;
mod svg;

pub use beam::{Beam, BeamMark, BeamSize};
pub use chart::{ChartDrawing, ChartSegment, Condensed, DrawnEvent, DrawnForecast, DrawnPoint};
pub use face::draw_face;
pub use histogram::Histogram;
pub use history::HistoryStrip;
pub use label::Label;
pub use panes::{Pane, PaneLine, runs};
pub use plane::{draw_plane, plane_values};
pub use plot::{draw_plot, plot_values};
pub use range::draw_effects;
pub use ribbon::{Ribbon, RibbonBlock};
pub use scene::draw_scene;
pub use shares::{Share, draw_shares};
pub use spark::Spark;
pub use strip::strip;
pub use svg::Svg;

/// The tokens of the light look, as `vaaka.css` has them, and two plain fonts. Of two names of which one
/// begins with the other the order does not matter: each stands in brackets.
const LIGHT: [(&str, &str); 14] = [
    ("--paper", "#f4f2ec"),
    ("--sheet", "#fffefa"),
    ("--ink", "#1b2422"),
    ("--soft", "#566260"),
    ("--rule", "#d8d4c8"),
    ("--deep", "#184e43"),
    ("--on-deep", "#fffefa"),
    ("--watch-wash", "#f7e7c8"),
    ("--wash", "#e4ece6"),
    ("--watch", "#8a5200"),
    ("--hold-wash", "#f6dcdb"),
    ("--hold", "#9c1f2c"),
    ("--text", "sans-serif"),
    ("--mono", "monospace"),
];

/// A drawing that stands alone as a file: with its style inside, in the light look, and with the colours
/// written out, since not every reader of SVG knows variables.
#[must_use]
pub fn stand_alone(svg: &str) -> String {
    let mut style = include_str!("../../static/css/drawings.css").to_owned();
    for (name, value) in LIGHT {
        style = style.replace(&format!("var({name})"), value);
    }
    match svg.split_once('>') {
        Some((head, rest)) => format!("{head}{}><style>{style}</style>{rest}", size_of(head)),
        None => svg.to_owned(),
    }
}

/// Width and height from the view box: a picture is made of the file in its own size.
fn size_of(head: &str) -> String {
    let view = head.split_once("viewBox=\"0 0 ").and_then(|(_, rest)| rest.split_once('"'));
    match view.and_then(|(view, _)| view.split_once(' ')) {
        Some((width, height)) => format!(" width=\"{width}\" height=\"{height}\""),
        None => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The colours are those of the style sheet, and none is left to a variable.
    #[test]
    fn a_drawing_alone_looks_as_on_the_page() {
        let style = include_str!("../../static/css/vaaka.css");
        let light = style.split_once(":root {").unwrap().1.split_once('}').unwrap().0;
        for (name, value) in LIGHT.iter().filter(|(_, value)| value.starts_with('#')) {
            assert!(light.contains(&format!("{name}: {value};")), "{name}: {value}");
        }
        let alone = stand_alone("<svg class=\"chart\"><g/></svg>");
        assert!(alone.starts_with("<svg class=\"chart\"><style>"), "{alone}");
        let sized = stand_alone("<svg viewBox=\"0 0 920 530\"></svg>");
        assert!(
            sized.starts_with("<svg viewBox=\"0 0 920 530\" width=\"920\" height=\"530\"><style>")
        );
        assert!(alone.ends_with("</style><g/></svg>") && !alone.contains("var("), "{alone}");
    }
}
