//! The site's shifts, as stored rows.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use vaaka_boxed::boxed;
use vaaka_core::round::{ShiftPattern, ShiftSpan, ShiftStart};

use crate::ids::{ShiftId, SiteId};
use crate::rows::{Shift, Site};
use crate::schema::{holidays, shift_instances, shift_starts, sites};
use crate::types::{At, Day, WallTime};
use crate::{StoreError, unreadable};

/// The one site of this database.
///
/// # Errors
/// [`StoreError::NotFound`] on an empty database.
#[boxed]
pub async fn site(mut connection: &AsyncPgConnection) -> Result<Site, StoreError> {
    Ok(sites::table.order(sites::id).select(Site::as_select()).first(&mut connection).await?)
}

/// Zone of a site.
///
/// # Errors
/// [`StoreError::Unreadable`] when the zone is not known.
pub fn zone(site: &Site) -> Result<TimeZone, StoreError> {
    TimeZone::get(&site.zone).map_err(unreadable)
}

/// The daily pattern of a site.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn pattern(
    connection: &mut AsyncPgConnection,
    site: &Site,
) -> Result<ShiftPattern, StoreError> {
    let starts: Vec<(String, WallTime, Vec<bool>)> = shift_starts::table
        .filter(shift_starts::site_id.eq(site.id))
        .order(shift_starts::starts_at_local)
        .select((shift_starts::label, shift_starts::starts_at_local, shift_starts::days))
        .load(connection)
        .await?;
    let starts = starts
        .into_iter()
        .map(|(label, WallTime(at), days)| {
            let days = <[bool; 7]>::try_from(days).map_err(|_| unreadable("days of a shift"))?;
            Ok(ShiftStart { label, at, days })
        })
        .collect::<Result<_, StoreError>>()?;
    let holidays: Vec<Day> = holidays::table
        .filter(holidays::site_id.eq(site.id))
        .select(holidays::day)
        .load(connection)
        .await?;
    let holidays = holidays.into_iter().map(|day| day.0).collect();
    Ok(ShiftPattern { zone: zone(site)?, starts, holidays })
}

/// Stores spans that are not stored yet; rows that exist are never changed.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn store_spans(
    connection: &mut AsyncPgConnection,
    site: SiteId,
    spans: &[ShiftSpan],
) -> Result<(), StoreError> {
    for chunk in spans.chunks(1000) {
        let rows: Vec<_> = chunk
            .iter()
            .map(|span| {
                (
                    shift_instances::site_id.eq(site),
                    shift_instances::label.eq(&span.label),
                    shift_instances::business_date.eq(Day(span.business_date)),
                    shift_instances::starts_at.eq(At(span.starts_at)),
                    shift_instances::ends_at.eq(At(span.ends_at)),
                    shift_instances::works.eq(span.works),
                )
            })
            .collect();
        diesel::insert_into(shift_instances::table)
            .values(rows)
            .on_conflict_do_nothing()
            .execute(connection)
            .await?;
    }
    Ok(())
}

async fn find(
    connection: &mut AsyncPgConnection,
    site: SiteId,
    now: Timestamp,
) -> Result<Option<Shift>, StoreError> {
    Ok(shift_instances::table
        .filter(shift_instances::site_id.eq(site))
        .filter(shift_instances::starts_at.le(At(now)))
        .filter(shift_instances::ends_at.gt(At(now)))
        .select(Shift::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// The shift that runs at `now`; stores the days around it when they are not there yet.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn current(
    connection: &mut AsyncPgConnection,
    site: &Site,
    now: Timestamp,
) -> Result<Shift, StoreError> {
    if let Some(shift) = find(connection, site.id, now).await? {
        return Ok(shift);
    }
    let pattern = pattern(connection, site).await?;
    let today = now.to_zoned_datetime(pattern.zone.clone()).date();
    let (first, last) = (today.saturating_sub(1.day()), today.saturating_add(7.days()));
    let spans = pattern.spans(first, last).map_err(unreadable)?;
    store_spans(connection, site.id, &spans).await?;
    find(connection, site.id, now).await?.ok_or(StoreError::NotFound)
}

/// A shift by its id.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn by_id(connection: &mut AsyncPgConnection, id: ShiftId) -> Result<Shift, StoreError> {
    Ok(shift_instances::table.find(id).select(Shift::as_select()).first(connection).await?)
}
