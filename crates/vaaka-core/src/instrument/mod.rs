//! Instruments in service: their states, who may change them, and what may be used instead.

mod state;
mod substitute;

pub use state::{LatestCheck, ServiceState, StateChange, StateError, check_change};
pub use substitute::{Equipment, Fit, Substitute, substitutes};
