//! What people expect of finished software beside the checks: own passwords, why a check was missed, whose a signal is, who made an
//! instrument and until when its calibration holds.

use reqwest::StatusCode;

use crate::client::Bench;
use crate::support::Server;
use crate::web_chart_room::{ilma, lines, number, post};

/// What an administrator chose is good for one sign-in, and for setting an own password.
#[tokio::test(flavor = "multi_thread")]
async fn a_password_of_somebody_else_is_good_for_one_sign_in() {
    let server = Server::demo().await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let page = onni.get("/new/person").await;
    let typed = [
        ("name", "Sanni Kuusela"),
        ("sign_in", "sanni"),
        ("role", "technician"),
        ("password", "alku-sana-1"),
    ];
    let added = onni.submit(&page, "/new/person", &typed).await;
    assert_eq!(added.status, StatusCode::SEE_OTHER, "{}", added.text);
    let sanni = Bench::signed_in(&server.base, "sanni", "alku-sana-1").await;
    for path in ["/", "/charts", "/instruments/R-02", "/export/charts.csv"] {
        let answer = sanni.get(path).await;
        let there = answer.location.as_deref() == Some("/password");
        assert!(there || answer.status == StatusCode::UNAUTHORIZED, "{path}: {}", answer.status);
    }
    let page = sanni.get("/password").await;
    assert!(page.words(".intro").contains("chosen by somebody else"), "{}", page.text);
    for (old, new, again, field) in [
        ("alku-sana-9", "oma-lause-22", "oma-lause-22", "password"),
        ("alku-sana-1", "lyhyt", "lyhyt", "new"),
        ("alku-sana-1", "alku-sana-1", "alku-sana-1", "new"),
        ("alku-sana-1", "oma-lause-22", "oma-lause-23", "again"),
    ] {
        let typed = [("password", old), ("new", new), ("again", again)];
        let refused = sanni.submit(&page, "/password", &typed).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{field}");
        assert!(refused.find(&format!("#f-{field}-error")).is_some(), "{field}: {}", refused.text);
        assert!(!refused.text.contains("oma-lause"), "a password never comes back in a page");
    }
    let elsewhere = Bench::signed_in(&server.base, "sanni", "alku-sana-1").await;
    let typed = [("password", "alku-sana-1"), ("new", "oma-lause-22"), ("again", "oma-lause-22")];
    let done = sanni.submit(&page, "/password", &typed).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    assert_eq!(sanni.get("/charts").await.status, StatusCode::OK, "here it goes on");
    let out = elsewhere.get("/charts").await;
    assert!(out.location.is_some_and(|path| path.starts_with("/sign-in")), "elsewhere it is over");
    let again = Bench::signed_in(&server.base, "sanni", "oma-lause-22").await;
    assert_eq!(again.get("/").await.status, StatusCode::OK);
    // Anybody changes an own one; set by the administrator it is again good for one sign-in.
    let id =
        number(&server.database, "SELECT id AS number FROM people WHERE sign_in = 'sanni'").await;
    let page = onni.get(&format!("/people/{id}")).await;
    let reset = onni.submit(&page, &format!("/people/{id}"), &[("password", "uusi-alku-33")]).await;
    assert_eq!(reset.status, StatusCode::SEE_OTHER, "{}", reset.text);
    let sanni = Bench::signed_in(&server.base, "sanni", "uusi-alku-33").await;
    assert_eq!(sanni.get("/").await.location.as_deref(), Some("/password"));
    let said = lines(
        &server.database,
        "SELECT detail::text AS line FROM audit_entries WHERE action = 'own_password_set'",
    )
    .await;
    assert_eq!(said, ["{}"], "on record, and nothing of the password");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_missed_check_stays_missed_and_says_why() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let query = "/missed?from=2026-10-20&to=2026-11-24";
    let page = aino.get(query).await;
    let before = page.all("tbody tr").len();
    assert!(before > 0, "{}", page.words("main"));
    let form = page.form("tbody form");
    let send = async |reason: &str| {
        let mut fields = form.clone();
        fields.insert("reason".into(), reason.into());
        aino.post("/missed", &fields).await
    };
    let vague = send("x").await;
    assert_eq!(vague.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(vague.find("details[open] .field-error").is_some(), "at its place: {}", vague.text);
    let kept = send("the press hall was flooded, nobody could get to it").await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    let page = aino.get(query).await;
    assert_eq!(page.all("tbody tr").len(), before, "it stays missed");
    assert!(page.words("table").contains("was flooded, nobody could get to it (Aino Verkala)"));
    let twice = send("no, it was forgotten by the shift").await;
    assert!(twice.text.contains("said why a moment ago"), "what was said stands: {}", twice.text);
    let table = aino.get("/export/missed.json?from=2026-10-20&to=2026-11-24").await;
    assert!(table.text.contains("was flooded"), "{}", table.text);
    assert!(ilma(&server).await.look_over(&server).await.contains("Unbroken."));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signal_belongs_to_somebody_until_a_day() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let signal = number(
        &server.database,
        "SELECT min(id) AS number FROM signals WHERE state NOT IN ('closed', 'withdrawn')",
    )
    .await;
    let path = format!("/signals/{signal}");
    let step = format!("{path}/step");
    let owner = number(&server.database, "SELECT id AS number FROM people WHERE sign_in = 'ilma'")
        .await
        .to_string();
    let viewer =
        number(&server.database, "SELECT id AS number FROM people WHERE sign_in = 'veera'")
            .await
            .to_string();
    for (who, until, field) in [
        ("", "2026-12-01", "owner"),
        (&*viewer, "2026-12-01", "owner"),
        (&*owner, "", "due_on"),
        (&*owner, "2026-11-23", "due_on"),
    ] {
        let typed = [("step", "assign"), ("owner", who), ("due_on", until)];
        let refused = post(&aino, &step, &typed).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{who} {until}");
        assert!(refused.find(&format!("#{field}-error")).is_some(), "{field}: {}", refused.text);
    }
    let typed = [("step", "assign"), ("owner", &*owner), ("due_on", "2026-12-01")];
    assert_eq!(post(&aino, &step, &typed).await.status, StatusCode::SEE_OTHER);
    let shown = aino.get(&path).await;
    assert!(
        shown.words("main").contains("Ilma Tarvola, until 2026-12-01"),
        "{}",
        shown.words("main")
    );
    assert!(
        aino.get("/signals").await.words("table").contains("Ilma Tarvola, until 1 December 2026")
    );
    assert!(
        aino.get("/export/signals.json").await.text.contains("\"due_on\": \"2026-12-01\"")
            || aino.get("/export/signals.json").await.text.contains("\"due_on\":\"2026-12-01\"")
    );
}

/// A new instrument vouches for nothing; its plate, its unit and its own calibration are in the register.
#[tokio::test(flavor = "multi_thread")]
async fn a_new_instrument_begins_on_hold() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let page = ilma.get("/new/instrument").await;
    let typed = [
        ("tag", "P-77"),
        ("name", "Shop gauge"),
        ("family", "pressure gauge"),
        ("serial", "991"),
        ("maker", "house workshop"),
        ("model", "second series"),
        ("calibrated_until", "2026-12-10"),
        ("unit", "psi"),
        ("resolution", "1"),
        ("maximum", "300"),
    ];
    let made = ilma.submit(&page, "/new/instrument", &typed).await;
    assert_eq!(made.status, StatusCode::SEE_OTHER, "{}", made.words("main"));
    let shown = ilma.get("/instruments/P-77").await;
    assert!(
        shown.words(".page-head").contains("On hold: do not use"),
        "{}",
        shown.words(".page-head")
    );
    let facts = shown.words("aside");
    for words in ["house workshop", "second series", "until 10 December 2026", "0 to 300 psi"] {
        assert!(facts.contains(words), "{words}: {facts}");
    }
    assert!(shown.words(".notice").contains("calibration ends on 10 December 2026"));
    assert!(
        shown.words("main").contains("in service after its first good check"),
        "{}",
        shown.words("main")
    );
    let ways = shown.all("#way-on li");
    assert!(ways.iter().any(|way| way.contains("Write a plan")), "{ways:?}");
    let back = ilma.get("/instruments/P-77/edit").await.whole_form("form.sheet-form");
    assert_eq!(
        (back["maker"].as_str(), back["calibrated_until"].as_str()),
        ("house workshop", "2026-12-10")
    );
}

/// A record says whose it is, of what kind, and of which check it is the repeat.
#[tokio::test(flavor = "multi_thread")]
async fn a_record_has_its_head_and_says_of_what_it_is_the_repeat() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let site = lines(&server.database, "SELECT name AS line FROM sites").await.remove(0);
    let failing =
        ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];
    let mut records = vec![];
    for _ in 0..2 {
        aino.run("R-02", &failing).await;
        let id = number(&server.database, "SELECT max(id) AS number FROM checks").await;
        records.push((id, aino.get(&format!("/checks/{id}/record")).await));
    }
    for (_, record) in &records {
        assert_eq!(record.words(".organisation"), site);
    }
    let first = records[0].0;
    assert!(!records[0].1.words("dl.facts").contains("Repeat of"));
    let facts = records[1].1.words("dl.facts");
    assert!(facts.contains(&format!("Repeat of check {first}, which failed")), "{facts}");
}
