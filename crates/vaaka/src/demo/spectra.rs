//! The colour lab's spectrophotometer: scans of a filter with four bands, written as its program would write them.

use std::fmt::Write;

use serde_json::Value;
use vaaka_core::method::spectrum::{self, PeakBy, Quantity, Settings, SettingsV1};
use vaaka_core::method::{
    Around, Limit, LimitForm, PeakWanted, Place, RequiredSetting, SettingKind, Step, Travel, Wait,
};
use vaaka_core::trace::{MOST_COLUMNS, MOST_POINTS, Table, TraceWanted};
use vaaka_formats::{Columns, read_columns};

use super::gear::{Gear, Moment, Player, Story};
use super::noise::Noise;
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// Breadth of the bands of the filter, nm.
const BREADTH: f64 = 3.4;

/// A spectrophotometer.
#[derive(Debug)]
pub struct Scanner;

impl Player for Scanner {
    fn method_key(&self) -> &'static str {
        spectrum::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "spectrophotometer"
    }

    fn firmware(&self, _tag: &str) -> &'static str {
        "3.41"
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings()?).map_err(fault)
    }

    fn trace(
        &self,
        gear: &Gear,
        (wanted, peaks, _): (&TraceWanted, &[PeakWanted], &Step),
        now: &Moment<'_>,
        noise: &mut Noise,
    ) -> Option<String> {
        Some(scan((wanted, peaks), now.error, gear.within, noise))
    }
}

/// Instruments of this family.
pub const SPECTROPHOTOMETERS: [Gear; 1] = [Gear {
    tag: "C-13",
    name: "Colour lab spectrophotometer",
    area: 3,
    unit: "nm",
    resolution: "0.1",
    maximum: "1100",
    serial: "VQ-1100-004",
    family: &Scanner,
    set: 8,
    minutes: 12,
    loads: &[
        ("352.4", Rising, Middle, 2, true, &["352"]),
        ("431.8", Rising, Middle, 2, true, &["432"]),
        ("528.6", Rising, Middle, 2, true, &["529"]),
        ("619.3", Rising, Middle, 2, true, &["619"]),
    ],
    between: 0.045,
    within: 0.02,
    bias: 0.06,
    hysteresis: 0.0,
    work: Some(("360", "600")),
    any_of_kind: false,
    story: Story::Quiet,
}];

/// Settings of its plan.
fn settings() -> Result<Settings, AppError> {
    let half = |half_width: &str| -> Result<Limit, AppError> {
        Ok(Limit::both(LimitForm::Absolute { half_width: decimal(half_width)? }))
    };
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    Ok(Settings::V1(SettingsV1 {
        quantity: Quantity::Absorbance,
        peak_by: PeakBy::Parabola,
        window: decimal("8")?,
        least_height: decimal("0.2")?,
        largest_step: decimal("0.5")?,
        position_limit: half("0.5")?,
        range_limit: Some(half("0.2")?),
        around: Around {
            capture_saves: false,
            settings: vec![RequiredSetting {
                name: "the slit width".into(),
                kind: Some(SettingKind::Exactly),
                expected: "1 nm = 1".into(),
                by_lead: false,
            }],
            conditions: vec![],
            waits: vec![Wait {
                what: "Let the lamp settle".into(),
                minimum_seconds: 900,
                maximum_seconds: None,
            }],
            cautions: lines(&[
                "Lamp housing hot, and bright in the ultraviolet: it stays shut.",
                "Filter by its mount only; a finger on the glass is measured, too.",
            ]),
            preparation: lines(&[
                "Nothing in the beam; lid shut; the baseline taken.",
                "Filter free of dust and marks on both sides.",
            ]),
            closing: lines(&["Filter back in its case.", "Lid shut."]),
            fold_cautions: true,
            together: false,
        },
    }))
}

/// A scan of the filter as the instrument's program writes it: every band off by the error at its place, with the noise
/// of the detector.
fn scan(
    (wanted, peaks): (&TraceWanted, &[PeakWanted]),
    error: impl Fn(f64) -> f64,
    within: f64,
    noise: &mut Noise,
) -> String {
    let step = wanted.largest_step.unwrap_or(1.0);
    let (from, to) = ((wanted.covers.0 - 4.0).floor(), (wanted.covers.1 + 4.0).ceil());
    let bands: Vec<(f64, f64)> = peaks
        .iter()
        .enumerate()
        .map(|(index, peak)| {
            let at = peak.search.centre;
            (at + error(at) + within * noise.normal(), 0.45 + 0.12 * index as f64)
        })
        .collect();
    let mut text = String::from("Wavelength (nm);Absorbance\r\n");
    let points = ((to - from) / step).round() as usize;
    for index in 0..=points {
        let x = from + step * index as f64;
        let bands = bands.iter().map(|(at, height)| height * (-((x - at) / BREADTH).powi(2)).exp());
        let value = 0.062 + 4e-5 * (x - from) + bands.sum::<f64>() + 4e-4 * noise.normal();
        let line = format!("{x:.1};{value:.4}\r\n").replace('.', ",");
        let _ = text.write_str(&line);
    }
    text
}

/// Reads a scan by the very reader of the application.
pub fn read(text: &str) -> Result<Table, String> {
    read_columns(text.as_bytes(), (MOST_POINTS, MOST_COLUMNS))
        .map(|Columns { heads, columns, lines }| Table { heads, columns, lines })
        .map_err(|error| error.to_string())
}
