//! An instrument of the mill at a moment of its story: what its display shows, what its program writes.

use rust_decimal::Decimal;
use rust_decimal::prelude::{FromPrimitive, ToPrimitive};
use vaaka_core::method::{Beside, Input, PeakWanted, Step};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::trace::TraceWanted;

use super::gear::{Gear, Moment, Story};
use super::noise::Noise;

/// An instrument at a moment.
#[derive(Debug, Clone, Copy)]
pub struct Played {
    /// What it is.
    pub gear: &'static Gear,
    /// Days before the end of the history; less than nothing after it.
    pub left: f64,
    /// Knocked and not yet levelled; failed and not yet cleaned.
    pub disturbed: bool,
    /// What adjustments and the piece in hand do to a reading, in display units at the largest load.
    pub offset: f64,
    /// How far it is disturbed in this check, display units.
    pub disturbance: f64,
}

impl Played {
    /// Error of the display at a load, before rounding, in display units.
    pub fn error(&self, load: f64) -> f64 {
        let gear = self.gear;
        let largest =
            gear.loads.iter().filter_map(|load| load.0.parse::<f64>().ok()).fold(0.0, f64::max);
        let share = if largest > 0.0 { load / largest } else { 0.0 };
        let left = self.left;
        // Rooms are warmer in summer: a slow swing well inside the noise.
        let season = 0.05 * gear.between * (std::f64::consts::TAU * left / 365.0).sin();
        let story = match gear.story {
            Story::Drift { onset, per_week } if left < onset => {
                per_week * (onset - left) / 7.0 * largest
            }
            Story::Knocked { step, .. } if self.disturbed => step,
            Story::Failed { error, .. } if self.disturbed => error,
            _ => 0.0,
        };
        let worn = match gear.story {
            Story::Worn { onset, per_week } if left < onset && load > 0.0 => {
                let thinnest = gear.loads.iter().filter_map(|load| load.0.parse::<f64>().ok());
                let share = thinnest.fold(f64::INFINITY, f64::min) / load;
                per_week * (onset - left) / 7.0 * share * share
            }
            _ => 0.0,
        };
        worn + share * (gear.bias + season + story + self.offset + self.disturbance)
    }

    /// What the display shows for a step: indication and added weights.
    pub fn display(
        &self,
        step: &Step,
        travel_falls: bool,
        noise: &mut Noise,
    ) -> Option<(Decimal, Option<Decimal>)> {
        let Input::Reading { unit, resolution, beside, .. } = &step.input else {
            return None;
        };
        // What a gauge is set to, it shows as it was set.
        if *unit == Unit::MetrePerSecond {
            return step.reference_value.map(|set| (set, None));
        }
        let d = to_f64(*resolution);
        let error = |place: f64| self.error(place);
        let now = Moment { left: self.left, disturbance: self.disturbance, error: &error };
        if let Some(shown) = self.gear.family.shown(self.gear, step, &now, noise) {
            let steps = (shown / d).round();
            let mut indication = Decimal::from_i64(steps.to_i64()?)? * *resolution;
            indication.rescale(resolution.scale());
            return Some((indication, None));
        }
        let reference = to_f64(step.reference_value.unwrap_or_default());
        let hysteresis = if travel_falls { self.gear.hysteresis } else { 0.0 };
        let loaded = reference > 0.0;
        let scatter = self.gear.within * noise.normal() * if loaded { 1.0 } else { 0.25 };
        let error = self.error(reference) + hysteresis + scatter;
        let steps = ((reference + error) / d).round();
        let indication = Decimal::from_i64(steps.to_i64()?)? * *resolution;
        let mut indication = indication;
        indication.rescale(resolution.scale());
        match beside {
            None => return Some((indication, None)),
            // A filling of about a hundred grams, each a little different.
            Some(Beside::Number { unit, .. }) if unit == "g" => {
                let mass = Decimal::from_f64(103.4 + 0.5 * noise.normal())?;
                return Some((indication, Some(mass.round_dp(2))));
            }
            // What springs back faster is harder: about so many thousandths of its speed.
            Some(Beside::Number { .. }) => {
                let code = (318.0 + 7.6 * (reference + error)).round();
                return Some((indication, Decimal::from_i64(code.to_i64()?)));
            }
            Some(Beside::Weights) => {}
        }
        // Small weights of a tenth of a step, until the display just turns over.
        let to_next = (to_f64(indication) + d / 2.0 - (reference + error)).clamp(0.0, d);
        let tenths = (to_next / (d / 10.0)).ceil().clamp(0.0, 10.0);
        let added = Decimal::from_i64(tenths.to_i64()?)? * (*resolution / Decimal::TEN);
        Some((indication, Some(added.normalize())))
    }

    /// The trace that its program writes for a step; none where it writes none.
    pub fn trace(
        &self,
        asked: (&TraceWanted, &[PeakWanted], &Step),
        noise: &mut Noise,
    ) -> Option<String> {
        let error = |place: f64| self.error(place);
        let now = Moment { left: self.left, disturbance: self.disturbance, error: &error };
        self.gear.family.trace(self.gear, asked, &now, noise)
    }
}
