//! A site of 500 instruments with five years behind it: saving with 64 benches at once, the round
//! of 60 checks and the page of an instrument.

use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use axum::extract::{Request as Asked, State};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::Response;
use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use jiff::Timestamp;
use tokio::net::TcpListener;
use uuid::Uuid;
use vaaka::demo::{Request, generate, load};
use vaaka_store::{Store, migrate};
use vaaka_web::{AppState, Clock, Settings};

use crate::client::Bench;
use crate::samples::Samples;
use crate::saving::{READINGS, bare_commit};

/// Benches at once.
const BENCHES: usize = 64;
/// Views of each page.
const VIEWS: usize = 60;

/// Copies of the tank scale: 60 that are due each shift, 440 each month; a check of each for every
/// time it was due in five years, with its readings, result, characteristics, chart points and
/// audit entries, all copies of the newest real one. Foreign keys are not asked again: the copies
/// name what is there.
const SITE: &str = "
    SET session_replication_role = replica;
    UPDATE plan_versions SET state = 'superseded';
    INSERT INTO people (id, sign_in, name, role, password_hash, created_at)
        SELECT 9000 + n, 'bench' || n, 'Bench ' || n, 'technician', p.password_hash, p.created_at
        FROM people p, generate_series(1, 64) n WHERE p.sign_in = 'aino';
    INSERT INTO trainings (person_id, method_key, trained_on, valid_until, recorded_by, at)
        SELECT 9000 + n, 'weighing', '2026-01-01', '2028-01-01', 5, now() FROM generate_series(1, 64) n;
    INSERT INTO areas (id, site_id, name, walk_order) VALUES (90, 1, 'Hall of thirty', 90);
    INSERT INTO instruments (id, tag, name, area_id, unit, resolution, range_low, maximum, serial, state, family)
        SELECT 9000 + n, 'S-' || n, name, CASE WHEN n BETWEEN 100 AND 129 THEN 90 ELSE 1 + n % 4 END, unit, resolution, range_low, maximum, serial || n, 'in_service', 'scale'
        FROM instruments, generate_series(1, 500) n WHERE tag = 'R-02';
    INSERT INTO set_ups (id, instrument_id, name) SELECT 9000 + n, 9000 + n, 'as installed' FROM generate_series(1, 500) n;
    INSERT INTO plans (id, instrument_id, set_up_id, name, method_key)
        SELECT 9000 + n, 9000 + n, 9000 + n, 'each', 'weighing' FROM generate_series(1, 500) n;
    INSERT INTO plan_versions (id, plan_id, version, state, standard_id, settings, minutes, due_rule,
            created_by, approved_by, approved_at, unit, resolution, range_low, maximum)
        SELECT 9000 + n, 9000 + n, 1, 'approved', standard_id, settings, 5,
            CASE WHEN n <= 60 THEN 'each_shift' ELSE 'each_month' END,
            created_by, approved_by, approved_at, unit, resolution, range_low, maximum
        FROM plan_versions, generate_series(1, 500) n WHERE id = 1;
    INSERT INTO plan_points (plan_version_id, sequence, nominal, travel, place, repeats, charted, pieces)
        SELECT 9000 + n, sequence, nominal, travel, place, repeats, charted, pieces
        FROM plan_points, generate_series(1, 500) n WHERE plan_version_id = 1;
    INSERT INTO shift_instances (id, site_id, label, business_date, starts_at, ends_at)
        SELECT 100000 + k, 1, 'Past', (t AT TIME ZONE 'UTC')::date, t, t + interval '8 hours'
        FROM (SELECT k, (SELECT min(starts_at) FROM shift_instances) - k * interval '8 hours' AS t
              FROM generate_series(1, 5330) k) x;
    CREATE TEMP TABLE made AS
        SELECT 1000000 + row_number() OVER (ORDER BY s.starts_at, n) AS id, n, s.id AS shift,
            s.starts_at + (n % 60) * interval '5 minutes' AS at
        FROM shift_instances s, generate_series(1, 500) n
        WHERE s.starts_at < TIMESTAMPTZ '2026-11-24 14:00Z'
          AND (n <= 60 OR (s.id + n) % 92 = 0);
    CREATE TEMP TABLE model AS SELECT c.id FROM checks c JOIN instruments i ON i.id = c.instrument_id
        WHERE i.tag = 'R-02' AND c.state = 'concluded' ORDER BY c.id DESC LIMIT 1;
    INSERT INTO checks (id, plan_version_id, instrument_id, shift_instance_id, certificate_id, purpose, state,
            opened_by, opened_at, closed_by, closed_at, idempotency_key, held_by)
        SELECT m.id, 9000 + m.n, 9000 + m.n, m.shift, 4, 'as_found', 'concluded', 1 + m.n % 3, m.at,
            1 + m.n % 3, m.at + interval '4 minutes', gen_random_uuid(), 1 + m.n % 3 FROM made m;
    UPDATE plans SET last_done_on = done.day FROM (SELECT 9000 + m.n AS plan, max(s.business_date) AS day
            FROM made m JOIN shift_instances s ON s.id = m.shift GROUP BY m.n) done
        WHERE plans.id = done.plan;
    INSERT INTO readings (check_id, step_key, repeat, kind, typed, indication, unit, added, source, person_id,
            measured_at, received_at, idempotency_key)
        SELECT m.id, r.step_key, r.repeat, r.kind, r.typed, r.indication, r.unit, r.added, r.source, 1,
            m.at, m.at, gen_random_uuid() FROM made m, readings r WHERE r.check_id = (SELECT id FROM model);
    INSERT INTO results (id, check_id, version, plan_version_id, certificate_id, method_key, method_version,
            table_edition, inputs_hash, conforms, control, action, repeat_state, verdict, computed_at, computed_by)
        SELECT m.id, m.id, 1, 9000 + m.n, 4, r.method_key, r.method_version, r.table_edition, r.inputs_hash,
            'pass', 'in_control', r.action, r.repeat_state,
            CASE WHEN m.at > TIMESTAMPTZ '2026-10-01' THEN r.verdict ELSE '{}'::jsonb END, m.at, 1
        FROM made m, results r WHERE r.check_id = (SELECT id FROM model);
    INSERT INTO characteristics (result_id, sequence, key, label, kind, nominal, unit, decimals, singles,
            reference_standard_uncertainty, reading_standard_uncertainty, indicative, charted, conformity,
            decision_rule, expanded_uncertainty, coverage_factor)
        SELECT m.id, c.sequence, c.key, c.label, c.kind, c.nominal, c.unit, c.decimals, c.singles,
            0.1, 0.1, false, c.charted, 'pass', c.decision_rule, 0.2, 2
        FROM made m, characteristics c JOIN results r ON r.id = c.result_id
        WHERE r.check_id = (SELECT id FROM model);
    INSERT INTO chart_streams (id, instrument_id, set_up_id, method_key, characteristic_key, label, nominal, unit,
            decimals, interval_seconds)
        SELECT 9000 + 2 * n + (s.id % 2), 9000 + n, 9000 + n, s.method_key, s.characteristic_key, s.label, s.nominal,
            s.unit, s.decimals, s.interval_seconds
        FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id, generate_series(1, 500) n WHERE i.tag = 'R-02';
    INSERT INTO segments (id, stream_id, ordinal, opened_at, cause, design, sigma_source, state)
        SELECT n.id, n.id, 1, '2021-01-01', 'first checks', g.design, g.sigma_source, g.state
        FROM chart_streams n JOIN chart_streams s ON s.characteristic_key = n.characteristic_key
            JOIN instruments i ON i.id = s.instrument_id AND i.tag = 'R-02'
            JOIN segments g ON g.stream_id = s.id AND g.ordinal = 1
        WHERE n.id >= 9000;
    INSERT INTO chart_points (stream_id, segment_id, check_id, certificate_id, ordinal, measured_at, value, conformity,
            lower_tolerance_limit, upper_tolerance_limit, center_line, lower_control_limit, upper_control_limit,
            ewma, ewma_half_width, firings, advisory)
        SELECT s.id, s.id, m.id, 4, row_number() OVER (PARTITION BY s.id ORDER BY m.at) - 1, m.at, 2 + random(), 'pass',
            -20, 20, 2.5, -3, 8, 2.5, 1, '[]', '[]'
        FROM made m JOIN chart_streams s ON s.instrument_id = 9000 + m.n;
    -- One chart has ten years: the five before are the checks of its neighbour.
    INSERT INTO chart_points (stream_id, segment_id, check_id, certificate_id, ordinal, measured_at, value, conformity,
            lower_tolerance_limit, upper_tolerance_limit, center_line, lower_control_limit, upper_control_limit,
            ewma, ewma_half_width, firings, advisory)
        SELECT 9014, 9014, m.id, 4, 100000 + row_number() OVER (ORDER BY m.at), m.at - interval '1777 days',
            2 + random(), 'pass', -20, 20, 2.5, -3, 8, 2.5, 1, '[]', '[]' FROM made m WHERE m.n = 8;
    INSERT INTO audit_entries (chain, sequence, at, person_id, action, detail, hash)
        SELECT 'check:' || m.id, 1, m.at, 1, 'check_concluded', '{}', sha256(m.id::text::bytea) FROM made m;
    -- Long sealed, as on any site: else the server would seal five years while it is measured. Nobody verifies this trail.
    INSERT INTO audit_seals (sequence, at, entry_ids, chains, sequences, entries_hash, previous_hash, hash)
        SELECT last.sequence + n, TIMESTAMPTZ '2026-11-16 12:00Z' + n * interval '4 days',
            ARRAY[(SELECT max(id) FROM audit_entries)], ARRAY['site'], ARRAY[1], sha256('site'),
            CASE WHEN last.sequence + n > 1 THEN sha256('site') END, sha256('site')
        FROM generate_series(1, 2) n, (SELECT coalesce(max(sequence), 0) AS sequence FROM audit_seals) last;
    CREATE TABLE bare_rows (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, typed text NOT NULL);
    GRANT INSERT ON bare_rows TO vaaka_app;
    SET session_replication_role = origin;";

async fn database(cluster: &str, now: Timestamp) -> String {
    let owner = |name: &str| format!("postgres://vaaka_owner@{cluster}/{name}");
    let mut admin = AsyncPgConnection::establish(&owner("postgres")).await.unwrap();
    if admin.batch_execute("CREATE DATABASE site").await.is_err() {
        // A cluster that was left running has one already: to look at the pages again takes no new one.
        return format!("postgres://vaaka@{cluster}/site");
    }
    migrate::run(&owner("site")).await.unwrap();
    let mut connection = AsyncPgConnection::establish(&owner("site")).await.unwrap();
    let role = "DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'vaaka') THEN
        CREATE ROLE vaaka LOGIN IN ROLE vaaka_app; END IF; END $$";
    connection.batch_execute(role).await.unwrap();
    let world = generate(&Request { days: 45, seed: 20, ends_at: now }).unwrap();
    load(&mut connection, world).await.unwrap();
    connection.batch_execute(SITE).await.unwrap();
    connection
        .batch_execute("SELECT setval(pg_get_serial_sequence('results', 'id'), 9000000)")
        .await
        .unwrap();
    // Triggers slept while the copies were made.
    connection
        .batch_execute(
            "SELECT refresh_chart_blocks(array_agg(segment_id), array_agg(block))
             FROM (SELECT DISTINCT segment_id, ordinal / 16 AS block FROM chart_points
                   WHERE segment_id >= 9000 AND ordinal IS NOT NULL) made",
        )
        .await
        .unwrap();
    connection.batch_execute("VACUUM ANALYZE").await.unwrap();
    // What was just written goes to the disk now, not beside what is measured.
    connection.batch_execute("CHECKPOINT").await.unwrap();
    format!("postgres://vaaka@{cluster}/site")
}

/// One bench: signs in, begins its check, and saves its readings beside bare commits.
async fn bench(base: String, store: Store, number: usize) -> (Samples, Samples) {
    let (mut posts, mut commits) = (Samples::default(), Samples::default());
    let bench = Bench::signed_in(&base, &format!("bench{number}"), "kapea-silta-4").await;
    let round = bench.get("/").await;
    let mut fields = round.form("td.do form");
    let version = 9_000 + i64::try_from((number - 1) % 60 + 1).unwrap();
    fields.insert("plan_version".into(), version.to_string());
    fields.insert("key".into(), Uuid::new_v4().to_string());
    let path = bench.post("/checks", &fields).await.location.unwrap();
    let mut readings = READINGS.iter();
    loop {
        let page = bench.get(&path).await;
        if page.find("form.entry.reading").is_none() {
            // Four of 64 find the check of somebody else; the last reading ends it.
            if readings.len() == 0 || page.find("form.entry").is_none() {
                return (posts, commits);
            }
            bench.confirm(&path).await;
            continue;
        }
        let Some(typed) = readings.next() else { return (posts, commits) };
        let mut fields = page.form("form.entry");
        fields.insert("typed".into(), (*typed).to_owned());
        let entries = format!("{path}/entries");
        commits.extend(bare_commit(&store).await);
        let start = Instant::now();
        let answer = bench.post(&entries, &fields).await;
        posts.add(start.elapsed());
        assert_eq!(answer.location.as_deref(), Some(path.as_str()), "{}", answer.text);
    }
}

/// What the server itself took for each answer: from the head of the request to a whole page.
pub type Served = Arc<Mutex<Samples>>;

async fn timed(State(served): State<Served>, request: Asked, next: Next) -> Response {
    let start = Instant::now();
    let answer = next.run(request).await;
    served.lock().unwrap().add(start.elapsed());
    answer
}

pub async fn views(bench: &Bench, served: &Served, what: &str, path: &str) {
    *served.lock().unwrap() = Samples::default();
    let (mut samples, mut bytes) = (Samples::default(), 0);
    for _ in 0..VIEWS {
        let start = Instant::now();
        let page = bench.get(path).await;
        samples.add(start.elapsed());
        assert!(page.status.is_success(), "{path}: {}", page.status);
        bytes = page.text.len();
    }
    served.lock().unwrap().line(&format!("{what} ({} kB)", bytes / 1000));
    samples.line("    with its way over HTTP");
}

/// A clock that is moved on by hand.
#[derive(Debug)]
pub struct HandClock(Mutex<Timestamp>);

impl HandClock {
    pub fn pass(&self, time: Duration) {
        *self.0.lock().unwrap() += time;
    }
}

impl Clock for HandClock {
    fn now(&self) -> Timestamp {
        *self.0.lock().unwrap()
    }
}

/// The site, and a server over it.
pub struct Site {
    pub base: String,
    /// Address of its database.
    pub url: String,
    pub clock: Arc<HandClock>,
    pub store: Store,
    pub served: Served,
}

/// Makes the site on the cluster and serves it.
pub async fn open() -> Site {
    let Ok(cluster) = std::env::var("VAAKA_BENCH_CLUSTER") else {
        panic!("VAAKA_BENCH_CLUSTER is not set: run bin/bench, which makes a cluster");
    };
    let now: Timestamp = "2026-11-24T20:34:00Z".parse().unwrap();
    let start = Instant::now();
    let url = database(&cluster, now).await;
    println!(
        "a site of 500 instruments with five years behind it, made in {:.0} s",
        start.elapsed().as_secs_f64()
    );
    let store = Store::new(&url, 32).unwrap();
    let clock = Arc::new(HandClock(Mutex::new(now)));
    let state = AppState::new(store.clone(), Arc::clone(&clock) as _, Settings::default());
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    let served = Served::default();
    let server = vaaka_web::router(state).layer(from_fn_with_state(Arc::clone(&served), timed));
    tokio::spawn(async move { axum::serve(listener, server).await });
    Site { base, url, clock, store, served }
}

pub async fn run(Site { base, store, served, .. }: &Site) {
    let aino = Bench::aino(base).await;
    views(&aino, served, "round of 60 checks", "/").await;
    views(&aino, served, "page of an instrument", "/instruments/S-7").await;
    views(&aino, served, "chart of a month", "/charts/9014").await;
    views(&aino, served, "chart of a year", "/charts/9014?range=year").await;
    views(&aino, served, "chart of ten years, 10 600 points", "/charts/9014?range=all").await;
    views(&aino, served, "wall of 60 charts", "/wall?area=90").await;

    let mut running = Vec::new();
    for number in 1..=BENCHES {
        running.push(tokio::spawn(bench(base.clone(), store.clone(), number)));
    }
    let (mut posts, mut commits) = (Samples::default(), Samples::default());
    for one in running {
        let (p, c) = one.await.unwrap();
        posts.extend(p);
        commits.extend(c);
    }
    println!("saving one reading, {BENCHES} benches at once");
    commits.line("bare single-row commit");
    posts.line("reading saved over HTTP");
    println!("  {:.2} × the commit at the median", posts.median() / commits.median());
}
