//! Reports over periods that are too long for a page: written once by a job and kept as they were.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use jiff::civil::Date;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::audit::{self, Happening};
use crate::ids::{InstrumentId, PersonId, ReportId};
use crate::schema::{instruments, people, reports};
use crate::types::{At, By, Day};
use crate::{StoreError, jobs};

/// A report about an instrument in a period.
#[derive(Debug, Clone, Queryable)]
pub struct Report {
    /// Id.
    pub id: ReportId,
    /// The instrument's tag, as it is now.
    pub tag: String,
    /// First day.
    pub from: Day,
    /// Last day.
    pub until: Day,
    /// Who asked for it.
    pub person: String,
    /// When.
    pub at: At,
    /// What it says, once it is written.
    pub body: Option<Value>,
    /// SHA-256 over what it says.
    pub sha256: Option<Vec<u8>>,
    /// When it was written.
    pub finished_at: Option<At>,
}

/// A report's page, under which its job stands.
#[must_use]
pub fn path(id: ReportId) -> String {
    format!("/reports/{id}")
}

/// Asks for a report about an instrument, both days included.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn ask(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    (from, until): (Date, Date),
    by: By,
) -> Result<ReportId, StoreError> {
    connection
        .transaction(async |connection| {
            let id: ReportId = diesel::insert_into(reports::table)
                .values((
                    reports::instrument_id.eq(instrument),
                    reports::from_day.eq(Day(from)),
                    reports::until_day.eq(Day(until)),
                    reports::asked_by.eq(by.person),
                    reports::at.eq(At(by.at)),
                ))
                .returning(reports::id)
                .get_result(connection)
                .await?;
            let work = jobs::Work::WriteReport { report: id };
            jobs::ask(connection, work, (&path(id), 1), (by.person, by.at)).await?;
            Ok(id)
        })
        .await
}

/// One report.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn by_id(connection: &mut AsyncPgConnection, id: ReportId) -> Result<Report, StoreError> {
    Ok(reports::table
        .inner_join(people::table)
        .inner_join(instruments::table)
        .filter(reports::id.eq(id))
        .select((
            reports::id,
            instruments::tag,
            reports::from_day,
            reports::until_day,
            people::name,
            reports::at,
            reports::body,
            reports::sha256,
            reports::finished_at,
        ))
        .first(connection)
        .await?)
}

/// Reports about an instrument that are there or on their way, newest first: id, first and last day, when asked for, by
/// whom.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_instrument(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<(ReportId, Day, Day, At, String)>, StoreError> {
    Ok(reports::table
        .inner_join(people::table)
        .filter(reports::instrument_id.eq(instrument))
        .order(reports::id.desc())
        .limit(20)
        .select((reports::id, reports::from_day, reports::until_day, reports::at, people::name))
        .load(connection)
        .await?)
}

/// Keeps what a report says, inside the transaction of its job.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn keep(
    connection: &mut AsyncPgConnection,
    report: &Report,
    body: Value,
    (person, now): (PersonId, Timestamp),
) -> Result<(), StoreError> {
    let digest = Sha256::digest(audit::canonical(&body).as_bytes()).to_vec();
    let happening = Happening {
        chain: &format!("report:{}", report.id),
        at: now,
        person: Some(person),
        action: "report_written",
        detail: json!({
            "instrument": report.tag, "from": report.from.0.to_string(),
            "until": report.until.0.to_string(), "sha256": hex::encode(&digest),
        }),
    };
    diesel::update(reports::table.find(report.id))
        .set((reports::body.eq(body), reports::sha256.eq(digest), reports::finished_at.eq(At(now))))
        .execute(connection)
        .await?;
    audit::record(connection, &happening).await
}
