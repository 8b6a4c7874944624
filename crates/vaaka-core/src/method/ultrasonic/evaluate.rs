//! Characteristics of an ultrasonic thickness check, and what is seen of them while measuring.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::SettingsV1;
use super::keys::{key_of, point_key, velocity_key};
use super::line::{Pattern, StepLine};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::method::around::temperature;
use crate::method::common::{
    error_against, error_scale, error_unit, range_of, reference_at, rounding_of,
    rounding_of_errors, value_words,
};
use crate::method::{
    Curve, CurveKind, Fact, Live, MethodError, Picture, PlanPoint, PlanSpec, Plot, PlotAxis,
    RunState, Step, bars_of,
};
use crate::quantity::{Unit, decimals_of, show_float, show_signed_float, to_f64};
use crate::standard::CombinedReference;

/// Places of a velocity in m/s, and how many more than the display a zero has, that are kept of what is computed.
const VELOCITY_PLACES: u32 = 3;
const MORE_PLACES: u32 = 2;
/// Key of the zero that the steps speak for.
const ZERO_KEY: &str = "zero-by-steps";
/// Temperature at which a velocity is told.
const AT: f64 = 20.0;
/// From so many degrees of freedom on the scatter of this check is believed; with fewer it is a step of the display at
/// least (common practice, no published source).
const ENOUGH: usize = 8;

/// A step of the block as it was read.
struct Read<'a> {
    point: &'a PlanPoint,
    reference: CombinedReference,
    shown: Vec<Decimal>,
}

impl Read<'_> {
    fn singles(&self) -> Vec<f64> {
        self.shown.iter().map(|shown| to_f64(*shown)).collect()
    }

    fn mean(&self) -> f64 {
        self.singles().iter().sum::<f64>() / self.shown.len().max(1) as f64
    }

    fn thickness(&self) -> f64 {
        to_f64(self.reference.reference_value)
    }

    fn error(&self) -> f64 {
        let sum: Decimal =
            self.shown.iter().map(|shown| shown - self.reference.reference_value).sum();
        to_f64(sum) / self.shown.len().max(1) as f64
    }

    fn of_reference(&self) -> f64 {
        let squares =
            self.reference.contributions.iter().map(|part| part.standard_uncertainty.powi(2));
        squares.sum::<f64>().sqrt()
    }
}

/// What was read of a run.
struct Bench<'a> {
    plan: &'a PlanSpec,
    settings: &'a SettingsV1,
    /// What the gauge is set to.
    velocity: Option<Decimal>,
    /// Temperature of the block.
    temperature: Option<Decimal>,
    steps: Vec<Read<'a>>,
}

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    if settings.velocity.is_some() {
        run.all_readings(velocity_key(), 1)?;
    }
    for (index, point) in plan.points.iter().enumerate() {
        run.all_readings(point_key(index, point), point.repeats)?;
    }
    so_far(plan, settings, run)
}

/// As [`evaluate`], of what was read at all.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    Bench::of(plan, settings, run)?.characteristics()
}

/// The certified thickness of a step is that at the temperature that was read, where it follows one.
pub fn settle(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
    step: &Step,
) -> Result<Step, MethodError> {
    let Some(point) = step.point.and_then(|index| plan.points.get(index)) else {
        return Ok(step.clone());
    };
    let known = temperature(&settings.around.conditions, run);
    let reference = reference_at(plan, point, known)?.reference_value;
    Ok(Step {
        reference_value: Some(reference),
        tolerance: settings.mean_limit.limits(reference, plan),
        ..step.clone()
    })
}

impl<'a> Bench<'a> {
    fn of(
        plan: &'a PlanSpec,
        settings: &'a SettingsV1,
        run: &RunState,
    ) -> Result<Self, MethodError> {
        let temperature = temperature(&settings.around.conditions, run);
        let velocity = run.readings(&velocity_key()).first().map(|(shown, _)| *shown);
        let velocity = settings.velocity.and(velocity).filter(|shown| *shown > Decimal::ZERO);
        let mut steps = vec![];
        for (index, point) in plan.points.iter().enumerate() {
            let shown: Vec<Decimal> =
                run.readings(&point_key(index, point)).iter().map(|(shown, _)| *shown).collect();
            if !shown.is_empty() {
                steps.push(Read {
                    point,
                    reference: reference_at(plan, point, temperature)?,
                    shown,
                });
            }
        }
        Ok(Self { plan, settings, velocity, temperature, steps })
    }

    fn characteristics(&self) -> Result<Vec<Characteristic>, MethodError> {
        let mut found: Vec<Characteristic> =
            self.steps.iter().map(|step| self.error(step)).collect();
        for step in &self.steps {
            let words = value_words(self.plan, step.point.nominal);
            let names = (key_of("range", step.point), format!("Range at {words}"));
            let limit = self.settings.range_limit.as_ref();
            found.extend(range_of(self.plan, step.point, names, &step.shown, limit));
        }
        found.extend(self.velocity_set());
        if let Some(line) = self.line() {
            found.extend(self.velocity_of(&line));
            found.extend(self.zero_of(&line));
            found.extend(self.residual_of(&line));
        }
        Ok(found)
    }

    fn error(&self, step: &Read<'_>) -> Characteristic {
        let Read { point, reference, shown } = step;
        let label = format!("Error at {}", value_words(self.plan, point.nominal));
        error_against(
            self.plan,
            (point, reference.clone()),
            (key_of("error", point), label),
            shown,
            (&self.settings.mean_limit, self.settings.single_limit.as_ref()),
        )
    }

    fn velocity_limits(&self) -> Option<ToleranceLimits> {
        let (lower, upper) = self.settings.velocity_limits()?;
        Some(ToleranceLimits { lower: Some(lower), upper: Some(upper) })
    }

    /// What the gauge is set to.
    fn velocity_set(&self) -> Option<Characteristic> {
        let shown = self.velocity?;
        let rounding = 1.0 / 12.0_f64.sqrt();
        let still = Contribution {
            label: "What is set does not scatter".into(),
            ..Contribution::known(ContributionSource::Repeatability, 0.0)
        };
        Some(Characteristic {
            limits: self.velocity_limits(),
            contributions: vec![
                Contribution::known(ContributionSource::Resolution, rounding),
                still,
            ],
            ..Characteristic::bare(
                CharacteristicKind::Indication,
                ("velocity-set".into(), "Velocity that it is set to".into()),
                (Unit::MetrePerSecond, 0),
                vec![shown],
                rounding,
            )
        })
    }

    /// What it shows over what is certified, where that makes a line.
    fn line(&self) -> Option<StepLine> {
        let steps: Vec<(f64, f64)> =
            self.steps.iter().map(|step| (step.thickness(), step.mean())).collect();
        StepLine::through(&steps).ok().filter(|line| line.slope > 0.0)
    }

    /// Scatter of a reading in this check, pooled, with its degrees of freedom.
    fn scatter(&self) -> (f64, usize) {
        let (mut squares, mut free) = (0.0, 0);
        for step in &self.steps {
            let (mean, singles) = (step.mean(), step.singles());
            squares += singles.iter().map(|one| (one - mean).powi(2)).sum::<f64>();
            free += singles.len() - 1;
        }
        (if free > 0 { (squares / free as f64).sqrt() } else { 0.0 }, free)
    }

    /// Parts of the uncertainty of what a line tells: of certified thicknesses, of the display, of the scatter, each by its
    /// share in slope or intercept. `scale` makes of it what is told.
    fn of_line(&self, line: &StepLine, of_slope: bool, scale: f64) -> Vec<Contribution> {
        let share = |of: &dyn Fn(&Read<'_>) -> f64| {
            let parts: Vec<f64> = self.steps.iter().map(of).collect();
            let (at_nothing, slope) = line.uncertainties(&parts);
            scale.abs() * if of_slope { slope } else { at_nothing }
        };
        let (s, free) = self.scatter();
        let mut parts = vec![
            Contribution::known(
                ContributionSource::Certificate,
                share(&|step| line.slope * step.of_reference()),
            ),
            Contribution::known(ContributionSource::Resolution, share(&|_| rounding_of(self.plan))),
        ];
        if free > 0 {
            let of_mean = |step: &Read<'_>| s / (step.shown.len() as f64).sqrt();
            let source = ContributionSource::Repeatability;
            parts.push(Contribution::estimated(source, share(&of_mean), free as f64));
        }
        parts
    }

    /// Velocity that the steps speak for, v/b, brought to 20 °C where the plan says how.
    fn velocity_of(&self, line: &StepLine) -> Option<Characteristic> {
        let set = to_f64(self.velocity?);
        let velocity = set / line.slope;
        let mut contributions = self.of_line(line, true, velocity / line.slope);
        let rounding = 1.0 / (12.0_f64.sqrt() * line.slope);
        contributions.push(Contribution {
            label: "Velocity as it is shown".into(),
            ..Contribution::known(ContributionSource::Resolution, rounding)
        });
        let (mut told, mut label) = (velocity, "Velocity that the steps speak for".to_owned());
        if let Some((per_degree, at)) = self.settings.per_degree.zip(self.temperature) {
            let per_degree = to_f64(per_degree);
            told += per_degree * (to_f64(at) - AT);
            label.push_str(", at 20 °C");
            let condition =
                self.settings.around.conditions.iter().find(|one| one.standard_temperature);
            let half_digit = to_f64(Decimal::new(5, at.scale() + 1));
            let stated = condition.and_then(|one| one.half_width).map_or(0.0, to_f64);
            let u = per_degree.abs() * half_digit.max(stated) / 3.0_f64.sqrt();
            contributions.push(Contribution::known(ContributionSource::Temperature, u));
        }
        let value = Decimal::from_f64(told)?.round_dp(VELOCITY_PLACES);
        Some(Characteristic {
            limits: self.velocity_limits(),
            contributions,
            charted: true,
            rests_on: self.standards(),
            ..Characteristic::bare(
                CharacteristicKind::Indication,
                ("velocity-by-steps".into(), label),
                (Unit::MetrePerSecond, 0),
                vec![value],
                rounding,
            )
        })
    }

    /// What it would show at no thickness: an error of the probe zero, or a probe that is worn.
    fn zero_of(&self, line: &StepLine) -> Option<Characteristic> {
        self.velocity?;
        let scale = error_scale(self.plan);
        Some(Characteristic {
            contributions: self.of_line(line, false, scale),
            charted: true,
            rests_on: self.standards(),
            ..self.computed((ZERO_KEY, "Zero that the steps speak for"), scale * line.at_nothing)?
        })
    }

    /// The largest departure from the line, without its sign.
    fn residual_of(&self, line: &StepLine) -> Option<Characteristic> {
        let largest = error_scale(self.plan) * line.largest_residual()?.abs();
        let unit = error_unit(self.plan);
        let limit = self.settings.residual_limit.as_ref();
        let upper = limit.and_then(|limit| limit.limits_in(unit, Decimal::ZERO, self.plan)?.upper);
        // That of one mean, the least well known one: a line through others takes a part of it away.
        let (s, free) = self.scatter();
        let fewest = self.steps.iter().map(|step| step.shown.len()).min().unwrap_or(1).max(1);
        let u = error_scale(self.plan) * s / (fewest as f64).sqrt();
        let source = ContributionSource::Repeatability;
        let scatter = (free > 0).then(|| Contribution::estimated(source, u, free as f64));
        let rounding =
            Contribution::known(ContributionSource::Resolution, rounding_of_errors(self.plan));
        Some(Characteristic {
            contributions: std::iter::once(rounding).chain(scatter).collect(),
            limits: upper.map(|upper| ToleranceLimits { lower: None, upper: Some(upper) }),
            ..self.computed(("largest-residual", "Largest departure from a line"), largest)?
        })
    }

    /// A number that is computed of all steps, in the unit of errors, with a place more than the display has.
    fn computed(&self, (key, label): (&str, &str), value: f64) -> Option<Characteristic> {
        let plan = self.plan;
        let unit = error_unit(plan);
        let decimals = decimals_of(plan.unit.convert(plan.resolution, unit)) + 1;
        let value = Decimal::from_f64(value)?.round_dp(decimals + MORE_PLACES);
        Some(Characteristic::bare(
            CharacteristicKind::Indication,
            (key.into(), label.into()),
            (unit, decimals),
            vec![value],
            rounding_of_errors(plan),
        ))
    }

    fn standards(&self) -> Vec<usize> {
        let mut places: Vec<usize> = self.steps.iter().map(|step| step.point.standard).collect();
        places.sort_unstable();
        places.dedup();
        places
    }

    /// What the errors look like, each with what is uncertain of it in this check.
    fn pattern(&self) -> Option<Pattern> {
        let (s, free) = self.scatter();
        let step = to_f64(self.plan.resolution);
        let s = if free >= ENOUGH { s.max(step / 12.0_f64.sqrt()) } else { s.max(step) };
        let steps: Vec<(f64, f64, f64)> = self
            .steps
            .iter()
            .map(|read| {
                let of_mean = s / (read.shown.len().max(1) as f64).sqrt();
                let u = of_mean.hypot(rounding_of(self.plan)).hypot(read.of_reference());
                (read.thickness(), read.error(), u)
            })
            .collect();
        Pattern::of(&steps)
    }

    /// What the steps speak for, in words.
    fn facts(&self, found: &[Characteristic]) -> Vec<Fact> {
        let mut facts: Vec<Fact> = found
            .iter()
            .filter(|one| one.kind == CharacteristicKind::Indication)
            .map(|one| {
                // A zero lies on either side of nothing.
                let show = if one.key == ZERO_KEY { show_signed_float } else { show_float };
                Fact {
                    name: one.label.clone(),
                    value: format!("{} {}", show(one.value(), one.decimals), one.unit),
                    inside: one.limits.map(|limits| limits.hold_mean(one.sum(), one.n())),
                }
            })
            .collect();
        let proof: Vec<&Read<'_>> =
            self.steps.iter().filter(|step| self.settings.proves(step.point.nominal)).collect();
        if let Some(worst) = proof.iter().max_by(|a, b| a.error().abs().total_cmp(&b.error().abs()))
        {
            let unit = error_unit(self.plan);
            let places = decimals_of(self.plan.unit.convert(self.plan.resolution, unit)) + 1;
            let words = value_words(self.plan, worst.point.nominal);
            let error = show_signed_float(error_scale(self.plan) * worst.error(), places);
            facts.push(fact(
                "Largest error where it was not set",
                &format!("{error} {unit} at {words}"),
            ));
        }
        if let Some(line) = self.line() {
            if line.residuals.is_none() {
                facts.push(fact(
                    "Departure from a line",
                    "two steps leave none: they prove nothing",
                ));
            }
            facts.extend(
                self.pattern().map(|pattern| fact("Pattern of the errors", pattern.words())),
            );
        }
        facts
    }
}

fn fact(name: &str, value: &str) -> Fact {
    Fact { name: name.to_owned(), value: value.to_owned(), inside: None }
}

/// Numbers, the errors over the thickness with the line through them, and the errors as bars.
pub fn live(plan: &PlanSpec, settings: &SettingsV1, run: &RunState) -> Result<Live, MethodError> {
    let bench = Bench::of(plan, settings, run)?;
    let found = bench.characteristics()?;
    let facts = bench.facts(&found);
    let (unit, scale) = (error_unit(plan), error_scale(plan));
    let plot = bench.line().filter(|line| line.residuals.is_some()).map(|line| {
        let mut errors: Vec<(f64, f64)> =
            bench.steps.iter().map(|step| (step.thickness(), scale * step.error())).collect();
        errors.sort_by(|a, b| a.0.total_cmp(&b.0));
        let of_line = |d: f64| (d, scale * (line.at_nothing + (line.slope - 1.0) * d));
        let thickest = errors.last().map_or(0.0, |last| last.0);
        let places = decimals_of(plan.resolution);
        let of_error = decimals_of(plan.unit.convert(plan.resolution, unit)) + 1;
        let words: Vec<String> = errors
            .iter()
            .map(|(d, error)| {
                let error = show_signed_float(*error, of_error);
                format!("{error} {unit} at {} {}", show_float(*d, places), plan.unit)
            })
            .collect();
        Picture::Plot(Plot {
            title: "Errors over the thickness".into(),
            description: format!(
                "{}; the line is what velocity and zero make of them.",
                words.join("; ")
            ),
            x: PlotAxis { name: "certified thickness".into(), unit: plan.unit.symbol().into() },
            y: PlotAxis { name: "error".into(), unit: unit.symbol().into() },
            curves: vec![
                Curve {
                    name: "by velocity and zero".into(),
                    kind: CurveKind::Fit,
                    points: vec![of_line(0.0), of_line(thickest)],
                },
                Curve { name: "errors".into(), kind: CurveKind::Points, points: errors },
            ],
            marks: vec![],
        })
    });
    Ok(Live { facts, pictures: plot.into_iter().chain(bars_of(&found)).collect() })
}
