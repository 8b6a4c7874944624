//! Checks and the entries kept in them.

use diesel::prelude::*;
use diesel::sql_types::{
    BigInt, Binary, Bool, Integer, Jsonb, Nullable, Numeric, Text, Timestamptz,
};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use uuid::Uuid;
use vaaka_core::judgement::Attempt;
use vaaka_core::method::{Entry, EntryValue, Purpose, RunState, StepKey};
use vaaka_core::quantity::Unit;

use crate::audit::{self, AuditEntry, Happening};
use crate::ids::{CertificateId, CheckId, PersonId, PlanId, PlanVersionId, ReadingId, ShiftId};
use crate::plans::PlanView;
use crate::rows::{Check, Reading};
use crate::schema::{
    audit_entries, checks, people, plan_versions, reading_voids, readings, results,
};
use crate::types::At;
use crate::{StoreError, unreadable, word};

/// Chain of a check in the audit trail; its length is also the check's optimistic version.
#[must_use]
pub fn chain(id: CheckId) -> String {
    format!("check:{id}")
}

/// What opening a check needs.
#[derive(Debug, Clone)]
pub struct NewCheck<'a> {
    /// Plan version in force.
    pub plan: &'a PlanView,
    /// Shift that it belongs to.
    pub shift: ShiftId,
    /// Certificate of the standard.
    pub certificate: CertificateId,
    /// Purpose.
    pub purpose: Purpose,
    /// Who.
    pub person: PersonId,
    /// When.
    pub now: Timestamp,
    /// Key that makes a second click the same check.
    pub key: Uuid,
}

/// Opens a check, or finds the one that is open: two people, or one who clicks twice, come to
/// the same.
///
/// # Errors
/// [`StoreError`].
pub async fn open(
    connection: &mut AsyncPgConnection,
    new: &NewCheck<'_>,
) -> Result<CheckId, StoreError> {
    let result = connection
        .transaction(async |connection| {
            let found = find_open(connection, new.plan.plan.id).await?;
            if let Some(id) = found {
                return Ok(id);
            }
            let id: CheckId = diesel::insert_into(checks::table)
                .values((
                    checks::plan_version_id.eq(new.plan.version.id),
                    checks::instrument_id.eq(new.plan.instrument.id),
                    checks::shift_instance_id.eq(new.shift),
                    checks::certificate_id.eq(new.certificate),
                    checks::purpose.eq(new.purpose.word()),
                    checks::state.eq("open"),
                    checks::opened_by.eq(new.person),
                    checks::opened_at.eq(At(new.now)),
                    checks::idempotency_key.eq(new.key),
                ))
                .returning(checks::id)
                .get_result(connection)
                .await?;
            let detail = json!({
                "plan_version": new.plan.version.id,
                "certificate": new.certificate,
                "shift": new.shift,
                "purpose": new.purpose.word(),
            });
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: new.now,
                    person: Some(new.person),
                    action: "check_opened",
                    detail,
                },
            )
            .await?;
            Ok(id)
        })
        .await;
    match result {
        // Someone else opened it at the same moment.
        Err(StoreError::Conflict { .. }) => {
            find_open(connection, new.plan.plan.id).await?.ok_or(StoreError::NotFound)
        }
        other => other,
    }
}

async fn find_open(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
) -> Result<Option<CheckId>, StoreError> {
    Ok(checks::table
        .inner_join(plan_versions::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("open"))
        .select(checks::id)
        .first(connection)
        .await
        .optional()?)
}

/// A check by its id.
///
/// # Errors
/// [`StoreError`].
pub async fn by_id(connection: &mut AsyncPgConnection, id: CheckId) -> Result<Check, StoreError> {
    Ok(checks::table.find(id).select(Check::as_select()).first(connection).await?)
}

/// An entry that stands, with the name of who kept it.
#[derive(Debug, Clone)]
pub struct Standing {
    /// The entry.
    pub reading: Reading,
    /// Who kept it.
    pub person: String,
}

/// The entries of a check: those that stand, and the newest of those that were voided by a
/// redo, which a new entry of the same step replaces.
#[derive(Debug, Clone, Default)]
pub struct Entries {
    /// Entries that stand, oldest first.
    pub standing: Vec<Standing>,
    /// Entries that a redo voided and nothing has replaced yet.
    pub voided: Vec<Reading>,
    /// Every entry ever kept, also corrected ones.
    pub all: usize,
}

/// Reads the entries of a check.
///
/// # Errors
/// [`StoreError`].
pub async fn entries(
    connection: &mut AsyncPgConnection,
    id: CheckId,
) -> Result<Entries, StoreError> {
    let rows: Vec<(Reading, String, Option<ReadingId>)> = readings::table
        .inner_join(people::table)
        .left_join(reading_voids::table.on(reading_voids::reading_id.eq(readings::id)))
        .filter(readings::check_id.eq(id))
        .order(readings::id)
        .select((Reading::as_select(), people::name, reading_voids::reading_id.nullable()))
        .load(connection)
        .await?;
    let replaced: Vec<ReadingId> = rows.iter().filter_map(|(row, _, _)| row.replaces_id).collect();
    let mut entries = Entries { all: rows.len(), ..Entries::default() };
    for (reading, person, voided) in rows {
        if replaced.contains(&reading.id) {
            continue;
        }
        match voided {
            Some(_) => entries.voided.push(reading),
            None => entries.standing.push(Standing { reading, person }),
        }
    }
    Ok(entries)
}

impl Entries {
    /// The entries that stand, as the core knows them.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn run_state(&self) -> Result<RunState, StoreError> {
        let entries = self
            .standing
            .iter()
            .map(|standing| {
                let row = &standing.reading;
                Ok(Entry {
                    step: StepKey(row.step_key.clone()),
                    repeat: u32::try_from(row.repeat).map_err(unreadable)?,
                    value: value_of(row)?,
                })
            })
            .collect::<Result<_, StoreError>>()?;
        Ok(RunState { entries })
    }
}

fn value_of(row: &Reading) -> Result<EntryValue, StoreError> {
    match (row.kind.as_str(), row.indication) {
        ("confirmed", _) => Ok(EntryValue::Confirmed),
        ("tag", _) => Ok(EntryValue::Tag { tag: row.typed.clone() }),
        ("reading", Some(indication)) => Ok(EntryValue::Reading {
            indication,
            added: row.added,
            far_confirmed: row.far_confirmed,
        }),
        (kind, _) => Err(unreadable(format!("an entry of kind {kind}"))),
    }
}

/// What keeping an entry needs.
#[derive(Debug, Clone)]
pub struct NewEntry<'a> {
    /// Check.
    pub check: CheckId,
    /// Step.
    pub step: &'a StepKey,
    /// Which of the step's entries.
    pub repeat: u32,
    /// What to keep.
    pub value: &'a EntryValue,
    /// As typed.
    pub typed: &'a str,
    /// Unit of the display.
    pub unit: Option<Unit>,
    /// Who.
    pub person: PersonId,
    /// When it was read.
    pub measured_at: Timestamp,
    /// When it arrived.
    pub received_at: Timestamp,
    /// Key that makes a retry the same entry.
    pub key: Uuid,
    /// The entry that this one replaces, and why.
    pub replaces: Option<(ReadingId, &'a str)>,
}

/// What became of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// It is kept now.
    Now,
    /// This very entry was kept before: a retry or a double click.
    Before,
    /// Someone else kept this step first, or the check is no longer open.
    Overtaken,
}

/// Keeps an entry, in one statement with its audit entry: acknowledged means committed.
///
/// The audit chain is the check's optimistic version: of two writers at one moment, one meets
/// the unique sequence and comes back here for another look.
///
/// # Errors
/// [`StoreError`].
pub async fn keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
) -> Result<Kept, StoreError> {
    for _ in 0..4 {
        match try_keep(connection, new).await {
            Ok(true) => return Ok(Kept::Now),
            // The check is not open, or it vanished.
            Ok(false) => return kept_before(connection, new).await,
            Err(StoreError::Conflict { constraint }) if constraint.starts_with("audit_entries") => {
            }
            Err(StoreError::Conflict { .. }) => return kept_before(connection, new).await,
            Err(other) => return Err(other),
        }
    }
    Err(StoreError::Conflict { constraint: "audit_entries".to_owned() })
}

async fn kept_before(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
) -> Result<Kept, StoreError> {
    let same = has_key(connection, new.check, new.key).await?;
    Ok(if same { Kept::Before } else { Kept::Overtaken })
}

const KEEP: &str = "WITH kept AS (
    INSERT INTO readings (check_id, step_key, repeat, kind, typed, indication, unit, added,
        far_confirmed, source, person_id, measured_at, received_at, idempotency_key, replaces_id, reason)
    SELECT id, $2, $3, $4, $5, $6, $7, $8, $9, 'keyed', $10, $11, $12, $13, $14, $15
    FROM checks WHERE id = $1 AND state = 'open'
    RETURNING id)
INSERT INTO audit_entries (chain, sequence, at, person_id, action, detail, previous_hash, hash)
SELECT $16, $17, $12, $10, $18, $19, $20, $21 FROM kept";

async fn try_keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
) -> Result<bool, StoreError> {
    let chain = chain(new.check);
    let head: Option<(i32, Vec<u8>)> = audit_entries::table
        .filter(audit_entries::chain.eq(&chain))
        .order(audit_entries::sequence.desc())
        .select((audit_entries::sequence, audit_entries::hash))
        .first(connection)
        .await
        .optional()?;
    let (kind, indication, added, far): (&str, Option<Decimal>, Option<Decimal>, bool) =
        match new.value {
            EntryValue::Confirmed => ("confirmed", None, None, false),
            EntryValue::Tag { .. } => ("tag", None, None, false),
            EntryValue::Reading { indication, added, far_confirmed } => {
                ("reading", Some(*indication), *added, *far_confirmed)
            }
        };
    let replaces = new.replaces.map(|(id, _)| id.0);
    let reason = new.replaces.map(|(_, reason)| reason);
    let repeat = i32::try_from(new.repeat).map_err(unreadable)?;
    let entry = AuditEntry::following(
        head.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice())),
        &Happening {
            chain: &chain,
            at: new.received_at,
            person: Some(new.person),
            action: if replaces.is_some() { "entry_replaced" } else { "entry_kept" },
            detail: json!({
                "step": new.step, "repeat": new.repeat, "typed": new.typed, "value": new.value,
                "replaces": replaces, "reason": reason,
            }),
        },
    );
    let typed = match new.value {
        EntryValue::Tag { tag } => tag,
        _ => new.typed,
    };
    let written = diesel::sql_query(KEEP)
        .bind::<BigInt, _>(new.check.0)
        .bind::<Text, _>(&new.step.0)
        .bind::<Integer, _>(repeat)
        .bind::<Text, _>(kind)
        .bind::<Text, _>(typed)
        .bind::<Nullable<Numeric>, _>(indication)
        .bind::<Nullable<Text>, _>(indication.and(new.unit).map(Unit::symbol))
        .bind::<Nullable<Numeric>, _>(added)
        .bind::<Bool, _>(far)
        .bind::<BigInt, _>(new.person.0)
        .bind::<Timestamptz, _>(At(new.measured_at))
        .bind::<Timestamptz, _>(At(new.received_at))
        .bind::<diesel::sql_types::Uuid, _>(new.key)
        .bind::<Nullable<BigInt>, _>(replaces)
        .bind::<Nullable<Text>, _>(reason)
        .bind::<Text, _>(&entry.chain)
        .bind::<Integer, _>(entry.sequence)
        .bind::<Text, _>(&entry.action)
        .bind::<Jsonb, _>(&entry.detail)
        .bind::<Nullable<Binary>, _>(entry.previous_hash.as_deref())
        .bind::<Binary, _>(&entry.hash)
        .execute(connection)
        .await?;
    Ok(written == 1)
}

/// Keeps a correction and voids the standing entries of the steps that depend on it, in one
/// transaction.
///
/// # Errors
/// [`StoreError`].
pub async fn keep_and_void(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    corrected: ReadingId,
    steps: &[StepKey],
) -> Result<Kept, StoreError> {
    connection
        .transaction(async |connection| {
            let kept = keep(connection, new).await?;
            if kept != Kept::Now {
                return Ok(kept);
            }
            let by: ReadingId = readings::table
                .filter(readings::replaces_id.eq(corrected))
                .select(readings::id)
                .first(connection)
                .await?;
            let standing = entries(connection, new.check).await?.standing;
            let rows: Vec<_> = standing
                .iter()
                .filter(|standing| steps.iter().any(|step| step.0 == standing.reading.step_key))
                .map(|standing| {
                    (
                        reading_voids::reading_id.eq(standing.reading.id),
                        reading_voids::voided_by_id.eq(by),
                        reading_voids::reason.eq("an earlier step was redone"),
                    )
                })
                .collect();
            diesel::insert_into(reading_voids::table)
                .values(rows)
                .on_conflict_do_nothing()
                .execute(connection)
                .await?;
            Ok(kept)
        })
        .await
}

/// Whether an entry with this key is kept in this check.
///
/// # Errors
/// [`StoreError`].
pub async fn has_key(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    key: Uuid,
) -> Result<bool, StoreError> {
    let same: i64 = readings::table
        .filter(readings::idempotency_key.eq(key))
        .filter(readings::check_id.eq(check))
        .count()
        .get_result(connection)
        .await?;
    Ok(same > 0)
}

/// Voids an open check with a reason: it stays on record and off the chart.
///
/// # Errors
/// [`StoreError::NotFound`] when it is not open.
pub async fn void(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    person: PersonId,
    reason: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let changed = diesel::update(checks::table.find(id).filter(checks::state.eq("open")))
                .set((
                    checks::state.eq("void"),
                    checks::void_reason.eq(reason),
                    checks::closed_by.eq(person),
                    checks::closed_at.eq(At(now)),
                ))
                .execute(connection)
                .await?;
            if changed == 0 {
                return Err(StoreError::NotFound);
            }
            audit::record(
                connection,
                &Happening {
                    chain: &chain(id),
                    at: now,
                    person: Some(person),
                    action: "check_voided",
                    detail: json!({ "reason": reason }),
                },
            )
            .await
        })
        .await
}

/// A check of a shift in brief, for the round.
#[derive(Debug, Clone)]
pub struct ShiftCheck {
    /// The check.
    pub check: Check,
    /// Its plan.
    pub plan: PlanId,
    /// Conformity, when concluded.
    pub conforms: Option<String>,
    /// Control state, when concluded.
    pub control: Option<String>,
}

/// The checks of a shift, and those that are open from an earlier one, oldest first.
///
/// # Errors
/// [`StoreError`].
pub async fn of_shift(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<Vec<ShiftCheck>, StoreError> {
    let rows: Vec<(Check, PlanId, Option<String>, Option<String>)> = checks::table
        .inner_join(plan_versions::table)
        .left_join(results::table)
        .filter(checks::shift_instance_id.eq(shift).or(checks::state.eq("open")))
        .order(checks::id)
        .select((
            Check::as_select(),
            plan_versions::plan_id,
            results::conforms.nullable(),
            results::control.nullable(),
        ))
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(check, plan, conforms, control)| ShiftCheck { check, plan, conforms, control })
        .collect())
}

/// Earlier valid as-found runs of a plan in a shift, oldest first.
///
/// # Errors
/// [`StoreError`].
pub async fn attempts(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    shift: ShiftId,
) -> Result<Vec<Attempt>, StoreError> {
    let rows: Vec<String> = checks::table
        .inner_join(plan_versions::table)
        .inner_join(results::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::shift_instance_id.eq(shift))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .filter(results::version.eq(1))
        .order((checks::closed_at, checks::id))
        .select(results::conforms)
        .load(connection)
        .await?;
    rows.iter().map(|text| Ok(Attempt { conforms: word(text)? })).collect()
}

/// The plan that a version belongs to.
///
/// # Errors
/// [`StoreError`].
pub async fn plan_of(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
) -> Result<PlanId, StoreError> {
    Ok(plan_versions::table.find(version).select(plan_versions::plan_id).first(connection).await?)
}
