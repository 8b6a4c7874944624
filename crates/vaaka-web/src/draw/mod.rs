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

pub use beam::{Beam, BeamMark, BeamSize};
pub use chart::{ChartDrawing, ChartSegment, DrawnEvent, DrawnForecast, DrawnPoint};
pub use face::draw_face;
pub use label::Label;
pub use range::draw_effects;
pub use ribbon::{Ribbon, RibbonBlock};
pub use scene::draw_scene;
pub use shares::{Share, draw_shares};
pub use svg::Svg;
