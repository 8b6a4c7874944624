//! Long work beside the requests: a clerical fix of a certificate on which the whole site rests, carried through ten thousand
//! checks, and what a page takes meanwhile.

use std::time::{Duration, Instant};

use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use vaaka_store::worker;
use vaaka_web::{AppState, Settings, SystemClock};

use crate::client::Bench;
use crate::samples::Samples;
use crate::site::Site;

/// Checks after which the measurement ends.
const CHECKS: usize = 10_000;
/// Nor does it take longer than this.
const PATIENCE: Duration = Duration::from_secs(150);

/// The certificate of the site's weights again, one of its values moved by a little, and the job that carries it through.
const FIX: &str = "
    SET session_replication_role = replica;
    INSERT INTO certificates (id, lot_id, number, version, kind, issuer, issued_on, valid_from, valid_until, change, replaces_id)
        SELECT 900001, lot_id, number, version + 1, kind, issuer, issued_on, valid_from, valid_until, 'clerical', id
        FROM certificates WHERE id = 4;
    INSERT INTO certified_values (certificate_id, piece, nominal, certified_value, expanded_uncertainty, coverage_factor, unit, class_limit)
        SELECT 900001, piece, nominal, certified_value + 0.0000001, expanded_uncertainty, coverage_factor, unit, class_limit
        FROM certified_values WHERE certificate_id = 4;
    INSERT INTO jobs (work, path, asked_by, asked_at, total)
        SELECT jsonb_build_object('kind', 'amend', 'from', 4, 'to', 900001), '/certificates/900001', 5, now(), count(*)
        FROM checks WHERE certificate_id = 4;
    SET session_replication_role = DEFAULT;";

/// Runs it.
pub async fn run(site: &Site) {
    let owner = site.url.replace("vaaka@", "vaaka_owner@");
    let mut owner = AsyncPgConnection::establish(&owner).await.unwrap();
    owner.batch_execute(FIX).await.unwrap();
    let bench = Bench::signed_in(&site.base, "bench1", "kapea-silta-4").await;
    let page = async |samples: &mut Samples| {
        let start = Instant::now();
        let page = bench.get("/instruments/S-1").await;
        samples.add(start.elapsed());
        assert_eq!(page.status, reqwest::StatusCode::OK);
    };
    let (mut alone, mut beside) = (Samples::default(), Samples::default());
    for _ in 0..30 {
        page(&mut alone).await;
    }
    let state =
        AppState::new(site.store.clone(), std::sync::Arc::new(SystemClock), Settings::default());
    let url = site.url.clone();
    let start = Instant::now();
    let job = tokio::spawn(async move {
        let mut connection = AsyncPgConnection::establish(&url).await.unwrap();
        let mut done = 0;
        while done < CHECKS && start.elapsed() < PATIENCE {
            assert!(worker::work(&mut connection, &state, jiff::Timestamp::now()).await.unwrap());
            // Twenty checks a part.
            done += 20;
        }
        (done, start.elapsed())
    });
    while !job.is_finished() {
        page(&mut beside).await;
    }
    let (done, took) = job.await.unwrap();
    println!("a clerical fix carried through {done} checks of a site");
    println!(
        "  {:.1} s, {:.1} ms a check",
        took.as_secs_f64(),
        took.as_secs_f64() * 1e3 / done as f64
    );
    alone.line("page of an instrument, the site at rest");
    beside.line("the same while the fix goes on");
    println!("  {:.2} × at the median", beside.median() / alone.median());
}
