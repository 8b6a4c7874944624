//! A failing check is not made to disappear by whoever ran it.

use std::collections::HashMap;

use futures_util::future::join_all;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{ilma, lines, number, post};

/// Comes to the first reading of the scale in the resin kitchen.
async fn at_the_zero(bench: &Bench) -> String {
    let path = bench.start("R-02").await;
    for _ in 0..10 {
        let page = bench.get(&path).await;
        if page.find("form.entry[data-rules=reading]").is_some() {
            return path;
        }
        bench.confirm(&path).await;
    }
    panic!("no reading comes");
}

async fn void(bench: &Bench, path: &str) -> Page {
    post(bench, &format!("{path}/void"), &[("words", "the bench was bumped")]).await
}

async fn state(server: &Server, path: &str) -> String {
    let id = path.trim_start_matches("/checks/");
    lines(&server.database, &format!("SELECT state AS line FROM checks WHERE id = {id}"))
        .await
        .remove(0)
}

fn lead_only(answer: &Page) -> bool {
    answer.text.contains("voided by a lead only")
}

/// Each single reading is inside ±20 g, and their range of 22 g is not.
#[tokio::test(flavor = "multi_thread")]
async fn a_range_that_fails_while_each_reading_is_inside() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = at_the_zero(&aino).await;
    for text in ["0.000", "5.001", "10.001", "19.989", "20.001", "20.011"] {
        aino.read(&path, text).await;
    }
    assert!(lead_only(&void(&aino, &path).await), "22 g of range at a limit of 20 g");
    assert_eq!(state(&server, &path).await, "open");
    // The same three without the spread: nothing speaks against starting again.
    let other = Server::demo().await;
    let aino = Bench::aino(&other.base).await;
    let path = at_the_zero(&aino).await;
    for text in ["0.000", "5.001", "10.001", "20.001", "20.001", "20.011"] {
        aino.read(&path, text).await;
    }
    assert_eq!(void(&aino, &path).await.status, StatusCode::SEE_OTHER);
}

/// "Typed wrongly", then void: the value that was kept first counts as much as the one that stands.
#[tokio::test(flavor = "multi_thread")]
async fn a_corrected_failure_is_still_one() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let path = at_the_zero(&aino).await;
    for text in ["0.000", "5.001", "10.001", "20.028"] {
        aino.read(&path, text).await;
    }
    let kept = number(&server.database, "SELECT max(id) AS number FROM readings").await;
    let correct = format!("{path}?correct={kept}");
    let form = aino.get(&correct).await;
    let send = async |more: &[(&str, &str)]| {
        let mut fields = form.form("form.entry");
        for (name, value) in [("typed", "20.008"), ("reason", "typed wrongly")].iter().chain(more) {
            fields.insert((*name).to_owned(), (*value).to_owned());
        }
        aino.post(&format!("{path}/entries"), &fields).await
    };
    // From outside to inside: a second person looks, and is somebody else, with a password, who runs checks.
    let alone = send(&[]).await;
    assert_eq!(alone.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(alone.words("#second-error").contains("a second person looks"), "{}", alone.text);
    assert_eq!(
        alone.attribute("#typed", "value").as_deref(),
        Some("20.008"),
        "what was typed is kept"
    );
    for (name, password, words) in [
        ("aino", "kapea-silta-4", "That is you"),
        ("teemu", "guess", "not the password"),
        ("nobody", "kuiva-kivi-7", "not the password"),
        ("veera", "avoin-ovi-8", "runs no checks"),
    ] {
        let refused = send(&[("second", name), ("second_password", password)]).await;
        assert!(refused.words("#second-error").contains(words), "{name}: {}", refused.text);
        assert!(!refused.text.contains(password), "no password comes back");
    }
    let seen = send(&[("second", "teemu"), ("second_password", "kuiva-kivi-7")]).await;
    assert_eq!(seen.status, StatusCode::SEE_OTHER, "{}", seen.text);
    assert!(lead_only(&void(&aino, &path).await), "it failed once");
    for text in ["20.007", "20.008", "10.001", "10.001", "0.000"] {
        aino.read(&path, text).await;
    }
    let verdict = aino.finish(&path).await;
    let said = verdict.words("main");
    assert!(said.contains("was corrected from 20.028 to 20.008"), "{said}");
    assert!(said.contains("Seen by Teemu Ronsala"), "{said}");
    // The lead who did not run it may void it; it is a pass, and it failed on the way.
    assert_eq!(void(&ilma, &path).await.status, StatusCode::SEE_OTHER);
}

/// A correction within the limits, or of what stays outside, needs nobody.
#[tokio::test(flavor = "multi_thread")]
async fn a_slip_is_corrected_alone() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = at_the_zero(&aino).await;
    for (first, then) in [("5.001", "5.002"), ("10.016", "10.014")] {
        if first == "5.001" {
            aino.read(&path, "0.000").await;
        }
        aino.read(&path, first).await;
        let kept = number(&server.database, "SELECT max(id) AS number FROM readings").await;
        let form = aino.get(&format!("{path}?correct={kept}")).await;
        let mut fields = form.form("form.entry");
        fields.insert("typed".into(), then.into());
        fields.insert("reason".into(), "typed wrongly".into());
        let done = aino.post(&format!("{path}/entries"), &fields).await;
        assert_eq!(done.status, StatusCode::SEE_OTHER, "{first} to {then}: {}", done.text);
    }
}

/// The entry that fails the check, or that ends it, and the void are sent together, again and again: whichever comes
/// first, no failure is void by its own technician, and nobody meets a failure page.
#[tokio::test(flavor = "multi_thread")]
async fn the_last_entry_and_the_void_at_one_moment() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let mut taken = HashMap::new();
    for round in 0..8 {
        let path = at_the_zero(&aino).await;
        for text in ["0.000", "5.001", "10.001", "20.001", "20.001"] {
            aino.read(&path, text).await;
        }
        let page = aino.get(&path).await;
        let mut entry = page.form("form.entry");
        entry.insert("typed".into(), "20.029".into());
        let mut out = page.form("form[action$='/void']");
        out.insert("words".into(), "the bench was bumped".into());
        let answers = join_all([
            aino.post(&format!("{path}/entries"), &entry),
            aino.post(&format!("{path}/void"), &out),
        ])
        .await;
        for answer in &answers {
            assert!(answer.status.as_u16() < 500, "{}: {}", answer.status, answer.text);
        }
        let id = path.trim_start_matches("/checks/");
        let failing = number(
            &server.database,
            &format!("SELECT count(*) AS number FROM readings WHERE check_id = {id} AND indication = 20.029"),
        )
        .await;
        let state = state(&server, &path).await;
        assert!(!(failing == 1 && state == "void"), "round {round}: it failed and is void");
        *taken.entry(state.clone()).or_insert(0) += 1;
        if state == "open" {
            assert_eq!(void(&ilma, &path).await.status, StatusCode::SEE_OTHER);
        }
    }
    assert_eq!(taken.values().sum::<i32>(), 8);
    // To the end: the closing tick and the void together.
    let path = at_the_zero(&aino).await;
    for text in
        ["0.000", "5.001", "10.001", "20.029", "20.029", "20.029", "10.001", "10.001", "0.000"]
    {
        aino.read(&path, text).await;
    }
    aino.confirm(&path).await;
    let page = aino.get(&path).await;
    let mut closing = page.form("form.entry");
    for name in page.tick_names("form.entry") {
        closing.insert(name, "on".into());
    }
    let mut out = page.form("form[action$='/void']");
    out.insert("words".into(), "the bench was bumped".into());
    let answers = join_all([
        aino.post(&format!("{path}/entries"), &closing),
        aino.post(&format!("{path}/void"), &out),
        aino.post(&format!("{path}/void"), &out),
    ])
    .await;
    for answer in &answers {
        assert!(answer.status.as_u16() < 500, "{}: {}", answer.status, answer.text);
    }
    assert_ne!(state(&server, &path).await, "void");
    let deadlocks = "SELECT deadlocks::bigint AS number FROM pg_stat_database WHERE datname = current_database()";
    assert_eq!(number(&server.database, deadlocks).await, 0);
}

/// "Judge it" is for a check whose last step is done, by whoever has it in hand.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_skipped_by_asking_for_the_verdict() {
    let server = Server::demo().await;
    let (aino, teemu) = (
        Bench::aino(&server.base).await,
        Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await,
    );
    let path = at_the_zero(&aino).await;
    for (bench, read) in [(&aino, false), (&teemu, false), (&aino, true)] {
        if read {
            for text in [
                "0.000", "5.001", "10.001", "20.001", "20.001", "20.001", "10.001", "10.001",
                "0.000",
            ] {
                bench.read(&path, text).await;
            }
        }
        let answer = post(bench, &format!("{path}/conclude"), &[]).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
        assert_eq!(answer.location.as_deref(), Some(path.as_str()));
        assert_eq!(state(&server, &path).await, "open");
    }
}

/// "Kept" is said of what is kept: an entry for a check that is over, or for a step that somebody else kept, is not.
#[tokio::test(flavor = "multi_thread")]
async fn kept_is_said_of_what_is_kept() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = at_the_zero(&aino).await;
    let page = aino.get(&path).await;
    let mut first = page.form("form.entry");
    first.insert("typed".into(), "0.000".into());
    let says = async |fields: &HashMap<String, String>| {
        let answer = aino.post_short(&format!("{path}/entries"), fields).await;
        let told: serde_json::Value = serde_json::from_str(&answer.text).unwrap();
        told["state"].as_str().unwrap().to_owned()
    };
    assert_eq!(says(&first).await, "kept");
    assert_eq!(says(&first).await, "kept", "the very same, sent again");
    let mut other = first.clone();
    other.insert("key".into(), uuid::Uuid::new_v4().to_string());
    assert_eq!(says(&other).await, "refused", "the step is kept, and not by this");
    for text in ["5.001", "10.001", "20.001", "20.001", "20.001", "10.001", "10.001", "0.000"] {
        aino.read(&path, text).await;
    }
    aino.finish(&path).await;
    assert_eq!(says(&first).await, "kept");
    assert_eq!(says(&other).await, "refused", "the check is over");
    other.insert("age_ms".into(), "60000".into());
    assert_eq!(says(&other).await, "refused");
}
