//! Any other gauge in the browserless browser: settings, conditions, waits, both directions.

use std::sync::Arc;

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

async fn refused(bench: &Bench, path: &str, typed: &str) -> Page {
    let answer = bench.send(path, typed).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{typed}: {}", answer.text);
    assert_eq!(answer.attribute("#typed", "value").as_deref(), Some(typed), "kept in the field");
    answer
}

async fn kept(bench: &Bench, path: &str, typed: &str) {
    let answer = bench.send(path, typed).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{typed}: {}", answer.text);
}

/// The pot thermometer up to the start of its wait.
pub async fn thermometer(bench: &Bench) -> String {
    let path = bench.start("R-21").await;
    bench.confirm(&path).await;
    kept(bench, &path, "tr-1").await;
    kept(bench, &path, "Pt100").await;
    kept(bench, &path, "°C").await;
    kept(bench, &path, "21,4").await;
    bench.confirm(&path).await;
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn settings_and_conditions_stop_the_check_before_the_first_reading() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("R-21").await;
    bench.confirm(&path).await;
    let wrong = refused(&bench, &path, "TR-2").await;
    assert!(wrong.words("#typed-error").contains("not in the register"));
    let wrong = refused(&bench, &path, "PR-1").await;
    assert!(wrong.words("#typed-error").contains("not the standard of this plan"));
    kept(&bench, &path, "TR-1").await;

    assert_eq!(bench.get(&path).await.words("h1"), "What is the probe type set to?");
    let wrong = refused(&bench, &path, "K").await;
    assert!(
        wrong
            .words("#typed-error")
            .starts_with("The check stops here: the probe type must be Pt100")
    );
    let empty = bench.send(&path, "").await;
    assert!(empty.words("#typed-error").starts_with("Read the probe type on the instrument"));
    kept(&bench, &path, "pt 100").await;
    kept(&bench, &path, "°C").await;

    let hot = refused(&bench, &path, "30,5").await;
    assert_eq!(
        hot.words("#typed-error"),
        "Room temperature is 30.5 °C; 15 to 30 °C is needed. Shut the door and wait, or check it in the next shift."
    );
    kept(&bench, &path, "30").await;
    assert_eq!(bench.get(&path).await.words("h1"), "Make the gauge ready");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wait_runs_on_the_server_and_stands_on_every_page() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let bench = Bench::aino(&server.base).await;
    let path = thermometer(&bench).await;
    let page = bench.get(&path).await;
    assert!(page.words(".detail").starts_with("At least 10 min."), "{}", page.words(".detail"));
    bench.send(&path, "").await;

    // It is on every page, and another check can go on meanwhile.
    for elsewhere in ["/", "/charts"] {
        let page = bench.get(elsewhere).await;
        let timer = page.words("nav.timers");
        assert!(timer.contains("R-21") && timer.contains("ready at 22:44"), "{timer}");
        assert_eq!(page.attribute("nav.timers a", "href").as_deref(), Some(path.as_str()));
        assert_eq!(page.attribute("nav.timers a", "data-left").as_deref(), Some("600"));
    }
    clock.pass(599);
    let early = bench.send(&path, "").await;
    assert_eq!(early.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(early.words("#typed-error").starts_with("Too early by 1 s"), "{}", early.text);

    // A colleague finds the same clock on another device.
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    clock.pass(1);
    let page = teemu.get("/").await;
    assert!(page.words("nav.timers").contains("ready since 22:44"));
    assert!(page.find("nav.timers a.ready").is_some());
    assert_eq!(teemu.take_over(&path).await.status, StatusCode::SEE_OTHER);
    kept(&teemu, &path, "").await;
    assert!(teemu.get("/").await.find("nav.timers").is_none(), "over, and nothing binds any more");
    for reading in ["60.0", "109,9", "160.0", "160.1"] {
        kept(&teemu, &path, reading).await;
    }
    let verdict = teemu.finish(&path).await;
    assert_eq!(verdict.words("h1"), "Pot thermometer R-21: Within tolerance, as it normally is");
    let row = verdict
        .all("table.results tbody tr")
        .into_iter()
        .find(|row| row.starts_with("Error at 160 °C"))
        .unwrap();
    // The mean of 160.0 and 160.1 less the certified 160.05; 0.7 % of 160.05 are 1.12035, with the places of the display.
    assert!(row.contains("0.00 °C") && row.contains("±1.1 ") && !row.contains("1.12"), "{row}");
}

#[tokio::test(flavor = "multi_thread")]
async fn too_late_starts_the_wait_again_and_voids_what_was_read() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let mut owner = server.owner().await;
    owner
        .batch_execute(
            "ALTER TABLE plan_versions DISABLE TRIGGER plan_versions_kept;
             UPDATE plan_versions v SET settings = jsonb_set(settings, '{waits,0,maximum_seconds}', '900')
             FROM plans p JOIN instruments i ON i.id = p.instrument_id
             WHERE p.id = v.plan_id AND i.tag = 'R-21'",
        )
        .await
        .unwrap();
    let bench = Bench::aino(&server.base).await;
    let path = thermometer(&bench).await;
    bench.send(&path, "").await;
    clock.pass(660);
    kept(&bench, &path, "").await;
    let page = bench.get(&path).await;
    assert_eq!(page.words("p.bound").replace(" .", "."), "The last reading must be kept by 22:49.");
    assert!(page.words("nav.timers").contains("readings by 22:49"));
    kept(&bench, &path, "60.0").await;
    clock.pass(300);
    let late = refused(&bench, &path, "109.9").await;
    assert!(late.words("#typed-error").starts_with("Too late by 60 s"), "{}", late.text);
    assert!(bench.get("/").await.words("nav.timers").contains("too late since 22:49"));

    // The way out is there: the wait begins again, and what was read since does not count.
    let again = bench.get(&late.attribute(".entry a.plain-button", "href").unwrap()).await;
    assert!(again.words("h1").starts_with("Again: Let probe"), "{}", again.words("h1"));
    let warning = again.words(".step .notice");
    assert!(warning.contains("60 °C") && !warning.contains("110 °C"), "{warning}");
    let bare = bench.send_form(&path, &again, &[]).await;
    assert!(bare.words("#reason-error").starts_with("Say in a few words"));
    bench.send_form(&path, &again, &[("reason", "called away")]).await;
    let page = bench.get(&path).await;
    assert!(page.words("h1").starts_with("Waiting: let probe"), "{}", page.words("h1"));
    clock.pass(600);
    kept(&bench, &path, "").await;
    for reading in ["60.1", "109.9", "160.0", "160.1"] {
        kept(&bench, &path, reading).await;
    }
    // All is read in time; what is left is to put things away, and that has no hurry.
    clock.pass(3_600);
    assert!(bench.get("/").await.find("nav.timers").is_none());
    let verdict = bench.finish(&path).await;
    let rows = verdict.all("table.results tbody tr");
    let row = rows.iter().find(|row| row.starts_with("Error at 60 °C")).unwrap();
    assert!(row.contains("+0.1 °C"), "60.1 less 60.02, not the 60.0 that was voided: {row}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pressure_gauge_is_read_up_and_down() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("P-11").await;
    bench.confirm(&path).await;
    kept(&bench, &path, "PR-1").await;
    kept(&bench, &path, "BAR").await;
    bench.confirm(&path).await;
    let page = bench.get(&path).await;
    assert_eq!(page.words("h1"), "Go to 80 bar");
    assert!(page.attribute("svg.scene", "aria-label").unwrap().starts_with("Point 1 of 5: 80 bar"));
    kept(&bench, &path, "81").await;
    let far = refused(&bench, &path, "21").await;
    assert!(far.words("#typed-error").starts_with("Is the reference at 200 bar?"));
    for reading in ["200", "321", "201", "81"] {
        kept(&bench, &path, reading).await;
    }
    let verdict = bench.finish(&path).await;
    let rows = verdict.all("table.results tbody tr");
    let hysteresis =
        rows.iter().find(|row| row.starts_with("Falling minus rising at 200")).unwrap();
    assert!(hysteresis.contains("+1 bar") && hysteresis.contains("±4"), "{hysteresis}");
    let up = rows.iter().find(|row| row.starts_with("Error at 80 bar, rising")).unwrap();
    assert!(up.contains("+1 bar") || up.contains("+0.98 bar"), "{up}");
}
