//! Links to instruments: where one is, what is sent to it, how its answer is read. Nothing here knows a check or a plan; what a
//! captured value means at a step is the core's ([`vaaka_core::method::capture`]).

pub mod address;
pub mod block;
pub mod link;
pub mod read;
pub mod stand_in;
pub mod text;

pub use address::{Address, AddressFault};
pub use link::{Link, LinkFault, Reading, Ready, Way};
pub use read::{Answer, LinkError, read};
