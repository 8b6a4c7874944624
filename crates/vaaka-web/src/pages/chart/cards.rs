//! What stands beside a chart: the finding, limits, signals, remarks, segments.

use jiff::Timestamp;
use vaaka_core::chart::LimitBasis;
use vaaka_core::chart::simulate::Circumstances;
use vaaka_core::judgement::{criterion_words, drift_words, sigma_words};
use vaaka_core::quantity::{show_float, show_signed_float};
use vaaka_core::round::Standing;
use vaaka_store::charts::{self, BriefPoint};

use super::power::{false_alarm_words, power_of, power_words};
use super::read::{EARLIER, Read};
use super::row::{decimals, firings};
use crate::pages::chart::list::{by_itself, state_class};
use crate::pages::chart::signals::{signal_state, signal_words};
use crate::shell::Here;
use crate::state::local_day_time;

/// A signal in the list beside the chart.
#[derive(Debug)]
pub(super) struct SignalLine {
    pub id: i64,
    pub state: &'static str,
    pub since: String,
    pub words: String,
    pub work: &'static str,
}

/// A segment that a lead has not confirmed yet.
#[derive(Debug)]
pub(super) struct Proposed {
    pub id: i64,
    pub since: String,
    pub cause: String,
}

/// Which charts of all levels there are, and whether they could be turned on.
#[derive(Debug, Default)]
pub(super) struct AllLevels {
    pub offered: bool,
    pub line: bool,
    pub levels: bool,
}

#[derive(Debug)]
pub(super) struct Finding {
    pub state: &'static str,
    pub title: String,
    pub words: String,
    pub false_alarms: Option<String>,
    pub power: Option<String>,
}

#[derive(Debug)]
pub(super) struct LimitsCard {
    pub name: String,
    pub lines: Vec<String>,
}

pub(super) fn finding(read: &Read, here: &Here) -> Finding {
    let last = read.last.as_ref().map_or(String::new(), |point| {
        format!(
            "{} {} at the last check.",
            read.view.stream.shown(point.value, decimals(read)),
            read.view.stream.unit
        )
    });
    let (title, words) = match (read.standing, &read.drift) {
        (Standing::SignalAbove | Standing::SignalBelow, Some(drift)) => (
            if drift.per_week > 0.0 {
                "Drifting up, still usable"
            } else {
                "Drifting down, still usable"
            }
            .to_owned(),
            format!("{}.", drift_words(drift, &read.view.stream.unit, &here.zone)),
        ),
        (standing, _) if standing < by_itself(read.last.as_ref()) => (
            standing.words().to_owned(),
            format!(
                "{last} By itself this chart says: {}.",
                by_itself(read.last.as_ref()).words().to_lowercase()
            ),
        ),
        (standing, _) => (standing.words().to_owned(), last),
    };
    let weeks_a_check = charts::interval(&read.view.stream).as_secs_f64() / (7.0 * 86_400.0);
    let design = read.design.as_ref().filter(|design| {
        matches!(design.basis, LimitBasis::Baseline | LimitBasis::Given | LimitBasis::Certificate)
    });
    let power = design.and_then(|design| Some((design, power_of(design, circumstances(read))?)));
    Finding {
        state: state_class(read.standing),
        title,
        words,
        false_alarms: power.as_ref().map(|(design, power)| {
            false_alarm_words(design, power, weeks_a_check, circumstances(read))
        }),
        power: power
            .as_ref()
            .map(|(design, power)| power_words(design, power, &read.view.stream.unit)),
    }
}

/// What the false alarms of a chart depend on beside its design.
pub(super) fn circumstances(read: &Read) -> Circumstances {
    let readings = read.last.as_ref().map_or(1, |point| point.readings);
    let readings = u32::try_from(readings).unwrap_or(1).clamp(1, 25);
    Circumstances { readings, ..Circumstances::default() }
}

pub(super) fn limits_card(read: &Read, here: &Here) -> Option<LimitsCard> {
    let (baseline, by, second) = read.baseline.as_ref()?;
    let d = decimals(read) + 1;
    let unit = &read.view.stream.unit;
    let day =
        |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y").to_string();
    let source =
        serde_json::from_value(serde_json::Value::String(baseline.sigma_source.clone())).ok();
    let cannot = read.last.as_ref().is_some_and(BriefPoint::cannot_hold).then(|| {
        "the control limits reach beyond the tolerance: this instrument cannot hold its tolerance"
            .to_owned()
    });
    let second = second.as_ref().zip(baseline.countersigned_reason.as_ref());
    let second = second
        .map(|(who, reason)| format!("countersigned by {who}: {reason}"))
        .or_else(|| baseline.alone.then(|| "not countersigned: this site has one lead".to_owned()));
    let basis = match baseline.basis.as_str() {
        "baseline" => format!(
            "{} shifts, {} to {}",
            baseline.points,
            day(baseline.first_at.0),
            day(baseline.last_at.0)
        ),
        "given" => "a given target and sigma".to_owned(),
        "certificate" => "the certified value and a given sigma".to_owned(),
        _ => "action lines, no control limits".to_owned(),
    };
    let limits = format!(
        "centre {} {unit}, sigma {} {unit}, limits at ±{} sigma",
        show_signed_float(baseline.center_line, d),
        show_float(baseline.sigma, d),
        baseline.multiplier
    );
    let frozen = format!("frozen by {by} on {}: {}", day(baseline.frozen_at.0), baseline.reason);
    let review = baseline.review_due_at.map_or("no review is due".to_owned(), |due| {
        let late = if due.0 < read.now { "review was due" } else { "review due" };
        format!("{late} on {}", day(due.0))
    });
    let segment = format!("this is segment {} of the chart", read.segments.len());
    let source = source.map(sigma_words).unwrap_or_default().to_owned();
    let lines = [
        cannot,
        Some(basis),
        Some(limits),
        Some(source),
        Some(frozen),
        second,
        Some(review),
        Some(segment),
    ];
    Some(LimitsCard { name: baseline.name.clone(), lines: lines.into_iter().flatten().collect() })
}

/// The signals of the time shown, newest first: since when, how often confirmed, in which words the
/// first point was flagged, and how far the work on each is.
pub(super) fn signal_lines(read: &Read, here: &Here) -> Vec<SignalLine> {
    read.signals
        .iter()
        .filter(|signal| signal.last_evidence_at.0 >= read.from && signal.opened_at.0 <= read.now)
        .take(6)
        .map(|signal| SignalLine {
            id: signal.id.0,
            state: if signal.is_at_work() { "signal" } else { "ok" },
            since: format!("since {}", local_day_time(signal.opened_at.0, &here.zone)),
            words: signal_words(signal, &here.zone),
            work: signal_state(&signal.state),
        })
        .collect()
}

/// Advisory patterns in the time shown: each rule once, with how often.
pub(super) fn advisory(read: &Read) -> Vec<String> {
    if !read.stretches.is_empty() {
        let words = "Come closer: over so long a time they are not counted.".to_owned();
        return read.design.is_some().then_some(words).into_iter().collect();
    }
    let mut counts: Vec<(vaaka_core::chart::Criterion, usize)> = Vec::new();
    for view in &read.points {
        for firing in firings(&view.point.advisory) {
            match counts.iter_mut().find(|(criterion, _)| *criterion == firing.criterion) {
                Some((_, count)) => *count += 1,
                None => counts.push((firing.criterion, 1)),
            }
        }
    }
    counts
        .into_iter()
        .map(|(criterion, count)| format!("{} ({count} times)", criterion_words(criterion)))
        .collect()
}

/// What people said of the points shown, newest first.
pub(super) fn comments(read: &Read, here: &Here) -> Vec<(i64, String, String)> {
    read.marks
        .iter()
        .rev()
        .take(12)
        .map(|mark| {
            let what = match mark.kind.as_str() {
                "excluded" => "left out: ",
                "included" => "taken in again: ",
                _ => "",
            };
            let when = local_day_time(mark.at.0, &here.zone);
            (mark.check_id.0, when, format!("{what}{} ({})", mark.words, mark.person))
        })
        .collect()
}

/// Segments after the first that no lead has confirmed or joined.
pub(super) fn proposed(read: &Read, here: &Here) -> Vec<Proposed> {
    read.segments
        .iter()
        .skip(1)
        .rev()
        .filter(|segment| segment.settled.is_none())
        .take(4)
        .map(|segment| Proposed {
            id: segment.id.0,
            since: local_day_time(segment.opened_at.0, &here.zone),
            cause: segment.cause.clone(),
        })
        .collect()
}

pub(super) fn all_levels(read: &Read) -> AllLevels {
    let stream = &read.view.stream;
    let own = || {
        read.siblings.iter().filter(|other| {
            other.set_up_id == stream.set_up_id && other.method_key == stream.method_key
        })
    };
    let levels = own()
        .filter(|other| other.derived.is_none() && other.nominal.is_some())
        .filter(|other| other.characteristic_key.starts_with("error"))
        .count();
    let on = |kind: &str| {
        own().any(|other| other.derived.as_deref() == Some(kind) && other.ended_at.is_none())
    };
    AllLevels { offered: levels > 1, line: on("offset"), levels: on("levels") }
}

pub(super) fn earlier_words(read: &Read, here: &Here) -> Option<String> {
    let (first, last) = (read.earlier.first()?, read.earlier.last()?);
    let day = |at: Timestamp| at.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y");
    let count = match read.earlier.len() {
        n if n as i64 >= EARLIER => format!("The newest {n} values"),
        1 => "One value".to_owned(),
        n => format!("{n} values"),
    };
    Some(format!(
        "{count} from before, {} to {}, were brought in with a table. They are drawn as short strokes, are judged by nothing and move no limits.",
        day(first.at.0),
        day(last.at.0)
    ))
}
