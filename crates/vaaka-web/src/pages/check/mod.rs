//! Running a check: one step a screen, each entry kept as it is made.

pub mod input;
pub mod ladder;
pub mod live;
pub mod place;
pub mod rung;
pub mod start;
pub mod step;
mod trace_file;
pub mod values;
pub mod verdict;
pub mod verdict_parts;
pub mod view;
pub mod void;

use axum::extract::{FromRequest, Multipart, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;
use vaaka_core::method::{
    AttemptKind, EntryError, EntryValue, Input, Proposal, Purpose, Step, accept, guarded,
};
use vaaka_core::standard::{TagRefusal, check_tag};
use vaaka_store::audit::Head;
use vaaka_store::checks;
use vaaka_store::entries::{self, Kept, NewEntry};
use vaaka_store::ids::{CertificateId, CheckId, PersonId, ReadingId};
use vaaka_store::rows::{AttemptRow, Check};
use vaaka_store::standards::{self, Record};
use vaaka_store::traces::Original;
use vaaka_store::{At, Concluded, Connection, StoreError, attempts, conclude_check, plans, shifts};

use crate::auth::{Address, Proof, prove_on};
use crate::desk::{Desk, Upload};
use crate::error::WebError;
use crate::fields::clean;
use crate::forms::{Asked, PathId, Posted};
use crate::open_run::{OpenRun, Target, load};
use crate::pages::check::input::MOST_TRACE_BYTES;
use crate::pages::check::start::{fits, wanted};
use crate::pages::check::step::Typed;
use crate::pages::people::sign_in;
use crate::paths::encode;
use crate::session::SignedIn;
use crate::shell::{Here, page};
use crate::state::{AppState, local_time};

/// What the address may carry.
#[derive(Debug, Default, Deserialize)]
pub struct ShowQuery {
    #[serde(default)]
    typed: String,
    #[serde(default)]
    added: String,
    #[serde(default)]
    correct: Option<i64>,
    #[serde(default)]
    overtaken: bool,
    /// What was typed where several values stand on one screen: key and text, a line each.
    #[serde(default)]
    values: String,
}

/// Shows the step that is next, or an entry to correct.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ShowQuery>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(next) = not_open(&now.check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    let view = load(&state, &mut connection, now).await?;
    let mut typed = Typed { text: query.typed, added: query.added, ..Typed::default() };
    let values = query.values.lines().filter_map(|line| line.split_once('='));
    typed.values = values.map(|(key, text)| (key.into(), (text.into(), None))).collect();
    if query.overtaken {
        typed.notice = Some("This step was kept a moment ago, here or on another screen. Nothing was kept twice; go on from here.".into());
    } else if !typed.text.is_empty() || !query.values.is_empty() {
        typed.notice = Some("You were signed out before this was kept. Look at the display once more, then keep it.".into());
    }
    page(
        StatusCode::OK,
        &view.page(&state, &mut connection, &signed, query.correct.map(ReadingId), typed).await?,
    )
}

/// Where to go when a check is no longer open.
fn not_open(check: &Check) -> Result<Option<String>, WebError> {
    match check.state.as_str() {
        "open" => Ok(None),
        "void" => Err(WebError::NotNow {
            words: format!(
                "This check is void: {}. It stays on record and off the chart. Start it again from the round.",
                check.void_reason.clone().unwrap_or_default()
            ),
        }),
        _ => Ok(Some(format!("/checks/{}/verdict", check.id))),
    }
}

/// An entry as it is sent.
#[derive(Debug, Default, Deserialize)]
pub struct EntryForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    step: String,
    #[serde(default)]
    repeat: u32,
    #[serde(default)]
    key: Uuid,
    #[serde(default)]
    typed: String,
    #[serde(default)]
    added: String,
    /// One character for each ticked sentence, joined by the page's own names tick0, tick1 …
    #[serde(flatten)]
    others: std::collections::HashMap<String, String>,
    /// The value that the guard asked about, when its question was answered with yes.
    #[serde(default)]
    confirm_far: Option<String>,
    /// What was typed first while the network was gone, and not kept: one value a line.
    #[serde(default)]
    attempted: String,
    /// Why the server did not take what the browser held, when somebody gave it up for that: it is kept as an attempt.
    #[serde(default)]
    given_up: Option<String>,
    #[serde(default)]
    replaces: Option<i64>,
    #[serde(default)]
    reason: String,
    /// Sign-in name and password of the second person who saw a correction from outside to inside.
    #[serde(default)]
    second: String,
    #[serde(default)]
    second_password: String,
    /// How long ago it was read, in milliseconds by the device's own count: sent when the browser
    /// held it while the network was gone.
    #[serde(default)]
    age_ms: Option<i64>,
    /// Who read it, when the browser held it: it is kept in nobody else's name.
    #[serde(default)]
    read_by: Option<i64>,
    /// A file that came with it.
    #[serde(skip)]
    file: Option<Upload>,
}

/// Text that is pasted and put back when it is refused; more than that is asked for again.
const MOST_PUT_BACK: usize = 200_000;

/// An entry in either form: as other forms are sent, or in parts where a file may come along.
#[derive(Debug)]
pub struct SentEntry(EntryForm);

impl<S: Send + Sync> FromRequest<S> for SentEntry {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &S) -> Result<Self, WebError> {
        let kind = request.headers().get(header::CONTENT_TYPE);
        if !kind.is_some_and(|kind| kind.as_bytes().starts_with(b"multipart/form-data")) {
            let Posted(form) = Posted::from_request(request, state).await?;
            return Ok(Self(form));
        }
        let bad = |cause: &dyn std::fmt::Display| WebError::BadForm(cause.to_string());
        let mut parts =
            Multipart::from_request(request, state).await.map_err(|cause| bad(&cause))?;
        let whole = |_| WebError::NotNow {
            words: format!(
                "The file did not arrive whole, or is larger than the {} MB that are taken here. Measure with fewer points, or export one curve only, and take that file.",
                MOST_TRACE_BYTES / 1024 / 1024
            ),
        };
        let (mut fields, mut file, mut pasted) = (String::new(), None, None);
        while let Some(field) = parts.next_field().await.map_err(whole)? {
            let name = field.name().unwrap_or_default().to_owned();
            if let Some(own) = field.file_name() {
                let name = clean(own);
                let bytes = field.bytes().await.map_err(whole)?.to_vec();
                if !bytes.is_empty() {
                    file = Some(Upload { name, bytes });
                }
            } else if name == "typed" {
                pasted = Some(field.text().await.map_err(whole)?.replace('\0', ""));
            } else {
                let text = field.text().await.map_err(whole)?;
                let mark = if fields.is_empty() { "" } else { "&" };
                fields.push_str(&format!("{mark}{}={}", encode(&name), encode(&text)));
            }
        }
        // Read by the very reader of all other entries.
        let rest = Request::post("/")
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .body(axum::body::Body::from(fields))
            .map_err(|cause| bad(&cause))?;
        let Posted(form) = Posted::<EntryForm>::from_request(rest, state).await?;
        Ok(Self(EntryForm { typed: pasted.unwrap_or_default(), file, ..form }))
    }
}

impl EntryForm {
    fn proposal(&self) -> Proposal {
        Proposal {
            typed: self.typed.clone(),
            added: self.added.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).count(),
            confirm_far: self.confirm_far.clone(),
            ..Proposal::default()
        }
    }

    /// Whether it is more than a line of text.
    fn is_long(&self) -> bool {
        self.file.is_some() || self.typed.len() > 2_000
    }

    /// The file that came, or what was pasted in its place: its name and bytes.
    fn table(&self) -> Option<(String, Vec<u8>)> {
        match &self.file {
            Some(file) => Some((file.name.clone(), file.bytes.clone())),
            None if self.typed.trim().is_empty() => None,
            None => Some((String::new(), self.typed.clone().into_bytes())),
        }
    }

    fn as_typed(&self) -> Typed {
        let whole = self.typed.len() <= MOST_PUT_BACK;
        Typed {
            text: if whole { self.typed.clone() } else { String::new() },
            added: self.added.clone(),
            reason: self.reason.clone(),
            second: self.second.clone(),
            ticked: self.others.keys().filter(|name| name.starts_with("tick")).cloned().collect(),
            ..Typed::default()
        }
    }
}

/// What became of an entry that was sent.
enum Outcome {
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

async fn keep_entry(
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
        // "Kept" is said of what is kept, and of nothing else.
        let kept = entries::has_key(&connection, now.check.id, form.key).await?;
        let over = if now.check.state == "void" { "void" } else { "concluded" };
        let path = match not_open(&now.check) {
            Ok(next) => next.unwrap_or_else(|| format!("/checks/{id}")),
            Err(_) if kept || form.age_ms.is_some() => format!("/checks/{id}"),
            Err(void) => return Err(void),
        };
        let words =
            format!("This check is {over} already; this entry came too late and is no part of it.");
        let outcome = if kept { Outcome::Goto(path) } else { Outcome::Moved(path, words) };
        return Ok((outcome, None));
    }
    let view = load(state, &mut connection, now).await?;
    let again = |view: OpenRun, typed: Typed| Ok((Outcome::Again(Box::new(typed)), Some(view)));
    if view.check.held_by != signed.person.id
        && !entries::has_key(&connection, view.check.id, form.key).await?
    {
        let mut typed = form.as_typed();
        typed.notice = Some(format!(
            "Nothing was kept: somebody else has this check in hand.{}",
            still_typed(form)
        ));
        return again(view, typed);
    }
    let Some(target) = view.target(&form.step, form.repeat, form.replaces.map(ReadingId)) else {
        let same = entries::has_key(&connection, view.check.id, form.key).await?;
        // Held by the browser and not the next: the server has moved on meanwhile.
        if !same && form.age_ms.is_some() {
            let mut typed = form.as_typed();
            let words = if view.is_ahead(&form.step, form.repeat) {
                "The check has not come to this step: what stands before it is not kept. Enter that first, then send this again."
            } else {
                "This step was kept already, here or on another screen; the check has gone on."
            };
            typed.error = Some(words.into());
            return again(view, typed);
        }
        return Ok((gone_on(id, same), None));
    };
    let received = state.now();
    let measured = measured_at(&view, target.step, form, received);
    let mut proposal = form.proposal();
    let (mut taken, mut together) = (None, None);
    if let Input::Tag { place, any_of_kind, expected } = &target.step.input {
        let fixed = any_of_kind.is_none().then_some(expected.as_str());
        match judge_tag((state, &mut connection), &view, *place, fixed, &form.typed).await? {
            Ok((tag, certificate)) => {
                taken = Some((*place, certificate));
                proposal.standard = Some(Ok(tag));
            }
            Err(refusal) => proposal.standard = Some(Err(refusal)),
        }
    } else if let Some(words) = view.withdrawn_words() {
        let mut typed = form.as_typed();
        typed.error = Some(words);
        return again(view, typed);
    } else if target.step.input.measures() && view.may_run_out(received) {
        // The device's word on when it was read opens no standard that has ended since.
        let zone = Here::find(state, &mut connection).await?.zone;
        let day = received.to_zoned_datetime(zone).date();
        if let Some(words) = view.run_out_words(received, day) {
            let mut typed = form.as_typed();
            typed.error = Some(words);
            return again(view, typed);
        }
    }
    if form.others.contains_key("together") {
        together = ticked_before(&mut connection, &view, &target, signed).await?;
        if let (Some(_), Input::Confirm { sentences, .. }) = (&together, &target.step.input) {
            proposal.ticked = sentences.len();
        }
    }
    let wanted = match &target.step.input {
        Input::Trace { wanted, .. } => Some(wanted),
        _ => None,
    };
    let table = form.table().filter(|_| wanted.is_some());
    if table.is_some() && form.file.is_some() && !form.typed.trim().is_empty() {
        let mut typed = form.as_typed();
        typed.error = Some(
            "A file was chosen and numbers were pasted: which of them is meant cannot be told, and nothing is kept. Empty the field, or choose no file."
                .into(),
        );
        return again(view, typed);
    }
    if let (Some((_, bytes)), Some(wanted)) = (&table, wanted) {
        let (bytes, wanted) = (bytes.clone(), wanted.clone());
        // A long one takes a moment, and others wait for their pages.
        let read = tokio::task::spawn_blocking(move || trace_file::read(&bytes, &wanted));
        let read = read.await.map_err(|cause| WebError::Inner(cause.to_string()))?;
        proposal.table = Some(read);
    }
    // What was tried on the device stays on record, also where this is refused: the next try comes without it.
    keep_attempted(&mut connection, &view, &target, (form, &proposal), (measured, signed)).await?;
    if let Input::Setting { by_lead: true, .. } = target.step.input {
        proposal.by_lead = signed.person.role == "lead";
        proposal.found = found_wrong(&connection, &view, target.step).await?;
    }
    // Too late is judged by when it arrived, too early by when it is said to have been read.
    let judged =
        accept(target.step, &proposal, &view.run, measured).and_then(|value| {
            match accept(target.step, &proposal, &view.run, received) {
                Err(late) if late.is_too_late() => Err(late),
                _ => Ok(value),
            }
        });
    let judged = match judged {
        Ok(value) => {
            let (method, spec) = (view.way.method, &view.way.spec);
            let doubt = method.doubt(spec, &view.run, target.step, &value)?;
            guarded(&target.step.input, &proposal, value, doubt)
        }
        Err(error) => Err(error),
    };
    let value = match judged {
        Ok(value) => value,
        Err(error) => {
            if let Some(kind) = error.attempt() {
                let at = (measured, signed.person.id);
                keep_attempt(
                    &mut connection,
                    &view,
                    &target,
                    (kind, &named(form, &table)),
                    at,
                    &error,
                )
                .await?;
            }
            let typed = refused(form, &error);
            return again(view, typed);
        }
    };
    if target.replaces.is_some() && form.reason.trim().is_empty() {
        let mut typed = form.as_typed();
        typed.reason_error =
            Some("Say in a few words why it is corrected, for example “typed wrongly”.".into());
        return again(view, typed);
    }
    let second = match second_person(
        (&mut connection, address, received),
        signed,
        &view,
        (&target, &value),
        (form, measured),
    )
    .await?
    {
        Ok(second) => second,
        Err(words) => {
            let mut typed = form.as_typed();
            typed.second_error = Some(words);
            return again(view, typed);
        }
    };
    let reason = clean(&form.reason);
    let typed = match &value {
        EntryValue::Trace { points, .. } => format!("{}, {points} points", named(form, &table)),
        _ => together.unwrap_or_else(|| form.typed.trim().to_owned()),
    };
    let new = NewEntry {
        check: view.check.id,
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
        source: if form.age_ms.is_some() { "held" } else { "keyed" },
        original: table.as_ref().map(|(name, bytes)| Original { name, bytes }),
    };
    let kept = keep_and_void(&mut connection, &new, view.seen.clone(), &target, taken).await?;
    if kept == Kept::Overtaken {
        let same = entries::has_key(&connection, view.check.id, form.key).await?;
        return Ok((gone_on(id, same), None));
    }
    if target.is_last && target.replaces.is_none() {
        let next = finish(&mut connection, view.check.id, signed.person.id, received).await?;
        return Ok((Outcome::Goto(next), None));
    }
    Ok((Outcome::Goto(format!("/checks/{id}")), None))
}

/// What stands for an entry in words: what was typed, or the name of its file.
fn named(form: &EntryForm, table: &Option<(String, Vec<u8>)>) -> String {
    match table {
        Some((name, _)) if name.trim().is_empty() => "pasted".to_owned(),
        Some((name, _)) => name.chars().take(120).collect(),
        None => form.typed.trim().to_owned(),
    }
}

/// The step is not the one that is open: the same entry sent twice, or somebody else was first.
fn gone_on(id: i64, same: bool) -> Outcome {
    if same {
        return Outcome::Goto(format!("/checks/{id}"));
    }
    let words = "This step was kept by somebody else at the same moment; the check has gone on.";
    Outcome::Moved(format!("/checks/{id}?overtaken=true"), words.to_owned())
}

fn still_typed(form: &EntryForm) -> String {
    match form.typed.trim() {
        _ if form.is_long() => String::new(),
        "" => String::new(),
        typed => format!(" What you typed: {typed}."),
    }
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

/// What a setting was found at before, where that was not the one wanted.
async fn found_wrong(
    connection: &Connection,
    view: &OpenRun,
    step: &Step,
) -> Result<Option<String>, WebError> {
    let kept = attempts::of(connection, view.check.id).await?;
    let of_step = |row: &AttemptRow| row.step_key == step.key.0 && row.kind == "setting";
    Ok(kept.into_iter().find(|(row, _)| of_step(row)).map(|(row, _)| row.typed))
}

/// Keeps what was typed first while the network was gone, and what the rules would have refused or asked about.
async fn keep_attempted(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    (form, proposal): (&EntryForm, &Proposal),
    (measured, signed): (Timestamp, &SignedIn),
) -> Result<(), WebError> {
    /// Nobody types more wrong values at one step.
    const MOST: usize = 20;
    let lines: Vec<&str> = form.attempted.lines().map(str::trim).collect();
    if lines.iter().all(|line| line.is_empty()) {
        return Ok(());
    }
    // Sent again, they are there already.
    let before = attempts::of(connection, view.check.id).await?;
    let known = |typed: &str| {
        before.iter().any(|(row, _)| row.step_key == target.step.key.0 && row.typed == typed)
    };
    let kept = form.typed.trim();
    let new = lines.into_iter().filter(|typed| !typed.is_empty() && *typed != kept);
    for typed in new.filter(|typed| !known(typed)).take(MOST) {
        let first = Proposal { typed: typed.to_owned(), confirm_far: None, ..proposal.clone() };
        if let Err(error) = accept(target.step, &first, &view.run, measured)
            && let Some(kind) = error.attempt()
        {
            let at = (measured, signed.person.id);
            keep_attempt(connection, view, target, (kind, typed), at, &error).await?;
        }
    }
    Ok(())
}

/// What the browser held and the server did not take is no entry; that it was read stays on record.
async fn keep_given_up(
    connection: &mut Connection,
    check: CheckId,
    (form, words): (&EntryForm, &str),
    (now, person): (Timestamp, PersonId),
) -> Result<(), WebError> {
    let short = |text: &str, most: usize| clean(text).chars().take(most).collect::<String>();
    let said = short(words, 400);
    let row = AttemptRow {
        check_id: check,
        step_key: short(&form.step, 80),
        repeat: i32::try_from(form.repeat.max(1)).unwrap_or(i32::MAX),
        kind: "held".to_owned(),
        typed: short(form.file.as_ref().map_or(&form.typed, |file| &file.name), 40),
        said: if said.is_empty() { "not taken".to_owned() } else { said },
        person_id: person,
        at: At(now),
    };
    Ok(attempts::keep(connection, &row).await?)
}

/// Keeps what was refused and says something about the instrument or the standard.
async fn keep_attempt(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    (kind, typed): (AttemptKind, &str),
    (at, person): (Timestamp, PersonId),
    error: &EntryError,
) -> Result<(), WebError> {
    let row = AttemptRow {
        check_id: view.check.id,
        step_key: target.step.key.0.clone(),
        repeat: i32::try_from(target.repeat).unwrap_or(i32::MAX),
        kind: kind.word().to_owned(),
        typed: clean(typed).chars().take(40).collect(),
        said: error.to_string(),
        person_id: person,
        at: At(at),
    };
    Ok(attempts::keep(connection, &row).await?)
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

async fn finish(
    connection: &mut Connection,
    id: CheckId,
    person: PersonId,
    now: Timestamp,
) -> Result<String, WebError> {
    Ok(match conclude_check(connection, id, person, now).await? {
        Concluded::Now | Concluded::Before => format!("/checks/{id}/verdict"),
        Concluded::Void => format!("/checks/{id}"),
    })
}

/// A form with its token alone.
#[derive(Debug, Deserialize)]
pub struct ConcludeForm {
    #[serde(default)]
    form_token: String,
}

/// Concludes a check whose last entry was kept when the server went down before the verdict.
pub async fn conclude(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<ConcludeForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(next) = not_open(&now.check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    // A check is judged when its last step is done, by whoever has it in hand; nothing is skipped by asking for it.
    let id = now.check.id;
    let view = load(&state, &mut connection, now).await?;
    if view.check.held_by != signed.person.id || view.run.next(&view.steps).is_some() {
        return Ok(Redirect::to(&format!("/checks/{id}")).into_response());
    }
    let next = finish(&mut connection, id, signed.person.id, state.now()).await?;
    Ok(Redirect::to(&next).into_response())
}

/// Taking a check over.
#[derive(Debug, Deserialize)]
pub struct TakeOverForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    from: i64,
}

/// Takes a check over from a colleague; both names are kept.
pub async fn take_over(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Posted(form): Posted<TakeOverForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    if let Some(next) = not_open(&check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    let plan = plans::version(&mut desk.connection, check.plan_version_id).await?;
    crate::pages::check::start::may_run(&mut desk, &signed, &plan).await?;
    let by = signed.person.id;
    let taken =
        checks::take_over(&mut desk.connection, check.id, PersonId(form.from), by, desk.now);
    match taken.await {
        Ok(()) => Ok(Redirect::to(&format!("/checks/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words: "Somebody else took this check over a moment ago. Go back to it to see who has it in hand.".into(),
        }),
        Err(other) => Err(other.into()),
    }
}
