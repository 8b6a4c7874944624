//! What the schema itself refuses, whoever asks: each statement names the constraint it meets.

use diesel::result::Error as DieselError;
use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};

use crate::support::{app_url, connect, demo_database, owner_url};

/// Runs a statement in a transaction that is always taken back; gives what the database said.
async fn refusal(connection: &mut AsyncPgConnection, statement: &str) -> String {
    let result: Result<(), DieselError> = connection
        .transaction(async |connection| {
            connection.batch_execute(statement).await?;
            Err(DieselError::RollbackTransaction)
        })
        .await;
    match result {
        Err(DieselError::RollbackTransaction) => "accepted".to_owned(),
        Err(DieselError::DatabaseError(_, information)) => format!(
            "{} {}",
            information.constraint_name().unwrap_or_default(),
            information.message()
        ),
        other => format!("{other:?}"),
    }
}

const INSTRUMENT: &str = "INSERT INTO instruments (tag, name, area_id, unit, resolution, maximum, serial, state, version)";
const READING: &str = "INSERT INTO readings (check_id, step_key, repeat, kind, typed, indication, unit, source,
    person_id, measured_at, received_at, idempotency_key, replaces_id, reason)
    SELECT check_id, step_key, repeat, kind, typed, indication, unit, source, person_id, measured_at,
        received_at, gen_random_uuid(), replaces_id, reason FROM readings WHERE id = 1";

#[tokio::test(flavor = "multi_thread")]
async fn the_schema_refuses_what_no_page_may_ask() {
    let database = demo_database().await;
    let mut owner = connect(&owner_url(&database)).await;
    let reading = |from: &str, to: &str| READING.replacen(from, to, 1);
    let second_reading =
        reading("SELECT check_id, step_key, repeat, kind", "SELECT check_id, step_key, 99, kind");
    let version = |columns: &str, values: &str| {
        let kept = [
            "version",
            "state",
            "approved_by",
            "minutes",
            "standard_id",
            "due_rule",
            "decision_rule",
            "plan_id",
            "settings",
            "created_by",
            "approved_at",
            "unit",
            "resolution",
            "range_low",
            "maximum",
        ];
        let changed: Vec<&str> = columns.split(", ").collect();
        let kept: Vec<&str> = kept.into_iter().filter(|one| !changed.contains(one)).collect();
        let kept = kept.join(", ");
        format!(
            "INSERT INTO plan_versions ({columns}, {kept}) SELECT {values}, {kept} FROM plan_versions WHERE id = 1"
        )
    };
    let cases: Vec<(String, &str)> = vec![
        (format!("{INSTRUMENT} VALUES ('R-02', 'x', 1, 'kg', 1, 1, '', 'in_service', 1)"), "instruments_tag_key"),
        (format!("{INSTRUMENT} VALUES ('', 'x', 1, 'kg', 1, 1, '', 'in_service', 1)"), "instruments_tag_check"),
        (format!("{INSTRUMENT} VALUES ('X-1', 'x', 1, 'kg', 0, 1, '', 'in_service', 1)"), "resolution"),
        (format!("{INSTRUMENT} VALUES ('X-1', 'x', 1, 'kg', 1, 1, '', 'asleep', 1)"), "state"),
        (format!("{INSTRUMENT} VALUES ('X-1', 'x', 999, 'kg', 1, 1, '', 'in_service', 1)"), "instruments_area_id_fkey"),
        // Two plan versions in force at once; one approved by its own author; one without approval.
        (version("version", "9"), "plan_versions_one_approved"),
        (version("version, state, approved_by", "9, 'superseded', created_by"), "another lead than its author approves"),
        (version("version, state, approved_by", "9, 'superseded', NULL"), "plan_versions"),
        (version("version, state, minutes", "9, 'superseded', 0"), "plan_versions_minutes_check"),
        (version("version, state, standard_id", "9, 'superseded', NULL"), "plan_versions_one_standard"),
        (version("version, state, due_rule", "9, 'superseded', 'now and then'"), "plan_versions_due_rule_check"),
        (version("version, state, decision_rule", "9, 'superseded', 'by feel'"), "plan_versions_decision_rule_check"),
        // What was approved is kept as it was approved, its points too; only its state moves on.
        ("UPDATE plan_versions SET minutes = 61 WHERE id = 1".into(), "kept as it was approved"),
        ("UPDATE plan_versions SET settings = '{}' WHERE id = 1".into(), "kept as it was approved"),
        ("DELETE FROM plan_points WHERE plan_version_id = 1".into(), "kept as they were approved"),
        ("UPDATE plan_points SET nominal = 6 WHERE plan_version_id = 1".into(), "kept as they were approved"),
        // Standards, files, trainings, hands.
        ("INSERT INTO certified_values (certificate_id, piece, nominal, certified_value, expanded_uncertainty, coverage_factor, unit)
          VALUES (4, '5', 5, 5, 1, 2, 'kg')".into(), "certified_values_one"),
        ("UPDATE standards SET state = 'on_hold' WHERE id = 1".into(), "standards_state_reason"),
        ("UPDATE standard_lots SET use_kind = 'matings' WHERE id = 1".into(), "standard_lots_uses"),
        ("UPDATE standard_lots SET face_width = 5 WHERE id = 1".into(), "standard_lots_face"),
        ("INSERT INTO standard_uses (lot_id, count, person_id, at) VALUES (1, 1, 1, now())".into(), "standard_uses"),
        ("DELETE FROM standard_uses".into(), "kept as they were written"),
        ("INSERT INTO certificate_acceptances VALUES (1, 'fine', 5, now())".into(), "certificate_acceptances_reason"),
        ("INSERT INTO files (name, media_type, bytes, sha256, person_id, at)
          VALUES ('a', 'image/png', 'x', sha256('x'), 1, now())".into(), "files_one_owner"),
        ("INSERT INTO files (check_id, name, media_type, bytes, sha256, person_id, at)
          VALUES (1, 'a', 'text/html', 'x', sha256('x'), 1, now())".into(), "files_media_type_check"),
        ("INSERT INTO trainings (person_id, method_key, trained_on, valid_until, recorded_by, at)
          VALUES (1, 'gauge', now(), now(), 1, now())".into(), "trainings_check"),
        ("INSERT INTO check_hands (check_id, from_person_id, to_person_id, at) VALUES (1, 1, 1, now())".into(), "check_hands_check"),
        ("UPDATE instruments SET work_low = 5 WHERE id = 1".into(), "instruments_work_both"),
        ("UPDATE instruments SET configuration_names = '{a}' WHERE id = 1".into(), "instruments_configuration"),
        ("UPDATE checks SET late_reason = 'x' WHERE id = 1".into(), "checks_late"),
        ("UPDATE chart_points SET withdrawn = true WHERE ordinal = 3".into(), "chart_points_withdrawn"),
        ("INSERT INTO plan_points (plan_version_id, sequence, nominal, travel, place, repeats, charted, pieces)
          VALUES (1, 77, 5, 'sideways', 'middle', 1, true, '{}')".into(), "travel"),
        ("INSERT INTO plan_points (plan_version_id, sequence, nominal, travel, place, repeats, charted, pieces)
          VALUES (1, 77, 5, 'rising', 'middle', 0, true, '{}')".into(), "repeats"),
        // Evidence is appended, never changed, by the owner neither.
        ("UPDATE readings SET typed = '1'".into(), "kept as they were written"),
        ("DELETE FROM readings".into(), "kept as they were written"),
        ("UPDATE results SET conforms = 'pass'".into(), "kept as they were written"),
        ("UPDATE characteristics SET conformity = 'pass'".into(), "kept as they were written"),
        ("UPDATE audit_entries SET action = 'nothing'".into(), "kept as they were written"),
        ("DELETE FROM audit_entries".into(), "kept as they were written"),
        ("UPDATE certified_values SET certified_value = 1".into(), "kept as they were written"),
        // One standing entry a step and repeat; a correction needs a reason; a reading a value.
        (READING.into(), "readings_check_id_step_key_repeat"),
        (format!("{second_reading}; {second_reading}"), "readings_check_id_step_key_repeat"),
        (reading("replaces_id, reason FROM", "1, NULL FROM"), "readings_check"),
        (reading("typed, indication, unit, source, person_id, measured_at,\n        received_at", "typed, 5, NULL, source, person_id, measured_at,\n        received_at"), "readings_check"),
        (reading("kind, typed, indication, unit, source, person_id, measured_at,\n        received_at", "'reading', typed, NULL, NULL, source, person_id, measured_at,\n        received_at"), "readings_value_of_kind"),
        // A wait carries its times, and nothing else does.
        ("UPDATE checks SET state = 'void' WHERE id = 2".into(), "checks_check"),
        (reading("kind, typed, indication, unit, source, person_id, measured_at,\n        received_at", "'wait_started', typed, NULL, NULL, source, person_id, measured_at,\n        received_at"), "readings_times_of_wait"),
        // A check is open or closed, void or not; never half.
        ("UPDATE checks SET closed_at = NULL WHERE id = 1".into(), "checks_check"),
        ("UPDATE checks SET state = 'void' WHERE id = 1".into(), "checks_check"),
        ("UPDATE checks SET void_reason = 'because' WHERE id = 1 AND state = 'concluded'".into(), "checks_check"),
        ("UPDATE checks SET state = 'open', closed_at = NULL, closed_by = NULL WHERE id IN
          (SELECT id FROM checks WHERE plan_version_id = 1 AND state = 'concluded' LIMIT 2)".into(), "checks_one_open"),
        // Charts.
        ("UPDATE baselines SET sigma = 0".into(), "baselines_sigma_check"),
        ("UPDATE baselines SET lower_control_limit = upper_control_limit".into(), "baselines_check"),
        ("UPDATE chart_points SET ordinal = -1 WHERE id = 1".into(), "chart_points_ordinal_check"),
        ("UPDATE signals SET evidence = 0".into(), "signals_evidence_check"),
        ("INSERT INTO segments (stream_id, ordinal, opened_at, cause, state) VALUES (1, 1, now(), 'again', '{}')".into(), "segments_stream_id_ordinal_key"),
        // Standards.
        ("UPDATE certificates SET valid_until = valid_from - 1 WHERE id = 1".into(), "certificates_check"),
        ("INSERT INTO standard_lots (standard_id, lot, in_use_from) VALUES (1, 'second', now())".into(), "standard_lots_one_in_use"),
        ("INSERT INTO certified_values (certificate_id, piece, nominal, certified_value, expanded_uncertainty, coverage_factor, unit)
          VALUES (1, 'new', 1, 1, -1, 2, 'g')".into(), "certified_values_expanded_uncertainty_check"),
        ("INSERT INTO certified_values (certificate_id, piece, nominal, certified_value, expanded_uncertainty, coverage_factor, unit)
          VALUES (1, 'new', 1, 1, 1, 0, 'g')".into(), "certified_values_coverage_factor_check"),
        // Shifts of one site never overlap by starting together.
        ("INSERT INTO shift_instances (site_id, label, business_date, starts_at, ends_at)
          SELECT site_id, label, business_date, starts_at, ends_at FROM shift_instances WHERE id = 1".into(), "shift_instances"),
        ("INSERT INTO people (sign_in, name, role, password_hash, created_at) VALUES ('aino', 'x', 'technician', 'x', now())".into(), "people_sign_in"),
        ("INSERT INTO people (sign_in, name, role, password_hash, created_at) VALUES ('new', 'x', 'wizard', 'x', now())".into(), "people_role_check"),
    ];
    let mut wrong = Vec::new();
    for (statement, expected) in &cases {
        let said = refusal(&mut owner, statement).await;
        if !said.contains(expected) {
            wrong.push(format!("{statement}\n  expected {expected}, got: {said}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_application_may_not_touch_what_it_must_not_change() {
    let database = demo_database().await;
    let mut application = connect(&app_url(&database)).await;
    for statement in [
        "UPDATE readings SET typed = '1'",
        "DELETE FROM readings",
        "DELETE FROM checks",
        "UPDATE results SET conforms = 'pass'",
        "DELETE FROM audit_entries",
        "TRUNCATE audit_entries",
        "UPDATE baselines SET sigma = 1",
        "UPDATE certified_values SET certified_value = 1",
        "UPDATE plan_points SET nominal = 1",
        "DROP TABLE readings",
        "ALTER TABLE readings DISABLE TRIGGER ALL",
        "CREATE TABLE loot (a text)",
    ] {
        let said = refusal(&mut application, statement).await;
        assert!(
            said.contains("permission denied") || said.contains("must be owner"),
            "{statement}: {said}"
        );
    }
}
