//! Long work leaves the request: large tables, reports and looks over everything go on by themselves, over the end of a
//! process, and count whole or not at all.

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;
use vaaka_store::StoreError;
use vaaka_store::clerk::{Clerk, Later, Reading};
use vaaka_store::imports::Import;
use vaaka_store::reports::Report;
use vaaka_store::verification::{Progress, Wanted, verify};

use crate::client::Bench;
use crate::support::{Server, now};
use crate::web_chart_room::{lines, number};
use crate::web_tables::{bring_in, ilma, look, post};

/// As many values of one scale, forty minutes apart.
fn history(count: i64) -> String {
    let mut table = String::from("instrument,point,measured at,error,remark\n");
    let first: jiff::Timestamp = "2005-01-01T00:00:00Z".parse().unwrap();
    for n in 0..count {
        let at = first.checked_add(jiff::SignedDuration::from_mins(40 * n)).unwrap();
        table.push_str(&format!("R-02,20,{at},\"{},{}\",from the books\n", n % 7, n % 10));
    }
    table
}

/// A table too large to be read at once: sent, read by a job, and shown.
async fn read(server: &Server, bench: &Bench, table: &str) -> (String, crate::client::Page) {
    let (path, page) = look(bench, "history", table.as_bytes()).await;
    assert!(page.words("h1").contains("is being read"), "{}", page.words("h1"));
    assert!(page.find("progress").is_some() && page.find("form.sheet-form").is_none());
    assert_eq!(bench.get(&path).await.words("h1"), page.words("h1"));
    server.work_off().await;
    let read = bench.get(&path).await;
    assert!(read.find("progress").is_none(), "{}", read.text);
    (path, read)
}

/// A site brings fifteen years of a scale: every line, or the one bad line is named.
#[tokio::test(flavor = "multi_thread")]
async fn two_hundred_thousand_lines() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let table = history(200_000);
    let bad = table.replacen("2012-07-01T00:00:00Z,\"", "2012-07-01T00:00:00Z,\"x", 1);
    assert_ne!(bad, table);
    let (path, page) = read(&server, &ilma, &bad).await;
    assert!(page.words("h1").contains("one of 200000 lines"), "{}", page.words("h1"));
    assert_eq!(page.all(".table-sheet tbody tr").len(), 1 + 8, "the fault, and the sample");
    let faults = ilma.get(&format!("{path}/faults.csv")).await.text;
    assert_eq!(faults.lines().count(), 2, "{faults}");
    let refused = bring_in(&ilma, &path).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);

    let (path, page) = read(&server, &ilma, &table).await;
    assert!(page.words("h1").contains("200000 lines of history can"), "{}", page.words("h1"));
    let asked = bring_in(&ilma, &path).await;
    assert_eq!(asked.location.as_deref(), Some(path.as_str()), "{}", asked.text);
    let coming = ilma.get(&path).await;
    assert!(coming.words("h1").contains("is being brought in"), "{}", coming.text);
    assert!(ilma.get("/import").await.text.contains("history: is being brought in"));
    // Pressed again, it is on its way once.
    assert_eq!(bring_in(&ilma, &path).await.location.as_deref(), Some(path.as_str()));
    server.work_off().await;
    assert_eq!(ilma.get(&path).await.location.as_deref(), Some("/import"));
    assert!(ilma.get("/import").await.text.contains("200000 lines of history"));
    let there = "SELECT count(DISTINCT line) AS number FROM earlier_values";
    assert_eq!(number(&server.database, there).await, 200_000);
}

/// A clerk who reads as the pages do, and then somebody pulls the plug after so many lines are written.
struct Plug<'s> {
    server: &'s Server,
    lines: usize,
}

impl Clerk for Plug<'_> {
    fn read_table<'a>(
        &'a self,
        import: &'a Import,
        mapping: &'a [(String, String)],
    ) -> Later<'a, Reading> {
        Box::pin(async move {
            let mut reading = self.server.state.read_table(import, mapping).await?;
            if let Some(vaaka_store::imports::Lines::History(values)) = &mut reading.lines {
                // After so many lines comes one that the database cannot hold.
                values[self.lines].remark = "\0".to_owned();
            }
            Ok(reading)
        })
    }

    fn write_report<'a>(&'a self, _: &'a Report) -> Later<'a, serde_json::Value> {
        Box::pin(async { Err(StoreError::Unreadable { what: "the paper is out".into() }) })
    }
}

/// What stops half-way goes on from there, and until it is whole nothing of it counts.
#[tokio::test(flavor = "multi_thread")]
async fn a_table_that_stops_half_way_goes_on_from_there() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let (path, _) = read(&server, &ilma, &history(25_000)).await;
    bring_in(&ilma, &path).await;
    let mut owner = server.owner().await;
    let plug = Plug { server: &server, lines: 20_000 };
    let written = "SELECT count(*) AS number FROM earlier_values";
    for _ in 0..2 {
        assert!(!vaaka_store::worker::work(&mut owner, &plug, now()).await.unwrap());
        assert_eq!(number(&server.database, written).await, 20_000, "and not written twice");
    }
    let page = ilma.get(&path).await;
    assert!(page.words("main").contains("20000 of 25000 lines are written"), "{}", page.text);
    assert!(page.words("main").contains("is tried again"), "{}", page.text);
    let chart = "SELECT s.id::text AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'R-02' ORDER BY s.id LIMIT 1";
    let id = lines(&server.database, chart).await.remove(0);
    let chart = format!("/charts/{id}?range=all");
    assert!(!ilma.get(&chart).await.text.contains("values from before"), "it is not whole yet");
    // One that never goes on is given up, and nothing of it is left.
    assert!(page.find("form[action$=give-up]").is_none(), "it is still tried");
    for _ in 0..3 {
        assert!(!vaaka_store::worker::work(&mut owner, &plug, now()).await.unwrap());
    }
    let failed = ilma.get(&path).await;
    assert!(failed.find("form[action$=give-up]").is_some(), "{}", failed.text);
    assert!(ilma.get("/notices").await.text.contains("did not go on"));
    assert_eq!(post(&ilma, &format!("{path}/give-up"), &[]).await.status, StatusCode::SEE_OTHER);
    assert_eq!(post(&ilma, &format!("{path}/give-up"), &[]).await.status, StatusCode::CONFLICT);
    assert_eq!(number(&server.database, written).await, 0);
    ilma.get(&path).await;
    server.work_off().await;
    let again = ilma.get(&path).await;
    assert!(
        again.words("main").contains("Nothing was brought in. It did not go on"),
        "{}",
        again.text
    );
    bring_in(&ilma, &path).await;
    assert!(!vaaka_store::worker::work(&mut owner, &plug, now()).await.unwrap());
    server.work_off().await;
    assert_eq!(number(&server.database, written).await, 25_000);
    assert!(ilma.get("/import").await.text.contains("25000 lines of history"));
    assert!(ilma.look_over(&server).await.contains("Unbroken."));
}

/// Two tables with the same values on their way at once: one comes in, of the other nothing is left, and it says why.
#[tokio::test(flavor = "multi_thread")]
async fn of_two_tables_alike_one_comes_in() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let table = history(12_000);
    let (first, _) = read(&server, &ilma, &table).await;
    bring_in(&ilma, &first).await;
    let (second, page) = look(&ilma, "history", table.as_bytes()).await;
    assert!(page.words("h1").contains("is being read"));
    // The second is read while nothing of the first is in yet, as by another process; then the first is brought in.
    let mut owner = server.owner().await;
    owner
        .batch_execute(
            "UPDATE jobs SET turn_at = now() + interval '1 hour' WHERE work->>'kind' = 'bring_in'",
        )
        .await
        .unwrap();
    assert!(vaaka_store::worker::work(&mut owner, &server.state, now()).await.unwrap());
    assert!(ilma.get(&second).await.words("h1").contains("12000 lines of history can"));
    bring_in(&ilma, &second).await;
    server.work_off().await;
    let page = ilma.get("/import").await;
    assert!(
        page.words("main").contains("nothing was brought in. The registers have changed")
            || page.words("main").contains("nothing was brought in. Somebody"),
        "{}",
        page.text
    );
    let written = "SELECT count(*) AS number FROM earlier_values";
    assert_eq!(number(&server.database, written).await, 12_000);
    let done = "SELECT count(*) AS number FROM imports WHERE state = 'done'";
    assert_eq!(number(&server.database, done).await, 1);
    // What came in is kept, also from whoever reaches the database.
    let change = owner.batch_execute("DELETE FROM earlier_values WHERE line = 5").await;
    assert!(change.is_err(), "a kept value was taken away");
    let change = owner.batch_execute("UPDATE earlier_values SET value = 0 WHERE line = 5").await;
    assert!(change.is_err(), "a kept value was changed");
}

/// A report of a long period is written beside the requests, is whole, and stays as it was.
#[tokio::test(flavor = "multi_thread")]
async fn a_report_is_written_and_kept() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let days = [("from", "2026-01-01"), ("to", "2026-11-24")];
    let asked = post(&ilma, "/instruments/R-02/evidence", &days).await;
    assert_eq!(asked.status, StatusCode::SEE_OTHER, "{}", asked.text);
    let path = asked.location.unwrap();
    let waiting = ilma.get(&path).await;
    assert!(waiting.find("progress").is_some() && waiting.find("article").is_none());
    // A clerk who cannot: after five times a person is asked.
    let mut owner = server.owner().await;
    let plug = Plug { server: &server, lines: 0 };
    for _ in 0..5 {
        assert!(!vaaka_store::worker::work(&mut owner, &plug, now()).await.unwrap());
    }
    let page = ilma.get(&path).await;
    assert!(page.words("main").contains("the paper is out"), "{}", page.text);
    assert_eq!(server.work_off().await, 0);
    assert_eq!(post(&ilma, &format!("{path}/again"), &[]).await.status, StatusCode::SEE_OTHER);
    assert!(server.work_off().await > 0);
    let report = ilma.get(&path).await;
    let rows = report.all("article tbody tr").len();
    let checks = number(
        &server.database,
        "SELECT count(*) AS number FROM checks c JOIN instruments i ON i.id = c.instrument_id
         WHERE i.tag = 'R-02' AND c.opened_at >= '2026-01-01' AND c.opened_at < '2026-11-24T22:00:00Z'",
    )
    .await;
    assert_eq!(rows as i64, checks);
    assert!(report.words("main").contains("SHA-256 begins"));
    let page = ilma.get("/instruments/R-02/evidence?from=2026-01-01&to=2026-11-24").await;
    assert_eq!(page.all("article tbody tr").len(), rows, "as the page itself says");
    assert!(page.words("main").contains("2026-01-01 to 2026-11-24, asked for by"), "{}", page.text);
    let change = owner.batch_execute("UPDATE reports SET body = '{}'").await;
    assert!(change.is_err(), "a kept report was changed");
    let odd = post(&ilma, "/instruments/R-02/evidence", &[("from", "yesterday"), ("to", "")]).await;
    assert_eq!(odd.status, StatusCode::CONFLICT);
    assert!(odd.text.contains("year-month-day"), "{}", odd.text);
    assert!(ilma.look_over(&server).await.contains("Unbroken."));
}

/// A look that another process goes on with comes to the same, and asked for twice it is one.
#[tokio::test(flavor = "multi_thread")]
async fn a_look_over_everything_goes_on_in_another_process() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    while vaaka_store::seals::seal(&mut owner, now()).await.unwrap().is_some() {}
    let ilma = ilma(&server).await;
    let known = [("known", "1 00000000")];
    let (one, two) =
        tokio::join!(post(&ilma, "/audit/verify", &known), post(&ilma, "/audit/verify", &known),);
    assert_eq!((one.status, two.status), (StatusCode::SEE_OTHER, StatusCode::SEE_OTHER));
    let asked = "SELECT count(*) AS number FROM trail_looks";
    assert_eq!(number(&server.database, asked).await, 1);
    let (first, second) = tokio::join!(server.work_off(), server.work_off());
    assert!(first + second > 0);
    let page = ilma.get("/audit").await;
    assert!(page.words("main").contains("seal 1 is another one"), "{}", page.words("main"));
    let (wanted, progress) = (Wanted::default(), Progress::default());
    let whole = verify(&mut owner, &wanted, &progress).await.unwrap();
    let looks = vaaka_store::trail_looks::newest(&mut owner, 5).await.unwrap();
    let found = &looks[0].look.found;
    assert_eq!(
        (found.seals, found.results, found.faults.len()),
        (whole.seals, whole.results, whole.faults.len() + 1)
    );
    let trail = ilma.get("/audit?chain=trail_looks").await;
    assert!(trail.words("main").contains("trail looked over"), "{}", trail.text);
}
