//! The steps of a gauge check.

use rust_decimal::Decimal;

use super::{Presentation, SettingKind, SettingsV1, evaluate, scene};
use crate::judgement::ToleranceLimits;
use crate::method::common::{fixture_step, standard_steps};
use crate::method::{
    Bound, Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey, Travel, condition_words,
    duration_words,
};
use crate::quantity::show_decimal;
use crate::standard::combine;

/// Key of the step of one point; the ordinal keeps two visits of one value apart.
pub fn point_key(index: usize, point: &PlanPoint) -> StepKey {
    StepKey(format!("point-{}-{}-{}", index + 1, point.nominal.normalize(), point.travel.word()))
}

/// "400 kPa": a value as spoken.
pub fn value_words(plan: &PlanSpec, nominal: Decimal) -> String {
    let nominal = nominal.normalize();
    format!("{} {}", show_decimal(nominal, nominal.scale()), plan.unit)
}

/// Whether the plan goes down again.
fn both_ways(plan: &PlanSpec) -> bool {
    plan.points.iter().any(|point| point.travel == Travel::Falling)
}

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let points: Vec<StepKey> = plan
        .points
        .iter()
        .enumerate()
        .map(|(index, point)| point_key(index, point))
        .chain([StepKey::from(REVIEW)])
        .collect();
    let mut way = Vec::new();
    if !settings.cautions.is_empty() {
        way.push(Step::confirm(
            "cautions",
            "Cautions",
            "Before you begin",
            &settings.cautions,
            true,
        ));
    }
    way.extend(standard_steps(plan, "standard", "Scan or type the tag that is on it.", |place| {
        let on_it = plan.points.iter().enumerate().filter(|(_, point)| point.standard == place);
        on_it.map(|(index, point)| point_key(index, point)).chain([REVIEW.into()]).collect()
    }));
    if !plan.fixture.is_empty() {
        way.push(fixture_step(plan, &points));
    }
    for (index, setting) in settings.settings.iter().enumerate() {
        way.push(Step {
            detail: match setting.kind {
                Some(SettingKind::OneOf) => {
                    "Read it on the instrument itself, then choose it.".into()
                }
                _ => "Read it on the instrument itself, then type what it shows.".into(),
            },
            voids: points.clone(),
            ..Step::plain(
                &format!("setting-{}", index + 1),
                capital(&setting.name),
                match setting.kind {
                    None | Some(SettingKind::Exactly | SettingKind::OneOf) => {
                        format!("What is {} set to?", setting.name)
                    }
                    Some(SettingKind::Text | SettingKind::Count) => {
                        format!("What is {}?", setting.name)
                    }
                },
                setting.input(),
            )
        });
    }
    for (index, condition) in settings.conditions.iter().enumerate() {
        let value = |bound: &Option<Bound>| bound.as_ref().and_then(|bound| bound.value(plan));
        let (lower, upper) = (value(&condition.lower), value(&condition.upper));
        let of_standard = evaluate::temperature_condition(settings) == Some(index);
        let known = if of_standard { certified_span(plan) } else { None };
        let (lower, upper) = within_span((lower, upper), known, &condition.name)?;
        let wanted = condition_words(lower, upper, &condition.unit);
        let computed: Vec<String> = condition
            .lower
            .iter()
            .chain(&condition.upper)
            .filter_map(|bound| Some(format!(" Computed as {}.", bound.words()?)))
            .chain(known.map(|(from, to)| {
                let known = condition_words(Some(from), Some(to), &condition.unit);
                format!(" Certified values are known at {known}.")
            }))
            .collect();
        way.push(Step {
            detail: format!("{wanted} is needed.{}", computed.concat()),
            voids: points.clone(),
            ..Step::plain(
                &condition_key(index).0,
                condition.name.clone(),
                format!("{}: read and type it", condition.name),
                Input::Condition {
                    name: condition.name.clone(),
                    unit: condition.unit.clone(),
                    lower,
                    upper,
                    advice: condition.advice.clone(),
                },
            )
        });
    }
    if !settings.preparation.is_empty() {
        way.push(Step {
            voids: points.clone(),
            ..Step::confirm(
                "prepared",
                "Make ready",
                "Make the gauge ready",
                &settings.preparation,
                false,
            )
        });
    }
    for index in 0..settings.waits.len() {
        way.extend(wait_steps(settings, index, &points));
    }
    // The wait with a longest time binds the readings: material must not lie open meanwhile.
    let within =
        settings.waits.iter().rposition(|wait| wait.maximum_seconds.is_some()).map(wait_key);
    for (index, point) in plan.points.iter().enumerate() {
        way.push(point_step(plan, settings, (index, point), within.clone())?);
    }
    way.push(Step::review());
    if !settings.closing.is_empty() {
        way.push(Step::confirm(
            "closing",
            "Put away",
            "Put everything back",
            &settings.closing,
            false,
        ));
    }
    Ok(way)
}

/// The temperatures at which the values of all pieces are certified that follow a temperature; beyond them nothing is
/// known of what is measured against.
fn certified_span(plan: &PlanSpec) -> Option<(Decimal, Decimal)> {
    let pieces = plan.points.iter().flat_map(|point| &point.pieces);
    pieces
        .filter_map(|piece| piece.certified_temperatures())
        .reduce(|(from, to), (first, last)| (from.max(first), to.min(last)))
}

/// Limits of a condition, no wider than what is certified: a temperature beyond would be kept, and nothing could be
/// computed after it.
fn within_span(
    (lower, upper): (Option<Decimal>, Option<Decimal>),
    known: Option<(Decimal, Decimal)>,
    name: &str,
) -> Result<(Option<Decimal>, Option<Decimal>), MethodError> {
    let Some((from, to)) = known else { return Ok((lower, upper)) };
    let least = lower.map_or(from, |lower| lower.max(from));
    let most = upper.map_or(to, |upper| upper.min(to));
    if least > most {
        return Err(MethodError::Settings {
            why: format!(
                "{name}: the plan asks for {}, and certified values are known at {}",
                condition_words(lower, upper, "").trim(),
                condition_words(Some(from), Some(to), "").trim()
            ),
        });
    }
    Ok((Some(least), Some(most)))
}

fn capital(text: &str) -> String {
    let text = text.strip_prefix("the ").unwrap_or(text);
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// Key of the step of a condition.
pub fn condition_key(index: usize) -> StepKey {
    StepKey(format!("condition-{}", index + 1))
}

fn wait_key(index: usize) -> StepKey {
    StepKey(format!("wait-{}", index + 1))
}

fn wait_steps(settings: &SettingsV1, index: usize, points: &[StepKey]) -> [Step; 2] {
    let wait = &settings.waits[index];
    let start = wait_key(index);
    let over = StepKey(format!("{start}-over"));
    let seconds = |n: u32| duration_words(jiff::SignedDuration::from_secs(i64::from(n)));
    let most = wait
        .maximum_seconds
        .map(|most| format!(", and be done with the readings within {}", seconds(most)))
        .unwrap_or_default();
    let mut voids = vec![over.clone()];
    voids.extend(points.iter().cloned());
    [
        Step {
            detail: format!(
                "At least {}{most}. The time runs on the server: go on with other checks meanwhile.",
                seconds(wait.minimum_seconds)
            ),
            voids,
            ..Step::plain(
                &start.0,
                "Start the wait".into(),
                wait.what.clone(),
                Input::WaitStart {
                    what: wait.what.clone(),
                    minimum_seconds: wait.minimum_seconds,
                    maximum_seconds: wait.maximum_seconds,
                },
            )
        },
        Step {
            detail: "Go on when the time is up; until then the other checks of the round can be started.".into(),
            ..Step::plain(
                &over.0,
                format!("Wait {}", seconds(wait.minimum_seconds)),
                format!("Waiting: {}", wait.what.to_lowercase()),
                Input::WaitOver { start, what: wait.what.clone() },
            )
        },
    ]
}

/// Limits of the mean at a point, in the unit of the display.
pub fn mean_limits(
    plan: &PlanSpec,
    settings: &SettingsV1,
    reference: Decimal,
) -> Option<ToleranceLimits> {
    settings.mean_limit.limits(reference, plan)
}

fn point_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let title = match point.travel {
        Travel::Falling => format!("{words}, falling"),
        Travel::Rising if both_ways(plan) => format!("{words}, rising"),
        Travel::Rising | Travel::Corner => words.clone(),
    };
    let instruction = match (settings.presentation, point.travel) {
        (Presentation::Applied, Travel::Falling) => format!("Come down to {words}"),
        (Presentation::Applied, _) => format!("Go to {words}"),
        (Presentation::Inserted, _) => format!("Measure the {words} piece"),
    };
    let how = match (settings.presentation, point.travel) {
        (Presentation::Applied, Travel::Falling) => {
            "From above, without passing it. Let the display settle, then type what the gauge shows."
        }
        (Presentation::Applied, _) => {
            "From below, without passing it. Let the display settle, then type what the gauge shows."
        }
        (Presentation::Inserted, _) => "Close the faces as in use, then type what the gauge shows.",
    };
    let again = match (point.repeats, settings.presentation) {
        (0 | 1, _) => "",
        (_, Presentation::Applied) => " Leave the point and come back to it between readings.",
        (_, Presentation::Inserted) => " Take the piece out and put it in again between readings.",
    };
    let input = Input::Reading {
        unit: plan.unit,
        resolution: plan.resolution,
        expected: point.nominal,
        guard: Decimal::ZERO,
        guard_question: match settings.presentation {
            Presentation::Applied => format!("Is the reference at {words}?"),
            Presentation::Inserted => format!("Is it the {words} piece, seated well?"),
        },
        with_added: false,
    };
    Ok(Step {
        detail: format!("{how}{again}"),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: mean_limits(plan, settings, reference),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| evaluate::key_of("error", point)),
        pause_seconds: settings.pause_seconds,
        within,
        scene: Some(scene::at_point(plan, settings, index)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(&point_key(index, point).0, title, instruction, input)
    }
    .guarded(None))
}
