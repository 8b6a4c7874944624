//! From a failed check through hold, ladder and adjustment to the proof and back in service; the
//! record of it; what leads are told.

use std::collections::HashMap;
use std::sync::Arc;

use reqwest::StatusCode;
use vaaka::mail::{Outgoing, StandIn, send_waiting, serve_stand_in};
use vaaka_store::Store;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, app_url, demo_database, now};
use crate::web_chart_room::lines;

async fn ilma(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

async fn teemu(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await
}

/// Readings of the tank scale whose errors grow by `per_ten` grams with each ten kilograms.
fn sloped(per_ten: i32) -> [String; 9] {
    let at = |load: i32| format!("{}.{:03}", load, per_ten * load / 10 + 1);
    ["0.000".into(), at(5), at(10), at(20), at(20), at(20), at(10), at(10), "0.000".into()]
}

async fn run(bench: &Bench, per_ten: i32) -> Page {
    let readings = sloped(per_ten);
    let readings: Vec<&str> = readings.iter().map(String::as_str).collect();
    bench.run("R-02", &readings).await
}

async fn token(bench: &Bench) -> String {
    bench.get("/").await.attribute("input[name=form_token]", "value").unwrap()
}

async fn post(bench: &Bench, path: &str, typed: &[(&str, &str)]) -> Page {
    let mut fields: HashMap<String, String> =
        typed.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    fields.insert("form_token".into(), token(bench).await);
    bench.post(path, &fields).await
}

/// Number of the check that a verdict's page belongs to.
fn check_of(page: &Page) -> String {
    let record = page.attribute(".head-links a", "href").unwrap();
    record.trim_end_matches("/record").to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_failure_to_the_proof_and_back_in_service() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let (aino, teemu, ilma) =
        (Bench::aino(&server.base).await, teemu(&server).await, ilma(&server).await);

    // Out of tolerance: restricted at once, without anybody's doing.
    let failed = run(&aino, 14).await;
    let check = check_of(&failed);
    let instrument = aino.get("/instruments/R-02").await;
    assert!(instrument.words("p.notice").contains("nothing until its failed check is settled"));
    let label = aino.get("/instruments/R-02/label.svg").await;
    assert!(label.text.contains("Restricted"), "the label changes with it");
    assert_eq!(label.headers["content-type"], "image/svg+xml");

    // The ladder opens rung by rung: what is not open is not noted, and nothing without words.
    let note = async |bench: &Bench, rung: &str, outcome: &str, words: &str| {
        post(
            bench,
            &format!("{check}/ladder"),
            &[("rung", rung), ("outcome", outcome), ("note", words)],
        )
        .await
    };
    let early = note(&aino, "settings", "no_change", "looked at them").await;
    assert_eq!(early.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(early.words("#rung-error").contains("another one is open now"));
    assert_eq!(early.attribute("#rung-note", "value").as_deref(), Some("looked at them"));
    let silent = note(&aino, "clean", "no_change", " ").await;
    assert!(silent.words("#rung-error").contains("Say in a few words"));
    for (rung, words) in [("clean", "wiped the pan"), ("settings", "all as planned")] {
        assert_eq!(note(&aino, rung, "no_change", words).await.status, StatusCode::SEE_OTHER);
    }
    let unrun = note(&aino, "repeat", "no_change", "did it").await;
    assert!(unrun.words("#rung-error").contains("run it first"), "{}", unrun.text);

    // The repeat fails too: confirmed, on hold.
    clock.pass(600);
    let confirmed = check_of(&run(&aino, 14).await);
    let held = aino.get("/instruments/R-02").await;
    assert_eq!(held.words(".page-head .beside"), "On hold: do not use");
    assert_eq!(
        note(&aino, "repeat", "no_change", "just as far out").await.status,
        StatusCode::SEE_OTHER
    );

    // A trial with another standard: it is evaluated, kept, and counts for nothing.
    let trial = post(
        &aino,
        &format!("{check}/trial"),
        &[("rung", "other_standard"), ("key", &uuid::Uuid::new_v4().to_string())],
    )
    .await;
    assert_eq!(trial.status, StatusCode::SEE_OTHER, "{}", trial.text);
    let path = trial.location.unwrap();
    let shown = aino.get(&path).await;
    assert_eq!(shown.status, StatusCode::OK);
    aino.run_to_end(&path, &sloped(14).each_ref().map(String::as_str)).await;
    let verdict = aino.get(&format!("{path}/verdict")).await;
    assert!(verdict.words(".action").contains("A trial counts for nothing"), "{}", verdict.text);
    note(&aino, "other_standard", "no_change", "the same with the other set").await;
    // Another person: not the one who measured.
    let own = post(
        &aino,
        &format!("{check}/trial"),
        &[("rung", "other_person"), ("key", &uuid::Uuid::new_v4().to_string())],
    )
    .await;
    assert!(own.text.contains("You measured it yourself"), "{}", own.text);
    assert_eq!(
        note(&teemu, "other_person", "not_possible", "nobody free tonight").await.status,
        StatusCode::SEE_OTHER
    );

    // The trial stood on another set: it counts for nothing, and splits no chart.
    let segments = "SELECT g.cause AS line FROM segments g JOIN chart_streams s
        ON s.id = g.stream_id JOIN instruments i ON i.id = s.instrument_id WHERE i.tag = 'R-02'";
    let causes = lines(&server.database, segments).await;
    assert!(causes.iter().all(|cause| cause == "first checks"), "{causes:?}");
    // Adjusting: a lead decides; the effect stands there before anything is recorded.
    let page = aino.get(&format!("{check}/adjust")).await;
    assert!(page.words("p.refused").contains("A lead decides"), "{}", page.text);
    // The first failing run alone proposes nothing; its repeat does, from the level that the charts say.
    let page = ilma.get(&format!("{check}/adjust")).await;
    assert!(page.words(".action").contains("No advice on a first failing run"), "{}", page.text);
    assert_eq!(page.attribute("#f-gain", "value").unwrap_or_default(), "");
    let page = ilma.get(&format!("{confirmed}/adjust")).await;
    assert!(page.find("p.refused").is_none());
    assert!(page.words(".action").contains("by its estimated level"), "{}", page.words("main"));
    assert!(
        page.all(".plain-list tbody tr").iter().any(|row| row.contains("the simplest that fits")),
        "{}",
        page.words("main")
    );
    let spoiling = post(
        &ilma,
        &format!("{check}/adjust"),
        &[("kind", "offset"), ("offset", "-30"), ("show", "yes")],
    )
    .await;
    assert!(spoiling.text.contains("It spoils what is inside now"), "{}", spoiling.text);
    let nothing = post(
        &ilma,
        &format!("{check}/adjust"),
        &[("kind", "offset"), ("offset", "0"), ("performed_by", "1"), ("reason", "x")],
    )
    .await;
    assert!(nothing.text.contains("This changes nothing"));
    let silent = post(
        &ilma,
        &format!("{check}/adjust"),
        &[("kind", "gain"), ("gain", "-0.2"), ("performed_by", "1")],
    )
    .await;
    assert!(silent.text.contains("Say in a few words why"));
    clock.pass(600);
    let recorded = post(
        &ilma,
        &format!("{check}/adjust"),
        &[
            ("kind", "gain"),
            ("gain", "-0,14"),
            ("performed_by", "1"),
            ("standard", "1"),
            ("reason", "span has gone up"),
        ],
    )
    .await;
    assert_eq!(recorded.status, StatusCode::SEE_OTHER, "{}", recorded.text);
    let adjustment = recorded.location.unwrap();
    // Once only, and nothing about it is proven yet.
    let again = ilma.get(&format!("{check}/adjust")).await;
    assert_eq!(again.location.as_deref(), Some(adjustment.as_str()));
    assert!(aino.get(&adjustment).await.words("h1").contains("not proven yet"));
    let release = async |bench: &Bench| {
        let page = bench.get("/instruments/R-02").await;
        let version = page.attribute("#use input[name=version]", "value").unwrap();
        post(
            bench,
            "/instruments/R-02/state",
            &[("version", &version), ("to", "in_service"), ("reason", "proven")],
        )
        .await
    };
    let refused = release(&ilma).await;
    assert!(refused.words("#state-error").contains("through a good check only"));

    // As left, the whole check again; then back in service.
    clock.pass(600);
    let proof =
        post(&aino, &format!("{adjustment}/prove"), &[("key", &uuid::Uuid::new_v4().to_string())])
            .await;
    let path = proof.location.unwrap_or_else(|| panic!("{}", proof.text));
    aino.run_to_end(&path, &sloped(0).each_ref().map(String::as_str)).await;
    let verdict = aino.get(&format!("{path}/verdict")).await;
    assert!(verdict.words(".action").contains("The adjustment is proven"), "{}", verdict.text);
    assert!(aino.get(&adjustment).await.words("h1").contains("adjusted, and proven"));
    assert_eq!(release(&ilma).await.status, StatusCode::SEE_OTHER);
    assert_eq!(aino.get("/instruments/R-02").await.words(".page-head .beside"), "May be used");

    // The chart keeps the uncorrected drift and opens a new segment.
    let charts = verdict.attribute("ul.links a", "href").unwrap();
    let chart = aino.get(&charts).await;
    assert!(chart.text.contains("had nobody ever adjusted"), "{}", chart.text);

    // The record holds it all, and the audit trail is unbroken.
    let record = aino.get(&format!("{check}/record")).await;
    for words in ["wiped the pan", "the same with the other set", "span has gone up", "unbroken"] {
        assert!(record.text.contains(words), "{words} in {}", record.text);
    }
    let evidence = aino.get("/instruments/R-02/evidence").await;
    for words in
        ["on hold", "adjusted: offset", "as left, within tolerance", "trial, out of tolerance"]
    {
        assert!(evidence.text.contains(words), "{words} in {}", evidence.text);
    }
}

/// Fail, then pass: restricted until a lead decides; the second such doubt in twenty checks holds it.
#[tokio::test(flavor = "multi_thread")]
async fn two_doubts_count_as_confirmed() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    let state = async || aino.get("/instruments/R-02").await.words(".page-head .beside");
    run(&aino, 20).await;
    clock.pass(600);
    let doubtful = run(&aino, 0).await;
    assert!(doubtful.words(".action").contains("that is not a pass"), "{}", doubtful.text);
    assert_eq!(state().await, "Restricted");
    // The next shift.
    clock.pass(8 * 3600);
    run(&aino, 20).await;
    clock.pass(600);
    run(&aino, 0).await;
    assert_eq!(state().await, "On hold: do not use");
}

/// What a failure tells: a notice in the application, which one lead takes up, and a mail to each lead
/// through a server that is first away, then there.
#[tokio::test(flavor = "multi_thread")]
async fn leads_are_told_in_the_application_and_by_mail() {
    let database = demo_database().await;
    let server = Server::over(database.clone(), now()).await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    assert!(ilma.get("/").await.find(".bell").is_none());
    run(&aino, 20).await;
    assert_eq!(ilma.get("/").await.words(".bell b"), "1");
    let notices = ilma.get("/notices").await;
    assert!(notices.words(".notices li").contains("Tank scale R-02: its check failed"));
    let take = notices.attribute(".notices form", "action").unwrap();
    assert_eq!(post(&ilma, &take, &[]).await.status, StatusCode::SEE_OTHER);
    // Pressed twice, or by a second lead: it stays with the first, and is on record once.
    assert_eq!(post(&ilma, &take, &[]).await.status, StatusCode::SEE_OTHER);
    assert!(ilma.get("/notices").await.words(".notices li").contains("taken up by Ilma Tarvola"));
    let id = take.split('/').nth(2).unwrap();
    let trail = ilma.get(&format!("/audit?chain=notice:{id}")).await.all(".plain-list tbody tr");
    assert_eq!(trail.len(), 1, "{trail:?}");
    assert!(trail[0].contains("Ilma Tarvola") && trail[0].contains("notice taken up"));
    assert!(ilma.get("/").await.find(".bell").is_none());
    assert_eq!(post(&aino, &take, &[]).await.status, StatusCode::FORBIDDEN);

    let store = Store::new(&app_url(&database), 2).unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    drop(listener);
    let outgoing = Outgoing {
        host: "127.0.0.1".into(),
        port,
        from: "Vaaka <vaaka@velmaranta.example>".into(),
        address: "http://vaaka.example".into(),
    };
    assert_eq!(send_waiting(&store, &outgoing, now()).await.unwrap(), 0, "nobody listens");
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    assert!(onni.get("/mail").await.words("tbody .state").contains("not sent after 1 attempts"));
    // Too early for another attempt; then the server is there.
    let folder = tempfile::tempdir().unwrap();
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await.unwrap();
    let stand_in = StandIn { folder: folder.path().to_owned() };
    let serving = tokio::spawn(serve_stand_in(listener, stand_in));
    assert_eq!(send_waiting(&store, &outgoing, now()).await.unwrap(), 0, "not before a minute");
    let later = now().checked_add(jiff::SignedDuration::from_secs(61)).unwrap();
    assert_eq!(send_waiting(&store, &outgoing, later).await.unwrap(), 2);
    assert_eq!(send_waiting(&store, &outgoing, later).await.unwrap(), 0, "once only");
    serving.abort();
    let text = std::fs::read_to_string(folder.path().join("000001.eml")).unwrap();
    assert!(text.contains("To: ilma@velmaranta.example"), "{text}");
    assert!(text.contains("Subject: Tank scale R-02: its check failed"), "{text}");
    assert!(text.contains("http://vaaka.example/checks/"), "{text}");
    assert!(onni.get("/mail").await.words("tbody .state").contains("sent"));
}

/// A record is signed with the password again, by the one who made it and by a lead; it is amended by
/// adding.
#[tokio::test(flavor = "multi_thread")]
async fn records_are_signed_and_amended_never_edited() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let check = check_of(&run(&aino, 0).await);
    let sign = async |bench: &Bench, password: &str| {
        post(bench, &format!("{check}/sign"), &[("password", password)]).await
    };
    let wrong = sign(&aino, "kapea-silta-5").await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.words("#sign-error").contains("nothing was signed"));
    assert!(wrong.text.contains("Not signed."));
    assert_eq!(sign(&aino, "kapea-silta-4").await.status, StatusCode::SEE_OTHER);
    assert_eq!(sign(&ilma, "tyyni-selka-3").await.status, StatusCode::SEE_OTHER);
    // A second time changes nothing.
    sign(&aino, "kapea-silta-4").await;
    let teemu = teemu(&server).await;
    assert!(sign(&teemu, "kuiva-kivi-7").await.text.contains("signs for making it"));
    let empty = post(&aino, &format!("{check}/amend"), &[("words", " ")]).await;
    assert!(empty.words("#amend-error").contains("Say what is to be added"));
    let long = "ä".repeat(1001);
    let refused = post(&aino, &format!("{check}/amend"), &[("words", &long)]).await;
    assert!(refused.words("#amend-error").contains("1001 characters"));
    assert_eq!(refused.words("#amend-words"), long, "what was typed stays");
    let script = "<script>alert(1)</script> the drum was 3 K warmer";
    post(&aino, &format!("{check}/amend"), &[("words", script)]).await;
    let record = aino.get(&format!("{check}/record")).await;
    assert!(record.text.contains("Aino Verkala made this check and signs for it"));
    assert!(record.text.contains("Ilma Tarvola reviewed this check and signs for it"));
    assert_eq!(record.text.matches("made this check and signs").count(), 1);
    assert!(!record.text.contains("<script>alert"));
    assert!(record.text.contains("the drum was 3 K warmer"));
    assert!(!record.text.contains("DOES NOT FIT"));
    // Edited behind the back: the signatures show it, also when a newer version lies above.
    let id = check.rsplit('/').next().unwrap();
    let newer = format!(
        "SET session_replication_role = replica;
         INSERT INTO results OVERRIDING SYSTEM VALUE
         SELECT (jsonb_populate_record(r, jsonb_build_object(
             'id', (SELECT max(id) + 1 FROM results), 'version', r.version + 1))).*
         FROM results r WHERE r.check_id = {id}"
    );
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &newer).await.unwrap();
    let fits = aino.get(&format!("{check}/record")).await;
    assert!(!fits.text.contains("DOES NOT FIT"), "a newer version alone breaks nothing");
    let edited = format!("UPDATE results SET repeat_state = 'doubtful' WHERE check_id = {id}");
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &edited).await.unwrap();
    let record = aino.get(&format!("{check}/record")).await;
    assert_eq!(record.text.matches("DOES NOT FIT THE RESULT").count(), 2);
}

/// Records are found by tag, lot, person, day and verdict, and leave as tables.
#[tokio::test(flavor = "multi_thread")]
async fn records_are_found_and_leave_as_tables() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    run(&aino, 20).await;
    let find = async |query: &str| aino.get(&format!("/records?{query}")).await;
    let failed = find("tag=r-02&verdict=fail&from=2026-11-24&to=2026-11-24").await;
    let rows = failed.all("tbody tr");
    assert_eq!(rows.len(), 1, "{rows:?}");
    assert!(rows[0].contains("Aino Verkala") && rows[0].contains("out of tolerance"));
    assert!(find("standard=V-2231").await.all("tbody tr").len() > 1);
    assert!(find("person=nobody+at+all").await.text.contains("No record fits"));
    assert!(find("tag=%25").await.text.contains("No record fits"), "a per cent sign is itself");
    let bad = find("from=24%2F11%2F2026").await;
    assert!(bad.words("p.field-error").contains("year-month-day"));
    assert_eq!(bad.attribute("#q-from", "value").as_deref(), Some("24/11/2026"));
    assert!(find("from=24.11.2026").await.find("p.field-error").is_none(), "a day with points");
    let csv = aino.get("/export/records.csv?tag=R-02&verdict=fail").await;
    assert_eq!(csv.headers["content-type"], "text/csv; charset=utf-8");
    let lines: Vec<&str> = csv.text.split("\r\n").collect();
    assert!(lines[0].starts_with("record,instrument,name,plan"), "{}", lines[0]);
    assert!(lines[1].contains(",R-02,Tank scale,"), "{}", lines[1]);
    let json: serde_json::Value =
        serde_json::from_str(&aino.get("/export/records.json?tag=R-02&verdict=fail").await.text)
            .unwrap();
    assert_eq!(json[0]["conforms"], "fail");
}

/// Of two leads who settle one hold at one moment, one is told; the other's decision stands.
#[tokio::test(flavor = "multi_thread")]
async fn two_leads_close_one_hold() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let rauno = Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await;
    run(&aino, 20).await;
    clock.pass(60);
    let page = ilma.get("/instruments/R-02").await;
    let version = page.attribute("#use input[name=version]", "value").unwrap();
    let change = async |bench: &Bench, to: &str| {
        post(
            bench,
            "/instruments/R-02/state",
            &[
                ("version", &version),
                ("to", to),
                ("reason", "after looking at it"),
                ("restricted_to", "up to 5 kg"),
            ],
        )
        .await
    };
    assert_eq!(change(&rauno, "on_hold").await.status, StatusCode::SEE_OTHER);
    let late = change(&ilma, "restricted").await;
    assert!(late.status.is_client_error(), "{}", late.text);
    assert_eq!(
        aino.get("/instruments/R-02").await.words(".page-head .beside"),
        "On hold: do not use"
    );
}

/// A plan with a guard band: what is inside the tolerance and not proven is not accepted, in the words
/// of the standard, with its numbers; an uncertainty beyond the tolerance says so.
#[tokio::test(flavor = "multi_thread")]
async fn a_guard_band_speaks_four_words() {
    let database = demo_database().await;
    let server = Server::over(database.clone(), now()).await;
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "SET session_replication_role = replica;
         UPDATE plan_versions v SET decision_rule = 'guard_band_share', decision_share = 2,
             addition_sources = '{temperature}', addition_labels = '{room between 18 and 24 °C}',
             addition_half_widths = '{0.010}', addition_grows = '{fixed}'
         FROM plans p JOIN instruments i ON i.id = p.instrument_id
         WHERE p.id = v.plan_id AND i.tag = 'R-02'",
    )
    .await
    .unwrap();
    let aino = Bench::aino(&server.base).await;
    let verdict = run(&aino, 3).await;
    assert!(verdict.text.contains("conditional pass: not accepted"), "{}", verdict.text);
    assert!(verdict.words("h1").contains("Inside tolerance, and not accepted"), "{}", verdict.text);
    assert!(verdict.text.contains("inside, but in the guard band"), "{}", verdict.text);
    // No other place calls it out of tolerance.
    let round = aino.get("/").await;
    let row = round.all("table.round tr").into_iter().find(|row| row.contains("R-02")).unwrap();
    assert!(row.contains("Inside, not accepted"), "{row}");
    let cards = round.all("aside .card-strip");
    let card = cards.iter().find(|card| card.contains("R-02")).unwrap();
    assert!(card.contains("Inside tolerance, in the guard band:"), "{card}");
    for path in ["/instruments/R-02", "/instruments?find=R-02"] {
        let page = aino.get(path).await;
        assert!(page.text.contains("Inside, not accepted"), "{path}");
        assert!(!page.text.contains("Out of tolerance"), "{path}");
    }
    let told =
        lines(&server.database, "SELECT title AS line FROM notices ORDER BY id DESC LIMIT 1");
    assert!(told.await[0].ends_with("its check lies in the guard band and is not accepted"));
    assert!(verdict.text.contains("room between 18 and 24"), "the budget names what the plan adds");
    assert!(verdict.text.contains("leaves nothing that this plan"), "5 kg bear 10 g only");
    for words in ["guard band", "probability that it is within tolerance", "risk of a false reject"]
    {
        assert!(verdict.text.contains(words), "{words}");
    }
}

/// A check is signed while the standard that it rests on is retired: the record stands as it was made.
#[tokio::test(flavor = "multi_thread")]
async fn a_check_is_signed_while_its_standard_is_retired() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let check = check_of(&run(&aino, 0).await);
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "UPDATE standards SET state = 'retired', state_reason = 'chipped' WHERE tag = 'M1-B'",
    )
    .await
    .unwrap();
    let signed = post(&aino, &format!("{check}/sign"), &[("password", "kapea-silta-4")]).await;
    assert_eq!(signed.status, StatusCode::SEE_OTHER);
    let record = aino.get(&format!("{check}/record")).await;
    assert!(record.text.contains("M1-B") && record.text.contains("signs for it"));
}

/// The clock jumps back (a battery, a wrong setting): nothing is lost, and what is kept stays in order.
#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_jumps_loses_nothing() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    clock.pass(1800);
    let failed = run(&aino, 20).await;
    clock.pass(-1200);
    let repeat = run(&aino, 20).await;
    assert!(repeat.words(".action").contains("Keep it out of use"), "{}", repeat.text);
    let check = check_of(&failed);
    assert!(aino.get(&format!("{check}/record")).await.text.contains("unbroken"));
    let mut owner = server.owner().await;
    while vaaka_store::seals::seal(&mut owner, now()).await.unwrap().is_some() {}
    crate::audit::unbroken(&mut owner).await;
}

/// An old failure is history once a later shift has checked again: nobody adjusts by it.
#[tokio::test(flavor = "multi_thread")]
async fn nobody_adjusts_by_an_old_check() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let old = check_of(&run(&aino, 14).await);
    assert!(ilma.get(&format!("{old}/adjust")).await.find("p.refused").is_none());
    clock.pass(8 * 3600);
    run(&aino, 0).await;
    let page = ilma.get(&format!("{old}/adjust")).await;
    assert!(page.words("p.refused").contains("checked again"), "{}", page.text);
    let forced = post(
        &ilma,
        &format!("{old}/adjust"),
        &[("kind", "gain"), ("gain", "-0.14"), ("performed_by", "1"), ("reason", "x")],
    )
    .await;
    assert_eq!(forced.status, StatusCode::UNPROCESSABLE_ENTITY);
}
