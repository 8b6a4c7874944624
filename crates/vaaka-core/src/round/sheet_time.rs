//! Times as they stand on a sheet of paper: of a wall clock, without a date, on a day when the
//! clocks may have been changed.

use std::str::FromStr;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::{AmbiguousOffset, Offset, TimeZone};
use thiserror::Error;

/// A time of the day, with the offset from UTC where it was written down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SheetTime {
    time: Time,
    offset: Option<Offset>,
}

/// Why a time of a sheet is no moment; each says what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SheetTimeError {
    /// It cannot be read.
    #[error("Type a time of the day like 22:34.")]
    Unreadable,
    /// The clocks went back over it.
    #[error(
        "The clock showed {time} twice that night. Type {time} {first} for the first, or {time} {second} for the second."
    )]
    Twice {
        /// As it is shown.
        time: String,
        /// The offset before the change.
        first: Offset,
        /// The offset after it.
        second: Offset,
    },
    /// The clocks went forward over it.
    #[error(
        "The clock never showed {time} that night: it was put forward over it. Look at the time again."
    )]
    Never {
        /// As it is shown.
        time: String,
    },
    /// An offset that the site's clocks did not have then.
    #[error("The clocks here did not stand at {offset} then. Leave it out, or type {right}.")]
    Offset {
        /// As it was typed.
        offset: Offset,
        /// What it was.
        right: Offset,
    },
    /// The day or the moment is none that a calendar has.
    #[error("This day has no such time. Look at the day and the time.")]
    Outside,
}

/// Offsets as people write them: `+02:00`, `+2`, in brackets or without.
fn offset(text: &str) -> Option<Offset> {
    let text = text.trim().trim_start_matches('(').trim_end_matches(')').trim();
    let (sign, rest) = match text.chars().next()? {
        '+' => (1, &text[1..]),
        '-' | '−' => (-1, text.trim_start_matches(['-', '−'])),
        _ => return None,
    };
    let (hours, minutes) = rest.split_once(':').unwrap_or((rest, "0"));
    let (hours, minutes): (i32, i32) = (hours.parse().ok()?, minutes.parse().ok()?);
    if !(0..=14).contains(&hours) || !(0..60).contains(&minutes) {
        return None;
    }
    Offset::from_seconds(sign * (hours * 3600 + minutes * 60)).ok()
}

impl FromStr for SheetTime {
    type Err = SheetTimeError;

    /// `22:34`, `22.34`, `3:30`, and where it is needed `03:30 +02:00`.
    fn from_str(text: &str) -> Result<Self, SheetTimeError> {
        let text = text.trim();
        let end = text.find(['+', '-', '−', '(']).unwrap_or(text.len());
        let (clock, rest) = text.split_at(end);
        let read = |text: &str| text.trim().parse::<i8>().ok();
        let time = match clock.split([':', '.']).collect::<Vec<_>>().as_slice() {
            [hour, minute] => read(hour).zip(read(minute)),
            _ => None,
        };
        let time = time.and_then(|(hour, minute)| Time::new(hour, minute, 0, 0).ok());
        let offset = if rest.is_empty() { Some(None) } else { offset(rest).map(Some) };
        let (Some(time), Some(offset)) = (time, offset) else {
            return Err(SheetTimeError::Unreadable);
        };
        Ok(Self { time, offset })
    }
}

impl SheetTime {
    fn shown(self) -> String {
        self.time.strftime("%H:%M").to_string()
    }

    /// The moments at which the site's clock showed it on a day: one, or two in an hour that is
    /// repeated, in their order; fewer by the offset.
    fn moments(self, day: Date, zone: &TimeZone) -> Result<Vec<Timestamp>, SheetTimeError> {
        let civil = DateTime::from_parts(day, self.time);
        let at = |offset: Offset| offset.to_timestamp(civil).map_err(|_| SheetTimeError::Outside);
        let offsets = match zone.to_ambiguous_timestamp(civil).offset() {
            AmbiguousOffset::Unambiguous { offset } => vec![offset],
            AmbiguousOffset::Fold { before, after } => vec![before, after],
            AmbiguousOffset::Gap { .. } => {
                return Err(SheetTimeError::Never { time: self.shown() });
            }
        };
        match self.offset {
            None => offsets.into_iter().map(at).collect(),
            Some(own) if offsets.contains(&own) => Ok(vec![at(own)?]),
            Some(own) => Err(SheetTimeError::Offset { offset: own, right: offsets[0] }),
        }
    }

    fn the_one(self, moments: &[Timestamp], zone: &TimeZone) -> Result<Timestamp, SheetTimeError> {
        match *moments {
            [one] => Ok(one),
            [first, second, ..] => Err(SheetTimeError::Twice {
                time: self.shown(),
                first: zone.to_offset(first),
                second: zone.to_offset(second),
            }),
            [] => Err(SheetTimeError::Outside),
        }
    }

    /// The moment at which the site's clock showed it on a day.
    ///
    /// # Errors
    /// [`SheetTimeError`] where it is none or two.
    pub fn on(self, day: Date, zone: &TimeZone) -> Result<Timestamp, SheetTimeError> {
        self.the_one(&self.moments(day, zone)?, zone)
    }

    /// The first moment at or after another one at which the clock showed it: on the sheet's day,
    /// or past midnight on the next. Of a repeated hour only what is not before `from` counts, so
    /// that a sheet which began in its second half needs no offset. Where both days are over by then
    /// it is the time on the second, which lies before `from`.
    ///
    /// # Errors
    /// [`SheetTimeError`] where it is none or two.
    pub fn from(
        self,
        from: Timestamp,
        day: Date,
        zone: &TimeZone,
    ) -> Result<Timestamp, SheetTimeError> {
        let shown = from.to_zoned_datetime(zone.clone()).datetime();
        let next = day.tomorrow().map_err(|_| SheetTimeError::Outside)?;
        for on in [day, next] {
            match self.moments(on, zone) {
                Ok(mut moments) => {
                    moments.retain(|at| *at >= from);
                    if !moments.is_empty() {
                        return self.the_one(&moments, zone);
                    }
                }
                // A time that the clocks left out is told as that, unless it is over anyway.
                Err(error) if DateTime::from_parts(on, self.time) >= shown => return Err(error),
                Err(_) => {}
            }
        }
        self.on(next, zone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The clocks go back from 04:00 to 03:00 on 25 October 2026 and forward from 03:00 to 04:00
    /// on 29 March 2026 (EU Directive 2000/84/EC).
    fn zone() -> TimeZone {
        TimeZone::get("Europe/Helsinki").unwrap()
    }

    fn day(text: &str) -> Date {
        text.parse().unwrap()
    }

    fn on(text: &str, of: &str) -> Result<String, String> {
        let time: SheetTime = text.parse().map_err(|error: SheetTimeError| error.to_string())?;
        time.on(day(of), &zone()).map(|at| at.to_string()).map_err(|error| error.to_string())
    }

    fn from(text: &str, from: &str, of: &str) -> Result<String, String> {
        let time: SheetTime = text.parse().map_err(|error: SheetTimeError| error.to_string())?;
        let found = time.from(from.parse().unwrap(), day(of), &zone());
        found.map(|at| at.to_string()).map_err(|error| error.to_string())
    }

    #[test]
    fn a_time_is_read_as_people_write_it() {
        for text in
            ["22:34", " 22:34 ", "22.34", "22 : 34", "22:34 +02:00", "22:34 (+02:00)", "22:34+2"]
        {
            assert_eq!(on(text, "2026-11-24").unwrap(), "2026-11-24T20:34:00Z", "{text}");
        }
        assert_eq!(on("3:05", "2026-11-24").unwrap(), "2026-11-24T01:05:00Z");
        for text in [
            "",
            "22",
            "22:34:10",
            "24:00",
            "9:60",
            "half past",
            "-1:30",
            "22:34 +",
            "22:34 +2x",
            "22:34 +99",
            "22:34 EET",
        ] {
            assert_eq!(
                on(text, "2026-11-24").unwrap_err(),
                "Type a time of the day like 22:34.",
                "{text}"
            );
        }
    }

    #[test]
    fn a_repeated_time_is_asked_about_and_taken_with_its_offset() {
        let words = on("03:30", "2026-10-25").unwrap_err();
        assert_eq!(
            words,
            "The clock showed 03:30 twice that night. Type 03:30 +03 for the first, or 03:30 +02 for the second."
        );
        assert_eq!(on("03:30 +03", "2026-10-25").unwrap(), "2026-10-25T00:30:00Z");
        assert_eq!(on("03:30 +02:00", "2026-10-25").unwrap(), "2026-10-25T01:30:00Z");
        assert_eq!(on("02:59", "2026-10-25").unwrap(), "2026-10-24T23:59:00Z");
        assert_eq!(on("04:00", "2026-10-25").unwrap(), "2026-10-25T02:00:00Z");
        let words = on("02:00 +02:00", "2026-10-25").unwrap_err();
        assert_eq!(words, "The clocks here did not stand at +02 then. Leave it out, or type +03.");
        let words = on("03:30 −5", "2026-10-25").unwrap_err();
        assert!(words.starts_with("The clocks here did not stand at -05 then."), "{words}");
    }

    #[test]
    fn a_time_that_never_was_is_told() {
        let words = on("03:30", "2026-03-29").unwrap_err();
        assert!(words.starts_with("The clock never showed 03:30 that night"), "{words}");
        assert_eq!(on("04:00", "2026-03-29").unwrap(), "2026-03-29T01:00:00Z");
    }

    #[test]
    fn what_follows_lies_on_the_same_day_or_past_midnight() {
        // An ordinary night.
        let began = "2026-11-24T20:34:00Z";
        assert_eq!(from("22:34", began, "2026-11-24").unwrap(), began);
        assert_eq!(from("22:50", began, "2026-11-24").unwrap(), "2026-11-24T20:50:00Z");
        assert_eq!(from("00:10", began, "2026-11-24").unwrap(), "2026-11-24T22:10:00Z");
        // A night of 25 hours and one of 23: the clock, not 24 hours later.
        let began = "2026-10-24T19:30:00Z";
        assert_eq!(from("06:00", began, "2026-10-24").unwrap(), "2026-10-25T04:00:00Z");
        assert!(from("03:30", began, "2026-10-24").unwrap_err().contains("twice"));
        let began = "2026-03-28T20:30:00Z";
        assert_eq!(from("06:00", began, "2026-03-28").unwrap(), "2026-03-29T03:00:00Z");
        assert!(from("03:30", began, "2026-03-28").unwrap_err().contains("never"));
    }

    #[test]
    fn in_a_repeated_hour_only_what_is_not_over_counts() {
        // Begun at 03:40 of the first round of the hour: 03:20 can only be the second.
        let first = "2026-10-25T00:40:00Z";
        assert_eq!(from("03:20", first, "2026-10-25").unwrap(), "2026-10-25T01:20:00Z");
        // 03:50 may be ten minutes later, or seventy.
        assert!(from("03:50", first, "2026-10-25").unwrap_err().contains("twice"));
        assert_eq!(from("03:50 +02:00", first, "2026-10-25").unwrap(), "2026-10-25T01:50:00Z");
        // Begun in the second: no question.
        let second = "2026-10-25T01:40:00Z";
        assert_eq!(from("03:50", second, "2026-10-25").unwrap(), "2026-10-25T01:50:00Z");
        // And 03:20 is past the next midnight, which the length of the run will refuse.
        assert_eq!(from("03:20", second, "2026-10-25").unwrap(), "2026-10-26T01:20:00Z");
    }

    #[test]
    fn a_zone_without_changes_asks_nothing() {
        for hour in 0..24 {
            for minute in [0, 29, 59] {
                let text = format!("{hour:02}:{minute:02}");
                let time: SheetTime = text.parse().unwrap();
                let at = time.on(day("2026-10-25"), &TimeZone::UTC).unwrap();
                assert_eq!(at.to_string(), format!("2026-10-25T{text}:00Z"));
            }
        }
    }

    /// Every minute of both nights: what a clock shows leads back to a moment at which it shows it.
    #[test]
    fn what_the_clock_shows_leads_back_to_its_moment() {
        for start in ["2026-10-24T19:00:00Z", "2026-03-28T20:00:00Z"] {
            let start: Timestamp = start.parse().unwrap();
            for minute in 0..12 * 60 {
                let at = start + jiff::SignedDuration::from_mins(minute);
                let local = at.to_zoned_datetime(zone());
                let text = local.strftime("%H:%M %:z").to_string();
                let time: SheetTime = text.parse().unwrap();
                assert_eq!(time.on(local.date(), &zone()), Ok(at), "{text}");
                // The sheet's day is that on which it began.
                let began = start.to_zoned_datetime(zone()).date();
                assert_eq!(time.from(start, began, &zone()), Ok(at), "{text}");
            }
        }
    }
}
