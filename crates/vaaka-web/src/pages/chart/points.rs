//! One point of a chart: its numbers, what fired, what people say of it; leaving it out and taking it in.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use vaaka_core::chart::Firing;
use vaaka_core::judgement::{firing_words, shift_words};
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_store::charts::{self, PointView, StreamView};
use vaaka_store::ids::{CheckId, StreamId};
use vaaka_store::marks::{self, Mark};

use super::row::{firings, lower_first, point_words, state_of};
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Reader};
use crate::forms::PathIds;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart_point.html")]
struct PointPage {
    shell: Shell,
    chart: i64,
    check: i64,
    title: String,
    at: String,
    state: &'static str,
    words: String,
    facts: Vec<(&'static str, String)>,
    fired: Vec<String>,
    mentioned: Vec<String>,
    marks: Vec<(String, String, String)>,
    before: Option<i64>,
    after: Option<i64>,
    range: String,
    excluded: bool,
    /// Left out because of its levels, not by somebody: it is taken in with them.
    by_levels: bool,
    may_exclude: bool,
    faults: BTreeMap<String, String>,
    typed: Fields,
}

impl PointPage {
    fn fault(&self, name: &str) -> Option<&String> {
        self.faults.get(name)
    }

    fn typed(&self, name: &str) -> &str {
        self.typed.get(name)
    }
}

/// Shows a point.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathIds(chart, check): PathIds,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let ids = (StreamId(chart), CheckId(check));
    draw(&mut desk, &signed, ids, Fields::default(), BTreeMap::new()).await
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    (stream, check): (StreamId, CheckId),
    typed: Fields,
    faults: BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let view = charts::by_id(&desk.connection, stream).await?;
    let point = charts::point_of(&mut desk.connection, stream, check).await?;
    let at = point.point.measured_at;
    let (before, after) = charts::neighbours(&mut desk.connection, stream, at).await?;
    let marks = marks::of_stream(&desk.connection, stream, at.0, 2_000).await?;
    let segments = charts::segments_of(&desk.connection, stream).await?;
    let sigma = segments
        .iter()
        .find(|segment| segment.id == point.point.segment_id)
        .and_then(|segment| segment.design.as_ref()?.get("sigma")?.as_f64());
    let shell = Shell::new(signed, "charts", &desk.here);
    let zone = &desk.here.zone;
    let say = |firing: &Firing| {
        let shift = sigma.and_then(|sigma| shift_words(firing, sigma, &view.stream.unit));
        let count = match firing.points.len() {
            0 | 1 => String::new(),
            n => format!(" ({n} checks make it)"),
        };
        let shift = shift.map_or(String::new(), |shift| format!(": {shift}"));
        format!("{}{count}{shift}", firing_words(firing))
    };
    let day = |days: i64| {
        at.0.checked_add(jiff::SignedDuration::from_hours(24 * days))
            .unwrap_or(at.0)
            .to_zoned_datetime(zone.clone())
            .date()
    };
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let marks: Vec<_> = marks.into_iter().filter(|mark| mark.check_id == check).collect();
    let by_hand = marks.iter().rev().find(|mark| mark.kind != "comment");
    let by_hand = by_hand.is_some_and(|mark| mark.kind == "excluded");
    let template = PointPage {
        chart: stream.0,
        check: check.0,
        title: format!("{}: {}", view.instrument.tag, lower_first(&view.stream.label)),
        at: local_day_time(at.0, zone),
        // What does not count, or has no limits to be held against, is neither fine nor wrong.
        state: if point.point.excluded || point.point.center_line.is_none() {
            "due"
        } else {
            state_of(&point)
        },
        words: point_words(&point, firing_words),
        facts: facts(&view, &point, sigma),
        fired: firings(&point.point.firings).iter().map(say).collect(),
        mentioned: firings(&point.point.advisory).iter().map(say).collect(),
        marks: marks
            .into_iter()
            .map(|mark| {
                let what = match mark.kind.as_str() {
                    "excluded" => "Left out",
                    "included" => "Taken in again",
                    _ => "Comment",
                };
                let who = format!("{}, {}", mark.person, local_day_time(mark.at.0, zone));
                (what.to_owned(), mark.words, who)
            })
            .collect(),
        before: before.map(|check| check.0),
        after: after.map(|check| check.0),
        range: format!("from={}&to={}", day(-14), day(14)),
        excluded: point.point.excluded,
        by_levels: point.point.excluded && !by_hand,
        may_exclude: point.point.ordinal.is_some() && shell.may_lead(),
        shell,
        faults,
        typed,
    };
    page(status, &template)
}

fn facts(view: &StreamView, point: &PointView, sigma: Option<f64>) -> Vec<(&'static str, String)> {
    let (stream, own) = (&view.stream, &point.point);
    let d = u32::try_from(stream.decimals).unwrap_or(1);
    let places = sigma.map_or(d, |sigma| decimals_for(sigma).max(d));
    let unit = &stream.unit;
    let show = |value: f64| stream.shown(value, places);
    let pair = |lower: Option<f64>, upper: Option<f64>| {
        lower.zip(upper).map(|(lower, upper)| format!("{} to {} {unit}", show(lower), show(upper)))
    };
    let mut facts = vec![("Value", format!("{} {unit}", stream.shown(own.value, d)))];
    if own.readings > 1 {
        facts.push(("Readings", own.readings.to_string()));
    }
    if let Some(spread) = own.std_dev {
        let limits = own.lower_spread_limit.zip(own.upper_spread_limit).map_or(
            String::new(),
            |(lower, upper)| {
                format!(", normally {} to {}", show_float(lower, places), show_float(upper, places))
            },
        );
        facts.push((
            "Scatter of its readings",
            format!("standard deviation {} {unit}{limits}", show_float(spread, places)),
        ));
    }
    if let Some(center) = own.center_line {
        facts.push(("Centre line", format!("{} {unit}", show(center))));
    }
    if let Some(words) = pair(own.lower_control_limit, own.upper_control_limit) {
        let provisional = if own.provisional { ", provisional" } else { "" };
        facts.push(("Control limits", format!("{words}{provisional}")));
    }
    if let Some(z) = own.standardised {
        facts.push(("From the centre", format!("{} sigma", show_signed_float(z, 2))));
    }
    if let Some((ewma, half)) = own.ewma.zip(own.ewma_half_width) {
        let center = own.center_line.unwrap_or_default();
        facts.push((
            "Slow average",
            format!(
                "{} {unit}, band {} to {}",
                show(ewma),
                show(center - half),
                show(center + half)
            ),
        ));
    }
    if let Some((above, below)) = own.cusum_above.zip(own.cusum_below) {
        let words =
            format!("{} above, {} below, in sigmas", show_float(above, 2), show_float(below, 2));
        facts.push(("Cumulative sums", words));
    }
    if let Some(words) = pair(own.lower_tolerance_limit, own.upper_tolerance_limit) {
        facts.push(("Tolerance", words));
    }
    facts.push(("By", point.person.clone().unwrap_or_default()));
    facts.push(("Certificate", point.certificate.clone()));
    facts
}

/// Comments on a point, leaves it out or takes it in.
pub async fn mark(
    PathIds(chart, check): PathIds,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let ids = (StreamId(chart), CheckId(check));
    let mut reader = Reader::of(&typed);
    let (mark, words) = match typed.get("mark") {
        "comment" => {
            (Mark::Comment, reader.required("comment", 1_000, "Type what is to be said of it."))
        }
        "exclude" => {
            signed.may_lead()?;
            let ask = "Say why it is left out: a point is left out because its cause is known, never because it is inconvenient.";
            (Mark::Exclude, reader.required("reason", 1_000, ask))
        }
        "include" => {
            signed.may_lead()?;
            (Mark::Include, reader.required("reason", 1_000, "Say why it counts again."))
        }
        _ => return Err(WebError::BadForm("mark".into())),
    };
    if !reader.is_fine() {
        let faults = reader.faults;
        return draw(&mut desk, &signed, ids, typed, faults).await;
    }
    let (person, now): (_, Timestamp) = (signed.person.id, desk.now);
    let done = marks::mark(&mut desk.connection, ids, mark, &words, person, now).await?;
    if !done {
        let words =
            "Somebody has done this already, or the mark is not counted anyway: look at it again.";
        let faults = BTreeMap::from([("*".to_owned(), words.to_owned())]);
        return draw(&mut desk, &signed, ids, typed, faults).await;
    }
    Ok(Redirect::to(&format!("/charts/{chart}/points/{check}")).into_response())
}
