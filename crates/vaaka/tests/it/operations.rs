//! The commands of `docs/OPERATIONS.md`, walked in their order on an empty folder; and what is said where they do not fit.

use std::path::Path;
use std::process::{Command, Output};

use diesel_async::SimpleAsyncConnection;
use vaaka_store::migrate::{Schema, schema};

use crate::client::{Bench, serve};
use crate::support::{Server, connect, empty_database, owner_url};
use crate::web_chart_room::number;

/// Blocks of the document that are marked as walked.
fn walked() -> Vec<String> {
    let top = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap();
    let text = std::fs::read_to_string(top.join("docs/OPERATIONS.md")).unwrap();
    let blocks = text.split("<!-- walked -->\n```sh\n").skip(1);
    blocks.map(|rest| rest.split("```").next().unwrap().to_owned()).collect()
}

/// Runs a script as an administrator's shell does, with names of its own for what belongs to the cluster.
fn shell(folder: &Path, name: &str, script: &str) -> Output {
    let program = Path::new(env!("CARGO_BIN_EXE_vaaka")).parent().unwrap();
    let path = format!("{}:{}", program.display(), std::env::var("PATH").unwrap());
    Command::new("bash")
        .args(["-euc", script])
        .current_dir(folder)
        .env("PATH", path)
        .env("VAAKA_ADMIN_DATABASE_URL", owner_url("postgres"))
        .env("VAAKA_INIT_DATABASE", name)
        .env("VAAKA_INIT_OWNER", format!("{name}_owner"))
        .env("VAAKA_INIT_LOGIN", format!("{name}_login"))
        .env_remove("VAAKA_DATABASE_URL")
        .env_remove("VAAKA_OWNER_DATABASE_URL")
        .output()
        .unwrap()
}

fn said(output: &Output) -> String {
    format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn its_commands_are_walked() {
    // The cluster's common role first, so that two tests do not make it at once.
    empty_database().await;
    let name = format!("op{}", std::process::id());
    let drill = format!("{name}_drill");
    let folder = tempfile::tempdir().unwrap();
    let blocks = walked();
    assert_eq!(blocks.len(), 4, "{blocks:?}");
    for (place, block) in blocks.iter().enumerate() {
        let output = shell(folder.path(), &name, &block.replace("vaaka_drill", &drill));
        assert!(output.status.success(), "{block}\n{}", said(&output));
        if place == 0 {
            // What was made is served, and asks for its first administrator.
            let file = folder.path().join("vaaka.env");
            let text = std::fs::read_to_string(&file).unwrap();
            use std::os::unix::fs::PermissionsExt;
            assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
            let url = text.lines().find_map(|line| line.strip_prefix("VAAKA_DATABASE_URL="));
            let (mut child, base) =
                serve(url.unwrap(), "127.0.0.1:0", "2026-03-03T10:00:00+02:00").await;
            let stranger = Bench::new(&base);
            assert_eq!(stranger.get("/health").await.text, "ok");
            assert!(stranger.get("/first").await.words("main").contains("administrator"));
            child.kill().await.unwrap();
        }
        if block.contains("audit verify") {
            assert!(said(&output).contains("Unbroken"), "{}", said(&output));
        }
    }
    // A second time nothing is touched: neither the file nor what is in the cluster.
    let again = shell(folder.path(), &name, "vaaka init --env-file vaaka.env");
    assert!(!again.status.success() && said(&again).contains("there already"), "{}", said(&again));
    let again = shell(folder.path(), &name, "vaaka init");
    assert!(said(&again).contains("nothing was changed"), "{}", said(&again));
    for (script, words) in [
        ("vaaka init --database 'a b'", "lower-case letters"),
        ("vaaka init --owner same --login same", "must not own"),
        ("VAAKA_ADMIN_DATABASE_URL=nonsense vaaka init --database free", "give the cluster as"),
        (
            "VAAKA_ADMIN_DATABASE_URL=postgres://nobody@127.0.0.1:1/postgres vaaka init --database free",
            "cannot be reached",
        ),
    ] {
        let refused = shell(folder.path(), &name, script);
        assert!(!refused.status.success(), "{script}");
        assert!(said(&refused).contains(words), "{script}: {}", said(&refused));
    }
    let mut admin = connect(&owner_url("postgres")).await;
    for database in [&name, &drill] {
        let drop = format!(
            "DROP DATABASE {database} WITH (FORCE); DROP ROLE {database}_owner; DROP ROLE IF EXISTS {database}_login, {database};"
        );
        // One statement each: a database is not dropped within others.
        for statement in drop.split(';').filter(|one| !one.trim().is_empty()) {
            admin.batch_execute(statement).await.unwrap();
        }
    }
}

/// A service does not start on a database of another version, and says what to do.
#[tokio::test(flavor = "multi_thread")]
async fn a_database_of_another_version_is_told() {
    let database = empty_database().await;
    let url = owner_url(&database);
    let mut owner = connect(&url).await;
    assert_eq!(schema(&mut owner).await.unwrap(), Schema::Present);
    let folder = tempfile::tempdir().unwrap();
    let start = |words: &str| {
        let script = format!("vaaka serve --listen 127.0.0.1:0 --database-url '{url}'");
        let output = shell(folder.path(), "unused", &script);
        assert!(!output.status.success());
        assert!(said(&output).contains(words), "{}", said(&output));
    };
    let set = async |statement: &str, owner: &mut diesel_async::AsyncPgConnection| {
        owner.batch_execute(statement).await.unwrap();
    };
    set("INSERT INTO __diesel_schema_migrations (version) VALUES ('9999')", &mut owner).await;
    start("Start the newer program");
    set("DELETE FROM __diesel_schema_migrations WHERE version > '0034'", &mut owner).await;
    assert!(
        matches!(schema(&mut owner).await.unwrap(), Schema::Older { has, .. } if has == "0034")
    );
    start("then run “vaaka migrate”");
    set("DROP TABLE __diesel_schema_migrations", &mut owner).await;
    assert_eq!(schema(&mut owner).await.unwrap(), Schema::Missing);
    start("“vaaka init” for a new installation");
}

/// What a monitor scrapes, read by a parser of its format that is not ours.
#[tokio::test(flavor = "multi_thread")]
async fn a_monitor_reads_the_metrics() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    aino.start("R-02").await;
    let stranger = Bench::new(&server.base);
    assert!(
        stranger.get("/metrics").await.status != reqwest::StatusCode::OK,
        "for those with a key"
    );
    let text = aino.get("/metrics").await.text;
    let lines = text.lines().map(|line| Ok(line.to_owned()));
    let scrape = prometheus_parse::Scrape::parse(lines).unwrap();
    let value = |name: &str| {
        let sample = scrape.samples.iter().find(|one| one.metric == name).unwrap();
        match sample.value {
            prometheus_parse::Value::Gauge(value) => value,
            ref other => panic!("{name}: {other:?}"),
        }
    };
    let open =
        number(&server.database, "SELECT count(*) AS number FROM checks WHERE state = 'open'");
    assert_eq!(value("vaaka_checks_open"), open.await as f64);
    assert_eq!(value("vaaka_jobs_failed"), 0.0);
    assert_eq!(value("vaaka_build_info"), 1.0);
    let all: f64 = scrape
        .samples
        .iter()
        .filter(|one| one.metric == "vaaka_instruments" && one.labels.get("state").is_some())
        .map(|one| match one.value {
            prometheus_parse::Value::Gauge(value) => value,
            _ => panic!(),
        })
        .sum();
    let known = number(&server.database, "SELECT count(*) AS number FROM instruments").await;
    assert_eq!(all, known as f64);
    assert!(scrape.docs.contains_key("vaaka_checks_open"));
}
