//! Characteristics of a check of one port.

use std::sync::Arc;

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::keys::{Part, Put, key_of, piece_key, place_of, words_of};
use super::{SettingsV1, frequencies};
use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, ToleranceLimits,
};
use crate::method::common::of_reading;
use crate::method::{MethodError, PlanPoint, PlanSpec, RunState};
use crate::network::{Complex, OnePort, one_port_terms};
use crate::quantity::{decimals_of, to_f64};
use crate::standard::combine;
use crate::trace::Trace;

/// Places beyond those of the display that are kept of what is computed.
const MORE_PLACES: u32 = 2;
/// By how much a standard is moved to see what it moves.
const NUDGE: f64 = 1e-6;

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let repeats = plan.points.first().map_or(1, |point| point.repeats);
    let wanted = Put::ALL.map(|put| (put.key(), 1)).into_iter().chain([(piece_key(), repeats)]);
    for (step, required) in wanted {
        let got = run.traces(&step).len();
        if got < required as usize {
            return Err(MethodError::Incomplete { step, required, got });
        }
    }
    so_far(plan, settings, run)
}

/// As [`evaluate`], of the sweeps that there are.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    Bench::of(plan, settings, run).characteristics()
}

/// A sweep at a frequency in GHz, on a straight line between its points; none outside.
pub fn read_at(trace: &Trace, gigahertz: f64) -> Option<Complex> {
    let channel = trace.channels.first()?;
    let im = channel.im.as_ref()?;
    let value = |at: usize| Some(Complex::new(*channel.re.get(at)?, *im.get(at)?));
    let above = trace.axis.partition_point(|x| *x < gigahertz);
    let (high, at_high) = (*trace.axis.get(above)?, value(above)?);
    if high == gigahertz {
        return Some(at_high);
    }
    let below = above.checked_sub(1)?;
    let (low, at_low) = (trace.axis[below], value(below)?);
    Some(at_low + (at_high - at_low) * ((gigahertz - low) / (high - low)))
}

/// Points of a sweep around a frequency, in GHz: one that lies on it, or the two between which it lies; none outside.
fn around(trace: &Trace, gigahertz: f64) -> Option<(f64, f64)> {
    let above = trace.axis.partition_point(|x| *x < gigahertz);
    let high = *trace.axis.get(above)?;
    if high == gigahertz {
        return Some((high, high));
    }
    Some((*trace.axis.get(above.checked_sub(1)?)?, high))
}

/// What was swept.
pub struct Bench<'a> {
    pub plan: &'a PlanSpec,
    pub settings: &'a SettingsV1,
    /// Short, open and load, as far as they were put on.
    pub kit: [Option<Arc<Trace>>; 3],
    pub pieces: Vec<Arc<Trace>>,
}

impl<'a> Bench<'a> {
    pub fn of(plan: &'a PlanSpec, settings: &'a SettingsV1, run: &RunState) -> Self {
        let kit = Put::ALL.map(|put| run.traces(&put.key()).last().map(|trace| Arc::clone(trace)));
        let pieces = run.traces(&piece_key()).into_iter().map(Arc::clone).collect();
        Self { plan, settings, kit, pieces }
    }

    /// What was measured of the kit at a frequency; none before all of it was.
    pub fn measured(&self, gigahertz: f64) -> Option<[Complex; 3]> {
        let [a, b, c] = &self.kit;
        let at = |trace: &Option<Arc<Trace>>| read_at(trace.as_deref()?, gigahertz);
        Some([at(a)?, at(b)?, at(c)?])
    }

    /// Error terms by what was measured of the kit, for models that may be moved.
    fn terms_of(models: &[Complex; 3], measured: &[Complex; 3], hertz: f64) -> Option<OnePort> {
        let standards: Vec<(&[Complex], &[Complex])> = models
            .iter()
            .zip(measured)
            .map(|(a, b)| (std::slice::from_ref(a), std::slice::from_ref(b)))
            .collect();
        one_port_terms(&[hertz], &standards).ok()?.0.pop()
    }

    /// Error terms at a frequency, where the standards are told apart.
    pub fn terms(&self, gigahertz: f64) -> Option<OnePort> {
        let hertz = gigahertz * 1e9;
        let models = self.settings.models.at(hertz)?;
        Self::terms_of(&models, &self.measured(gigahertz)?, hertz)
    }

    /// What the piece is at a frequency. A raw sweep turns with the length of the cable; what is corrected does not, so that the
    /// straight line is drawn between corrected points.
    pub fn corrected(&self, piece: &Trace, gigahertz: f64) -> Option<Complex> {
        let (low, high) = around(piece, gigahertz)?;
        let at = |x: f64| Some(self.terms(x)?.corrected(read_at(piece, x)?));
        let (of_low, of_high) = (at(low)?, at(high)?);
        let share = if high > low { (gigahertz - low) / (high - low) } else { 0.0 };
        let found = of_low + (of_high - of_low) * share;
        found.is_finite().then_some(found)
    }

    /// Least distance of two standards as they were measured, where something is certified.
    fn apart(&self) -> Option<f64> {
        let mut least = f64::INFINITY;
        for gigahertz in frequencies(self.plan) {
            // At a point of the sweep: between two of them a cable turns it away.
            let (at, _) = around(self.kit[0].as_deref()?, to_f64(gigahertz))?;
            let [a, b, c] = self.measured(at)?;
            least = least.min((a - b).norm()).min((a - c).norm()).min((b - c).norm());
        }
        least.is_finite().then_some(least)
    }

    /// Standard uncertainty of either part by the kit: each standard is off its model by ± so much as a rectangular distribution, and moves
    /// the result by its share.
    fn of_kit(&self, piece: &Trace, gigahertz: f64) -> f64 {
        let own = || {
            let (at, _) = around(piece, gigahertz)?;
            let hertz = at * 1e9;
            Some((hertz, read_at(piece, at)?, self.settings.models.at(hertz)?, self.measured(at)?))
        };
        let Some((hertz, raw, models, measured)) = own() else { return 0.0 };
        let found = |models: &[Complex; 3]| {
            Self::terms_of(models, &measured, hertz).map(|terms| terms.corrected(raw))
        };
        let Some(unmoved) = found(&models) else { return 0.0 };
        let squares: f64 = (0..3)
            .filter_map(|nth| {
                let mut moved = models;
                moved[nth] += NUDGE;
                Some(((found(&moved)? - unmoved) / NUDGE).norm_sqr())
            })
            .sum();
        to_f64(self.settings.kit_limit) / 3.0_f64.sqrt() * squares.sqrt()
    }

    fn decimals(&self) -> u32 {
        decimals_of(self.plan.resolution)
    }

    fn rounding(&self) -> f64 {
        to_f64(self.plan.resolution) / 12.0_f64.sqrt()
    }

    fn decimal(&self, value: f64) -> Decimal {
        Decimal::from_f64(value).unwrap_or(Decimal::ZERO).round_dp(self.decimals() + MORE_PLACES)
    }

    /// Whether the standards stand apart as the plan wants: two that do not are one, and what they correct is nothing at all.
    pub fn told_apart(&self) -> bool {
        self.apart().is_some_and(|least| least >= to_f64(self.settings.least_apart))
    }

    pub fn characteristics(&self) -> Result<Vec<Characteristic>, MethodError> {
        let mut found: Vec<Characteristic> = self.distance().into_iter().collect();
        if !self.told_apart() {
            return Ok(found);
        }
        let vectors: Vec<(&PlanPoint, Characteristic)> = self
            .plan
            .points
            .iter()
            .filter_map(|point| Some((point, self.vector(point).transpose()?)))
            .map(|(point, one)| Ok((point, one?)))
            .collect::<Result<_, MethodError>>()?;
        let ranges: Vec<Characteristic> =
            vectors.iter().filter_map(|(point, one)| self.range(point, one)).collect();
        found.extend(vectors.into_iter().map(|(_, one)| one));
        found.extend(ranges);
        Ok(found)
    }

    /// Two standards that are measured alike are one standard, put on twice: then nothing is corrected, and the check fails by this.
    fn distance(&self) -> Option<Characteristic> {
        let least = self.apart()?;
        let still = Contribution {
            label: "Single sweeps".into(),
            ..Contribution::known(ContributionSource::Repeatability, 0.0)
        };
        let rounding = Contribution::known(ContributionSource::Resolution, self.rounding());
        Some(Characteristic {
            limits: Some(ToleranceLimits { lower: Some(self.settings.least_apart), upper: None }),
            contributions: vec![rounding, still],
            ..Characteristic::bare(
                CharacteristicKind::Indication,
                ("apart".into(), "Smallest separation of two standards".into()),
                (self.plan.unit, self.decimals()),
                vec![self.decimal(least)],
                self.rounding(),
            )
        })
    }

    /// One part of the error vector at a frequency, sweep by sweep.
    fn vector(&self, point: &PlanPoint) -> Result<Option<Characteristic>, MethodError> {
        let Some((gigahertz, part)) = place_of(point) else { return Ok(None) };
        let frequency = to_f64(gigahertz);
        let gammas: Vec<Complex> =
            self.pieces.iter().filter_map(|trace| self.corrected(trace, frequency)).collect();
        let Some(newest) = self.pieces.last().filter(|_| !gammas.is_empty()) else {
            return Ok(None);
        };
        let reference = combine(&point.pieces, self.plan.unit)?;
        let errors: Vec<Decimal> = gammas
            .iter()
            .map(|gamma| {
                let value = if part == Part::Real { gamma.re } else { gamma.im };
                self.decimal(value) - reference.reference_value
            })
            .collect();
        let singles: Vec<f64> = errors.iter().map(|error| to_f64(*error)).collect();
        let mut contributions = reference.contributions;
        contributions.extend(of_reading(&singles, self.rounding()));
        contributions.push(Contribution {
            label: "Calibration kit, definition".into(),
            ..Contribution::known(ContributionSource::Other, self.of_kit(newest, frequency))
        });
        Ok(Some(Characteristic {
            nominal: Some(point.nominal),
            reference_value: Some(reference.reference_value),
            limits: self.settings.vector_limit.limits(reference.reference_value, self.plan),
            contributions,
            charted: point.charted,
            rests_on: vec![point.standard],
            scatter_weight: 1.0 / (singles.len().max(1) as f64).sqrt(),
            ..Characteristic::bare(
                CharacteristicKind::Error,
                (key_of("vector", point), format!("Error at {}", words_of(point))),
                (self.plan.unit, self.decimals()),
                errors,
                self.rounding(),
            )
        }))
    }

    fn range(&self, point: &PlanPoint, of: &Characteristic) -> Option<Characteristic> {
        if of.singles.len() < 2 {
            return None;
        }
        let range = *of.singles.iter().max()? - *of.singles.iter().min()?;
        let limits = self
            .settings
            .range_limit
            .as_ref()
            .and_then(|limit| limit.limits(point.nominal, self.plan));
        Some(Characteristic {
            nominal: Some(point.nominal),
            limits: limits.map(|limits| ToleranceLimits { lower: None, upper: limits.upper }),
            ..Characteristic::bare(
                CharacteristicKind::Repeatability,
                (key_of("range", point), format!("Range at {}", words_of(point))),
                (self.plan.unit, self.decimals()),
                vec![range],
                self.rounding(),
            )
        })
    }
}
