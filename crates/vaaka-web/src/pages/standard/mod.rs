//! Standards: the register, what is done with them, certificates under review.

pub mod acts;
pub mod certificates;
pub mod forms;
pub mod list;
