//! Shift instances of a site: local times of the clock on the wall, stored as instants.

use std::collections::BTreeSet;

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use thiserror::Error;

/// One start of a shift in the day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShiftStart {
    /// Name, for example "Night".
    pub label: String,
    /// Time on the wall clock.
    pub at: Time,
    /// On which days of the week it works, Monday first.
    pub days: [bool; 7],
}

impl ShiftStart {
    /// A shift that works on every day.
    #[must_use]
    pub fn every_day(label: impl Into<String>, at: Time) -> Self {
        Self { label: label.into(), at, days: [true; 7] }
    }
}

/// The daily pattern: each shift lasts until the next one starts.
#[derive(Debug, Clone)]
pub struct ShiftPattern {
    /// Zone of the site.
    pub zone: TimeZone,
    /// Starts in the order of the day.
    pub starts: Vec<ShiftStart>,
    /// Days on which nobody works.
    pub holidays: BTreeSet<Date>,
}

/// One shift as it really was: on the nights of a clock change it is shorter or longer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShiftSpan {
    /// Name.
    pub label: String,
    /// Day on which it started, also for a night shift that ends on the next.
    pub business_date: Date,
    /// Start.
    pub starts_at: Timestamp,
    /// End, not part of it.
    pub ends_at: Timestamp,
    /// Whether anybody works in it: nothing is due in a shift that does not.
    pub works: bool,
}

/// A pattern that makes no shifts.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ShiftError {
    /// No start in the pattern.
    #[error("the shift pattern has no shift")]
    Empty,
    /// Starts are not in order.
    #[error("the shifts of the pattern are not in the order of the day")]
    NotInOrder,
    /// A date beyond the calendar.
    #[error("the date is outside the calendar")]
    OutOfRange,
}

impl ShiftPattern {
    /// Shifts that start on `first` to `last`, both included, without gap or overlap.
    ///
    /// # Errors
    /// [`ShiftError`].
    pub fn spans(&self, first: Date, last: Date) -> Result<Vec<ShiftSpan>, ShiftError> {
        let Some(first_start) = self.starts.first() else {
            return Err(ShiftError::Empty);
        };
        if self.starts.windows(2).any(|pair| pair[0].at >= pair[1].at) {
            return Err(ShiftError::NotInOrder);
        }
        let instant = |date: Date, at: Time| -> Result<Timestamp, ShiftError> {
            // In the spring gap the wall clock jumps over the time; jiff takes the later reading.
            let zoned = date.to_datetime(at).to_zoned_datetime(self.zone.clone());
            zoned.map(|zoned| zoned.timestamp()).map_err(|_| ShiftError::OutOfRange)
        };
        let mut spans = Vec::new();
        let mut date = first;
        while date <= last {
            let next_date = date.checked_add(1.day()).map_err(|_| ShiftError::OutOfRange)?;
            for (index, start) in self.starts.iter().enumerate() {
                let ends_at = match self.starts.get(index + 1) {
                    Some(next) => instant(date, next.at)?,
                    None => instant(next_date, first_start.at)?,
                };
                spans.push(ShiftSpan {
                    label: start.label.clone(),
                    business_date: date,
                    starts_at: instant(date, start.at)?,
                    ends_at,
                    works: !self.holidays.contains(&date)
                        && start.days
                            [usize::from(date.weekday().to_monday_zero_offset().unsigned_abs())],
                });
            }
            date = next_date;
        }
        Ok(spans)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};

    fn three() -> ShiftPattern {
        let start = |label: &str, hour| ShiftStart::every_day(label, time(hour, 0, 0, 0));
        ShiftPattern {
            zone: TimeZone::get("Europe/Helsinki").unwrap(),
            starts: vec![start("Morning", 6), start("Evening", 14), start("Night", 22)],
            holidays: BTreeSet::new(),
        }
    }

    #[test]
    fn a_night_belongs_to_the_day_it_starts_on() {
        let spans = three().spans(date(2026, 11, 24), date(2026, 11, 24)).unwrap();
        assert_eq!(spans.len(), 3);
        assert_eq!(spans[2].business_date, date(2026, 11, 24));
        // 22:00 at UTC+2.
        assert_eq!(spans[2].starts_at.to_string(), "2026-11-24T20:00:00Z");
        assert_eq!(spans[2].ends_at.to_string(), "2026-11-25T04:00:00Z");
    }

    #[test]
    fn clock_changes_make_a_short_and_a_long_night() {
        // Last Sundays of March and October 2026 are the 29th and the 25th.
        let hours = |day| {
            let spans = three().spans(day, day).unwrap();
            spans[2].ends_at.duration_since(spans[2].starts_at).as_hours()
        };
        assert_eq!(hours(date(2026, 3, 28)), 7);
        assert_eq!(hours(date(2026, 10, 24)), 9);
        assert_eq!(hours(date(2026, 6, 1)), 8);
    }

    #[test]
    fn a_year_has_no_gap_and_no_overlap() {
        let spans = three().spans(date(2026, 1, 1), date(2026, 12, 31)).unwrap();
        assert_eq!(spans.len(), 3 * 365);
        assert!(spans.windows(2).all(|pair| pair[0].ends_at == pair[1].starts_at));
    }

    /// A night that works Monday to Friday, and a holiday: the night that begins on a Friday works
    /// into Saturday, the one that begins on a Sunday does not work.
    #[test]
    fn weekends_and_holidays_do_not_work() {
        let mut pattern = three();
        for start in &mut pattern.starts {
            start.days = [true, true, true, true, true, false, false];
        }
        pattern.holidays.insert(date(2026, 12, 25));
        let works = |day| {
            let spans = pattern.spans(day, day).unwrap();
            spans.iter().filter(|span| span.works).count()
        };
        // The 27th of November 2026 is a Friday.
        assert_eq!([27, 28, 29, 30].map(|day| works(date(2026, 11, day))), [3, 0, 0, 3]);
        assert_eq!(works(date(2026, 12, 25)), 0);
    }

    #[test]
    fn a_pattern_out_of_order_is_refused() {
        let mut pattern = three();
        pattern.starts.swap(0, 1);
        assert_eq!(pattern.spans(date(2026, 1, 1), date(2026, 1, 1)), Err(ShiftError::NotInOrder));
        pattern.starts.clear();
        assert_eq!(pattern.spans(date(2026, 1, 1), date(2026, 1, 1)), Err(ShiftError::Empty));
    }
}
