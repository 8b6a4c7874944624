//! Thickness as a technician measures it: an ultrasonic gauge on its step block, a coating gauge on foils over a bare base.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{ilma, lines, post, with_clock};

/// Makes the plan of a cell due now, and begins its check; the clock stands where it is then.
pub async fn begun(clock: &HandClock, server: &Server, cell: &str, tag: &str) -> (Bench, String) {
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(server).await);
    clock.pass(60);
    let plan = lines(
        &server.database,
        &format!(
            "SELECT p.id::text AS line FROM plans p JOIN set_ups s ON s.id = p.set_up_id WHERE s.name = '{cell}'"
        ),
    )
    .await
    .remove(0);
    let order = [("reason", "it fell off the bench")];
    let ordered = post(&ilma, &format!("/plans/{plan}/order"), &order).await;
    assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
    clock.pass(60);
    let path = aino.start(tag).await;
    (aino, path)
}

/// The next step that reads something.
pub async fn asked(clock: &HandClock, aino: &Bench, path: &str) -> Page {
    for _ in 0..20 {
        clock.pass(40);
        let page = aino.get(path).await;
        if page.find("form.entry.reading").is_some() {
            return page;
        }
        if page.words("h1").contains("Waiting") {
            clock.pass(1_800);
        }
        let answer = match page.words("h1").contains("Temperature of the block") {
            true => aino.send_form(path, &page, &[("typed", "20,0")]).await,
            false => aino.confirm(path).await,
        };
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    }
    panic!("no reading is asked for");
}

pub async fn read(clock: &HandClock, aino: &Bench, path: &str, typed: &str) {
    let page = asked(clock, aino, path).await;
    let kept = aino.send_form(path, &page, &[("typed", typed)]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{typed}: {}", kept.words("main"));
}

#[tokio::test(flavor = "multi_thread")]
async fn velocity_and_zero_are_told_apart_on_a_step_block() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, "5 MHz, 10 mm, mm, press plate steel", "P-41").await;
    let velocity = asked(&clock, &aino, &path).await;
    assert!(
        velocity.words("h1").contains("velocity which the gauge is set to"),
        "{}",
        velocity.text
    );
    assert!(velocity.words("main").contains("5934 m/s ± 1 %"), "{}", velocity.words("main"));
    // Of another material, or slipped: asked about before it is kept, in its own unit.
    let far = aino.send_form(&path, &velocity, &[("typed", "3200")]).await;
    assert_eq!(far.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(far.words("main").contains("in metres a second"), "{}", far.words("main"));
    let velocity = aino.get(&path).await;
    aino.send_form(&path, &velocity, &[("typed", "5940")]).await;
    let first = asked(&clock, &aino, &path).await;
    assert!(first.words("h1").contains("Measure the 2.5 mm step"), "{}", first.words("main"));
    assert!(first.words("main").contains("not used to set the gauge"), "{}", first.words("main"));
    assert!(first.text.contains("<svg"), "the block is drawn");
    for shown in ["2.56", "2,55", "2.56", "5.06", "5.06", "10.06", "10.05"] {
        read(&clock, &aino, &path, shown).await;
    }
    // Before the last step the line is there already.
    let last = asked(&clock, &aino, &path).await;
    assert!(last.words("main").contains("Pattern of the errors"), "{}", last.words("main"));
    assert!(last.find("figure.plot-box").is_some());
    for shown in ["20.06", "20.05"] {
        read(&clock, &aino, &path, shown).await;
    }
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    for words in [
        "Error at 2.5 mm",
        "Velocity that it is set to",
        "5940 m/s",
        "Velocity that the steps speak for, at 20 °C",
        "Zero that the steps speak for",
        "Largest departure from a line",
        "5875 to 5993",
        "the same at every step: the probe zero",
    ] {
        assert!(table.contains(words), "{words}: {table}");
    }
    assert!(!verdict.words("figure.plot-box").is_empty(), "the curve stays on the verdict");
    let record = aino.get(&format!("{path}/record")).await;
    assert!(record.find("figure.plot-box").is_some() && record.text.contains("5940"));
    let charts = lines(
        &server.database,
        "SELECT s.characteristic_key || ' ' || s.unit AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'P-41' AND derived IS NULL ORDER BY s.id",
    )
    .await;
    assert_eq!(
        charts,
        ["error-2.5 µm", "error-10 µm", "error-20 µm", "velocity-by-steps m/s", "zero-by-steps µm"]
    );
    // Each page that speaks of it stands.
    for at in ["/instruments/P-41", "/standards/SB-5", "/instruments/P-41/evidence", "/culprit"] {
        assert_eq!(aino.get(at).await.status, StatusCode::OK, "{at}");
    }
}

/// A worn face makes the thin step thick; what is done about it is left to a lead.
#[tokio::test(flavor = "multi_thread")]
async fn a_worn_probe_is_named() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, "5 MHz, 10 mm, mm, press plate steel", "P-41").await;
    for shown in
        ["5934", "2.62", "2.62", "2.61", "5.00", "5.00", "10.00", "10.00", "20.00", "20.00"]
    {
        let page = asked(&clock, &aino, &path).await;
        let sent = aino.send_form(&path, &page, &[("typed", shown)]).await;
        if sent.status == StatusCode::UNPROCESSABLE_ENTITY {
            aino.send_form(&path, &sent, &[("typed", shown), ("confirm_far", shown)]).await;
        }
    }
    let verdict = aino.finish(&path).await;
    let words = verdict.words("main");
    assert!(words.contains("Out of tolerance"), "{words}");
    assert!(words.contains("the thinnest step alone: a worn probe face"), "{words}");
    let ilma = ilma(&server).await;
    let adjust = ilma.get(&format!("{path}/adjust")).await;
    assert_eq!(adjust.status, StatusCode::OK, "{}", adjust.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foil_on_another_base_is_refused() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, "magnetic, µm, blasted steel", "C-21").await;
    let mut page = aino.get(&path).await;
    for _ in 0..12 {
        if page.words("h1").contains("Take the base") {
            break;
        }
        clock.pass(20);
        aino.confirm(&path).await;
        page = aino.get(&path).await;
    }
    let wrong = aino.send_form(&path, &page, &[("typed", "BP-1")]).await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.words("main").contains("BP-2"), "{}", wrong.words("main"));
    let page = aino.get(&path).await;
    aino.send_form(&path, &page, &[("typed", "bp-2")]).await;
    let bare = asked(&clock, &aino, &path).await;
    assert!(bare.words("h1").contains("Read the bare base"), "{}", bare.words("main"));
    for shown in ["2", "3", "2", "3", "2"] {
        read(&clock, &aino, &path, shown).await;
    }
    let foil = asked(&clock, &aino, &path).await;
    assert!(foil.words("h1").contains("Measure the 50 µm foil"), "{}", foil.words("main"));
    for shown in ["51", "52", "51", "129", "128", "129", "501", "500", "502"] {
        read(&clock, &aino, &path, shown).await;
    }
    let again = asked(&clock, &aino, &path).await;
    assert!(again.words("h1").contains("bare base once more"), "{}", again.words("main"));
    for shown in ["2", "2", "3", "2", "2"] {
        read(&clock, &aino, &path, shown).await;
    }
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    for words in [
        "Error at 50 µm",
        "Bare base",
        "Bare base after the foils, minus before",
        "Within tolerance",
    ] {
        assert!(table.contains(words), "{words}: {table}");
    }
    // 51.33 − 48.7 − 2.4.
    assert!(table.contains("+0.2 µm"), "{table}");
    // What was refused stands on the record.
    let record = aino.get(&format!("{path}/record")).await;
    assert!(record.text.contains("BP-1"), "the other base stands on the record");
}
