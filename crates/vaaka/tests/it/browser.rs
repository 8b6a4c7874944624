//! Runs the scripts of `e2e/` in the system's Chromium, against servers made here.

use std::path::PathBuf;
use std::process::Stdio;

use tokio::process::Command;

use crate::support::{Server, demo_database, now};

fn e2e() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../e2e")
}

/// Runs a script and gives what it printed; panics with it when the script fails.
pub async fn script(name: &str, base: &str, arguments: &[&str]) -> String {
    let output = Command::new("node")
        .arg(name)
        .args(arguments)
        .current_dir(e2e())
        .env("VAAKA_BASE_URL", base)
        .stdin(Stdio::null())
        .kill_on_drop(true)
        .output()
        .await
        .expect("node is missing: bin/test says what to install");
    let text = format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    assert!(output.status.success(), "{name} failed:\n{text}");
    text
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_round_to_the_chart_by_keyboard_alone() {
    let server = Server::demo().await;
    script("keyboard.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn several_settings_by_keyboard_and_without_the_network() {
    let (clock, server) = crate::web_chart_room::with_clock().await;
    let (_, path) =
        crate::web_thickness::begun(&clock, &server, crate::web_network::CELL, "V-02").await;
    script("values.mjs", &server.base, &[&path]).await;
    // What was typed first stays on record, also where the network was gone.
    let attempts = "SELECT typed AS line FROM attempts WHERE step_key = 'setting-3' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(crate::web_chart_room::lines(&server.database, attempts).await, ["-5"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn few_actions_and_no_page_between_two_readings() {
    let server = Server::demo().await;
    let said = script("few.mjs", &server.base, &[]).await;
    assert!(said.contains("3 pages loaded"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_network_goes_and_nothing_is_lost() {
    let server = Server::demo().await;
    script("offline.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_choice_a_text_and_a_count_by_keyboard_and_without_the_network() {
    let server = crate::web_inputs::planned().await;
    script("inputs.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trace_is_dropped_refused_read_off_and_held() {
    let case = crate::web_trace::Case::begun().await;
    script("trace.mjs", &case.server.base, &[&case.path]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn readings_come_over_the_line_by_key_and_by_the_instruments_own() {
    let table = crate::links::OnTable::new().await;
    let said = script("capture.mjs", &table.server.base, &[&table.page().await]).await;
    assert!(said.contains("came over the line"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_the_application_answers_without_the_network() {
    let server = Server::demo().await;
    script("shell.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_built_previewed_approved_and_run() {
    let server = Server::demo().await;
    script("plan.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failed_check_is_walked_to_its_release() {
    // The clock moves: a check made after a hold is told from one made before it.
    let clock = std::sync::Arc::new(vaaka_web::ShiftedClock::starting_at(now()));
    let server = Server::with_clock(demo_database().await, clock).await;
    script("acting.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_chart_room_by_key_by_pointer_and_live() {
    let server = Server::demo().await;
    script("charts.mjs", &server.base, &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn no_page_violates_the_accessibility_rules_in_light_or_dark() {
    let server = Server::demo().await;
    let said = script("axe.mjs", &server.base, &[]).await;
    assert!(said.contains("pages without violation"), "{said}");
}
