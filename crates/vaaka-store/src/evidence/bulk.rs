//! Loading many rows at once, for the demo world. Rows come from the same functions that live
//! checks use; only the number of rows in a statement differs.

use diesel_async::{AsyncPgConnection, RunQueryDsl};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::AuditEntry;
use crate::rows::*;
use crate::schema::*;
use crate::traces::{ChannelRow, TraceRow};

/// Rows that can be loaded in bulk.
pub trait BulkRow: Sized {
    /// Inserts one chunk.
    #[doc(hidden)]
    fn insert_chunk(
        connection: &mut AsyncPgConnection,
        rows: Vec<Self>,
    ) -> impl Future<Output = Result<usize, diesel::result::Error>> + Send;
    /// Columns in a row: PostgreSQL takes 65 535 parameters in one statement.
    const COLUMNS: usize;
}

macro_rules! bulk {
    ($($row:ty => $table:ident, $columns:literal);+ $(;)?) => {$(
        impl BulkRow for $row {
            const COLUMNS: usize = $columns;
            async fn insert_chunk(
                connection: &mut AsyncPgConnection,
                rows: Vec<Self>,
            ) -> Result<usize, diesel::result::Error> {
                diesel::insert_into($table::table).values(rows).execute(connection).await
            }
        }
    )+};
}

bulk! {
    Person => people, 9; Training => trainings, 7; Site => sites, 3; Area => areas, 4; ShiftStartRow => shift_starts, 4;
    Shift => shift_instances, 7; Instrument => instruments, 23; SetUp => set_ups, 9;
    InstrumentEvent => instrument_events, 10; AdjustmentRow => adjustments, 18; LadderStepRow => ladder_steps, 7; Standard => standards, 8;
    StandardStateRow => standard_states, 5; StandardUse => standard_uses, 8; Lot => standard_lots, 14;
    Certificate => certificates, 11; CertifiedValue => certified_values, 10; Plan => plans, 5;
    PlanVersion => plan_versions, 32; PlanPointRow => plan_points, 9; Check => checks, 18; CheckStandard => check_standards, 3;
    Reading => readings, 17; TraceRow => traces, 8; ChannelRow => trace_channels, 7; ResultRow => results, 16; CharacteristicRow => characteristics, 26; BudgetRow => budgets, 13;
    Stream => chart_streams, 13; Segment => segments, 13; Baseline => baselines, 19;
    Point => chart_points, 31; PointMark => point_marks, 5; SignalRow => signals, 10; SignalStepRow => signal_steps, 6; AuditEntry => audit_entries, 8;
}

/// Inserts all rows, in chunks.
///
/// # Errors
/// [`StoreError`].
pub async fn insert<R: BulkRow>(
    connection: &mut AsyncPgConnection,
    rows: Vec<R>,
) -> Result<(), StoreError> {
    let size = (60_000 / R::COLUMNS).min(2_000);
    let mut rows = rows.into_iter();
    loop {
        let chunk: Vec<R> = rows.by_ref().take(size).collect();
        if chunk.is_empty() {
            return Ok(());
        }
        R::insert_chunk(connection, chunk).await?;
    }
}

/// Moves every id sequence past the ids that were given by hand, and refreshes the planner's
/// statistics, without which the first pages after a load are slow.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn finish(connection: &mut AsyncPgConnection) -> Result<(), StoreError> {
    diesel::sql_query(
        "DO $$ DECLARE t record; BEGIN
           FOR t IN SELECT c.table_name FROM information_schema.columns c
             WHERE c.table_schema = 'public' AND c.column_name = 'id' AND c.is_identity = 'YES'
           LOOP
             EXECUTE format('SELECT setval(pg_get_serial_sequence(%L, ''id''), COALESCE((SELECT max(id) FROM %I), 0) + 1, false)', t.table_name, t.table_name);
           END LOOP;
         END $$",
    )
    .execute(connection)
    .await?;
    diesel::sql_query("ANALYZE").execute(connection).await?;
    Ok(())
}
