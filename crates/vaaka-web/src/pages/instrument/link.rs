//! The line of an instrument: where it is, what it is asked, how its answer is read; tried before it is used.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use vaaka_core::quantity::Unit;
use vaaka_devices::link::{LineEnd, MOST_PATTERN};
use vaaka_devices::{Address, Answer, Link, Way};
use vaaka_store::ids::KeyId;
use vaaka_store::links::{self, LinkFields, LinkRow, Station};
use vaaka_store::rows::Instrument;
use vaaka_store::{StoreError, instruments};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Table, choices, rows_filled};
use crate::forms::PathTag;
use crate::lines::{ToRead, link_of, read_line};
use crate::pages::form::{Form, Tried, whole};
use crate::paths::encode;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Ways of sending of which lines are read.
const LINES: &[&str] = &["asked", "streams", "own_key"];

fn path(tag: &str) -> String {
    format!("/instruments/{}/link", encode(tag))
}

fn unit_columns() -> Vec<(&'static str, &'static str, Look)> {
    let units = Unit::ALL.iter().map(|unit| (unit.symbol(), unit.symbol()));
    vec![
        ("sent", "As sent", Look::Line),
        ("meant", "Means", choices(std::iter::once(("", "")).chain(units))),
    ]
}

fn form(instrument: &Instrument, stations: &[Station], typed: &Fields) -> Form {
    let tag = &instrument.tag;
    let by: Vec<(String, String)> = std::iter::once((String::new(), "this server".to_owned()))
        .chain(stations.iter().map(|one| {
            let ended = if one.ended_at.is_some() { ", whose key has ended" } else { "" };
            (one.id.0.to_string(), format!("the bench PC “{}”{ended}", one.name))
        }))
        .collect();
    let units = Unit::ALL.iter().map(|unit| (unit.symbol(), unit.symbol()));
    let units = choices(std::iter::once(("", "sent in the line")).chain(units));
    let ways = choices(Way::ALL.iter().map(|(_, word, name)| (*word, *name)));
    let ends = choices(LineEnd::ALL.iter().map(|(_, word, name)| (*word, *name)));
    let mut table = Table::new("Unit names", "units", typed, 2, unit_columns);
    table.hint = "Only where the instrument writes a unit differently: “KG” means kg.".into();
    Form {
        intro: "With a connection, each step of a check shows Read: the value goes into the field, and counts once it is kept. Typing goes on working.".into(),
        groups: vec![
            Group::new(
                "Where it is",
                vec![
                    Field::new("in_use", "Use this connection", Look::Tick),
                    Field::new("address", "Address", Look::Line).hint(
                        "Host and port, like “10.20.0.7:4001”, or a serial port, like “/dev/ttyUSB0 9600 8N1”.",
                    ),
                    Field::new("station", "Read by", Look::Choice(by)).hint(
                        "A bench PC reads what is connected to it: run “vaaka link” there with a key of its own.",
                    ),
                ],
            ),
            Group::new(
                "Protocol",
                vec![
                    Field::new("way", "Sends", ways),
                    Field::new("ask", "Query", Look::Line).needs("way", &["asked", "block"])
                        .hint("With \\r and \\n for the line end: “READ?\\n”. Leave it empty where the instrument sends by itself."),
                    Field::new("line_end", "Line end", ends).needs("way", LINES),
                    Field::new("timeout", "Timeout (s)", Look::Number),
                    Field::new("settle", "Settling time (s)", Look::Number).needs("way", &["asked", "streams"])
                        .hint("The display must show the same value for this long; 0 takes the first stable one."),
                ],
            ),
            Group::new(
                "Reading a line",
                vec![
                    Field { most: MOST_PATTERN, ..Field::new("pattern", "Pattern of a whole line", Look::Line) }.needs("way", LINES).hint(
                        "A regular expression: (?<value>[+-]?\\d+\\.\\d+) for the number, (?<unit>\\S+) and (?<stable>…) where they are sent, .* for the rest.",
                    ),
                    Field::new("stable_mark", "Stable when (?<stable>…) is", Look::Line)
                        .needs("way", LINES)
                        .hint("Empty: stable when the group is not empty."),
                    Field::new("unit", "Unit", units).needs("way", LINES),
                ],
            ),
        ],
        tables: vec![table],
        second: Some(("try", "Test")),
        ..Form::new(
            "instruments",
            format!("Connection of {} {tag}", instrument.name),
            path(tag),
            format!("/instruments/{}", encode(tag)),
            "Save",
        )
    }
}

fn seconds(millis: u32) -> String {
    Decimal::new(i64::from(millis), 3).normalize().to_string()
}

fn filled_in(row: &LinkRow, link: &Link) -> Fields {
    let mut typed = Fields::default()
        .with("in_use", if row.in_use { "on" } else { "" })
        .with("address", &row.address)
        .with("station", row.station_id.map_or_else(String::new, |id| id.0.to_string()))
        .with("way", link.way.word())
        .with("ask", &link.ask)
        .with("line_end", link.line_end.word())
        .with("timeout", seconds(link.timeout_ms))
        .with("settle", seconds(link.settle_ms))
        .with("pattern", &link.pattern)
        .with("stable_mark", &link.stable_mark)
        .with("unit", &link.unit);
    for (row, (sent, meant)) in link.units.iter().enumerate() {
        typed = typed
            .with(&format!("units.{row}.sent"), sent)
            .with(&format!("units.{row}.meant"), meant);
    }
    typed
}

/// Milliseconds of a number of seconds; what is no such number is left to the faults of the link.
fn millis(reader: &mut Reader<'_>, name: &str) -> u32 {
    let typed = reader.number(name);
    (typed * Decimal::from(1_000)).round().to_u32().unwrap_or(u32::MAX)
}

/// Reads what was typed, with a fault at each field where something is wrong.
fn read(
    reader: &mut Reader<'_>,
    typed: &Fields,
    stations: &[Station],
) -> (LinkFields, Option<Link>) {
    let address = reader.text("address", 200);
    if let Err(fault) = address.parse::<Address>() {
        reader.fault("address", fault.to_string());
    }
    let station = match typed.get("station") {
        "" => None,
        text => {
            let found = stations.iter().find(|one| one.id.0.to_string() == text);
            match found {
                Some(one) if one.ended_at.is_some() && reader.ticked("in_use") => {
                    reader.fault("station", "The key of this bench PC has ended. Choose another, or let the server read it.");
                }
                None => reader.fault("station", "Choose one of the list."),
                Some(_) => {}
            }
            found.map(|one| one.id)
        }
    };
    let way = reader.choice("way", |word| word.parse::<Way>().ok());
    let line_end = reader.choice("line_end", |word| word.parse::<LineEnd>().ok());
    let mut units: Vec<(String, String)> = Vec::new();
    for row in 0..rows_filled(typed, "units") {
        let (sent, meant) = (format!("units.{row}.sent"), format!("units.{row}.meant"));
        match (reader.text(&sent, 20), reader.text(&meant, 20)) {
            (sent, meant) if sent.is_empty() && meant.is_empty() => {}
            (_, text) if text.is_empty() => reader.fault(&meant, "Choose the unit that it means."),
            (text, _) if text.is_empty() => reader.fault(&sent, "Type the unit as it is sent."),
            (text, _) if units.iter().any(|(known, _)| *known == text) => {
                reader.fault(&sent, "This is here twice.");
            }
            (_, text) if text.parse::<Unit>().is_err() => {
                reader.fault(&meant, "Choose one of the list.")
            }
            pair => units.push(pair),
        }
    }
    let link = way.zip(line_end).map(|(way, line_end)| Link {
        way,
        ask: reader.text("ask", 400),
        line_end,
        pattern: reader.text("pattern", 600),
        stable_mark: reader.text("stable_mark", 40),
        units,
        unit: reader.text("unit", 20),
        timeout_ms: millis(reader, "timeout"),
        settle_ms: millis(reader, "settle"),
    });
    for (field, fault) in link.iter().flat_map(Link::faults) {
        reader.fault(field, fault.to_string());
    }
    let stored = link.as_ref().and_then(|link| serde_json::to_value(link).ok());
    let fields = LinkFields {
        station,
        address,
        link: stored.unwrap_or_default(),
        in_use: reader.ticked("in_use"),
    };
    (fields, link)
}

/// What stands in the form of an instrument that has no line yet.
fn usual() -> Fields {
    Fields::default()
        .with("in_use", "on")
        .with("way", Way::Asked.word())
        .with("line_end", LineEnd::Any.word())
        .with("timeout", "5")
        .with("settle", "0")
}

/// The form.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let row = links::of_instrument(&desk.connection, instrument.id).await?;
    let stations = stations(&mut desk, row.as_ref()).await?;
    let typed = match &row {
        Some(row) => filled_in(row, &link_of(row)?),
        None => usual(),
    };
    let mut shown = form(&instrument, &stations, &typed);
    shown.hidden = vec![seen(row.as_ref())];
    shown.draw(&signed, &desk.here, &typed, &BTreeMap::new())
}

fn seen(row: Option<&LinkRow>) -> (String, String) {
    ("seen".to_owned(), row.map_or(0, |row| row.version).to_string())
}

async fn stations(desk: &mut Desk, row: Option<&LinkRow>) -> Result<Vec<Station>, WebError> {
    let also = row.and_then(|row| row.station_id);
    Ok(links::stations(&mut desk.connection, also).await?)
}

/// Saves what is said of a line, or tries it as it stands in the form.
pub async fn save(
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let row = links::of_instrument(&desk.connection, instrument.id).await?;
    let stations = stations(&mut desk, row.as_ref()).await?;
    let mut shown = form(&instrument, &stations, &typed);
    let known: i32 = typed.get("seen").parse().unwrap_or(0);
    shown.hidden = vec![("seen".to_owned(), known.to_string())];
    if !typed.get("more").is_empty() {
        return shown.draw(&signed, &desk.here, &typed, &BTreeMap::new());
    }
    let mut reader = Reader::of(&typed);
    let (fields, link) = read(&mut reader, &typed, &stations);
    let faults = reader.faults;
    let Some(link) = link.filter(|_| faults.is_empty()) else {
        return shown.draw(&signed, &desk.here, &typed, &faults);
    };
    if !typed.get("try").is_empty() {
        let of = ToRead {
            instrument: instrument.id,
            address: &fields.address,
            link: &link,
            station: fields.station,
            person: signed.person.id,
            check: None,
        };
        let here = desk.here;
        // The connection goes back while the instrument takes its time.
        drop(desk.connection);
        shown.tried = Some(tried(read_line(&state, of).await?));
        return shown.draw(&signed, &here, &typed, &BTreeMap::new());
    }
    let by = desk.by(&signed);
    match links::save(&mut desk.connection, instrument.id, &fields, known, by).await {
        Ok(()) => Ok(Redirect::to("/links").into_response()),
        Err(StoreError::Conflict { constraint }) if constraint == "version" => {
            let words = whole(
                "Somebody else changed this connection in the meantime. Reload the page to see it; what you typed is still here.",
            );
            shown.draw(&signed, &desk.here, &typed, &words)
        }
        Err(other) => Err(other.into()),
    }
}

/// What came of a try, in lines.
fn tried(answer: Result<Answer, String>) -> Tried {
    match answer {
        Err(words) => Tried { came: None, lines: vec![], words },
        Ok(answer) => {
            let came = Some(answer.shown());
            match answer {
                Answer::File { bytes } => Tried {
                    came,
                    lines: vec![("Bytes".into(), bytes.len().to_string())],
                    words: "A trace was received. Whether it has what a step needs is checked at the step.".into(),
                },
                Answer::Number { reading, .. } => {
                    let stands = match reading.stable {
                        Some(true) => "yes",
                        Some(false) => "no",
                        None => "not sent",
                    };
                    Tried {
                        came,
                        lines: vec![
                            ("Value".into(), reading.value.to_string()),
                            ("Unit".into(), reading.unit.unwrap_or_else(|| "none".into())),
                            ("Stable".into(), stands.into()),
                        ],
                        words: "The connection works. This was a test: nothing is saved yet."
                            .into(),
                    }
                }
            }
        }
    }
}

#[derive(Debug, Template)]
#[template(path = "links.html")]
struct LinksPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
    without: Vec<(String, String)>,
    stations: Vec<(String, String)>,
}

#[derive(Debug)]
struct Row {
    tag: String,
    name: String,
    address: String,
    by: String,
    sends: &'static str,
    in_use: bool,
    changed: String,
}

/// Every line, and the bench PCs that read some of them.
pub async fn list(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let zone = desk.here.zone.clone();
    let lines = links::all(&mut desk.connection).await?;
    let every = links::stations(&mut desk.connection, None).await?;
    let mut rows = Vec::new();
    for (row, tag, name) in &lines {
        let link = link_of(row)?;
        let by = match row.station_id {
            None => "this server".to_owned(),
            Some(id) => station_words(&every, id),
        };
        rows.push(Row {
            tag: tag.clone(),
            name: name.clone(),
            address: row.address.clone(),
            by,
            sends: Way::ALL.iter().find(|one| one.0 == link.way).map_or("", |one| one.2),
            in_use: row.in_use,
            changed: local_day_time(row.changed_at.0, &zone),
        });
    }
    let all = instruments::all(&mut desk.connection).await?;
    let without = all
        .into_iter()
        .filter(|(one, _)| {
            one.state != "retired" && lines.iter().all(|(_, tag, _)| *tag != one.tag)
        })
        .map(|(one, _)| (one.tag, one.name))
        .collect();
    let heading = match rows.iter().filter(|row| row.in_use).count() {
        0 => "no instrument is connected".to_owned(),
        1 => "1 instrument is connected".to_owned(),
        n => format!("{n} instruments are connected"),
    };
    let stations = every
        .into_iter()
        .map(|one| {
            let asked = one.asked_at.map_or_else(
                || "not seen yet".to_owned(),
                |at| format!("last seen {}", local_day_time(at.0, &zone)),
            );
            (one.name, asked)
        })
        .collect();
    let shell = Shell::new(&signed, "instruments", &desk.here);
    page(StatusCode::OK, &LinksPage { shell, heading, rows, without, stations })
}

fn station_words(every: &[Station], id: KeyId) -> String {
    every
        .iter()
        .find(|one| one.id == id)
        .map_or_else(|| "a bench PC whose key has ended".to_owned(), |one| one.name.clone())
}
