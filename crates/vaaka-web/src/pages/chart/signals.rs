//! Signals as work: the list, one with what was done about it, and the causes that the site knows.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Deserialize;
use vaaka_core::chart::Firing;
use vaaka_core::judgement::{firing_words, shift_words};
use vaaka_formats::{Cell, Table};
use vaaka_store::ids::{CauseId, SignalId};
use vaaka_store::people;
use vaaka_store::signals::{self, SignalView, Step, Which};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Reader};
use crate::forms::{Asked, PathId};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time, long_day};

/// Signals shown at most.
const MOST: i64 = 200;

#[derive(Debug, Template)]
#[template(path = "signals.html")]
struct SignalsPage {
    shell: Shell,
    heading: String,
    closed: bool,
    reminder: String,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    id: i64,
    chart: i64,
    state: &'static str,
    title: String,
    words: String,
    since: String,
    work: &'static str,
    cause: String,
    touched: String,
    forgotten: bool,
    /// Whose it is, and until when.
    owner: Option<String>,
    late: bool,
}

/// How far the work on a signal is.
pub(in crate::pages) fn signal_state(state: &str) -> &'static str {
    match state {
        "open" => "nobody has looked at it yet",
        "acknowledged" => "seen, its cause is looked for",
        "cause_assigned" => "cause known, nothing done yet",
        "acted" => "acted on, a lead closes it",
        "closed" => "closed",
        _ => "withdrawn: the chart does not raise it any more",
    }
}

/// What fired first, what shift its newest evidence suggests, and how often it was confirmed.
pub(in crate::pages) fn signal_words(signal: &SignalView, zone: &TimeZone) -> String {
    let side = signal.side.as_deref();
    let of_side = |stored: &Option<serde_json::Value>| -> Vec<Firing> {
        let all: Vec<Firing> = stored
            .clone()
            .and_then(|stored| serde_json::from_value(stored).ok())
            .unwrap_or_default();
        all.into_iter().filter(|firing| firing.side.map(|s| s.word()) == side).collect()
    };
    let (own, newest) = (of_side(&signal.firings), of_side(&signal.newest_firings));
    let mut words: Vec<String> = own.iter().map(firing_words).collect();
    if words.is_empty() {
        words.push(format!("{} normal", side.unwrap_or("not")));
    }
    let shift = newest
        .iter()
        .chain(&own)
        .find_map(|firing| shift_words(firing, signal.sigma?, &signal.unit))
        .map_or(String::new(), |shift| format!(": {shift}"));
    let times = match signal.evidence {
        1 => String::new(),
        n => {
            format!("; {n} checks, the last on {}", local_day_time(signal.last_evidence_at.0, zone))
        }
    };
    format!("{}{shift}{times}", words.join("; "))
}

/// Which list.
#[derive(Debug, Default, Deserialize)]
pub struct ListQuery {
    #[serde(default)]
    closed: bool,
}

/// Shows the signals that somebody has to do something about, or those that are closed.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<ListQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let which = if query.closed { Which::Closed } else { Which::AtWork };
    let found = signals::list(&desk.connection, which, MOST).await?;
    let at_work = signals::at_work(&mut desk.connection).await?;
    let hours = signals::reminder_hours(&mut desk.connection).await?;
    let rows = found.iter().map(|signal| row(signal, &desk, hours)).collect();
    let heading = match at_work {
        0 => "none waits for anybody".to_owned(),
        1 => "one is at work".to_owned(),
        n => format!("{n} are at work"),
    };
    let template = SignalsPage {
        shell: Shell::new(&signed, "charts", &desk.here),
        heading,
        closed: query.closed,
        reminder: hours_words(hours),
        rows,
    };
    page(StatusCode::OK, &template)
}

fn hours_words(hours: i32) -> String {
    match hours {
        1 => "an hour".to_owned(),
        h if h % 24 == 0 && h > 24 => format!("{} days", h / 24),
        h => format!("{h} hours"),
    }
}

fn is_forgotten(signal: &SignalView, now: Timestamp, hours: i32) -> bool {
    signal.is_at_work() && now.duration_since(signal.touched_at.0).as_hours() >= i64::from(hours)
}

fn row(signal: &SignalView, desk: &Desk, hours: i32) -> Row {
    let zone = &desk.here.zone;
    Row {
        id: signal.id.0,
        chart: signal.stream_id.0,
        state: if signal.is_at_work() { "signal" } else { "ok" },
        title: format!(
            "{} {}: {}",
            signal.instrument,
            signal.tag,
            crate::pages::chart::lower_first(&signal.label)
        ),
        words: signal_words(signal, zone),
        since: local_day_time(signal.opened_at.0, zone),
        work: signal_state(&signal.state),
        cause: signal.cause.clone().unwrap_or_default(),
        touched: local_day_time(signal.touched_at.0, zone),
        forgotten: is_forgotten(signal, desk.now, hours),
        owner: signal
            .owner
            .as_ref()
            .zip(signal.due_on)
            .map(|(name, day)| format!("{name}, until {}", long_day(day.0))),
        late: signal.is_at_work() && signal.due_on.is_some_and(|day| day.0 < desk.today),
    }
}

/// All signals that are not withdrawn, as a table for other programs.
pub(in crate::pages) async fn table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "signal",
        "instrument",
        "area",
        "characteristic",
        "chart",
        "side",
        "opened_at",
        "last_evidence_at",
        "evidence",
        "state",
        "cause",
        "last_step_at",
        "record",
        "owner",
        "due_on",
    ]);
    for which in [Which::AtWork, Which::Closed] {
        for signal in signals::list(&desk.connection, which, 100_000).await? {
            table.row([
                signal.id.0.into(),
                Cell::from(&signal.tag),
                Cell::from(&signal.area),
                Cell::from(&signal.label),
                signal.stream_id.0.into(),
                signal.side.as_ref().into(),
                signal.opened_at.0.to_string().into(),
                signal.last_evidence_at.0.to_string().into(),
                i64::from(signal.evidence).into(),
                Cell::from(&signal.state),
                signal.cause.as_ref().into(),
                signal.touched_at.0.to_string().into(),
                signal.check_id.map(|id| id.0).into(),
                signal.owner.as_ref().into(),
                signal.due_on.map(|day| day.0.to_string()).into(),
            ]);
        }
    }
    Ok(table)
}

#[derive(Debug, Template)]
#[template(path = "signal.html")]
struct SignalPage {
    shell: Shell,
    row: Row,
    area: String,
    check: Option<i64>,
    range: String,
    steps: Vec<(String, String, String)>,
    causes: Vec<(i64, String)>,
    people: Vec<(i64, String)>,
    may_act: bool,
    may_close: bool,
    closed: bool,
    faults: BTreeMap<String, String>,
    typed: Fields,
}

impl SignalPage {
    fn fault(&self, name: &str) -> Option<&String> {
        self.faults.get(name)
    }

    fn typed(&self, name: &str) -> &str {
        self.typed.get(name)
    }
}

/// Shows one signal.
pub async fn one(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, SignalId(id), Fields::default(), BTreeMap::new()).await
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    id: SignalId,
    typed: Fields,
    faults: BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let signal = signals::by_id(&mut desk.connection, id).await?;
    let hours = signals::reminder_hours(&mut desk.connection).await?;
    let steps = signals::steps(&mut desk.connection, id).await?;
    let causes = signals::causes(&mut desk.connection).await?;
    let everybody = people::all(&mut desk.connection).await?;
    let shell = Shell::new(signed, "charts", &desk.here);
    let zone = &desk.here.zone;
    // The stretch around it, with room before and after.
    let day = |at: Timestamp, days: i64| {
        at.checked_add(jiff::SignedDuration::from_hours(24 * days))
            .unwrap_or(at)
            .to_zoned_datetime(zone.clone())
            .date()
    };
    let (begin, end) = (signal.opened_at.0, signal.last_evidence_at.0);
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let template = SignalPage {
        row: row(&signal, desk, hours),
        area: signal.area.clone(),
        check: signal.check_id.map(|check| check.0),
        range: format!("from={}&to={}", day(begin, -21), day(end, 7)),
        steps: steps
            .into_iter()
            .map(|step| {
                let what = match step.step.as_str() {
                    "acknowledged" => "Seen".to_owned(),
                    "cause_assigned" => {
                        format!("Cause: {}", step.cause.clone().unwrap_or_default())
                    }
                    "acted" => "Done".to_owned(),
                    "closed" => "Closed".to_owned(),
                    "assigned" => "Given to".to_owned(),
                    "came_back" => "Came back: the chart went on signalling".to_owned(),
                    _ => "Opened again".to_owned(),
                };
                let who = step.person.as_deref().unwrap_or("by itself");
                let who = format!("{who}, {}", local_day_time(step.at.0, zone));
                (what, step.words, who)
            })
            .collect(),
        causes: causes
            .into_iter()
            .filter(|cause| cause.retired_at.is_none())
            .map(|cause| (cause.id.0, cause.name))
            .collect(),
        people: everybody
            .into_iter()
            .filter(|one| one.active && matches!(one.role.as_str(), "technician" | "lead"))
            .map(|one| (one.id.0, one.name))
            .collect(),
        may_act: signal.is_at_work() && shell.may_check(),
        may_close: signal.is_at_work() && shell.may_lead(),
        closed: signal.state == "closed",
        shell,
        faults,
        typed,
    };
    page(status, &template)
}

/// Notes a step.
pub async fn step(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let kind = typed.get("step").to_owned();
    if kind == "assign" {
        return assign(&mut desk, &signed, SignalId(id), typed).await;
    }
    let words = match kind.as_str() {
        "seen" => String::new(),
        "cause" => reader.text("cause_words", 1_000),
        "acted" => reader.required("done", 1_000, "Say what was done, or that nothing had to be."),
        "close" => reader.required("closing", 1_000, "Say why it may be closed."),
        "reopen" => reader.required("closing", 1_000, "Say why it is opened again."),
        _ => return Err(WebError::BadForm("step".into())),
    };
    let step = match kind.as_str() {
        "seen" => Step::Acknowledge,
        "cause" => match typed.get("cause").parse::<i64>() {
            Ok(cause) => Step::Cause(CauseId(cause), &words),
            Err(_) => {
                reader.fault("cause", "Choose a cause from the list.");
                Step::Acknowledge
            }
        },
        "acted" => Step::Act(&words),
        other => {
            signed.may_lead()?;
            if other == "close" { Step::Close(&words) } else { Step::Reopen(&words) }
        }
    };
    if !reader.is_fine() {
        let faults = reader.faults;
        return draw(&mut desk, &signed, SignalId(id), typed, faults).await;
    }
    let (person, now) = (signed.person.id, desk.now);
    match signals::take_step(&mut desk.connection, SignalId(id), step, person, now).await? {
        Ok(()) => Ok(Redirect::to(&format!("/signals/{id}")).into_response()),
        Err(refusal) => {
            let faults = BTreeMap::from([("*".to_owned(), sentence(&refusal.to_string()))]);
            draw(&mut desk, &signed, SignalId(id), typed, faults).await
        }
    }
}

/// Gives a signal to somebody, until a day.
async fn assign(
    desk: &mut Desk,
    signed: &SignedIn,
    id: SignalId,
    typed: Fields,
) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let due_on = reader.day("due_on");
    let everybody = people::all(&mut desk.connection).await?;
    let owner = typed.get("owner").parse::<i64>().ok().and_then(|id| {
        everybody.iter().find(|one| {
            one.id.0 == id && one.active && matches!(one.role.as_str(), "technician" | "lead")
        })
    });
    if owner.is_none() {
        reader.fault("owner", "Choose whose it is.");
    }
    match due_on {
        None => reader.fault("due_on", "Say until when, like 2027-03-14."),
        Some(day) if day < desk.today => {
            reader.fault("due_on", "This day is over. Give one from today on.");
        }
        Some(_) => {}
    }
    let (Some(owner), Some(due_on), true) = (owner, due_on, reader.is_fine()) else {
        let faults = reader.faults;
        return draw(desk, signed, id, typed, faults).await;
    };
    let to = (owner.id, owner.name.as_str(), due_on);
    match signals::assign(&mut desk.connection, id, to, signed.person.id, desk.now).await? {
        Ok(()) => Ok(Redirect::to(&format!("/signals/{id}")).into_response()),
        Err(refusal) => {
            let faults = BTreeMap::from([("*".to_owned(), sentence(&refusal.to_string()))]);
            draw(desk, signed, id, typed, faults).await
        }
    }
}

/// With a capital at its beginning and a point at its end.
pub(in crate::pages) fn sentence(text: &str) -> String {
    let mut characters = text.chars();
    let first: String = characters.next().into_iter().flat_map(char::to_uppercase).collect();
    format!("{first}{}.", characters.as_str().trim_end_matches('.'))
}

#[derive(Debug, Template)]
#[template(path = "causes.html")]
struct CausesPage {
    shell: Shell,
    causes: Vec<(i64, String, Option<String>)>,
    hours: String,
    faults: BTreeMap<String, String>,
    typed: Fields,
}

impl CausesPage {
    fn fault(&self, name: &str) -> Option<&String> {
        self.faults.get(name)
    }
}

/// Shows the causes that the site knows, and after how long a signal comes back.
pub async fn causes(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw_causes(&mut desk, &signed, Fields::default(), BTreeMap::new()).await
}

async fn draw_causes(
    desk: &mut Desk,
    signed: &SignedIn,
    typed: Fields,
    faults: BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let found = signals::causes(&mut desk.connection).await?;
    let hours = signals::reminder_hours(&mut desk.connection).await?;
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let hours = match typed.get("hours") {
        "" => hours.to_string(),
        sent => sent.to_owned(),
    };
    let template = CausesPage {
        shell: Shell::new(signed, "charts", &desk.here),
        causes: found
            .into_iter()
            .map(|cause| {
                let retired = cause.retired_at.map(|at| local_day_time(at.0, &desk.here.zone));
                (cause.id.0, cause.name, retired)
            })
            .collect(),
        hours,
        faults,
        typed,
    };
    page(status, &template)
}

/// Adds a cause.
pub async fn add_cause(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let name = reader.required("name", 80, "Name the cause.");
    let (person, now) = (signed.person.id, desk.now);
    if reader.is_fine() && !signals::add_cause(&mut desk.connection, &name, person, now).await? {
        reader.fault("name", "This cause is on the list already.");
    }
    if !reader.is_fine() {
        let faults = reader.faults;
        return draw_causes(&mut desk, &signed, typed, faults).await;
    }
    Ok(Redirect::to("/signal-causes").into_response())
}

/// Takes a cause off the list.
pub async fn retire_cause(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let (person, now) = (signed.person.id, desk.now);
    signals::retire_cause(&mut desk.connection, CauseId(id), person, now).await?;
    Ok(Redirect::to("/signal-causes").into_response())
}

/// Sets after how many hours without a step a signal comes back on the round.
pub async fn set_reminder(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let hours = reader.whole("hours", 1, 2_000);
    if hours.is_none() {
        reader.fault("hours", "Type a whole number from 1 to 2000.");
    }
    let Some(hours) = hours.filter(|_| reader.is_fine()) else {
        let faults = reader.faults;
        return draw_causes(&mut desk, &signed, typed, faults).await;
    };
    let (person, now) = (signed.person.id, desk.now);
    signals::set_reminder_hours(&mut desk.connection, hours, person, now).await?;
    Ok(Redirect::to("/signal-causes").into_response())
}
