//! The register in the browserless browser: what is shown, and who may change what.

use std::collections::HashMap;
use std::sync::Arc;

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

async fn ilma(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

async fn change(bench: &Bench, tag: &str, fields: &[(&str, &str)]) -> Page {
    let path = format!("/instruments/{tag}");
    let mut form = bench.get(&path).await.form("#use form");
    for (name, value) in fields {
        form.insert((*name).to_owned(), (*value).to_owned());
    }
    bench.post(&format!("{path}/state"), &form).await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_register_is_found_by_tag_name_area_and_serial() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let all = bench.get("/instruments").await;
    assert_eq!(all.words("h1"), "48 instruments, none on hold");
    for (wanted, count) in [
        ("r-02", 1),
        ("scale", 6),
        ("finishing", 13),
        ("VM-25", 3),
        ("%5C%27%22%3Ci%3E", 0),
        ("nothing", 0),
    ] {
        let found = bench.get(&format!("/instruments?find={wanted}")).await;
        assert_eq!(found.all("tbody tr").len(), count, "{wanted}");
        if count == 0 {
            assert!(found.words(".empty").starts_with("Nothing fits"), "{}", found.text);
            assert!(!found.text.contains("<i>"), "what was typed is text");
        }
    }
    let one = bench.get("/instruments/R-02").await;
    assert_eq!(one.words("h1"), "Tank scale R-02: Drifting up");
    assert!(one.words("dl.fact-list").contains("0 to 60 kg"));
    // A roll scale covers its range but reads in coarser steps; the mixing scale covers a part.
    let instead = one.words("aside");
    assert!(instead.contains("Mixing scale R-09") && !instead.contains("Roll scale"), "{instead}");
    assert_eq!(bench.get("/instruments/X-99").await.status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn anybody_may_hold_and_only_a_lead_releases_after_a_good_check() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let silent = change(&aino, "R-09", &[("to", "on_hold")]).await;
    assert_eq!(silent.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(silent.words("#state-error").starts_with("Say in a few words why"));
    let refused = change(&aino, "R-09", &[("to", "out"), ("reason", "I say so")]).await;
    assert!(refused.words("#state-error").contains("the rest is for a lead"));
    assert_eq!(refused.attribute("#reason", "value").as_deref(), Some("I say so"), "kept");

    let held = change(&aino, "R-09", &[("to", "on_hold"), ("reason", "it was dropped")]).await;
    assert_eq!(held.status, StatusCode::SEE_OTHER, "{}", held.text);
    let page = aino.get("/instruments/R-09").await;
    assert_eq!(page.words("h1"), "Mixing scale R-09: On hold");
    assert!(page.text.contains("on hold: it was dropped (Aino Verkala)"));
    let round = aino.get("/").await;
    let row =
        round.all("table.round tbody tr").into_iter().find(|row| row.contains("R-09")).unwrap();
    assert!(row.contains("On hold"), "{row}");

    // Back in service: not without a good check made since.
    let early = change(&ilma, "R-09", &[("to", "in_service"), ("reason", "looks fine")]).await;
    assert!(early.words("#state-error").contains("through a good check only"), "{}", early.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restriction_says_to_what_and_two_leads_do_not_overwrite_each_other() {
    let server = Server::demo().await;
    let (ilma, other) = (ilma(&server).await, ilma(&server).await);
    let vague = change(&ilma, "P-06", &[("to", "restricted"), ("reason", "corner error")]).await;
    assert!(vague.words("#state-error").starts_with("Say what it may still be used for"));
    // Both have the page open; the first decides.
    let mut late = other.get("/instruments/P-06").await.form("#use form");
    let done = change(
        &ilma,
        "P-06",
        &[
            ("to", "restricted"),
            ("reason", "corner error"),
            ("restricted_to", "middle of the pan only"),
        ],
    )
    .await;
    assert_eq!(done.status, StatusCode::SEE_OTHER);
    late.extend(HashMap::from([
        ("to".to_owned(), "out".to_owned()),
        ("reason".to_owned(), "sent away".to_owned()),
    ]));
    let answer = other.post("/instruments/P-06/state", &late).await;
    assert_eq!(answer.status, StatusCode::CONFLICT);
    assert!(answer.words("#state-error").starts_with("Somebody changed this instrument"));
    let page = ilma.get("/instruments/P-06").await;
    assert_eq!(page.words("p.notice"), "Restricted: middle of the pan only.");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_auditor_reads_and_changes_nothing() {
    let server = Server::demo().await;
    let veera = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    let page = veera.get("/instruments/R-02").await;
    assert!(page.find("#use").is_none(), "what does not work is not drawn");
    let fields = HashMap::from([
        ("form_token", page.attribute("input[name=form_token]", "value").unwrap()),
        ("to", "on_hold".to_owned()),
        ("reason", "no".to_owned()),
        ("version", "1".to_owned()),
    ]);
    let answer = veera.post("/instruments/R-02/state", &fields).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn standards_show_their_values_in_full_and_an_ended_certificate_stops_the_check() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let all = bench.get("/standards").await;
    assert_eq!(all.words("h1"), "39 standards, 4 cannot be used now");
    let one = bench.get("/standards/M1-B").await;
    assert!(one.words(".plain-list").contains("10.00011 kg 0.00015 kg (k = 2)"), "{}", one.text);
    assert!(one.words("aside").contains("Tank scale R-02"));
    assert_eq!(bench.get("/standards/none").await.status, StatusCode::NOT_FOUND);

    let before = bench.get("/").await;
    let mut owner = server.owner().await;
    owner
        .batch_execute("UPDATE certificates SET valid_until = '2026-11-23' WHERE number = 'V-2231'")
        .await
        .unwrap();
    let all = bench.get("/standards").await;
    assert_eq!(all.words("h1"), "39 standards, 5 cannot be used now");
    assert!(all.words("table").contains("certificate V-2231 ended on 2026-11-23"));
    let round = bench.get("/").await;
    let row = round.all("table.round tr").into_iter().find(|row| row.contains("R-02")).unwrap();
    assert!(row.contains("M1-B: certificate V-2231 ended on 2026-11-23"), "{row}");
    assert!(!row.contains("Start"), "what would be refused is not offered: {row}");
    let mut fields = before.form("td.do form");
    fields.insert("plan_version".into(), crate::client::plan_version(&before, "R-02"));
    let refused = bench.post("/checks", &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(refused.text.contains("M1-D (Resin kitchen, blue cabinet) would do: ask a lead"));
}

fn readings(twenty: &str) -> [&str; 9] {
    ["0.000", "5.001", "10.001", twenty, twenty, twenty, "10.001", "10.001", "0.000"]
}

/// The repeat after a failure does not bring an instrument back, however well it goes; a good
/// first run does.
#[tokio::test(flavor = "multi_thread")]
async fn a_doubtful_pass_releases_nothing_and_a_good_check_does() {
    for (fails_first, status) in
        [(true, StatusCode::UNPROCESSABLE_ENTITY), (false, StatusCode::SEE_OTHER)]
    {
        let clock = HandClock::at(now());
        let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
        let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
        if fails_first {
            aino.run("R-02", &readings("20.030")).await;
            clock.pass(60);
        }
        change(&aino, "R-02", &[("to", "on_hold"), ("reason", "it was knocked")]).await;
        clock.pass(60);
        aino.run("R-02", &readings("20.001")).await;
        let page = ilma.get("/instruments/R-02").await;
        let doubtful = page.words(".scroll-list").contains("doubtful: failed, then passed");
        assert_eq!(doubtful, fails_first, "{}", page.text);
        let answer = change(&ilma, "R-02", &[("to", "in_service"), ("reason", "it passed")]).await;
        assert_eq!(answer.status, status, "{}", answer.text);
    }
}
