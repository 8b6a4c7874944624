//! Forms of limits: absolute, a share of the reading, a share of the range, or the larger of two.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

/// How a limit is stated. All are symmetric about zero error.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "form", rename_all = "snake_case")]
pub enum LimitForm {
    /// ±a, in the unit of the display.
    Absolute {
        /// a.
        half_width: Decimal,
    },
    /// ±p % of the reference value; nothing at all at zero.
    PercentOfReading {
        /// p.
        percent: Decimal,
    },
    /// ±p % of the span of the range, the same everywhere.
    PercentOfRange {
        /// p.
        percent: Decimal,
    },
    /// ±a or ±p % of the reference value, whichever is larger.
    LargerOf {
        /// a, in the unit of the display.
        half_width: Decimal,
        /// p.
        percent: Decimal,
    },
}

impl LimitForm {
    /// Half-width of the limit at a reference value; exact.
    #[must_use]
    pub fn half_width(&self, reference: Decimal, span: Decimal) -> Decimal {
        let share = |percent: Decimal, of: Decimal| percent * of.abs() / Decimal::ONE_HUNDRED;
        match *self {
            Self::Absolute { half_width } => half_width,
            Self::PercentOfReading { percent } => share(percent, reference),
            Self::PercentOfRange { percent } => share(percent, span),
            Self::LargerOf { half_width, percent } => half_width.max(share(percent, reference)),
        }
    }

    /// Why the form cannot stand, where it cannot.
    pub(super) fn fault(&self, points: impl Iterator<Item = Decimal>) -> Option<String> {
        let (half_width, percent) = match *self {
            Self::Absolute { half_width } => (half_width, Decimal::ZERO),
            Self::PercentOfReading { percent } | Self::PercentOfRange { percent } => {
                (Decimal::ZERO, percent)
            }
            Self::LargerOf { half_width, percent } => (half_width, percent),
        };
        if half_width < Decimal::ZERO || percent < Decimal::ZERO {
            return Some("a limit is a half-width and cannot be negative".to_owned());
        }
        let at_zero = points.into_iter().any(|point| point.is_zero());
        match self {
            Self::PercentOfReading { .. } if at_zero => Some(
                "a percentage of the reading allows nothing at zero: give an absolute limit, a \
                 percentage of the range, or the larger of two"
                    .to_owned(),
            ),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    #[rstest]
    #[case(LimitForm::Absolute { half_width: d("0.5") }, "300", "0.5")]
    #[case(LimitForm::PercentOfReading { percent: d("1") }, "300", "3")]
    #[case(LimitForm::PercentOfReading { percent: d("1") }, "-20", "0.2")]
    #[case(LimitForm::PercentOfReading { percent: d("1") }, "0", "0")]
    // Class 1.6 of a gauge that spans 600: the same 9.6 everywhere.
    #[case(LimitForm::PercentOfRange { percent: d("1.6") }, "0", "9.6")]
    #[case(LimitForm::PercentOfRange { percent: d("1.6") }, "600", "9.6")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "100", "2")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "200", "2")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "201", "2.01")]
    fn each_form_at_its_points(
        #[case] form: LimitForm,
        #[case] reference: &str,
        #[case] expected: &str,
    ) {
        assert_eq!(form.half_width(d(reference), d("600")), d(expected));
    }

    #[test]
    fn what_cannot_stand_is_named() {
        let zero = || [d("0"), d("5")].into_iter();
        assert!(LimitForm::PercentOfReading { percent: d("1") }.fault(zero()).is_some());
        assert!(LimitForm::PercentOfRange { percent: d("1") }.fault(zero()).is_none());
        assert!(LimitForm::Absolute { half_width: d("-1") }.fault(zero()).is_some());
    }
}
