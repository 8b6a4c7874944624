//! What a method needs to know of a plan version.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::quantity::Unit;
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
}

stored_word!(Purpose, AsFound => "as_found", AsLeft => "as_left");
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
    /// Largest value that the instrument can show.
    pub maximum: Decimal,
    /// Tag of the check standard.
    pub standard_tag: String,
    /// Name of the check standard.
    pub standard_name: String,
    /// Settings of the method, with their schema version inside.
    pub settings: serde_json::Value,
    /// The points.
    pub points: Vec<PlanPoint>,
}
