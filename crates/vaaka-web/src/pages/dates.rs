//! Days as a calendar for other programs (iCalendar, RFC 5545).

use axum::http::header;
use axum::response::{IntoResponse, Response};
use icalendar::{Calendar, Component, Event, Property};
use jiff::Timestamp;
use jiff::civil::Date;

use crate::state::AppState;

/// Events that last a day.
pub(in crate::pages) struct Dates {
    calendar: Calendar,
    stamp: String,
    base: String,
}

impl Dates {
    /// None yet. Another program keeps this calendar: its links lead to the address that the site has set, or nowhere; what
    /// the request says of it is anybody's word.
    pub(in crate::pages) fn new(state: &AppState, name: &str, now: Timestamp) -> Self {
        let mut calendar = Calendar::new();
        calendar.name(name);
        let stamp = now.strftime("%Y%m%dT%H%M%SZ").to_string();
        let base = state.settings.address.trim_end_matches('/').to_owned();
        Self { calendar, stamp, base }
    }

    /// An event on a day, with its summary and description.
    pub(in crate::pages) fn add(
        &mut self,
        id: &str,
        words: (&str, &str),
        day: Date,
        path: &str,
    ) -> &mut Self {
        let event = self.event(id, words, day, path);
        self.calendar.push(event);
        self
    }

    /// An event on this day and every day after it.
    pub(in crate::pages) fn add_daily(
        &mut self,
        id: &str,
        words: (&str, &str),
        day: Date,
        path: &str,
    ) {
        let mut event = self.event(id, words, day, path);
        event.add_property("RRULE", "FREQ=DAILY");
        self.calendar.push(event);
    }

    fn event(&self, id: &str, (summary, about): (&str, &str), day: Date, path: &str) -> Event {
        // A date as RFC 5545, 3.3.4, writes it.
        let on = Property::new("DTSTART", day.strftime("%Y%m%d").to_string())
            .add_parameter("VALUE", "DATE")
            .done();
        let mut event = Event::new();
        event
            .uid(&format!("{id}@vaaka"))
            .summary(summary)
            .description(about)
            .add_property("DTSTAMP", &self.stamp)
            .append_property(on);
        if !self.base.is_empty() {
            event.add_property("URL", format!("{}{path}", self.base));
        }
        event.done()
    }

    /// The file that is sent.
    pub(in crate::pages) fn attached(mut self, file: &str) -> Response {
        let headers = [
            (header::CONTENT_TYPE, "text/calendar; charset=utf-8".to_owned()),
            (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{file}\"")),
        ];
        (headers, self.calendar.done().to_string()).into_response()
    }
}
