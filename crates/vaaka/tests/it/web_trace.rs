//! A check whose readings are traces: the file is taken, refused or asked about, kept with its numbers and as it came, and
//! what is found in it is seen while measuring, judged, charted and computed again.

use std::fmt::Write;
use std::sync::Arc;

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{ilma, lines, number, post, with_clock};

/// A scan of the colour lab's filter, with all its bands off by so much.
pub fn scan(off: f64) -> String {
    scan_of(&[352.41, 431.78, 528.63, 619.28], off, 0.5)
}

fn scan_of(bands: &[f64], off: f64, step: f64) -> String {
    let mut text = String::from("# scan\r\nWavelength (nm);Absorbance\r\n");
    let points = (290.0 / step) as usize;
    for index in 0..=points {
        let x = 342.0 + step * index as f64;
        let y: f64 = bands.iter().map(|at| 0.5 * (-((x - at - off) / 3.4).powi(2)).exp()).sum();
        let line = format!("{x:.2};{:.5}\r\n", 0.05 + y).replace('.', ",");
        text.write_str(&line).unwrap();
    }
    text
}

pub struct Case {
    pub server: Server,
    pub teemu: Bench,
    pub ilma: Bench,
    pub path: String,
}

impl Case {
    /// A check of the spectrophotometer up to its first scan, ordered by a lead since it is due on Mondays.
    pub async fn begun() -> Self {
        let (clock, server) = with_clock().await;
        let ilma = ilma(&server).await;
        let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
        let reason = [("reason", "the lamp was changed this afternoon")];
        let plan = number(&server.database, "SELECT p.id AS number FROM plans p JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'C-13'").await;
        let ordered = post(&ilma, &format!("/plans/{plan}/order"), &reason).await;
        assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
        let path = teemu.start("C-13").await;
        let case = Self { server, teemu, ilma, path };
        case.up_to_the_scan(&clock).await;
        case
    }

    async fn up_to_the_scan(&self, clock: &Arc<HandClock>) {
        for _ in 0..8 {
            let page = self.teemu.get(&self.path).await;
            if page.find("form.entry.trace").is_some() {
                return;
            }
            if page.find("form.entry.wait-start").is_some() {
                self.teemu.send_form(&self.path, &page, &[]).await;
                clock.pass(901);
            } else if page.find("form.entry.wait-over").is_some() {
                self.teemu.send_form(&self.path, &page, &[]).await;
            } else {
                self.teemu.confirm(&self.path).await;
            }
        }
        panic!("no scan is asked for: {}", self.teemu.get(&self.path).await.words("h1"));
    }

    /// Sends a file to the step that is shown.
    async fn send(&self, name: &str, bytes: &[u8], more: &[(&str, &str)]) -> Page {
        let page = self.teemu.get(&self.path).await;
        let fields = page.form("form.entry");
        let mut parts: Vec<(&str, &str)> =
            fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        parts.extend(more);
        self.teemu.send_parts(&format!("{}/entries", self.path), &parts, name, bytes).await
    }

    async fn kept(&self, off: f64) {
        let answer = self.send("scan one.csv", scan(off).as_bytes(), &[]).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    }

    async fn refused(&self, name: &str, bytes: &[u8]) -> String {
        let answer = self.send(name, bytes, &[]).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{name}: {}", answer.text);
        answer.words("#typed-error")
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn scans_are_kept_seen_judged_charted_and_computed_again() {
    let case = Case::begun().await;
    let page = case.teemu.get(&case.path).await;
    assert!(
        page.words("h1").starts_with("Scan the standard from 344 to 628 nm"),
        "{}",
        page.words("h1")
    );
    assert!(
        page.words(".detail").contains("In steps of 0.5 nm at most"),
        "{}",
        page.words(".detail")
    );
    case.kept(0.11).await;

    // What was found is seen before the next scan: the curve, each peak, the errors against their limits.
    let page = case.teemu.get(&case.path).await;
    assert!(page.words(".detail").contains("Reading 2 of 2"), "{}", page.words(".detail"));
    let facts = page.words("table.facts");
    assert!(facts.contains("Peak at 352.4 nm") && facts.contains("352.51"), "{facts}");
    assert!(page.text.contains("class=\"plot-line\"") && page.text.contains("plot-found"));
    let values = page.attribute("[data-plot]", "data-plot").unwrap();
    let values: serde_json::Value = serde_json::from_str(&values).unwrap();
    assert!(values["points"].as_array().unwrap().len() > 500);
    assert_eq!(page.all(".live-bars tbody tr").len(), 4);
    // Beside the step stands its file, and a way to correct it.
    assert!(
        page.words("table.kept").contains("scan one.csv, 581 points"),
        "{}",
        page.words("table.kept")
    );
    case.kept(0.13).await;
    let review = case.teemu.get(&case.path).await;
    assert!(review.find("form.entry.review").is_some(), "{}", review.words("h1"));
    let verdict = case.teemu.finish(&case.path).await;
    assert!(verdict.words("h1").contains("Within tolerance"), "{}", verdict.words("h1"));
    let row = verdict.words("table.results");
    assert!(row.contains("Error at 352.4 nm") && row.contains("+0.11"), "{row}");
    assert!(verdict.text.contains("plot-line"));

    // The record draws it, too, and gives the file as it came, to the byte.
    let record = case.ilma.get(&format!("{}/record", case.path)).await;
    assert!(record.text.contains("plot-line") && record.words("main").contains("scan one.csv"));
    let files = record.hrefs("table.entries a");
    assert_eq!(files.len(), 2, "{files:?}");
    let file = case.ilma.get(&files[0]).await;
    assert_eq!(file.text, scan(0.11));
    let odd = files[0].replace("/checks/", "/checks/1");
    assert_eq!(case.ilma.get(&odd).await.status, StatusCode::NOT_FOUND, "a file of another check");

    // Numbers, digest and file fit together, in the database as in the trail.
    let rows = lines(
        &case.server.database,
        "SELECT t.points || ' ' || array_length(t.axis, 1) || ' ' || c.name || ' ' || array_length(c.re, 1) || ' '
             || (a.detail->'value'->>'digest' = encode(t.digest, 'hex')) || ' ' || (length(a.detail::text) < 500) AS line
         FROM traces t JOIN trace_channels c USING (reading_id) JOIN readings r ON r.id = t.reading_id
         JOIN audit_entries a ON a.chain = 'check:' || r.check_id AND a.detail->>'repeat' = r.repeat::text
             AND a.detail->>'step' = r.step_key
         WHERE r.check_id = (SELECT max(id) FROM checks) ORDER BY r.id",
    )
    .await;
    assert_eq!(rows, ["581 581 absorbance 581 true true"; 2]);
    let charted = number(
        &case.server.database,
        "SELECT count(*) AS number FROM chart_points WHERE check_id = (SELECT max(id) FROM checks)
         AND abs(value - 0.12) < 0.02",
    )
    .await;
    assert_eq!(charted, 4);
    assert!(case.ilma.look_over(&case.server).await.contains("Unbroken"));
}

/// Everything that is no such trace is refused at its place with what to do, and nothing of it is kept.
#[tokio::test(flavor = "multi_thread")]
async fn files_of_every_wrong_kind_are_refused_in_words() {
    let case = Case::begun().await;
    let good = scan(0.0);
    let cut = &good[..good.len() - 9];
    let falling_twice = format!("{good}{}", good.lines().skip(2).collect::<Vec<_>>().join("\n"));
    let gap: String = good
        .lines()
        .enumerate()
        .filter(|(n, _)| !(200..210).contains(n))
        .map(|(_, l)| format!("{l}\n"))
        .collect();
    let missing = good.replacen(";0,05000", ";", 1);
    let nan = good.replacen("0,05000", "NaN", 1);
    let wavenumber = good.replace("Wavelength (nm)", "Wavenumber (cm-1)");
    let mixed = good.replacen("342,00", "342.00", 1);
    let three = good.replace("\r\n", ";1,5\r\n");
    let cases: [(&str, &[u8], &str); 14] = [
        ("empty.csv", b"", "Choose the file with the spectrum"),
        ("words.csv", b"a report\nof nothing\n", "no rows of numbers"),
        ("sheet.xlsx", b"PK\x03\x04rest", "This is a workbook"),
        ("picture.png", b"\x89PNG\r\n\x1a\n\x00\x01", "is not text"),
        ("cut.csv", cut.as_bytes(), "the file is cut off, or a value is missing"),
        ("missing.csv", missing.as_bytes(), "has 1 numbers where the first row has 2"),
        ("nan.csv", nan.as_bytes(), "“NaN” is no number"),
        ("mixed.csv", mixed.as_bytes(), "decimal commas stand beside decimal points"),
        ("twice.csv", falling_twice.as_bytes(), "the wavelength goes back"),
        ("gap.csv", gap.as_bytes(), "Points are missing before line"),
        ("wavenumber.csv", wavenumber.as_bytes(), "in cm-1; nm is wanted"),
        ("three.csv", three.as_bytes(), "has 3 columns; 2 are wanted"),
        (
            "coarse.csv",
            scan_of(&[431.78], 0.0, 1.0).as_bytes().to_vec().leak(),
            "0.5 nm is the longest",
        ),
        (
            "short.csv",
            good.lines().skip(100).collect::<Vec<_>>().join("\n").leak().as_bytes(),
            "is wanted. Set the range",
        ),
    ];
    for (name, bytes, words) in cases {
        let said = case.refused(name, bytes).await;
        assert!(said.contains(words), "{name}: {said}");
    }
    // What was pasted stands there again.
    let page = case.teemu.get(&case.path).await;
    let answer = case.teemu.send_form(&case.path, &page, &[("typed", "1;2\n3;4\n")]).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(answer.find("textarea#typed").as_deref().map(str::trim), Some("1;2 3;4"));
    let kept = "SELECT count(*) AS number FROM traces t JOIN readings r ON r.id = t.reading_id
        WHERE r.check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&case.server.database, kept).await, 0);
    // Of both at once nobody knows which is meant.
    let both = case.send("one.csv", good.as_bytes(), &[("typed", "1;2\n3;4\n")]).await;
    assert_eq!(both.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        both.words("#typed-error").contains("which of them is meant"),
        "{}",
        both.words("#typed-error")
    );
    // Pasted numbers are a trace like a file; other marks and a falling scan, too.
    let falling: Vec<&str> = good.lines().skip(2).collect();
    let falling = falling
        .into_iter()
        .rev()
        .collect::<Vec<_>>()
        .join("\n")
        .replace(',', ".")
        .replace(';', "\t");
    let answer = case.teemu.send_form(&case.path, &page, &[("typed", &falling)]).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("#typed-error"));
    assert_eq!(number(&case.server.database, kept).await, 1);
    assert!(case.teemu.get(&case.path).await.words("table.kept").contains("pasted, 581 points"));
}

/// Sent twice it is one entry; sent to a step that has gone on, or after the check, it is none and says so.
#[tokio::test(flavor = "multi_thread")]
async fn a_trace_that_is_sent_twice_is_kept_once() {
    let case = Case::begun().await;
    let page = case.teemu.get(&case.path).await;
    let fields = page.form("form.entry");
    let parts: Vec<(&str, &str)> =
        fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    let entries = format!("{}/entries", case.path);
    let text = scan(0.0);
    for _ in 0..3 {
        let answer = case.teemu.send_parts(&entries, &parts, "one.csv", text.as_bytes()).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
    }
    let count = "SELECT count(*) AS number FROM readings WHERE kind = 'trace' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&case.server.database, count).await, 1);
    case.kept(0.01).await;
    case.teemu.finish(&case.path).await;
    let late = case.teemu.send_parts(&entries, &parts[..], "one.csv", text.as_bytes()).await;
    assert_eq!(late.location.as_deref(), Some(format!("{}/verdict", case.path).as_str()));
    assert_eq!(number(&case.server.database, count).await, 2);
}

/// A peak that is not there is asked about; the answer holds for these numbers alone, and the check fails and charts nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_missing_peak_is_asked_about_and_fails() {
    let case = Case::begun().await;
    let without = scan_of(&[352.41, 528.63, 619.28], 0.0, 0.5);
    let answer = case.send("no filter.csv", without.as_bytes(), &[]).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY);
    let said = answer.words("#typed-error");
    assert!(said.contains("in the beam? No peak is where 431.8 nm belongs"), "{said}");
    let asked = answer.attribute("button[name=confirm_far]", "value").unwrap();
    let other = scan_of(&[352.41, 528.63, 619.28], 0.01, 0.5);
    let more = [("confirm_far", asked.as_str())];
    let answer = case.send("other.csv", other.as_bytes(), &more).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "a yes for other numbers");
    let answer = case.send("no filter.csv", without.as_bytes(), &more).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("#typed-error"));
    // Nobody makes it disappear: a technician alone cannot void it any more.
    let page = case.teemu.get(&case.path).await;
    assert!(page.words("table.facts").contains("no peak"), "{}", page.words("table.facts"));
    let form = format!("form[action='{}/void']", case.path);
    let mut fields = page.form(&form);
    fields.insert("reason".into(), "draught or vibration".into());
    let voided = case.teemu.post(&format!("{}/void", case.path), &fields).await;
    assert_ne!(voided.status, StatusCode::SEE_OTHER, "{}", voided.text);
    case.kept(0.0).await;
    let verdict = case.teemu.finish(&case.path).await;
    assert!(verdict.words("h1").contains("Out of tolerance"), "{}", verdict.words("h1"));
    assert!(
        verdict.words("table.results").contains("no peak in 1 of 2"),
        "{}",
        verdict.words("table.results")
    );
    let points =
        "SELECT count(*) AS number FROM chart_points WHERE check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&case.server.database, points).await, 3, "no point for what was not found");
    let record = case.ilma.get(&format!("{}/record", case.path)).await.words("main");
    assert!(record.contains("no filter.csv") && record.contains("in the beam?"), "{record}");
}

/// The database refuses what is no trace, whoever writes it.
#[tokio::test(flavor = "multi_thread")]
async fn the_database_refuses_arrays_that_are_no_trace() {
    let case = Case::begun().await;
    case.kept(0.0).await;
    let mut owner = case.server.owner().await;
    let reading = "(SELECT max(id) FROM readings WHERE kind = 'trace')";
    let channel = |points: i32, array: &str| {
        format!(
            "INSERT INTO trace_channels VALUES ({reading}, 9, {points}, 'x', '', {array}, NULL)"
        )
    };
    for (what, statement) in [
        ("unequal", channel(581, "ARRAY[1.0, 2.0]")),
        ("another count", channel(2, "ARRAY[1.0, 2.0]")),
        ("not a number", channel(581, "array_fill('NaN'::float8, ARRAY[581])")),
        ("infinite", channel(581, "array_fill('Infinity'::float8, ARRAY[581])")),
        ("a gap", channel(581, "array_fill(NULL::float8, ARRAY[581])")),
        ("two dimensions", channel(581, "array_fill(1::float8, ARRAY[3, 187])")),
        ("changed", format!("UPDATE trace_channels SET re[1] = 7 WHERE reading_id = {reading}")),
        ("taken away", format!("DELETE FROM trace_channels WHERE reading_id = {reading}")),
        ("another file", format!("UPDATE traces SET bytes = 'x' WHERE reading_id = {reading}")),
        (
            "a trace of a tick",
            "INSERT INTO traces SELECT r.id, points, axis_unit, axis, digest, name, bytes, sha256
             FROM traces, (SELECT id FROM readings WHERE kind = 'confirmed' ORDER BY id DESC LIMIT 1) r
             ORDER BY reading_id DESC LIMIT 1".to_owned(),
        ),
    ] {
        assert!(owner.batch_execute(&statement).await.is_err(), "{what}");
    }
    // Changed behind its back it is found.
    let changed = format!(
        "SET session_replication_role = replica; UPDATE trace_channels SET re[5] = 0.7 WHERE reading_id = {reading}"
    );
    owner.batch_execute(&changed).await.unwrap();
    let found = case.ilma.look_over(&case.server).await;
    assert!(found.contains("trace") && !found.contains("Unbroken"), "{found}");
}

/// A trace cannot be written down: there is no sheet of paper for such a check, and it says so.
#[tokio::test(flavor = "multi_thread")]
async fn there_is_no_sheet_for_a_trace() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let version = number(&server.database, "SELECT v.id AS number FROM plan_versions v JOIN plans p ON p.id = v.plan_id JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'C-13'").await;
    for path in [format!("/versions/{version}/sheet"), format!("/versions/{version}/late")] {
        let page = ilma.get(&path).await;
        assert_eq!(page.status, StatusCode::CONFLICT, "{path}: {}", page.words("main"));
        assert!(
            page.words("main").contains("cannot be written on paper"),
            "{}",
            page.words("main")
        );
    }
}

/// A JCAMP-DX file serves as columns do, where it says the very quantity that is wanted.
#[tokio::test(flavor = "multi_thread")]
async fn a_spectrum_file_is_taken_for_what_it_says() {
    let case = Case::begun().await;
    let x: Vec<f64> = (0..=580).map(|n| 342.0 + 0.5 * f64::from(n)).collect();
    let band = |x: f64, at: f64| 0.5 * (-((x - at - 0.1) / 3.4).powi(2)).exp();
    let y = x.iter().map(|x| {
        0.05 + [352.41, 431.78, 528.63, 619.28].iter().map(|at| band(*x, *at)).sum::<f64>()
    });
    let spectrum = vaaka_formats::Spectrum {
        title: "filter".into(),
        x_unit: "NANOMETERS".into(),
        y_unit: "ABSORBANCE".into(),
        y: y.collect(),
        x,
    };
    let text = spectrum.written();
    let told =
        case.refused("scan.jdx", text.replace("=ABSORBANCE", "=TRANSMITTANCE").as_bytes()).await;
    assert!(told.contains("absorbance is wanted"), "{told}");
    let told = case.refused("scan.jdx", text.replace("=NANOMETERS", "=1/CM").as_bytes()).await;
    assert!(told.contains("wavelength in nm is wanted"), "{told}");
    let answer = case.send("scan.jdx", text.as_bytes(), &[]).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
    let page = case.teemu.get(&case.path).await;
    assert!(page.words("main").contains("Peak at 352.4 nm"), "{}", page.words("main"));
}
