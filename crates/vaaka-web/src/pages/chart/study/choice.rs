//! What a lead chooses for a study, read from a form or an address, and its fields.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use vaaka_core::chart::{
    Criterion, CusumDesign, DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, EwmaDesign, Spread,
};
use vaaka_core::quantity::to_f64;
use vaaka_core::study::{DesignChoice, LimitChoice};

use super::super::rules::{all_mentioned, preset};
use super::material::Material;
use crate::fields::{Field, Fields, Group, Look, Reader, choices};

/// What was chosen, read from a form or an address; nothing chosen is the default.
pub(super) struct Chosen {
    pub from: Option<Timestamp>,
    pub to: Option<Timestamp>,
    pub design: DesignChoice,
    pub faults: BTreeMap<String, String>,
}

pub(super) fn read_choice(typed: &Fields, material: &Material, zone: &TimeZone) -> Chosen {
    let mut reader = Reader::of(typed);
    let mut number = |name: &str, default: f64| match reader.decimal(name) {
        Some(value) => to_f64(value),
        None => default,
    };
    let below = number("below", DEFAULT_OUTER_MULTIPLIER);
    let above = number("above", DEFAULT_OUTER_MULTIPLIER);
    let ewma =
        EwmaDesign { lambda: number("lambda", EWMA_LAMBDA), width: number("width", EWMA_WIDTH) };
    let plain = CusumDesign::default();
    let reference = number("reference", plain.reference);
    let interval = number("interval", plain.interval);
    let (target, sigma) = (number("target", 0.0), number("sigma", f64::NAN));
    let (lower, upper) = (number("lower", f64::NAN), number("upper", f64::NAN));
    let uncertainty = number("uncertainty", 0.0);
    let zone_end = |name: &str, end: bool, reader: &mut Reader<'_>| {
        let day = reader.day(name)?;
        let day = if end { day.saturating_add(1.day()) } else { day };
        day.to_zoned_datetime(zone.clone()).ok().map(|zoned| zoned.timestamp())
    };
    let default_from =
        (material.segment.design.is_none() && typed.get("to").is_empty()).then_some(());
    let from = zone_end("from", false, &mut reader).or_else(|| match default_from {
        Some(()) => None,
        None => Some(material.segment.opened_at.0).filter(|_| typed.get("chosen").is_empty()),
    });
    let to = zone_end("to", true, &mut reader);
    for (name, value, least, most) in [
        ("lambda", ewma.lambda, 0.01, 1.0),
        ("width", ewma.width, 1.0, 10.0),
        ("reference", reference, 0.05, 5.0),
        ("interval", interval, 0.5, 50.0),
        ("below", below, 1.0, 10.0),
        ("above", above, 1.0, 10.0),
    ] {
        if !(least..=most).contains(&value) {
            reader.fault(name, format!("Type a number from {least} to {most}."));
        }
    }
    let limits = match typed.get("limits") {
        "given" => LimitChoice::Given { target, sigma },
        "certificate" => LimitChoice::Certificate { sigma, standard_uncertainty: uncertainty },
        "action_lines" => LimitChoice::ActionLines { lower, upper },
        _ => LimitChoice::Baseline,
    };
    match limits {
        LimitChoice::Given { .. } | LimitChoice::Certificate { .. } if sigma.is_nan() => {
            reader.fault("sigma", "Type the sigma that the limits rest on.");
        }
        LimitChoice::ActionLines { .. } if lower.is_nan() || upper.is_nan() => {
            reader.fault("lower", "Type both lines.");
        }
        LimitChoice::ActionLines { .. } if lower >= upper => {
            reader.fault("lower", "The lower line has to lie below the upper one.");
        }
        _ => {}
    }
    let raising = preset(typed.get("signals")).or_else(|| preset("default")).unwrap_or_default();
    let head_start = if reader.ticked("head_start") { interval / 2.0 } else { 0.0 };
    let raising =
        if reader.ticked("spread_raises") { raising.with(Criterion::Spread) } else { raising };
    Chosen {
        from,
        to,
        design: DesignChoice {
            limits,
            below,
            above,
            ewma,
            cusum: CusumDesign { reference, interval, head_start },
            spread: if typed.get("spread") == "range" { Spread::Range } else { Spread::StdDev },
            by_readings: reader.ticked("by_readings"),
            raising,
            advisory: all_mentioned().without(raising),
        },
        faults: reader.faults,
    }
}

pub(super) fn choice_groups(
    typed: &Fields,
    faults: &BTreeMap<String, String>,
    has_earlier: bool,
) -> Vec<Group> {
    let number = |name: &str, label: &str| Field::new(name, label, Look::Number);
    let mut period = vec![
        Field::new("from", "From", Look::Day).hint("Empty: as far back as there are checks."),
        Field::new("to", "To", Look::Day).hint("Empty: to the newest check."),
    ];
    if has_earlier {
        period.push(Field::new("earlier", "With the values from before", Look::Tick));
    }
    let mut groups = vec![
        Group::new("The period", period),
        Group::new(
            "Limits",
            vec![
                Field::new(
                    "limits",
                    "They rest on",
                    choices([
                        ("baseline", "this period"),
                        ("given", "a target and a sigma"),
                        ("certificate", "the certified value and a sigma"),
                        ("action_lines", "action lines of an owner"),
                    ]),
                ),
                number("below", "Lower limit, in sigmas"),
                number("above", "Upper limit, in sigmas"),
                Field::new(
                    "signals",
                    "A signal is raised by",
                    choices([
                        ("default", "limits and slow average"),
                        ("sums", "limits and cumulative sums"),
                        ("zones", "the four zone rules"),
                        ("nelson", "the eight rules of Nelson 1984"),
                        ("multirules", "the laboratory multirules"),
                    ]),
                ),
            ],
        ),
        Group::new(
            "If they are given",
            vec![
                number("target", "Target"),
                number("sigma", "Sigma of the checks"),
                number("uncertainty", "Standard uncertainty of the certified value, U/k"),
                number("lower", "Lower action line"),
                number("upper", "Upper action line"),
            ],
        ),
        Group::new(
            "Watchers",
            vec![
                number("lambda", "Slow average: weight λ"),
                number("width", "Slow average: width L, in its sigmas"),
                number("reference", "Cumulative sums: k, in sigmas"),
                number("interval", "Cumulative sums: h, in sigmas"),
                Field::new("head_start", "Cumulative sums begin at h/2", Look::Tick),
                Field::new(
                    "spread",
                    "Scatter within checks is charted as",
                    choices([("std_dev", "standard deviation"), ("range", "range")]),
                ),
                Field::new(
                    "spread_raises",
                    "Scatter beyond its limits raises a signal",
                    Look::Tick,
                ),
                Field::new(
                    "by_readings",
                    "Limits follow the number of readings of each check",
                    Look::Tick,
                ),
            ],
        ),
    ];
    for group in &mut groups {
        group.fill(typed, faults);
    }
    groups
}

/// The fields of the choice with the defaults where nothing was sent.
pub(super) fn with_defaults(typed: &Fields, chosen: &Chosen, zone: &TimeZone) -> Fields {
    let mut full = typed.clone();
    let plain = |value: f64| {
        let text = format!("{value:.4}");
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    };
    for (name, value) in [
        ("below", chosen.design.below),
        ("above", chosen.design.above),
        ("lambda", chosen.design.ewma.lambda),
        ("width", chosen.design.ewma.width),
        ("reference", chosen.design.cusum.reference),
        ("interval", chosen.design.cusum.interval),
    ] {
        if full.get(name).is_empty() {
            full = full.with(name, plain(value));
        }
    }
    if full.get("from").is_empty()
        && let Some(from) = chosen.from
    {
        full = full.with("from", from.to_zoned_datetime(zone.clone()).date().to_string());
    }
    full
}

pub(super) fn freeze_groups() -> Vec<Group> {
    vec![Group::new(
        "",
        vec![
            Field::new("name", "Name of these limits", Look::Line),
            Field::new("reason", "Why they are frozen", Look::Lines),
            Field::new("review", "To be looked at again after so many months", Look::Number)
                .hint("Empty: twelve."),
        ],
    )]
}

/// What was chosen, and what was seen, for the form that freezes.
pub(super) fn hidden(full: &Fields, material: &Material) -> Vec<(String, String)> {
    const CHOICE: [&str; 20] = [
        "from",
        "to",
        "earlier",
        "limits",
        "below",
        "above",
        "signals",
        "target",
        "sigma",
        "uncertainty",
        "lower",
        "upper",
        "lambda",
        "width",
        "reference",
        "interval",
        "head_start",
        "spread",
        "spread_raises",
        "by_readings",
    ];
    CHOICE
        .into_iter()
        .filter(|name| !full.get(name).is_empty())
        .map(|name| (name.to_owned(), full.get(name).to_owned()))
        .chain([
            ("chosen".to_owned(), "yes".to_owned()),
            ("seen_segment".to_owned(), material.segment.id.0.to_string()),
            ("seen_baselines".to_owned(), material.baselines.to_string()),
        ])
        .collect()
}
