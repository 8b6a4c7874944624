//! One control chart: points, limits, tolerance apart from them, events, the drift watcher, and
//! the finding in words.

pub mod culprit;
pub mod forecast_score;
pub mod forecasts;
pub mod list;
pub mod signals;
pub mod wall;

mod adjusted;
pub mod beside;
mod cards;
mod changes;
mod drawing;
mod panes;
pub mod points;
mod power;
mod read;
mod row;
pub mod rules;
pub mod study;
mod window;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use serde::Deserialize;
use vaaka_core::judgement::action_sentence;
use vaaka_store::Store;
use vaaka_store::ids::StreamId;

use self::beside::Laid;
use self::cards::{
    AllLevels, Finding, LimitsCard, Proposed, SignalLine, advisory, all_levels, comments,
    earlier_words, finding, limits_card, proposed, signal_lines,
};
pub(in crate::pages) use self::changes::percent;
use self::changes::{Changes, changes};
pub(in crate::pages) use self::drawing::{drawing, seconds};
use self::panes::{asked_panes, distribution};
pub(in crate::pages) use self::power::false_signals_a_check;
use self::read::{MOST_ROWS, conditions_of, read_window, view_of};
pub(in crate::pages) use self::read::{Read, read};
use self::row::{TableRow, unit_words};
pub(in crate::pages) use self::row::{lower_first, rows};
pub(in crate::pages) use self::window::Window;
use crate::desk::Desk;
use crate::draw::stand_alone;
use crate::error::WebError;
use crate::forms::{Asked, PathId};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart.html")]
struct ChartPage {
    shell: Shell,
    id: i64,
    tag: String,
    title: String,
    sub: String,
    range: &'static str,
    query: String,
    view: &'static str,
    shown: String,
    ways: Vec<(&'static str, &'static str, String)>,
    drawing: String,
    from: f64,
    to: f64,
    rows: Vec<TableRow>,
    more_rows: bool,
    finding: Finding,
    changes: Option<Changes>,
    what_to_do: String,
    limits: Option<LimitsCard>,
    signals: Vec<SignalLine>,
    advisory: Vec<String>,
    events: Vec<(String, String)>,
    earlier: Option<String>,
    comments: Vec<(i64, String, String)>,
    proposed: Vec<Proposed>,
    distribution: Vec<String>,
    siblings: Vec<(i64, String, bool)>,
    beside_tag: String,
    beside_fault: Option<String>,
    traces: Vec<(String, String, bool)>,
    laid: bool,
    kept: Vec<(&'static str, String)>,
    all_levels: AllLevels,
}

/// What is shown.
#[derive(Debug, Default, Deserialize)]
pub struct ChartQuery {
    #[serde(default)]
    range: String,
    #[serde(default)]
    from: String,
    #[serde(default)]
    to: String,
    /// "table" or "distribution".
    #[serde(default)]
    view: String,
    /// A chart to lay beside it.
    #[serde(default)]
    with: String,
    /// The tag of an instrument whose chart shall lie beside it.
    #[serde(default)]
    tag: String,
    /// The step of a condition to trace.
    #[serde(default)]
    trace: String,
}

/// Shows the chart.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    Asked(query): Asked<ChartQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let asked = Window::of(&query.range, &query.from, &query.to, desk.now, &desk.here.zone);
    let table = query.view == "table";
    let (view, window) = view_of(&desk.connection, StreamId(id), asked).await?;
    let store = &state.store;
    let mut read = read_window(store, &mut desk.connection, view, window, table).await?;
    read.conditions = conditions_of(&state, &mut desk, &read).await?;
    let template = fill(&signed, &mut desk, read, (asked, window), &query).await?;
    page(StatusCode::OK, &template)
}

/// What stands in the field for a tag: what was typed, or the tag of a chart that a link named.
fn beside_tag(read: &Read, laid: &Laid, query: &ChartQuery) -> String {
    if !query.tag.is_empty() {
        return query.tag.clone();
    }
    let own = read.view.stream.instrument_id;
    let other = laid.charts.iter().find(|(chart, _)| chart.instrument_id != own);
    other.map(|(_, tag)| tag.clone()).unwrap_or_default()
}

/// The drawing of a chart as a file of its own.
pub(in crate::pages) async fn stand_alone_svg(
    store: &Store,
    desk: &mut Desk,
    id: StreamId,
    (range, from, to): (&str, &str, &str),
) -> Result<String, WebError> {
    let asked = Window::of(range, from, to, desk.now, &desk.here.zone);
    let (view, window) = view_of(&desk.connection, id, asked).await?;
    let read = read_window(store, &mut desk.connection, view, window, false).await?;
    let rows = rows(&read, &desk.here);
    Ok(stand_alone(&drawing(&read, &desk.here, &rows, vec![]).draw()))
}

async fn fill(
    signed: &SignedIn,
    desk: &mut Desk,
    read: Read,
    (asked, window): (Window, Window),
    query: &ChartQuery,
) -> Result<ChartPage, WebError> {
    let here = desk.here.clone();
    let stream = &read.view.stream;
    let instrument = &read.view.instrument;
    let rows = rows(&read, &here);
    let laid = beside::laid(desk, &read, &query.with, &query.tag).await?;
    let mut ends = (seconds(window.from), seconds(window.to));
    let (view, drawn, distribution) = match query.view.as_str() {
        "table" => ("table", String::new(), vec![]),
        "distribution" => {
            let (drawn, lines) = distribution(desk, &read, window).await?;
            ("distribution", drawn, lines)
        }
        _ => {
            let panes = asked_panes(desk, &read, window, &laid.charts, &query.trace).await?;
            let drawn = drawing(&read, &here, &rows, panes);
            ends = (drawn.from, drawn.to);
            ("chart", drawn.draw(), vec![])
        }
    };
    let day = |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y");
    let limits_since = read.baseline.as_ref().map(|(baseline, ..)| day(baseline.frozen_at.0));
    let way = |moved, longer| window.other(moved, longer, desk.now).query(&here.zone);
    Ok(ChartPage {
        shell: Shell::new(signed, "charts", &here),
        id: stream.id.0,
        tag: instrument.tag.clone(),
        title: format!(
            "{} {}: {}{}",
            instrument.name,
            instrument.tag,
            lower_first(&stream.label),
            match stream.derived.as_deref() {
                Some("levels") => ", each in its own sigmas".to_owned(),
                _ => format!(", in {}", unit_words(&stream.unit)),
            }
        ),
        sub: match (&limits_since, &read.design) {
            (Some(since), _) => format!("limits frozen {since}"),
            (None, Some(_)) => "limits given".to_owned(),
            (None, None) => "no limits yet".to_owned(),
        },
        range: asked.word,
        query: asked.query(&here.zone),
        view,
        shown: window.words(&here.zone),
        ways: vec![
            ("earlier", "Earlier", way(-0.5, 1.0)),
            ("later", "Later", way(0.5, 1.0)),
            ("closer", "Closer", way(0.0, 0.5)),
            ("wider", "Wider", way(0.0, 2.0)),
        ],
        drawing: drawn,
        from: ends.0,
        to: ends.1,
        more_rows: view == "table" && rows.len() as i64 >= MOST_ROWS,
        finding: finding(&read, &here),
        changes: changes(&read, &here),
        what_to_do: match &read.newest {
            None => "Check it once, and the chart begins.".to_owned(),
            // What the newest verdict said holds as long as nothing has come since.
            Some(_) if !read.standing.is_usable() && !read.standing.is_bad() => {
                "Its page says what leads on from here.".to_owned()
            }
            Some((_, verdict)) => action_sentence(verdict.action).to_owned(),
        },
        limits: limits_card(&read, &here),
        earlier: earlier_words(&read, &here),
        signals: signal_lines(&read, &here),
        advisory: advisory(&read),
        comments: comments(&read, &here),
        proposed: proposed(&read, &here),
        distribution,
        siblings: read
            .siblings
            .iter()
            .filter(|other| other.id != stream.id)
            .map(|other| {
                let chosen = laid.charts.iter().any(|(chart, _)| chart.id == other.id);
                let ended = if other.ended_at.is_some() { " (ended)" } else { "" };
                (other.id.0, format!("{}{ended}", other.label), chosen)
            })
            .collect(),
        beside_tag: beside_tag(&read, &laid, query),
        beside_fault: laid.fault.clone(),
        traces: read
            .conditions
            .iter()
            .map(|(key, name)| (key.clone(), name.clone(), *key == query.trace))
            .collect(),
        laid: !laid.charts.is_empty()
            || laid.fault.is_some()
            || read.conditions.iter().any(|(key, _)| *key == query.trace),
        kept: match asked.word {
            "" => vec![("from", query.from.clone()), ("to", query.to.clone())],
            word => vec![("range", word.to_owned())],
        },
        all_levels: all_levels(&read),
        events: read
            .events
            .iter()
            .rev()
            .filter(|(event, _)| event.at.0 >= read.from && event.at.0 <= read.now)
            .take(12)
            .map(|(event, by)| {
                (local_day_time(event.at.0, &here.zone), format!("{} ({by})", event.note))
            })
            .collect(),
        rows,
    })
}
