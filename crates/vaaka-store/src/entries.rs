//! Entries kept in checks: appended, corrected by new rows, never changed.

use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::query_builder::{AstPass, QueryFragment, QueryId};
use diesel::sql_types::{
    BigInt, Binary, Bool, Integer, Jsonb, Nullable, Numeric, Text, Timestamptz,
};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use uuid::Uuid;
use vaaka_core::method::{Entry, EntryValue, RunState, StepKey};
use vaaka_core::quantity::Unit;

use crate::audit::{AuditEntry, Happening, Head, head};
use crate::checks::chain;
use crate::ids::{CheckId, PersonId, ReadingId};
use crate::rows::{Check, Reading};
use crate::schema::{checks, people, reading_voids, readings};
use crate::types::At;
use crate::{StoreError, unreadable};

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
    mut connection: &AsyncPgConnection,
    id: CheckId,
) -> Result<Entries, StoreError> {
    let rows: Vec<(Reading, String, Option<ReadingId>)> = readings::table
        .inner_join(people::table)
        .left_join(reading_voids::table.on(reading_voids::reading_id.eq(readings::id)))
        .filter(readings::check_id.eq(id))
        .order(readings::id)
        .select((Reading::as_select(), people::name, reading_voids::reading_id.nullable()))
        .load(&mut connection)
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

/// A check as it stands: read in one go, since keeping an entry waits for it.
#[derive(Debug)]
pub struct CheckNow {
    /// The check.
    pub check: Check,
    /// Its entries.
    pub entries: Entries,
    /// Newest entry of its audit chain: its optimistic version.
    pub head: Option<Head>,
}

/// Reads a check, its entries and its version; the three queries travel together.
///
/// # Errors
/// [`StoreError`].
pub async fn check_now(
    connection: &AsyncPgConnection,
    id: CheckId,
) -> Result<CheckNow, StoreError> {
    let chain = chain(id);
    let check = async {
        let mut connection = connection;
        let found = checks::table.find(id).select(Check::as_select()).first(&mut connection);
        found.await.map_err(StoreError::from)
    };
    let (check, entries, head) =
        futures_util::try_join!(check, entries(connection, id), head(connection, &chain))?;
    Ok(CheckNow { check, entries, head })
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
/// the unique sequence and looks again. `seen` is the version that the caller has read.
///
/// # Errors
/// [`StoreError`].
pub async fn keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
) -> Result<Kept, StoreError> {
    let mut seen = seen;
    for _ in 0..4 {
        let version = match seen.take() {
            Some(version) => Some(version),
            None => head(connection, &chain(new.check)).await?,
        };
        match try_keep(connection, new, version).await {
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

/// The one statement of [`keep`]. Written out as a query of its own because it is prepared once
/// a connection, which free SQL is not.
#[derive(Debug)]
struct Keep<'a> {
    check: i64,
    step: &'a str,
    repeat: i32,
    kind: &'static str,
    typed: &'a str,
    indication: Option<Decimal>,
    unit: Option<&'static str>,
    added: Option<Decimal>,
    far_confirmed: bool,
    person: i64,
    measured_at: At,
    received_at: At,
    key: Uuid,
    replaces: Option<i64>,
    reason: Option<&'a str>,
    entry: AuditEntry,
}

impl QueryId for Keep<'_> {
    type QueryId = Keep<'static>;
    const HAS_STATIC_QUERY_ID: bool = true;
}

impl QueryFragment<Pg> for Keep<'_> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        macro_rules! bind {
            ($($kind:ty => $value:expr),+ $(,)?) => {
                $(out.push_sql(", "); out.push_bind_param::<$kind, _>($value)?;)+
            };
        }
        out.push_sql(
            "WITH kept AS (INSERT INTO readings (source, check_id, step_key, repeat, kind, typed, \
             indication, unit, added, far_confirmed, person_id, measured_at, received_at, \
             idempotency_key, replaces_id, reason) SELECT 'keyed', id",
        );
        bind!(
            Text => self.step, Integer => &self.repeat, Text => self.kind, Text => self.typed,
            Nullable<Numeric> => &self.indication, Nullable<Text> => &self.unit,
            Nullable<Numeric> => &self.added, Bool => &self.far_confirmed,
            BigInt => &self.person, Timestamptz => &self.measured_at,
            Timestamptz => &self.received_at, diesel::sql_types::Uuid => &self.key,
            Nullable<BigInt> => &self.replaces, Nullable<Text> => &self.reason,
        );
        out.push_sql(" FROM checks WHERE state = 'open' AND id = ");
        out.push_bind_param::<BigInt, _>(&self.check)?;
        out.push_sql(
            " RETURNING check_id) INSERT INTO audit_entries (chain, sequence, at, person_id, action, \
             detail, previous_hash, hash) SELECT 'check:' || check_id",
        );
        bind!(
            Integer => &self.entry.sequence, Timestamptz => &self.received_at,
            BigInt => &self.person, Text => &self.entry.action, Jsonb => &self.entry.detail,
            Nullable<Binary> => &self.entry.previous_hash, Binary => &self.entry.hash,
        );
        out.push_sql(" FROM kept");
        Ok(())
    }
}

async fn try_keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
) -> Result<bool, StoreError> {
    let (kind, typed, indication, added, far_confirmed) = match new.value {
        EntryValue::Confirmed => ("confirmed", new.typed, None, None, false),
        EntryValue::Tag { tag } => ("tag", tag.as_str(), None, None, false),
        EntryValue::Reading { indication, added, far_confirmed } => {
            ("reading", new.typed, Some(*indication), *added, *far_confirmed)
        }
    };
    let replaces = new.replaces.map(|(id, _)| id.0);
    let reason = new.replaces.map(|(_, reason)| reason);
    let entry = AuditEntry::following(
        seen.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice())),
        &Happening {
            chain: &chain(new.check),
            at: new.received_at,
            person: Some(new.person),
            action: if replaces.is_some() { "entry_replaced" } else { "entry_kept" },
            detail: json!({
                "step": new.step, "repeat": new.repeat, "typed": new.typed, "value": new.value,
                "replaces": replaces, "reason": reason,
            }),
        },
    );
    let statement = Keep {
        check: new.check.0,
        step: &new.step.0,
        repeat: i32::try_from(new.repeat).map_err(unreadable)?,
        kind,
        typed,
        indication,
        unit: indication.and(new.unit).map(Unit::symbol),
        added,
        far_confirmed,
        person: new.person.0,
        measured_at: At(new.measured_at),
        received_at: At(new.received_at),
        key: new.key,
        replaces,
        reason,
        entry,
    };
    Ok(statement.execute(connection).await? == 1)
}

/// Keeps a correction and voids the standing entries of the steps that depend on it, in one
/// transaction.
///
/// # Errors
/// [`StoreError`].
pub async fn keep_and_void(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
    corrected: ReadingId,
    steps: &[StepKey],
) -> Result<Kept, StoreError> {
    connection
        .transaction(async |connection| {
            let kept = keep(connection, new, seen).await?;
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
