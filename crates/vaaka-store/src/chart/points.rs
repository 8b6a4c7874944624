//! What a point of a chart writes beside itself, whether it is new or replayed.

use jiff::Timestamp;
use vaaka_core::chart::{ChartDesign, SignalChange};

use crate::ids::{SegmentId, StreamId};
use crate::rows::SignalRow;
use crate::types::At;
use crate::{StoreError, to_word, unreadable};

/// Limits of the scatter of so many readings, where the design charts it.
pub(crate) fn spread_lines(
    design: Option<&ChartDesign>,
    readings: u32,
) -> Option<vaaka_core::chart::Lines> {
    design?.spread?.lines(readings)
}

/// What fired, as it is stored.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn firings_json(
    firings: &[vaaka_core::chart::Firing],
) -> Result<serde_json::Value, StoreError> {
    serde_json::to_value(firings).map_err(unreadable)
}

/// Applies what a point did to the signals of its segment to rows held in memory.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn apply_changes(
    rows: &mut Vec<SignalRow>,
    changes: &[SignalChange],
    stream: StreamId,
    segment: SegmentId,
    ordinal: u64,
    measured_at: Timestamp,
) -> Result<(), StoreError> {
    for change in changes {
        let (side, opened_ordinal) = match change {
            SignalChange::Opened { side } => (side, ordinal),
            SignalChange::Evidence { side, opened_at } => (side, *opened_at),
        };
        let side = side.as_ref().map(to_word).transpose()?;
        let opened_ordinal = i64::try_from(opened_ordinal).map_err(unreadable)?;
        let known = rows.iter_mut().find(|row| {
            row.segment_id == segment && row.side == side && row.opened_ordinal == opened_ordinal
        });
        match known {
            Some(row) => {
                row.last_evidence_at = At(measured_at);
                row.evidence += 1;
            }
            None => rows.push(SignalRow {
                owner_id: None,
                due_on: None,
                stream_id: stream,
                segment_id: segment,
                side,
                opened_ordinal,
                opened_at: At(measured_at),
                last_evidence_at: At(measured_at),
                evidence: 1,
                state: "open".to_owned(),
                cause_id: None,
                touched_at: At(measured_at),
            }),
        }
    }
    Ok(())
}
