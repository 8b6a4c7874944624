//! What falls due, as a calendar for other programs (iCalendar, RFC 5545).

use std::collections::HashMap;

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use icalendar::{Calendar, Component, Event};
use jiff::civil::Date;
use vaaka_core::round::DueRule;
use vaaka_store::ids::PlanVersionId;
use vaaka_store::{checks, plans};

use crate::desk::Desk;
use crate::error::WebError;
use crate::session::Caller;
use crate::state::AppState;

/// A date as RFC 5545, 3.3.4, writes it.
fn compact(date: Date) -> String {
    date.strftime("%Y%m%d").to_string()
}

/// One event for each plan in force: on the day on which it next falls due, and every day for those of
/// each shift. Plans that are due before use only have none.
pub async fn show(_caller: Caller, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let all = plans::in_force(&mut desk.connection).await?;
    let ids: Vec<PlanVersionId> = all.iter().map(|one| one.version).collect();
    let views = plans::by_versions(&mut desk.connection, &ids).await?;
    let plan_ids: Vec<_> = all.iter().map(|one| one.plan).collect();
    let last: HashMap<_, Date> = checks::last_dates(&mut desk.connection, &plan_ids)
        .await?
        .into_iter()
        .map(|(plan, day)| (plan, day.0))
        .collect();
    // Another program keeps this calendar: its links lead to the address that the site has set, or nowhere; what the
    // request says of it is anybody's word.
    let base = state.settings.address.trim_end_matches('/').to_owned();
    let stamp = desk.now.strftime("%Y%m%dT%H%M%SZ").to_string();
    let today = desk.here.shift.business_date.0;
    let mut calendar = Calendar::new();
    calendar.name("Checks that fall due");
    for view in &views {
        let rule: DueRule = view.version.due_rule.parse().map_err(WebError::Inner)?;
        let (date, every_day) = match (rule, rule.next(last.get(&view.plan.id).copied())) {
            (DueRule::BeforeUse, _) => continue,
            (DueRule::EachShift, _) => (today, true),
            // What is overdue falls due today.
            (_, next) => (next.map_or(today, |next| next.max(today)), false),
        };
        let mut event = Event::new();
        event
            .uid(&format!("plan-{}@vaaka", view.plan.id))
            .summary(&format!(
                "{} {}: check {}",
                view.instrument.name,
                view.instrument.tag,
                rule.words()
            ))
            .description(&format!("{}, with {}", view.plan.name, view.standard_words()))
            .add_property("DTSTAMP", &stamp)
            .append_property(
                icalendar::Property::new("DTSTART", compact(date))
                    .add_parameter("VALUE", "DATE")
                    .done(),
            );
        if !base.is_empty() {
            event.add_property("URL", format!("{base}/instruments/{}", view.instrument.tag));
        }
        if every_day {
            event.add_property("RRULE", "FREQ=DAILY");
        }
        calendar.push(event.done());
    }
    let headers = [
        (header::CONTENT_TYPE, "text/calendar; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"checks.ics\""),
    ];
    Ok((headers, calendar.done().to_string()).into_response())
}
