//! A point in words, and as a row of the table.

use vaaka_core::judgement::Conformity;

use vaaka_core::chart::Firing;
use vaaka_core::judgement::firing_short;
use vaaka_core::quantity::decimals_for;
use vaaka_store::charts::PointView;

use super::read::Read;
use crate::shell::Here;
use crate::state::local_day_time;

#[derive(Debug)]
pub(in crate::pages) struct TableRow {
    pub at: String,
    pub value: String,
    pub limits: String,
    pub tolerance: String,
    pub state: &'static str,
    pub words: String,
    pub person: String,
    pub certificate: String,
    pub check: i64,
}

/// Its points as rows of a table.
pub(in crate::pages) fn rows(read: &Read, here: &Here) -> Vec<TableRow> {
    read.points.iter().map(|view| table_row(view, read, here)).collect()
}

pub(in crate::pages) fn lower_first(text: &str) -> String {
    let mut characters = text.chars();
    characters
        .next()
        .map_or(String::new(), |first| first.to_lowercase().chain(characters).collect())
}

pub(in crate::pages) fn unit_words(symbol: &str) -> &str {
    match symbol {
        "mg" => "milligrams",
        "g" => "grams",
        "kg" => "kilograms",
        other => other,
    }
}

pub(in crate::pages) fn decimals(read: &Read) -> u32 {
    u32::try_from(read.view.stream.decimals).unwrap_or(1)
}

pub(in crate::pages) fn state_of(view: &PointView) -> &'static str {
    match (conformity(&view.point.conformity), view.point.signalled) {
        (Some(vaaka_core::judgement::Conformity::Fail), _) => "out",
        (_, true) => "signal",
        _ => "ok",
    }
}

pub(in crate::pages) fn firings(value: &serde_json::Value) -> Vec<Firing> {
    serde_json::from_value(value.clone()).unwrap_or_default()
}

pub(in crate::pages) fn point_words(view: &PointView, say: fn(&Firing) -> String) -> String {
    let mut parts: Vec<String> = Vec::new();
    match (view.purpose.as_str(), view.point.ordinal) {
        ("as_left", _) => parts.push("as left, not counted".into()),
        (_, None) if view.paper.is_some() => parts.push("from paper, beside the chart".into()),
        ("trial", _) => parts.push("trial, not counted".into()),
        (_, None) => parts.push("confirming repeat, not counted".into()),
        _ => {}
    }
    if view.paper.is_some() && view.point.ordinal.is_some() {
        parts.push("from paper".into());
    }
    if view.point.excluded {
        parts.push("left out".into());
    }
    if state_of(view) == "out" {
        parts.push("out of tolerance".into());
    }
    if view.point.signalled {
        parts.extend(firings(&view.point.firings).iter().map(say));
    } else if view.point.center_line.is_none() && view.point.ordinal.is_some() {
        parts.push("no limits yet".into());
    }
    if parts.is_empty() { "in control".to_owned() } else { parts.join("; ") }
}

fn table_row(view: &PointView, read: &Read, here: &Here) -> TableRow {
    let point = &view.point;
    let show = |value: f64| read.view.stream.shown(value, decimals(read));
    let pair = |lower: Option<f64>, upper: Option<f64>| match (lower, upper) {
        (Some(lower), Some(upper)) => format!("{} to {}", show(lower), show(upper)),
        _ => "–".to_owned(),
    };
    TableRow {
        at: local_day_time(point.measured_at.0, &here.zone),
        value: format!("{} {}", show(point.value), read.view.stream.unit),
        limits: match (point.lower_control_limit, point.upper_control_limit) {
            (Some(lower), Some(upper)) => {
                let places = decimals_for((upper - lower) / 2.0).max(decimals(read));
                let show = |value: f64| read.view.stream.shown(value, places);
                format!("{} to {}", show(lower), show(upper))
            }
            _ => "–".to_owned(),
        },
        tolerance: pair(point.lower_tolerance_limit, point.upper_tolerance_limit),
        state: state_of(view),
        words: point_words(view, firing_short),
        person: view.person.clone().unwrap_or_default(),
        certificate: view.certificate.clone(),
        check: point.check_id.0,
    }
}

/// A stored word of conformity.
pub fn conformity(word: &str) -> Option<Conformity> {
    match word {
        "pass" => Some(Conformity::Pass),
        "fail" => Some(Conformity::Fail),
        "not_judged" => Some(Conformity::NotJudged),
        _ => None,
    }
}
