//! One instrument: what it is, how it stands, what may be used instead, what happened to it.

pub mod adjust;
pub mod forms;
pub mod label;
pub mod link;
pub mod list;
pub mod order;
pub mod usage;
pub mod way_on;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan, Unit};
use vaaka_core::instrument::{Equipment, Fit, ServiceState, substitutes};
use vaaka_core::judgement::drift_words;
use vaaka_core::quantity::show_decimal;
use vaaka_core::round::DueRule;
use vaaka_store::charts;
use vaaka_store::checks;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::EventId;
use vaaka_store::instruments::{self, CheckBrief, CheckMark, StateChanged};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{InstrumentEvent, SetUp};
use vaaka_store::signals::{self, Which};
use vaaka_store::standing::{Of, Standings};
use vaaka_store::{At, Connection, Day, adjustments, registers, rounds};

use crate::desk::Sent;
use crate::draw::HistoryStrip;
use crate::error::WebError;
use crate::fields::{Reader, Refusal};
use crate::forms::PathTag;
use crate::pages::chart::list::{BEAM_TRAIL, beam_of, newest_of, state_class};
use crate::pages::chart::seconds;
use crate::pages::chart::signals::{signal_state, signal_words};
use crate::pages::instrument::list::{Known, related};
use crate::pages::instrument::way_on::{Way, ways};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day_time, long_day};

/// How many checks the history shows.
const HISTORY: i64 = 60;

#[derive(Debug, Template)]
#[template(path = "instrument.html")]
struct InstrumentPage {
    shell: Shell,
    tag: String,
    heading: String,
    finding: String,
    use_words: &'static str,
    why: Option<String>,
    /// What its own calibration asks for, from a month before its end.
    calibration: Option<String>,
    state: &'static str,
    restricted_to: Option<String>,
    /// The cells that it may be used on, where it may not be used on all.
    in_part: Option<String>,
    /// Cells that are restricted by themselves, and to what.
    held_cells: Vec<(String, String)>,
    /// The cells whose use may be changed by themselves, where it has several.
    of_cells: Vec<(i64, String, bool)>,
    facts: Vec<(&'static str, String)>,
    beams: Vec<BeamRow>,
    strip: String,
    signals: Vec<(i64, String, String, &'static str)>,
    checks: Vec<CheckRow>,
    happenings: Vec<Happened>,
    instead: Vec<Instead>,
    set_ups: Vec<SetUpRow>,
    plans: Vec<(i64, String, bool)>,
    ways: Vec<Way>,
    photos: Vec<FileBrief>,
    may_lead: bool,
    choices: Vec<(&'static str, &'static str, bool)>,
    occasions: Vec<(&'static str, &'static str)>,
    version: i32,
    refusal: Refusal,
    /// Words about a form that is not offered any more.
    notice: Option<String>,
}

/// A cell of probe × scale × material: checked or not.
#[derive(Debug)]
struct SetUpRow {
    id: i64,
    name: String,
    cell: [String; 3],
    in_use: bool,
    state: &'static str,
    words: String,
}

#[derive(Debug)]
struct BeamRow {
    chart: i64,
    label: String,
    beam: String,
    /// What drifts, in the sentence that stands everywhere.
    drift: Option<String>,
}

#[derive(Debug)]
struct CheckRow {
    path: Option<String>,
    at: String,
    person: String,
    state: &'static str,
    words: String,
}

#[derive(Debug)]
struct Happened {
    at: String,
    words: String,
}

#[derive(Debug)]
struct Instead {
    tag: String,
    name: String,
    words: String,
}

/// Shows an instrument.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let shown = draw(&state, &mut connection, &signed, &tag, Refusal::default()).await?;
    page(StatusCode::OK, &shown)
}

/// The page again, with the words at the form that was refused.
pub async fn refused(
    state: &AppState,
    connection: &mut Connection,
    signed: &SignedIn,
    tag: &str,
    refusal: Refusal,
) -> Result<Response, WebError> {
    refused_as(StatusCode::UNPROCESSABLE_ENTITY, state, connection, signed, (tag, refusal)).await
}

/// As [`refused`], with another status.
pub(in crate::pages) async fn refused_as(
    status: StatusCode,
    state: &AppState,
    connection: &mut Connection,
    signed: &SignedIn,
    (tag, refusal): (&str, Refusal),
) -> Result<Response, WebError> {
    let shown = draw(state, connection, signed, tag, refusal).await?;
    page(status, &shown)
}

/// The first of these fields that something is wrong with, and what.
pub(in crate::pages) fn first_fault<const N: usize>(
    reader: &mut Reader<'_>,
    fields: [&'static str; N],
) -> Option<(&'static str, String)> {
    fields.into_iter().find_map(|field| Some((field, reader.faults.remove(field)?)))
}

/// What may be noted, and whether it affects measurement: then every chart of the instrument gets a
/// new segment. A doubt or a note does not change the instrument.
pub(in crate::pages) const HAPPENINGS: [(&str, &str, bool); 6] = [
    ("moved", "it was moved or knocked", true),
    ("repaired", "it was repaired", true),
    ("program", "its program was changed", true),
    ("temperature_step", "a large step of temperature", false),
    ("doubt", "somebody doubts it", false),
    ("note", "something else worth knowing", false),
];

/// Notes that something happened to an instrument.
pub async fn happened(
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let known = HAPPENINGS.iter().find(|(kind, ..)| *kind == typed.get("kind"));
    let mut reader = Reader::of(&typed);
    let note = reader.sentence("note", 200);
    let long = reader.faults.remove("note");
    let (Some((kind, _, affects)), false, None) = (known, note.is_empty(), &long) else {
        let field = if known.is_none() { "kind" } else { "note" };
        let usual = "Choose what happened, and say in a few words where and how.";
        let words = long.unwrap_or_else(|| usual.to_owned());
        let refusal = Refusal::of("events", field, typed, words);
        return refused(&state, &mut desk.connection, &signed, &tag, refusal).await;
    };
    let event = InstrumentEvent {
        id: EventId(0),
        instrument_id: instrument.id,
        kind: (*kind).to_owned(),
        at: At(desk.now),
        note,
        person_id: signed.person.id,
        applied_correction: None,
        unit: None,
        affects_measurement: *affects,
        applied_gain: None,
    };
    adjustments::happened(&mut desk.connection, &event).await?;
    Ok(Redirect::to(&format!("/instruments/{tag}")).into_response())
}

/// Counts uses of an instrument, for checks that are due by use or after idle time.
pub async fn used(
    State(state): State<AppState>,
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (instrument, _) = instruments::by_tag(&mut desk.connection, &tag).await?;
    let mut reader = Reader::of(&typed);
    let lot = reader.text("lot", 60);
    let count = reader.whole("count", 1, 100_000);
    let (Some(count), true) = (count, reader.is_fine()) else {
        let usual = "Type how often it was used, a whole number from 1 to 100000.";
        let (field, words) = first_fault(&mut reader, ["count", "lot"])
            .unwrap_or_else(|| ("count", usual.to_owned()));
        let refusal = Refusal::of("uses", field, typed, words);
        return refused(&state, &mut desk.connection, &signed, &tag, refusal).await;
    };
    rounds::used(&mut desk.connection, instrument.id, count, &lot, signed.person.id, desk.now)
        .await?;
    Ok(Redirect::to(&format!("/instruments/{tag}")).into_response())
}

async fn draw(
    state: &AppState,
    connection: &mut Connection,
    signed: &SignedIn,
    tag: &str,
    refusal: Refusal,
) -> Result<InstrumentPage, WebError> {
    let here = Here::find(state, connection).await?;
    let all = related(connection, state.now(), tag).await?;
    let this = all.iter().find(|known| known.instrument.tag == tag).ok_or(WebError::NotFound)?;
    let id = this.instrument.id;
    let streams = charts::streams_of(connection, &[id]).await?;
    let beams = beams(connection, &this.instrument, &streams, (&here, state.now())).await?;
    let checks = instruments::checks_of(connection, id, HISTORY).await?;
    let states = instruments::states(connection, id).await?;
    let now = state.now();
    let since = now.checked_sub(SignedDuration::from_hours(24 * STRIP_DAYS)).unwrap_or(now);
    let marks = instruments::check_marks(connection, id, since).await?;
    let events = registers::events(connection, id).await?;
    let strip = strip(this, &marks, &events, &states, (since, now), &here);
    let signals = signals::list(connection, Which::OfInstrument(id), 8).await?;
    let happenings = happenings(this_events(events), &states, &here);
    let set_ups = instruments::set_ups(connection, id).await?;
    let views = plans::of_instrument(connection, id).await?;
    let today = here.shift.business_date.0;
    let cells = set_up_rows(connection, &set_ups, &views, this, today).await?;
    let photos = files::of(connection, Owner::Instrument(id)).await?;
    // As the form is answered: a cell that is held by itself is offered however few are left beside it.
    let by_themselves = instruments::cells_of(connection, id).await?;
    let may_lead = signed.person.role == "lead";
    let offered = |to: &ServiceState| may_lead || *to == ServiceState::OnHold;
    let choices: Vec<_> = ServiceState::ALL
        .iter()
        .filter(|to| offered(to) && (**to != this.service || !by_themselves.is_empty()))
        .map(|to| (to.word(), to.words(), refusal.typed("state", "to") == to.word()))
        .collect();
    let mut shown = vec!["events", "uses"];
    shown.extend((!choices.is_empty()).then_some("state"));
    shown.extend(may_lead.then_some("set-ups"));
    let ways =
        ways(connection, &here, now, signed, (&this.instrument, &views, &this.plans)).await?;
    let orders: Vec<String> =
        ways.iter().filter_map(|way| Some(way.order.as_ref()?.1.clone())).collect();
    shown.extend(orders.iter().map(String::as_str));
    let notice = refusal.elsewhere(&shown);
    Ok(InstrumentPage {
        ways,
        shell: Shell::new(signed, "instruments", &here),
        tag: tag.to_owned(),
        heading: format!("{} {}", this.instrument.name, this.instrument.tag),
        finding: this.standing_words(),
        use_words: this.use_words(),
        why: this.why(),
        calibration: calibration_words(
            this.instrument.calibrated_until,
            now.to_zoned_datetime(here.zone.clone()).date(),
        ),
        state: this.state_class(),
        restricted_to: this.instrument.restricted_to.clone(),
        in_part: match this.instrument.restricted_to {
            Some(_) => None,
            None => this.only(),
        },
        held_cells: this
            .plans
            .iter()
            .filter_map(|plan| Some((plan.cell.clone(), plan.cell_only.clone()?)))
            .collect(),
        of_cells: by_themselves
            .iter()
            .map(|cell| {
                let chosen = refusal.typed("state", "of") == cell.id.0.to_string();
                (cell.id.0, cell.name.clone(), chosen)
            })
            .collect(),
        facts: facts(this),
        set_ups: cells,
        plans: views
            .iter()
            .map(|view| {
                let words = format!("{}, version {}", view.plan.name, view.version.version);
                (view.plan.id.0, words, view.is_outdated())
            })
            .collect(),
        photos,
        beams,
        strip,
        signals: signals
            .iter()
            .map(|signal| {
                let words = signal_words(signal, &here.zone);
                (signal.id.0, signal.label.clone(), words, signal_state(&signal.state))
            })
            .collect(),
        checks: checks.iter().map(|check| check_row(check, &here)).collect(),
        happenings,
        instead: instead(this, &all)?,
        may_lead,
        choices,
        occasions: HAPPENINGS.iter().map(|(kind, words, _)| (*kind, *words)).collect(),
        version: this.instrument.version,
        refusal,
        notice,
    })
}

/// The charts of an instrument, each as a beam with its newest points, and the drift that it tells.
async fn beams(
    connection: &mut Connection,
    instrument: &vaaka_store::rows::Instrument,
    streams: &[vaaka_store::rows::Stream],
    (here, now): (&Here, Timestamp),
) -> Result<Vec<BeamRow>, WebError> {
    let ids: Vec<_> = streams.iter().map(|stream| stream.id).collect();
    let newest = newest_of(connection, &ids).await?;
    let trails = charts::trails(connection, &ids, BEAM_TRAIL).await?;
    let standings = Standings::read(connection, Of::Instruments(&[instrument.id]), now).await?;
    let mut rows = Vec::new();
    for stream in streams {
        let trail = trails.get(&stream.id).map_or(&[][..], Vec::as_slice);
        let point = newest.get(&stream.id);
        // Of a chart whose signal is over, or that stands on another word, none is told.
        let standing = standings.of_chart(&instrument.state, stream, point)?;
        let told = match point.filter(|_| standing.is_signal()) {
            Some(point) => point.told_drift()?,
            None => None,
        };
        rows.push(BeamRow {
            chart: stream.id.0,
            label: stream.label.clone(),
            beam: beam_of(stream, point, trail).draw(),
            drift: told.map(|drift| format!("{}.", drift_words(&drift, &stream.unit, &here.zone))),
        });
    }
    Ok(rows)
}

async fn set_up_rows(
    connection: &mut Connection,
    set_ups: &[SetUp],
    views: &[PlanView],
    known: &Known,
    today: Date,
) -> Result<Vec<SetUpRow>, WebError> {
    let ids: Vec<_> = views.iter().map(|view| view.plan.id).collect();
    let last = checks::last_dates(connection, &ids).await?;
    Ok(set_ups
        .iter()
        .map(|set_up| {
            let own: Vec<&PlanView> =
                views.iter().filter(|view| view.plan.set_up_id == set_up.id).collect();
            let newest = last
                .iter()
                .filter(|(plan, _)| own.iter().any(|view| view.plan.id == *plan))
                .map(|(_, day)| day.0)
                .max();
            let by_itself = known.by_cell.iter().find(|(id, _)| *id == set_up.id);
            let (mut state, mut words) = match (set_up.in_use, own.is_empty(), newest) {
                (false, ..) => ("void", "not in use".to_owned()),
                (true, true, _) => ("out", "not checked: no plan in force".to_owned()),
                (true, false, None) => ("due", "not checked yet".to_owned()),
                (true, false, Some(day)) => {
                    ("ok", format!("checked, last on {}", day.strftime("%-d %b %Y")))
                }
            };
            let mut rules =
                own.iter().filter_map(|view| view.version.due_rule.parse::<DueRule>().ok());
            let aged = newest.and_then(|day| rules.find(|rule| rule.ages(day, today)));
            if let Some(rule) = aged.filter(|_| set_up.in_use) {
                words = format!("{words}; ageing: its plan wants a check {}", rule.words());
            }
            if let (Some((_, cell)), Some(_)) = (by_itself, newest) {
                state = state_class(cell.standing);
                words = format!("{}; {words}", cell.standing.words());
            }
            if state == "ok" && aged.is_some() {
                state = "due";
            }
            SetUpRow {
                id: set_up.id.0,
                name: set_up.name.clone(),
                cell: [set_up.probe.clone(), set_up.scale.clone(), set_up.material.clone()],
                in_use: set_up.in_use,
                state,
                words,
            }
        })
        .collect())
}

/// Words from 30 days before the calibration of an instrument ends.
fn calibration_words(until: Option<Day>, today: Date) -> Option<String> {
    let until = until?.0;
    let left = today.until((Unit::Day, until)).ok()?.get_days();
    match left {
        left if left < 0 => Some(format!(
            "Its own calibration ended on {}: send it, and keep it out of use where your procedure says so",
            long_day(until)
        )),
        left if left <= 30 => Some(format!("Its own calibration ends on {}", long_day(until))),
        _ => None,
    }
}

fn facts(known: &Known) -> Vec<(&'static str, String)> {
    let instrument = &known.instrument;
    let yes = |flag: bool, yes: &str, no: &str| if flag { yes } else { no }.to_owned();
    let or_dash = |text: &str| if text.is_empty() { "–".to_owned() } else { text.to_owned() };
    let configuration: Vec<String> = instrument
        .configuration_names
        .iter()
        .zip(&instrument.configuration_values)
        .map(|(name, value)| format!("{name} {}", value.normalize()))
        .collect();
    vec![
        ("Area", known.area.name.clone()),
        ("State", known.service.words().to_owned()),
        ("Range", known.range_words()),
        ("Resolution", known.resolution_words()),
        ("Used for", known.work_words()),
        ("Family", or_dash(&instrument.family)),
        ("Made by", or_dash(&instrument.maker)),
        ("Model", or_dash(&instrument.model)),
        ("Serial number", instrument.serial.clone()),
        (
            "Its own calibration",
            instrument
                .calibrated_until
                .map_or_else(|| "–".to_owned(), |day| format!("until {}", long_day(day.0))),
        ),
        ("Program version", or_dash(&instrument.firmware)),
        ("Calibration file", or_dash(&instrument.calibration_file)),
        ("Configuration", or_dash(&configuration.join(", "))),
        ("Belongs to", or_dash(&instrument.owner)),
        ("Adjustment", yes(instrument.adjustable, "can be adjusted", "cannot be adjusted")),
        ("Seal", yes(instrument.sealed, "sealed: authorised people only", "none")),
        ("Weight of an error", yes(instrument.critical, "critical", "ordinary")),
    ]
}

fn check_row(check: &CheckBrief, here: &Here) -> CheckRow {
    let (state, words): (&str, String) = match check.state.as_str() {
        "open" => ("open", "begun".into()),
        "void" => ("void", format!("void: {}", check.void_reason.clone().unwrap_or_default())),
        _ if check.is_doubtful() => ("out", "doubtful: failed, then passed".into()),
        _ => match (check.conforms.as_deref(), check.control.as_deref()) {
            (Some("fail"), _) => ("out", "outside tolerance".into()),
            (_, Some("signal")) => ("signal", "inside, with a signal".into()),
            (_, Some("no_baseline")) => ("ok", "inside, no limits yet".into()),
            _ => ("ok", "inside".into()),
        },
    };
    let words = match check.purpose.as_str() {
        "as_left" => format!("as left, {words}"),
        "trial" => format!("trial, {words}"),
        _ => words,
    };
    let words = match check.cell_words() {
        Some(cell) => format!("{words} · {cell}"),
        None => words,
    };
    CheckRow {
        path: match check.state.as_str() {
            "concluded" => Some(format!("/checks/{}/verdict", check.id)),
            "open" => Some(format!("/checks/{}", check.id)),
            _ => None,
        },
        at: local_day_time(check.at.0, &here.zone),
        person: check.person.clone(),
        state,
        words,
    }
}

/// Days that the strip looks back.
const STRIP_DAYS: i64 = 92;

/// The strip of the last months: checks, adjustments, holds.
fn strip(
    known: &Known,
    marks: &[CheckMark],
    events: &[(InstrumentEvent, String)],
    states: &[StateChanged],
    (since, now): (Timestamp, Timestamp),
    here: &Here,
) -> String {
    let inside = |at: Timestamp| at >= since && at <= now;
    // States of the whole instrument come newest first; each lasts until the one before it in the list begins.
    let mut until = seconds(now);
    let mut away = Vec::new();
    for row in states.iter().filter(|one| one.cell.is_none()).map(|one| &one.row) {
        let state = row.state.parse::<ServiceState>().ok();
        if let Some(state) = state.filter(|state| *state != ServiceState::InService)
            && until > seconds(since)
        {
            let from = seconds(row.at.0).max(seconds(since));
            away.push((from, until, state.words().to_owned()));
        }
        until = seconds(row.at.0);
    }
    let failed = marks.iter().filter(|mark| mark.conforms == "fail").count();
    let mut first = now.to_zoned_datetime(here.zone.clone()).date().first_of_month();
    let mut times = Vec::new();
    while let Ok(at) = first.to_zoned_datetime(here.zone.clone()) {
        if at.timestamp() < since {
            break;
        }
        times.push((seconds(at.timestamp()), first.strftime("%-d %b").to_string()));
        first = first.saturating_sub(1.month());
    }
    HistoryStrip {
        description: format!(
            "{} checks of {} in {STRIP_DAYS} days, {failed} outside tolerance",
            marks.len(),
            known.instrument.tag
        ),
        from: seconds(since),
        to: seconds(now),
        checks: marks
            .iter()
            .map(|mark| {
                let state = match (mark.conforms.as_str(), mark.control.as_str()) {
                    ("fail", _) => "out",
                    (_, "signal") => "signal",
                    _ => "ok",
                };
                (seconds(mark.at.0), state)
            })
            .collect(),
        events: events
            .iter()
            .filter(|(event, _)| event.affects_measurement && inside(event.at.0))
            .map(|(event, _)| (seconds(event.at.0), event.note.clone()))
            .collect(),
        away,
        times,
    }
    .draw()
}

fn this_events(events: Vec<(InstrumentEvent, String)>) -> Vec<(Timestamp, String)> {
    let line = |(event, person): (InstrumentEvent, String)| {
        (event.at.0, format!("{} ({person})", event.note))
    };
    events.into_iter().map(line).collect()
}

fn happenings(
    mut found: Vec<(Timestamp, String)>,
    states: &[StateChanged],
    here: &Here,
) -> Vec<Happened> {
    found.extend(states.iter().map(|one| (one.row.at.0, one.words())));
    found.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    found
        .into_iter()
        .take(12)
        .map(|(at, words)| Happened { at: local_day_time(at, &here.zone), words })
        .collect()
}

fn instead(this: &Known, all: &[Known]) -> Result<Vec<Instead>, WebError> {
    let equipment: Vec<Equipment> = all.iter().map(Known::equipment).collect::<Result<_, _>>()?;
    let held = this.equipment()?;
    let area_of = |tag: &str| {
        all.iter().find(|known| known.instrument.tag == tag).map_or("", |k| k.area.name.as_str())
    };
    let show = |value: rust_decimal::Decimal| show_decimal(value, value.normalize().scale());
    Ok(substitutes(&held, &equipment)
        .into_iter()
        .take(5)
        .map(|found| Instead {
            tag: found.equipment.tag.clone(),
            name: found.equipment.name.clone(),
            words: match found.fit {
                Fit::Whole => format!("{}, for everything", area_of(&found.equipment.tag)),
                Fit::Part { from, to } => format!(
                    "{}, for {} to {} {}",
                    area_of(&found.equipment.tag),
                    show(from),
                    show(to),
                    held.unit
                ),
            },
        })
        .collect())
}
