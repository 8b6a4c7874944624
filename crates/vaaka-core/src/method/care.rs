//! What a plan says about adjusting, and about what to do when a check fails.

use serde::{Deserialize, Serialize};

use super::UnknownWord;

/// When an instrument is adjusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AdjustmentPolicy {
    /// Only when it is out: keeps the history of the drift and adds no noise.
    OnlyWhenOut,
    /// At a share of the tolerance, or when the crossing comes before the next check.
    AtGuardFraction,
    /// Before every use, for instruments that cannot hold a day; as found is recorded first.
    BeforeEachUse,
}

impl AdjustmentPolicy {
    /// All, the default first.
    pub const ALL: [Self; 3] = [Self::OnlyWhenOut, Self::AtGuardFraction, Self::BeforeEachUse];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::OnlyWhenOut => "only_when_out",
            Self::AtGuardFraction => "at_guard_fraction",
            Self::BeforeEachUse => "before_each_use",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::OnlyWhenOut => "only when it is out of tolerance",
            Self::AtGuardFraction => {
                "at three quarters of the tolerance, or when drift will cross it"
            }
            Self::BeforeEachUse => "before every use, as found first",
        }
    }
}

/// A rung of the reaction ladder: what is tried, one after the other, when a check fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Rung {
    /// Clean instrument and standard.
    Clean,
    /// Look at every setting.
    Settings,
    /// Repeat once.
    Repeat,
    /// Take another standard.
    OtherStandard,
    /// Let somebody else measure.
    OtherPerson,
    /// Adjust, then prove it.
    Adjust,
    /// Call for service.
    Service,
}

impl Rung {
    /// All, in the usual order.
    pub const ALL: [Self; 7] = [
        Self::Clean,
        Self::Settings,
        Self::Repeat,
        Self::OtherStandard,
        Self::OtherPerson,
        Self::Adjust,
        Self::Service,
    ];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Clean => "clean",
            Self::Settings => "settings",
            Self::Repeat => "repeat",
            Self::OtherStandard => "other_standard",
            Self::OtherPerson => "other_person",
            Self::Adjust => "adjust",
            Self::Service => "service",
        }
    }

    /// What is done on it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Clean => {
                "Clean instrument and standard with what they bear, and look for damage."
            }
            Self::Settings => "Go through every setting again, value by value.",
            Self::Repeat => "Repeat the check once; both runs stay on record.",
            Self::OtherStandard => "Check with another standard of the same kind.",
            Self::OtherPerson => "Let somebody else measure.",
            Self::Adjust => "A lead decides on adjusting; the whole check follows as the proof.",
            Self::Service => "Take it out of use and call for service.",
        }
    }
}

fn named<T: Copy>(all: &[T], word: fn(T) -> &'static str, text: &str) -> Result<T, UnknownWord> {
    let found = all.iter().copied().find(|one| word(*one) == text);
    found.ok_or_else(|| UnknownWord { text: text.to_owned() })
}

impl std::str::FromStr for Rung {
    type Err = UnknownWord;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        named(&Self::ALL, Self::word, text)
    }
}

impl std::str::FromStr for AdjustmentPolicy {
    type Err = UnknownWord;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        named(&Self::ALL, Self::word, text)
    }
}
