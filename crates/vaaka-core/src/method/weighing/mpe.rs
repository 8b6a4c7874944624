//! Maximum permissible errors of non-automatic weighing instruments.
//!
//! OIML R 76-1:2006, 3.5.1, table 6 (initial verification) and 3.5.2 (in service: twice).
//! From memory; confirmed by a second way against the same table in Directive 2014/31/EU,
//! annex I, table 3, also from memory.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

/// Accuracy class.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum AccuracyClass {
    /// Special.
    #[serde(rename = "I")]
    I,
    /// High.
    #[serde(rename = "II")]
    II,
    /// Medium.
    #[serde(rename = "III")]
    III,
    /// Ordinary.
    #[serde(rename = "IIII")]
    IIII,
}

/// Which limits hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LimitStage {
    /// On initial verification, and for *as left*.
    Initial,
    /// In service, for *as found*: twice the initial ones.
    InService,
}

impl AccuracyClass {
    /// Upper ends, in e, of the ranges with ±0.5 e, ±1.0 e; beyond the second it is ±1.5 e.
    fn steps(self) -> (i64, i64) {
        match self {
            Self::I => (50_000, 200_000),
            Self::II => (5_000, 20_000),
            Self::III => (500, 2_000),
            Self::IIII => (50, 200),
        }
    }
}

/// The maximum permissible error at a net load, in the unit of `e`; the upper boundary of each
/// range belongs to it.
#[must_use]
pub fn maximum_permissible_error(
    class: AccuracyClass,
    e: Decimal,
    stage: LimitStage,
    load: Decimal,
) -> Decimal {
    let (first, second) = class.steps();
    let load = load.abs();
    let tenths = if load <= Decimal::from(first) * e {
        5
    } else if load <= Decimal::from(second) * e {
        10
    } else {
        15
    };
    let initial = Decimal::new(tenths, 1) * e;
    match stage {
        LimitStage::Initial => initial,
        LimitStage::InService => initial * Decimal::TWO,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use AccuracyClass::{I, II, III, IIII};
    use rstest::rstest;

    // OIML R 76-1:2006, table 6: the ranges for loads m expressed in e, both sides of each step.
    #[rstest]
    #[case(I, 50_000, "0.5")]
    #[case(I, 50_001, "1.0")]
    #[case(I, 200_000, "1.0")]
    #[case(I, 200_001, "1.5")]
    #[case(II, 5_000, "0.5")]
    #[case(II, 5_001, "1.0")]
    #[case(II, 20_000, "1.0")]
    #[case(II, 20_001, "1.5")]
    #[case(III, 0, "0.5")]
    #[case(III, 500, "0.5")]
    #[case(III, 501, "1.0")]
    #[case(III, 2_000, "1.0")]
    #[case(III, 2_001, "1.5")]
    #[case(III, 10_000, "1.5")]
    #[case(IIII, 50, "0.5")]
    #[case(IIII, 51, "1.0")]
    #[case(IIII, 200, "1.0")]
    #[case(IIII, 201, "1.5")]
    fn table_six(#[case] class: AccuracyClass, #[case] load_in_e: i64, #[case] mpe_in_e: &str) {
        let e: Decimal = "0.01".parse().unwrap();
        let load = Decimal::from(load_in_e) * e;
        let expected = mpe_in_e.parse::<Decimal>().unwrap() * e;
        assert_eq!(maximum_permissible_error(class, e, LimitStage::Initial, load), expected);
        assert_eq!(
            maximum_permissible_error(class, e, LimitStage::InService, load),
            expected * Decimal::TWO,
            "3.5.2: in service twice"
        );
        assert_eq!(maximum_permissible_error(class, e, LimitStage::Initial, -load), expected);
    }

    #[test]
    fn just_beyond_a_step_by_less_than_e() {
        let e = Decimal::ONE;
        let load: Decimal = "500.001".parse().unwrap();
        assert_eq!(maximum_permissible_error(III, e, LimitStage::Initial, load), Decimal::ONE);
    }
}
