//! The store's promises: what was written stays, digits stay, of two writers one wins, and a
//! stored chart is the same as one evaluated anew.

use diesel::prelude::*;
use diesel_async::{RunQueryDsl, SimpleAsyncConnection};
use jiff::SignedDuration;
use rust_decimal::Decimal;
use uuid::Uuid;
use vaaka_core::chart::{ChartDesign, ChartPoint, Scatter, evaluate};
use vaaka_core::method::{EntryValue, Purpose, StepKey};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::entries::{self, Kept, NewEntry};
use vaaka_store::ids::{CertificateId, CheckId, PersonId, PlanVersionId, StreamId};
use vaaka_store::schema::{audit_entries, readings};
use vaaka_store::{Connection, Store, audit, charts, plans, shifts};

use crate::support::{app_url, connect, demo_database, now, owner_url};

async fn open_check(connection: &mut Connection) -> CheckId {
    let view = plans::version(connection, PlanVersionId(1)).await.unwrap();
    let site = shifts::site(connection).await.unwrap();
    let shift = shifts::current(connection, &site, now()).await.unwrap();
    checks::open(
        connection,
        &NewCheck {
            plan: &view,
            shift: shift.id,
            certificates: vec![CertificateId(view.standard.as_ref().unwrap().id.0)],
            purpose: Purpose::AsFound,
            person: PersonId(1),
            now: now(),
            key: Uuid::new_v4(),
            late: None,
        },
    )
    .await
    .unwrap()
}

fn reading(text: &str) -> EntryValue {
    EntryValue::Reading { indication: text.parse().unwrap(), added: None, far_confirmed: false }
}

fn entry<'a>(check: CheckId, step: &'a StepKey, value: &'a EntryValue, key: Uuid) -> NewEntry<'a> {
    NewEntry {
        original: None,
        capture: None,
        check,
        step,
        repeat: 1,
        value,
        typed: "0.000",
        unit: Some("kg"),
        person: PersonId(1),
        measured_at: now(),
        received_at: now(),
        key,
        replaces: None,
        second: None,
        source: "keyed",
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn digits_stay_and_rows_are_kept_as_written() {
    let database = demo_database().await;
    let store = Store::new(&app_url(&database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    let check = open_check(&mut connection).await;
    let (step, value) = (StepKey::from("zero"), reading("12.50"));
    entries::keep(&mut connection, &entry(check, &step, &value, Uuid::new_v4()), None)
        .await
        .unwrap();
    let stored: Option<Decimal> = readings::table
        .filter(readings::check_id.eq(check))
        .select(readings::indication)
        .first(&mut connection)
        .await
        .unwrap();
    assert_eq!(stored.unwrap().to_string(), "12.50");

    // The application's role may not, and the owner is stopped by the trigger.
    for statement in [
        "UPDATE readings SET indication = 1",
        "DELETE FROM readings",
        "UPDATE results SET conforms = 'pass'",
        "DELETE FROM audit_entries",
    ] {
        let denied = connection.batch_execute(statement).await.unwrap_err().to_string();
        assert!(denied.contains("permission denied"), "{statement}: {denied}");
        let mut owner = connect(&owner_url(&database)).await;
        let refused = owner.batch_execute(statement).await.unwrap_err().to_string();
        assert!(refused.contains("kept as they were written"), "{statement}: {refused}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_writers_one_wins_and_a_retry_is_the_same_entry() {
    let database = demo_database().await;
    let store = Store::new(&app_url(&database), 8).unwrap();
    let mut connection = store.connection().await.unwrap();
    let check = open_check(&mut connection).await;
    let step = StepKey::from("zero");
    let mut waiting = Vec::new();
    for number in 0..6 {
        let (store, step) = (store.clone(), step.clone());
        waiting.push(tokio::spawn(async move {
            let mut connection = store.connection().await.unwrap();
            let value = reading(&format!("0.00{number}"));
            entries::keep(&mut connection, &entry(check, &step, &value, Uuid::new_v4()), None)
                .await
                .unwrap()
        }));
    }
    let mut outcomes = Vec::new();
    for one in waiting {
        outcomes.push(one.await.unwrap());
    }
    assert_eq!(outcomes.iter().filter(|kept| **kept == Kept::Now).count(), 1, "{outcomes:?}");
    assert_eq!(outcomes.iter().filter(|kept| **kept == Kept::Overtaken).count(), 5);

    let (other, value, key) = (StepKey::from("zero-return"), reading("0.001"), Uuid::new_v4());
    let new = entry(check, &other, &value, key);
    assert_eq!(entries::keep(&mut connection, &new, None).await.unwrap(), Kept::Now);
    assert_eq!(entries::keep(&mut connection, &new, None).await.unwrap(), Kept::Before);
    let entries = entries::entries(&connection, check).await.unwrap();
    assert_eq!((entries.standing.len(), entries.all), (2, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_audit_chain_shows_a_changed_row_and_a_void_check_takes_nothing_more() {
    let database = demo_database().await;
    let store = Store::new(&app_url(&database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    let check = open_check(&mut connection).await;
    let (step, value) = (StepKey::from("zero"), reading("0.000"));
    entries::keep(&mut connection, &entry(check, &step, &value, Uuid::new_v4()), None)
        .await
        .unwrap();
    let seen =
        vaaka_store::audit::head(&connection, &vaaka_store::audit::chain(check)).await.unwrap();
    vaaka_store::voids::void(
        &mut connection,
        check,
        PersonId(2),
        "the bench was bumped",
        seen.as_ref(),
        now(),
    )
    .await
    .unwrap();
    let after = entries::keep(
        &mut connection,
        &entry(check, &StepKey::from("late"), &value, Uuid::new_v4()),
        None,
    )
    .await
    .unwrap();
    assert_eq!(after, Kept::Overtaken);

    let chain = vaaka_store::audit::chain(check);
    let mut entries = audit::read_chain(&mut connection, &chain).await.unwrap();
    let actions: Vec<&str> = entries.iter().map(|entry| entry.action.as_str()).collect();
    assert_eq!(actions, ["check_opened", "entry_kept", "check_voided"]);
    assert_eq!(audit::first_break(&entries), None);
    entries[1].detail = serde_json::json!({ "typed": "0.001" });
    assert_eq!(audit::first_break(&entries), Some(2));

    // Also the generator's chains hold, as read back from jsonb.
    let some: Vec<String> = audit_entries::table
        .select(audit_entries::chain)
        .distinct()
        .limit(40)
        .load(&mut connection)
        .await
        .unwrap();
    for chain in some {
        let entries = audit::read_chain(&mut connection, &chain).await.unwrap();
        assert_eq!(audit::first_break(&entries), None, "{chain}");
    }
}

/// The stored evaluation came point by point, through JSON and back; evaluating the whole
/// segment anew must give the same bits.
#[tokio::test(flavor = "multi_thread")]
async fn a_stored_chart_is_the_same_as_one_evaluated_anew() {
    let database = demo_database().await;
    let store = Store::new(&app_url(&database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    let all = charts::all(&mut connection).await.unwrap();
    assert!(all.len() >= 10);
    let mut compared = 0;
    for view in all {
        let stream: StreamId = view.stream.id;
        let points = charts::points_since(&mut connection, stream, jiff::Timestamp::UNIX_EPOCH)
            .await
            .unwrap();
        for segment in charts::segments_of(&connection, stream).await.unwrap() {
            let Some(design) = segment.design.clone() else {
                continue;
            };
            let design: ChartDesign = serde_json::from_value(design).unwrap();
            let stored: Vec<_> = points
                .iter()
                .map(|view| &view.point)
                .filter(|point| point.segment_id == segment.id && point.ordinal.is_some())
                .collect();
            let series: Vec<ChartPoint> = stored
                .iter()
                .map(|point| ChartPoint {
                    readings: u32::try_from(point.readings).unwrap(),
                    scatter: point
                        .std_dev
                        .zip(point.reading_range)
                        .map(|(std_dev, range)| Scatter { std_dev, range }),
                    ..ChartPoint::new(point.measured_at.0, point.value)
                })
                .collect();
            let interval = SignedDuration::from_secs(view.stream.interval_seconds);
            let (_, evaluations) = evaluate(&design, interval, &series);
            for (point, evaluation) in stored.iter().zip(&evaluations) {
                assert_eq!(
                    point.center_line.map(f64::to_bits),
                    Some(evaluation.center_line.to_bits())
                );
                assert_eq!(point.ewma.map(f64::to_bits), Some(evaluation.ewma.to_bits()));
                assert_eq!(point.firings, serde_json::to_value(evaluation.firings()).unwrap());
                compared += 1;
            }
        }
    }
    assert!(compared > 1000, "{compared} points compared");
}
