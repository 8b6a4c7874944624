//! Server and database are killed; everything acknowledged is still there, nothing is twice.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use diesel_async::{RunQueryDsl, SimpleAsyncConnection};
use jiff::{SignedDuration, Timestamp};
use reqwest::StatusCode;
use tempfile::TempDir;
use tokio::process::{Child, Command};
use vaaka::demo::{Request, generate, load};
use vaaka_store::migrate;

use crate::browser::script;
use crate::client::Bench;
use crate::support::{DAYS, connect, now};

/// A cluster of its own, with fsync on, because it is going to be killed.
struct Cluster {
    folder: TempDir,
    port: u16,
}

fn is_root() -> bool {
    // The owner of this process's own entry in /proc is its user.
    std::os::unix::fs::MetadataExt::uid(&std::fs::metadata("/proc/self").unwrap()) == 0
}

impl Cluster {
    fn command(&self, program: &str) -> Command {
        let path = Path::new(&std::env::var("VAAKA_TEST_PG_BIN").unwrap()).join(program);
        let mut command = if is_root() {
            let mut command = Command::new("runuser");
            command.args(["-u", "postgres", "--"]).arg(path);
            command
        } else {
            Command::new(path)
        };
        // What pg_ctl starts must not hold this test's pipes open.
        command.current_dir("/").stdout(Stdio::null()).stderr(Stdio::null()).stdin(Stdio::null());
        command
    }

    fn data(&self) -> PathBuf {
        self.folder.path().join("pg")
    }

    async fn run(&self, program: &str, arguments: &[&str]) {
        let status = self.command(program).arg("-D").arg(self.data()).args(arguments).status();
        assert!(status.await.unwrap().success(), "{program} {arguments:?}");
    }

    async fn make() -> Self {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::Builder::new().prefix("vaaka-kill.").tempdir_in("/tmp").unwrap();
        let everyone = std::fs::Permissions::from_mode(0o777);
        std::fs::set_permissions(folder.path(), everyone).unwrap();
        let port = {
            let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
            listener.local_addr().unwrap().port()
        };
        let cluster = Self { folder, port };
        cluster
            .run("initdb", &["-U", "vaaka_owner", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8"])
            .await;
        cluster.start().await;
        cluster
    }

    async fn start(&self) {
        let log = self.data().join("server.log");
        let options =
            format!("-p {} -c listen_addresses=127.0.0.1 -c unix_socket_directories=''", self.port);
        self.run("pg_ctl", &["-s", "-w", "-l", log.to_str().unwrap(), "-o", &options, "start"])
            .await;
    }

    /// Stops as a power cut does: no checkpoint, recovery at the next start.
    async fn kill(&self) {
        self.run("pg_ctl", &["-s", "-w", "-m", "immediate", "stop"]).await;
    }

    fn url(&self, user: &str, database: &str) -> String {
        format!("postgres://{user}@127.0.0.1:{}/{database}", self.port)
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        let mut stop = std::process::Command::new(if is_root() { "runuser" } else { "env" });
        if is_root() {
            stop.args(["-u", "postgres", "--"]);
        }
        let program = Path::new(&std::env::var("VAAKA_TEST_PG_BIN").unwrap()).join("pg_ctl");
        let _ = stop
            .arg(program)
            .arg("-D")
            .arg(self.data())
            .args(["-s", "-w", "-m", "immediate", "stop"])
            .current_dir("/")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
    }
}

/// The real program as a process of its own.
async fn serve(cluster: &Cluster, port: u16) -> (Child, String) {
    serve_from(cluster, port, now()).await
}

async fn serve_from(cluster: &Cluster, port: u16, clock: Timestamp) -> (Child, String) {
    let listen = format!("127.0.0.1:{port}");
    crate::client::serve(&cluster.url("vaaka", "vaaka"), &listen, &clock.to_string()).await
}

/// A cluster with the demo world in it.
async fn mill() -> Cluster {
    let cluster = Cluster::make().await;
    let mut admin = connect(&cluster.url("vaaka_owner", "postgres")).await;
    admin.batch_execute("CREATE DATABASE vaaka").await.unwrap();
    let owner = cluster.url("vaaka_owner", "vaaka");
    migrate::run(&owner).await.unwrap();
    let mut connection = connect(&owner).await;
    connection.batch_execute("CREATE ROLE vaaka LOGIN IN ROLE vaaka_app").await.unwrap();
    let world = generate(&Request { days: DAYS, seed: 20, ends_at: now() }).unwrap();
    load(&mut connection, world).await.unwrap();
    drop((admin, connection));
    cluster
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_acknowledged_survives_a_kill_of_server_and_database() {
    let cluster = mill().await;
    let (mut child, base) = serve(&cluster, 0).await;
    let port: u16 = base.rsplit(':').next().unwrap().parse().unwrap();
    let cookies = cluster.folder.path().join("cookies.json");
    let cookies = cookies.to_str().unwrap();
    let path = script("kill.mjs", &base, &["before", cookies]).await;
    let path = path.lines().last().unwrap().trim().to_owned();

    child.start_kill().unwrap();
    child.wait().await.unwrap();
    cluster.kill().await;
    cluster.start().await;
    let (mut child, base) = serve(&cluster, port).await;
    script("kill.mjs", &base, &["after", cookies, &path]).await;

    // With the database away the page says so in words, and the field keeps what was typed.
    cluster.kill().await;
    script("kill.mjs", &base, &["without", cookies, &path]).await;
    cluster.start().await;
    script("kill.mjs", &base, &["finish", cookies, &path]).await;
    child.start_kill().unwrap();
    child.wait().await.unwrap();
}

#[derive(diesel::QueryableByName)]
struct Count {
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    count: i64,
}

async fn kept(cluster: &Cluster, path: &str) -> i64 {
    let mut owner = connect(&cluster.url("vaaka_owner", "vaaka")).await;
    let id = path.rsplit('/').next().unwrap();
    let query = format!("SELECT count(*) FROM readings WHERE check_id = {id}");
    diesel::sql_query(query).get_result::<Count>(&mut owner).await.unwrap().count
}

/// Runs a check to its end; after every single step the server is killed and the browser is
/// gone, at every fourth the database, too. The form that was under way comes once more.
async fn killed_at_every_step(cluster: &Cluster, tag: &str, answers: &[(&str, &str)]) {
    let mut clock = now();
    let (mut child, mut base) = serve_from(cluster, 0, clock).await;
    let mut bench = Bench::aino(&base).await;
    let path = bench.start(tag).await;
    let mut steps = 0;
    loop {
        let page = bench.get(&path).await;
        if page.status == StatusCode::SEE_OTHER {
            assert!(page.location.unwrap().ends_with("/verdict"));
            break;
        }
        let mut form = page.form("form.entry");
        let step = form["step"].clone();
        let typed = answers.iter().find(|(key, _)| *key == step).map_or("", |(_, typed)| *typed);
        form.insert("typed".into(), typed.into());
        for name in page.boxes() {
            form.insert(name, "on".into());
        }
        let answer = bench.post(&format!("{path}/entries"), &form).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{step}: {}", answer.text);
        steps += 1;

        child.start_kill().unwrap();
        child.wait().await.unwrap();
        if steps % 4 == 0 {
            cluster.kill().await;
            cluster.start().await;
        }
        // The clock has gone on meanwhile, past the wait where one began.
        clock += SignedDuration::from_mins(if step == "wait-1" { 11 } else { 1 });
        (child, base) = serve_from(cluster, 0, clock).await;
        bench = Bench::aino(&base).await;
        assert_eq!(kept(cluster, &path).await, steps, "after {step}");
        let page = bench.get(&path).await;
        if page.status == StatusCode::OK {
            let next = page.form("form.entry");
            assert!(next["step"] != step || next["repeat"] != form["repeat"], "{step} again");
            form.insert("form_token".into(), next["form_token"].clone());
            let again = bench.post(&format!("{path}/entries"), &form).await;
            assert_eq!(again.status, StatusCode::SEE_OTHER, "{}", again.text);
            assert_eq!(kept(cluster, &path).await, steps, "{step} is not kept twice");
            if step == "wait-1" {
                assert!(page.words("nav.timers").contains("ready since"), "its timer runs on");
            }
        }
    }
    let round = bench.get("/").await;
    let row = round.all("table.round tbody tr").into_iter().find(|row| row.contains(tag)).unwrap();
    assert!(row.contains("Verdict"), "{row}");
    child.start_kill().unwrap();
    child.wait().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_check_reopens_where_it_was_killed_whatever_the_step_and_the_method() {
    let cluster = mill().await;
    let scale = [
        ("standard", "M1-B"),
        ("zero", "0.000"),
        ("load-1-5-rising", "5.001"),
        ("load-2-10-rising", "10.001"),
        ("load-3-20-rising", "20.002"),
        ("load-4-10-falling", "10.001"),
        ("load-5-10-corner", "10.001"),
        ("zero-return", "0.000"),
    ];
    killed_at_every_step(&cluster, "R-02", &scale).await;
    let gauge = [
        ("standard", "TR-1"),
        ("setting-1", "Pt100"),
        ("setting-2", "°C"),
        ("condition-1", "21,5"),
        ("point-1-60-rising", "60.0"),
        ("point-2-110-rising", "109.9"),
        ("point-3-160-rising", "160.0"),
    ];
    killed_at_every_step(&cluster, "R-21", &gauge).await;
}
