//! Times and dates between jiff and PostgreSQL. diesel knows no jiff, and the conversions are
//! two lines each.

use crate::ids::PersonId;
use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::pg::data_types::{PgDate, PgTime, PgTimestamp};
use diesel::pg::{Pg, PgValue};
use diesel::serialize::{self, Output, ToSql};
use diesel::sql_types::{Date as SqlDate, Time as SqlTime, Timestamptz};
use jiff::civil::{Date, Time};
use jiff::{Timestamp, ToSpan};

/// Who changes something, and when.
#[derive(Debug, Clone, Copy)]
pub struct By {
    /// Who.
    pub person: PersonId,
    /// When.
    pub at: Timestamp,
}

/// Microseconds between the Unix epoch and PostgreSQL's, 2000-01-01.
const EPOCH_SHIFT: i64 = 946_684_800_000_000;
const PG_EPOCH: Date = jiff::civil::date(2000, 1, 1);

/// An instant, to the microsecond.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, AsExpression, FromSqlRow)]
#[diesel(sql_type = Timestamptz)]
pub struct At(pub Timestamp);

impl ToSql<Timestamptz, Pg> for At {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        let raw = PgTimestamp(self.0.as_microsecond() - EPOCH_SHIFT);
        ToSql::<Timestamptz, Pg>::to_sql(&raw, &mut out.reborrow())
    }
}

impl FromSql<Timestamptz, Pg> for At {
    fn from_sql(bytes: PgValue<'_>) -> deserialize::Result<Self> {
        let PgTimestamp(raw) = FromSql::<Timestamptz, Pg>::from_sql(bytes)?;
        Ok(Self(Timestamp::from_microsecond(raw + EPOCH_SHIFT)?))
    }
}

/// A calendar day of the site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, AsExpression, FromSqlRow)]
#[diesel(sql_type = SqlDate)]
pub struct Day(pub Date);

impl ToSql<SqlDate, Pg> for Day {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        let days = self.0.since((jiff::Unit::Day, PG_EPOCH))?.get_days();
        ToSql::<SqlDate, Pg>::to_sql(&PgDate(days), &mut out.reborrow())
    }
}

impl FromSql<SqlDate, Pg> for Day {
    fn from_sql(bytes: PgValue<'_>) -> deserialize::Result<Self> {
        let PgDate(days) = FromSql::<SqlDate, Pg>::from_sql(bytes)?;
        Ok(Self(PG_EPOCH.checked_add(days.days())?))
    }
}

/// A time on the wall clock of the site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, AsExpression, FromSqlRow)]
#[diesel(sql_type = SqlTime)]
pub struct WallTime(pub Time);

impl ToSql<SqlTime, Pg> for WallTime {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        let since_midnight = self.0.duration_since(Time::midnight());
        let micros = i64::try_from(since_midnight.as_micros())?;
        ToSql::<SqlTime, Pg>::to_sql(&PgTime(micros), &mut out.reborrow())
    }
}

impl FromSql<SqlTime, Pg> for WallTime {
    fn from_sql(bytes: PgValue<'_>) -> deserialize::Result<Self> {
        let PgTime(micros) = FromSql::<SqlTime, Pg>::from_sql(bytes)?;
        Ok(Self(Time::midnight().checked_add(jiff::SignedDuration::from_micros(micros))?))
    }
}
