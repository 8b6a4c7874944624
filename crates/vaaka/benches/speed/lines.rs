//! Instruments over their lines: what the server adds to an instrument's own time, and twenty lines at once.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use async_trait::async_trait;
use tokio::net::TcpListener;
use vaaka_devices::stand_in::{Display, Shows, Speech, Trouble, serve};
use vaaka_devices::{Address, Answer, read};

use crate::client::Bench;
use crate::samples::Samples;
use crate::site::Site;

/// Lines at once, and readings of each.
const LINES: usize = 20;
const READINGS: u64 = 50;

/// An instrument that shows how often it was asked, at once.
struct Counts(AtomicU64);

#[async_trait]
impl Shows for Counts {
    fn speech(&self) -> Speech {
        Speech::Words
    }
    fn trouble(&self) -> Trouble {
        Trouble::None
    }
    async fn display(&self) -> Display {
        let text = self.0.fetch_add(1, Ordering::SeqCst).to_string();
        Display { text, unit: "kg".into(), steady: true }
    }
    async fn file(&self) -> Vec<u8> {
        Vec::new()
    }
    async fn pressed(&self) -> u64 {
        std::future::pending().await
    }
}

async fn stand_in() -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap().to_string();
    tokio::spawn(serve(listener, Arc::new(Counts(AtomicU64::new(0)))));
    address
}

/// Runs both.
pub async fn run(site: &Site) {
    let address = stand_in().await;
    let link = Speech::Words.link("kg");
    let ready = link.clone().ready().unwrap();
    let line: Address = address.parse().unwrap();
    let ilma = Bench::signed_in(&site.base, "ilma", "tyyni-selka-3").await;
    let path = "/instruments/S-1/link";
    let page = ilma.get(path).await;
    let typed = [
        ("in_use", "on"),
        ("address", &address),
        ("way", link.way.word()),
        ("ask", &link.ask),
        ("line_end", link.line_end.word()),
        ("timeout", "2"),
        ("settle", "0"),
        ("pattern", &link.pattern),
        ("stable_mark", &link.stable_mark),
        ("try", "yes"),
    ];
    let (mut alone, mut served) = (Samples::default(), Samples::default());
    for _ in 0..60 {
        let start = Instant::now();
        read(&line, &ready).await.unwrap();
        alone.add(start.elapsed());
        let start = Instant::now();
        let tried = ilma.submit(&page, path, &typed).await;
        served.add(start.elapsed());
        assert!(tried.words(".tried").contains("This came"), "{}", tried.words("main"));
    }
    println!("an instrument that answers at once");
    alone.line("its line read, nothing else");
    served.line("read over HTTP: its turn, its line, the page");
    println!("  {:.1} ms beyond the line at the median", served.median() - alone.median());
    let mut reading = tokio::task::JoinSet::new();
    let start = Instant::now();
    for _ in 0..LINES {
        let (line, ready) = (stand_in().await.parse::<Address>().unwrap(), ready.clone());
        reading.spawn(async move {
            for expected in 0..READINGS {
                match read(&line, &ready).await.unwrap() {
                    Answer::Number { reading, .. } => assert_eq!(reading.value, expected.into()),
                    Answer::File { .. } => panic!("a file"),
                }
            }
        });
    }
    while let Some(one) = reading.join_next().await {
        one.unwrap();
    }
    let took = start.elapsed().as_secs_f64();
    let all = LINES as f64 * READINGS as f64;
    println!("{LINES} lines at once, {all} readings, none lost and none twice");
    println!("  {took:.2} s, {:.0} a minute", all / took * 60.0);
}
