//! Looking along time: how fast something drifts and when it will cross a limit.

mod drift;

pub use drift::{Crossing, Drift, DriftError, estimate_drift};
