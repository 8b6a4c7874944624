//! Chart streams, their segments, points and signals.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Double, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use vaaka_boxed::boxed;
use vaaka_core::chart::{ChartDesign, ChartState, SigmaSource};
use vaaka_core::check::{DRIFT_WINDOW, PastPoint, StreamSlot, segment_level};
use vaaka_core::history::{Drift, LevelEstimate};

use crate::ids::{CheckId, InstrumentId, SegmentId, SetUpId, StreamId};
use crate::prepared::{Bind, Condition, prepared};
use crate::rows::{Area, Baseline, Instrument, Point, Segment, SignalRow, Stream};
use crate::schema::{
    areas, baselines, certificates, chart_points, chart_streams, checks, instruments, people,
    segments, signals,
};
use crate::search::literally;
use crate::types::At;
use crate::{StoreError, unreadable, word};

/// A stream with its instrument.
#[derive(Debug, Clone)]
pub struct StreamView {
    /// The stream.
    pub stream: Stream,
    /// The instrument.
    pub instrument: Instrument,
    /// Where it stands.
    pub area: Area,
}

/// All streams, along the walk.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(connection: &mut AsyncPgConnection) -> Result<Vec<StreamView>, StoreError> {
    let rows: Vec<(Stream, Instrument, Area)> = chart_streams::table
        .inner_join(instruments::table.inner_join(areas::table))
        .order((areas::walk_order, instruments::tag, chart_streams::id))
        .select((Stream::as_select(), Instrument::as_select(), Area::as_select()))
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(stream, instrument, area)| StreamView { stream, instrument, area })
        .collect())
}

/// The charts in use of an area, or of all areas: those that have not ended, of instruments that are not retired.
/// In no order.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn in_use(
    connection: &mut AsyncPgConnection,
    area: Option<i64>,
) -> Result<Vec<StreamView>, StoreError> {
    let mut query = chart_streams::table
        .inner_join(instruments::table.inner_join(areas::table))
        .filter(chart_streams::ended_at.is_null())
        .filter(instruments::state.ne("retired"))
        .select((Stream::as_select(), Instrument::as_select(), Area::as_select()))
        .into_boxed();
    if let Some(area) = area {
        query = query.filter(areas::id.eq(area));
    }
    let rows: Vec<(Stream, Instrument, Area)> = query.load(connection).await?;
    Ok(rows
        .into_iter()
        .map(|(stream, instrument, area)| StreamView { stream, instrument, area })
        .collect())
}

/// The streams of these instruments, along the walk.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_instruments(
    connection: &mut AsyncPgConnection,
    wanted: &[InstrumentId],
) -> Result<Vec<StreamView>, StoreError> {
    let rows: Vec<(Stream, Instrument, Area)> = chart_streams::table
        .inner_join(instruments::table.inner_join(areas::table))
        .filter(chart_streams::instrument_id.eq_any(wanted))
        .order((areas::walk_order, instruments::tag, chart_streams::id))
        .select((Stream::as_select(), Instrument::as_select(), Area::as_select()))
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(stream, instrument, area)| StreamView { stream, instrument, area })
        .collect())
}

/// The streams of instruments without their registers, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn streams_of(
    mut connection: &AsyncPgConnection,
    wanted: &[InstrumentId],
) -> Result<Vec<Stream>, StoreError> {
    Ok(chart_streams::table
        .filter(chart_streams::instrument_id.eq_any(wanted))
        .order(chart_streams::id)
        .select(Stream::as_select())
        .load(&mut connection)
        .await?)
}

/// All streams without their registers, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all_streams(connection: &mut AsyncPgConnection) -> Result<Vec<Stream>, StoreError> {
    Ok(chart_streams::table
        .order(chart_streams::id)
        .select(Stream::as_select())
        .load(connection)
        .await?)
}

/// Charts that work by one design, and how far apart their checks are.
#[derive(Debug, Clone, QueryableByName)]
pub struct DesignGroup {
    /// How many charts.
    #[diesel(sql_type = BigInt)]
    pub count: i64,
    /// Seconds between their checks.
    #[diesel(sql_type = BigInt)]
    pub interval_seconds: i64,
    /// The design of one of them.
    #[diesel(sql_type = diesel::sql_types::Jsonb)]
    pub design: serde_json::Value,
}

/// The designs that these charts work by, those alike together: of hundreds of charts a few designs. All
/// charts in use where none are named.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn design_groups(
    connection: &mut AsyncPgConnection,
    streams: Option<&[StreamId]>,
) -> Result<Vec<DesignGroup>, StoreError> {
    let ids: Vec<i64> = streams.unwrap_or_default().iter().map(|id| id.0).collect();
    Ok(prepared(
        // Only of one chart of each group is the design opened.
        "SELECT alike.count, alike.interval_seconds, m.design
         FROM (SELECT count(*) AS count, s.interval_seconds, max(newest.id) AS segment_id
             FROM (SELECT DISTINCT ON (stream_id) stream_id, id, design_group,
                     design IS NOT NULL AS designed
                 FROM segments WHERE settled IS DISTINCT FROM 'joined'
                 ORDER BY stream_id DESC, ordinal DESC) newest
             JOIN chart_streams s ON s.id = newest.stream_id
             WHERE s.ended_at IS NULL AND newest.designed AND (? = 0 OR s.id = ANY(?))
             GROUP BY s.interval_seconds, newest.design_group) alike
         JOIN segments m ON m.id = alike.segment_id",
        vec![Bind::Int(i64::from(streams.is_some())), Bind::Ints(ids)],
    )
    .load(connection)
    .await?)
}

/// One stream.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn by_id(
    mut connection: &AsyncPgConnection,
    id: StreamId,
) -> Result<StreamView, StoreError> {
    let (stream, instrument, area): (Stream, Instrument, Area) = chart_streams::table
        .inner_join(instruments::table.inner_join(areas::table))
        .filter(chart_streams::id.eq(id))
        .select((Stream::as_select(), Instrument::as_select(), Area::as_select()))
        .first(&mut connection)
        .await?;
    Ok(StreamView { stream, instrument, area })
}

/// The newest point of a stream in brief, for beams and lists.
#[derive(Debug, Clone, QueryableByName)]
pub struct BriefPoint {
    /// Stream.
    #[diesel(sql_type = BigInt)]
    pub stream_id: StreamId,
    /// Check.
    #[diesel(sql_type = BigInt)]
    pub check_id: CheckId,
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub measured_at: At,
    /// Plotted value.
    #[diesel(sql_type = Double)]
    pub value: f64,
    /// Readings that it is a mean of.
    #[diesel(sql_type = diesel::sql_types::Integer)]
    pub readings: i32,
    /// Conformity of the characteristic.
    #[diesel(sql_type = Text)]
    pub conformity: String,
    /// It failed in the guard band only, inside its tolerance.
    #[diesel(sql_type = diesel::sql_types::Bool)]
    pub in_band: bool,
    /// Tolerance at this point.
    #[diesel(sql_type = Nullable<Double>)]
    pub lower_tolerance_limit: Option<f64>,
    /// Tolerance at this point.
    #[diesel(sql_type = Nullable<Double>)]
    pub upper_tolerance_limit: Option<f64>,
    /// Centre line at this point.
    #[diesel(sql_type = Nullable<Double>)]
    pub center_line: Option<f64>,
    /// Control limit at this point.
    #[diesel(sql_type = Nullable<Double>)]
    pub lower_control_limit: Option<f64>,
    /// Control limit at this point.
    #[diesel(sql_type = Nullable<Double>)]
    pub upper_control_limit: Option<f64>,
    /// Side on which a signal is still active after it.
    #[diesel(sql_type = Nullable<Text>)]
    pub active_side: Option<String>,
    /// Slope of the drift that its check's verdict proved, in units a week.
    #[diesel(sql_type = Nullable<Double>)]
    pub drift_per_week: Option<f64>,
    /// The whole of it, as the verdict keeps it.
    #[diesel(sql_type = Nullable<diesel::sql_types::Jsonb>)]
    pub drift: Option<serde_json::Value>,
}

impl BriefPoint {
    /// The drift that its check's verdict proved.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn told_drift(&self) -> Result<Option<Drift>, StoreError> {
        self.drift.clone().map(serde_json::from_value).transpose().map_err(unreadable)
    }

    /// Whether the control limits reach beyond the tolerance: the instrument, doing what it normally does, cannot hold it.
    #[must_use]
    pub fn cannot_hold(&self) -> bool {
        let beyond = |control: Option<f64>, tolerance: Option<f64>, side: f64| {
            control.zip(tolerance).is_some_and(|(control, limit)| side * (control - limit) > 0.0)
        };
        beyond(self.lower_control_limit, self.lower_tolerance_limit, -1.0)
            || beyond(self.upper_control_limit, self.upper_tolerance_limit, 1.0)
    }
}

/// The newest counted point of each of these streams that has one, in their order.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest_points(
    mut connection: &AsyncPgConnection,
    streams: &[StreamId],
) -> Result<Vec<BriefPoint>, StoreError> {
    let ids: Vec<i64> = streams.iter().map(|id| id.0).collect();
    Ok(prepared(
        "SELECT p.stream_id, p.check_id, p.measured_at, p.value, p.readings, p.conformity,
            p.lower_tolerance_limit, p.upper_tolerance_limit, p.center_line,
            p.lower_control_limit, p.upper_control_limit,
            (p.conformity = 'fail' AND EXISTS (SELECT FROM results r
               JOIN budgets b ON b.result_id = r.id AND b.statement = 'conditional_pass'
               JOIN chart_streams own ON own.id = p.stream_id
               WHERE r.check_id = p.check_id AND b.key = own.characteristic_key
                 AND r.version = (SELECT max(o.version) FROM results o WHERE o.check_id = p.check_id))) AS in_band,
            told.drift, (told.drift->>'per_week')::float8 AS drift_per_week,
            (SELECT s.side FROM signals s WHERE s.stream_id = p.stream_id
               AND s.segment_id = p.segment_id AND s.side IS NOT NULL
               AND s.state <> 'withdrawn' AND s.last_evidence_at = p.measured_at ORDER BY s.id DESC LIMIT 1) AS active_side
         FROM unnest(?) WITH ORDINALITY AS wanted(id, place)
         CROSS JOIN LATERAL (SELECT c.* FROM chart_points c WHERE c.stream_id = wanted.id
             AND c.ordinal IS NOT NULL AND NOT c.excluded ORDER BY c.measured_at DESC, c.id DESC LIMIT 1) p
         LEFT JOIN LATERAL (SELECT reason->'drift' AS drift FROM results r
             CROSS JOIN LATERAL jsonb_array_elements(r.verdict->'reasons') AS reason
             JOIN chart_streams own ON own.id = p.stream_id
             WHERE p.signalled AND r.check_id = p.check_id AND reason->>'kind' = 'drifting'
               AND reason->>'key' = own.characteristic_key
             ORDER BY r.version DESC LIMIT 1) told ON true
         ORDER BY wanted.place",
        vec![Bind::Ints(ids)],
    )
    .load(&mut connection)
    .await?)
}

/// The values of a stream, oldest first.
#[derive(Debug, QueryableByName)]
struct Trail {
    #[diesel(sql_type = BigInt)]
    stream: StreamId,
    #[diesel(sql_type = Array<Double>)]
    values: Vec<f64>,
}

/// Of each of these streams the counted values before the newest, oldest first: those of the newest
/// point's segment among the last `count` points, since across an adjustment they would mislead. One
/// row a stream, because a round of sixty would otherwise read many hundred.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn trails(
    connection: &mut AsyncPgConnection,
    streams: &[StreamId],
    count: i64,
) -> Result<HashMap<StreamId, Vec<f64>>, StoreError> {
    let ids: Vec<i64> = streams.iter().map(|id| id.0).collect();
    let rows: Vec<Trail> = prepared(
        "SELECT wanted.id AS stream,
             ARRAY(SELECT p.value FROM (
                 SELECT c.value, c.segment_id, c.measured_at, c.id,
                     first_value(c.segment_id) OVER newest AS own, row_number() OVER newest AS nth
                 FROM chart_points c WHERE c.stream_id = wanted.id AND c.ordinal IS NOT NULL AND NOT c.excluded
                 WINDOW newest AS (ORDER BY c.measured_at DESC, c.id DESC)
                 ORDER BY c.measured_at DESC, c.id DESC LIMIT ?) p
             WHERE p.nth > 1 AND p.segment_id = p.own ORDER BY p.measured_at, p.id) AS values
         FROM unnest(?) AS wanted(id)",
        vec![Bind::Int(count), Bind::Ints(ids)],
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.stream, row.values)).collect())
}

/// Control limits at the newest counted point of a characteristic: lower, centre, upper.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn control_limits_of(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    set_up: SetUpId,
    key: &str,
) -> Result<Option<(f64, f64, f64)>, StoreError> {
    type Limits = (Option<f64>, Option<f64>, Option<f64>);
    let found: Option<Limits> = chart_points::table
        .inner_join(chart_streams::table.on(chart_streams::id.eq(chart_points::stream_id)))
        .filter(chart_streams::instrument_id.eq(instrument))
        .filter(chart_streams::set_up_id.eq(set_up))
        .filter(chart_streams::characteristic_key.eq(key))
        .filter(chart_points::ordinal.is_not_null())
        .order((chart_points::measured_at.desc(), chart_points::id.desc()))
        .select((
            chart_points::lower_control_limit,
            chart_points::center_line,
            chart_points::upper_control_limit,
        ))
        .first(connection)
        .await
        .optional()?;
    Ok(found.and_then(|(lower, center, upper)| Some((lower?, center?, upper?))))
}

/// A point with what a person wants to know of it.
#[derive(Debug, Clone, Queryable)]
pub struct PointView {
    /// The point.
    pub point: Point,
    /// Purpose of its check.
    pub purpose: String,
    /// Who concluded the check.
    pub person: Option<String>,
    /// Number of the certificate it rests on.
    pub certificate: String,
    /// Why it was done on paper, if it was.
    pub paper: Option<String>,
}

/// Points of a stream from `from` on, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn points_since(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    from: Timestamp,
) -> Result<Vec<PointView>, StoreError> {
    points_between(connection, stream, (from, Timestamp::MAX), i64::MAX, false).await
}

/// Which points say something by themselves: flagged, left out, out of tolerance. It is the predicate of an
/// index, word for word and with no value to be bound: a kept plan could not know that "fail" will be bound,
/// and would walk through ten years of points instead.
const MARKED: Condition = Condition("(signalled OR excluded OR conformity = 'fail')");

/// Points of a stream in a stretch of time, oldest first; of more than `most` the newest. `marked` leaves
/// only those that say something by themselves: flagged, out of tolerance, left out.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn points_between(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
    most: i64,
    marked: bool,
) -> Result<Vec<PointView>, StoreError> {
    let mut query = chart_points::table
        .inner_join(
            checks::table.left_join(people::table.on(checks::closed_by.eq(people::id.nullable()))),
        )
        .inner_join(certificates::table)
        .filter(chart_points::stream_id.eq(stream))
        .filter(chart_points::measured_at.ge(At(from)))
        .filter(chart_points::measured_at.le(At(to)))
        .filter(chart_points::withdrawn.eq(false))
        .order((chart_points::measured_at.desc(), chart_points::id.desc()))
        .limit(most)
        .select((
            Point::as_select(),
            checks::purpose,
            people::name.nullable(),
            certificates::number,
            checks::late_reason,
        ))
        .into_boxed();
    if marked {
        query = query.filter(MARKED);
    }
    let mut found: Vec<PointView> = query.load(&mut connection).await?;
    found.reverse();
    Ok(found)
}

#[derive(QueryableByName)]
struct FirstAt {
    #[diesel(sql_type = Nullable<Timestamptz>)]
    first_at: Option<At>,
}

/// When the first point of a stream was measured, or the first of its values from before.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn first_at(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
) -> Result<Option<At>, StoreError> {
    let found: FirstAt = prepared(
        "SELECT least((SELECT min(measured_at) FROM chart_points WHERE stream_id = s.id),
             (SELECT min(e.measured_at) FROM earlier_values e JOIN imports i ON i.id = e.import_id
              WHERE i.state = 'done' AND e.instrument_id = s.instrument_id
                  AND e.set_up_id = s.set_up_id AND e.characteristic_key = s.characteristic_key
                  AND e.unit = s.unit)) AS first_at
         FROM chart_streams s WHERE s.id = ?",
        vec![Bind::Int(stream.0)],
    )
    .get_result(&mut connection)
    .await?;
    Ok(found.first_at)
}

/// Counted values of a stretch of time, oldest first; of more than `most` the newest.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn values_between(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
    most: i64,
) -> Result<Vec<f64>, StoreError> {
    let mut values: Vec<f64> = chart_points::table
        .filter(chart_points::stream_id.eq(stream))
        .filter(chart_points::ordinal.is_not_null())
        .filter(chart_points::excluded.eq(false))
        .filter(chart_points::measured_at.ge(At(from)))
        .filter(chart_points::measured_at.le(At(to)))
        .order((chart_points::measured_at.desc(), chart_points::id.desc()))
        .limit(most)
        .select(chart_points::value)
        .load(connection)
        .await?;
    values.reverse();
    Ok(values)
}

/// One point of a stream, by its check.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn point_of(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    check: CheckId,
) -> Result<PointView, StoreError> {
    Ok(chart_points::table
        .inner_join(
            checks::table.left_join(people::table.on(checks::closed_by.eq(people::id.nullable()))),
        )
        .inner_join(certificates::table)
        .filter(chart_points::stream_id.eq(stream))
        .filter(chart_points::check_id.eq(check))
        .select((
            Point::as_select(),
            checks::purpose,
            people::name.nullable(),
            certificates::number,
            checks::late_reason,
        ))
        .first(connection)
        .await?)
}

/// The checks before and after a point on its chart.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn neighbours(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    at: At,
) -> Result<(Option<CheckId>, Option<CheckId>), StoreError> {
    let of = || {
        chart_points::table
            .filter(chart_points::stream_id.eq(stream))
            .filter(chart_points::withdrawn.eq(false))
            .select(chart_points::check_id)
            .into_boxed()
    };
    let before = of()
        .filter(chart_points::measured_at.lt(at))
        .order(chart_points::measured_at.desc())
        .first(connection)
        .await
        .optional()?;
    let after = of()
        .filter(chart_points::measured_at.gt(at))
        .order(chart_points::measured_at)
        .first(connection)
        .await
        .optional()?;
    Ok((before, after))
}

/// A condition that was read at a check.
#[derive(Debug, Clone, QueryableByName)]
pub struct ConditionPoint {
    /// The step that asked for it.
    #[diesel(sql_type = Text)]
    pub step_key: String,
    /// When its check was measured.
    #[diesel(sql_type = Timestamptz)]
    pub measured_at: At,
    /// Its value.
    #[diesel(sql_type = Double)]
    pub value: f64,
}

/// Conditions read at the checks of a stream in a stretch of time, oldest first; of more than `most` the
/// newest.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn conditions(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
    most: i64,
) -> Result<Vec<ConditionPoint>, StoreError> {
    let mut found: Vec<ConditionPoint> = prepared(
        "SELECT r.step_key, p.measured_at, r.indication::float8 AS value
         FROM chart_points p JOIN readings r ON r.check_id = p.check_id AND r.kind = 'condition'
         WHERE p.stream_id = ? AND p.ordinal IS NOT NULL
             AND p.measured_at >= to_timestamp(?) AND p.measured_at <= to_timestamp(?)
             AND NOT EXISTS (SELECT FROM readings n WHERE n.replaces_id = r.id)
             AND NOT EXISTS (SELECT FROM reading_voids v WHERE v.reading_id = r.id)
         ORDER BY p.measured_at DESC, r.id DESC LIMIT ?",
        vec![
            Bind::Int(stream.0),
            Bind::Int(from.as_second()),
            Bind::Int(to.as_second().saturating_add(1)),
            Bind::Int(most),
        ],
    )
    .load(connection)
    .await?;
    found.reverse();
    Ok(found)
}

/// What a chart shall be laid beside.
#[derive(Debug, Clone, Copy)]
pub enum Beside<'a> {
    /// This chart.
    Chart(StreamId),
    /// The chart of its kind at the instrument of this tag.
    Instrument(&'a str),
}

/// The chart that another may be laid beside, with the tag of its instrument: one of the same instrument, or one
/// of the same property by the same method and in the same unit at another instrument or standard. Where an
/// instrument has several, the one of the same characteristic, then the one of the nearest level.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn beside(
    mut connection: &AsyncPgConnection,
    stream: &Stream,
    wanted: Beside<'_>,
) -> Result<Option<(Stream, String)>, StoreError> {
    let query = chart_streams::table
        .inner_join(instruments::table)
        .filter(chart_streams::id.ne(stream.id))
        .filter(
            chart_streams::instrument_id.eq(stream.instrument_id).or(chart_streams::unit
                .eq(&stream.unit)
                .and(chart_streams::method_key.eq(&stream.method_key))
                .and(chart_streams::derived.is_not_distinct_from(&stream.derived))),
        )
        .order(chart_streams::id)
        .select((Stream::as_select(), instruments::tag));
    let found: Vec<(Stream, String)> = match wanted {
        Beside::Chart(id) => query.filter(chart_streams::id.eq(id)).load(&mut connection).await?,
        Beside::Instrument(tag) => {
            query.filter(instruments::tag.ilike(literally(tag))).load(&mut connection).await?
        }
    };
    let distance = |one: &Stream| match (one.nominal, stream.nominal) {
        (Some(one), Some(own)) => (one - own).abs(),
        _ => Decimal::MAX,
    };
    Ok(found.into_iter().min_by(|(a, _), (b, _)| {
        let other = |one: &Stream| one.characteristic_key != stream.characteristic_key;
        (a.ended_at.is_some(), other(a))
            .cmp(&(b.ended_at.is_some(), other(b)))
            .then(distance(a).cmp(&distance(b)))
    }))
}

/// Other instruments that have a chart of the same property by the same method and in the same unit: tag and
/// name, along the tags.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn alike(
    connection: &mut AsyncPgConnection,
    stream: &Stream,
) -> Result<Vec<(String, String)>, StoreError> {
    Ok(instruments::table
        .inner_join(chart_streams::table)
        .filter(instruments::id.ne(stream.instrument_id))
        .filter(chart_streams::unit.eq(&stream.unit))
        .filter(chart_streams::method_key.eq(&stream.method_key))
        .filter(chart_streams::derived.is_not_distinct_from(&stream.derived))
        .select((instruments::tag, instruments::name))
        .distinct()
        .order(instruments::tag)
        .load(connection)
        .await?)
}

/// Streams that a check has a point on.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_check(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Vec<(Stream, Point)>, StoreError> {
    Ok(chart_points::table
        .inner_join(chart_streams::table.on(chart_streams::id.eq(chart_points::stream_id)))
        .filter(chart_points::check_id.eq(check))
        .order(chart_streams::id)
        .select((Stream::as_select(), Point::as_select()))
        .load(connection)
        .await?)
}

/// Segments of a stream, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn segments_of(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
) -> Result<Vec<Segment>, StoreError> {
    Ok(segments::table
        .filter(segments::stream_id.eq(stream))
        .filter(segments::settled.is_distinct_from("joined"))
        .order(segments::ordinal)
        .select(Segment::as_select())
        .load(&mut connection)
        .await?)
}

/// A frozen baseline, who froze it, and the second lead where one countersigned.
pub type SignedBaseline = (Baseline, String, Option<String>);

/// The newest frozen baseline of a stream.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest_baseline(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
) -> Result<Option<SignedBaseline>, StoreError> {
    let seconds = diesel::alias!(people as seconds);
    let second = seconds.field(people::id).nullable().eq(baselines::countersigned_by);
    Ok(baselines::table
        .inner_join(segments::table.on(segments::id.eq(baselines::segment_id)))
        .inner_join(people::table.on(people::id.eq(baselines::frozen_by)))
        .left_join(seconds.on(second))
        .filter(segments::stream_id.eq(stream))
        .order((baselines::frozen_at.desc(), baselines::id.desc()))
        .select((Baseline::as_select(), people::name, seconds.field(people::name).nullable()))
        .first(&mut connection)
        .await
        .optional()?)
}

/// Signals of a stream, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn signals_of(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<Vec<SignalRow>, StoreError> {
    Ok(signals::table
        .filter(signals::stream_id.eq(stream))
        .filter(signals::state.ne("withdrawn"))
        .order(signals::opened_at.desc())
        .select(SignalRow::as_select())
        .load(connection)
        .await?)
}

/// When the newest counted point of a stream was measured.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest_at(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<Option<At>, StoreError> {
    Ok(chart_points::table
        .filter(chart_points::stream_id.eq(stream))
        .filter(chart_points::ordinal.is_not_null())
        .order(chart_points::measured_at.desc())
        .select(chart_points::measured_at)
        .first(connection)
        .await
        .optional()?)
}

/// A stream with its newest segment, locked while a point is added.
#[derive(Debug, Clone)]
pub struct LockedStream {
    /// The stream.
    pub stream: Stream,
    /// Its newest segment.
    pub segment: Segment,
    /// The chart as the core sees it.
    pub slot: StreamSlot,
}

/// Locks the streams of an instrument under a set-up and method, in the order of their ids so
/// that two writers cannot wait for each other.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn lock_streams(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    set_up: SetUpId,
    method: &str,
) -> Result<Vec<LockedStream>, StoreError> {
    let streams: Vec<Stream> = chart_streams::table
        .filter(chart_streams::instrument_id.eq(instrument))
        .filter(chart_streams::set_up_id.eq(set_up))
        .filter(chart_streams::method_key.eq(method))
        .filter(chart_streams::ended_at.is_null())
        // Those that are made of the others come after them.
        .order((chart_streams::derived.is_not_null(), chart_streams::id))
        .for_no_key_update()
        .select(Stream::as_select())
        .load(connection)
        .await?;
    let mut locked = Vec::new();
    for stream in streams {
        let segment = current_segment(connection, stream.id).await?;
        let recent = recent_points(connection, segment.id).await?;
        let slot = slot(&stream, &segment, recent)?;
        locked.push(LockedStream { stream, segment, slot });
    }
    Ok(locked)
}

/// The segment that new points go into: the newest that is not joined with the one before.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn current_segment(
    connection: &mut AsyncPgConnection,
    stream: StreamId,
) -> Result<Segment, StoreError> {
    Ok(segments::table
        .filter(segments::stream_id.eq(stream))
        .filter(segments::settled.is_distinct_from("joined"))
        .order(segments::ordinal.desc())
        .select(Segment::as_select())
        .first(connection)
        .await?)
}

/// What the charts of an instrument under a set-up say of its level now.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ChartLevel {
    /// The level, in the unit of its chart.
    pub estimate: LevelEstimate,
    /// Sigma from check to check.
    pub sigma: f64,
}

/// The levels by the keys of their characteristics; charts without limits say nothing.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn levels_of(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    set_up: SetUpId,
) -> Result<HashMap<String, ChartLevel>, StoreError> {
    let streams: Vec<Stream> = chart_streams::table
        .filter(chart_streams::instrument_id.eq(instrument))
        .filter(chart_streams::set_up_id.eq(set_up))
        .filter(chart_streams::derived.is_null())
        .order(chart_streams::id)
        .select(Stream::as_select())
        .load(connection)
        .await?;
    let mut found = HashMap::new();
    for stream in streams {
        let segment = current_segment(connection, stream.id).await?;
        let recent = recent_points(connection, segment.id).await?;
        let slot = slot(&stream, &segment, recent)?;
        let Some(design) = slot.design.as_ref().filter(|design| design.is_statistical()) else {
            continue;
        };
        let estimate = segment_level(design, &slot.recent);
        found.insert(slot.key, ChartLevel { estimate, sigma: design.sigma });
    }
    Ok(found)
}

/// The newest counted points of a segment, oldest first, at most [`DRIFT_WINDOW`].
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn recent_points(
    mut connection: &AsyncPgConnection,
    segment: SegmentId,
) -> Result<Vec<PastPoint>, StoreError> {
    let rows: Vec<PastRow> = chart_points::table
        .filter(chart_points::segment_id.eq(segment))
        .filter(chart_points::ordinal.is_not_null())
        .filter(chart_points::excluded.eq(false))
        .order(chart_points::ordinal.desc())
        .limit(i64::try_from(DRIFT_WINDOW).unwrap_or(i64::MAX))
        .select((
            chart_points::ordinal,
            chart_points::measured_at,
            chart_points::value,
            chart_points::temperature,
        ))
        .load(&mut connection)
        .await?;
    Ok(rows.into_iter().rev().filter_map(past).collect())
}

type PastRow = (Option<i64>, At, f64, Option<f64>);

fn past((ordinal, At(measured_at), value, temperature): PastRow) -> Option<PastPoint> {
    let ordinal = u64::try_from(ordinal?).ok()?;
    Some(PastPoint { ordinal, measured_at, value, temperature })
}

/// The first counted points of a segment, oldest first: those of its baseline.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn first_points(
    mut connection: &AsyncPgConnection,
    segment: SegmentId,
    count: usize,
) -> Result<Vec<PastPoint>, StoreError> {
    let rows: Vec<PastRow> = chart_points::table
        .filter(chart_points::segment_id.eq(segment))
        .filter(chart_points::ordinal.lt(i64::try_from(count).unwrap_or(i64::MAX)))
        .filter(chart_points::excluded.eq(false))
        .order(chart_points::ordinal)
        .select((
            chart_points::ordinal,
            chart_points::measured_at,
            chart_points::value,
            chart_points::temperature,
        ))
        .load(&mut connection)
        .await?;
    Ok(rows.into_iter().filter_map(past).collect())
}

/// Design and state of a segment as the core knows them.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn slot(
    stream: &Stream,
    segment: &Segment,
    recent: Vec<PastPoint>,
) -> Result<StreamSlot, StoreError> {
    let design: Option<ChartDesign> =
        segment.design.clone().map(serde_json::from_value).transpose().map_err(unreadable)?;
    let state: ChartState = serde_json::from_value(segment.state.clone()).map_err(unreadable)?;
    let sigma_source: Option<SigmaSource> =
        segment.sigma_source.as_deref().map(word).transpose()?;
    Ok(StreamSlot { key: stream.characteristic_key.clone(), design, sigma_source, state, recent })
}

/// Usual distance between the checks of a stream.
#[must_use]
pub fn interval(stream: &Stream) -> SignedDuration {
    SignedDuration::from_secs(stream.interval_seconds)
}
