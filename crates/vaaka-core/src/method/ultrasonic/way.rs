//! The steps of an ultrasonic thickness check.

use rust_decimal::Decimal;

use super::keys::{key_of, point_key, velocity_key};
use super::{SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey};
use crate::quantity::{Unit, show_decimal};
use crate::standard::combine;

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let on = |which: &dyn Fn(&PlanPoint) -> bool| -> Vec<StepKey> {
        let points = plan.points.iter().enumerate().filter(|(_, point)| which(point));
        points.map(|(index, point)| point_key(index, point)).chain([REVIEW.into()]).collect()
    };
    let all = on(&|_| true);
    let around = &settings.around;
    let reads = settings.velocity.map(|_| velocity_key());
    let measured: Vec<StepKey> = reads.into_iter().chain(all.clone()).collect();
    let mut way =
        around.before(plan, WORDS, &measured, |place| on(&|point| point.standard == place))?;
    let within = around.within();
    way.extend(settings.velocity.map(|velocity| velocity_step(settings, velocity, all)));
    for (index, point) in plan.points.iter().enumerate() {
        way.push(point_step(plan, settings, (index, point), within.clone())?);
    }
    way.extend(around.after());
    Ok(way)
}

/// What the gauge is set to; another velocity makes other thicknesses of the same echoes, so that all are read anew.
fn velocity_step(settings: &SettingsV1, velocity: Decimal, voids: Vec<StepKey>) -> Step {
    let shown = velocity.normalize();
    let words = format!("{} m/s", show_decimal(shown, shown.scale()));
    let band = match settings.velocity_band {
        Some(band) => {
            format!("{words} ± {} %", show_decimal(band.normalize(), band.normalize().scale()))
        }
        None => words,
    };
    Step {
        detail: format!(
            "As it stands, before anything is changed: in the block's material it is {band} at 20 °C. Whatever it shows is written down."
        ),
        reference_value: Some(velocity),
        tolerance: settings.velocity_limits().map(|(lower, upper)| {
            crate::judgement::ToleranceLimits { lower: Some(lower - velocity), upper: Some(upper - velocity) }
        }),
        voids,
        ..Step::plain(
            &velocity_key().0,
            "Velocity".into(),
            "Read the velocity which the gauge is set to".into(),
            Input::Reading {
                unit: Unit::MetrePerSecond,
                resolution: Decimal::ONE,
                expected: velocity,
                guard: Decimal::ZERO,
                guard_question: "Is it the velocity, in metres a second, of this material?".into(),
                beside: None,
            },
        )
    }
    .guarded(None)
}

fn point_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let proves = settings.proves(point.nominal);
    let again = match point.repeats {
        0 | 1 => "",
        _ => " Lift the probe and set it down again between readings.",
    };
    let proof = if proves { " This step was not used to set the gauge." } else { "" };
    Ok(Step {
        detail: format!(
            "A drop of couplant, the probe down flat, pressed evenly until the number stands; type what it shows.{again}{proof}"
        ),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: settings.mean_limit.limits(reference, plan),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| key_of("error", point)),
        within,
        scene: Some(scene::on_step(plan, index, &words, proves)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &point_key(index, point).0,
            format!("Step {words}"),
            format!("Measure the {words} step"),
            Input::Reading {
                unit: plan.unit,
                resolution: plan.resolution,
                expected: reference,
                guard: Decimal::ZERO,
                guard_question: format!(
                    "Is it the {words} step, with couplant under the whole face, and the first echo?"
                ),
                beside: None,
            },
        )
    }
    .guarded(None))
}
