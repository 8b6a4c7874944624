//! Plans, their versions and drafts.

pub mod plan_drafts;
pub(crate) mod plan_notices;
pub mod plans;
