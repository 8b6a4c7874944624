//! Faults that would look right: each of these tests fails where a sign, an end, a moment or a count is another than it should be.

use serde_json::Value;

use crate::client::Bench;
use crate::support::Server;
use crate::web_chart_room::{lines, number, with_clock};
use crate::web_network::up_to_the_settings;

/// Titles of the steps that are drawn ahead on a page.
fn ahead(text: &str) -> Vec<String> {
    let parts = text.split("<template data-ahead=\"").skip(1);
    parts.map(|part| part.split('"').next().unwrap_or_default().to_owned()).collect()
}

/// What the server must rule on is not drawn ahead, nor is anything behind it: no reading is taken before its wait is over.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_drawn_ahead_beyond_a_wait() {
    let (clock, server) = with_clock().await;
    let (_, _, page) = up_to_the_settings(&clock, &server).await;
    // The settings stand on the screen themselves; behind making ready comes the wait.
    assert_eq!(ahead(&page.text), ["Make ready"]);
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    // The cautions are the step of now, the tag behind them needs the register.
    assert!(ahead(&aino.get(&path).await.text).is_empty());
}

/// The lower end of a tolerance stands at the left, the upper one at the right, and both are the plan's.
#[tokio::test(flavor = "multi_thread")]
async fn the_ends_of_a_beam_stand_in_their_order() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    for _ in 0..3 {
        aino.confirm(&path).await;
    }
    aino.send(&path, "0.000").await;
    let page = aino.get(&path).await;
    assert!(page.words("h1").contains("5 kg"), "{}", page.words("h1"));
    let ends = page.all(".beam-ends span");
    let amount = |end: &str| {
        let text = end.split_whitespace().next().unwrap_or_default().replace('−', "-");
        text.trim_start_matches('+').parse::<f64>().unwrap_or_else(|_| panic!("{end}"))
    };
    let (lower, upper) = (amount(&ends[0]), amount(&ends[2]));
    assert!(lower < 0.0 && upper > 0.0, "{ends:?}");
    assert_eq!(lower, -upper, "a scale has the same on both sides: {ends:?}");
    let kept = "SELECT count(*) AS number FROM readings WHERE kind = 'reading' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&server.database, kept).await, 1);
}

/// What was held goes out with the moment at which it was read, not with that of its arrival; and no earlier than what was kept
/// before it.
#[tokio::test(flavor = "multi_thread")]
async fn a_held_reading_is_of_the_moment_at_which_it_was_read() {
    let (clock, server) = with_clock().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    for _ in 0..3 {
        aino.confirm(&path).await;
    }
    clock.pass(200);
    let page = aino.get(&path).await;
    aino.send_form(&path, &page, &[("typed", "0.000"), ("age_ms", "90000")]).await;
    // Three days of age are no more than the time since the entry before it.
    let page = aino.get(&path).await;
    aino.send_form(&path, &page, &[("typed", "5.001"), ("age_ms", "259200000")]).await;
    let ages = lines(
        &server.database,
        "SELECT extract(epoch FROM received_at - measured_at)::int::text AS line FROM readings
         WHERE source = 'held' AND check_id = (SELECT max(id) FROM checks) ORDER BY id",
    )
    .await;
    assert_eq!(ages, ["90", "90"]);
    let id = path.rsplit('/').next().unwrap();
    let table = aino.get(&format!("/export/readings-{id}.json")).await.text;
    let rows: Vec<Value> = serde_json::from_str(&table).unwrap();
    let zero = rows.iter().find(|row| row["typed"] == "0.000").unwrap();
    let told: jiff::Timestamp = zero["measured_at"].as_str().unwrap().parse().unwrap();
    let stored = lines(
        &server.database,
        "SELECT extract(epoch FROM measured_at)::bigint::text AS line FROM readings
         WHERE typed = '0.000' AND check_id = (SELECT max(id) FROM checks)",
    )
    .await;
    assert_eq!(told.as_second().to_string(), stored[0], "{zero}");
    assert_eq!(zero["stands"], true);
}

/// A corrected reading does not stand and says why; what took its place does. The record tells the same.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_corrected_does_not_stand() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    for _ in 0..3 {
        aino.confirm(&path).await;
    }
    aino.send(&path, "0.001").await;
    let wrong = aino.get(&path).await.hrefs("table.kept a").pop().unwrap();
    let page = aino.get(&wrong).await;
    let typed = [("typed", "0.000"), ("reason", "typed wrongly")];
    aino.send_form(&path, &page, &typed).await;
    let id = path.rsplit('/').next().unwrap();
    let table = aino.get(&format!("/export/readings-{id}.json")).await.text;
    let rows: Vec<Value> = serde_json::from_str(&table).unwrap();
    let of = |typed: &str| rows.iter().find(|row| row["typed"] == typed).unwrap().clone();
    assert_eq!(of("0.001")["stands"], false, "{table}");
    assert!(of("0.001")["why_not"].as_str().unwrap().contains("typed wrongly"), "{table}");
    assert_eq!(of("0.000")["stands"], true, "{table}");
    assert!(of("0.000")["why_not"].as_str().unwrap_or_default().is_empty(), "{table}");
}
