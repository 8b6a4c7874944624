//! The steps of a gauge check.

use rust_decimal::Decimal;

use super::keys::{key_of, mean_limits, point_key};
use super::{Presentation, SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey, Travel};
use crate::standard::combine;

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
    let around = &settings.around;
    let mut way = around.before(plan, WORDS, &points, |place| {
        let on_it = plan.points.iter().enumerate().filter(|(_, point)| point.standard == place);
        on_it.map(|(index, point)| point_key(index, point)).chain([REVIEW.into()]).collect()
    })?;
    let within = around.within();
    for (index, point) in plan.points.iter().enumerate() {
        way.push(point_step(plan, settings, (index, point), within.clone())?);
    }
    way.extend(around.after());
    Ok(way)
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
        beside: None,
    };
    Ok(Step {
        detail: format!("{how}{again}"),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: mean_limits(plan, settings, reference),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| key_of("error", point)),
        pause_seconds: settings.pause_seconds,
        within,
        scene: Some(scene::at_point(plan, settings, index)),
        voids: vec![StepKey::from(REVIEW)],
        together: settings.points_together && plan.points.len() > 1,
        ..Step::plain(&point_key(index, point).0, title, instruction, input)
    }
    .guarded(None))
}
