//! What is done with a standard: opened, struck off, held, retired, crossed over, found wrong.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::Date;
use rust_decimal::Decimal;
use serde::Deserialize;
use vaaka_core::quantity::{TypedDecimal, Unit, to_f64};
use vaaka_core::standard::{MINIMUM_CROSSOVER_PAIRS, crossover};
use vaaka_store::ids::{CertificateId, CrossoverId, LookBackId, LotId};
use vaaka_store::rows::{CrossoverRow, LookBack, StandardUse};
use vaaka_store::{At, StoreError, instruments, registers, standard_changes, standards};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Refusal, Table, rows_filled};
use crate::forms::{Asked, PathId, PathTag, PathTagId};
use crate::pages::form::Form;
use crate::pages::standard::list::refused;
use crate::paths::encode;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time, long_day};

fn path(tag: &str) -> String {
    format!("/standards/{}", encode(tag))
}

/// Changes the state. Anybody may put a standard on hold; the rest is for a lead, and a standard
/// is retired after its closing calibration only.
pub async fn change_state(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let mut record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let mut reader = Reader::of(&typed);
    let reason = reader.text("reason", 200);
    let to = typed.get("to");
    let known = ["in_use", "on_hold", "retired"].into_iter().find(|known| *known == to);
    let last = closing_calibration_lacks(&record, &desk);
    let long = reader.faults.remove("reason");
    let about_reason = long.is_some() || reason.is_empty();
    let refusal = match known {
        _ if long.is_some() => long,
        None => Some("Choose the new state.".to_owned()),
        _ if reason.is_empty() => {
            Some("Say in a few words why; it stays on record with your name.".into())
        }
        Some("in_use" | "retired") if signed.person.role != "lead" => Some(
            "Anybody may put a standard on hold; the rest is for a lead. Put it on hold and tell your lead.".into(),
        ),
        _ if record.standard.state == "retired" => {
            Some("A retired standard stays retired. Register it anew if it comes back.".into())
        }
        Some("retired") => last,
        Some(_) => None,
    };
    if let Some(words) = refusal {
        let field = if about_reason { "reason" } else { "to" };
        let refusal = Refusal::of("state", field, typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    }
    record.standard.version = typed.get("version").parse().unwrap_or(0);
    let by = desk.by(&signed);
    let done =
        standard_changes::change_state(&mut desk.connection, &record.standard, to, &reason, by);
    match done.await {
        Ok(()) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "Somebody changed this standard a moment ago. Look at its state, then decide again.";
            let refusal = Refusal::of("state", "to", typed, words);
            refused(&mut desk, &signed, &tag, refusal).await
        }
        Err(other) => Err(other.into()),
    }
}

/// What keeps a standard from being retired: its closing calibration, a certificate "certified
/// anew" that was issued within the last 31 days. What is used up instead of calibrated again
/// (blocks, single-use stock) needs none.
fn closing_calibration_lacks(record: &standards::Record, desk: &Desk) -> Option<String> {
    let paper = record.certificate.as_ref()?;
    let recent = paper.change == "recertified"
        && desk
            .today
            .since(paper.issued_on.0)
            .is_ok_and(|span| (0..=31).contains(&span.get_days()));
    let expendable = record.lot.as_ref().is_some_and(|lot| lot.use_kind.is_some());
    (!recent && !expendable).then(|| {
        "Its last period is not proven yet: send it to its closing calibration, add that certificate as “certified anew”, then retire it within a month of its issue. Until then it can be on hold.".to_owned()
    })
}

/// The lot in use was opened now.
pub async fn open(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let by = desk.by(&signed);
    let Some(lot) = record.lot else {
        let words = "No lot is in use, so none can be opened.";
        return refused(&mut desk, &signed, &tag, Refusal::of("open", "", typed, words)).await;
    };
    match standard_changes::open_lot(&mut desk.connection, record.standard.id, lot.id, by).await {
        Ok(()) | Err(StoreError::NotFound) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(other) => Err(other.into()),
    }
}

/// Strikes uses off by hand.
pub async fn strike_off(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let mut reader = Reader::of(&typed);
    let least = if signed.person.role == "lead" { -10_000 } else { 1 };
    let count = reader.whole("count", least, 10_000).filter(|count| *count != 0);
    let reason = reader.required("reason", 200, "Say what it was used for.");
    let (Some(count), Some(lot), true) = (count, record.lot, reader.is_fine()) else {
        let count = "Say how many were used. To give uses back, a lead types a negative number.";
        let (field, words) = match reader.faults.remove("count") {
            Some(words) => ("count", words),
            None => match reader.faults.remove("reason").filter(|_| !typed.get("count").is_empty())
            {
                Some(words) => ("reason", words),
                None => ("count", count.to_owned()),
            },
        };
        let refusal = Refusal::of("uses", field, typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    };
    let by = desk.by(&signed);
    let row = StandardUse {
        lot_id: lot.id,
        count,
        place_x: None,
        place_y: None,
        check_id: None,
        reason,
        person_id: by.person,
        at: At(by.at),
    };
    standard_changes::strike_off(&mut desk.connection, record.standard.id, row, by).await?;
    Ok(Redirect::to(&path(&tag)).into_response())
}

/// Accepts a certificate of conformance, with a lead's written reason.
pub async fn accept(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let mut reader = Reader::of(&typed);
    let reason = reader.text("reason", 400);
    let paper = record.certificate.filter(|paper| paper.kind == "conformance");
    let Some(paper) = paper else {
        let words = "There is no certificate of conformance to accept.";
        return refused(&mut desk, &signed, &tag, Refusal::of("accept", "", typed, words)).await;
    };
    if let Some(words) = reader.faults.remove("reason") {
        let refusal = Refusal::of("accept", "reason", typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    }
    if reason.chars().count() < 10 {
        let words = "Write out why it may serve as a reference without data: what else vouches for its value, and what it is good enough for.";
        let refusal = Refusal::of("accept", "reason", typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    }
    let by = desk.by(&signed);
    let id: CertificateId = paper.id;
    let accepted = standard_changes::accept_conformance(
        &mut desk.connection,
        record.standard.id,
        id,
        &reason,
        by,
    );
    match accepted.await {
        Ok(()) | Err(StoreError::Conflict { .. }) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(other) => Err(other.into()),
    }
}

/// Puts a waiting lot in use.
pub async fn use_lot(
    PathTagId(tag, lot): PathTagId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let mut reader = Reader::of(&typed);
    let reason = reader.required("reason", 200, "Say in a few words why the new lot takes over.");
    let form = format!("use-{lot}");
    if let Some(words) = reader.faults.remove("reason") {
        let refusal = Refusal::of(form, "reason", typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    }
    let waits =
        vaaka_store::certificate_reviews::waiting_of_lot(&mut desk.connection, LotId(lot)).await?;
    if waits.is_some() {
        let words = "Its certificate waits for a second lead: nothing could be checked with it. That comes first.";
        let refusal = Refusal::of(form, "reason", typed, words);
        return refused(&mut desk, &signed, &tag, refusal).await;
    }
    let by = desk.by(&signed);
    match standard_changes::use_lot(
        &mut desk.connection,
        record.standard.id,
        LotId(lot),
        &reason,
        by,
    )
    .await
    {
        Ok(()) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(StoreError::NotFound) => {
            let words = "This lot is in use already, or was before.";
            refused(&mut desk, &signed, &tag, Refusal::of(form, "reason", typed, words)).await
        }
        Err(other) => Err(other.into()),
    }
}

fn crossover_columns() -> Vec<(&'static str, &'static str, Look)> {
    vec![
        ("old", "Reading of the old lot", Look::Number),
        ("new", "Reading of the new lot", Look::Number),
    ]
}

async fn crossover_form(
    desk: &mut Desk,
    record: &standards::Record,
    typed: &Fields,
) -> Result<Form, WebError> {
    let tag = &record.standard.tag;
    let lots = standards::lots(&mut desk.connection, record.standard.id).await?;
    let waiting: Vec<(String, String)> = lots
        .iter()
        .filter(|lot| lot.in_use_from.is_none())
        .map(|lot| (lot.id.0.to_string(), lot.lot.clone()))
        .collect();
    let benches: Vec<(String, String)> = standards::used_by(&mut desk.connection)
        .await?
        .into_iter()
        .filter(|(standard, _)| *standard == record.standard.id)
        .map(|(_, instrument)| {
            (instrument.tag.clone(), format!("{} {}", instrument.name, instrument.tag))
        })
        .collect();
    let pieces: Vec<(String, String)> =
        record.values.iter().map(|row| (row.piece.clone(), row.piece.clone())).collect();
    let spare = MINIMUM_CROSSOVER_PAIRS.saturating_sub(rows_filled(typed, "pairs")).max(2);
    let mut table = Table::new(
        "Readings in turn: old, new, old, new …",
        "pairs",
        typed,
        spare,
        crossover_columns,
    );
    table.hint = format!(
        "At least {MINIMUM_CROSSOVER_PAIRS} pairs on one instrument, one right after the other, so that what drifts meanwhile falls out."
    );
    Ok(Form {
        intro: "Before a new lot takes over, both are read in turn on one instrument. The offset that is found, once a lead accepts it, carries the level of the charts over.".into(),
        groups: vec![Group::new(
            "",
            vec![
                Field::new("lot", "New lot", Look::Choice(waiting)),
                Field::new("instrument", "Instrument", Look::Choice(benches)),
                Field::new("piece", "Piece", Look::Choice(pieces)),
            ],
        )],
        tables: vec![table],
        ..Form::new(
            "standards",
            format!("Crossover of {tag} to a new lot"),
            format!("{}/crossover", path(tag)),
            path(tag),
            "Keep it",
        )
    })
}

/// The form of a crossover.
pub async fn new_crossover(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let typed = Fields::default();
    let form = crossover_form(&mut desk, &record, &typed).await?;
    form.draw(&signed, &desk.here, &typed, &BTreeMap::new())
}

/// Keeps a crossover.
pub async fn keep_crossover(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let form = crossover_form(&mut desk, &record, &typed).await?;
    if !typed.get("more").is_empty() {
        return form.draw(&signed, &desk.here, &typed, &BTreeMap::new());
    }
    let mut reader = Reader::of(&typed);
    let row = read_crossover(&mut desk, &record, &mut reader, &typed, signed.person.id).await?;
    let Some(row) = row.filter(|_| reader.is_fine()) else {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let by = desk.by(&signed);
    standard_changes::add_crossover(&mut desk.connection, row, by).await?;
    Ok(Redirect::to(&path(&tag)).into_response())
}

async fn read_crossover(
    desk: &mut Desk,
    record: &standards::Record,
    reader: &mut Reader<'_>,
    typed: &Fields,
    person: vaaka_store::ids::PersonId,
) -> Result<Option<CrossoverRow>, WebError> {
    let lots = standards::lots(&mut desk.connection, record.standard.id).await?;
    let new_lot = reader.choice("lot", |id| {
        lots.iter().find(|lot| lot.in_use_from.is_none() && lot.id.0.to_string() == id)
    });
    let piece = typed.get("piece").to_owned();
    let instrument = instruments::by_tag(&mut desk.connection, typed.get("instrument")).await.ok();
    let Some((instrument, _)) = instrument else {
        reader.fault("instrument", "Choose the instrument on which both were read.");
        return Ok(None);
    };
    let (Some(new_lot), Some(old_lot)) = (new_lot, &record.lot) else {
        return Ok(None);
    };
    let papers = standards::certificates(&mut desk.connection, record.standard.id).await?;
    let Some(new_paper) = papers.iter().find(|paper| paper.lot_id == new_lot.id) else {
        return Ok(None);
    };
    let new_pieces = registers::certified_pieces(&mut desk.connection, new_paper.id).await?;
    let old_pieces = registers::pieces(record.values.clone())?;
    let value = |pieces: &[vaaka_core::standard::CertifiedPiece], unit: Unit| {
        let found = pieces.iter().find(|known| known.tag == piece)?;
        Some((found.unit.try_convert(found.certified_value, unit).ok()?, found.nominal))
    };
    let unit: Unit = instrument.unit.parse().map_err(|_| WebError::Inner("unit".into()))?;
    let (Some((old_value, nominal)), Some((new_value, _))) =
        (value(&old_pieces, unit), value(&new_pieces, unit))
    else {
        reader.fault("piece", "Both lots need a certified value of this piece, in a unit that the instrument measures.");
        return Ok(None);
    };
    let (mut old, mut new): (Vec<Decimal>, Vec<Decimal>) = (vec![], vec![]);
    for row in 0..rows_filled(typed, "pairs") {
        let mut read = |key: &str, value: Decimal| {
            let name = format!("pairs.{row}.{key}");
            match TypedDecimal::parse(typed.get(&name)) {
                Ok(number) => Some(number.value - value),
                Err(error) => {
                    reader.fault(&name, error.to_string());
                    None
                }
            }
        };
        let pair = (read("old", old_value), read("new", new_value));
        if let (Some(a), Some(b)) = pair {
            old.push(a);
            new.push(b);
        }
    }
    let floats = |values: &[Decimal]| values.iter().map(|value| to_f64(*value)).collect::<Vec<_>>();
    let found = match crossover(&floats(&old), &floats(&new)) {
        Ok(found) => found,
        Err(_) => {
            reader.fault(
                "pairs",
                format!(
                    "At least {MINIMUM_CROSSOVER_PAIRS} pairs are needed; {} are here.",
                    old.len()
                ),
            );
            return Ok(None);
        }
    };
    let of_piece = record.values.iter().find(|row| row.piece == piece);
    let nominal = of_piece
        .and_then(|row| row.unit.parse::<Unit>().ok()?.try_convert(nominal, unit).ok())
        .unwrap_or(nominal);
    Ok(Some(CrossoverRow {
        standard_id: record.standard.id,
        old_lot_id: old_lot.id,
        new_lot_id: new_lot.id,
        instrument_id: instrument.id,
        nominal,
        unit: unit.symbol().to_owned(),
        old_errors: old,
        new_errors: new,
        offset_found: found.offset,
        expanded_uncertainty: found.expanded_uncertainty,
        person_id: person,
        at: At(desk.now),
        accepted_by: None,
        accepted_at: None,
    }))
}

/// A lead accepts a crossover.
pub async fn accept_crossover(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let by = desk.by(&signed);
    let accepted =
        standard_changes::accept_crossover(&mut desk.connection, CrossoverId(id), by).await;
    match accepted {
        Ok(_) | Err(StoreError::NotFound) => {
            let tag = crate::paths::local_path(typed.get("back"));
            Ok(Redirect::to(&tag).into_response())
        }
        Err(other) => Err(other.into()),
    }
}

fn wrong_form(tag: &str) -> Form {
    Form {
        intro: "Everything that rested on it since it was last known to be right is listed for a look-back, and the standard goes on hold.".into(),
        groups: vec![Group::new(
            "",
            vec![
                Field::new("finding", "What was found", Look::Lines)
                    .hint("With numbers: what it should be, what it was, by whose measurement."),
                Field::new("from", "Right until", Look::Day)
                    .hint("The last day on which it was proven: its calibration before, as a rule."),
            ],
        )],
        ..Form::new("standards", format!("{tag} was found wrong"), format!("{}/wrong", path(tag)), path(tag), "Open the look-back")
    }
}

/// Since when a standard is thought to be wrong.
#[derive(Debug, Default, Deserialize)]
pub struct WrongSince {
    #[serde(default)]
    from: String,
}

/// The form for a standard that was found wrong.
pub async fn new_wrong(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Asked(since): Asked<WrongSince>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    // Since its certificate began, or since the earliest moment at which a change of it is told to have begun.
    let told = since.from.parse::<Date>().ok().filter(|day| *day <= desk.today);
    let from = told
        .or(record.certificate.map(|paper| paper.valid_from.0))
        .map_or_else(String::new, |day| day.to_string());
    wrong_form(&tag).draw(
        &signed,
        &desk.here,
        &Fields::default().with("from", from),
        &BTreeMap::new(),
    )
}

/// Opens the look-back over what rested on a standard that was found wrong.
pub async fn found_wrong(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let mut reader = Reader::of(&typed);
    let finding = reader.required("finding", 1_000, "Say what was found, with its numbers.");
    let from = reader.required_day("from");
    if from > desk.today {
        reader.fault("from", "That day is still to come.");
    }
    let Some(paper) = record.certificate.filter(|_| reader.is_fine()) else {
        if reader.is_fine() {
            reader.fault("*", "It has no certificate in use, so nothing rested on it.");
        }
        return wrong_form(&tag).draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let suspect_from = from
        .to_zoned_datetime(desk.here.zone.clone())
        .map_err(|error| WebError::Inner(error.to_string()))?
        .timestamp();
    let by = desk.by(&signed);
    let row = LookBack {
        standard_id: record.standard.id,
        certificate_id: paper.id,
        suspect_from: At(suspect_from),
        suspect_until: At(desk.now),
        finding,
        opened_by: by.person,
        opened_at: At(by.at),
        closed_by: None,
        closed_at: None,
        conclusion: None,
    };
    match standard_changes::found_wrong(&mut desk.connection, &record.standard, row, by).await {
        Ok(id) => Ok(Redirect::to(&format!("/look-backs/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "Somebody changed this standard a moment ago, perhaps for the same reason. Look at its page; if that is another finding, send this again.";
            let faults = BTreeMap::from([("*".to_owned(), words.to_owned())]);
            wrong_form(&tag).draw(&signed, &desk.here, &typed, &faults)
        }
        Err(other) => Err(other.into()),
    }
}

#[derive(Debug, Template)]
#[template(path = "look_back.html")]
struct LookBackPage {
    shell: Shell,
    id: i64,
    tag: String,
    finding: String,
    span: String,
    instruments: Vec<Touched>,
    checks: usize,
    conclusion: Option<String>,
    error: Option<String>,
    typed: String,
}

#[derive(Debug)]
struct Touched {
    tag: String,
    name: String,
    count: usize,
    failed: usize,
    first: (i64, String),
    last: (i64, String),
}

/// Shows a look-back: every check and instrument that rested on the standard.
pub async fn look_back(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let shown = draw_look_back(&mut desk, &signed, id, None, "").await?;
    page(StatusCode::OK, &shown)
}

async fn draw_look_back(
    desk: &mut Desk,
    signed: &SignedIn,
    id: i64,
    error: Option<String>,
    typed: &str,
) -> Result<LookBackPage, WebError> {
    let all = standards::look_backs_of(&mut desk.connection, None).await?;
    let (_, row) = all.into_iter().find(|(known, _)| known.0 == id).ok_or(WebError::NotFound)?;
    let records = standards::all(&mut desk.connection, desk.today).await?;
    let record = records.into_iter().find(|record| record.standard.id == row.standard_id);
    let rested = standards::rested_on(
        &mut desk.connection,
        row.certificate_id,
        row.suspect_from,
        row.suspect_until,
    )
    .await?;
    let mut instruments: Vec<Touched> = Vec::new();
    for check in &rested {
        let at = (check.check_id.0, local_day_time(check.at.0, &desk.here.zone));
        let failed = usize::from(check.conforms == "fail");
        match instruments.iter_mut().find(|known| known.tag == check.tag) {
            Some(known) => {
                known.count += 1;
                known.failed += failed;
                known.last = at;
            }
            None => instruments.push(Touched {
                tag: check.tag.clone(),
                name: check.name.clone(),
                count: 1,
                failed,
                first: at.clone(),
                last: at,
            }),
        }
    }
    let zone = &desk.here.zone;
    let day = |at: At| long_day(at.0.to_zoned_datetime(zone.clone()).date());
    Ok(LookBackPage {
        shell: Shell::new(signed, "standards", &desk.here),
        id,
        tag: record.map(|record| record.standard.tag).unwrap_or_default(),
        finding: row.finding,
        span: format!("{} to {}", day(row.suspect_from), day(row.suspect_until)),
        checks: rested.len(),
        instruments,
        conclusion: row.conclusion,
        error,
        typed: typed.to_owned(),
    })
}

/// Closes a look-back with what came of it.
pub async fn close_look_back(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let conclusion = reader.required(
        "conclusion",
        2_000,
        "Say what came of it: which instruments and products are still good, and why.",
    );
    if let Some(words) = reader.faults.into_values().next() {
        let shown =
            draw_look_back(&mut desk, &signed, id, Some(words), typed.get("conclusion")).await?;
        return page(StatusCode::UNPROCESSABLE_ENTITY, &shown);
    }
    let by = desk.by(&signed);
    match standard_changes::close_look_back(&mut desk.connection, LookBackId(id), &conclusion, by)
        .await
    {
        Ok(_) | Err(StoreError::NotFound) => {
            Ok(Redirect::to(&format!("/look-backs/{id}")).into_response())
        }
        Err(other) => Err(other.into()),
    }
}
