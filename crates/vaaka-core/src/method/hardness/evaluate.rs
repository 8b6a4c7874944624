//! Characteristics of a hardness check.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::keys::{block_key, key_of};
use super::{FULL_CHECK, RepeatabilityBy, SettingsV1};
use crate::judgement::{Characteristic, CharacteristicKind, ToleranceLimits};
use crate::method::common::{mean_error, of_reading, rounding_of, value_words};
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState};
use crate::quantity::{Unit, decimals_of, to_f64};
use crate::stats::sample_std_dev;

/// Places that per cent of a repeatability are kept with.
const PERCENT_PLACES: u32 = 4;

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
        let words = value_words(plan, point.nominal);
        let names = (key_of("error", point), format!("Error at {words}"));
        let limits = (&settings.mean_limit, settings.single_limit.as_ref());
        found.push(mean_error(plan, point, names, &shown, limits)?);
    }
    for (point, readings) in blocks {
        let shown: Vec<Decimal> = readings.iter().map(|(indication, _)| *indication).collect();
        found.extend(repeatability(plan, settings, point, &shown));
    }
    for (point, readings) in blocks {
        found.extend(code(plan, settings, point, readings));
    }
    Ok(found)
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
        RepeatabilityBy::Range => (most - least, format!("Range at {words}"), rounding_of(plan)),
        RepeatabilityBy::RangeOfSizes => {
            let sizes: Vec<f64> = shown.iter().map(|h| settings.size(*h)).collect::<Option<_>>()?;
            let mean_size = sizes.iter().sum::<f64>() / n as f64;
            let range = sizes.iter().copied().fold(f64::NEG_INFINITY, f64::max)
                - sizes.iter().copied().fold(f64::INFINITY, f64::min);
            // Near enough a size goes with the square root of the hardness.
            let rounding = rounding_of(plan) * of_mean / 2.0;
            let label = format!("Range of sizes at {words}");
            (percent(100.0 * range / mean_size)?, label, rounding)
        }
        RepeatabilityBy::Variation => {
            let singles: Vec<f64> = shown.iter().map(|h| to_f64(*h)).collect();
            let s = sample_std_dev(&singles).ok()?;
            let label = format!("Coefficient of variation at {words}");
            (percent(s * of_mean)?, label, rounding_of(plan) * of_mean)
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

/// Mean code of the sensor on a block: no error, since nothing certifies a code, and charted all the same. A sensor that drifts is
/// seen there before the curve makes a hardness of it.
fn code(
    plan: &PlanSpec,
    settings: &SettingsV1,
    point: &PlanPoint,
    readings: &[(Decimal, Option<Decimal>)],
) -> Option<Characteristic> {
    let codes: Vec<Decimal> = readings.iter().filter_map(|(_, code)| *code).collect();
    let places = codes.iter().map(Decimal::scale).max()?;
    if settings.sensor.is_empty() {
        return None;
    }
    let singles: Vec<f64> = codes.iter().map(|code| to_f64(*code)).collect();
    let rounding = 0.1_f64.powi(i32::try_from(places).unwrap_or(i32::MAX)) / 12.0_f64.sqrt();
    let label = format!("{} at {}", settings.sensor, value_words(plan, point.nominal));
    Some(Characteristic {
        nominal: Some(point.nominal),
        contributions: of_reading(&singles, rounding),
        charted: point.charted,
        scatter_weight: 1.0 / (codes.len() as f64).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::Indication,
            (key_of("code", point), label),
            (Unit::SensorCode, places),
            codes,
            rounding,
        )
    })
}
