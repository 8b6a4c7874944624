//! What falls due, as a calendar for other programs (iCalendar, RFC 5545).

use std::collections::HashMap;

use axum::extract::State;
use axum::response::Response;
use jiff::civil::Date;
use vaaka_core::round::DueRule;
use vaaka_store::ids::PlanVersionId;
use vaaka_store::{checks, plans};

use crate::desk::Desk;
use crate::error::WebError;
use crate::pages::dates::Dates;
use crate::session::Caller;
use crate::state::AppState;

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
    let today = desk.here.shift.business_date.0;
    let mut dates = Dates::new(&state, "Checks that fall due", desk.now);
    for view in &views {
        let rule: DueRule = view.version.due_rule.parse().map_err(WebError::Inner)?;
        let (date, every_day) = match (rule, rule.next(last.get(&view.plan.id).copied())) {
            (DueRule::BeforeUse, _) => continue,
            (DueRule::EachShift, _) => (today, true),
            // What is overdue falls due today.
            (_, next) => (next.map_or(today, |next| next.max(today)), false),
        };
        let summary =
            format!("{} {}: check {}", view.instrument.name, view.instrument.tag, rule.words());
        let about = format!("{}, with {}", view.plan.name, view.standard_words());
        let (id, path) =
            (format!("plan-{}", view.plan.id), format!("/instruments/{}", view.instrument.tag));
        if every_day {
            dates.add_daily(&id, (&summary, &about), date, &path);
        } else {
            dates.add(&id, (&summary, &about), date, &path);
        }
    }
    Ok(dates.attached("checks.ics"))
}
