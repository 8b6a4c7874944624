//! Missed checks of the whole site in a period: which, when, of what.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use vaaka_formats::{Cell, Table};
use vaaka_store::ids::{InstrumentId, PlanId};
use vaaka_store::plans::{self, PlanName};
use vaaka_store::{Connection, StoreError, instruments, rounds};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::Refusal;
use crate::forms::Asked;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::AppState;

/// Rows that the page shows; the table has all.
const SHOWN: usize = 300;

/// A period, and part of a tag, as they stand in an address.
#[derive(Debug, Default, Clone, serde::Deserialize)]
pub struct Query {
    /// First day.
    #[serde(default)]
    pub from: String,
    /// Last day.
    #[serde(default)]
    pub to: String,
    /// Part of a tag.
    #[serde(default)]
    pub tag: String,
}

/// First and last day; the month up to today, with words, where what was typed is no period.
pub(in crate::pages) fn period(query: &Query, today: Date) -> (Date, Date, Option<String>) {
    let month = (today.saturating_sub(30.days()), today);
    if query.from.trim().is_empty() && query.to.trim().is_empty() {
        return (month.0, month.1, None);
    }
    let read = |text: &str, or: Date| match text.trim() {
        "" => Some(or),
        text => crate::fields::read_day(text),
    };
    match (read(&query.from, month.0), read(&query.to, month.1)) {
        (Some(from), Some(to)) if from <= to => (from, to, None),
        (Some(_), Some(_)) => (
            month.0,
            month.1,
            Some("The period ends before it begins. The last month is shown.".into()),
        ),
        _ => (
            month.0,
            month.1,
            Some("Type both days as year-month-day, for example 2026-11-24, or as 24.11.2026. The last month is shown.".into()),
        ),
    }
}

/// The moments between which the days of a period lie.
pub(in crate::pages) fn moments(desk: &Desk, first: Date, last: Date) -> (Timestamp, Timestamp) {
    let at = |day: Date| {
        day.to_zoned_datetime(desk.here.zone.clone()).map_or(desk.now, |zoned| zoned.timestamp())
    };
    (at(first), at(last.saturating_add(1.day())))
}

/// A window that went by without its check.
#[derive(Debug)]
pub(in crate::pages) struct Row {
    /// Business date on which it began.
    pub date: Date,
    /// Its shift, where it is one.
    pub shift: String,
    pub tag: String,
    pub instrument: String,
    pub plan: String,
    pub rule: &'static str,
    pub from: Timestamp,
    pub until: Timestamp,
    /// The plan, and why it was missed, with who said so.
    pub plan_id: PlanId,
    pub reason: Option<String>,
}

/// What was missed between two moments, of all instruments or of one, newest first. While an
/// instrument was out of use nothing was asked of it.
pub(in crate::pages) async fn find(
    connection: &mut Connection,
    of: Option<InstrumentId>,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<Row>, WebError> {
    let asked = rounds::asked(connection, of).await?;
    let found = rounds::missed_between(connection, &asked, from, until).await?;
    let mut ids: Vec<PlanId> = found.iter().map(|(plan, _)| *plan).collect();
    ids.sort_unstable();
    ids.dedup();
    let names: HashMap<PlanId, PlanName> = plans::names(connection, &ids).await?;
    let mut states: HashMap<InstrumentId, Vec<(Timestamp, String)>> = HashMap::new();
    for name in names.values() {
        if let Entry::Vacant(place) = states.entry(name.instrument_id) {
            let rows = instruments::states(connection, name.instrument_id).await?;
            let whole = rows.into_iter().filter(|one| one.cell.is_none());
            place.insert(whole.map(|one| (one.row.at.0, one.row.state)).collect());
        }
    }
    let was_out = |id: InstrumentId, at: Timestamp| {
        let newest = states.get(&id).and_then(|rows| rows.iter().find(|(when, _)| *when <= at));
        newest.is_some_and(|(_, state)| matches!(state.as_str(), "out" | "retired"))
    };
    let reasons = rounds::missed_reasons(connection, from, until).await?;
    let mut rows = Vec::new();
    for (plan, window) in found {
        let Some(name) = names.get(&plan) else { continue };
        if was_out(name.instrument_id, window.until) {
            continue;
        }
        let rule = asked
            .iter()
            .rev()
            .find(|one| one.plan == plan && one.since <= window.from)
            .map_or("", |one| one.rule.words());
        rows.push(Row {
            date: window.date,
            shift: window.shift.unwrap_or_default(),
            tag: name.tag.clone(),
            instrument: name.instrument.clone(),
            plan: name.plan.clone(),
            rule,
            from: window.from,
            until: window.until,
            plan_id: plan,
            reason: reasons
                .iter()
                .find(|(of, at, ..)| *of == plan && at.0 == window.from)
                .map(|(.., reason, person)| format!("{reason} ({person})")),
        });
    }
    rows.sort_by(|a, b| b.until.cmp(&a.until).then_with(|| a.tag.cmp(&b.tag)));
    Ok(rows)
}

async fn asked_for(desk: &mut Desk, query: &Query) -> Result<(Vec<Row>, Option<String>), WebError> {
    let (first, last, error) = period(query, desk.today);
    let (from, until) = moments(desk, first, last);
    // What is not over yet is not missed yet.
    let mut rows = find(&mut desk.connection, None, from, until.min(desk.now)).await?;
    let tag = query.tag.trim().to_lowercase();
    rows.retain(|row| row.tag.to_lowercase().contains(&tag));
    Ok((rows, error))
}

/// As a table.
pub(in crate::pages) async fn table(desk: &mut Desk, query: &Query) -> Result<Table, WebError> {
    let (rows, error) = asked_for(desk, query).await?;
    if let Some(words) = error {
        return Err(WebError::NotNow { words });
    }
    let mut table = Table::new(&[
        "date",
        "shift",
        "instrument",
        "name",
        "plan",
        "due",
        "from",
        "until",
        "reason",
    ]);
    for row in rows {
        table.row([
            row.date.to_string().into(),
            row.shift.into(),
            row.tag.into(),
            row.instrument.into(),
            row.plan.into(),
            Cell::from(row.rule),
            row.from.to_string().into(),
            row.until.to_string().into(),
            row.reason.into(),
        ]);
    }
    Ok(table)
}

#[derive(Debug, Template)]
#[template(path = "missed.html")]
struct MissedPage {
    shell: Shell,
    heading: String,
    query: Query,
    address: String,
    by_instrument: Vec<(String, String, usize)>,
    rows: Vec<Row>,
    more: usize,
    papers: usize,
    error: Option<String>,
    refusal: Refusal,
}

/// Shows what was missed.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(mut query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, &mut query, Refusal::default()).await
}

/// Says why a check was missed. It stays missed.
pub async fn explain(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut query = Query {
        from: typed.get("from").to_owned(),
        to: typed.get("to").to_owned(),
        tag: typed.get("tag").to_owned(),
    };
    let plan = typed.get("plan").parse::<i64>().map(PlanId);
    let window = typed.get("window").parse::<Timestamp>();
    let (Ok(plan), Ok(window)) = (plan, window) else {
        return Err(WebError::BadForm("window".into()));
    };
    let (rows, _) = asked_for(&mut desk, &query).await?;
    if !rows.iter().any(|row| row.plan_id == plan && row.from == window) {
        return Err(WebError::NotNow {
            words: "This check is not missed any more, or was not.".into(),
        });
    }
    let reason = crate::fields::sentence(typed.get("reason"), 200);
    let words = match &reason {
        Err(words) => Some(words.clone()),
        Ok(text) => vaaka_core::study::is_reason(text).err().map(|error| error.to_string()),
    };
    if let Some(words) = words {
        let form = format!("{plan}-{window}");
        let refusal = Refusal::of(form, "reason", typed, words);
        return draw(&mut desk, &signed, &mut query, refusal).await;
    }
    let by = desk.by(&signed);
    match rounds::explain_missed(
        &mut desk.connection,
        plan,
        window,
        &reason.unwrap_or_default(),
        by,
    )
    .await
    {
        Ok(()) => {
            let encode = crate::paths::encode;
            let (from, to, tag) = (&query.from, &query.to, &query.tag);
            let back =
                format!("/missed?from={}&to={}&tag={}", encode(from), encode(to), encode(tag));
            Ok(Redirect::to(&back).into_response())
        }
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words: "Somebody has said why a moment ago. It stands there.".into(),
        }),
        Err(other) => Err(other.into()),
    }
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    query: &mut Query,
    refusal: Refusal,
) -> Result<Response, WebError> {
    let (mut rows, error) = asked_for(desk, query).await?;
    let (first, last, _) = period(query, desk.today);
    (query.from, query.to) = (first.to_string(), last.to_string());
    let mut by_instrument: Vec<(String, String, usize)> = Vec::new();
    for row in &rows {
        match by_instrument.iter_mut().find(|(tag, ..)| *tag == row.tag) {
            Some((.., count)) => *count += 1,
            None => by_instrument.push((row.tag.clone(), row.instrument.clone(), 1)),
        }
    }
    by_instrument.sort_by(|a, b| b.2.cmp(&a.2).then_with(|| a.0.cmp(&b.0)));
    let heading = match rows.len() {
        0 => "none".to_owned(),
        1 => "one".to_owned(),
        n if by_instrument.len() == 1 => format!("{n} of one instrument"),
        n => format!("{n} on {} instruments", by_instrument.len()),
    };
    let more = rows.len().saturating_sub(SHOWN);
    rows.truncate(SHOWN);
    let encode = crate::paths::encode;
    let template = MissedPage {
        shell: Shell::new(signed, "records", &desk.here),
        heading,
        address: format!("from={first}&to={last}&tag={}", encode(query.tag.trim())),
        query: query.clone(),
        by_instrument,
        rows,
        more,
        papers: vaaka_store::paper::waiting(&mut desk.connection).await?.len(),
        error,
        refusal,
    };
    let fine = template.error.is_none() && template.refusal.is_none();
    page(if fine { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY }, &template)
}

impl Row {
    /// The name of its form.
    fn form(&self) -> String {
        format!("{}-{}", self.plan_id, self.from)
    }

    /// Which window it was, in words.
    pub(in crate::pages) fn what(&self) -> String {
        match self.shift.as_str() {
            "" => format!("{}, {}", self.date, self.rule),
            shift => format!("{} {}", self.date, shift.to_lowercase()),
        }
    }
}
