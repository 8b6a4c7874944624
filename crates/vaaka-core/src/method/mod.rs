//! Methods: how a family of instruments is checked, step by step, and what is computed from it.
//!
//! A method is a small state machine over the entries kept so far. It knows the way (its steps
//! with stable keys), what a redone step voids, and the computation at the end. A new family is
//! one module here and a line in [`by_key`].

mod accept;
pub mod gauge;
mod plan;
mod run;
mod scene;
mod step;
pub mod weighing;

pub use accept::{EntryError, Proposal, accept, condition_words, duration_words};
pub use plan::{Place, PlanPoint, PlanSpec, Purpose, Travel};
pub use run::{Entry, EntryValue, RunState};
pub use scene::{Primitive, Scene, SpotState};
pub use step::{Input, Step, StepKey};

use thiserror::Error;

use crate::judgement::Characteristic;
use crate::standard::StandardError;

/// A family's way of checking.
pub trait Method: Send + Sync {
    /// Stable key, stored with every result.
    fn key(&self) -> &'static str;

    /// Version of the computation, stored with every result.
    fn version(&self) -> i32;

    /// Edition of the tables that the computation rests on, stored with every result.
    fn table_edition(&self) -> &'static str;

    /// The whole way under this plan, in working order. Depends on the plan alone here; the
    /// entries decide only which step is next.
    ///
    /// # Errors
    /// [`MethodError`] when the plan's settings do not fit the method.
    fn way(&self, plan: &PlanSpec) -> Result<Vec<Step>, MethodError>;

    /// Computes the characteristics of a finished run.
    ///
    /// # Errors
    /// [`MethodError`] when readings are missing or settings do not fit.
    fn evaluate(&self, plan: &PlanSpec, run: &RunState)
    -> Result<Vec<Characteristic>, MethodError>;
}

/// Why a method cannot work with what it was given.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MethodError {
    /// The settings cannot be read.
    #[error("the plan's settings do not fit the method: {why}")]
    Settings {
        /// What does not fit.
        why: String,
    },
    /// A reading is missing.
    #[error("the step “{step}” has {got} of {required} readings")]
    Incomplete {
        /// Step.
        step: StepKey,
        /// Readings it needs.
        required: u32,
        /// Readings it has.
        got: usize,
    },
    /// The plan names a method that this version does not know.
    #[error("the method “{key}” is not known to this version")]
    Unknown {
        /// The key.
        key: String,
    },
    /// A standard cannot serve.
    #[error(transparent)]
    Standard(#[from] StandardError),
}

/// The method with this key.
///
/// # Errors
/// [`MethodError::Unknown`].
pub fn by_key(key: &str) -> Result<&'static dyn Method, MethodError> {
    match key {
        weighing::KEY => Ok(&weighing::Weighing),
        gauge::KEY => Ok(&gauge::Gauge),
        other => Err(MethodError::Unknown { key: other.to_owned() }),
    }
}
