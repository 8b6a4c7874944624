//! Characteristics of a coating thickness check.

use rust_decimal::Decimal;

use super::SettingsV1;
use super::keys::{base_key, foil_key, key_of};
use crate::judgement::{Characteristic, CharacteristicKind, Contribution, ContributionSource};
use crate::method::common::{
    error_scale, error_unit, mean_error, of_reading, range_of, rescaled, rounding_of,
    rounding_of_errors, value_words,
};
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState, Step};
use crate::quantity::{decimals_of, to_f64};
use crate::stats::sample_std_dev;

/// Places more than those of the display that a mean is kept with, where it is taken off.
const MORE_PLACES: u32 = 4;

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let mut needed = vec![(base_key(false), settings.base_count())];
    let foils = plan.points.iter().enumerate();
    needed.extend(foils.map(|(index, point)| (foil_key(index, point), point.repeats)));
    needed.extend(settings.again.then(|| (base_key(true), settings.base_count())));
    for (step, required) in needed {
        run.all_readings(step, required)?;
    }
    so_far(plan, settings, run)
}

/// As [`evaluate`], of what was read at all.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let base = shown(run, false);
    let mut found = vec![];
    let mut ranges = vec![];
    for (index, point) in plan.points.iter().enumerate() {
        let readings = run.readings(&foil_key(index, point));
        let shown: Vec<Decimal> = readings.into_iter().map(|(shown, _)| shown).collect();
        if !shown.is_empty() {
            found.push(error(plan, settings, point, (&shown, &base))?);
            let names =
                (key_of("range", point), format!("Range at {}", value_words(plan, point.nominal)));
            ranges.extend(range_of(plan, point, names, &shown, settings.range_limit.as_ref()));
        }
    }
    found.extend(ranges);
    if !base.is_empty() {
        found.push(bare(plan, settings, &base));
    }
    let after = shown(run, true);
    if !base.is_empty() && !after.is_empty() {
        found.push(came_back(plan, settings, (&base, &after)));
    }
    Ok(found)
}

/// A foil with what the bare base shows taken off, where the plan says so.
pub fn settle(plan: &PlanSpec, settings: &SettingsV1, run: &RunState, step: &Step) -> Step {
    let zero_error = match step.point {
        Some(_) => taken_off(plan, settings, &shown(run, false)),
        None => Decimal::ZERO,
    };
    Step { zero_error, ..step.clone() }
}

fn shown(run: &RunState, after: bool) -> Vec<Decimal> {
    run.readings(&base_key(after)).into_iter().map(|(shown, _)| shown).collect()
}

/// Mean of what the bare base shows, to so many places that nothing is lost of it.
fn mean(plan: &PlanSpec, shown: &[Decimal]) -> Decimal {
    let sum: Decimal = shown.iter().sum();
    let count = Decimal::from(shown.len().max(1));
    (sum / count).round_dp(plan.resolution.scale() + MORE_PLACES)
}

fn taken_off(plan: &PlanSpec, settings: &SettingsV1, base: &[Decimal]) -> Decimal {
    if settings.take_off { mean(plan, base) } else { Decimal::ZERO }
}

fn floats(values: &[Decimal]) -> Vec<f64> {
    values.iter().map(|value| to_f64(*value)).collect()
}

/// E = M̄ − M_C, less what the bare base shows where that is taken off.
fn error(
    plan: &PlanSpec,
    settings: &SettingsV1,
    point: &PlanPoint,
    (shown, base): (&[Decimal], &[Decimal]),
) -> Result<Characteristic, MethodError> {
    let zero = taken_off(plan, settings, base);
    let shown: Vec<Decimal> = shown.iter().map(|one| one - zero).collect();
    let names = (key_of("error", point), format!("Error at {}", value_words(plan, point.nominal)));
    let limits = (&settings.mean_limit, settings.single_limit.as_ref());
    let mut found = mean_error(plan, point, names, &shown, limits)?;
    if settings.take_off {
        found.contributions.extend(rescaled(of_base(plan, base), error_scale(plan)));
    }
    Ok(found)
}

/// What is uncertain of the bare base that is taken off: rounding of its mean, and s/√n with n − 1 degrees of freedom.
fn of_base(plan: &PlanSpec, base: &[Decimal]) -> Vec<Contribution> {
    let source = ContributionSource::Zero;
    let n = base.len().max(1) as f64;
    let mut parts = vec![Contribution {
        label: "Bare base, its rounding".into(),
        ..Contribution::known(source, rounding_of(plan))
    }];
    if let Ok(s) = sample_std_dev(&floats(base)) {
        parts.push(Contribution {
            label: "Bare base, its places".into(),
            ..Contribution::estimated(source, s / n.sqrt(), n - 1.0)
        });
    }
    parts
}

/// Values of the display in the unit of errors.
fn in_errors(plan: &PlanSpec, shown: &[Decimal]) -> Vec<Decimal> {
    shown.iter().map(|one| plan.unit.convert(*one, error_unit(plan))).collect()
}

/// What the bare base shows: charted, since a probe that wears is seen there first.
fn bare(plan: &PlanSpec, settings: &SettingsV1, base: &[Decimal]) -> Characteristic {
    let unit = error_unit(plan);
    let limit = settings.base_limit.as_ref();
    let shown = in_errors(plan, base);
    Characteristic {
        limits: limit.and_then(|limit| limit.limits_in(unit, Decimal::ZERO, plan)),
        contributions: of_reading(&floats(&shown), rounding_of_errors(plan)),
        charted: true,
        scatter_weight: 1.0 / (base.len().max(1) as f64).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::Indication,
            ("base".into(), "Bare base".into()),
            (unit, decimals_of(plan.unit.convert(plan.resolution, unit))),
            shown,
            rounding_of_errors(plan),
        )
    }
}

/// Bare base after the foils, minus before.
fn came_back(
    plan: &PlanSpec,
    settings: &SettingsV1,
    (before, after): (&[Decimal], &[Decimal]),
) -> Characteristic {
    let unit = error_unit(plan);
    let limit = settings.return_limit.as_ref();
    let inverse = |readings: &[Decimal]| 1.0 / readings.len().max(1) as f64;
    let rounding = rounding_of_errors(plan);
    let mut contributions = of_reading(&floats(&in_errors(plan, before)), rounding);
    contributions.extend(of_reading(&floats(&in_errors(plan, after)), rounding));
    let difference = plan.unit.convert(mean(plan, after) - mean(plan, before), unit);
    Characteristic {
        limits: limit.and_then(|limit| limit.limits_in(unit, Decimal::ZERO, plan)),
        contributions,
        scatter_weight: (inverse(before) + inverse(after)).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::ReturnToZero,
            ("return".into(), "Bare base after the foils, minus before".into()),
            (unit, decimals_of(plan.unit.convert(plan.resolution, unit))),
            vec![difference],
            rounding,
        )
    }
}
