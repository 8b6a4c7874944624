//! The wall: all charts of an area small, worst first, and live when any bench submits a check.

use std::collections::HashMap;
use std::convert::Infallible;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures_util::StreamExt;
use serde::Deserialize;
use tokio::sync::broadcast::error::RecvError;
use vaaka_core::judgement::ahead_words;
use vaaka_core::round::Standing;
use vaaka_store::StoreError;
use vaaka_store::charts::{self, BriefPoint, StreamView};
use vaaka_store::ids::StreamId;
use vaaka_store::instrument_changes;
use vaaka_store::news::News;
use vaaka_store::standing::{Of, Standings};

use crate::desk::Desk;
use crate::draw::Spark;
use crate::error::WebError;
use crate::forms::Asked;
use crate::pages::chart::list::{by_itself, heading, newest_of, state_class};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Checks that a small chart looks back.
const TRAIL: i64 = 40;
/// Charts on one wall at most.
const MOST: usize = 240;

#[derive(Debug, Template)]
#[template(path = "wall.html")]
struct WallPage {
    shell: Shell,
    areas: Vec<(i64, String, bool)>,
    all: bool,
    query: String,
    cards: String,
}

#[derive(Debug, Template)]
#[template(path = "wall_cards.html")]
struct Cards {
    heading: String,
    at: String,
    cards: Vec<Card>,
    more: usize,
}

#[derive(Debug)]
struct Card {
    id: StreamId,
    tag: String,
    label: String,
    value: String,
    at: String,
    state: &'static str,
    words: String,
    /// Where its drift leads.
    ahead: Option<String>,
    drawing: String,
}

/// Which wall.
#[derive(Debug, Default, Deserialize)]
pub struct WallQuery {
    #[serde(default)]
    area: String,
}

impl WallQuery {
    fn area(&self) -> Option<i64> {
        self.area.trim().parse().ok()
    }
}

/// Shows the wall.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<WallQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let areas = instrument_changes::all_areas(&mut desk.connection).await?;
    let chosen = query.area().filter(|id| areas.iter().any(|area| area.id.0 == *id));
    let cards = cards_of(&mut desk, chosen).await?.render()?;
    let template = WallPage {
        shell: Shell::new(&signed, "charts", &desk.here),
        areas: areas
            .into_iter()
            .map(|area| (area.id.0, area.name, Some(area.id.0) == chosen))
            .collect(),
        all: chosen.is_none(),
        query: chosen.map_or(String::new(), |id| format!("?area={id}")),
        cards,
    };
    page(StatusCode::OK, &template)
}

/// The cards alone, for a wall that is open and has heard of news.
pub async fn cards(
    _signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<WallQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let cards = cards_of(&mut desk, query.area()).await?;
    page(StatusCode::OK, &cards)
}

async fn cards_of(desk: &mut Desk, area: Option<i64>) -> Result<Cards, WebError> {
    let streams: Vec<StreamView> = charts::in_use(&mut desk.connection, area).await?;
    let ids: Vec<StreamId> = streams.iter().map(|view| view.stream.id).collect();
    let newest = newest_of(&mut desk.connection, &ids).await?;
    let all = Standings::read(&mut desk.connection, Of::All, desk.now).await?;
    let mut ranked: Vec<(Standing, f64, &StreamView)> = streams
        .iter()
        .map(|view| {
            let point = newest.get(&view.stream.id);
            let standing = all.of_chart(&view.instrument.state, &view.stream, point)?;
            Ok((standing, nearness(point), view))
        })
        .collect::<Result<_, StoreError>>()?;
    // Worst first: out of tolerance, then with a signal, then the rest; of equals the one whose newest
    // check lies nearest to its own limits, or furthest beyond; of those the first on the walk.
    ranked.sort_by(|a, b| {
        a.0.cmp(&b.0).then(b.1.total_cmp(&a.1)).then_with(|| place(a.2).cmp(&place(b.2)))
    });
    let standings: Vec<(Standing, Standing)> = ranked
        .iter()
        .map(|(standing, _, view)| (*standing, by_itself(newest.get(&view.stream.id))))
        .collect();
    let more = ranked.len().saturating_sub(MOST);
    ranked.truncate(MOST);
    let drawn: Vec<StreamId> = ranked.iter().map(|(_, _, view)| view.stream.id).collect();
    let trails = charts::trails(&mut desk.connection, &drawn, TRAIL).await?;
    Ok(Cards {
        heading: heading(&standings),
        at: crate::state::local_time(desk.now, &desk.here.zone),
        cards: ranked
            .iter()
            .map(|(standing, _, view)| card(desk, view, *standing, &newest, &trails))
            .collect(),
        more,
    })
}

/// Where a chart comes on the walk: of equals the first.
fn place(view: &StreamView) -> (i32, &str, StreamId) {
    (view.area.walk_order, &view.instrument.tag, view.stream.id)
}

/// How far the newest check lies from the centre, in half-widths of its limits: 1 on a limit.
fn nearness(point: Option<&BriefPoint>) -> f64 {
    let of = |point: &BriefPoint| {
        let center = point.center_line?;
        let limit = if point.value >= center {
            point.upper_control_limit? - center
        } else {
            center - point.lower_control_limit?
        };
        (limit > 0.0).then(|| (point.value - center).abs() / limit)
    };
    point.and_then(of).unwrap_or(-1.0)
}

fn card(
    desk: &Desk,
    view: &StreamView,
    standing: Standing,
    newest: &HashMap<StreamId, BriefPoint>,
    trails: &HashMap<StreamId, Vec<f64>>,
) -> Card {
    let (stream, point) = (&view.stream, newest.get(&view.stream.id));
    let decimals = u32::try_from(stream.decimals).unwrap_or(1);
    let state = state_class(standing);
    let mut words =
        standing.words_with_drift(point.and_then(|point| point.drift_per_week)).to_owned();
    if point.is_some_and(BriefPoint::cannot_hold) {
        words.push_str(", cannot hold its tolerance");
    }
    let value = point.map_or("–".to_owned(), |point| {
        format!("{} {}", stream.shown(point.value, decimals), stream.unit)
    });
    let mut values = trails.get(&stream.id).cloned().unwrap_or_default();
    values.extend(point.map(|point| point.value));
    let drawing = Spark {
        description: format!("{} {}: {value}, {}", view.instrument.tag, stream.label, words),
        values,
        control: point.and_then(|point| {
            Some((point.lower_control_limit?, point.center_line?, point.upper_control_limit?))
        }),
        tolerance: point.map_or((None, None), |point| {
            (point.lower_tolerance_limit, point.upper_tolerance_limit)
        }),
        // The mark is what its own point says; what its instrument says stands in the words.
        state: match state_class(by_itself(point)) {
            "due" => "ok",
            own => own,
        },
    };
    let told = point.filter(|_| standing.is_signal()).and_then(|point| point.told_drift().ok()?);
    Card {
        ahead: told
            .and_then(|drift| ahead_words(&drift, &desk.here.zone))
            // On a narrow card a share does not part from its mark.
            .map(|words| words.replace("95 %", "95\u{a0}%")),
        id: stream.id,
        tag: view.instrument.tag.clone(),
        label: stream.label.clone(),
        value,
        at: point.map_or("not checked yet".to_owned(), |p| {
            local_day_time(p.measured_at.0, &desk.here.zone)
        }),
        state,
        words,
        drawing: drawing.draw(),
    }
}

/// Tells an open wall of charts that got a point, whichever process took it.
pub async fn events(_signed: SignedIn, State(state): State<AppState>) -> Response {
    let news = state.store.news().await;
    // What came between the page and this line is seen by looking at everything once.
    let first = futures_util::stream::iter([Ok(Event::default().event("chart").data("all"))]);
    let stream = futures_util::stream::unfold(news, |mut news| async move {
        let event = match news.recv().await {
            Ok(News::Chart(id)) => Event::default().event("chart").data(id.to_string()),
            // Behind, or not told for a while: look at everything again.
            Ok(News::Everything) | Err(RecvError::Lagged(_)) => {
                Event::default().event("chart").data("all")
            }
            Err(RecvError::Closed) => return None,
        };
        Some((Ok::<Event, Infallible>(event), news))
    });
    let closed = async move { state.closed().await };
    Sse::new(first.chain(stream).take_until(Box::pin(closed)))
        .keep_alive(KeepAlive::new().text("still here"))
        .into_response()
}
