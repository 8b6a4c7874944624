//! Entries kept in checks: appended, corrected by new rows, never changed.

use std::collections::HashMap;
use std::sync::Arc;

use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::query_builder::{AstPass, QueryFragment, QueryId};
use diesel::sql_types::{
    BigInt, Binary, Bool, Double, Integer, Jsonb, Nullable, Numeric, Text, Timestamptz,
};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use serde_json::json;
use uuid::Uuid;
use vaaka_boxed::boxed;
use vaaka_core::method::{Entry, EntryValue, RunState, StepKey};

use crate::audit::chain;
use crate::audit::{AuditEntry, Happening, Head, head};
use crate::ids::{CaptureId, CertificateId, CheckId, PersonId, ReadingId};
use crate::prepared::{Bind, prepared};
use crate::rows::{Check, Reading};
use crate::schema::{
    certificates, check_standards, checks, people, reading_voids, readings, standard_lots,
    standards,
};
use crate::types::{At, Day};
use crate::{StoreError, traces, unreadable};

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
    /// Every entry in the order in which they were kept.
    pub kept: Vec<Reading>,
    /// The traces among them.
    pub traces: HashMap<ReadingId, traces::Kept>,
    /// Every entry ever kept, also corrected ones.
    pub all: usize,
}

/// Reads the entries of a check.
///
/// # Errors
/// [`StoreError`].
#[boxed]
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
    let kept = rows.iter().map(|(row, ..)| row.clone()).collect();
    let of_traces: Vec<ReadingId> =
        rows.iter().filter(|(row, ..)| row.kind == "trace").map(|(row, ..)| row.id).collect();
    let traces = traces::of(connection, &of_traces).await?;
    let mut entries = Entries { all: rows.len(), kept, traces, ..Entries::default() };
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

/// Every entry of a check ever kept, oldest first: with who kept it, and why it no longer stands.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn every_entry(
    connection: &mut AsyncPgConnection,
    id: CheckId,
) -> Result<Vec<(Reading, String, Option<String>)>, StoreError> {
    Ok(readings::table
        .inner_join(people::table)
        .left_join(reading_voids::table.on(reading_voids::reading_id.eq(readings::id)))
        .filter(readings::check_id.eq(id))
        .order(readings::id)
        .select((Reading::as_select(), people::name, reading_voids::reason.nullable()))
        .load(connection)
        .await?)
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
    /// Certificates in the order of the plan's standards, each with the tag of its standard and
    /// why that is not in use any more, if so.
    pub standards: Vec<UsedStandard>,
    /// Standard deviation of a reading on each chart that has limits, by the key of its characteristic and in its unit.
    pub reading_std_devs: HashMap<String, f64>,
}

#[derive(QueryableByName)]
struct SigmaRow {
    #[diesel(sql_type = Text)]
    key: String,
    #[diesel(sql_type = Nullable<Double>)]
    sigma: Option<f64>,
    #[diesel(sql_type = Nullable<Double>)]
    within: Option<f64>,
}

/// √(σ² + σ_w²) of the newest segments of a check's charts.
async fn reading_std_devs(
    mut connection: &AsyncPgConnection,
    id: CheckId,
) -> Result<HashMap<String, f64>, StoreError> {
    let rows: Vec<SigmaRow> = prepared(
        "SELECT s.characteristic_key AS key, (g.design->>'sigma')::float8 AS sigma,
             (g.design->'spread'->>'within')::float8 AS within
         FROM checks c JOIN plan_versions v ON v.id = c.plan_version_id
         JOIN plans p ON p.id = v.plan_id
         JOIN chart_streams s ON s.instrument_id = c.instrument_id AND s.set_up_id = p.set_up_id
             AND s.derived IS NULL
         JOIN LATERAL (SELECT design FROM segments WHERE stream_id = s.id
             AND settled IS DISTINCT FROM 'joined' ORDER BY ordinal DESC LIMIT 1) g ON true
         WHERE c.id = ? AND g.design IS NOT NULL AND g.design->>'basis' <> 'action_lines'",
        vec![Bind::Int(id.0)],
    )
    .load(&mut connection)
    .await?;
    Ok(rows
        .into_iter()
        .filter_map(|row| Some((row.key, row.sigma?.hypot(row.within.unwrap_or(0.0)))))
        .collect())
}

/// A standard that a check rests on, as it stands now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UsedStandard {
    /// Its certificate.
    pub certificate: CertificateId,
    /// Its tag.
    pub tag: String,
    /// Why it may not be used any more: put on hold or retired since it was taken.
    pub withdrawn: Option<String>,
    /// Its last day: of its certificate or, if sooner, of its lot.
    pub last_day: Date,
    /// Until when an opened lot may be used.
    pub open_until: Option<Timestamp>,
}

/// Reads a check, its entries and its version; the three queries travel together.
///
/// # Errors
/// [`StoreError`].
#[boxed]
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
    let (check, entries, head, own, extra, reading_std_devs) = futures_util::try_join!(
        check,
        entries(connection, id),
        head(connection, &chain),
        own_standard(connection, id),
        extra_standards(connection, id),
        reading_std_devs(connection, id)
    )?;
    let standards = std::iter::once(own).chain(extra).map(used).collect();
    Ok(CheckNow { check, entries, head, standards, reading_std_devs })
}

type StandardRow =
    (CertificateId, String, String, String, Day, Option<Day>, Option<At>, Option<i32>);

fn used(row: StandardRow) -> UsedStandard {
    let (certificate, tag, state, reason, valid_until, expires_on, opened_at, open_hours) = row;
    UsedStandard {
        certificate,
        tag,
        withdrawn: (state != "in_use").then_some(reason),
        last_day: expires_on.map_or(valid_until.0, |day| day.0.min(valid_until.0)),
        open_until: opened_at.zip(open_hours).and_then(|(at, hours)| {
            at.0.checked_add(SignedDuration::from_hours(hours.into())).ok()
        }),
    }
}

/// What is asked of a standard, its lot and its certificate.
#[diesel::dsl::auto_type(no_type_alias)]
fn asked() -> _ {
    (
        certificates::id,
        standards::tag,
        standards::state,
        standards::state_reason,
        certificates::valid_until,
        standard_lots::expires_on,
        standard_lots::opened_at,
        standard_lots::open_hours,
    )
}

async fn own_standard(
    mut connection: &AsyncPgConnection,
    id: CheckId,
) -> Result<StandardRow, StoreError> {
    let row = checks::table
        .inner_join(
            certificates::table.inner_join(standard_lots::table.inner_join(standards::table)),
        )
        .filter(checks::id.eq(id))
        .select(asked())
        .first(&mut connection);
    Ok(row.await?)
}

async fn extra_standards(
    mut connection: &AsyncPgConnection,
    id: CheckId,
) -> Result<Vec<StandardRow>, StoreError> {
    let rows = check_standards::table
        .inner_join(
            certificates::table.inner_join(standard_lots::table.inner_join(standards::table)),
        )
        .filter(check_standards::check_id.eq(id))
        .order(check_standards::place)
        .select(asked())
        .load(&mut connection);
    Ok(rows.await?)
}

impl Entries {
    /// Every entry ever kept, in its order, as the core knows them.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn history(&self) -> Result<Vec<Entry>, StoreError> {
        self.kept.iter().map(|row| self.entry_of(row)).collect()
    }

    /// The entries that stand, as the core knows them.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn run_state(&self) -> Result<RunState, StoreError> {
        let entries = self
            .standing
            .iter()
            .map(|standing| self.entry_of(&standing.reading))
            .collect::<Result<_, StoreError>>()?;
        Ok(RunState { entries })
    }

    fn entry_of(&self, row: &Reading) -> Result<Entry, StoreError> {
        let value = match self.traces.get(&row.id) {
            Some(kept) => EntryValue::Trace {
                digest: kept.digest.clone(),
                points: u32::try_from(kept.trace.len()).map_err(unreadable)?,
                far_confirmed: row.far_confirmed,
                trace: Arc::clone(&kept.trace),
            },
            None => value_of(row)?,
        };
        Ok(Entry {
            step: StepKey(row.step_key.clone()),
            repeat: u32::try_from(row.repeat).map_err(unreadable)?,
            at: row.measured_at.0,
            value,
        })
    }
}

/// Corrections of a check that a second person had to see.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn corrected(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    steps: &[vaaka_core::method::Step],
) -> Result<Vec<vaaka_core::check::Corrected>, StoreError> {
    let (now, before) = diesel::alias!(readings as now, readings as before);
    let rows: Vec<(String, String, String, Option<String>, String)> = now
        .inner_join(
            before.on(before.field(readings::id).nullable().eq(now.field(readings::replaces_id))),
        )
        .inner_join(people::table.on(people::id.nullable().eq(now.field(readings::seconded_by))))
        .filter(now.field(readings::check_id).eq(check))
        .order(now.field(readings::id))
        .select((
            now.field(readings::step_key),
            before.field(readings::typed),
            now.field(readings::typed),
            now.field(readings::reason),
            people::name,
        ))
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(key, was, now, reason, second)| vaaka_core::check::Corrected {
            step: steps.iter().find(|s| s.key.0 == key).map_or(key, |s| s.title.clone()),
            was,
            now,
            reason: reason.unwrap_or_default(),
            second,
        })
        .collect())
}

fn value_of(row: &Reading) -> Result<EntryValue, StoreError> {
    match (row.kind.as_str(), row.indication, row.ready_at) {
        ("confirmed", ..) => Ok(EntryValue::Confirmed),
        ("tag", ..) => Ok(EntryValue::Tag { tag: row.typed.clone() }),
        ("setting", ..) => Ok(EntryValue::Setting { shown: row.typed.clone() }),
        ("choice", ..) => Ok(EntryValue::Choice { word: row.typed.clone() }),
        ("text", ..) => Ok(EntryValue::Text { text: row.typed.clone() }),
        ("count", ..) => Ok(EntryValue::Count { count: row.typed.parse().map_err(unreadable)? }),
        ("condition", Some(value), _) => Ok(EntryValue::Condition { value }),
        ("wait_started", _, Some(ready_at)) => Ok(EntryValue::WaitStarted {
            ready_at: ready_at.0,
            latest_at: row.latest_at.map(|at| at.0),
        }),
        ("wait_over", ..) => Ok(EntryValue::WaitOver),
        ("reading", Some(indication), _) => Ok(EntryValue::Reading {
            indication,
            added: row.added,
            far_confirmed: row.far_confirmed,
        }),
        (kind, ..) => Err(unreadable(format!("an entry of kind {kind}"))),
    }
}

/// The columns of an entry's value.
#[derive(Debug, Clone, Default)]
pub struct ValueColumns<'a> {
    /// Kind.
    pub kind: &'static str,
    /// What stands for what was typed, where the value itself does.
    pub typed: Option<&'a str>,
    /// Indication, or the value of a condition.
    pub indication: Option<Decimal>,
    /// Small added weights.
    pub added: Option<Decimal>,
    /// Confirmed though far.
    pub far_confirmed: bool,
    /// When a wait is over at the earliest.
    pub ready_at: Option<At>,
    /// When it is too late.
    pub latest_at: Option<At>,
}

/// How a value lies in the table.
#[must_use]
pub fn columns_of(value: &EntryValue) -> ValueColumns<'_> {
    let of = |kind| ValueColumns { kind, ..ValueColumns::default() };
    match value {
        EntryValue::Confirmed => of("confirmed"),
        EntryValue::Tag { tag } => ValueColumns { typed: Some(tag), ..of("tag") },
        EntryValue::Setting { shown } => ValueColumns { typed: Some(shown), ..of("setting") },
        EntryValue::Choice { word } => ValueColumns { typed: Some(word), ..of("choice") },
        EntryValue::Text { text } => ValueColumns { typed: Some(text), ..of("text") },
        // Its digits are what was typed.
        EntryValue::Count { .. } => of("count"),
        EntryValue::Condition { value } => {
            ValueColumns { indication: Some(*value), ..of("condition") }
        }
        EntryValue::WaitStarted { ready_at, latest_at } => ValueColumns {
            ready_at: Some(At(*ready_at)),
            latest_at: latest_at.map(At),
            ..of("wait_started")
        },
        EntryValue::WaitOver => of("wait_over"),
        EntryValue::Reading { indication, added, far_confirmed } => ValueColumns {
            indication: Some(*indication),
            added: *added,
            far_confirmed: *far_confirmed,
            ..of("reading")
        },
        // Its numbers lie in a table of their own.
        EntryValue::Trace { far_confirmed, .. } => {
            ValueColumns { far_confirmed: *far_confirmed, ..of("trace") }
        }
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
    /// Symbol of the unit of a reading or condition.
    pub unit: Option<&'a str>,
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
    /// The second person who saw a correction from outside to inside.
    pub second: Option<PersonId>,
    /// Where it came from: keyed at once, held by the browser while the network was gone, or from
    /// a paper sheet.
    pub source: &'a str,
    /// The file of a trace.
    pub original: Option<traces::Original<'a>>,
    /// What it was read from, where a link read it.
    pub capture: Option<CaptureId>,
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
#[boxed]
pub async fn keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
) -> Result<Kept, StoreError> {
    // A trace and its entry stand or fall together.
    if let EntryValue::Trace { .. } = new.value {
        return keep_together(connection, new, seen, (None, &[]), None).await;
    }
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
            Err(StoreError::Conflict { constraint }) if is_there(&constraint) => {
                return kept_before(connection, new).await;
            }
            Err(other) => return Err(other),
        }
    }
    Err(StoreError::Conflict { constraint: "audit_entries".to_owned() })
}

/// Whether a conflict says that the entry, or another in its place, is there: by the names that PostgreSQL gives to what
/// is unique. A rule of the table that refuses it is nobody else's entry.
fn is_there(constraint: &str) -> bool {
    constraint.ends_with("_key") || constraint.ends_with("_pkey") || constraint == "serialisation"
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
    typed: &'a str,
    unit: Option<&'a str>,
    columns: ValueColumns<'a>,
    person: i64,
    measured_at: At,
    received_at: At,
    source: &'a str,
    key: Uuid,
    replaces: Option<i64>,
    reason: Option<&'a str>,
    second: Option<i64>,
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
             idempotency_key, replaces_id, reason, ready_at, latest_at, seconded_by) SELECT ",
        );
        out.push_bind_param::<Text, _>(self.source)?;
        out.push_sql(", id");
        bind!(
            Text => self.step, Integer => &self.repeat, Text => self.columns.kind,
            Text => self.typed, Nullable<Numeric> => &self.columns.indication,
            Nullable<Text> => &self.unit, Nullable<Numeric> => &self.columns.added,
            Bool => &self.columns.far_confirmed,
            BigInt => &self.person, Timestamptz => &self.measured_at,
            Timestamptz => &self.received_at, diesel::sql_types::Uuid => &self.key,
            Nullable<BigInt> => &self.replaces, Nullable<Text> => &self.reason,
            Nullable<Timestamptz> => &self.columns.ready_at,
            Nullable<Timestamptz> => &self.columns.latest_at,
            Nullable<BigInt> => &self.second,
        );
        // The row of the check is locked like in concluding and voiding, so that the three follow each other: what was
        // concluded or voided meanwhile takes no entry more.
        out.push_sql(" FROM (SELECT id FROM checks WHERE state = 'open' AND id = ");
        out.push_bind_param::<BigInt, _>(&self.check)?;
        out.push_sql(
            " FOR NO KEY UPDATE) open RETURNING check_id) INSERT INTO audit_entries (chain, sequence, at, person_id, action, \
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

/// What the trail says of an entry; of a captured one from what.
fn detail_of(new: &NewEntry<'_>) -> serde_json::Value {
    let mut detail = json!({
        "step": new.step, "repeat": new.repeat, "typed": new.typed, "value": new.value,
        "replaces": new.replaces.map(|(id, _)| id), "reason": new.replaces.map(|(_, reason)| reason),
        "second": new.second,
    });
    if let (Some(capture), Some(detail)) = (new.capture, detail.as_object_mut()) {
        detail.insert("capture".to_owned(), json!(capture));
    }
    detail
}

async fn try_keep(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
) -> Result<bool, StoreError> {
    let columns = columns_of(new.value);
    let replaces = new.replaces.map(|(id, _)| id.0);
    let reason = new.replaces.map(|(_, reason)| reason);
    let entry = AuditEntry::following(
        seen.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice())),
        &Happening {
            chain: &chain(new.check),
            at: new.received_at,
            person: Some(new.person),
            action: if replaces.is_some() { "entry_replaced" } else { "entry_kept" },
            detail: detail_of(new),
        },
    );
    let statement = Keep {
        check: new.check.0,
        step: &new.step.0,
        repeat: i32::try_from(new.repeat).map_err(unreadable)?,
        typed: columns.typed.unwrap_or(new.typed),
        unit: columns.indication.and(new.unit),
        columns,
        person: new.person.0,
        measured_at: At(new.measured_at),
        received_at: At(new.received_at),
        source: new.source,
        key: new.key,
        replaces,
        reason,
        second: new.second.map(|id| id.0),
        entry,
    };
    Ok(statement.execute(connection).await? == 1)
}

/// Keeps an entry together with what stands or falls with it, in one transaction: a correction
/// voids the standing entries of the steps that depend on it, a tag brings the certificate of the
/// standard in hand.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn keep_together(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
    (corrected, steps): (Option<ReadingId>, &[StepKey]),
    taken: Option<(usize, CertificateId)>,
) -> Result<Kept, StoreError> {
    let mut seen = seen;
    for _ in 0..4 {
        let version = seen.take();
        let kept = connection
            .transaction(async |connection| {
                let version = match version {
                    Some(version) => Some(version),
                    None => head(connection, &chain(new.check)).await?,
                };
                if !try_keep(connection, new, version).await? {
                    return Ok(false);
                }
                keep_trace(connection, new).await?;
                if let Some((place, certificate)) = taken {
                    crate::checks::use_certificate(connection, new.check, place, certificate)
                        .await?;
                }
                if let Some(corrected) = corrected {
                    void_steps(connection, new.check, corrected, steps).await?;
                }
                Ok(true)
            })
            .await;
        // A conflict ends the transaction, so what follows is asked outside of it.
        match kept {
            Ok(true) => return Ok(Kept::Now),
            Ok(false) => return kept_before(connection, new).await,
            Err(StoreError::Conflict { constraint }) if constraint.starts_with("audit_entries") => {
            }
            Err(StoreError::Conflict { constraint }) if is_there(&constraint) => {
                return kept_before(connection, new).await;
            }
            Err(other) => return Err(other),
        }
    }
    Err(StoreError::Conflict { constraint: "audit_entries".to_owned() })
}

/// The numbers and the file of an entry that is a trace.
async fn keep_trace(
    connection: &mut AsyncPgConnection,
    new: &NewEntry<'_>,
) -> Result<(), StoreError> {
    let EntryValue::Trace { trace, digest, .. } = new.value else { return Ok(()) };
    let original = new.original.ok_or_else(|| unreadable("a trace came without its file"))?;
    let id: ReadingId = readings::table
        .filter(readings::idempotency_key.eq(new.key))
        .filter(readings::check_id.eq(new.check))
        .select(readings::id)
        .first(connection)
        .await?;
    traces::keep(connection, id, (trace, digest), original).await
}

async fn void_steps(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    corrected: ReadingId,
    steps: &[StepKey],
) -> Result<(), StoreError> {
    let by: ReadingId = readings::table
        .filter(readings::replaces_id.eq(corrected))
        .select(readings::id)
        .first(connection)
        .await?;
    let standing = entries(connection, check).await?.standing;
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
    Ok(())
}

/// Whether an entry with this key is kept in this check.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn has_key(
    mut connection: &AsyncPgConnection,
    check: CheckId,
    key: Uuid,
) -> Result<bool, StoreError> {
    let same: i64 = readings::table
        .filter(readings::idempotency_key.eq(key))
        .filter(readings::check_id.eq(check))
        .count()
        .get_result(&mut connection)
        .await?;
    Ok(same > 0)
}

/// A wait that runs in an open check, for the frame of every page.
#[derive(Debug, Clone, QueryableByName)]
pub struct RunningWait {
    /// The check.
    #[diesel(sql_type = BigInt)]
    pub check_id: i64,
    /// Tag of the instrument.
    #[diesel(sql_type = Text)]
    pub tag: String,
    /// When it is over at the earliest.
    #[diesel(sql_type = Timestamptz)]
    pub ready_at: At,
    /// When it is too late.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub latest_at: Option<At>,
    /// Whether somebody has gone on after it.
    #[diesel(sql_type = Bool)]
    pub is_over: bool,
}

/// The newest wait of each open check that still binds somebody: running, ready, or with a
/// longest time that has not been used up.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn running_waits(
    mut connection: &AsyncPgConnection,
) -> Result<Vec<RunningWait>, StoreError> {
    Ok(crate::prepared::prepared(
        "SELECT DISTINCT ON (c.id) c.id AS check_id, i.tag, w.ready_at, w.latest_at,
             EXISTS (SELECT 1 FROM readings o LEFT JOIN reading_voids ov ON ov.reading_id = o.id
                 WHERE o.check_id = c.id AND o.kind = 'wait_over' AND o.id > w.id
                   AND ov.reading_id IS NULL) AS is_over
         FROM checks c
         JOIN instruments i ON i.id = c.instrument_id
         JOIN readings w ON w.check_id = c.id AND w.kind = 'wait_started'
         LEFT JOIN reading_voids v ON v.reading_id = w.id
         LEFT JOIN readings r ON r.replaces_id = w.id
         WHERE c.state = 'open' AND v.reading_id IS NULL AND r.id IS NULL
         ORDER BY c.id, w.id DESC",
        vec![],
    )
    .load::<RunningWait>(&mut connection)
    .await?
    .into_iter()
    .filter(|wait| !wait.is_over || wait.latest_at.is_some())
    .collect())
}
