//! Characteristics of a check of the wavelength scale.

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;

use super::SettingsV1;
use super::keys::{key_of, peaks, scan_key};
use crate::judgement::{Characteristic, CharacteristicKind, ToleranceLimits};
use crate::method::common::{of_reading, rescaled, value_words};
use crate::method::{
    Curve, CurveKind, Fact, Limit, Live, MethodError, PeakWanted, Picture, PlanPoint, PlanSpec,
    Plot, PlotAxis, PlotMark, RunState, bars_of,
};
use crate::quantity::{Unit, decimals_of, show_signed_float, to_f64};
use crate::standard::combine;
use crate::trace::{Peak, PeakFault, Trace, find_peak};

/// Places of a position beyond those of the display: it is fitted, not read.
const MORE_PLACES: u32 = 2;

pub fn evaluate(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let required = plan.points.first().map_or(1, |point| point.repeats);
    let scan = scan_key();
    let got = run.traces(&scan).len();
    if got < required as usize {
        return Err(MethodError::Incomplete { step: scan_key(), required, got });
    }
    so_far(plan, settings, run)
}

/// As [`evaluate`], of the scans that there are.
pub fn so_far(
    plan: &PlanSpec,
    settings: &SettingsV1,
    run: &RunState,
) -> Result<Vec<Characteristic>, MethodError> {
    let scan = scan_key();
    let scans = run.traces(&scan);
    if scans.is_empty() {
        return Ok(vec![]);
    }
    let unit = plan.unit.error_unit(plan.resolution);
    let bench = Bench { plan, settings, unit };
    let mut found = Vec::new();
    let peaks = peaks(plan, settings)?;
    for (point, peak) in plan.points.iter().zip(&peaks) {
        found.push(bench.position(point, peak, &scans)?);
    }
    let ranges: Vec<Characteristic> =
        plan.points.iter().zip(&found).filter_map(|(point, one)| bench.range(point, one)).collect();
    found.extend(ranges);
    Ok(found)
}

/// The peak of a scan.
pub fn peak_in(trace: &Trace, wanted: &PeakWanted) -> Result<Peak, PeakFault> {
    let values = trace.channels.get(wanted.channel).map_or(&[][..], |channel| &channel.re);
    find_peak((&trace.axis, values), wanted.search)
}

struct Bench<'a> {
    plan: &'a PlanSpec,
    settings: &'a SettingsV1,
    unit: Unit,
}

impl Bench<'_> {
    fn decimals(&self) -> u32 {
        decimals_of(self.plan.unit.convert(self.plan.resolution, self.unit))
    }

    fn limits(&self, limit: Option<&Limit>, reference: Decimal) -> Option<ToleranceLimits> {
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
        let of = (self.unit, self.decimals() + MORE_PLACES);
        Characteristic {
            nominal: Some(point.nominal),
            ..Characteristic::bare(kind, names, of, singles, self.rounding())
        }
    }

    /// Position minus certified wavelength, scan by scan. A peak that a scan does not show, and that somebody confirmed,
    /// lies at least as far off as it was looked for: that is taken for its error, and it fails; it is no point of a chart.
    fn position(
        &self,
        point: &PlanPoint,
        wanted: &PeakWanted,
        scans: &[&std::sync::Arc<Trace>],
    ) -> Result<Characteristic, MethodError> {
        let reference = combine(&point.pieces, self.plan.unit)?;
        let places = decimals_of(self.plan.resolution) + MORE_PLACES;
        let mut missing = 0;
        let errors: Vec<Decimal> = scans
            .iter()
            .map(|scan| {
                let error = peak_in(scan, wanted)
                    .ok()
                    .and_then(|peak| Decimal::from_f64(peak.position))
                    .map(|position| position.round_dp(places) - reference.reference_value);
                let error = error.unwrap_or_else(|| {
                    missing += 1;
                    self.settings.window
                });
                self.plan.unit.convert(error, self.unit)
            })
            .collect();
        let scale = to_f64(self.plan.unit.convert(Decimal::ONE, self.unit));
        let singles: Vec<f64> = errors.iter().map(|error| to_f64(*error)).collect();
        let mut contributions = rescaled(reference.contributions, scale);
        contributions.extend(of_reading(&singles, self.rounding()));
        let words = value_words(self.plan, point.nominal);
        let label = if missing == 0 {
            format!("Error at {words}")
        } else {
            format!("Error at {words} (no peak in {missing} of {}: at least)", scans.len())
        };
        Ok(Characteristic {
            reference_value: Some(self.plan.unit.convert(reference.reference_value, self.unit)),
            limits: self.limits(Some(&self.settings.position_limit), reference.reference_value),
            contributions,
            charted: point.charted && missing == 0,
            scatter_weight: 1.0 / (singles.len().max(1) as f64).sqrt(),
            rests_on: vec![point.standard],
            ..self.characteristic(
                CharacteristicKind::Error,
                point,
                (key_of("position", point), label),
                errors,
            )
        })
    }

    fn range(&self, point: &PlanPoint, position: &Characteristic) -> Option<Characteristic> {
        if position.singles.len() < 2 {
            return None;
        }
        let range = *position.singles.iter().max()? - *position.singles.iter().min()?;
        let limits = self.limits(self.settings.range_limit.as_ref(), point.nominal);
        let label = format!("Range at {}", value_words(self.plan, point.nominal));
        Some(Characteristic {
            limits: limits.map(|limits| ToleranceLimits { lower: None, upper: limits.upper }),
            ..self.characteristic(
                CharacteristicKind::Repeatability,
                point,
                (key_of("range", point), label),
                vec![range],
            )
        })
    }
}

/// The newest scan with the peaks that were found in it, earlier ones behind it, and the errors so far.
pub fn live(plan: &PlanSpec, settings: &SettingsV1, run: &RunState) -> Result<Live, MethodError> {
    let scan = scan_key();
    let scans = run.traces(&scan);
    let Some(newest) = scans.last() else { return Ok(Live::default()) };
    let peaks = peaks(plan, settings)?;
    let found = so_far(plan, settings, run)?;
    let places = decimals_of(plan.resolution) + MORE_PLACES;
    let (mut marks, mut facts) = (Vec::new(), Vec::new());
    for wanted in &peaks {
        let peak = peak_in(newest, wanted);
        let value = match &peak {
            Ok(peak) => format!(
                "{:.*} {} ({})",
                places as usize,
                peak.position,
                plan.unit,
                show_signed_float(peak.position - wanted.search.centre, places)
            ),
            Err(fault) => format!("no peak: {fault}"),
        };
        facts.push(Fact { name: format!("Peak at {}", wanted.name), value, inside: None });
        marks.push(PlotMark {
            x: wanted.search.centre,
            half_width: wanted.search.half_width,
            name: wanted.name.clone(),
            found: peak.ok().map(|peak| (peak.position, peak.height)),
        });
    }
    let curve = |(index, scan): (usize, &&std::sync::Arc<Trace>)| {
        let values = scan.channels.first().map_or(&[][..], |channel| &channel.re);
        Curve {
            name: format!("scan {}", index + 1),
            kind: if index + 1 == scans.len() { CurveKind::Line } else { CurveKind::Before },
            points: scan.axis.iter().copied().zip(values.iter().copied()).collect(),
        }
    };
    let seen = marks.iter().filter(|mark| mark.found.is_some()).count();
    let plot = Plot {
        title: format!("Scan {}", scans.len()),
        description: format!(
            "{seen} of {} peaks found, by the {}: {}.",
            marks.len(),
            settings.peak_by.words(),
            facts.iter().map(|fact| fact.value.as_str()).collect::<Vec<_>>().join("; ")
        ),
        x: PlotAxis { name: "wavelength".into(), unit: plan.unit.symbol().into() },
        y: PlotAxis {
            name: settings.quantity.name().into(),
            unit: settings.quantity.unit().into(),
        },
        curves: scans.iter().enumerate().map(curve).collect(),
        marks,
    };
    let pictures = std::iter::once(Picture::Plot(plot)).chain(bars_of(&found)).collect();
    Ok(Live { facts, pictures })
}
