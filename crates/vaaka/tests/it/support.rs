//! Databases cloned from a template, and servers on port 0.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU32, Ordering};

use diesel::sql_types::Text;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use jiff::Timestamp;
use tokio::net::TcpListener;
use tokio::sync::oneshot;
use vaaka::demo::{self, Request};
use vaaka_store::{Store, migrate};
use vaaka_web::{AppState, Clock, FixedClock, Settings};

/// A Tuesday night at 22:34 in Helsinki: the night shift began at 22:00.
pub const NOW: &str = "2026-11-24T20:34:00Z";
/// Days of history in the demo template; enough for a frozen baseline and the drift.
pub const DAYS: u16 = 45;

/// Code of the first administrator in tests.
pub const FIRST_CODE: &str = "4f1c-77aa-0b3d-912e";

pub fn now() -> Timestamp {
    NOW.parse().unwrap()
}

fn cluster() -> String {
    std::env::var("VAAKA_TEST_CLUSTER")
        .expect("VAAKA_TEST_CLUSTER is not set: run the tests with bin/test, which makes a cluster")
}

pub fn owner_url(database: &str) -> String {
    format!("postgres://vaaka_owner@{}/{database}", cluster())
}

/// The application's own role, so that a missing grant fails here and not at the mill.
pub fn app_url(database: &str) -> String {
    format!("postgres://vaaka@{}/{database}", cluster())
}

pub async fn connect(url: &str) -> AsyncPgConnection {
    AsyncPgConnection::establish(url).await.unwrap()
}

#[derive(diesel::QueryableByName)]
struct Name {
    #[allow(dead_code)]
    #[diesel(sql_type = Text)]
    name: String,
}

/// Makes the template once for all tests: an advisory lock keeps two from making it together.
async fn template(name: &str, with_demo: bool) {
    let mut admin = connect(&owner_url("postgres")).await;
    admin.batch_execute("SELECT pg_advisory_lock(8300)").await.unwrap();
    let found: Vec<Name> =
        diesel::sql_query("SELECT datname::text AS name FROM pg_database WHERE datname = $1")
            .bind::<Text, _>(name)
            .load(&mut admin)
            .await
            .unwrap();
    if found.is_empty() {
        let draft = format!("{name}_draft");
        admin.batch_execute(&format!("CREATE DATABASE {draft}")).await.unwrap();
        migrate::run(&owner_url(&draft)).await.unwrap();
        admin
            .batch_execute(
                "DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'vaaka') THEN
                 CREATE ROLE vaaka LOGIN IN ROLE vaaka_app; END IF; END $$",
            )
            .await
            .unwrap();
        if with_demo {
            let world = demo::generate(&Request { days: DAYS, seed: 20, ends_at: now() }).unwrap();
            let mut connection = connect(&owner_url(&draft)).await;
            demo::load(&mut connection, world).await.unwrap();
        }
        admin.batch_execute(&format!("ALTER DATABASE {draft} RENAME TO {name}")).await.unwrap();
    }
    admin.batch_execute("SELECT pg_advisory_unlock(8300)").await.unwrap();
}

static COUNT: AtomicU32 = AtomicU32::new(0);

async fn clone(from: &str) -> String {
    let number = COUNT.fetch_add(1, Ordering::Relaxed);
    let name = format!("test_{}_{number}", std::process::id());
    let mut admin = connect(&owner_url("postgres")).await;
    // Cloning wants the template to itself: one at a time.
    admin.batch_execute("SELECT pg_advisory_lock(8301)").await.unwrap();
    admin.batch_execute(&format!("CREATE DATABASE {name} TEMPLATE {from}")).await.unwrap();
    admin.batch_execute("SELECT pg_advisory_unlock(8301)").await.unwrap();
    name
}

/// A fresh migrated database without data.
pub async fn empty_database() -> String {
    template("template_empty", false).await;
    clone("template_empty").await
}

/// A fresh database with the small demo world.
pub async fn demo_database() -> String {
    template("template_demo", true).await;
    clone("template_demo").await
}

/// A clock that a test moves on by hand.
#[derive(Debug)]
pub struct HandClock(AtomicI64);

impl HandClock {
    pub fn at(moment: Timestamp) -> Arc<Self> {
        Arc::new(Self(AtomicI64::new(moment.as_microsecond())))
    }

    pub fn pass(&self, seconds: i64) {
        self.0.fetch_add(seconds * 1_000_000, Ordering::SeqCst);
    }
}

impl Clock for HandClock {
    fn now(&self) -> Timestamp {
        Timestamp::from_microsecond(AtomicI64::load(&self.0, Ordering::SeqCst)).unwrap()
    }
}

/// A server over a database, stopped when dropped.
pub struct Server {
    pub base: String,
    pub database: String,
    pub state: AppState,
    stop: Option<oneshot::Sender<()>>,
}

impl Server {
    pub async fn demo() -> Self {
        Self::over(demo_database().await, now()).await
    }

    pub async fn over(database: String, now: Timestamp) -> Self {
        Self::with_clock(database, Arc::new(FixedClock(now))).await
    }

    pub async fn with_clock(database: String, clock: Arc<dyn Clock>) -> Self {
        let store = Store::new(&app_url(&database), 8).unwrap();
        let settings = Settings {
            demo_sign_ins: demo::sign_ins(),
            first_code: FIRST_CODE.into(),
            ..Settings::default()
        };
        let state = AppState::new(store, clock, settings);
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let (stop, stopped) = oneshot::channel::<()>();
        tokio::spawn(vaaka_web::serve(listener, state.clone(), async {
            let _ = stopped.await;
        }));
        Self { base, database, state, stop: Some(stop) }
    }

    /// Does the long work that was asked for, part by part, as the server's own task does; how many parts there were.
    pub async fn work_off(&self) -> usize {
        let mut connection = connect(&app_url(&self.database)).await;
        let mut parts = 0;
        while vaaka_store::worker::work(&mut connection, &self.state, now()).await.unwrap() {
            parts += 1;
        }
        parts
    }

    pub async fn owner(&self) -> AsyncPgConnection {
        connect(&owner_url(&self.database)).await
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
    }
}

impl crate::client::Bench {
    /// Looks over the whole audit trail, as a lead; gives what the page says at the end.
    pub async fn look_over(&self, server: &Server) -> String {
        let page = self.get("/audit").await;
        let mut fields = page.form("form[action='/audit/verify']");
        fields.insert("known".into(), String::new());
        let over = std::cell::Cell::new(false);
        let posted = async {
            let begun = self.post("/audit/verify", &fields).await;
            over.set(true);
            begun
        };
        // What another task of the server does meanwhile; a part that is begun is brought to its end.
        let other_task = async {
            while !over.get() {
                server.work_off().await;
                tokio::task::yield_now().await;
            }
        };
        let (begun, ()) = tokio::join!(posted, other_task);
        server.work_off().await;
        assert_eq!(begun.status, reqwest::StatusCode::SEE_OTHER, "{}", begun.text);
        let page = self.get("/audit").await;
        assert!(page.find("progress").is_none(), "{}", page.text);
        page.words("main")
    }
}
