//! Characteristics of a gauge check.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::keys::{key_of, mean_limits, point_key};
use super::{Presentation, SettingsV1};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::method::around::temperature;
use crate::method::common::{of_reading, reference_at, rescaled, value_words};
use crate::method::{Limit, MethodError, PlanPoint, PlanSpec, RunState, Step, Travel};
use crate::quantity::{Unit, decimals_of, to_f64};
use crate::standard::CELSIUS;

struct Bench<'a> {
    plan: &'a PlanSpec,
    settings: &'a SettingsV1,
    unit: Unit,
    /// Temperature of the standard, where it was read.
    temperature: Option<Decimal>,
}

struct Point<'a> {
    point: &'a PlanPoint,
    errors: Vec<Decimal>,
    /// Certified value, in the unit of the display.
    reference: Decimal,
    /// Parts of its uncertainty, in the unit of errors.
    reference_parts: Vec<Contribution>,
}

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let bench = bench(plan, settings, run);
    let mut points = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        let readings = run.all_readings(point_key(index, point), point.repeats)?;
        points.push(bench.read(&readings, point)?);
    }
    Ok(bench.of_points(&points))
}

/// As [`evaluate`], of the points that were read at all and the readings that there are.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let bench = bench(plan, settings, run);
    let mut points = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        let readings = run.readings(&point_key(index, point));
        if !readings.is_empty() {
            points.push(bench.read(&readings, point)?);
        }
    }
    Ok(bench.of_points(&points))
}

fn bench<'a>(plan: &'a PlanSpec, settings: &'a SettingsV1, run: &RunState) -> Bench<'a> {
    let unit = plan.unit.error_unit(plan.resolution);
    Bench { plan, settings, unit, temperature: temperature(&settings.around.conditions, run) }
}

/// A step with the value and limits that hold in this run: a certified value that follows the temperature is the one
/// that [`evaluate`] takes.
pub fn settle(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
    step: &Step,
) -> Result<Step, MethodError> {
    let mut points = plan.points.iter().enumerate();
    let Some((_, point)) = points.find(|(index, point)| point_key(*index, point) == step.key)
    else {
        return Ok(step.clone());
    };
    let reference =
        reference_at(plan, point, temperature(&settings.around.conditions, run))?.reference_value;
    Ok(Step {
        reference_value: Some(reference),
        tolerance: mean_limits(plan, settings, reference),
        ..step.clone()
    })
}

impl Bench<'_> {
    fn of_points(&self, points: &[Point<'_>]) -> Vec<Characteristic> {
        let mut found: Vec<Characteristic> = points.iter().map(|point| self.error(point)).collect();
        found.extend(points.iter().filter_map(|point| self.range(point)));
        found.extend(self.hysteresis(points));
        found
    }

    fn read<'a>(
        &self,
        readings: &[(Decimal, Option<Decimal>)],
        point: &'a PlanPoint,
    ) -> Result<Point<'a>, MethodError> {
        let reference = reference_at(self.plan, point, self.temperature)?;
        let slope: f64 = match self.temperature {
            Some(temperature) => point
                .pieces
                .iter()
                .map(|piece| {
                    let scale = to_f64(piece.unit.convert(Decimal::ONE, self.plan.unit));
                    piece.slope_at(temperature) * scale
                })
                .sum(),
            None => 0.0,
        };
        let errors = readings
            .iter()
            .map(|(indication, _)| {
                self.plan.unit.convert(indication - reference.reference_value, self.unit)
            })
            .collect();
        let scale = to_f64(self.plan.unit.convert(Decimal::ONE, self.unit));
        let mut reference_parts = rescaled(reference.contributions, scale);
        reference_parts.extend(self.of_temperature(slope * scale));
        reference_parts.extend(self.of_setting());
        Ok(Point { point, errors, reference: reference.reference_value, reference_parts })
    }

    /// Temperature of the standard times the slope of its table: ±a of the thermometer as the plan states it, at least
    /// half of the last digit that was typed, as rectangular distributions.
    fn of_temperature(&self, slope: f64) -> Option<Contribution> {
        let temperature = self.temperature.filter(|_| slope != 0.0)?;
        let half_digit = to_f64(Decimal::new(5, temperature.scale() + 1));
        let mut conditions = self.settings.around.conditions.iter();
        let taken_at = conditions.find(|condition| condition.standard_temperature);
        let stated = taken_at.and_then(|condition| condition.half_width).map_or(0.0, to_f64);
        let half = half_digit.max(stated);
        let u = slope.abs() * half / 3.0_f64.sqrt();
        let (name, unit) = match taken_at {
            Some(condition) if condition.unit.trim() != CELSIUS => {
                (condition.name.as_str(), condition.unit.trim())
            }
            _ => ("Temperature of the standard", CELSIUS),
        };
        let source = match unit {
            CELSIUS => ContributionSource::Temperature,
            _ => ContributionSource::ReferenceSetting,
        };
        Some(Contribution {
            label: format!("{name}, ±{half} {unit} times the slope of its table"),
            ..Contribution::known(source, u)
        })
    }

    /// How closely a reference is set to its value or read: as the plan states it, else within half a step of the
    /// display. A piece is not set.
    fn of_setting(&self) -> Option<Contribution> {
        let source = ContributionSource::ReferenceSetting;
        if self.settings.presentation != Presentation::Applied || self.plan.states(source) {
            return None;
        }
        Some(Contribution {
            label: "Setting of the reference, ±d/2 where the plan states nothing".into(),
            ..Contribution::known(source, self.rounding())
        })
    }

    fn limit(&self, limit: Option<&Limit>, reference: Decimal) -> Option<ToleranceLimits> {
        limit?.limits_in(self.unit, reference, self.plan)
    }

    /// One rounding of the display, d/√12.
    fn rounding(&self) -> f64 {
        to_f64(self.plan.unit.convert(self.plan.resolution, self.unit)) / 12.0_f64.sqrt()
    }

    fn characteristic(
        &self,
        kind: CharacteristicKind,
        point: &PlanPoint,
        names: (String, String),
        singles: Vec<Decimal>,
    ) -> Characteristic {
        let decimals = decimals_of(self.plan.unit.convert(self.plan.resolution, self.unit));
        Characteristic {
            nominal: Some(point.nominal),
            ..Characteristic::bare(kind, names, (self.unit, decimals), singles, self.rounding())
        }
    }

    fn spoken(&self, point: &PlanPoint) -> String {
        let words = value_words(self.plan, point.nominal);
        let falls = self.plan.points.iter().any(|point| point.travel == Travel::Falling);
        match point.travel {
            Travel::Falling => format!("{words}, falling"),
            Travel::Rising if falls => format!("{words}, rising"),
            Travel::Rising | Travel::Corner => words,
        }
    }

    fn error(&self, read: &Point<'_>) -> Characteristic {
        let singles: Vec<f64> = read.errors.iter().map(|error| to_f64(*error)).collect();
        let mut contributions = read.reference_parts.clone();
        contributions.extend(of_reading(&singles, self.rounding()));
        let label = format!("Error at {}", self.spoken(read.point));
        Characteristic {
            reference_value: Some(self.plan.unit.convert(read.reference, self.unit)),
            limits: self.limit(Some(&self.settings.mean_limit), read.reference),
            single_limits: self.limit(self.settings.single_limit.as_ref(), read.reference),
            contributions,
            mean: self.linear_mean(read),
            charted: read.point.charted,
            rests_on: vec![read.point.standard],
            scatter_weight: 1.0 / (singles.len().max(1) as f64).sqrt(),
            ..self.characteristic(
                CharacteristicKind::Error,
                read.point,
                (key_of("error", read.point), label),
                read.errors.clone(),
            )
        }
    }

    /// Mean error of readings in decibels, averaged as powers: 10·lg(Σ10^(I/10)/n) − R. Rounded
    /// once, to a thousandth of a step of the display, since the logarithm is irrational.
    fn linear_mean(&self, read: &Point<'_>) -> Option<Decimal> {
        if !self.unit.is_logarithmic() || read.errors.is_empty() {
            return None;
        }
        let n = read.errors.len() as f64;
        let power: f64 = read.errors.iter().map(|error| 10.0_f64.powf(to_f64(*error) / 10.0)).sum();
        let mean = Decimal::from_f64(10.0 * (power / n).log10())?;
        Some(mean.round_dp(decimals_of(self.plan.resolution) + 3))
    }

    fn range(&self, read: &Point<'_>) -> Option<Characteristic> {
        if read.errors.len() < 2 {
            return None;
        }
        let range = *read.errors.iter().max()? - *read.errors.iter().min()?;
        let label = format!("Range at {}", self.spoken(read.point));
        let limits = self.limit(self.settings.range_limit.as_ref(), read.reference);
        Some(Characteristic {
            limits: limits.map(|limits| ToleranceLimits { lower: None, upper: limits.upper }),
            ..self.characteristic(
                CharacteristicKind::Repeatability,
                read.point,
                (key_of("range", read.point), label),
                vec![range],
            )
        })
    }

    /// Falling minus rising at each point visited both ways.
    fn hysteresis(&self, points: &[Point<'_>]) -> Vec<Characteristic> {
        let mean = |point: &Point<'_>| {
            self.linear_mean(point).unwrap_or_else(|| {
                point.errors.iter().sum::<Decimal>() / Decimal::from(point.errors.len().max(1))
            })
        };
        let falling = points.iter().filter(|point| point.point.travel == Travel::Falling);
        falling
            .filter_map(|falling| {
                let rising = points.iter().find(|point| {
                    point.point.travel == Travel::Rising
                        && point.point.nominal == falling.point.nominal
                })?;
                let words = value_words(self.plan, falling.point.nominal);
                let key = format!("hysteresis-{}", falling.point.nominal.normalize());
                let inverse = |point: &Point<'_>| 1.0 / point.errors.len().max(1) as f64;
                Some(Characteristic {
                    scatter_weight: (inverse(falling) + inverse(rising)).sqrt(),
                    limits: self.limit(self.settings.hysteresis_limit.as_ref(), falling.reference),
                    ..self.characteristic(
                        CharacteristicKind::Hysteresis,
                        falling.point,
                        (key, format!("Falling minus rising at {words}")),
                        vec![mean(falling) - mean(rising)],
                    )
                })
            })
            .collect()
    }
}
