//! Names of steps and characteristics, and what a piece of a certificate says of its place.

use rust_decimal::Decimal;

use crate::method::{PlanPoint, StepKey};

/// The standards of the kit, in the order in which they are put on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Put {
    Short,
    Open,
    Load,
}

impl Put {
    pub const ALL: [Self; 3] = [Self::Short, Self::Open, Self::Load];

    pub fn word(self) -> &'static str {
        match self {
            Self::Short => "short",
            Self::Open => "open",
            Self::Load => "load",
        }
    }

    pub fn key(self) -> StepKey {
        StepKey(format!("kit-{}", self.word()))
    }
}

/// Key of the step that takes the kit.
pub fn kit_key() -> StepKey {
    StepKey::from("kit")
}

/// Key of the step that measures the piece.
pub fn piece_key() -> StepKey {
    StepKey::from("piece")
}

/// Which part of a reflection is certified.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    Real,
    Imaginary,
}

impl Part {
    pub fn word(self) -> &'static str {
        match self {
            Self::Real => "real",
            Self::Imaginary => "imaginary",
        }
    }
}

/// Frequency in GHz and part that a certified value is of, by the name of its piece: "2.4 GHz real", "900 MHz imaginary".
pub fn place_of(point: &PlanPoint) -> Option<(Decimal, Part)> {
    let name = point.pieces.first()?.tag.to_lowercase().replace([',', '(', ')'], " ");
    let mut words = name.split_whitespace();
    let first = words.next()?;
    // The unit stands apart or not.
    let digits = first.trim_end_matches(|c: char| c.is_alphabetic());
    let unit = match &first[digits.len()..] {
        "" => words.next()?,
        unit => unit,
    };
    let value: Decimal = digits.parse().ok()?;
    let gigahertz = match unit {
        "ghz" => value,
        "mhz" => value / Decimal::ONE_THOUSAND,
        _ => return None,
    };
    let part = match words.next()? {
        "real" | "re" => Part::Real,
        "imaginary" | "imag" | "im" => Part::Imaginary,
        _ => return None,
    };
    (words.next().is_none() && gigahertz > Decimal::ZERO).then_some((gigahertz.normalize(), part))
}

/// "2.4 GHz, real".
pub fn words_of(point: &PlanPoint) -> String {
    match place_of(point) {
        Some((gigahertz, part)) => format!("{gigahertz} GHz, {}", part.word()),
        None => point.pieces.first().map_or_else(String::new, |piece| piece.tag.clone()),
    }
}

/// Key of the characteristic that a point makes.
pub fn key_of(prefix: &str, point: &PlanPoint) -> String {
    match place_of(point) {
        Some((gigahertz, part)) => format!("{prefix}-{gigahertz}-{}", part.word()),
        None => format!("{prefix}-{}", point.nominal.normalize()),
    }
}
