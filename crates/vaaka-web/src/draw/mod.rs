//! Drawings, as SVG made on the server: they print, they are tested, and they are the same
//! everywhere. Shapes carry classes and no colours, so that the style sheet themes them.

mod beam;
mod chart;
mod face;
mod label;
mod range;
mod ribbon;
mod scene;
mod shares;
mod svg;

/// A drawing that stands alone as a file: with its style inside, in the light look, and with the colours
/// written out, since not every reader of SVG knows variables.
#[must_use]
pub fn stand_alone(svg: &str) -> String {
    let colours = [
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
    let mut style = include_str!("../../static/css/drawings.css").to_owned();
    for (name, value) in colours {
        style = style.replace(&format!("var({name})"), value);
    }
    match svg.split_once('>') {
        Some((head, rest)) => format!("{head}><style>{style}</style>{rest}"),
        None => svg.to_owned(),
    }
}

pub use beam::{Beam, BeamMark, BeamSize};
pub use chart::{ChartDrawing, ChartSegment, DrawnEvent, DrawnForecast, DrawnPoint};
pub use face::draw_face;
pub use label::Label;
pub use range::draw_effects;
pub use ribbon::{Ribbon, RibbonBlock};
pub use scene::draw_scene;
pub use shares::{Share, draw_shares};
pub use svg::Svg;
