//! Labels of instruments: as a drawing, on a page, and many on a sheet for printing.

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use jiff::civil::Date;
use serde::Deserialize;
use vaaka_core::instrument::ServiceState;
use vaaka_core::round::DueRule;
use vaaka_store::{Connection, checks, instruments, plans};

use crate::desk::Desk;
use crate::draw::Label;
use crate::error::WebError;
use crate::forms::{Asked, PathTag};
use crate::pages::instrument::list::{Known, standing};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::AppState;

/// Labels on a sheet at most.
const MOST: usize = 120;

#[derive(Debug, Template)]
#[template(path = "labels.html")]
struct LabelsPage {
    shell: Shell,
    heading: String,
    area: String,
    areas: Vec<String>,
    labels: Vec<(String, String)>,
}

/// Which labels.
#[derive(Debug, Default, Deserialize)]
pub struct Query {
    #[serde(default)]
    area: String,
    #[serde(default)]
    tag: String,
}

/// Address of the application for the code of a label: as it was set, or as it was asked for.
pub(in crate::pages) fn base(state: &AppState, headers: &HeaderMap) -> String {
    if !state.settings.address.is_empty() {
        return state.settings.address.trim_end_matches('/').to_owned();
    }
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or("localhost");
    format!("http://{host}")
}

fn day(date: Date) -> String {
    date.strftime("%-d %b %Y").to_string()
}

async fn label_of(
    connection: &mut Connection,
    known: &Known,
    here: &Here,
    base: &str,
) -> Result<Label, WebError> {
    let instrument = &known.instrument;
    let latest = instruments::checks_of(connection, instrument.id, 12).await?;
    let last = latest.iter().find(|check| check.state == "concluded" && check.purpose != "trial");
    let views = plans::of_instrument(connection, instrument.id).await?;
    let ids: Vec<_> = views.iter().map(|view| view.plan.id).collect();
    let dates = checks::last_dates(connection, &ids).await?;
    let mut next: Option<Date> = None;
    let mut each = "";
    for view in &views {
        let rule: DueRule = view.version.due_rule.parse().map_err(WebError::Inner)?;
        let done = dates.iter().find(|(plan, _)| *plan == view.plan.id).map(|(_, day)| day.0);
        match rule.next(done) {
            Some(date) => next = Some(next.map_or(date, |next| next.min(date))),
            None if each.is_empty() => each = rule.words(),
            None => {}
        }
    }
    let due = match (each, next) {
        ("", Some(date)) => day(date),
        ("", None) => "no plan in force".to_owned(),
        (each, _) => each.to_owned(),
    };
    let mark = match (known.service, known.standing) {
        (ServiceState::InService, standing) if standing.is_usable() => "ok",
        (ServiceState::Restricted, _) => "signal",
        _ if known.only().is_some() => "signal",
        (ServiceState::InService, standing) if !standing.is_bad() => "signal",
        _ => "out",
    };
    let mut lines = Vec::new();
    if let Some(check) = last {
        let at = check.at.0.to_zoned_datetime(here.zone.clone()).date();
        lines.push(("last check".to_owned(), day(at)));
        lines.push(("by".to_owned(), check.person.clone()));
    } else {
        lines.push(("last check".to_owned(), "never".to_owned()));
    }
    lines.push(("next due".to_owned(), due));
    Ok(Label {
        tag: instrument.tag.clone(),
        name: instrument.name.clone(),
        state: known.use_words().to_owned(),
        mark,
        only: known.only_short().map(|only| format!("only: {only}")).unwrap_or_default(),
        lines,
        address: format!("{base}/instruments/{}", instrument.tag),
    })
}

/// The label of one instrument as an SVG of its own.
pub async fn svg(
    _signed: SignedIn,
    State(state): State<AppState>,
    headers: HeaderMap,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let found = instruments::by_tag(&mut desk.connection, &tag).await?;
    let base = base(&state, &headers);
    let set_ups = instruments::set_ups(&mut desk.connection, found.0.id).await?;
    let known = standing(&mut desk.connection, desk.now, vec![found], &set_ups).await?;
    let known = known.first().ok_or(WebError::NotFound)?;
    let label = label_of(&mut desk.connection, known, &desk.here, &base).await?;
    // Alone it has no style sheet beside it: its own says the little that print needs.
    let style = "<style>text{font-family:sans-serif;fill:#000}.label-edge{fill:#fff;stroke:#000}.label-tag{font:700 30px monospace}.label-state{font-size:18px;font-weight:700}.label-name{font-size:14px}.label-line{font-size:13px}</style>";
    let drawn = label.draw();
    let drawn = match drawn.find('>') {
        Some(end) => format!("{}{style}{}", &drawn[..=end], &drawn[end + 1..]),
        None => drawn,
    };
    Ok(([(header::CONTENT_TYPE, "image/svg+xml")], drawn).into_response())
}

/// A sheet of labels: all of an area, or one.
pub async fn sheet(
    signed: SignedIn,
    State(state): State<AppState>,
    headers: HeaderMap,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let all = instruments::all(&mut desk.connection).await?;
    let mut areas: Vec<String> = Vec::new();
    for (_, area) in &all {
        if !areas.contains(&area.name) {
            areas.push(area.name.clone());
        }
    }
    let chosen: Vec<_> = all
        .into_iter()
        .filter(|(instrument, area)| {
            instrument.state != "retired"
                && (query.area.is_empty() || area.name == query.area)
                && (query.tag.is_empty() || instrument.tag == query.tag)
        })
        .take(MOST)
        .collect();
    let set_ups = instruments::cells(&mut desk.connection).await?;
    let chosen = standing(&mut desk.connection, desk.now, chosen, &set_ups).await?;
    let base = base(&state, &headers);
    let mut labels = Vec::new();
    for known in &chosen {
        let label = label_of(&mut desk.connection, known, &desk.here, &base).await?;
        labels.push((known.instrument.tag.clone(), label.draw()));
    }
    let heading = match labels.len() {
        1 => "one".to_owned(),
        n => format!("{n} for printing"),
    };
    let shell = Shell::new(&signed, "instruments", &desk.here);
    page(StatusCode::OK, &LabelsPage { shell, heading, area: query.area, areas, labels })
}
