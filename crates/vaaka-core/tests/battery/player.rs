//! Somebody who runs a check: answers each step through the door that the application uses, on an
//! instrument that is off by so many steps of its display.

use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use vaaka_core::method::{
    Beside, Entry, EntryError, EntryValue, Input, Method, PeakWanted, PlanSpec, Proposal, RunState,
    Step, accept,
};
use vaaka_core::trace::{Extreme, Table, Trace, TraceWanted};

/// When checks begin here.
pub fn start() -> Timestamp {
    "2026-11-24T20:34:00Z".parse().unwrap()
}

/// What the display shows of a value.
pub fn shown(value: Decimal, resolution: Decimal) -> Decimal {
    (value / resolution).round() * resolution
}

/// What is typed at a step, when the instrument is off by so many steps of its display.
pub fn proposal(step: &Step, repeat: u32, off: i64) -> Proposal {
    let mut proposal = Proposal::default();
    match &step.input {
        Input::Confirm { sentences, .. } => proposal.ticked = sentences.len(),
        Input::Tag { expected, .. } => proposal.typed = expected.to_lowercase(),
        Input::Setting { expected, .. } => proposal.typed = format!(" {expected} "),
        Input::Condition { lower, upper, .. } => {
            let value = match (lower, upper) {
                (Some(lower), Some(upper)) => (lower + upper) / Decimal::TWO,
                (Some(lower), None) => *lower,
                (None, Some(upper)) => *upper,
                (None, None) => Decimal::new(205, 1),
            };
            proposal.typed = value.to_string();
        }
        Input::Choice { words, .. } => {
            let ways = words.iter().flat_map(|one| std::iter::once(&one.word).chain(&one.also));
            let ways: Vec<&String> = ways.collect();
            let chosen = off.unsigned_abs() as usize % ways.len();
            proposal.typed = ways[chosen].to_uppercase();
        }
        Input::File { .. } => proposal.typed = format!("picture {off}.jpg"),
        Input::Text { .. } => proposal.typed = format!(" № {off} <b>µ</b> "),
        Input::Count { .. } => proposal.typed = off.unsigned_abs().to_string(),
        Input::WaitStart { .. } | Input::WaitOver { .. } | Input::Review => {}
        Input::Reading { resolution, expected, beside, .. } => {
            // Readings of one step scatter by a step of the display.
            let steps = Decimal::from(off + i64::from(repeat % 2));
            let value = shown(*expected, *resolution) + steps * *resolution;
            proposal.typed = value.to_string();
            proposal.confirm_far = Some(proposal.typed.clone());
            match beside {
                None => {}
                Some(Beside::Weights) => {
                    proposal.added = (*resolution * Decimal::new(4, 1)).to_string();
                }
                Some(Beside::Number { .. }) => proposal.added = (520 + off).to_string(),
            }
        }
        Input::Trace { wanted, peaks, .. } => {
            // A hundredth of the way to the end of a search for each step of the display, and a little scatter.
            let share = (off as f64 + 0.3 * f64::from(repeat % 2)) / 100.0;
            let table = scan(wanted, peaks, share, turn_of(&step.key.0));
            proposal.confirm_far = Trace::take(wanted, &table).ok().map(|trace| trace.digest());
            proposal.table = Some(Ok(table));
        }
    }
    proposal
}

/// An angle for each step: what is put on there reflects otherwise, and the standards of a kit stand well apart.
fn turn_of(key: &str) -> f64 {
    1.28 * key.bytes().map(f64::from).sum::<f64>()
}

/// A trace with a band at each place where one is wanted, all off by so much of the half-width of their search; a complex one is
/// turned by an angle.
pub fn scan(wanted: &TraceWanted, peaks: &[PeakWanted], share: f64, turn: f64) -> Table {
    let step = wanted.largest_step.unwrap() / 3.0;
    let (from, to) = wanted.covers;
    let points = ((to - from) / step).ceil() as usize + 3;
    let axis: Vec<f64> = (0..points).map(|n| from - step + n as f64 * step).collect();
    let value = |x: f64| -> f64 {
        let bands = peaks.iter().map(|peak| {
            let search = &peak.search;
            let at = search.centre + share * search.half_width;
            let sign = if search.extreme == Extreme::Highest { 1.0 } else { -1.0 };
            sign * 2.0 * search.least * (-((x - at) / (search.half_width / 5.0)).powi(2)).exp()
        });
        1.0 + bands.sum::<f64>()
    };
    let mut columns = vec![axis.clone()];
    let complex = wanted.channels.iter().any(|one| one.complex);
    columns.extend((1..wanted.columns()).map(|column| {
        let quarter = std::f64::consts::FRAC_PI_2 * column as f64;
        let part = if complex { 0.8 * (turn + quarter).sin() + 0.01 * share - 1.0 } else { 0.0 };
        axis.iter().map(|x| value(*x) + part).collect()
    }));
    Table { heads: vec![], columns, lines: (1..=points).collect() }
}

/// Time that passes before a step can be answered.
pub fn pause(step: &Step, run: &RunState) -> SignedDuration {
    let wait = match &step.input {
        Input::WaitOver { start, .. } => run.wait(start).map(|(ready, _)| ready),
        _ => None,
    };
    let now = now(run);
    let until = wait.map_or(now, |ready| ready.max(now));
    until.duration_since(now) + SignedDuration::from_secs(i64::from(step.pause_seconds) + 1)
}

/// When the newest entry was kept.
pub fn now(run: &RunState) -> Timestamp {
    run.entries.iter().map(|entry| entry.at).max().unwrap_or_else(start)
}

/// Answers one step.
pub fn answer(
    method: &dyn Method,
    plan: &PlanSpec,
    run: &RunState,
    (step, repeat): (&Step, u32),
    off: i64,
) -> Result<Entry, EntryError> {
    let settled = method.settle(plan, run, step).unwrap().guarded(None);
    let at = now(run) + pause(step, run);
    let value = accept(&settled, &proposal(&settled, repeat, off), run, at)?;
    Ok(Entry { step: step.key.clone(), repeat, at, value })
}

/// Plays what is left of a run; none when a longest time is over before everything is read.
pub fn go_on(
    method: &dyn Method,
    plan: &PlanSpec,
    way: &[Step],
    mut run: RunState,
    off: i64,
) -> Option<RunState> {
    while let Some(next) = run.next(way) {
        match answer(method, plan, &run, next, off) {
            Ok(entry) => run.entries.push(entry),
            Err(error) if error.is_too_late() => return None,
            Err(error) => panic!("{}: {error}", next.0.key),
        }
    }
    Some(run)
}

/// Plays a whole run.
pub fn play(method: &dyn Method, plan: &PlanSpec, way: &[Step], off: i64) -> Option<RunState> {
    go_on(method, plan, way, RunState::default(), off)
}

/// Whether an entry is a reading of the display.
pub fn is_reading(entry: &Entry) -> bool {
    matches!(entry.value, EntryValue::Reading { .. })
}
