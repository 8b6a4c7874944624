//! What a study says: facts, cautions, the proposed limits.

use jiff::tz::TimeZone;
use vaaka_core::chart::simulate::Circumstances;
use vaaka_core::chart::{ChartDesign, Level, LimitBasis};
use vaaka_core::judgement::sigma_words;
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_core::study::{Caution, Difference, Objection, Study, StudyPoint};
use vaaka_store::charts;

use super::super::power::{about, false_alarm_words, power_of, power_words, widened};
use super::choice::{Chosen, hidden};
use super::material::Material;
use crate::fields::Fields;
use crate::state::local_day_time;

#[derive(Debug)]
pub(super) struct GroupRow {
    pub name: String,
    pub points: usize,
    pub mean: String,
    pub std_dev: String,
}

pub(super) fn places_of(material: &Material, found: &Study) -> u32 {
    let own = u32::try_from(material.view.stream.decimals).unwrap_or(1);
    found.limits.as_ref().map_or(own, |limits| decimals_for(limits.limits.sigma).max(own))
}

pub(super) fn facts(material: &Material, found: &Study) -> Vec<(&'static str, String)> {
    let unit = &material.view.stream.unit;
    let places = places_of(material, found);
    let show = |value: f64| format!("{} {unit}", show_float(value, places));
    let mut facts = vec![
        ("Checks used", format!("{} of {} different shifts", found.used, found.shifts)),
        ("Left out", found.excluded.to_string()),
    ];
    if let Some(limits) = &found.limits {
        let own = &limits.limits;
        facts.push(("Mean", format!("{} {unit}", show_signed_float(own.center_line, places))));
        facts.push(("Sigma", format!("{}, {}", show(own.sigma), sigma_words(own.sigma_source))));
    }
    if let Some(components) = &found.components {
        facts.push((
            "Between and within checks",
            format!(
                "σ between {}, σ of a reading within {}, {} readings",
                show(components.between),
                show(components.within),
                components.readings
            ),
        ));
    }
    if let Some(normality) = &found.normality {
        facts.push((
            "Normal (Anderson-Darling)",
            format!(
                "A² = {}, {}",
                show_float(normality.statistic, 2),
                probability(normality.probability)
            ),
        ));
    }
    if let Some(r) = found.autocorrelation {
        facts.push((
            "Neighbouring checks",
            format!(
                "r = {}, counts beyond ±{}",
                show_signed_float(r, 2),
                show_float(found.autocorrelation_limit, 2)
            ),
        ));
    }
    if let Some(steps) = found.steps {
        facts.push(("Sigma in steps of the display", show_float(steps, 1)));
    }
    for (name, difference) in
        [("Technicians", &found.technicians), ("Kinds of shift", &found.shift_kinds)]
    {
        if let Some(test) = &difference.test {
            let verdict =
                if difference.is_marked() { "they differ" } else { "no difference shown" };
            facts.push((
                name,
                format!(
                    "F = {}, {}: {verdict}",
                    show_float(test.f, 2),
                    probability(test.probability)
                ),
            ));
        }
    }
    facts
}

/// "p = 0.042", "p below 0.001".
fn probability(p: f64) -> String {
    if p < 0.001 { "p below 0.001".to_owned() } else { format!("p = {}", show_float(p, 3)) }
}

pub(super) fn group_rows(difference: &Difference, places: u32) -> Vec<GroupRow> {
    difference
        .groups
        .iter()
        .map(|group| GroupRow {
            name: group.name.clone(),
            points: group.points,
            mean: show_signed_float(group.mean, places),
            std_dev: group.std_dev.map_or("–".to_owned(), |s| show_float(s, places)),
        })
        .collect()
}

pub(super) fn caution_words(caution: &Caution) -> String {
    match caution {
        Caution::Unstable { points } => format!("{points} checks lie beyond these very limits or make a pattern. Look for their causes; a point whose cause is known is left out."),
        Caution::NotNormal { probability } => format!("The values are not normal ({}): tails may be heavier than the run lengths assume.", self::probability(*probability)),
        Caution::Autocorrelated { r } => format!("Neighbouring checks resemble each other (r = {}): sigma is taken from the standard deviation, and false alarms come sooner than between independent checks; below they are told as they are, and wider limits are offered.", show_signed_float(*r, 2)),
        Caution::Coarse { steps } => format!("Sigma is only {} steps of the display: patterns on the chart are partly made by rounding.", show_float(*steps, 1)),
        Caution::Floor => "The display is coarser than the spread: the resolution sets the limits, and patterns are not judged.".to_owned(),
        Caution::SeveralSegments { segments } => format!("The period holds {segments} segments: an adjustment or a change lies inside it and may widen the limits."),
        Caution::TechniciansDiffer => "Technicians have different levels. Find out why before their mixture becomes what is normal.".to_owned(),
        Caution::ShiftsDiffer => "Kinds of shift have different levels. Find out why before their mixture becomes what is normal.".to_owned(),
        Caution::ManyExcluded { points } => format!("{points} points are left out, more than a tenth: the limits may come out too narrow."),
        Caution::FromBefore { points } => format!("{points} values are from before: of these nobody knows the shift, the readings or the standard."),
        Caution::SameInstant => "Two points have the same time; their order on the chart is that in which they were kept.".to_owned(),
    }
}

/// What the limits would be, how often they would cry wolf, and what they would see.
pub(super) fn proposal_words(
    material: &Material,
    found: &Study,
    design: &ChartDesign,
    _: &Chosen,
) -> Vec<String> {
    let unit = &material.view.stream.unit;
    let places = decimals_for(design.sigma).max(places_of(material, found));
    let show = |value: f64| show_signed_float(value, places);
    let Level::Frozen { center_line } = design.level else { return vec![] };
    let (lower, upper) = (show(center_line - design.below), show(center_line + design.above));
    if !design.is_statistical() {
        let mut lines = vec![format!("Action lines at {lower} {unit} and {upper} {unit}.")];
        lines.push("Action lines are no control limits: no watcher and no run rule works with them, and nobody can say how often they are crossed by chance.".to_owned());
        return lines;
    }
    let mut lines = vec![format!(
        "Limits {lower} to {upper} {unit} about {} {unit}, from {}.",
        show(center_line),
        match design.basis {
            LimitBasis::Baseline => "this period",
            other => other.words(),
        }
    )];
    let readings = found.components.map_or(1, |components| components.readings);
    let around = Circumstances { readings: readings.clamp(1, 25), ..Circumstances::default() };
    let Some(power) = power_of(design, around) else { return lines };
    let weeks = charts::interval(&material.view.stream).as_secs_f64() / (7.0 * 86_400.0);
    lines.push(false_alarm_words(design, &power, weeks, around));
    lines.push(power_words(design, &power, unit));
    lines
}

/// Why one lead alone may not freeze limits, in a sentence with its numbers.
pub(super) fn objection_words(
    objection: &Objection,
    material: &Material,
    found: &Study,
    used: &[&StudyPoint],
    zone: &TimeZone,
) -> String {
    let unit = &material.view.stream.unit;
    let places = places_of(material, found);
    let show = |value: f64| format!("{} {unit}", show_signed_float(value, places));
    match objection {
        Objection::OpenSignal { count: 1 } => {
            "A signal of this period is not closed: its cause may be in these very points."
                .to_owned()
        }
        Objection::OpenSignal { count } => format!(
            "{count} signals of this period are not closed: their cause may be in these very points."
        ),
        Objection::Slope { change, sigmas, probability } => format!(
            "The period drifts: {} from its beginning to its end, {} sigma, {} (median slope, test of Mann and Kendall). Limits from it would take the drift for what is normal.",
            show(*change),
            show_signed_float(*sigmas, 1),
            self::probability(*probability)
        ),
        Objection::Step { at, size, sigmas, probability } => format!(
            "The period steps{}: {}, {} sigma, {} (test of Pettitt). Before and after are not one level.",
            used.get(*at)
                .map(|point| format!(" about {}", local_day_time(point.measured_at, zone)))
                .unwrap_or_default(),
            show(*size),
            show_signed_float(*sigmas, 1),
            self::probability(*probability)
        ),
        Objection::BeyondTolerance { lower_control_limit, upper_control_limit, lower, upper } => {
            let end = |value: &Option<f64>| value.map_or("none".to_owned(), show);
            format!(
                "The limits, {} to {}, reach beyond the tolerance, {} to {}: this instrument cannot hold its tolerance, and a check may fail without any signal before it.",
                show(*lower_control_limit),
                show(*upper_control_limit),
                end(lower),
                end(upper)
            )
        }
    }
}

/// Limits widened for checks that resemble their neighbours: what they would do, and the choice that makes them.
pub(super) fn widened_offer(
    design: &ChartDesign,
    found: &Study,
    full: &Fields,
    material: &Material,
) -> Option<(String, Vec<(String, String)>)> {
    let readings = found.components.map_or(1, |components| components.readings);
    let around = Circumstances { readings: readings.clamp(1, 25), ..Circumstances::default() };
    let offer = widened(design, around).filter(|offer| offer.factor > 1.02)?;
    let words = format!(
        "Because neighbouring checks resemble each other, a false alarm comes every {} checks even with centre and sigma known. Limits {} times as wide bring that to {}; a step of one sigma is then seen after {} checks instead of {}.",
        about(offer.before).trim_start_matches("about "),
        show_float(offer.factor, 2),
        about(offer.after),
        about(offer.step_after).trim_start_matches("about "),
        about(offer.step_before).trim_start_matches("about "),
    );
    let mut wider = full.clone();
    for name in ["below", "above", "width", "interval"] {
        let now: f64 = full.get(name).replace(',', ".").parse().ok()?;
        wider = wider.with(name, format!("{:.2}", (now * offer.factor).min(10.0)));
    }
    let fields = hidden(&wider, material)
        .into_iter()
        .filter(|(name, _)| !name.starts_with("seen_"))
        .collect();
    Some((words, fields))
}
