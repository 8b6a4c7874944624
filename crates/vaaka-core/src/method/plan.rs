//! What a method needs to know of a plan version.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::judgement::{
    Characteristic, CharacteristicKind, Contribution, ContributionSource, Decision,
};
use crate::quantity::{Unit, to_f64};
use crate::standard::CertifiedPiece;

/// In which way a point is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Travel {
    /// Coming from below.
    Rising,
    /// Coming from above.
    Falling,
    /// Off centre, for the position error.
    Corner,
}

/// Where the piece goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Place {
    /// Middle.
    Middle,
    /// Back left, seen from where the technician stands.
    BackLeft,
    /// Back right.
    BackRight,
    /// Front left.
    FrontLeft,
    /// Front right.
    FrontRight,
}

/// A stored word names no known travel or place.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("“{text}” is not known here")]
pub struct UnknownWord {
    /// The word.
    pub text: String,
}

macro_rules! stored_word {
    ($kind:ty, $($variant:ident => $word:literal),+) => {
        impl $kind {
            /// The word that stands for it in keys and in the store.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }
        }

        impl std::str::FromStr for $kind {
            type Err = UnknownWord;

            fn from_str(text: &str) -> Result<Self, Self::Err> {
                match text {
                    $($word => Ok(Self::$variant),)+
                    _ => Err(UnknownWord { text: text.to_owned() }),
                }
            }
        }
    };
}

/// What a check is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// As found: before anything is touched; the kind that is charted.
    AsFound,
    /// As left: proves an adjustment, by initial limits where the table has both.
    AsLeft,
    /// A trial on the reaction ladder, with another standard or another person: it shows where to
    /// look, and counts for nothing.
    Trial,
}

stored_word!(Purpose, AsFound => "as_found", AsLeft => "as_left", Trial => "trial");
stored_word!(Travel, Rising => "rising", Falling => "falling", Corner => "corner");
stored_word!(Place, Middle => "middle", BackLeft => "back_left", BackRight => "back_right",
    FrontLeft => "front_left", FrontRight => "front_right");

/// One point of a plan version, in working order.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanPoint {
    /// Nominal value in the unit of the instrument.
    pub nominal: Decimal,
    /// How it is reached.
    pub travel: Travel,
    /// Where the piece goes.
    pub place: Place,
    /// How often it is read.
    pub repeats: u32,
    /// Whether its mean is charted.
    pub charted: bool,
    /// The pieces put on, with their certified values.
    pub pieces: Vec<CertifiedPiece>,
    /// Which of the plan's standards they belong to, by its place there.
    pub standard: usize,
}

/// A part of the uncertainty that a plan states: an amount that lies within ±`half_width` with equal
/// probability (a rectangular distribution, JCGM 100, 4.3.7).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BudgetAddition {
    /// Temperature, drift of the standard, or something else.
    pub source: ContributionSource,
    /// What it is.
    pub label: String,
    /// Half-width, in the unit of the display.
    pub half_width: Decimal,
    /// True for an amount that grows by `half_width` with each year since the standard was certified.
    pub per_year: bool,
    /// True for an amount in per cent of the reference value, which grows with the load.
    #[serde(default)]
    pub of_reference: bool,
}

/// What a plan may add to a budget; the rest the method knows.
pub const ADDITION_SOURCES: [ContributionSource; 6] = [
    ContributionSource::Repeatability,
    ContributionSource::Temperature,
    ContributionSource::StandardDrift,
    ContributionSource::Convection,
    ContributionSource::ReferenceSetting,
    ContributionSource::Other,
];

/// A standard that a plan version works with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanStandard {
    /// Tag of the one that is used.
    pub tag: String,
    /// Its name.
    pub name: String,
    /// The kind, where the plan takes any standard of it instead of one by its tag.
    pub any_of_kind: Option<String>,
}

impl PlanSpec {
    /// Whether a load is reached from the one before it by taking pieces off: then the pan need not be emptied.
    #[must_use]
    pub fn comes_down(&self, index: usize) -> bool {
        let Some(point) = self.points.get(index) else { return false };
        let before = index.checked_sub(1).and_then(|before| self.points.get(before));
        before.is_some_and(|before| {
            let mut there: Vec<&str> =
                before.pieces.iter().map(|piece| piece.tag.as_str()).collect();
            point.pieces.iter().all(|piece| {
                let place = there.iter().position(|tag| *tag == piece.tag);
                place.map(|place| there.remove(place)).is_some()
            })
        })
    }

    /// The additions as lines of the budget of a characteristic: a/√3, times the years and the reference value where
    /// they grow with them. A repeatability is that of a single reading; of differences of indications it alone stays.
    /// What is of another quantity than the display (a share in per cent) has none of them: they are stated in its unit.
    #[must_use]
    pub fn contributions(&self, characteristic: &Characteristic) -> Vec<Contribution> {
        if self.unit.dimension() != characteristic.unit.dimension() {
            return vec![];
        }
        let scale = to_f64(self.unit.convert(Decimal::ONE, characteristic.unit));
        let reference = characteristic
            .reference_value
            .or_else(|| Some(self.unit.convert(characteristic.nominal?, characteristic.unit)));
        let of_errors = characteristic.kind == CharacteristicKind::Error;
        self.additions
            .iter()
            .filter(|one| of_errors || one.source == ContributionSource::Repeatability)
            .map(|addition| {
                let years = if addition.per_year { self.standard_age_years.max(0.0) } else { 1.0 };
                let half_width = to_f64(addition.half_width);
                let amount = if addition.of_reference {
                    half_width / 100.0 * reference.map_or(0.0, |value| to_f64(value).abs())
                } else {
                    half_width * scale
                };
                let label = addition.label.clone();
                let u = amount * years / 3.0_f64.sqrt();
                Contribution { label, ..Contribution::known(addition.source, u) }
            })
            .collect()
    }

    /// Whether the plan states a part of the uncertainty itself, so that no default stands in for it.
    #[must_use]
    pub fn states(&self, source: ContributionSource) -> bool {
        self.additions.iter().any(|addition| addition.source == source)
    }

    /// Span of the instrument's range.
    #[must_use]
    pub fn span(&self) -> Decimal {
        self.maximum - self.range_low
    }

    /// The standard at a place; the plan's own where the place is unknown.
    #[must_use]
    pub fn standard(&self, place: usize) -> Option<&PlanStandard> {
        self.standards.get(place).or_else(|| self.standards.first())
    }

    /// How many readings are taken on the standard at a place.
    #[must_use]
    pub fn readings_on(&self, place: usize) -> u32 {
        self.points
            .iter()
            .filter(|point| point.standard == place && !point.pieces.is_empty())
            .map(|point| point.repeats)
            .sum()
    }
}

/// A plan version, with the instrument and standard that it meets.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanSpec {
    /// What the check is for.
    pub purpose: Purpose,
    /// Unit that the instrument shows.
    pub unit: Unit,
    /// Scale interval d of the display.
    pub resolution: Decimal,
    /// Smallest value of the instrument's range.
    pub range_low: Decimal,
    /// Largest value that the instrument can show.
    pub maximum: Decimal,
    /// Values of the instrument's configuration, for what is computed from them.
    pub configuration: Vec<(String, Decimal)>,
    /// The standards: first the plan's own, then those of single points.
    pub standards: Vec<PlanStandard>,
    /// Container or fixture that the check needs; empty where none.
    pub fixture: String,
    /// How results are held against their limits.
    pub decision: Decision,
    /// Parts of the uncertainty that the plan states beside what the method knows.
    pub additions: Vec<BudgetAddition>,
    /// Years since the values of the plan's standard were certified.
    pub standard_age_years: f64,
    /// Settings of the method, with their schema version inside.
    pub settings: serde_json::Value,
    /// The points.
    pub points: Vec<PlanPoint>,
}
