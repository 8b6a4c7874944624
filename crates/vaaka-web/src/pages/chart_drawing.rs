//! What the chart page hands to the drawing: points, segments, events, forecast and time marks.

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use rust_decimal::Decimal;
use vaaka_core::adjustment::{AppliedCorrection, Correction, uncorrected_drift};
use vaaka_core::history::Drift;
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_store::charts::{self, PointView};

use super::Here;
use super::chart::{Read, TableRow, decimals, state_of};
use crate::draw::{ChartDrawing, ChartSegment, DrawnEvent, DrawnForecast, DrawnPoint};

fn seconds(at: Timestamp) -> f64 {
    at.as_millisecond() as f64 / 1000.0
}

pub(super) fn drawing(read: &Read, here: &Here, rows: &[TableRow]) -> ChartDrawing {
    let earliest = read.earlier.first().map(|earlier| earlier.at.0);
    let first = read.points.first().map(|view| view.point.measured_at.0);
    let from = earliest
        .into_iter()
        .chain(first)
        .min()
        .map_or(seconds(read.from), |first| seconds(first).max(seconds(read.from)));
    let span = seconds(read.now) - from;
    // The forecast wants room on the right, to a little beyond its crossing.
    let ahead = if read.drift.is_some() { 0.22 * span } else { 0.01 * span };
    let to = seconds(read.now) + ahead;
    let gap = 3.0 * charts::interval(&read.view.stream).as_secs_f64();
    let mut last: Option<(f64, i64)> = None;
    let points = read
        .points
        .iter()
        .enumerate()
        .map(|(index, view)| {
            let at = seconds(view.point.measured_at.0);
            let segment = view.point.segment_id.0;
            let counted = view.point.ordinal.is_some();
            let joined = last.is_some_and(|(time, before)| at - time <= gap && before == segment);
            if counted {
                last = Some((at, segment));
            }
            drawn_point(view, at, joined, &rows[index])
        })
        .collect();
    ChartDrawing {
        description: format!(
            "Control chart of {}, {} points. {}",
            read.view.stream.label,
            read.points.len(),
            read.standing.words()
        ),
        from,
        to,
        times: time_marks(read, from, to, &here.zone),
        segments: chart_segments(read, to),
        points,
        earlier: read
            .earlier
            .iter()
            .map(|earlier| (seconds(earlier.at.0), to_f64(earlier.value)))
            .collect(),
        events: drawn_events(read),
        forecast: read.drift.map(|drift| forecast(&drift, read, here)),
        uncorrected: uncorrected(read),
        decimals: decimals(read),
        unit: read.view.stream.unit.clone(),
    }
}

fn drawn_point(view: &PointView, at: f64, joined: bool, row: &TableRow) -> DrawnPoint {
    let point = &view.point;
    let ewma_limits = point.center_line.zip(point.ewma_half_width);
    DrawnPoint {
        at,
        value: point.value,
        state: state_of(view),
        hollow: point.ordinal.is_none(),
        joined,
        ewma: point.ewma,
        ewma_limits,
        ewma_beyond: point
            .ewma
            .zip(ewma_limits)
            .is_some_and(|(ewma, (center, half))| (ewma - center).abs() > half),
        check: row.check,
        label: format!(
            "{}: {}, {}. {}, standard {}",
            row.at, row.value, row.words, row.person, row.certificate
        ),
    }
}

/// The counted errors with every adjustment taken out again; empty where nobody adjusted. Where the
/// amount was not noted, it is as left less as found.
fn uncorrected(read: &Read) -> Vec<(f64, f64)> {
    let Ok(unit) = read.view.stream.unit.parse::<Unit>() else { return vec![] };
    let convert = |value: Decimal, from: &str| {
        let from = from.parse::<Unit>().ok()?;
        from.try_convert(value, unit).ok().map(to_f64)
    };
    let nominal = read
        .view
        .stream
        .nominal
        .and_then(|value| convert(value, &read.view.instrument.unit))
        .unwrap_or(0.0);
    let value_near = |at: Timestamp, before: bool| {
        let counted = |view: &&PointView| before == (view.point.measured_at.0 <= at);
        let mut found = read.points.iter().filter(counted);
        if before { found.next_back() } else { found.next() }.map(|view| view.point.value)
    };
    let corrections: Vec<AppliedCorrection> = read
        .events
        .iter()
        .filter(|(event, _)| event.kind == "adjusted")
        .filter_map(|(event, _)| {
            let at = event.at.0;
            let gain = event.applied_gain.map_or(0.0, to_f64);
            match (event.applied_correction, &event.unit) {
                (Some(amount), Some(of)) => {
                    let correction = Correction { offset: convert(amount, of)?, gain };
                    Some(AppliedCorrection::known(at, correction, nominal))
                }
                _ => {
                    let (found, left) = (value_near(at, true)?, value_near(at, false)?);
                    Some(AppliedCorrection::between(at, found, left, 0.0))
                }
            }
        })
        .collect();
    if corrections.is_empty() {
        return vec![];
    }
    let points: Vec<(Timestamp, f64)> = read
        .points
        .iter()
        .filter(|view| view.point.ordinal.is_some())
        .map(|view| (view.point.measured_at.0, view.point.value))
        .collect();
    uncorrected_drift(&points, &corrections)
        .into_iter()
        .map(|point| (seconds(point.at), point.value))
        .collect()
}

/// Stretches over which the limits stay the same.
fn chart_segments(read: &Read, to: f64) -> Vec<ChartSegment> {
    let mut segments: Vec<ChartSegment> = Vec::new();
    for view in read.points.iter().filter(|view| view.point.ordinal.is_some()) {
        let point = &view.point;
        let at = seconds(point.measured_at.0);
        let control = point
            .lower_control_limit
            .zip(point.center_line)
            .zip(point.upper_control_limit)
            .map(|((lower, center), upper)| (lower, center, upper));
        let tolerance = (point.lower_tolerance_limit, point.upper_tolerance_limit);
        match segments.last_mut() {
            Some(last)
                if last.control == control
                    && last.tolerance == tolerance
                    && last.provisional == point.provisional =>
            {
                last.to = at;
            }
            last => {
                if let Some(last) = last {
                    last.to = at;
                }
                segments.push(ChartSegment {
                    from: at,
                    to: at,
                    control,
                    provisional: point.provisional,
                    tolerance,
                });
            }
        }
    }
    if let Some(last) = segments.last_mut() {
        last.to = if read.drift.is_some() { to } else { last.to.max(seconds(read.now)) };
    }
    segments
}

fn drawn_events(read: &Read) -> Vec<DrawnEvent> {
    let mut events: Vec<DrawnEvent> = read
        .events
        .iter()
        .filter(|(event, _)| event.affects_measurement)
        .map(|(event, _)| DrawnEvent {
            at: seconds(event.at.0),
            words: event.note.clone(),
            estimated: false,
        })
        .collect();
    if let Some((baseline, _)) = &read.baseline {
        events.push(DrawnEvent {
            at: seconds(baseline.frozen_at.0),
            words: "limits frozen".into(),
            estimated: false,
        });
    }
    // A change of certificate is written on the chart: the reference value may have moved.
    for pair in read.points.windows(2) {
        if pair[0].certificate != pair[1].certificate {
            events.push(DrawnEvent {
                at: seconds(pair[1].point.measured_at.0),
                words: format!("certificate {}", pair[1].certificate),
                estimated: false,
            });
        }
    }
    if let Some(drift) = read.drift {
        events.push(DrawnEvent {
            at: seconds(drift.since),
            words: "likely onset".into(),
            estimated: true,
        });
    }
    events.sort_by(|a, b| a.at.total_cmp(&b.at));
    events
}

fn forecast(drift: &Drift, read: &Read, here: &Here) -> DrawnForecast {
    const WEEK: f64 = 7.0 * 86_400.0;
    let now = read.points.last().map_or(read.now, |view| view.point.measured_at.0);
    DrawnForecast {
        since: seconds(drift.since),
        now: seconds(now),
        level: (drift.level_now, drift.level_half_width),
        slope: (drift.per_week / WEEK, drift.per_week_low / WEEK, drift.per_week_high / WEEK),
        crossing: drift.crossing.map(|crossing| {
            let day = crossing.at.to_zoned_datetime(here.zone.clone());
            (seconds(crossing.at), format!("about {}", day.strftime("%-d %b")))
        }),
    }
}

/// Midnights of the site, at a step that leaves about six of them.
fn time_marks(read: &Read, from: f64, to: f64, zone: &TimeZone) -> Vec<(f64, String)> {
    let days = ((to - from) / 86_400.0 / 6.0).ceil().max(1.0);
    let step = [1.0, 2.0, 7.0, 14.0, 30.0, 61.0, 122.0, 366.0]
        .into_iter()
        .find(|s| *s >= days)
        .unwrap_or(days) as i64;
    let mut day = read.now.to_zoned_datetime(zone.clone()).date();
    let mut marks = Vec::new();
    // From today backwards, so that the marks do not move while the chart is looked at.
    for _ in 0..400 {
        let Ok(at) = day.to_zoned_datetime(zone.clone()) else {
            break;
        };
        let at = seconds(at.timestamp());
        if at < from {
            break;
        }
        let form = if step > 61 { "%-d %b %Y" } else { "%-d %b" };
        marks.push((at, day.strftime(form).to_string()));
        day = day.saturating_sub(step.days());
    }
    marks
}
