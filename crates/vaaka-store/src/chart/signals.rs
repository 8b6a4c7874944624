//! Signals as work: who looked at one, what caused it, what was done, and that a lead closed it.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use thiserror::Error;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{CauseId, CheckId, InstrumentId, PersonId, SegmentId, SignalId, StreamId};
use crate::prepared::{Bind, prepared};
use crate::rows::{SignalRow, SignalStepRow};
use crate::schema::{people, signal_causes, signal_steps, signals, sites};
use crate::types::{At, Day};

/// A signal with where it stands.
#[derive(Debug, Clone, QueryableByName)]
pub struct SignalView {
    /// Its id.
    #[diesel(sql_type = BigInt)]
    pub id: SignalId,
    /// Chart.
    #[diesel(sql_type = BigInt)]
    pub stream_id: StreamId,
    /// What is charted.
    #[diesel(sql_type = Text)]
    pub label: String,
    /// Unit of the chart.
    #[diesel(sql_type = Text)]
    pub unit: String,
    /// Instrument.
    #[diesel(sql_type = BigInt)]
    pub instrument_id: InstrumentId,
    /// Its tag.
    #[diesel(sql_type = Text)]
    pub tag: String,
    /// Its name.
    #[diesel(sql_type = Text)]
    pub instrument: String,
    /// Where it stands.
    #[diesel(sql_type = Text)]
    pub area: String,
    /// Side of the centre.
    #[diesel(sql_type = Nullable<Text>)]
    pub side: Option<String>,
    /// When it was opened.
    #[diesel(sql_type = Timestamptz)]
    pub opened_at: At,
    /// When evidence was added last.
    #[diesel(sql_type = Timestamptz)]
    pub last_evidence_at: At,
    /// Points that gave evidence.
    #[diesel(sql_type = Integer)]
    pub evidence: i32,
    /// How far it is.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// When somebody did something about it last.
    #[diesel(sql_type = Timestamptz)]
    pub touched_at: At,
    /// Whose it is.
    #[diesel(sql_type = Nullable<Text>)]
    pub owner: Option<String>,
    /// Until when.
    #[diesel(sql_type = Nullable<diesel::sql_types::Date>)]
    pub due_on: Option<Day>,
    /// Cause.
    #[diesel(sql_type = Nullable<Text>)]
    pub cause: Option<String>,
    /// The check that opened it.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub check_id: Option<CheckId>,
    /// What fired at the point that opened it.
    #[diesel(sql_type = Nullable<diesel::sql_types::Jsonb>)]
    pub firings: Option<serde_json::Value>,
    /// What fired at its newest evidence: how large the shift is now.
    #[diesel(sql_type = Nullable<diesel::sql_types::Jsonb>)]
    pub newest_firings: Option<serde_json::Value>,
    /// Sigma of the segment's design.
    #[diesel(sql_type = Nullable<diesel::sql_types::Double>)]
    pub sigma: Option<f64>,
}

impl SignalView {
    /// Whether somebody still has to do something about it.
    #[must_use]
    pub fn is_at_work(&self) -> bool {
        !matches!(self.state.as_str(), "closed" | "withdrawn")
    }
}

/// The query of [`SignalView`] with what comes after its joins.
macro_rules! view {
    ($rest:literal) => {
        concat!(
            "SELECT g.id, g.stream_id, s.label, s.unit, s.instrument_id, i.tag,
                i.name AS instrument, a.name AS area, g.side, g.opened_at, g.last_evidence_at,
                g.evidence, g.state, g.touched_at, c.name AS cause, p.check_id, p.firings,
                n.firings AS newest_firings, w.name AS owner, g.due_on,
                (m.design->>'sigma')::float8 AS sigma
            FROM signals g JOIN chart_streams s ON s.id = g.stream_id
            JOIN instruments i ON i.id = s.instrument_id JOIN areas a ON a.id = i.area_id
            JOIN segments m ON m.id = g.segment_id
            LEFT JOIN signal_causes c ON c.id = g.cause_id
            LEFT JOIN people w ON w.id = g.owner_id
            LEFT JOIN chart_points p
                ON p.segment_id = g.segment_id AND p.ordinal = g.opened_ordinal
            LEFT JOIN chart_points n
                ON n.stream_id = g.stream_id AND n.segment_id = g.segment_id AND n.measured_at = g.last_evidence_at
                    AND n.ordinal IS NOT NULL ",
            $rest
        )
    };
}

/// Which signals.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// Those that nobody closed yet, oldest step first.
    AtWork,
    /// Those that were closed, newest first.
    Closed,
    /// Those of a chart that are not withdrawn, newest first.
    OfStream(StreamId),
    /// Those of an instrument that nobody closed yet.
    OfInstrument(InstrumentId),
    /// Those that nobody touched since.
    Forgotten(Timestamp),
}

/// Signals.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn list(
    mut connection: &AsyncPgConnection,
    which: Which,
    most: i64,
) -> Result<Vec<SignalView>, StoreError> {
    // One constant text for each list, so that it is planned once a connection.
    let (sql, value) = match which {
        Which::AtWork => (
            view!(
                "WHERE g.state NOT IN ('closed', 'withdrawn') ORDER BY g.touched_at, g.id LIMIT ?"
            ),
            None,
        ),
        Which::Closed => {
            (view!("WHERE g.state = 'closed' ORDER BY g.touched_at DESC, g.id DESC LIMIT ?"), None)
        }
        Which::OfStream(id) => (
            view!(
                "WHERE g.stream_id = ? AND g.state <> 'withdrawn'
                 ORDER BY g.opened_at DESC, g.id DESC LIMIT ?"
            ),
            Some(id.0),
        ),
        Which::OfInstrument(id) => (
            view!(
                "WHERE s.instrument_id = ? AND g.state NOT IN ('closed', 'withdrawn')
                 ORDER BY g.opened_at DESC, g.id DESC LIMIT ?"
            ),
            Some(id.0),
        ),
        Which::Forgotten(at) => (
            view!(
                "WHERE g.state NOT IN ('closed', 'withdrawn') AND g.touched_at < to_timestamp(?)
                 ORDER BY g.touched_at, g.id LIMIT ?"
            ),
            Some(at.as_second()),
        ),
    };
    let binds = value.into_iter().chain([most]).map(Bind::Int).collect();
    Ok(prepared(sql, binds).load(&mut connection).await?)
}

/// How many signals nobody closed yet.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn at_work(connection: &mut AsyncPgConnection) -> Result<i64, StoreError> {
    Ok(signals::table
        .filter(signals::state.ne_all(["closed", "withdrawn"]))
        .count()
        .get_result(connection)
        .await?)
}

/// One signal.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn by_id(
    connection: &mut AsyncPgConnection,
    id: SignalId,
) -> Result<SignalView, StoreError> {
    prepared(view!("WHERE g.id = ?"), vec![Bind::Int(id.0)])
        .get_result(connection)
        .await
        .optional()?
        .ok_or(StoreError::NotFound)
}

/// A step with who took it.
#[derive(Debug, Clone, Queryable)]
pub struct StepView {
    /// A stable word.
    pub step: String,
    /// What was said.
    pub words: String,
    /// Cause, where one was assigned.
    pub cause: Option<String>,
    /// Who; none where the chart itself took it.
    pub person: Option<String>,
    /// When.
    pub at: At,
}

/// What was done about a signal, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn steps(
    connection: &mut AsyncPgConnection,
    id: SignalId,
) -> Result<Vec<StepView>, StoreError> {
    Ok(signal_steps::table
        .left_join(people::table)
        .left_join(signal_causes::table.on(signal_steps::cause_id.eq(signal_causes::id.nullable())))
        .filter(signal_steps::signal_id.eq(id))
        .order(signal_steps::id)
        .select((
            signal_steps::step,
            signal_steps::words,
            signal_causes::name.nullable(),
            people::name.nullable(),
            signal_steps::at,
        ))
        .load(connection)
        .await?)
}

/// Something that a person does about a signal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step<'a> {
    /// Somebody has seen it and looks into it.
    Acknowledge,
    /// Its cause is known, or it is known that none was found.
    Cause(CauseId, &'a str),
    /// Something was done.
    Act(&'a str),
    /// A lead is content.
    Close(&'a str),
    /// A lead is not content after all.
    Reopen(&'a str),
}

/// Why a step is refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum StepRefusal {
    /// It is closed or withdrawn.
    #[error("this signal is {state}; nothing more can be noted before a lead opens it again")]
    NotAtWork {
        /// Its state.
        state: String,
    },
    /// Closing needs a cause.
    #[error("assign a cause first: a signal is closed only when its cause is on record")]
    NoCause,
    /// Only a closed signal is opened again.
    #[error("this signal is not closed")]
    NotClosed,
    /// The cause is no longer on the list.
    #[error("this cause is no longer on the list: choose another")]
    CauseRetired,
}

/// Takes a step, with its audit entry.
///
/// # Errors
/// [`StoreError`]; the inner result says why a step is refused.
#[boxed]
pub async fn take_step(
    connection: &mut AsyncPgConnection,
    id: SignalId,
    step: Step<'_>,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StepRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let (state, cause): (String, Option<CauseId>) = signals::table
                .find(id)
                .for_update()
                .select((signals::state, signals::cause_id))
                .first(connection)
                .await?;
            let at_work = !matches!(state.as_str(), "closed" | "withdrawn");
            let (word, words, new_cause, next) = match step {
                Step::Reopen(words) if state == "closed" => {
                    let next = if cause.is_some() { "cause_assigned" } else { "acknowledged" };
                    ("reopened", words, None, next)
                }
                Step::Reopen(_) => return Ok(Err(StepRefusal::NotClosed)),
                _ if !at_work => return Ok(Err(StepRefusal::NotAtWork { state })),
                Step::Acknowledge => {
                    // Seeing it twice says no more, and takes nothing back.
                    let next = if state == "open" { "acknowledged" } else { state.as_str() };
                    ("acknowledged", "", None, next)
                }
                Step::Cause(cause, words) => {
                    if !is_in_use(connection, cause).await? {
                        return Ok(Err(StepRefusal::CauseRetired));
                    }
                    let next = if state == "acted" { "acted" } else { "cause_assigned" };
                    ("cause_assigned", words, Some(cause), next)
                }
                Step::Act(words) => {
                    let next = if cause.is_some() { "acted" } else { state.as_str() };
                    ("acted", words, None, if next == "open" { "acknowledged" } else { next })
                }
                Step::Close(words) => {
                    if cause.is_none() {
                        return Ok(Err(StepRefusal::NoCause));
                    }
                    ("closed", words, None, "closed")
                }
            };
            diesel::insert_into(signal_steps::table)
                .values(SignalStepRow {
                    signal_id: id,
                    step: word.to_owned(),
                    words: words.to_owned(),
                    cause_id: new_cause,
                    person_id: Some(person),
                    at: At(at),
                })
                .execute(connection)
                .await?;
            diesel::update(signals::table.find(id))
                .set((
                    signals::state.eq(next),
                    signals::touched_at.eq(At(at)),
                    signals::cause_id.eq(new_cause.or(cause)),
                ))
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: &format!("signal:{id}"),
                at,
                person: Some(person),
                action: &format!("signal_{word}"),
                detail: json!({ "words": words, "cause": new_cause, "from": state, "to": next }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

/// Says whose a signal is and until when, with a step of its own and the audit entry.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn assign(
    connection: &mut AsyncPgConnection,
    id: SignalId,
    (owner, name, due_on): (PersonId, &str, Date),
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StepRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let state: String = signals::table
                .find(id)
                .for_update()
                .select(signals::state)
                .first(connection)
                .await?;
            if matches!(state.as_str(), "closed" | "withdrawn") {
                return Ok(Err(StepRefusal::NotAtWork { state }));
            }
            diesel::insert_into(signal_steps::table)
                .values(SignalStepRow {
                    signal_id: id,
                    step: "assigned".to_owned(),
                    words: format!("{name}, until {due_on}"),
                    cause_id: None,
                    person_id: Some(person),
                    at: At(at),
                })
                .execute(connection)
                .await?;
            diesel::update(signals::table.find(id))
                .set((
                    signals::owner_id.eq(owner),
                    signals::due_on.eq(Day(due_on)),
                    signals::touched_at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: &format!("signal:{id}"),
                at,
                person: Some(person),
                action: "signal_assigned",
                detail: json!({ "owner": owner, "due_on": due_on.to_string() }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

async fn is_in_use(connection: &mut AsyncPgConnection, cause: CauseId) -> Result<bool, StoreError> {
    let found: i64 = signal_causes::table
        .find(cause)
        .filter(signal_causes::retired_at.is_null())
        .count()
        .get_result(connection)
        .await?;
    Ok(found == 1)
}

/// The signals that a segment raised so far, withdrawn ones too.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn of_segment(
    connection: &mut AsyncPgConnection,
    segment: SegmentId,
) -> Result<Vec<SignalRow>, StoreError> {
    Ok(signals::table
        .filter(signals::segment_id.eq(segment))
        .select(SignalRow::as_select())
        .load(connection)
        .await?)
}

/// Writes what a segment raises beside the signals that it had. What people did about one stands; one that
/// had been withdrawn begins anew; and one that a lead closed comes back by itself when the chart goes on
/// signalling, because until eight quiet points have followed it is the same signal.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn write(
    connection: &mut AsyncPgConnection,
    known: &[SignalRow],
    raised: Vec<SignalRow>,
) -> Result<(), StoreError> {
    for mut row in raised {
        let before = known
            .iter()
            .find(|one| one.side == row.side && one.opened_ordinal == row.opened_ordinal)
            .filter(|one| one.state != "withdrawn");
        let mut came_back = false;
        if let Some(before) = before {
            came_back =
                before.state == "closed" && row.last_evidence_at.0 > before.last_evidence_at.0;
            row.state.clone_from(&before.state);
            row.touched_at = before.touched_at;
        }
        if came_back {
            // It was closed with a cause, which did not end it.
            "cause_assigned".clone_into(&mut row.state);
            row.touched_at = row.last_evidence_at;
        }
        let id: SignalId = diesel::insert_into(signals::table)
            .values(&row)
            .on_conflict((signals::segment_id, signals::side, signals::opened_ordinal))
            .do_update()
            .set((
                signals::opened_at.eq(row.opened_at),
                signals::last_evidence_at.eq(row.last_evidence_at),
                signals::evidence.eq(row.evidence),
                signals::state.eq(&row.state),
                signals::touched_at.eq(row.touched_at),
            ))
            .returning(signals::id)
            .get_result(connection)
            .await?;
        if came_back {
            let at = row.last_evidence_at;
            diesel::insert_into(signal_steps::table)
                .values(SignalStepRow {
                    signal_id: id,
                    step: "came_back".to_owned(),
                    words: String::new(),
                    cause_id: None,
                    person_id: None,
                    at,
                })
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: &format!("signal:{id}"),
                at: at.0,
                person: None,
                action: "signal_came_back",
                detail: json!({ "evidence": row.evidence, "from": "closed", "to": row.state }),
            };
            audit::record(connection, &happening).await?;
        }
    }
    Ok(())
}

/// A cause on the site's list.
#[derive(Debug, Clone, Queryable)]
pub struct Cause {
    /// Its id.
    pub id: CauseId,
    /// Its name.
    pub name: String,
    /// When it was taken off the list.
    pub retired_at: Option<At>,
}

/// The site's list of causes, those in use first, in the order in which they were added.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn causes(connection: &mut AsyncPgConnection) -> Result<Vec<Cause>, StoreError> {
    Ok(signal_causes::table
        .order((signal_causes::retired_at.is_not_null(), signal_causes::id))
        .select((signal_causes::id, signal_causes::name, signal_causes::retired_at))
        .load(connection)
        .await?)
}

/// Adds a cause. False when one of that name is in use already.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn add_cause(
    connection: &mut AsyncPgConnection,
    name: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<bool, StoreError> {
    connection
        .transaction(async |connection| {
            let added: Option<CauseId> = diesel::insert_into(signal_causes::table)
                .values((
                    signal_causes::name.eq(name),
                    signal_causes::added_by.eq(person),
                    signal_causes::added_at.eq(At(at)),
                ))
                .on_conflict_do_nothing()
                .returning(signal_causes::id)
                .get_result(connection)
                .await
                .optional()?;
            let Some(id) = added else { return Ok(false) };
            let happening = Happening {
                chain: &format!("signal-cause:{id}"),
                at,
                person: Some(person),
                action: "signal_cause_added",
                detail: json!({ "name": name }),
            };
            audit::record(connection, &happening).await?;
            Ok(true)
        })
        .await
}

/// Takes a cause off the list; signals that have it keep it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn retire_cause(
    connection: &mut AsyncPgConnection,
    id: CauseId,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let retired: Option<String> = diesel::update(signal_causes::table.find(id))
                .filter(signal_causes::retired_at.is_null())
                .set((signal_causes::retired_by.eq(person), signal_causes::retired_at.eq(At(at))))
                .returning(signal_causes::name)
                .get_result(connection)
                .await
                .optional()?;
            let Some(name) = retired else { return Ok(()) };
            let happening = Happening {
                chain: &format!("signal-cause:{id}"),
                at,
                person: Some(person),
                action: "signal_cause_retired",
                detail: json!({ "name": name }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Hours without a step after which a signal comes back on the round.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn reminder_hours(connection: &mut AsyncPgConnection) -> Result<i32, StoreError> {
    Ok(sites::table
        .order(sites::id)
        .select(sites::signal_reminder_hours)
        .first(connection)
        .await
        .optional()?
        .unwrap_or(72))
}

/// Sets them.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn set_reminder_hours(
    connection: &mut AsyncPgConnection,
    hours: i32,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::update(sites::table)
                .set(sites::signal_reminder_hours.eq(hours))
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: "site",
                at,
                person: Some(person),
                action: "signal_reminder_set",
                detail: json!({ "hours": hours }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Signals that come back on the round: nobody did anything about them for the set time.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn forgotten(
    connection: &mut AsyncPgConnection,
    now: Timestamp,
    most: i64,
) -> Result<Vec<SignalView>, StoreError> {
    let hours = reminder_hours(connection).await?;
    let since = now.checked_sub(SignedDuration::from_hours(hours.into())).unwrap_or(now);
    list(connection, Which::Forgotten(since), most).await
}
