//! What a monitor scrapes, in the text format of Prometheus (version 0.0.4), for programs with a key.

use std::fmt::Write;

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use vaaka_store::watch::{InState, Standing, standing};

use crate::error::WebError;
use crate::session::Caller;
use crate::state::AppState;

/// The page.
pub async fn show(_caller: Caller, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let (standing, states) = standing(&mut connection).await?;
    let kind = [(header::CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8")];
    Ok((kind, text(&standing, &states)).into_response())
}

/// The text: a line of help and of type before each metric.
fn text(standing: &Standing, states: &[InState]) -> String {
    let mut out = String::new();
    let mut gauge = |name: &str, help: &str, lines: &[(String, String)]| {
        let _ = writeln!(out, "# HELP vaaka_{name} {help}\n# TYPE vaaka_{name} gauge");
        for (labels, value) in lines {
            let _ = writeln!(out, "vaaka_{name}{labels} {value}");
        }
    };
    let one = |value: i64| vec![(String::new(), value.to_string())];
    let version = format!("{{version=\"{}\"}}", env!("CARGO_PKG_VERSION"));
    gauge("build_info", "Version of the program.", &[(version, "1".into())]);
    gauge("checks_open", "Checks that are started and not completed.", &one(standing.open_checks));
    gauge("jobs_waiting", "Long work that waits or runs.", &one(standing.jobs_waiting));
    gauge("jobs_failed", "Long work that was given up.", &one(standing.jobs_failed));
    gauge("mails_waiting", "Mails that have not left.", &one(standing.mails_waiting));
    gauge("mails_refused", "Waiting mails that were refused before.", &one(standing.mails_refused));
    if let Some(at) = standing.sealed_at {
        let help = "When the audit trail was sealed last.";
        gauge("audit_sealed_timestamp_seconds", help, &[(String::new(), at.to_string())]);
    }
    let states: Vec<(String, String)> = states
        .iter()
        .map(|one| (format!("{{state=\"{}\"}}", escaped(&one.state)), one.instruments.to_string()))
        .collect();
    gauge("instruments", "Instruments by state.", &states);
    out
}

/// A label's value: backslash, quote and line feed are escaped.
fn escaped(value: &str) -> String {
    value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
