//! Whatever is changed behind the application's back is found and named.

use diesel_async::SimpleAsyncConnection;
use vaaka_store::seals::{self, Fault};

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

async fn look(server: &Server) -> seals::Verification {
    seals::verify(&mut server.owner().await).await.unwrap()
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
    let page = veera.get("/audit?verify=yes&chain=check:1").await;
    assert!(page.text.contains("Unbroken."), "{}", page.text);
    assert!(page.all(".plain-list tbody tr").len() > 3);
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
