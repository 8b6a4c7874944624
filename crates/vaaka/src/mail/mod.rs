//! Mail: the outbox is emptied into a mail server; a small stand-in for one ships with the
//! application, for demo, practice and tests.

mod outbox;
mod stand_in;

pub use outbox::{Outgoing, send_waiting};
pub use stand_in::{StandIn, serve_stand_in};
