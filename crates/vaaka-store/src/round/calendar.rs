//! The calendar of a site: its shifts and holidays. Shifts that were stay as they were; those ahead
//! with nothing in them are made anew by the new calendar.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use jiff::civil::Date;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::SiteId;
use crate::schema::{holidays, shift_starts, sites};
use crate::types::By;
use crate::types::{At, Day, WallTime};

/// A start in the daily pattern.
#[derive(Debug, Clone, Queryable)]
pub struct Start {
    /// Name of the shift.
    pub label: String,
    /// Time on the wall clock.
    pub at: WallTime,
    /// On which days of the week it works, Monday first.
    pub days: Vec<bool>,
}

/// The daily pattern, in the order of the day.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn starts(
    connection: &mut AsyncPgConnection,
    site: SiteId,
) -> Result<Vec<Start>, StoreError> {
    Ok(shift_starts::table
        .filter(shift_starts::site_id.eq(site))
        .order(shift_starts::starts_at_local)
        .select((shift_starts::label, shift_starts::starts_at_local, shift_starts::days))
        .load(connection)
        .await?)
}

/// Days on which nobody works, by date.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn holidays_of(
    connection: &mut AsyncPgConnection,
    site: SiteId,
) -> Result<Vec<(Date, String)>, StoreError> {
    let rows: Vec<(Day, String)> = holidays::table
        .filter(holidays::site_id.eq(site))
        .order(holidays::day)
        .select((holidays::day, holidays::name))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(|(day, name)| (day.0, name)).collect())
}

/// Whether the site says that it has one lead.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn says_one_lead(
    connection: &mut AsyncPgConnection,
    site: SiteId,
) -> Result<bool, StoreError> {
    Ok(sites::table.find(site).select(sites::one_lead).first(connection).await?)
}

/// Writes the calendar and takes away the shifts ahead in which nothing stands yet; they are made
/// anew when they are next asked for. The shift that runs stays.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn write(
    connection: &mut AsyncPgConnection,
    site: SiteId,
    starts: &[Start],
    days: &[(Date, String)],
    one_lead: bool,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            // Of two who write at one moment the second replaces the first: without this both would stand.
            let chain = format!("site:{site}");
            audit::hold(connection, &chain).await?;
            diesel::delete(shift_starts::table.filter(shift_starts::site_id.eq(site)))
                .execute(connection)
                .await?;
            for start in starts {
                diesel::insert_into(shift_starts::table)
                    .values((
                        shift_starts::site_id.eq(site),
                        shift_starts::label.eq(&start.label),
                        shift_starts::starts_at_local.eq(start.at),
                        shift_starts::days.eq(&start.days),
                    ))
                    .execute(connection)
                    .await?;
            }
            diesel::delete(holidays::table.filter(holidays::site_id.eq(site)))
                .execute(connection)
                .await?;
            for (day, name) in days {
                diesel::insert_into(holidays::table)
                    .values((
                        holidays::site_id.eq(site),
                        holidays::day.eq(Day(*day)),
                        holidays::name.eq(name),
                        holidays::person_id.eq(by.person),
                        holidays::at.eq(At(by.at)),
                    ))
                    .execute(connection)
                    .await?;
            }
            diesel::update(sites::table.find(site))
                .set(sites::one_lead.eq(one_lead))
                .execute(connection)
                .await?;
            forget_ahead(connection, site, by.at).await?;
            let happening = Happening {
                chain: &chain,
                at: by.at,
                person: Some(by.person),
                action: "calendar_written",
                detail: json!({
                    "shifts": starts.iter().map(|start| json!({
                        "label": start.label, "at": start.at.0.to_string(), "days": start.days,
                    })).collect::<Vec<_>>(),
                    "one_lead": one_lead,
                    "holidays": days.iter().map(|(day, name)| json!([day.to_string(), name]))
                        .collect::<Vec<_>>(),
                }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

async fn forget_ahead(
    connection: &mut AsyncPgConnection,
    site: SiteId,
    now: Timestamp,
) -> Result<(), StoreError> {
    diesel::sql_query(
        "DELETE FROM shift_instances s WHERE s.site_id = $1 AND s.starts_at > $2
           AND NOT EXISTS (SELECT FROM checks c WHERE c.shift_instance_id = s.id)
           AND NOT EXISTS (SELECT FROM handovers h WHERE h.shift_instance_id = s.id)
           AND NOT EXISTS (SELECT FROM round_sign_offs r WHERE r.shift_instance_id = s.id)",
    )
    .bind::<BigInt, _>(site.0)
    .bind::<Timestamptz, _>(At(now))
    .execute(connection)
    .await?;
    Ok(())
}
