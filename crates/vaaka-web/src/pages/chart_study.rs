//! The baseline study: a period, what it says of itself, the limits it proposes, what they would have done
//! in the past, and freezing them.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use vaaka_core::chart::simulate::Circumstances;
use vaaka_core::chart::{
    ChartDesign, CusumDesign, DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, EwmaDesign, Level,
    SigmaSource, Spread,
};
use vaaka_core::judgement::{firing_words, sigma_words};
use vaaka_core::quantity::{Unit, decimals_for, show_float, show_signed_float, to_f64};
use vaaka_core::study::{
    BackTestSegment, Caution, DesignChoice, Difference, LimitChoice, Study, StudyInput, StudyPoint,
    back_test, study,
};
use vaaka_store::charts::{self, StreamView};
use vaaka_store::ids::{SegmentId, StreamId};
use vaaka_store::rows::Segment;
use vaaka_store::studies::{self, Freeze, StudyRow};
use vaaka_store::{At, imports};

use super::chart::{lower_first, unit_words};
use super::chart_drawing::seconds;
use super::chart_power::{false_alarm_words, power_of, power_words};
use super::chart_rules::{all_mentioned, preset};
use super::signals::sentence;
use super::{Shell, page};
use crate::desk::Desk;
use crate::draw::{ChartDrawing, ChartSegment, DrawnPoint};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, choices};
use crate::forms::PathId;
use crate::session::SignedIn;
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart_study.html")]
struct StudyPage {
    shell: Shell,
    id: i64,
    heading: String,
    drawing: String,
    choice: Vec<Group>,
    period: String,
    facts: Vec<(&'static str, String)>,
    technicians: Vec<GroupRow>,
    shifts: Vec<GroupRow>,
    faults: Vec<String>,
    cautions: Vec<String>,
    unstable: Vec<(i64, String, String)>,
    more_unstable: usize,
    proposal: Vec<String>,
    back_test: Option<String>,
    raised: Vec<(String, String)>,
    freeze: Vec<Group>,
    hidden: Vec<(String, String)>,
    may_freeze: bool,
    error: Option<String>,
}

#[derive(Debug)]
struct GroupRow {
    name: String,
    points: usize,
    mean: String,
    std_dev: String,
}

/// Everything that a study rests on.
struct Material {
    view: StreamView,
    segment: Segment,
    baselines: i64,
    rows: Vec<StudyRow>,
    points: Vec<StudyPoint>,
    resolution: f64,
    shift_kinds: Vec<String>,
    regulars: Vec<String>,
}

async fn material(desk: &mut Desk, id: StreamId, with_earlier: bool) -> Result<Material, WebError> {
    let view = charts::by_id(&mut desk.connection, id).await?;
    let segment = charts::current_segment(&mut desk.connection, id).await?;
    let baselines = studies::baselines_of(&mut desk.connection, id).await?;
    let rows = studies::points(&mut desk.connection, id).await?;
    let mut points: Vec<StudyPoint> = rows.iter().map(StudyRow::point).collect();
    if with_earlier {
        let first = At(Timestamp::UNIX_EPOCH);
        let now = At(desk.now);
        let most = studies::MOST_POINTS;
        let known = imports::earlier(&mut desk.connection, &view.stream, first, now, most).await?;
        points.extend(known.iter().map(|value| StudyPoint {
            measured_at: value.at.0,
            value: to_f64(value.value),
            readings: 1,
            scatter: None,
            segment: 0,
            shift: None,
            shift_kind: String::new(),
            person: value.person.clone(),
            excluded: false,
        }));
        points.sort_by_key(|point| point.measured_at);
    }
    let shift_kinds = studies::shift_kinds(&mut desk.connection, &view.stream).await?;
    let regulars = studies::regulars(&rows);
    let resolution = resolution_of(&view);
    Ok(Material { view, segment, baselines, rows, points, resolution, shift_kinds, regulars })
}

/// Resolution of the instrument in the unit of a chart. Charts of all levels together are means of several
/// readings and have no steps of their own.
fn resolution_of(view: &StreamView) -> f64 {
    let units = (view.instrument.unit.parse::<Unit>(), view.stream.unit.parse::<Unit>());
    match units {
        (Ok(from), Ok(to)) if view.stream.derived.is_none() => {
            from.try_convert(view.instrument.resolution, to).map_or(0.0, to_f64)
        }
        _ => 0.0,
    }
}

/// What was chosen, read from a form or an address; nothing chosen is the default.
struct Chosen {
    from: Option<Timestamp>,
    to: Option<Timestamp>,
    design: DesignChoice,
    faults: BTreeMap<String, String>,
}

fn read_choice(typed: &Fields, material: &Material, zone: &TimeZone) -> Chosen {
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
    let raising = if reader.ticked("spread_raises") {
        raising.with(vaaka_core::chart::Criterion::Spread)
    } else {
        raising
    };
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

fn choice_groups(
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
fn with_defaults(typed: &Fields, chosen: &Chosen, zone: &TimeZone) -> Fields {
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

/// Shows the study; what was chosen stands in the address.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    typed: Fields,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let earlier = !typed.get("earlier").is_empty();
    let material = material(&mut desk, StreamId(id), earlier).await?;
    draw(&mut desk, &signed, &material, &typed, BTreeMap::new()).await
}

/// What a choice comes to.
struct Proposal {
    study: Study,
    design: Result<ChartDesign, String>,
    points: Vec<StudyPoint>,
}

fn propose(material: &Material, chosen: &Chosen) -> Proposal {
    let inside = |point: &&StudyPoint| {
        chosen.from.is_none_or(|from| point.measured_at >= from)
            && chosen.to.is_none_or(|to| point.measured_at < to)
    };
    let points: Vec<StudyPoint> = material.points.iter().filter(inside).cloned().collect();
    let found = study(&StudyInput {
        points: &points,
        interval: charts::interval(&material.view.stream),
        resolution: material.resolution,
        multiplier: chosen.design.above,
        shift_kinds: &material.shift_kinds,
        regulars: &material.regulars,
    });
    let needs_baseline = chosen.design.limits == LimitChoice::Baseline;
    let design = match found.faults.first() {
        Some(fault) if needs_baseline => Err(sentence(&fault.to_string())),
        _ => found
            .design(&chosen.design, material.resolution)
            .map_err(|fault| sentence(&fault.to_string())),
    };
    Proposal { study: found, design, points }
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    material: &Material,
    typed: &Fields,
    mut faults: BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let zone = desk.here.zone.clone();
    let chosen = read_choice(typed, material, &zone);
    faults.extend(chosen.faults.clone());
    let proposal = propose(material, &chosen);
    let (view, found) = (&material.view, &proposal.study);
    let full = with_defaults(typed, &chosen, &zone);
    let id = view.stream.id;
    let limits = (At(Timestamp::UNIX_EPOCH), At(desk.now));
    let has_earlier = !imports::earlier(&mut desk.connection, &view.stream, limits.0, limits.1, 1)
        .await?
        .is_empty();
    let design = proposal.design.as_ref().ok().filter(|_| chosen.faults.is_empty());
    let (tested, raised) = match design {
        Some(design) => test_the_past(desk, material, &chosen, design).await?,
        None => (None, vec![]),
    };
    let mut words =
        design.map_or_else(Vec::new, |design| proposal_words(material, found, design, &chosen));
    if let (Err(fault), true) = (&proposal.design, chosen.faults.is_empty())
        && !found.faults.iter().any(|known| sentence(&known.to_string()) == *fault)
    {
        words.push(fault.clone());
    }
    let shell = Shell::new(signed, "charts", &desk.here);
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let used: Vec<&StudyPoint> = proposal.points.iter().filter(|point| !point.excluded).collect();
    let check_at = |at: Timestamp| {
        material.rows.iter().find(|row| row.point().measured_at == at).map(|row| row.check_id.0)
    };
    let mut unstable: Vec<(i64, String, String)> = Vec::new();
    for (place, firing) in &found.unstable {
        let Some(point) = used.get(*place) else { continue };
        let Some(check) = check_at(point.measured_at) else { continue };
        match unstable.iter_mut().find(|(known, _, _)| *known == check) {
            Some(line) => line.2.push_str(&format!("; {}", firing_words(firing))),
            None => {
                let when = local_day_time(point.measured_at, &zone);
                unstable.push((check, when, firing_words(firing)));
            }
        }
    }
    let more_unstable = unstable.len().saturating_sub(12);
    unstable.truncate(12);
    let mut freeze = freeze_groups();
    for group in &mut freeze {
        group.fill(typed, &faults);
    }
    let error = faults.get("*").cloned();
    let places = places_of(material, found);
    let template = StudyPage {
        id: id.0,
        heading: format!("{} {}", view.instrument.tag, lower_first(&view.stream.label)),
        drawing: drawing(material, &proposal, design, &zone),
        choice: choice_groups(&full, &faults, has_earlier),
        period: found.period.map_or("no check".to_owned(), |(first, last)| {
            let day = |at: Timestamp| at.to_zoned_datetime(zone.clone()).strftime("%-d %b %Y");
            format!("{} to {}", day(first), day(last))
        }),
        facts: facts(material, found),
        technicians: group_rows(&found.technicians, places),
        shifts: group_rows(&found.shift_kinds, places),
        faults: found.faults.iter().map(|fault| sentence(&fault.to_string())).collect(),
        cautions: found.cautions.iter().map(caution_words).collect(),
        unstable,
        more_unstable,
        proposal: words,
        back_test: tested,
        raised,
        freeze,
        hidden: hidden(&full, material),
        may_freeze: shell.may_lead() && design.is_some(),
        shell,
        error,
    };
    page(status, &template)
}

fn freeze_groups() -> Vec<Group> {
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
fn hidden(full: &Fields, material: &Material) -> Vec<(String, String)> {
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

fn places_of(material: &Material, found: &Study) -> u32 {
    let own = u32::try_from(material.view.stream.decimals).unwrap_or(1);
    found.limits.as_ref().map_or(own, |limits| decimals_for(limits.limits.sigma).max(own))
}

fn facts(material: &Material, found: &Study) -> Vec<(&'static str, String)> {
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

fn group_rows(difference: &Difference, places: u32) -> Vec<GroupRow> {
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

fn caution_words(caution: &Caution) -> String {
    match caution {
        Caution::Unstable { points } => format!("{points} checks lie beyond these very limits or make a pattern. Look for their causes; a point whose cause is known is left out."),
        Caution::NotNormal { probability } => format!("The values are not normal ({}): tails may be heavier than the run lengths assume.", self::probability(*probability)),
        Caution::Autocorrelated { r } => format!("Neighbouring checks resemble each other (r = {}): sigma is taken from the standard deviation, and run lengths are shorter than shown.", show_signed_float(*r, 2)),
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
fn proposal_words(
    material: &Material,
    found: &Study,
    design: &ChartDesign,
    chosen: &Chosen,
) -> Vec<String> {
    let unit = &material.view.stream.unit;
    let places = decimals_for(design.sigma).max(places_of(material, found));
    let show = |value: f64| show_signed_float(value, places);
    let Level::Frozen { center_line } = design.level else { return vec![] };
    let mut lines = vec![format!(
        "{} {} to {} {unit} about {} {unit}, from {}.",
        if design.is_statistical() { "Limits" } else { "Action lines" },
        show(center_line - design.below),
        show(center_line + design.above),
        show(center_line),
        match design.basis {
            vaaka_core::chart::LimitBasis::Baseline => "this period",
            other => other.words(),
        }
    )];
    if !design.is_statistical() {
        lines.push("Action lines are no control limits: no watcher and no run rule works with them, and nobody can say how often they are crossed by chance.".to_owned());
        return lines;
    }
    let readings = found.components.map_or(1, |components| components.readings);
    let around = Circumstances { readings: readings.clamp(1, 25), levels: 1 };
    let Some(power) = power_of(design, around) else { return lines };
    let weeks = charts::interval(&material.view.stream).as_secs_f64() / (7.0 * 86_400.0);
    let points = match chosen.design.limits {
        LimitChoice::Baseline => found.used,
        _ => 0,
    };
    lines.push(false_alarm_words(design, &power, weeks, points));
    lines.push(power_words(design, &power, unit));
    lines
}

/// Runs the proposed design over everything that is on the chart.
async fn test_the_past(
    desk: &mut Desk,
    material: &Material,
    chosen: &Chosen,
    design: &ChartDesign,
) -> Result<(Option<String>, Vec<(String, String)>), WebError> {
    let faults =
        studies::faults(&mut desk.connection, &material.view.stream, &material.rows).await?;
    let inside = |point: &StudyPoint| {
        chosen.from.is_none_or(|from| point.measured_at >= from)
            && chosen.to.is_none_or(|to| point.measured_at < to)
    };
    let all: Vec<StudyPoint> = material.rows.iter().map(StudyRow::point).collect();
    let segments: Vec<BackTestSegment> = all
        .chunk_by(|a, b| a.segment == b.segment)
        .map(|points| {
            // Of another segment nobody knows the level: it begins at the target, provisional.
            let own = points.iter().any(inside) || !design.is_statistical();
            let design = if own { design.clone() } else { design.after_adjustment(0.0) };
            BackTestSegment { design, points: points.to_vec() }
        })
        .collect();
    let interval = charts::interval(&material.view.stream);
    let tested = back_test(&segments, &faults, interval);
    let zone = &desk.here.zone;
    let raised = tested
        .signals
        .iter()
        .rev()
        .take(12)
        .map(|signal| {
            let words =
                signal.before.map_or("for nothing that is known".to_owned(), |(fault, n)| {
                    format!("{n} checks before: {}", faults[fault].words)
                });
            let side = signal.side.map_or("", |side| side.word());
            (local_day_time(signal.at, zone), format!("{side}, {words}"))
        })
        .collect();
    Ok((Some(tested.words()), raised))
}

/// The points of the period with the proposed limits. Most of them at most, so that the page stays light.
fn drawing(
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
    let check_at: std::collections::HashMap<i64, i64> = material
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
            tolerance: (None, None),
        }],
        points,
        condensed: vec![],
        flagged: vec![],
        statistical: design.is_none_or(ChartDesign::is_statistical),
        earlier: vec![],
        events: vec![],
        forecast: None,
        panes: vec![],
        decimals: d,
        unit: unit_words(&material.view.stream.unit).to_owned(),
    }
    .draw()
}

/// Freezes what was chosen.
pub async fn freeze(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    typed: Fields,
) -> Result<Response, WebError> {
    signed.check_form(typed.token())?;
    signed.may_lead()?;
    let mut desk = Desk::open(&state).await?;
    let earlier = !typed.get("earlier").is_empty();
    let material = material(&mut desk, StreamId(id), earlier).await?;
    let zone = desk.here.zone.clone();
    let chosen = read_choice(&typed, &material, &zone);
    let mut reader = Reader::of(&typed);
    let name =
        reader.required("name", 80, "Give these limits a name, so that people can speak of them.");
    let reason = reader.required("reason", 1_000, "Say why they are frozen now.");
    let months = reader.whole("review", 1, 60).unwrap_or(12);
    let proposal = propose(&material, &chosen);
    let design = match (&proposal.design, chosen.faults.is_empty()) {
        (Ok(design), true) => Some(design.clone()),
        (Err(words), true) => {
            reader.fault("*", words.clone());
            None
        }
        _ => None,
    };
    let (Some(design), true) = (design, reader.is_fine()) else {
        let faults = reader.faults;
        return draw(&mut desk, &signed, &material, &typed, faults).await;
    };
    let found = &proposal.study;
    let mut shown = proposal_words(&material, found, &design, &chosen);
    shown.extend(test_the_past(&mut desk, &material, &chosen, &design).await?.0);
    shown.extend(found.cautions.iter().map(caution_words));
    let is_baseline = chosen.design.limits == LimitChoice::Baseline;
    let sigma_source = found
        .limits
        .as_ref()
        .filter(|_| is_baseline)
        .map_or(SigmaSource::Given, |limits| limits.limits.sigma_source);
    let new = Freeze {
        sigma_source: if design.resolution_floor { SigmaSource::Resolution } else { sigma_source },
        name,
        reason,
        period: found.period.filter(|_| is_baseline),
        points: if is_baseline { found.used } else { 0 },
        excluded: found.excluded,
        mean_moving_range: found
            .limits
            .as_ref()
            .filter(|_| is_baseline)
            .map_or(0.0, |limits| limits.mean_moving_range),
        review_due: desk
            .today
            .saturating_add(months.months())
            .to_zoned_datetime(zone)
            .ok()
            .map(|zoned| zoned.timestamp()),
        shown,
        seen_segment: SegmentId(typed.get("seen_segment").parse().unwrap_or(0)),
        seen_baselines: typed.get("seen_baselines").parse().unwrap_or(-1),
        design,
    };
    let (person, now) = (signed.person.id, desk.now);
    match studies::freeze(&mut desk.connection, StreamId(id), &new, person, now).await? {
        Ok(()) => Ok(Redirect::to(&format!("/charts/{id}")).into_response()),
        Err(refusal) => {
            let faults = BTreeMap::from([("*".to_owned(), sentence(&refusal.to_string()))]);
            draw(&mut desk, &signed, &material, &typed, faults).await
        }
    }
}

/// For tests: the default choice raises what the rules of the house say.
#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::chart::Criteria;

    #[test]
    fn ready_made_choices() {
        let default = preset("default").unwrap();
        assert_eq!(default, ChartDesign::given(0.0, 1.0).raising);
        for word in ["sums", "zones", "nelson", "multirules"] {
            assert!(!preset(word).unwrap().is_empty(), "{word}");
        }
        assert_eq!(preset("anything"), None);
        // A warning never raises.
        let warned = Criteria::NONE.with(vaaka_core::chart::Criterion::WarningBeyond2);
        assert!(preset("multirules").unwrap().both(warned).is_empty());
    }
}
