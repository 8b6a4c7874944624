//! Forms of the register of instruments: what an instrument is, and its set-ups.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use rust_decimal::Decimal;
use vaaka_core::quantity::Unit;
use vaaka_store::ids::AreaId;
use vaaka_store::instrument_changes::{self, InstrumentFields};
use vaaka_store::rows::{Area, Instrument};
use vaaka_store::{Day, StoreError, instruments};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Refusal, Table, choices, rows_filled};
use crate::forms::{PathTag, PathTagId};
use crate::pages::form::{Form, whole};
use crate::paths::encode;
use crate::session::SignedIn;
use crate::state::AppState;

type Faults = BTreeMap<String, String>;

fn path(tag: &str) -> String {
    format!("/instruments/{}", encode(tag))
}

fn configuration_columns() -> Vec<(&'static str, &'static str, Look)> {
    vec![("name", "What", Look::Line), ("value", "Value", Look::Number)]
}

async fn form(desk: &mut Desk, tag: Option<&str>, typed: &Fields) -> Result<Form, WebError> {
    let areas: Vec<(String, String)> = instrument_changes::all_areas(&mut desk.connection)
        .await?
        .into_iter()
        .map(|area| (area.id.0.to_string(), area.name))
        .collect();
    let units: Vec<(&str, &str)> =
        Unit::ALL.iter().map(|unit| (unit.symbol(), unit.symbol())).collect();
    let (heading, action, back) = match tag {
        Some(tag) => {
            (format!("Change what is said of {tag}"), format!("{}/edit", path(tag)), path(tag))
        }
        None => {
            ("Register an instrument".to_owned(), "/new/instrument".into(), "/instruments".into())
        }
    };
    let mut identity = vec![
        Field::new("name", "Name", Look::Line).hint("As people call it, like “bench scale”."),
        Field::new("family", "Family", Look::Line).hint("Scale, pressure gauge, hardness tester …"),
        Field::new("area", "Area", Look::Choice(areas)),
        Field::new("maker", "Made by", Look::Line),
        Field::new("model", "Model", Look::Line),
        Field::new("serial", "Serial number", Look::Line),
        Field::new("calibrated_until", "Its own calibration holds until", Look::Day)
            .hint("The last day; empty where it has none. It is told from 30 days before."),
        Field::new("owner", "Belongs to", Look::Line),
    ];
    if tag.is_none() {
        identity.insert(
            0,
            Field::new("tag", "Tag", Look::Line).hint("As on its label; it stays for good."),
        );
    }
    let mut table = Table::new(
        "Configuration that limits are computed from",
        "configuration",
        typed,
        3,
        configuration_columns,
    );
    table.hint =
        "For example “modules” and 3. A plan may then say “0.3 bar + 0.2 bar for each module”."
            .into();
    Ok(Form {
        intro: match tag {
            Some(_) => "A change of display, range or configuration asks for a new version of each plan before the next check: numbers would mean something else.".into(),
            None => "It begins on hold: a plan, its first good check, and a lead take it into service.".into(),
        },
        groups: vec![
            Group::new("What it is", identity),
            Group::new(
                "What it shows",
                vec![
                    Field::new("unit", "Unit", choices(units)),
                    Field::new("resolution", "Step of the display", Look::Number),
                    Field::new("range_low", "Range from", Look::Number),
                    Field::new("maximum", "Range to", Look::Number),
                    Field::new("work_low", "Used from", Look::Number)
                        .hint("Where the work is; the whole range when left empty."),
                    Field::new("work_high", "Used to", Look::Number),
                ],
            ),
            Group::new(
                "Inside, and what it may be used for",
                vec![
                    Field::new("firmware", "Program version", Look::Line),
                    Field::new("calibration_file", "Calibration file, with its version", Look::Line),
                    Field::new("adjustable", "It can be adjusted", Look::Tick),
                    Field::new("sealed", "Legal for trade and sealed: authorised people only", Look::Tick),
                    Field::new("critical", "An error would be grave", Look::Tick),
                ],
            ),
        ],
        tables: vec![table],
        ..Form::new("instruments", heading, action, back, if tag.is_some() { "Save" } else { "Register it" })
    })
}

/// Reads what is said of an instrument, from a form or from a line of a table.
pub(in crate::pages) fn read(
    areas: &[Area],
    reader: &mut Reader<'_>,
    typed: &Fields,
) -> InstrumentFields {
    let area = reader.choice("area", |id| areas.iter().find(|area| area.id.0.to_string() == id));
    let unit = reader.choice("unit", |word| word.parse::<Unit>().ok());
    let resolution = reader.number("resolution");
    if resolution <= Decimal::ZERO {
        reader.fault("resolution", "The step of a display is greater than zero.");
    }
    let (range_low, maximum) = (reader.number("range_low"), reader.number("maximum"));
    if maximum <= range_low {
        reader.fault("maximum", "The range ends above where it begins.");
    }
    if maximum <= Decimal::ZERO {
        reader.fault("maximum", "The upper end is greater than zero.");
    }
    let (work_low, work_high) = (reader.decimal("work_low"), reader.decimal("work_high"));
    match (work_low, work_high) {
        (Some(low), Some(high)) if low >= high => {
            reader.fault("work_high", "The work ends above where it begins.");
        }
        (Some(low), Some(high)) if low < range_low || high > maximum => {
            reader.fault("work_low", "The work lies inside the range of the instrument.");
        }
        (Some(_), None) => reader.fault("work_high", "Give both ends of the work, or none."),
        (None, Some(_)) => reader.fault("work_low", "Give both ends of the work, or none."),
        _ => {}
    }
    let (mut names, mut values): (Vec<String>, Vec<Decimal>) = (vec![], vec![]);
    for row in 0..rows_filled(typed, "configuration") {
        let (name, value) =
            (format!("configuration.{row}.name"), format!("configuration.{row}.value"));
        if typed.get(&name).is_empty() && typed.get(&value).is_empty() {
            continue;
        }
        let what = reader.required(&name, 40, "Name it.");
        if names.iter().any(|known| known.eq_ignore_ascii_case(&what)) {
            reader.fault(&name, "This name is here twice.");
        }
        names.push(what);
        values.push(reader.number(&value));
    }
    InstrumentFields {
        name: reader.required("name", 120, "Give it a name."),
        area_id: area.map_or(AreaId(0), |area| area.id),
        family: reader.text("family", 60),
        unit: unit.map_or_else(String::new, |unit| unit.symbol().to_owned()),
        resolution,
        range_low,
        maximum,
        work_low,
        work_high,
        serial: reader.required("serial", 60, "Give its serial number, or say “none”."),
        owner: reader.text("owner", 120),
        firmware: reader.text("firmware", 60),
        calibration_file: reader.text("calibration_file", 120),
        configuration_names: names,
        configuration_values: values,
        adjustable: reader.ticked("adjustable"),
        sealed: reader.ticked("sealed"),
        critical: reader.ticked("critical"),
        maker: reader.text("maker", 80),
        model: reader.text("model", 80),
        calibrated_until: reader.day("calibrated_until").map(Day),
    }
}

/// The form for a new instrument.
pub async fn new(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let typed = Fields::default().with("range_low", "0").with("adjustable", "on");
    form(&mut desk, None, &typed).await?.draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Registers an instrument.
pub async fn create(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let shown = form(&mut desk, None, &typed).await?;
    if !typed.get("more").is_empty() {
        return shown.draw(&signed, &desk.here, &typed, &Faults::new());
    }
    let areas = instrument_changes::all_areas(&mut desk.connection).await?;
    let mut reader = Reader::of(&typed);
    let tag = reader.tag("tag");
    let fields = read(&areas, &mut reader, &typed);
    if !reader.is_fine() {
        return shown.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let by = desk.by(&signed);
    match instrument_changes::register(&mut desk.connection, &tag, &fields, by).await {
        Ok(_) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(StoreError::Conflict { .. }) => {
            reader.fault(
                "tag",
                format!("{tag} is in the register already. Give this one another tag."),
            );
            shown.draw(&signed, &desk.here, &typed, &reader.faults)
        }
        Err(other) => Err(other.into()),
    }
}

fn filled_in(instrument: &Instrument) -> Fields {
    let on = |flag: bool| if flag { "on" } else { "" };
    let or_empty =
        |value: Option<Decimal>| value.map_or_else(String::new, |value| value.to_string());
    let mut typed = Fields::default()
        .with("name", &instrument.name)
        .with("family", &instrument.family)
        .with("area", instrument.area_id.0.to_string())
        .with("unit", &instrument.unit)
        .with("resolution", instrument.resolution.to_string())
        .with("range_low", instrument.range_low.to_string())
        .with("maximum", instrument.maximum.to_string())
        .with("work_low", or_empty(instrument.work_low))
        .with("work_high", or_empty(instrument.work_high))
        .with("serial", &instrument.serial)
        .with("maker", &instrument.maker)
        .with("model", &instrument.model)
        .with(
            "calibrated_until",
            instrument.calibrated_until.map_or_else(String::new, |day| day.0.to_string()),
        )
        .with("owner", &instrument.owner)
        .with("firmware", &instrument.firmware)
        .with("calibration_file", &instrument.calibration_file)
        .with("adjustable", on(instrument.adjustable))
        .with("sealed", on(instrument.sealed))
        .with("critical", on(instrument.critical));
    let pairs = instrument.configuration_names.iter().zip(&instrument.configuration_values);
    for (row, (name, value)) in pairs.enumerate() {
        typed = typed
            .with(&format!("configuration.{row}.name"), name)
            .with(&format!("configuration.{row}.value"), value.to_string());
    }
    typed
}

/// The form that changes an instrument.
pub async fn edit(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let typed = filled_in(&instrument);
    let mut shown = form(&mut desk, Some(&tag), &typed).await?;
    shown.hidden = vec![("version".into(), instrument.version.to_string())];
    shown.draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Changes an instrument.
pub async fn save(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let mut shown = form(&mut desk, Some(&tag), &typed).await?;
    if !typed.get("more").is_empty() {
        shown.hidden = vec![("version".into(), typed.get("version").to_owned())];
        return shown.draw(&signed, &desk.here, &typed, &Faults::new());
    }
    shown.hidden = vec![("version".into(), instrument.version.to_string())];
    let areas = instrument_changes::all_areas(&mut desk.connection).await?;
    let mut reader = Reader::of(&typed);
    let fields = read(&areas, &mut reader, &typed);
    if !reader.is_fine() {
        return shown.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let seen = typed.get("version").parse().unwrap_or(0);
    let by = desk.by(&signed);
    match instrument_changes::edit(&mut desk.connection, instrument.id, seen, &fields, by).await {
        Ok(()) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(StoreError::Conflict { .. }) => shown.draw(
            &signed,
            &desk.here,
            &typed,
            &whole("Somebody changed this instrument a moment ago. What you typed is here: look at it again, then save."),
        ),
        Err(other) => Err(other.into()),
    }
}

/// Adds a set-up.
pub async fn add_set_up(
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let mut reader = Reader::of(&typed);
    let parts = [reader.text("probe", 60), reader.text("scale", 60), reader.text("material", 60)];
    let [probe, scale, material] = &parts;
    let name: Vec<&str> =
        parts.iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
    let name = name.join(", ");
    let by = desk.by(&signed);
    let faults = std::mem::take(&mut reader.faults);
    let field = ["probe", "scale", "material"].into_iter().find(|name| faults.contains_key(*name));
    let field = field.unwrap_or("probe");
    let words = match (faults.into_values().next(), name.is_empty()) {
        (Some(words), _) => words,
        (None, true) => "Name the probe, the scale or the material at least.".to_owned(),
        (None, false) => {
            let parts = [name.as_str(), probe, scale, material];
            match instrument_changes::add_set_up(&mut desk.connection, &instrument, parts, by).await
            {
                Ok(_) => return Ok(Redirect::to(&path(&tag)).into_response()),
                Err(StoreError::Conflict { .. }) => "This set-up is here already.".to_owned(),
                Err(other) => return Err(other.into()),
            }
        }
    };
    let refusal = Refusal::of("set-ups", field, typed, words);
    crate::pages::instrument::refused(&state, &mut desk.connection, &signed, &tag, refusal).await
}

/// Takes a set-up out of use, or back into it.
pub async fn change_set_up(
    PathTagId(tag, id): PathTagId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let set_ups = instruments::set_ups(&mut desk.connection, instrument.id).await?;
    let found = set_ups.into_iter().find(|set_up| set_up.id.0 == id).ok_or(WebError::NotFound)?;
    let by = desk.by(&signed);
    let in_use = typed.get("in_use") == "yes";
    instrument_changes::set_up_in_use(&mut desk.connection, &found, in_use, by).await?;
    Ok(Redirect::to(&path(&tag)).into_response())
}
