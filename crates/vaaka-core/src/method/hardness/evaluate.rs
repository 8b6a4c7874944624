//! Characteristics of a hardness check.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::way::{block_key, value_words};
use super::{FULL_CHECK, RepeatabilityBy, SettingsV1};
use crate::judgement::{Characteristic, CharacteristicKind, ToleranceLimits};
use crate::method::common::of_reading;
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState};
use crate::quantity::{Unit, decimals_of, to_f64};
use crate::standard::combine;
use crate::stats::sample_std_dev;

/// Places that per cent of a repeatability are kept with.
const PERCENT_PLACES: u32 = 4;

/// Key of the characteristic that a block makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let mut blocks = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        blocks.push((point, run.all_readings(block_key(index, point), point.repeats)?));
    }
    of_blocks(plan, settings, &blocks)
}

/// As [`evaluate`], of the blocks that were read at all and the readings that there are.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let blocks: Vec<_> = plan
        .points
        .iter()
        .enumerate()
        .map(|(index, point)| (point, run.readings(&block_key(index, point))))
        .filter(|(_, readings)| !readings.is_empty())
        .collect();
    of_blocks(plan, settings, &blocks)
}

type Block<'a> = (&'a PlanPoint, Vec<(Decimal, Option<Decimal>)>);

fn of_blocks(
    plan: &PlanSpec,
    settings: &SettingsV1,
    blocks: &[Block<'_>],
) -> Result<Vec<Characteristic>, MethodError> {
    let mut found = Vec::new();
    for (point, readings) in blocks {
        let shown: Vec<Decimal> = readings.iter().map(|(indication, _)| *indication).collect();
        found.push(error(plan, settings, point, &shown)?);
    }
    for (point, readings) in blocks {
        let shown: Vec<Decimal> = readings.iter().map(|(indication, _)| *indication).collect();
        found.extend(repeatability(plan, settings, point, &shown));
    }
    Ok(found)
}

/// One rounding of the display, d/√12.
fn rounding(plan: &PlanSpec) -> f64 {
    to_f64(plan.resolution) / 12.0_f64.sqrt()
}

fn error(
    plan: &PlanSpec,
    settings: &SettingsV1,
    point: &PlanPoint,
    shown: &[Decimal],
) -> Result<Characteristic, MethodError> {
    let reference = combine(&point.pieces, plan.unit)?;
    let errors: Vec<Decimal> =
        shown.iter().map(|indication| indication - reference.reference_value).collect();
    let singles: Vec<f64> = errors.iter().map(|error| to_f64(*error)).collect();
    let mut contributions = reference.contributions;
    contributions.extend(of_reading(&singles, rounding(plan)));
    let limit = |limit: &crate::method::Limit| limit.limits(reference.reference_value, plan);
    let names = (key_of("error", point), format!("Error at {}", value_words(plan, point.nominal)));
    Ok(Characteristic {
        nominal: Some(point.nominal),
        reference_value: Some(reference.reference_value),
        limits: limit(&settings.mean_limit),
        single_limits: settings.single_limit.as_ref().and_then(limit),
        contributions,
        charted: point.charted,
        rests_on: vec![point.standard],
        scatter_weight: 1.0 / (errors.len().max(1) as f64).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::Error,
            names,
            (plan.unit, decimals_of(plan.resolution)),
            errors,
            rounding(plan),
        )
    })
}

/// Repeatability of a block as the plan states it, from two readings on. Sizes and coefficients are irrational and rounded once,
/// to [`PERCENT_PLACES`].
fn repeatability(
    plan: &PlanSpec,
    settings: &SettingsV1,
    point: &PlanPoint,
    shown: &[Decimal],
) -> Option<Characteristic> {
    let n = shown.len();
    let (least, most) = (shown.iter().min()?, shown.iter().max()?);
    if n < 2 {
        return None;
    }
    let mean = shown.iter().sum::<Decimal>() / Decimal::from(n);
    let words = value_words(plan, point.nominal);
    let percent = |value: f64| Decimal::from_f64(value).map(|value| value.round_dp(PERCENT_PLACES));
    let of_mean = 100.0 / to_f64(mean);
    let (value, label, rounding) = match settings.repeatability_by {
        RepeatabilityBy::Range => (most - least, format!("Range at {words}"), rounding(plan)),
        RepeatabilityBy::RangeOfSizes => {
            let sizes: Vec<f64> = shown.iter().map(|h| settings.size(*h)).collect::<Option<_>>()?;
            let mean_size = sizes.iter().sum::<f64>() / n as f64;
            let range = sizes.iter().copied().fold(f64::NEG_INFINITY, f64::max)
                - sizes.iter().copied().fold(f64::INFINITY, f64::min);
            // Near enough a size goes with the square root of the hardness.
            let rounding = rounding(plan) * of_mean / 2.0;
            let label = format!("Range of sizes at {words}");
            (percent(100.0 * range / mean_size)?, label, rounding)
        }
        RepeatabilityBy::Variation => {
            let singles: Vec<f64> = shown.iter().map(|h| to_f64(*h)).collect();
            let s = sample_std_dev(&singles).ok()?;
            let label = format!("Coefficient of variation at {words}");
            (percent(s * of_mean)?, label, rounding(plan) * of_mean)
        }
    };
    let (unit, decimals) = match settings.repeatability_by {
        RepeatabilityBy::Range => (plan.unit, decimals_of(plan.resolution)),
        _ => (Unit::Percent, 2),
    };
    let limit = repeatability_limit(settings, mean).filter(|_| n >= FULL_CHECK);
    Some(Characteristic {
        nominal: Some(point.nominal),
        limits: limit.map(|upper| ToleranceLimits { lower: None, upper: Some(upper) }),
        ..Characteristic::bare(
            CharacteristicKind::Repeatability,
            (key_of("repeatability", point), label),
            (unit, decimals),
            vec![value],
            rounding,
        )
    })
}

/// The limit of the repeatability at a mean: what the plan states, or the share of the depth where that is greater.
fn repeatability_limit(settings: &SettingsV1, mean: Decimal) -> Option<Decimal> {
    let of_depth = settings
        .depth_share
        .zip(settings.scale_end)
        .map(|(share, end)| share / Decimal::ONE_HUNDRED * (end - mean).max(Decimal::ZERO));
    match (settings.repeatability_limit, of_depth) {
        (Some(stated), Some(of_depth)) => Some(stated.max(of_depth)),
        (one, other) => one.or(other),
    }
}
