//! The steps of a coating thickness check.

use rust_decimal::Decimal;

use super::keys::{base_key, foil_key, key_of};
use super::{SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey};
use crate::standard::combine;

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let foils = |on: &dyn Fn(&PlanPoint) -> bool| -> Vec<StepKey> {
        let points = plan.points.iter().enumerate().filter(|(_, point)| on(point));
        points.map(|(index, point)| foil_key(index, point)).collect()
    };
    // What is read again after the foils rests on all before it.
    let last = || settings.again.then(|| base_key(true)).into_iter().chain([REVIEW.into()]);
    let after_base: Vec<StepKey> = foils(&|_| true).into_iter().chain(last()).collect();
    let base_tag = StepKey::from(BASE_TAG);
    let around = &settings.around;
    let measured: Vec<StepKey> =
        [base_tag, base_key(false)].into_iter().chain(after_base.clone()).collect();
    let mut way = around.before(plan, WORDS, &measured, |place| {
        foils(&|point| point.standard == place).into_iter().chain(last()).collect()
    })?;
    let within = around.within();
    way.push(Step {
        detail: "Of the material, shape and roughness of the work: a foil on another base reads otherwise.".into(),
        voids: measured[1..].to_vec(),
        ..Step::plain(
            BASE_TAG,
            format!("Base {}", settings.base),
            "Take the base and read its tag".into(),
            Input::Setting {
                name: "the base".into(),
                expected: settings.base.clone(),
                also: vec![],
                by_lead: false,
            },
        )
    });
    way.push(base_step(plan, settings, false, (within.clone(), after_base)));
    for (index, point) in plan.points.iter().enumerate() {
        way.push(foil_step(plan, settings, (index, point), within.clone())?);
    }
    if settings.again {
        way.push(base_step(plan, settings, true, (within, vec![StepKey::from(REVIEW)])));
    }
    way.extend(around.after());
    Ok(way)
}

/// Key of the step that takes the base.
const BASE_TAG: &str = "base-tag";

fn base_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    after: bool,
    (within, voids): (Option<StepKey>, Vec<StepKey>),
) -> Step {
    let (title, instruction) = match after {
        false => ("Bare base", "Read the bare base"),
        true => ("Bare base again", "Read the bare base once more"),
    };
    Step {
        detail: "Nothing on it. Set the probe down upright at different places, away from edges; whatever it shows is typed. The gauge is not set to zero here.".into(),
        repeats: settings.base_count(),
        reference_value: Some(Decimal::ZERO),
        tolerance: settings.base_limit.as_ref().and_then(|limit| limit.limits(Decimal::ZERO, plan)),
        within,
        scene: Some(scene::bare(&settings.base)),
        voids,
        ..Step::plain(
            &base_key(after).0,
            title.into(),
            instruction.into(),
            reading(plan, Decimal::ZERO, "Is the base bare and clean, and the probe on it?".into()),
        )
    }
    .guarded(None)
}

fn reading(plan: &PlanSpec, expected: Decimal, guard_question: String) -> Input {
    Input::Reading {
        unit: plan.unit,
        resolution: plan.resolution,
        expected,
        guard: Decimal::ZERO,
        guard_question,
        beside: None,
    }
}

fn foil_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let question =
        format!("Is it the {words} foil, flat on {}, with nothing between?", settings.base);
    Ok(Step {
        detail: "Lay it flat, press it down, set the probe down upright; lift it between readings and take another place on the foil.".into(),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: settings.mean_limit.limits(reference, plan),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| key_of("error", point)),
        within,
        scene: Some(scene::with_foil(&settings.base, &words)),
        voids: settings.again.then(|| base_key(true)).into_iter().chain([REVIEW.into()]).collect(),
        ..Step::plain(
            &foil_key(index, point).0,
            format!("Foil {words}"),
            format!("Measure the {words} foil"),
            reading(plan, reference, question),
        )
    }
    .guarded(None))
}
