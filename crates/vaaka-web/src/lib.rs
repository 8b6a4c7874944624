//! The pages of Vaaka: routes, handlers, templates, drawings and static files.
//!
//! No rule of the job lives here. Handlers extract, ask the store, make one call to the core,
//! and fill one page.

mod access;
mod assets;
mod auth;
mod clock;
mod desk;
mod draw;
mod error;
mod fields;
mod forms;
mod frame;
mod lines;
mod open_run;
mod pages;
mod passwords;
mod paths;
mod routes;
mod security;
mod serving;
mod session;
mod shell;
mod state;

pub use access::Access;
pub use clock::{Clock, FixedClock, ShiftedClock, SystemClock};
pub use draw::{
    ChartDrawing, ChartSegment, Condensed, DrawnEvent, DrawnForecast, DrawnPoint, Pane, PaneLine,
    stand_alone,
};
pub use passwords::hash_password;
pub use routes::{Route, router, routes};
pub use serving::serve;
pub use state::{AppState, Settings};
