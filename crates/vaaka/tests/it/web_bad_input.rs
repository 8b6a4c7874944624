//! Bad input and bad days over HTTP: a clear message at the field, and nothing typed is lost.

use std::collections::HashMap;

use reqwest::StatusCode;

use crate::client::Bench;
use crate::support::{Server, empty_database, now};

async fn at_twenty_kilograms(bench: &Bench) -> String {
    let path = bench.start("R-02").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    for typed in ["0.000", "5.003", "10.007"] {
        bench.send(&path, typed).await;
    }
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn every_bad_reading_gets_words_at_the_field_and_stays_in_it() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = at_twenty_kilograms(&bench).await;
    for (typed, words) in [
        ("", "Nothing is typed yet"),
        ("abc", "“a” is not part of a number"),
        ("20.O12", "“O” is not part of a number"),
        ("<script>alert(1)</script>", "“<” is not part of a number"),
        ("2.001", "Is the 20 kg on the pan"),
        ("0.000", "Is the 20 kg on the pan"),
        ("20.0125", "moves in steps of 0.001 kg"),
        ("20,012.0", "more than one comma or point"),
        ("99999999999999999999", "more than 15 digits"),
    ] {
        let answer = bench.send(&path, typed).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{typed}");
        assert!(
            answer.words("#typed-error").contains(words),
            "{typed}: {}",
            answer.words("#typed-error")
        );
        assert_eq!(answer.attribute("#typed", "value").unwrap(), typed);
        assert_eq!(answer.attribute("#typed", "aria-describedby").unwrap(), "typed-error");
    }
    // None of them was recorded: the first reading is still to come.
    assert!(bench.get(&path).await.words(".detail").contains("Reading 1 of 3"));
    // Yes to one value is no yes to another: the answer is bound to what was asked about.
    let asked = bench.send(&path, "2.001").await;
    assert_eq!(asked.attribute("button[name=confirm_far]", "value").as_deref(), Some("2.001"));
    let other = [("typed", "2.051"), ("confirm_far", "2.001")];
    let again = bench.send_form(&path, &asked, &other).await;
    assert_eq!(again.status, StatusCode::UNPROCESSABLE_ENTITY, "{}", again.text);
    assert_eq!(again.attribute("button[name=confirm_far]", "value").as_deref(), Some("2.051"));
    // Confirmed on purpose it is kept, and the verdict says so.
    let page = bench.get(&path).await;
    let kept = bench.send_form(&path, &page, &[("typed", "2.001"), ("confirm_far", "2.001")]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER);
    for typed in ["20.012", "20.012", "10.008", "10.007", "0.000"] {
        bench.send(&path, typed).await;
    }
    let verdict = bench.finish(&path).await;
    assert!(verdict.words("aside").contains("was confirmed by hand"), "{}", verdict.words("aside"));
    assert!(verdict.words("h1").contains("Out of tolerance"));
    // What was typed and not kept stays on record, each text once in a row; nonsense was never a reading.
    let record = bench.get(&format!("{path}/record")).await;
    let table = record.words("main");
    for (typed, times) in [("2.001", 1), ("0.000", 1), ("2.051", 1), ("20,012.0", 0)] {
        let rows = record.all("table.attempts tbody tr");
        let found = rows.iter().filter(|row| row.contains(typed)).count();
        assert!(found >= times && (times > 0) == (found > 0), "{typed}: {rows:?} in {table}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_separator_that_could_mean_thousands_is_asked_about() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("R-05").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    bench.send(&path, "0.00").await;
    let answer = bench.send(&path, "1,000").await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    let words = answer.words("#typed-error");
    assert!(words.contains("1.000 g or as 1000 g"), "{words}");
    assert_eq!(bench.send(&path, "1000,03").await.status, StatusCode::SEE_OTHER);
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_tags_and_unticked_lines_are_refused_in_words() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("R-02").await;
    let page = bench.get(&path).await;
    assert!(
        page.words(".step").contains("local rules"),
        "the caution stands before the first step"
    );
    let answer = bench.send_form(&path, &page, &[("tick0", "on")]).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        answer.words(".field-error").contains("1 of 3 are"),
        "{}",
        answer.words(".field-error")
    );
    assert!(answer.text.contains("name=\"tick0\" value=\"on\" checked"), "the tick stays");
    bench.confirm(&path).await;
    let answer = bench.send(&path, "M1-A").await;
    assert!(answer.words("#typed-error").contains("Take M1-B"), "{}", answer.words("#typed-error"));
    assert_eq!(bench.send(&path, "m1b").await.status, StatusCode::SEE_OTHER);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_form_twice_is_one_reading_and_a_stale_one_says_so() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = at_twenty_kilograms(&bench).await;
    let page = bench.get(&path).await;
    let first = bench.send_form(&path, &page, &[("typed", "20.012")]).await;
    let second = bench.send_form(&path, &page, &[("typed", "20.012")]).await;
    assert_eq!(first.location, second.location, "a double click ends where a single one does");
    assert!(bench.get(&path).await.words(".detail").contains("Reading 2 of 3"));
    // Another bench with the page from before.
    let other = Bench::aino(&server.base).await;
    let theirs = other.get(&path).await;
    bench.send(&path, "20.012").await;
    let late = other.send_form(&path, &theirs, &[("typed", "20.013")]).await;
    let shown = other.follow(late).await;
    assert!(shown.words(".notice").contains("kept a moment ago"), "{}", shown.words(".notice"));
    // Two starts of one check come to the same check.
    assert_eq!(bench.get("/").await.attribute("a[data-round-main]", "href").unwrap(), path);
}

#[tokio::test(flavor = "multi_thread")]
async fn finishing_twice_concludes_once() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = at_twenty_kilograms(&bench).await;
    for typed in ["20.012", "20.012", "20.012", "10.008", "10.007", "0.000"] {
        bench.send(&path, typed).await;
    }
    bench.confirm(&path).await;
    let page = bench.get(&path).await;
    let boxes: Vec<String> = page.boxes();
    let ticks: Vec<(&str, &str)> = boxes.iter().map(|name| (name.as_str(), "on")).collect();
    let (a, b) =
        tokio::join!(bench.send_form(&path, &page, &ticks), bench.send_form(&path, &page, &ticks));
    for answer in [a, b] {
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
    }
    let verdict = bench.follow(bench.get(&path).await).await;
    assert!(verdict.words("h1").contains("Within tolerance"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_typed_survives_being_signed_out() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = at_twenty_kilograms(&bench).await;
    let page = bench.get(&path).await;
    let out = page.form(".who-panel form[action='/sign-out']");
    bench.post("/sign-out", &out).await;
    let answer = bench.send_form(&path, &page, &[("typed", "20,017")]).await;
    assert_eq!(answer.status, StatusCode::UNAUTHORIZED);
    assert!(
        answer.words(".notice").contains("“20,017” is not kept yet"),
        "{}",
        answer.words(".notice")
    );
    let mut fields = answer.form("form.sheet");
    fields.insert("name".into(), "aino".into());
    fields.insert("password".into(), "kapea-silta-4".into());
    let back = bench.follow(bench.post("/sign-in", &fields).await).await;
    assert_eq!(back.attribute("#typed", "value").unwrap(), "20,017");
    assert!(back.words(".notice").contains("You were signed out"));
    assert!(back.words(".detail").contains("Reading 1 of 3"), "it is not kept before it is kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_in_without_a_password_and_forms_of_others_are_refused() {
    let server = Server::demo().await;
    let stranger = Bench::new(&server.base);
    for path in ["/", "/charts", "/charts/1", "/checks/1", "/checks/1/verdict"] {
        let answer = stranger.get(path).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{path}");
        assert!(answer.location.unwrap().starts_with("/sign-in?next="), "{path}");
    }
    for path in ["/checks", "/checks/1/void", "/checks/1/conclude", "/sign-out"] {
        let fields =
            HashMap::from([("plan_version", "1"), ("key", "00000000-0000-4000-8000-000000000000")]);
        let answer = stranger.post(path, &fields).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{path}");
    }
    let fields = HashMap::from([("name", "aino"), ("password", "wrong")]);
    let answer = stranger.post("/sign-in", &fields).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(answer.words("#sign-in-error").contains("do not fit together"));
    assert_eq!(answer.attribute("#name", "value").unwrap(), "aino");

    let bench = Bench::aino(&server.base).await;
    let mut fields = bench.get("/").await.form("td.do form");
    fields.insert("form_token".into(), "made-up".into());
    let answer = bench.post("/checks", &fields).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    let elsewhere = HashMap::from([("name", "aino"), ("password", "kapea-silta-4")]);
    let answer = bench.post_from("/sign-in", "http://elsewhere.example", &elsewhere).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);

    // A viewer reads, and changes nothing.
    let viewer = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    let round = viewer.get("/").await;
    assert_eq!(round.status, StatusCode::OK);
    assert!(round.find("td.do button").is_none(), "what does not work is not drawn");
    let mut fields = round.form(".who-panel form[action='/sign-out']");
    fields.insert("plan_version".into(), "1".into());
    fields.insert("key".into(), "00000000-0000-4000-8000-000000000001".into());
    let answer = viewer.post("/checks", &fields).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    assert!(answer.words("main").contains("reads and does not change"));
}

#[tokio::test(flavor = "multi_thread")]
async fn cookies_and_headers_are_strict_and_wrong_addresses_get_pages() {
    let server = Server::demo().await;
    let bench = Bench::new(&server.base);
    let fields = HashMap::from([("name", "aino"), ("password", "kapea-silta-4")]);
    let answer = bench.post("/sign-in", &fields).await;
    let cookie = answer.headers["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax"), "{cookie}");
    let page = bench.get("/").await;
    let policy = page.headers["content-security-policy"].to_str().unwrap();
    assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"), "{policy}");
    assert!(!page.text.contains("style=\"") && !page.text.contains("onclick"), "nothing inline");
    for path in ["/checks/abc", "/checks/999999", "/charts/999999", "/nothing", "/checks/1/nothing"]
    {
        let answer = bench.get(path).await;
        assert_eq!(answer.status, StatusCode::NOT_FOUND, "{path}");
        assert_eq!(answer.words("h1"), "There is no such page");
    }
    let answer = bench.post("/checks", &HashMap::from([("plan_version", "x")])).await;
    assert_eq!(answer.status, StatusCode::BAD_REQUEST);
    assert_eq!(answer.words("h1"), "This form cannot be read");
    assert_eq!(bench.get("/charts/1?range=nonsense").await.status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_check_is_voided_with_a_reason_and_stays_on_record() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = at_twenty_kilograms(&bench).await;
    let form = bench.get(&path).await.form("details.void form");
    let answer = bench.post(&format!("{path}/void"), &form).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(answer.words("details.void .field-error").contains("what went wrong"));
    let mut with_reason = form.clone();
    with_reason.insert("reason".into(), "other".into());
    with_reason.insert("words".into(), "a colleague leaned on it".into());
    assert_eq!(
        bench.post(&format!("{path}/void"), &with_reason).await.status,
        StatusCode::SEE_OTHER
    );
    let shown = bench.get(&path).await;
    assert!(shown.words("main").contains("a colleague leaned on it"), "{}", shown.words("main"));
    let again = bench.start("R-02").await;
    assert_ne!(again, path, "a void check is started again as another one");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_database_says_what_to_do() {
    let server = Server::over(empty_database().await, now()).await;
    let bench = Bench::new(&server.base);
    assert_eq!(bench.get("/health").await.text, "ok");
    let page = bench.get("/sign-in").await;
    assert_eq!(page.location.as_deref(), Some("/first"), "the first person is an administrator");
    let fields = HashMap::from([("name", "aino"), ("password", "kapea-silta-4")]);
    assert_eq!(bench.post("/sign-in", &fields).await.status, StatusCode::UNPROCESSABLE_ENTITY);
}
