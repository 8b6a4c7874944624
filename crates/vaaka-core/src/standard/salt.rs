//! Relative humidity over saturated salt solutions, by L. Greenspan, "Humidity fixed points of binary saturated aqueous solutions",
//! J. Res. Natl. Bur. Stand. 81A (1977) 89–96, table 2.
//!
//! The values are from memory; a second way confirms those of five salts: Greenspan's polynomials, of which the table is made.

use rust_decimal::Decimal;
use thiserror::Error;

use super::ValueAt;
use crate::quantity::show_short;

/// A salt whose saturated solution keeps a humidity.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Salt {
    /// LiCl.
    LithiumChloride,
    /// MgCl₂.
    MagnesiumChloride,
    /// Mg(NO₃)₂.
    MagnesiumNitrate,
    /// NaBr.
    SodiumBromide,
    /// NaCl.
    SodiumChloride,
    /// KCl.
    PotassiumChloride,
    /// K₂SO₄.
    PotassiumSulfate,
}

/// Why a salt has no value.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum SaltError {
    /// Outside the table.
    #[error(
        "the table of {salt} goes from {from} to {to} °C, and {} °C is asked for: bring salt and probe into that range", show_short(*got)
    )]
    Temperature {
        /// Its formula.
        salt: &'static str,
        /// Lowest temperature.
        from: i64,
        /// Highest.
        to: i64,
        /// What was asked for.
        got: f64,
    },
}

/// A value of the table: relative humidity in per cent, and its uncertainty ± as the table states it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SaltHumidity {
    /// Relative humidity, %.
    pub relative_humidity: f64,
    /// Expanded uncertainty of the table, %; between two temperatures the greater of theirs.
    pub expanded_uncertainty: f64,
    /// How much it changes with a degree, % a kelvin: the steeper of the straight lines that meet there.
    pub slope: f64,
}

/// A row: °C, and the value and uncertainty in hundredths of a per cent.
type Row = (i64, i64, i64);

impl Salt {
    /// All, the driest first.
    pub const ALL: [Self; 7] = [
        Self::LithiumChloride,
        Self::MagnesiumChloride,
        Self::MagnesiumNitrate,
        Self::SodiumBromide,
        Self::SodiumChloride,
        Self::PotassiumChloride,
        Self::PotassiumSulfate,
    ];

    /// The word that stands for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::LithiumChloride => "lithium_chloride",
            Self::MagnesiumChloride => "magnesium_chloride",
            Self::MagnesiumNitrate => "magnesium_nitrate",
            Self::SodiumBromide => "sodium_bromide",
            Self::SodiumChloride => "sodium_chloride",
            Self::PotassiumChloride => "potassium_chloride",
            Self::PotassiumSulfate => "potassium_sulfate",
        }
    }

    /// Its formula.
    #[must_use]
    pub fn formula(self) -> &'static str {
        match self {
            Self::LithiumChloride => "LiCl",
            Self::MagnesiumChloride => "MgCl₂",
            Self::MagnesiumNitrate => "Mg(NO₃)₂",
            Self::SodiumBromide => "NaBr",
            Self::SodiumChloride => "NaCl",
            Self::PotassiumChloride => "KCl",
            Self::PotassiumSulfate => "K₂SO₄",
        }
    }

    /// The table from 5 to 40 °C, in steps of five degrees.
    fn rows(self) -> [Row; 8] {
        let at = |values: [(i64, i64); 8]| {
            let mut rows = [(0, 0, 0); 8];
            for (place, (value, uncertainty)) in values.into_iter().enumerate() {
                rows[place] = (5 + 5 * place as i64, value, uncertainty);
            }
            rows
        };
        match self {
            Self::LithiumChloride => at([
                (1126, 47),
                (1129, 41),
                (1130, 35),
                (1131, 31),
                (1130, 27),
                (1128, 24),
                (1125, 22),
                (1121, 21),
            ]),
            Self::MagnesiumChloride => at([
                (3360, 28),
                (3347, 24),
                (3330, 21),
                (3307, 18),
                (3278, 16),
                (3244, 14),
                (3205, 13),
                (3160, 13),
            ]),
            Self::MagnesiumNitrate => at([
                (5886, 43),
                (5736, 33),
                (5587, 27),
                (5438, 23),
                (5289, 22),
                (5140, 24),
                (4991, 29),
                (4842, 37),
            ]),
            Self::SodiumBromide => at([
                (6351, 72),
                (6215, 60),
                (6068, 51),
                (5914, 44),
                (5757, 40),
                (5603, 38),
                (5455, 38),
                (5317, 41),
            ]),
            Self::SodiumChloride => at([
                (7565, 27),
                (7567, 22),
                (7561, 18),
                (7547, 14),
                (7529, 12),
                (7509, 11),
                (7487, 12),
                (7468, 13),
            ]),
            Self::PotassiumChloride => at([
                (8767, 45),
                (8677, 39),
                (8592, 33),
                (8511, 29),
                (8434, 26),
                (8362, 25),
                (8295, 25),
                (8232, 25),
            ]),
            Self::PotassiumSulfate => at([
                (9848, 91),
                (9818, 76),
                (9789, 63),
                (9759, 53),
                (9730, 45),
                (9700, 40),
                (9671, 38),
                (9641, 38),
            ]),
        }
    }

    /// Relative humidity over its saturated solution, by straight lines between the temperatures of the table.
    ///
    /// # Errors
    /// [`SaltError::Temperature`] outside the table.
    pub fn at(self, celsius: f64) -> Result<SaltHumidity, SaltError> {
        let rows = self.rows();
        let (from, to) = (rows[0].0, rows[rows.len() - 1].0);
        let hundredth = |value: i64| value as f64 / 100.0;
        let inside = |pair: &&[Row]| celsius >= pair[0].0 as f64 && celsius <= pair[1].0 as f64;
        let mut found: Option<SaltHumidity> = None;
        for pair in rows.windows(2).filter(inside) {
            let (low, high) = (pair[0], pair[1]);
            let slope = hundredth(high.1 - low.1) / (high.0 - low.0) as f64;
            let here = SaltHumidity {
                relative_humidity: hundredth(low.1) + slope * (celsius - low.0 as f64),
                expanded_uncertainty: hundredth(low.2.max(high.2)),
                slope,
            };
            found = Some(match found {
                // On a temperature of the table two lines meet.
                Some(before) if before.slope.abs() > slope.abs() => before,
                _ => here,
            });
        }
        let error = SaltError::Temperature { salt: self.formula(), from, to, got: celsius };
        let mut found = found.ok_or(error)?;
        if let Some(row) = rows.iter().find(|row| row.0 as f64 == celsius) {
            found.expanded_uncertainty = hundredth(row.2);
        }
        Ok(found)
    }

    /// The table as certified values of a piece, by rising temperature.
    #[must_use]
    pub fn values(self) -> Vec<ValueAt> {
        let value = |(celsius, value, uncertainty): Row| ValueAt {
            temperature: Decimal::from(celsius),
            certified_value: Decimal::new(value, 2),
            expanded_uncertainty: Some(Decimal::new(uncertainty, 2)),
        };
        self.rows().map(value).to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Greenspan's polynomials (his table 1, from memory too, of another page): what the table is rounded from.
    #[test]
    fn the_table_is_that_of_the_polynomials() {
        let polynomials: [(Salt, &[f64]); 5] = [
            (Salt::MagnesiumChloride, &[33.6686, -0.007_973_97, -0.001_089_88]),
            (Salt::MagnesiumNitrate, &[60.3514, -0.298_334]),
            (Salt::SodiumChloride, &[75.5164, 0.039_832_1, -0.002_654_59, 0.000_028_48]),
            (Salt::PotassiumChloride, &[88.6190, -0.193_340, 0.000_899_706]),
            (Salt::PotassiumSulfate, &[98.7792, -0.059_050_2]),
        ];
        for (salt, coefficients) in polynomials {
            for (celsius, value, _) in salt.rows() {
                let t = celsius as f64;
                let expected = coefficients.iter().rev().fold(0.0, |sum, a| sum * t + a);
                let found = value as f64 / 100.0;
                assert!((found - expected).abs() < 0.02, "{salt:?} {celsius}: {found} {expected}");
            }
        }
    }

    #[test]
    fn values_lie_on_straight_lines_and_end_with_the_table() {
        let found = Salt::SodiumChloride.at(25.0).unwrap();
        assert_eq!((found.relative_humidity, found.expanded_uncertainty), (75.29, 0.12));
        assert!((found.slope - -0.04).abs() < 1e-12, "{found:?}");
        let between = Salt::SodiumChloride.at(22.5).unwrap();
        assert!((between.relative_humidity - 75.38).abs() < 1e-9);
        assert_eq!(between.expanded_uncertainty, 0.14, "the greater of both");
        assert_eq!(Salt::LithiumChloride.at(5.0).unwrap().relative_humidity, 11.26);
        assert_eq!(Salt::PotassiumSulfate.at(40.0).unwrap().relative_humidity, 96.41);
        for outside in [4.99, 40.01, f64::NAN, f64::INFINITY] {
            let error = Salt::SodiumBromide.at(outside).unwrap_err();
            assert!(error.to_string().contains("from 5 to 40 °C"), "{error}");
        }
    }

    #[test]
    fn salts_keep_their_order_and_their_words() {
        for celsius in [5.0, 12.3, 25.0, 40.0] {
            let humidities: Vec<f64> =
                Salt::ALL.map(|salt| salt.at(celsius).unwrap().relative_humidity).to_vec();
            assert!(humidities.is_sorted(), "{celsius}: {humidities:?}");
        }
        let mut words = Salt::ALL.map(Salt::word).to_vec();
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), 7);
        let values = Salt::SodiumChloride.values();
        assert_eq!(values.len(), 8);
        assert_eq!(values[4].certified_value, Decimal::new(7529, 2));
        assert!(values.is_sorted_by_key(|value| value.temperature));
    }
}
