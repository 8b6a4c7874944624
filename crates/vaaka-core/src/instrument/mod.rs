//! Instruments in service: their states, who may change them, and what may be used instead.

mod cell;
mod state;
mod substitute;

pub use cell::{cell_words, in_cell, told_apart};
pub use state::{
    LatestCheck, ServiceState, StateChange, StateError, check_change, latest_of_cells,
};
pub use substitute::{Equipment, Fit, Substitute, substitutes};
