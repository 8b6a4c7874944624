//! Traces: numbers as typed arrays beside the entry that they belong to, with the file as it came. They are read where
//! something is computed from them or drawn, and nowhere else.

use std::collections::HashMap;
use std::sync::Arc;

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;
use vaaka_core::trace::{Channel, Trace};

use crate::ids::{CheckId, ReadingId};
use crate::schema::{readings, trace_channels, traces};
use crate::{StoreError, unreadable};

/// A file as it came.
#[derive(Debug, Clone, Copy)]
pub struct Original<'a> {
    /// Its name; empty for what was pasted.
    pub name: &'a str,
    /// Its bytes.
    pub bytes: &'a [u8],
}

/// A trace with the digest under which it was kept.
#[derive(Debug, Clone)]
pub struct Kept {
    /// The digest.
    pub digest: String,
    /// The numbers.
    pub trace: Arc<Trace>,
}

/// A trace as it lies in its table.
#[derive(Debug, Clone, PartialEq, Insertable)]
#[diesel(table_name = traces)]
pub struct TraceRow {
    reading_id: ReadingId,
    points: i32,
    axis_unit: String,
    axis: Vec<f64>,
    digest: Vec<u8>,
    name: String,
    bytes: Vec<u8>,
    sha256: Vec<u8>,
}

/// A channel of a trace as it lies in its table.
#[derive(Debug, Clone, PartialEq, Insertable)]
#[diesel(table_name = trace_channels)]
pub struct ChannelRow {
    reading_id: ReadingId,
    sequence: i32,
    points: i32,
    name: String,
    unit: String,
    re: Vec<f64>,
    im: Option<Vec<f64>>,
}

/// The rows of a trace of an entry.
///
/// # Errors
/// [`StoreError::Unreadable`] where the digest is none.
pub fn rows_of(
    reading: ReadingId,
    (trace, digest): (&Trace, &str),
    original: Original<'_>,
) -> Result<(TraceRow, Vec<ChannelRow>), StoreError> {
    let points = i32::try_from(trace.len()).map_err(unreadable)?;
    let row = TraceRow {
        reading_id: reading,
        points,
        axis_unit: trace.axis_unit.clone(),
        axis: trace.axis.clone(),
        digest: hex::decode(digest).map_err(unreadable)?,
        name: original.name.to_owned(),
        bytes: original.bytes.to_vec(),
        sha256: Sha256::digest(original.bytes).to_vec(),
    };
    let channels = trace.channels.iter().zip(1..).map(|(channel, sequence)| ChannelRow {
        reading_id: reading,
        sequence,
        points,
        name: channel.name.clone(),
        unit: channel.unit.clone(),
        re: channel.re.clone(),
        im: channel.im.clone(),
    });
    Ok((row, channels.collect()))
}

/// Keeps a trace of an entry, inside the transaction that keeps the entry.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn keep(
    connection: &mut AsyncPgConnection,
    reading: ReadingId,
    trace: (&Trace, &str),
    original: Original<'_>,
) -> Result<(), StoreError> {
    let (row, channels) = rows_of(reading, trace, original)?;
    diesel::insert_into(traces::table).values(row).execute(connection).await?;
    diesel::insert_into(trace_channels::table).values(channels).execute(connection).await?;
    Ok(())
}

/// The traces of entries.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    mut connection: &AsyncPgConnection,
    ids: &[ReadingId],
) -> Result<HashMap<ReadingId, Kept>, StoreError> {
    if ids.is_empty() {
        return Ok(HashMap::new());
    }
    let rows: Vec<(ReadingId, String, Vec<f64>, Vec<u8>)> = traces::table
        .filter(traces::reading_id.eq_any(ids))
        .select((traces::reading_id, traces::axis_unit, traces::axis, traces::digest))
        .load(&mut connection)
        .await?;
    type Column = (ReadingId, String, String, Vec<f64>, Option<Vec<f64>>);
    let columns: Vec<Column> = trace_channels::table
        .filter(trace_channels::reading_id.eq_any(ids))
        .order((trace_channels::reading_id, trace_channels::sequence))
        .select((
            trace_channels::reading_id,
            trace_channels::name,
            trace_channels::unit,
            trace_channels::re,
            trace_channels::im,
        ))
        .load(&mut connection)
        .await?;
    let mut channels: HashMap<ReadingId, Vec<Channel>> = HashMap::new();
    for (id, name, unit, re, im) in columns {
        channels.entry(id).or_default().push(Channel { name, unit, re, im });
    }
    Ok(rows
        .into_iter()
        .map(|(id, axis_unit, axis, digest)| {
            let channels = channels.remove(&id).unwrap_or_default();
            let trace = Arc::new(Trace { axis, axis_unit, channels });
            (id, Kept { digest: hex::encode(digest), trace })
        })
        .collect())
}

/// The file of an entry of a check, as it came: its name and bytes.
///
/// # Errors
/// [`StoreError::NotFound`] where there is none.
#[boxed]
pub async fn original(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    reading: ReadingId,
) -> Result<(String, Vec<u8>), StoreError> {
    let found = traces::table
        .inner_join(readings::table)
        .filter(traces::reading_id.eq(reading))
        .filter(readings::check_id.eq(check))
        .select((traces::name, traces::bytes))
        .first(connection)
        .await;
    Ok(found?)
}

/// Entries whose numbers do not fit the digest, or whose file does not fit its hash, that were changed behind the
/// application's back.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn faults(connection: &mut AsyncPgConnection) -> Result<Vec<ReadingId>, StoreError> {
    let mut faults: Vec<ReadingId> = traces::table
        .filter(diesel::dsl::sql::<diesel::sql_types::Bool>("sha256 <> sha256(bytes)"))
        .select(traces::reading_id)
        .load(connection)
        .await?;
    let ids: Vec<ReadingId> =
        traces::table.order(traces::reading_id).select(traces::reading_id).load(connection).await?;
    for some in ids.chunks(20) {
        let kept = of(connection, some).await?;
        let other = some
            .iter()
            .filter(|id| kept.get(id).is_none_or(|kept| kept.trace.digest() != kept.digest));
        faults.extend(other);
    }
    faults.sort_unstable();
    faults.dedup();
    Ok(faults)
}
