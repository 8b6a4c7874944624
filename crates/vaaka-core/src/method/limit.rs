//! Forms of limits: absolute, a share of the reading, a share of the range, the larger of two, or
//! computed from the configuration; on both sides or on one.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use crate::judgement::ToleranceLimits;
use crate::method::{ComputedFrom, PlanSpec};
use crate::quantity::Unit;

/// Which sides of a limit hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// Both.
    #[default]
    Both,
    /// The upper one only.
    Upper,
    /// The lower one only.
    Lower,
}

/// A limit: its form, and which sides of it hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limit {
    /// Form.
    #[serde(flatten)]
    pub form: LimitForm,
    /// Sides.
    #[serde(default)]
    pub side: Side,
}

impl Limit {
    /// Both sides of a form.
    #[must_use]
    pub fn both(form: LimitForm) -> Self {
        Self { form, side: Side::Both }
    }

    /// The tolerance limits at a reference value, in the unit of the display; none where the
    /// configuration lacks what the limit is computed from.
    #[must_use]
    pub fn limits(&self, reference: Decimal, plan: &PlanSpec) -> Option<ToleranceLimits> {
        let half = self.form.half_width(reference, plan.span(), plan)?;
        let (lower, upper) = match self.side {
            Side::Both => (Some(-half), Some(half)),
            Side::Upper => (None, Some(half)),
            Side::Lower => (Some(-half), None),
        };
        Some(ToleranceLimits { lower, upper })
    }

    /// As [`Self::limits`], in another unit: that of errors.
    #[must_use]
    pub fn limits_in(
        &self,
        unit: Unit,
        reference: Decimal,
        plan: &PlanSpec,
    ) -> Option<ToleranceLimits> {
        let ToleranceLimits { lower, upper } = self.limits(reference, plan)?;
        let convert = |side: Option<Decimal>| side.map(|side| plan.unit.convert(side, unit));
        Some(ToleranceLimits { lower: convert(lower), upper: convert(upper) })
    }
}

/// How the half-width of a limit is stated.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    /// ±(a + b · a value of the configuration).
    Configured {
        /// a, in the unit of the display.
        half_width: Decimal,
        /// b.
        per: Decimal,
        /// The value.
        of: ComputedFrom,
    },
}

impl LimitForm {
    /// Half-width of the limit at a reference value; exact.
    #[must_use]
    pub fn half_width(
        &self,
        reference: Decimal,
        span: Decimal,
        plan: &PlanSpec,
    ) -> Option<Decimal> {
        let share = |percent: Decimal, of: Decimal| percent * of.abs() / Decimal::ONE_HUNDRED;
        Some(match self {
            Self::Absolute { half_width } => *half_width,
            Self::PercentOfReading { percent } => share(*percent, reference),
            Self::PercentOfRange { percent } => share(*percent, span),
            Self::LargerOf { half_width, percent } => (*half_width).max(share(*percent, reference)),
            Self::Configured { half_width, per, of } => *half_width + *per * of.value(plan)?,
        })
    }

    /// Why the form cannot stand, where it cannot.
    pub(crate) fn fault(&self, plan: &PlanSpec) -> Option<String> {
        let (half_width, percent) = match self {
            Self::Absolute { half_width } => (*half_width, Decimal::ZERO),
            Self::PercentOfReading { percent } | Self::PercentOfRange { percent } => {
                (Decimal::ZERO, *percent)
            }
            Self::LargerOf { half_width, percent } => (*half_width, *percent),
            Self::Configured { half_width, per, of } => match of.value(plan) {
                Some(value) => (*half_width + *per * value, Decimal::ZERO),
                None => {
                    return Some(format!(
                        "a limit is computed from “{}”, which this instrument's configuration does not hold",
                        of.words()
                    ));
                }
            },
        };
        if half_width < Decimal::ZERO || percent < Decimal::ZERO {
            return Some("a limit is a half-width and cannot be negative".to_owned());
        }
        let at_zero = plan.points.iter().any(|point| point.nominal.is_zero());
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
    use crate::judgement::Decision;
    use crate::method::{Place, PlanPoint, Purpose, Travel};
    use crate::quantity::Unit;
    use rstest::rstest;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    fn plan(points: &[&str]) -> PlanSpec {
        PlanSpec {
            purpose: Purpose::AsFound,
            unit: Unit::Bar,
            resolution: d("1"),
            range_low: d("0"),
            maximum: d("600"),
            configuration: vec![("modules".into(), d("3"))],
            standards: vec![],
            fixture: String::new(),
            decision: Decision::default(),
            additions: vec![],
            standard_age_years: 0.0,
            settings: serde_json::Value::Null,
            points: points
                .iter()
                .map(|nominal| PlanPoint {
                    nominal: d(nominal),
                    travel: Travel::Rising,
                    place: Place::Middle,
                    repeats: 1,
                    charted: true,
                    pieces: vec![],
                    standard: 0,
                })
                .collect(),
        }
    }

    fn percent(p: &str) -> LimitForm {
        LimitForm::PercentOfReading { percent: d(p) }
    }

    fn configured(of: ComputedFrom) -> LimitForm {
        LimitForm::Configured { half_width: d("0.5"), per: d("0.2"), of }
    }

    #[rstest]
    #[case(LimitForm::Absolute { half_width: d("0.5") }, "300", "0.5")]
    #[case(percent("1"), "300", "3")]
    #[case(percent("1"), "-20", "0.2")]
    #[case(percent("1"), "0", "0")]
    // Class 1.6 of a gauge that spans 600: the same 9.6 everywhere.
    #[case(LimitForm::PercentOfRange { percent: d("1.6") }, "0", "9.6")]
    #[case(LimitForm::PercentOfRange { percent: d("1.6") }, "600", "9.6")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "100", "2")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "200", "2")]
    #[case(LimitForm::LargerOf { half_width: d("2"), percent: d("1") }, "201", "2.01")]
    // 0.5 + 0.2 for each of three modules; for the step of the display; for the highest point.
    #[case(configured(ComputedFrom::Configuration("modules".into())), "7", "1.1")]
    #[case(configured(ComputedFrom::Resolution), "7", "0.7")]
    #[case(configured(ComputedFrom::HighestPoint), "7", "80.5")]
    #[case(configured(ComputedFrom::Span), "7", "120.5")]
    fn each_form_at_its_points(
        #[case] form: LimitForm,
        #[case] reference: &str,
        #[case] expected: &str,
    ) {
        let plan = plan(&["400"]);
        assert_eq!(form.half_width(d(reference), plan.span(), &plan), Some(d(expected)));
    }

    #[rstest]
    #[case(Side::Both, Some("-3"), Some("3"))]
    #[case(Side::Upper, None, Some("3"))]
    #[case(Side::Lower, Some("-3"), None)]
    fn one_side_or_both(
        #[case] side: Side,
        #[case] lower: Option<&str>,
        #[case] upper: Option<&str>,
    ) {
        let limits = Limit { form: percent("1"), side }.limits(d("300"), &plan(&["300"])).unwrap();
        assert_eq!((limits.lower, limits.upper), (lower.map(d), upper.map(d)));
    }

    #[test]
    fn what_cannot_stand_is_named() {
        let zero = plan(&["0", "5"]);
        assert!(percent("1").fault(&zero).is_some());
        assert!(percent("1").fault(&plan(&["5"])).is_none());
        assert!(LimitForm::PercentOfRange { percent: d("1") }.fault(&zero).is_none());
        assert!(LimitForm::Absolute { half_width: d("-1") }.fault(&zero).is_some());
        let unknown = configured(ComputedFrom::Configuration("probes".into()));
        assert!(unknown.fault(&zero).unwrap().contains("probes"));
    }

    /// Stored before limits had sides.
    #[test]
    fn older_settings_read() {
        let limit: Limit =
            serde_json::from_str(r#"{"form": "absolute", "half_width": "0.004"}"#).unwrap();
        assert_eq!(limit, Limit::both(LimitForm::Absolute { half_width: d("0.004") }));
    }
}
