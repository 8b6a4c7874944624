//! How something changed.

use serde::{Deserialize, Serialize};

/// How something changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Course {
    /// At once, and it stays.
    Step,
    /// Little by little, until now.
    Drift,
    /// For a stretch of time that is over.
    Stretch,
}

/// The likeliest way in which a suspect changed.
#[derive(Debug, Clone, Copy)]
pub(super) struct Best {
    pub course: Course,
    pub from: f64,
    pub until: f64,
    pub prior: f64,
    /// Posterior mean of the effect at its end, in sigmas.
    pub size: f64,
}
