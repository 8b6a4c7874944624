//! The calendar of the site: shifts with their days, and holidays.

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::{Date, Time};
use vaaka_store::calendar::{self, Start};
use vaaka_store::{WallTime, people, shifts};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Table, rows_filled};
use crate::pages::form::Form;
use crate::session::SignedIn;
use crate::state::AppState;

const DAYS: [(&str, &str); 7] = [
    ("mon", "Mon"),
    ("tue", "Tue"),
    ("wed", "Wed"),
    ("thu", "Thu"),
    ("fri", "Fri"),
    ("sat", "Sat"),
    ("sun", "Sun"),
];

fn form(zone: &str, typed: &Fields) -> Form {
    let mut starts = Table::new("Shifts, in the order of the day", "starts", typed, 1, || {
        let mut columns = vec![("label", "Name", Look::Line), ("at", "Begins at", Look::Line)];
        columns.extend(DAYS.map(|(key, words)| (key, words, Look::Tick)));
        columns
    });
    starts.hint = format!(
        "Times of the clock on the wall ({zone}), like 06:00. Each shift lasts until the next one begins; a ticked day is one on which it works. A night belongs to the day on which it begins."
    );
    let mut days = Table::new("Holidays", "holidays", typed, 2, || {
        vec![("day", "Day", Look::Day), ("name", "Name", Look::Line)]
    });
    days.hint = "Nothing is due by the calendar, and nothing is missed, in shifts that begin on these days.".into();
    let mut form =
        Form::new("people", "Calendar of the site", "/calendar", "/people", "Save the calendar");
    form.intro = "Shifts that were, and the one that runs, stay as they were. What is changed here holds from the next shift on.".into();
    form.tables = vec![starts, days];
    form.groups = vec![
        Group::new("", vec![]),
        Group::new(
            "Second pair of eyes",
            vec![Field::new(
                "one_lead",
                "This site has one lead: what a second one would countersign is decided alone, and says “not countersigned”",
                Look::Tick,
            )],
        ),
    ];
    form.tables_after = 1;
    form
}

/// Shows the calendar.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let site = shifts::site(&desk.connection).await?;
    let mut typed = Fields::default();
    for (row, start) in calendar::starts(&mut desk.connection, site.id).await?.iter().enumerate() {
        let name = |key: &str| format!("starts.{row}.{key}");
        typed = typed
            .with(&name("label"), &start.label)
            .with(&name("at"), start.at.0.strftime("%H:%M").to_string());
        for ((key, _), works) in DAYS.iter().zip(&start.days) {
            typed = typed.with(&name(key), if *works { "on" } else { "" });
        }
    }
    let days = calendar::holidays_of(&mut desk.connection, site.id).await?;
    for (row, (day, words)) in days.iter().enumerate() {
        typed = typed
            .with(&format!("holidays.{row}.day"), day.to_string())
            .with(&format!("holidays.{row}.name"), words);
    }
    if calendar::says_one_lead(&mut desk.connection, site.id).await? {
        typed = typed.with("one_lead", "on");
    }
    form(&site.zone, &typed).draw(&signed, &desk.here, &typed, &Default::default())
}

/// Saves it, or shows it again with what was typed.
pub async fn save(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let site = shifts::site(&desk.connection).await?;
    let mut reader = Reader::of(&typed);
    let starts = read_starts(&mut reader, &typed);
    let days = read_holidays(&mut reader, &typed);
    let one_lead = reader.ticked("one_lead");
    let leads = people::all(&mut desk.connection).await?;
    let leads = leads.iter().filter(|person| person.active && person.role == "lead").count();
    if one_lead && leads > 1 {
        reader.fault(
            "one_lead",
            format!("The register has {leads} leads who work here: one of them countersigns what another decides."),
        );
    }
    if !typed.get("more").is_empty() || !reader.is_fine() {
        let faults = if typed.get("more").is_empty() { reader.faults } else { Default::default() };
        return form(&site.zone, &typed).draw(&signed, &desk.here, &typed, &faults);
    }
    let by = desk.by(&signed);
    calendar::write(&mut desk.connection, site.id, &starts, &days, one_lead, by).await?;
    Ok(Redirect::to("/calendar").into_response())
}

fn read_starts(reader: &mut Reader<'_>, typed: &Fields) -> Vec<Start> {
    let mut found: Vec<Start> = Vec::new();
    for row in 0..rows_filled(typed, "starts") {
        let name = |key: &str| format!("starts.{row}.{key}");
        if typed.get(&name("label")).is_empty() && typed.get(&name("at")).is_empty() {
            continue;
        }
        let label = reader.required(&name("label"), 30, "Name the shift.");
        let at = reader.required(&name("at"), 5, "Say when it begins.");
        let time = match at.split_once([':', '.']) {
            Some((hour, minute)) => hour
                .parse::<i8>()
                .ok()
                .zip(minute.parse::<i8>().ok())
                .and_then(|(hour, minute)| Time::new(hour, minute, 0, 0).ok()),
            None => None,
        };
        let Some(time) = time else {
            reader.fault(&name("at"), "Type a time as hours and minutes, for example 06:00.");
            continue;
        };
        if found.last().is_some_and(|last| last.at.0 >= time) {
            reader.fault(
                &name("at"),
                "Shifts stand in the order of the day, each after the one before.",
            );
        }
        let days = DAYS.iter().map(|(key, _)| reader.ticked(&name(key))).collect();
        found.push(Start { label, at: WallTime(time), days });
    }
    if found.is_empty() {
        reader.fault("starts", "A site has one shift at least.");
    }
    found
}

fn read_holidays(reader: &mut Reader<'_>, typed: &Fields) -> Vec<(Date, String)> {
    let mut found: Vec<(Date, String)> = Vec::new();
    for row in 0..rows_filled(typed, "holidays") {
        let name = |key: &str| format!("holidays.{row}.{key}");
        if typed.get(&name("day")).is_empty() && typed.get(&name("name")).is_empty() {
            continue;
        }
        let day = reader.required_day(&name("day"));
        let words = reader.required(&name("name"), 60, "Say which day this is.");
        if found.iter().any(|(known, _)| *known == day) {
            reader.fault(&name("day"), "This day is here twice.");
        }
        found.push((day, words));
    }
    found
}
