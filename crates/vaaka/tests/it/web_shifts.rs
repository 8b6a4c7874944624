//! From shift to shift: what is missed, late or due out of turn, handovers, the sign-off, the release
//! gate, labels and the calendar.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::ToSpan;
use reqwest::StatusCode;
use serde_json::Value;
use vaaka_core::round::DueRule;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

const GOOD: [&str; 9] =
    ["0.000", "5.001", "10.001", "20.002", "20.001", "20.002", "10.001", "10.001", "0.000"];

async fn post(bench: &Bench, path: &str, typed: &[(&str, &str)]) -> Page {
    let token = bench.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let mut fields: HashMap<String, String> =
        typed.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    fields.insert("form_token".into(), token);
    bench.post(path, &fields).await
}

async fn release(bench: &Bench, query: &str) -> (StatusCode, Value) {
    let page = bench.get(&format!("/api/release?{query}")).await;
    (page.status, serde_json::from_str(&page.text).unwrap_or_else(|_| panic!("{}", page.text)))
}

async fn with_hand_clock() -> (Server, Arc<HandClock>) {
    let clock = HandClock::at(now());
    (Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await, clock)
}

/// The night of the demo has begun; its checks are not done. Eight hours on they are missed, which is
/// no pass, and stays so on the evidence.
#[tokio::test(flavor = "multi_thread")]
async fn a_shift_that_goes_by_leaves_missed_checks() {
    let (server, clock) = with_hand_clock().await;
    let aino = Bench::aino(&server.base).await;
    aino.run("R-02", &GOOD).await;
    clock.pass(8 * 3600);
    let round = aino.get("/").await;
    let cards = round.all(".card-strip").join(" ");
    assert!(cards.contains("checks were missed in the night shift"), "{cards}");
    assert!(cards.contains("R-05") && !cards.contains("R-02,"), "{cards}");
    let evidence = async |tag: &str| {
        aino.get(&format!("/instruments/{tag}/evidence?from=2026-11-24&to=2026-11-25")).await.text
    };
    assert!(evidence("R-05").await.contains("2026-11-24 night:"));
    assert!(!evidence("R-02").await.contains("2026-11-24 night:"));
    let bad = aino.get("/instruments/R-02/evidence?from=2026-11-25&to=2026-11-24").await;
    assert!(bad.words("p.field-error").contains("ends before it begins"));
}

/// A check that is open when the shift ends belongs to the shift in which it began: it is not missed,
/// somebody goes on with it, and the new shift's own check is due after it.
#[tokio::test(flavor = "multi_thread")]
async fn a_check_that_is_open_at_the_end_of_a_shift_goes_on() {
    let (server, clock) = with_hand_clock().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    clock.pass(8 * 3600);
    let round = aino.get("/").await;
    let missed: Vec<String> =
        round.all(".card-strip").into_iter().filter(|card| card.contains("missed")).collect();
    assert!(missed[0].contains("R-05") && !missed[0].contains("R-02"), "{missed:?}");
    assert_eq!(aino.start_again("R-02").await, path);
    aino.run_to_end(&path, &GOOD).await;
    let next = aino.start("R-02").await;
    assert_ne!(next, path);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_shift_hands_over_to_the_next_and_signs_off() {
    let (server, clock) = with_hand_clock().await;
    let aino = Bench::aino(&server.base).await;
    let empty = post(&aino, "/handover", &[("words", "  ")]).await;
    assert_eq!(empty.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(empty.words("#handover-error").contains("what the next shift must know"));
    let long = "x".repeat(601);
    let refused = post(&aino, "/handover", &[("words", &long)]).await;
    assert_eq!(refused.words("#handover-words"), long);
    post(&aino, "/handover", &[("words", "<b>drum</b> 4 is hot")]).await;
    // With checks to go only with a reason; with one begun not at all.
    let silent = post(&aino, "/sign-off", &[("reason", "")]).await;
    assert!(silent.words("#sign-off-error").contains("are left. Say why"), "{}", silent.text);
    let path = aino.start("R-02").await;
    let begun = post(&aino, "/sign-off", &[("reason", "no time")]).await;
    assert!(begun.words("#sign-off-error").contains("begun and not finished"));
    aino.run_to_end(&path, &GOOD).await;
    assert_eq!(
        post(&aino, "/sign-off", &[("reason", "press stood")]).await.status,
        StatusCode::SEE_OTHER
    );
    let round = aino.get("/").await;
    assert!(round.words("#handover .state").contains("signed off by Aino Verkala"));
    // Once.
    post(&aino, "/sign-off", &[("reason", "again")]).await;
    assert!(aino.get("/").await.text.contains("press stood"));
    clock.pass(8 * 3600);
    let next = aino.get("/").await;
    assert!(next.text.contains("From the shift before"));
    assert!(
        next.text.contains("&#60;b&#62;drum") || next.text.contains("&lt;b&gt;drum"),
        "escaped"
    );
}

/// A knock makes the check due again in the same shift, whatever the calendar says, and the release
/// gate knows.
#[tokio::test(flavor = "multi_thread")]
async fn a_knock_makes_a_check_due_out_of_turn() {
    let (server, clock) = with_hand_clock().await;
    let aino = Bench::aino(&server.base).await;
    let (_, before) = release(&aino, "instrument=R-02").await;
    assert_eq!(before["released"], false, "its check of this shift is due: {before}");
    aino.run("R-02", &GOOD).await;
    let (status, fine) = release(&aino, "instrument=R-02&lot=L-118&value=20,5&unit=kg").await;
    assert_eq!((status, &fine["released"]), (StatusCode::OK, &Value::Bool(true)), "{fine}");
    assert_eq!(fine["lot"], "L-118");
    let (_, grams) = release(&aino, "instrument=R-02&value=70000&unit=g").await;
    assert!(grams["reasons"][0].as_str().unwrap().contains("70 lies outside"), "{grams}");
    clock.pass(60);
    let silent = post(&aino, "/instruments/R-02/events", &[("kind", "moved"), ("note", "")]).await;
    assert_eq!(silent.status, StatusCode::UNPROCESSABLE_ENTITY);
    let noted =
        post(&aino, "/instruments/R-02/events", &[("kind", "moved"), ("note", "a pallet hit it")])
            .await;
    assert_eq!(noted.status, StatusCode::SEE_OTHER);
    let (_, after) = release(&aino, "instrument=R-02").await;
    assert!(after["reasons"][0].as_str().unwrap().contains("after a move"), "{after}");
    // The evidence says in which shift it fell due, and what answered it.
    let evidence = async || {
        let page = aino.get("/instruments/R-02/evidence").await;
        page.all(".record .reasons li").into_iter().find(|line| line.contains("due after a move"))
    };
    let waits = evidence().await.unwrap();
    assert!(waits.contains("in the night shift of 2026-11-24"), "{waits}");
    assert!(waits.ends_with("not answered yet"), "{waits}");
    clock.pass(60);
    aino.run("R-02", &GOOD).await;
    let answered = evidence().await.unwrap();
    assert!(answered.contains("answered by the check of 24 Nov 2026, 22:36"), "{answered}");
    for (query, words) in [
        ("instrument=", "Name the instrument"),
        ("instrument=R-999", "no instrument"),
        ("instrument=R-02&value=much", "no number"),
        ("instrument=R-02&value=1&unit=parsec", "not known"),
        ("instrument=R-02&value=1&unit=bar", "another quantity"),
    ] {
        let (status, answer) = release(&aino, query).await;
        assert!(status.is_client_error(), "{query}");
        assert!(answer["error"].as_str().unwrap().contains(words), "{query}: {answer}");
    }
}

#[derive(diesel::QueryableByName)]
struct Kept {
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Text>)]
    day: Option<String>,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    wrong: i64,
}

/// The day that is kept for R-02, and how many plans have another day than their checks say.
async fn kept(server: &Server) -> (String, i64) {
    let mut owner = server.owner().await;
    let found: Kept = diesel_async::RunQueryDsl::get_result(
        diesel::sql_query(
            "WITH said AS (
                 SELECT p.id, p.instrument_id, p.last_done_on, (SELECT max(s.business_date)
                     FROM plan_versions v JOIN checks c ON c.plan_version_id = v.id
                     JOIN shift_instances s ON s.id = c.shift_instance_id
                     WHERE v.plan_id = p.id AND c.state = 'concluded' AND c.purpose = 'as_found') AS day
                 FROM plans p)
             SELECT (SELECT max(last_done_on)::text FROM said JOIN instruments i
                     ON i.id = instrument_id AND i.tag = 'R-02') AS day,
                 (SELECT count(*) FROM said WHERE last_done_on IS DISTINCT FROM day) AS wrong",
        ),
        &mut owner,
    )
    .await
    .unwrap();
    (found.day.unwrap(), found.wrong)
}

/// The database keeps the date of a plan's last check through conclusions and voids.
#[tokio::test(flavor = "multi_thread")]
async fn the_date_of_the_last_check_is_kept() {
    let (server, clock) = with_hand_clock().await;
    assert_eq!(kept(&server).await, ("2026-11-24".into(), 0), "as the demo was loaded");
    clock.pass(8 * 3600);
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    assert_eq!(kept(&server).await, ("2026-11-24".into(), 0), "begun is not done");
    aino.run_to_end(&path, &GOOD).await;
    assert_eq!(kept(&server).await, ("2026-11-25".into(), 0));
    let ilma = Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await;
    let void = post(&ilma, &format!("{path}/void"), &[("reason", "wrong weights")]).await;
    assert_eq!(void.status, StatusCode::SEE_OTHER, "{}", void.text);
    assert_eq!(
        kept(&server).await,
        ("2026-11-24".into(), 0),
        "voided, it is as if it had not been"
    );
}

/// A round never leaves out what the calendar has due, whatever it does not read.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_is_due_rests() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    let today = jiff::civil::date(2027, 3, 1);
    let mut due = 0;
    for rule in DueRule::ALL {
        for back in 0..40_i64 {
            let last = today.saturating_sub(back.days());
            let set = format!(
                "SET session_replication_role = replica;
                 UPDATE plans SET last_done_on = '{last}' WHERE id = 1;
                 UPDATE plan_versions SET due_rule = '{}', due_triggers = '{{}}' WHERE plan_id = 1",
                rule.word()
            );
            diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &set).await.unwrap();
            let awake = vaaka_store::plans::awake(&mut owner, today, &[]).await.unwrap();
            let is_awake = awake.iter().any(|plan| plan.plan.0 == 1);
            if rule.is_due(Some(last), today) {
                assert!(is_awake, "{rule:?} {last}");
                due += 1;
            }
            // What rests is awake when it was begun.
            let plan = vaaka_store::ids::PlanId(1);
            let begun = vaaka_store::plans::awake(&mut owner, today, &[plan]).await.unwrap();
            assert!(begun.iter().any(|plan| plan.plan.0 == 1), "{rule:?} {last}");
            let rests = matches!(rule, DueRule::EachMonth) && back < 20;
            assert!(!(rests && is_awake), "{rule:?} {last} is read for nothing");
        }
    }
    assert!(due > 100, "{due}");
}

#[tokio::test(flavor = "multi_thread")]
async fn labels_and_the_calendar_of_what_falls_due() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let sheet = aino.get("/labels?area=Resin+kitchen").await;
    assert!(sheet.all(".labels > div").len() > 3);
    assert!(sheet.text.contains("code-dark"));
    let one = aino.get("/labels?tag=R-02").await;
    assert_eq!(one.all(".labels > div").len(), 1);
    let ics = aino.get("/export/due.ics").await;
    assert_eq!(ics.headers["content-type"], "text/calendar; charset=utf-8");
    for line in [
        "BEGIN:VCALENDAR",
        "SUMMARY:Tank scale R-02: check each shift",
        "RRULE:FREQ=DAILY",
        "END:VCALENDAR",
    ] {
        assert!(ics.text.contains(line), "{line} in {}", ics.text);
    }
}

/// Shifts and holidays are changed by an administrator; what was stays, what is ahead is made anew.
#[tokio::test(flavor = "multi_thread")]
async fn the_calendar_changes_what_is_ahead_only() {
    let (server, clock) = with_hand_clock().await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let page = onni.get("/calendar").await;
    assert_eq!(page.attribute("input[name='starts.2.label']", "value").as_deref(), Some("Night"));
    let wrong = onni
        .submit(&page, "/calendar", &[("starts.1.at", "25:00"), ("holidays.0.day", "soon")])
        .await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.text.contains("hours and minutes") && wrong.text.contains("year-month-day"));
    assert_eq!(wrong.attribute("input[name='starts.1.at']", "value").as_deref(), Some("25:00"));
    let backwards = onni.submit(&page, "/calendar", &[("starts.1.at", "05:00")]).await;
    assert!(backwards.text.contains("in the order of the day"));
    let saved = onni
        .submit(
            &page,
            "/calendar",
            &[("holidays.0.day", "2026-11-25"), ("holidays.0.name", "Inventory day")],
        )
        .await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.text);
    let aino = Bench::aino(&server.base).await;
    assert!(!aino.get("/").await.all("table.round tbody tr").is_empty(), "this night works on");
    // The morning after is a holiday: nothing is due in it, and nothing of it is missed.
    clock.pass(8 * 3600);
    let holiday = aino.get("/").await;
    assert_eq!(holiday.all("table.round tbody tr").len(), 0, "{}", holiday.text);
    clock.pass(8 * 3600);
    let evening = aino.get("/").await;
    assert!(!evening.all(".card-strip").join(" ").contains("missed in the morning"));
    assert_eq!(aino.get("/calendar").await.status, StatusCode::FORBIDDEN);
}

/// Uses are counted; a plan that asks for a check after so many is due then, not before.
#[tokio::test(flavor = "multi_thread")]
async fn uses_make_a_check_due() {
    let (server, clock) = with_hand_clock().await;
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "SET session_replication_role = replica;
         UPDATE plan_versions v SET due_rule = 'each_month', due_triggers = '{uses:10,idle:40}'
         FROM plans p JOIN instruments i ON i.id = p.instrument_id
         WHERE p.id = v.plan_id AND i.tag = 'R-02'",
    )
    .await
    .unwrap();
    let aino = Bench::aino(&server.base).await;
    let on_round = async || aino.get("/").await.all("table.round .name").join(" ").contains("R-02");
    assert!(!on_round().await, "its last check is of today");
    let bad = post(&aino, "/instruments/R-02/uses", &[("count", "-3")]).await;
    assert_eq!(bad.status, StatusCode::UNPROCESSABLE_ENTITY);
    post(&aino, "/instruments/R-02/uses", &[("count", "9"), ("lot", "L-1")]).await;
    assert!(!on_round().await);
    post(&aino, "/instruments/R-02/uses", &[("count", "1")]).await;
    assert!(on_round().await);
    assert!(aino.get("/").await.text.contains("due after 10 uses"));
    aino.run("R-02", &GOOD).await;
    let (_, fine) = release(&aino, "instrument=R-02").await;
    assert_eq!(fine["released"], true, "{fine}");
    // Neither used nor checked for two days.
    clock.pass(41 * 3600);
    assert!(aino.get("/").await.text.contains("due after 40 hours of idle time"));
}
