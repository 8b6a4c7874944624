//! The pages of Vaaka: routes, handlers, templates, drawings and static files.
//!
//! No rule of the job lives here. Handlers extract, ask the store, make one call to the core,
//! and fill one page.

mod assets;
mod auth;
mod clock;
mod desk;
mod draw;
mod error;
mod fields;
mod forms;
mod open_run;
mod pages;
mod passwords;
mod security;
mod serving;
mod session;
mod shell;
mod state;

pub use clock::{Clock, FixedClock, ShiftedClock, SystemClock};
pub use draw::{
    ChartDrawing, ChartSegment, Condensed, DrawnEvent, DrawnForecast, DrawnPoint, Pane, PaneLine,
    stand_alone,
};
pub use passwords::hash_password;
pub use serving::serve;
pub use state::{AppState, Settings};

use std::time::Duration;

use axum::extract::DefaultBodyLimit;
use axum::http::StatusCode;
use axum::middleware;
use axum::routing::{MethodRouter, get, post};
use axum::{Extension, Router};
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;

/// Who may call a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Anybody, signed in or not.
    Everybody,
    /// Anybody who is signed in, and other programs by their key.
    Program,
    /// Anybody who is signed in; auditors read, too.
    SignedIn,
    /// Those who run checks: technicians and leads.
    Bench,
    /// Leads.
    Lead,
    /// Administrators.
    Administrator,
}

/// A route with who may call it, so that a test can walk them all.
#[derive(Debug)]
pub struct Route {
    /// GET or POST.
    pub method: &'static str,
    /// Path, with its parameters in braces.
    pub path: &'static str,
    /// Who may call it.
    pub access: Access,
    handler: MethodRouter<AppState>,
}

/// Every route of the application. A route that is not here does not exist.
#[must_use]
pub fn routes() -> Vec<Route> {
    use Access::{Administrator, Bench, Everybody, Lead, Program, SignedIn};
    use pages::{
        check, check_place, check_start, check_void, files, first, instrument, instrument_forms,
        instrument_use, late, late_decide, people, plan_editor, plans, standard_acts,
        standard_forms, standards,
    };
    // A file may be larger than what a form may carry otherwise.
    let upload = || DefaultBodyLimit::max(files::MOST_BYTES + 64 * 1024);
    let table = || DefaultBodyLimit::max(pages::import::MOST_BYTES + 64 * 1024);
    let trace = || DefaultBodyLimit::max(pages::MOST_TRACE_BYTES + 256 * 1024);
    let read = |path, access, handler| Route { method: "GET", path, access, handler };
    let write = |path, access, handler| Route { method: "POST", path, access, handler };
    vec![
        read("/sign-in", Everybody, get(pages::sign_in::show)),
        write("/sign-in", Everybody, post(pages::sign_in::submit)),
        write("/sign-out", Everybody, post(pages::sign_in::sign_out)),
        read("/worker.js", Everybody, get(pages::offline::worker)),
        read("/offline", Everybody, get(pages::offline::show)),
        write("/look", Everybody, post(pages::sign_in::choose_look)),
        read("/", SignedIn, get(pages::round::show)),
        write("/checks", Bench, post(check_start::start)),
        write("/handover", Bench, post(pages::handover::note)),
        write("/sign-off", Bench, post(pages::handover::sign_off)),
        read("/checks/{id}", Bench, get(check::show)),
        write("/checks/{id}/entries", Bench, post(check::keep).layer(trace())),
        write("/checks/{id}/conclude", Bench, post(check::conclude)),
        write("/checks/{id}/void", Bench, post(check_void::void)),
        write("/checks/{id}/place", Bench, post(check_place::refuse)),
        write("/checks/{id}/take-over", Bench, post(check::take_over)),
        write("/checks/{id}/ladder", Bench, post(pages::ladder::note)),
        write("/checks/{id}/trial", Bench, post(pages::ladder::trial)),
        read("/checks/{id}/adjust", SignedIn, get(pages::adjust::show)),
        write("/checks/{id}/adjust", Bench, post(pages::adjust::record)),
        read("/adjustments/{id}", SignedIn, get(pages::adjust::one)),
        write("/adjustments/{id}/prove", Bench, post(pages::adjust::prove)),
        read("/checks/{id}/record", SignedIn, get(pages::record::show)),
        read("/checks/{id}/traces/{reading}", SignedIn, get(pages::record::trace)),
        write("/checks/{id}/sign", Bench, post(pages::record::sign)),
        write("/checks/{id}/amend", Bench, post(pages::record::amend)),
        read("/api/release", Program, get(pages::api::release_gate)),
        read("/export/due.ics", Program, get(pages::due_calendar::show)),
        read("/export/forecasts.ics", Program, get(pages::forecasts::calendar)),
        read("/export/{tag}", Program, get(pages::tables::show)),
        read("/missed", SignedIn, get(pages::missed::show)),
        read("/import", SignedIn, get(pages::import::show)),
        write("/import", Lead, post(pages::import::send).layer(table())),
        read("/import/columns/{tag}", SignedIn, get(pages::import::columns_csv)),
        read("/import/{id}", Lead, get(pages::import::look_page)),
        write("/import/{id}", Lead, post(pages::import::bring_in)),
        read("/import/{id}/faults.csv", Lead, get(pages::import::faults_csv)),
        read("/import/{id}/file", SignedIn, get(pages::import::file)),
        write("/import/{id}/withdraw", Lead, post(pages::import::withdraw)),
        read("/keys", Administrator, get(pages::keys::show)),
        write("/keys", Administrator, post(pages::keys::make)),
        write("/keys/{id}/end", Administrator, post(pages::keys::end)),
        read("/records", SignedIn, get(pages::records::show)),
        read("/notices", SignedIn, get(pages::notices::show)),
        write("/notices/{id}/take", Lead, post(pages::notices::take)),
        read("/mail", Administrator, get(pages::notices::mail)),
        read("/audit", SignedIn, get(pages::audit::show)),
        write("/audit/verify", Lead, post(pages::audit::verify)),
        write("/checks/{id}/photo", Bench, post(files::of_check).layer(upload())),
        read("/first", Everybody, get(first::show)),
        write("/first", Everybody, post(first::submit)),
        read("/files/{id}", SignedIn, get(files::show)),
        read("/plans", SignedIn, get(plans::show)),
        read("/plans/{id}", SignedIn, get(plans::one)),
        write("/plans/{id}/order", Lead, post(pages::way_on::order)),
        read("/plans/{id}/edit", Lead, get(plan_editor::edit)),
        write("/plans/{id}/edit", Lead, post(plan_editor::save)),
        read("/new/plan", Lead, get(plan_editor::new)),
        write("/new/plan", Lead, post(plan_editor::create)),
        read("/versions/{id}", SignedIn, get(plans::version)),
        write("/versions/{id}/approve", Lead, post(plan_editor::approve)),
        write("/versions/{id}/withdraw", Lead, post(plan_editor::withdraw)),
        read("/versions/{id}/sheet", SignedIn, get(late::sheet)),
        read("/versions/{id}/late", Bench, get(late::new)),
        write("/versions/{id}/late", Bench, post(late::keep).layer(upload())),
        read("/paper", SignedIn, get(late_decide::list)),
        read("/paper/{id}", SignedIn, get(late_decide::show)),
        write("/paper/{id}", Lead, post(late_decide::decide)),
        read("/password", SignedIn, get(pages::password::show)),
        write("/password", SignedIn, post(pages::password::set)),
        write("/missed", Bench, post(pages::missed::explain)),
        read("/people", SignedIn, get(people::show)),
        read("/new/person", Administrator, get(people::new)),
        write("/new/person", Administrator, post(people::create)),
        read("/people/{id}", Administrator, get(people::edit)),
        write("/people/{id}", Administrator, post(people::save)),
        write("/people/{id}/training", Lead, post(people::train)),
        read("/calendar", Administrator, get(pages::calendar::show)),
        write("/calendar", Administrator, post(pages::calendar::save)),
        write("/areas", Administrator, post(people::add_area)),
        read("/checks/{id}/verdict", SignedIn, get(pages::verdict::show)),
        read("/charts", SignedIn, get(pages::charts::show)),
        read("/forecasts", SignedIn, get(pages::forecasts::show)),
        read("/forecasts/score", SignedIn, get(pages::forecast_score::show)),
        read("/culprit", SignedIn, get(pages::culprit::show)),
        write("/culprit/trial", Bench, post(pages::culprit::trial)),
        read("/charts/{id}", SignedIn, get(pages::chart::show)),
        read("/charts/{id}/points/{check}", SignedIn, get(pages::chart::points::show)),
        write("/charts/{id}/points/{check}/mark", Bench, post(pages::chart::points::mark)),
        read("/charts/{id}/beside", SignedIn, get(pages::chart::beside::alike)),
        read("/charts/{id}/study", SignedIn, get(pages::chart::study::show)),
        write("/charts/{id}/study", Lead, post(pages::chart::study::freeze)),
        write("/charts/{id}/countersign", Lead, post(pages::chart::study::countersign)),
        read("/charts/{id}/rules", Lead, get(pages::chart::rules::show)),
        write("/charts/{id}/rules", Lead, post(pages::chart::rules::switch)),
        write("/charts/{id}/segments/{segment}", Lead, post(pages::chart::rules::settle)),
        write("/charts/{id}/levels", Lead, post(pages::chart::rules::all_levels)),
        read("/signals", SignedIn, get(pages::signals::show)),
        read("/signals/{id}", SignedIn, get(pages::signals::one)),
        write("/signals/{id}/step", Bench, post(pages::signals::step)),
        read("/signal-causes", SignedIn, get(pages::signals::causes)),
        write("/signal-causes", Lead, post(pages::signals::add_cause)),
        write("/signal-causes/reminder", Lead, post(pages::signals::set_reminder)),
        write("/signal-causes/{id}/retire", Lead, post(pages::signals::retire_cause)),
        read("/wall", SignedIn, get(pages::wall::show)),
        read("/wall/cards", SignedIn, get(pages::wall::cards)),
        read("/wall/events", SignedIn, get(pages::wall::events)),
        read("/instruments", SignedIn, get(pages::instruments::show)),
        read("/instruments/{tag}", SignedIn, get(instrument::show)),
        read("/instruments/{tag}/evidence", SignedIn, get(pages::evidence::show)),
        read("/instruments/{tag}/label.svg", SignedIn, get(pages::label::svg)),
        read("/labels", SignedIn, get(pages::label::sheet)),
        write("/instruments/{tag}/uses", Bench, post(instrument::used)),
        write("/instruments/{tag}/events", Bench, post(instrument::happened)),
        write("/instruments/{tag}/state", Bench, post(instrument_use::change)),
        read("/new/instrument", Lead, get(instrument_forms::new)),
        write("/new/instrument", Lead, post(instrument_forms::create)),
        read("/instruments/{tag}/edit", Lead, get(instrument_forms::edit)),
        write("/instruments/{tag}/edit", Lead, post(instrument_forms::save)),
        write("/instruments/{tag}/set-ups", Lead, post(instrument_forms::add_set_up)),
        write("/instruments/{tag}/set-ups/{id}", Lead, post(instrument_forms::change_set_up)),
        write("/instruments/{tag}/photo", Bench, post(files::of_instrument).layer(upload())),
        read("/new/standard", Lead, get(standard_forms::new)),
        write("/new/standard", Lead, post(standard_forms::create)),
        read("/standards/{tag}/edit", Lead, get(standard_forms::edit)),
        write("/standards/{tag}/edit", Lead, post(standard_forms::save)),
        read("/standards/{tag}/lot", Lead, get(standard_forms::new_lot)),
        write("/standards/{tag}/lot", Lead, post(standard_forms::create_lot)),
        write("/standards/{tag}/lots/{id}/use", Lead, post(standard_acts::use_lot)),
        read("/standards/{tag}/certificate", Lead, get(standard_forms::new_certificate)),
        write("/standards/{tag}/certificate", Lead, post(standard_forms::create_certificate)),
        write("/certificates/{id}/file", Lead, post(files::of_certificate).layer(upload())),
        write("/standards/{tag}/accept", Lead, post(standard_acts::accept)),
        write("/standards/{tag}/state", Bench, post(standard_acts::change_state)),
        write("/standards/{tag}/open", Bench, post(standard_acts::open)),
        write("/standards/{tag}/uses", Bench, post(standard_acts::strike_off)),
        read("/standards/{tag}/crossover", Bench, get(standard_acts::new_crossover)),
        write("/standards/{tag}/crossover", Bench, post(standard_acts::keep_crossover)),
        write("/crossovers/{id}/accept", Lead, post(standard_acts::accept_crossover)),
        read("/standards/{tag}/wrong", Lead, get(standard_acts::new_wrong)),
        write("/standards/{tag}/wrong", Lead, post(standard_acts::found_wrong)),
        read("/look-backs/{id}", SignedIn, get(standard_acts::look_back)),
        write("/look-backs/{id}/close", Lead, post(standard_acts::close_look_back)),
        read("/certificates", SignedIn, get(pages::certificates::list)),
        read("/certificates/{id}", SignedIn, get(pages::certificates::show)),
        write("/certificates/{id}", Lead, post(pages::certificates::decide)),
        write("/certificates/{id}/again", Lead, post(pages::certificates::try_again)),
        read("/standards", SignedIn, get(standards::show)),
        read("/standards/{tag}", SignedIn, get(standards::one)),
    ]
}

/// The whole application; tests call it as the server does.
pub fn router(state: AppState) -> Router {
    let sessions = session::layer(&state);
    routes()
        .into_iter()
        .fold(Router::new(), |router, route| {
            // Who may call it is asked where it is asked who calls: see `SignedIn`.
            router.route(route.path, route.handler.layer(Extension(route.access)))
        })
        .fallback(pages::not_found)
        .layer(middleware::from_fn(security::same_origin))
        .layer(sessions)
        .route("/health", get(pages::health))
        .route("/assets/{version}/{*path}", get(assets::serve))
        .layer(middleware::from_fn(security::headers))
        .layer(TimeoutLayer::with_status_code(
            StatusCode::SERVICE_UNAVAILABLE,
            Duration::from_secs(30),
        ))
        .layer(TraceLayer::new_for_http())
        .with_state(state)
}
