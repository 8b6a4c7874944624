//! Characteristics of a weighing check.

use rust_decimal::Decimal;

use super::SettingsV1;
use super::keys::{LOAD, RETURN, ZERO, key_of, limit_at, load_key};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::method::common::{of_reading, rescaled, value_words};
use crate::method::{MethodError, Place, PlanPoint, PlanSpec, RunState, Step, StepKey, Travel};
use crate::quantity::{Unit, decimals_of, to_f64};
use crate::standard::combine;

/// What all points of one check share.
struct Bench<'a> {
    plan: &'a PlanSpec,
    settings: &'a SettingsV1,
    unit: Unit,
    decimals: u32,
    /// Error at zero, E₀, in the unit of the display.
    zero_error: Decimal,
    indicative: bool,
}

/// One load, read.
struct Load<'a> {
    point: &'a PlanPoint,
    /// Corrected errors E_c of the single readings, in the unit of errors.
    errors: Vec<Decimal>,
    reference: Decimal,
    /// Parts of its uncertainty, in the unit of errors.
    reference_parts: Vec<Contribution>,
}

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let zero = single(run, ZERO)?;
    let back = single(run, RETURN)?;
    let bench = bench(plan, settings, zero);
    let mut loads = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        let readings = run.all_readings(load_key(index, point), point.repeats)?;
        loads.push(read_load(&bench, &readings, point)?);
    }
    let mut characteristics = of_loads(&bench, &loads);
    characteristics.push(return_to_zero(&bench, back - zero));
    Ok(characteristics)
}

/// As [`evaluate`], of the loads that were read at all and the readings that there are.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let Ok(zero) = single(run, ZERO) else { return Ok(Vec::new()) };
    let bench = bench(plan, settings, zero);
    let mut loads = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        let readings = run.readings(&load_key(index, point));
        if !readings.is_empty() {
            loads.push(read_load(&bench, &readings, point)?);
        }
    }
    let mut characteristics = of_loads(&bench, &loads);
    if let Ok(back) = single(run, RETURN) {
        characteristics.push(return_to_zero(&bench, back - zero));
    }
    Ok(characteristics)
}

fn bench<'a>(plan: &'a PlanSpec, settings: &'a SettingsV1, zero_error: Decimal) -> Bench<'a> {
    let unit = plan.unit.error_unit(plan.resolution);
    // OIML R 76-1, 3.5.3.2 and A.4.1.6: rounding must be removed where d > 0.2 e.
    let coarse = plan.resolution > Decimal::new(2, 1) * settings.verification_interval;
    Bench {
        plan,
        settings,
        unit,
        decimals: decimals_of(plan.unit.convert(plan.resolution, unit)),
        zero_error,
        indicative: coarse && !settings.added_weights,
    }
}

fn of_loads(bench: &Bench<'_>, loads: &[Load<'_>]) -> Vec<Characteristic> {
    let mut found: Vec<Characteristic> =
        loads.iter().map(|load| error_characteristic(bench, loads, load)).collect();
    found.extend(loads.iter().filter_map(|load| repeatability(bench, load)));
    found.extend(hysteresis(bench, loads));
    found
}

/// A step with what this run says of it: the error at zero, which is taken off each load.
pub fn settle(run: &RunState, step: &Step) -> Step {
    let load = step.key.0.starts_with(LOAD);
    let zero = if load { single(run, ZERO).unwrap_or_default() } else { Decimal::ZERO };
    Step { zero_error: zero, ..step.clone() }
}

fn single(run: &RunState, step: &str) -> Result<Decimal, MethodError> {
    let step = StepKey::from(step);
    let readings = run.readings(&step);
    let Some((indication, _)) = readings.first() else {
        return Err(MethodError::Incomplete { step, required: 1, got: 0 });
    };
    Ok(*indication)
}

fn read_load<'a>(
    bench: &Bench<'_>,
    readings: &[(Decimal, Option<Decimal>)],
    point: &'a PlanPoint,
) -> Result<Load<'a>, MethodError> {
    let reference = combine(&point.pieces, bench.plan.unit)?;
    let half_step = bench.plan.resolution / Decimal::TWO;
    let errors = readings
        .iter()
        .map(|(indication, added)| {
            // With added weights: the value before rounding, P = I + d/2 − ΔL. The zero was set
            // within a quarter step by the scale itself, and its error is taken as shown.
            let before_rounding = match added {
                Some(added) => indication + half_step - added,
                None => *indication,
            };
            let error = before_rounding - reference.reference_value - bench.zero_error;
            bench.plan.unit.convert(error, bench.unit)
        })
        .collect();
    let scale = to_f64(bench.plan.unit.convert(Decimal::ONE, bench.unit));
    let mut reference_parts = rescaled(reference.contributions, scale);
    let load = bench.plan.unit.convert(reference.reference_value, bench.unit);
    reference_parts.extend(bench.of_weights(&reference_parts, to_f64(load)));
    Ok(Load { point, errors, reference: load, reference_parts })
}

/// Air density varies by a tenth about 1.2 kg/m³ from place to place and day to day, and weights are of about
/// 8 000 kg/m³: a scale that is not adjusted just before reads a load to ±0.1·1.2/8 000 of it (EURAMET cg-18, 7.1.2.2;
/// from memory; OIML D 28 gives the same two densities as conventional ones).
const BUOYANCY_SHARE: f64 = 0.1 * 1.2 / 8_000.0;

impl Bench<'_> {
    fn limits(&self, load: Decimal) -> ToleranceLimits {
        let mpe = limit_at(self.plan, self.settings, load);
        ToleranceLimits::symmetric(self.plan.unit.convert(mpe, self.unit))
    }

    /// One step of the display, in the unit of errors.
    fn step(&self) -> f64 {
        to_f64(self.plan.unit.convert(self.plan.resolution, self.unit))
    }

    /// Rounding of a loaded reading as a standard uncertainty, d/√12; with added weights a tenth of a step remains.
    fn rounding(&self) -> f64 {
        let step = if self.settings.added_weights { self.step() / 10.0 } else { self.step() };
        step / 12.0_f64.sqrt()
    }

    /// Zero before the load. Where rounding is removed by added weights the scale has set its zero to a quarter of a
    /// step (OIML R 76-1, 4.5.2), ±d/4 and so 0.144 d; else it is read like any load, d/√12.
    fn zero(&self) -> Contribution {
        let (u, label) = if self.settings.added_weights {
            (self.step() / 4.0 / 3.0_f64.sqrt(), "Zero set by the scale, ±d/4")
        } else {
            (self.step() / 12.0_f64.sqrt(), "Rounding of the zero")
        };
        Contribution { label: label.into(), ..Contribution::known(ContributionSource::Zero, u) }
    }

    /// What weights bring besides their certificate: air buoyancy, and their drift since it was made, which is taken as
    /// up to their expanded uncertainty (EURAMET cg-18, 7.1.2.3, with a factor of one; from memory) unless the plan
    /// states it. A class limit holds the drift already.
    fn of_weights(&self, certified: &[Contribution], load: f64) -> Vec<Contribution> {
        let mut parts = vec![Contribution {
            label: "Air buoyancy, air density ±10 %".into(),
            ..Contribution::known(
                ContributionSource::AirBuoyancy,
                BUOYANCY_SHARE * load.abs() / 3.0_f64.sqrt(),
            )
        }];
        let certificate = certified.iter().find(|p| p.source == ContributionSource::Certificate);
        if let (Some(own), false) =
            (certificate, self.plan.states(ContributionSource::StandardDrift))
        {
            parts.push(Contribution {
                label: "Drift of the weights since their certificate, up to U".into(),
                ..Contribution::known(
                    ContributionSource::StandardDrift,
                    2.0 * own.standard_uncertainty / 3.0_f64.sqrt(),
                )
            });
        }
        parts
    }

    /// Loads are not always put into the middle: half of the largest difference that the corners of this check show, in
    /// proportion to the load (EURAMET cg-18, 7.1.1.4: |ΔI_ecc|/(2·L_ecc·√3); from memory). None without corners.
    fn eccentricity(&self, loads: &[Load<'_>], load: &Load<'_>) -> Option<Contribution> {
        if load.point.travel == Travel::Corner {
            return None;
        }
        let mean = |load: &Load<'_>| {
            let values: Vec<f64> = load.errors.iter().map(|error| to_f64(*error)).collect();
            crate::stats::mean(&values).unwrap_or(0.0)
        };
        let corners = || loads.iter().filter(|other| other.point.travel == Travel::Corner);
        let middle = corners().find(|corner| corner.point.place == Place::Middle).map(mean)?;
        let largest = corners()
            .map(|corner| ((mean(corner) - middle).abs(), to_f64(corner.reference)))
            .max_by(|a, b| a.0.total_cmp(&b.0))?;
        let (difference, at) = largest;
        (at > 0.0).then(|| Contribution {
            label: "Load off the centre, by the corners of this check".into(),
            ..Contribution::known(
                ContributionSource::Eccentricity,
                difference / (2.0 * at * 3.0_f64.sqrt()) * to_f64(load.reference).abs(),
            )
        })
    }

    fn characteristic(
        &self,
        kind: CharacteristicKind,
        key: String,
        label: String,
        singles: Vec<Decimal>,
    ) -> Characteristic {
        let of = (self.unit, self.decimals);
        Characteristic::bare(kind, (key, label), of, singles, self.rounding())
    }
}

fn error_characteristic(bench: &Bench<'_>, loads: &[Load<'_>], load: &Load<'_>) -> Characteristic {
    let point = load.point;
    let words = value_words(bench.plan, point.nominal);
    let label = match point.travel {
        Travel::Rising => format!("Error at {words}"),
        Travel::Falling => format!("Error at {words}, falling"),
        Travel::Corner if point.place == Place::Middle => format!("Error at {words}, middle"),
        Travel::Corner => format!("Error at {words}, {}", point.place.word().replace('_', " ")),
    };
    let singles: Vec<f64> = load.errors.iter().map(|error| to_f64(*error)).collect();
    // A difference of two indications has two roundings: that of the zero is its own line, since scatter of the load's
    // readings holds their rounding and not that of the zero.
    let mut contributions = load.reference_parts.clone();
    contributions.push(bench.zero());
    contributions.extend(bench.eccentricity(loads, load));
    contributions.extend(of_reading(&singles, bench.rounding()));
    Characteristic {
        nominal: Some(point.nominal),
        reference_value: Some(load.reference),
        limits: Some(bench.limits(point.nominal)),
        contributions,
        indicative: bench.indicative,
        charted: point.charted,
        rests_on: vec![point.standard],
        scatter_weight: 1.0 / (singles.len().max(1) as f64).sqrt(),
        ..bench.characteristic(
            CharacteristicKind::Error,
            key_of("error", point),
            label,
            load.errors.clone(),
        )
    }
}

/// Range of the readings of one load, at most |MPE| of that load (OIML R 76-1, 3.6.1).
fn repeatability(bench: &Bench<'_>, load: &Load<'_>) -> Option<Characteristic> {
    if load.errors.len() < 2 {
        return None;
    }
    let range = *load.errors.iter().max()? - *load.errors.iter().min()?;
    let words = value_words(bench.plan, load.point.nominal);
    Some(Characteristic {
        nominal: Some(load.point.nominal),
        limits: Some(ToleranceLimits {
            lower: None,
            upper: bench.limits(load.point.nominal).upper,
        }),
        indicative: bench.indicative,
        ..bench.characteristic(
            CharacteristicKind::Repeatability,
            key_of("range", load.point),
            format!("Range at {words}"),
            vec![range],
        )
    })
}

/// Falling minus rising at each load visited both ways; recorded, since each way is judged by
/// itself.
fn hysteresis(bench: &Bench<'_>, loads: &[Load<'_>]) -> Vec<Characteristic> {
    let mean = |load: &Load<'_>| {
        load.errors.iter().sum::<Decimal>() / Decimal::from(load.errors.len().max(1))
    };
    loads
        .iter()
        .filter(|load| load.point.travel == Travel::Falling)
        .filter_map(|falling| {
            let rising = loads.iter().find(|load| {
                load.point.travel == Travel::Rising && load.point.nominal == falling.point.nominal
            })?;
            let words = value_words(bench.plan, falling.point.nominal);
            let inverse = |load: &Load<'_>| 1.0 / load.errors.len().max(1) as f64;
            Some(Characteristic {
                nominal: Some(falling.point.nominal),
                scatter_weight: (inverse(falling) + inverse(rising)).sqrt(),
                ..bench.characteristic(
                    CharacteristicKind::Hysteresis,
                    key_of("hysteresis", falling.point),
                    format!("Falling minus rising at {words}"),
                    vec![mean(falling) - mean(rising)],
                )
            })
        })
        .collect()
}

/// The empty pan after the loads against before, within the limit at zero.
fn return_to_zero(bench: &Bench<'_>, difference: Decimal) -> Characteristic {
    Characteristic {
        nominal: Some(Decimal::ZERO),
        limits: Some(bench.limits(Decimal::ZERO)),
        // Both are read without added weights, whatever is done at the loads.
        contributions: vec![Contribution::known(
            ContributionSource::Resolution,
            bench.step() / 12.0_f64.sqrt() * 2.0_f64.sqrt(),
        )],
        scatter_weight: 2.0_f64.sqrt(),
        ..bench.characteristic(
            CharacteristicKind::ReturnToZero,
            "zero-return".into(),
            "Return to zero".into(),
            vec![bench.plan.unit.convert(difference, bench.unit)],
        )
    }
}
