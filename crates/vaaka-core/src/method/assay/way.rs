//! The steps of an assay: cell and blank first, then the standards of the curve by rising concentration, then the controls.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::curve::Bench;
use super::keys::{blank_key, cell_key, solution_key};
use super::{Blank, SettingsV1, WORDS, scene};
use crate::judgement::ToleranceLimits;
use crate::method::common::value_words;
use crate::method::{Input, MethodError, PlanPoint, PlanSpec, REVIEW, RunState, Step, StepKey};
use crate::quantity::{Unit, decimals_of, show_decimal, to_f64};
use crate::standard::combine;

/// Points with their places, the curve's before the controls, each by rising concentration.
fn in_order<'a>(plan: &'a PlanSpec, settings: &SettingsV1) -> Vec<(usize, &'a PlanPoint)> {
    let mut points: Vec<(usize, &PlanPoint)> = plan.points.iter().enumerate().collect();
    points.sort_by_key(|(_, point)| (settings.is_control(point), point.nominal));
    points
}

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let points = in_order(plan, settings);
    let solutions = |on: &dyn Fn(&PlanPoint) -> bool| -> Vec<StepKey> {
        let chosen = points.iter().filter(|(_, point)| on(point));
        chosen.map(|(index, point)| solution_key(*index, point)).chain([REVIEW.into()]).collect()
    };
    let all = solutions(&|_| true);
    let after_cell: Vec<StepKey> = std::iter::once(blank_key()).chain(all.clone()).collect();
    let measured: Vec<StepKey> = std::iter::once(cell_key()).chain(after_cell.clone()).collect();
    let around = &settings.around;
    let mut way = around
        .before(plan, WORDS, &measured, |place| solutions(&|point| point.standard == place))?;
    let within = around.within();
    let sentences = [
        "No scratch, no fingerprint, dry outside.".to_owned(),
        "Its marked side faces the lamp, as it will each time.".to_owned(),
        "Filled above the beam, no bubble on its walls.".to_owned(),
        "Down to its stop, the lid closed: no daylight.".to_owned(),
    ];
    way.push(Step {
        scene: Some(scene::in_the_beam("blank", "solvent and reagents, nothing else")),
        voids: after_cell,
        ..Step::confirm(
            "cell",
            "Cell",
            "Rinse the cell, fill it with blank and put it in",
            &sentences,
            None,
        )
    });
    let blank = reading(
        settings,
        Decimal::ZERO,
        "Is it the blank, and was the instrument zeroed as the plan says?".into(),
    );
    way.push(
        Step {
            detail: "Type the absorbance with its sign. Reading the blank again discards all readings after it.".into(),
            repeats: settings.readings_of_blank(),
            reference_value: Some(Decimal::ZERO),
            tolerance: settings.blank_limit.map(ToleranceLimits::symmetric),
            within: within.clone(),
            scene: Some(scene::in_the_beam("blank", "solvent and reagents, nothing else")),
            voids: all,
            ..Step::plain("blank", "Blank".into(), "Read the blank".into(), blank)
        }
        .guarded(None),
    );
    for (index, point) in points {
        way.push(solution_step(plan, settings, (index, point), within.clone())?);
    }
    way.extend(around.after());
    Ok(way)
}

fn reading(settings: &SettingsV1, expected: Decimal, guard_question: String) -> Input {
    Input::Reading {
        unit: Unit::Absorbance,
        resolution: settings.absorbance_step,
        expected,
        guard: Decimal::ZERO,
        guard_question,
        beside: None,
    }
}

/// An absorbance that the display can show.
fn shown(settings: &SettingsV1, value: Decimal) -> Decimal {
    (value / settings.absorbance_step).round() * settings.absorbance_step
}

fn solution_step(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (index, point): (usize, &PlanPoint),
    within: Option<StepKey>,
) -> Result<Step, MethodError> {
    let words = value_words(plan, point.nominal);
    let tag = plan.standard(point.standard).map_or("", |standard| standard.tag.as_str());
    let control = settings.is_control(point);
    let concentration = combine(&point.pieces, plan.unit)?.reference_value;
    let usual = settings.intercept.unwrap_or_default() + settings.slope * concentration;
    let usual = shown(settings, usual);
    let half = usual.abs() * settings.slope_band / Decimal::ONE_HUNDRED;
    let places = decimals_of(settings.absorbance_step);
    let again =
        if point.repeats > 1 { " Empty, rinse and refill the cell for each reading." } else { "" };
    let (title, instruction, part) = match control {
        true => (
            format!("Control {words}"),
            format!("Read the control {tag}, {words}"),
            "Its result comes from the calibration curve and is judged.",
        ),
        false => (
            format!("Standard {words}"),
            format!("Read the standard {tag}, {words}"),
            "It is a point of the calibration curve.",
        ),
    };
    Ok(Step {
        detail: format!(
            "Rinse the cell three times with the solution, fill it, wipe it, put it in as before; type the absorbance. {part} Usually about {}.{again}",
            show_decimal(usual, places),
        ),
        repeats: point.repeats,
        reference_value: Some(usual),
        // What is judged is the slope; before it is known, a reading as far off as three of its limits is asked about.
        likely: Some(half * Decimal::from(3)),
        standard: point.standard,
        within,
        scene: Some(scene::in_the_beam(&words, &format!("of {tag}"))),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &solution_key(index, point).0,
            title,
            instruction,
            reading(settings, usual, format!("Is it {words} of {tag}, the cell clean and its marked side to the lamp?")),
        )
    }
    .guarded(None))
}

/// Once the curve is known, a control is expected where it puts it, within its limit.
pub fn settle(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
    step: &Step,
) -> Result<Step, MethodError> {
    let own = plan.points.iter().enumerate().find(|(index, point)| {
        settings.is_control(point) && solution_key(*index, point) == step.key
    });
    let Some((_, point)) = own else { return Ok(step.clone()) };
    let bench = Bench::of(plan, settings, run)?;
    let Some(curve) = bench.curve else { return Ok(step.clone()) };
    let reference = combine(&point.pieces, plan.unit)?.reference_value;
    let blank = if settings.blank == Blank::Subtracted { bench.of_blank() } else { 0.0 };
    let expected = Decimal::from_f64(curve.absorbance(to_f64(reference)) + blank);
    let slope = Decimal::from_f64(curve.slope);
    let (Some(expected), Some(slope)) = (expected, slope) else { return Ok(step.clone()) };
    let places = decimals_of(settings.absorbance_step) + 1;
    let limits = settings.control_limit.limits(reference, plan);
    let side = |side: Option<Decimal>| side.map(|side| (side * slope).round_dp(places));
    Ok(Step {
        reference_value: Some(expected.round_dp(places)),
        tolerance: limits
            .map(|limits| ToleranceLimits { lower: side(limits.lower), upper: side(limits.upper) }),
        ..step.clone()
    })
}
