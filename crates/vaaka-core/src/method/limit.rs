//! Forms of limits: absolute, a share of the reading, a share of the range, the larger of two, or
//! computed from the configuration; on both sides or on one; about nothing or about a target; by bands.

use std::fmt;
use std::str::FromStr;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use crate::judgement::ToleranceLimits;
use crate::method::{ComputedFrom, PlanPoint, PlanSpec};
use crate::quantity::{TypedDecimal, Unit};

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
    /// What the limit lies about, in the unit of the display; an error of nothing where it is not stated. A tolerance of
    /// −10 to +30 has +10, a loss of at least 20 dB has −20 with a half-width of nothing and its upper side alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<Decimal>,
    /// Other half-widths from certain values on, rising: the last one that a reference value reaches holds.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub bands: Vec<LimitBand>,
}

/// From which value on another half-width holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LimitBand {
    /// Reference value, its sign aside, in the unit of the display.
    pub from: Decimal,
    /// Half-width: in the unit of the display, or in per cent of the reference value.
    pub half_width: Decimal,
    /// Whether it is in per cent.
    #[serde(default)]
    pub percent: bool,
}

impl LimitBand {
    /// Half-width at a reference value.
    fn at(&self, reference: Decimal) -> Decimal {
        match self.percent {
            true => self.half_width * reference.abs() / Decimal::ONE_HUNDRED,
            false => self.half_width,
        }
    }
}

impl fmt::Display for LimitBand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = if self.percent { " %" } else { "" };
        write!(f, "{}: {}{unit}", self.from.normalize(), self.half_width.normalize())
    }
}

impl FromStr for LimitBand {
    type Err = String;

    /// Reads "100: 0.5" or "100: 0.5 %".
    fn from_str(text: &str) -> Result<Self, String> {
        let odd = || {
            format!(
                "“{}” is no band: type from which value on, a colon, and ± so much, like “100: 0.5” or “100: 0.5 %”.",
                text.trim()
            )
        };
        let (from, width) = text.split_once(':').ok_or_else(odd)?;
        let (width, percent) = match width.trim().strip_suffix('%') {
            Some(width) => (width, true),
            None => (width, false),
        };
        let number = |text: &str| {
            TypedDecimal::parse(text.trim()).map(|typed| typed.value).map_err(|_| odd())
        };
        let (from, half_width) = (number(from)?, number(width)?);
        if from < Decimal::ZERO || half_width < Decimal::ZERO {
            return Err(
                "A band begins at a value and allows ± so much: neither is negative.".to_owned()
            );
        }
        Ok(Self { from, half_width, percent })
    }
}

/// Reads bands, with a semicolon or a line between them.
///
/// # Errors
/// What is wrong, for people.
pub fn read_bands(text: &str) -> Result<Vec<LimitBand>, String> {
    let parts = text.split([';', '\n']).filter(|part| !part.trim().is_empty());
    let bands = parts.map(str::parse).collect::<Result<Vec<LimitBand>, _>>()?;
    if bands.is_sorted_by(|one, next| one.from < next.from) {
        Ok(bands)
    } else {
        Err("Bands begin at rising values.".to_owned())
    }
}

impl Limit {
    /// Both sides of a form.
    #[must_use]
    pub fn both(form: LimitForm) -> Self {
        Self { form, side: Side::Both, target: None, bands: vec![] }
    }

    /// The tolerance limits at a reference value, in the unit of the display; none where the
    /// configuration lacks what the limit is computed from.
    #[must_use]
    pub fn limits(&self, reference: Decimal, plan: &PlanSpec) -> Option<ToleranceLimits> {
        let band = self.bands.iter().rev().find(|band| reference.abs() >= band.from);
        let half = match band {
            Some(band) => band.at(reference),
            None => self.form.half_width(reference, plan.span(), plan)?,
        };
        let target = self.target.unwrap_or_default();
        let (lower, upper) = match self.side {
            Side::Both => (Some(target - half), Some(target + half)),
            Side::Upper => (None, Some(target + half)),
            Side::Lower => (Some(target - half), None),
        };
        Some(ToleranceLimits { lower, upper })
    }

    /// Why it cannot stand, where it cannot.
    pub(crate) fn fault(&self, plan: &PlanSpec) -> Option<String> {
        let nothing = |point: &PlanPoint| {
            let band = self.bands.iter().rev().find(|band| point.nominal.abs() >= band.from);
            band.is_some_and(|band| band.at(point.nominal).is_zero())
        };
        // A side alone may lie at its target; between two sides there must be room.
        if self.side == Side::Both && plan.points.iter().any(nothing) {
            return Some("a band allows nothing at a point: give it a value".to_owned());
        }
        // Where bands hold at every point the form is never asked.
        let first = self.bands.first().map(|band| band.from);
        let by_band = |point: &PlanPoint| first.is_some_and(|first| point.nominal.abs() >= first);
        if !plan.points.is_empty() && plan.points.iter().all(by_band) {
            return None;
        }
        self.form.fault(plan)
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
        let limits =
            Limit { side, ..Limit::both(percent("1")) }.limits(d("300"), &plan(&["300"])).unwrap();
        assert_eq!((limits.lower, limits.upper), (lower.map(d), upper.map(d)));
    }

    /// A tolerance of −10 to +30, and a loss of at least 20 dB: neither lies about nothing.
    #[test]
    fn limits_about_a_target() {
        let absolute = |half: &str| LimitForm::Absolute { half_width: d(half) };
        let uneven = Limit { target: Some(d("10")), ..Limit::both(absolute("20")) };
        let limits = uneven.limits(d("300"), &plan(&["300"])).unwrap();
        assert_eq!((limits.lower, limits.upper), (Some(d("-10")), Some(d("30"))));
        let side = Side::Upper;
        let loss = Limit { side, target: Some(d("-20")), ..Limit::both(absolute("0")) };
        let limits = loss.limits(d("0"), &plan(&["0"])).unwrap();
        assert_eq!((limits.lower, limits.upper), (None, Some(d("-20"))));
    }

    #[rstest]
    #[case("99", "1")]
    #[case("100", "0.5")]
    #[case("-250", "0.5")]
    #[case("400", "8")]
    fn limits_by_band(#[case] reference: &str, #[case] half: &str) {
        let bands = read_bands("100: 0,5; 300 : 2 %").unwrap();
        assert_eq!(
            bands.iter().map(ToString::to_string).collect::<Vec<_>>(),
            ["100: 0.5", "300: 2 %"]
        );
        let limit = Limit { bands, ..Limit::both(LimitForm::Absolute { half_width: d("1") }) };
        let limits = limit.limits(d(reference), &plan(&["400"])).unwrap();
        assert_eq!((limits.lower, limits.upper), (Some(-d(half)), Some(d(half))));
    }

    #[rstest]
    #[case("100 0.5", "is no band")]
    #[case("100: x", "is no band")]
    #[case("-1: 2", "neither is negative")]
    #[case("100: -2", "neither is negative")]
    #[case("100: 1; 100: 2", "rising")]
    #[case("200: 1\n100: 2", "rising")]
    fn bands_that_cannot_be(#[case] text: &str, #[case] said: &str) {
        let words = read_bands(text).unwrap_err();
        assert!(words.contains(said), "{words}");
    }

    #[test]
    fn a_band_that_allows_nothing_is_named() {
        let limit =
            |text: &str| Limit { bands: read_bands(text).unwrap(), ..Limit::both(percent("1")) };
        assert!(limit("100: 0").fault(&plan(&["400"])).unwrap().contains("allows nothing"));
        assert!(limit("500: 0").fault(&plan(&["400"])).is_none(), "no point lies in it");
        // From nothing on a band stands in for a form that allows nothing there.
        assert!(limit("0: 0.2").fault(&plan(&["0", "400"])).is_none());
        assert!(limit("1: 0.2").fault(&plan(&["0", "400"])).is_some());
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
