//! Standards through their life: lots, certificates, uses, crossover, look-back, retirement.

use std::collections::HashMap;
use std::sync::Arc;

use diesel::sql_types::{BigInt, Double, Nullable, Text};
use diesel_async::{RunQueryDsl, SimpleAsyncConnection};
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

async fn ilma(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

/// Sends one of the small forms of a page.
async fn act(bench: &Bench, page: &str, action: &str, typed: &[(&str, &str)]) -> Page {
    let mut fields = bench.get(page).await.form(&format!("form[action='{action}']"));
    for (name, value) in typed {
        fields.insert((*name).to_owned(), (*value).to_owned());
    }
    bench.post(action, &fields).await
}

const LOT: [(&str, &str); 12] = [
    ("lot", "VR-0700"),
    ("number", "V-2401"),
    ("paper", "calibration"),
    ("issuer", "Velmaranta measuring room"),
    ("issued_on", "2026-11-20"),
    ("valid_from", "2026-11-20"),
    ("valid_until", "2028-11-20"),
    ("unit", "kg"),
    ("values.0.piece", "10-1"),
    ("values.0.nominal", "10"),
    ("values.0.value", "10.00023"),
    ("values.0.uncertainty", "0.00015"),
];

/// The other lead compares a certificate with the paper.
async fn second_look(server: &Server, kept: Page) -> Page {
    let rauno = Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await;
    let path = kept.location.expect("the certificate's page");
    let done = rauno.countersign(&path, "hiljainen-vuo-5").await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    done
}

#[tokio::test(flavor = "multi_thread")]
async fn a_standard_is_registered_with_its_lot_and_bad_input_gets_words() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let page = ilma.get("/new/standard").await;
    let typed = [("tag", "M1-Z"), ("name", "New weights <script>"), ("kind", "Weight set")];
    for (field, value, words) in [
        ("tag", "", "Give it a tag"),
        ("tag", "../M1", "letters A to Z"),
        ("tag", "M1-B", "in the register already"),
        ("name", " \u{202e} ", "Give it a name"),
        ("kind", "", "what kind"),
    ] {
        let mut fields = typed.to_vec();
        fields.push((field, value));
        let answer = ilma.submit(&page, "/new/standard", &fields).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{field} {value}");
        assert!(answer.words(&format!("#f-{field}-error")).contains(words), "{field} {value}");
    }
    let answer = ilma.submit(&page, "/new/standard", &typed).await;
    assert_eq!(answer.location.as_deref(), Some("/standards/M1-Z/lot"), "{}", answer.text);
    let page = ilma.get("/standards/M1-Z/lot").await;
    for (field, value, words) in [
        ("valid_until", "2026-11-19", "ends before it begins"),
        ("valid_from", "20/11/2026", "year-month-day"),
        ("valid_from", "31.11.2026", "year-month-day"),
        ("values.0.value", "ten", "not part of a number"),
        ("values.0.uncertainty", "-1", "not negative"),
        ("values.0.k", "0", "greater than zero"),
        ("values.0.piece", "", "Name the piece"),
        ("use_limit", "5", ""),
        ("face_width", "50", "all four sizes"),
        ("open_hours", "0", "whole number"),
        ("number", "V-2231", "in the register already"),
    ] {
        let mut fields = LOT.to_vec();
        fields.push((field, value));
        let answer = ilma.submit(&page, "/standards/M1-Z/lot", &fields).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{field} {value}");
        if !words.is_empty() {
            let said = answer.words(&format!("#f-{}-error", field.replace('.', "-")));
            assert!(said.contains(words), "{field} {value}: {said}");
        }
        assert_eq!(answer.whole_form("form.sheet-form")["lot"], "VR-0700");
    }
    let answer = ilma.submit(&page, "/standards/M1-Z/lot", &LOT).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
    second_look(&server, answer).await;
    let shown = ilma.get("/standards/M1-Z").await;
    assert!(shown.words(".page-head").contains("in date until 20 November 2028"));
    assert!(shown.words("h1").contains("New weights <script>"), "shown as text, not run");
    assert!(shown.words(".plain-list").contains("10.00023 kg"));
}

#[tokio::test(flavor = "multi_thread")]
async fn conformance_serves_only_with_a_leads_reason() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let before = ilma.get("/standards/SR-2").await;
    assert!(before.words(".page-head").contains("only a certificate of conformance"));
    let short =
        act(&ilma, "/standards/SR-2", "/standards/SR-2/accept", &[("reason", "fine")]).await;
    assert_eq!(short.status, StatusCode::UNPROCESSABLE_ENTITY);
    let reason = "compared with SR-1 on two testers, within 0.02";
    let done = act(&ilma, "/standards/SR-2", "/standards/SR-2/accept", &[("reason", reason)]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    assert!(ilma.get("/standards/SR-2").await.words(".page-head").contains("in date until"));
}

#[tokio::test(flavor = "multi_thread")]
async fn uses_are_counted_and_a_used_up_block_says_so() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let page = aino.get("/standards/HB-60").await;
    assert!(page.words(".fact-list").contains("146 of 150 indentations"), "{}", page.text);
    assert!(page.words(".page-head").contains("4 of 150 indentations left"));
    assert!(page.find("svg.face").is_some(), "the map of its places is drawn");
    let wrong = act(
        &aino,
        "/standards/HB-60",
        "/standards/HB-60/uses",
        &[("count", "-3"), ("reason", "x")],
    )
    .await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY, "only a lead gives uses back");
    act(&aino, "/standards/HB-60", "/standards/HB-60/uses", &[("count", "4"), ("reason", "trial")])
        .await;
    let page = aino.get("/standards/HB-60").await;
    assert!(
        page.words(".page-head").contains("0 of 150 indentations left"),
        "{}",
        page.words(".page-head")
    );
    assert!(page.words("main").contains("4 on"), "who struck them off stands there");
}

#[tokio::test(flavor = "multi_thread")]
async fn open_material_is_timed_by_the_server() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let bench = ilma(&server).await;
    let page = bench.get("/standards/MM-1").await;
    assert!(page.words(".fact-list").contains("8 h; opened"), "{}", page.words(".fact-list"));
    clock.pass(24 * 3600);
    let page = bench.get("/standards/MM-1").await;
    assert!(page.words(".page-head").contains("has been open for"), "{}", page.words(".page-head"));
}

/// A chart that jumps with a re-certified weight has a seam there, about a centre moved by the
/// change and no signal; the past is not touched.
#[tokio::test(flavor = "multi_thread")]
async fn certified_anew_moves_the_chart_by_the_change_and_looks_back() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    clock.pass(8 * 3600);
    const READ: [&str; 8] =
        ["0.00", "1000.00", "2000.00", "5000.01", "5000.01", "5000.01", "2000.00", "0.00"];
    aino.run("R-05", &READ).await;
    let page = ilma.get("/standards/F2-A/certificate").await;
    let typed = [
        ("change", "recertified"),
        ("number", "V-2402"),
        ("issued_on", "2026-11-24"),
        ("valid_from", "2026-11-24"),
        ("valid_until", "2028-11-24"),
        // 5000.012 ± 0.025 before: 0.2 g more than both certificates explain.
        ("values.2.value", "5000.212"),
    ];
    let answer = ilma.submit(&page, "/standards/F2-A/certificate", &typed).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    let look_back = second_look(&server, answer).await.location.unwrap();
    assert!(look_back.starts_with("/look-backs/"), "{look_back}");
    let page = ilma.get(&look_back).await;
    assert!(page.words("p.notice").contains("5k by 0.2"), "{}", page.words("p.notice"));
    assert!(page.words("table").contains("R-05"), "{}", page.words("main"));
    let closed = act(&ilma, &look_back, &format!("{look_back}/close"), &[("conclusion", "")]).await;
    assert_eq!(closed.status, StatusCode::UNPROCESSABLE_ENTITY);
    let said = [("conclusion", "0.2 g is a tenth of the limits: all checks stand")];
    act(&ilma, &look_back, &format!("{look_back}/close"), &said).await;
    assert!(ilma.get(&look_back).await.words("aside").contains("Closed"));
    // The next check is read as before; the reference is 0.2 g higher, so the error is 0.2 g lower, and so is the centre.
    clock.pass(8 * 3600);
    let verdict = aino.run("R-05", &READ).await;
    assert!(
        verdict.words("h1").ends_with("Within tolerance, as it normally is"),
        "{}",
        verdict.text
    );
    let shifts: Vec<Shift> = diesel::sql_query(
        "SELECT s.unit, s.nominal = 5000 AS changed,
             (g.design->'level'->>'center_line')::float8
                 - (b.design->'level'->>'center_line')::float8 AS center,
             p.value - (SELECT o.value FROM chart_points o WHERE o.segment_id = b.id
                 AND o.ordinal IS NOT NULL ORDER BY o.ordinal DESC LIMIT 1) AS value
         FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id AND i.tag = 'R-05'
         JOIN segments g ON g.stream_id = s.id JOIN segments b ON b.stream_id = s.id
             AND b.ordinal = g.ordinal - 1
         JOIN chart_points p ON p.segment_id = g.id
         WHERE g.cause = 'standard certified anew' AND s.derived IS NULL ORDER BY s.nominal",
    )
    .load(&mut server.owner().await)
    .await
    .unwrap();
    assert_eq!(shifts.len(), 2, "{shifts:?}");
    for shift in &shifts {
        // 2 kg has the value that it had.
        let by = if shift.changed { -0.2 } else { 0.0 };
        assert!((shift.center - by).abs() < 1e-9 && shift.unit == "g", "{shifts:?}");
        assert!((shift.value - by).abs() < 1e-9, "the same reading: {shifts:?}");
    }
}

#[derive(diesel::QueryableByName, Debug)]
struct Shift {
    #[diesel(sql_type = Text)]
    unit: String,
    #[diesel(sql_type = diesel::sql_types::Bool)]
    changed: bool,
    #[diesel(sql_type = Double)]
    center: f64,
    #[diesel(sql_type = Double)]
    value: f64,
}

#[derive(diesel::QueryableByName)]
struct Amended {
    #[diesel(sql_type = BigInt)]
    checks: i64,
    #[diesel(sql_type = BigInt)]
    versions: i64,
}

#[derive(diesel::QueryableByName, Debug, PartialEq)]
struct PointRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Nullable<BigInt>)]
    ordinal: Option<i64>,
    #[diesel(sql_type = Double)]
    value: f64,
    #[diesel(sql_type = Nullable<Double>)]
    ewma: Option<f64>,
    #[diesel(sql_type = Text)]
    firings: String,
}

async fn points(server: &Server, stream: i64) -> Vec<PointRow> {
    diesel::sql_query(format!(
        "SELECT id, ordinal, value, ewma, firings::text AS firings FROM chart_points
         WHERE stream_id = {stream} AND NOT withdrawn ORDER BY measured_at, id"
    ))
    .load(&mut server.owner().await)
    .await
    .unwrap()
}

/// A slip of the pen: every check that rested on the certificate is evaluated again beside its
/// first verdict, and the chart comes to what it would have been.
#[tokio::test(flavor = "multi_thread")]
async fn a_slip_of_the_pen_amends_the_past() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let before = points(&server, 1).await;
    let page = ilma.get("/standards/M1-B/certificate").await;
    let moved = [("change", "clerical"), ("valid_from", "2026-11-01")];
    let refused = ilma.submit(&page, "/standards/M1-B/certificate", &moved).await;
    assert!(refused.words("#f-valid_from-error").contains("holds from the same day on"));
    // Both 10 kg pieces were certified 1 g heavier than was typed.
    let typed =
        [("change", "clerical"), ("values.1.value", "10.00111"), ("values.2.value", "10.00110")];
    let answer = ilma.submit(&page, "/standards/M1-B/certificate", &typed).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    assert_eq!(points(&server, 1).await, before, "nothing rests on it yet");
    second_look(&server, answer).await;
    // It is no work for a request: the page says how far it has come.
    let path = newest_certificate(&server).await;
    let told = async || ilma.get(&path).await.words("section[data-again], .card-strip");
    let checks = amended(&server).await.checks;
    assert!(told().await.contains(&format!("0 of {checks} checks")), "{}", told().await);
    assert_eq!(amended(&server).await.versions, checks, "nothing yet");
    // A process that stops in the midst of it leaves the rest to others, and two of them do nothing twice.
    let mut one = server.owner().await;
    assert!(
        vaaka_store::worker::work(&mut one, &server.state, crate::support::now()).await.unwrap()
    );
    assert!(told().await.contains(&format!("20 of {checks} checks")), "{}", told().await);
    let stopped = "UPDATE jobs SET state = 'running', leased_until = now() - interval '1 second'";
    one.batch_execute(stopped).await.unwrap();
    let (first, second) = tokio::join!(server.work_off(), server.work_off());
    assert!(first + second > 2, "{first} {second}");
    assert!(told().await.contains(&format!("All {checks} checks")), "{}", told().await);
    let rows = amended(&server).await;
    assert!(rows.checks > 50, "{}", rows.checks);
    assert_eq!(rows.versions, 2 * rows.checks, "each has a second version, and its first");
    let after = points(&server, 1).await;
    assert_eq!(before.len(), after.len());
    // 20 kg are two pieces: every error is 2 g less; places stay.
    for (a, b) in before.iter().zip(&after) {
        assert_eq!((a.id, a.ordinal), (b.id, b.ordinal));
        let moved = b.value - a.value;
        assert!((moved + 2.0).abs() < 1e-9 || (moved + 1.0).abs() < 1e-9, "{moved}");
    }
    let verdict = ilma.get("/checks/12/verdict").await;
    assert!(verdict.text.contains("amended; the first is kept") || verdict.text.contains("V-22"));
}

async fn newest_certificate(server: &Server) -> String {
    let query = "SELECT max(id) AS number FROM certificates";
    format!("/certificates/{}", crate::web_chart_room::number(&server.database, query).await)
}

async fn amended(server: &Server) -> Amended {
    let mut rows: Vec<Amended> = diesel::sql_query(
        "SELECT count(DISTINCT c.id) AS checks, count(*) AS versions FROM checks c
         JOIN results r ON r.check_id = c.id
         WHERE c.certificate_id = 4 AND c.state = 'concluded'",
    )
    .load(&mut server.owner().await)
    .await
    .unwrap();
    rows.remove(0)
}

/// Work that does not go on is tried again, then told to the leads, who let it go on once its cause is gone; what was done
/// stands. A fix with which the past cannot be computed is refused before it is decided.
#[tokio::test(flavor = "multi_thread")]
async fn long_work_that_stops_is_told_and_goes_on_where_it_was() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let page = ilma.get("/standards/M1-B/certificate").await;
    let typed = [("change", "clerical"), ("values.1.value", "10.00111")];
    let answer = ilma.submit(&page, "/standards/M1-B/certificate", &typed).await;
    second_look(&server, answer).await;
    let path = newest_certificate(&server).await;
    let mut owner = server.owner().await;
    assert!(
        vaaka_store::worker::work(&mut owner, &server.state, crate::support::now()).await.unwrap()
    );
    let no_room = "CREATE FUNCTION no_room() RETURNS trigger LANGUAGE plpgsql AS $$
             BEGIN RAISE EXCEPTION 'no room left'; END $$;
         CREATE TRIGGER no_room BEFORE INSERT ON results FOR EACH ROW EXECUTE FUNCTION no_room()";
    owner.batch_execute(no_room).await.unwrap();
    for attempt in 1..=5 {
        let words = ilma.get(&path).await.words(".card-strip");
        assert!(words.contains("20 of") && !words.contains("did not go on"), "{attempt}: {words}");
        assert_eq!(server.work_off().await, 0, "nothing went on");
    }
    let words = ilma.get(&path).await.words(".card-strip");
    assert!(words.contains("20 of") && words.contains("did not go on"), "{words}");
    assert_eq!(server.work_off().await, 0, "it waits for a person now");
    let notices = ilma.get("/notices").await.words("main");
    assert!(notices.contains("Work in the background did not go on"), "{notices}");
    assert_eq!(
        Bench::aino(&server.base).await.get(&path).await.find("form[action$='/again']"),
        None
    );
    owner.batch_execute("DROP TRIGGER no_room ON results").await.unwrap();
    let page = ilma.get(&path).await;
    let again = format!("{path}/again");
    let fields = page.form(&format!("form[action='{again}']"));
    assert_eq!(ilma.post(&again, &fields).await.status, StatusCode::SEE_OTHER);
    assert!(server.work_off().await > 1);
    let rows = amended(&server).await;
    assert_eq!(rows.versions, 2 * rows.checks, "what was done before is not done twice");
    assert!(ilma.get(&path).await.words(".card-strip").contains("All"), "and it says so");
}

/// Replaying an untouched chart comes to the same bits.
#[tokio::test(flavor = "multi_thread")]
async fn a_replay_of_an_untouched_chart_changes_nothing() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    for stream in 1..=8 {
        let before = points(&server, stream).await;
        assert!(before.len() > 30);
        vaaka_store::replay::stream(&mut owner, vaaka_store::ids::StreamId(stream)).await.unwrap();
        assert_eq!(points(&server, stream).await, before, "stream {stream}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_lot_is_crossed_over_before_it_takes_over() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let page = ilma.get("/standards/PR-1/lot").await;
    let mut lot = LOT.to_vec();
    lot.extend([
        ("unit", "bar"),
        ("values.0.piece", "200"),
        ("values.0.nominal", "200"),
        ("values.0.value", "200.04"),
        ("values.0.uncertainty", "0.16"),
        ("values.1.piece", "320"),
        ("values.1.nominal", "320"),
        ("values.1.value", "320.10"),
        ("values.1.uncertainty", "0.22"),
        ("values.2.piece", "80"),
        ("values.2.nominal", "80"),
        ("values.2.value", "80.00"),
        ("values.2.uncertainty", "0.10"),
    ]);
    let answer = ilma.submit(&page, "/standards/PR-1/lot", &lot).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    second_look(&server, answer).await;
    assert!(aino.get("/standards/PR-1").await.words("main").contains("waits to be put in use"));

    let page = aino.get("/standards/PR-1/crossover").await;
    let few =
        [("instrument", "P-11"), ("piece", "200"), ("pairs.0.old", "200"), ("pairs.0.new", "201")];
    let answer = aino.submit(&page, "/standards/PR-1/crossover", &few).await;
    assert!(answer.text.contains("At least 5 pairs"), "{}", answer.words("main"));
    let mut pairs = vec![("instrument", "P-11"), ("piece", "200")];
    let names: Vec<[String; 2]> =
        (0..5).map(|row| [format!("pairs.{row}.old"), format!("pairs.{row}.new")]).collect();
    for [old, new] in &names {
        pairs.extend([(old.as_str(), "200"), (new.as_str(), "201")]);
    }
    let answer = aino.submit(&page, "/standards/PR-1/crossover", &pairs).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    // New less old: (201 − 200.04) − (200 − 199.96) = 0.92, always the same.
    let shown = ilma.get("/standards/PR-1").await.words("main");
    assert!(shown.contains("+0.920 ± 0.000 bar from 5 pairs, not accepted yet"), "{shown}");
    act(&ilma, "/standards/PR-1", "/crossovers/1/accept", &[]).await;
    let lots = ilma.get("/standards/PR-1").await;
    let action = lots.attribute("form[action*='/lots/']", "action").unwrap();
    let used = act(&ilma, "/standards/PR-1", &action, &[("reason", "crossover accepted")]).await;
    assert_eq!(used.status, StatusCode::SEE_OTHER, "{}", used.text);

    aino.run("P-11", &["80", "200", "320", "200", "80"]).await;
    let seams: Vec<Seam> = diesel::sql_query(
        "SELECT g.cause, (g.design->'level'->>'kind') AS level FROM segments g
         JOIN chart_streams s ON s.id = g.stream_id JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'P-11' AND g.cause = 'new lot of the standard' ORDER BY s.nominal",
    )
    .load(&mut server.owner().await)
    .await
    .unwrap();
    // At 200 bar the offset is known; at 320 the level is provisional.
    let levels: Vec<_> = seams.iter().map(|seam| seam.level.as_deref()).collect();
    assert_eq!(levels, [Some("frozen"), Some("after_adjustment")], "{}", seams[0].cause);
}

#[derive(diesel::QueryableByName)]
struct Seam {
    #[diesel(sql_type = Text)]
    cause: String,
    #[diesel(sql_type = Nullable<Text>)]
    level: Option<String>,
}

#[tokio::test(flavor = "multi_thread")]
async fn found_wrong_lists_everything_that_rested_on_it_and_holds_it() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    // A check is open on it meanwhile: it stops there, and what was kept stands.
    let path = aino.start("P-11").await;
    for _ in 0..2 {
        aino.confirm(&path).await;
    }
    let page = ilma.get("/standards/PR-1/wrong").await;
    let future = [("finding", "reads 0.4 bar low at 200 bar"), ("from", "2027-01-01")];
    assert!(
        ilma.submit(&page, "/standards/PR-1/wrong", &future).await.text.contains("still to come")
    );
    let typed = [("finding", "reads 0.4 bar low at 200 bar"), ("from", "2026-11-01")];
    let answer = ilma.submit(&page, "/standards/PR-1/wrong", &typed).await;
    let look_back = ilma.get(&answer.location.unwrap()).await;
    assert!(look_back.words("h1").contains("checks on 1 instruments"), "{}", look_back.words("h1"));
    assert!(look_back.words("table").contains("P-11"));
    assert!(ilma.get("/standards/PR-1").await.words(".page-head").contains("on hold"));

    let step = aino.get(&path).await;
    assert!(step.words("p.notice").contains("Nothing more can be read on PR-1"), "{}", step.text);
    let refused = aino.send(&path, "bar").await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(refused.words("#typed-error").contains("Void this check"), "{}", refused.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_standard_is_retired_after_its_closing_calibration() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let state = |bench: Bench, to: &'static str, reason: &'static str| async move {
        act(&bench, "/standards/NF-1", "/standards/NF-1/state", &[("to", to), ("reason", reason)])
            .await
    };
    assert_eq!(state(aino.clone(), "on_hold", "").await.status, StatusCode::UNPROCESSABLE_ENTITY);
    let tried = state(aino.clone(), "retired", "old").await;
    assert!(tried.text.contains("the rest is for a lead"));
    let early = state(ilma.clone(), "retired", "old").await;
    assert!(early.text.contains("closing calibration"), "{}", early.text);
    let page = ilma.get("/standards/NF-1/certificate").await;
    let typed = [
        ("change", "recertified"),
        ("number", "V-2403"),
        ("issued_on", "2026-11-23"),
        ("valid_from", "2026-11-23"),
        ("valid_until", "2027-11-23"),
    ];
    let kept = ilma.submit(&page, "/standards/NF-1/certificate", &typed).await;
    let early = state(ilma.clone(), "retired", "worn").await;
    assert!(early.text.contains("closing calibration"), "one that waits is none: {}", early.text);
    second_look(&server, kept).await;
    assert_eq!(state(ilma.clone(), "retired", "worn").await.status, StatusCode::SEE_OTHER);
    let again = act(
        &ilma,
        "/standards/NF-1",
        "/standards/NF-1/state",
        &[("to", "in_use"), ("reason", "x")],
    )
    .await;
    assert_eq!(again.status, StatusCode::UNPROCESSABLE_ENTITY, "retired stays retired");
}

/// Any of the kind: the one that is really in hand counts, and wrong, held and right are told
/// apart.
#[tokio::test(flavor = "multi_thread")]
async fn any_of_a_kind_takes_what_is_in_hand() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("F-14").await;
    aino.confirm(&path).await;
    let page = aino.get(&path).await;
    assert!(page.words("h1").contains("Take any block set"), "{}", page.words("h1"));
    for (tag, words) in [
        ("", "Scan or type the tag"),
        ("XX-1", "not in the register"),
        ("M1-B", "Kitchen weights, red case, not the standard of this plan"),
        ("<img src=x>", "not in the register"),
    ] {
        let refused = aino.send(&path, tag).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{tag}");
        let said = refused.words("#typed-error");
        assert!(said.contains(words), "{tag}: {said}");
        assert_eq!(refused.attribute("#typed", "value").as_deref(), Some(tag));
    }
    assert_eq!(aino.send(&path, "gb-2").await.status, StatusCode::SEE_OTHER);
    let page = aino.get(&path).await;
    assert!(page.words("aside").contains("GB-2"), "{}", page.words("aside"));
    assert!(page.words("aside").contains("V-2274"), "its certificate, not the other's");
}

#[tokio::test(flavor = "multi_thread")]
async fn documents_and_photographs_come_back_as_they_came() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let token = ilma.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let pdf = b"%PDF-1.4 certificate";
    let kept = ilma.send_file("/certificates/4/file", &token, "V-2231.pdf", pdf).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    assert!(ilma.get("/standards/M1-B").await.words("main").contains("V-2231.pdf"));
    let read = aino.get("/files/1").await;
    assert_eq!(read.text.as_bytes(), pdf);
    assert_eq!(read.headers["content-type"], "application/pdf");

    let token = aino.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let png = b"\x89PNG\r\n\x1a\n0123456789";
    for (path, bytes, status) in [
        ("/instruments/R-02/photo", &png[..], StatusCode::SEE_OTHER),
        ("/instruments/R-02/photo", b"<svg onload=alert(1)>", StatusCode::CONFLICT),
        ("/instruments/R-02/photo", b"", StatusCode::CONFLICT),
        ("/instruments/R-02/photo", pdf, StatusCode::CONFLICT),
        ("/checks/12/photo", png, StatusCode::SEE_OTHER),
        ("/checks/999999/photo", png, StatusCode::NOT_FOUND),
    ] {
        let answer = aino.send_file(path, &token, "a.png", bytes).await;
        assert_eq!(answer.status, status, "{path}: {}", answer.text);
    }
    let large = vec![0x89; 9 * 1024 * 1024];
    // The connection ends with it, so this is a bench of its own.
    let other = Bench::aino(&server.base).await;
    let own = other.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let answer = other.send_file("/instruments/R-02/photo", &own, "a.png", &large).await;
    assert!(answer.status.is_client_error(), "{}", answer.status);
    assert!(aino.get("/instruments/R-02").await.find("ul.photos img").is_some());
    assert!(aino.get("/checks/12/verdict").await.find("ul.photos img").is_some());
    let fields: HashMap<&str, &str> = HashMap::new();
    assert!(aino.post("/files/1", &fields).await.status.is_client_error(), "kept as it came");
}
