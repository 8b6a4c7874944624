//! What will fail: every drift that a chart's newest check tells, the soonest first; as a page, as a table, and as a
//! calendar for other programs (iCalendar, RFC 5545).

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use vaaka_core::history::{Crossing, Drift};
use vaaka_core::judgement::crossing_words;
use vaaka_core::quantity::{decimals_for, show_signed_float};
use vaaka_formats::{Cell, Table};
use vaaka_store::charts::{self, BriefPoint, StreamView};
use vaaka_store::ids::StreamId;
use vaaka_store::standing::{Of, Standings};

use crate::desk::Desk;
use crate::error::WebError;
use crate::pages::chart::list::newest_of;
use crate::pages::dates::Dates;
use crate::session::{Caller, SignedIn};
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day_time};

/// How far ahead what is due to fail stands first.
const SOON: SignedDuration = SignedDuration::from_hours(24 * 30);

#[derive(Debug, Template)]
#[template(path = "forecasts.html")]
struct ForecastsPage {
    shell: Shell,
    heading: String,
    groups: Vec<(&'static str, Vec<Line>)>,
}

#[derive(Debug)]
struct Line {
    id: i64,
    instrument: String,
    area: String,
    label: String,
    slope: String,
    single: String,
    level: String,
    told: String,
    probability: String,
}

/// A drift that is told now.
struct Told {
    view: StreamView,
    point: BriefPoint,
    drift: Drift,
}

impl Told {
    /// The first moment at which it may be outside; nothing where no limit is reached within a year.
    fn soonest(&self, now: Timestamp) -> Option<Timestamp> {
        if self.drift.beyond.is_some() {
            return Some(now);
        }
        let ends = [self.drift.first_check, self.drift.crossing];
        ends.into_iter().flatten().map(|crossing| crossing.earliest).min()
    }
}

/// The drifts that charts tell now, the soonest first. Of a chart whose signal is over, or that stands on another word, none
/// is told: its forecast speaks of what is past.
async fn told(desk: &mut Desk) -> Result<Vec<Told>, WebError> {
    let streams = charts::all(&mut desk.connection).await?;
    let ids: Vec<StreamId> = streams.iter().map(|view| view.stream.id).collect();
    let mut newest = newest_of(&mut desk.connection, &ids).await?;
    let all = Standings::read(&mut desk.connection, Of::All, desk.now).await?;
    let mut found = Vec::new();
    for view in streams {
        let Some(point) = newest.remove(&view.stream.id) else { continue };
        let Some(drift) = point.told_drift()? else { continue };
        let standing = all.of_chart(&view.instrument.state, &view.stream, Some(&point))?;
        if standing.is_signal() {
            found.push(Told { view, point, drift });
        }
    }
    found
        .sort_by_key(|one| (one.soonest(desk.now).unwrap_or(Timestamp::MAX), one.view.stream.id.0));
    Ok(found)
}

fn line(one: &Told, here: &Here) -> Line {
    let Told { view, point, drift } = one;
    let decimals = decimals_for((drift.per_week_high - drift.per_week_low) / 2.0);
    let show = |value: f64| show_signed_float(value, decimals);
    let level = match (drift.beyond, drift.crossing) {
        (Some(_), _) => "outside already".to_owned(),
        (None, Some(crossing)) => crossing_words(&crossing, &here.zone),
        (None, None) => "not within a year".to_owned(),
    };
    let single = match drift.first_check {
        Some(crossing) => crossing_words(&crossing, &here.zone),
        // Told by a straight line, before single checks were looked at.
        None if drift.probability.is_none() => "not told".to_owned(),
        None => level.clone(),
    };
    Line {
        id: view.stream.id.0,
        instrument: format!("{} {}", view.instrument.name, view.instrument.tag),
        area: view.area.name.clone(),
        label: view.stream.label.clone(),
        slope: format!(
            "{} {} a week ({} to {})",
            show(drift.per_week),
            view.stream.unit,
            show(drift.per_week_low),
            show(drift.per_week_high)
        ),
        single,
        level,
        told: local_day_time(point.measured_at.0, &here.zone),
        probability: drift.probability.map_or(String::new(), crate::pages::chart::percent),
    }
}

/// Shows the list.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let told = told(&mut desk).await?;
    let until = desk.now.checked_add(SOON).unwrap_or(desk.now);
    let is_soon = |one: &&Told| one.soonest(desk.now).is_some_and(|at| at <= until);
    let (soon, later): (Vec<&Told>, Vec<&Told>) = told.iter().partition(is_soon);
    let lines =
        |of: Vec<&Told>| of.into_iter().map(|one| line(one, &desk.here)).collect::<Vec<_>>();
    let heading = match soon.len() {
        0 => "Nothing is forecast to fail within 30 days".to_owned(),
        1 => "One characteristic may fail within 30 days".to_owned(),
        count => format!("{count} characteristics may fail within 30 days"),
    };
    let groups =
        [("May fail within 30 days", lines(soon)), ("Drifting, but not so soon", lines(later))];
    let template = ForecastsPage {
        shell: Shell::new(&signed, "charts", &desk.here),
        heading,
        groups: groups.into_iter().filter(|(_, lines)| !lines.is_empty()).collect(),
    };
    page(StatusCode::OK, &template)
}

/// The same as a table for other programs.
pub(in crate::pages) async fn table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "chart",
        "instrument",
        "area",
        "characteristic",
        "unit",
        "per_week",
        "per_week_low",
        "per_week_high",
        "since",
        "since_low",
        "since_high",
        "limit",
        "beyond",
        "first_check_earliest",
        "first_check",
        "first_check_latest",
        "level_earliest",
        "level",
        "level_latest",
        "measured_at",
        "record",
    ]);
    for Told { view, point, drift } in told(desk).await? {
        let moment = |at: Option<Timestamp>| Cell::from(at.map(|at| at.to_string()));
        let three = |crossing: Option<Crossing>| {
            let latest = crossing.and_then(|crossing| crossing.latest);
            [
                moment(crossing.map(|crossing| crossing.earliest)),
                moment(crossing.map(|crossing| crossing.at)),
                moment(latest),
            ]
        };
        let [single_low, single, single_high] = three(drift.first_check);
        let [level_low, level, level_high] = three(drift.crossing);
        let limit = drift.beyond.or(drift.crossing.map(|crossing| crossing.limit));
        table.row([
            view.stream.id.0.into(),
            Cell::from(&view.instrument.tag),
            Cell::from(&view.area.name),
            Cell::from(&view.stream.label),
            Cell::from(&view.stream.unit),
            Some(drift.per_week).into(),
            Some(drift.per_week_low).into(),
            Some(drift.per_week_high).into(),
            moment(Some(drift.since)),
            moment(drift.since_interval.map(|(low, _)| low)),
            moment(drift.since_interval.map(|(_, high)| high)),
            limit.into(),
            if drift.beyond.is_some() { "yes" } else { "no" }.into(),
            single_low,
            single,
            single_high,
            level_low,
            level,
            level_high,
            moment(Some(point.measured_at.0)),
            point.check_id.0.into(),
        ]);
    }
    Ok(table)
}

/// The same as a calendar: an event on the day from which each may be outside. A day is promised nowhere without its interval:
/// it stands in the event's words.
pub async fn calendar(
    _caller: Caller,
    State(state): State<AppState>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let told = told(&mut desk).await?;
    let mut dates = Dates::new(&state, "What will fail", desk.now);
    for one in &told {
        let Some(soonest) = one.soonest(desk.now) else { continue };
        let words = line(one, &desk.here);
        let (id, tag) = (one.view.stream.id, &one.view.instrument.tag);
        let summary = format!("{tag}, {}: may be outside from here on", words.label);
        let about = format!(
            "{}. A single check is outside for the first time {}; the level reaches the tolerance {}.",
            words.slope, words.single, words.level
        );
        let day = soonest.max(desk.now).to_zoned_datetime(desk.here.zone.clone()).date();
        dates.add(&format!("forecast-{id}"), (&summary, &about), day, &format!("/charts/{id}"));
    }
    Ok(dates.attached("forecasts.ics"))
}
