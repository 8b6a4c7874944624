//! The steps of a moisture check.

use rust_decimal::Decimal;

use super::keys::{empty_key, fill_key, key_of};
use super::{SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{Beside, Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey};
use crate::standard::combine;

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let fills = |on: &dyn Fn(&PlanPoint) -> bool| -> Vec<StepKey> {
        let points = plan.points.iter().enumerate().filter(|(_, point)| on(point));
        points.map(|(index, point)| fill_key(index, point)).chain([REVIEW.into()]).collect()
    };
    let mut all = fills(&|_| true);
    let around = &settings.around;
    let measured: Vec<StepKey> = std::iter::once(empty_key()).chain(all.clone()).collect();
    let mut way =
        around.before(plan, WORDS, &measured, |place| fills(&|point| point.standard == place))?;
    let within = around.within();
    way.push(
        Step {
            detail: "Nothing in it, nothing near it, nobody touching it. What is left in the chamber is measured with every filling.".into(),
            reference_value: Some(Decimal::ZERO),
            tolerance: settings.empty_limit.as_ref().and_then(|limit| limit.limits(Decimal::ZERO, plan)),
            within: within.clone(),
            scene: Some(scene::empty()),
            // A chamber that is brushed out again makes every filling new.
            voids: std::mem::take(&mut all),
            ..Step::plain(
                &empty_key().0,
                "Empty".into(),
                "Read the empty chamber".into(),
                reading(plan, Decimal::ZERO, "Is the chamber empty and brushed out?".into(), None),
            )
        }
        .guarded(None),
    );
    for (index, point) in plan.points.iter().enumerate() {
        way.push(fill_step(plan, settings, (index, point), within.clone())?);
    }
    way.extend(around.after());
    Ok(way)
}

fn reading(
    plan: &PlanSpec,
    expected: Decimal,
    guard_question: String,
    beside: Option<Beside>,
) -> Input {
    Input::Reading {
        unit: plan.unit,
        resolution: plan.resolution,
        expected,
        guard: Decimal::ZERO,
        guard_question,
        beside,
    }
}

fn fill_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let tag = plan.standard(point.standard).map_or("", |standard| standard.tag.as_str());
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let weighs = settings.container_volume.is_some();
    let beside = weighs.then(|| Beside::Number {
        name: "Mass of the filling".into(),
        unit: "g".into(),
        lower: Some(Decimal::new(1, 3)),
        upper: None,
    });
    let again =
        if point.repeats > 1 { " Between fillings brush it out, and fill it anew." } else { "" };
    let weigh = if weighs { " Weigh what was in it." } else { "" };
    let question =
        format!("Is it {tag} ({words}), filled level and not pressed, on its own curve?");
    Ok(Step {
        detail: format!("Fill it loosely to the rim, level it without pressing, top up gaps; type what it shows.{weigh}{again}"),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: settings.mean_limit.limits(reference, plan),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| key_of("error", point)),
        pause_seconds: settings.pause_seconds,
        within,
        scene: Some(scene::filled(tag, &words)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &fill_key(index, point).0,
            format!("Material {words}"),
            format!("Fill in {tag}, {words}"),
            reading(plan, reference, question, beside),
        )
    }
    .guarded(None))
}
