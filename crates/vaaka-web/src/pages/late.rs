//! A check from paper: the sheet that is printed from a plan, and its entering later, marked so.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::DateTime;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;
use vaaka_core::method::{Entry, Input, Proposal, Purpose, RunState, Step, accept, by_key};
use vaaka_core::round::due_of;
use vaaka_core::standard::{StandardFacts, check_tag};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::ids::{CertificateId, PlanVersionId};
use vaaka_store::paper::{self, PaperEntry};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::standards::{self, Record};
use vaaka_store::{StoreError, shifts};

use super::check_start::{may_run, standards_for, wanted};
use super::form::{Form, whole};
use super::plans::{PreviewStep, preview, spec_of};
use super::{Shell, page};
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader};
use crate::forms::{PathId, new_key};
use crate::session::SignedIn;
use crate::state::AppState;

const IN_HAND: &str = "A check by this plan is open on the screen. Finish or void that one first.";

/// A sheet from longer ago than this is no evidence of its time any more.
const LATEST_DAYS: i64 = 14;

#[derive(Debug, Template)]
#[template(path = "paper_sheet.html")]
struct SheetPage {
    shell: Shell,
    heading: String,
    standard: String,
    steps: Vec<PreviewStep>,
    printed: String,
}

/// The sheet to print: every step with room to write.
pub async fn sheet(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (view, steps) = steps_of(&mut desk, id).await?;
    let template = SheetPage {
        shell: Shell::new(&signed, "plans", &desk.here),
        heading: format!(
            "{} {}: {}, version {}",
            view.instrument.name, view.instrument.tag, view.plan.name, view.version.version
        ),
        standard: view.standard_words(),
        // What happens on the screen only is not on paper.
        steps: steps
            .iter()
            .filter(|step| !matches!(step.input, Input::Review | Input::WaitOver { .. }))
            .map(preview)
            .collect(),
        printed: crate::state::local_day_time(desk.now, &desk.here.zone),
    };
    page(StatusCode::OK, &template)
}

async fn steps_of(desk: &mut Desk, id: i64) -> Result<(PlanView, Vec<Step>), WebError> {
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    if view.version.state != "approved" {
        return Err(WebError::NotNow {
            words: "This version is not in force. Take the sheet of the one that is.".into(),
        });
    }
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let spec = spec_of(&view, points, &all, desk).map_err(|words| WebError::NotNow { words })?;
    let steps = by_key(&view.plan.method_key)?.way(&spec)?;
    Ok((view, steps))
}

fn name_of(step: &Step, repeat: u32) -> String {
    format!("e.{}.{repeat}", step.key)
}

fn late_form(id: i64, view: &PlanView, steps: &[Step], key: Uuid) -> Form {
    let mut measured = Vec::new();
    let mut confirmed = Vec::new();
    for step in steps {
        let label = |repeat: u32| {
            if step.repeats > 1 {
                format!("{}, {repeat} of {}", step.title, step.repeats)
            } else {
                step.title.clone()
            }
        };
        match &step.input {
            Input::Confirm { .. } => {
                confirmed.push(Field::new(
                    name_of(step, 1),
                    format!("{}: every line was ticked", step.title),
                    Look::Tick,
                ));
            }
            Input::Tag { .. } => {
                measured.push(Field::new(
                    name_of(step, 1),
                    format!("{}: tag on it", step.title),
                    Look::Line,
                ));
            }
            Input::Setting { .. } => {
                measured.push(Field::new(
                    name_of(step, 1),
                    format!("What it showed: {}", step.title.to_lowercase()),
                    Look::Line,
                ));
            }
            Input::Condition { name, unit, .. } => {
                measured.push(Field::new(
                    name_of(step, 1),
                    format!("{name}, {unit}"),
                    Look::Number,
                ));
            }
            Input::WaitStart { what, .. } => {
                measured.push(
                    Field::new(name_of(step, 1), format!("{what}: began at"), Look::Line)
                        .hint("Like 22:40."),
                );
            }
            Input::WaitOver { what, .. } => {
                measured.push(
                    Field::new(name_of(step, 1), format!("{what}: went on at"), Look::Line)
                        .hint("Like 22:52."),
                );
            }
            Input::Reading { unit, with_added, .. } => {
                for repeat in 1..=step.repeats {
                    measured.push(Field::new(name_of(step, repeat), label(repeat), Look::Number));
                    if *with_added {
                        measured.push(Field::new(
                            format!("{}.added", name_of(step, repeat)),
                            format!("{}: small weights added, {unit}", label(repeat)),
                            Look::Number,
                        ));
                    }
                }
            }
            Input::Review => {}
        }
    }
    Form {
        intro: format!(
            "{} {}, version {} of the plan. Everything is judged as if it had been typed at the bench, by the times on the sheet; the record says that it came from paper.",
            view.instrument.name, view.instrument.tag, view.version.version
        ),
        groups: vec![
            Group::new(
                "The sheet",
                vec![
                    Field::new("reason", "Why on paper", Look::Line).hint("Like “network down”."),
                    Field::new("by", "Who measured", Look::Line),
                    Field::new("day", "Day", Look::Day),
                    Field::new("began", "Began at", Look::Line)
                        .hint("Like 22:34; the first thing on the sheet."),
                    Field::new("ended", "Ended at", Look::Line)
                        .hint("The times between are spread evenly over the readings."),
                ],
            ),
            Group::new("What was written down", measured),
            Group::new("What was ticked", confirmed),
            Group::new(
                "",
                vec![Field::new(
                    "far",
                    "A reading that lies far from its point is really what stands on the sheet",
                    Look::Tick,
                )],
            ),
        ],
        hidden: vec![("key".into(), key.to_string())],
        ..Form::new(
            "plans",
            format!("Enter from paper: {}", view.plan.name),
            format!("/versions/{id}/late"),
            format!("/plans/{}", view.plan.id),
            "Keep and judge it",
        )
    }
}

/// The form for a check from paper.
pub async fn new(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (view, steps) = steps_of(&mut desk, id).await?;
    may_run(&mut desk, &signed, &view).await?;
    let typed =
        Fields::default().with("by", &signed.person.name).with("day", desk.today.to_string());
    late_form(id, &view, &steps, new_key()).draw(&signed, &desk.here, &typed, &BTreeMap::new())
}

/// A time on the sheet, on its day; one before the beginning is past midnight.
fn time_on(
    reader: &mut Reader<'_>,
    name: &str,
    typed: &str,
    day: jiff::civil::Date,
    desk: &Desk,
) -> Option<Timestamp> {
    let parts: Vec<&str> = typed.split([':', '.']).collect();
    let read = match parts.as_slice() {
        [hour, minute] => hour.trim().parse::<i8>().ok().zip(minute.trim().parse::<i8>().ok()),
        _ => None,
    };
    let time = read.and_then(|(hour, minute)| jiff::civil::Time::new(hour, minute, 0, 0).ok());
    let Some(time) = time else {
        reader.fault(name, "Type a time of the day like 22:34.");
        return None;
    };
    DateTime::from_parts(day, time)
        .to_zoned_datetime(desk.here.zone.clone())
        .ok()
        .map(|zoned| zoned.timestamp())
}

struct Sheet {
    began: Timestamp,
    ended: Timestamp,
    kept: Vec<PaperEntry>,
    /// Certificates of the standards that were in hand.
    certificates: Vec<CertificateId>,
}

/// Keeps a check from paper, all of it or nothing.
pub async fn keep(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (view, steps) = steps_of(&mut desk, id).await?;
    may_run(&mut desk, &signed, &view).await?;
    let key: Uuid = typed.get("key").parse().unwrap_or_else(|_| new_key());
    // Sent twice, it is the same check.
    if let Some(check) = paper::kept_as(&mut desk.connection, key).await? {
        return Ok(Redirect::to(&format!("/checks/{check}/verdict")).into_response());
    }
    let form = late_form(id, &view, &steps, key);
    let mut reader = Reader::of(&typed);
    let reason = reader.required("reason", 120, "Say why it was done on paper.");
    let by = reader.required("by", 120, "Say who measured.");
    let Some(sheet) = read_sheet(&mut desk, &view, &steps, &mut reader, &typed).await? else {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    if !reader.is_fine() {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let site = shifts::site(&desk.connection).await?;
    let shift = shifts::current(&mut desk.connection, &site, sheet.began).await?;
    let runs =
        checks::attempts_before(&mut desk.connection, view.plan.id, shift.id, sheet.ended).await?;
    let open = checks::of_shift(&mut desk.connection, shift.id).await?;
    let refusal = if open.iter().any(|c| c.plan == view.plan.id && c.check.state == "open") {
        Some(IN_HAND)
    } else if !matches!(
        due_of(false, &runs),
        vaaka_core::round::Due::Due | vaaka_core::round::Due::Repeat
    ) {
        Some("This check was done in that shift already, so there is nothing to add.")
    } else {
        None
    };
    if let Some(words) = refusal {
        return form.draw(&signed, &desk.here, &typed, &whole(words));
    }
    let new = NewCheck {
        plan: &view,
        shift: shift.id,
        certificates: sheet.certificates.clone(),
        purpose: Purpose::AsFound,
        person: signed.person.id,
        now: sheet.began,
        key,
        late: Some((&reason, &by)),
    };
    match paper::keep_sheet(&mut desk.connection, &new, &sheet.kept, desk.now).await {
        Ok(check) => Ok(Redirect::to(&format!("/checks/{check}/verdict")).into_response()),
        Err(StoreError::Conflict { .. }) => form.draw(&signed, &desk.here, &typed, &whole(IN_HAND)),
        Err(other) => Err(other.into()),
    }
}

/// Reads the sheet through the same door as live entries: the first that is refused says why at
/// its field.
async fn read_sheet(
    desk: &mut Desk,
    view: &PlanView,
    steps: &[Step],
    reader: &mut Reader<'_>,
    typed: &Fields,
) -> Result<Option<Sheet>, WebError> {
    let day = reader.required_day("day");
    let began = time_on(reader, "began", typed.get("began"), day, desk);
    let ended = time_on(reader, "ended", typed.get("ended"), day, desk);
    let (Some(began), Some(mut ended)) = (began, ended) else { return Ok(None) };
    if ended < began {
        ended += SignedDuration::from_hours(24);
    }
    if ended > desk.now {
        reader.fault("ended", "That is still to come. Look at the day and the times.");
    }
    if desk.now.duration_since(began) > SignedDuration::from_hours(24 * LATEST_DAYS) {
        reader.fault(
            "day",
            format!(
                "A sheet is entered within {LATEST_DAYS} days. Keep the paper and tell your lead."
            ),
        );
    }
    if ended.duration_since(began) > SignedDuration::from_hours(12) {
        reader.fault("ended", "That is more than twelve hours. Look at the times again.");
    }
    if !reader.is_fine() {
        return Ok(None);
    }
    let mut certificates = standards_for(desk, view).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let facts: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let wanted = wanted(view, &points, &all)?;
    let count: u32 = steps.iter().map(|step| step.repeats).sum();
    let share = ended.duration_since(began) / i32::try_from(count.max(1)).unwrap_or(1);
    let mut at = began;
    let mut run = RunState::default();
    let mut kept: Vec<PaperEntry> = Vec::new();
    for step in steps {
        for repeat in 1..=step.repeats {
            let name = name_of(step, repeat);
            let text = typed.get(&name);
            let mut proposal = Proposal {
                typed: text.to_owned(),
                added: typed.get(&format!("{name}.added")).to_owned(),
                ticked: if text.is_empty() { 0 } else { usize::MAX },
                // On paper it was answered once for the sheet.
                confirm_far: reader.ticked("far").then(|| text.to_owned()),
                standard: None,
            };
            match &step.input {
                Input::WaitStart { .. } | Input::WaitOver { .. } => {
                    let Some(mut moment) = time_on(reader, &name, text, day, desk) else {
                        continue;
                    };
                    if moment < began {
                        moment += SignedDuration::from_hours(24);
                    }
                    at = moment;
                }
                Input::Tag { place, any_of_kind, expected } => {
                    let fixed = any_of_kind.is_none().then_some(expected.as_str());
                    if let Some(wanted) = wanted.get(*place) {
                        let judged = check_tag(text, fixed, &facts, wanted.offer(), began, day);
                        if let Ok(found) = &judged {
                            let record = all.iter().find(|record| record.standard.tag == found.tag);
                            if let Some(paper) =
                                record.and_then(|record| record.certificate.as_ref())
                            {
                                certificates[*place] = paper.id;
                            }
                        }
                        proposal.standard = Some(judged.map(|found| found.tag.clone()));
                    }
                }
                _ => {}
            }
            at = at.max(kept.last().map_or(began, |last| last.at));
            match accept(step, &proposal, &run, at) {
                Ok(value) => {
                    let unit = match &step.input {
                        Input::Reading { unit, .. } => Some(unit.symbol().to_owned()),
                        Input::Condition { unit, .. } => Some(unit.clone()),
                        _ => None,
                    };
                    run.entries.push(Entry {
                        step: step.key.clone(),
                        repeat,
                        at,
                        value: value.clone(),
                    });
                    kept.push(PaperEntry {
                        step: step.key.clone(),
                        repeat,
                        at,
                        typed: text.to_owned(),
                        unit,
                        value,
                    });
                }
                Err(error) if error.is_about_added() => {
                    reader.fault(&format!("{name}.added"), error.to_string());
                }
                Err(error) => reader.fault(&name, error.to_string()),
            }
            at = (at + share).min(ended.max(at));
        }
    }
    Ok(Some(Sheet { began, ended, kept, certificates }))
}
