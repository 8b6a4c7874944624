//! Cautions that fold: read line by line once a shift, and confirmed with one key after that; only where the plan says so,
//! only by who has ticked them, and only until the shift ends.

use std::sync::Arc;

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

/// The first step of the check of an instrument, which asks for its cautions.
async fn cautions_of(bench: &Bench, tag: &str) -> (String, Page) {
    let path = bench.start(tag).await;
    let page = bench.get(&path).await;
    assert!(page.find("form.entry.caution").is_some(), "{tag}: {}", page.words("h1"));
    (path, page)
}

/// Ends a check in which nothing was outside its limits.
async fn void(bench: &Bench, path: &str) {
    let page = bench.get(path).await;
    let form = format!("form[action='{path}/void']");
    let mut fields = page.whole_form(&form);
    fields.insert("reason".into(), "the bench was bumped or moved".into());
    let answer = bench.post(&format!("{path}/void"), &fields).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn cautions_are_ticked_line_by_line_once_a_shift() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;

    // The first of the shift has a box for each line, and takes nothing less.
    let (path, page) = cautions_of(&aino, "R-05").await;
    let boxes = page.boxes();
    assert!(boxes.len() >= 2 && page.find("ul.folded").is_none());
    let none = aino.send_form(&path, &page, &[]).await;
    assert_eq!(none.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(aino.confirm(&path).await.status, StatusCode::SEE_OTHER);

    // The same sentences in the next check: one key, with every sentence to be read, and when they were ticked.
    void(&aino, &path).await;
    clock.pass(600);
    let (path, page) = cautions_of(&aino, "R-05").await;
    assert!(page.boxes().is_empty());
    assert_eq!(page.all("ul.folded li").len(), boxes.len());
    assert!(page.words("form.entry").contains("You ticked them one by one at 22:34"));
    let kept = aino.send_form(&path, &page, &[]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    assert!(aino.get(&path).await.words("h1").contains("weight set"));
    void(&aino, &path).await;
    // The record tells the one from the other.
    let record = aino.get(&format!("{path}/record")).await.words("table.entries");
    assert!(record.contains("all at once; ticked one by one at 22:34"), "{record}");

    // Once more: what was confirmed all at once is not taken for a reading line by line.
    clock.pass(600);
    let (path, page) = cautions_of(&aino, "R-05").await;
    assert!(page.words("form.entry").contains("You ticked them one by one at 22:34"));
    void(&aino, &path).await;

    // Somebody else has not read them.
    let (path, page) = cautions_of(&teemu, "R-05").await;
    assert!(page.find("ul.folded").is_none());
    // Saying so in the form changes nothing: it is asked of what is kept.
    let claimed = teemu.send_form(&path, &page, &[("together", "yes")]).await;
    assert_eq!(claimed.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(claimed.words("#typed-error").contains("Tick each line"), "{}", claimed.text);
    void(&teemu, &path).await;

    // Where a foot can be crushed the plan folds nothing, however often.
    let (heavy, _) = cautions_of(&aino, "R-02").await;
    assert_eq!(aino.confirm(&heavy).await.status, StatusCode::SEE_OTHER);
    void(&aino, &heavy).await;
    let (heavy, page) = cautions_of(&aino, "R-02").await;
    assert!(page.find("ul.folded").is_none());
    let claimed = aino.send_form(&heavy, &page, &[("together", "yes")]).await;
    assert_eq!(claimed.status, StatusCode::UNPROCESSABLE_ENTITY);

    // The next shift begins with every line.
    clock.pass(10 * 3600);
    let (_, page) = cautions_of(&aino, "R-05").await;
    assert!(page.find("ul.folded").is_none());
}
