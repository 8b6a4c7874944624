//! Plans: a lead writes one without knowing how it is stored, another approves, a technician runs it.

use std::collections::HashMap;

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;

pub async fn lead(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

pub async fn other_lead(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await
}

/// The form of a new plan for the second hydraulic gauge, up to the editor.
pub async fn editor(bench: &Bench) -> Page {
    let page = bench.get("/new/plan?instrument=P-12").await;
    let typed = [("method", "gauge"), ("name", "Hydraulic gauge each day")];
    bench.submit(&page, "/new/plan", &typed).await
}

pub const TWO_WAYS: [(&str, &str); 31] = [
    ("standard", "tag:6"),
    ("due_rule", "each_day"),
    ("minutes", "8"),
    ("s.presentation", "applied"),
    ("s.mean_limit.form", "percent_of_range"),
    ("s.mean_limit.percent", "1"),
    ("s.mean_limit.side", "both"),
    ("s.hysteresis_limit.form", "absolute"),
    ("s.hysteresis_limit.half_width", "4"),
    ("s.settings.0.name", "the unit on the display"),
    ("s.settings.0.kind", "exactly"),
    ("s.settings.0.expected", "bar"),
    ("s.cautions", "Oil under pressure: shield closed.\nNobody in line with the fitting."),
    ("s.closing", "Vented, then disconnected."),
    ("points.0.nominal", "80"),
    ("points.0.travel", "rising"),
    ("points.0.repeats", "1"),
    ("points.0.pieces", "80"),
    ("points.1.nominal", "320"),
    ("points.1.travel", "rising"),
    ("points.1.repeats", "2"),
    ("points.1.pieces", "320"),
    ("points.1.charted", "on"),
    ("points.2.nominal", "80"),
    ("points.2.travel", "falling"),
    ("points.2.repeats", "1"),
    ("points.2.pieces", "80"),
    ("fixture", ""),
    ("s.waits.0.what", ""),
    ("s.pause_seconds", "0 s"),
    ("change_note", "first version"),
];

pub async fn press(bench: &Bench, version: &str, what: &str) -> Page {
    let page = bench.get(version).await;
    let mut fields: HashMap<String, String> =
        page.form(&format!("form[action='{version}/{what}']"));
    // Only rauno decides here.
    fields.insert("password".into(), "hiljainen-vuo-5".into());
    bench.post(&format!("{version}/{what}"), &fields).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lead_writes_a_two_way_plan_and_a_technician_runs_it() {
    let server = Server::demo().await;
    let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
    let page = editor(&ilma).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.text);
    assert!(page.words("main").contains("Falling minus rising"));
    assert!(!page.text.contains("gauge-1") && !page.words("main").contains('{'), "no stored form");

    let saved = ilma.submit(&page, "/new/plan", &TWO_WAYS).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let version = saved.location.unwrap();
    let preview = ilma.get(&version).await;
    // As the technician will see it, drawings included; and what a lead should hear.
    let steps = preview.all(".preview-step h2");
    assert_eq!(
        steps,
        [
            "Cautions",
            "Standard PR-1",
            "Unit on the display",
            "80 bar, rising",
            "320 bar, rising",
            "80 bar, falling",
            "Look it over",
            "Put away",
        ]
    );
    assert_eq!(preview.all(".preview-step svg.scene").len(), 3);
    let warnings = preview.words(".card-strip");
    assert!(
        warnings.contains("goes up to 400 bar, and the highest point is 320 bar"),
        "{warnings}"
    );
    assert!(warnings.contains("Only two different values"), "{warnings}");

    // Its author does not approve it; another lead does.
    assert!(preview.find(&format!("form[action='{version}/approve']")).is_none());
    let own = ilma
        .post(
            &format!("{version}/approve"),
            &HashMap::from([
                ("form_token", preview.attribute("input[name=form_token]", "value").unwrap()),
                ("saves", "1".into()),
            ]),
        )
        .await;
    assert_eq!(own.status, StatusCode::CONFLICT);
    assert!(own.text.contains("another lead approves it"));
    assert_eq!(press(&rauno, &version, "approve").await.status, StatusCode::SEE_OTHER);

    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    let verdict = teemu.run("P-12", &["80", "320", "321", "81"]).await;
    assert!(verdict.words("h1").contains("Within tolerance"), "{}", verdict.words("h1"));
    assert!(verdict.words("table.results").contains("Falling minus rising at 80 bar"));
    // Once a day is enough.
    assert!(!teemu.get("/").await.words("table.round").contains("Start P-12"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_wrong_field_gets_words_and_what_was_typed_stays() {
    let server = Server::demo().await;
    let ilma = lead(&server).await;
    let page = editor(&ilma).await;
    for (field, typed, words) in [
        ("minutes", "", "how many minutes"),
        ("minutes", "-5", "whole number from 1 to 600"),
        ("standard", "tag:999", "Choose one of these"),
        ("points.0.nominal", "a lot", "not part of a number"),
        ("points.0.travel", "sideways", "Choose one of these"),
        ("points.0.repeats", "0", "from 1 to 50"),
        ("points.0.pieces", "200", "make 200 bar, and the point is 80 bar"),
        ("points.0.pieces", "nothing", "no piece “nothing”"),
        ("s.mean_limit.percent", "<b>1</b>", "not part of a number"),
        ("s.mean_limit.form", "", "Choose the form"),
        ("s.pause_seconds", "a while", "no time"),
        ("fixture", &"x".repeat(121), "121 characters"),
    ] {
        let mut fields = TWO_WAYS.to_vec();
        fields.push((field, typed));
        let answer = ilma.submit(&page, "/new/plan", &fields).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{field} {typed}");
        let id = format!("#f-{}", field.replace('.', "-"));
        let said = answer.find(&format!("{id}-error"));
        assert!(said.as_ref().is_some_and(|said| said.contains(words)), "{field}: {said:?}");
        let again = answer.whole_form("form.sheet-form");
        if !field.ends_with("travel") && !field.ends_with("form") && field != "standard" {
            assert_eq!(again[field], typed, "{field} keeps what was typed");
        }
        assert_eq!(again["points.1.nominal"], "320", "and so do the others");
    }
    // What cannot be run as a whole is said above the form.
    let mut outside = TWO_WAYS.to_vec();
    outside.push(("s.mean_limit.form", "percent_of_reading"));
    outside.push(("points.0.nominal", "0"));
    outside.push(("points.0.pieces", ""));
    let answer = ilma.submit(&page, "/new/plan", &outside).await;
    assert!(
        answer.words("form > .field-error").contains("allows nothing at zero"),
        "{}",
        answer.text
    );
    // More rows keep everything, too.
    let mut more = TWO_WAYS.to_vec();
    more.push(("more", "points"));
    let answer = ilma.submit(&page, "/new/plan", &more).await;
    assert_eq!(answer.status, StatusCode::OK);
    assert!(answer.whole_form("form.sheet-form").contains_key("points.5.nominal"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_version_changes_no_check_that_was_made() {
    let server = Server::demo().await;
    let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
    let aino = Bench::aino(&server.base).await;
    let before = aino.get("/checks/12/verdict").await.words("table.results");

    let page = ilma.get("/plans/1/edit").await;
    let fields = page.whole_form("form.sheet-form");
    assert_eq!(fields["s.verification_interval"], "0.01", "filled in from the version in force");
    let saved =
        ilma.submit(&page, "/plans/1/edit", &[("s.stage", "initial"), ("minutes", "9")]).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let version = saved.location.unwrap();
    // Two save at one moment: the second is told, and keeps what was typed.
    let page = ilma.get("/plans/1/edit").await;
    let first = ilma.submit(&page, "/plans/1/edit", &[("minutes", "10")]).await;
    assert_eq!(first.status, StatusCode::SEE_OTHER);
    let second = ilma.submit(&page, "/plans/1/edit", &[("minutes", "11")]).await;
    assert_eq!(second.status, StatusCode::CONFLICT);
    assert_eq!(second.whole_form("form.sheet-form")["minutes"], "11");
    // Another lead does not write into it, but sees and approves it as it is now.
    assert_eq!(rauno.get("/plans/1/edit").await.status, StatusCode::CONFLICT);
    let seen = rauno.get(&version).await;
    let mut stale = seen.form(&format!("form[action='{version}/approve']"));
    stale.insert("saves".into(), "1".into());
    let answer = rauno.post(&format!("{version}/approve"), &stale).await;
    assert!(answer.text.contains("saved again since you looked"), "{}", answer.text);
    assert_eq!(press(&rauno, &version, "approve").await.status, StatusCode::SEE_OTHER);
    assert_eq!(press(&rauno, "/versions/1", "approve").await.status, StatusCode::FORBIDDEN);

    let list = aino.get("/plans/1").await.words("table");
    assert!(list.contains("superseded") && list.contains("in force"), "{list}");
    assert_eq!(aino.get("/checks/12/verdict").await.words("table.results"), before);
}

/// The register was changed under the plan: numbers would mean something else, so nothing starts.
#[tokio::test(flavor = "multi_thread")]
async fn a_changed_display_asks_for_a_new_version_first() {
    let server = Server::demo().await;
    let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
    let page = ilma.get("/instruments/R-02/edit").await;
    let saved = ilma.submit(&page, "/instruments/R-02/edit", &[("resolution", "0.002")]).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let aino = Bench::aino(&server.base).await;
    let round = aino.get("/").await;
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), crate::client::plan_version(&round, "R-02"));
    let refused = aino.post("/checks", &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(refused.text.contains("A lead renews the plan"), "{}", refused.words("main"));
    assert!(ilma.get("/instruments/R-02").await.words("aside").contains("renew it"));

    let page = ilma.get("/plans/1/edit").await;
    let saved = ilma.submit(&page, "/plans/1/edit", &[]).await;
    let version = saved.location.unwrap();
    press(&rauno, &version, "approve").await;
    let path = aino.start("R-02").await;
    assert_eq!(aino.get(&path).await.status, StatusCode::OK);
}

/// Pieces that are certified in bar serve a gauge that shows psi: they are found by the names of their values, and what is
/// computed with is the certified value (1 bar is 14.503 773 8 psi, NIST SP 811, appendix B).
#[tokio::test(flavor = "multi_thread")]
async fn pieces_in_bar_serve_a_gauge_in_psi() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    owner
        .batch_execute(
            "SET session_replication_role = replica;
             UPDATE instruments SET unit = 'psi', resolution = 1, range_low = 0, maximum = 6000,
                 work_low = NULL, work_high = NULL WHERE tag = 'P-12'",
        )
        .await
        .unwrap();
    let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
    let page = editor(&ilma).await;
    let of = |low: &'static str, high: &'static str| {
        TWO_WAYS.map(|(name, value)| match (name, value) {
            ("points.0.nominal" | "points.2.nominal", _) => (name, low),
            ("points.1.nominal", _) => (name, high),
            (_, "bar") => (name, "psi"),
            other => other,
        })
    };
    for (low, high, words) in [
        ("1150", "4641", "These pieces make 1160.3 psi, and the point is 1150 psi."),
        ("1160", "4641.5", "These pieces make 4641.21 psi, and the point is 4641.5 psi."),
    ] {
        let refused = ilma.submit(&page, "/new/plan", &of(low, high)).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(refused.words("main").contains(words), "{}", refused.words("main"));
    }
    let saved = ilma.submit(&page, "/new/plan", &of("1160", "4641.2")).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let version = saved.location.unwrap();
    assert_eq!(press(&rauno, &version, "approve").await.status, StatusCode::SEE_OTHER);
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    let verdict = teemu.run("P-12", &["1160", "4641", "4642", "1161"]).await;
    assert!(verdict.words("h1").contains("Within tolerance"), "{}", verdict.words("h1"));
    // 320.05 bar are 4641.93 psi: 4641 and 4642 are −0.93 and +0.07 off, not −0.2 and +0.8.
    let results = verdict.words("table.results");
    assert!(results.contains("Error at 4641.2 psi, rising singles −1, 0 −0.4 psi"), "{results}");
}

/// A plan is begun as a copy of another: what it says stands in the form, as a draft of its own; a plan of another method is no model.
#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_copied_for_another_instrument() {
    let server = Server::demo().await;
    let ilma = lead(&server).await;
    let query = "SELECT p.id AS number FROM plans p JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'P-11'";
    let gauge = crate::web_chart_room::number(&server.database, query).await.to_string();
    let plan = ilma.get(&format!("/plans/{gauge}")).await;
    assert!(plan.hrefs("main a").contains(&format!("/new/plan?like={gauge}")));
    let aino = Bench::aino(&server.base).await;
    assert!(!aino.get(&format!("/plans/{gauge}")).await.text.contains("Copy for another"));

    // Its method and name are there; the instrument is chosen.
    let page = ilma.get(&format!("/new/plan?like={gauge}")).await;
    let begun = page.whole_form("form.sheet-form");
    assert_eq!((begun["method"].as_str(), begun["like"].as_str()), ("gauge", gauge.as_str()));
    assert!(!begun["name"].is_empty());
    let copy = [("instrument", "P-12"), ("like", gauge.as_str()), ("method", "gauge")];
    let with_name: Vec<(&str, &str)> =
        copy.into_iter().chain([("name", "Hydraulic gauge each day")]).collect();
    let page = ilma.submit(&page, "/new/plan", &with_name).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.text);
    assert!(
        page.words("p.intro").starts_with("This begins as a copy of"),
        "{}",
        page.words("p.intro")
    );
    let copied = page.whole_form("form.sheet-form");
    let original = ilma.get(&format!("/plans/{gauge}/edit")).await.whole_form("form.sheet-form");
    let said = |form: &HashMap<String, String>| {
        let own = [
            "form_token",
            "version",
            "saves",
            "like",
            "instrument",
            "set_up",
            "method",
            "name",
            "filled",
            "change_note",
        ];
        let mut fields: Vec<(String, String)> = form
            .iter()
            .filter(|(name, value)| !own.contains(&name.as_str()) && !value.is_empty())
            .map(|(name, value)| (name.clone(), value.clone()))
            .collect();
        fields.sort();
        fields
    };
    assert_eq!(said(&copied), said(&original));
    assert!(said(&copied).len() > 20, "{copied:?}");

    // More rows of a table that is empty: it stays open, and the words about the copy stay.
    let more = ilma.submit(&page, "/new/plan", &[("more", "additions")]).await;
    assert!(more.words("p.intro").starts_with("This begins as a copy of"));
    assert!(page.words("details.part-fold").contains("Further parts"));
    assert!(!more.all("details.part-fold").iter().any(|part| part.contains("Further parts")));

    // Saved, it is a draft for the other instrument; what it was copied from is as it was.
    let saved = ilma.submit(&page, "/new/plan", &[("change_note", "as the other gauge")]).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let version = ilma.follow(saved).await;
    assert!(
        version.words("h1").contains("Hydraulic gauge each day, version 1"),
        "{}",
        version.words("h1")
    );
    let again = ilma.get(&format!("/plans/{gauge}/edit")).await.whole_form("form.sheet-form");
    assert_eq!(said(&again), said(&original));

    // A plan of another method is no model, and what was typed stays.
    let page = ilma.get(&format!("/new/plan?like={gauge}&instrument=P-12")).await;
    let wrong = [("method", "weighing"), ("name", "One more"), ("like", gauge.as_str())];
    let refused = ilma.submit(&page, "/new/plan", &wrong).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        refused.words("#f-like-error").contains("of another method. Choose “Gauge against"),
        "{}",
        refused.text
    );
    assert_eq!(refused.attribute("#f-name", "value").as_deref(), Some("One more"));
    // A plan that is not there is an empty form.
    let none = ilma.get("/new/plan?like=99999999").await;
    assert_eq!(none.whole_form("form.sheet-form")["like"], "");
}
