//! Maximum permissible errors of weights: OIML R 111-1:2004, table 1 (written down from memory, held together by the ratios that the
//! table is made by).

use rust_decimal::Decimal;
use thiserror::Error;

use crate::quantity::show_decimal;

/// Accuracy class of a weight.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum WeightClass {
    E1,
    E2,
    F1,
    F2,
    M1,
    M12,
    M2,
    M23,
    M3,
}

impl WeightClass {
    /// All, the finest first.
    pub const ALL: [Self; 9] = [
        Self::E1,
        Self::E2,
        Self::F1,
        Self::F2,
        Self::M1,
        Self::M12,
        Self::M2,
        Self::M23,
        Self::M3,
    ];

    /// As it is written.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::E1 => "E1",
            Self::E2 => "E2",
            Self::F1 => "F1",
            Self::F2 => "F2",
            Self::M1 => "M1",
            Self::M12 => "M1-2",
            Self::M2 => "M2",
            Self::M23 => "M2-3",
            Self::M3 => "M3",
        }
    }
}

/// Nominal value in milligrams, and ± in milligrams for the classes in their order; "-" where the class has none.
const TABLE: [(u64, &str); 30] = [
    (5_000_000_000, "- - 25000 80000 250000 500000 800000 1600000 2500000"),
    (2_000_000_000, "- - 10000 30000 100000 200000 300000 600000 1000000"),
    (1_000_000_000, "- 1600 5000 16000 50000 100000 160000 300000 500000"),
    (500_000_000, "- 800 2500 8000 25000 50000 80000 160000 250000"),
    (200_000_000, "- 300 1000 3000 10000 20000 30000 60000 100000"),
    (100_000_000, "- 160 500 1600 5000 10000 16000 30000 50000"),
    (50_000_000, "25 80 250 800 2500 5000 8000 16000 25000"),
    (20_000_000, "10 30 100 300 1000 - 3000 - 10000"),
    (10_000_000, "5.0 16 50 160 500 - 1600 - 5000"),
    (5_000_000, "2.5 8.0 25 80 250 - 800 - 2500"),
    (2_000_000, "1.0 3.0 10 30 100 - 300 - 1000"),
    (1_000_000, "0.5 1.6 5.0 16 50 - 160 - 500"),
    (500_000, "0.25 0.8 2.5 8.0 25 - 80 - 250"),
    (200_000, "0.10 0.3 1.0 3.0 10 - 30 - 100"),
    (100_000, "0.05 0.16 0.5 1.6 5.0 - 16 - 50"),
    (50_000, "0.03 0.10 0.3 1.0 3.0 - 10 - 30"),
    (20_000, "0.025 0.08 0.25 0.8 2.5 - 8.0 - 25"),
    (10_000, "0.020 0.06 0.20 0.6 2.0 - 6.0 - 20"),
    (5_000, "0.016 0.05 0.16 0.5 1.6 - 5.0 - 16"),
    (2_000, "0.012 0.04 0.12 0.4 1.2 - 4.0 - 12"),
    (1_000, "0.010 0.03 0.10 0.3 1.0 - 3.0 - 10"),
    (500, "0.008 0.025 0.08 0.25 0.8 - 2.5 - -"),
    (200, "0.006 0.020 0.06 0.20 0.6 - 2.0 - -"),
    (100, "0.005 0.016 0.05 0.16 0.5 - 1.6 - -"),
    (50, "0.004 0.012 0.04 0.12 0.4 - - - -"),
    (20, "0.003 0.010 0.03 0.10 0.3 - - - -"),
    (10, "0.003 0.008 0.025 0.08 0.25 - - - -"),
    (5, "0.003 0.006 0.020 0.06 0.20 - - - -"),
    (2, "0.003 0.006 0.020 0.06 0.20 - - - -"),
    (1, "0.003 0.006 0.020 0.06 0.20 - - - -"),
];

/// Why the table gives nothing. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum WeightError {
    /// Not a nominal value of weights.
    #[error(
        "the table has no weight of {} mg: nominal values are 1, 2 or 5 times a power of ten, from 1 mg to 5000 kg; a set is asked piece by piece", show_decimal(*nominal, 0)
    )]
    Nominal {
        /// What was asked for, in mg.
        nominal: Decimal,
    },
    /// The class has no weight of this size.
    #[error("class {class} has no weight of this size in the table; it has one of class {other}")]
    Class {
        /// The class.
        class: &'static str,
        /// One that has.
        other: &'static str,
    },
}

/// Maximum permissible error ± in mg of a weight with a nominal value in mg.
///
/// # Errors
/// [`WeightError`].
pub fn weight_mpe(class: WeightClass, nominal: Decimal) -> Result<Decimal, WeightError> {
    let row = TABLE.iter().find(|(size, _)| Decimal::from(*size) == nominal);
    let Some((_, row)) = row else { return Err(WeightError::Nominal { nominal }) };
    let of = |class: WeightClass| -> Option<Decimal> {
        let place = WeightClass::ALL.iter().position(|one| *one == class)?;
        row.split(' ').nth(place)?.parse().ok()
    };
    of(class).ok_or_else(|| {
        let other = WeightClass::ALL.into_iter().find(|one| of(*one).is_some());
        WeightError::Class { class: class.word(), other: other.map_or("", WeightClass::word) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mpe(class: WeightClass, nominal: u64) -> Option<Decimal> {
        weight_mpe(class, nominal.into()).ok()
    }

    /// The table is made by steps of √10 from class to class, rounded to 1, 1.6, 2, 2.5, 3, 4, 5, 6 or 8, and errors rise with the nominal
    /// value: a figure that slipped by a place or a row breaks one of them.
    #[test]
    fn classes_and_sizes_follow_each_other() {
        use WeightClass::{E1, E2, F1, F2, M1, M2, M3};
        let chain = [E1, E2, F1, F2, M1, M2, M3];
        let mut seen = 0;
        for (size, _) in TABLE {
            for pair in chain.windows(2) {
                let (Some(fine), Some(coarse)) = (mpe(pair[0], size), mpe(pair[1], size)) else {
                    continue;
                };
                let ratio = coarse / fine;
                let small = size <= 20;
                let (low, high) = if small { ("1.9", "3.4") } else { ("2.9", "3.4") };
                assert!(
                    ratio >= low.parse().unwrap() && ratio <= high.parse().unwrap(),
                    "{size} mg {} to {}: {ratio}",
                    pair[0].word(),
                    pair[1].word()
                );
                seen += 1;
            }
        }
        assert!(seen > 140, "{seen}");
        for class in WeightClass::ALL {
            let column: Vec<Decimal> =
                TABLE.iter().filter_map(|(size, _)| mpe(class, *size)).collect();
            assert!(
                column.windows(2).all(|pair| pair[0] >= pair[1]),
                "{}: {column:?}",
                class.word()
            );
        }
        // From 100 g on the error is one share of the mass: 5·10⁻⁷ for E1 up to 5·10⁻⁴ for M3, to the rounding of the table.
        for (size, _) in TABLE.iter().filter(|(size, _)| *size >= 100_000) {
            for (class, share) in [(E1, 5e-7), (F1, 5e-6), (M1, 5e-5), (M3, 5e-4)] {
                let Some(error) = mpe(class, *size) else { continue };
                let found = crate::quantity::to_f64(error) / *size as f64 / share;
                assert!((0.99..=1.01).contains(&found), "{size} {}: {found}", class.word());
            }
        }
    }

    #[test]
    fn what_the_table_does_not_have_is_said() {
        let words =
            |class, nominal: u64| weight_mpe(class, nominal.into()).unwrap_err().to_string();
        assert!(words(WeightClass::M1, 300_000).contains("no weight of 300000 mg"));
        assert!(words(WeightClass::M1, 0).contains("no weight of 0 mg"));
        assert!(words(WeightClass::E1, 100_000_000).contains("one of class E2"));
        assert!(words(WeightClass::M3, 500).contains("class M3 has no weight of this size"));
        // The class between two stands between them.
        let (m1, m12, m2) = (WeightClass::M1, WeightClass::M12, WeightClass::M2);
        let of = |class| mpe(class, 500_000_000).unwrap();
        assert!(of(m1) < of(m12) && of(m12) < of(m2));
    }
}
