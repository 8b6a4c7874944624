//! The load of a large site at the change of a shift: 64 people sign in at once and run checks to
//! their verdicts while 20 others go from page to page. Nothing may be refused or fail.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use tokio::process::Child;
use uuid::Uuid;

use crate::client::{Bench, Page, serve};
use crate::samples::Samples;
use crate::saving::READINGS;

/// People who run checks.
const WRITERS: usize = 64;
/// People who look at pages.
const READERS: usize = 20;
/// Checks that each writer runs from the first step to the verdict.
const CHECKS: usize = 4;
/// Ticks of a second in what the kernel tells of processes.
const TICKS: f64 = 100.0;
/// The first of the instruments that are due each month, and where the writers begin.
const FIRST: usize = 61;
/// What a reader goes through, over and over.
const PAGES: [&str; 8] = [
    "/",
    "/instruments/S-7",
    "/charts/9014",
    "/charts/9014?range=year",
    "/records",
    "/instruments",
    "/signals",
    "/wall?area=90",
];

/// What one person saw: times of answers, and every answer that was none.
#[derive(Default)]
struct Seen {
    saves: Samples,
    verdicts: Samples,
    pages: Samples,
    faults: Vec<String>,
    checks: usize,
}

impl Seen {
    fn take(&mut self, other: Self) {
        self.saves.extend(other.saves);
        self.verdicts.extend(other.verdicts);
        self.pages.extend(other.pages);
        self.faults.extend(other.faults);
        self.checks += other.checks;
    }

    fn look(&mut self, what: &str, page: &Page) {
        if !(page.status.is_success() || page.status.is_redirection()) {
            self.faults.push(format!(
                "{what}: {} {}",
                page.status,
                page.find("h1, p").unwrap_or_default()
            ));
        }
    }
}

/// The server, as a process of its own: what it holds and works is told from what its clients do.
struct Process {
    child: Child,
    base: String,
}

impl Process {
    async fn serve(url: &str) -> Self {
        let (child, base) = serve(url, "127.0.0.1:0", "2026-11-24T20:34:00Z").await;
        Self { child, base }
    }

    /// Memory that it holds, in megabytes.
    fn resident(&self) -> f64 {
        let status = format!("/proc/{}/status", self.child.id().unwrap_or_default());
        let status = std::fs::read_to_string(status).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap_or_default();
        let kilobytes = line.split_whitespace().nth(1).and_then(|text| text.parse::<f64>().ok());
        kilobytes.unwrap_or(f64::NAN) / 1024.0
    }

    /// Seconds of a processor that it, this process with its clients, and the whole machine have worked.
    fn worked(&self) -> [f64; 3] {
        let of = |path: String| {
            let text = std::fs::read_to_string(path).unwrap_or_default();
            // After the name, which may hold spaces: user and system time are the 12th and 13th.
            let rest = text.rsplit(") ").next().unwrap_or_default();
            let ticks =
                rest.split_whitespace().skip(11).take(2).filter_map(|t| t.parse::<f64>().ok());
            ticks.sum::<f64>() / TICKS
        };
        let all = std::fs::read_to_string("/proc/stat").unwrap_or_default();
        let all = all.lines().next().unwrap_or_default().split_whitespace();
        let ticks = all.skip(1).take(3).filter_map(|text| text.parse::<f64>().ok());
        let server = of(format!("/proc/{}/stat", self.child.id().unwrap_or_default()));
        [server, of("/proc/self/stat".into()), ticks.sum::<f64>() / TICKS]
    }
}

async fn page(bench: &Bench, path: &str, seen: &mut Seen) -> Page {
    let start = Instant::now();
    let page = bench.get(path).await;
    seen.pages.add(start.elapsed());
    seen.look(path, &page);
    page
}

/// One check from its first step to its verdict.
async fn check(bench: &Bench, number: usize, seen: &mut Seen) {
    let round = page(bench, "/", seen).await;
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), (9_000 + number).to_string());
    fields.insert("key".into(), Uuid::new_v4().to_string());
    let begun = bench.post("/checks", &fields).await;
    seen.look("beginning", &begun);
    let Some(path) = begun.location else {
        seen.faults.push(format!("no check of S-{number}: {}", begun.status));
        return;
    };
    let mut readings = READINGS.iter();
    let entries = format!("{path}/entries");
    for _ in 0..40 {
        let step = page(bench, &path, seen).await;
        let mut fields = step.form("form.entry");
        let boxes = step.boxes();
        if step.find("form.entry.reading").is_some() {
            fields.insert("typed".into(), (*readings.next().unwrap()).to_owned());
        } else if !boxes.is_empty() {
            fields.extend(boxes.into_iter().map(|name| (name, "on".to_owned())));
        } else if step.find("form.entry.review").is_none() {
            fields.insert("typed".into(), step.words("aside .strong"));
        }
        let start = Instant::now();
        let answer = bench.post(&entries, &fields).await;
        let taken = start.elapsed();
        seen.look(&entries, &answer);
        if answer.location.as_deref().is_some_and(|next| next.ends_with("/verdict")) {
            seen.verdicts.add(taken);
            seen.checks += 1;
            page(bench, &answer.location.unwrap(), seen).await;
            return;
        }
        seen.saves.add(taken);
        if answer.location.is_none() {
            seen.faults
                .push(format!("S-{number}: {}", answer.find("[role=alert]").unwrap_or_default()));
            return;
        }
    }
    seen.faults.push(format!("the check of S-{number} does not end"));
}

async fn writer(bench: Bench, number: usize) -> Seen {
    let mut seen = Seen::default();
    for lap in 0..CHECKS {
        check(&bench, FIRST + number + lap * WRITERS, &mut seen).await;
    }
    seen
}

async fn reader(bench: Bench, number: usize, over: Arc<AtomicBool>) -> Seen {
    let mut seen = Seen::default();
    let mut at = number;
    while !over.load(Ordering::Relaxed) {
        page(&bench, PAGES[at % PAGES.len()], &mut seen).await;
        at += 1;
    }
    seen
}

/// Signs a person in; asked to wait, it waits as long as it is told and comes again.
async fn sign_in(base: String, name: String) -> (Bench, Samples) {
    let mut times = Samples::default();
    let start = Instant::now();
    let bench = Bench::new(&base);
    let fields = HashMap::from([("name", name.as_str()), ("password", "kapea-silta-4")]);
    loop {
        let answer = bench.post("/sign-in", &fields).await;
        if answer.status.is_redirection() {
            times.add(start.elapsed());
            return (bench, times);
        }
        let pause = answer.headers.get("retry-after").and_then(|value| value.to_str().ok());
        let pause: u64 = pause.and_then(|text| text.parse().ok()).unwrap_or_else(|| {
            panic!("{name} does not come in: {} {}", answer.status, answer.text)
        });
        tokio::time::sleep(std::time::Duration::from_secs(pause)).await;
    }
}

/// Runs the load on the site in the database of that address, served by a process of its own.
///
/// # Panics
///
/// When one answer was a fault, with all of them.
pub async fn run(url: &str) {
    // What is due once a month is not due again: here it is checked before each use.
    let cluster = std::env::var("VAAKA_BENCH_CLUSTER").unwrap();
    let owner = format!("postgres://vaaka_owner@{cluster}/site");
    let mut owner = AsyncPgConnection::establish(&owner).await.unwrap();
    let before_use = "SET session_replication_role = replica;
        UPDATE plan_versions SET due_rule = 'before_use' WHERE id > 9060";
    owner.batch_execute(before_use).await.unwrap();
    let server = Process::serve(url).await;
    let before = server.resident();
    let mut coming = Vec::new();
    for number in 0..WRITERS + READERS {
        let name = format!("bench{}", 1 + number % WRITERS);
        coming.push(tokio::spawn(sign_in(server.base.clone(), name)));
    }
    let (mut benches, mut sign_ins) = (Vec::new(), Samples::default());
    for one in coming {
        let (bench, times) = one.await.unwrap();
        benches.push(bench);
        sign_ins.extend(times);
    }
    println!("{} people sign in at once", WRITERS + READERS);
    sign_ins.line("from the password to the round");
    println!("  memory of the server: {before:.0} MB before, {:.0} MB after", server.resident());

    let over = Arc::new(AtomicBool::new(false));
    let looking: Vec<_> = benches
        .split_off(WRITERS)
        .into_iter()
        .enumerate()
        .map(|(number, bench)| tokio::spawn(reader(bench, number, Arc::clone(&over))))
        .collect();
    let start = Instant::now();
    let worked = server.worked();
    let writing: Vec<_> = benches
        .into_iter()
        .enumerate()
        .map(|(number, bench)| tokio::spawn(writer(bench, number)))
        .collect();
    let mut all = Seen::default();
    for one in writing {
        all.take(one.await.unwrap());
    }
    let seconds = start.elapsed().as_secs_f64();
    over.store(true, Ordering::Relaxed);
    let mut looked = Seen::default();
    for one in looking {
        looked.take(one.await.unwrap());
    }
    println!(
        "{WRITERS} run checks to their verdicts, {READERS} go from page to page, for {seconds:.0} s"
    );
    all.saves.line("entry saved");
    all.verdicts.line("last entry, with verdict and charts");
    all.pages.line("page of a writer");
    looked.pages.line("page of a reader");
    let answers =
        all.saves.count() + all.verdicts.count() + all.pages.count() + looked.pages.count();
    println!(
        "  p99 of an entry {:.0} ms; {:.0} answers a second; {} checks; {} faults",
        all.saves.quantile(0.99),
        answers as f64 / seconds,
        all.checks,
        all.faults.len() + looked.faults.len()
    );
    let [own, clients, machine] = std::array::from_fn(|n| server.worked()[n] - worked[n]);
    println!(
        "  a processor worked {own:.0} s for the server, {clients:.0} s for the clients, {:.0} s for the database and all else",
        machine - own - clients
    );
    let loaded = server.resident();
    // What was lent to the load is given back: as much again, and it holds no more than after the first.
    tokio::time::sleep(std::time::Duration::from_secs(20)).await;
    println!(
        "  memory of the server: {loaded:.0} MB after the load, {:.0} MB at rest",
        server.resident()
    );
    let faults: Vec<&String> = all.faults.iter().chain(&looked.faults).take(12).collect();
    assert!(faults.is_empty(), "{faults:#?}");
}
