//! A network analyzer as it is checked in the radio room: short, open and load from raw sweeps, proven by a mismatch.

use std::fmt::Write;

use reqwest::StatusCode;
use vaaka_core::network::{Complex, Load, Offset, OnePort, Standard};

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{lines, number, with_clock};
use crate::web_thickness::begun;

/// The cell of the analyzer that is checked.
pub const CELL: &str = "cable B, Γ, end of cable";

/// The kit KT-2 and the mismatch of the mill, by their models.
fn put_on(word: &str, gigahertz: f64) -> Complex {
    let offset = |delay: f64| Offset { delay: delay * 1e-12, loss: 2.1e9, impedance: 50.0 };
    let standard = match word {
        "open" => Standard::Open { capacitance: [46e-15, 0.0, 0.0, 0.0], offset: offset(27.5) },
        "short" => Standard::Short { inductance: [3e-12, 0.0, 0.0, 0.0], offset: offset(29.8) },
        "load" => Standard::Load {
            load: Load { resistance: 50.0, inductance: 4e-12, capacitance: 0.0 },
            offset: Offset::none(50.0),
        },
        _ => return Complex::from_polar(0.2 - 0.001 * gigahertz, -0.5 - 0.307 * gigahertz),
    };
    standard.reflection(gigahertz * 1e9, 50.0).unwrap()
}

/// A raw sweep as a network file, by magnitude and angle in MHz.
fn sweep(word: &str) -> String {
    let mut text = String::from("! raw, user correction off\n# MHz S MA R 50\n");
    for n in 0..=80 {
        let x = 2.0 + 0.05 * f64::from(n);
        let port = OnePort {
            directivity: Complex::from_polar(0.03, x),
            source_match: Complex::from_polar(0.06, -x),
            tracking: Complex::from_polar(0.92, -3.0 * x),
        };
        let raw = port.measured(put_on(word, x));
        writeln!(text, "{} {} {}", (x * 1000.0).round(), raw.norm(), raw.arg().to_degrees())
            .unwrap();
    }
    text
}

/// Sends a file to the step that is shown.
async fn sent(bench: &Bench, path: &str, name: &str, text: &str) -> Page {
    let page = bench.get(path).await;
    let fields = page.form("form.entry");
    let parts: Vec<(&str, &str)> =
        fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    bench.send_parts(&format!("{path}/entries"), &parts, name, text.as_bytes()).await
}

/// A check up to its first sweep.
async fn up_to_the_short(clock: &HandClock, server: &Server) -> (Bench, String) {
    let (aino, path) = begun(clock, server, CELL, "V-02").await;
    for _ in 0..20 {
        let page = aino.get(&path).await;
        if page.find("form.entry.trace").is_some() {
            return (aino, path);
        }
        if page.words("h1").contains("Waiting") {
            clock.pass(1_900);
        }
        let answer = aino.confirm(&path).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    }
    panic!("no sweep is asked for");
}

async fn kept(bench: &Bench, path: &str, word: &str) {
    let answer = sent(bench, path, "sweep.s1p", &sweep(word)).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{word}: {}", answer.words("main"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_port_is_proven_by_a_piece_that_made_no_part_of_it() {
    let (clock, server) = with_clock().await;
    let (aino, path) = up_to_the_short(&clock, &server).await;
    let short = aino.get(&path).await;
    assert!(short.words("h1").contains("Connect the short and sweep"), "{}", short.words("h1"));
    assert!(short.words("main").contains("turn only the nut"), "{}", short.words("main"));
    // Files that do not fit are refused with what to do.
    for (text, words) in [
        ("# GHz S RI R 75\n2 0 0\n3 0 0\n6 0 0\n", "75 Ω; 50 Ω is wanted"),
        ("# GHz Z RI R 50\n2 0 0\n", "Z parameters"),
        ("# GHz S RI R 50\n2 0 0\n3 0\n", "Line 3"),
        ("# GHz S RI R 50\n1 1 0 0 0 0 0 1 0\n2 1 0 0 0 0 0 1 0\n", "9 columns; 3 are wanted"),
        ("# GHz S RI R 50\n2 1 0\n2.02 1 0\n2.04 1 0\n", "2.04"),
    ] {
        let answer = sent(&aino, &path, "odd.s1p", text).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{text}");
        let told = answer.words("#typed-error");
        assert!(told.contains(words), "{words}: {told}");
    }
    kept(&aino, &path, "short").await;
    kept(&aino, &path, "open").await;
    // What was put on is seen beside its model before the next step.
    let load = aino.get(&path).await;
    let words = load.words("main");
    assert!(words.contains("Open, relative to the short"), "{words}");
    assert!(load.find("svg.plane").is_some(), "{words}");
    assert!(load.text.contains("return loss"), "values stand ready for the pointer");
    kept(&aino, &path, "load").await;
    kept(&aino, &path, "piece").await;
    let again = aino.get(&path).await;
    assert!(
        again.words("main").contains("Verification standard, corrected"),
        "{}",
        again.words("main")
    );
    assert!(again.words("main").contains("directivity −30.5 dB"), "{}", again.words("main"));
    kept(&aino, &path, "piece").await;
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    for told in [
        "Within tolerance",
        "Error at 2.45 GHz, real",
        "Error at 5.8 GHz, imaginary",
        "Smallest separation of two standards",
        "Range at 5.8 GHz, real",
        "Calibration kit, definition",
    ] {
        assert!(table.contains(told), "{told}: {table}");
    }
    let charts = lines(
        &server.database,
        "SELECT s.characteristic_key || ' ' || s.unit AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'V-02' AND derived IS NULL ORDER BY s.id",
    )
    .await;
    assert_eq!(
        charts,
        [
            "vector-2.45-real Γ",
            "vector-2.45-imaginary Γ",
            "vector-5.8-real Γ",
            "vector-5.8-imaginary Γ"
        ]
    );
    let record = aino.get(&format!("{path}/record")).await;
    assert!(record.find("svg.plane").is_some() && record.text.contains("sweep.s1p"));
    for at in ["/instruments/V-02", "/standards/VM-1", "/instruments/V-02/evidence"] {
        assert_eq!(aino.get(at).await.status, StatusCode::OK, "{at}");
    }
}

/// A check up to its settings, which stand on one screen.
pub async fn up_to_the_settings(clock: &HandClock, server: &Server) -> (Bench, String, Page) {
    let (aino, path) = begun(clock, server, CELL, "V-02").await;
    for _ in 0..6 {
        let page = aino.get(&path).await;
        if page.find("form.values").is_some() {
            return (aino, path, page);
        }
        aino.confirm(&path).await;
    }
    panic!("no settings are asked for");
}

/// What fits is kept, each by itself; what does not is told at its place and stays on record; what is empty stays open.
#[tokio::test(flavor = "multi_thread")]
async fn several_settings_on_one_screen() {
    let (clock, server) = with_clock().await;
    let (aino, path, page) = up_to_the_settings(&clock, &server).await;
    let kept = "SELECT step_key || ' ' || typed AS line FROM readings WHERE kind = 'setting' AND check_id = (SELECT max(id) FROM checks) ORDER BY id";
    assert_eq!(page.words("h1"), "What is it set to?");
    assert!(page.words("main").contains("5 of 5 are open"), "{}", page.words("main"));
    assert_eq!(page.all("form.values label.value-name").len(), 5);
    // Nothing typed at all: each says what it asks for, and nothing is kept.
    let nothing = aino.keep_values(&path, &page, &["", " ", "", "", ""]).await;
    assert_eq!(nothing.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(nothing.all("form.values .field-error").len(), 5);
    let typed = ["2", "6000 MHz", "-5 dBm", "", "OFF"];
    let answer = aino.keep_values(&path, &page, &typed).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{}", answer.words("main"));
    let errors = answer.all("form.values .field-error");
    assert_eq!(errors.len(), 1, "{errors:?}");
    assert!(errors[0].contains("the power must be -10 dBm, and “-5 dBm” was typed"), "{errors:?}");
    let still = answer.attributes("form.values [name=typed]", "value");
    assert_eq!(still, ["-5 dBm", ""], "what was typed stands there");
    assert_eq!(answer.all(".value-row.is-kept .value-name").len(), 3);
    let after = ["setting-1 2", "setting-2 6000 MHz", "setting-5 OFF"];
    assert_eq!(lines(&server.database, kept).await, after);
    let found = "SELECT typed AS line FROM attempts WHERE step_key = 'setting-3' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(lines(&server.database, found).await, ["-5 dBm"]);
    // The same form once more, as after a lost answer: nothing is kept twice.
    let again = aino.keep_values(&path, &page, &["2", "6000 MHz", "", "", "OFF"]).await;
    assert_eq!(again.status, StatusCode::SEE_OTHER, "{}", again.words("main"));
    assert_eq!(lines(&server.database, kept).await, after);
    // The others, and the way goes on.
    let page = aino.get(&path).await;
    let answer = aino.keep_values(&path, &page, &["-10", "1000 Hz"]).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    let next = aino.get(&path).await;
    assert!(next.find("form.values").is_none() && next.find(".ticks").is_some());
    // One of them is corrected by itself.
    let wrong = next.hrefs("table.kept a").remove(1);
    let correcting = aino.get(&wrong).await;
    assert!(correcting.find("form.entry.setting").is_some(), "{}", correcting.words("main"));
}

/// In somebody else's hand nothing is kept and everything typed is told; of a check that is void nothing is kept, either.
#[tokio::test(flavor = "multi_thread")]
async fn settings_are_kept_by_whoever_has_the_check_in_hand() {
    let (clock, server) = with_clock().await;
    let (aino, path, page) = up_to_the_settings(&clock, &server).await;
    let count =
        "SELECT count(*) AS number FROM readings WHERE check_id = (SELECT max(id) FROM checks)";
    let before = number(&server.database, count).await;
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    let seen = teemu.get(&path).await;
    assert!(seen.find("form.values").is_none(), "it is not theirs to fill in");
    let token =
        seen.form(&format!("form[action='{path}/take-over']")).remove("form_token").unwrap();
    let mut pairs = vec![("form_token", token.as_str())];
    let keys = page.attributes("form.values [name=key]", "value");
    for (step, (key, typed)) in
        ["setting-1", "setting-2", "setting-3"].into_iter().zip(keys.iter().zip(["2", "", "-10"]))
    {
        pairs.extend([("step", step), ("key", key.as_str()), ("typed", typed)]);
    }
    let refused = teemu.post_pairs(&format!("{path}/values"), &pairs).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let told = refused.words(".step .notice");
    assert!(told.contains("somebody else has this check in hand"), "{told}");
    assert!(told.ends_with("What you typed: Start of the sweep 2; Power -10."), "{told}");
    assert_eq!(number(&server.database, count).await, before);
    let mut fields = page.form(&format!("form[action='{path}/void']"));
    fields.insert("reason".into(), "power was lost".into());
    let voided = aino.post(&format!("{path}/void"), &fields).await;
    assert_eq!(voided.status, StatusCode::SEE_OTHER, "{}", voided.words("main"));
    let late = aino.keep_values(&path, &page, &["2", "6", "-10", "1 kHz", "off"]).await;
    assert_eq!(late.status, StatusCode::CONFLICT, "{}", late.words("main"));
    assert!(late.words("main").contains("This check is void"), "{}", late.words("main"));
    assert_eq!(number(&server.database, count).await, before);
}

/// A list of the instrument's program fills in what it says, and keeps nothing.
#[tokio::test(flavor = "multi_thread")]
async fn settings_are_filled_in_from_a_list() {
    let (clock, server) = with_clock().await;
    let (aino, path, page) = up_to_the_settings(&clock, &server).await;
    let number_kept =
        "SELECT count(*) AS number FROM readings WHERE check_id = (SELECT max(id) FROM checks)";
    let before = number(&server.database, number_kept).await;
    let token = page.form("form.values").remove("form_token").unwrap();
    let fill = async |list: &str| {
        let pairs = [
            ("form_token", token.as_str()),
            ("step", "setting-4"),
            ("typed", "1 kHz"),
            ("list", list),
            ("fill", "yes"),
        ];
        aino.post_pairs(&format!("{path}/values"), &pairs).await
    };
    let nothing = fill("nothing of use\n").await;
    assert!(nothing.words(".from-list .notice").starts_with("Nothing could be filled in."));
    let list = "START OF THE SWEEP\t2 GHz\r\nstop of the sweep: 6 GHz\nPower=-10 dBm\npower = -5 dBm\nserial = VV-002\nuser-correction; off";
    let filled = fill(list).await;
    assert_eq!(filled.status, StatusCode::OK, "{}", filled.words("main"));
    let words = filled.words(".from-list .notice");
    assert!(words.starts_with("3 of 5 are filled in, and nothing is kept yet."), "{words}");
    assert!(words.contains("Told twice and differently: Power."), "{words}");
    assert!(words.contains("Not in the list: Bandwidth of the receiver."), "{words}");
    assert!(words.ends_with("One line is of something else."), "{words}");
    assert_eq!(
        filled.attributes("form.values [name=typed]", "value"),
        ["2 GHz", "6 GHz", "", "1 kHz", "off"],
        "what was typed stays where the list says nothing"
    );
    assert_eq!(number(&server.database, number_kept).await, before);
    // Signed out meanwhile: what was typed is there again.
    let nobody = Bench::new(&server.base);
    let sent = nobody.keep_values(&path, &page, &["2", "", "-10 & more", "", ""]).await;
    assert_eq!(sent.status, StatusCode::UNAUTHORIZED);
    let mut fields = sent.form("form");
    fields.insert("name".into(), "aino".into());
    fields.insert("password".into(), "kapea-silta-4".into());
    let back = nobody.post("/sign-in", &fields).await;
    let back = nobody.follow(back).await;
    assert_eq!(
        back.attributes("form.values [name=typed]", "value"),
        ["2", "", "-10 & more", "", ""],
        "{}",
        back.words("main")
    );
    assert_eq!(number(&server.database, number_kept).await, before);
}

/// The short put on for the open: asked about before it is kept; kept all the same, the check fails by it, whatever the piece.
#[tokio::test(flavor = "multi_thread")]
async fn a_short_for_an_open_is_told_at_once() {
    let (clock, server) = with_clock().await;
    let (aino, path) = up_to_the_short(&clock, &server).await;
    kept(&aino, &path, "short").await;
    let asked = sent(&aino, &path, "sweep.s1p", &sweep("short")).await;
    assert_eq!(asked.status, StatusCode::UNPROCESSABLE_ENTITY);
    let told = asked.words("#typed-error");
    assert!(told.contains("looks like the short, not the open"), "{told}");
    let attempts = "SELECT count(*) AS number FROM attempts WHERE kind = 'far' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&server.database, attempts).await, 1);
    // The question is answered for the sweep that was asked about, by its digest.
    let answer = asked.attribute("button[name=confirm_far]", "value").unwrap();
    let page = aino.get(&path).await;
    let mut fields = page.form("form.entry");
    fields.insert("confirm_far".into(), answer);
    let parts: Vec<(&str, &str)> =
        fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    let entries = format!("{path}/entries");
    let all_the_same =
        aino.send_parts(&entries, &parts, "sweep.s1p", sweep("short").as_bytes()).await;
    assert_eq!(all_the_same.status, StatusCode::SEE_OTHER, "{}", all_the_same.words("main"));
    let page = aino.get(&path).await;
    let words = page.words("main");
    assert!(words.contains("looks like the short, not the open"), "{words}");
    for word in ["load", "piece", "piece"] {
        kept(&aino, &path, word).await;
    }
    let verdict = aino.finish(&path).await;
    let words = verdict.words("main");
    assert!(words.contains("Out of tolerance"), "{words}");
    assert!(!words.contains("Error at 2.45 GHz"), "{words}");
}
