//! Checks from paper: entered with the picture of the sheet, countersigned by a lead who neither measured nor entered
//! them, judged at their place; nothing that people have seen is un-happened by one.

use std::collections::HashMap;

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{FINE, ilma, lines, number, post, rauno, with_clock};

const FAILING: [&str; 9] =
    ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];

const PNG: &[u8] = b"\x89PNG\r\n\x1a\n sheet";

/// A sheet as somebody fills it in.
struct Sheet {
    path: String,
    page: Page,
    typed: HashMap<String, String>,
}

impl Sheet {
    /// The form of a plan version, every line ticked, with values by parts of the names of their steps.
    async fn of(bench: &Bench, version: i64, values: &[(&str, &str)]) -> Self {
        let path = format!("/versions/{version}/late");
        let page = bench.get(&path).await;
        let mut typed = page.whole_form("form.sheet-form");
        for (name, value) in typed.iter_mut() {
            if let Some((_, own)) = values.iter().find(|(part, _)| name.contains(part)) {
                *value = (*own).to_owned();
            }
        }
        for name in page.tick_names("form.sheet-form").into_iter().filter(|name| name != "far") {
            typed.insert(name, "on".to_owned());
        }
        let sheet = Self { path, page, typed };
        sheet.with(&[("reason", "network down"), ("day", "2026-11-24")])
    }

    /// The scale in the resin kitchen, by its first plan.
    async fn scale(bench: &Bench, at_20: &str) -> Self {
        let values = [
            ("standard", "M1-B"),
            (".zero", "0.000"),
            ("-5-rising", "5.001"),
            ("-10-", "10.001"),
            ("-20-", at_20),
        ];
        Self::of(bench, 1, &values).await
    }

    fn with(mut self, changes: &[(&str, &str)]) -> Self {
        for (name, value) in changes {
            self.typed.insert((*name).to_owned(), (*value).to_owned());
        }
        self
    }

    fn at(self, began: &str, ended: &str, by: i64) -> Self {
        self.with(&[("began", began), ("ended", ended), ("by", &by.to_string())])
    }

    fn field(&self, part: &str) -> String {
        self.typed.keys().find(|name| name.contains(part)).unwrap().clone()
    }

    async fn send(&self, bench: &Bench, file: (&str, &[u8])) -> Page {
        let token = self.page.attribute("form.sheet-form input[name=form_token]", "value").unwrap();
        let mut parts: Vec<(&str, &str)> = vec![("form_token", &token)];
        for (name, value) in self.typed.iter().filter(|(name, _)| *name != "form_token") {
            parts.push((name, value));
        }
        bench.send_parts(&self.path, &parts, file.0, file.1).await
    }

    async fn entered(&self, bench: &Bench) -> String {
        let done = self.send(bench, ("sheet.png", PNG)).await;
        assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
        done.location.unwrap()
    }
}

async fn person(server: &Server, name: &str) -> i64 {
    let query = format!("SELECT id AS number FROM people WHERE name LIKE '{name}%'");
    number(&server.database, &query).await
}

const WORDS: &str = "compared with the picture, person and times are right";

async fn decide(bench: &Bench, sheet: &str, verdict: &str, password: &str) -> Page {
    post(bench, sheet, &[("verdict", verdict), ("reason", WORDS), ("password", password)]).await
}

async fn countersigned(bench: &Bench, sheet: &str) -> String {
    let signed = decide(bench, sheet, "countersign", "hiljainen-vuo-5").await;
    assert_eq!(signed.status, StatusCode::SEE_OTHER, "{}", signed.words("main"));
    signed.location.unwrap()
}

async fn row_of(bench: &Bench, tag: &str) -> String {
    let round = bench.get("/").await;
    round.all("table.round tbody tr").into_iter().find(|row| row.contains(tag)).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_with_a_sheet_is_said_at_the_field() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let pekko = person(&server, "Pekko").await;
    let printed = aino.get("/versions/8/sheet").await.words(".paper");
    assert!(printed.contains("Go to 80 bar"), "{printed}");
    assert!(!printed.contains("Look over what was kept"), "that is for the screen");
    let values = [
        ("standard.1", "PR-1"),
        ("setting-1", "bar"),
        ("point-1-", "80"),
        ("point-2-", "200"),
        ("point-3-", "321"),
        ("point-4-", "200"),
        ("point-5-", "80"),
    ];
    let sheet = Sheet::of(&aino, 8, &values).await.at("22:05", "22:14", pekko);
    let (point, tag) = (sheet.field("point-3-"), sheet.field("standard.1"));
    let administrator = number(
        &server.database,
        "SELECT id AS number FROM people WHERE role = 'administrator' LIMIT 1",
    )
    .await
    .to_string();
    let mut sheet = sheet;
    for (name, value, words) in [
        ("reason", "", "why it was done on paper"),
        ("by", "", "Choose one of these"),
        ("by", "Nobody Knows", "Choose one of these"),
        ("by", administrator.as_str(), "Choose one of these"),
        ("day", "2026-13-01", "year-month-day"),
        ("day", "2026-10-01", "within 14 days"),
        ("began", "soon", "time of the day"),
        ("began", "22:14", "in less than"),
        ("ended", "22:05", "in less than"),
        ("ended", "22:04", "ends before it began"),
        ("ended", "23:50", "still to come"),
        (point.as_str(), "32", "Is the reference at 320 bar"),
        (point.as_str(), "lots", "not part of a number"),
        (tag.as_str(), "M1-B", "not the standard of this plan"),
    ] {
        let before = sheet.typed.insert(name.to_owned(), value.to_owned()).unwrap();
        let answer = sheet.send(&aino, ("sheet.png", PNG)).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{name} {value}");
        let shown = answer.words("main");
        assert!(shown.contains(words), "{name} {value}: {shown}");
        assert!(shown.contains("sheet.png is kept"), "the picture need not be chosen again");
        sheet.typed.insert(name.to_owned(), before);
    }
    // All that is wrong is said at once.
    let bad = sheet.with(&[("reason", ""), ("began", "soon"), (&point, "lots")]);
    let answer = bad.send(&aino, ("sheet.svg", b"<svg onload=alert(1)>")).await;
    let errors = answer.all(".field-error").join(" | ");
    for words in ["why it was done", "time of the day", "not part of a number", "no picture"] {
        assert!(errors.contains(words), "{words}: {errors}");
    }
    let none = Bench::aino(&server.base).await;
    let fine = Sheet::of(&none, 8, &values).await.at("22:05", "22:14", pekko);
    let answer = fine.send(&none, ("", b"")).await;
    assert!(answer.words("main").contains("without it nobody can compare"), "{}", answer.text);
    // Trained then, not now: somebody whose training ended before that day.
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut server.owner().await,
        &format!(
            "INSERT INTO trainings (person_id, method_key, trained_on, valid_until, recorded_by, at)
             SELECT person_id, method_key, trained_on, '2026-11-20', recorded_by, now() FROM trainings
             WHERE person_id = {pekko}"
        ),
    )
    .await
    .unwrap();
    let answer = fine.send(&none, ("sheet.png", PNG)).await;
    assert!(answer.words("#f-by-error").contains("On that day"), "{}", answer.words("main"));
    assert_eq!(number(&server.database, "SELECT count(*) AS number FROM paper_sheets").await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_counts_when_another_lead_has_countersigned_it() {
    let server = Server::demo().await;
    let (aino, ilma, rauno) =
        (Bench::aino(&server.base).await, ilma(&server).await, rauno(&server).await);
    let pekko = person(&server, "Pekko").await;
    // A lead enters it: whoever measured, he does not sign it.
    let sheet = Sheet::scale(&ilma, "20.003").await.at("22:05", "22:14", pekko);
    let path = sheet.entered(&ilma).await;
    assert_eq!(sheet.entered(&ilma).await, path, "sent twice, it is the same sheet");
    assert!(row_of(&aino, "R-02").await.contains("Start"), "it counts for nothing yet");
    let shown = rauno.get(&path).await;
    assert!(shown.words("main").contains("What it comes to"), "{}", shown.text);
    assert!(shown.words(".facts").contains("Pekko Jarvia"), "{}", shown.words(".facts"));
    assert!(shown.find("img.scan").is_some());
    assert!(ilma.get(&path).await.text.contains("another lead decides"));
    for (bench, password) in [(&aino, "kapea-silta-4"), (&ilma, "tyyni-selka-3")] {
        let refused = decide(bench, &path, "countersign", password).await;
        assert!(refused.status.is_client_error(), "{}", refused.text);
    }
    let wrong = decide(&rauno, &path, "countersign", "guess").await;
    assert!(wrong.words("#password-error").contains("not the password"), "{}", wrong.text);
    assert_eq!(wrong.words("#reason"), WORDS, "what was typed is kept");
    let vague = post(
        &rauno,
        &path,
        &[("verdict", "countersign"), ("reason", "ok"), ("password", "hiljainen-vuo-5")],
    )
    .await;
    assert!(vague.find("#reason-error").is_some(), "{}", vague.text);
    // A check that a colleague has in hand is none of the sheet's.
    let live = aino.start("R-02").await;
    let busy = decide(&rauno, &path, "countersign", "hiljainen-vuo-5").await;
    assert!(busy.text.contains("open on the screen"), "{}", busy.text);
    let void = post(&aino, &format!("{live}/void"), &[("words", "it is on paper already")]).await;
    assert_eq!(void.status, StatusCode::SEE_OTHER);
    let verdict = countersigned(&rauno, &path).await;
    let page = aino.get(&verdict).await;
    let facts = page.words("dl.facts");
    for words in [
        "measured by Pekko Jarvia between",
        "22:05 and 22:14",
        "entered by Ilma Tarvola",
        "countersigned by Rauno",
    ] {
        assert!(facts.contains(words), "{words}: {facts}");
    }
    assert!(page.text.contains("Measured on paper and entered later"), "{}", page.text);
    assert!(row_of(&aino, "R-02").await.contains("Verdict"));
    let record = aino.get(&verdict.replace("/verdict", "/record")).await;
    let at: Vec<String> = record.all("table.entries tbody tr td:first-child");
    assert!(
        at.iter().all(|at| at.is_empty() || at.contains("by 24 Nov") || at.contains("22:14")),
        "{at:?}"
    );
    let signed =
        post(&rauno, &verdict.replace("/verdict", "/sign"), &[("password", "hiljainen-vuo-5")])
            .await;
    assert_eq!(signed.status, StatusCode::SEE_OTHER, "{}", signed.text);
    let record = aino.get(&verdict.replace("/verdict", "/record")).await;
    assert!(record.text.contains("entered from paper"), "the signature says so");
    let table = aino.get("/export/records.csv?tag=R-02&from=2026-11-24").await.text;
    assert!(table.lines().next().unwrap().ends_with("source,source_words"), "{table}");
    assert!(table.lines().any(|line| line.ends_with(",paper,entered from paper")), "{table}");
    // Decided is decided.
    let late = decide(&rauno, &path, "reject", "hiljainen-vuo-5").await;
    assert!(late.text.contains("decided meanwhile"), "{}", late.text);
}

async fn chart_of_r02(server: &Server) -> Vec<String> {
    lines(
        &server.database,
        "SELECT concat_ws('|', p.id, p.ordinal, p.value, p.ewma, p.signalled, p.withdrawn) AS line
         FROM chart_points p JOIN chart_streams s ON s.id = p.stream_id
         JOIN instruments i ON i.id = s.instrument_id
         JOIN checks c ON c.id = p.check_id
         WHERE i.tag = 'R-02' AND c.late_reason IS NULL ORDER BY p.id",
    )
    .await
}

/// A sheet timed before a failure of the same shift: the failure, its ladder, its signal and its rank stand.
#[tokio::test(flavor = "multi_thread")]
async fn a_back_dated_sheet_erases_nothing() {
    let (clock, server) = with_clock().await;
    let (aino, rauno) = (Bench::aino(&server.base).await, rauno(&server).await);
    clock.pass(600);
    let failed = aino.run("R-02", &FAILING).await;
    assert!(failed.words(".action").contains("Take it out of use"), "{}", failed.words("main"));
    let before = chart_of_r02(&server).await;
    let signals = "SELECT concat_ws('|', id, state, evidence, opened_ordinal) AS line FROM signals ORDER BY id";
    let raised = lines(&server.database, signals).await;
    let use_of = "SELECT state AS line FROM instruments WHERE tag = 'R-02'";
    let state = lines(&server.database, use_of).await;
    assert_eq!(state, ["restricted"]);
    let pekko = person(&server, "Pekko").await;
    let sheet = Sheet::scale(&aino, "20.003").await.at("22:05", "22:14", pekko);
    let path = sheet.entered(&aino).await;
    assert!(rauno.get(&path).await.text.contains("stands beside it"));
    let verdict = rauno.get(&countersigned(&rauno, &path).await).await;
    assert!(verdict.text.contains("changes nothing that was seen since"), "{}", verdict.text);
    assert_eq!(chart_of_r02(&server).await, before, "bit by bit");
    assert_eq!(lines(&server.database, signals).await, raised);
    assert_eq!(lines(&server.database, use_of).await, state, "a pass from paper frees nothing");
    // The repeat that was allowed is still the repeat, and confirms.
    clock.pass(600);
    let again = aino.run("R-02", &FAILING).await;
    assert!(
        again.text.contains("confirmed") || again.words(".action").contains("Keep it out of use"),
        "{}",
        again.words("main")
    );
    let states = lines(
        &server.database,
        "SELECT r.repeat_state AS line FROM results r JOIN checks c ON c.id = r.check_id
         JOIN instruments i ON i.id = c.instrument_id WHERE i.tag = 'R-02' ORDER BY r.id DESC LIMIT 3",
    )
    .await;
    assert_eq!(states, ["confirmed", "none", "repeat_allowed"]);
    // One that is done, on paper, as the failing kind: it restricts, and asks a lead.
    let sheet =
        Sheet::scale(&aino, "20.031").await.at("22:20", "22:30", pekko).with(&[("far", "on")]);
    let path = sheet.entered(&aino).await;
    let verdict = rauno.get(&countersigned(&rauno, &path).await).await;
    assert!(verdict.words(".action").contains("came from paper"), "{}", verdict.words("main"));
    assert_eq!(chart_of_r02(&server).await.len(), before.len() + 2);
}

/// A shift went by without its check, and later ones were made: the sheet is that shift's check, judged by the chart as
/// it stood then; nothing that came after it is made anew.
#[tokio::test(flavor = "multi_thread")]
async fn a_late_sheet_fills_its_shift_and_moves_no_later_point() {
    let server = Server::demo().await;
    let (aino, rauno) = (Bench::aino(&server.base).await, rauno(&server).await);
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "UPDATE checks SET state = 'void', counts = false, void_reason = 'test', voided_by = 1, voided_at = closed_at
         WHERE id IN (SELECT c.id FROM checks c JOIN instruments i ON i.id = c.instrument_id
             JOIN shift_instances s ON s.id = c.shift_instance_id
             WHERE i.tag = 'R-02' AND s.label = 'Morning' AND s.business_date = '2026-11-24')",
    )
    .await
    .unwrap();
    for stream in [1, 2] {
        vaaka_store::replay::stream(&mut owner, vaaka_store::ids::StreamId(stream)).await.unwrap();
    }
    let missed = async || {
        let table = aino.get("/export/missed.csv?from=2026-11-24&to=2026-11-24").await.text;
        table.lines().filter(|line| line.contains("R-02")).count()
    };
    assert_eq!(missed().await, 1);
    let before = chart_of_r02(&server).await;
    let aino_id = person(&server, "Aino").await;
    let path = Sheet::scale(&aino, "20.013").await.at("6:30", "6.41", aino_id).entered(&aino).await;
    assert!(aino.get("/missed").await.text.contains("sheet of paper waits"));
    assert_eq!(missed().await, 1, "it is missed until it is countersigned");
    let verdict = rauno.get(&countersigned(&rauno, &path).await).await;
    assert!(verdict.text.contains("changes nothing that was seen since"), "{}", verdict.text);
    assert_eq!(missed().await, 0);
    assert_eq!(chart_of_r02(&server).await, before, "bit by bit");
    // It is drawn where it was measured, with the limits of that time, and a replay leaves it so.
    let own = "SELECT concat_ws('|', p.value, p.ordinal, p.center_line, p.upper_control_limit) AS line
        FROM chart_points p JOIN checks c ON c.id = p.check_id WHERE c.late_reason IS NOT NULL ORDER BY p.id";
    let drawn = lines(&server.database, own).await;
    assert_eq!(drawn.len(), 2, "{drawn:?}");
    assert!(drawn.iter().all(|line| line.split('|').count() == 3), "limits and no rank: {drawn:?}");
    for stream in [1, 2] {
        vaaka_store::replay::stream(&mut owner, vaaka_store::ids::StreamId(stream)).await.unwrap();
    }
    assert_eq!(lines(&server.database, own).await, drawn);
    assert_eq!(chart_of_r02(&server).await, before);
    let points = aino.get("/export/chart-1.csv?range=week").await;
    assert!(points.text.contains(",paper,entered from paper,no,"), "{}", points.text);
}

/// A second check of a shift, made for an occasion after one that passed, keeps its place whatever is replayed.
#[tokio::test(flavor = "multi_thread")]
async fn the_second_check_of_a_shift_keeps_its_rank() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    clock.pass(60);
    aino.run("R-02", &FINE).await;
    clock.pass(60);
    let knock = post(
        &aino,
        "/instruments/R-02/events",
        &[("kind", "moved"), ("note", "a pallet truck hit it")],
    )
    .await;
    assert_eq!(knock.status, StatusCode::SEE_OTHER, "{}", knock.text);
    clock.pass(600);
    aino.run("R-02", &FINE).await;
    let ranked = "SELECT concat_ws('|', p.id, p.ordinal) AS line FROM chart_points p
        JOIN chart_streams s ON s.id = p.stream_id JOIN instruments i ON i.id = s.instrument_id
        WHERE i.tag = 'R-02' ORDER BY p.id DESC LIMIT 4";
    let before = lines(&server.database, ranked).await;
    assert!(before.iter().all(|line| line.contains('|')), "{before:?}");
    let mut owner = server.owner().await;
    for stream in [1, 2] {
        vaaka_store::replay::stream(&mut owner, vaaka_store::ids::StreamId(stream)).await.unwrap();
    }
    assert_eq!(lines(&server.database, ranked).await, before);
    // The first is void: the second is the check of the shift, and still one point.
    let first = number(
        &server.database,
        "SELECT c.id AS number FROM checks c JOIN instruments i ON i.id = c.instrument_id
         WHERE i.tag = 'R-02' ORDER BY c.id DESC OFFSET 1 LIMIT 1",
    )
    .await;
    let void =
        post(&ilma, &format!("/checks/{first}/void"), &[("words", "the wrong set of weights")])
            .await;
    assert_eq!(void.status, StatusCode::SEE_OTHER, "{}", void.text);
    let after = lines(&server.database, ranked).await;
    assert_eq!(after.iter().filter(|line| line.contains('|')).count(), 2, "{after:?}");
}

/// Where the register has one lead, and the site says so, nothing is stuck, and everything says "not countersigned".
#[tokio::test(flavor = "multi_thread")]
async fn a_site_with_one_lead_says_so() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let administrator = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let calendar = administrator.get("/calendar").await;
    let refused = administrator.submit(&calendar, "/calendar", &[("one_lead", "on")]).await;
    assert!(refused.words("#f-one_lead-error").contains("2 leads"), "{}", refused.text);
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut server.owner().await,
        "UPDATE people SET active = false WHERE sign_in = 'rauno'",
    )
    .await
    .unwrap();
    let ilma_id = person(&server, "Ilma").await;
    let pekko = person(&server, "Pekko").await;
    let path = Sheet::scale(&ilma, "20.003").await.at("22:05", "22:14", pekko).entered(&ilma).await;
    let alone = decide(&ilma, &path, "countersign", "tyyni-selka-3").await;
    assert!(alone.text.contains("another lead decides"), "until the site says so: {}", alone.text);
    let saved = administrator.submit(&calendar, "/calendar", &[("one_lead", "on")]).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.text);
    assert!(ilma.get(&path).await.words("main").contains("not countersigned"));
    let taken = decide(&ilma, &path, "countersign", "tyyni-selka-3").await;
    assert_eq!(taken.status, StatusCode::SEE_OTHER, "{}", taken.text);
    let verdict = aino.get(&taken.location.unwrap()).await;
    assert!(
        verdict.words("dl.facts").contains("not countersigned, taken by Ilma"),
        "{}",
        verdict.text
    );
    let kept = format!(
        "SELECT count(*) AS number FROM paper_sheets WHERE alone AND decided_by = {ilma_id}"
    );
    assert_eq!(number(&server.database, &kept).await, 1);
}
