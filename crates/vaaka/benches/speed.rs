//! Speed as ratios in one run: chart evaluation beside a plain sum, and saving one reading over
//! HTTP beside a bare single-row commit on the same cluster. Run by `bin/bench`, which makes a
//! cluster with fsync on and names it in `VAAKA_BENCH_CLUSTER`.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

#[path = "speed/chart.rs"]
mod chart;
#[path = "../tests/it/client.rs"]
#[allow(dead_code)]
mod client;
#[path = "speed/lines.rs"]
mod lines;
#[path = "speed/load.rs"]
mod load;
#[path = "speed/long.rs"]
mod long;
#[path = "speed/samples.rs"]
mod samples;
#[path = "speed/saving.rs"]
mod saving;
#[path = "speed/site.rs"]
mod site;
#[path = "speed/trace.rs"]
mod trace;

fn main() {
    // `cargo test --benches` would run this without a cluster.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    // `bin/bench -- site` runs one of the seven only.
    let asked: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    let wanted = |name: &str| asked.is_empty() || asked.iter().any(|one| one == name);
    if wanted("chart") {
        chart::run();
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        if wanted("saving") {
            saving::run().await;
        }
        if ["site", "trace", "load", "long", "lines"].into_iter().any(wanted) {
            let site = site::open().await;
            if wanted("site") {
                site::run(&site).await;
            }
            if wanted("trace") {
                trace::run(&site).await;
            }
            if wanted("load") {
                load::run(&site.url).await;
            }
            if wanted("lines") {
                lines::run(&site).await;
            }
            if wanted("long") {
                long::run(&site).await;
            }
        }
    });
}
