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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::method::{Place, Travel};
    use crate::quantity::Unit;
    use crate::standard::CertifiedPiece;
    use rstest::rstest;

    fn point(name: &str) -> PlanPoint {
        PlanPoint {
            nominal: Decimal::new(2, 1),
            travel: Travel::Rising,
            place: Place::Middle,
            repeats: 1,
            charted: true,
            pieces: vec![CertifiedPiece {
                tag: name.into(),
                nominal: Decimal::new(2, 1),
                certified_value: Decimal::new(2, 1),
                expanded_uncertainty: Decimal::new(3, 3),
                coverage_factor: Decimal::TWO,
                unit: Unit::Reflection,
                class_limit: false,
                non_uniformity: None,
                by_temperature: vec![],
                at_unit: None,
            }],
            standard: 0,
        }
    }

    #[rstest]
    #[case("2.4 GHz real", "2.4", Part::Real)]
    #[case("2.40GHz re", "2.4", Part::Real)]
    #[case("900 MHz, imaginary", "0.9", Part::Imaginary)]
    #[case("6 ghz (Im)", "6", Part::Imaginary)]
    fn places_are_read_as_people_write_them(
        #[case] name: &str,
        #[case] gigahertz: &str,
        #[case] part: Part,
    ) {
        let found = place_of(&point(name));
        assert_eq!(found, Some((gigahertz.parse().unwrap(), part)), "{name}");
        let key = key_of("vector", &point(name));
        assert_eq!(key, format!("vector-{gigahertz}-{}", part.word()));
        assert_eq!(words_of(&point(name)), format!("{gigahertz} GHz, {}", part.word()));
    }

    #[test]
    fn what_names_no_place_keeps_its_own_words() {
        for name in ["", "20 dB", "GHz real", "2.4 real", "2.4 GHz real or so", "-1 GHz real"] {
            assert_eq!(place_of(&point(name)), None, "{name}");
            assert_eq!(words_of(&point(name)), name);
            assert_eq!(key_of("vector", &point(name)), "vector-0.2");
        }
        let keys: Vec<StepKey> =
            Put::ALL.map(Put::key).into_iter().chain([kit_key(), piece_key()]).collect();
        let mut once = keys.clone();
        once.dedup();
        assert_eq!(keys, once);
    }
}
