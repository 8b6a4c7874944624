//! What people say of a point: comments, and leaving one out because its cause is known.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::audit::{self, Happening};
use crate::ids::{CheckId, PersonId, PointId, StreamId};
use crate::rows::PointMark;
use crate::schema::{chart_points, people, point_marks};
use crate::types::At;
use crate::{StoreError, replay};

/// What is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// Words.
    Comment,
    /// It is left out from now on.
    Exclude,
    /// It counts again.
    Include,
}

impl Mark {
    fn word(self) -> &'static str {
        match self {
            Self::Comment => "comment",
            Self::Exclude => "excluded",
            Self::Include => "included",
        }
    }
}

/// A mark with who made it.
#[derive(Debug, Clone, Queryable)]
pub struct MarkView {
    /// Check of the point.
    pub check_id: CheckId,
    /// A stable word.
    pub kind: String,
    /// What was said.
    pub words: String,
    /// Who.
    pub person: String,
    /// When.
    pub at: At,
}

/// The marks of a chart's points, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_stream(
    mut connection: &AsyncPgConnection,
    stream: StreamId,
    from: Timestamp,
    most: i64,
) -> Result<Vec<MarkView>, StoreError> {
    Ok(point_marks::table
        .inner_join(chart_points::table)
        .inner_join(people::table)
        .filter(chart_points::stream_id.eq(stream))
        .filter(chart_points::measured_at.ge(At(from)))
        .order(point_marks::id)
        .limit(most)
        .select((
            chart_points::check_id,
            point_marks::kind,
            point_marks::words,
            people::name,
            point_marks::at,
        ))
        .load(&mut connection)
        .await?)
}

/// Marks a point. Leaving out and taking in replay the chart from its stored points.
///
/// # Errors
/// [`StoreError::NotFound`]. False when the point already is as asked.
#[boxed]
pub async fn mark(
    connection: &mut AsyncPgConnection,
    (stream, check): (StreamId, CheckId),
    mark: Mark,
    words: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<bool, StoreError> {
    connection
        .transaction(async |connection| {
            let (id, excluded, counted): (PointId, bool, Option<i64>) = chart_points::table
                .filter(chart_points::stream_id.eq(stream))
                .filter(chart_points::check_id.eq(check))
                .for_update()
                .select((chart_points::id, chart_points::excluded, chart_points::ordinal))
                .first(connection)
                .await?;
            let wanted = match mark {
                Mark::Comment => excluded,
                Mark::Exclude => true,
                Mark::Include => false,
            };
            // A mark that is not counted cannot be left out.
            if mark != Mark::Comment && (wanted == excluded || counted.is_none()) {
                return Ok(false);
            }
            // What its levels left out comes back with them.
            if mark == Mark::Include
                && !replay::left_out_by_hand(connection, stream).await?.contains(&id)
            {
                return Ok(false);
            }
            diesel::insert_into(point_marks::table)
                .values(PointMark {
                    point_id: id,
                    kind: mark.word().to_owned(),
                    words: words.to_owned(),
                    person_id: person,
                    at: At(at),
                })
                .execute(connection)
                .await?;
            if wanted != excluded {
                diesel::update(chart_points::table.find(id))
                    .set(chart_points::excluded.eq(wanted))
                    .execute(connection)
                    .await?;
                replay::these(connection, vec![stream]).await?;
            }
            let happening = Happening {
                chain: &format!("chart:{stream}"),
                at,
                person: Some(person),
                action: &format!("point_{}", mark.word()),
                detail: json!({ "check": check, "words": words }),
            };
            audit::record(connection, &happening).await?;
            Ok(true)
        })
        .await
}
