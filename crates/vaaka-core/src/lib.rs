//! The rules of checking production test equipment against check standards.
//!
//! Pure functions and types: no I/O, no clock, no database, no HTML. Whatever depends on the
//! time takes it as an argument, so that tests, pictures and replays do not depend on the day.
//!
//! Words follow VIM (JCGM 200), GUM (JCGM 100) and JCGM 106.

pub mod adjustment;
pub mod chart;
pub mod check;
pub mod colour;
pub mod history;
pub mod instrument;
pub mod judgement;
pub mod method;
pub mod network;
pub mod photometry;
pub mod quantity;
pub mod reaction;
pub mod round;
pub mod standard;
pub mod stats;
pub mod study;
pub mod trace;
