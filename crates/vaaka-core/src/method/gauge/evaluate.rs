//! Characteristics of a gauge check.

use rust_decimal::Decimal;

use super::way::{mean_limit, point_key, value_words};
use super::{LimitForm, SettingsV1};
use crate::judgement::{Characteristic, CharacteristicKind, ToleranceLimits};
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState, Travel};
use crate::quantity::{Unit, decimals_of, to_f64};
use crate::standard::combine;
use crate::stats::sample_std_dev;

struct Bench<'a> {
    plan: &'a PlanSpec,
    settings: &'a SettingsV1,
    unit: Unit,
}

struct Point<'a> {
    point: &'a PlanPoint,
    errors: Vec<Decimal>,
    /// Certified value, in the unit of the display.
    reference: Decimal,
    reference_uncertainty: f64,
}

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let bench = Bench { plan, settings, unit: plan.unit.error_unit(plan.resolution) };
    let mut points = Vec::new();
    for (index, point) in plan.points.iter().enumerate() {
        points.push(bench.read(run, index, point)?);
    }
    let mut found: Vec<Characteristic> = points.iter().map(|point| bench.error(point)).collect();
    found.extend(points.iter().filter_map(|point| bench.range(point)));
    found.extend(bench.hysteresis(&points));
    Ok(found)
}

/// Key of the characteristic that a point makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}-{}", point.nominal.normalize(), point.travel.word())
}

impl Bench<'_> {
    fn read<'a>(
        &self,
        run: &RunState,
        index: usize,
        point: &'a PlanPoint,
    ) -> Result<Point<'a>, MethodError> {
        let readings = run.all_readings(point_key(index, point), point.repeats)?;
        let reference = combine(&point.pieces, self.plan.unit)?;
        let errors = readings
            .iter()
            .map(|(indication, _)| {
                self.plan.unit.convert(indication - reference.reference_value, self.unit)
            })
            .collect();
        let scale = to_f64(self.plan.unit.convert(Decimal::ONE, self.unit));
        Ok(Point {
            point,
            errors,
            reference: reference.reference_value,
            reference_uncertainty: reference.standard_uncertainty * scale,
        })
    }

    fn symmetric(&self, half_width: Decimal) -> ToleranceLimits {
        ToleranceLimits::symmetric(self.plan.unit.convert(half_width, self.unit))
    }

    fn limit(&self, form: Option<LimitForm>, reference: Decimal) -> Option<ToleranceLimits> {
        let span = self.settings.span(self.plan);
        form.map(|form| self.symmetric(form.half_width(reference, span)))
    }

    /// One rounding of the display, d/√12.
    fn rounding(&self) -> f64 {
        to_f64(self.plan.unit.convert(self.plan.resolution, self.unit)) / 12.0_f64.sqrt()
    }

    fn characteristic(
        &self,
        kind: CharacteristicKind,
        point: &PlanPoint,
        (key, label): (String, String),
        singles: Vec<Decimal>,
    ) -> Characteristic {
        Characteristic {
            key,
            label,
            kind,
            nominal: Some(point.nominal),
            unit: self.unit,
            decimals: decimals_of(self.plan.unit.convert(self.plan.resolution, self.unit)),
            singles,
            reference_value: None,
            limits: None,
            single_limits: None,
            reference_standard_uncertainty: 0.0,
            // A difference of two indications has two roundings.
            reading_standard_uncertainty: self.rounding() * 2.0_f64.sqrt(),
            indicative: false,
            charted: false,
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
        let n = singles.len() as f64;
        // Repeatability or resolution, the larger, not both.
        let repeatability = sample_std_dev(&singles).map_or(0.0, |s| s / n.sqrt());
        let label = format!("Error at {}", self.spoken(read.point));
        Characteristic {
            reference_value: Some(self.plan.unit.convert(read.reference, self.unit)),
            limits: Some(self.symmetric(mean_limit(self.plan, self.settings, read.reference))),
            single_limits: self.limit(self.settings.single_limit, read.reference),
            reference_standard_uncertainty: read.reference_uncertainty,
            reading_standard_uncertainty: repeatability.max(self.rounding()),
            charted: read.point.charted,
            ..self.characteristic(
                CharacteristicKind::Error,
                read.point,
                (key_of("error", read.point), label),
                read.errors.clone(),
            )
        }
    }

    fn range(&self, read: &Point<'_>) -> Option<Characteristic> {
        if read.errors.len() < 2 {
            return None;
        }
        let range = *read.errors.iter().max()? - *read.errors.iter().min()?;
        let label = format!("Range at {}", self.spoken(read.point));
        let limits = self.limit(self.settings.range_limit, read.reference);
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
            point.errors.iter().sum::<Decimal>() / Decimal::from(point.errors.len().max(1))
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
                Some(Characteristic {
                    limits: self.limit(self.settings.hysteresis_limit, falling.reference),
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
