//! The steps of a weighing check.

use rust_decimal::Decimal;

use super::keys::{RETURN, ZERO, key_of, limit_at, load_key, place_words};
use super::{SettingsV1, WORDS, scene};
use crate::judgement::ToleranceLimits;
use crate::method::common::value_words;
use crate::method::{
    Beside, Input, MethodError, Place, PlanPoint, PlanSpec, REVIEW, Step, StepKey, Travel,
};
use crate::standard::combine;

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let loads: Vec<StepKey> =
        plan.points.iter().enumerate().map(|(index, point)| load_key(index, point)).collect();
    let measured: Vec<StepKey> = std::iter::once(StepKey::from(ZERO))
        .chain(loads.iter().cloned())
        .chain([StepKey::from(RETURN), StepKey::from(REVIEW)])
        .collect();
    let mut way = settings.around.before(plan, WORDS, &measured, |_| measured.clone())?;
    way.push(zero_step(plan, settings, ZERO, "Zero", measured[1..].to_vec()));
    for (index, point) in plan.points.iter().enumerate() {
        way.push(load_step(plan, settings, index, point)?);
    }
    way.push(zero_step(plan, settings, RETURN, "Back to zero", vec![REVIEW.into()]));
    // A wait that may not last too long binds whatever is read on the scale.
    for step in way.iter_mut().filter(|step| step.input.measures()) {
        step.within = settings.around.within();
    }
    way.extend(settings.around.after());
    Ok(way)
}

fn zero_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    key: &str,
    title: &str,
    voids: Vec<StepKey>,
) -> Step {
    let first = key == ZERO;
    Step {
        key: key.into(),
        title: title.into(),
        instruction: if first {
            "Read the empty pan".into()
        } else {
            "Empty the pan and read it again".into()
        },
        detail: if first {
            "Set the scale to zero once, with nothing on it. Then type what it shows.".into()
        } else {
            "Do not press zero. Type what the scale shows when it is steady.".into()
        },
        input: Input::Reading {
            unit: plan.unit,
            resolution: plan.resolution,
            expected: Decimal::ZERO,
            guard: Decimal::ZERO,
            guard_question: "Is the pan empty and free on all sides?".into(),
            beside: None,
        },
        repeats: 1,
        reference_value: Some(Decimal::ZERO),
        tolerance: Some(ToleranceLimits::symmetric(limit_at(plan, settings, Decimal::ZERO))),
        likely: None,
        together: false,
        capture_saves: false,
        standard: 0,
        point: None,
        zero_error: Decimal::ZERO,
        charted_as: None,
        pause_seconds: 0,
        within: None,
        scene: Some(scene::empty(settings.pan)),
        voids,
    }
    .guarded(None)
}

fn load_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    index: usize,
    point: &PlanPoint,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let reference = combine(&point.pieces, plan.unit)?;
    let title = match point.travel {
        Travel::Rising => words.clone(),
        Travel::Falling => format!("{words}, falling"),
        Travel::Corner => format!("{words}, {}", corner_words(point.place)),
    };
    let count = point.pieces.len();
    let pieces = match count {
        0 | 1 => "One piece.".to_owned(),
        2 => "Two pieces, one at a time.".to_owned(),
        n => format!("{n} pieces, one at a time."),
    };
    let how = if settings.added_weights {
        "When it is steady, type what the scale shows; then add small weights until it just turns to the next step, and type their sum."
    } else {
        "Wait for the steady sign, then type what the scale shows."
    };
    let lift = match (point.travel, point.repeats) {
        (Travel::Falling, _) if plan.comes_down(index) => {
            " Take pieces off the higher load; do not empty the pan first."
        }
        (Travel::Falling, _) => {
            " The higher load has to come off first: lift it away and set this one down at once, so that the pan is empty for a moment only."
        }
        (_, 2..) => " Take the weight off and put it on again between readings.",
        _ => "",
    };
    Ok(Step {
        key: load_key(index, point),
        instruction: match point.travel {
            Travel::Falling => format!("Come down to {words} {}", place_words(point.place)),
            Travel::Rising | Travel::Corner => format!("Put {words} {}", place_words(point.place)),
        },
        detail: format!("{pieces} {how}{lift}"),
        input: Input::Reading {
            unit: plan.unit,
            resolution: plan.resolution,
            expected: point.nominal,
            guard: Decimal::ZERO,
            guard_question: format!("Is the {words} on the pan, and nothing else?"),
            beside: settings.added_weights.then_some(Beside::Weights),
        },
        repeats: point.repeats,
        reference_value: Some(reference.reference_value),
        tolerance: Some(ToleranceLimits::symmetric(limit_at(plan, settings, point.nominal))),
        likely: None,
        together: false,
        capture_saves: false,
        standard: point.standard,
        point: Some(index),
        zero_error: Decimal::ZERO,
        charted_as: point.charted.then(|| key_of("error", point)),
        pause_seconds: 0,
        within: None,
        scene: Some(scene::load(plan, settings, point, &words)),
        voids: vec![REVIEW.into()],
        title,
    }
    .guarded(None))
}

fn corner_words(place: Place) -> &'static str {
    match place {
        Place::Middle => "middle",
        Place::BackLeft => "back left",
        Place::BackRight => "back right",
        Place::FrontLeft => "front left",
        Place::FrontRight => "front right",
    }
}
