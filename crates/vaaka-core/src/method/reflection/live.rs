//! What is seen while sweeping: the newest standard beside its model, then the piece as it is corrected beside what is certified of it.

use super::SettingsV1;
use super::evaluate::Bench;
use super::keys::{Part, Put, place_of};
use crate::method::{
    CurveKind, EntryValue, Fact, Live, MethodError, Picture, PlanSpec, Plane, PlaneCurve,
    PlaneMark, RunState, Step, bars_of,
};
use crate::network::Complex;
use crate::quantity::{decimals_of, show_float, to_f64};
use crate::standard::combine;
use crate::trace::Trace;

/// Further from its model than this something else was put on, or a nut is loose.
const OTHER: f64 = 0.5;

pub fn live(plan: &PlanSpec, settings: &SettingsV1, run: &RunState) -> Result<Live, MethodError> {
    let bench = Bench::of(plan, settings, run);
    let found = bench.characteristics()?;
    let mut facts = vec![];
    for (put, trace) in Put::ALL.into_iter().zip(&bench.kit) {
        if let Some(trace) = trace {
            facts.extend(bench.likeness(put, trace));
        }
    }
    let mut pictures = vec![];
    match bench.pieces.last() {
        Some(_) if !bench.told_apart() => facts.push(Fact {
            name: "Result".into(),
            value: "none: two standards were measured alike".into(),
            inside: Some(false),
        }),
        Some(piece) => {
            facts.extend(bench.port());
            pictures.extend(bench.piece(piece)?);
        }
        None => pictures.extend(bench.standard()),
    }
    pictures.extend(bars_of(&found));
    Ok(Live { facts, pictures })
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// Whether a sweep of a standard is like another one, or like none, with what was swept before it.
pub fn doubt(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
    step: &Step,
    value: &EntryValue,
) -> Option<String> {
    let put = Put::ALL.into_iter().find(|put| put.key() == step.key)?;
    let EntryValue::Trace { trace, .. } = value else { return None };
    let likeness = Bench::of(plan, settings, run).likeness(put, trace)?;
    (likeness.inside == Some(false)).then(|| format!("This sweep: {}", likeness.value))
}

/// The points of a sweep as complex numbers with their frequencies.
fn points(trace: &Trace) -> Vec<(f64, Complex)> {
    let Some((channel, im)) = trace.channels.first().and_then(|one| Some((one, one.im.as_ref()?)))
    else {
        return vec![];
    };
    let values = channel.re.iter().zip(im).map(|(re, im)| Complex::new(*re, *im));
    trace.axis.iter().copied().zip(values).collect()
}

fn shown(points: &[(f64, Complex)]) -> Vec<(f64, f64, f64)> {
    points.iter().map(|(x, value)| (value.re, value.im, *x)).collect()
}

impl Bench<'_> {
    /// A sweep of a standard as it is seen beside the short: what cable and port do to all of them alike is taken off, so that the
    /// length of a cable turns nothing. The short itself, and what comes before it, is as it was swept.
    fn seen(&self, put: Put, trace: &Trace) -> Vec<(f64, Complex)> {
        let mut own = points(trace);
        if let (false, [Some(short), ..]) = (put == Put::Short, &self.kit) {
            own = own
                .into_iter()
                .filter_map(|(x, raw)| {
                    let model = self.settings.models.reflection(Put::Short, x * 1e9)?;
                    let value = raw * model / super::evaluate::read_at(short, x)?;
                    value.is_finite().then_some((x, value))
                })
                .collect();
        }
        own
    }

    /// How far a sweep of a standard lies from its model, and which it is like.
    fn likeness(&self, put: Put, trace: &Trace) -> Option<Fact> {
        let own = self.seen(put, trace);
        let mean = |of: &dyn Fn(f64, Complex) -> Option<f64>| {
            let all: Option<Vec<f64>> = own.iter().map(|(x, value)| of(*x, *value)).collect();
            all.filter(|all| !all.is_empty()).map(|all| all.iter().sum::<f64>() / all.len() as f64)
        };
        let model = |other: Put, x: f64| self.settings.models.reflection(other, x * 1e9);
        let name = format!("Kit: {}", put.word());
        if put == Put::Short {
            // Alone it says how much it reflects, and not where.
            let much = mean(&|_, value| Some(value.norm()))?;
            let little = much < OTHER;
            let value = match little {
                true => format!("mean |Γ| {}: this is not a short", show_float(much, 2)),
                false => format!("mean |Γ| {}, uncorrected", show_float(much, 2)),
            };
            return Some(Fact { name, value, inside: Some(!little) });
        }
        let off = |other: Put| mean(&|x, value| Some((value - model(other, x)?).norm()));
        let own_off = off(put)?;
        let others = Put::ALL.into_iter().filter_map(|other| Some((other, off(other)?)));
        let (nearest, _) = others.min_by(|a, b| a.1.total_cmp(&b.1))?;
        let value = if nearest == Put::Short {
            format!("looks like the short, not the {}: the two are swapped", put.word())
        } else if nearest != put {
            format!(
                "looks like the {}, not the {}: check what is connected",
                nearest.word(),
                put.word()
            )
        } else if own_off > OTHER {
            format!("mean deviation from its model {}: is the nut tight?", show_float(own_off, 2))
        } else {
            format!(
                "mean deviation from its model {}, relative to the short",
                show_float(own_off, 3)
            )
        };
        Some(Fact { name, value, inside: Some(nearest == put && own_off <= OTHER) })
    }

    /// What the port does by itself, at the lowest and the highest certified frequency.
    fn port(&self) -> Vec<Fact> {
        let all = super::frequencies(self.plan);
        let ends =
            all.first().into_iter().chain(all.last().filter(|last| all.first() != Some(*last)));
        let decibels = |of: Complex| {
            let magnitude = of.norm();
            if magnitude > 0.0 {
                format!("{} dB", show_float(20.0 * magnitude.log10(), 1))
            } else {
                "nothing".into()
            }
        };
        ends.filter_map(|gigahertz| {
            let terms = self.terms(to_f64(*gigahertz))?;
            Some(Fact {
                name: format!("Port at {gigahertz} GHz"),
                value: format!(
                    "directivity {}, source match {}, tracking {}",
                    decibels(terms.directivity),
                    decibels(terms.source_match),
                    decibels(terms.tracking)
                ),
                inside: None,
            })
        })
        .collect()
    }

    /// The newest standard beside its model.
    fn standard(&self) -> Option<Picture> {
        let (put, trace) = Put::ALL
            .into_iter()
            .zip(&self.kit)
            .filter_map(|(put, trace)| Some((put, trace.as_ref()?)))
            .next_back()?;
        let own = self.seen(put, trace);
        let model: Vec<(f64, f64, f64)> = own
            .iter()
            .filter_map(|(x, _)| {
                let value = self.settings.models.reflection(put, x * 1e9)?;
                Some((value.re, value.im, *x))
            })
            .collect();
        let word = put.word();
        Some(Picture::Plane(Plane {
            title: match put {
                Put::Short => "Short, uncorrected".into(),
                Put::Open | Put::Load => format!("{}, relative to the short", capital(word)),
            },
            description: format!(
                "The sweep of the {word} in the complex plane, beside the place of its model at the same frequencies; what cable and port do is in the sweep of the short alone."
            ),
            impedance: to_f64(self.settings.models.impedance),
            axis: ("frequency".into(), "GHz".into()),
            curves: vec![
                PlaneCurve { name: "model".into(), kind: CurveKind::Fit, points: model },
                PlaneCurve { name: "measured".into(), kind: CurveKind::Line, points: shown(&own) },
            ],
            marks: vec![],
        }))
    }

    /// The piece as it is corrected, beside what is certified of it.
    fn piece(&self, newest: &Trace) -> Result<Option<Picture>, MethodError> {
        let corrected = |trace: &Trace| -> Vec<(f64, f64, f64)> {
            let all = trace.axis.iter();
            all.filter_map(|x| Some((self.corrected(trace, *x)?, *x)))
                .map(|(value, x)| (value.re, value.im, x))
                .collect()
        };
        let mut curves: Vec<PlaneCurve> = vec![];
        let before = self.pieces.len().saturating_sub(1);
        curves.extend(self.pieces.iter().take(before).map(|trace| PlaneCurve {
            name: "before".into(),
            kind: CurveKind::Before,
            points: corrected(trace),
        }));
        let own = corrected(newest);
        if own.is_empty() {
            return Ok(None);
        }
        curves.push(PlaneCurve { name: "corrected".into(), kind: CurveKind::Line, points: own });
        let places = decimals_of(self.plan.resolution);
        let mut marks = vec![];
        for gigahertz in super::frequencies(self.plan) {
            let of = |wanted: Part| -> Result<Option<f64>, MethodError> {
                let point = self
                    .plan
                    .points
                    .iter()
                    .find(|point| place_of(point) == Some((gigahertz, wanted)));
                point
                    .map(|point| {
                        Ok(to_f64(combine(&point.pieces, self.plan.unit)?.reference_value))
                    })
                    .transpose()
            };
            // A circle needs both parts.
            let (Some(re), Some(im)) = (of(Part::Real)?, of(Part::Imaginary)?) else { continue };
            let x = to_f64(gigahertz);
            let found = self.corrected(newest, x);
            let certified = rust_decimal::Decimal::try_from(re).unwrap_or_default();
            let limits = self.settings.vector_limit.limits(certified, self.plan);
            let radius =
                limits.and_then(|limits| limits.upper.or(limits.lower.map(|lower| -lower)));
            let words = found.map_or_else(String::new, |found| {
                format!(", |ΔΓ| {}", show_float((found - Complex::new(re, im)).norm(), places))
            });
            marks.push(PlaneMark {
                at: (re, im),
                radius: radius.map_or(0.0, to_f64),
                name: format!("{gigahertz} GHz{words}"),
                found: found.map(|found| (found.re, found.im)),
            });
        }
        let words: Vec<&str> = marks.iter().map(|mark| mark.name.as_str()).collect();
        Ok(Some(Picture::Plane(Plane {
            title: "Verification standard, corrected".into(),
            description: format!(
                "The corrected sweep of the piece in the complex plane, beside what is certified of it: {}.",
                words.join("; ")
            ),
            impedance: to_f64(self.settings.models.impedance),
            axis: ("frequency".into(), "GHz".into()),
            curves,
            marks,
        })))
    }
}
