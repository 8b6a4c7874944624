//! The PostgreSQL store: schema, migrations and queries. The only crate that knows SQL; it
//! maps rows to the types of `vaaka-core`. One folder a part of the business; what each holds is known by its own name at the
//! door of the crate.

mod chart;
mod check;
pub mod clerk;
mod error;
mod evidence;
pub mod ids;
mod instrument;
pub mod jobs;
pub mod migrate;
pub mod news;
mod person;
mod plan;
mod pool;
mod prepared;
mod round;
pub mod rows;
pub mod schema;
pub mod search;
mod standard;
mod turn;
mod types;
pub mod watch;
pub mod worker;

pub use chart::{
    charts, crossings, culprits, derived, forecasts, marks, points, replay, seams, signals,
    stretches, studies,
};
pub use check::conclude::{Concluded, conclude_check};
pub use check::{
    attempts, captures, checks, conclude, entries, ladder, outcomes, paper, reactions, traces,
    voids, wear,
};
pub use error::{StoreError, to_word, unreadable_word};
pub use evidence::{
    audit, bulk, files, imports, looking, recompute, records, reports, seals, trail_looks,
    verification,
};
pub(crate) use evidence::{bringing, faults};
pub use instrument::{
    adjustments, instrument_changes, instruments, link_turns, links, registers, standing,
};
pub use person::{keys, notices, people, second_look, sessions, sign_ins, trainings};
pub(crate) use plan::plan_notices;
pub use plan::{plan_drafts, plans};
pub use pool::{Connection, Store};
pub use round::{calendar, orders, rounds, shifts};
pub use standard::{certificate_reviews, countersigning, standard_changes, standards};
pub use types::{At, By, Day, WallTime};

pub(crate) use error::{unreadable, word};
