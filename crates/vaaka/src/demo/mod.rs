//! The demo world: Velmaranta Laminates, an invented mill.
//!
//! A seeded generator makes a history that ends with the current shift, whatever the day is.
//! It invents readings only: every check goes through the same evaluation as a live one, so no
//! verdict or signal is written by hand. All names and values are made up.

mod bench;
mod charts;
mod coating;
mod gauges;
mod gear;
mod generate;
mod hardness;
mod keeping;
mod load;
mod mill;
mod moisture;
mod network;
mod noise;
mod photometers;
mod played;
mod registers;
mod said;
mod scales;
mod sheet_gauges;
mod signals;
mod spectra;
mod standards;
mod trail;
mod ultrasonic;
mod world;

pub use gear::Gear;
pub use generate::{everyone, generate};
pub use load::load;
pub use noise::Noise;
pub use played::Played;
pub use registers::lead;
pub use world::{Request, World, sign_ins};
