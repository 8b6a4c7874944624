//! What stretch of time a chart shows, and the ways to another.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::paths::encode;

/// A stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::pages) struct Window {
    /// From when.
    pub from: Timestamp,
    /// To when; now where nothing else was asked for.
    pub to: Timestamp,
    /// The word of a named stretch; empty for one of its own.
    pub word: &'static str,
}

const DAY: SignedDuration = SignedDuration::from_hours(24);
/// The shortest: a shift.
const SHORTEST: SignedDuration = SignedDuration::from_hours(8);

impl Window {
    /// What was asked for: a named stretch, or two moments as `2026-11-24` or `2026-11-24T22:00`. What cannot
    /// be read, or lies the wrong way round, is a month.
    pub fn of(range: &str, from: &str, to: &str, now: Timestamp, zone: &TimeZone) -> Self {
        let named = |word, days: i64| Self {
            from: now.checked_sub(SignedDuration::from_hours(24 * days)).unwrap_or(now),
            to: now,
            word,
        };
        if let (Some(from), Some(to)) = (moment(from, zone, false), moment(to, zone, true))
            && to.duration_since(from) >= SHORTEST
        {
            return Self { from, to, word: "" };
        }
        match range {
            "week" => named("week", 7),
            "year" => named("year", 366),
            "all" => Self { from: Timestamp::UNIX_EPOCH, to: now, word: "all" },
            _ => named("month", 31),
        }
    }

    /// The same stretch without the time before the first point.
    pub fn after_first(self, first: Option<Timestamp>) -> Self {
        match first {
            Some(first) if first > self.from => Self { from: first.min(self.to), ..self },
            _ => self,
        }
    }

    /// As it stands in an address.
    pub fn query(&self, zone: &TimeZone) -> String {
        if self.word.is_empty() {
            let show = |at: Timestamp| {
                encode(&at.to_zoned_datetime(zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string())
            };
            format!("from={}&to={}", show(self.from), show(self.to))
        } else {
            format!("range={}", self.word)
        }
    }

    /// Another stretch: moved by a share of its length, and so many times as long, about its middle.
    pub fn other(&self, moved: f64, longer: f64, now: Timestamp) -> Self {
        let length = self.to.duration_since(self.from).max(SHORTEST).as_secs_f64();
        let middle = self.from.as_second() as f64 + length / 2.0 + moved * length;
        let half = (length * longer / 2.0).max(SHORTEST.as_secs_f64() / 2.0);
        let end = now.as_second() as f64;
        // Nothing lies in the future: what would reach there ends now.
        let to = (middle + half).min(end);
        let from = (to - 2.0 * half).max(0.0);
        let at = |second: f64| Timestamp::from_second(second as i64).unwrap_or(now);
        Self { from: at(from), to: at(to), word: "" }
    }

    /// In words: "3 Nov 2024 to 24 Nov 2026".
    pub fn words(&self, zone: &TimeZone) -> String {
        let long = self.to.duration_since(self.from) > DAY.saturating_mul(3);
        let form = if long { "%-d %b %Y" } else { "%-d %b %Y %H:%M" };
        let show = |at: Timestamp| at.to_zoned_datetime(zone.clone()).strftime(form).to_string();
        format!("{} to {}", show(self.from), show(self.to))
    }
}

fn moment(text: &str, zone: &TimeZone, end: bool) -> Option<Timestamp> {
    let text = text.trim();
    if let Ok(at) = text.parse::<Timestamp>() {
        return Some(at);
    }
    let day = crate::fields::read_day(text).filter(|_| !text.contains(['T', ':']));
    let time: DateTime = match day {
        Some(date) if end => date.at(23, 59, 59, 0),
        Some(date) => date.at(0, 0, 0, 0),
        None => text.parse().ok()?,
    };
    (1990..=2100).contains(&time.year()).then_some(())?;
    time.to_zoned_datetime(zone.clone()).ok().map(|zoned| zoned.timestamp())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn now() -> Timestamp {
        "2026-11-24T20:34:00Z".parse().unwrap()
    }

    #[rstest]
    #[case("week", "", "", "week", 7 * 24)]
    #[case("", "", "", "month", 31 * 24)]
    #[case("nonsense", "x", "y", "month", 31 * 24)]
    #[case("year", "2026-11-20", "2026-11-20", "", 24)]
    #[case("", "20.11.2026", "20.11.2026", "", 24)]
    #[case("", "2026-11-20T06:00", "2026-11-20T14:00", "", 8)]
    // The wrong way round, shorter than a shift, or beyond any calendar: a month.
    #[case("", "2026-11-21", "2026-11-19", "month", 31 * 24)]
    #[case("", "2026-11-20T06:00", "2026-11-20T06:30", "month", 31 * 24)]
    #[case("", "0001-01-01", "2026-11-19", "month", 31 * 24)]
    fn what_was_asked_for(
        #[case] range: &str,
        #[case] from: &str,
        #[case] to: &str,
        #[case] word: &str,
        #[case] hours: i64,
    ) {
        let found = Window::of(range, from, to, now(), &TimeZone::UTC);
        assert_eq!(found.word, word);
        let length = found.to.duration_since(found.from).as_secs() + i64::from(word.is_empty());
        assert!((length / 3_600 - hours).abs() <= 1, "{found:?}");
    }

    #[test]
    fn closer_wider_earlier_later() {
        let shown = Window::of("", "2026-11-01", "2026-11-10", now(), &TimeZone::UTC);
        let closer = shown.other(0.0, 0.5, now());
        assert!(closer.from > shown.from && closer.to < shown.to);
        let earlier = shown.other(-0.5, 1.0, now());
        assert!(earlier.to < shown.to);
        // Later ends now, and keeps its length.
        let later = shown.other(9.0, 1.0, now());
        assert_eq!(later.to, now());
        assert!(later.to.duration_since(later.from) >= SignedDuration::from_hours(9 * 24));
        // As close as it goes is a shift; as wide as it goes begins in 1970.
        let mut tiny = shown;
        for _ in 0..40 {
            tiny = tiny.other(0.0, 0.5, now());
        }
        assert_eq!(tiny.to.duration_since(tiny.from), SHORTEST);
        assert!(shown.other(0.0, 1e9, now()).from >= Timestamp::UNIX_EPOCH);
        // What stands in the address comes back.
        let query = tiny.query(&TimeZone::UTC).replace("%3A", ":");
        let (from, to) = query.split_once('&').unwrap();
        let again = Window::of("", &from[5..], &to[3..], now(), &TimeZone::UTC);
        assert_eq!(again.word, "");
    }
}
