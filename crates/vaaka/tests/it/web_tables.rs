//! Tables out of every list and in for registers and history, keys of other programs, and what was
//! missed.

use std::collections::HashMap;
use std::sync::Arc;

use reqwest::StatusCode;
use serde_json::Value;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};
use crate::web_chart_room::lines;

pub async fn token(bench: &Bench) -> String {
    bench.get("/").await.attribute("input[name=form_token]", "value").unwrap()
}

pub async fn post(bench: &Bench, path: &str, typed: &[(&str, &str)]) -> Page {
    let token = token(bench).await;
    let mut fields: HashMap<&str, &str> = typed.iter().copied().collect();
    fields.insert("form_token", &token);
    bench.post(path, &fields).await
}

pub async fn ilma(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

async fn send(bench: &Bench, kind: &str, bytes: &[u8]) -> Page {
    let token = token(bench).await;
    let parts = [("form_token", token.as_str()), ("kind", kind)];
    bench.send_parts("/import", &parts, "table.csv", bytes).await
}

/// Sends a table, and comes to the page on which it is looked at.
pub async fn look(bench: &Bench, kind: &str, bytes: &[u8]) -> (String, Page) {
    let sent = send(bench, kind, bytes).await;
    assert_eq!(sent.status, StatusCode::SEE_OTHER, "{}", sent.text);
    let path = sent.location.unwrap();
    let page = bench.get(&path).await;
    (path, page)
}

pub async fn bring_in(bench: &Bench, path: &str) -> Page {
    post(bench, path, &[]).await
}

const INSTRUMENTS: &str = "\u{feff}tag;name;area;serial number;unit;step;range to;adjustable\r\n\
    N-01;new scale;AREA;A1;kg;0,002;60;yes\r\n\
    N-02;\"scale; the second\";AREA;A2;kg;0,01;150,5;no\r\n";

async fn area(bench: &Bench) -> String {
    let table = bench.get("/export/instruments.json").await.text;
    let rows: Vec<Value> = serde_json::from_str(&table).unwrap();
    rows[0]["area"].as_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn instruments_come_in_all_or_none() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let good = INSTRUMENTS.replace("AREA", &area(&ilma).await);

    let bad = format!(
        "{good}R-02;known;nowhere;A3;kg;0,01;60;yes\r\n=1+1;formula;x;A4;kg;0,01;60;yes\r\n"
    );
    let (path, page) = look(&ilma, "instruments", bad.as_bytes()).await;
    assert!(
        page.words("h1").contains("2 of 4 lines of instruments are not right"),
        "{}",
        page.text
    );
    let faults = page.all(".table-sheet tbody tr");
    assert!(faults.iter().any(|row| row.starts_with("4 tag R-02")), "{faults:?}");
    assert!(faults.iter().any(|row| row.starts_with("4 area nowhere")), "{faults:?}");
    assert!(faults.iter().any(|row| row.starts_with("5 tag =1+1")), "{faults:?}");
    let refused = bring_in(&ilma, &path).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(ilma.get("/instruments/N-01").await.status, StatusCode::NOT_FOUND);
    // The whole list leaves as a table, in which the formula cannot run.
    let list = ilma.get(&format!("{path}/faults.csv")).await.text;
    assert!(list.contains("\r\n5,tag,'=1+1,"), "{list}");

    let replaced = path;
    let (path, page) = look(&ilma, "instruments", good.as_bytes()).await;
    let gone = ilma.get(&replaced).await;
    assert_eq!(gone.status, StatusCode::CONFLICT);
    assert!(gone.text.contains("only the newest that you sent is kept"), "{}", gone.text);
    assert!(page.words("h1").contains("2 lines of instruments can be brought in"));
    assert!(page.text.contains("scale; the second") && page.text.contains("150,5"));
    assert_eq!(ilma.get("/instruments/N-01").await.status, StatusCode::NOT_FOUND, "not yet");
    assert_eq!(bring_in(&ilma, &path).await.status, StatusCode::SEE_OTHER);
    // Pressed twice, it is in once.
    assert_eq!(bring_in(&ilma, &path).await.status, StatusCode::CONFLICT);
    let there = ilma.get("/instruments/N-02").await;
    assert!(there.words("h1").contains("scale; the second"));
    let done = ilma.get("/import").await;
    assert!(done.words(".table-sheet tbody").contains("2 lines of instruments"));
    assert_eq!(ilma.get(&format!("{path}/file")).await.text, good, "as it came");
    let id = path.rsplit('/').next().unwrap();
    let trail = ilma.get(&format!("/audit?chain=import:{id}")).await;
    assert!(trail.text.contains("table brought in") && trail.text.contains("table.csv"));

    // What goes out can come in: nothing is wrong with it but that it is there already.
    let out = ilma.get("/export/instruments.csv").await.text;
    let (_, page) = look(&ilma, "instruments", out.as_bytes()).await;
    for row in page.all(".table-sheet tbody tr").iter().take(30) {
        let fine = row.contains(" tag ") && row.contains("is in the register already");
        // The last table is the sample.
        assert!(fine || !row.starts_with(char::is_numeric), "{row}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_leads_with_one_table() {
    let server = Server::demo().await;
    let (ilma, rauno) =
        (ilma(&server).await, Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await);
    let table = INSTRUMENTS.replace("AREA", &area(&ilma).await);
    let (hers, _) = look(&ilma, "instruments", table.as_bytes()).await;
    let (his, _) = look(&rauno, "instruments", table.as_bytes()).await;
    let (first, second) = tokio::join!(bring_in(&ilma, &hers), bring_in(&rauno, &his));
    let mut answers = [first.status, second.status];
    answers.sort();
    assert_eq!(answers, [StatusCode::SEE_OTHER, StatusCode::UNPROCESSABLE_ENTITY]);
    let refused = if first.status == StatusCode::SEE_OTHER { second } else { first };
    assert!(refused.words("p.field-error").contains("Nothing was brought in"));
    assert_eq!(ilma.get("/import").await.all(".table-sheet tbody tr").len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn standards_come_in_with_their_values() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let table = "tag,name,kind,lot,certificate,issued by,issued on,valid from,valid until,unit,piece,nominal,certified value,U,k\n\
        NW-1,new weights,weight set,55,NC-9,house,2026-05-04,2026-05-04,2027-05-03,kg,10 kg,10,10.0002,0.0003,2\n\
        NW-1,,,,,,,,,,20 kg,20,\"20,0003\",0.0004,\n";
    let (path, page) = look(&ilma, "standards", table.as_bytes()).await;
    assert!(page.words("h1").contains("2 lines of standards can be brought in"), "{}", page.text);
    assert_eq!(bring_in(&ilma, &path).await.status, StatusCode::SEE_OTHER);
    // What a table brings waits for the other lead like what is typed; the leads are called once for all of it.
    let rauno = Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await;
    assert!(ilma.get("/standards/NW-1").await.text.contains("NC-9 waits for a second lead"));
    let notices = rauno.get("/notices").await.all(".notices li");
    let called = notices.iter().filter(|one| one.contains("Certificates wait")).count();
    assert_eq!(called, 1, "{notices:?}");
    let waiting = rauno.get("/certificates").await.hrefs("tbody td a");
    assert_eq!(waiting.len(), 1, "{waiting:?}");
    let done = rauno.countersign(&waiting[0], "hiljainen-vuo-5").await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let there = ilma.get("/standards/NW-1").await;
    assert!(there.text.contains("20.0003") && there.text.contains("NC-9"), "{}", there.text);
    let rows: Vec<Value> =
        serde_json::from_str(&ilma.get("/export/standards.json").await.text).unwrap();
    let own: Vec<&Value> = rows.iter().filter(|row| row["tag"] == "NW-1").collect();
    assert_eq!((own.len(), &own[1]["certified value"]), (2, &Value::from(20.0003)));
    // Once more: tag and certificate are taken.
    let (_, again) = look(&ilma, "standards", table.as_bytes()).await;
    let faults = again.all(".table-sheet tbody tr");
    assert!(faults.iter().any(|row| row.starts_with("2 tag NW-1")), "{faults:?}");
    assert!(faults.iter().any(|row| row.starts_with("2 certificate NC-9")), "{faults:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn history_is_shown_and_judged_by_nothing() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let charts: Vec<Value> =
        serde_json::from_str(&ilma.get("/export/charts.json").await.text).unwrap();
    let chart = charts
        .iter()
        .find(|row| row["instrument"] == "R-02" && row["characteristic"] == "Error at 20 kg")
        .unwrap_or_else(|| panic!("{charts:?}"));
    let id = chart["chart"].as_i64().unwrap();
    let before = ilma.get(&format!("/export/chart-{id}.csv?range=all")).await.text;

    let table = "\u{feff}instrument;point;measured at;error;reading;reference;by;remark\r\n\
        R-02;20;3.11.2025 06:12;2,5;;;Aino;first\r\n\
        R-02;20;4.11.2025 06:12;;20,003;20,0005;;\r\n";
    let (path, page) = look(&ilma, "history", table.as_bytes()).await;
    assert!(page.words("h1").contains("2 lines of history can"), "{}", page.text);
    assert_eq!(bring_in(&ilma, &path).await.status, StatusCode::SEE_OTHER);

    let after = ilma.get(&format!("/export/chart-{id}.csv?range=all")).await.text;
    let (heads, rest) = after.split_once("\r\n").unwrap();
    let own: Vec<&str> = rest.split("\r\n").take(2).collect();
    assert!(
        own[0].starts_with(
            "2025-11-03T04:12:00Z,2025-11-03 06:12:00+02:00 Europe/Helsinki,2.5,g,brought in,,no,"
        ),
        "{own:?}"
    );
    assert!(
        own[1].starts_with(
            "2025-11-04T04:12:00Z,2025-11-04 06:12:00+02:00 Europe/Helsinki,2.5000,g,brought in,,no,"
        ),
        "{own:?}"
    );
    assert_eq!(format!("{heads}\r\n{}", rest.splitn(3, "\r\n").nth(2).unwrap()), before);
    let shown = ilma.get(&format!("/charts/{id}?range=all")).await;
    assert!(shown.text.contains("2 values from before, 3 Nov 2025 to 4 Nov 2025"));
    assert_eq!(shown.text.matches("class=\"earlier\"").count(), 2);
    assert!(!ilma.get(&format!("/charts/{id}")).await.text.contains("values from before"));

    // The same lines again are named; withdrawn with a reason, they may come again.
    let (_, again) = look(&ilma, "history", table.as_bytes()).await;
    let faults = again.all(".table-sheet tbody tr");
    assert!(faults[0].contains("was brought in before"), "{faults:?}");
    let silent = post(&ilma, &format!("{path}/withdraw"), &[("reason", " ")]).await;
    assert!(silent.words("p.field-error").contains("Say why"));
    let withdrawn = post(&ilma, &format!("{path}/withdraw"), &[("reason", "wrong year")]).await;
    assert_eq!(withdrawn.status, StatusCode::SEE_OTHER);
    assert!(ilma.get("/import").await.text.contains("Withdrawn: wrong year"));
    assert_eq!(ilma.get(&format!("/export/chart-{id}.csv?range=all")).await.text, before);
    let twice = post(&ilma, &format!("{path}/withdraw"), &[("reason", "again")]).await;
    assert_eq!(twice.status, StatusCode::CONFLICT);
    let (_, page) = look(&ilma, "history", table.as_bytes()).await;
    assert!(page.words("h1").contains("2 lines of history can"), "{}", page.text);
}

/// The button pressed twice at one moment: it is in once, and nobody is told that nothing was.
#[tokio::test(flavor = "multi_thread")]
async fn a_table_that_is_brought_in_twice_at_once_is_in_once() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let instruments = INSTRUMENTS.replace("AREA", &area(&ilma).await);
    let history = "instrument,point,measured at,error\nR-02,20,2020-01-01T00:00:00Z,1\n";
    for (kind, table) in [("instruments", instruments.as_str()), ("history", history)] {
        let (path, page) = look(&ilma, kind, table.as_bytes()).await;
        let fields = page.form(&format!("form[action='{path}']"));
        let (one, two) = tokio::join!(ilma.post(&path, &fields), ilma.post(&path, &fields));
        for answer in [one, two] {
            // Who comes after it is in is told so; that nothing was brought in is true for nobody.
            let told = answer.status == StatusCode::CONFLICT
                && answer.words("main").contains("was brought in already");
            assert!(answer.status == StatusCode::SEE_OTHER || told, "{kind}: {}", answer.text);
        }
    }
    let twice = "SELECT count(*)::text AS line FROM imports WHERE state = 'done'";
    assert_eq!(lines(&server.database, twice).await, ["2"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_no_table() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    for (bytes, words) in [
        (&b""[..], "No file was chosen"),
        (b"PK\x03\x04book", "This is a workbook"),
        (b"tag;name\nN-1;m\xe4\n", "Line 2 is not text in UTF-8"),
        (b"tag,name\nN-1,\"open\nN-2,x\n", "opens in line 2 is never closed"),
    ] {
        let refused = send(&ilma, "instruments", bytes).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(refused.words("p.field-error").contains(words), "{}", refused.text);
    }
    let unknown = send(&ilma, "weather", b"a,b\n1,2\n").await;
    assert!(unknown.words("p.field-error").contains("Say what the lines"));
    // Heads that are not known are named, and what may stand there.
    let (_, page) = look(&ilma, "instruments", b"tag,colour\nN-1,red\n").await;
    let faults = page.all(".table-sheet tbody tr").join("|");
    assert!(faults.contains("1 colour colour This column is not known"), "{faults}");
    assert!(faults.contains("This column is missing."), "{faults}");
    // The examples that the page offers are right, but for the area.
    for kind in ["instruments", "standards", "history"] {
        let example = ilma.get(&format!("/import/columns/{kind}.csv")).await;
        assert_eq!(example.status, StatusCode::OK);
        let (_, page) = look(&ilma, kind, example.text.as_bytes()).await;
        let faults = page.all(".table-sheet tbody tr");
        assert!(faults.len() <= 2, "{kind}: {faults:?}");
    }
}

/// Every list leaves in both forms, with as many rows in each.
#[tokio::test(flavor = "multi_thread")]
async fn every_list_is_a_table() {
    let server = Server::demo().await;
    let veera = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    let records: Vec<Value> =
        serde_json::from_str(&veera.get("/export/records.json?tag=R-02").await.text).unwrap();
    let record = records[0]["record"].as_i64().unwrap();
    for (name, least) in [
        ("round".to_owned(), 5),
        ("charts".to_owned(), 5),
        ("chart-1".to_owned(), 50),
        ("instruments".to_owned(), 10),
        ("standards".to_owned(), 10),
        ("plans".to_owned(), 20),
        ("people".to_owned(), 5),
        ("records".to_owned(), 100),
        (format!("readings-{record}"), 9),
        (format!("characteristics-{record}"), 5),
        ("happenings".to_owned(), 2),
        ("notices".to_owned(), 0),
        ("handover".to_owned(), 0),
        ("calendar".to_owned(), 3),
        ("missed".to_owned(), 0),
        ("audit".to_owned(), 0),
    ] {
        let csv = veera.get(&format!("/export/{name}.csv")).await;
        assert_eq!(csv.status, StatusCode::OK, "{name}: {}", csv.text);
        assert_eq!(csv.headers["content-type"], "text/csv; charset=utf-8");
        let disposition = csv.headers["content-disposition"].to_str().unwrap();
        assert_eq!(disposition, format!("attachment; filename=\"{name}.csv\""));
        let json = veera.get(&format!("/export/{name}.json")).await;
        let rows: Vec<Value> = serde_json::from_str(&json.text).unwrap();
        assert!(rows.len() >= least, "{name}: {}", rows.len());
        let grid = vaaka_formats::read_table(csv.text.as_bytes(), 1_000_000).unwrap();
        assert_eq!(grid.lines.len(), rows.len(), "{name}");
        for (line, row) in grid.lines.iter().zip(&rows) {
            for (column, head) in grid.heads.iter().enumerate() {
                let said = match &row[head] {
                    Value::Null => String::new(),
                    Value::Bool(true) => "yes".into(),
                    Value::Bool(false) => "no".into(),
                    Value::String(text) => text.trim().to_owned(),
                    Value::Number(number) => {
                        let typed: f64 = line.cell(column).parse().unwrap();
                        assert_eq!(Some(typed), number.as_f64(), "{name} {head}");
                        continue;
                    }
                    other => panic!("{name} {head}: {other}"),
                };
                assert_eq!(line.cell(column).trim_start_matches('\''), said, "{name} {head}");
            }
        }
    }
    let drawing = veera.get("/export/chart-1.svg?range=week").await;
    assert_eq!(drawing.headers["content-type"], "image/svg+xml");
    assert!(drawing.text.starts_with("<svg ") && !drawing.text.contains("var("));
    for unknown in
        ["round.svg", "nothing.csv", "round.xml", "round", "chart-x.csv", "readings-99999999.csv"]
    {
        let answer = veera.get(&format!("/export/{unknown}")).await;
        assert_eq!(answer.status, StatusCode::NOT_FOUND, "{unknown}");
    }
    let bad = veera.get("/export/missed.csv?from=yesterday").await;
    assert_eq!(bad.status, StatusCode::CONFLICT, "words, not a table that is something else");
}

/// Another program reads and asks by its key, and does nothing else with it.
#[tokio::test(flavor = "multi_thread")]
async fn another_program_has_a_key() {
    let server = Server::demo().await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let program = Bench::new(&server.base);
    let nobody = program.get("/api/release?instrument=R-02").await;
    assert_eq!(nobody.status, StatusCode::UNAUTHORIZED);
    assert!(nobody.text.contains("Authorization: Bearer"), "{}", nobody.text);

    let unnamed = post(&onni, "/keys", &[("name", " ")]).await;
    assert!(unnamed.words("p.field-error").contains("which program"));
    let made = post(&onni, "/keys", &[("name", "mill control")]).await;
    let key = made.words(".key-once");
    assert!(key.starts_with("vaaka_") && key.len() > 60, "{key}");
    assert!(!onni.get("/keys").await.text.contains(&key), "shown this once");
    let taken = post(&onni, "/keys", &[("name", "Mill Control")]).await;
    assert!(taken.words("p.field-error").contains("in use already"));

    let gate = program.get_with_key("/api/release?instrument=R-02", &key).await;
    assert_eq!(gate.status, StatusCode::OK, "{}", gate.text);
    let table = program.get_with_key("/export/instruments.csv", &key).await;
    assert!(table.text.contains("R-02"));
    assert_eq!(program.get_with_key("/export/due.ics", &key).await.status, StatusCode::OK);
    // No page opens by it, and nothing is changed by it.
    let page = program.get_with_key("/records", &key).await;
    assert!(page.location.unwrap().starts_with("/sign-in"));
    let mail = program.get_with_key("/export/mail.csv", &key).await;
    assert_eq!(mail.status, StatusCode::FORBIDDEN);
    let wrong = program.get_with_key("/export/instruments.csv", "vaaka_guess").await;
    assert_eq!(wrong.status, StatusCode::UNAUTHORIZED);

    let keys = onni.get("/keys").await;
    assert!(!keys.words(".table-sheet tbody").contains("not yet"), "its use is noted");
    let end = keys.attribute(".table-sheet form", "action").unwrap();
    assert_eq!(post(&onni, &end, &[]).await.status, StatusCode::SEE_OTHER);
    let ended = program.get_with_key("/api/release?instrument=R-02", &key).await;
    assert_eq!(ended.status, StatusCode::UNAUTHORIZED);
    let trail = onni.get("/audit?chain=key:1").await.text;
    assert!(trail.contains("key made") && trail.contains("key ended") && !trail.contains(&key));
    assert_eq!(post(&onni, "/keys", &[("name", "mill control")]).await.status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_missed_stays_missed_when_the_plan_is_renewed() {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    clock.pass(8 * 3600);
    let page = aino.get("/missed?from=2026-11-24&to=2026-11-25&tag=r-05").await;
    let rows = page.all(".table-sheet tbody tr");
    assert!(rows.iter().any(|row| row.starts_with("2026-11-24 night R-05")), "{rows:?}");
    assert!(rows.iter().all(|row| row.contains("R-05")), "{rows:?}");
    let table = |bench: Bench| async move {
        let path = "/export/missed.json?from=2026-11-24&to=2026-11-25&tag=R-05";
        serde_json::from_str::<Vec<Value>>(&bench.get(path).await.text).unwrap()
    };
    let before = table(aino.clone()).await;
    assert_eq!(before.len(), rows.len());

    // A new version of the plan, as the store would write it.
    let mut owner = server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "SET session_replication_role = replica;
         CREATE TEMP TABLE v AS SELECT v.* FROM plan_versions v JOIN plans p ON p.id = v.plan_id
             JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'R-05' AND v.state = 'approved' LIMIT 1;
         UPDATE plan_versions SET state = 'superseded' WHERE id IN (SELECT id FROM v);
         UPDATE v SET id = (SELECT max(id) + 1 FROM plan_versions), version = version + 1,
             approved_at = '2026-11-25T04:30:00Z';
         INSERT INTO plan_versions SELECT * FROM v;",
    )
    .await
    .unwrap();
    assert_eq!(table(aino.clone()).await, before);
    let bad = aino.get("/missed?from=2026-11-25&to=2026-11-24").await;
    assert_eq!(bad.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(bad.words("p.field-error").contains("ends before it begins"));
    let none = aino.get("/missed?from=2020-01-01&to=2020-02-01").await;
    assert!(none.words("h1").contains("none"), "{}", none.text);
}

/// Tables for people: local time beside that of programs, words beside codes, what does not stand marked with its reason, and the
/// form that a spreadsheet of the country reads.
#[tokio::test(flavor = "multi_thread")]
async fn tables_are_for_people_too() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let path = aino.start("R-02").await;
    aino.confirm(&path).await;
    aino.send(&path, "M1-X").await;
    aino.send(&path, "M1-B").await;
    aino.confirm(&path).await;
    aino.send(&path, "0.000 kg").await;
    let id = path.rsplit('/').next().unwrap();
    let table = aino.get(&format!("/export/readings-{id}.json")).await.text;
    let rows: Vec<Value> = serde_json::from_str(&table).unwrap();
    assert!(rows.iter().all(|row| row["instrument"] == "R-02"), "{table}");
    let refused = rows.iter().find(|row| row["kind"] == "attempt").unwrap();
    assert_eq!(
        (refused["stands"].as_bool(), refused["typed"].as_str()),
        (Some(false), Some("M1-X"))
    );
    assert!(refused["why_not"].as_str().unwrap().starts_with("refused: "), "{refused}");
    let zero = rows.iter().find(|row| row["typed"] == "0.000 kg").unwrap();
    assert_eq!(zero["indication"].as_f64(), Some(0.0));
    assert_eq!(zero["source_words"], "typed at the bench");
    let local = zero["measured_at_local"].as_str().unwrap();
    assert!(
        local.starts_with("2026-11-24 22:3") && local.ends_with("+02:00 Europe/Helsinki"),
        "{local}"
    );

    // Words are those of the table: an open check is no signal that nobody has looked at.
    let records = aino.get("/export/records.csv?tag=R-02&from=24.11.2026").await.text;
    let heads = records.lines().next().unwrap();
    assert!(heads.contains(",purpose,purpose_words,state,opened_at,opened_at_local,"), "{heads}");
    assert!(!records.contains("nobody has looked"), "{records}");
    let none = aino.get("/export/records.csv?tag=nothing-like-it").await.text;
    assert_eq!(
        none.lines().next().unwrap(),
        heads,
        "the columns are the same, whatever stands in it"
    );
    let signals = aino.get("/export/signals.csv").await.text;
    assert!(signals.contains(",open,nobody has looked at it yet,"), "{signals}");

    let asked = async |query: &str| aino.get(&format!("/export/charts.csv{query}")).await;
    let plain = asked("").await.text;
    assert!(plain.starts_with("chart,instrument,"), "{plain}");
    assert!(!plain.contains("00000000000"), "no tails of binary numbers");
    let other = asked("?separator=semicolon&decimals=comma&mark=yes").await.text;
    assert!(other.starts_with("\u{feff}chart;instrument;"), "{other}");
    assert!(asked("?separator=stroke").await.text.contains("separator=comma, semicolon or tab"));
    // Chosen once, it holds for this browser.
    let chosen = HashMap::from([("tables", "spreadsheets"), ("back", "/charts")]);
    assert_eq!(aino.post("/look", &chosen).await.location.as_deref(), Some("/charts"));
    assert_eq!(asked("").await.text, other);
    assert_eq!(asked("?separator=comma&decimals=point&mark=no").await.text, plain);
    let page = aino.get("/charts").await;
    assert_eq!(
        page.attribute("button[value=spreadsheets]", "aria-pressed").as_deref(),
        Some("true")
    );
}

/// A table whose heads are somebody else's: each column is said once, what is left out is left out on purpose.
#[tokio::test(flavor = "multi_thread")]
async fn columns_of_another_register_are_mapped() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let table = "ID;Bezeichnung;area;serial number;unit;d;Max;Farbe\nZ-1;Waage;Resin kitchen;77;kg;0,01;30;rot\n";
    let (path, page) = look(&ilma, "instruments", table.as_bytes()).await;
    assert!(page.words("h1").contains("cannot be read yet"), "{}", page.words("h1"));
    let offered = page.all("select");
    assert_eq!(offered.len(), 8, "{}", page.text);
    assert!(page.words("form[method=get]").contains("rot"), "what stands first in each is shown");
    let said = "column.0=tag&column.1=name&column.5=resolution&column.6=maximum";
    let without = ilma.get(&format!("{path}?{said}")).await;
    assert!(without.text.contains("nothing is left aside in silence"), "{}", without.words("main"));
    let page = ilma.get(&format!("{path}?{said}&column.7=-")).await;
    assert!(
        page.words("h1").contains("1 line of instruments can be brought in"),
        "{}",
        page.words("main")
    );
    // The same column twice is refused.
    let twice = ilma.get(&format!("{path}?{said}&column.7=name")).await;
    assert!(twice.text.contains("here twice"), "{}", twice.words("main"));
    let fields = page.form(&format!("form[method=post][action='{path}']"));
    assert_eq!(fields["column.7"], "-");
    let done = ilma.post(&path, &fields).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let shown = ilma.get("/instruments/Z-1").await;
    assert!(shown.words("aside").contains("0 to 30 kg"), "{}", shown.words("aside"));
    let said = lines(
        &server.database,
        "SELECT detail->>'columns' AS line FROM audit_entries WHERE action = 'table_brought_in'",
    )
    .await;
    assert!(said[0].contains("column.5") && said[0].contains("resolution"), "{said:?}");
}
