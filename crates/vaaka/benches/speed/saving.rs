//! Saving one reading over HTTP beside a bare single-row commit, alternately on one cluster.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use diesel::ExpressionMethods;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use jiff::Timestamp;
use tokio::net::TcpListener;
use uuid::Uuid;
use vaaka::demo::{Request, generate, load};
use vaaka_core::method::{EntryValue, Purpose, StepKey};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::entries::{self, NewEntry};
use vaaka_store::ids::{CertificateId, PersonId, PlanVersionId, ShiftId};
use vaaka_store::{Store, migrate, people, plans, sessions};
use vaaka_web::{AppState, FixedClock, Settings};

use crate::client::Bench;
use crate::samples::Samples;

diesel::table! { bare_rows (id) { id -> BigInt, typed -> Text, } }

/// Checks that each client runs, at one client and at eight together.
const LAPS: [(usize, usize); 2] = [(1, 60), (8, 20)];
/// Readings of the tank scale's check, in its order.
pub const READINGS: [&str; 9] =
    ["0.000", "5.001", "10.002", "20.004", "20.005", "20.004", "10.003", "10.002", "0.000"];
/// Where the copies of the tank scale begin, clear of the demo's own ids.
const FIRST_COPY: i64 = 9_000;

/// Eight copies of the tank scale, its plan and points, one for each client.
const COPIES: &str = "
    INSERT INTO instruments (id, tag, name, area_id, unit, resolution, maximum, serial, state, version)
        SELECT 9000 + n, 'T-' || n, name, area_id, unit, resolution, maximum, serial || n, state, version
        FROM instruments, generate_series(0, 8) n WHERE tag = 'R-02';
    INSERT INTO set_ups (id, instrument_id, name) SELECT 9000 + n, 9000 + n, 'as installed' FROM generate_series(0, 8) n;
    INSERT INTO plans (id, instrument_id, set_up_id, name, method_key)
        SELECT 9000 + n, 9000 + n, 9000 + n, p.name, p.method_key
        FROM plans p JOIN instruments i ON i.id = p.instrument_id, generate_series(0, 8) n WHERE i.tag = 'R-02';
    INSERT INTO plan_versions (id, plan_id, version, state, standard_id, settings, minutes, due_rule,
            created_by, approved_by, approved_at, unit, resolution, range_low, maximum)
        SELECT 9000 + n, 9000 + n, v.version, v.state, v.standard_id, v.settings, v.minutes, v.due_rule,
            v.created_by, v.approved_by, v.approved_at, v.unit, v.resolution, v.range_low, v.maximum
        FROM plan_versions v JOIN plans p ON p.id = v.plan_id JOIN instruments i ON i.id = p.instrument_id,
            generate_series(0, 8) n WHERE i.tag = 'R-02';
    INSERT INTO plan_points (plan_version_id, sequence, nominal, travel, place, repeats, charted, pieces)
        SELECT 9000 + n, q.sequence, q.nominal, q.travel, q.place, q.repeats, q.charted, q.pieces
        FROM plan_points q JOIN plan_versions v ON v.id = q.plan_version_id JOIN plans p ON p.id = v.plan_id
            JOIN instruments i ON i.id = p.instrument_id, generate_series(0, 8) n WHERE i.tag = 'R-02';
    CREATE TABLE bare_rows (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, typed text NOT NULL);
    GRANT INSERT ON bare_rows TO vaaka_app;";

async fn database(cluster: &str, now: Timestamp) -> String {
    let owner = |name: &str| format!("postgres://vaaka_owner@{cluster}/{name}");
    let mut admin = AsyncPgConnection::establish(&owner("postgres")).await.unwrap();
    admin.batch_execute("CREATE DATABASE bench").await.unwrap();
    migrate::run(&owner("bench")).await.unwrap();
    admin.batch_execute("CREATE ROLE vaaka LOGIN IN ROLE vaaka_app").await.unwrap();
    let mut connection = AsyncPgConnection::establish(&owner("bench")).await.unwrap();
    let world = generate(&Request { days: 45, seed: 20, ends_at: now }).unwrap();
    load(&mut connection, world).await.unwrap();
    connection.batch_execute(COPIES).await.unwrap();
    connection.batch_execute("VACUUM ANALYZE").await.unwrap();
    format!("postgres://vaaka@{cluster}/bench")
}

pub async fn bare_commit(store: &Store) -> Samples {
    let mut samples = Samples::default();
    let start = Instant::now();
    let mut connection = store.connection().await.unwrap();
    diesel::insert_into(bare_rows::table)
        .values(bare_rows::typed.eq("20.004"))
        .execute(&mut connection)
        .await
        .unwrap();
    samples.add(start.elapsed());
    samples
}

/// Runs checks to the last reading and voids them, so that each has the entries of a real one.
async fn client(bench: Bench, store: Store, version: i64, laps: usize) -> (Samples, Samples) {
    let (mut posts, mut commits) = (Samples::default(), Samples::default());
    for _ in 0..laps {
        let round = bench.get("/").await;
        let mut fields = round.form("td.do form");
        fields.insert("plan_version".into(), version.to_string());
        fields.insert("key".into(), Uuid::new_v4().to_string());
        let path = bench.post("/checks", &fields).await.location.unwrap();
        let mut readings = READINGS.iter();
        loop {
            let page = bench.get(&path).await;
            if page.find("form.entry.reading").is_none() {
                // The closing step comes after the last reading.
                if readings.len() == 0 {
                    break;
                }
                bench.confirm(&path).await;
                continue;
            }
            let mut fields = page.form("form.entry");
            fields.insert("typed".into(), (*readings.next().unwrap()).to_owned());
            let entries = format!("{path}/entries");
            // By turns first, because what comes right after the page finds everything cold.
            let commit_first = readings.len().is_multiple_of(2);
            if commit_first {
                commits.extend(bare_commit(&store).await);
            }
            let start = Instant::now();
            let answer = bench.post(&entries, &fields).await;
            posts.add(start.elapsed());
            assert_eq!(answer.location.as_deref(), Some(path.as_str()), "{}", answer.text);
            if !commit_first {
                commits.extend(bare_commit(&store).await);
            }
        }
        let fields = HashMap::from([
            ("form_token", bench.get(&path).await.form("form.entry")["form_token"].clone()),
            ("reason", "other".to_owned()),
            ("words", "measured".to_owned()),
        ]);
        bench.post(&format!("{path}/void"), &fields).await;
    }
    (posts, commits)
}

/// The parts of a saving, one after the other on one connection.
async fn parts(base: &str, store: &Store, now: Timestamp) -> Vec<(&'static str, Samples)> {
    let mut names: HashMap<&'static str, Samples> = HashMap::new();
    let http = reqwest::Client::new();
    let mut connection = store.connection().await.unwrap();
    let person = people::by_sign_in(&mut connection, "aino").await.unwrap().unwrap().id;
    let until = Timestamp::now() + jiff::SignedDuration::from_hours(1);
    sessions::create(store, "measured", serde_json::json!({}), Some(person), until).await.unwrap();
    let view = plans::version(&mut connection, PlanVersionId(FIRST_COPY + 8)).await.unwrap();
    let shift = {
        let site = vaaka_store::shifts::site(&connection).await.unwrap();
        vaaka_store::shifts::current(&mut connection, &site, now).await.unwrap().id
    };
    for _ in 0..40 {
        let check = open(&mut connection, &view, shift, person, now).await;
        for repeat in 1..=16 {
            let mut time = |name: &'static str, start: Instant| {
                names.entry(name).or_default().add(start.elapsed());
            };
            let start = Instant::now();
            http.get(format!("{base}/health")).send().await.unwrap().bytes().await.unwrap();
            time("HTTP round trip of an empty answer", start);
            let start = Instant::now();
            sessions::signed_in(&mut connection, "measured", Timestamp::now())
                .await
                .unwrap()
                .unwrap();
            time("session and person", start);
            let start = Instant::now();
            let seen = entries::check_now(&connection, check).await.unwrap();
            seen.entries.run_state().unwrap();
            time("check, its entries and version", start);
            let start = Instant::now();
            let value = EntryValue::Reading {
                indication: "20.004".parse().unwrap(),
                added: None,
                far_confirmed: false,
            };
            let entry = NewEntry {
                original: None,
                capture: None,
                check,
                step: &StepKey("measured".into()),
                repeat,
                value: &value,
                typed: "20.004",
                unit: Some("kg"),
                person,
                measured_at: now,
                received_at: now,
                key: Uuid::new_v4(),
                replaces: None,
                second: None,
                source: "keyed",
            };
            entries::keep(&mut connection, &entry, seen.head).await.unwrap();
            time("reading and audit entry, committed", start);
        }
        let seen =
            vaaka_store::audit::head(&connection, &vaaka_store::audit::chain(check)).await.unwrap();
        vaaka_store::voids::void(&mut connection, check, person, "measured", seen.as_ref(), now)
            .await
            .unwrap();
    }
    [
        "HTTP round trip of an empty answer",
        "session and person",
        "check, its entries and version",
        "reading and audit entry, committed",
    ]
    .into_iter()
    .map(|name| (name, names.remove(name).unwrap()))
    .collect()
}

async fn open(
    connection: &mut AsyncPgConnection,
    view: &plans::PlanView,
    shift: ShiftId,
    person: PersonId,
    now: Timestamp,
) -> vaaka_store::ids::CheckId {
    let new = NewCheck {
        plan: view,
        shift,
        certificates: vec![CertificateId(4)],
        purpose: Purpose::AsFound,
        person,
        now,
        key: Uuid::new_v4(),
        late: None,
    };
    checks::open(connection, &new).await.unwrap()
}

pub async fn run() {
    let Ok(cluster) = std::env::var("VAAKA_BENCH_CLUSTER") else {
        panic!("VAAKA_BENCH_CLUSTER is not set: run bin/bench, which makes a cluster");
    };
    let now: Timestamp = "2026-11-24T20:34:00Z".parse().unwrap();
    let url = database(&cluster, now).await;
    let store = Store::new(&url, 16).unwrap();
    let state = AppState::new(store.clone(), Arc::new(FixedClock(now)), Settings::default());
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(vaaka_web::serve(listener, state, std::future::pending()));

    for (clients, laps) in LAPS {
        let mut running = Vec::new();
        for number in 0..clients {
            let bench = Bench::aino(&base).await;
            let version = FIRST_COPY + number as i64;
            running.push(tokio::spawn(client(bench, store.clone(), version, laps)));
        }
        let (mut posts, mut commits) = (Samples::default(), Samples::default());
        for one in running {
            let (p, c) = one.await.unwrap();
            posts.extend(p);
            commits.extend(c);
        }
        println!("saving one reading, {clients} at once");
        commits.line("bare single-row commit");
        posts.line("reading saved over HTTP");
        println!(
            "  the commit plus {:.3} ms at the median; {:.2} × the commit",
            posts.median() - commits.median(),
            posts.median() / commits.median()
        );
    }
    println!("where a saving's time goes, one client, part by part");
    for (name, samples) in parts(&base, &store, now).await {
        samples.line(name);
    }
}
