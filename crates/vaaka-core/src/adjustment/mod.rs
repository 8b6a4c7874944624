//! Adjusting: may it be done, what would it do over the whole range, what does it leave behind.
//!
//! A correction changes the indication, `I' = I·(1 + gain) + offset`, and with it the error
//! `E' = I' − R` at every point: what helps at one level may spoil another, so the effect over the
//! whole range is known before anything is recorded.

mod permit;
mod propose;
mod uncorrected;

pub use permit::{AdjustmentRefusal, PermitInput, permit};
pub use propose::{
    AdjustmentKind, Correction, Effect, ErrorPoint, Factors, ProposeError, Recommendation, effects,
    propose, recommend,
};
pub use uncorrected::{AppliedCorrection, UncorrectedPoint, uncorrected_drift};
