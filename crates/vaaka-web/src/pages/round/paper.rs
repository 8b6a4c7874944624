//! A check from paper: the sheet that is printed from a plan, and its entering. It counts when a lead countersigns it
//! (`late_decide`).

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;
use vaaka_core::method::{Entry, Input, Proposal, RunState, Step, accept, by_key};
use vaaka_core::round::{LateRank, SheetTime, Training, check_training, shortest_run};
use vaaka_core::standard::{StandardFacts, check_tag};
use vaaka_store::files::{self, NewFile, Owner};
use vaaka_store::ids::{CertificateId, FileId, PersonId, PlanVersionId};
use vaaka_store::paper::{self, PaperEntry};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{PaperSheetRow, Person};
use vaaka_store::standards::{self, Record};
use vaaka_store::{At, people, shifts, trainings};

use crate::desk::{Desk, SentWithFile, Upload};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader};
use crate::forms::{PathId, new_key};
use crate::pages::check::input::{OnSheet, name_of, shown};
use crate::pages::check::start::{standards_for, wanted};
use crate::pages::evidence::files::{MOST_BYTES, media_type};
use crate::pages::form::{Form, whole};
use crate::pages::plan::list::{PreviewStep, preview, spec_of};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::AppState;

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
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    if view.version.state != "approved" {
        return Err(WebError::NotNow {
            words: "This version is not in force. Take the sheet of the one that is.".into(),
        });
    }
    let steps = steps_of(&mut desk, &view).await?;
    let template = SheetPage {
        shell: Shell::new(&signed, "plans", &desk.here),
        heading: format!(
            "{} {}: {}, version {}",
            view.instrument.name, view.instrument.tag, view.plan.name, view.version.version
        ),
        standard: view.standard_words(),
        // What happens on the screen only is not on paper.
        steps: steps.iter().map(preview).filter(|step| step.on_sheet).collect(),
        printed: crate::state::local_day_time(desk.now, &desk.here.zone),
    };
    page(StatusCode::OK, &template)
}

/// A version that was in force at some time, with its steps.
async fn version_of(desk: &mut Desk, id: i64) -> Result<(PlanView, Vec<Step>), WebError> {
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    if view.version.approved_at.is_none() {
        return Err(WebError::NotNow {
            words: "This version was never in force: nothing was measured by it.".into(),
        });
    }
    let steps = steps_of(desk, &view).await?;
    Ok((view, steps))
}

async fn steps_of(desk: &mut Desk, view: &PlanView) -> Result<Vec<Step>, WebError> {
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let spec = spec_of(view, points, &all, desk).map_err(|words| WebError::NotNow { words })?;
    let method = by_key(&view.plan.method_key)?;
    let mut steps = method.way(&spec)?;
    if !method.on_paper() {
        return Err(WebError::NotNow {
            words: "This check takes a trace, and a trace cannot be written on paper. Take the file along and run the check when the instrument and this program are both at hand; what was missed meanwhile is missed, with its reason.".into(),
        });
    }
    // Nobody knows when each reading was written down: pauses between them are on the sheet's own word.
    for step in &mut steps {
        step.pause_seconds = 0;
    }
    Ok(steps)
}

fn late_form(
    view: &PlanView,
    steps: &[Step],
    people: &[Person],
    (key, kept): (Uuid, Option<&str>),
) -> Form {
    let mut measured = Vec::new();
    let mut confirmed = Vec::new();
    for step in steps {
        let shown = shown(step);
        match shown.on_sheet {
            OnSheet::Nothing => confirmed.extend(shown.fields),
            OnSheet::NotThere | OnSheet::Value | OnSheet::Time => measured.extend(shown.fields),
        }
    }
    let measurers: Vec<(String, String)> = std::iter::once((String::new(), "Choose".to_owned()))
        .chain(people.iter().map(|person| (person.id.to_string(), person.name.clone())))
        .collect();
    let scan = match kept {
        Some(name) => Field::new("scan", "Photograph or scan of the sheet", Look::File)
            .hint(format!("{name} is kept. Choose another only to replace it.")),
        None => Field::new("scan", "Photograph or scan of the sheet", Look::File)
            .hint("PNG, JPEG, WebP or PDF, at most 8 MB. The whole sheet, readable."),
    };
    Form {
        intro: format!(
            "{} {}, version {} of the plan. A sheet counts when a lead has countersigned it who neither measured nor entered it; until then the check stays due or missed. The record says that it came from paper.",
            view.instrument.name, view.instrument.tag, view.version.version
        ),
        groups: vec![
            Group::new(
                "The sheet",
                vec![
                    Field::new("reason", "Why on paper", Look::Line).hint("Like “network down”."),
                    Field::new("by", "Who measured", Look::Choice(measurers))
                        .hint("Somebody of the register who was trained for it on that day."),
                    Field::new("day", "Day", Look::Day),
                    Field::new("began", "Began at", Look::Line)
                        .hint("Like 22:34; the first thing on the sheet."),
                    Field::new("ended", "Ended at", Look::Line)
                        .hint("Like 22:51; the last thing on it. The record gives these two times for every reading, and no other."),
                    scan,
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
            format!("/versions/{}/late", view.version.id),
            format!("/plans/{}", view.plan.id),
            "Keep it for the countersignature",
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
    let (view, steps) = version_of(&mut desk, id).await?;
    let people = measurers(&mut desk).await?;
    let typed = Fields::default()
        .with("by", signed.person.id.to_string())
        .with("day", desk.today.to_string());
    late_form(&view, &steps, &people, (new_key(), None)).draw(
        &signed,
        &desk.here,
        &typed,
        &BTreeMap::new(),
    )
}

/// Those who may have measured: who runs checks, also when they have left since.
async fn measurers(desk: &mut Desk) -> Result<Vec<Person>, WebError> {
    let all = people::all(&mut desk.connection).await?;
    Ok(all.into_iter().filter(|p| matches!(p.role.as_str(), "technician" | "lead")).collect())
}

/// A time on the sheet: on its day, or from its beginning on, past midnight too.
fn time_on(
    reader: &mut Reader<'_>,
    name: &str,
    (day, began): (Date, Option<Timestamp>),
    desk: &Desk,
) -> Option<Timestamp> {
    let zone = &desk.here.zone;
    let read = reader.typed(name).parse::<SheetTime>().and_then(|time| match began {
        Some(began) => time.from(began, day, zone),
        None => time.on(day, zone),
    });
    read.map_err(|error| reader.fault(name, error.to_string())).ok()
}

/// What a sheet says, read.
pub(in crate::pages) struct Sheet {
    pub began: Timestamp,
    pub ended: Timestamp,
    pub measured_by: PersonId,
    pub reason: String,
    pub entries: Vec<PaperEntry>,
    /// Certificates of the standards that were in hand.
    pub certificates: Vec<CertificateId>,
}

/// Takes a sheet in, all of it or nothing.
pub async fn keep(
    PathId(id): PathId,
    SentWithFile { signed, mut desk, mut typed, file }: SentWithFile,
) -> Result<Response, WebError> {
    let (view, steps) = version_of(&mut desk, id).await?;
    let people = measurers(&mut desk).await?;
    let key: Uuid = typed.get("key").parse().unwrap_or_else(|_| new_key());
    let mut reader = Reader::of(&typed);
    let read = read_sheet(&mut desk, &view, &steps, (&people, true), &mut reader).await?;
    let mut faults = reader.faults;
    let scan = match keep_scan(&mut desk, &signed, &view, &typed, &file).await? {
        Ok(scan) => Some(scan),
        Err(words) => {
            faults.insert("scan".into(), words);
            None
        }
    };
    if let Some((file, _)) = &scan {
        typed = typed.with("scan_kept", file.to_string());
    }
    let (Some(sheet), Some((file, name)), true) = (read, &scan, faults.is_empty()) else {
        let kept = scan.as_ref().map(|(_, name)| name.as_str());
        let mut form = late_form(&view, &steps, &people, (key, kept));
        if let Some((file, _)) = &scan {
            form.hidden.push(("scan_kept".into(), file.to_string()));
        }
        return form.draw(&signed, &desk.here, &typed, &faults);
    };
    let site = shifts::site(&desk.connection).await?;
    let shift = shifts::current(&mut desk.connection, &site, sheet.began).await?;
    let row = PaperSheetRow {
        plan_version_id: view.version.id,
        shift_instance_id: shift.id,
        idempotency_key: key,
        measured_by: sheet.measured_by,
        reason: sheet.reason.clone(),
        began_at: At(sheet.began),
        ended_at: At(sheet.ended),
        typed: typed.to_json(),
        file_id: *file,
        entered_by: signed.person.id,
        entered_at: At(desk.now),
    };
    let title = format!("Paper to countersign: {} {}", view.instrument.name, view.instrument.tag);
    let about = (title.as_str(), view.instrument.id);
    match paper::enter(&mut desk.connection, &row, about).await {
        Ok(sheet) => Ok(Redirect::to(&paper::path(sheet)).into_response()),
        // The file was sent back by hand as another one.
        Err(vaaka_store::StoreError::Conflict { .. }) => {
            let form = late_form(&view, &steps, &people, (key, Some(name)));
            form.draw(
                &signed,
                &desk.here,
                &typed,
                &whole("This sheet could not be kept. Choose its photograph again."),
            )
        }
        Err(other) => Err(other.into()),
    }
}

/// Keeps the picture of a sheet, or finds the one that came with an earlier try.
async fn keep_scan(
    desk: &mut Desk,
    signed: &SignedIn,
    view: &PlanView,
    typed: &Fields,
    file: &Upload,
) -> Result<Result<(FileId, String), String>, WebError> {
    if file.bytes.is_empty() {
        let kept = files::of(&mut desk.connection, Owner::Sheet(view.version.id)).await?;
        let known = typed.get("scan_kept");
        let found = kept.into_iter().find(|brief| brief.id.to_string() == known);
        return Ok(found.map(|brief| (brief.id, brief.name)).ok_or_else(|| {
            "Choose a photograph or scan of the sheet: without it nobody can compare.".to_owned()
        }));
    }
    if file.bytes.len() > MOST_BYTES {
        return Ok(Err("The file is larger than 8 MB. Choose a smaller one.".into()));
    }
    let Some(media_type) = media_type(&file.bytes) else {
        return Ok(Err(
            "This is no picture (PNG, JPEG, WebP) and no PDF. Choose another file.".into()
        ));
    };
    let name: String = file.name.chars().take(120).collect();
    let name = if name.is_empty() { "sheet".to_owned() } else { name };
    let new = NewFile {
        owner: Owner::Sheet(view.version.id),
        name: &name,
        media_type,
        bytes: &file.bytes,
        caption: "sheet of paper",
        person: signed.person.id,
        at: At(desk.now),
    };
    Ok(Ok((files::keep(&mut desk.connection, &new).await?, name)))
}

/// The sheet of a form that was kept, read anew by what holds for its time.
pub(in crate::pages) async fn read_again(
    desk: &mut Desk,
    kept: &paper::Sheet,
) -> Result<(PlanView, Vec<Step>, Result<Sheet, BTreeMap<String, String>>), WebError> {
    let (view, steps) = version_of(desk, kept.plan_version_id.0).await?;
    let people = measurers(desk).await?;
    let typed = Fields::from_json(&kept.typed);
    let mut reader = Reader::of(&typed);
    let read = read_sheet(desk, &view, &steps, (&people, false), &mut reader).await?;
    let found = match read {
        Some(sheet) if reader.is_fine() => Ok(sheet),
        _ => Err(reader.faults),
    };
    Ok((view, steps, found))
}

/// Reads a sheet: who, when, and what was written down. `entering` asks whether it comes in time.
async fn read_sheet(
    desk: &mut Desk,
    view: &PlanView,
    steps: &[Step],
    (people, entering): (&[Person], bool),
    reader: &mut Reader<'_>,
) -> Result<Option<Sheet>, WebError> {
    let reason = reader.required("reason", 120, "Say why it was done on paper.");
    let by = reader.choice("by", |word| {
        people.iter().find(|person| person.id.to_string() == word).map(|person| person.id)
    });
    let times = times(desk, view, steps, entering, reader).await?;
    let Some((began, ended, day)) = times else {
        // What was written down is looked at all the same: all that is wrong is said at once.
        let about_now = (desk.now - SignedDuration::from_hours(1), desk.now);
        match written_down(desk, view, steps, about_now, reader).await {
            Ok(_) | Err(WebError::NotNow { .. }) => return Ok(None),
            Err(other) => return Err(other),
        }
    };
    if let Some(by) = by {
        let method = by_key(&view.plan.method_key)?;
        let (until, others) =
            trainings::for_method(&mut desk.connection, by, method.key(), day).await?;
        let own = until.map(|valid_until| Training { valid_until });
        if let Err(words) = check_training(own, method.name(), &others, day) {
            reader.fault("by", format!("On that day: {words}"));
        }
    }
    // The registers as they were: a standard that has ended since was fit then.
    let live = (desk.now, desk.today);
    (desk.now, desk.today) = (began, day);
    let written = written_down(desk, view, steps, (began, ended), reader).await;
    (desk.now, desk.today) = live;
    let (entries, certificates) = match written {
        Ok(written) => written,
        Err(WebError::NotNow { words }) => {
            reader.fault("*", words);
            return Ok(None);
        }
        Err(other) => return Err(other),
    };
    Ok(by.map(|measured_by| Sheet { began, ended, measured_by, reason, entries, certificates }))
}

/// Day, beginning and end of a sheet, where they can be.
async fn times(
    desk: &mut Desk,
    view: &PlanView,
    steps: &[Step],
    entering: bool,
    reader: &mut Reader<'_>,
) -> Result<Option<(Timestamp, Timestamp, Date)>, WebError> {
    let day = reader.required_day("day");
    let began = time_on(reader, "began", (day, None), desk);
    // Past midnight is believed for a run that can have taken so long, and for no other.
    let ended = time_on(reader, "ended", (day, began), desk);
    let (Some(began), Some(ended)) = (began, ended) else { return Ok(None) };
    let took = ended.duration_since(began);
    let least = shortest_run(steps);
    if took > SignedDuration::from_hours(12) {
        reader.fault(
            "ended",
            "It ends before it began, or took more than twelve hours. Look at the times again.",
        );
    } else if took.is_zero() || took < least {
        let words = vaaka_core::method::duration_words(least);
        reader.fault("ended", format!("Nobody takes these readings, with their waits, in less than {words}. Look at the times again."));
    }
    if ended > desk.now {
        reader.fault("ended", "That is still to come. Look at the day and the times.");
    }
    if entering && desk.now.duration_since(began) > SignedDuration::from_hours(24 * LATEST_DAYS) {
        reader.fault(
            "day",
            format!(
                "A sheet is entered within {LATEST_DAYS} days. Keep the paper and tell your lead."
            ),
        );
    }
    if !reader.is_fine() {
        return Ok(None);
    }
    // By the version that was in force then, and no other.
    let versions = plans::versions(&mut desk.connection, view.plan.id).await?;
    let then = versions
        .iter()
        .filter(|own| own.version.approved_at.is_some_and(|at| at.0 <= began))
        .max_by_key(|own| own.version.version);
    match then {
        Some(then) if then.version.id == view.version.id => {}
        Some(then) => reader.fault(
            "day",
            format!("At that time version {} of the plan was in force, and this is version {}. Enter it from that version's page.", then.version.version, view.version.version),
        ),
        None => reader.fault("day", "At that time no version of this plan was in force yet."),
    }
    Ok(reader.is_fine().then_some((began, ended, day)))
}

/// Reads what was written down through the same door as live entries: each that is refused says why at its field. The
/// times of single readings are not on the sheet and are not made up: an entry stands at the next time that is, its
/// wait's or the end.
async fn written_down(
    desk: &mut Desk,
    view: &PlanView,
    steps: &[Step],
    (began, ended): (Timestamp, Timestamp),
    reader: &mut Reader<'_>,
) -> Result<(Vec<PaperEntry>, Vec<CertificateId>), WebError> {
    let day = desk.today;
    let mut certificates = standards_for(desk, view).await?;
    let all = standards::all(&mut desk.connection, day).await?;
    let facts: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let wanted = wanted(view, &points, &all)?;
    let mut run = RunState::default();
    let mut kept: Vec<PaperEntry> = Vec::new();
    // The newest time that the sheet itself says, where entries are held against the longest time of a wait.
    let mut known = began;
    for step in steps {
        for repeat in 1..=step.repeats {
            let name = name_of(step, repeat);
            let text = reader.typed(&name).to_owned();
            let mut proposal = Proposal {
                typed: text.clone(),
                added: reader.typed(&format!("{name}.added")).to_owned(),
                ticked: if text.is_empty() { 0 } else { usize::MAX },
                // On paper it was answered once for the sheet.
                confirm_far: reader.ticked("far").then(|| text.clone()),
                ..Proposal::default()
            };
            match &step.input {
                Input::WaitStart { .. } | Input::WaitOver { .. } => {
                    let Some(moment) = time_on(reader, &name, (day, Some(known)), desk) else {
                        continue;
                    };
                    if moment < known || moment > ended {
                        reader.fault(&name, "This lies outside the times of the sheet, or before what stands above it.");
                        continue;
                    }
                    // Everything since the last time lies before this one.
                    for entry in kept.iter_mut().filter(|entry| entry.at == ended) {
                        entry.at = moment;
                    }
                    known = moment;
                }
                Input::Tag { place, any_of_kind, expected } => {
                    let fixed = any_of_kind.is_none().then_some(expected.as_str());
                    if let Some(wanted) = wanted.get(*place) {
                        let judged = check_tag(&text, fixed, &facts, wanted.offer(), began, day);
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
            match accept(step, &proposal, &run, known) {
                Ok(value) => {
                    let unit = step.input.unit().map(str::to_owned);
                    let at = if step.input.is_wait() { known } else { ended };
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
                        typed: text,
                        unit,
                        value,
                    });
                }
                Err(error) if error.is_about_added() => {
                    reader.fault(&format!("{name}.added"), error.to_string());
                }
                Err(error) => reader.fault(&name, error.to_string()),
            }
        }
    }
    Ok((kept, certificates))
}

/// What a sheet would be to its shift, in words.
pub(in crate::pages) fn rank_words(rank: LateRank) -> &'static str {
    match rank {
        LateRank::Check => "It is the check of its shift.",
        LateRank::Repeat => "It is the one repeat after the check of its shift that failed.",
        LateRank::Beside => {
            "Its shift has its check already: this one stands beside it and changes nothing about that."
        }
    }
}
