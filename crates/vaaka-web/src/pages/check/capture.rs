//! Reading the instrument over its line instead of typing: what came goes into the field, and is kept when somebody keeps it.

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_core::method::{Input, Step, capture};
use vaaka_core::quantity::Unit;
use vaaka_devices::{Answer, Link, Way, text};
use vaaka_store::captures::{self, Capture, NewCapture};
use vaaka_store::ids::{CaptureId, CheckId, KeyId, ReadingId};
use vaaka_store::links::{self, LinkRow};
use vaaka_store::rows::Instrument;
use vaaka_store::{By, Connection, entries, instruments};

use super::sent::{EntryForm, SentEntry};
use super::step::Typed;
use crate::error::WebError;
use crate::forms::PathId;
use crate::lines::{ToRead, link_of, read_line};
use crate::open_run::{OpenRun, Target, load};
use crate::session::SignedIn;
use crate::shell::page;
use crate::state::AppState;

/// How the step that is shown can be read.
#[derive(Debug, Clone)]
pub struct ReadView {
    /// The instrument sends when its own key is pressed.
    pub own_key: bool,
    /// What is read is kept at once.
    pub saves: bool,
}

/// Whether a link fits what a step asks for.
pub(super) fn fits(link: &Link, input: &Input) -> bool {
    match input {
        Input::Reading { .. } => link.way != Way::Block,
        Input::Trace { .. } => link.way == Way::Block,
        _ => false,
    }
}

/// How a step is read, where the instrument has a link in use that fits it.
pub(super) fn read_view(link: Option<&LinkRow>, step: &Step) -> Option<ReadView> {
    let row = link.filter(|row| row.in_use)?;
    match link_of(row) {
        Ok(link) => fits(&link, &step.input)
            .then_some(ReadView { own_key: link.way == Way::OwnKey, saves: step.capture_saves }),
        // Typing goes on without it.
        Err(error) => {
            tracing::error!(%error, instrument = row.instrument_id.0, "a link cannot be read");
            None
        }
    }
}

/// What came, and the words beside it.
struct Came {
    id: CaptureId,
    typed: String,
    shown: String,
    said: Vec<String>,
}

/// Reads the instrument for the step that is open. A page's own script asks for a short answer; without one the step is shown
/// again with the value in its field.
pub async fn read(
    signed: SignedIn,
    State(state): State<AppState>,
    headers: HeaderMap,
    PathId(id): PathId,
    SentEntry(form): SentEntry,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let short = headers
        .get(header::ACCEPT)
        .and_then(|value| value.to_str().ok())
        .is_some_and(|accept| accept.starts_with("application/json"));
    let came = read_for(&signed, &state, id, &form).await;
    if short {
        return Ok(match came {
            Ok(Ok(came)) => said(StatusCode::OK, &came),
            Ok(Err(words)) => words_only(StatusCode::UNPROCESSABLE_ENTITY, &words),
            Err(WebError::NotNow { words }) => words_only(StatusCode::CONFLICT, &words),
            Err(other) => other.into_response(),
        });
    }
    let (status, typed) = match came? {
        Ok(came) => {
            let capture = Some((came.id.0, captured_words(&came.shown, &came.said)));
            (StatusCode::OK, Typed { text: came.typed, capture, ..form.as_typed() })
        }
        Err(words) => {
            (StatusCode::UNPROCESSABLE_ENTITY, Typed { error: Some(words), ..form.as_typed() })
        }
    };
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    let view = load(&state, &mut connection, now).await?;
    let correct = form.replaces.map(ReadingId);
    page(status, &view.page(&state, &mut connection, &signed, correct, typed).await?)
}

/// “Received: …”, with what has to be said beside it.
pub(super) fn captured_words(shown: &str, said: &[String]) -> String {
    let mut words = format!("Received: {shown}");
    for one in said {
        words.push_str(" · ");
        words.push_str(one);
    }
    words
}

fn said(status: StatusCode, came: &Came) -> Response {
    let body = json!({
        "typed": came.typed, "capture": came.id, "words": captured_words(&came.shown, &came.said),
        "said": came.said.join(" "),
    });
    (status, [(header::CONTENT_TYPE, "application/json")], body.to_string()).into_response()
}

fn words_only(status: StatusCode, words: &str) -> Response {
    let body = json!({ "words": words }).to_string();
    (status, [(header::CONTENT_TYPE, "application/json")], body).into_response()
}

/// What is read, from the stored line of an instrument.
struct Source {
    instrument: Instrument,
    row: LinkRow,
    link: Link,
    station: String,
}

async fn source(
    connection: &mut Connection,
    view: &OpenRun,
    input: &Input,
) -> Result<Result<Source, String>, WebError> {
    let row = links::of_instrument(connection, view.check.instrument_id).await?;
    let Some(row) = row.filter(|row| row.in_use) else {
        return Ok(Err(
            "This instrument is not connected. Read the display and type the value.".into()
        ));
    };
    let link = link_of(&row)?;
    if !fits(&link, input) {
        return Ok(Err(
            "The connection of this instrument sends nothing that this step needs. Enter it by hand."
                .into(),
        ));
    }
    let found = instruments::by_ids(connection, &[view.check.instrument_id]).await?;
    let (instrument, _) = found.into_iter().next().ok_or(WebError::NotFound)?;
    let station = match row.station_id {
        Some(id) => station_name(connection, id).await?,
        None => String::new(),
    };
    Ok(Ok(Source { instrument, row, link, station }))
}

async fn station_name(connection: &mut Connection, id: KeyId) -> Result<String, WebError> {
    let all = links::stations(connection, Some(id)).await?;
    Ok(all.into_iter().find(|one| one.id == id).map_or_else(String::new, |one| one.name))
}

/// Reads the instrument for a step; words where nothing came of it.
async fn read_for(
    signed: &SignedIn,
    state: &AppState,
    id: i64,
    form: &EntryForm,
) -> Result<Result<Came, String>, WebError> {
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if now.check.state != "open" {
        return Err(WebError::NotNow {
            words: "This check is completed; nothing is read for it any more.".into(),
        });
    }
    let view = load(state, &mut connection, now).await?;
    if view.check.held_by != signed.person.id {
        return Err(WebError::NotNow {
            words: "Somebody else has this check in hand. Take it over first, then read.".into(),
        });
    }
    let target = view.target(&form.step, form.repeat, form.replaces.map(ReadingId));
    let Some(target) = target else {
        return Err(WebError::NotNow { words: "The check has moved on. Reload the page.".into() });
    };
    let source = match source(&mut connection, &view, &target.step.input).await? {
        Ok(source) => source,
        Err(words) => return Ok(Err(words)),
    };
    // Nobody waits for a connection because an instrument takes its time.
    drop(connection);
    let answer = read_line(
        state,
        ToRead {
            instrument: source.instrument.id,
            address: &source.row.address,
            link: &source.link,
            station: source.row.station_id,
            person: signed.person.id,
            check: Some(view.check.id),
        },
    )
    .await?;
    let answer = match answer {
        Ok(answer) => answer,
        Err(words) => return Ok(Err(words)),
    };
    let (typed, bytes, said) = match taken(&source, &target.step.input, answer) {
        Ok(taken) => taken,
        Err(words) => return Ok(Err(words)),
    };
    let shown = text::shown(&bytes, 160);
    let new = NewCapture {
        check: view.check.id,
        step: &target.step.key.0,
        repeat: target.repeat,
        key: form.key,
        address: &source.row.address,
        station: &source.station,
        typed: &typed,
        bytes: &bytes,
        shown: &shown,
    };
    let by = By { person: signed.person.id, at: state.now() };
    let mut connection = state.store.connection().await?;
    let id = captures::keep(&mut connection, &new, by).await?;
    let shown = match typed.is_empty() {
        true => format!("a file of {} bytes", bytes.len()),
        false => shown,
    };
    Ok(Ok(Came { id, typed, shown, said }))
}

type Taken = (String, Vec<u8>, Vec<String>);

/// What of an answer goes into the field, what is kept beside it, and what has to be said.
fn taken(source: &Source, input: &Input, answer: Answer) -> Result<Taken, String> {
    match answer {
        Answer::File { bytes } if bytes.is_empty() => {
            Err("The instrument sent an empty trace. Check that it has measured, and read again."
                .into())
        }
        Answer::File { bytes } => Ok((String::new(), bytes, vec![])),
        Answer::Number { raw, reading } => {
            let range = range_in(&source.instrument, input);
            let fitted = capture(input, reading.value, reading.unit.as_deref(), range)
                .map_err(|fault| format!("{fault} Received: “{}”.", text::shown(&raw, 80)))?;
            Ok((fitted.typed, raw, fitted.said))
        }
    }
}

/// The range of an instrument in the unit of a step's display; none where that is another quantity.
fn range_in(instrument: &Instrument, input: &Input) -> Option<(Decimal, Decimal)> {
    let Input::Reading { unit, .. } = input else { return None };
    let own: Unit = instrument.unit.parse().ok()?;
    let low = own.try_convert(instrument.range_low, *unit).ok()?;
    Some((low, own.try_convert(instrument.maximum, *unit).ok()?))
}

/// The capture that an entry says it keeps: one of this step, and of this value where it is a number. What was typed over it is
/// typed.
pub(super) async fn captured(
    connection: &mut Connection,
    view: &OpenRun,
    target: &Target<'_>,
    form: &EntryForm,
) -> Result<Option<Capture>, WebError> {
    let Some(id) = form.capture else { return Ok(None) };
    let found = captures::find(connection, view.check.id, CaptureId(id)).await?;
    Ok(found.filter(|one| {
        let here =
            one.step_key == target.step.key.0 && u32::try_from(one.repeat) == Ok(target.repeat);
        let same = match target.step.input {
            Input::Trace { .. } => form.file.is_none() && form.typed.trim().is_empty(),
            _ => one.typed == form.typed.trim(),
        };
        here && same
    }))
}

/// When a captured value was read: when it came, but not before what was kept before it.
pub(super) fn captured_at(view: &OpenRun, capture: &Capture, received: Timestamp) -> Timestamp {
    let known = view.entries.kept.iter().map(|entry| entry.received_at.0).max();
    let earliest = known.unwrap_or(view.check.opened_at.0).max(view.check.opened_at.0);
    capture.at.0.max(earliest).min(received)
}
