//! Charts of all levels of a check together: offset and gain of its errors, and its standardised levels
//! for the laboratory multirules. A lead turns them on and off; the points of each level are kept.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Double, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use thiserror::Error;
use vaaka_boxed::boxed;
use vaaka_core::chart::{
    ChartDesign, ChartState, Criteria, LEVELS, LINE_GAIN, LINE_OFFSET, Levels, derived_label,
    fit_levels,
};
use vaaka_core::instrument::in_cell;
use vaaka_core::quantity::{Unit, to_f64};

use crate::audit::{self, Happening};
use crate::charts::current_segment;
use crate::ids::{CertificateId, CheckId, PersonId, SegmentId, StreamId};
use crate::rows::{SetUp, Stream};
use crate::schema::{chart_points, chart_streams, instruments, segments, set_ups};
use crate::studies::{design_of, write_design};
use crate::types::At;
use crate::{StoreError, replay, to_word, unreadable};

/// Which charts of all levels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Offset and gain.
    Line,
    /// All levels together, each in its own sigmas.
    Levels,
}

impl Kind {
    fn charts(self) -> &'static [(&'static str, &'static str)] {
        match self {
            Self::Line => &[(LINE_OFFSET, "offset"), (LINE_GAIN, "gain")],
            Self::Levels => &[(LEVELS, "levels")],
        }
    }
}

/// Why they cannot be turned on.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum DerivedRefusal {
    /// Too few levels.
    #[error("this check charts errors at {got} level; two different ones make a line")]
    TooFewLevels {
        /// How many.
        got: usize,
    },
    /// The levels are charted in different units.
    #[error("the levels are charted in different units, so that no one line goes through them")]
    Units,
    /// No level has limits.
    #[error("no level has limits yet: freeze a baseline for each level first")]
    NoLimits,
}

/// The charts of the levels that a chart of all of them is made of.
async fn levels(
    connection: &mut AsyncPgConnection,
    of: &Stream,
) -> Result<Vec<Stream>, StoreError> {
    Ok(chart_streams::table
        .filter(chart_streams::instrument_id.eq(of.instrument_id))
        .filter(chart_streams::set_up_id.eq(of.set_up_id))
        .filter(chart_streams::method_key.eq(&of.method_key))
        .filter(chart_streams::derived.is_null())
        .filter(chart_streams::nominal.is_not_null())
        .filter(chart_streams::characteristic_key.like("error%"))
        .order(chart_streams::id)
        .for_no_key_update()
        .select(Stream::as_select())
        .load(connection)
        .await?)
}

/// Turns charts of all levels on for the check that a chart belongs to: what is there already goes onto
/// them, too. With offset and gain the rules of the levels only inform from now on.
///
/// # Errors
/// [`StoreError`]; the inner result says why it is refused.
#[boxed]
pub async fn turn_on(
    connection: &mut AsyncPgConnection,
    of: StreamId,
    kind: Kind,
    person: PersonId,
    at: Timestamp,
) -> Result<Result<Vec<StreamId>, DerivedRefusal>, StoreError> {
    connection
        .transaction(async |connection| {
            let of: Stream =
                chart_streams::table.find(of).select(Stream::as_select()).first(connection).await?;
            let levels = levels(connection, &of).await?;
            let Some(first) = levels.as_slice().first() else {
                return Ok(Err(DerivedRefusal::TooFewLevels { got: 0 }));
            };
            if levels.len() < 2 {
                return Ok(Err(DerivedRefusal::TooFewLevels { got: levels.len() }));
            }
            if kind == Kind::Line && levels.iter().any(|level| level.unit != first.unit) {
                return Ok(Err(DerivedRefusal::Units));
            }
            let values = values(connection, &of, &levels).await?;
            let mut made = Vec::new();
            for (key, word) in kind.charts() {
                let points = points_of(key, &values);
                if points.is_empty() && kind == Kind::Levels {
                    return Ok(Err(DerivedRefusal::NoLimits));
                }
                let (stream, segment) =
                    stream_for(connection, first, (key, word), &levels, &points, at).await?;
                backfill(connection, (stream, segment), &points).await?;
                replay::stream(connection, stream).await?;
                made.push(stream);
            }
            if kind == Kind::Line {
                for level in &levels {
                    let segment = current_segment(connection, level.id).await?;
                    if let Some(design) = design_of(&segment)? {
                        let quiet = only_mentioning(&design, at);
                        write_design(connection, segment.id, &quiet).await?;
                    }
                }
            }
            note(connection, &of, kind, "turned_on", person, at).await?;
            Ok(Ok(made))
        })
        .await
}

/// Turns them off: they take no more points and keep those they have; rules of the levels raise again
/// what they raised before.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn turn_off(
    connection: &mut AsyncPgConnection,
    of: StreamId,
    kind: Kind,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let of: Stream =
                chart_streams::table.find(of).select(Stream::as_select()).first(connection).await?;
            let words: Vec<&str> = kind.charts().iter().map(|(_, word)| *word).collect();
            let ended = diesel::update(chart_streams::table)
                .filter(chart_streams::instrument_id.eq(of.instrument_id))
                .filter(chart_streams::set_up_id.eq(of.set_up_id))
                .filter(chart_streams::method_key.eq(&of.method_key))
                .filter(chart_streams::derived.eq_any(words))
                .filter(chart_streams::ended_at.is_null())
                .set(chart_streams::ended_at.eq(At(at)))
                .execute(connection)
                .await?;
            if ended == 0 {
                return Ok(());
            }
            if kind == Kind::Line {
                for level in levels(connection, &of).await? {
                    let segment = current_segment(connection, level.id).await?;
                    let Some(design) = design_of(&segment)? else { continue };
                    let raised = design.earlier.last().map(|before| before.raising);
                    if let Some(raised) = raised.filter(|_| design.raising.is_empty()) {
                        let loud = design.with_rules(raised, design.advisory, at);
                        write_design(connection, segment.id, &loud).await?;
                    }
                }
            }
            note(connection, &of, kind, "turned_off", person, at).await
        })
        .await
}

async fn note(
    connection: &mut AsyncPgConnection,
    of: &Stream,
    kind: Kind,
    word: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    let happening = Happening {
        chain: &format!("chart:{}", of.id),
        at,
        person: Some(person),
        action: &format!("charts_of_all_levels_{word}"),
        detail: json!({ "charts": kind.charts().iter().map(|(_, w)| *w).collect::<Vec<_>>() }),
    };
    audit::record(connection, &happening).await
}

#[derive(QueryableByName)]
struct LevelValue {
    #[diesel(sql_type = BigInt)]
    stream_id: StreamId,
    #[diesel(sql_type = BigInt)]
    check_id: CheckId,
    #[diesel(sql_type = BigInt)]
    certificate_id: CertificateId,
    #[diesel(sql_type = Timestamptz)]
    measured_at: At,
    #[diesel(sql_type = Double)]
    value: f64,
    #[diesel(sql_type = diesel::sql_types::Nullable<Double>)]
    standardised: Option<f64>,
}

/// Of each check: when, on which certificate, and its levels with their errors and standardised values.
struct CheckLevels {
    certificate: CertificateId,
    at: At,
    errors: Vec<(f64, f64)>,
    standardised: Vec<f64>,
}

async fn values(
    connection: &mut AsyncPgConnection,
    of: &Stream,
    levels: &[Stream],
) -> Result<BTreeMap<CheckId, CheckLevels>, StoreError> {
    // The unit of nominal values is the instrument's; the line goes over levels in the chart's.
    let unit: String = instruments::table
        .find(of.instrument_id)
        .select(instruments::unit)
        .first(connection)
        .await?;
    let scale = match (unit.parse::<Unit>(), levels[0].unit.parse::<Unit>()) {
        (Ok(from), Ok(to)) => from.try_convert(1.into(), to).map_or(1.0, to_f64),
        _ => 1.0,
    };
    let ids: Vec<i64> = levels.iter().map(|level| level.id.0).collect();
    let rows: Vec<LevelValue> = diesel::sql_query(
        "SELECT stream_id, check_id, certificate_id, measured_at, value, standardised
         FROM chart_points WHERE stream_id = ANY($1) AND ordinal IS NOT NULL
         ORDER BY check_id, stream_id",
    )
    .bind::<Array<BigInt>, _>(ids)
    .load(connection)
    .await?;
    let mut checks: BTreeMap<CheckId, CheckLevels> = BTreeMap::new();
    for row in rows {
        let Some(level) = levels.iter().find(|level| level.id == row.stream_id) else { continue };
        let entry = checks.entry(row.check_id).or_insert_with(|| CheckLevels {
            certificate: row.certificate_id,
            at: row.measured_at,
            errors: vec![],
            standardised: vec![],
        });
        let nominal = level.nominal.map_or(0.0, to_f64) * scale;
        entry.errors.push((nominal, row.value));
        entry.standardised.extend(row.standardised);
    }
    Ok(checks)
}

struct NewPoint {
    check: CheckId,
    certificate: CertificateId,
    at: At,
    value: f64,
}

fn points_of(key: &str, values: &BTreeMap<CheckId, CheckLevels>) -> Vec<NewPoint> {
    values
        .iter()
        .filter_map(|(check, levels)| {
            let value = match key {
                LINE_OFFSET => fit_levels(&levels.errors)?.offset,
                LINE_GAIN => fit_levels(&levels.errors)?.gain,
                _ => Levels::of(&levels.standardised)?.furthest(),
            };
            Some(NewPoint { check: *check, certificate: levels.certificate, at: levels.at, value })
        })
        .collect()
}

/// The design with all its rules only mentioned from a moment on.
fn only_mentioning(design: &ChartDesign, from: Timestamp) -> ChartDesign {
    design.with_rules(Criteria::NONE, design.raising.or(design.advisory), from)
}

async fn stream_for(
    connection: &mut AsyncPgConnection,
    like: &Stream,
    (key, word): (&str, &str),
    levels: &[Stream],
    points: &[NewPoint],
    at: Timestamp,
) -> Result<(StreamId, SegmentId), StoreError> {
    let newest = points.iter().map(|point| point.at.0).max().unwrap_or(at);
    let known: Option<(StreamId, Option<At>)> = chart_streams::table
        .filter(chart_streams::instrument_id.eq(like.instrument_id))
        .filter(chart_streams::set_up_id.eq(like.set_up_id))
        .filter(chart_streams::method_key.eq(&like.method_key))
        .filter(chart_streams::characteristic_key.eq(key))
        .select((chart_streams::id, chart_streams::ended_at))
        .first(connection)
        .await
        .optional()?;
    if let Some((id, ended)) = known {
        diesel::update(chart_streams::table.find(id))
            .set(chart_streams::ended_at.eq(None::<At>))
            .execute(connection)
            .await?;
        let segment = current_segment(connection, id).await?;
        // What comes onto it from the time between was judged by nobody then, and is no work now.
        if let (Some(design), Some(At(ended))) = (design_of(&segment)?, ended) {
            let quiet =
                only_mentioning(&design, ended).with_rules(design.raising, design.advisory, newest);
            write_design(connection, segment.id, &quiet).await?;
        }
        return Ok((id, segment.id));
    }
    let decimals = levels.iter().map(|level| level.decimals).max().unwrap_or(1);
    let (unit, decimals) = if key == LEVELS { ("σ", 1) } else { (like.unit.as_str(), decimals) };
    let cell: SetUp =
        set_ups::table.find(like.set_up_id).select(SetUp::as_select()).first(connection).await?;
    let id: StreamId = diesel::insert_into(chart_streams::table)
        .values((
            chart_streams::instrument_id.eq(like.instrument_id),
            chart_streams::set_up_id.eq(like.set_up_id),
            chart_streams::method_key.eq(&like.method_key),
            chart_streams::characteristic_key.eq(key),
            chart_streams::label
                .eq(in_cell(derived_label(key).unwrap_or(key), cell.words().as_deref())),
            chart_streams::unit.eq(unit),
            chart_streams::decimals.eq(decimals),
            chart_streams::interval_seconds.eq(like.interval_seconds),
            chart_streams::derived.eq(word),
        ))
        .returning(chart_streams::id)
        .get_result(connection)
        .await?;
    let state = ChartState::new(SignedDuration::from_secs(like.interval_seconds));
    // Points of the past are judged for drawing, and the newest for what it says of today.
    let design = (key == LEVELS).then(ChartDesign::levels).map(|design| {
        only_mentioning(&design, Timestamp::UNIX_EPOCH).with_rules(
            design.raising,
            design.advisory,
            newest,
        )
    });
    let given = to_word(&vaaka_core::chart::SigmaSource::Given)?;
    let segment: SegmentId = diesel::insert_into(segments::table)
        .values((
            segments::stream_id.eq(id),
            segments::ordinal.eq(1),
            segments::opened_at.eq(points.iter().map(|p| p.at).min().unwrap_or(At(at))),
            segments::cause.eq("first checks"),
            segments::design.eq(design
                .as_ref()
                .map(serde_json::to_value)
                .transpose()
                .map_err(unreadable)?),
            segments::sigma_source.eq(design.map(|_| given)),
            segments::state.eq(serde_json::to_value(state).map_err(unreadable)?),
        ))
        .returning(segments::id)
        .get_result(connection)
        .await?;
    Ok((id, segment))
}

/// Puts the points onto the chart that it does not have yet; the replay after it counts them.
async fn backfill(
    connection: &mut AsyncPgConnection,
    (stream, segment): (StreamId, SegmentId),
    points: &[NewPoint],
) -> Result<(), StoreError> {
    for chunk in points.chunks(2_000) {
        let rows: Vec<_> = chunk
            .iter()
            .map(|point| {
                (
                    chart_points::stream_id.eq(stream),
                    chart_points::segment_id.eq(segment),
                    chart_points::check_id.eq(point.check),
                    chart_points::certificate_id.eq(point.certificate),
                    chart_points::measured_at.eq(point.at),
                    chart_points::value.eq(point.value),
                    chart_points::conformity.eq("not_judged"),
                    chart_points::firings.eq(json!([])),
                    chart_points::advisory.eq(json!([])),
                )
            })
            .collect();
        diesel::insert_into(chart_points::table)
            .values(rows)
            .on_conflict((chart_points::stream_id, chart_points::check_id))
            .do_nothing()
            .execute(connection)
            .await?;
    }
    Ok(())
}
