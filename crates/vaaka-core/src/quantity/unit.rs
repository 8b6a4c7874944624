//! Units of measurement, with exact conversion inside one dimension.

use std::fmt;
use std::str::FromStr;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What a unit measures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Dimension {
    /// Mass.
    Mass,
    /// Pressure.
    Pressure,
    /// Length.
    Length,
    /// Temperature on the Celsius scale; its errors are differences in the same unit.
    Temperature,
    /// Force.
    Force,
    /// Density.
    Density,
    /// Content of water and other mass fractions.
    MassFraction,
    /// Relative humidity.
    RelativeHumidity,
    /// Ratio of powers, on a logarithmic scale.
    PowerRatio,
    /// Rockwell hardness, scale A: each scale of hardness is a quantity of its own.
    RockwellA,
    /// Rockwell hardness, scale B.
    RockwellB,
    /// Rockwell hardness, scale C.
    RockwellC,
    /// Vickers hardness.
    Vickers,
    /// Brinell hardness.
    Brinell,
    /// Rebound hardness, impact body D.
    ReboundD,
    /// What a sensor gives, before anything is made of it.
    SensorCode,
    /// Absorbance.
    Absorbance,
    /// Acidity.
    Acidity,
    /// Torque.
    Torque,
    /// Electric potential.
    Voltage,
    /// Electric current.
    Current,
    /// Electric resistance.
    Resistance,
    /// Velocity of sound and other velocities.
    Velocity,
    /// Mass of something in a volume of a solution.
    MassConcentration,
    /// Reflection coefficient.
    Reflection,
}

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
    /// Pascal.
    #[serde(rename = "Pa")]
    Pascal,
    /// Millibar, 100 Pa.
    #[serde(rename = "mbar")]
    Millibar,
    /// Kilopascal.
    #[serde(rename = "kPa")]
    Kilopascal,
    /// Bar, 100 kPa.
    #[serde(rename = "bar")]
    Bar,
    /// Megapascal.
    #[serde(rename = "MPa")]
    Megapascal,
    /// Nanometre.
    #[serde(rename = "nm")]
    Nanometre,
    /// Micrometre.
    #[serde(rename = "µm")]
    Micrometre,
    /// Millimetre.
    #[serde(rename = "mm")]
    Millimetre,
    /// Metre.
    #[serde(rename = "m")]
    Metre,
    /// Degree Celsius.
    #[serde(rename = "°C")]
    DegreeCelsius,
    /// Newton.
    #[serde(rename = "N")]
    Newton,
    /// Kilonewton.
    #[serde(rename = "kN")]
    Kilonewton,
    /// Kilogram per cubic metre.
    #[serde(rename = "kg/m³")]
    KilogramPerCubicMetre,
    /// Per cent of mass.
    #[serde(rename = "%")]
    Percent,
    /// Per cent relative humidity.
    #[serde(rename = "%RH")]
    PercentRelativeHumidity,
    /// Decibel.
    #[serde(rename = "dB")]
    Decibel,
    /// Rockwell A (ISO 6508).
    #[serde(rename = "HRA")]
    RockwellA,
    /// Rockwell B with a ball of hard metal (ISO 6508).
    #[serde(rename = "HRBW")]
    RockwellB,
    /// Vickers (ISO 6507).
    #[serde(rename = "HV")]
    Vickers,
    /// Brinell with a ball of hard metal (ISO 6506).
    #[serde(rename = "HBW")]
    Brinell,
    /// Rebound hardness of the impact body D (ISO 16859).
    #[serde(rename = "HLD")]
    ReboundD,
    /// Code of a sensor: a number of its own, of the order that its maker chose.
    #[serde(rename = "code")]
    SensorCode,
    /// Rockwell C (ISO 6508).
    #[serde(rename = "HRC")]
    RockwellC,
    /// Absorbance, a plain number.
    #[serde(rename = "Abs")]
    Absorbance,
    /// pH, a plain number.
    #[serde(rename = "pH")]
    Ph,
    /// Pound, 0.453 592 37 kg exactly.
    #[serde(rename = "lb")]
    Pound,
    /// Pound-force per square inch.
    #[serde(rename = "psi")]
    Psi,
    /// Inch, 25.4 mm exactly.
    #[serde(rename = "in")]
    Inch,
    /// Microinch, a millionth of an inch.
    #[serde(rename = "µin")]
    Microinch,
    /// Newton metre.
    #[serde(rename = "N·m")]
    NewtonMetre,
    /// Millivolt.
    #[serde(rename = "mV")]
    Millivolt,
    /// Volt.
    #[serde(rename = "V")]
    Volt,
    /// Milliampere.
    #[serde(rename = "mA")]
    Milliampere,
    /// Ampere.
    #[serde(rename = "A")]
    Ampere,
    /// Ohm.
    #[serde(rename = "Ω")]
    Ohm,
    /// Kiloohm.
    #[serde(rename = "kΩ")]
    Kiloohm,
    /// Metre per second.
    #[serde(rename = "m/s")]
    MetrePerSecond,
    /// Milligram per litre.
    #[serde(rename = "mg/L")]
    MilligramPerLitre,
    /// Gram per litre.
    #[serde(rename = "g/L")]
    GramPerLitre,
    /// Reflection coefficient, a plain number: either part of it.
    #[serde(rename = "Γ")]
    Reflection,
}

/// A unit does not fit.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum UnitError {
    /// The text names no unit that Vaaka knows.
    #[error("“{text}” is not a unit known here")]
    Unknown {
        /// The text that was given.
        text: String,
    },
    /// The two units measure different things.
    #[error("{from} cannot be turned into {to}")]
    Dimension {
        /// Unit of the value.
        from: Unit,
        /// Unit asked for.
        to: Unit,
    },
}

impl Unit {
    /// All units, in the order in which a list offers them.
    pub const ALL: [Self; 43] = [
        Self::Milligram,
        Self::Gram,
        Self::Kilogram,
        Self::Pascal,
        Self::Millibar,
        Self::Kilopascal,
        Self::Bar,
        Self::Megapascal,
        Self::Nanometre,
        Self::Micrometre,
        Self::Millimetre,
        Self::Metre,
        Self::DegreeCelsius,
        Self::Newton,
        Self::Kilonewton,
        Self::KilogramPerCubicMetre,
        Self::Percent,
        Self::PercentRelativeHumidity,
        Self::Decibel,
        Self::RockwellA,
        Self::RockwellB,
        Self::RockwellC,
        Self::Vickers,
        Self::Brinell,
        Self::ReboundD,
        Self::SensorCode,
        Self::Absorbance,
        Self::Ph,
        Self::Pound,
        Self::Psi,
        Self::Inch,
        Self::Microinch,
        Self::NewtonMetre,
        Self::Millivolt,
        Self::Volt,
        Self::Milliampere,
        Self::Ampere,
        Self::Ohm,
        Self::Kiloohm,
        Self::MetrePerSecond,
        Self::MilligramPerLitre,
        Self::GramPerLitre,
        Self::Reflection,
    ];

    /// Symbol (ISO 80000, SI brochure), dimension, and power of ten against the dimension's base.
    fn facts(self) -> (&'static str, Dimension, i32) {
        match self {
            Self::Milligram => ("mg", Dimension::Mass, -3),
            Self::Gram => ("g", Dimension::Mass, 0),
            Self::Kilogram => ("kg", Dimension::Mass, 3),
            Self::Pascal => ("Pa", Dimension::Pressure, 0),
            Self::Millibar => ("mbar", Dimension::Pressure, 2),
            Self::Kilopascal => ("kPa", Dimension::Pressure, 3),
            Self::Bar => ("bar", Dimension::Pressure, 5),
            Self::Megapascal => ("MPa", Dimension::Pressure, 6),
            Self::Nanometre => ("nm", Dimension::Length, -9),
            Self::Micrometre => ("µm", Dimension::Length, -6),
            Self::Millimetre => ("mm", Dimension::Length, -3),
            Self::Metre => ("m", Dimension::Length, 0),
            Self::DegreeCelsius => ("°C", Dimension::Temperature, 0),
            Self::Newton => ("N", Dimension::Force, 0),
            Self::Kilonewton => ("kN", Dimension::Force, 3),
            Self::KilogramPerCubicMetre => ("kg/m³", Dimension::Density, 0),
            Self::Percent => ("%", Dimension::MassFraction, 0),
            Self::PercentRelativeHumidity => ("%RH", Dimension::RelativeHumidity, 0),
            Self::Decibel => ("dB", Dimension::PowerRatio, 0),
            Self::RockwellA => ("HRA", Dimension::RockwellA, 0),
            Self::RockwellB => ("HRBW", Dimension::RockwellB, 0),
            Self::RockwellC => ("HRC", Dimension::RockwellC, 0),
            Self::Vickers => ("HV", Dimension::Vickers, 0),
            Self::Brinell => ("HBW", Dimension::Brinell, 0),
            Self::ReboundD => ("HLD", Dimension::ReboundD, 0),
            Self::SensorCode => ("code", Dimension::SensorCode, 0),
            Self::Absorbance => ("Abs", Dimension::Absorbance, 0),
            Self::Ph => ("pH", Dimension::Acidity, 0),
            Self::Pound => ("lb", Dimension::Mass, 0),
            Self::Psi => ("psi", Dimension::Pressure, 0),
            Self::Inch => ("in", Dimension::Length, 0),
            Self::Microinch => ("µin", Dimension::Length, -6),
            Self::NewtonMetre => ("N·m", Dimension::Torque, 0),
            Self::Millivolt => ("mV", Dimension::Voltage, -3),
            Self::Volt => ("V", Dimension::Voltage, 0),
            Self::Milliampere => ("mA", Dimension::Current, -3),
            Self::Ampere => ("A", Dimension::Current, 0),
            Self::Ohm => ("Ω", Dimension::Resistance, 0),
            Self::Kiloohm => ("kΩ", Dimension::Resistance, 3),
            Self::MetrePerSecond => ("m/s", Dimension::Velocity, 0),
            Self::MilligramPerLitre => ("mg/L", Dimension::MassConcentration, -3),
            Self::GramPerLitre => ("g/L", Dimension::MassConcentration, 0),
            Self::Reflection => ("Γ", Dimension::Reflection, 0),
        }
    }

    /// What a unit is of its dimension's base before the power of ten, as a fraction of whole numbers, where that is not one.
    /// The international yard and pound of 1959: 1 lb = 0.453 592 37 kg, 1 in = 0.0254 m, both exact; with the standard
    /// acceleration of 9.806 65 m/s² (ISO 80000-3, 3rd CGPM 1901) 1 psi = 0.453 592 37 × 9.806 65 / 0.0254² Pa.
    fn fraction(self) -> (i64, i64) {
        match self {
            // Grams.
            Self::Pound => (45_359_237, 100_000),
            Self::Psi => (44_482_216_152_605, 6_451_600_000),
            // Metres.
            Self::Inch | Self::Microinch => (254, 10_000),
            _ => (1, 1),
        }
    }

    /// Whether only the decimal point moves between them, so that a value keeps its digits.
    #[must_use]
    pub fn shares_digits_with(self, other: Self) -> bool {
        self.dimension() == other.dimension() && self.fraction() == other.fraction()
    }

    /// The symbol of the unit.
    #[must_use]
    pub fn symbol(self) -> &'static str {
        self.facts().0
    }

    /// Whether values are logarithms, so that a mean is taken of what they stand for.
    #[must_use]
    pub fn is_logarithmic(self) -> bool {
        self == Self::Decibel
    }

    /// What it measures.
    #[must_use]
    pub fn dimension(self) -> Dimension {
        self.facts().1
    }

    /// Converts a value exactly, for units that are known to measure the same thing: between metric ones only the
    /// decimal point moves; beyond, to the 28 digits that a decimal has. Where they may differ, [`Self::try_convert`] says so.
    #[must_use]
    pub fn convert(self, value: Decimal, to: Self) -> Decimal {
        debug_assert_eq!(self.dimension(), to.dimension());
        let shift = self.facts().2 - to.facts().2;
        let ten = Decimal::TEN;
        let ((over, under), (to_over, to_under)) = (self.fraction(), to.fraction());
        let mut result = value;
        if (over, under) != (to_over, to_under) {
            result = result * Decimal::from(over) / Decimal::from(under);
            result = (result * Decimal::from(to_under) / Decimal::from(to_over)).normalize();
        }
        for _ in 0..shift.unsigned_abs() {
            result = if shift > 0 { result * ten } else { result / ten };
        }
        result
    }

    /// Converts a value exactly.
    ///
    /// # Errors
    /// [`UnitError::Dimension`] when the units measure different things.
    pub fn try_convert(self, value: Decimal, to: Self) -> Result<Decimal, UnitError> {
        if self.dimension() == to.dimension() {
            Ok(self.convert(value, to))
        } else {
            Err(UnitError::Dimension { from: self, to })
        }
    }

    /// The unit in which errors of this instrument are stated, everywhere: that of its display, but for mass and length,
    /// where every bench speaks of grams beside kilograms and of micrometres beside millimetres.
    #[must_use]
    pub fn error_unit(self, resolution: Decimal) -> Self {
        let fine = resolution < Decimal::ONE;
        match self {
            Self::Kilogram if fine => Self::Gram,
            Self::Gram if resolution < Decimal::new(1, 2) => Self::Milligram,
            Self::Millimetre if fine => Self::Micrometre,
            Self::Inch if fine => Self::Microinch,
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
        Self::ALL
            .into_iter()
            .find(|unit| unit.symbol() == text)
            .ok_or_else(|| UnitError::Unknown { text: text.to_owned() })
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
    #[case("1", Unit::Bar, Unit::Kilopascal, "100")]
    #[case("1013.25", Unit::Millibar, Unit::Pascal, "101325")]
    #[case("0.6", Unit::Megapascal, Unit::Bar, "6.0")]
    #[case("0.004", Unit::Millimetre, Unit::Micrometre, "4")]
    #[case("0.5415", Unit::Micrometre, Unit::Nanometre, "541.5")]
    fn conversion_moves_the_point(
        #[case] value: &str,
        #[case] from: Unit,
        #[case] to: Unit,
        #[case] expected: &str,
    ) {
        let value: Decimal = value.parse().unwrap();
        let expected: Decimal = expected.parse().unwrap();
        assert_eq!(from.try_convert(value, to), Ok(expected));
        assert_eq!(to.convert(from.convert(value, to), from), value, "and back");
    }

    /// NIST SP 811 (2008), table B.8 and B.9: exact factors of pound and inch; psi to seven digits.
    #[rstest]
    #[case("1", Unit::Pound, Unit::Kilogram, "0.45359237")]
    #[case("2.5", Unit::Pound, Unit::Gram, "1133.980925")]
    #[case("0.45359237", Unit::Kilogram, Unit::Pound, "1")]
    #[case("1", Unit::Inch, Unit::Millimetre, "25.4")]
    #[case("40", Unit::Microinch, Unit::Micrometre, "1.016")]
    #[case("0.001", Unit::Inch, Unit::Microinch, "1000")]
    #[case("12.7", Unit::Millimetre, Unit::Inch, "0.5")]
    #[case("1.5", Unit::Kiloohm, Unit::Ohm, "1500")]
    #[case("20", Unit::Milliampere, Unit::Ampere, "0.02")]
    #[case("-0.1", Unit::Volt, Unit::Millivolt, "-100")]
    fn customary_and_electric_units(
        #[case] value: &str,
        #[case] from: Unit,
        #[case] to: Unit,
        #[case] expected: &str,
    ) {
        let value: Decimal = value.parse().unwrap();
        assert_eq!(from.try_convert(value, to), Ok(expected.parse().unwrap()));
    }

    #[test]
    fn a_psi_is_a_fraction_and_comes_back() {
        let pascal = Unit::Psi.convert(Decimal::ONE, Unit::Pascal);
        assert_eq!(pascal.round_dp(6), "6894.757293".parse().unwrap());
        for value in ["0.01", "14.5038", "10000", "-3.25"] {
            let value: Decimal = value.parse().unwrap();
            for to in [Unit::Bar, Unit::Millibar, Unit::Megapascal] {
                let back = to.convert(Unit::Psi.convert(value, to), Unit::Psi);
                assert!((back - value).abs() <= value.abs() * Decimal::new(1, 22), "{value} {to}");
            }
        }
    }

    #[test]
    fn every_pair_converts_or_says_why_not() {
        for from in Unit::ALL {
            assert_eq!(from.symbol().parse(), Ok(from));
            for to in Unit::ALL {
                let result = from.try_convert(Decimal::ONE, to);
                assert_eq!(result.is_ok(), from.dimension() == to.dimension(), "{from} {to}");
            }
            let fine = from.error_unit(Decimal::new(1, 3));
            assert_eq!(fine.dimension(), from.dimension());
        }
        assert!("stone".parse::<Unit>().is_err());
    }
}
