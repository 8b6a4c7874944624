//! The round: what is due now, where, with which standard, how long, in what state.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use uuid::Uuid;
use vaaka_core::instrument::ServiceState;
use vaaka_core::judgement::{Attempt, drift_words};
use vaaka_core::round::{Due, DueRule, RoundTask, Standing, due_of, plan_round, standing_of};
use vaaka_store::Connection;
use vaaka_store::charts::{self, BriefPoint, StreamView};
use vaaka_store::checks::{self, ShiftCheck};
use vaaka_store::ids::{PlanId, StreamId};
use vaaka_store::outcomes::result_of;
use vaaka_store::plans::{self, PlanView};

use super::charts::{BEAM_TRAIL, beam_of, last_point, state_class};
use super::{Here, Shell, page};
use crate::draw::{Ribbon, RibbonBlock};
use crate::error::WebError;
use crate::forms::new_key;
use crate::session::SignedIn;
use crate::state::{AppState, local_time};

#[derive(Debug, Template)]
#[template(path = "round.html")]
struct RoundPage {
    shell: Shell,
    heading: String,
    sub: String,
    ribbon: String,
    rows: Vec<Row>,
    any_due: bool,
    cards: Vec<Card>,
}

impl RoundPage {
    /// The check to start with, when one is due.
    fn first(&self) -> Option<&Row> {
        self.rows.first().filter(|_| self.any_due)
    }
}

#[derive(Debug)]
struct Row {
    number: String,
    name: String,
    tag: String,
    area: String,
    standard: String,
    time: String,
    beam: String,
    state: &'static str,
    words: String,
    chart: Option<StreamId>,
    action: Action,
    plan_version: i64,
    key: Uuid,
}

#[derive(Debug, PartialEq)]
enum Action {
    Start(&'static str),
    GoOn(i64),
    Verdict(i64),
}

#[derive(Debug)]
struct Card {
    state: &'static str,
    title: String,
    words: String,
    link: String,
    link_words: &'static str,
}

/// A plan with everything the round knows of it.
struct Item {
    view: PlanView,
    runs: Vec<Attempt>,
    shift_checks: Vec<ShiftCheck>,
    open: Option<ShiftCheck>,
    due: Due,
    standing: Standing,
    worst: Option<(StreamView, Vec<BriefPoint>)>,
}

/// Shows the round.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let now = state.now();
    let items = items(&mut connection, &here).await?;
    let tasks: Vec<RoundTask<PlanId>> = items.iter().map(task).collect();
    let plan = plan_round(&tasks, now);
    let cards = cards(&mut connection, &items, &here).await?;
    let to_go = plan.to_do.len();
    let mut rows: Vec<Row> = Vec::new();
    for (index, scheduled) in plan.to_do.iter().enumerate() {
        if let Some(item) = items.iter().find(|item| item.view.plan.id == scheduled.id) {
            rows.push(row(item, (index + 1).to_string(), &here));
        }
    }
    let finished = items.iter().filter(|item| item.due == Due::Nothing);
    rows.extend(finished.map(|item| row(item, "–".to_owned(), &here)));
    let heading = heading(&here, to_go, items.len(), plan.done_by);
    let ribbon = ribbon(&items, &plan.to_do, &here, now).draw();
    let template = RoundPage {
        shell: Shell::new(&signed, "round", &here),
        heading,
        sub: sub(&items),
        ribbon,
        rows,
        any_due: to_go > 0,
        cards,
    };
    page(StatusCode::OK, &template)
}

fn heading(here: &Here, to_go: usize, all: usize, done_by: Option<Timestamp>) -> String {
    let day = here.shift.business_date.0.strftime("%A").to_string();
    let name = format!("Round of {day} {}", here.shift.label.to_lowercase());
    match done_by {
        Some(at) => {
            format!("{name}: {to_go} of {all} to go, done by {}", local_time(at, &here.zone))
        }
        None if all == 0 => format!("{name}: no plan is in force yet"),
        None => format!("{name}: all {all} done"),
    }
}

fn sub(items: &[Item]) -> String {
    let minutes: i32 = items
        .iter()
        .filter(|item| item.due != Due::Nothing)
        .map(|item| item.view.version.minutes)
        .sum();
    if minutes > 0 { format!("{minutes} min of work") } else { String::new() }
}

async fn items(connection: &mut Connection, here: &Here) -> Result<Vec<Item>, WebError> {
    let views = plans::in_force(connection).await?;
    let shift_checks = checks::of_shift(connection, here.shift.id).await?;
    let views = due_or_begun(connection, views, &shift_checks, here).await?;
    let mut benches: Vec<_> = views.iter().map(|view| view.instrument.id).collect();
    benches.sort_unstable();
    benches.dedup();
    let streams = charts::of_instruments(connection, &benches).await?;
    let ids: Vec<StreamId> = streams.iter().map(|view| view.stream.id).collect();
    let points = charts::newest_points(connection, &ids, BEAM_TRAIL).await?;
    views
        .into_iter()
        .map(|view| {
            let of_plan: Vec<ShiftCheck> =
                shift_checks.iter().filter(|check| check.plan == view.plan.id).cloned().collect();
            item(view, of_plan, here, &streams, &points)
        })
        .collect()
}

/// The plans of this round: those that are due by their rule, or begun or done in this shift.
async fn due_or_begun(
    connection: &mut Connection,
    views: Vec<PlanView>,
    shift_checks: &[ShiftCheck],
    here: &Here,
) -> Result<Vec<PlanView>, WebError> {
    let rules: Vec<DueRule> = views
        .iter()
        .map(|view| view.version.due_rule.parse().map_err(WebError::Inner))
        .collect::<Result<_, _>>()?;
    let seldom: Vec<PlanId> = views
        .iter()
        .zip(&rules)
        .filter(|(_, rule)| **rule != DueRule::EachShift)
        .map(|(view, _)| view.plan.id)
        .collect();
    let last = match seldom.as_slice() {
        [] => Vec::new(),
        seldom => checks::last_dates(connection, seldom).await?,
    };
    let today = here.shift.business_date.0;
    Ok(views
        .into_iter()
        .zip(rules)
        .filter(|(view, rule)| {
            let last = last.iter().find(|(plan, _)| *plan == view.plan.id).map(|(_, day)| day.0);
            let here_now = shift_checks.iter().any(|check| check.plan == view.plan.id);
            here_now || rule.is_due(last, today)
        })
        .map(|(view, _)| view)
        .collect())
}

fn item(
    view: PlanView,
    shift_checks: Vec<ShiftCheck>,
    here: &Here,
    streams: &[StreamView],
    points: &[BriefPoint],
) -> Result<Item, WebError> {
    let open = shift_checks.iter().find(|check| check.check.state == "open").cloned();
    let runs: Vec<Attempt> = shift_checks
        .iter()
        .filter(|check| check.check.state == "concluded" && check.check.purpose == "as_found")
        .filter(|check| check.check.shift_instance_id == here.shift.id)
        .filter_map(|check| super::charts::conformity(check.conforms.as_deref()?))
        .map(|conforms| Attempt { conforms })
        .collect();
    let own: Vec<(&StreamView, Vec<BriefPoint>)> = streams
        .iter()
        .filter(|stream| {
            stream.instrument.id == view.instrument.id
                && stream.stream.set_up_id == view.plan.set_up_id
        })
        .map(|stream| {
            let of_stream = points
                .iter()
                .filter(|point| point.stream_id == stream.stream.id)
                .cloned()
                .collect();
            (stream, of_stream)
        })
        .collect();
    let newest: Vec<_> = own.iter().filter_map(|(_, points)| last_point(points)).collect();
    let service: ServiceState = view
        .instrument
        .state
        .parse()
        .map_err(|_| vaaka_store::unreadable_word(&view.instrument.state))?;
    let standing = standing_of(&runs, &newest).with_service(service);
    let worst = own
        .into_iter()
        .min_by_key(|(stream, points)| {
            let standing = standing_of(&[], &last_point(points).into_iter().collect::<Vec<_>>());
            // Among equals the larger load says more.
            (standing, std::cmp::Reverse(stream.stream.nominal))
        })
        .map(|(stream, points)| (stream.clone(), points));
    Ok(Item { due: due_of(open.is_some(), &runs), view, runs, shift_checks, open, standing, worst })
}

fn task(item: &Item) -> RoundTask<PlanId> {
    RoundTask {
        id: item.view.plan.id,
        area_order: item.view.area.walk_order,
        standard: item.view.standard_words(),
        instrument: item.view.instrument.tag.clone(),
        minutes: i64::from(item.view.version.minutes),
        due: item.due,
    }
}

fn row(item: &Item, number: String, here: &Here) -> Row {
    let done = item.shift_checks.iter().rev().find(|check| check.check.state == "concluded");
    let action = match (&item.open, item.due) {
        (Some(open), _) => Action::GoOn(open.check.id.0),
        (None, Due::Repeat) => Action::Start("Repeat once"),
        (None, Due::Due | Due::Open) => Action::Start("Start"),
        (None, Due::Nothing) => Action::Verdict(done.map_or(0, |check| check.check.id.0)),
    };
    let time = match (item.due, done.and_then(|check| check.check.closed_at)) {
        (Due::Nothing, Some(at)) => format!("done {}", local_time(at.0, &here.zone)),
        _ => format!("{} min", item.view.version.minutes),
    };
    // What the instrument is stands first; what it wants is said by number and button.
    let (state, words) = match (item.standing, item.due) {
        (Standing::InControl | Standing::NoLimits | Standing::NeverChecked, Due::Due) => {
            ("due", "Due".to_owned())
        }
        (Standing::InControl | Standing::NoLimits | Standing::NeverChecked, Due::Open) => {
            ("open", "Begun".to_owned())
        }
        (standing, _) => (state_class(standing), standing_words(standing, item)),
    };
    Row {
        number,
        name: item.view.instrument.name.clone(),
        tag: item.view.instrument.tag.clone(),
        area: item.view.area.name.clone(),
        standard: item.view.standard_words(),
        time,
        beam: item
            .worst
            .as_ref()
            .map(|(stream, points)| beam_of(stream, points).draw())
            .unwrap_or_default(),
        state,
        words,
        chart: item.worst.as_ref().map(|(stream, _)| stream.stream.id),
        action,
        plan_version: item.view.version.id.0,
        key: new_key(),
    }
}

fn standing_words(standing: Standing, item: &Item) -> String {
    let slope = item.worst.as_ref().and_then(|(_, points)| points.first()?.drift_per_week);
    standing.words_with_drift(slope).to_owned()
}

/// One card for each instrument that wants a decision or an eye, worst first.
async fn cards(
    connection: &mut Connection,
    items: &[Item],
    here: &Here,
) -> Result<Vec<Card>, WebError> {
    let mut worst: Vec<&Item> =
        items.iter().filter(|item| item.standing < Standing::NoLimits).collect();
    worst.sort_by_key(|item| item.standing);
    let mut cards = Vec::new();
    for item in worst.into_iter().take(4) {
        let Some((stream, points)) = &item.worst else {
            continue;
        };
        let Some(newest) = points.first() else {
            continue;
        };
        let stored = result_of(connection, newest.check_id).await?;
        let drift = stored.as_ref().and_then(|stored| stored.verdict.forecast);
        let name = format!("{} {}", item.view.instrument.name, item.view.instrument.tag);
        let decimals = u32::try_from(stream.stream.decimals).unwrap_or(1);
        let value = format!(
            "{} {} at the last check, {}",
            vaaka_core::quantity::show_signed_float(newest.value, decimals),
            stream.stream.unit,
            local_time(newest.measured_at.0, &here.zone),
        );
        let (title, words) = match (item.standing, drift) {
            (Standing::SignalAbove | Standing::SignalBelow, Some(drift)) => (
                format!("{name} is drifting"),
                format!("{}.", drift_words(&drift, &stream.stream.unit, &here.zone)),
            ),
            (Standing::SignalAbove | Standing::SignalBelow, None) => (
                format!("{name} is not where it normally is"),
                format!("{}: {value}. Inside tolerance; look for the cause.", stream.stream.label),
            ),
            (standing, _) => (
                format!("{name}: {}", standing.words().to_lowercase()),
                format!("{}: {value}.", stream.stream.label),
            ),
        };
        let out = item.standing <= Standing::OutOfTolerance;
        let done = item.shift_checks.iter().rev().find(|check| check.check.state == "concluded");
        let (link, link_words) = match done.filter(|_| out && !item.runs.is_empty()) {
            Some(check) => (format!("/checks/{}/verdict", check.check.id), "See the verdict"),
            None => (format!("/charts/{}", stream.stream.id), "See the chart"),
        };
        cards.push(Card {
            state: if out { "out" } else { "signal" },
            title,
            words,
            link,
            link_words,
        });
    }
    Ok(cards)
}

fn ribbon(
    items: &[Item],
    to_do: &[vaaka_core::round::Scheduled<PlanId>],
    here: &Here,
    now: Timestamp,
) -> Ribbon {
    let mut lanes: Vec<String> = Vec::new();
    for item in items {
        if !lanes.contains(&item.view.area.name) {
            lanes.push(item.view.area.name.clone());
        }
    }
    let (start, end) = ribbon_span(items, to_do, here, now);
    let minute = |at: Timestamp| at.duration_since(start).as_secs_f64() / 60.0;
    let lane_of =
        |item: &Item| lanes.iter().position(|lane| *lane == item.view.area.name).unwrap_or(0);
    let mut blocks = Vec::new();
    for item in items {
        for check in &item.shift_checks {
            let until = check.check.closed_at.map_or(now, |at| at.0);
            // What is open is drawn once, by its plan.
            if check.check.state != "concluded" || until < start {
                continue;
            }
            blocks.push(RibbonBlock {
                lane: lane_of(item),
                from: minute(check.check.opened_at.0).max(0.0),
                to: minute(until),
                label: item.view.instrument.tag.clone(),
                done: true,
            });
        }
    }
    for scheduled in to_do {
        if let Some(item) = items.iter().find(|item| item.view.plan.id == scheduled.id) {
            blocks.push(RibbonBlock {
                lane: lane_of(item),
                from: minute(scheduled.starts_at),
                to: minute(scheduled.ends_at),
                label: item.view.instrument.tag.clone(),
                done: false,
            });
        }
    }
    let minutes = minute(end);
    let step =
        [10.0, 15.0, 30.0, 60.0].into_iter().find(|step| minutes / step <= 9.0).unwrap_or(120.0);
    let mut times = Vec::new();
    let mut at = 0.0;
    while at <= minutes {
        let seconds = jiff::SignedDuration::from_secs((at * 60.0) as i64);
        times.push((at, local_time(start.checked_add(seconds).unwrap_or(start), &here.zone)));
        at += step;
    }
    Ribbon {
        description: format!("The round along the shift: {} still to do.", to_do.len()),
        lanes,
        minutes,
        times,
        now: minute(now),
        blocks,
    }
}

/// From the first check of the shift, or half an hour ago, to a little after the last planned one.
fn ribbon_span(
    items: &[Item],
    to_do: &[vaaka_core::round::Scheduled<PlanId>],
    here: &Here,
    now: Timestamp,
) -> (Timestamp, Timestamp) {
    let back = |at: Timestamp, minutes: i64| {
        at.checked_sub(jiff::SignedDuration::from_mins(minutes)).unwrap_or(at)
    };
    let first = items
        .iter()
        .flat_map(|item| &item.shift_checks)
        .map(|check| check.check.opened_at.0)
        .filter(|at| *at >= here.shift.starts_at.0)
        .min();
    let start = first.unwrap_or(now).min(back(now, 10)).max(here.shift.starts_at.0);
    // Whole tens of minutes, so that the marks of time read well.
    let seconds = start.as_second().div_euclid(600) * 600;
    let start = Timestamp::from_second(seconds).unwrap_or(start);
    let last = to_do.last().map_or(now, |last| last.ends_at);
    let end = last.checked_add(jiff::SignedDuration::from_mins(15)).unwrap_or(last);
    let least = start.checked_add(jiff::SignedDuration::from_mins(60)).unwrap_or(end);
    (start, end.max(least))
}
