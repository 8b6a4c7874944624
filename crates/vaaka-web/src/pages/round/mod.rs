//! The round: what is due now, where, with which standard, how long, in what state.

pub mod calendar;
pub mod due_calendar;
pub mod handover;
pub mod in_the_way;
pub mod missed;
pub mod paper;
pub mod paper_decide;

use std::collections::{HashMap, HashSet};

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use uuid::Uuid;
use vaaka_core::judgement::{Attempt, RepeatState, Statement, drift_words, repeat_state};
use vaaka_core::round::{
    Due, DueRule, RoundTask, Standing, Trigger, due_of, plan_round, triggered,
};
use vaaka_formats::Table;
use vaaka_store::Connection;
use vaaka_store::charts::{self, BriefPoint};
use vaaka_store::checks::{self, ShiftCheck};
use vaaka_store::ids::{PlanId, PlanVersionId, StreamId};
use vaaka_store::outcomes::result_of;
use vaaka_store::plans::{self, InForce, RoundPlan};
use vaaka_store::rounds;
use vaaka_store::rows::{Shift, Stream};
use vaaka_store::signals;
use vaaka_store::standing::{Of, Standings};
use vaaka_store::{adjustments, culprits, orders};

use crate::desk::Desk;
use crate::draw::{Ribbon, RibbonBlock};
use crate::error::WebError;
use crate::forms::new_key;
use crate::pages::chart::list::{BEAM_TRAIL, beam_of, by_itself, newest_of, state_class};
use crate::pages::check::verdict_parts::only_in_band;
use crate::pages::round::in_the_way::{InTheWay, Standards};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
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
    missed: Option<(String, String)>,
    handed: Vec<String>,
    notes: Vec<String>,
    signed_off: Option<String>,
    done: usize,
    to_go: usize,
    error: Option<(&'static str, String)>,
    typed: String,
    forgotten: Vec<Forgotten>,
    alarms: Option<String>,
    offer: Option<(String, String, crate::pages::chart::culprit::Trial)>,
}

impl RoundPage {
    /// The check to start with, when one is due.
    fn first(&self) -> Option<&Row> {
        let wants = |row: &&Row| matches!(row.action, Action::Start(_) | Action::GoOn(_));
        self.rows.iter().find(wants).filter(|_| self.any_due)
    }

    /// Whether a row is that one: it is the chosen row, as the button at the head says.
    fn is_first(&self, row: &Row) -> bool {
        self.first().is_some_and(|first| first.key == row.key)
    }
}

#[derive(Debug)]
struct Row {
    number: String,
    name: String,
    tag: String,
    area: String,
    why: Option<String>,
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
    /// An adjustment that is not proven yet.
    Prove(i64),
    /// It is due, and no standard can serve: why, and the standard if it is one.
    Blocked(String, Option<String>),
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
    plan: RoundPlan,
    runs: Vec<Attempt>,
    shift_checks: Vec<ShiftCheck>,
    open: Option<ShiftCheck>,
    due: Due,
    standing: Standing,
    /// The stream that stands worst, its newest point and the values before it.
    worst: Option<Worst>,
    /// Why it is due where that is not plain: out of turn, or late.
    why: Option<String>,
    late: bool,
    /// The adjustment since, that is not proven yet.
    unproven: Option<i64>,
    /// Why it stands so, where no failed check says it.
    because: Option<String>,
    /// Why no check of it can begin now, with the standard that is in the way.
    blocked: Option<InTheWay>,
}

struct Worst {
    stream: Stream,
    newest: Option<BriefPoint>,
    trail: Vec<f64>,
}

/// Shows the round.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    draw(&state, &signed, None, String::new(), StatusCode::OK).await
}

/// Draws the round; `error` is what was refused of a handover or a sign-off, with what was typed.
pub(in crate::pages) async fn draw(
    state: &AppState,
    signed: &SignedIn,
    error: Option<(&'static str, String)>,
    typed: String,
    status: StatusCode,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(state, &mut connection).await?;
    let now = state.now();
    // What stands around the round does not wait for it.
    let (items, around) = match state.store.spare().await {
        Some(mut spare) => {
            let reads =
                tokio::join!(items(&mut connection, &here, now), around(&mut spare, &here, now));
            (reads.0?, reads.1?)
        }
        None => {
            (items(&mut connection, &here, now).await?, around(&mut connection, &here, now).await?)
        }
    };
    let tasks: Vec<RoundTask<PlanId>> = items.iter().map(task).collect();
    let plan = plan_round(&tasks, now);
    let cards = cards(&mut connection, &items, &here).await?;
    let to_go = plan.to_do.len();
    let mut rows: Vec<Row> = Vec::new();
    let unproven = items.iter().filter(|item| item.unproven.is_some());
    rows.extend(unproven.map(|item| row(item, "–".to_owned(), &here)));
    for (index, scheduled) in plan.to_do.iter().enumerate() {
        if let Some(item) = items.iter().find(|item| item.plan.plan == scheduled.id) {
            rows.push(row(item, (index + 1).to_string(), &here));
        }
    }
    let finished = items.iter().filter(|item| item.due == Due::Nothing && item.unproven.is_none());
    rows.extend(finished.map(|item| row(item, "–".to_owned(), &here)));
    let heading = heading(&here, to_go, items.len(), plan.done_by);
    let ribbon = ribbon(&items, &plan.to_do, &here, now).draw();
    let template = RoundPage {
        missed: around.missed,
        handed: around.handed,
        notes: around.notes,
        signed_off: around.signed_off,
        done: items.len() - to_go,
        to_go,
        error,
        typed,
        shell: Shell::new(signed, "round", &here),
        heading,
        sub: sub(&items),
        ribbon,
        rows,
        any_due: to_go > 0,
        cards,
        alarms: around.alarms,
        offer: around.offer,
        forgotten: around.forgotten,
    };
    page(status, &template)
}

/// What stands around the round: of the shift before, and of this one.
struct Around {
    missed: Option<(String, String)>,
    handed: Vec<String>,
    notes: Vec<String>,
    signed_off: Option<String>,
    forgotten: Vec<Forgotten>,
    alarms: Option<String>,
    /// The check that would tell whose fault a change is: title, words, the trial.
    offer: Option<(String, String, crate::pages::chart::culprit::Trial)>,
}

/// A signal that nobody goes on with.
#[derive(Debug)]
struct Forgotten {
    id: i64,
    title: String,
    words: String,
}

/// Forgotten signals shown on the round at most; all are in their list.
const FORGOTTEN: i64 = 5;

/// Signals that come back because nobody took a step about them for the set time.
async fn forgotten(
    connection: &mut Connection,
    here: &Here,
    now: Timestamp,
) -> Result<Vec<Forgotten>, WebError> {
    let found = signals::forgotten(connection, now, FORGOTTEN).await?;
    Ok(found
        .iter()
        .map(|signal| Forgotten {
            id: signal.id.0,
            title: format!("{}: {}", signal.tag, crate::pages::chart::lower_first(&signal.label)),
            words: format!(
                "no step since {}; {}",
                crate::state::local_day_time(signal.touched_at.0, &here.zone),
                crate::pages::chart::signals::signal_state(&signal.state),
            ),
        })
        .collect())
}

async fn around(
    connection: &mut Connection,
    here: &Here,
    now: Timestamp,
) -> Result<Around, WebError> {
    let (missed, handed) = match rounds::shift_before(connection, &here.shift).await? {
        None => (None, vec![]),
        Some(before) => {
            let left = rounds::handed_over(connection, before.id).await?;
            (missed_words(connection, here, &before).await?, lines(&left, here))
        }
    };
    let notes = rounds::handed_over(connection, here.shift.id).await?;
    let signed_off = rounds::signed_off(connection, here.shift.id).await?.map(|one| {
        let left = match one.to_go {
            0 => "nothing left".to_owned(),
            n => format!("{n} left: {}", one.reason),
        };
        let when = local_time(one.at.0, &here.zone);
        format!("{} at {when}, {} done, {left}", one.person, one.done)
    });
    let forgotten = forgotten(connection, here, now).await?;
    let a_week = crate::pages::chart::list::false_alarms_a_week(connection, None).await?;
    let alarms = (a_week > 0.0).then(|| crate::pages::chart::list::alarms_words(a_week));
    let offer = match culprits::offer(connection).await? {
        Some(offer) => {
            let said = crate::pages::chart::culprit::offered(&offer)?;
            Some((said.title, said.words, crate::pages::chart::culprit::Trial::of(&offer)))
        }
        None => None,
    };
    let notes = lines(&notes, here);
    Ok(Around { missed, handed, notes, signed_off, forgotten, alarms, offer })
}

/// The round as a table for other programs.
pub(in crate::pages) async fn table(desk: &mut Desk) -> Result<Table, WebError> {
    let items = items(&mut desk.connection, &desk.here, desk.now).await?;
    let tasks: Vec<RoundTask<PlanId>> = items.iter().map(task).collect();
    let plan = plan_round(&tasks, desk.now);
    let mut table = Table::new(&[
        "place",
        "area",
        "instrument",
        "name",
        "standard",
        "minutes",
        "state",
        "to_do",
        "why",
        "starts_at",
    ]);
    for item in &items {
        let place = plan.to_do.iter().position(|scheduled| scheduled.id == item.plan.plan);
        let row = row(item, String::new(), &desk.here);
        let to_do = match item.due {
            _ if item.unproven.is_some() => "as left",
            Due::Nothing => "",
            Due::Due | Due::Repeat if item.blocked.is_some() => "wait for a standard",
            Due::Due => "check",
            Due::Open => "go on",
            Due::Repeat => "repeat",
        };
        table.row([
            place.map(|place| place + 1).into(),
            vaaka_formats::Cell::from(&item.plan.area),
            row.tag.into(),
            row.name.into(),
            row.standard.into(),
            item.plan.minutes.into(),
            row.words.into(),
            to_do.into(),
            row.why.into(),
            place.map(|place| plan.to_do[place].starts_at.to_string()).into(),
        ]);
    }
    Ok(table)
}

/// How many checks of this round are done, and how many are left.
pub(in crate::pages) async fn counts(
    connection: &mut Connection,
    here: &Here,
    now: Timestamp,
) -> Result<(usize, usize), WebError> {
    let items = items(connection, here, now).await?;
    let to_go = items.iter().filter(|item| item.due != Due::Nothing).count();
    Ok((items.len() - to_go, to_go))
}

fn lines(notes: &[rounds::Handover], here: &Here) -> Vec<String> {
    let line = |note: &rounds::Handover| {
        format!("{} ({}, {})", note.words, note.person, local_time(note.at.0, &here.zone))
    };
    notes.iter().map(line).collect()
}

/// What was missed in a shift: a title and the tags.
async fn missed_words(
    connection: &mut Connection,
    here: &Here,
    shift: &Shift,
) -> Result<Option<(String, String)>, WebError> {
    let all = plans::awake(connection, here.shift.business_date.0, &[]).await?;
    // A week or a month that went by shows as a late row as long as it lasts.
    let plans: Vec<rounds::Asked> = all
        .iter()
        .filter_map(|one| {
            let rule: DueRule = one.due_rule.parse().ok()?;
            let since = one.since?.0;
            matches!(rule, DueRule::EachShift | DueRule::EachDay).then_some(rounds::Asked {
                plan: one.plan,
                rule,
                since,
                until: Timestamp::MAX,
            })
        })
        .collect();
    let (from, until) = (shift.starts_at.0, shift.ends_at.0);
    let found = rounds::missed_between(connection, &plans, from, until).await?;
    let mut tags: Vec<&str> = found
        .iter()
        .filter_map(|(plan, _)| all.iter().find(|one| one.plan == *plan))
        .map(|one| one.tag.as_str())
        .collect();
    tags.dedup();
    let label = shift.label.to_lowercase();
    Ok(match tags.len() {
        0 => None,
        1 => Some((format!("One check was missed in the {label} shift"), tags.join(", "))),
        n => Some((format!("{n} checks were missed in the {label} shift"), tags.join(", "))),
    })
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
    let minutes: i32 =
        items.iter().filter(|item| item.due != Due::Nothing).map(|item| item.plan.minutes).sum();
    if minutes > 0 { format!("{minutes} min of work") } else { String::new() }
}

/// What is due of each plan on this shift's round, by all that makes a check due; nothing of a plan that is not on it.
pub(in crate::pages) async fn due_now(
    connection: &mut Connection,
    here: &Here,
    now: Timestamp,
) -> Result<HashMap<PlanId, Due>, WebError> {
    let items = items(connection, here, now).await?;
    Ok(items.iter().map(|item| (item.plan.plan, item.due)).collect())
}

async fn items(
    connection: &mut Connection,
    here: &Here,
    now: Timestamp,
) -> Result<Vec<Item>, WebError> {
    let shift_checks = checks::of_shift(connection, here.shift.id).await?;
    let mut attempts = checks::attempts_of_shift(connection, here.shift.id).await?;
    let ordered = orders::of_shift(connection, here.shift.id).await?;
    let ordered: HashSet<PlanId> =
        ordered.into_keys().filter(|plan| !attempts.contains_key(plan)).collect();
    let begun: Vec<PlanId> = shift_checks.iter().map(|check| check.plan).collect();
    let asked: Vec<PlanId> = begun.iter().chain(&ordered).copied().collect();
    let all = plans::awake(connection, here.shift.business_date.0, &asked).await?;
    let wanted = due_or_begun(connection, &all, (&begun, &ordered), here, now).await?;
    let ids: Vec<PlanVersionId> = wanted.iter().map(|one| one.version).collect();
    let plans = plans::on_round(connection, &ids).await?;
    let mut benches: Vec<_> = plans.iter().map(|plan| plan.instrument).collect();
    benches.sort_unstable();
    benches.dedup();
    let streams = charts::streams_of(connection, &benches).await?;
    let ids: Vec<StreamId> = streams.iter().map(|stream| stream.id).collect();
    let newest = newest_of(connection, &ids).await?;
    let standings = Standings::read(connection, Of::Instruments(&benches), now).await?;
    let unproven = adjustments::unproven(connection).await?;
    let mut items = plans
        .into_iter()
        .map(|plan| {
            let of_plan: Vec<ShiftCheck> =
                shift_checks.iter().filter(|check| check.plan == plan.plan).cloned().collect();
            let known = wanted.iter().find(|one| one.version == plan.version);
            let place = (plan.instrument, plan.set_up);
            let runs = attempts.remove(&plan.plan).unwrap_or_default();
            let mut item = item(plan, of_plan, runs, (&streams, &newest), &standings)?;
            let adjusted = unproven.iter().rev().find(|(i, s, _)| (*i, *s) == place);
            if let Some((_, _, id)) = adjusted.filter(|_| item.open.is_none()) {
                // What was found is on record; now the proof is wanted, and nothing else.
                item.unproven = Some(id.0);
                item.due = Due::Nothing;
                item.why = Some("its as-left check is due".to_owned());
            }
            let again = known.is_some_and(|known| known.occasion);
            if again && item.due == Due::Nothing && repeat_state(&item.runs) == RepeatState::None {
                // Its check of this shift was made before; what happened since asks for another.
                item.due = Due::Due;
            }
            if let Some(known) = known.filter(|_| item.due != Due::Nothing) {
                item.why.clone_from(&known.why);
                item.late = known.late;
            }
            Ok(item)
        })
        .collect::<Result<Vec<Item>, WebError>>()?;
    block(connection, &mut items, here, now).await?;
    // Only what is drawn is read further back.
    let drawn: Vec<StreamId> =
        items.iter().filter_map(|item| Some(item.worst.as_ref()?.stream.id)).collect();
    let mut trails = charts::trails(connection, &drawn, BEAM_TRAIL).await?;
    for worst in items.iter_mut().filter_map(|item| item.worst.as_mut()) {
        worst.trail = trails.remove(&worst.stream.id).unwrap_or_default();
    }
    Ok(items)
}

/// Notes what is due and cannot begin, because no standard can serve: offered, it would be refused.
async fn block(
    connection: &mut Connection,
    items: &mut [Item],
    here: &Here,
    now: Timestamp,
) -> Result<(), WebError> {
    let to_begin = |item: &&mut Item| matches!(item.due, Due::Due | Due::Repeat);
    let mut wanted: Vec<&mut Item> = items.iter_mut().filter(to_begin).collect();
    if wanted.is_empty() {
        return Ok(());
    }
    let versions: Vec<PlanVersionId> = wanted.iter().map(|item| item.plan.version).collect();
    let standards = Standards::read(connection, &versions, here, now).await?;
    for item in &mut wanted {
        let of = (item.plan.standard_tag.as_deref(), item.plan.standard_kind.as_deref());
        item.blocked = standards.of(item.plan.version, of);
        if let Some(found) = &item.blocked {
            item.why = Some(found.words.clone());
        }
    }
    Ok(())
}

/// A plan of this round.
struct OnRound {
    version: PlanVersionId,
    why: Option<String>,
    late: bool,
    /// Whether something happened since its last check that asks for one.
    occasion: bool,
}

/// The plans of this round: those that are due by their rule or out of turn, or begun or done in this
/// shift. In a shift in which nobody works nothing is due by the calendar.
async fn due_or_begun(
    connection: &mut Connection,
    all: &[InForce],
    (begun, ordered): (&[PlanId], &HashSet<PlanId>),
    here: &Here,
    now: Timestamp,
) -> Result<Vec<OnRound>, WebError> {
    let begun: HashSet<PlanId> = begun.iter().copied().collect();
    let mut rules: Vec<(&InForce, DueRule, Vec<Trigger>)> = Vec::new();
    for plan in all {
        let rule: DueRule = plan.due_rule.parse().map_err(WebError::Inner)?;
        let triggers = plan.due_triggers.iter().filter_map(|word| word.parse().ok()).collect();
        rules.push((plan, rule, triggers));
    }
    let today = here.shift.business_date.0;
    let by_calendar = |plan: &InForce, rule: DueRule| {
        here.shift.works && rule.is_due(plan.last_done_on.map(|day| day.0), today)
    };
    // Occasions are asked for where the calendar is quiet only.
    let quiet: Vec<PlanId> = rules
        .iter()
        .filter(|(plan, rule, triggers)| {
            // Of one begun in this shift an occasion may ask for another.
            !triggers.is_empty() && (begun.contains(&plan.plan) || !by_calendar(plan, *rule))
        })
        .map(|(plan, ..)| plan.plan)
        .collect();
    let since = rounds::since_checks(connection, &quiet).await?;
    let mut wanted = Vec::new();
    for (plan, rule, triggers) in &rules {
        let version = plan.version;
        let occasion = since.get(&plan.plan).and_then(|since| triggered(triggers, since, now));
        if ordered.contains(&plan.plan) {
            let why = Some("ordered by a lead".to_owned());
            wanted.push(OnRound { version, why, late: false, occasion: true });
        } else if let Some(trigger) = occasion {
            let why = Some(format!("due {}", trigger.words()));
            wanted.push(OnRound { version, why, late: false, occasion: true });
        } else if begun.contains(&plan.plan) || by_calendar(plan, *rule) {
            let next = rule.next(plan.last_done_on.map(|day| day.0));
            let late = next.is_some_and(|next| next < today) && !begun.contains(&plan.plan);
            let why =
                next.filter(|_| late).map(|next| format!("was due on {}", next.strftime("%-d %B")));
            wanted.push(OnRound { version, why, late, occasion: false });
        }
    }
    Ok(wanted)
}

fn item(
    plan: RoundPlan,
    shift_checks: Vec<ShiftCheck>,
    runs: Vec<Attempt>,
    (streams, newest): (&[Stream], &HashMap<StreamId, BriefPoint>),
    standings: &Standings,
) -> Result<Item, WebError> {
    let open = shift_checks.iter().find(|check| check.check.state == "open").cloned();
    let own: Vec<(&Stream, Option<&BriefPoint>)> = streams
        .iter()
        .filter(|stream| stream.instrument_id == plan.instrument && stream.set_up_id == plan.set_up)
        .map(|stream| (stream, newest.get(&stream.id)))
        .collect();
    let points = own.iter().filter_map(|(stream, newest)| Some((*stream, (*newest)?)));
    let standing = standings.of_one_set_up((plan.instrument, &plan.state), plan.set_up, points)?;
    let worst = own
        .into_iter()
        // Among equals the larger load says more.
        .min_by_key(|(stream, newest)| (by_itself(*newest), std::cmp::Reverse(stream.nominal)))
        .map(|(stream, newest)| Worst {
            stream: stream.clone(),
            newest: newest.cloned(),
            trail: vec![],
        });
    let due = due_of(open.is_some(), &runs);
    let (why, late, unproven, blocked) = (None, false, None, None);
    let wrong = standings.plans(plan.instrument).iter().find(|one| one.plan == plan.plan);
    let because = wrong.and_then(|one| one.wrong_standard.as_ref()).map(|tag| {
        format!("{tag} was found wrong after its newest check: check it with another, or close the look-back.")
    });
    Ok(Item {
        due,
        plan,
        runs,
        shift_checks,
        open,
        standing,
        worst,
        why,
        late,
        unproven,
        because,
        blocked,
    })
}

fn task(item: &Item) -> RoundTask<PlanId> {
    RoundTask {
        id: item.plan.plan,
        area_order: item.plan.walk_order,
        standard: item.plan.standard_words(),
        instrument: item.plan.tag.clone(),
        minutes: i64::from(item.plan.minutes),
        due: item.due,
    }
}

fn row(item: &Item, number: String, here: &Here) -> Row {
    let done = item.shift_checks.iter().rev().find(|check| check.check.state == "concluded");
    let action = match (&item.open, item.due) {
        (None, _) if item.unproven.is_some() => Action::Prove(item.unproven.unwrap_or(0)),
        (Some(open), _) => Action::GoOn(open.check.id.0),
        (None, Due::Repeat | Due::Due) if item.blocked.is_some() => {
            let words = item.blocked.as_ref().map_or_else(String::new, |found| found.words.clone());
            Action::Blocked(words, item.blocked.as_ref().and_then(|found| found.tag.clone()))
        }
        (None, Due::Repeat) => Action::Start("Repeat once"),
        (None, Due::Due | Due::Open) => Action::Start("Start"),
        (None, Due::Nothing) => Action::Verdict(done.map_or(0, |check| check.check.id.0)),
    };
    let time = match (item.due, done.and_then(|check| check.check.closed_at)) {
        (Due::Nothing, Some(at)) => format!("done {}", local_time(at.0, &here.zone)),
        _ => format!("{} min", item.plan.minutes),
    };
    // What the instrument is stands first; what it wants is said by number and button.
    let (state, words) = match (item.standing, item.due) {
        (standing, Due::Due) if is_quiet(standing) => {
            if item.late {
                ("signal", "Late".to_owned())
            } else {
                ("due", "Due".to_owned())
            }
        }
        (standing, Due::Open) if is_quiet(standing) => ("open", "Begun".to_owned()),
        (standing, _) => (state_class(standing), standing_words(standing, item)),
    };
    Row {
        number,
        name: item.plan.name.clone(),
        tag: item.plan.tag.clone(),
        area: match item.plan.cell_words() {
            Some(cell) => format!("{} · {cell}", item.plan.area),
            None => item.plan.area.clone(),
        },
        why: item.why.clone(),
        standard: item.plan.standard_words(),
        time,
        beam: item
            .worst
            .as_ref()
            .map(|worst| beam_of(&worst.stream, worst.newest.as_ref(), &worst.trail).draw())
            .unwrap_or_default(),
        state,
        words,
        chart: item.worst.as_ref().map(|worst| worst.stream.id),
        action,
        plan_version: item.plan.version.0,
        key: new_key(),
    }
}

/// Nothing is to be said of it but that its check is due.
fn is_quiet(standing: Standing) -> bool {
    standing == Standing::NeverChecked || standing.is_usable() && !standing.is_signal()
}

fn standing_words(standing: Standing, item: &Item) -> String {
    let slope = item.worst.as_ref().and_then(|worst| worst.newest.as_ref()?.drift_per_week);
    standing.words_with_drift(slope).to_owned()
}

/// One card for each instrument that wants a decision or an eye, worst first.
async fn cards(
    connection: &mut Connection,
    items: &[Item],
    here: &Here,
) -> Result<Vec<Card>, WebError> {
    let wants_an_eye = |standing: Standing| !is_quiet(standing) && standing < Standing::GoodSince;
    let mut worst: Vec<&Item> = items.iter().filter(|item| wants_an_eye(item.standing)).collect();
    worst.sort_by_key(|item| item.standing);
    let mut cards = Vec::new();
    for item in worst.into_iter().take(4) {
        let chart =
            item.worst.as_ref().and_then(|worst| Some((&worst.stream, worst.newest.as_ref()?)));
        let stored = match chart {
            Some((_, newest)) => result_of(connection, newest.check_id).await?,
            None => None,
        };
        let drift = stored.as_ref().and_then(|stored| stored.verdict.forecast);
        let name = format!("{} {}", item.plan.name, item.plan.tag);
        let done = item.shift_checks.iter().rev().find(|check| check.check.state == "concluded");
        // What failed may have no chart of its own, and what its chart shows may be another thing.
        let failed = match done {
            Some(check) if item.standing.is_bad() => {
                failed_words(connection, check.check.id).await?
            }
            _ => None,
        };
        let value = chart.map_or_else(
            || "See what leads on.".to_owned(),
            |(stream, newest)| {
                let decimals = u32::try_from(stream.decimals).unwrap_or(1);
                format!(
                    "{}: {} {} at the last check, {}.",
                    stream.label,
                    stream.shown(newest.value, decimals),
                    stream.unit,
                    local_time(newest.measured_at.0, &here.zone),
                )
            },
        );
        let (title, words) = match (item.standing, drift, chart) {
            (standing, Some(drift), Some((stream, _))) if standing.is_signal() => (
                format!("{name} is drifting"),
                format!("{}.", drift_words(&drift, &stream.unit, &here.zone)),
            ),
            (standing, ..) if standing.is_signal() => (
                format!("{name} is not where it normally is"),
                format!("{value} Inside tolerance; look for the cause."),
            ),
            (standing, ..) => (
                format!("{name}: {}", standing.words().to_lowercase()),
                failed.or_else(|| item.because.clone()).unwrap_or(value),
            ),
        };
        let out = item.standing.is_bad();
        let verdict = done.filter(|_| out && !item.runs.is_empty());
        let (link, link_words) = match (verdict, chart) {
            (Some(check), _) => (format!("/checks/{}/verdict", check.check.id), "See the verdict"),
            (None, Some((stream, _))) if item.standing.is_signal() => {
                (format!("/charts/{}", stream.id), "See the chart")
            }
            _ => (format!("/instruments/{}", item.plan.tag), "What leads on"),
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

/// The characteristics of a check that failed, by name.
async fn failed_words(
    connection: &mut Connection,
    check: vaaka_store::ids::CheckId,
) -> Result<Option<String>, WebError> {
    let Some(stored) = result_of(connection, check).await? else { return Ok(None) };
    let in_band = only_in_band(&stored);
    let failed: Vec<String> = stored
        .results
        .iter()
        .filter(|(_, judged)| judged.conformity == vaaka_core::judgement::Conformity::Fail)
        .filter(|(_, judged)| in_band || judged.statement != Some(Statement::ConditionalPass))
        .map(|(c, _)| {
            let places = c.mean_decimals();
            let value = match c.kind {
                kind if kind.is_signed() => {
                    vaaka_core::quantity::show_signed_float(c.value(), places)
                }
                _ => vaaka_core::quantity::show_float(c.value(), places),
            };
            format!("{} {value} {}", c.label, c.unit)
        })
        .collect();
    let place = if in_band { "Inside tolerance, in the guard band" } else { "Outside" };
    Ok(match failed.as_slice() {
        [] => None,
        [one] => Some(format!("{place}: {one}.")),
        [one, rest @ ..] => Some(format!("{place}: {one}, and {} more.", rest.len())),
    })
}

fn ribbon(
    items: &[Item],
    to_do: &[vaaka_core::round::Scheduled<PlanId>],
    here: &Here,
    now: Timestamp,
) -> Ribbon {
    let mut lanes: Vec<String> = Vec::new();
    for item in items {
        if !lanes.contains(&item.plan.area) {
            lanes.push(item.plan.area.clone());
        }
    }
    let (start, end) = ribbon_span(items, to_do, here, now);
    let minute = |at: Timestamp| at.duration_since(start).as_secs_f64() / 60.0;
    let lane_of = |item: &Item| lanes.iter().position(|lane| *lane == item.plan.area).unwrap_or(0);
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
                label: item.plan.tag.clone(),
                done: true,
            });
        }
    }
    for scheduled in to_do {
        if let Some(item) = items.iter().find(|item| item.plan.plan == scheduled.id) {
            blocks.push(RibbonBlock {
                lane: lane_of(item),
                from: minute(scheduled.starts_at),
                to: minute(scheduled.ends_at),
                label: item.plan.tag.clone(),
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
