//! Charts over years: many points as one stroke each.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Double, Nullable, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::ids::{SegmentId, StreamId};
use crate::prepared::{Bind, prepared};
use crate::types::At;

/// Counted points in a row that a row of `chart_blocks` holds together.
pub const BLOCK: i64 = 16;

/// Points of a stretch of time as one: least, most and mean.
#[derive(Debug, Clone, PartialEq, QueryableByName)]
pub struct Stretch {
    /// First of them.
    #[diesel(sql_type = Timestamptz)]
    pub first_at: At,
    /// Last of them.
    #[diesel(sql_type = Timestamptz)]
    pub last_at: At,
    /// Segment.
    #[diesel(sql_type = BigInt)]
    pub segment_id: SegmentId,
    /// How many.
    #[diesel(sql_type = BigInt)]
    pub count: i64,
    /// Least value.
    #[diesel(sql_type = Double)]
    pub least: f64,
    /// Largest value.
    #[diesel(sql_type = Double)]
    pub most: f64,
    /// Mean.
    #[diesel(sql_type = Double)]
    pub mean: f64,
    /// Mean of the drift watcher.
    #[diesel(sql_type = Nullable<Double>)]
    pub ewma: Option<f64>,
    /// Mean scatter within the checks.
    #[diesel(sql_type = Nullable<Double>)]
    pub std_dev: Option<f64>,
    /// Half-width of the drift watcher's limits at the last point, as all that follows.
    #[diesel(sql_type = Nullable<Double>)]
    pub ewma_half_width: Option<f64>,
    /// Centre line.
    #[diesel(sql_type = Nullable<Double>)]
    pub center_line: Option<f64>,
    /// Lower control limit.
    #[diesel(sql_type = Nullable<Double>)]
    pub lower_control_limit: Option<f64>,
    /// Upper control limit.
    #[diesel(sql_type = Nullable<Double>)]
    pub upper_control_limit: Option<f64>,
    /// Tolerance.
    #[diesel(sql_type = Nullable<Double>)]
    pub lower_tolerance_limit: Option<f64>,
    /// Tolerance.
    #[diesel(sql_type = Nullable<Double>)]
    pub upper_tolerance_limit: Option<f64>,
    /// Whether the level was provisional.
    #[diesel(sql_type = Bool)]
    pub provisional: bool,
}

/// A point or a block, and which stroke it goes into.
#[derive(Debug, QueryableByName)]
pub struct Piece {
    /// The stroke.
    #[diesel(sql_type = BigInt)]
    pub place: i64,
    /// What it comes to.
    #[diesel(embed)]
    pub stretch: Stretch,
}

/// How many points a stream has in a stretch of time, counted up to `most`.
#[derive(Debug, Clone, QueryableByName)]
pub struct Extent {
    /// Points.
    #[diesel(sql_type = BigInt)]
    pub count: i64,
    /// Blocks of [`BLOCK`] points of which a part lies in the stretch.
    #[diesel(sql_type = BigInt)]
    pub blocks: i64,
}

/// See [`Extent`].
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn extent(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
    most: i64,
) -> Result<Extent, StoreError> {
    Ok(prepared(
        "SELECT (SELECT count(*) FROM (SELECT 1 FROM chart_points WHERE stream_id = ?
                 AND measured_at >= to_timestamp(?) AND measured_at <= to_timestamp(?)
                 LIMIT ?) seen) AS count,
             (SELECT count(*) FROM segments s JOIN chart_blocks b ON b.segment_id = s.id
                 WHERE s.stream_id = ? AND b.last_at >= to_timestamp(?)
                     AND b.first_at <= to_timestamp(?)) AS blocks",
        vec![
            Bind::Int(stream.0),
            Bind::Int(from.as_second()),
            Bind::Int(to.as_second().saturating_add(1)),
            Bind::Int(most),
            Bind::Int(stream.0),
            Bind::Int(from.as_second()),
            Bind::Int(to.as_second().saturating_add(1)),
        ],
    )
    .get_result(&mut connection)
    .await?)
}

/// The counted points of a stretch of time in about `parts` parts, none of which crosses a segment. Where
/// there are blocks for half as many they are made of blocks; the first and the last may then reach out of
/// the stretch by less than a block.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
    (from, to): (Timestamp, Timestamp),
    parts: i64,
    extent: &Extent,
) -> Result<Vec<Stretch>, StoreError> {
    let parts = parts.max(1);
    let (query, in_one) = if extent.blocks >= parts / 2 {
        let together = extent.blocks / parts + i64::from(extent.blocks % parts > 0);
        (
            "SELECT b.block / ? AS place, b.* FROM segments s JOIN chart_blocks b ON b.segment_id = s.id
             WHERE s.stream_id = ? AND b.last_at >= to_timestamp(?) AND b.first_at <= to_timestamp(?)
             ORDER BY b.first_at, b.segment_id, b.block",
            together.max(1),
        )
    } else {
        (
            "SELECT date_part('epoch', measured_at)::bigint / ? AS place, measured_at AS first_at,
                 measured_at AS last_at, segment_id, 1::bigint AS count, value AS least, value AS most,
                 value AS mean, ewma, std_dev, ewma_half_width, center_line, lower_control_limit,
                 upper_control_limit, lower_tolerance_limit, upper_tolerance_limit, provisional
             FROM chart_points WHERE stream_id = ? AND ordinal IS NOT NULL AND NOT excluded
                 AND measured_at >= to_timestamp(?) AND measured_at <= to_timestamp(?)
             ORDER BY measured_at, id",
            (to.as_second().saturating_sub(from.as_second()) / parts).max(1),
        )
    };
    let pieces: Vec<Piece> = prepared(
        query,
        vec![
            Bind::Int(in_one),
            Bind::Int(stream.0),
            Bind::Int(from.as_second()),
            Bind::Int(to.as_second().saturating_add(1)),
        ],
    )
    .load(&mut connection)
    .await?;
    Ok(put_together(pieces))
}

/// Pieces of one segment and place as one stretch each, in the order of their first points. Done here and not
/// in SQL, where the limits of the last point of each stretch cost more than all the rest.
#[must_use]
pub fn put_together(pieces: Vec<Piece>) -> Vec<Stretch> {
    let mut places: HashMap<(i64, i64), usize> = HashMap::with_capacity(pieces.len());
    let mut made: Vec<Stretch> = Vec::new();
    for Piece { place, stretch } in pieces {
        let next = made.len();
        let at = *places.entry((stretch.segment_id.0, place)).or_insert(next);
        match made.get_mut(at) {
            Some(one) => add(one, stretch),
            None => made.push(stretch),
        }
    }
    made
}

/// Adds what comes later.
fn add(one: &mut Stretch, later: Stretch) {
    let (before, more) = (one.count as f64, later.count as f64);
    let mean = |a: f64, b: f64| (a * before + b * more) / (before + more);
    let either = |a: Option<f64>, b: Option<f64>| match (a, b) {
        (Some(a), Some(b)) => Some(mean(a, b)),
        (a, b) => a.or(b),
    };
    *one = Stretch {
        first_at: one.first_at,
        count: one.count + later.count,
        least: one.least.min(later.least),
        most: one.most.max(later.most),
        mean: mean(one.mean, later.mean),
        ewma: either(one.ewma, later.ewma),
        std_dev: either(one.std_dev, later.std_dev),
        // Limits and tolerance are those of the last point.
        ..later
    };
}
