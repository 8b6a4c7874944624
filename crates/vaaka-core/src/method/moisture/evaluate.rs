//! Characteristics of a moisture check.

use rust_decimal::Decimal;

use super::SettingsV1;
use super::keys::{empty_key, fill_key, key_of};
use crate::judgement::{Characteristic, CharacteristicKind};
use crate::method::common::{mean_error, of_reading, range_of, rounding_of, value_words};
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState};
use crate::quantity::{Unit, decimals_of, to_f64};

/// Places that a bulk density is kept with.
const DENSITY_PLACES: u32 = 6;

type Material<'a> = (&'a PlanPoint, Vec<(Decimal, Option<Decimal>)>);

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let empty = run.all_readings(empty_key(), 1)?;
    let mut materials = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        materials.push((point, run.all_readings(fill_key(index, point), point.repeats)?));
    }
    of_materials(plan, settings, &empty, &materials)
}

/// As [`evaluate`], of what was read at all.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let materials: Vec<Material<'_>> = plan
        .points
        .iter()
        .enumerate()
        .map(|(index, point)| (point, run.readings(&fill_key(index, point))))
        .filter(|(_, readings)| !readings.is_empty())
        .collect();
    of_materials(plan, settings, &run.readings(&empty_key()), &materials)
}

fn of_materials(
    plan: &PlanSpec,
    settings: &SettingsV1,
    empty: &[(Decimal, Option<Decimal>)],
    materials: &[Material<'_>],
) -> Result<Vec<Characteristic>, MethodError> {
    let mut found = Vec::new();
    for (point, readings) in materials {
        let shown: Vec<Decimal> = readings.iter().map(|(indication, _)| *indication).collect();
        let words = value_words(plan, point.nominal);
        let names = (key_of("error", point), format!("Error at {words}"));
        let limits = (&settings.mean_limit, settings.single_limit.as_ref());
        found.push(mean_error(plan, point, names, &shown, limits)?);
    }
    for (point, readings) in materials {
        let shown: Vec<Decimal> = readings.iter().map(|(indication, _)| *indication).collect();
        let words = value_words(plan, point.nominal);
        let names = (key_of("range", point), format!("Range at {words}"));
        found.extend(range_of(plan, point, names, &shown, settings.range_limit.as_ref()));
    }
    found.extend(empty.first().map(|(shown, _)| empty_chamber(plan, settings, *shown)));
    for (point, readings) in materials {
        found.extend(bulk_density(plan, settings, point, readings));
    }
    Ok(found)
}

/// What the empty chamber shows: what is left in it is measured with every filling.
fn empty_chamber(plan: &PlanSpec, settings: &SettingsV1, shown: Decimal) -> Characteristic {
    let limit = settings.empty_limit.as_ref();
    Characteristic {
        limits: limit.and_then(|limit| limit.limits(Decimal::ZERO, plan)),
        contributions: of_reading(&[to_f64(shown)], rounding_of(plan)),
        ..Characteristic::bare(
            CharacteristicKind::Indication,
            ("empty".into(), "Empty chamber".into()),
            (plan.unit, decimals_of(plan.resolution)),
            vec![shown],
            rounding_of(plan),
        )
    }
}

/// Bulk density ρ = m/V of the fillings, where their masses were read. Kept with [`DENSITY_PLACES`] places of kg/m³.
fn bulk_density(
    plan: &PlanSpec,
    settings: &SettingsV1,
    point: &PlanPoint,
    readings: &[(Decimal, Option<Decimal>)],
) -> Option<Characteristic> {
    let volume = settings.container_volume?;
    let masses: Vec<Decimal> = readings.iter().filter_map(|(_, mass)| *mass).collect();
    let places = masses.iter().map(Decimal::scale).max()?;
    // g/cm³ are a thousand kg/m³.
    let density = |mass: Decimal| (mass * Decimal::ONE_THOUSAND / volume).round_dp(DENSITY_PLACES);
    let densities: Vec<Decimal> = masses.iter().map(|mass| density(*mass)).collect();
    let singles: Vec<f64> = densities.iter().map(|one| to_f64(*one)).collect();
    let rounding = to_f64(density(Decimal::new(1, places))) / 12.0_f64.sqrt();
    let label = format!("Bulk density at {}", value_words(plan, point.nominal));
    Some(Characteristic {
        nominal: Some(point.nominal),
        contributions: of_reading(&singles, rounding),
        charted: point.charted,
        scatter_weight: 1.0 / (densities.len() as f64).sqrt(),
        ..Characteristic::bare(
            CharacteristicKind::Indication,
            (key_of("bulk", point), label),
            (Unit::KilogramPerCubicMetre, 1),
            densities,
            rounding,
        )
    })
}
