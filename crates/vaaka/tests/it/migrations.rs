//! Migrations run, revert and run again; every foreign key has an index; diesel's picture of
//! the tables is the real one.

use std::collections::BTreeSet;

use diesel::sql_types::Text;
use diesel_async::{RunQueryDsl, SimpleAsyncConnection};
use vaaka_store::migrate;

use crate::support::{connect, empty_database, owner_url};

#[derive(diesel::QueryableByName)]
struct Line {
    #[diesel(sql_type = Text)]
    line: String,
}

async fn lines(database: &str, query: &str) -> Vec<String> {
    let mut connection = connect(&owner_url(database)).await;
    let rows: Vec<Line> = diesel::sql_query(query).load(&mut connection).await.unwrap();
    rows.into_iter().map(|row| row.line).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_step_runs_reverts_and_runs_again() {
    let name = format!("migrate_{}", std::process::id());
    // The template makes the cluster's roles first, so that two tests do not make them at once.
    empty_database().await;
    let mut admin = connect(&owner_url("postgres")).await;
    admin.batch_execute(&format!("CREATE DATABASE {name}")).await.unwrap();
    let url = owner_url(&name);
    let ran = migrate::run(&url).await.unwrap();
    assert!(ran.len() >= 5, "{ran:?}");
    for _ in &ran {
        migrate::revert_last(&url).await.unwrap();
    }
    let left = lines(
        &name,
        "SELECT table_name::text AS line FROM information_schema.tables
         WHERE table_schema = 'public' AND table_name NOT LIKE '\\_\\_diesel%'",
    )
    .await;
    assert_eq!(left, Vec::<String>::new(), "tables left after reverting");
    assert_eq!(migrate::run(&url).await.unwrap().len(), ran.len());
    assert!(migrate::run(&url).await.unwrap().is_empty(), "nothing is pending");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_foreign_key_has_an_index() {
    let database = empty_database().await;
    let missing = lines(
        &database,
        "SELECT c.conrelid::regclass::text || '.' || a.attname AS line
         FROM pg_constraint c
         JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = c.conkey[1]
         WHERE c.contype = 'f' AND c.connamespace = 'public'::regnamespace
           AND NOT EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.conrelid
                           AND i.indkey[0] = c.conkey[1] AND i.indpred IS NULL)",
    )
    .await;
    assert_eq!(missing, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn diesels_tables_are_the_real_ones() {
    let database = empty_database().await;
    let real: BTreeSet<String> = lines(
        &database,
        "SELECT table_name || '.' || column_name || CASE is_nullable WHEN 'YES' THEN '?' ELSE '' END AS line
         FROM information_schema.columns
         WHERE table_schema = 'public' AND table_name NOT LIKE '\\_\\_diesel%'",
    )
    .await
    .into_iter()
    .collect();
    let source = include_str!("../../../vaaka-store/src/schema.rs");
    let mut pictured = BTreeSet::new();
    for block in source.split("diesel::table!").skip(1) {
        let (head, rest) = block.split_once("{ ").unwrap();
        let _ = head;
        let (name, rest) = rest.split_once(' ').unwrap();
        let (_, columns) = rest.split_once('{').unwrap();
        let (columns, _) = columns.split_once('}').unwrap();
        for column in columns.split(',').map(str::trim).filter(|column| !column.is_empty()) {
            let (column, kind) = column.split_once(" -> ").unwrap();
            let null = if kind.starts_with("Nullable") { "?" } else { "" };
            pictured.insert(format!("{name}.{}{null}", column.trim()));
        }
    }
    assert_eq!(pictured, real);
}
