//! The record of a check: one page with everything that was used, on screen and on paper. It is
//! signed with the password again, and amended by adding, never by editing.

use askama::Template;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_core::judgement::{action_sentence, reason_sentence};
use vaaka_core::method::{Rung, Step};
use vaaka_core::quantity::show_decimal;
use vaaka_core::reaction::Outcome;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::{CertificateId, CheckId, ReadingId};
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::plans::{self, PlanView, Source};
use vaaka_store::records::{self, Meaning};
use vaaka_store::rows::{Check, Reading, ResultRow};
use vaaka_store::{
    StoreError, adjustments, attempts, audit, checks, entries, ladder, people, registers, seals,
    shifts, traces,
};

use super::captured::Captures;
use crate::auth::{Address, prove_on};
use crate::desk::Desk;
use crate::error::WebError;
use crate::fields::clean;
use crate::forms::{PathId, PathIds, Posted};
use crate::pages::check::live::LiveView;
use crate::pages::check::verdict_parts::{answers, fingerprint, heading, row};
use crate::pages::check::view::beside_words;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time, method_of};

#[derive(Debug, Template)]
#[template(path = "record.html")]
struct RecordPage {
    shell: Shell,
    id: i64,
    heading: String,
    finding: String,
    /// Whose record it is.
    organisation: String,
    about: Vec<(&'static str, String)>,
    standards: Vec<StandardRow>,
    entries: Vec<EntryRow>,
    attempts: Vec<AttemptLine>,
    /// What came of the instrument and was not kept.
    not_kept: Vec<String>,
    results: Vec<ResultShown>,
    live: LiveView,
    answers: Vec<(String, String)>,
    action: String,
    reasons: Vec<String>,
    ladder: Vec<String>,
    adjustment: Option<(i64, String)>,
    amendments: Vec<String>,
    signatures: Vec<String>,
    audit: Vec<(&'static str, String)>,
    trail: Vec<(String, String)>,
    may_sign: Option<&'static str>,
    may_amend: bool,
    /// Pictures and documents that were kept with the check.
    files: Vec<FileBrief>,
    error: Option<(&'static str, String)>,
    words: String,
}

#[derive(Debug)]
struct StandardRow {
    words: String,
    pieces: Vec<String>,
}

#[derive(Debug)]
struct EntryRow {
    at: String,
    step: String,
    typed: String,
    read: String,
    /// Entry whose file can be taken as it came.
    file: Option<i64>,
    person: String,
    note: String,
    stands: bool,
}

#[derive(Debug)]
struct ResultShown {
    label: String,
    value: String,
    singles: String,
    limits: String,
    accepted: Option<String>,
    uncertainty: String,
    ratio: String,
    words: &'static str,
}

/// What was typed and refused, and says something about instrument or standard.
#[derive(Debug)]
struct AttemptLine {
    at: String,
    step: String,
    typed: String,
    said: String,
    person: String,
}

/// Shows the record.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&state, &mut desk, &signed, id, None, String::new(), StatusCode::OK).await
}

async fn draw(
    state: &AppState,
    desk: &mut Desk,
    signed: &SignedIn,
    id: i64,
    error: Option<(&'static str, String)>,
    words: String,
    status: StatusCode,
) -> Result<Response, WebError> {
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    let view = plans::version(&mut desk.connection, check.plan_version_id).await?;
    let stored = result_of(&mut desk.connection, check.id).await?;
    let certificates = checks::certificates_of(&mut desk.connection, &check).await?;
    let sources = plans::sources(&mut desk.connection, &certificates).await?;
    let standards = standard_rows(desk, &sources, &certificates).await?;
    let live =
        LiveView::of_check((state, &mut desk.connection), (&check, &view), &certificates).await?;
    let hands = checks::hands(&mut desk.connection, &check).await?;
    let about = about(desk, &check, &view, stored.as_ref(), &hands).await?;
    let (entries, not_kept) = entry_rows(state, desk, &check, &view, &certificates).await?;
    let attempts = attempt_lines(state, desk, &check, &view, &certificates).await?;
    let ladder = ladder_lines(desk, &check).await?;
    let adjustment = adjustments::after(&mut desk.connection, check.id).await?.map(|found| {
        let when = local_day_time(found.row.at.0, &desk.here.zone);
        (
            found.id.0,
            format!("adjusted {when}, decided by {}: {}", found.approved_by, found.row.reason),
        )
    });
    let amendments = records::amendments_of(&mut desk.connection, check.id).await?;
    let signatures = records::signatures_of(&mut desk.connection, check.id).await?;
    let chain = audit::read_chain(&mut desk.connection, &audit::chain(check.id)).await?;
    let seal = seals::over_chain(&mut desk.connection, &audit::chain(check.id)).await?;
    let zone = desk.here.zone.clone();
    let when = |at: vaaka_store::At| local_day_time(at.0, &zone);
    let paper = check.late_reason.is_some();
    let signed_by = signatures
        .iter()
        .map(|signature| {
            let meaning = if signature.meaning == "reviewed" { "reviewed" } else { "made" };
            format!(
                "{} {meaning} this check{} and signs for it, {} (version {} of the result{})",
                signature.person,
                if paper { ", entered from paper," } else { "" },
                when(signature.at),
                signature.version,
                if signature.fits { "" } else { "; DOES NOT FIT THE RESULT ANY MORE" },
            )
        })
        .collect();
    let may_sign = stored.as_ref().and_then(|stored| {
        let meaning = meaning_for(signed, &hands)?;
        let done = signatures.iter().any(|one| {
            one.person_id == signed.person.id
                && one.meaning == meaning.word()
                && one.version == stored.row.version
        });
        (check.state == "concluded" && !done).then_some(signing_words(meaning, paper))
    });
    let verdict = stored.as_ref().map(|stored| &stored.verdict);
    let template = RecordPage {
        live,
        id,
        files: files::of(&mut desk.connection, Owner::Check(check.id)).await?,
        organisation: shifts::site(&desk.connection).await?.name,
        heading: format!("{} {}", view.instrument.name, view.instrument.tag),
        finding: match (&check.void_reason, verdict) {
            (Some(reason), _) => format!("void: {reason}"),
            (None, Some(verdict)) => {
                stored.as_ref().map_or_else(String::new, |stored| heading(verdict, stored))
            }
            (None, None) => "not concluded yet".to_owned(),
        },
        about,
        standards,
        entries,
        attempts,
        not_kept,
        results: stored.as_ref().map(result_rows).unwrap_or_default(),
        answers: stored.as_ref().map_or(vec![], |stored| {
            answers(&stored.verdict, stored, &desk.here)
                .into_iter()
                .map(|answer| (answer.question.to_owned(), answer.words))
                .collect()
        }),
        action: verdict.map_or(String::new(), |v| action_sentence(v.action).to_owned()),
        reasons: stored.as_ref().map_or(vec![], |stored| {
            stored
                .verdict
                .reasons
                .iter()
                .map(|reason| reason_sentence(reason, &stored.results, &desk.here.zone))
                .collect()
        }),
        ladder,
        adjustment,
        amendments: amendments
            .iter()
            .map(|one| format!("{} ({}, {})", one.words, one.person, when(one.at)))
            .collect(),
        signatures: signed_by,
        audit: audit_lines(&chain, seal.as_ref()),
        trail: chain.iter().map(|entry| (when(entry.at), entry.action.replace('_', " "))).collect(),
        may_sign,
        may_amend: check.state != "open" && signed.may_check().is_ok(),
        error,
        words,
        shell: Shell::new(signed, "records", &desk.here),
    };
    page(status, &template)
}

/// The standards with the certificates that were used.
async fn standard_rows(
    desk: &mut Desk,
    sources: &[Source],
    certificates: &[CertificateId],
) -> Result<Vec<StandardRow>, WebError> {
    let mut rows = Vec::new();
    for (source, certificate) in sources.iter().zip(certificates) {
        let paper = registers::certificate(&mut desk.connection, *certificate).await?;
        rows.push(StandardRow {
            words: format!(
                "{} {}, certificate {} (version {}) of {}, valid {} to {}",
                source.standard.tag,
                source.standard.name,
                paper.number,
                paper.version,
                paper.issuer,
                paper.valid_from.0,
                paper.valid_until.0,
            ),
            pieces: pieces(source),
        });
    }
    Ok(rows)
}

/// What somebody signs for.
fn signing_words(meaning: Meaning, paper: bool) -> &'static str {
    match (meaning, paper) {
        (Meaning::Performed, true) => {
            "I made this check on paper, and what stands here is what I wrote down."
        }
        (Meaning::Reviewed, true) => "I reviewed this check, which was entered from paper.",
        (Meaning::Performed, false) => "I made this check, and what stands here is what I saw.",
        (Meaning::Reviewed, false) => "I reviewed this check.",
    }
}

/// Who had the check in hand signs for making it, a lead who had not for reviewing it.
fn meaning_for(
    signed: &SignedIn,
    hands: &[(vaaka_store::ids::PersonId, String, vaaka_store::At)],
) -> Option<Meaning> {
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    match (own, signed.person.role.as_str()) {
        (true, "technician" | "lead") => Some(Meaning::Performed),
        (false, "lead") => Some(Meaning::Reviewed),
        _ => None,
    }
}

fn pieces(source: &Source) -> Vec<String> {
    source
        .pieces
        .iter()
        .map(|piece| {
            let show = |value: rust_decimal::Decimal| show_decimal(value, value.scale());
            let k = if piece.class_limit {
                "limit of its class".to_owned()
            } else {
                format!("k = {}", piece.coverage_factor.normalize())
            };
            format!(
                "{}: {} {} (U = {}, {k})",
                piece.tag,
                show(piece.certified_value),
                piece.unit,
                show(piece.expanded_uncertainty),
            )
        })
        .collect()
}

async fn about(
    desk: &mut Desk,
    check: &Check,
    view: &PlanView,
    stored: Option<&StoredResult>,
    hands: &[(vaaka_store::ids::PersonId, String, vaaka_store::At)],
) -> Result<Vec<(&'static str, String)>, WebError> {
    let zone = desk.here.zone.clone();
    let when = |at: vaaka_store::At| local_day_time(at.0, &zone);
    let shift = shifts::by_id(&mut desk.connection, check.shift_instance_id).await?;
    let instrument = &view.instrument;
    let approver = match view.version.approved_by {
        Some(person) => people::anybody(&mut desk.connection, person).await?.name,
        None => "nobody".to_owned(),
    };
    let names: Vec<&str> = hands.iter().map(|(_, name, _)| name.as_str()).collect();
    let mut about = vec![
        ("Record", format!("check {}", check.id)),
        (
            "Purpose",
            match check.purpose.as_str() {
                "as_left" => "as left, the proof of an adjustment",
                "trial" => "a trial, which counts for nothing on the charts",
                _ => "as found",
            }
            .to_owned(),
        ),
        ("Shift", format!("{} of {}", shift.label, shift.business_date.0)),
        ("Begun", when(check.opened_at)),
        ("Over", check.closed_at.map_or("not yet".to_owned(), when)),
        ("In hand of", names.join(", then ")),
        (
            "Instrument",
            format!("{} {}, serial number {}", instrument.name, instrument.tag, instrument.serial),
        ),
        ("Area", view.area.name.clone()),
        ("Set-up", view.cell.clone().unwrap_or_else(|| "as installed".to_owned())),
        (
            "Plan",
            format!("{}, version {}, approved by {approver}", view.plan.name, view.version.version),
        ),
        (
            "Display",
            format!(
                "{} to {} {} in steps of {}",
                view.version.range_low.normalize(),
                view.version.maximum.normalize(),
                view.version.unit,
                view.version.resolution.normalize()
            ),
        ),
        (
            "Decision rule",
            plans::decision(&view.version).map_or(String::new(), |decision| decision.words()),
        ),
    ];
    let plate: Vec<&str> = [instrument.maker.as_str(), instrument.model.as_str()]
        .into_iter()
        .filter(|text| !text.is_empty())
        .collect();
    if !plate.is_empty() {
        about.push(("Maker and model", plate.join(", ")));
    }
    let first = checks::first_failure(&mut desk.connection, check).await?;
    if let Some(first) = first.filter(|first| *first != check.id && check.purpose == "as_found") {
        about.insert(2, ("Repeat of", format!("check {first}, which failed")));
    }
    if !instrument.firmware.is_empty() {
        about.push(("Program version", instrument.firmware.clone()));
    }
    let zone = desk.here.zone.clone();
    if let Some(words) =
        crate::pages::round::paper_decide::paper_words(&mut desk.connection, check, &zone).await?
    {
        about.push(("From paper", words));
    }
    if let Some(stored) = stored {
        about.push(("Computed by", computed_by(&stored.row)));
        about.push(("Fingerprint of the inputs", fingerprint(&stored.row.inputs_hash)));
        about.push(("Version of the result", stored.row.version.to_string()));
    }
    Ok(about)
}

/// The file of a trace, as it came.
pub async fn trace(
    _signed: SignedIn,
    State(state): State<AppState>,
    PathIds(check, reading): PathIds,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let found = traces::original(&mut connection, CheckId(check), ReadingId(reading)).await;
    let (name, bytes) = match found {
        Err(StoreError::NotFound) => return Err(WebError::NotFound),
        other => other?,
    };
    let plain: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || ".-_ ".contains(c) { c } else { '_' })
        .collect();
    let plain = if plain.trim().is_empty() { format!("trace-{reading}.txt") } else { plain };
    let headers = [
        // Whatever it is, the browser takes it and opens nothing.
        (header::CONTENT_TYPE, "application/octet-stream".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{plain}\"")),
    ];
    Ok((headers, bytes).into_response())
}

fn computed_by(row: &ResultRow) -> String {
    format!("{} {}, {}", row.method_key, row.method_version, row.table_edition)
}

async fn entry_rows(
    state: &AppState,
    desk: &mut Desk,
    check: &Check,
    view: &PlanView,
    certificates: &[vaaka_store::ids::CertificateId],
) -> Result<(Vec<EntryRow>, Vec<String>), WebError> {
    let purpose = check.purpose.parse().map_err(|_| WebError::Inner("purpose".into()))?;
    method_of(view)?;
    let way = state.way(&mut desk.connection, view, certificates, purpose).await?;
    let all = entries::every_entry(&mut desk.connection, check.id).await?;
    let came = Captures::of(desk, check.id).await?;
    let not_kept = came.not_kept(all.iter().map(|(row, ..)| row), &way.steps, &desk.here.zone);
    let replaced: Vec<_> = all.iter().filter_map(|(row, ..)| row.replaces_id).collect();
    let rows = all
        .iter()
        .map(|(reading, person, voided)| {
            let step = way.steps.iter().find(|step| step.key.0 == reading.step_key);
            let title = step.map_or(reading.step_key.clone(), |step| step.title.clone());
            let is_replaced = replaced.contains(&reading.id);
            EntryRow {
                // The sheet says when it was done by, and not when each was written down.
                at: match (reading.source.as_str(), reading.kind.as_str()) {
                    ("paper", kind) if !kind.starts_with("wait") => {
                        format!("by {}", local_day_time(reading.measured_at.0, &desk.here.zone))
                    }
                    _ => local_day_time(reading.measured_at.0, &desk.here.zone),
                },
                step: if reading.repeat > 1 {
                    format!("{title}, no. {}", reading.repeat)
                } else {
                    title
                },
                typed: reading.typed.clone(),
                read: read_words(reading, step),
                file: (reading.kind == "trace").then_some(reading.id.0),
                person: person.clone(),
                note: entry_note(reading, voided.as_deref(), is_replaced, came.note(reading)),
                stands: voided.is_none() && !is_replaced,
            }
        })
        .collect();
    Ok((rows, not_kept))
}

fn read_words(reading: &Reading, step: Option<&Step>) -> String {
    let value = reading
        .indication
        .map(|value| format!("{} {}", value, reading.unit.clone().unwrap_or_default()));
    let beside = step.map(|step| beside_words(&step.input, reading.added)).unwrap_or_default();
    let added = match (beside.is_empty(), reading.added) {
        (true, Some(added)) => format!(" with {added} added"),
        _ => beside,
    };
    match (reading.kind.as_str(), value) {
        (_, Some(value)) => format!("{value}{added}"),
        ("confirmed", None) => "confirmed".to_owned(),
        (kind, None) => kind.replace('_', " "),
    }
}

fn entry_note(
    reading: &Reading,
    voided: Option<&str>,
    replaced: bool,
    came: Option<String>,
) -> String {
    let mut notes: Vec<String> = Vec::new();
    if let Some(reason) = voided {
        notes.push(format!("void: {reason}"));
    }
    if replaced {
        notes.push("replaced by a later one".to_owned());
    }
    if let Some(reason) = &reading.reason {
        notes.push(format!("in place of an earlier one: {reason}"));
    }
    match reading.source.as_str() {
        "held" => notes.push("kept on the device while the network was gone".to_owned()),
        "paper" => notes.push("from paper".to_owned()),
        "device" if came.is_none() => notes.push("captured from the instrument".to_owned()),
        _ => {}
    }
    notes.extend(came);
    if reading.far_confirmed {
        notes.push("far from its load, confirmed by hand".to_owned());
    }
    notes.join("; ")
}

fn result_rows(stored: &StoredResult) -> Vec<ResultShown> {
    stored
        .results
        .iter()
        .map(|pair| {
            let shown = row(pair, &[]);
            ResultShown {
                label: shown.label,
                value: shown.value,
                singles: shown.singles,
                limits: shown.limits,
                accepted: shown.accepted,
                uncertainty: shown.uncertainty,
                ratio: shown.ratio,
                words: shown.words,
            }
        })
        .collect()
}

async fn attempt_lines(
    state: &AppState,
    desk: &mut Desk,
    check: &Check,
    view: &PlanView,
    certificates: &[CertificateId],
) -> Result<Vec<AttemptLine>, WebError> {
    let found = attempts::of(&desk.connection, check.id).await?;
    if found.is_empty() {
        return Ok(vec![]);
    }
    let purpose = check.purpose.parse().map_err(|_| WebError::Inner("purpose".into()))?;
    let way = state.way(&mut desk.connection, view, certificates, purpose).await?;
    Ok(found
        .into_iter()
        .map(|(row, person)| {
            let step = way.steps.iter().find(|step| step.key.0 == row.step_key);
            let title = step.map_or(row.step_key.clone(), |step| step.title.clone());
            AttemptLine {
                at: local_day_time(row.at.0, &desk.here.zone),
                step: if row.repeat > 1 { format!("{title}, no. {}", row.repeat) } else { title },
                typed: row.typed,
                said: row.said,
                person,
            }
        })
        .collect())
}

async fn ladder_lines(desk: &mut Desk, check: &Check) -> Result<Vec<String>, WebError> {
    let steps = ladder::of_check(&mut desk.connection, check.id).await?;
    Ok(steps
        .iter()
        .map(|(row, by)| {
            let rung = row.rung.parse::<Rung>().map_or("", Rung::words);
            let outcome = row.outcome.parse::<Outcome>().map_or("", Outcome::words);
            let when = local_day_time(row.at.0, &desk.here.zone);
            let trial = row.trial_id.map_or(String::new(), |id| format!("; check {id}"));
            format!("{rung} {}: {outcome} ({by}, {when}{trial})", row.note)
        })
        .collect())
}

fn audit_lines(
    chain: &[audit::AuditEntry],
    seal: Option<&seals::Seal>,
) -> Vec<(&'static str, String)> {
    let head = chain.last().map_or(String::new(), |entry| fingerprint(&entry.hash));
    let unbroken = match audit::first_break(chain) {
        None => format!("{} entries, unbroken", chain.len()),
        Some(sequence) => format!("BROKEN at entry {sequence}"),
    };
    vec![
        ("Audit trail", unbroken),
        ("Its newest hash", head),
        (
            "Seal",
            seal.map_or("not sealed yet; the next seal covers it".to_owned(), |seal| {
                format!("{} ({})", seal.sequence, seal.short())
            }),
        ),
    ]
}

/// A signature as it is given.
#[derive(Debug, Deserialize)]
pub struct SignForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    password: String,
}

/// Signs the newest result of a check, with the password again.
pub async fn sign(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    address: Address,
    Posted(form): Posted<SignForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    let hands = checks::hands(&mut desk.connection, &check).await?;
    let stored = result_of(&mut desk.connection, check.id).await?;
    let Some(stored) = stored.filter(|_| check.state == "concluded") else {
        let words = "A check is signed once it is concluded; a void one is not signed.";
        return Err(WebError::NotNow { words: words.into() });
    };
    let Some(meaning) = meaning_for(&signed, &hands) else {
        return Err(WebError::NotNow {
            words: "Who made a check signs for making it, a lead who did not for reviewing it."
                .into(),
        });
    };
    let who = (signed.person.sign_in.as_str(), form.password.as_str());
    let proof = prove_on(&mut desk.connection, who, &address, "sign", desk.now).await?;
    if let Some(words) = proof.refusal("nothing was signed") {
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return draw(&state, &mut desk, &signed, id, Some(("sign", words)), String::new(), status)
            .await;
    }
    match records::sign(&mut desk.connection, stored.row.id, signed.person.id, meaning, desk.now)
        .await
    {
        Ok(()) | Err(StoreError::Conflict { .. }) => {
            Ok(Redirect::to(&format!("/checks/{id}/record")).into_response())
        }
        Err(other) => Err(other.into()),
    }
}

/// An amendment as it is sent.
#[derive(Debug, Deserialize)]
pub struct AmendForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    words: String,
}

/// Adds an amendment to a record.
pub async fn amend(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<AmendForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    let words = clean(&form.words);
    let long = words.chars().count();
    let refusal = match (check.state.as_str(), long) {
        ("open", _) => {
            Some("The check is still open: correct the entry itself instead.".to_owned())
        }
        (_, 0) => Some("Say what is to be added. The record itself stays as it is.".to_owned()),
        (_, long) if long > 1_000 => {
            Some(format!("This has {long} characters; 1000 are the most."))
        }
        _ => None,
    };
    if let Some(refusal) = refusal {
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return draw(&state, &mut desk, &signed, id, Some(("amend", refusal)), form.words, status)
            .await;
    }
    records::amend(&mut desk.connection, check.id, &words, signed.person.id, desk.now).await?;
    Ok(Redirect::to(&format!("/checks/{id}/record")).into_response())
}
