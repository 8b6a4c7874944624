//! Photometers as a technician checks them: a curve from standards with a control of another lot, and grey filters.

use reqwest::StatusCode;

use crate::web_chart_room::{lines, with_clock};
use crate::web_thickness::{asked, begun, read};

const CELL: &str = "10 mm cell, mg/L, tin by 490 nm";

/// Blank twice, 1, 2, 4, 6 and 8 mg/L twice each, the control of 5 mg/L twice.
const SHOWN: [&str; 14] = [
    "0.002", "0.003", "0.154", "0,155", "0.306", "0.307", "0.611", "0.611", "0.914", "0.915",
    "1.219", "1.218", "0.763", "0.762",
];

#[tokio::test(flavor = "multi_thread")]
async fn a_curve_reads_its_control_back() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, CELL, "C-12").await;
    let blank = asked(&clock, &aino, &path).await;
    assert!(blank.words("h1").contains("Read the blank"), "{}", blank.words("main"));
    assert!(blank.text.contains("<svg"), "the cell is drawn");
    for shown in &SHOWN[..3] {
        read(&clock, &aino, &path, shown).await;
    }
    // The next standard in the cell of this one: asked about before it is kept.
    let standard = asked(&clock, &aino, &path).await;
    assert!(standard.words("h1").contains("TN-1, 1 mg/L"), "{}", standard.words("main"));
    let far = aino.send_form(&path, &standard, &[("typed", "0.306")]).await;
    assert_eq!(far.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(far.words("main").contains("Is it 1 mg/L of TN-1"), "{}", far.words("main"));
    for shown in &SHOWN[3..13] {
        read(&clock, &aino, &path, shown).await;
    }
    // The curve is known: it is seen, and the control is expected where it puts it.
    let control = asked(&clock, &aino, &path).await;
    let words = control.words("main");
    assert!(control.words("h1").contains("Read the control TN-5, 5 mg/L"), "{words}");
    for told in ["Slope, 95 %", "Lack of fit", "a straight line fits", "Residuals"] {
        assert!(words.contains(told), "{told}: {words}");
    }
    read(&clock, &aino, &path, SHOWN[13]).await;
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    for told in [
        "Within tolerance",
        "Error at 5 mg/L",
        "Error at 8 mg/L, calibration standard",
        "Slope per mg/L",
        "Intercept",
        "Highest absorbance",
        "above 1.000 Abs stray light and noise bend a calibration curve",
        "Calibration standards",
    ] {
        assert!(table.contains(told), "{told}: {table}");
    }
    // Both lots are what it rests on.
    assert!(table.contains("V-2314") && table.contains("V-2315"), "{table}");
    let record = aino.get(&format!("{path}/record")).await;
    assert!(record.find("figure.plot-box").is_some() && record.text.contains("0.763"));
    let charts = lines(
        &server.database,
        "SELECT s.characteristic_key || ' ' || s.unit AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'C-12' AND derived IS NULL ORDER BY s.id",
    )
    .await;
    assert_eq!(charts, ["error-5 mg/L", "blank Abs", "slope Abs", "intercept Abs"]);
    for at in ["/instruments/C-12", "/standards/TN-5", "/instruments/C-12/evidence", "/plans"] {
        assert_eq!(aino.get(at).await.status, StatusCode::OK, "{at}");
    }
}

/// Another blank makes everything new that was read against it.
#[tokio::test(flavor = "multi_thread")]
async fn a_blank_that_is_read_again_voids_what_follows() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, CELL, "C-12").await;
    for shown in &SHOWN[..6] {
        read(&clock, &aino, &path, shown).await;
    }
    let page = asked(&clock, &aino, &path).await;
    assert!(page.words("h1").contains("TN-1, 4 mg/L"), "{}", page.words("h1"));
    let check = path.trim_start_matches("/checks/");
    let blank = lines(
        &server.database,
        &format!(
            "SELECT id::text AS line FROM readings WHERE check_id = {check} AND step_key = 'blank' ORDER BY id"
        ),
    )
    .await
    .remove(0);
    let again = aino.get(&format!("{path}?correct={blank}")).await;
    let typed = [("typed", "0.001"), ("reason", "a bubble sat in the beam")];
    let done = aino.send_form(&path, &again, &typed).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let now = asked(&clock, &aino, &path).await;
    assert!(now.words("h1").contains("TN-1, 1 mg/L"), "{}", now.words("h1"));
    let void = lines(
        &server.database,
        &format!(
            "SELECT r.step_key AS line FROM reading_voids v JOIN readings r ON r.id = v.reading_id WHERE r.check_id = {check} ORDER BY r.id"
        ),
    )
    .await;
    assert_eq!(void.len(), 4, "{void:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lamp_that_is_out_fails_the_curve() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, CELL, "C-12").await;
    for nth in 0..14 {
        let page = asked(&clock, &aino, &path).await;
        let sent = aino.send_form(&path, &page, &[("typed", "0.001")]).await;
        if sent.status == StatusCode::UNPROCESSABLE_ENTITY {
            let typed = [("typed", "0.001"), ("confirm_far", "0.001")];
            let kept = aino.send_form(&path, &sent, &typed).await;
            assert_eq!(kept.status, StatusCode::SEE_OTHER, "{nth}: {}", kept.words("main"));
        }
    }
    let verdict = aino.finish(&path).await;
    let words = verdict.words("main");
    assert!(words.contains("Out of tolerance"), "{words}");
    assert!(words.contains("the calibration curve does not rise"), "{words}");
    assert!(!words.contains("Error at 5 mg/L"), "{words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn grey_filters_by_their_absorbance() {
    let (clock, server) = with_clock().await;
    let (aino, path) = begun(&clock, &server, "10 mm holder, Abs, 546 nm", "C-11").await;
    for shown in ["0.304", "0.305", "0.305", "0.601", "0.602", "0.601", "0.999", "1.000", "0.999"] {
        read(&clock, &aino, &path, shown).await;
    }
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    assert!(table.contains("Within tolerance") && table.contains("Error at 0.6 Abs"), "{table}");
}
