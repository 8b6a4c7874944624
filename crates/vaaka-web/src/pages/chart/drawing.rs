//! What the chart page hands to the drawing: points, segments, events, forecast and time marks.

use std::collections::HashSet;

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use vaaka_core::adjustment::uncorrected_drift;
use vaaka_core::history::{FanPoint, Interval};
use vaaka_core::quantity::to_f64;
use vaaka_store::charts::PointView;
use vaaka_store::rows::Point;

use super::adjusted::corrections;
use super::read::Read;
use super::row::{TableRow, decimals, state_of};
use crate::draw::{
    ChartDrawing, ChartSegment, Condensed, DrawnEvent, DrawnForecast, DrawnPoint, Pane, PaneLine,
    runs,
};
use crate::shell::Here;

pub(in crate::pages) fn seconds(at: Timestamp) -> f64 {
    at.as_millisecond() as f64 / 1000.0
}

/// Draws a chart; `asked` are the panes that were asked for beside those that it always has.
pub(in crate::pages) fn drawing(
    read: &Read,
    here: &Here,
    rows: &[TableRow],
    asked: Vec<Pane>,
) -> ChartDrawing {
    let earliest = read.earlier.first().map(|earlier| earlier.at.0);
    let first = read.points.first().map(|view| view.point.measured_at.0);
    let part = read.stretches.first().map(|part| part.first_at.0);
    let from = earliest
        .into_iter()
        .chain(first)
        .chain(part)
        .min()
        .map_or(seconds(read.from), |first| seconds(first).max(seconds(read.from)));
    let span = seconds(read.now) - from;
    // The forecast wants room on the right, to a little beyond its crossing where that is near.
    let crossing = read.drift.and_then(|drift| drift.crossing);
    let ahead = match (read.drift, crossing) {
        (None, _) => 0.01 * span,
        (_, Some(crossing)) if seconds(crossing.at) - seconds(read.now) < 0.4 * span => {
            (seconds(crossing.at) - seconds(read.now) + 0.05 * span).max(0.22 * span)
        }
        _ => 0.22 * span,
    };
    let to = seconds(read.now) + ahead;
    let gap = gap_of(read);
    let remarked: HashSet<i64> = read.marks.iter().map(|mark| mark.check_id.0).collect();
    let watched = read.design.as_ref().is_none_or(vaaka_core::chart::ChartDesign::is_statistical);
    let mut last: Option<(f64, i64)> = None;
    let points = read
        .points
        .iter()
        .enumerate()
        .map(|(index, view)| {
            let at = seconds(view.point.measured_at.0);
            let segment = view.point.segment_id.0;
            let counted = view.point.ordinal.is_some() && !view.point.excluded;
            // Of many points only some are drawn: no line may run from one of those to the next.
            let joined = read.stretches.is_empty()
                && last.is_some_and(|(time, before)| at - time <= gap && before == segment);
            if counted {
                last = Some((at, segment));
            }
            let commented = remarked.contains(&view.point.check_id.0);
            let mut point = drawn_point(view, at, joined, commented, &rows[index]);
            if !watched {
                (point.ewma, point.ewma_limits) = (None, None);
            }
            point
        })
        .collect();
    let mut panes = own_panes(read, gap);
    panes.extend(asked);
    ChartDrawing {
        description: format!(
            "Control chart of {}, {} points. {}",
            read.view.stream.label,
            read.stretches
                .iter()
                .map(|part| part.count as usize)
                .sum::<usize>()
                .max(read.points.len()),
            read.standing.words()
        ),
        from,
        to,
        times: time_marks(read, from, to, &here.zone),
        segments: chart_segments(read, to),
        points,
        condensed: condensed(read, gap, watched),
        flagged: read
            .signals
            .iter()
            .map(|signal| (seconds(signal.opened_at.0), seconds(signal.last_evidence_at.0)))
            .filter(|(begin, end)| *end >= from && *begin <= to)
            .collect(),
        statistical: read
            .design
            .as_ref()
            .is_none_or(|design| design.basis != vaaka_core::chart::LimitBasis::ActionLines),
        earlier: read
            .earlier
            .iter()
            .map(|earlier| (seconds(earlier.at.0), to_f64(earlier.value)))
            .collect(),
        events: drawn_events(read),
        onset: onset(read).map(|onset| (seconds(onset.low), seconds(onset.high))),
        forecast: forecast(read, here),
        panes,
        decimals: decimals(read),
        signed: read.view.stream.is_indication != Some(true),
        unit: read.view.stream.unit.clone(),
    }
}

fn condensed(read: &Read, gap: f64, watched: bool) -> Vec<Condensed> {
    let mut last: Option<(f64, i64)> = None;
    read.stretches
        .iter()
        .map(|part| {
            let (from, to) = (seconds(part.first_at.0), seconds(part.last_at.0));
            let joined = last
                .is_some_and(|(end, segment)| from - end <= gap && segment == part.segment_id.0);
            last = Some((to, part.segment_id.0));
            Condensed {
                from,
                to,
                least: part.least,
                most: part.most,
                mean: part.mean,
                joined,
                ewma: part
                    .ewma
                    .filter(|_| watched)
                    .and_then(|ewma| Some((ewma, part.center_line?, part.ewma_half_width?))),
            }
        })
        .collect()
}

/// The panes that a chart has by itself: scatter within the checks, cumulative sums where they raise a
/// signal, and the drift with every adjustment taken out.
fn own_panes(read: &Read, gap: f64) -> Vec<Pane> {
    let counted = || read.points.iter().map(|view| &view.point).filter(|p| p.ordinal.is_some());
    let statistical = read.design.as_ref().is_some_and(|design| design.is_statistical());
    let mut panes = Vec::new();
    let by_range = read
        .design
        .as_ref()
        .and_then(|design| design.spread)
        .is_some_and(|spread| spread.by == vaaka_core::chart::Spread::Range);
    let scatter = |point: &Point| if by_range { point.reading_range } else { point.std_dev };
    let title = if by_range {
        "range of the readings within each check"
    } else {
        "scatter within each check, standard deviation of its readings"
    };
    let mut pane = Pane::new(title, &read.view.stream.unit);
    if read.stretches.is_empty() {
        let line =
            counted().filter_map(|point| Some((seconds(point.measured_at.0), scatter(point)?)));
        pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap) }];
        pane.marks = counted()
            .filter_map(|point| {
                let value = scatter(point)?;
                let beyond = point.upper_spread_limit.is_some_and(|limit| value > limit)
                    || point.lower_spread_limit.is_some_and(|limit| value < limit);
                let state = if beyond { "signal" } else { "ok" };
                Some((seconds(point.measured_at.0), value, state))
            })
            .collect();
        pane.bands = stretches_of(counted().map(|point| {
            let limits = point.lower_spread_limit.zip(point.upper_spread_limit);
            (seconds(point.measured_at.0), limits)
        }));
    } else {
        let line = read
            .stretches
            .iter()
            .filter_map(|part| Some((seconds(part.first_at.0), part.std_dev?)));
        pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap * 20.0) }];
    }
    panes.push(pane);
    let raises = read
        .design
        .as_ref()
        .is_some_and(|design| design.raising.has(vaaka_core::chart::Criterion::Cusum));
    if statistical && raises && read.stretches.is_empty() {
        let mut pane = Pane::new("cumulative sums, above and below", "σ");
        let h = read.design.as_ref().map_or(0.0, |design| design.cusum.interval);
        let span = counted().next().zip(counted().next_back());
        pane.bands = span
            .map(|(a, b)| (seconds(a.measured_at.0), seconds(b.measured_at.0), -h, h))
            .into_iter()
            .collect();
        pane.level = Some(0.0);
        let sums = |sum: fn(&Point) -> Option<f64>| {
            let line =
                counted().filter_map(|point| Some((seconds(point.measured_at.0), sum(point)?)));
            runs(line, gap)
        };
        pane.lines = vec![
            PaneLine { class: "pane-line", runs: sums(|point| point.cusum_above) },
            PaneLine {
                class: "pane-line second",
                runs: sums(|point| point.cusum_below.map(|sum| -sum)),
            },
        ];
        panes.push(pane);
    }
    let bare = uncorrected(read);
    if !bare.is_empty() {
        let title = "had nobody ever adjusted: the uncorrected drift";
        let mut pane = Pane::new(title, &read.view.stream.unit);
        pane.level = Some(0.0);
        pane.lines = vec![PaneLine { class: "bare-line", runs: vec![bare] }];
        panes.push(pane);
    }
    panes
}

/// Limits over the stretches in which they stay the same.
fn stretches_of(
    points: impl Iterator<Item = (f64, Option<(f64, f64)>)>,
) -> Vec<(f64, f64, f64, f64)> {
    let mut bands: Vec<(f64, f64, f64, f64)> = Vec::new();
    for (at, limits) in points {
        let Some((lower, upper)) = limits else { continue };
        match bands.last_mut() {
            Some(last) if last.2 == lower && last.3 == upper => last.1 = at,
            _ => bands.push((at, at, lower, upper)),
        }
    }
    bands
}

/// Control limits of points, over the stretches in which they stay the same.
pub(super) fn bands(points: &[PointView], to: f64) -> Vec<(f64, f64, f64, f64)> {
    let mut found = stretches_of(points.iter().map(|view| {
        let limits = view.point.lower_control_limit.zip(view.point.upper_control_limit);
        (seconds(view.point.measured_at.0), limits)
    }));
    if let Some(last) = found.last_mut() {
        last.1 = last.1.max(to);
    }
    found
}

fn drawn_point(
    view: &PointView,
    at: f64,
    joined: bool,
    commented: bool,
    row: &TableRow,
) -> DrawnPoint {
    let point = &view.point;
    let ewma_limits = point.center_line.zip(point.ewma_half_width);
    DrawnPoint {
        at,
        value: point.value,
        state: state_of(view),
        hollow: point.ordinal.is_none(),
        excluded: point.excluded,
        commented,
        joined,
        ewma: point.ewma,
        ewma_limits,
        check: row.check,
        label: format!(
            "{}: {}, {}. {}, standard {}",
            row.at, row.value, row.words, row.person, row.certificate
        ),
    }
}

/// The counted errors with every adjustment taken out again; empty where nobody adjusted.
fn uncorrected(read: &Read) -> Vec<(f64, f64)> {
    let points = course(read);
    let (stream, instrument) = (&read.view.stream, &read.view.instrument);
    let corrections = corrections(stream, instrument, &read.events, &points, 0.0);
    if corrections.is_empty() {
        return vec![];
    }
    uncorrected_drift(&points, &corrections)
        .into_iter()
        .map(|point| (seconds(point.at), point.value))
        .collect()
}

type LimitsAt = (f64, Option<(f64, f64, f64)>, (Option<f64>, Option<f64>), bool);

/// The limits at each point, or in each stretch of many points.
fn limits_in_time(read: &Read) -> Vec<LimitsAt> {
    let three = |lower: Option<f64>, center: Option<f64>, upper: Option<f64>| {
        Some((lower?, center?, upper?))
    };
    if !read.stretches.is_empty() {
        return read
            .stretches
            .iter()
            .map(|part| {
                let control =
                    three(part.lower_control_limit, part.center_line, part.upper_control_limit);
                // Means of equal numbers: what is the same up to rounding is the same.
                let control = control.map(|(l, c, u)| (short(l), short(c), short(u)));
                (
                    seconds(part.first_at.0),
                    control,
                    (part.lower_tolerance_limit, part.upper_tolerance_limit),
                    part.provisional,
                )
            })
            .collect();
    }
    read.points
        .iter()
        .map(|view| &view.point)
        .filter(|point| point.ordinal.is_some())
        .map(|point| {
            (
                seconds(point.measured_at.0),
                three(point.lower_control_limit, point.center_line, point.upper_control_limit),
                (point.lower_tolerance_limit, point.upper_tolerance_limit),
                point.provisional,
            )
        })
        .collect()
}

/// To nine significant digits.
fn short(value: f64) -> f64 {
    format!("{value:.8e}").parse().unwrap_or(value)
}

/// Stretches over which the limits stay the same.
fn chart_segments(read: &Read, to: f64) -> Vec<ChartSegment> {
    let mut segments: Vec<ChartSegment> = Vec::new();
    for (at, control, tolerance, provisional) in limits_in_time(read) {
        match segments.last_mut() {
            Some(last)
                if last.control == control
                    && last.tolerance == tolerance
                    && last.provisional == provisional =>
            {
                last.to = at;
            }
            last => {
                if let Some(last) = last {
                    last.to = at;
                }
                segments.push(ChartSegment { from: at, to: at, control, provisional, tolerance });
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
        .filter(|(event, _)| event.at.0 >= read.from && event.at.0 <= read.now)
        .map(|(event, _)| DrawnEvent {
            at: seconds(event.at.0),
            words: event.note.clone(),
            estimated: false,
        })
        .collect();
    if let Some((baseline, ..)) = &read.baseline {
        events.push(DrawnEvent {
            at: seconds(baseline.frozen_at.0),
            words: "limits frozen".into(),
            estimated: false,
        });
    }
    // A change of certificate is written on the chart: the reference value may have moved. Standards that serve in turn are
    // none: each point says its own.
    for (place, pair) in read.points.windows(2).enumerate().filter(|_| read.stretches.is_empty()) {
        let (before, after) = read.points.split_at(place + 1);
        let for_good = || {
            let (old, new) = (&pair[0].certificate, &pair[1].certificate);
            before.iter().all(|point| point.certificate != *new)
                && after.iter().all(|point| point.certificate != *old)
        };
        if pair[0].certificate != pair[1].certificate && for_good() {
            events.push(DrawnEvent {
                at: seconds(pair[1].point.measured_at.0),
                words: format!("certificate {}", pair[1].certificate),
                estimated: false,
            });
        }
    }
    if let Some(onset) = onset(read) {
        events.push(DrawnEvent {
            at: seconds(onset.median),
            words: "likely onset".into(),
            estimated: true,
        });
    }
    events.sort_by(|a, b| a.at.total_cmp(&b.at));
    events
}

/// The counted values along the chart; of many points the means of their stretches.
fn course(read: &Read) -> Vec<(Timestamp, f64)> {
    if !read.stretches.is_empty() {
        return read.stretches.iter().map(|part| (part.first_at.0, part.mean)).collect();
    }
    let counted = read.points.iter().filter(|view| view.point.ordinal.is_some());
    counted.map(|view| (view.point.measured_at.0, view.point.value)).collect()
}

/// When a change began that is told.
fn onset(read: &Read) -> Option<Interval<Timestamp>> {
    read.shape.as_ref().and_then(|(shape, _)| shape.onset)
}

fn forecast(read: &Read, here: &Here) -> Option<DrawnForecast> {
    let drift = read.drift?;
    let level = |one: &FanPoint| [one.level.low, one.level.median, one.level.high];
    let points = read.shape.iter().flat_map(|(shape, _)| &shape.fan);
    let fan: Vec<_> = points.map(|one| (seconds(one.at), level(one))).collect();
    // Points that tell no drift any more have no fan to draw.
    (!fan.is_empty()).then(|| DrawnForecast {
        fan,
        crossing: drift.crossing.map(|crossing| {
            let day = crossing.at.to_zoned_datetime(here.zone.clone());
            (seconds(crossing.at), format!("about {}", day.strftime("%-d %b")))
        }),
    })
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

/// Checks further apart than this are not joined by a line.
pub(super) fn gap_of(read: &Read) -> f64 {
    3.0 * vaaka_store::charts::interval(&read.view.stream).as_secs_f64()
}
