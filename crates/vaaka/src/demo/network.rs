//! The second bench of the radio room: one port by short, open and load, proven by a mismatch.

use serde_json::Value;
use std::fmt::Write;

use vaaka_core::method::reflection::{self, KitSettings, Settings, SettingsV1};
use vaaka_core::method::{
    Around, Limit, LimitForm, PeakWanted, Place, RequiredSetting, SettingKind, Step, Travel, Wait,
};
use vaaka_core::network::{Complex, Load, Offset, OnePort, Standard};
use vaaka_core::trace::TraceWanted;

use super::gear::{Gear, Moment, Player, Story};
use super::noise::Noise;
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// What the plan of an analyzer says.
#[derive(Debug, Clone, Copy)]
pub struct NetworkPlan {
    /// Name of the cell.
    pub cell: &'static str,
    /// The piece that proves it.
    pub pieces: &'static [&'static str],
    /// Tag of the kit.
    pub kit: &'static str,
}

impl Player for NetworkPlan {
    fn method_key(&self) -> &'static str {
        reflection::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "network analyzer"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.pieces))
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self)?).map_err(fault)
    }

    fn trace(
        &self,
        gear: &Gear,
        (wanted, _, step): (&TraceWanted, &[PeakWanted], &Step),
        now: &Moment<'_>,
        noise: &mut Noise,
    ) -> Option<String> {
        Some(sweep(gear, (wanted, step), (now.left, now.disturbance), noise))
    }
}

/// The analyzers that are checked.
pub const ANALYZERS: [Gear; 1] = [Gear {
    tag: "V-02",
    name: "Network analyzer, bench 2",
    area: 4,
    unit: "Γ",
    resolution: "0.0001",
    maximum: "1",
    serial: "VV-002",
    family: &NetworkPlan { cell: "cable B, Γ, end of cable", pieces: &["VM-1"], kit: "KT-2" },
    set: 0,
    minutes: 15,
    loads: &[
        ("0.06", Rising, Middle, 2, true, &["2.45 GHz real"]),
        ("-0.19", Rising, Middle, 2, true, &["2.45 GHz imaginary"]),
        ("-0.13", Rising, Middle, 2, true, &["5.8 GHz real"]),
        ("-0.15", Rising, Middle, 2, true, &["5.8 GHz imaginary"]),
    ],
    between: 0.0006,
    within: 0.0005,
    bias: 0.0,
    hysteresis: 0.0,
    work: None,
    any_of_kind: false,
    // The pin of the kit's open is pushed back by and by: it ends later than its model says.
    story: Story::Drift { onset: 110.0, per_week: 0.0035 },
}];

/// Settings of the plan of an analyzer.
pub fn settings(plan: &NetworkPlan) -> Result<Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let half = |half_width: &str| -> Result<Limit, AppError> {
        Ok(Limit::both(LimitForm::Absolute { half_width: decimal(half_width)? }))
    };
    let setting = |name: &str, expected: &str| RequiredSetting {
        name: name.into(),
        kind: Some(SettingKind::Exactly),
        expected: expected.into(),
        by_lead: false,
    };
    Ok(Settings::V1(SettingsV1 {
        kit: plan.kit.to_owned(),
        models: KitSettings {
            impedance: decimal("50")?,
            open_c0: decimal("46")?,
            open_c1: None,
            open_c2: None,
            open_c3: None,
            open_delay: decimal("27.5")?,
            short_l0: decimal("3")?,
            short_l1: None,
            short_l2: None,
            short_l3: None,
            short_delay: decimal("29.8")?,
            load_resistance: decimal("50")?,
            load_inductance: Some(decimal("4")?),
            load_delay: None,
            loss: Some(decimal("2.1")?),
        },
        kit_limit: decimal("0.004")?,
        least_apart: decimal("0.3")?,
        largest_step: decimal("0.05")?,
        vector_limit: half("0.012")?,
        range_limit: Some(half("0.006")?),
        around: Around {
            capture_saves: false,
            settings: vec![
                setting("the start of the sweep", "2 GHz = 2 = 2000 MHz"),
                setting("the stop of the sweep", "6 GHz = 6 = 6000 MHz"),
                setting("the power", "-10 dBm = -10"),
                setting("the bandwidth of the receiver", "1 kHz = 1000 Hz"),
                setting("the user correction", "off"),
            ],
            conditions: vec![],
            // The analyzer shows them side by side.
            together: true,
            waits: vec![Wait {
                what: "Let the analyzer warm up".into(),
                minimum_seconds: 1_800,
                maximum_seconds: None,
            }],
            cautions: lines(&[
                "Wrist strap on before a connector is touched: a spark ends a receiver.",
                "Nothing that transmits goes on the port; its power is off where it could.",
            ]),
            preparation: lines(&[
                "Cable B on port 1, lying as it will lie: nobody moves it after the warm-up.",
                "Connectors blown out and looked at under the glass; pins gauged this week.",
            ]),
            closing: lines(&["Caps on, kit back in its foam.", "Cable stays where it is."]),
            fold_cautions: true,
        },
    }))
}

fn kit(word: &str, gigahertz: f64) -> Complex {
    let offset = |delay: f64| Offset { delay: delay * 1e-12, loss: 2.1e9, impedance: 50.0 };
    let standard = match word {
        "kit-open" => Standard::Open { capacitance: [46e-15, 0.0, 0.0, 0.0], offset: offset(27.5) },
        "kit-short" => Standard::Short { inductance: [3e-12, 0.0, 0.0, 0.0], offset: offset(29.8) },
        _ => Standard::Load {
            load: Load { resistance: 50.0, inductance: 4e-12, capacitance: 0.0 },
            offset: Offset::none(50.0),
        },
    };
    standard.reflection(gigahertz * 1e9, 50.0).unwrap_or(Complex::ZERO)
}

/// The mismatch, as it is and as its certificate says but for its uncertainty.
fn piece(gigahertz: f64) -> Complex {
    Complex::from_polar(0.2 - 0.001 * gigahertz, -0.5 - 0.307 * gigahertz)
}

/// The port with its cable.
fn port(gigahertz: f64, disturbance: f64) -> OnePort {
    OnePort {
        directivity: Complex::from_polar(0.028, 1.1 * gigahertz) + disturbance,
        source_match: Complex::from_polar(0.07, 0.3 - 0.8 * gigahertz),
        tracking: Complex::from_polar(0.95 - 0.012 * gigahertz, 0.4 - 2.4 * gigahertz),
    }
}

/// A raw sweep as the analyzer's program writes it.
fn sweep(
    gear: &Gear,
    (wanted, step): (&TraceWanted, &Step),
    (left, disturbance): (f64, f64),
    noise: &mut Noise,
) -> String {
    let by = wanted.largest_step.unwrap_or(0.05);
    // Screwed on a little differently each time.
    let connected = Complex::new(noise.normal(), noise.normal()) * gear.within;
    let pushed_back = match gear.story {
        Story::Drift { onset, per_week } if left < onset && step.key.0 == "kit-open" => {
            per_week * (onset - left) / 7.0
        }
        _ => 0.0,
    };
    let mut text = String::from("Frequency (GHz);Real;Imaginary\r\n");
    let points = (4.0 / by).round() as usize;
    for index in 0..=points {
        let x = 2.0 + by * index as f64;
        let of = match step.key.0.as_str() {
            "piece" => piece(x),
            word => kit(word, x) * Complex::from_polar(1.0, -pushed_back * x / 5.8),
        };
        let trace = Complex::new(noise.normal(), noise.normal()) * 0.000_06;
        let raw = port(x, disturbance).measured(of + connected) + trace;
        let _ = write!(text, "{x:.3};{:.5};{:.5}\r\n", raw.re, raw.im);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What the certificate of the mismatch says in the mill is what it is here.
    #[test]
    fn the_certificate_is_that_of_the_piece() {
        for (x, re, im) in [(2.45, "0.0612", "-0.1879"), (5.8, "-0.1270", "-0.1469")] {
            let own = piece(x);
            let (re, im): (f64, f64) = (re.parse().unwrap(), im.parse().unwrap());
            assert!((own - Complex::new(re, im)).norm() < 0.002, "{x}: {own}");
        }
    }
}
