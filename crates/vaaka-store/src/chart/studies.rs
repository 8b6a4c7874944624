//! What a baseline study reads, and what a lead decides by it: freezing limits, switching rules,
//! confirming segments.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Double, Integer, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use thiserror::Error;
use vaaka_boxed::boxed;
use vaaka_core::chart::{ChartDesign, ChartState, Criteria, Scatter, SigmaSource};
use vaaka_core::study::{Fault, StudyPoint};

use crate::audit::{self, Happening};
use crate::charts::{current_segment, interval};
use crate::ids::{CheckId, PersonId, SegmentId, StreamId};
use crate::rows::{Baseline, Segment, Stream};
use crate::schema::{
    baselines, chart_points, chart_streams, limit_proposals, people, segments, signals,
};
use crate::types::At;
use crate::{StoreError, notices, replay, seams, to_word, unreadable};

/// A counted point with what a study asks of it.
#[derive(Debug, Clone, QueryableByName)]
pub struct StudyRow {
    /// Its check.
    #[diesel(sql_type = BigInt)]
    pub check_id: CheckId,
    #[diesel(sql_type = BigInt)]
    segment_id: SegmentId,
    #[diesel(sql_type = Timestamptz)]
    measured_at: At,
    #[diesel(sql_type = Double)]
    value: f64,
    #[diesel(sql_type = Integer)]
    readings: i32,
    #[diesel(sql_type = Nullable<Double>)]
    std_dev: Option<f64>,
    #[diesel(sql_type = Nullable<Double>)]
    reading_range: Option<f64>,
    #[diesel(sql_type = Bool)]
    excluded: bool,
    #[diesel(sql_type = Bool)]
    failed: bool,
    #[diesel(sql_type = BigInt)]
    shift_id: i64,
    #[diesel(sql_type = Text)]
    shift_label: String,
    #[diesel(sql_type = Nullable<Text>)]
    person: Option<String>,
}

impl StudyRow {
    /// As the core's study takes it.
    #[must_use]
    pub fn point(&self) -> StudyPoint {
        StudyPoint {
            measured_at: self.measured_at.0,
            value: self.value,
            readings: u32::try_from(self.readings).unwrap_or(1),
            scatter: self
                .std_dev
                .zip(self.reading_range)
                .map(|(std_dev, range)| Scatter { std_dev, range }),
            segment: self.segment_id.0,
            shift: Some(self.shift_id),
            shift_kind: self.shift_label.clone(),
            person: self.person.clone().unwrap_or_default(),
            excluded: self.excluded,
        }
    }
}

/// Most points that a study looks at: three shifts a day for eighteen years.
pub const MOST_POINTS: i64 = 20_000;

/// Counted points of a chart, oldest first; the newest where there are more than [`MOST_POINTS`].
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn points(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<Vec<StudyRow>, StoreError> {
    let mut rows: Vec<StudyRow> = diesel::sql_query(
        "SELECT p.check_id, p.segment_id, p.measured_at, p.value, p.readings, p.std_dev,
             p.reading_range, p.excluded, p.conformity = 'fail' AS failed,
             c.shift_instance_id AS shift_id, h.label AS shift_label, w.name AS person
         FROM chart_points p JOIN checks c ON c.id = p.check_id
         JOIN shift_instances h ON h.id = c.shift_instance_id
         LEFT JOIN people w ON w.id = c.closed_by
         WHERE p.stream_id = $1 AND p.ordinal IS NOT NULL
         ORDER BY p.measured_at DESC, p.id DESC LIMIT $2",
    )
    .bind::<BigInt, _>(stream.0)
    .bind::<BigInt, _>(MOST_POINTS)
    .load(connection)
    .await?;
    rows.reverse();
    Ok(rows)
}

#[derive(QueryableByName)]
struct EventRow {
    #[diesel(sql_type = Timestamptz)]
    at: At,
    #[diesel(sql_type = Text)]
    note: String,
}

/// Known faults of a chart's past: its failed checks, of a run of them the first, and adjustments and
/// repairs of its instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn faults(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
    rows: &[StudyRow],
) -> Result<Vec<Fault>, StoreError> {
    let events: Vec<EventRow> = diesel::sql_query(
        "SELECT at, note FROM instrument_events
         WHERE instrument_id = $1 AND kind IN ('adjusted', 'repaired') ORDER BY at",
    )
    .bind::<BigInt, _>(stream.instrument_id.0)
    .load(connection)
    .await?;
    let mut faults: Vec<Fault> =
        events.into_iter().map(|event| Fault { at: event.at.0, words: event.note }).collect();
    let mut before = false;
    for row in rows {
        if row.failed && !before {
            faults.push(Fault { at: row.measured_at.0, words: "out of tolerance".to_owned() });
        }
        before = row.failed;
    }
    faults.sort_by_key(|fault| fault.at);
    Ok(faults)
}

#[derive(QueryableByName)]
struct LabelRow {
    #[diesel(sql_type = Text)]
    label: String,
}

/// Kinds of shift of the site in which a chart's check is due: all that work, where it is due each shift.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn shift_kinds(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
) -> Result<Vec<String>, StoreError> {
    const HALF_A_DAY: i64 = 12 * 3_600;
    if stream.interval_seconds > HALF_A_DAY {
        return Ok(vec![]);
    }
    let rows: Vec<LabelRow> =
        diesel::sql_query("SELECT DISTINCT label FROM shift_starts ORDER BY label")
            .load(connection)
            .await?;
    Ok(rows.into_iter().map(|row| row.label).collect())
}

/// Who makes a check as a rule: everybody with a tenth of its points or more.
#[must_use]
pub fn regulars(rows: &[StudyRow]) -> Vec<String> {
    let mut counts = std::collections::BTreeMap::<&str, usize>::new();
    for row in rows {
        if let Some(person) = &row.person {
            *counts.entry(person).or_default() += 1;
        }
    }
    counts
        .into_iter()
        .filter(|(_, count)| count * 10 >= rows.len())
        .map(|(name, _)| name.to_owned())
        .collect()
}

/// What a lead freezes.
#[derive(Debug, Clone)]
pub struct Freeze {
    /// The design.
    pub design: ChartDesign,
    /// Where its sigma came from.
    pub sigma_source: SigmaSource,
    /// Name of the baseline.
    pub name: String,
    /// Why.
    pub reason: String,
    /// First and last point of the period.
    pub period: Option<(Timestamp, Timestamp)>,
    /// Points used.
    pub points: usize,
    /// Points left out.
    pub excluded: usize,
    /// Mean moving range of the period.
    pub mean_moving_range: f64,
    /// When the limits are to be looked at again.
    pub review_due: Option<Timestamp>,
    /// What was on the screen: cautions, back-test, run lengths.
    pub shown: Vec<String>,
    /// The segment that the lead saw as the current one.
    pub seen_segment: SegmentId,
    /// Baselines that the lead saw.
    pub seen_baselines: i64,
    /// The second lead, where one had to countersign.
    pub countersigned: Option<Countersigned>,
}

/// A second lead's word on limits that one alone may not freeze.
#[derive(Debug, Clone)]
pub struct Countersigned {
    /// The proposal.
    pub proposal: i64,
    /// Who countersigns.
    pub by: PersonId,
    /// Why.
    pub reason: String,
    /// It is the one lead of the site: nobody countersigns, and everything says so.
    pub alone: bool,
}

/// Limits that wait for a second lead.
#[derive(Debug, Clone, Queryable)]
pub struct LimitProposal {
    /// Its id.
    pub id: i64,
    /// The segment that the lead saw as the current one.
    pub segment_id: SegmentId,
    /// What was chosen, as the form sent it.
    pub choice: serde_json::Value,
    /// The design that came of it.
    pub design: serde_json::Value,
    /// What stood against it.
    pub objections: serde_json::Value,
    /// Why it is to be frozen all the same.
    pub reason: String,
    /// Who proposed.
    pub proposed_by: PersonId,
    /// When.
    pub proposed_at: At,
    /// Name of who proposed.
    pub proposer: String,
}

/// The proposal of a chart that waits, if any.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn waiting_proposal(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<Option<LimitProposal>, StoreError> {
    Ok(limit_proposals::table
        .inner_join(people::table.on(people::id.eq(limit_proposals::proposed_by)))
        .filter(limit_proposals::stream_id.eq(stream))
        .filter(limit_proposals::state.eq("waiting"))
        .select((
            limit_proposals::id,
            limit_proposals::segment_id,
            limit_proposals::choice,
            limit_proposals::design,
            limit_proposals::objections,
            limit_proposals::reason,
            limit_proposals::proposed_by,
            limit_proposals::proposed_at,
            people::name,
        ))
        .first(connection)
        .await
        .optional()?)
}

/// Limits that a lead proposes to another.
#[derive(Debug, Clone)]
pub struct NewProposal<'a> {
    /// The design.
    pub design: &'a ChartDesign,
    /// What was chosen, as the form sent it.
    pub choice: serde_json::Value,
    /// What stands against it, in words.
    pub objections: &'a [String],
    /// Why.
    pub reason: &'a str,
    /// The segment that was seen.
    pub segment: SegmentId,
    /// "Tank scale S-04, error at 20 kg", for the notice.
    pub what: &'a str,
}

/// Keeps a proposal until a second lead decides, and tells the leads. A newer one of the same lead takes the place of
/// an older.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn propose(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    new: &NewProposal<'_>,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StudyRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let (stream, segment) = lock(connection, stream).await?;
            if segment.id != new.segment {
                return Ok(Err(StudyRefusal::ChangedMeanwhile));
            }
            if let Some(before) = waiting_proposal(connection, stream.id).await? {
                if before.proposed_by != person {
                    return Ok(Err(StudyRefusal::OtherWaits { proposer: before.proposer }));
                }
                let reason = "proposed anew";
                decide(connection, before.id, "withdrawn", (person, reason), at).await?;
            }
            diesel::insert_into(limit_proposals::table)
                .values((
                    limit_proposals::stream_id.eq(stream.id),
                    limit_proposals::segment_id.eq(new.segment),
                    limit_proposals::choice.eq(&new.choice),
                    limit_proposals::design
                        .eq(serde_json::to_value(new.design).map_err(unreadable)?),
                    limit_proposals::objections
                        .eq(serde_json::to_value(new.objections).map_err(unreadable)?),
                    limit_proposals::reason.eq(new.reason),
                    limit_proposals::proposed_by.eq(person),
                    limit_proposals::proposed_at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            let path = study_path(stream.id);
            notices::tell_leads(
                connection,
                &notices::NewNotice {
                    kind: TO_COUNTERSIGN,
                    instrument: Some(stream.instrument_id),
                    check: None,
                    title: &format!("Limits to countersign: {}", new.what),
                    words: &format!(
                        "One lead alone does not freeze them: {} Reason given: {}",
                        new.objections.join(" "),
                        new.reason
                    ),
                    path: &path,
                    at,
                },
            )
            .await?;
            let happening = Happening {
                chain: &format!("chart:{}", stream.id),
                at,
                person: Some(person),
                action: "limits_proposed",
                detail: json!({
                    "reason": new.reason, "objections": new.objections, "design": new.design,
                }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

/// Kind of the notice by which leads hear of a proposal.
const TO_COUNTERSIGN: &str = "limits_to_countersign";

/// Where a proposal is decided.
fn study_path(stream: StreamId) -> String {
    format!("/charts/{stream}/study")
}

/// Ends a proposal that waits, and the notices that ask for it.
async fn decide(
    connection: &mut AsyncPgConnection,
    proposal: i64,
    state: &str,
    (person, reason): (PersonId, &str),
    at: Timestamp,
) -> Result<bool, StoreError> {
    let stream: Option<StreamId> = diesel::update(
        limit_proposals::table
            .filter(limit_proposals::id.eq(proposal))
            .filter(limit_proposals::state.eq("waiting")),
    )
    .set((
        limit_proposals::state.eq(state),
        limit_proposals::decided_by.eq(person),
        limit_proposals::decided_at.eq(At(at)),
        limit_proposals::decided_reason.eq(reason),
    ))
    .returning(limit_proposals::stream_id)
    .get_result(connection)
    .await
    .optional()?;
    let Some(stream) = stream else { return Ok(false) };
    notices::end(connection, notices::Over::At(TO_COUNTERSIGN, &study_path(stream)), person, at)
        .await?;
    Ok(true)
}

/// Rejects a proposal of another lead, or withdraws one's own.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn turn_down(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    proposal: i64,
    (person, reason): (PersonId, &str),
    at: Timestamp,
) -> Result<Result<(), StudyRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            lock(connection, stream).await?;
            let Some(waiting) = waiting_proposal(connection, stream)
                .await?
                .filter(|waiting| waiting.id == proposal)
            else {
                return Ok(Err(StudyRefusal::ChangedMeanwhile));
            };
            let state = if waiting.proposed_by == person { "withdrawn" } else { "rejected" };
            decide(connection, proposal, state, (person, reason), at).await?;
            let happening = Happening {
                chain: &format!("chart:{stream}"),
                at,
                person: Some(person),
                action: &format!("limits_{state}"),
                detail: json!({ "proposal": proposal, "reason": reason }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

/// How many signals of a chart spoke within a period and are not closed.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn open_signals(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
) -> Result<usize, StoreError> {
    let count: i64 = signals::table
        .filter(signals::stream_id.eq(stream))
        .filter(signals::state.ne_all(["closed", "withdrawn"]))
        .filter(signals::opened_at.le(At(to)))
        .filter(signals::last_evidence_at.ge(At(from)))
        .count()
        .get_result(connection)
        .await?;
    usize::try_from(count).map_err(unreadable)
}

/// The tolerance at the newest point of a chart that has one.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn tolerance(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<(Option<f64>, Option<f64>), StoreError> {
    let found = chart_points::table
        .filter(chart_points::stream_id.eq(stream))
        .order((chart_points::measured_at.desc(), chart_points::id.desc()))
        .select((chart_points::lower_tolerance_limit, chart_points::upper_tolerance_limit))
        .first(connection)
        .await
        .optional()?;
    Ok(found.unwrap_or((None, None)))
}

/// Why something is refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum StudyRefusal {
    /// Somebody else was first.
    #[error("somebody else has changed this chart meanwhile: look at it again, and decide anew")]
    ChangedMeanwhile,
    /// Another lead's proposal waits.
    #[error("limits that {proposer} proposed wait to be countersigned: decide on these first")]
    OtherWaits {
        /// Who.
        proposer: String,
    },
    /// There is nothing to switch.
    #[error("this chart has no limits yet; rules are switched when they are frozen")]
    NoDesign,
    /// The first segment has nothing before it.
    #[error("the first segment of a chart has none before it that it could be joined with")]
    FirstSegment,
    /// It is settled already.
    #[error("this segment is {settled} already")]
    Settled {
        /// How.
        settled: String,
    },
    /// Limits were frozen in it.
    #[error("limits were frozen in this segment: it cannot be joined with the one before any more")]
    FrozenInIt,
}

/// How many baselines a chart has.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn baselines_of(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<i64, StoreError> {
    Ok(baselines::table
        .inner_join(segments::table.on(segments::id.eq(baselines::segment_id)))
        .filter(segments::stream_id.eq(stream))
        .count()
        .get_result(connection)
        .await?)
}

async fn lock(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<(Stream, Segment), StoreError> {
    let stream: Stream = chart_streams::table
        .find(stream)
        .for_no_key_update()
        .select(Stream::as_select())
        .first(connection)
        .await?;
    let segment = current_segment(connection, stream.id).await?;
    Ok((stream, segment))
}

/// What is kept of limits that are frozen.
fn baseline_of(
    new: &Freeze,
    segment: SegmentId,
    (person, at): (PersonId, Timestamp),
) -> Result<Baseline, StoreError> {
    let center = match new.design.level {
        vaaka_core::chart::Level::Frozen { center_line } => center_line,
        vaaka_core::chart::Level::AfterAdjustment { target, .. } => target,
    };
    let (first, last) = new.period.unwrap_or((at, at));
    let second = new.countersigned.as_ref().filter(|second| !second.alone);
    Ok(Baseline {
        segment_id: segment,
        name: new.name.clone(),
        first_at: At(first),
        last_at: At(last),
        points: i32::try_from(new.points).map_err(unreadable)?,
        center_line: center,
        lower_control_limit: center - new.design.below,
        upper_control_limit: center + new.design.above,
        sigma: new.design.sigma,
        multiplier: new.design.multiplier,
        sigma_source: to_word(&new.sigma_source)?,
        mean_moving_range: new.mean_moving_range,
        frozen_by: person,
        frozen_at: At(at),
        reason: new.reason.clone(),
        basis: to_word(&new.design.basis)?,
        excluded: i32::try_from(new.excluded).map_err(unreadable)?,
        review_due_at: new.review_due.map(At),
        shown: serde_json::to_value(&new.shown).map_err(unreadable)?,
        countersigned_by: second.map(|second| second.by),
        countersigned_reason: second.map(|second| second.reason.clone()),
        alone: new.countersigned.as_ref().is_some_and(|second| second.alone),
    })
}

/// Freezes limits. A segment without limits gets them from its start, and its points are replayed; where
/// there were limits before, a new segment begins, because what was judged stays judged.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn freeze(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    new: &Freeze,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StudyRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let (stream, segment) = lock(connection, stream).await?;
            if segment.id != new.seen_segment
                || baselines_of(connection, stream.id).await? != new.seen_baselines
            {
                return Ok(Err(StudyRefusal::ChangedMeanwhile));
            }
            if let Some(second) = &new.countersigned {
                // The lock on the chart is held: of two who decide at one moment one finds nothing waiting.
                let words = (second.by, second.reason.as_str());
                if second.alone {
                    diesel::update(limit_proposals::table.find(second.proposal))
                        .set(limit_proposals::alone.eq(true))
                        .execute(connection)
                        .await?;
                }
                if !decide(connection, second.proposal, "countersigned", words, at).await? {
                    return Ok(Err(StudyRefusal::ChangedMeanwhile));
                }
            } else if let Some(waiting) = waiting_proposal(connection, stream.id).await? {
                // It proposed limits for a chart that has others now: nobody could countersign it any more.
                let reason = "other limits were frozen meanwhile";
                decide(connection, waiting.id, "withdrawn", (person, reason), at).await?;
            }
            let source = to_word(&new.sigma_source)?;
            let in_place = segment.design.is_none();
            let design = serde_json::to_value(&new.design).map_err(unreadable)?;
            let segment = if in_place {
                diesel::update(segments::table.find(segment.id))
                    .set((segments::design.eq(&design), segments::sigma_source.eq(&source)))
                    .execute(connection)
                    .await?;
                segment.id
            } else {
                let slot = vaaka_core::check::StreamSlot {
                    key: stream.characteristic_key.clone(),
                    design: Some(new.design.clone()),
                    sigma_source: Some(new.sigma_source),
                    state: ChartState::new(interval(&stream)),
                    recent: Vec::new(),
                };
                let opened =
                    seams::open(connection, &segment, "limits frozen", None, &slot, at).await?;
                diesel::update(segments::table.find(opened.id))
                    .set((
                        segments::settled.eq("confirmed"),
                        segments::settled_by.eq(person),
                        segments::settled_at.eq(At(at)),
                        segments::settled_reason.eq(&new.reason),
                    ))
                    .execute(connection)
                    .await?;
                opened.id
            };
            diesel::insert_into(baselines::table)
                .values(baseline_of(new, segment, (person, at))?)
                .execute(connection)
                .await?;
            let second = new.countersigned.as_ref().filter(|second| !second.alone);
            if in_place {
                replay::these(connection, vec![stream.id]).await?;
            }
            let happening = Happening {
                chain: &format!("chart:{}", stream.id),
                at,
                person: Some(person),
                action: "limits_frozen",
                detail: json!({
                    "name": new.name, "reason": new.reason, "design": design,
                    "points": new.points, "excluded": new.excluded, "shown": new.shown,
                    "countersigned_by": second.map(|second| second.by),
                    "countersigned_reason": new.countersigned.as_ref().map(|second| &second.reason),
                    "alone": new.countersigned.as_ref().is_some_and(|second| second.alone),
                }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

/// Switches rules for what comes; what was judged keeps its own.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn switch_rules(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    (raising, advisory): (Criteria, Criteria),
    reason: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StudyRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let (stream, segment) = lock(connection, stream).await?;
            let Some(design) = segment.design.clone() else {
                return Ok(Err(StudyRefusal::NoDesign));
            };
            let design: ChartDesign = serde_json::from_value(design).map_err(unreadable)?;
            let after = design.with_rules(raising, advisory, at);
            write_design(connection, segment.id, &after).await?;
            let happening = Happening {
                chain: &format!("chart:{}", stream.id),
                at,
                person: Some(person),
                action: "rules_switched",
                detail: json!({
                    "raising": after.raising, "advisory": after.advisory, "reason": reason,
                    "before": design.raising,
                }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

#[boxed]
pub(crate) async fn write_design(
    connection: &mut AsyncPgConnection,
    segment: SegmentId,
    design: &ChartDesign,
) -> Result<(), StoreError> {
    diesel::update(segments::table.find(segment))
        .set(segments::design.eq(serde_json::to_value(design).map_err(unreadable)?))
        .execute(connection)
        .await?;
    Ok(())
}

/// What a lead makes of a proposed segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Settle {
    /// It is a segment of its own.
    Confirm,
    /// Nothing changed: it goes on with the one before.
    Join,
}

/// Confirms a segment, or joins it with the one before: then its points are replayed there.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn settle_segment(
    connection: &mut AsyncPgConnection,
    (stream, id): (StreamId, SegmentId),
    settle: Settle,
    reason: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<(), StudyRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let (stream, _) = lock(connection, stream).await?;
            let all: Vec<Segment> = segments::table
                .filter(segments::stream_id.eq(stream.id))
                .filter(segments::settled.is_distinct_from("joined"))
                .order(segments::ordinal)
                .select(Segment::as_select())
                .load(connection)
                .await?;
            let place = all.iter().position(|segment| segment.id == id);
            let place = place.ok_or(StoreError::NotFound)?;
            if let Some(settled) = &all[place].settled {
                return Ok(Err(StudyRefusal::Settled { settled: settled.clone() }));
            }
            let word = match settle {
                Settle::Confirm => "confirmed",
                Settle::Join => "joined",
            };
            if settle == Settle::Join {
                let Some(before) = place.checked_sub(1).map(|place| &all[place]) else {
                    return Ok(Err(StudyRefusal::FirstSegment));
                };
                let frozen: i64 = baselines::table
                    .filter(baselines::segment_id.eq(id))
                    .count()
                    .get_result(connection)
                    .await?;
                if frozen > 0 {
                    return Ok(Err(StudyRefusal::FrozenInIt));
                }
                // Places are found anew by the replay; until then none is taken twice.
                diesel::update(chart_points::table.filter(chart_points::segment_id.eq(id)))
                    .set((
                        chart_points::ordinal.eq(None::<i64>),
                        chart_points::segment_id.eq(before.id),
                    ))
                    .execute(connection)
                    .await?;
            }
            diesel::update(segments::table.find(id))
                .set((
                    segments::settled.eq(word),
                    segments::settled_by.eq(person),
                    segments::settled_at.eq(At(at)),
                    segments::settled_reason.eq(reason),
                ))
                .execute(connection)
                .await?;
            if settle == Settle::Join {
                replay::these(connection, vec![stream.id]).await?;
            }
            let happening = Happening {
                chain: &format!("chart:{}", stream.id),
                at,
                person: Some(person),
                action: &format!("segment_{word}"),
                detail: json!({ "segment": id, "cause": all[place].cause, "reason": reason }),
            };
            audit::record(connection, &happening).await?;
            Ok(Ok(()))
        })
        .await
}

/// Designs of the segments of a chart, oldest first.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn design_of(segment: &Segment) -> Result<Option<ChartDesign>, StoreError> {
    segment.design.clone().map(serde_json::from_value).transpose().map_err(unreadable)
}

/// Charts whose limits are due for review, with when.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn reviews_due(
    connection: &mut AsyncPgConnection,
    now: Timestamp,
) -> Result<Vec<(StreamId, At)>, StoreError> {
    #[derive(QueryableByName)]
    struct Due {
        #[diesel(sql_type = BigInt)]
        stream_id: StreamId,
        #[diesel(sql_type = Timestamptz)]
        review_due_at: At,
    }
    let rows: Vec<Due> = diesel::sql_query(
        "SELECT stream_id, review_due_at FROM (
             SELECT DISTINCT ON (g.stream_id) g.stream_id, b.review_due_at
             FROM baselines b JOIN segments g ON g.id = b.segment_id
             ORDER BY g.stream_id, b.frozen_at DESC, b.id DESC) newest
         WHERE review_due_at <= $1 ORDER BY review_due_at",
    )
    .bind::<Timestamptz, _>(At(now))
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|due| (due.stream_id, due.review_due_at)).collect())
}
