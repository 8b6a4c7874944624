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
    /// Its id, whatever the lot.
    #[diesel(sql_type = BigInt)]
    pub standard_id: i64,
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

/// Most reads that are looked at, the newest: what more take minutes, and say nothing more of now.
const MOST: i64 = 60_000;
/// Fewest checks with which an instrument speaks.
const FEWEST: i64 = 8;

/// The checked errors between two moments, oldest first, one chart an instrument. A trial counts for nothing on its chart and
/// speaks here: it is what tells two explanations apart. What rests on several standards at once is none's.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn between(
    connection: &mut AsyncPgConnection,
    (from, until): (Timestamp, Timestamp),
) -> Result<Vec<Crossing>, StoreError> {
    let until = until.as_second().saturating_add(1);
    Ok(prepared(
        "WITH own AS (SELECT DISTINCT ON (s.instrument_id) s.id, s.instrument_id
             FROM chart_streams s
             CROSS JOIN LATERAL (SELECT count(*) AS checks FROM chart_points p
                 WHERE p.stream_id = s.id AND p.measured_at >= to_timestamp(?)
                   AND p.measured_at <= to_timestamp(?) AND p.ordinal IS NOT NULL AND NOT p.excluded) counted
             WHERE s.derived IS NULL AND s.ended_at IS NULL AND s.is_indication IS NOT TRUE AND counted.checks >= ?
             ORDER BY s.instrument_id, counted.checks DESC, s.id),
         read AS (SELECT p.stream_id, p.check_id, p.segment_id, p.certificate_id, p.value, p.measured_at, p.id
             FROM own JOIN chart_points p ON p.stream_id = own.id
             WHERE p.measured_at >= to_timestamp(?) AND p.measured_at <= to_timestamp(?)
                 AND p.ordinal IS NOT NULL AND NOT p.excluded
             UNION ALL
             SELECT own.id, c.id, g.id, c.certificate_id, k.single, c.closed_at, r.id
             FROM own JOIN chart_streams t ON t.id = own.id
             JOIN checks c ON c.instrument_id = t.instrument_id AND c.purpose = 'trial' AND c.state = 'concluded'
                 AND c.opened_at >= to_timestamp(?) AND c.opened_at <= to_timestamp(?)
             JOIN plan_versions v ON v.id = c.plan_version_id
             JOIN plans f ON f.id = v.plan_id AND f.set_up_id = t.set_up_id AND f.method_key = t.method_key
             CROSS JOIN LATERAL (SELECT o.id FROM results o WHERE o.check_id = c.id ORDER BY o.version DESC LIMIT 1) r
             CROSS JOIN LATERAL (SELECT coalesce(max(h.mean)::float8, avg(one)::float8) AS single FROM characteristics h, unnest(h.singles) AS one
                 WHERE h.result_id = r.id AND h.key = t.characteristic_key HAVING count(*) > 0) k
             CROSS JOIN LATERAL (SELECT s.id FROM segments s WHERE s.stream_id = t.id AND s.opened_at <= c.opened_at
                 AND s.settled IS DISTINCT FROM 'joined' ORDER BY s.ordinal DESC LIMIT 1) g
             WHERE NOT EXISTS (SELECT FROM check_standards d WHERE d.check_id = c.id AND d.certificate_id <> c.certificate_id)),
         newest AS (SELECT * FROM read ORDER BY measured_at DESC, id DESC LIMIT ?)
         SELECT p.stream_id, h.starts_at AS shift_at, i.id AS instrument_id, i.tag AS instrument,
             l.id AS lot_id, t.tag AS standard, t.id AS standard_id, l.lot, w.id AS person_id, w.name AS person,
             a.id AS area_id, a.name AS area, p.segment_id, p.value AS error
         FROM newest p JOIN chart_streams own ON own.id = p.stream_id
         JOIN checks c ON c.id = p.check_id JOIN shift_instances h ON h.id = c.shift_instance_id
         JOIN instruments i ON i.id = own.instrument_id JOIN areas a ON a.id = i.area_id
         JOIN certificates e ON e.id = p.certificate_id JOIN standard_lots l ON l.id = e.lot_id
         JOIN standards t ON t.id = l.standard_id
         JOIN people w ON w.id = coalesce((SELECT m.id FROM people m WHERE m.name = c.measured_by ORDER BY m.id LIMIT 1),
             c.closed_by, c.opened_by)
         ORDER BY p.measured_at, p.id",
        vec![
            Bind::Int(from.as_second()),
            Bind::Int(until),
            Bind::Int(FEWEST),
            Bind::Int(from.as_second()),
            Bind::Int(until),
            Bind::Int(from.as_second()),
            Bind::Int(until),
            Bind::Int(MOST),
        ],
    )
    .load(connection)
    .await?)
}
