//! Looking along time: how fast something drifts and when it will cross a limit.

mod drift;
mod level;

pub use drift::{Crossing, Drift, DriftError, FEWEST_AFTER_ONSET, drift_of_signal, estimate_drift};
pub use level::{KnownChart, LevelEstimate, estimate_level};
