//! Forecasts that verdicts told, and what followed them.

use std::collections::HashMap;

use diesel::prelude::QueryableByName;
use diesel::sql_types::{BigInt, Bool, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;
use vaaka_core::history::Drift;

use crate::ids::{CheckId, SegmentId, StreamId};
use crate::prepared::{Bind, prepared};
use crate::types::At;
use crate::{StoreError, unreadable};

/// A drift that a verdict told.
#[derive(Debug, Clone)]
pub struct ToldDrift {
    /// Its chart.
    pub stream: StreamId,
    /// The segment in which it was told.
    pub segment: SegmentId,
    /// When.
    pub at: Timestamp,
    /// The drift.
    pub drift: Drift,
}

#[derive(QueryableByName)]
struct ToldRow {
    #[diesel(sql_type = BigInt)]
    stream_id: StreamId,
    #[diesel(sql_type = BigInt)]
    segment_id: SegmentId,
    #[diesel(sql_type = Timestamptz)]
    measured_at: At,
    #[diesel(sql_type = Jsonb)]
    drift: serde_json::Value,
}

/// Every drift that counted checks told since a moment, oldest first within its segment: as the first result of the check
/// told it, whatever was amended since.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn told_since(
    connection: &mut AsyncPgConnection,
    from: Timestamp,
) -> Result<Vec<ToldDrift>, StoreError> {
    let rows: Vec<ToldRow> = prepared(
        "SELECT p.stream_id, p.segment_id, p.measured_at, told.drift
         FROM chart_points p JOIN chart_streams own ON own.id = p.stream_id
         CROSS JOIN LATERAL (SELECT reason->'drift' AS drift FROM results r
             CROSS JOIN LATERAL jsonb_array_elements(r.verdict->'reasons') AS reason
             WHERE r.check_id = p.check_id AND r.version = 1 AND reason->>'kind' = 'drifting'
               AND reason->>'key' = own.characteristic_key LIMIT 1) told
         WHERE p.signalled AND p.ordinal IS NOT NULL AND NOT p.withdrawn AND p.measured_at >= to_timestamp(?)
         ORDER BY p.segment_id, p.measured_at, p.id",
        vec![Bind::Int(from.as_second())],
    )
    .load(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let drift = serde_json::from_value(row.drift).map_err(unreadable)?;
            let (stream, segment, at) = (row.stream_id, row.segment_id, row.measured_at.0);
            Ok(ToldDrift { stream, segment, at, drift })
        })
        .collect()
}

#[derive(QueryableByName)]
struct ToldBefore {
    #[diesel(sql_type = Bool)]
    told: bool,
}

/// Whether a check of a segment other than this one told a drift of a characteristic.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn told_in(
    connection: &mut AsyncPgConnection,
    segment: SegmentId,
    key: &str,
    other_than: CheckId,
) -> Result<bool, StoreError> {
    let found: ToldBefore = diesel::sql_query(
        "SELECT EXISTS (SELECT 1 FROM chart_points p JOIN results r ON r.check_id = p.check_id
             CROSS JOIN LATERAL jsonb_array_elements(r.verdict->'reasons') AS reason
             WHERE p.segment_id = $1 AND p.check_id <> $2 AND p.signalled AND NOT p.withdrawn
               AND reason->>'kind' = 'drifting' AND reason->>'key' = $3) AS told",
    )
    .bind::<BigInt, _>(segment)
    .bind::<BigInt, _>(other_than)
    .bind::<Text, _>(key)
    .get_result(connection)
    .await?;
    Ok(found.told)
}

/// A counted check of a segment, with its value.
#[derive(Debug, Clone, QueryableByName)]
pub struct Followed {
    /// The segment.
    #[diesel(sql_type = BigInt)]
    pub segment_id: SegmentId,
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub measured_at: At,
    /// Its value.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub value: f64,
    /// Whether it was outside its limits.
    #[diesel(sql_type = Bool)]
    pub outside: bool,
    /// When the segment ended: when the next one began.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<At>,
}

/// The counted checks of segments, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn checks_of(
    connection: &mut AsyncPgConnection,
    segments: &[SegmentId],
) -> Result<HashMap<SegmentId, Vec<Followed>>, StoreError> {
    let ids: Vec<i64> = segments.iter().map(|id| id.0).collect();
    let rows: Vec<Followed> = prepared(
        "SELECT p.segment_id, p.measured_at, p.value,
             coalesce(p.value < p.lower_tolerance_limit, false)
                 OR coalesce(p.value > p.upper_tolerance_limit, false) AS outside,
             (SELECT min(n.opened_at) FROM segments n WHERE n.stream_id = s.stream_id AND n.ordinal > s.ordinal
                 AND n.settled IS DISTINCT FROM 'joined') AS ended_at
         FROM segments s JOIN chart_points p ON p.segment_id = s.id
         WHERE s.id = ANY(?) AND p.ordinal IS NOT NULL AND NOT p.excluded AND NOT p.withdrawn
         ORDER BY p.segment_id, p.measured_at, p.id",
        vec![Bind::Ints(ids)],
    )
    .load(connection)
    .await?;
    let mut found: HashMap<SegmentId, Vec<Followed>> = HashMap::new();
    for row in rows {
        found.entry(row.segment_id).or_default().push(row);
    }
    Ok(found)
}
