//! What was read of a run, and the curve that it makes.

use rust_decimal::Decimal;

use super::keys::{blank_key, solution_key};
use super::{Blank, CurveFrom, SettingsV1, Weighting};
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState};
use crate::quantity::to_f64;
use crate::standard::{CombinedReference, combine};
use crate::stats::CalibrationLine;

/// A solution as it was read.
pub struct Solution<'a> {
    pub point: &'a PlanPoint,
    pub reference: CombinedReference,
    /// Whether it is read back only.
    pub control: bool,
    pub shown: Vec<Decimal>,
}

impl Solution<'_> {
    pub fn concentration(&self) -> f64 {
        to_f64(self.reference.reference_value)
    }

    /// Standard uncertainty of its concentration.
    pub fn of_reference(&self) -> f64 {
        let parts = &self.reference.contributions;
        parts.iter().map(|part| part.standard_uncertainty.powi(2)).sum::<f64>().sqrt()
    }
}

/// Below this share of the usual slope a curve tells no concentration from another: nothing is read back by it.
const LEAST_SLOPE: f64 = 0.01;

/// A line that was fitted, with concentrations, absorbances and weights of its points.
pub struct Fitted {
    pub line: CalibrationLine,
    pub points: Vec<(f64, f64, f64)>,
}

/// A line by which absorbances are read back, A = a + b·c.
#[derive(Clone, Copy)]
pub struct Curve {
    pub intercept: f64,
    pub slope: f64,
}

impl Curve {
    /// ĉ = (A − a)/b.
    pub fn read_back(&self, absorbance: f64) -> f64 {
        (absorbance - self.intercept) / self.slope
    }

    /// A = a + b·c.
    pub fn absorbance(&self, concentration: f64) -> f64 {
        self.intercept + self.slope * concentration
    }
}

/// What was read of a run.
pub struct Bench<'a> {
    pub plan: &'a PlanSpec,
    pub settings: &'a SettingsV1,
    pub blank: Vec<Decimal>,
    pub solutions: Vec<Solution<'a>>,
    /// What was fitted, once everything is read that makes it; nothing where the curve is kept.
    pub fitted: Option<Fitted>,
    /// The curve by which is read back, where it rises.
    pub curve: Option<Curve>,
}

impl<'a> Bench<'a> {
    pub fn of(
        plan: &'a PlanSpec,
        settings: &'a SettingsV1,
        run: &RunState,
    ) -> Result<Self, MethodError> {
        let shown = |key| -> Vec<Decimal> {
            run.readings(&key).into_iter().map(|(shown, _)| shown).collect()
        };
        let blank = shown(blank_key());
        let mut solutions = vec![];
        let mut whole = blank.len() >= settings.readings_of_blank() as usize;
        for (index, point) in plan.points.iter().enumerate() {
            let control = settings.is_control(point);
            let shown = shown(solution_key(index, point));
            whole &= control || shown.len() >= point.repeats as usize;
            if !shown.is_empty() {
                let reference = combine(&point.pieces, plan.unit)?;
                solutions.push(Solution { point, reference, control, shown });
            }
        }
        let (fitted, curve) = (None, None);
        let mut bench = Self { plan, settings, blank, solutions, fitted, curve };
        // Of a part of its standards it would be another curve, and what it read back would come and go.
        if whole && settings.curve == CurveFrom::Measured {
            bench.fitted = bench.fit();
        }
        bench.curve = if whole { bench.to_read_by() } else { None };
        Ok(bench)
    }

    /// Mean of the blank.
    pub fn of_blank(&self) -> f64 {
        self.blank.iter().map(|one| to_f64(*one)).sum::<f64>() / self.blank.len().max(1) as f64
    }

    /// An absorbance as the curve takes it.
    pub fn taken(&self, shown: Decimal) -> f64 {
        match self.settings.blank {
            Blank::Point => to_f64(shown),
            Blank::Subtracted => to_f64(shown) - self.of_blank(),
        }
    }

    fn to_read_by(&self) -> Option<Curve> {
        let usual = to_f64(self.settings.slope);
        if self.settings.curve == CurveFrom::Kept {
            let intercept = self.settings.intercept.map_or(0.0, to_f64);
            return Some(Curve { intercept, slope: usual });
        }
        let line = &self.fitted.as_ref()?.line;
        let rises = line.slope >= LEAST_SLOPE * usual;
        rises.then_some(Curve { intercept: line.intercept, slope: line.slope })
    }

    fn fit(&self) -> Option<Fitted> {
        let mut points: Vec<(f64, f64, f64)> = vec![];
        if self.settings.blank == Blank::Point {
            points.extend(self.blank.iter().map(|shown| (0.0, to_f64(*shown), 1.0)));
        }
        for solution in self.solutions.iter().filter(|one| !one.control) {
            let c = solution.concentration();
            let weight = match self.settings.weighting {
                Weighting::Equal => 1.0,
                Weighting::ByConcentration => 1.0 / c,
                Weighting::BySquare => 1.0 / (c * c),
            };
            points.extend(solution.shown.iter().map(|shown| (c, self.taken(*shown), weight)));
        }
        let of = |nth: fn(&(f64, f64, f64)) -> f64| points.iter().map(nth).collect::<Vec<f64>>();
        let (x, y, w) = (of(|one| one.0), of(|one| one.1), of(|one| one.2));
        let line = CalibrationLine::fit(&x, &y, Some(&w), self.settings.through_origin).ok()?;
        Some(Fitted { line, points })
    }
}
