//! The steps of a check of the wavelength scale.

use rust_decimal::Decimal;

use super::keys::{peaks, scan_key};
use super::{SettingsV1, WORDS, scene};
use crate::method::common::value_words;
use crate::method::{Input, MethodError, PeakWanted, PlanSpec, REVIEW, Step, StepKey};
use crate::quantity::{show_decimal, to_f64};
use crate::trace::{ChannelWanted, TraceWanted};

fn wanted(plan: &PlanSpec, settings: &SettingsV1, peaks: &[PeakWanted]) -> TraceWanted {
    let from = peaks.iter().map(|one| one.search.centre - one.search.half_width);
    let to = peaks.iter().map(|one| one.search.centre + one.search.half_width);
    TraceWanted {
        axis: "wavelength".into(),
        axis_unit: plan.unit.symbol().into(),
        channels: vec![ChannelWanted {
            name: settings.quantity.name().into(),
            unit: settings.quantity.unit().into(),
            complex: false,
        }],
        covers: (from.fold(f64::INFINITY, f64::min), to.fold(f64::NEG_INFINITY, f64::max)),
        fewest: 9,
        largest_step: Some(to_f64(settings.largest_step)),
        impedance: None,
    }
}

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let measured = [scan_key(), StepKey::from(REVIEW)];
    let around = &settings.around;
    let mut way = around.before(plan, WORDS, &measured, |_| measured.to_vec())?;
    let peaks = peaks(plan, settings)?;
    let wanted = wanted(plan, settings, &peaks);
    let (from, to) = wanted.covers;
    let first = plan.points.first();
    let repeats = first.map_or(1, |point| point.repeats);
    let again =
        if repeats > 1 { " Take the standard out and put it in again between scans." } else { "" };
    way.push(Step {
        detail: format!(
            "In steps of {} at most. The file holds {}, one point a line.{again}",
            value_words(plan, settings.largest_step),
            wanted.words(),
        ),
        repeats,
        standard: first.map_or(0, |point| point.standard),
        within: around.within(),
        scene: Some(scene::in_the_beam(plan, settings)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &scan_key().0,
            "Scan".into(),
            format!(
                "Scan the standard from {} to {} {}, or wider",
                words_of(from.floor()),
                words_of(to.ceil()),
                plan.unit
            ),
            Input::Trace {
                name: "the spectrum".into(),
                wanted,
                peaks,
                guard_question: "Is it the right standard, seated well and in the beam?".into(),
            },
        )
    });
    way.extend(around.after());
    Ok(way)
}

fn words_of(value: f64) -> String {
    Decimal::try_from(value).map_or_else(|_| value.to_string(), |exact| show_decimal(exact, 0))
}
