//! The steps of a hardness check.

use rust_decimal::Decimal;

use super::keys::{block_key, key_of};
use super::{Procedure, SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{
    Beside, Input, MethodError, PlanPoint, PlanSpec, REVIEW, Step, StepKey, Travel,
};
use crate::standard::combine;

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let keys = |on: &dyn Fn(&PlanPoint) -> bool| -> Vec<StepKey> {
        let points = plan.points.iter().enumerate().filter(|(_, point)| on(point));
        points.map(|(index, point)| block_key(index, point)).chain([REVIEW.into()]).collect()
    };
    let around = &settings.around;
    let mut way = around
        .before(plan, WORDS, &keys(&|_| true), |place| keys(&|point| point.standard == place))?;
    let within = around.within();
    for (index, point) in plan.points.iter().enumerate() {
        way.push(block_step(plan, settings, (index, point), within.clone())?);
    }
    way.extend(around.after());
    Ok(way)
}

fn block_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let tag = plan.standard(point.standard).map_or("", |standard| standard.tag.as_str());
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let how = match settings.procedure {
        Procedure::Rockwell => {
            "Bring the face up to the indenter until the preliminary force stands, let the tester make its whole cycle, then type what it shows."
        }
        Procedure::Vickers => {
            "Make the indentation, measure both diagonals, then type the hardness that the tester shows."
        }
        Procedure::Brinell => {
            "Make the indentation, measure two diameters at right angles, then type the hardness that the tester shows."
        }
        Procedure::ContactImpedance => {
            "Set the probe upright on the place and press in one unbroken motion to the stop, then type what the tester shows."
        }
        Procedure::Rebound => {
            "Set the device firmly on the place, in the direction that the settings say, release it, then type what it shows."
        }
    };
    let order = match (index, point.travel) {
        (0, _) => "",
        (_, Travel::Falling) => " Hard to soft: do not go back.",
        _ => " Soft to hard: do not go back.",
    };
    let input = Input::Reading {
        unit: plan.unit,
        resolution: plan.resolution,
        expected: reference,
        guard: Decimal::ZERO,
        guard_question: format!(
            "Is it the block {tag} ({words}), on its heavy base, and read in the right scale?"
        ),
        beside: (!settings.sensor.is_empty()).then(|| Beside::Number {
            name: settings.sensor.clone(),
            unit: String::new(),
            lower: Some(Decimal::ZERO),
            upper: None,
        }),
    };
    Ok(Step {
        detail: format!("{how} The next reading goes to the next place.{order}"),
        repeats: point.repeats,
        reference_value: Some(reference),
        tolerance: settings.mean_limit.limits(reference, plan),
        standard: point.standard,
        point: Some(index),
        charted_as: point.charted.then(|| key_of("error", point)),
        within,
        scene: Some(scene::on_block(plan, settings, index, None)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &block_key(index, point).0,
            format!("Block {words}"),
            format!("Read block {tag}, {words}"),
            input,
        )
    }
    .guarded(None))
}
