//! Units of measurement, with exact conversion inside one dimension.

use std::fmt;
use std::str::FromStr;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A unit that an instrument shows or a certificate states.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Unit {
    /// Milligram.
    #[serde(rename = "mg")]
    Milligram,
    /// Gram.
    #[serde(rename = "g")]
    Gram,
    /// Kilogram.
    #[serde(rename = "kg")]
    Kilogram,
}

/// The text names no unit that Vaaka knows.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("“{text}” is not a unit known here")]
pub struct UnitError {
    /// The text that was given.
    pub text: String,
}

impl Unit {
    /// The symbol of the unit (ISO 80000, SI brochure).
    #[must_use]
    pub fn symbol(self) -> &'static str {
        match self {
            Self::Milligram => "mg",
            Self::Gram => "g",
            Self::Kilogram => "kg",
        }
    }

    /// Power of ten against the gram.
    fn power(self) -> i32 {
        match self {
            Self::Milligram => -3,
            Self::Gram => 0,
            Self::Kilogram => 3,
        }
    }

    /// Converts a value exactly: only the decimal point moves.
    #[must_use]
    pub fn convert(self, value: Decimal, to: Self) -> Decimal {
        let shift = self.power() - to.power();
        let ten = Decimal::TEN;
        let mut result = value;
        for _ in 0..shift.unsigned_abs() {
            result = if shift > 0 { result * ten } else { result / ten };
        }
        result
    }

    /// The unit in which an error of this instrument reads as a plain number, and the factor
    /// to it: the errors of a scale that shows kilograms are spoken of in grams.
    #[must_use]
    pub fn error_unit(self, resolution: Decimal) -> Self {
        match self {
            Self::Kilogram if resolution < Decimal::ONE => Self::Gram,
            Self::Gram if resolution < Decimal::new(1, 2) => Self::Milligram,
            other => other,
        }
    }
}

impl fmt::Display for Unit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.symbol())
    }
}

impl FromStr for Unit {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        [Self::Milligram, Self::Gram, Self::Kilogram]
            .into_iter()
            .find(|unit| unit.symbol() == text)
            .ok_or_else(|| UnitError { text: text.to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("20.012", Unit::Kilogram, Unit::Gram, "20012")]
    #[case("0.0108", Unit::Kilogram, Unit::Gram, "10.8")]
    #[case("-0.35", Unit::Gram, Unit::Milligram, "-350")]
    #[case("1", Unit::Milligram, Unit::Kilogram, "0.000001")]
    fn conversion_moves_the_point(
        #[case] value: &str,
        #[case] from: Unit,
        #[case] to: Unit,
        #[case] expected: &str,
    ) {
        let value: Decimal = value.parse().unwrap();
        let expected: Decimal = expected.parse().unwrap();
        assert_eq!(from.convert(value, to), expected);
        assert_eq!(to.convert(from.convert(value, to), from), value, "and back");
    }

    #[test]
    fn symbols_read_back() {
        for unit in [Unit::Milligram, Unit::Gram, Unit::Kilogram] {
            assert_eq!(unit.symbol().parse(), Ok(unit));
        }
        assert!("stone".parse::<Unit>().is_err());
    }
}
