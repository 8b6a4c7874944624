//! Names of steps and characteristics, and what else way, evaluation and drawing share.

use super::SettingsV1;
use crate::method::common::value_words;
use crate::method::{MethodError, PeakWanted, PlanPoint, PlanSpec, StepKey};
use crate::quantity::to_f64;
use crate::standard::combine;
use crate::trace::Search;

/// Key of the step that takes the scans.
pub fn scan_key() -> StepKey {
    StepKey::from("scan")
}

/// The peaks that a scan must show, in the order of the plan.
pub fn peaks(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<PeakWanted>, MethodError> {
    let peaks = plan.points.iter().map(|point| {
        let certified = combine(&point.pieces, plan.unit)?.reference_value;
        Ok(PeakWanted {
            name: value_words(plan, point.nominal),
            channel: 0,
            search: Search {
                centre: to_f64(certified),
                half_width: settings.half_width(),
                extreme: settings.quantity.extreme(),
                by: settings.peak_by.position(),
                least: to_f64(settings.least_height),
            },
        })
    });
    peaks.collect()
}

/// Key of the characteristic that a peak makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    format!("{prefix}-{}", point.nominal.normalize())
}
