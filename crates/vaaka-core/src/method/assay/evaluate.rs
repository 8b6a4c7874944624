//! Characteristics of an assay: what controls read back, what the standards of the curve do, its slope, its foot.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::curve::{Bench, Curve, Fitted, Solution};
use super::keys::{blank_key, key_of, solution_key};
use super::{Blank, CurveFrom, SettingsV1, Weighting};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::method::common::{error_scale, error_unit, of_reading, rescaled, value_words};
use crate::method::{MethodError, PlanSpec, RunState};
use crate::quantity::{Unit, decimals_of, to_f64};

/// Places beyond those of the display that are kept of what is computed.
const MORE_PLACES: u32 = 6;
/// Places beyond those of the absorbance with which a slope is told.
const OF_SLOPE: u32 = 1;

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    run.all_readings(blank_key(), settings.readings_of_blank())?;
    for (index, point) in plan.points.iter().enumerate() {
        run.all_readings(solution_key(index, point), point.repeats)?;
    }
    so_far(plan, settings, run)
}

/// As [`evaluate`], of what was read at all.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    Ok(Bench::of(plan, settings, run)?.characteristics())
}

impl Bench<'_> {
    pub fn characteristics(&self) -> Vec<Characteristic> {
        let mut found = vec![];
        if let Some(curve) = self.curve {
            // What is judged by the curve stands before what makes it.
            let mut all: Vec<&Solution<'_>> = self.solutions.iter().collect();
            all.sort_by_key(|one| (!one.control, one.point.nominal));
            found.extend(all.into_iter().map(|one| self.error(curve, one)));
        }
        found.extend(self.blank_mean());
        found.extend(self.highest());
        if let Some(fitted) = &self.fitted {
            found.push(self.slope(fitted));
            found.extend(self.intercept(fitted));
            found.extend(self.scatter(fitted));
        }
        found
    }

    /// One rounding of the absorbance, d/√12.
    fn rounding(&self) -> f64 {
        to_f64(self.settings.absorbance_step) / 12.0_f64.sqrt()
    }

    fn places(&self) -> u32 {
        decimals_of(self.settings.absorbance_step)
    }

    /// Largest relative standard uncertainty of the standards of the curve. They come of one stock, and err together.
    fn relative_of_standards(&self) -> f64 {
        let own = self.solutions.iter().filter(|one| !one.control);
        own.map(|one| one.of_reference() / one.concentration()).fold(0.0, f64::max)
    }

    /// What a solution reads back, less what is in it.
    fn error(&self, curve: Curve, solution: &Solution<'_>) -> Characteristic {
        let (plan, settings, point) = (self.plan, self.settings, solution.point);
        let (unit, scale) = (error_unit(plan), error_scale(plan));
        let reference = plan.unit.convert(solution.reference.reference_value, unit);
        let decimals = decimals_of(plan.unit.convert(plan.resolution, unit));
        let errors: Vec<Decimal> = solution
            .shown
            .iter()
            .map(|shown| {
                let found = scale * curve.read_back(self.taken(*shown));
                let found = Decimal::from_f64(found).unwrap_or(Decimal::ZERO);
                found.round_dp(decimals + MORE_PLACES) - reference
            })
            .collect();
        let singles: Vec<f64> = errors.iter().map(|error| to_f64(*error)).collect();
        let rounding = scale * self.rounding() / curve.slope;
        let mut contributions = rescaled(solution.reference.contributions.clone(), scale);
        let n = singles.len().max(1) as f64;
        contributions.extend(self.of_own_readings(curve, &singles, rounding));
        let found = to_f64(reference) + singles.iter().sum::<f64>() / n;
        contributions.extend(self.of_curve(curve, found / scale).into_iter().map(|mut part| {
            part.standard_uncertainty *= scale;
            part
        }));
        let words = value_words(plan, point.nominal);
        let (label, limit) = match solution.control {
            true => (format!("Error at {words}"), Some(&settings.control_limit)),
            false => {
                (format!("Error at {words}, calibration standard"), settings.curve_limit.as_ref())
            }
        };
        let of_curve = plan.points.iter().filter(|one| !settings.is_control(one));
        let mut rests_on: Vec<usize> =
            of_curve.map(|one| one.standard).chain([point.standard]).collect();
        rests_on.sort_unstable();
        rests_on.dedup();
        Characteristic {
            nominal: Some(point.nominal),
            reference_value: Some(reference),
            limits: limit
                .and_then(|limit| limit.limits_in(unit, solution.reference.reference_value, plan)),
            contributions,
            charted: point.charted,
            rests_on,
            scatter_weight: 1.0 / n.sqrt(),
            ..Characteristic::bare(
                CharacteristicKind::Error,
                (key_of("error", point), label),
                (unit, decimals),
                errors,
                rounding,
            )
        }
    }

    /// Rounding and scatter of the mean of what one solution read back: by the scatter about the curve, which knows it from more
    /// readings than these, where all readings scatter alike.
    fn of_own_readings(&self, curve: Curve, singles: &[f64], rounding: f64) -> Vec<Contribution> {
        let line = self.fitted.as_ref().map(|fitted| &fitted.line);
        let known = line.filter(|line| {
            self.settings.weighting == Weighting::Equal && line.freedom() >= singles.len()
        });
        match known.and_then(|line| Some((line.std_dev?, line.freedom()))) {
            Some((s, free)) => {
                let u =
                    error_scale(self.plan) * s / curve.slope / (singles.len().max(1) as f64).sqrt();
                let source = ContributionSource::Repeatability;
                vec![
                    Contribution::known(ContributionSource::Resolution, rounding),
                    Contribution::estimated(source, u, free as f64),
                ]
            }
            None => of_reading(singles, rounding),
        }
    }

    /// What is uncertain of a concentration by the curve: its line, the solutions that made it, and the blank that is taken off.
    fn of_curve(&self, curve: Curve, found: f64) -> Vec<Contribution> {
        let other = |label: &str, part: Contribution| Contribution { label: label.into(), ..part };
        if self.settings.curve == CurveFrom::Kept {
            let share = self.settings.kept_uncertainty.map_or(0.0, to_f64) / 100.0;
            let u = share * found.abs();
            let part = Contribution::known(ContributionSource::Other, u);
            return vec![other("Stored calibration curve", part)];
        }
        let u = self.relative_of_standards() * found.abs();
        let part = Contribution::known(ContributionSource::Certificate, u);
        let mut parts = vec![other("Calibration standards", part)];
        if let Some((line, s)) =
            self.fitted.as_ref().and_then(|one| Some((&one.line, one.line.std_dev?)))
        {
            let u = s / curve.slope * line.share_at(found).sqrt();
            let part = Contribution::estimated(ContributionSource::Other, u, line.freedom() as f64);
            parts.push(other("Regression line", part));
        }
        if self.settings.blank == Blank::Subtracted
            && let Ok(s) = crate::stats::sample_std_dev(
                &self.blank.iter().map(|one| to_f64(*one)).collect::<Vec<_>>(),
            )
        {
            let n = self.blank.len() as f64;
            let u = s / n.sqrt() / curve.slope;
            let part = Contribution::estimated(ContributionSource::Other, u, n - 1.0);
            parts.push(other("Blank subtracted", part));
        }
        parts
    }

    fn indication(
        &self,
        names: (&str, String),
        (unit, decimals): (Unit, u32),
        singles: Vec<Decimal>,
        rounding: f64,
    ) -> Characteristic {
        let (key, label) = names;
        let names = (key.to_owned(), label);
        let kind = CharacteristicKind::Indication;
        Characteristic::bare(kind, names, (unit, decimals), singles, rounding)
    }

    fn blank_mean(&self) -> Option<Characteristic> {
        let n = self.blank.len();
        let singles: Vec<f64> = self.blank.iter().map(|one| to_f64(*one)).collect();
        (n > 0).then(|| Characteristic {
            limits: self.settings.blank_limit.map(ToleranceLimits::symmetric),
            contributions: of_reading(&singles, self.rounding()),
            charted: true,
            scatter_weight: 1.0 / (n as f64).sqrt(),
            ..self.indication(
                ("blank", "Blank absorbance".into()),
                (Unit::Absorbance, self.places()),
                self.blank.clone(),
                self.rounding(),
            )
        })
    }

    /// The highest absorbance that was read: above the end of the linear range nothing is proven by it.
    fn highest(&self) -> Option<Characteristic> {
        let highest = *self.solutions.iter().flat_map(|one| &one.shown).max()?;
        let still = Contribution {
            label: "Single reading as shown".into(),
            ..Contribution::known(ContributionSource::Repeatability, 0.0)
        };
        let rounding = Contribution::known(ContributionSource::Resolution, self.rounding());
        Some(Characteristic {
            limits: Some(ToleranceLimits { lower: None, upper: Some(self.settings.linear_to) }),
            contributions: vec![rounding, still],
            ..self.indication(
                ("highest", "Highest absorbance".into()),
                (Unit::Absorbance, self.places()),
                vec![highest],
                self.rounding(),
            )
        })
    }

    fn computed(&self, value: f64, places: u32) -> Vec<Decimal> {
        vec![Decimal::from_f64(value).unwrap_or(Decimal::ZERO).round_dp(places + MORE_PLACES)]
    }

    /// b, over one unit of concentration.
    fn slope(&self, fitted: &Fitted) -> Characteristic {
        let line = &fitted.line;
        let usual = self.settings.slope;
        let half = usual * self.settings.slope_band / Decimal::ONE_HUNDRED;
        let rounding = self.rounding() / line.sum_squares_x.sqrt();
        let mut contributions = vec![
            Contribution::known(
                ContributionSource::Certificate,
                self.relative_of_standards() * line.slope.abs(),
            ),
            Contribution::known(ContributionSource::Resolution, rounding),
        ];
        if let Some(s) = line.std_dev {
            let u = s / line.sum_squares_x.sqrt();
            let source = ContributionSource::Repeatability;
            contributions.push(Contribution::estimated(source, u, line.freedom() as f64));
        }
        // As many places as the usual slope has, or one more than the display.
        let places = usual.normalize().scale().max(self.places() + OF_SLOPE);
        Characteristic {
            limits: Some(ToleranceLimits { lower: Some(usual - half), upper: Some(usual + half) }),
            contributions,
            charted: true,
            rests_on: vec![0],
            ..self.indication(
                ("slope", format!("Slope per {}", self.plan.unit)),
                (Unit::Absorbance, places),
                self.computed(line.slope, places),
                rounding,
            )
        }
    }

    /// a, where the line is free to have one.
    fn intercept(&self, fitted: &Fitted) -> Option<Characteristic> {
        let line = &fitted.line;
        let share = line.share_at(0.0).sqrt();
        let rounding = self.rounding() * share;
        let mut contributions = vec![Contribution::known(ContributionSource::Resolution, rounding)];
        if let Some(s) = line.std_dev {
            let source = ContributionSource::Repeatability;
            contributions.push(Contribution::estimated(source, s * share, line.freedom() as f64));
        }
        let places = self.places() + OF_SLOPE;
        (!line.through_origin).then(|| Characteristic {
            contributions,
            charted: true,
            rests_on: vec![0],
            ..self.indication(
                ("intercept", "Intercept".into()),
                (Unit::Absorbance, places),
                self.computed(line.intercept, places),
                rounding,
            )
        })
    }

    /// Residual standard deviation, in concentration; two points leave none, and weights make it that of no one reading.
    fn scatter(&self, fitted: &Fitted) -> Option<Characteristic> {
        let curve = self.curve?;
        let s = fitted.line.std_dev.filter(|_| self.settings.weighting == Weighting::Equal)?;
        let (unit, scale) = (error_unit(self.plan), error_scale(self.plan));
        let places = decimals_of(self.plan.unit.convert(self.plan.resolution, unit)) + OF_SLOPE;
        let rounding = scale * self.rounding() / curve.slope;
        Some(Characteristic {
            contributions: vec![Contribution::known(ContributionSource::Resolution, rounding)],
            rests_on: vec![0],
            ..self.indication(
                ("residual", "Residual standard deviation".into()),
                (unit, places),
                self.computed(scale * s / curve.slope, places),
                rounding,
            )
        })
    }
}
