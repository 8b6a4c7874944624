//! Certified values of the pieces of a standard: their uncertainty, their sum, their temperature.

use rust_decimal::{Decimal, RoundingStrategy};
use serde::{Deserialize, Serialize};

use super::StandardError;
use crate::judgement::{Contribution, ContributionSource};
use crate::quantity::{Unit, show_decimal, to_f64};

/// The certified value of one piece of a standard, as its certificate states it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CertifiedPiece {
    /// Tag of the piece, unique within its standard.
    pub tag: String,
    /// What is engraved on it.
    pub nominal: Decimal,
    /// Certified value, in full.
    pub certified_value: Decimal,
    /// Expanded uncertainty U of the certificate.
    pub expanded_uncertainty: Decimal,
    /// Coverage factor k of that U.
    pub coverage_factor: Decimal,
    /// Unit of all of these.
    pub unit: Unit,
    /// True where nothing but the class of the piece is known: the "uncertainty" is then the
    /// maximum permissible error of that class, and k means nothing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub class_limit: bool,
    /// Half-width within which single places of the piece differ from its certified value, where
    /// the certificate states it: a block is not the same all over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub non_uniformity: Option<Decimal>,
    /// Certified values by what they depend on, rising: the temperature, or whatever `at_unit` is the unit of (a wavelength,
    /// a frequency, a level). Empty for a value that depends on nothing.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by_temperature: Vec<ValueAt>,
    /// Unit of what its value depends on; °C where none is stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_unit: Option<String>,
}

/// Unit of what a certified value depends on, where nothing else is stated: a temperature.
pub const CELSIUS: &str = "°C";

/// Units of what a certified value may depend on, with what they are of.
pub const AXES: [(&str, &str); 11] = [
    (CELSIUS, "temperature, °C"),
    ("nm", "wavelength, nm"),
    ("Hz", "frequency, Hz"),
    ("kHz", "frequency, kHz"),
    ("MHz", "frequency, MHz"),
    ("GHz", "frequency, GHz"),
    ("%RH", "humidity, %RH"),
    ("bar", "pressure, bar"),
    ("N", "force, N"),
    ("mm", "length, mm"),
    ("V", "level, V"),
];

/// A certified value at a temperature, or at another value of what it depends on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueAt {
    /// Temperature in °C, or the value of what it depends on in its unit.
    pub temperature: Decimal,
    /// Certified value at it.
    pub certified_value: Decimal,
    /// Expanded uncertainty there, with the factor of the piece; that of the piece where none is stated. It was not part of the
    /// fingerprint of a result before it was known here, and is none now.
    #[serde(default, skip_serializing)]
    pub expanded_uncertainty: Option<Decimal>,
}

impl CertifiedPiece {
    /// Standard uncertainty of the certified value: U/k (JCGM 100, 4.3.3), or the limit of its
    /// class over √3 where nothing else is known (a rectangular distribution, JCGM 100, 4.3.7).
    ///
    /// # Errors
    /// [`StandardError::CoverageFactor`] when k is not positive.
    pub fn certified_standard_uncertainty(&self) -> Result<f64, StandardError> {
        if self.class_limit {
            return Ok(to_f64(self.expanded_uncertainty) / 3.0_f64.sqrt());
        }
        if self.coverage_factor <= Decimal::ZERO {
            return Err(StandardError::CoverageFactor { tag: self.tag.clone() });
        }
        Ok(to_f64(self.expanded_uncertainty) / to_f64(self.coverage_factor))
    }

    /// Standard uncertainty of its places, a/√3: the non-uniformity ±a taken as a rectangular
    /// distribution (JCGM 100, 4.3.7).
    #[must_use]
    pub fn places_standard_uncertainty(&self) -> f64 {
        self.non_uniformity.map_or(0.0, to_f64) / 3.0_f64.sqrt()
    }

    /// Standard uncertainty of both together.
    ///
    /// # Errors
    /// As [`Self::certified_standard_uncertainty`].
    pub fn standard_uncertainty(&self) -> Result<f64, StandardError> {
        Ok(self.certified_standard_uncertainty()?.hypot(self.places_standard_uncertainty()))
    }

    /// Whether its value is another one elsewhere: then it must be known where it is taken.
    #[must_use]
    pub fn is_dependent(&self) -> bool {
        let mut values = self.by_temperature.iter().map(|row| row.certified_value);
        let first = values.next();
        values.any(|value| Some(value) != first)
    }

    /// Unit of what its value depends on.
    #[must_use]
    pub fn axis_unit(&self) -> &str {
        self.at_unit.as_deref().unwrap_or(CELSIUS)
    }

    /// The lowest and highest temperature, or other value, at which it is certified; none where it depends on nothing.
    #[must_use]
    pub fn certified_span(&self) -> Option<(Decimal, Decimal)> {
        let (first, last) = (self.by_temperature.first()?, self.by_temperature.last()?);
        Some((first.temperature, last.temperature))
    }

    /// The piece with its value at `temperature`, by straight lines between the certified
    /// temperatures, and with the larger uncertainty of the two that it lies between; beyond them nothing is certified. Where it
    /// depends on something else, that takes the place of the temperature.
    ///
    /// # Errors
    /// [`StandardError::NotCertifiedAt`] outside the certified temperatures.
    pub fn at(&self, temperature: Decimal) -> Result<Self, StandardError> {
        let table = &self.by_temperature;
        let Some((first, last)) = self.certified_span() else {
            return Ok(self.clone());
        };
        if temperature < first || temperature > last {
            let show = |value: Decimal| show_decimal(value, value.scale());
            return Err(StandardError::NotCertifiedAt {
                tag: self.tag.clone(),
                unit: self.axis_unit().to_owned(),
                from: show(first),
                to: show(last),
                got: show(temperature),
            });
        }
        let after = table.iter().position(|row| row.temperature >= temperature).unwrap_or(0);
        let upper = table[after];
        let own = |row: ValueAt| row.expanded_uncertainty.unwrap_or(self.expanded_uncertainty);
        let (certified_value, expanded_uncertainty) = if upper.temperature == temperature
            || after == 0
        {
            (upper.certified_value, own(upper))
        } else {
            let lower = table[after - 1];
            let share = (temperature - lower.temperature) / (upper.temperature - lower.temperature);
            let value =
                lower.certified_value + (upper.certified_value - lower.certified_value) * share;
            (value, own(lower).max(own(upper)))
        };
        Ok(Self { certified_value, expanded_uncertainty, ..self.clone() })
    }
}

impl CertifiedPiece {
    /// How much its value changes with a degree about `temperature`: the steeper of the straight lines that meet
    /// there; zero for a value that does not depend on it.
    #[must_use]
    pub fn slope_at(&self, temperature: Decimal) -> f64 {
        self.by_temperature
            .windows(2)
            .filter(|pair| pair[0].temperature <= temperature && temperature <= pair[1].temperature)
            .map(|pair| {
                to_f64(pair[1].certified_value - pair[0].certified_value)
                    / to_f64(pair[1].temperature - pair[0].temperature)
            })
            .fold(0.0, |steepest: f64, own| if own.abs() > steepest.abs() { own } else { steepest })
    }
}

/// Several pieces put on together.
#[derive(Debug, Clone, PartialEq)]
pub struct CombinedReference {
    /// Sum of the certified values, exact.
    pub reference_value: Decimal,
    /// The parts of its uncertainty.
    pub contributions: Vec<Contribution>,
}

impl CombinedReference {
    /// Standard uncertainty of the sum.
    #[must_use]
    pub fn standard_uncertainty(&self) -> f64 {
        self.contributions.iter().fold(0.0, |sum: f64, part| sum.hypot(part.standard_uncertainty))
    }
}

/// Adds pieces of one set: values add, and since one laboratory compared them with the same
/// references, their uncertainties are taken as fully correlated and add linearly, those known by
/// class likewise. Places of different pieces differ independently.
///
/// # Errors
/// As [`CertifiedPiece::certified_standard_uncertainty`]; [`StandardError::Unit`] for another
/// quantity.
pub fn combine(pieces: &[CertifiedPiece], unit: Unit) -> Result<CombinedReference, StandardError> {
    let mut reference_value = Decimal::ZERO;
    let (mut certified, mut by_class, mut places) = (0.0, 0.0, 0.0_f64);
    for piece in pieces {
        reference_value += piece.unit.try_convert(piece.certified_value, unit)?;
        let scale = to_f64(piece.unit.convert(Decimal::ONE, unit));
        let of_value = piece.certified_standard_uncertainty()? * scale;
        if piece.class_limit {
            by_class += of_value;
        } else {
            certified += of_value;
        }
        places = places.hypot(piece.places_standard_uncertainty() * scale);
    }
    let contributions = [
        (ContributionSource::Certificate, certified),
        (ContributionSource::ClassLimit, by_class),
        (ContributionSource::NonUniformity, places),
    ]
    .into_iter()
    .filter(|(_, u)| *u > 0.0)
    .map(|(source, u)| Contribution::known(source, u))
    .collect();
    Ok(CombinedReference { reference_value, contributions })
}

/// Largest difference of two nominal values that name one thing in units of different systems, as
/// a share of the wanted one.
const NEAR: Decimal = Decimal::from_parts(1, 0, 0, false, 3);

/// Whether pieces are what a point asks for by its nominal value. A nominal value is a name: within
/// one system of units both are the same number. Between systems the digits do not survive (10 bar
/// are 145.037… psi), so there it is what the sum of the pieces rounds to at the places that were
/// wanted, if that moves it by no more than a thousandth. What is computed with is the certified
/// value, never this one.
///
/// `pieces` holds nominal values with their units; other quantities are never the same.
#[must_use]
pub fn same_nominal(pieces: &[(Decimal, Unit)], wanted: Decimal, unit: Unit) -> bool {
    let mut sum = Decimal::ZERO;
    for (nominal, of) in pieces {
        let Ok(value) = of.try_convert(*nominal, unit) else { return false };
        sum += value;
    }
    if sum == wanted {
        return true;
    }
    let digits_survive = pieces.iter().all(|(_, of)| of.shares_digits_with(unit));
    let places = wanted.normalize().scale();
    !digits_survive
        && sum.round_dp_with_strategy(places, RoundingStrategy::MidpointAwayFromZero) == wanted
        && (sum - wanted).abs() <= wanted.abs() * NEAR
}

#[cfg(test)]
mod tests {
    use super::*;

    fn piece(value: &str, u: &str, k: &str) -> CertifiedPiece {
        CertifiedPiece {
            tag: "a".into(),
            nominal: Decimal::TEN,
            certified_value: value.parse().unwrap(),
            expanded_uncertainty: u.parse().unwrap(),
            coverage_factor: k.parse().unwrap(),
            unit: Unit::Kilogram,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }
    }

    #[test]
    fn pieces_of_one_set_add_linearly() {
        let pieces = [piece("10.00011", "0.00015", "2"), piece("10.00010", "0.00015", "2")];
        let sum = combine(&pieces, Unit::Gram).unwrap();
        assert_eq!(sum.reference_value, "20000.21".parse::<Decimal>().unwrap());
        assert!((sum.standard_uncertainty() - 0.15).abs() < 1e-12, "{sum:?}");
    }

    /// A weight known by its class only, limit 0.5 (say): 0.5/√3; two of them add linearly; places
    /// of two blocks, ±0.9 each, do not.
    #[test]
    fn known_by_class_and_places() {
        let mut weight = piece("10", "0.5", "1");
        weight.class_limit = true;
        let two = combine(&[weight.clone(), weight.clone()], Unit::Kilogram).unwrap();
        assert_eq!(two.contributions.len(), 1);
        assert_eq!(two.contributions[0].source, ContributionSource::ClassLimit);
        assert!((two.standard_uncertainty() - 1.0 / 3.0_f64.sqrt()).abs() < 1e-12);
        let mut block = piece("10", "0", "2");
        block.non_uniformity = Some("0.9".parse().unwrap());
        let two = combine(&[block.clone(), block], Unit::Kilogram).unwrap();
        assert!((two.standard_uncertainty() - (2.0 * 0.27_f64).sqrt()).abs() < 1e-12);
    }

    #[test]
    fn u_is_divided_by_its_k() {
        assert!((piece("10", "0.3", "3").standard_uncertainty().unwrap() - 0.1).abs() < 1e-15);
        assert!(piece("10", "0.3", "0").standard_uncertainty().is_err());
    }

    #[test]
    fn places_of_a_block_differ() {
        let mut block = piece("62.4", "0.6", "2");
        block.non_uniformity = Some("0.9".parse().unwrap());
        // √(0.3² + 0.9²/3) = √0.36
        assert!((block.standard_uncertainty().unwrap() - 0.6).abs() < 1e-12);
    }

    /// Saturated sodium chloride by Greenspan 1977, table 2 (from memory): 75.65 %RH at 10 °C,
    /// 75.47 at 20 °C, 75.29 at 25 °C.
    #[test]
    fn value_by_temperature() {
        let mut salt = piece("75.29", "0.12", "1");
        let row = |t: i64, v: &str| ValueAt {
            temperature: Decimal::from(t),
            certified_value: v.parse().unwrap(),
            expanded_uncertainty: None,
        };
        salt.by_temperature = vec![row(10, "75.65"), row(20, "75.47"), row(25, "75.29")];
        let at = |t: &str| salt.at(t.parse().unwrap());
        assert_eq!(at("20").unwrap().certified_value, "75.47".parse::<Decimal>().unwrap());
        assert_eq!(at("15").unwrap().certified_value, "75.56".parse::<Decimal>().unwrap());
        assert_eq!(at("10").unwrap().certified_value, "75.65".parse::<Decimal>().unwrap());
        // Between 10 and 20 °C −0.018 a degree, on to 25 °C −0.036; where they meet the steeper one.
        for (t, slope) in [("15", -0.018), ("20", -0.036), ("24", -0.036)] {
            assert!((salt.slope_at(t.parse().unwrap()) - slope).abs() < 1e-12, "{t}");
        }
        assert_eq!(piece("10", "0.1", "2").slope_at(Decimal::TEN), 0.0);
        assert!(matches!(at("25.1"), Err(StandardError::NotCertifiedAt { .. })));
        assert!(matches!(at("9.9"), Err(StandardError::NotCertifiedAt { .. })));
        assert!(piece("10", "0.1", "2").at("99".parse().unwrap()).is_ok());
    }

    /// psi, bar, in and lb by their definitions (NIST SP 811, appendix B).
    #[test]
    fn a_nominal_value_is_one_name_in_two_systems_of_units() {
        let same = |pieces: &[(&str, Unit)], wanted: &str, unit| {
            let pieces: Vec<_> = pieces.iter().map(|(v, u)| (v.parse().unwrap(), *u)).collect();
            same_nominal(&pieces, wanted.parse().unwrap(), unit)
        };
        // Within one system the number is the name, to its last digit.
        assert!(same(&[("10", Unit::Bar)], "1000", Unit::Kilopascal));
        assert!(!same(&[("10", Unit::Bar)], "1000.01", Unit::Kilopascal));
        assert!(!same(&[("9.9999", Unit::Kilogram)], "10", Unit::Kilogram));
        // Between systems it is what the sum rounds to where people wrote it.
        for wanted in ["145", "145.0", "145.04", "145.038", "145.0377377"] {
            assert!(same(&[("10", Unit::Bar)], wanted, Unit::Psi), "{wanted}");
        }
        for wanted in ["144", "146", "145.1", "145.03", "145.039"] {
            assert!(!same(&[("10", Unit::Bar)], wanted, Unit::Psi), "{wanted}");
        }
        assert!(same(&[("1", Unit::Inch), ("0.5", Unit::Inch)], "38.1", Unit::Millimetre));
        assert!(same(&[("1", Unit::Pound)], "0.4536", Unit::Kilogram));
        assert!(same(&[("6", Unit::Bar), ("4", Unit::Bar)], "145", Unit::Psi));
        // Too coarse to be a name: it would move the value by more than a thousandth.
        assert!(!same(&[("0.07", Unit::Bar)], "1", Unit::Psi));
        assert!(same(&[("0.07", Unit::Bar)], "1.015", Unit::Psi));
        // Zero, the other side, other quantities.
        assert!(same(&[("0", Unit::Bar)], "0", Unit::Psi));
        assert!(!same(&[("0.0001", Unit::Bar)], "0", Unit::Psi));
        assert!(same(&[("-1", Unit::Bar)], "-14.5", Unit::Psi));
        assert!(!same(&[("-1", Unit::Bar)], "14.5", Unit::Psi));
        assert!(!same(&[("10", Unit::Bar)], "10", Unit::Kilogram));
    }

    /// A grey filter by the wavelength: value by straight lines, the larger uncertainty of the two neighbours, and on a row
    /// that row's own; the sentence beyond names its unit.
    #[test]
    fn value_and_uncertainty_by_wavelength() {
        let row = |nm: i64, value: i64, u: i64| ValueAt {
            temperature: Decimal::from(nm),
            certified_value: Decimal::new(value, 4),
            expanded_uncertainty: Some(Decimal::new(u, 4)),
        };
        let mut filter = piece("0.5", "0.003", "2");
        filter.by_temperature = vec![row(440, 5050, 24), row(546, 5170, 30), row(635, 5290, 26)];
        filter.at_unit = Some("nm".to_owned());
        let at = |nm: i64| {
            let found = filter.at(Decimal::from(nm)).unwrap();
            (found.certified_value, found.expanded_uncertainty)
        };
        assert_eq!(at(440), (Decimal::new(5050, 4), Decimal::new(24, 4)));
        assert_eq!(at(493), (Decimal::new(5110, 4), Decimal::new(30, 4)));
        assert_eq!(at(635), (Decimal::new(5290, 4), Decimal::new(26, 4)));
        let beyond = filter.at(Decimal::from(700)).unwrap_err().to_string();
        assert_eq!(beyond, "a is certified from 440 to 635 nm, not at 700 nm");
        assert!(filter.is_dependent());
        filter.by_temperature.iter_mut().for_each(|row| row.certified_value = Decimal::ONE);
        assert!(!filter.is_dependent(), "the same everywhere");
    }
}
