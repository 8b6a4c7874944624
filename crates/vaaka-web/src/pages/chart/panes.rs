//! Panes that were asked for, and the distribution.

use vaaka_core::quantity::{show_float, show_signed_float};
use vaaka_core::study::capability;
use vaaka_store::charts::{self, ConditionPoint};
use vaaka_store::rows::Stream;
use vaaka_store::{stretches, studies};

use super::drawing::{bands, gap_of, seconds};
use super::read::{MOST_DRAWN, PARTS, Read};
use super::row::{decimals, lower_first, state_of};
use super::window::Window;
use crate::desk::Desk;
use crate::draw::{Histogram, Pane, PaneLine, runs};
use crate::error::WebError;

/// The panes that were asked for: another chart beside this one, and a condition.
pub(super) async fn asked_panes(
    desk: &mut Desk,
    read: &Read,
    window: Window,
    with: &[(Stream, String)],
    trace: &str,
) -> Result<Vec<Pane>, WebError> {
    let span = (window.from, window.to);
    let gap = gap_of(read);
    let mut panes = Vec::new();
    if let Some((_, name)) = read.conditions.iter().find(|(key, _)| key == trace) {
        let found =
            charts::conditions(&mut desk.connection, read.view.stream.id, span, MOST_TRACED)
                .await?;
        let own = found.iter().filter(|point| point.step_key == trace);
        let line: Vec<(f64, f64)> =
            own.map(|point: &ConditionPoint| (seconds(point.measured_at.0), point.value)).collect();
        let (name, unit) = name.rsplit_once(", ").unwrap_or((name, ""));
        let mut pane = Pane::new(format!("{name}, read at each check"), unit);
        pane.marks = if line.len() > 700 {
            vec![]
        } else {
            line.iter().map(|(at, value)| (*at, *value, "ok")).collect()
        };
        pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap) }];
        panes.push(pane);
    }
    for (other, tag) in with {
        panes.push(beside(desk, window, (other, tag), gap).await?);
    }
    Ok(panes)
}

/// Another chart over the same time.
async fn beside(
    desk: &mut Desk,
    window: Window,
    (other, tag): (&Stream, &str),
    gap: f64,
) -> Result<Pane, WebError> {
    let span = (window.from, window.to);
    let extent = stretches::extent(&desk.connection, other.id, span, MOST_DRAWN + 1).await?;
    let label = lower_first(&other.label);
    let mut pane = Pane::new(format!("beside it {tag}: {label}"), other.unit.clone());
    if extent.count > MOST_DRAWN {
        let parts = stretches::of(&desk.connection, other.id, span, PARTS, &extent).await?;
        let line = parts.iter().map(|part| (seconds(part.first_at.0), part.mean));
        pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap * 20.0) }];
        return Ok(pane);
    }
    let points =
        charts::points_between(&desk.connection, other.id, span, MOST_DRAWN, false).await?;
    let counted = || points.iter().filter(|view| view.point.ordinal.is_some());
    let line = counted().map(|view| (seconds(view.point.measured_at.0), view.point.value));
    pane.lines = vec![PaneLine { class: "pane-line", runs: runs(line, gap) }];
    pane.marks = counted()
        .map(|view| (seconds(view.point.measured_at.0), view.point.value, state_of(view)))
        .collect();
    pane.bands = bands(&points, seconds(window.to));
    Ok(pane)
}

/// Conditions that are traced at most.
const MOST_TRACED: i64 = 3_000;

/// The values of the stretch against tolerance and limits, and what they come to.
pub(super) async fn distribution(
    desk: &mut Desk,
    read: &Read,
    window: Window,
) -> Result<(String, Vec<String>), WebError> {
    let span = (window.from, window.to);
    let id = read.view.stream.id;
    let values =
        charts::values_between(&mut desk.connection, id, span, studies::MOST_POINTS).await?;
    let newest = charts::newest_points(&desk.connection, &[id]).await?;
    let tolerance = newest
        .first()
        .map_or((None, None), |point| (point.lower_tolerance_limit, point.upper_tolerance_limit));
    let control = newest.first().and_then(|point| {
        Some((point.lower_control_limit?, point.center_line?, point.upper_control_limit?))
    });
    let d = decimals(read);
    let unit = &read.view.stream.unit;
    let mut lines =
        vec![format!("{} counted checks, {}.", values.len(), window.words(&desk.here.zone))];
    match capability(&values, tolerance.0, tolerance.1) {
        Ok(Some(found)) => {
            let pp = found.pp.map_or(String::new(), |pp| {
                format!("Pp = (U − L)/(6 s) = {}; ", show_float(pp, 2))
            });
            lines.push(format!(
                "Mean {} {unit}, standard deviation s = {} {unit}; {pp}Ppk = the nearer limit\u{2019}s distance from the mean/(3 s) = {} (ISO 22514-2).",
                show_signed_float(found.mean, d + 1),
                show_float(found.std_dev, d + 1),
                show_float(found.ppk, 2),
            ));
        }
        Ok(None) => lines.push("Without a tolerance there is no capability figure.".to_owned()),
        Err(error) => lines.push(format!("No capability figure: {error}.")),
    }
    let drawn = Histogram {
        description: format!("Distribution of {}, {} values", read.view.stream.label, values.len()),
        values,
        tolerance,
        control,
        step: if read.view.stream.derived.is_some() { 0.0 } else { 10_f64.powi(-(d as i32)) },
        unit: unit.clone(),
    };
    Ok((drawn.draw(), lines))
}
