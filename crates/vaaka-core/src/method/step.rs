//! Steps: one thing to do, with one kind of input and a drawing.

use std::fmt;

use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use serde::{Deserialize, Serialize};

use super::{Beside, Input, Scene};
use crate::judgement::ToleranceLimits;
use crate::quantity::Unit;

/// Stable key of a step within a plan version.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct StepKey(pub String);

impl fmt::Display for StepKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl From<&str> for StepKey {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
}

/// Key of the look over everything kept.
pub const REVIEW: &str = "review";

/// One step of the way.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Stable key.
    pub key: StepKey,
    /// Short name, for the way.
    pub title: String,
    /// What to do, one sentence.
    pub instruction: String,
    /// How, in a sentence or two.
    pub detail: String,
    /// What is asked for.
    pub input: Input,
    /// How many entries it needs.
    pub repeats: u32,
    /// Certified value of what is put on, in the unit of the display, where something is.
    pub reference_value: Option<Decimal>,
    /// Limits of the error at this point, in the unit of the display.
    pub tolerance: Option<ToleranceLimits>,
    /// How far from its reference value a reading may lie before the guard asks, where it has no limits of its own: the certified
    /// value is of another quantity, and what is usual is all that is known.
    pub likely: Option<Decimal>,
    /// Place of the plan's point that is read here; none for other steps.
    pub point: Option<usize>,
    /// Error at zero in this run, which is taken off; nothing before it was read.
    pub zero_error: Decimal,
    /// Which of the plan's standards is read here.
    pub standard: usize,
    /// Key of the charted characteristic that this step's readings make, for the beam under it.
    pub charted_as: Option<String>,
    /// Shortest time between two entries of this step, in seconds.
    pub pause_seconds: u32,
    /// The wait within whose longest time each entry of this step must be kept.
    pub within: Option<StepKey>,
    /// Where to put what.
    pub scene: Option<Scene>,
    /// Steps that must be redone when this one is.
    pub voids: Vec<StepKey>,
    /// Whether it stands on one screen with its neighbours that say so, too: each is kept as an entry of its own.
    pub together: bool,
    /// Whether what is read over the line of the instrument is kept at once.
    pub capture_saves: bool,
}

impl Step {
    /// A step that is done once, without reference, drawing or consequences.
    #[must_use]
    pub fn plain(key: &str, title: String, instruction: String, input: Input) -> Self {
        Self {
            key: key.into(),
            title,
            instruction,
            detail: String::new(),
            input,
            repeats: 1,
            reference_value: None,
            tolerance: None,
            likely: None,
            point: None,
            zero_error: Decimal::ZERO,
            standard: 0,
            charted_as: None,
            pause_seconds: 0,
            within: None,
            scene: None,
            voids: vec![],
            together: false,
            capture_saves: false,
        }
    }

    /// Sentences to tick off, one by one; cautions, which are drawn as such, say whether they fold in the next check of a shift.
    #[must_use]
    pub fn confirm(
        key: &str,
        title: &str,
        instruction: &str,
        sentences: &[String],
        caution: Option<bool>,
    ) -> Self {
        Self {
            detail: if caution.is_some() {
                "Follow your local rules and the maker's instructions; licensed work stays with licensed people.".into()
            } else {
                "Tick each line when it is done.".into()
            },
            ..Self::plain(
                key,
                title.into(),
                instruction.into(),
                Input::Confirm {
                    sentences: sentences.to_vec(),
                    caution: caution.is_some(),
                    folds: caution.unwrap_or_default(),
                },
            )
        }
    }

    /// The look over everything kept, before the standard is put away.
    #[must_use]
    pub fn review() -> Self {
        Self {
            detail: "Compare with what you saw; correct what was typed wrongly. After this the standard is put away and the check is judged.".into(),
            ..Self::plain(
                REVIEW,
                "Look it over".into(),
                "Look over what was kept".into(),
                Input::Review,
            )
        }
    }

    /// Error of a single reading, with the zero of this run taken off: I − L − E₀, or with added weights I + d/2 − ΔL − L − E₀,
    /// in the unit of the display; of a step that was settled ([`super::Method::settle`]) the very number that is judged. `None`
    /// where nothing is put on or no reading is asked for.
    #[must_use]
    pub fn error_of(&self, indication: Decimal, added: Option<Decimal>) -> Option<Decimal> {
        let Input::Reading { resolution, beside, .. } = &self.input else {
            return None;
        };
        let weights = added.filter(|_| *beside == Some(Beside::Weights));
        let rounding = weights.map_or(Decimal::ZERO, |added| *resolution / Decimal::TWO - added);
        Some(indication + rounding - self.reference_value? - self.zero_error)
    }

    /// Unit of its reading, and the one in which errors of it are stated; none where nothing is read.
    #[must_use]
    pub fn error_units(&self) -> Option<(Unit, Unit)> {
        match &self.input {
            Input::Reading { unit, resolution, .. } => Some((*unit, unit.error_unit(*resolution))),
            _ => None,
        }
    }

    /// The step with its guard: further from the reference value than three limits of its error or ten standard
    /// deviations of a reading on its chart, whichever is nearer, something other than an error is likely (no weight, the
    /// wrong piece, a slip of the finger); never within one limit, where a reading says what it says, nor within one step of
    /// the display. `reading_std_dev` is in the unit of the display.
    #[must_use]
    pub fn guarded(mut self, reading_std_dev: Option<f64>) -> Self {
        let limits = self.tolerance;
        // Where an error of nothing is not allowed a reading is expected in the middle of what is.
        let middle = limits.map_or(Decimal::ZERO, |limits| limits.middle());
        let half = limits.and_then(|limits| {
            // One limit with nothing beyond it says where a reading must not lie, not where it does.
            let beyond = |limits: ToleranceLimits| {
                limits.upper.is_none_or(|upper| upper < Decimal::ZERO)
                    && limits.lower.is_none_or(|lower| lower > Decimal::ZERO)
            };
            let ends = [limits.lower, limits.upper].into_iter().flatten();
            let half = ends.map(|end| (end - middle).abs()).max();
            half.filter(|_| !middle.is_zero() || !beyond(limits))
        });
        let reference = self.reference_value.map(|reference| reference + middle);
        if let Input::Reading { resolution, expected, guard, .. } = &mut self.input {
            if let Some(reference) = reference {
                *expected = reference;
            }
            let by_chart = reading_std_dev
                .filter(|s| s.is_finite() && *s > 0.0)
                .and_then(|s| Decimal::from_f64(10.0 * s));
            let by_limits = half.map(|half| half * Decimal::from(3)).or(self.likely);
            let nearer = match (by_limits, by_chart) {
                (Some(a), Some(b)) => a.min(b),
                (Some(one), None) | (None, Some(one)) => one,
                // Neither limits nor a chart: a fiftieth of the value, ten steps at least.
                (None, None) => {
                    (expected.abs() / Decimal::from(50)).max(*resolution * Decimal::TEN)
                }
            };
            *guard = nearer.max(half.unwrap_or_default()).max(*resolution);
        }
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::Unit;
    use rstest::rstest;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    fn step(reference: &str, half: Option<&str>, resolution: &str) -> Step {
        let input = Input::Reading {
            unit: Unit::Millimetre,
            resolution: d(resolution),
            expected: Decimal::ZERO,
            guard: Decimal::ZERO,
            guard_question: String::new(),
            beside: None,
        };
        Step {
            reference_value: Some(d(reference)),
            tolerance: half.map(|half| ToleranceLimits::symmetric(d(half))),
            ..Step::plain("point-1", String::new(), String::new(), input)
        }
    }

    /// 17.7 for 17.6 mm at ±4 µm, 95 for 80 bar at ±4, 2001.9 for 2000 g at ±0.2: once kept without a question.
    #[rstest]
    #[case("17.6", Some("0.004"), "0.001", None, "0.012")]
    #[case("17.6", Some("0.004"), "0.001", Some(0.0008), "0.008")]
    #[case("80", Some("4"), "1", None, "12")]
    #[case("2000", Some("0.2"), "0.1", Some(0.05), "0.5")]
    // Never within one limit, however quiet the chart; never within one step.
    #[case("2000", Some("0.2"), "0.1", Some(0.001), "0.2")]
    #[case("2000", Some("0"), "0.1", None, "0.1")]
    #[case("100", None, "0.1", Some(0.3), "3")]
    #[case("100", None, "0.1", None, "2")]
    #[case("0", None, "0.1", None, "1")]
    #[case("80", Some("4"), "1", Some(f64::NAN), "12")]
    fn guards(
        #[case] reference: &str,
        #[case] half: Option<&str>,
        #[case] resolution: &str,
        #[case] s: Option<f64>,
        #[case] expected: &str,
    ) {
        let guarded = step(reference, half, resolution).guarded(s);
        let Input::Reading { guard, expected: about, .. } = guarded.input else { panic!() };
        assert_eq!((guard.normalize(), about), (d(expected), d(reference)));
    }

    /// Limits that nothing does not lie in: the guard stands about their middle, and one limit alone has none.
    #[test]
    fn guards_off_zero() {
        let limits = |lower: Option<&str>, upper: Option<&str>| {
            let limits = ToleranceLimits { lower: lower.map(d), upper: upper.map(d) };
            let step = Step { tolerance: Some(limits), ..step("100", None, "0.1") };
            match step.guarded(None).input {
                Input::Reading { guard, expected, .. } => (expected.normalize(), guard.normalize()),
                _ => panic!(),
            }
        };
        assert_eq!(limits(Some("4"), Some("6")), (d("105"), d("3")));
        assert_eq!(limits(Some("-6"), Some("-4")), (d("95"), d("3")));
        assert_eq!(limits(Some("-10"), Some("30")), (d("100"), d("90")));
        // A fiftieth of the value, as for any reading of which no more is known.
        assert_eq!(limits(None, Some("-20")), (d("100"), d("2")));
        assert_eq!(limits(None, Some("20")), (d("100"), d("60")));
    }

    #[test]
    fn the_zero_of_the_run_is_taken_off() {
        let mut settled = Step { zero_error: d("0.002"), ..step("17.6", None, "0.001") };
        assert_eq!(settled.error_of(d("17.605"), None), Some(d("0.003")));
        // A number beside it that is no weight changes nothing.
        assert_eq!(settled.error_of(d("17.605"), Some(d("0.0003"))), Some(d("0.003")));
        let Input::Reading { beside, .. } = &mut settled.input else { panic!() };
        *beside = Some(Beside::Weights);
        assert_eq!(settled.error_of(d("17.605"), Some(d("0.0003"))), Some(d("0.0032")));
    }
}
