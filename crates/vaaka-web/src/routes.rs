//! Every route, with who may call it.

use std::time::Duration;

use axum::extract::DefaultBodyLimit;
use axum::http::StatusCode;
use axum::middleware;
use axum::routing::{MethodRouter, get, post};
use axum::{Extension, Router};
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;

use crate::access::Access;
use crate::state::AppState;
use crate::{assets, pages, security, session};

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
    use Access::{Administrator, Bench, Everybody, Lead, Program, SignedIn, Station};
    use pages::{api, chart, check, evidence, instrument, people, plan, round, standard, stations};
    // A file may be larger than what a form may carry otherwise.
    let upload = || DefaultBodyLimit::max(evidence::files::MOST_BYTES + 64 * 1024);
    let table = || DefaultBodyLimit::max(evidence::import::MOST_BYTES + 64 * 1024);
    let trace = || DefaultBodyLimit::max(pages::MOST_TRACE_BYTES + 256 * 1024);
    let brought = || DefaultBodyLimit::max(vaaka_devices::block::MOST + 1024);
    let read = |path, access, handler| Route { method: "GET", path, access, handler };
    let write = |path, access, handler| Route { method: "POST", path, access, handler };
    vec![
        read("/sign-in", Everybody, get(people::sign_in::show)),
        write("/sign-in", Everybody, post(people::sign_in::submit)),
        write("/sign-out", Everybody, post(people::sign_in::sign_out)),
        read("/worker.js", Everybody, get(pages::offline::worker)),
        read("/offline", Everybody, get(pages::offline::show)),
        write("/look", Everybody, post(people::sign_in::choose_look)),
        read("/", SignedIn, get(round::show)),
        write("/checks", Bench, post(check::start::start)),
        write("/handover", Bench, post(round::handover::note)),
        write("/sign-off", Bench, post(round::handover::sign_off)),
        read("/checks/{id}", Bench, get(check::show)),
        write("/checks/{id}/entries", Bench, post(check::keep::keep).layer(trace())),
        write("/checks/{id}/read", Bench, post(check::capture::read).layer(trace())),
        write("/checks/{id}/values", Bench, post(check::values::keep)),
        write("/checks/{id}/conclude", Bench, post(check::conclude)),
        write("/checks/{id}/void", Bench, post(check::void::void)),
        write("/checks/{id}/place", Bench, post(check::place::refuse)),
        write("/checks/{id}/take-over", Bench, post(check::take_over)),
        write("/checks/{id}/ladder", Bench, post(check::rung::note)),
        write("/checks/{id}/trial", Bench, post(check::rung::trial)),
        read("/checks/{id}/adjust", SignedIn, get(instrument::adjust::show)),
        write("/checks/{id}/adjust", Bench, post(instrument::adjust::record)),
        read("/adjustments/{id}", SignedIn, get(instrument::adjust::one)),
        write("/adjustments/{id}/prove", Bench, post(instrument::adjust::prove)),
        read("/checks/{id}/record", SignedIn, get(evidence::record::show)),
        read("/checks/{id}/traces/{reading}", SignedIn, get(evidence::record::trace)),
        write("/checks/{id}/sign", Bench, post(evidence::record::sign)),
        write("/checks/{id}/amend", Bench, post(evidence::record::amend)),
        read("/api/release", Program, get(api::release_gate)),
        read("/metrics", Program, get(pages::metrics::show)),
        read("/api/stations/next", Station, get(stations::next)),
        write("/api/stations/turns/{turn}", Station, post(stations::bring).layer(brought())),
        read("/export/due.ics", Program, get(round::due_calendar::show)),
        read("/export/forecasts.ics", Program, get(chart::forecasts::calendar)),
        read("/export/{tag}", Program, get(evidence::tables::show)),
        read("/missed", SignedIn, get(round::missed::show)),
        read("/import", SignedIn, get(evidence::import::show)),
        write("/import", Lead, post(evidence::import::send).layer(table())),
        read("/import/columns/{tag}", SignedIn, get(evidence::import::columns_csv)),
        read("/import/{id}", Lead, get(evidence::import::look_page)),
        write("/import/{id}", Lead, post(evidence::import::bring_in)),
        write("/import/{id}/again", Lead, post(evidence::import::try_again)),
        write("/import/{id}/give-up", Lead, post(evidence::import::give_up)),
        read("/import/{id}/faults.csv", Lead, get(evidence::import::faults_csv)),
        read("/import/{id}/file", SignedIn, get(evidence::import::file)),
        write("/import/{id}/withdraw", Lead, post(evidence::import::withdraw)),
        read("/keys", Administrator, get(people::keys::show)),
        write("/keys", Administrator, post(people::keys::make)),
        write("/keys/{id}/end", Administrator, post(people::keys::end)),
        read("/records", SignedIn, get(evidence::records::show)),
        read("/notices", SignedIn, get(people::notices::show)),
        write("/notices/{id}/take", Lead, post(people::notices::take)),
        read("/mail", Administrator, get(people::notices::mail)),
        read("/audit", SignedIn, get(evidence::audit::show)),
        write("/audit/verify", Lead, post(evidence::audit::verify)),
        write("/audit/again", Lead, post(evidence::audit::try_again)),
        write("/checks/{id}/photo", Bench, post(evidence::files::of_check).layer(upload())),
        read("/first", Everybody, get(people::first::show)),
        write("/first", Everybody, post(people::first::submit)),
        read("/files/{id}", SignedIn, get(evidence::files::show)),
        read("/plans", SignedIn, get(plan::list::show)),
        read("/plans/{id}", SignedIn, get(plan::list::one)),
        write("/plans/{id}/order", Lead, post(instrument::order::order)),
        read("/plans/{id}/edit", Lead, get(plan::editor::edit)),
        write("/plans/{id}/edit", Lead, post(plan::editor::save)),
        read("/new/plan", Lead, get(plan::editor::new)),
        write("/new/plan", Lead, post(plan::editor::create)),
        read("/versions/{id}", SignedIn, get(plan::list::version)),
        write("/versions/{id}/approve", Lead, post(plan::editor::approve)),
        write("/versions/{id}/withdraw", Lead, post(plan::editor::withdraw)),
        read("/versions/{id}/sheet", SignedIn, get(round::paper::sheet)),
        read("/versions/{id}/late", Bench, get(round::paper::new)),
        write("/versions/{id}/late", Bench, post(round::paper::keep).layer(upload())),
        read("/paper", SignedIn, get(round::paper_decide::list)),
        read("/paper/{id}", SignedIn, get(round::paper_decide::show)),
        write("/paper/{id}", Lead, post(round::paper_decide::decide)),
        read("/password", SignedIn, get(people::password::show)),
        write("/password", SignedIn, post(people::password::set)),
        write("/missed", Bench, post(round::missed::explain)),
        read("/people", SignedIn, get(people::show)),
        read("/new/person", Administrator, get(people::new)),
        write("/new/person", Administrator, post(people::create)),
        read("/people/{id}", Administrator, get(people::edit)),
        write("/people/{id}", Administrator, post(people::save)),
        write("/people/{id}/training", Lead, post(people::train)),
        read("/calendar", Administrator, get(round::calendar::show)),
        write("/calendar", Administrator, post(round::calendar::save)),
        write("/areas", Administrator, post(people::add_area)),
        read("/checks/{id}/verdict", SignedIn, get(check::verdict::show)),
        read("/charts", SignedIn, get(chart::list::show)),
        read("/forecasts", SignedIn, get(chart::forecasts::show)),
        read("/forecasts/score", SignedIn, get(chart::forecast_score::show)),
        read("/culprit", SignedIn, get(chart::culprit::show)),
        write("/culprit/trial", Bench, post(chart::culprit::trial)),
        read("/charts/{id}", SignedIn, get(chart::show)),
        read("/charts/{id}/points/{check}", SignedIn, get(chart::points::show)),
        write("/charts/{id}/points/{check}/mark", Bench, post(chart::points::mark)),
        read("/charts/{id}/beside", SignedIn, get(chart::beside::alike)),
        read("/charts/{id}/study", SignedIn, get(chart::study::show)),
        write("/charts/{id}/study", Lead, post(chart::study::freeze)),
        write("/charts/{id}/countersign", Lead, post(chart::study::countersign)),
        read("/charts/{id}/rules", Lead, get(chart::rules::show)),
        write("/charts/{id}/rules", Lead, post(chart::rules::switch)),
        write("/charts/{id}/segments/{segment}", Lead, post(chart::rules::settle)),
        write("/charts/{id}/levels", Lead, post(chart::rules::all_levels)),
        read("/signals", SignedIn, get(chart::signals::show)),
        read("/signals/{id}", SignedIn, get(chart::signals::one)),
        write("/signals/{id}/step", Bench, post(chart::signals::step)),
        read("/signal-causes", SignedIn, get(chart::signals::causes)),
        write("/signal-causes", Lead, post(chart::signals::add_cause)),
        write("/signal-causes/reminder", Lead, post(chart::signals::set_reminder)),
        write("/signal-causes/{id}/retire", Lead, post(chart::signals::retire_cause)),
        read("/wall", SignedIn, get(chart::wall::show)),
        read("/wall/cards", SignedIn, get(chart::wall::cards)),
        read("/wall/events", SignedIn, get(chart::wall::events)),
        read("/instruments", SignedIn, get(instrument::list::show)),
        read("/instruments/{tag}", SignedIn, get(instrument::show)),
        read("/instruments/{tag}/evidence", SignedIn, get(evidence::show)),
        write("/instruments/{tag}/evidence", SignedIn, post(evidence::ask)),
        read("/reports/{id}", SignedIn, get(evidence::kept)),
        write("/reports/{id}/again", Lead, post(evidence::try_again)),
        read("/links", SignedIn, get(instrument::link::list)),
        read("/instruments/{tag}/link", Lead, get(instrument::link::show)),
        write("/instruments/{tag}/link", Lead, post(instrument::link::save)),
        read("/instruments/{tag}/label.svg", SignedIn, get(instrument::label::svg)),
        read("/labels", SignedIn, get(instrument::label::sheet)),
        write("/instruments/{tag}/uses", Bench, post(instrument::used)),
        write("/instruments/{tag}/events", Bench, post(instrument::happened)),
        write("/instruments/{tag}/state", Bench, post(instrument::usage::change)),
        read("/new/instrument", Lead, get(instrument::forms::new)),
        write("/new/instrument", Lead, post(instrument::forms::create)),
        read("/instruments/{tag}/edit", Lead, get(instrument::forms::edit)),
        write("/instruments/{tag}/edit", Lead, post(instrument::forms::save)),
        write("/instruments/{tag}/set-ups", Lead, post(instrument::forms::add_set_up)),
        write("/instruments/{tag}/set-ups/{id}", Lead, post(instrument::forms::change_set_up)),
        write(
            "/instruments/{tag}/photo",
            Bench,
            post(evidence::files::of_instrument).layer(upload()),
        ),
        read("/new/standard", Lead, get(standard::forms::new)),
        write("/new/standard", Lead, post(standard::forms::create)),
        read("/standards/{tag}/edit", Lead, get(standard::forms::edit)),
        write("/standards/{tag}/edit", Lead, post(standard::forms::save)),
        read("/standards/{tag}/lot", Lead, get(standard::forms::new_lot)),
        write("/standards/{tag}/lot", Lead, post(standard::forms::create_lot)),
        write("/standards/{tag}/lots/{id}/use", Lead, post(standard::acts::use_lot)),
        read("/standards/{tag}/certificate", Lead, get(standard::forms::new_certificate)),
        write("/standards/{tag}/certificate", Lead, post(standard::forms::create_certificate)),
        write(
            "/certificates/{id}/file",
            Lead,
            post(evidence::files::of_certificate).layer(upload()),
        ),
        write("/standards/{tag}/accept", Lead, post(standard::acts::accept)),
        write("/standards/{tag}/state", Bench, post(standard::acts::change_state)),
        write("/standards/{tag}/open", Bench, post(standard::acts::open)),
        write("/standards/{tag}/uses", Bench, post(standard::acts::strike_off)),
        read("/standards/{tag}/crossover", Bench, get(standard::acts::new_crossover)),
        write("/standards/{tag}/crossover", Bench, post(standard::acts::keep_crossover)),
        write("/crossovers/{id}/accept", Lead, post(standard::acts::accept_crossover)),
        read("/standards/{tag}/wrong", Lead, get(standard::acts::new_wrong)),
        write("/standards/{tag}/wrong", Lead, post(standard::acts::found_wrong)),
        read("/look-backs/{id}", SignedIn, get(standard::acts::look_back)),
        write("/look-backs/{id}/close", Lead, post(standard::acts::close_look_back)),
        read("/certificates", SignedIn, get(standard::certificates::list)),
        read("/certificates/{id}", SignedIn, get(standard::certificates::show)),
        write("/certificates/{id}", Lead, post(standard::certificates::decide)),
        write("/certificates/{id}/again", Lead, post(standard::certificates::try_again)),
        read("/standards", SignedIn, get(standard::list::show)),
        read("/standards/{tag}", SignedIn, get(standard::list::one)),
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
