//! The whole round of a shift, whatever the families: every check to its end, once all well and once all wrong. A family that
//! can be stuck somewhere, or that a page forgot, is found here without being named.

use std::collections::BTreeMap;
use std::sync::Arc;

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{ilma, lines, number, with_clock};

struct Shift {
    clock: Arc<HandClock>,
    server: Server,
    aino: Bench,
}

/// How an instrument behaves.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Shows {
    /// Just what it should.
    Right,
    /// Far off at everything but its zero.
    Wrong,
}

impl Shift {
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        let aino = Bench::aino(&server.base).await;
        clock.pass(60);
        Self { clock, server, aino }
    }

    /// Tags of the round in the order in which it is walked, of what can be started.
    async fn to_do(&self) -> Vec<String> {
        let round = self.aino.get("/").await;
        let rows = round.all("table.round tbody tr");
        let tags = round.hrefs("table.round tbody tr th a");
        assert_eq!(rows.len(), tags.len(), "{}", round.words("table.round"));
        let starts =
            |row: &&(String, String)| row.0.contains("Start") || row.0.contains("Repeat once");
        let tag = |(_, href): &(String, String)| href.rsplit('/').next().unwrap().to_owned();
        let rows: Vec<(String, String)> = rows.into_iter().zip(tags).collect();
        rows.iter().filter(starts).map(tag).collect()
    }

    /// Answers the step that is shown.
    async fn answer(&self, path: &str, page: &Page, shows: Shows) -> Page {
        let data = |name: &str| page.attribute("form.entry", name);
        if let Some(left) = page.attribute("form.entry .clock", "data-left") {
            self.clock.pass(left.parse::<i64>().unwrap() + 1);
            return self.aino.send_form(path, page, &[]).await;
        }
        match data("data-rules").as_deref() {
            Some("reading") => {
                let number = |name: &str| data(name).unwrap().parse::<f64>().unwrap();
                let (wanted, guard, step) =
                    (number("data-wanted"), number("data-guard"), number("data-step"));
                let off =
                    if shows == Shows::Wrong && wanted != 0.0 { guard + 20.0 * step } else { 0.0 };
                let places = data("data-step").unwrap().split('.').nth(1).map_or(0, str::len);
                let value = format!("{:.places$}", ((wanted + off) / step).round() * step);
                let mut typed = vec![("typed", value.as_str())];
                if page.find("#added").is_some() || page.attribute("#added", "name").is_some() {
                    typed.push(("added", "0"));
                }
                let kept = self.aino.send_form(path, page, &typed).await;
                match kept.attribute("form.entry button[name=confirm_far]", "value") {
                    Some(asked) => {
                        typed.push(("confirm_far", &asked));
                        self.aino.send_form(path, &kept, &typed).await
                    }
                    None => kept,
                }
            }
            Some("condition") => {
                let bound = |name: &str| data(name).and_then(|text| text.parse::<f64>().ok());
                let value = match (bound("data-lower"), bound("data-upper")) {
                    (Some(lower), Some(upper)) => (lower + upper) / 2.0,
                    (one, other) => one.or(other).unwrap_or(20.0),
                };
                self.aino.send_form(path, page, &[("typed", &format!("{value:.1}"))]).await
            }
            Some("setting") => {
                let wanted = data("data-wanted").unwrap();
                self.aino.send_form(path, page, &[("typed", &wanted)]).await
            }
            _ => self.aino.confirm(path).await,
        }
    }

    /// Runs the check of an instrument to its verdict.
    async fn run(&self, tag: &str, shows: Shows) -> Page {
        let path = self.aino.start(tag).await;
        for _ in 0..80 {
            let page = self.aino.get(&path).await;
            if page.status == StatusCode::SEE_OTHER {
                return self.aino.follow(page).await;
            }
            self.clock.pass(7);
            let answer = self.answer(&path, &page, shows).await;
            assert_eq!(answer.status, StatusCode::SEE_OTHER, "{tag}: {}", answer.words("main"));
        }
        panic!("the check of {tag} does not end");
    }

    /// What the newest check of each of these instruments came to.
    async fn conforms(&self) -> BTreeMap<String, String> {
        let rows = lines(
            &self.server.database,
            "SELECT i.tag || ' ' || r.conforms AS line FROM results r JOIN checks c ON c.id = r.check_id
             JOIN instruments i ON i.id = c.instrument_id
             WHERE r.id IN (SELECT max(r.id) FROM results r JOIN checks c ON c.id = r.check_id GROUP BY c.instrument_id)",
        )
        .await;
        let pair =
            |row: String| row.split_once(' ').map(|(tag, word)| (tag.to_owned(), word.to_owned()));
        rows.into_iter().filter_map(pair).collect()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_on_which_all_is_well() {
    let shift = Shift::new().await;
    let all = shift.to_do().await;
    assert!(all.len() >= 8, "{all:?}");
    for (done, tag) in all.iter().enumerate() {
        // The chosen one is the next to do, and the round gets shorter by it.
        assert_eq!(shift.to_do().await.len(), all.len() - done, "before {tag}");
        let verdict = shift.run(tag, Shows::Right).await;
        assert!(verdict.words("h1").contains("Within tolerance"), "{tag}: {}", verdict.words("h1"));
        assert!(verdict.find(".action .in-the-way").is_none(), "{tag}");
    }
    assert!(shift.to_do().await.is_empty());
    let conforms = shift.conforms().await;
    for tag in &all {
        assert_eq!(conforms[tag], "pass", "{tag}");
        let label = shift.aino.get(&format!("/instruments/{tag}")).await;
        assert!(
            label.find("#way-on li").is_none(),
            "{tag} has a way on: {}",
            label.words("#way-on")
        );
    }
    // Every record can be read, printed and taken out, and none of it is broken.
    let ilma = ilma(&shift.server).await;
    let newest = "SELECT c.id::text AS line FROM checks c ORDER BY c.id DESC LIMIT 12";
    for id in lines(&shift.server.database, newest).await {
        let record = ilma.get(&format!("/checks/{id}/record")).await;
        assert_eq!(record.status, StatusCode::OK);
        let words = record.words("main");
        for odd in ["NaN", "inf ", "Some(", "None", "{ "] {
            assert!(!words.contains(odd), "check {id}: “{odd}” in {words}");
        }
    }
    assert!(ilma.look_over(&shift.server).await.contains("Unbroken"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_on_which_all_is_wrong() {
    let shift = Shift::new().await;
    let all = shift.to_do().await;
    for tag in &all {
        let verdict = shift.run(tag, Shows::Wrong).await;
        let words = verdict.words(".action");
        assert!(words.contains("Repeat once"), "{tag}: {words}");
    }
    let conforms = shift.conforms().await;
    assert!(all.iter().all(|tag| conforms[tag] == "fail"), "{conforms:?}");
    // Each is restricted at once, stands on the round for its one repeat, and is told to the leads once.
    assert_eq!(shift.to_do().await.len(), all.len());
    let restricted = "SELECT count(*) AS number FROM instruments WHERE state = 'restricted'";
    assert!(number(&shift.server.database, restricted).await >= all.len() as i64);
    for tag in &all {
        let notices = number(
            &shift.server.database,
            &format!(
                "SELECT count(*) AS number FROM notices n JOIN instruments i ON i.id = n.instrument_id
                 WHERE i.tag = '{tag}' AND n.kind = 'failed' AND n.taken_by IS NULL"
            ),
        )
        .await;
        assert_eq!(notices, 1, "{tag}");
        // Confirmed by its repeat it is held, and there is a way on for a lead and words for a technician.
        let verdict = shift.run(tag, Shows::Wrong).await;
        assert!(!verdict.words(".action").contains("Repeat once"), "{tag}");
        let page = shift.aino.get(&format!("/instruments/{tag}")).await;
        assert!(page.words("#way-on").contains("lead"), "{tag}: {}", page.words("#way-on"));
    }
    assert!(shift.to_do().await.is_empty(), "a third run is offered");
    let held = "SELECT count(*) AS number FROM instruments WHERE state = 'on_hold'";
    assert!(number(&shift.server.database, held).await >= all.len() as i64);
    let ilma = ilma(&shift.server).await;
    for tag in &all {
        let ways = ilma.get(&format!("/instruments/{tag}")).await.all("#way-on li");
        assert!(ways.iter().any(|way| way.contains("Order a check")), "{tag}: {ways:?}");
    }
}
