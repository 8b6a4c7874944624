//! What stands against freezing limits by one person alone.

use thiserror::Error;

use super::Study;
use crate::chart::{ChartDesign, Level, LimitBasis};

/// What is known around a period beside its points.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Around {
    /// Lower tolerance limit, in the unit of the chart.
    pub lower: Option<f64>,
    /// Upper tolerance limit.
    pub upper: Option<f64>,
    /// Signals of this chart that spoke within the period and are not closed.
    pub open_signals: usize,
}

/// Probability below which a slope or a step is told from nothing.
pub const TOLD: f64 = 0.01;
/// Change over a period, in sigmas of its own limits, below which a slope or a step does not matter to them.
pub const MATTERS: f64 = 0.5;

/// A reason why limits are frozen only when a second lead countersigns: they might take a drift for what is normal.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum Objection {
    /// Somebody still looks for the cause of a signal.
    #[error(
        "{count} of the signals in this period {} not closed: its cause may be in these very points.",
        if *.count == 1 { "is" } else { "are" }
    )]
    OpenSignal {
        /// How many.
        count: usize,
    },
    /// The values drift.
    #[error("The period drifts")]
    Slope {
        /// Change from its beginning to its end, in the unit of the chart.
        change: f64,
        /// The same in sigmas of the proposed limits.
        sigmas: f64,
        /// Probability by chance.
        probability: f64,
    },
    /// The values step.
    #[error("The period steps")]
    Step {
        /// Place of the first point after it, among those used.
        at: usize,
        /// Its size, in the unit of the chart.
        size: f64,
        /// The same in sigmas of the proposed limits.
        sigmas: f64,
        /// Probability by chance.
        probability: f64,
    },
    /// The proposed limits reach beyond the tolerance.
    #[error("The proposed limits reach beyond the tolerance")]
    BeyondTolerance {
        /// Proposed lower limit.
        lower_control_limit: f64,
        /// Proposed upper limit.
        upper_control_limit: f64,
        /// Lower tolerance limit.
        lower: Option<f64>,
        /// Upper tolerance limit.
        upper: Option<f64>,
    },
}

impl Study {
    /// What stands against freezing a design by one lead alone. A slope and a step are said where limits rest on the
    /// period, where they are told from nothing at [`TOLD`], and where they change it by [`MATTERS`] sigmas at least:
    /// of years of checks nearly every slope is told from none, and few matter.
    #[must_use]
    pub fn objections(&self, design: &ChartDesign, around: Around) -> Vec<Objection> {
        let mut found = Vec::new();
        if around.open_signals > 0 {
            found.push(Objection::OpenSignal { count: around.open_signals });
        }
        if design.basis == LimitBasis::Baseline {
            let matters = |change: f64| (change / design.sigma).abs() >= MATTERS;
            if let Some(trend) = self.trend.filter(|t| t.probability < TOLD && matters(t.change)) {
                found.push(Objection::Slope {
                    change: trend.change,
                    sigmas: trend.change / design.sigma,
                    probability: trend.probability,
                });
            }
            if let Some(step) = self.step.filter(|s| s.probability < TOLD && matters(s.size)) {
                found.push(Objection::Step {
                    at: step.at,
                    size: step.size,
                    sigmas: step.size / design.sigma,
                    probability: step.probability,
                });
            }
        }
        if let (true, Level::Frozen { center_line }) =
            (design.reaches_beyond(around.lower, around.upper), design.level)
        {
            found.push(Objection::BeyondTolerance {
                lower_control_limit: center_line - design.below,
                upper_control_limit: center_line + design.above,
                lower: around.lower,
                upper: around.upper,
            });
        }
        found
    }
}

/// A reason that somebody signs is words, not a letter.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error(
    "Say why in a few words that another person understands in a year: what was looked at, and what it showed."
)]
pub struct NoReason;

/// Whether a text gives a reason: three different words of two letters at least, twelve letters in all.
///
/// # Errors
/// [`NoReason`].
pub fn is_reason(text: &str) -> Result<(), NoReason> {
    let words: std::collections::BTreeSet<String> = text
        .split(|c: char| !c.is_alphabetic())
        .filter(|word| word.chars().count() >= 2)
        .map(str::to_lowercase)
        .collect();
    let letters: usize = words.iter().map(|word| word.chars().count()).sum();
    let of_one_letter = |word: &&String| {
        let mut letters = word.chars();
        let first = letters.next();
        letters.all(|letter| Some(letter) == first)
    };
    let real = words.iter().filter(|word| !of_one_letter(word)).count();
    if real >= 3 && letters >= 12 { Ok(()) } else { Err(NoReason) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("x", false)]
    #[case("", false)]
    #[case("ok ok ok ok ok", false)]
    #[case("aaaa bbbb cccc dddd", false)]
    #[case("because", false)]
    #[case("first quiet half year", true)]
    #[case("Sixty quiet shifts after the new load cell", true)]
    #[case("neue Wägezelle, sechzig ruhige Schichten", true)]
    #[case("12345 67890 12345", false)]
    fn a_reason_is_words(#[case] text: &str, #[case] fine: bool) {
        assert_eq!(is_reason(text).is_ok(), fine, "{text}");
    }
}
