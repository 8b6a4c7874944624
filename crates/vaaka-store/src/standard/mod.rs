//! Standards, lots, certificates, and who countersigned them.

pub mod certificate_reviews;
pub mod countersigning;
pub mod standard_changes;
pub mod standards;
