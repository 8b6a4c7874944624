//! Whatever is changed behind the application's back is found and named.

use diesel_async::SimpleAsyncConnection;
use vaaka_store::seals;
use vaaka_store::verification::{Fault, KnownSeal, Progress, Verification, Wanted, verify};

use crate::client::Bench;
use crate::support::{Server, demo_database, now};

async fn sealed() -> Server {
    let server = Server::over(demo_database().await, now()).await;
    let aino = Bench::aino(&server.base).await;
    aino.start("R-02").await;
    let mut owner = server.owner().await;
    while seals::seal(&mut owner, now()).await.unwrap().is_some() {}
    server
}

async fn look(server: &Server) -> Verification {
    let wanted = Wanted { trail_only: true, ..Wanted::default() };
    verify(&mut server.owner().await, &wanted, &Progress::default()).await.unwrap()
}

/// The books agree: chains, seals, evidence.
pub async fn unbroken(owner: &mut diesel_async::AsyncPgConnection) {
    let wanted = Wanted { trail_only: true, ..Wanted::default() };
    let found = verify(owner, &wanted, &Progress::default()).await.unwrap();
    assert_eq!(found.faults, vec![]);
}

/// As somebody who owns the database would do it: triggers off.
async fn behind_the_back(server: &Server, sql: &str) {
    let text = format!("SET session_replication_role = replica; {sql}");
    server.owner().await.batch_execute(&text).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_untouched_trail_is_unbroken_and_sealed_to_its_end() {
    let server = sealed().await;
    let found = look(&server).await;
    assert_eq!(found.faults, vec![]);
    assert!(found.entries > 1_000 && found.seals > 0 && found.unsealed == 0, "{found:?}");
    // What comes after the newest seal waits for the next one, and is no fault.
    Bench::aino(&server.base).await;
    let found = look(&server).await;
    assert_eq!((found.faults.len(), found.unsealed), (0, 1));
    let veera = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    let page = veera.get("/audit?chain=check:1").await;
    assert!(page.all(".plain-list tbody tr").len() > 3);
    assert!(
        page.find("form[action='/audit/verify']").is_none(),
        "an auditor reads; a lead looks over"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edited_row_is_named() {
    for (column, value) in [
        ("detail", "'{\"typed\": \"20.000\"}'::jsonb"),
        ("person_id", "2"),
        ("at", "at + interval '1 hour'"),
        ("action", "'nothing'"),
        ("hash", "sha256('x')"),
    ] {
        let server = sealed().await;
        behind_the_back(
            &server,
            &format!("UPDATE audit_entries SET {column} = {value} WHERE chain = 'check:5' AND sequence = 3"),
        )
        .await;
        let found = look(&server).await;
        assert!(
            found.faults.iter().any(|fault| matches!(fault,
                Fault::Entry { chain, sequence: 3 | 4 } if chain == "check:5")),
            "{column}: {:?}",
            found.faults
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cut_tail_a_lost_chain_and_a_slipped_in_entry_are_named() {
    let server = sealed().await;
    behind_the_back(
        &server,
        "DELETE FROM audit_entries e WHERE chain = 'check:7' AND sequence = (SELECT max(sequence) FROM audit_entries WHERE chain = 'check:7')",
    )
    .await;
    let found = look(&server).await;
    assert!(
        matches!(found.faults.as_slice(), [Fault::Missing { chain, .. }] if chain == "check:7"),
        "{:?}",
        found.faults
    );
    let server = sealed().await;
    behind_the_back(&server, "DELETE FROM audit_entries WHERE chain = 'check:9'").await;
    let found = look(&server).await;
    assert!(found.faults.len() > 3, "{:?}", found.faults);
    assert!(
        found
            .faults
            .iter()
            .all(|fault| matches!(fault, Fault::Missing { chain, .. } if chain == "check:9"))
    );
    // Even with its hash computed rightly, an entry of last week is covered by no seal.
    let server = sealed().await;
    let entry = vaaka_store::audit::AuditEntry::following(
        None,
        &vaaka_store::audit::Happening {
            chain: "check:999999",
            at: now().checked_sub(jiff::SignedDuration::from_hours(100)).unwrap(),
            person: None,
            action: "check_opened",
            detail: serde_json::json!({}),
        },
    );
    behind_the_back(
        &server,
        &format!(
            "DELETE FROM audit_entries WHERE id = 3; INSERT INTO audit_entries (id, chain, sequence, at, action, detail, hash)
             VALUES (3, '{}', 1, '{}', 'check_opened', '{{}}', '\\x{}')",
            entry.chain,
            entry.at.0,
            entry.hash.iter().map(|byte| format!("{byte:02x}")).collect::<String>()
        ),
    )
    .await;
    let found = look(&server).await;
    assert!(!found.faults.is_empty(), "{found:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_or_removed_seal_is_named() {
    let server = sealed().await;
    behind_the_back(&server, "UPDATE audit_seals SET at = at + interval '1 s' WHERE sequence = 1")
        .await;
    assert!(look(&server).await.faults.contains(&Fault::Seal { seal: 1 }));
    let server = sealed().await;
    behind_the_back(&server, "DELETE FROM audit_seals WHERE sequence = 1").await;
    let found = look(&server).await;
    assert!(!found.faults.is_empty(), "{found:?}");
}

#[derive(diesel::QueryableByName)]
struct Text {
    #[diesel(sql_type = diesel::sql_types::Text)]
    line: String,
}

/// Every column of every evidence table in turn, edited in one row behind the application's back.
#[tokio::test(flavor = "multi_thread")]
async fn an_edit_of_any_column_of_any_evidence_is_named() {
    let server = sealed().await;
    // A row in each table that the demo leaves empty would say nothing new: those with rows are edited.
    let columns = crate::web_chart_room::lines(
        &server.database,
        "SELECT c.table_name || '.' || c.column_name || '.' || c.udt_name AS line
         FROM information_schema.columns c JOIN evidence_tables t ON t.relation = c.table_name
         WHERE c.is_generated = 'NEVER' ORDER BY 1",
    )
    .await;
    let mut edited = 0;
    let mut unseen = Vec::new();
    for column in columns {
        let mut parts = column.split('.');
        let (table, name, kind) =
            (parts.next().unwrap(), parts.next().unwrap(), parts.next().unwrap());
        let other = match kind {
            "int8" | "int4" | "numeric" | "float8" => format!("-{name} - 7"),
            "text" => format!("{name} || ' '"),
            "bool" => format!("NOT {name}"),
            "timestamptz" => format!("{name} + interval '1 microsecond'"),
            "date" => format!("{name} + 1"),
            "uuid" => "gen_random_uuid()".to_owned(),
            "bytea" => format!("{name} || '\\x00'::bytea"),
            "jsonb" => format!("jsonb_build_object('was', {name})"),
            "_text" => format!("{name} || 'x'::text"),
            "_int8" | "_int4" | "_numeric" | "_float8" => {
                format!("{name} || ARRAY[1]::{}[]", &kind[1..])
            }
            "_bool" => format!("{name} || true"),
            other => panic!("{table}.{name} is {other}: say how it is edited"),
        };
        let mut owner = server.owner().await;
        // Without triggers and constraints: the worst that somebody with the files in hand could do.
        let changed = owner
            .batch_execute(&format!(
                "BEGIN; SET LOCAL session_replication_role = replica;
                 CREATE TEMP TABLE touched ON COMMIT DROP AS SELECT ctid AS at FROM {table} WHERE {name} IS NOT NULL LIMIT 1;
                 DO $$ DECLARE c record; BEGIN
                   FOR c IN SELECT conname FROM pg_constraint WHERE conrelid = '{table}'::regclass AND contype = 'c' LOOP
                     EXECUTE format('ALTER TABLE {table} DROP CONSTRAINT %I', c.conname);
                   END LOOP; END $$;
                 UPDATE {table} SET {name} = {other} WHERE ctid IN (SELECT at FROM touched);"
            ))
            .await;
        if let Err(error) = changed {
            panic!("{table}.{name}: {error}");
        }
        use diesel_async::RunQueryDsl;
        let faults: Vec<Text> = diesel::sql_query(format!(
            "SELECT row_key || ' ' || fault AS line FROM evidence_faults('{table}', 10)
             UNION ALL SELECT 'file ' || id FROM files WHERE sha256 <> sha256(bytes)
             UNION ALL SELECT 'trace ' || reading_id FROM traces WHERE sha256 <> sha256(bytes)
             UNION ALL SELECT 'capture ' || id FROM captures WHERE sha256 <> sha256(bytes)"
        ))
        .load(&mut owner)
        .await
        .unwrap();
        let any = format!("SELECT count(*)::text AS line FROM {table} WHERE {name} IS NOT NULL");
        let rows: Vec<Text> = diesel::sql_query(any).load(&mut owner).await.unwrap();
        owner.batch_execute("ROLLBACK").await.unwrap();
        if rows[0].line == "0" {
            continue;
        }
        edited += 1;
        if faults.is_empty() {
            unseen.push(format!("{table}.{name}"));
        }
    }
    assert!(unseen.is_empty(), "nobody notices: {unseen:?}");
    assert!(edited > 250, "{edited} columns were edited");
    assert_eq!(look(&server).await.faults, vec![], "all was put back");
}

/// What people with the keys to the database might do, and what the look says of it.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_done_behind_the_back_is_named() {
    let reading = "(SELECT min(r.id) FROM readings r JOIN checks c ON c.id = r.check_id
        WHERE r.kind = 'reading' AND c.state = 'concluded')";
    type Case = (&'static str, String, fn(&Fault) -> bool);
    let cases: [Case; 9] = [
        ("a reading is edited", format!("UPDATE readings SET indication = indication + 1 WHERE id = {reading}"), |f| matches!(f, Fault::Row { relation, what, .. } if relation == "readings" && what == "changed")),
        ("a reading is deleted", format!("DELETE FROM readings WHERE id = {reading}"), |f| matches!(f, Fault::Row { relation, what, .. } if relation == "readings" && what == "gone")),
        (
            "a reading is put in",
            format!("INSERT INTO readings SELECT (jsonb_populate_record(r, jsonb_build_object('id', 99999999,
                'idempotency_key', gen_random_uuid(), 'repeat', 77))).* FROM readings r WHERE id = {reading}"),
            |f| matches!(f, Fault::Row { relation, what, .. } if relation == "readings" && what == "put in"),
        ),
        (
            "two readings are swapped",
            format!("UPDATE readings r SET indication = o.indication FROM readings o
                WHERE (r.id, o.id) IN (({reading}, {reading} + 1), ({reading} + 1, {reading}))"),
            |f| matches!(f, Fault::Row { relation, .. } if relation == "readings"),
        ),
        ("a fail becomes a pass", "UPDATE results SET conforms = CASE conforms WHEN 'fail' THEN 'pass' ELSE 'fail' END WHERE id = (SELECT min(id) FROM results)".into(), |f| matches!(f, Fault::Row { relation, .. } if relation == "results")),
        ("a point is moved", "UPDATE chart_points SET value = value + 0.1 WHERE id = (SELECT min(id) FROM chart_points)".into(), |f| matches!(f, Fault::Row { relation, .. } if relation == "chart_points")),
        ("a certified value is edited", "UPDATE certified_values SET certified_value = certified_value + 0.001 WHERE id = (SELECT min(id) FROM certified_values)".into(), |f| matches!(f, Fault::Row { relation, .. } if relation == "certified_values")),
        ("a whole check is taken away", "DELETE FROM checks WHERE id = 20; DELETE FROM audit_entries WHERE chain = 'check:20'; DELETE FROM evidence WHERE relation = 'checks' AND row_key = '20'".into(), |f| matches!(f, Fault::Evidence { .. } | Fault::Missing { .. })),
        ("a row and its hash are edited alike", "UPDATE checks SET void_reason = 'so', state = 'void', counts = false, voided_by = 2, voided_at = closed_at WHERE id = 20; UPDATE evidence e SET hash = evidence_hash(to_jsonb(c)) FROM checks c WHERE c.id = 20 AND e.relation = 'checks' AND e.row_key = '20'".into(), |f| matches!(f, Fault::Evidence { .. })),
    ];
    for (what, sql, wanted) in cases {
        let server = sealed().await;
        behind_the_back(&server, &format!("SET timezone = 'UTC'; {sql}")).await;
        let found = look(&server).await;
        assert!(found.faults.iter().any(wanted), "{what}: {:?}", found.faults);
    }
    // With triggers on it leaves its trace, and no entry stands beside it.
    let server = sealed().await;
    server
        .owner()
        .await
        .batch_execute("UPDATE segments SET cause = 'so' WHERE id = 1")
        .await
        .unwrap();
    let found = look(&server).await;
    assert!(
        found
            .faults
            .iter()
            .any(|f| matches!(f, Fault::Unnoted { relation, .. } if relation == "segments")),
        "{:?}",
        found.faults
    );
}

/// Who takes away the last seal with all that it covers leaves a trail that agrees with itself; a seal that is known from
/// outside says so.
#[tokio::test(flavor = "multi_thread")]
async fn a_cut_end_is_named_against_the_last_known_seal() {
    let server = sealed().await;
    let mut owner = server.owner().await;
    let known = seals::newest(&mut owner).await.unwrap().unwrap();
    let line = format!("{} 2026-11-24T20:34:00Z", known.line());
    let wanted = Wanted { known: vec![KnownSeal::parse(&line).unwrap()], trail_only: true };
    let fine = verify(&mut owner, &wanted, &Progress::default()).await.unwrap();
    assert_eq!(fine.faults, vec![]);
    behind_the_back(
        &server,
        "DELETE FROM audit_entries WHERE id IN (SELECT unnest(entry_ids) FROM audit_seals
             WHERE sequence = (SELECT max(sequence) FROM audit_seals));
         DELETE FROM audit_seals WHERE sequence = (SELECT max(sequence) FROM audit_seals)",
    )
    .await;
    let found = verify(&mut owner, &wanted, &Progress::default()).await.unwrap();
    assert!(found.faults.contains(&Fault::Cut { seal: known.sequence }), "{:?}", found.faults);
    let other = Wanted {
        known: vec![KnownSeal { sequence: 1, hash: "00000000".into() }],
        trail_only: true,
    };
    let found = verify(&mut owner, &other, &Progress::default()).await.unwrap();
    assert!(found.faults.contains(&Fault::Other { seal: 1 }), "{:?}", found.faults);
    for nonsense in ["", "12", "x 3f2a90bc", "12 3f2a", "12 zzzzzzzz"] {
        assert_eq!(KnownSeal::parse(nonsense), None, "{nonsense}");
    }
    assert_eq!(KnownSeal::parse(" 12  3F2A 90bc ").unwrap().hash, "3f2a90bc");
}

/// A lead looks over everything from the page: results are computed again; one look at a time; nobody else begins one.
#[tokio::test(flavor = "multi_thread")]
async fn a_lead_looks_over_everything() {
    let server = sealed().await;
    let aino = Bench::aino(&server.base).await;
    let refused = crate::web_chart_room::post(&aino, "/audit/verify", &[]).await;
    assert_eq!(refused.status, reqwest::StatusCode::FORBIDDEN);
    let ilma = crate::web_chart_room::ilma(&server).await;
    let odd =
        crate::web_chart_room::post(&ilma, "/audit/verify", &[("known", "the last one")]).await;
    assert!(odd.words("#known-error").contains("number of the seal"), "{}", odd.text);
    assert_eq!(odd.attribute("#known", "value").as_deref(), Some("the last one"));
    let found = ilma.look_over(&server).await;
    assert!(found.contains("Unbroken."), "{found}");
    assert!(found.contains("results computed again"), "{found}");
    // A result that does not come of its readings, with its evidence forged alike, is named by the computation.
    behind_the_back(
        &server,
        "SET timezone = 'UTC';
         UPDATE characteristics SET singles = ARRAY[0.5]::numeric[] WHERE id = (SELECT min(id) FROM characteristics);
         UPDATE evidence e SET hash = evidence_hash(to_jsonb(c)) FROM characteristics c
         WHERE e.relation = 'characteristics' AND e.row_key = c.id::text AND c.id = (SELECT min(id) FROM characteristics)",
    )
    .await;
    let found = ilma.look_over(&server).await;
    assert!(found.contains("is not what its readings come to"), "{found}");
}

/// An entry that waits for its seal costs nothing: a look is linear, and two at once are one.
#[tokio::test(flavor = "multi_thread")]
async fn one_look_at_a_time_and_given_up_between_two_steps() {
    let server = sealed().await;
    let (mut one, mut two) = (server.owner().await, server.owner().await);
    one.batch_execute("BEGIN; SELECT pg_advisory_xact_lock(7305132461)").await.unwrap();
    let wanted = Wanted { trail_only: true, ..Wanted::default() };
    let busy = verify(&mut two, &wanted, &Progress::default()).await;
    assert!(matches!(busy, Err(vaaka_store::StoreError::Busy)), "{busy:?}");
    one.batch_execute("ROLLBACK").await.unwrap();
    let progress = Progress::default();
    progress.cancelled.store(true, std::sync::atomic::Ordering::Relaxed);
    let ended = verify(&mut two, &wanted, &progress).await;
    assert!(matches!(ended, Err(vaaka_store::StoreError::Cancelled)), "{ended:?}");
    let fine = verify(&mut two, &wanted, &Progress::default()).await.unwrap();
    assert_eq!(fine.faults, vec![], "the connection is whole");
}
