//! Bringing a table in: sent, looked at with every bad line named, then brought in whole or not at
//! all.

mod columns;
mod history;
mod look;
mod registers;

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::extract::multipart::{Multipart, MultipartRejection};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_formats::{Table, read_table};
use vaaka_store::ids::ImportId;
use vaaka_store::imports::{self, Import, Kept};
use vaaka_store::{StoreError, jobs};

pub(in crate::pages) use self::columns::Mapping;
use self::columns::{Column, is_known};
use self::history::HISTORY;
pub(in crate::pages) use self::look::look;
use self::look::{Looked, Shown};
use self::registers::{INSTRUMENTS, STANDARDS, example};
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Refusal, clean, sentence};
use crate::forms::{Asked, PathId, PathTag};
use crate::pages::evidence::files;
use crate::pages::progress::{Pieces, Progress};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Most bytes of a table.
pub const MOST_BYTES: usize = 48 * 1024 * 1024;
/// Faults that the page shows; the table of faults has all.
const SHOWN: usize = 200;
/// Bytes of a table of history that is read while its page is asked for; what is larger is given to a job.
const HISTORY_AT_ONCE: usize = 512 * 1024;
/// Bytes of a register: each of its lines is several records.
const REGISTER_AT_ONCE: usize = 48 * 1024;

fn heads(columns: &[Column]) -> Vec<&'static str> {
    columns.iter().map(|column| column.head).collect()
}

/// Heads of instruments, for the table that goes out.
pub(in crate::pages) fn instrument_heads() -> Vec<&'static str> {
    heads(&INSTRUMENTS)
}

/// Heads of standards.
pub(in crate::pages) fn standard_heads() -> Vec<&'static str> {
    heads(&STANDARDS)
}

/// What lines of a table can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Instruments,
    Standards,
    History,
}

impl Kind {
    const ALL: [Self; 3] = [Self::Instruments, Self::Standards, Self::History];

    fn word(self) -> &'static str {
        match self {
            Self::Instruments => "instruments",
            Self::Standards => "standards",
            Self::History => "history",
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::Instruments => "Instruments, a line each",
            Self::Standards => "Standards with lot, certificate and values, a line for each value",
            Self::History => "History: errors measured before, a line each",
        }
    }

    fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    fn columns(self) -> &'static [Column] {
        match self {
            Self::Instruments => &INSTRUMENTS,
            Self::Standards => &STANDARDS,
            Self::History => &HISTORY,
        }
    }

    /// Each line of a register is several records, with its audit entry.
    fn most(self) -> usize {
        match self {
            Self::Instruments | Self::Standards => 5_000,
            Self::History => 500_000,
        }
    }
}

#[derive(Debug, Template)]
#[template(path = "import.html")]
struct ImportPage {
    shell: Shell,
    kinds: Vec<KindView>,
    under_way: Vec<UnderWay>,
    done: Vec<DoneRow>,
    error: Option<String>,
    refusal: Refusal,
}

#[derive(Debug)]
struct KindView {
    word: &'static str,
    words: &'static str,
    columns: &'static [Column],
    chosen: bool,
}

/// A table that comes in, or did not.
#[derive(Debug)]
struct UnderWay {
    id: i64,
    file: String,
    words: String,
}

#[derive(Debug)]
struct DoneRow {
    id: i64,
    file: String,
    what: String,
    when: String,
    person: String,
    hash: String,
    withdrawn: Option<String>,
    can_withdraw: bool,
    /// Its form, to withdraw it.
    form: String,
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    chosen: Option<Kind>,
    refusal: Refusal,
) -> Result<Response, WebError> {
    let done = imports::done(&mut desk.connection).await?;
    let zone = desk.here.zone.clone();
    let done: Vec<DoneRow> = done
        .into_iter()
        .map(|one| DoneRow {
            id: one.id.0,
            form: format!("withdraw-{}", one.id),
            what: format!("{} lines of {}", one.lines.unwrap_or(0), one.kind),
            when: one.done_at.map_or(String::new(), |at| local_day_time(at.0, &zone)),
            person: one.person,
            hash: hex::encode(&one.sha256).chars().take(16).collect(),
            can_withdraw: one.kind == "history" && one.state == "done",
            withdrawn: (one.state == "withdrawn").then_some(one.reason),
            file: one.file_name,
        })
        .collect();
    let under_way = imports::under_way(&mut desk.connection, signed.person.id)
        .await?
        .into_iter()
        .map(|(id, file, kind, state, refused)| {
            let words = match state.as_str() {
                "coming" => format!("{kind}: is being brought in"),
                _ => format!("{kind}: nothing was brought in. {refused}"),
            };
            UnderWay { id: id.0, file, words }
        })
        .collect();
    let chosen = chosen.unwrap_or(Kind::Instruments);
    let kinds = Kind::ALL
        .into_iter()
        .map(|kind| KindView {
            word: kind.word(),
            words: kind.words(),
            columns: kind.columns(),
            chosen: kind == chosen,
        })
        .collect();
    let forms: Vec<&str> =
        done.iter().filter(|row| row.can_withdraw).map(|row| row.form.as_str()).collect();
    let error = refusal.elsewhere(&forms);
    let status = if refusal.is_none() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let shell = Shell::new(signed, "records", &desk.here);
    let template = ImportPage { shell, kinds, under_way, done, error, refusal };
    page(status, &template)
}

/// What was brought in, and the form to bring more.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, None, Refusal::default()).await
}

/// A table with the heads of a kind and one line, to begin with.
pub async fn columns_csv(_signed: SignedIn, PathTag(kind): PathTag) -> Result<Response, WebError> {
    let kind = kind.strip_suffix(".csv").and_then(Kind::of).ok_or(WebError::NotFound)?;
    Ok(crate::pages::evidence::attachment::as_csv(kind.word(), example(kind.columns())))
}

/// Takes a table and goes on to look at it.
pub async fn send(
    signed: SignedIn,
    State(state): State<AppState>,
    form: Result<Multipart, MultipartRejection>,
) -> Result<Response, WebError> {
    let sent = files::read(form).await?;
    signed.check_form(&sent.token)?;
    let mut desk = Desk::open(&state).await?;
    let kind = Kind::of(&sent.kind);
    let refused = match kind {
        None => Some("Say what the lines of the table are.".to_owned()),
        Some(_) if sent.bytes.is_empty() => {
            Some("No file was chosen. Choose one, and send it again.".to_owned())
        }
        Some(kind) => read_table(&sent.bytes, kind.most()).err().map(|error| error.to_string()),
    };
    match (kind, refused) {
        (Some(kind), None) => {
            let by = desk.by(&signed);
            let name: String = clean(&sent.name).chars().take(120).collect();
            let id =
                imports::look_at(&mut desk.connection, kind.word(), &name, &sent.bytes, by).await?;
            Ok(Redirect::to(&format!("/import/{id}")).into_response())
        }
        (kind, words) => {
            let words = words.unwrap_or_default();
            let refusal = Refusal::of("file", "file", Fields::default(), words);
            draw(&mut desk, &signed, kind, refusal).await
        }
    }
}

#[derive(Debug, Template)]
#[template(path = "import_look.html")]
struct LookPage {
    shell: Shell,
    id: i64,
    file: String,
    heading: String,
    /// What came of it, once it is read; none while it is, and while it comes in.
    shown: Option<Shown>,
    button: String,
    more: usize,
    error: Option<String>,
    progress: Option<Progress>,
    /// Whether it was coming and does not go on.
    may_give_up: bool,
    /// What each column of the file is, to be said by a person: place, head, what stands first, what was said, and whether its
    /// head is known.
    columns: Vec<(usize, String, String, String, bool)>,
    choices: Vec<(&'static str, &'static str)>,
    mapping: Vec<(String, String)>,
}

/// How reading a large table is told.
const READ: Pieces = Pieces {
    so_far: "passes over the table are done",
    meanwhile: "Its lines are held against the registers. You may leave this page and come back to it from “Bring in a table”.",
    at_the_end: "The table is read.",
};

/// How bringing it in is told.
const COMING: Pieces = Pieces {
    so_far: "lines are written",
    meanwhile: "They count once all of them are there. You may leave this page; it goes on by itself.",
    at_the_end: "All {total} lines are in.",
};

fn heading(import: &Import, shown: &Shown) -> String {
    let (of, count) = (&import.kind, shown.count);
    let lines = if count == 1 { "line" } else { "lines" };
    match (shown.can, shown.wrong.1, count) {
        (true, ..) => format!("{count} {lines} of {of} can be brought in"),
        (false, _, 0) => "this table cannot be read yet".to_owned(),
        (false, 1, _) => format!("one of {count} {lines} of {of} is not right yet"),
        (false, bad, _) => format!("{bad} of {count} {lines} of {of} are not right yet"),
    }
}

async fn draw_look(
    desk: &mut Desk,
    signed: &SignedIn,
    import: &Import,
    (mapping, shown): (&Mapping, Option<Shown>),
    error: Option<String>,
) -> Result<Response, WebError> {
    let known = Kind::of(&import.kind).map_or(&[][..], Kind::columns);
    let status = match (shown.as_ref().is_none_or(|shown| shown.can), &error) {
        (true, None) => StatusCode::OK,
        _ => StatusCode::UNPROCESSABLE_ENTITY,
    };
    let coming = import.state == "coming";
    let progress = match shown {
        None => jobs::of(&mut desk.connection, &imports::path(import.id)).await?.map(|job| {
            let pieces = if coming { COMING } else { READ };
            Progress::of(&job, pieces, Some(format!("/import/{}/again", import.id)))
        }),
        Some(_) => None,
    };
    let mut template = LookPage {
        shell: Shell::new(signed, "records", &desk.here),
        id: import.id.0,
        file: import.file_name.clone(),
        heading: match &shown {
            Some(shown) => heading(import, shown),
            None if coming => "is being brought in".to_owned(),
            None => "is being read".to_owned(),
        },
        button: String::new(),
        more: 0,
        error: error.or_else(|| (!import.refused.is_empty()).then(|| nothing(&import.refused))),
        may_give_up: coming && progress.as_ref().is_some_and(|progress| progress.again.is_some()),
        progress,
        columns: vec![],
        choices: known.iter().map(|column| (column.field, column.head)).collect(),
        mapping: mapping.fields(),
        shown: None,
    };
    if let Some(mut shown) = shown {
        let lines = if shown.count == 1 { "line" } else { "lines" };
        template.button = format!("Bring in {} {lines}", shown.count);
        template.columns = std::mem::take(&mut shown.columns)
            .into_iter()
            .enumerate()
            .map(|(place, (head, first))| {
                let found = is_known(&head, known);
                (place, head, first, mapping.word(place).to_owned(), found)
            })
            .collect();
        template.more = shown.wrong.0.saturating_sub(SHOWN);
        shown.faults.truncate(SHOWN);
        template.shown = Some(shown);
    }
    page(status, &template)
}

fn nothing(why: &str) -> String {
    format!("Nothing was brought in. {why}")
}

async fn waiting(desk: &mut Desk, id: i64) -> Result<Import, WebError> {
    let found = imports::by_id(&mut desk.connection, ImportId(id)).await;
    match found {
        Err(StoreError::NotFound) => Err(WebError::NotNow {
            words: "This table is not here any more: only the newest that you sent is kept until it is brought in. Nothing of it was brought in; send it again.".into(),
        }),
        found => Ok(found?),
    }
}

/// As [`waiting`], still to be decided about.
async fn to_decide(desk: &mut Desk, id: i64) -> Result<Import, WebError> {
    let import = waiting(desk, id).await?;
    match import.state.as_str() {
        "looked_at" => Ok(import),
        "coming" => Err(WebError::NotNow {
            words: "This table is being brought in. How far it is stands on its page, which you reach from “Bring in a table”.".into(),
        }),
        _ => Err(WebError::NotNow {
            words: "This table was brought in already. It stands in the list on the page “Bring in a table”.".into(),
        }),
    }
}

/// Looks at a table: at once, or, where it is large, as its job has found; none while that goes on.
async fn shown(
    desk: &mut Desk,
    signed: &SignedIn,
    import: &Import,
    mapping: &Mapping,
) -> Result<Option<Shown>, WebError> {
    if !is_large(import) {
        return Ok(Some(look_now(desk, import, mapping).await?.shown));
    }
    if let Some(kept) = &import.reading {
        let kept: Kept = serde_json::from_value(kept.clone()).map_err(unreadable)?;
        if kept.mapping == mapping.fields() {
            return Ok(Some(serde_json::from_value(kept.shown).map_err(unreadable)?));
        }
    }
    let by = desk.by(signed);
    imports::ask_to_read(&mut desk.connection, import.id, &mapping.fields(), by).await?;
    Ok(None)
}

async fn look_now(desk: &mut Desk, import: &Import, mapping: &Mapping) -> Result<Looked, WebError> {
    let when = (desk.here.zone.clone(), desk.now);
    look(&mut desk.connection, when, import, mapping).await
}

/// Whether a table is read and brought in by a job.
fn is_large(import: &Import) -> bool {
    let at_once = match Kind::of(&import.kind) {
        Some(Kind::History) => HISTORY_AT_ONCE,
        _ => REGISTER_AT_ONCE,
    };
    import.bytes.len() > at_once
}

fn unreadable(error: impl std::fmt::Display) -> WebError {
    WebError::Inner(error.to_string())
}

/// Shows what a table would bring, and what is wrong with it; or how far it is.
pub async fn look_page(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(said): Asked<BTreeMap<String, String>>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let import = waiting(&mut desk, id).await?;
    if matches!(import.state.as_str(), "done" | "withdrawn") {
        return Ok(Redirect::to("/import").into_response());
    }
    let mapping = Mapping::read(&said);
    let shown = match import.state.as_str() {
        "coming" => None,
        _ => shown(&mut desk, &signed, &import, &mapping).await?,
    };
    let mut response = draw_look(&mut desk, &signed, &import, (&mapping, shown), None).await?;
    // The page itself is fine, also when what it shows is not.
    *response.status_mut() = StatusCode::OK;
    Ok(response)
}

/// Everything that is wrong with a table, as a table.
pub async fn faults_csv(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(said): Asked<BTreeMap<String, String>>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let import = to_decide(&mut desk, id).await?;
    let mapping = Mapping::read(&said);
    let Some(shown) = shown(&mut desk, &signed, &import, &mapping).await? else {
        return Err(WebError::NotNow {
            words: "This table is still being read. Go back to its page, and wait until it is."
                .into(),
        });
    };
    let mut table = Table::new(&["line", "column", "what stands there", "what is wrong"]);
    for fault in shown.faults {
        let line = i64::try_from(fault.line).unwrap_or(i64::MAX);
        table.row([line.into(), fault.column.into(), fault.typed.into(), fault.words.into()]);
    }
    Ok(crate::pages::evidence::attachment::as_csv("what-is-wrong", table.csv()))
}

/// Brings a table in; a large one is given to a job.
pub async fn bring_in(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let import = waiting(&mut desk, id).await?;
    let mapping = Mapping::read(&typed.0);
    let by = desk.by(&signed);
    let said = mapping.fields();
    if import.state == "coming" {
        // Pressed twice: it is on its way.
        return Ok(Redirect::to(&imports::path(import.id)).into_response());
    }
    let import = to_decide(&mut desk, id).await?;
    let (brought, after) = if is_large(&import) {
        let path = imports::path(import.id);
        let Some(shown) = shown(&mut desk, &signed, &import, &mapping).await? else {
            return Ok(Redirect::to(&path).into_response());
        };
        if !shown.can {
            return draw_look(&mut desk, &signed, &import, (&mapping, Some(shown)), None).await;
        }
        let asked = (shown.count, said.as_slice());
        (imports::ask_to_bring_in(&mut desk.connection, import.id, asked, by).await, path)
    } else {
        let Looked { lines, shown } = look_now(&mut desk, &import, &mapping).await?;
        let Some(lines) = lines else {
            let words = nothing(
                "The registers have changed since you looked, and some lines are not right any more.",
            );
            let shown = (&mapping, Some(shown));
            return draw_look(&mut desk, &signed, &import, shown, Some(words)).await;
        };
        let asked = (shown.count, said.as_slice());
        let brought = imports::bring_in(&mut desk.connection, &import, lines, asked, by).await;
        (brought, "/import".to_owned())
    };
    match brought {
        Ok(()) => Ok(Redirect::to(&after).into_response()),
        Err(StoreError::Conflict { constraint }) if constraint == "imports_state" => {
            // Pressed twice: it is in.
            Ok(Redirect::to(&after).into_response())
        }
        Err(StoreError::Conflict { .. }) => {
            let words = nothing(
                "Somebody registered one of these a moment ago. Look at the lines below again.",
            );
            let shown = Some(look_now(&mut desk, &import, &mapping).await?.shown);
            draw_look(&mut desk, &signed, &import, (&mapping, shown), Some(words)).await
        }
        Err(other) => Err(other.into()),
    }
}

/// Lets reading or bringing in that stopped be tried again.
pub async fn try_again(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let path = imports::path(ImportId(id));
    jobs::try_again(&mut desk.connection, &path, (signed.person.id, desk.now)).await?;
    Ok(Redirect::to(&path).into_response())
}

/// Gives up a table that was coming and does not go on.
pub async fn give_up(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let id = ImportId(id);
    let by = desk.by(&signed);
    match imports::give_up(&mut desk.connection, id, by).await {
        Ok(()) => Ok(Redirect::to(&imports::path(id)).into_response()),
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words: "This table goes on, or is in already: there is nothing to give up.".into(),
        }),
        Err(other) => Err(other.into()),
    }
}

/// The file as it came.
pub async fn file(
    _signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let import = imports::by_id(&mut connection, ImportId(id)).await?;
    let headers = [
        (header::CONTENT_TYPE, "application/octet-stream".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"import-{id}.csv\"")),
    ];
    Ok((headers, import.bytes).into_response())
}

/// Why history is withdrawn.
#[derive(Debug, Default, Deserialize)]
pub struct Withdrawal {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    reason: String,
}

/// Withdraws history that was brought in.
pub async fn withdraw(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    crate::forms::Posted(form): crate::forms::Posted<Withdrawal>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let reason = match sentence(&form.reason, 400) {
        Ok(reason) if !reason.is_empty() => reason,
        said => {
            let usual = "Say why these values are withdrawn; the reason stays on record.";
            let words = said.err().unwrap_or_else(|| usual.to_owned());
            let typed = Fields::default().with("reason", form.reason);
            let refusal = Refusal::of(format!("withdraw-{id}"), "reason", typed, words);
            return draw(&mut desk, &signed, None, refusal).await;
        }
    };
    let by = desk.by(&signed);
    match imports::withdraw(&mut desk.connection, ImportId(id), &reason, by).await {
        Ok(()) => Ok(Redirect::to("/import").into_response()),
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words:
                "This is no history that is in use: it was withdrawn already, or was never history."
                    .into(),
        }),
        Err(other) => Err(other.into()),
    }
}
