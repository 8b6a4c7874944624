//! The device's word on when something was read decides nothing that the server can know better.

use std::sync::Arc;

use diesel_async::SimpleAsyncConnection;

use crate::client::Bench;
use crate::support::{HandClock, Server, demo_database, now};
use crate::web_chart_room::lines;

async fn case() -> (Arc<HandClock>, Server, Bench) {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    (clock, server, aino)
}

async fn to_the_reading(bench: &Bench, tag: &str) -> String {
    let path = bench.start(tag).await;
    for _ in 0..12 {
        let page = bench.get(&path).await;
        if page.find("form.entry[data-rules=reading]").is_some() {
            return path;
        }
        bench.confirm(&path).await;
    }
    panic!("no reading comes");
}

async fn held(bench: &Bench, path: &str, typed: &str, age_minutes: i64) -> (String, String) {
    let page = bench.get(path).await;
    let mut fields = page.form("form.entry");
    fields.insert("typed".into(), typed.into());
    fields.insert("age_ms".into(), (age_minutes * 60_000).to_string());
    let answer = bench.post_short(&format!("{path}/entries"), &fields).await;
    let told: serde_json::Value = serde_json::from_str(&answer.text).unwrap();
    (told["state"].as_str().unwrap().to_owned(), told["words"].as_str().unwrap().to_owned())
}

/// A set of weights whose certificate ended at midnight is not used by saying that it was yesterday.
#[tokio::test(flavor = "multi_thread")]
async fn an_ended_standard_is_not_opened_by_an_age() {
    let (clock, server, aino) = case().await;
    let path = to_the_reading(&aino, "R-02").await;
    assert_eq!(held(&aino, &path, "0.000", 0).await.0, "kept");
    server
        .owner()
        .await
        .batch_execute(
            "SET session_replication_role = replica;
             UPDATE certificates SET valid_until = '2026-11-24' WHERE lot_id IN
                 (SELECT l.id FROM standard_lots l JOIN standards s ON s.id = l.standard_id WHERE s.tag = 'M1-B')",
        )
        .await
        .unwrap();
    // Two hours later it is the 25th, also where the shift began on the 24th.
    clock.pass(2 * 3600);
    let (state, words) = held(&aino, &path, "5.001", 119).await;
    assert_eq!(state, "refused");
    assert!(words.contains("valid until"), "{words}");
    // What was read is on record all the same, when it is given up for that.
    let page = aino.get(&path).await;
    let mut fields = page.form("form.entry");
    for (name, value) in [("typed", "5.001"), ("age_ms", "60000"), ("given_up", words.as_str())] {
        fields.insert(name.into(), value.into());
    }
    aino.post_short(&format!("{path}/entries"), &fields).await;
    let kept = lines(&server.database, "SELECT kind || ' ' || typed AS line FROM attempts").await;
    assert_eq!(kept, ["held 5.001"]);
}

/// A reading is not older than what the server itself kept before it; an age moves no time in front of that.
#[tokio::test(flavor = "multi_thread")]
async fn an_age_goes_no_further_back_than_what_the_server_knows() {
    let (clock, server, aino) = case().await;
    let path = to_the_reading(&aino, "R-02").await;
    clock.pass(600);
    assert_eq!(aino.read(&path, "0.000").await.status.as_u16(), 303);
    clock.pass(120);
    assert_eq!(held(&aino, &path, "5.001", 60).await.0, "kept");
    let minutes = "SELECT (extract(epoch FROM received_at - measured_at) / 60)::int::text AS line
        FROM readings WHERE kind = 'reading' ORDER BY id DESC LIMIT 1";
    assert_eq!(lines(&server.database, minutes).await, ["2"], "not before the zero was kept");
    clock.pass(300);
    assert_eq!(held(&aino, &path, "10.001", 3).await.0, "kept");
    assert_eq!(lines(&server.database, minutes).await, ["3"], "a fair age is believed");
    for odd in [-5, i64::MAX / 60_000] {
        clock.pass(60);
        assert_eq!(held(&aino, &path, "20.001", odd).await.0, "kept");
    }
}

/// The start of a wait is the server's own: with an age it would be over at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_wait_begins_when_the_server_hears_of_it() {
    let (_, _server, aino) = case().await;
    let path = crate::web_gauge::thermometer(&aino).await;
    let page = aino.get(&path).await;
    assert!(page.find("form.entry.wait-start").is_some(), "{}", page.text);
    let (state, words) = held(&aino, &path, "", 60).await;
    assert_eq!(state, "kept", "{words}");
    let next = aino.send(&path, "").await;
    assert!(next.text.contains("Too early by"), "{}", next.text);
}
