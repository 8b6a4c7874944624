//! Bringing a table in: sent, looked at with every bad line named, then brought in whole or not at
//! all.

mod columns;
mod history;
mod registers;

use std::collections::{BTreeMap, HashSet};

use askama::Template;
use axum::extract::State;
use axum::extract::multipart::{Multipart, MultipartRejection};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_core::method::{Place as PiecePlace, PlanPoint, Travel, by_key};
use vaaka_core::quantity::Unit;
use vaaka_formats::{Table, read_table};
use vaaka_store::ids::ImportId;
use vaaka_store::imports::{self, Import, Lines, Place};
use vaaka_store::plans::{self, ChartedPoint};
use vaaka_store::{StoreError, instrument_changes, instruments, standards};

use self::columns::{Column, Fault, Mapping, Sheet, is_known};
use self::history::{Charted, HISTORY, history};
use self::registers::{INSTRUMENTS, STANDARDS, example};
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Refusal, clean, sentence};
use crate::forms::{Asked, PathId, PathTag};
use crate::pages::evidence::files;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Most bytes of a table.
pub const MOST_BYTES: usize = 48 * 1024 * 1024;
/// Faults that the page shows; the table of faults has all.
const SHOWN: usize = 200;
/// Lines that the page shows as they were understood.
const SAMPLE: usize = 8;

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
    let template = ImportPage { shell, kinds, done, error, refusal };
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

/// What a table would bring.
struct Looked {
    lines: Option<Lines>,
    count: usize,
    faults: Vec<Fault>,
    heads: Vec<&'static str>,
    sample: Vec<Vec<String>>,
    /// Columns of the file with what stands first in each, where their heads do not say it all.
    columns: Vec<(String, String)>,
}

/// Reads a table against the registers as they are now. The reading itself may take a second for a
/// large table and is done beside the requests.
async fn look(desk: &mut Desk, import: &Import, mapping: &Mapping) -> Result<Looked, WebError> {
    let kind = Kind::of(&import.kind).ok_or(WebError::NotFound)?;
    let connection = &mut desk.connection;
    let areas = instrument_changes::all_areas(connection).await?;
    let (mut taken, mut certificates) = (HashSet::new(), HashSet::new());
    let (mut charted, mut known) = (Vec::new(), HashSet::new());
    match kind {
        Kind::Instruments => taken = instruments::tags(connection).await?,
        Kind::Standards => {
            (taken, certificates) = standards::tags_and_certificates(connection).await?;
        }
        Kind::History => {
            charted = plans::charted_points(connection)
                .await?
                .into_iter()
                .filter_map(|point| charted_of(point).transpose())
                .collect::<Result<Vec<Charted>, WebError>>()?;
            known = imports::known(connection, charted.iter().map(|point| &point.place)).await?;
        }
    }
    let (zone, now, bytes) = (desk.here.zone.clone(), desk.now, import.bytes.clone());
    let mapping = mapping.clone();
    let read = move || {
        let grid = match read_table(&bytes, kind.most()) {
            Ok(grid) => grid,
            Err(error) => {
                return Looked::refused(vec![Fault {
                    line: 1,
                    column: String::new(),
                    typed: String::new(),
                    words: error.to_string(),
                }]);
            }
        };
        let first = |place: usize| {
            let cells = grid.lines.iter().map(|line| line.cell(place));
            cells.clone().find(|cell| !cell.is_empty()).unwrap_or_default().to_owned()
        };
        let in_file = || -> Vec<(String, String)> {
            let heads = grid.heads.iter().enumerate();
            heads.map(|(place, head)| (head.clone(), first(place))).collect()
        };
        let sheet = match Sheet::mapped(&grid, kind.columns(), &mapping) {
            Ok(sheet) => sheet,
            Err(faults) => return Looked { columns: in_file(), ..Looked::refused(faults) },
        };
        let (lines, faults) = match kind {
            Kind::Instruments => registers::instruments(&sheet, &areas, &taken),
            Kind::Standards => registers::standards(&sheet, &taken, &certificates),
            Kind::History => history(&sheet, &charted, &known, &zone, now),
        };
        let (heads, sample) = sheet.sample(SAMPLE);
        let lines = faults.is_empty().then_some(lines);
        let columns = if mapping.is_empty() { vec![] } else { in_file() };
        Looked { lines, count: grid.lines.len(), faults, heads, sample, columns }
    };
    tokio::task::spawn_blocking(read).await.map_err(|error| WebError::Inner(error.to_string()))
}

impl Looked {
    fn refused(faults: Vec<Fault>) -> Self {
        Self { lines: None, count: 0, faults, heads: vec![], sample: vec![], columns: vec![] }
    }
}

fn charted_of(point: ChartedPoint) -> Result<Option<Charted>, WebError> {
    let travel: Travel = point.point.travel.parse().map_err(unreadable)?;
    let place: PiecePlace = point.point.place.parse().map_err(unreadable)?;
    let plain = PlanPoint {
        nominal: point.point.nominal,
        travel,
        place,
        repeats: 1,
        charted: true,
        pieces: vec![],
        standard: 0,
    };
    // A method that this version does not know is no reason to refuse the others.
    let Ok(method) = by_key(&point.method) else { return Ok(None) };
    let unit: Unit = point.unit.parse().map_err(unreadable)?;
    Ok(Some(Charted {
        tag: point.tag,
        plan: point.plan,
        nominal: point.point.nominal,
        unit,
        error_unit: unit.error_unit(point.resolution),
        direction: if travel == Travel::Corner { place.word() } else { travel.word() },
        place: Place {
            instrument: point.instrument,
            set_up: point.set_up,
            key: method.chart_key(&plain),
        },
    }))
}

fn unreadable(error: impl std::fmt::Display) -> WebError {
    WebError::Inner(error.to_string())
}

#[derive(Debug, Template)]
#[template(path = "import_look.html")]
struct LookPage {
    shell: Shell,
    id: i64,
    file: String,
    heading: String,
    can: bool,
    button: String,
    faults: Vec<Fault>,
    more: usize,
    heads: Vec<&'static str>,
    sample: Vec<Vec<String>>,
    count: usize,
    error: Option<String>,
    /// What each column of the file is, to be said by a person: place, head, what stands first, what was said, and whether its
    /// head is known.
    columns: Vec<(usize, String, String, String, bool)>,
    choices: Vec<(&'static str, &'static str)>,
    mapping: Vec<(String, String)>,
}

async fn draw_look(
    desk: &mut Desk,
    signed: &SignedIn,
    import: &Import,
    mapping: &Mapping,
    error: Option<String>,
) -> Result<Response, WebError> {
    let mut looked = look(desk, import, mapping).await?;
    let known = Kind::of(&import.kind).map_or(&[][..], Kind::columns);
    let bad: HashSet<u64> = looked.faults.iter().map(|fault| fault.line).collect();
    let more = looked.faults.len().saturating_sub(SHOWN);
    looked.faults.truncate(SHOWN);
    let of = &import.kind;
    let count = looked.count;
    let lines = if count == 1 { "line" } else { "lines" };
    let heading = match (looked.lines.is_some(), bad.len(), count) {
        (true, ..) => format!("{count} {lines} of {of} can be brought in"),
        (false, _, 0) => "this table cannot be read yet".to_owned(),
        (false, 1, _) => format!("one of {count} {lines} of {of} is not right yet"),
        (false, bad, _) => format!("{bad} of {count} {lines} of {of} are not right yet"),
    };
    let status = match (looked.lines.is_some(), &error) {
        (true, None) => StatusCode::OK,
        _ => StatusCode::UNPROCESSABLE_ENTITY,
    };
    let template = LookPage {
        shell: Shell::new(signed, "records", &desk.here),
        id: import.id.0,
        file: import.file_name.clone(),
        heading,
        can: looked.lines.is_some(),
        button: format!("Bring in {count} {lines}"),
        faults: looked.faults,
        more,
        heads: looked.heads,
        sample: looked.sample,
        count,
        error,
        columns: looked
            .columns
            .into_iter()
            .enumerate()
            .map(|(place, (head, first))| {
                let found = is_known(&head, known);
                (place, head, first, mapping.word(place).to_owned(), found)
            })
            .collect(),
        choices: known.iter().map(|column| (column.field, column.head)).collect(),
        mapping: mapping.fields(),
    };
    page(status, &template)
}

async fn waiting(desk: &mut Desk, id: i64) -> Result<Import, WebError> {
    let found = imports::by_id(&mut desk.connection, ImportId(id)).await;
    let import = match found {
        Err(StoreError::NotFound) => {
            return Err(WebError::NotNow {
                words: "This table is not here any more: only the newest that you sent is kept until it is brought in. Nothing of it was brought in; send it again.".into(),
            });
        }
        found => found?,
    };
    if import.state != "looked_at" {
        return Err(WebError::NotNow {
            words: "This table was brought in already. It stands in the list on the page “Bring in a table”.".into(),
        });
    }
    Ok(import)
}

/// Shows what a table would bring, and what is wrong with it.
pub async fn look_page(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(said): Asked<BTreeMap<String, String>>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let import = waiting(&mut desk, id).await?;
    let mapping = Mapping::read(&said);
    let mut response = draw_look(&mut desk, &signed, &import, &mapping, None).await?;
    // The page itself is fine, also when what it shows is not.
    *response.status_mut() = StatusCode::OK;
    Ok(response)
}

/// Everything that is wrong with a table, as a table.
pub async fn faults_csv(
    _signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(said): Asked<BTreeMap<String, String>>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let import = waiting(&mut desk, id).await?;
    let looked = look(&mut desk, &import, &Mapping::read(&said)).await?;
    let mut table = Table::new(&["line", "column", "what stands there", "what is wrong"]);
    for fault in looked.faults {
        let line = i64::try_from(fault.line).unwrap_or(i64::MAX);
        table.row([line.into(), fault.column.into(), fault.typed.into(), fault.words.into()]);
    }
    Ok(crate::pages::evidence::attachment::as_csv("what-is-wrong", table.csv()))
}

/// Brings a table in.
pub async fn bring_in(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let import = waiting(&mut desk, id).await?;
    let mapping = Mapping::read(&typed.0);
    let looked = look(&mut desk, &import, &mapping).await?;
    let Some(lines) = looked.lines else {
        let words = "Nothing was brought in: the registers have changed since you looked, and some lines are not right any more.";
        return draw_look(&mut desk, &signed, &import, &mapping, Some(words.into())).await;
    };
    let by = desk.by(&signed);
    let said = mapping.fields();
    match imports::bring_in(&mut desk.connection, &import, lines, (looked.count, &said), by).await {
        Ok(()) => Ok(Redirect::to("/import").into_response()),
        Err(StoreError::Conflict { constraint }) if constraint == "imports_state" => {
            // Pressed twice: it is in.
            Ok(Redirect::to("/import").into_response())
        }
        Err(StoreError::Conflict { .. }) => {
            let words = "Nothing was brought in: somebody registered one of these a moment ago. Look at the lines below again.";
            draw_look(&mut desk, &signed, &import, &mapping, Some(words.into())).await
        }
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
