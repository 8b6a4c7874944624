//! The page of the bench: what stands on it, what each shows, and what each is given to suffer. For this machine alone.

use std::fmt::Write;
use std::sync::Arc;

use axum::Router;
use axum::extract::{Form, Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use serde::Deserialize;
use vaaka_devices::stand_in::Shows;

use super::{Mood, Stands};

type Bench = Arc<Vec<Stands>>;

const STYLE: &str = ":root { color-scheme: light dark; font: 16px/1.5 system-ui, sans-serif; } body { margin: 24px; max-width: 1400px; } \
    table { border-collapse: collapse; width: 100%; } th, td { text-align: left; padding: 6px 12px 6px 0; border-bottom: 1px solid #8886; vertical-align: middle; } th, code, button { white-space: nowrap; } \
    code { font: 500 15px ui-monospace, monospace; } button, select { font: inherit; min-height: 40px; } form { display: inline-flex; gap: 8px; } .ill { font-weight: 700; }";

/// The page, over what stands on the bench.
pub fn page(stands: Vec<Stands>) -> Router {
    Router::new()
        .route("/", get(show))
        .route("/style.css", get(|| async { ([(header::CONTENT_TYPE, "text/css")], STYLE) }))
        .route("/{tag}/mood", post(set))
        .route("/{tag}/press", post(press))
        .with_state(Arc::new(stands))
}

/// What a text is in HTML.
fn plain(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

async fn show(State(bench): State<Bench>) -> Response {
    let mut rows = String::new();
    for one in bench.iter() {
        let shows = &one.shows;
        let display = shows.display().await;
        let on = match shows.loaded().await {
            Ok(Some(loaded)) => format!("check {}: {}", loaded.check, plain(&loaded.step.title)),
            _ => "nothing".to_owned(),
        };
        let mut options = String::new();
        for (mood, word, name) in Mood::ALL {
            let chosen = if mood == shows.mood() { " selected" } else { "" };
            let _ = write!(options, "<option value=\"{word}\"{chosen}>{name}</option>");
        }
        let ill = if shows.mood() == Mood::Well { "" } else { " class=\"ill\"" };
        let key = match shows.has_key() {
            true => format!(
                "<form method=\"post\" action=\"/{}/press\"><button>Press</button></form>",
                plain(shows.tag())
            ),
            false => String::new(),
        };
        let _ = write!(
            rows,
            "<tr><th scope=\"row\">{} {}</th><td><code>{}</code></td><td>{on}</td><td><code>{} {}</code></td>\
             <td{ill}><form method=\"post\" action=\"/{}/mood\"><select name=\"mood\" aria-label=\"Fault of {}\">{options}</select><button>Set</button></form></td><td>{key}</td></tr>",
            plain(shows.name()),
            plain(shows.tag()),
            plain(&one.address.to_string()),
            plain(&display.text),
            plain(&display.unit),
            plain(shows.tag()),
            plain(shows.tag()),
        );
    }
    let body = format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>The simulated bench</title><link rel=\"stylesheet\" href=\"/style.css\"></head><body>\
         <h1>The simulated bench</h1><p>Stands in for every instrument of the demo world. Each is loaded with what the current step of its open check says. <a href=\"/\">Refresh</a></p>\
         <table><thead><tr><th scope=\"col\">Instrument</th><th scope=\"col\">Connection</th><th scope=\"col\">Loaded by</th><th scope=\"col\">Display</th><th scope=\"col\">Fault</th><th scope=\"col\">Print key</th></tr></thead><tbody>{rows}</tbody></table></body></html>"
    );
    let policy = "default-src 'none'; style-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'";
    ([(header::CONTENT_SECURITY_POLICY, policy)], Html(body)).into_response()
}

/// Whether a browser says that another site sent it.
fn from_elsewhere(headers: &HeaderMap) -> bool {
    let site = headers.get("sec-fetch-site").and_then(|site| site.to_str().ok());
    site.is_some_and(|site| !matches!(site, "same-origin" | "none"))
}

#[derive(Deserialize)]
struct Given {
    mood: String,
}

async fn set(
    State(bench): State<Bench>,
    headers: HeaderMap,
    Path(tag): Path<String>,
    Form(given): Form<Given>,
) -> Response {
    let one = bench.iter().find(|one| one.shows.tag() == tag);
    match (one, given.mood.parse::<Mood>()) {
        _ if from_elsewhere(&headers) => StatusCode::FORBIDDEN.into_response(),
        (Some(one), Ok(mood)) => {
            one.shows.set_mood(mood);
            Redirect::to("/").into_response()
        }
        _ => StatusCode::NOT_FOUND.into_response(),
    }
}

async fn press(
    State(bench): State<Bench>,
    headers: HeaderMap,
    Path(tag): Path<String>,
) -> Response {
    match bench.iter().find(|one| one.shows.tag() == tag) {
        _ if from_elsewhere(&headers) => StatusCode::FORBIDDEN.into_response(),
        Some(one) => {
            one.shows.press();
            Redirect::to("/").into_response()
        }
        None => StatusCode::NOT_FOUND.into_response(),
    }
}
