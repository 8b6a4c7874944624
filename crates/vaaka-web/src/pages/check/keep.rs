//! Keeping an entry: who sent it, whether its step is open, what is proposed, what the rules say of it.

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_core::method::{EntryError, EntryValue, Input, Proposal, Purpose, Step, accept, guarded};
use vaaka_core::standard::{TagRefusal, check_tag};
use vaaka_store::audit::Head;
use vaaka_store::captures::Capture;
use vaaka_store::entries::{self, Kept, NewEntry};
use vaaka_store::files::{self, NewFile, Owner};
use vaaka_store::ids::{CertificateId, CheckId, PersonId, ReadingId};
use vaaka_store::rows::Check;
use vaaka_store::standards::{self, Record};
use vaaka_store::traces::Original;
use vaaka_store::{At, Connection, checks, plans, shifts};

use super::attempted::{found_wrong, keep_attempt, keep_attempted, keep_given_up};
use super::capture::{captured, captured_at};
use super::ended::{finish, not_open};
use super::sent::{EntryForm, SentEntry};
use super::start::{fits, wanted};
use super::step::Typed;
use super::trace_file;
use crate::auth::{Address, Proof, prove_on};
use crate::desk::Upload;
use crate::error::WebError;
use crate::fields::clean;
use crate::forms::PathId;
use crate::open_run::{OpenRun, Target, load};
use crate::pages::evidence::files::{MOST_BYTES, media_type};
use crate::pages::people::sign_in;
use crate::paths::encode;
use crate::session::SignedIn;
use crate::shell::{Here, page};
use crate::state::{AppState, local_time};

/// What became of an entry that was sent.
pub(super) enum Outcome {
    /// Kept: go on there.
    Goto(String),
    /// Not kept, because the check has gone on without it: what stands there now, and the words for the page's own
    /// script, which keeps what it holds until somebody has looked.
    Moved(String, String),
    /// Shown again, with what was typed and the words.
    Again(Box<Typed>),
}

/// Keeps an entry, or shows the step again with what was typed and the words at the field. A
/// page's own script asks for a short answer instead of a page.
pub async fn keep(
    signed: Option<SignedIn>,
    State(state): State<AppState>,
    headers: HeaderMap,
    address: Address,
    PathId(id): PathId,
    SentEntry(form): SentEntry,
) -> Result<Response, WebError> {
    let short = headers
        .get(header::ACCEPT)
        .and_then(|value| value.to_str().ok())
        .is_some_and(|accept| accept.starts_with("application/json"));
    let Some(signed) = signed else {
        if short {
            return Ok(answer(
                StatusCode::UNAUTHORIZED,
                "signed_out",
                "Sign in, then it is sent.",
                "",
            ));
        }
        if form.is_long() {
            // Too much for an address; the page says which step is next.
            let notice =
                "You were signed out, so the file is not kept yet. Sign in, and choose it again.";
            return sign_in::ask_again(&state, &headers, format!("/checks/{id}"), notice.into());
        }
        let next =
            format!("/checks/{id}?typed={}&added={}", encode(&form.typed), encode(&form.added));
        let notice = format!(
            "You were signed out, so “{}” is not kept yet. Sign in and it is there again.",
            form.typed
        );
        return sign_in::ask_again(&state, &headers, next, notice);
    };
    let kept = keep_entry(&signed, (&state, &address), id, &form).await;
    if short {
        return Ok(short_answer(kept));
    }
    match kept? {
        (Outcome::Goto(path) | Outcome::Moved(path, _), _) => {
            Ok(Redirect::to(&path).into_response())
        }
        (Outcome::Again(typed), Some(view)) => {
            let mut connection = state.store.connection().await?;
            let correct = form.replaces.map(ReadingId);
            let shown = view.page(&state, &mut connection, &signed, correct, *typed).await?;
            page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
        }
        (Outcome::Again(_), None) => Err(WebError::NotFound),
    }
}

fn answer(status: StatusCode, state: &str, words: &str, next: &str) -> Response {
    let body = json!({ "state": state, "words": words, "next": next }).to_string();
    (status, [(header::CONTENT_TYPE, "application/json")], body).into_response()
}

fn short_answer(kept: Result<(Outcome, Option<OpenRun>), WebError>) -> Response {
    match kept {
        Ok((Outcome::Goto(path), _)) => answer(StatusCode::OK, "kept", "", &path),
        Ok((Outcome::Moved(_, words), _)) => answer(StatusCode::CONFLICT, "refused", &words, ""),
        Ok((Outcome::Again(typed), _)) => {
            let words = [
                &typed.error,
                &typed.added_error,
                &typed.reason_error,
                &typed.second_error,
                &typed.notice,
            ];
            let words = words.into_iter().flatten().next().cloned().unwrap_or_default();
            let asked = typed.may_confirm.then_some(typed.asked.as_str());
            let body = json!({ "state": "refused", "words": words, "next": "", "asked": asked });
            let kind = [(header::CONTENT_TYPE, "application/json")];
            (StatusCode::UNPROCESSABLE_ENTITY, kind, body.to_string()).into_response()
        }
        Err(WebError::NotNow { words }) => answer(StatusCode::CONFLICT, "refused", &words, ""),
        Err(WebError::ForeignForm) => {
            answer(StatusCode::FORBIDDEN, "signed_out", "Sign in again, then it is sent.", "")
        }
        Err(other) => other.into_response(),
    }
}

/// Keeps an entry, or says why not.
pub(super) async fn keep_entry(
    signed: &SignedIn,
    (state, address): (&AppState, &Address),
    id: i64,
    form: &EntryForm,
) -> Result<(Outcome, Option<OpenRun>), WebError> {
    // A page's own script is told more than "sign in", so that this route asks for the role itself.
    signed.check_form(&form.form_token)?;
    signed.may_check()?;
    if form.read_by.is_some_and(|person| person != signed.person.id.0) {
        return Err(WebError::NotNow {
            words: "Somebody else read this before the network went. It is kept in their name only: let them sign in here.".into(),
        });
    }
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(words) = &form.given_up {
        let id = now.check.id;
        keep_given_up(&mut connection, id, (form, words), (state.now(), signed.person.id)).await?;
        return Ok((Outcome::Goto(format!("/checks/{id}")), None));
    }
    if now.check.state != "open" {
        return Ok((came_late(&connection, &now.check, form).await?, None));
    }
    let view = load(state, &mut connection, now).await?;
    match keep_in(signed, (state, address, &mut connection), &view, form).await? {
        Outcome::Again(typed) => Ok((Outcome::Again(typed), Some(view))),
        other => Ok((other, None)),
    }
}

/// An entry of a check that is over: "kept" is said of what is kept, and of nothing else.
async fn came_late(
    connection: &Connection,
    check: &Check,
    form: &EntryForm,
) -> Result<Outcome, WebError> {
    let kept = entries::has_key(connection, check.id, form.key).await?;
    let over = if check.state == "void" { "void" } else { "concluded" };
    let path = match not_open(check) {
        Ok(next) => next.unwrap_or_else(|| format!("/checks/{}", check.id)),
        Err(_) if kept || form.age_ms.is_some() => format!("/checks/{}", check.id),
        Err(void) => return Err(void),
    };
    let words =
        format!("This check is {over} already; this entry came too late and is no part of it.");
    Ok(if kept { Outcome::Goto(path) } else { Outcome::Moved(path, words) })
}

/// Shows the step again, with what was typed and words.
fn again(form: &EntryForm, say: impl FnOnce(&mut Typed)) -> Outcome {
    let mut typed = form.as_typed();
    say(&mut typed);
    Outcome::Again(Box::new(typed))
}

/// The step that an entry is for, or what becomes of it where that is not open.
async fn open_target<'a>(
    connection: &Connection,
    view: &'a OpenRun,
    (signed, form): (&SignedIn, &EntryForm),
) -> Result<Result<Target<'a>, Outcome>, WebError> {
    let id = view.check.id;
    if view.check.held_by != signed.person.id && !entries::has_key(connection, id, form.key).await?
    {
        return Ok(Err(again(form, |typed| {
            typed.notice = Some(format!(
                "Nothing was kept: somebody else has this check in hand.{}",
                form.still_typed()
            ));
        })));
    }
    if let Some(target) = view.target(&form.step, form.repeat, form.replaces.map(ReadingId)) {
        return Ok(Ok(target));
    }
    let same = entries::has_key(connection, id, form.key).await?;
    // Held by the browser and not the next: the server has moved on meanwhile.
    if !same && form.age_ms.is_some() {
        let words = if view.is_ahead(&form.step, form.repeat) {
            "The check has not come to this step: what stands before it is not kept. Enter that first, then send this again."
        } else {
            "This step was kept already, here or on another screen; the check has gone on."
        };
        return Ok(Err(again(form, |typed| typed.error = Some(words.into()))));
    }
    Ok(Err(gone_on(id.0, same)))
}

/// What is proposed for a step: the text with what register, file and person add to it.
struct Proposed {
    proposal: Proposal,
    /// The certificate behind a tag, and at which place of the plan it stands.
    taken: Option<(usize, CertificateId)>,
    /// Words for cautions that are confirmed all at once.
    together: Option<String>,
    /// The file, or what was pasted in its place.
    table: Option<(String, Vec<u8>)>,
}

async fn proposed(
    signed: &SignedIn,
    (state, connection): (&AppState, &mut Connection),
    (view, target): (&OpenRun, &Target<'_>),
    (form, captured, received): (&EntryForm, Option<&Capture>, Timestamp),
) -> Result<Result<Proposed, Outcome>, WebError> {
    let mut proposal = form.proposal();
    let (mut taken, mut together) = (None, None);
    if let Input::Tag { place, any_of_kind, expected } = &target.step.input {
        let fixed = any_of_kind.is_none().then_some(expected.as_str());
        match judge_tag((state, connection), view, *place, fixed, &form.typed).await? {
            Ok((tag, certificate)) => {
                taken = Some((*place, certificate));
                proposal.standard = Some(Ok(tag));
            }
            Err(refusal) => proposal.standard = Some(Err(refusal)),
        }
    } else if let Some(words) = view.withdrawn_words() {
        return Ok(Err(again(form, |typed| typed.error = Some(words))));
    } else if target.step.input.measures() && view.may_run_out(received) {
        // The device's word on when it was read opens no standard that has ended since.
        let zone = Here::find(state, connection).await?.zone;
        let day = received.to_zoned_datetime(zone).date();
        if let Some(words) = view.run_out_words(received, day) {
            return Ok(Err(again(form, |typed| typed.error = Some(words))));
        }
    }
    if form.others.contains_key("together") {
        together = ticked_before(connection, view, target, signed).await?;
        if let (Some(_), Input::Confirm { sentences, .. }) = (&together, &target.step.input) {
            proposal.ticked = sentences.len();
        }
    }
    if let Input::File { .. } = &target.step.input {
        match chosen_file(form) {
            Ok(name) => proposal.typed = name,
            Err(words) => return Ok(Err(again(form, |typed| typed.error = Some(words)))),
        }
    }
    let mut table = None;
    if let Input::Trace { wanted, .. } = &target.step.input {
        if form.file.is_some() && !form.typed.trim().is_empty() {
            let words = "A file was chosen and numbers were pasted: which of them is meant cannot be told, and nothing is kept. Empty the field, or choose no file.";
            return Ok(Err(again(form, |typed| typed.error = Some(words.into()))));
        }
        table = form.table().or_else(|| {
            captured.map(|capture| (format!("capture {}", capture.id), capture.bytes.clone()))
        });
        if let Some((_, bytes)) = &table {
            let (bytes, wanted) = (bytes.clone(), wanted.clone());
            // A long one takes a moment, and others wait for their pages.
            let read = tokio::task::spawn_blocking(move || trace_file::read(&bytes, &wanted));
            let read = read.await.map_err(|cause| WebError::Inner(cause.to_string()))?;
            proposal.table = Some(read);
        }
    }
    Ok(Ok(Proposed { proposal, taken, together, table }))
}

/// The name of the file that came with an entry, where it may be kept; no name where none came.
fn chosen_file(form: &EntryForm) -> Result<String, String> {
    let Some(file) = &form.file else { return Ok(String::new()) };
    if file.bytes.len() > MOST_BYTES {
        return Err("The file is larger than 8 MB. Send a smaller one.".to_owned());
    }
    if media_type(&file.bytes).is_none() {
        return Err(
            "This is no picture (PNG, JPEG, WebP) and no PDF. Choose another file.".to_owned()
        );
    }
    let name: String = clean(&file.name).chars().take(100).collect();
    Ok(if name.is_empty() { "file".to_owned() } else { name })
}

/// Keeps the file of an entry with the check, and says which it is; one that was sent twice is kept once.
async fn keep_file(
    connection: &mut Connection,
    check: CheckId,
    (file, name): (&Upload, &str),
    (title, person, at): (&str, PersonId, Timestamp),
) -> Result<String, WebError> {
    let new = NewFile {
        owner: Owner::Check(check),
        name,
        media_type: media_type(&file.bytes).unwrap_or("application/octet-stream"),
        bytes: &file.bytes,
        caption: title,
        person,
        at: At(at),
    };
    let id = files::keep(connection, &new).await?;
    Ok(format!("{name} (file {id})"))
}

/// What the rules say of a proposal: too late is judged by when it arrived, too early by when it is said to have been read.
fn judged(
    (view, target): (&OpenRun, &Target<'_>),
    proposal: &Proposal,
    (measured, received): (Timestamp, Timestamp),
) -> Result<Result<EntryValue, EntryError>, WebError> {
    let value = match accept(target.step, proposal, &view.run, measured) {
        Ok(value) => value,
        Err(error) => return Ok(Err(error)),
    };
    match accept(target.step, proposal, &view.run, received) {
        Err(late) if late.is_too_late() => return Ok(Err(late)),
        _ => {}
    }
    let doubt = view.way.method.doubt(&view.way.spec, &view.run, target.step, &value)?;
    Ok(guarded(&target.step.input, proposal, value, doubt))
}

/// Keeps an entry in an open check.
async fn keep_in(
    signed: &SignedIn,
    (state, address, connection): (&AppState, &Address, &mut Connection),
    view: &OpenRun,
    form: &EntryForm,
) -> Result<Outcome, WebError> {
    let id = view.check.id;
    let target = match open_target(connection, view, (signed, form)).await? {
        Ok(target) => target,
        Err(outcome) => return Ok(outcome),
    };
    let received = state.now();
    let captured = captured(connection, view, &target, form).await?;
    let measured = match &captured {
        Some(capture) => captured_at(view, capture, received),
        None => measured_at(view, target.step, form, received),
    };
    let of = (form, captured.as_ref(), received);
    let proposed = proposed(signed, (state, connection), (view, &target), of).await?;
    let Proposed { mut proposal, taken, together, table } = match proposed {
        Ok(proposed) => proposed,
        Err(outcome) => return Ok(outcome),
    };
    // What was tried on the device stays on record, also where this is refused: the next try comes without it.
    keep_attempted(connection, view, &target, (form, &proposal), (measured, signed)).await?;
    if let Input::Setting { by_lead: true, .. } = target.step.input {
        proposal.by_lead = signed.person.role == "lead";
        proposal.found = found_wrong(connection, view, target.step).await?;
    }
    let value = match judged((view, &target), &proposal, (measured, received))? {
        Ok(value) => value,
        Err(error) => {
            if let Some(kind) = error.attempt() {
                let at = (measured, signed.person.id);
                let typed = form.named(table.as_ref());
                keep_attempt(connection, view, &target, (kind, &typed), at, &error).await?;
            }
            return Ok(Outcome::Again(Box::new(refused(form, &error))));
        }
    };
    if target.replaces.is_some() && form.reason.trim().is_empty() {
        let words = "Say in a few words why it is corrected, for example “typed wrongly”.";
        return Ok(again(form, |typed| typed.reason_error = Some(words.into())));
    }
    let (corrected, of) = ((&target, &value), (form, measured));
    let by = (&mut *connection, address, received);
    let second = match second_person(by, signed, view, corrected, of).await? {
        Ok(second) => second,
        Err(words) => return Ok(again(form, |typed| typed.second_error = Some(words))),
    };
    let reason = clean(&form.reason);
    let file = match (&target.step.input, &form.file) {
        (Input::File { .. }, Some(file)) => {
            let about = (target.step.title.as_str(), signed.person.id, received);
            let named = (file, proposal.typed.as_str());
            Some(keep_file(connection, id, named, about).await?)
        }
        _ => None,
    };
    let value = match (file, value) {
        (Some(text), EntryValue::Text { .. }) => EntryValue::Text { text },
        (_, value) => value,
    };
    let typed = match &value {
        EntryValue::Text { text } if matches!(target.step.input, Input::File { .. }) => {
            text.clone()
        }
        EntryValue::Trace { points, .. } => {
            format!("{}, {points} points", form.named(table.as_ref()))
        }
        _ => together.unwrap_or_else(|| form.typed.trim().to_owned()),
    };
    let new = NewEntry {
        check: id,
        step: &target.step.key,
        repeat: target.repeat,
        value: &value,
        typed: &typed,
        unit: target.step.input.unit(),
        person: signed.person.id,
        measured_at: measured,
        received_at: received,
        key: form.key,
        replaces: match target.replaces {
            Some(old) => Some((old, reason.as_str())),
            None => target.redone.map(|old| (old, "redone after an earlier step")),
        },
        second,
        source: match (form.age_ms, &captured) {
            (Some(_), _) => "held",
            (None, Some(_)) => "device",
            (None, None) => "keyed",
        },
        capture: captured.as_ref().map(|capture| capture.id),
        original: table.as_ref().map(|(name, bytes)| Original { name, bytes }),
    };
    let kept = keep_and_void(connection, &new, view.seen.clone(), &target, taken).await?;
    if kept == Kept::Overtaken {
        return Ok(gone_on(id.0, entries::has_key(connection, id, form.key).await?));
    }
    if target.is_last && target.replaces.is_none() {
        return Ok(Outcome::Goto(finish(connection, id, signed.person.id, received).await?));
    }
    Ok(Outcome::Goto(format!("/checks/{id}")))
}

/// The step is not the one that is open: the same entry sent twice, or somebody else was first.
fn gone_on(id: i64, same: bool) -> Outcome {
    if same {
        return Outcome::Goto(format!("/checks/{id}"));
    }
    let words = "This step was kept by somebody else at the same moment; the check has gone on.";
    Outcome::Moved(format!("/checks/{id}?overtaken=true"), words.to_owned())
}

/// When it was read: now, or as long ago as the browser says that it held it, but not before what the server itself knows
/// of: what was kept last, when that arrived while the network was there, and when the check began. The start and end of
/// a wait are the server's own.
fn measured_at(view: &OpenRun, step: &Step, form: &EntryForm, now: Timestamp) -> Timestamp {
    let Some(age) = form.age_ms else { return now };
    if step.input.is_wait() {
        return now;
    }
    let known = view.entries.kept.iter().map(|entry| match entry.source.as_str() {
        // Another that was held says no more than that it was read before this one.
        "held" => entry.measured_at.0,
        _ => entry.received_at.0,
    });
    let earliest = known.max().unwrap_or(view.check.opened_at.0).max(view.check.opened_at.0);
    let age = SignedDuration::from_millis(age.clamp(0, 14 * 86_400_000));
    (now - age).max(earliest).min(now)
}

/// What the register says of the tag in hand, and the certificate that stands behind it.
async fn judge_tag(
    (state, connection): (&AppState, &mut Connection),
    view: &OpenRun,
    place: usize,
    fixed: Option<&str>,
    typed: &str,
) -> Result<Result<(String, CertificateId), TagRefusal>, WebError> {
    let now = state.now();
    let zone = Here::find(state, connection).await?.zone;
    let today = now.to_zoned_datetime(zone).date();
    let plan = plans::version(connection, view.check.plan_version_id).await?;
    let points = plans::points(connection, view.check.plan_version_id).await?;
    let all = standards::all(connection, today).await?;
    let facts = all.iter().map(Record::facts).collect::<Result<Vec<_>, _>>()?;
    let wanted = wanted(&plan, &points, &all)?;
    let wanted = wanted.get(place).ok_or_else(|| WebError::Inner("place of a standard".into()))?;
    let found = match check_tag(typed, fixed, &facts, wanted.offer(), now, today) {
        Ok(found) => found,
        Err(refusal) => return Ok(Err(refusal)),
    };
    let record = all.iter().find(|record| record.standard.tag == found.tag);
    let certificate =
        record.and_then(|record| record.certificate.as_ref()).ok_or(WebError::NotFound)?;
    // The lot may have changed since the check began; then what is in hand now counts.
    let mut used = checks::certificates_of(connection, &view.check).await?;
    if used.get(place).is_some_and(|own| *own != certificate.id) {
        used[place] = certificate.id;
        let purpose: Result<Purpose, _> = view.check.purpose.parse();
        let purpose = purpose.map_err(|_| vaaka_store::unreadable_word(&view.check.purpose))?;
        match fits(connection, &plan, &used, purpose).await {
            Err(WebError::NotNow { words }) => return Ok(Err(TagRefusal::Unmet { words })),
            other => other?,
        }
    }
    Ok(Ok((found.tag.clone(), certificate.id)))
}

fn refused(form: &EntryForm, error: &EntryError) -> Typed {
    let mut typed = form.as_typed();
    typed.may_confirm = error.may_confirm();
    typed.asked = error.asked_about().unwrap_or(&form.typed).to_owned();
    typed.too_late = error.is_too_late();
    if error.is_about_added() {
        typed.added_error = Some(error.to_string());
    } else {
        typed.error = Some(error.to_string());
    }
    typed
}

/// The second person of a correction that brings something from outside to inside its limits; none where it does not.
async fn second_person(
    (connection, address, now): (&mut Connection, &Address, Timestamp),
    signed: &SignedIn,
    view: &OpenRun,
    (target, value): (&Target<'_>, &EntryValue),
    (form, measured): (&EntryForm, Timestamp),
) -> Result<Result<Option<PersonId>, String>, WebError> {
    if target.replaces.is_none() || !view.brought_inside(target, value, measured)? {
        return Ok(Ok(None));
    }
    let ask = "This brings it from outside to inside its limits, so a second person looks at the display and at what was typed before. They give their own name and password here.";
    if form.second.trim().is_empty() {
        return Ok(Err(ask.to_owned()));
    }
    let who = (form.second.as_str(), form.second_password.as_str());
    let proof = prove_on(connection, who, address, "second a correction", now).await?;
    if let Some(words) = proof.refusal("nothing was changed") {
        return Ok(Err(words));
    }
    let Proof::Fits(person) = proof else { return Ok(Err(ask.to_owned())) };
    if person.id == signed.person.id {
        return Ok(Err("That is you. Another person looks at it.".to_owned()));
    }
    if !matches!(person.role.as_str(), "technician" | "lead") {
        return Ok(Err(
            "That person runs no checks. A technician or a lead looks at it.".to_owned()
        ));
    }
    Ok(Ok(Some(person.id)))
}

/// Words for cautions that are confirmed all at once, where this person ticked them one by one in this shift: asked of what is
/// kept, not of the form.
async fn ticked_before(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    signed: &SignedIn,
) -> Result<Option<String>, WebError> {
    let Some(at) = view.ticked_before(connection, target, signed.person.id).await? else {
        return Ok(None);
    };
    let zone = shifts::zone(&shifts::site(connection).await?)?;
    Ok(Some(format!("all at once; ticked one by one at {}", local_time(at.0, &zone))))
}

/// A correction and what it voids stand or fall together, and so do a tag and the certificate
/// that it stands for: half of either would leave readings that rest on what no longer holds.
async fn keep_and_void(
    connection: &mut Connection,
    new: &NewEntry<'_>,
    seen: Option<Head>,
    target: &Target<'_>,
    taken: Option<(usize, CertificateId)>,
) -> Result<Kept, WebError> {
    let corrected = target.replaces.filter(|_| !target.step.voids.is_empty());
    if corrected.is_none() && taken.is_none() {
        return Ok(entries::keep(connection, new, seen).await?);
    }
    let voids = if corrected.is_some() { target.step.voids.as_slice() } else { &[] };
    Ok(entries::keep_together(connection, new, seen, (corrected, voids), taken).await?)
}
