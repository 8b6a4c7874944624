//! What is seen of an assay while it is measured: the curve with its residuals, and what it proves and does not.

use super::SettingsV1;
use super::curve::{Bench, Curve, Fitted, Solution};
use crate::judgement::{Characteristic, CharacteristicKind};
use crate::method::common::{error_scale, error_unit, value_words};
use crate::method::{
    Curve as Drawn, CurveKind, Fact, Live, MethodError, Picture, PlanSpec, Plot, PlotAxis,
    PlotMark, RunState, bars_of,
};
use crate::quantity::{decimals_of, show_float, show_signed_float, to_f64};

/// Confidence of the intervals that are told.
const CONFIDENCE: f64 = 0.95;
/// Below this probability a line is said to be bent.
const BENT: f64 = 0.01;
/// Fewer standards prove little of a curve (ISO 8466-1 asks for ten, many laboratories for five; from memory).
const ENOUGH: usize = 5;

pub fn live(plan: &PlanSpec, settings: &SettingsV1, run: &RunState) -> Result<Live, MethodError> {
    let bench = Bench::of(plan, settings, run)?;
    let found = bench.characteristics();
    let mut facts = bench.facts(&found);
    let mut pictures = vec![];
    if let Some(curve) = bench.curve {
        pictures.push(bench.plot(curve));
        if let Some(fitted) = &bench.fitted {
            pictures.extend(bench.residuals(curve, fitted));
        }
    } else if bench.fitted.is_some() {
        facts.push(fact("Result", "none: the calibration curve does not rise".into()));
    }
    pictures.extend(bars_of(&found));
    Ok(Live { facts, pictures })
}

fn fact(name: &str, value: String) -> Fact {
    Fact { name: name.to_owned(), value, inside: None }
}

impl Bench<'_> {
    fn both_places(&self) -> (u32, u32) {
        (decimals_of(self.plan.resolution) + 1, decimals_of(self.settings.absorbance_step))
    }

    fn facts(&self, found: &[Characteristic]) -> Vec<Fact> {
        let mut facts = vec![];
        if let Some(curve) = self.curve {
            facts.extend(
                self.solutions
                    .iter()
                    .filter(|one| one.control)
                    .map(|one| self.control(curve, one, found)),
            );
        }
        let told = found.iter().filter(|one| one.kind == CharacteristicKind::Indication);
        facts.extend(told.map(|one| {
            let show = if one.key == "slope" || one.key == "residual" || one.key == "highest" {
                show_float
            } else {
                show_signed_float
            };
            Fact {
                name: one.label.clone(),
                value: format!("{} {}", show(one.value(), one.decimals), one.unit),
                inside: one.limits.map(|limits| limits.hold_mean(one.sum(), one.n())),
            }
        }));
        if let Some(bends) = self.settings.bends_above.map(to_f64) {
            let highest = self
                .solutions
                .iter()
                .flat_map(|one| &one.shown)
                .max()
                .map_or(0.0, |one| to_f64(*one));
            if highest > bends {
                let places = self.both_places().1;
                facts.push(fact(
                    "High absorbance",
                    format!(
                        "{} Abs: above {} Abs stray light and noise bend a calibration curve",
                        show_float(highest, places),
                        show_float(bends, places)
                    ),
                ));
            }
        }
        if let Some(fitted) = &self.fitted {
            self.facts_of_curve(fitted, &mut facts);
        }
        facts
    }

    /// What a control reads back, with its interval.
    fn control(&self, curve: Curve, solution: &Solution<'_>, found: &[Characteristic]) -> Fact {
        let (places, _) = self.both_places();
        let taken: Vec<f64> = solution.shown.iter().map(|shown| self.taken(*shown)).collect();
        let mean = taken.iter().sum::<f64>() / taken.len().max(1) as f64;
        let value = curve.read_back(mean);
        let share = show_float(100.0 * value / solution.concentration(), 1);
        let mut words =
            format!("{} {}, recovery {share} %", show_float(value, places), self.plan.unit);
        let readings = u32::try_from(taken.len()).unwrap_or(u32::MAX);
        let weight = match self.settings.weighting {
            super::Weighting::Equal => 1.0,
            super::Weighting::ByConcentration => 1.0 / value.abs(),
            super::Weighting::BySquare => 1.0 / (value * value),
        };
        if let Some(fitted) = &self.fitted {
            match fitted.line.read_back(mean, (readings, weight), CONFIDENCE) {
                Ok(within) => words.push_str(&format!(
                    " (inverse prediction {} to {}, 95 %)",
                    show_float(within.low, places),
                    show_float(within.high, places)
                )),
                Err(_) if fitted.line.std_dev.is_none() => {
                    words.push_str(" (two standards give no interval)")
                }
                Err(_) => words.push_str(" (outside the calibrated range: no interval)"),
            }
        }
        let key = super::keys::key_of("error", solution.point);
        let one = found.iter().find(|one| one.key == key);
        Fact {
            name: format!("Control {}", value_words(self.plan, solution.point.nominal)),
            value: words,
            inside: one.and_then(|one| Some(one.limits?.hold_mean(one.sum(), one.n()))),
        }
    }

    fn facts_of_curve(&self, fitted: &Fitted, facts: &mut Vec<Fact>) {
        let line = &fitted.line;
        let (places, of_absorbance) = self.both_places();
        if let Ok(within) = line.slope_within(CONFIDENCE) {
            facts.push(fact(
                "Slope, 95 %",
                format!(
                    "{} to {} Abs",
                    show_float(within.low, of_absorbance + 2),
                    show_float(within.high, of_absorbance + 2)
                ),
            ));
        }
        if !line.through_origin
            && let Ok(within) = line.intercept_within(CONFIDENCE)
        {
            let says = if within.low <= 0.0 && within.high >= 0.0 {
                "includes zero"
            } else {
                "excludes zero: check blank and cell"
            };
            facts.push(fact(
                "Intercept, 95 %",
                format!(
                    "{} to {} Abs; {says}",
                    show_signed_float(within.low, of_absorbance + 1),
                    show_signed_float(within.high, of_absorbance + 1)
                ),
            ));
        }
        let standards = self.solutions.iter().filter(|one| !one.control).count();
        if line.std_dev.is_none() {
            facts.push(fact(
                "Standards",
                "two standards leave no residuals and prove nothing about the curve".into(),
            ));
        } else if standards < ENOUGH {
            facts.push(fact(
                "Standards",
                format!("{standards} standards show little of a curvature; use {ENOUGH} or more"),
            ));
        }
        let values =
            |nth: fn(&(f64, f64, f64)) -> f64| fitted.points.iter().map(nth).collect::<Vec<f64>>();
        let (x, y, w) = (values(|one| one.0), values(|one| one.1), values(|one| one.2));
        let words = match line.lack_of_fit(&x, &y, Some(&w)) {
            Some(lack) => {
                let says = if lack.p < BENT {
                    "significant: the curve is bent, or a standard is wrong"
                } else {
                    "not significant: a straight line fits"
                };
                format!(
                    "F = {} on {} and {}, p = {}: {says}",
                    show_float(lack.f, 2),
                    lack.freedom.0,
                    lack.freedom.1,
                    show_float(lack.p, 3)
                )
            }
            None => "cannot be tested: no repeats, or too few standards".into(),
        };
        facts.push(fact("Lack of fit", words));
        facts.push(fact(
            "Correlation r",
            format!("{}; close to 1 for bent curves, too", show_float(line.correlation, 7)),
        ));
        if let Ok(limits) = line.detection_limits((1, 1.0))
            && self.settings.weighting == super::Weighting::Equal
        {
            let told = |value: f64| format!("{} {}", show_float(value, places), self.plan.unit);
            facts.push(fact(
                "Detection and quantification limit",
                format!(
                    "{} (5 % missed) and {} (10 standard deviations), for a single reading",
                    told(limits.detection),
                    told(limits.quantification)
                ),
            ));
        }
    }

    fn axis(&self) -> PlotAxis {
        PlotAxis { name: "concentration".into(), unit: self.plan.unit.symbol().into() }
    }

    fn plot(&self, curve: Curve) -> Picture {
        let (places, of_absorbance) = self.both_places();
        let points = |control: bool| -> Vec<(f64, f64)> {
            let own = self.solutions.iter().filter(|one| one.control == control);
            let mut all: Vec<(f64, f64)> = own
                .flat_map(|one| {
                    one.shown.iter().map(|shown| (one.concentration(), self.taken(*shown)))
                })
                .collect();
            all.sort_by(|a, b| a.0.total_cmp(&b.0));
            all
        };
        let (mut of_curve, controls) = (points(false), points(true));
        let blank: Vec<(f64, f64)> =
            self.blank.iter().map(|shown| (0.0, self.taken(*shown))).collect();
        of_curve.splice(0..0, blank);
        let highest = of_curve.iter().chain(&controls).map(|one| one.0).fold(0.0, f64::max);
        let words: Vec<String> = of_curve
            .iter()
            .chain(&controls)
            .map(|(c, a)| {
                format!(
                    "{} Abs at {} {}",
                    show_float(*a, of_absorbance),
                    show_float(*c, places),
                    self.plan.unit
                )
            })
            .collect();
        let marks = self.solutions.iter().filter(|one| one.control).map(|one| {
            let mean = one.shown.iter().map(|shown| self.taken(*shown)).sum::<f64>()
                / one.shown.len().max(1) as f64;
            let limits =
                self.settings.control_limit.limits(one.reference.reference_value, self.plan);
            let half = limits
                .and_then(|limits| limits.upper.or(limits.lower.map(|lower| -lower)))
                .map_or(0.0, to_f64);
            PlotMark {
                x: one.concentration(),
                half_width: half,
                name: format!("control {}", value_words(self.plan, one.point.nominal)),
                found: Some((curve.read_back(mean), mean)),
            }
        });
        Picture::Plot(Plot {
            title: "Calibration curve".into(),
            description: format!("{}; the line is the calibration curve.", words.join("; ")),
            x: self.axis(),
            y: PlotAxis { name: "absorbance".into(), unit: String::new() },
            curves: vec![
                Drawn {
                    name: "fit".into(),
                    kind: CurveKind::Fit,
                    points: vec![
                        (0.0, curve.absorbance(0.0)),
                        (highest, curve.absorbance(highest)),
                    ],
                },
                Drawn { name: "read".into(), kind: CurveKind::Points, points: of_curve },
            ],
            marks: marks.collect(),
        })
    }

    /// What each reading reads back, less what is in it: a bend is seen here, and not on the curve.
    fn residuals(&self, curve: Curve, fitted: &Fitted) -> Option<Picture> {
        fitted.line.std_dev?;
        let (unit, scale) = (error_unit(self.plan), error_scale(self.plan));
        let mut points: Vec<(f64, f64)> =
            fitted.points.iter().map(|(c, a, _)| (*c, scale * (curve.read_back(*a) - c))).collect();
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        let (places, _) = self.both_places();
        let words: Vec<String> = points
            .iter()
            .map(|(c, error)| {
                format!(
                    "{} {unit} at {}",
                    show_signed_float(*error, places),
                    show_float(*c, places)
                )
            })
            .collect();
        let highest = points.last()?.0;
        Some(Picture::Plot(Plot {
            title: "Residuals".into(),
            description: format!("{}.", words.join("; ")),
            x: self.axis(),
            y: PlotAxis { name: "residual".into(), unit: unit.symbol().into() },
            curves: vec![
                Drawn {
                    name: "zero".into(),
                    kind: CurveKind::Fit,
                    points: vec![(0.0, 0.0), (highest, 0.0)],
                },
                Drawn { name: "readings".into(), kind: CurveKind::Points, points },
            ],
            marks: vec![],
        }))
    }
}
