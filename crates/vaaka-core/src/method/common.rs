//! What every family has: steps for standards and fixture, the parts of uncertainty of a mean.

use rust_decimal::Decimal;

use super::{Input, Limit, MethodError, PlanPoint, PlanSpec, Step, StepKey};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::quantity::{Unit, decimals_of, show_decimal, to_f64};
use crate::standard::{CombinedReference, combine};
use crate::stats::sample_std_dev;

/// One step for each standard of the plan: its tag is scanned or typed. `noun` is what the family
/// calls it, `measured` the steps at each place that rest on it.
pub fn standard_steps(
    plan: &PlanSpec,
    noun: &str,
    detail: &str,
    measured: impl Fn(usize) -> Vec<StepKey>,
) -> Vec<Step> {
    let steps = plan.standards.iter().enumerate().map(|(place, standard)| {
        let key =
            if place == 0 { "standard".to_owned() } else { format!("standard-{}", place + 1) };
        let capital = noun.chars().next().map_or_else(String::new, |first| {
            first.to_uppercase().chain(noun.chars().skip(1)).collect()
        });
        let (title, instruction) = match &standard.any_of_kind {
            None => (
                format!("{capital} {}", standard.tag),
                format!("Take {noun} {} and type its tag", standard.tag),
            ),
            Some(kind) => {
                let kind = crate::standard::kind_words(kind);
                (format!("Any {kind}"), format!("Take any {kind} that is fit, and type its tag"))
            }
        };
        Step {
            detail: match standard.any_of_kind {
                None => format!("{}. {detail}", standard.name),
                Some(_) => format!(
                    "{} is at hand; another with the same values will do. {detail}",
                    standard.tag
                ),
            },
            voids: measured(place),
            standard: place,
            ..Step::plain(
                &key,
                title,
                instruction,
                Input::Tag {
                    expected: standard.tag.clone(),
                    any_of_kind: standard.any_of_kind.clone(),
                    place,
                },
            )
        }
    });
    steps.collect()
}

/// Two points whose results bear one key, in words: what is judged, kept and charted is found by its key, and a check
/// with two of one could not be concluded. `key` is the method's own.
pub fn measured_twice(plan: &PlanSpec, key: impl Fn(&PlanPoint) -> String) -> Option<String> {
    let keys: Vec<String> = plan.points.iter().map(key).collect();
    let second = (1..keys.len()).find(|second| keys[..*second].contains(&keys[*second]))?;
    let first = keys.iter().position(|key| *key == keys[second])?;
    let nominal = plan.points[second].nominal.normalize();
    Some(format!(
        "points {} and {} measure the same thing ({} {}, same way, same place): give one of them more repeats, or another value",
        first + 1,
        second + 1,
        show_decimal(nominal, nominal.scale()),
        plan.unit
    ))
}

/// The container or fixture is taken and looked at.
pub fn fixture_step(plan: &PlanSpec, measured: &[StepKey]) -> Step {
    let sentences = [format!("{}: clean, whole and the right one.", plan.fixture)];
    Step {
        voids: measured.to_vec(),
        ..Step::confirm("fixture", "Container or fixture", "Take what holds it", &sentences, None)
    }
}

/// Parts of uncertainty that every mean of readings has: rounding of the display, and the scatter
/// s/√n with n − 1 degrees of freedom where there is more than one.
pub fn of_reading(singles: &[f64], rounding: f64) -> Vec<Contribution> {
    let mut parts = vec![Contribution::known(ContributionSource::Resolution, rounding)];
    if let Ok(s) = sample_std_dev(singles) {
        let n = singles.len() as f64;
        let source = ContributionSource::Repeatability;
        parts.push(Contribution::estimated(source, s / n.sqrt(), n - 1.0));
    }
    parts
}

/// Contributions in another unit.
pub fn rescaled(mut parts: Vec<Contribution>, scale: f64) -> Vec<Contribution> {
    for part in &mut parts {
        part.standard_uncertainty *= scale;
    }
    parts
}

/// One rounding of the display, d/√12.
pub fn rounding_of(plan: &PlanSpec) -> f64 {
    to_f64(plan.resolution) / 12.0_f64.sqrt()
}

/// One rounding of the display in the unit of errors.
pub fn rounding_of_errors(plan: &PlanSpec) -> f64 {
    to_f64(plan.unit.convert(plan.resolution, error_unit(plan))) / 12.0_f64.sqrt()
}

/// The unit in which errors of this plan are stated, and how many of it one of the display is.
pub fn error_unit(plan: &PlanSpec) -> Unit {
    plan.unit.error_unit(plan.resolution)
}

/// See [`error_unit`].
pub fn error_scale(plan: &PlanSpec) -> f64 {
    to_f64(plan.unit.convert(Decimal::ONE, error_unit(plan)))
}

/// Error of the mean of what was shown of one standard: E = X̄ − R with the parts of its uncertainty that the method knows, in the unit
/// of errors. `limits` are that of the mean, and that of every single reading where it differs.
///
/// # Errors
/// [`MethodError::Standard`] when the standard cannot serve.
pub fn mean_error(
    plan: &PlanSpec,
    point: &PlanPoint,
    names: (String, String),
    shown: &[Decimal],
    limits: (&Limit, Option<&Limit>),
) -> Result<Characteristic, MethodError> {
    let reference = combine(&point.pieces, plan.unit)?;
    Ok(error_against(plan, (point, reference), names, shown, limits))
}

/// As [`mean_error`], against a reference that is known.
pub fn error_against(
    plan: &PlanSpec,
    (point, reference): (&PlanPoint, CombinedReference),
    names: (String, String),
    shown: &[Decimal],
    (mean_limit, single_limit): (&Limit, Option<&Limit>),
) -> Characteristic {
    let unit = error_unit(plan);
    let value = reference.reference_value;
    let errors: Vec<Decimal> =
        shown.iter().map(|indication| plan.unit.convert(indication - value, unit)).collect();
    let singles: Vec<f64> = errors.iter().map(|error| to_f64(*error)).collect();
    let rounding = rounding_of_errors(plan);
    let mut contributions = rescaled(reference.contributions, error_scale(plan));
    contributions.extend(of_reading(&singles, rounding));
    let limit = |limit: &Limit| limit.limits_in(unit, value, plan);
    Characteristic {
        nominal: Some(point.nominal),
        reference_value: Some(plan.unit.convert(value, unit)),
        limits: limit(mean_limit),
        single_limits: single_limit.and_then(limit),
        contributions,
        charted: point.charted,
        rests_on: vec![point.standard],
        scatter_weight: 1.0 / (errors.len().max(1) as f64).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::Error,
            names,
            (unit, decimals_of(plan.unit.convert(plan.resolution, unit))),
            errors,
            rounding,
        )
    }
}

/// Range of what was shown of one standard, from two readings on, in the unit of errors.
pub fn range_of(
    plan: &PlanSpec,
    point: &PlanPoint,
    names: (String, String),
    shown: &[Decimal],
    limit: Option<&Limit>,
) -> Option<Characteristic> {
    let (least, most) = (shown.iter().min()?, shown.iter().max()?);
    let unit = error_unit(plan);
    let upper = limit.and_then(|limit| limit.limits_in(unit, point.nominal, plan)?.upper);
    (shown.len() > 1).then(|| Characteristic {
        nominal: Some(point.nominal),
        limits: upper.map(|upper| ToleranceLimits { lower: None, upper: Some(upper) }),
        ..Characteristic::bare(
            CharacteristicKind::Repeatability,
            names,
            (unit, decimals_of(plan.unit.convert(plan.resolution, unit))),
            vec![plan.unit.convert(most - least, unit)],
            rounding_of_errors(plan),
        )
    })
}

/// "400 kPa", "62 HRC": a value in the unit of the plan's display, as spoken.
pub fn value_words(plan: &PlanSpec, value: Decimal) -> String {
    let value = value.normalize();
    format!("{} {}", show_decimal(value, value.scale()), plan.unit)
}

/// Certified value of what is put on at a point, in the unit of the display, at the temperature that was read.
///
/// # Errors
/// [`MethodError::Standard`] when the standard cannot serve.
pub fn reference_at(
    plan: &PlanSpec,
    point: &PlanPoint,
    temperature: Option<Decimal>,
) -> Result<CombinedReference, MethodError> {
    let pieces = point
        .pieces
        .iter()
        .map(|piece| match temperature {
            Some(temperature) => piece.at(temperature),
            None => Ok(piece.clone()),
        })
        .collect::<Result<Vec<_>, _>>()?;
    Ok(combine(&pieces, plan.unit)?)
}
