//! The period of a study with the proposed limits, drawn.

use std::collections::HashMap;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use vaaka_core::chart::{ChartDesign, Level};
use vaaka_core::quantity::show_signed_float;
use vaaka_store::charts;

use super::super::drawing::seconds;
use super::super::row::unit_words;
use super::material::{Material, Proposal};
use crate::draw::{ChartDrawing, ChartSegment, DrawnPoint};
use crate::state::local_day_time;

/// The points of the period with the proposed limits. Most of them at most, so that the page stays light.
pub(super) fn drawing(
    material: &Material,
    proposal: &Proposal,
    design: Option<&ChartDesign>,
    zone: &TimeZone,
) -> String {
    const MOST: usize = 700;
    let surplus = proposal.points.len().saturating_sub(MOST);
    let shown = &proposal.points[surplus..];
    let ends = shown.first().zip(shown.last());
    let (from, to) = ends.map_or((0.0, 1.0), |(first, last)| {
        (
            seconds(first.measured_at),
            seconds(last.measured_at).max(seconds(first.measured_at) + 1.0),
        )
    });
    let control = design.and_then(|design| match design.level {
        Level::Frozen { center_line } => {
            Some((center_line - design.below, center_line, center_line + design.above))
        }
        Level::AfterAdjustment { .. } => None,
    });
    let gap = 3.0 * charts::interval(&material.view.stream).as_secs_f64();
    let check_at: HashMap<i64, i64> = material
        .rows
        .iter()
        .map(|row| (row.point().measured_at.as_microsecond(), row.check_id.0))
        .collect();
    let d = u32::try_from(material.view.stream.decimals).unwrap_or(1);
    let mut last: Option<f64> = None;
    let points = shown
        .iter()
        .map(|point| {
            let at = seconds(point.measured_at);
            let joined = last.is_some_and(|last| at - last <= gap) && !point.excluded;
            if !point.excluded {
                last = Some(at);
            }
            let beyond = control.is_some_and(|(l, _, u)| point.value < l || point.value > u);
            DrawnPoint {
                at,
                value: point.value,
                state: if beyond { "signal" } else { "ok" },
                hollow: point.shift.is_none(),
                excluded: point.excluded,
                commented: false,
                joined,
                ewma: None,
                ewma_limits: None,
                check: check_at.get(&point.measured_at.as_microsecond()).copied().unwrap_or(0),
                label: format!(
                    "{}: {}, {}",
                    local_day_time(point.measured_at, zone),
                    show_signed_float(point.value, d),
                    point.person
                ),
            }
        })
        .collect();
    let day = |at: f64| {
        Timestamp::from_second(at as i64).map_or(String::new(), |at| {
            at.to_zoned_datetime(zone.clone()).strftime("%-d %b %Y").to_string()
        })
    };
    ChartDrawing {
        description: format!("The period with the proposed limits, {} points", shown.len()),
        from,
        to,
        times: (0..5)
            .map(|place| from + (to - from) * f64::from(place) / 4.0)
            .map(|at| (at, day(at)))
            .collect(),
        segments: vec![ChartSegment {
            from,
            to,
            control,
            provisional: false,
            tolerance: material.tolerance,
        }],
        points,
        condensed: vec![],
        flagged: vec![],
        statistical: design.is_none_or(ChartDesign::is_statistical),
        earlier: vec![],
        events: vec![],
        onset: None,
        forecast: None,
        panes: vec![],
        decimals: d,
        signed: material.view.stream.is_indication != Some(true),
        unit: unit_words(&material.view.stream.unit).to_owned(),
    }
    .draw()
}
