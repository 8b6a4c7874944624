//! Who read what with what: the newest checks of instruments that share standards, people or an area.

use diesel::prelude::QueryableByName;
use diesel::sql_types::{BigInt, Double, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::ids::{InstrumentId, StreamId};
use crate::prepared::{Bind, prepared};
use crate::types::At;

/// One checked error.
#[derive(Debug, Clone, QueryableByName)]
pub struct Crossing {
    /// Chart that it stands on: of each instrument the one with the most checks.
    #[diesel(sql_type = BigInt)]
    pub stream_id: StreamId,
    /// Beginning of its shift.
    #[diesel(sql_type = Timestamptz)]
    pub shift_at: At,
    /// The instrument.
    #[diesel(sql_type = BigInt)]
    pub instrument_id: InstrumentId,
    /// Its tag.
    #[diesel(sql_type = Text)]
    pub instrument: String,
    /// Lot of the standard: another lot is another standard.
    #[diesel(sql_type = BigInt)]
    pub lot_id: i64,
    /// Tag of the standard.
    #[diesel(sql_type = Text)]
    pub standard: String,
    /// The lot in words.
    #[diesel(sql_type = Text)]
    pub lot: String,
    /// Who measured.
    #[diesel(sql_type = BigInt)]
    pub person_id: i64,
    /// Name.
    #[diesel(sql_type = Text)]
    pub person: String,
    /// Area.
    #[diesel(sql_type = BigInt)]
    pub area_id: i64,
    /// Name.
    #[diesel(sql_type = Text)]
    pub area: String,
    /// Segment of the chart: an adjustment or a repair begins another.
    #[diesel(sql_type = BigInt)]
    pub segment_id: i64,
    /// The error.
    #[diesel(sql_type = Double)]
    pub error: f64,
}

/// Fewest checks with which an instrument speaks.
const FEWEST: i64 = 8;

/// The checked errors since a moment, oldest first, one chart an instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn since(
    connection: &mut AsyncPgConnection,
    from: Timestamp,
) -> Result<Vec<Crossing>, StoreError> {
    Ok(prepared(
        "WITH own AS (SELECT DISTINCT ON (s.instrument_id) s.id, s.instrument_id
             FROM chart_streams s
             CROSS JOIN LATERAL (SELECT count(*) AS checks FROM chart_points p
                 WHERE p.stream_id = s.id AND p.measured_at >= to_timestamp(?)
                   AND p.ordinal IS NOT NULL AND NOT p.excluded) counted
             WHERE s.derived IS NULL AND s.ended_at IS NULL AND s.is_indication IS NOT TRUE AND counted.checks >= ?
             ORDER BY s.instrument_id, counted.checks DESC, s.id)
         SELECT own.id AS stream_id, h.starts_at AS shift_at, i.id AS instrument_id, i.tag AS instrument,
             l.id AS lot_id, t.tag AS standard, l.lot, w.id AS person_id, w.name AS person,
             a.id AS area_id, a.name AS area, p.segment_id, p.value AS error
         FROM own JOIN chart_points p ON p.stream_id = own.id
         JOIN checks c ON c.id = p.check_id JOIN shift_instances h ON h.id = c.shift_instance_id
         JOIN instruments i ON i.id = own.instrument_id JOIN areas a ON a.id = i.area_id
         JOIN certificates e ON e.id = p.certificate_id JOIN standard_lots l ON l.id = e.lot_id
         JOIN standards t ON t.id = l.standard_id
         JOIN people w ON w.id = coalesce((SELECT m.id FROM people m WHERE m.name = c.measured_by ORDER BY m.id LIMIT 1),
             c.closed_by, c.opened_by)
         WHERE p.measured_at >= to_timestamp(?) AND p.ordinal IS NOT NULL AND NOT p.excluded
         ORDER BY p.measured_at, p.id",
        vec![Bind::Int(from.as_second()), Bind::Int(FEWEST), Bind::Int(from.as_second())],
    )
    .load(connection)
    .await?)
}
