//! Traces: the largest file is read, checked and kept; a step with a long curve on it is drawn.

use std::fmt::Write;
use std::time::{Duration, Instant};

use diesel::QueryableByName;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use vaaka_core::network::{Complex, OnePort, TwoPort, one_port_terms, twelve_terms};
use vaaka_core::trace::{ChannelWanted, MOST_COLUMNS, MOST_POINTS, Table, Trace, TraceWanted};
use vaaka_formats::{
    Columns, NumberFormat, Touchstone, TouchstoneVersion, read_columns, read_touchstone,
};

use crate::client::Bench;
use crate::samples::Samples;
use crate::site::{Site, views};

/// Times that the file is taken in.
const TIMES: usize = 15;

/// A file with so many points and columns beside the axis.
fn file(points: usize, columns: usize) -> String {
    let mut text = String::from("f/GHz");
    for column in 0..columns {
        write!(text, ",c{column}").unwrap();
    }
    for row in 0..points {
        write!(text, "\n{:.6}", 0.01 + row as f64 * 1e-4).unwrap();
        for column in 0..columns {
            write!(text, ",{:.7}", ((row * (column + 3)) as f64 * 0.001).sin()).unwrap();
        }
    }
    text
}

/// The largest trace from its bytes to arrays that were asked all that is asked of one.
fn taken_in() {
    let (points, columns) = (20_001, 8);
    let text = file(points, columns);
    let channel =
        |n: usize| ChannelWanted { name: format!("c{n}"), unit: String::new(), complex: false };
    let wanted = TraceWanted {
        axis: "frequency".into(),
        axis_unit: "GHz".into(),
        channels: (0..columns).map(channel).collect(),
        covers: (0.02, 2.0),
        fewest: 100,
        largest_step: Some(0.001),
        impedance: None,
    };
    let (mut plain, mut taken) = (Samples::default(), Samples::default());
    for _ in 0..TIMES {
        let start = Instant::now();
        let numbers =
            text.split([',', '\n']).filter_map(|word| word.parse::<f64>().ok()).sum::<f64>();
        plain.add(start.elapsed());
        assert!(numbers.is_finite());
        let start = Instant::now();
        let Columns { heads, columns, lines } =
            read_columns(text.as_bytes(), (MOST_POINTS, MOST_COLUMNS)).unwrap();
        let trace = Trace::take(&wanted, &Table { heads, columns, lines }).unwrap();
        taken.add(start.elapsed());
        assert_eq!(trace.axis.len(), points);
    }
    println!("a trace of {points} points in {columns} columns, {} kB", text.len() / 1000);
    plain.line("every number parsed, nothing else");
    taken.line("read, asked about, and held as arrays");
    println!("  {:.2} × the parsing at the median", taken.median() / plain.median());
}

/// A two-port of a network file: read, and corrected by twelve terms from its four standards.
fn corrected() {
    let points = 20_001;
    let frequencies: Vec<f64> = (0..points).map(|n| 1e9 + 1e5 * n as f64).collect();
    let turn = |size: f64, by: f64, n: usize| Complex::from_polar(size, by * n as f64);
    let ideal = |value: f64| vec![Complex::new(value, 0.0); points];
    let port = |n: usize| OnePort {
        directivity: turn(0.03, 1e-3, n),
        source_match: turn(0.07, -2e-3, n),
        tracking: turn(0.9, 5e-4, n),
    };
    let models = [ideal(1.0), ideal(-1.0), ideal(0.0)];
    let measured: Vec<Vec<Complex>> = models
        .iter()
        .map(|model| model.iter().enumerate().map(|(n, of)| port(n).measured(*of)).collect())
        .collect();
    let standards: Vec<(&[Complex], &[Complex])> =
        models.iter().zip(&measured).map(|(a, b)| (a.as_slice(), b.as_slice())).collect();
    let thru = vec![TwoPort::THRU; points];
    let raw = |n: usize| TwoPort {
        s11: turn(0.1, 2e-3, n),
        s21: turn(0.8, -1e-3, n),
        s12: turn(0.8, -1e-3, n),
        s22: turn(0.1, 1e-3, n),
    };
    let network = Touchstone {
        ports: 2,
        parameters: (0..points).map(raw).map(|s| vec![s.s11, s.s12, s.s21, s.s22]).collect(),
        frequencies: frequencies.clone(),
        references: vec![50.0; 2],
        comments: vec![],
        noise: false,
    };
    let text = network.written(TouchstoneVersion::V1, NumberFormat::RealImaginary);
    let (mut read, mut both) = (Samples::default(), Samples::default());
    for _ in 0..TIMES {
        let start = Instant::now();
        let found = read_touchstone(text.as_bytes(), Some(2)).unwrap();
        read.add(start.elapsed());
        let of = |row, column| found.parameter(row, column).unwrap();
        let (s11, s21, s12, s22) = (of(1, 1), of(2, 1), of(1, 2), of(2, 2));
        let sweep: Vec<TwoPort> = (0..points)
            .map(|n| TwoPort { s11: s11[n], s21: s21[n], s12: s12[n], s22: s22[n] })
            .collect();
        let (terms, _) = one_port_terms(&frequencies, &standards).unwrap();
        let all = twelve_terms(&frequencies, (&terms, &terms), (&thru, &sweep), None).unwrap();
        let corrected: Vec<TwoPort> =
            all.iter().zip(&sweep).map(|(terms, raw)| terms.corrected(raw)).collect();
        both.add(start.elapsed());
        assert!((corrected[7].s21 - 1.0).norm() < 1e-9, "the thru is a thru");
    }
    println!("a two-port of {points} points, {} kB", text.len() / 1000);
    read.line("read from a network file");
    both.line("read, and corrected by twelve terms");
}

#[derive(QueryableByName)]
struct Number {
    #[diesel(sql_type = BigInt)]
    number: i64,
}

/// Runs both.
pub async fn run(site: &Site) {
    taken_in();
    corrected();
    // The filter's check is due on Mondays: a lead orders one, and the lamp warms up.
    let mut connection = AsyncPgConnection::establish(&site.url).await.unwrap();
    let plan: Number = diesel::sql_query(
        "SELECT p.id AS number FROM plans p JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'C-13'",
    )
    .get_result(&mut connection)
    .await
    .unwrap();
    // The site's own plans alone are in force there.
    let owner = site.url.replace("vaaka@", "vaaka_owner@");
    let mut owner = AsyncPgConnection::establish(&owner).await.unwrap();
    let in_force = format!(
        "SET session_replication_role = replica; UPDATE plan_versions SET state = 'approved' WHERE plan_id = {}",
        plan.number
    );
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &in_force).await.unwrap();
    let ilma = Bench::signed_in(&site.base, "ilma", "tyyni-selka-3").await;
    let teemu = Bench::signed_in(&site.base, "teemu", "kuiva-kivi-7").await;
    let page = ilma.get(&format!("/plans/{}", plan.number)).await;
    let mut fields = page.form(&format!("form[action='/plans/{}/order']", plan.number));
    fields.insert("reason".into(), "the lamp was changed this afternoon".into());
    let ordered = ilma.post(&format!("/plans/{}/order", plan.number), &fields).await;
    assert!(ordered.status.is_redirection(), "{}", ordered.words("main"));
    let path = teemu.start("C-13").await;
    for _ in 0..12 {
        let page = teemu.get(&path).await;
        if page.find("form.entry.trace").is_some() {
            break;
        }
        if page.find("form.entry.wait-start").is_some() {
            teemu.send_form(&path, &page, &[]).await;
            site.clock.pass(Duration::from_secs(901));
        } else if page.find("form.entry.wait-over").is_some() {
            teemu.send_form(&path, &page, &[]).await;
        } else {
            teemu.confirm(&path).await;
        }
    }
    views(&teemu, &site.served, "step that asks for a scan", &path).await;
    let mut scan = String::from("Wavelength (nm);Absorbance\n");
    for row in 0..2_001 {
        let x = 342.0 + 0.145 * f64::from(row);
        let bands = [352.41, 431.78, 528.63, 619.28];
        let y: f64 = bands.iter().map(|at| 0.5 * (-((x - at) / 3.4f64).powi(2)).exp()).sum();
        writeln!(scan, "{x:.3};{:.5}", 0.05 + y).unwrap();
    }
    let page = teemu.get(&path).await;
    let fields = page.form("form.entry");
    let parts: Vec<(&str, &str)> = fields.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
    let start = Instant::now();
    let kept =
        teemu.send_parts(&format!("{path}/entries"), &parts, "scan.csv", scan.as_bytes()).await;
    assert!(kept.status.is_redirection(), "{}", kept.words("main"));
    println!(
        "  a scan of 2 001 points kept over HTTP in {:.1} ms",
        start.elapsed().as_secs_f64() * 1e3
    );
    views(&teemu, &site.served, "step with its drawing of 2 001 points", &path).await;
}
