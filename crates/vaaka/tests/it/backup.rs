//! A backup is proven by its restore.

use diesel::sql_types::{BigInt, Text};
use diesel_async::{RunQueryDsl, SimpleAsyncConnection};
use vaaka::backup::{backup, restore};
use vaaka_store::seals;

use crate::client::Bench;
use crate::support::{Server, connect, demo_database, now, owner_url};

#[derive(diesel::QueryableByName, Debug, PartialEq)]
struct Counted {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    rows: i64,
}

/// Rows of every table, and a hash over the verdicts.
async fn contents(database: &str) -> Vec<Counted> {
    let mut connection = connect(&owner_url(database)).await;
    let mut found: Vec<Counted> = diesel::sql_query(
        "SELECT table_name::text AS name, (xpath('/row/c/text()', query_to_xml(
             format('SELECT count(*) AS c FROM %I', table_name), false, true, '')))[1]::text::bigint AS rows
         FROM information_schema.tables WHERE table_schema = 'public' ORDER BY 1",
    )
    .load(&mut connection)
    .await
    .unwrap();
    let hash: Vec<Counted> = diesel::sql_query(
        "SELECT md5(string_agg(r.verdict::text || encode(r.inputs_hash, 'hex'), '|' ORDER BY r.id)) AS name,
             count(*) AS rows FROM results r",
    )
    .load(&mut connection)
    .await
    .unwrap();
    found.extend(hash);
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restore_holds_all_that_was_backed_up() {
    let database = demo_database().await;
    let server = Server::over(database.clone(), now()).await;
    Bench::aino(&server.base).await.start("R-02").await;
    let mut owner = server.owner().await;
    while seals::seal(&mut owner, now()).await.unwrap().is_some() {}
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("vaaka.backup");
    assert!(backup(&owner_url(&database), &file).await.unwrap() > 10_000);
    // Never over another one, and never into a database with something in it.
    let again = backup(&owner_url(&database), &file).await.unwrap_err().to_string();
    assert!(again.contains("never written over another"), "{again}");
    let full = restore(&owner_url(&database), &file).await.unwrap_err().to_string();
    assert!(full.contains("not empty"), "{full}");
    let copy = format!("{database}_copy");
    let mut admin = connect(&owner_url("postgres")).await;
    admin.batch_execute(&format!("CREATE DATABASE {copy}")).await.unwrap();
    let found = restore(&owner_url(&copy), &file).await.unwrap();
    assert!(found.faults.is_empty() && found.seals > 0 && found.entries > 1_000);
    assert_eq!(contents(&copy).await, contents(&database).await);
    // And it is worked with as before.
    let copied = Server::over(copy, now()).await;
    let aino = Bench::aino(&copied.base).await;
    assert!(aino.get("/").await.text.contains("Go on"), "the check that was begun is there");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_no_backup_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("note.txt");
    std::fs::write(&file, "this is no backup").unwrap();
    let name = format!("restore_{}", std::process::id());
    let mut admin = connect(&owner_url("postgres")).await;
    admin.batch_execute(&format!("CREATE DATABASE {name}")).await.unwrap();
    let error = restore(&owner_url(&name), &file).await.unwrap_err().to_string();
    assert!(error.contains("pg_restore"), "{error}");
    let missing = restore(&owner_url(&name), &folder.path().join("none")).await.unwrap_err();
    assert!(missing.to_string().contains("There is no file"));
    assert!(contents_is_empty(&name).await);
}

async fn contents_is_empty(database: &str) -> bool {
    let mut connection = connect(&owner_url(database)).await;
    let tables: Vec<Counted> = diesel::sql_query(
        "SELECT 'tables' AS name, count(*) AS rows FROM information_schema.tables WHERE table_schema = 'public'",
    )
    .load(&mut connection)
    .await
    .unwrap();
    tables[0].rows == 0
}
