//! Two people at one moment: nothing stands twice, nothing is lost, and nobody is shown a failure.

use std::collections::HashMap;

use futures_util::future::join_all;
use reqwest::StatusCode;

use crate::client::{Bench, Page, plan_version};
use crate::support::Server;
use crate::web_chart_room::{ilma, lines, number, post};

async fn rauno(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await
}

async fn unbroken(server: &Server) {
    crate::audit::unbroken(&mut server.owner().await).await;
}

fn served(answers: &[Page]) -> usize {
    answers.iter().filter(|page| page.status == StatusCode::SEE_OTHER).count()
}

async fn administrators(server: &Server) -> [Bench; 2] {
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let form = onni.get("/new/person").await;
    let typed = [
        ("name", "Toinen Hoitaja"),
        ("sign_in", "toinen"),
        ("role", "administrator"),
        ("password", "kaksi-avainta-9"),
    ];
    onni.submit(&form, "/new/person", &typed).await;
    let other =
        Bench::signed_in_first(&server.base, "toinen", "kaksi-avainta-9", "kolme-avainta-9").await;
    [onni, other]
}

#[tokio::test(flavor = "multi_thread")]
async fn two_administrators_write_one_calendar() {
    let server = Server::demo().await;
    let benches = administrators(&server).await;
    let page = benches[0].get("/calendar").await;
    let names = ["Early", "First", "Dawn", "Sunrise"];
    let sent = names.iter().enumerate().map(|(place, name)| {
        let bench = benches[place % 2].clone();
        let page = &page;
        async move {
            let own = bench.get("/calendar").await;
            let token = own.attribute("input[name=form_token]", "value").unwrap();
            let typed = [("form_token", token.as_str()), ("starts.0.label", *name)];
            bench.submit(page, "/calendar", &typed).await
        }
    });
    let answers = join_all(sent).await;
    assert_eq!(served(&answers), 4, "the last of them stands");
    let starts = lines(
        &server.database,
        "SELECT label AS line FROM shift_starts ORDER BY starts_at_local, label",
    )
    .await;
    assert_eq!(starts.len(), 3, "{starts:?}");
    assert!(names.contains(&starts[0].as_str()), "{starts:?}");
    let page = benches[1].get("/calendar").await;
    let shown = page.attribute("input[name='starts.0.label']", "value");
    assert_eq!(shown.as_deref(), Some(starts[0].as_str()));
    unbroken(&server).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_administrators_add_areas() {
    let server = Server::demo().await;
    let benches = administrators(&server).await;
    let names = ["North yard", "South yard", "North yard", "Upper floor"];
    let answers = join_all(names.iter().enumerate().map(|(place, name)| {
        let bench = benches[place % 2].clone();
        async move { post(&bench, "/areas", &[("name", name)]).await }
    }))
    .await;
    assert_eq!(served(&answers), 3);
    let refused = answers.iter().find(|page| page.status != StatusCode::SEE_OTHER).unwrap();
    assert_eq!(refused.words("#area-error"), "There is an area of this name already.");
    assert_eq!(refused.attribute("#area", "value").as_deref(), Some("North yard"));
    let twice = number(
        &server.database,
        "SELECT count(*) - count(DISTINCT walk_order) AS number FROM areas",
    )
    .await;
    assert_eq!(twice, 0, "each has its own place on the walk");
    unbroken(&server).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_leads_record_trainings_of_one_person() {
    let server = Server::demo().await;
    let benches = [ilma(&server).await, rauno(&server).await];
    let days = ["2027-01-10", "2027-02-10", "2027-03-10", "2027-04-10", "2027-05-10", "2027-06-10"];
    let answers = join_all(days.iter().enumerate().map(|(place, day)| {
        let bench = benches[place % 2].clone();
        async move {
            let typed = [("method", "weighing"), ("valid_until", *day)];
            post(&bench, "/people/1/training", &typed).await
        }
    }))
    .await;
    assert_eq!(served(&answers), 6);
    let kept = lines(
        &server.database,
        "SELECT valid_until::text AS line FROM trainings
         WHERE person_id = 1 AND valid_until BETWEEN '2027-01-01' AND '2027-06-30'
         ORDER BY valid_until",
    )
    .await;
    assert!(days.iter().all(|day| kept.iter().any(|one| one == day)), "{kept:?}");
    unbroken(&server).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn photographs_and_a_change_of_state_share_one_chain() {
    let server = Server::demo().await;
    let benches = [ilma(&server).await, rauno(&server).await];
    let page = benches[0].get("/instruments/R-02").await;
    let hold = {
        let bench = benches[0].clone();
        let version = page.attribute("input[name=version]", "value").unwrap();
        async move {
            let typed =
                [("version", version.as_str()), ("to", "on_hold"), ("reason", "cover is loose")];
            post(&bench, "/instruments/R-02/state", &typed).await
        }
    };
    let photographs = join_all((0..6).map(|place| {
        let bench = benches[place % 2].clone();
        async move {
            let own = bench.get("/instruments/R-02").await;
            let token = own.attribute("input[name=form_token]", "value").unwrap();
            let bytes = [&[0x89, b'P', b'N', b'G', 0x0d, 0x0a, 0x1a, 0x0a][..], &[place as u8; 40]];
            bench.send_file("/instruments/R-02/photo", &token, "a.png", &bytes.concat()).await
        }
    }));
    let (held, photographs) = tokio::join!(hold, photographs);
    assert_eq!(held.status, StatusCode::SEE_OTHER, "{}", held.text);
    assert_eq!(served(&photographs), 6);
    let page = benches[1].get("/instruments/R-02").await;
    assert_eq!(page.all(".photos li").len(), 6);
    assert!(page.words("h1").contains("Tank scale") && page.text.contains("cover is loose"));
    unbroken(&server).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_finding_about_a_standard_is_one_look_back() {
    let server = Server::demo().await;
    let benches = [ilma(&server).await, rauno(&server).await];
    let finding = "weighed 40 mg too light beside the reference set";
    let answers = join_all((0..4).map(|place| {
        let bench = benches[place % 2].clone();
        async move {
            let typed = [("finding", finding), ("from", "2026-11-20")];
            post(&bench, "/standards/M1-B/wrong", &typed).await
        }
    }))
    .await;
    assert!(answers.iter().all(|page| {
        page.status == StatusCode::SEE_OTHER || page.status == StatusCode::UNPROCESSABLE_ENTITY
    }));
    let opened = number(&server.database, "SELECT count(*) AS number FROM look_backs").await;
    assert_eq!(usize::try_from(opened).unwrap(), served(&answers));
    for refused in answers.iter().filter(|page| page.status != StatusCode::SEE_OTHER) {
        assert!(refused.text.contains("Somebody changed this standard a moment ago"));
        assert!(refused.text.contains(finding), "what was typed stays");
    }
    let state =
        lines(&server.database, "SELECT state AS line FROM standards WHERE tag = 'M1-B'").await;
    assert_eq!(state, ["on_hold"]);
    unbroken(&server).await;
}

/// Eight people press "Start" in one row: one check is open, and everybody is led to it or told by whom it is held.
#[tokio::test(flavor = "multi_thread")]
async fn one_check_is_opened_by_eight() {
    let server = Server::demo().await;
    let mut benches = Vec::new();
    for (name, password) in [
        ("aino", "kapea-silta-4"),
        ("teemu", "kuiva-kivi-7"),
        ("ilma", "tyyni-selka-3"),
        ("rauno", "hiljainen-vuo-5"),
    ] {
        let bench = Bench::signed_in(&server.base, name, password).await;
        benches.extend([bench.clone(), bench]);
    }
    let before = number(&server.database, "SELECT count(*) AS number FROM checks").await;
    let forms = join_all(benches.iter().map(|bench| async move {
        let round = bench.get("/").await;
        let mut fields: HashMap<String, String> = round.form("td.do form");
        fields.insert("plan_version".into(), plan_version(&round, "R-02"));
        fields.insert("key".into(), uuid::Uuid::new_v4().to_string());
        fields
    }))
    .await;
    let presses = benches.iter().zip(&forms).map(|(bench, fields)| bench.post("/checks", fields));
    let answers = join_all(presses).await;
    let open = lines(
        &server.database,
        "SELECT c.id::text AS line FROM checks c JOIN instruments i ON i.id = c.instrument_id
         WHERE i.tag = 'R-02' AND c.state = 'open'",
    )
    .await;
    let [check] = open.as_slice() else { panic!("{open:?}") };
    let after = number(&server.database, "SELECT count(*) AS number FROM checks").await;
    assert_eq!(after, before + 1);
    for answer in &answers {
        let led = answer.location.as_deref() == Some(&*format!("/checks/{check}"));
        assert!(led || answer.status == StatusCode::CONFLICT, "{} {}", answer.status, answer.text);
    }
    assert!(served(&answers) >= 2, "whoever opened it pressed twice");
    unbroken(&server).await;
}

/// A signal has one cause and one end, whoever presses first.
#[tokio::test(flavor = "multi_thread")]
async fn one_signal_is_closed_once() {
    let server = Server::demo().await;
    let benches = [ilma(&server).await, rauno(&server).await];
    let signal = number(
        &server.database,
        "SELECT max(id) AS number FROM signals WHERE state NOT IN ('closed', 'withdrawn')",
    )
    .await;
    let step = format!("/signals/{signal}/step");
    let causes = join_all((0..4).map(|place| {
        let (bench, step) = (benches[place % 2].clone(), step.clone());
        async move {
            let cause = if place % 2 == 0 { "2" } else { "3" };
            post(&bench, &step, &[("step", "cause"), ("cause", cause), ("cause_words", "")]).await
        }
    }))
    .await;
    assert!(served(&causes) >= 1);
    let ends =
        join_all((0..4).map(|place| {
            let (bench, step) = (benches[place % 2].clone(), step.clone());
            async move {
                post(&bench, &step, &[("step", "close"), ("closing", "cover put right")]).await
            }
        }))
        .await;
    assert!(served(&ends) >= 1);
    assert!(ends.iter().all(|page| page.status.as_u16() < 500), "nobody is shown a failure");
    let closed = number(
        &server.database,
        &format!(
            "SELECT count(*) AS number FROM signal_steps WHERE signal_id = {signal} AND step = 'closed'"
        ),
    )
    .await;
    assert_eq!(closed, 1);
    let page = benches[0].get(&format!("/signals/{signal}")).await;
    assert_eq!(page.text.matches("cover put right").count(), 1, "{}", page.words("main"));
    unbroken(&server).await;
}
