//! Checks: from the first entry to the verdict, and what a verdict sets going.

pub mod attempts;
pub mod captures;
pub mod checks;
pub mod conclude;
pub mod entries;
pub mod ladder;
pub mod outcomes;
pub mod paper;
pub mod reactions;
pub mod traces;
pub mod voids;
pub mod wear;
