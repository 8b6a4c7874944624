//! Conformity with tolerance limits: exact decimals, decided by a stated rule.

use rust_decimal::prelude::FromPrimitive;
use rust_decimal::{Decimal, RoundingStrategy};
use serde::{Deserialize, Serialize};

use crate::quantity::{Unit, to_f64};

/// Limits of permissible error (VIM 4.26); either side may be absent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToleranceLimits {
    /// Lower tolerance limit.
    pub lower: Option<Decimal>,
    /// Upper tolerance limit.
    pub upper: Option<Decimal>,
}

impl ToleranceLimits {
    /// Limits at ±`half_width`.
    #[must_use]
    pub fn symmetric(half_width: Decimal) -> Self {
        Self { lower: Some(-half_width), upper: Some(half_width) }
    }

    /// Whether the mean Σx/n lies within the limits, by cross-multiplication so that nothing is
    /// rounded; a value exactly on a limit is within.
    #[must_use]
    pub fn hold_mean(&self, sum: Decimal, n: u32) -> bool {
        let n = Decimal::from(n);
        self.lower.is_none_or(|lower| sum >= lower * n)
            && self.upper.is_none_or(|upper| sum <= upper * n)
    }

    /// The limits drawn in on both sides by `band`, rounded once, inward, to `decimals` places, so
    /// that decimals are compared exactly afterwards. They may cross: then nothing is accepted.
    #[must_use]
    pub fn drawn_in(&self, band: f64, decimals: u32) -> Self {
        let band = Decimal::from_f64(band).unwrap_or(Decimal::MAX / Decimal::from(4));
        let band = band.round_dp_with_strategy(decimals, RoundingStrategy::AwayFromZero);
        Self {
            lower: self.lower.map(|lower| lower + band),
            upper: self.upper.map(|upper| upper - band),
        }
    }

    /// Width of a two-sided tolerance.
    #[must_use]
    pub fn width(&self) -> Option<Decimal> {
        Some(self.upper? - self.lower?)
    }

    /// How far towards its limit a value lies: 1 on the limit, above 1 outside; signed by side.
    /// `None` when the side that it leans to has no limit, or a limit of zero.
    #[must_use]
    pub fn share_used(&self, value: f64) -> Option<f64> {
        let (limit, sign) =
            if value >= 0.0 { (to_f64(self.upper?), 1.0) } else { (-to_f64(self.lower?), -1.0) };
        (limit > 0.0).then(|| sign * value.abs() / limit)
    }
}

/// How a result with uncertainty is held against its limits; the name is stored with each result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DecisionRule {
    /// Simple acceptance (ILAC-G8:2019, 4.2.1): the result itself is held against the limit.
    #[default]
    SimpleAcceptance,
    /// Guard band w = U (ILAC-G8:2019, 4.2.2): the limit less the expanded uncertainty.
    GuardBandU,
    /// Conformity proven at 95 % (ISO 14253-1:2017): the limit less 1.65 u.
    Proven95,
}

impl DecisionRule {
    /// All, the default first.
    pub const ALL: [Self; 3] = [Self::SimpleAcceptance, Self::GuardBandU, Self::Proven95];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::SimpleAcceptance => "simple_acceptance",
            Self::GuardBandU => "guard_band_u",
            Self::Proven95 => "proven95",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::SimpleAcceptance => {
                "simple acceptance: the result itself is held against the limit"
            }
            Self::GuardBandU => "guard band U: the limit is drawn in by the expanded uncertainty",
            Self::Proven95 => "conformity proven at 95 %: the limit is drawn in by 1.65 u",
        }
    }

    /// Width of the guard band for an expanded uncertainty with its coverage factor.
    fn guard_band(self, expanded: f64, coverage_factor: f64) -> f64 {
        match self {
            Self::SimpleAcceptance => 0.0,
            Self::GuardBandU => expanded,
            // The quantile of the normal distribution for 95 % on one side, 1.6449.
            Self::Proven95 => 1.644_853_626_951_472_7 * expanded / coverage_factor,
        }
    }
}

impl std::str::FromStr for DecisionRule {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|rule| rule.word() == text);
        known.ok_or_else(|| format!("“{text}” is no decision rule"))
    }
}

/// What a characteristic says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CharacteristicKind {
    /// Error of indication, mean of the repeats.
    Error,
    /// Range of repeated readings (largest minus smallest).
    Repeatability,
    /// Rising minus falling at one load.
    Hysteresis,
    /// Indication of the empty instrument after the loads, minus before.
    ReturnToZero,
}

/// One computed property of a check, with everything its judgement needs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Characteristic {
    /// Stable key, for example `error-20-rising`.
    pub key: String,
    /// Name for people.
    pub label: String,
    /// What it is.
    pub kind: CharacteristicKind,
    /// Nominal point, where there is one.
    pub nominal: Option<Decimal>,
    /// Unit of the value, limits and uncertainty.
    pub unit: Unit,
    /// Places that a single reading resolves in this unit.
    pub decimals: u32,
    /// The single results, exact.
    pub singles: Vec<Decimal>,
    /// The mean, where it is not the arithmetic one of the singles (decibels).
    #[serde(default)]
    pub mean: Option<Decimal>,
    /// Certified value used, in `unit`.
    pub reference_value: Option<Decimal>,
    /// Tolerance limits, where the characteristic is judged.
    pub limits: Option<ToleranceLimits>,
    /// Limits of every single result, where they differ from those of the mean.
    #[serde(default)]
    pub single_limits: Option<ToleranceLimits>,
    /// Standard uncertainty of the reference.
    pub reference_standard_uncertainty: f64,
    /// Standard uncertainty of reading: repeatability or resolution, the larger.
    pub reading_standard_uncertainty: f64,
    /// True when the display's rounding was not removed (OIML R 76-1, A.4.4.3) and the interval
    /// shown is coarser than e/5: the result is indicative.
    pub indicative: bool,
    /// Whether its value goes on a chart.
    pub charted: bool,
}

impl Characteristic {
    /// Sum of the single results.
    #[must_use]
    pub fn sum(&self) -> Decimal {
        self.singles.iter().sum()
    }

    /// Number of single results.
    #[must_use]
    pub fn n(&self) -> u32 {
        u32::try_from(self.singles.len()).unwrap_or(u32::MAX)
    }

    /// The mean, for charts and for show; judgement uses the exact sum.
    #[must_use]
    pub fn value(&self) -> f64 {
        self.mean.map_or_else(|| to_f64(self.sum()) / f64::from(self.n().max(1)), to_f64)
    }

    /// Decimals in which a mean is shown: one more than a single reading has.
    #[must_use]
    pub fn mean_decimals(&self) -> u32 {
        if self.singles.len() > 1 { self.decimals + 1 } else { self.decimals }
    }

    /// Combined standard uncertainty of the value. The chart's sigma already holds repeatability
    /// and rounding of a mean as they vary from check to check, so the larger of the two is taken.
    #[must_use]
    pub fn standard_uncertainty(&self, between_checks_std_dev: Option<f64>) -> f64 {
        let reading = self.reading_standard_uncertainty.max(between_checks_std_dev.unwrap_or(0.0));
        self.reference_standard_uncertainty.hypot(reading)
    }
}

/// Whether one characteristic conforms.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Conformity {
    /// Within its limits, mean and every single one.
    Pass,
    /// The mean or a single result is outside.
    Fail,
    /// It has no limits, and is recorded only.
    NotJudged,
}

/// The judgement of one characteristic, with its numbers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ConformityResult {
    /// Verdict.
    pub conformity: Conformity,
    /// Rule applied.
    pub rule: DecisionRule,
    /// Mean over its limit; see [`ToleranceLimits::share_used`].
    pub share_used: Option<f64>,
    /// Largest single result over its limit.
    pub worst_single_share: Option<f64>,
    /// Expanded uncertainty U = k·u.
    pub expanded_uncertainty: f64,
    /// Coverage factor k.
    pub coverage_factor: f64,
    /// Measurement capability index, tolerance width/(2U) (JCGM 106, 7.6.3).
    pub capability_index: Option<f64>,
}

/// Coverage factor of the trade's certificates, about 95 % for a normal distribution.
pub const COVERAGE_FACTOR: f64 = 2.0;

/// Judges a characteristic: the mean and every single result must lie within the limits, drawn
/// in as the rule says, so that averaging cannot hide one bad reading.
#[must_use]
pub fn judge_conformity(
    characteristic: &Characteristic,
    between_checks_std_dev: Option<f64>,
    rule: DecisionRule,
) -> ConformityResult {
    let expanded = COVERAGE_FACTOR * characteristic.standard_uncertainty(between_checks_std_dev);
    let mut result = ConformityResult {
        conformity: Conformity::NotJudged,
        rule,
        share_used: None,
        worst_single_share: None,
        expanded_uncertainty: expanded,
        coverage_factor: COVERAGE_FACTOR,
        capability_index: None,
    };
    let Some(limits) = characteristic.limits else {
        return result;
    };
    if characteristic.singles.is_empty() {
        return result;
    }
    let of_singles = characteristic.single_limits.unwrap_or(limits);
    let band = rule.guard_band(expanded, COVERAGE_FACTOR);
    let accept = |limits: ToleranceLimits| match rule {
        DecisionRule::SimpleAcceptance => limits,
        // Two places beyond what is read: stated, and finer than any reading.
        _ => limits.drawn_in(band, characteristic.decimals + 2),
    };
    let (means, single) = (accept(limits), accept(of_singles));
    let mean_holds = match characteristic.mean {
        Some(mean) => means.hold_mean(mean, 1),
        None => means.hold_mean(characteristic.sum(), characteristic.n()),
    };
    let all_hold =
        mean_holds && characteristic.singles.iter().all(|value| single.hold_mean(*value, 1));
    result.conformity = if all_hold { Conformity::Pass } else { Conformity::Fail };
    result.share_used = limits.share_used(characteristic.value());
    result.worst_single_share = characteristic
        .singles
        .iter()
        .filter_map(|single| of_singles.share_used(to_f64(*single)))
        .max_by(|a, b| a.abs().total_cmp(&b.abs()));
    result.capability_index =
        limits.width().filter(|_| expanded > 0.0).map(|width| to_f64(width) / (2.0 * expanded));
    result
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SIMPLE: DecisionRule = DecisionRule::SimpleAcceptance;

    /// u = 0.25 and U = 0.5: the limit 20 is drawn in to 19.5 (guard band U) and, with
    /// 1.6449·0.25 = 0.4112, rounded inward to 0.42, to 19.58 (proven at 95 %).
    #[rstest]
    #[case(DecisionRule::GuardBandU, "19.5", Conformity::Pass)]
    #[case(DecisionRule::GuardBandU, "19.51", Conformity::Fail)]
    #[case(DecisionRule::Proven95, "19.58", Conformity::Pass)]
    #[case(DecisionRule::Proven95, "19.59", Conformity::Fail)]
    #[case(DecisionRule::SimpleAcceptance, "20", Conformity::Pass)]
    fn limits_are_drawn_in_by_the_rule(
        #[case] rule: DecisionRule,
        #[case] value: &str,
        #[case] expected: Conformity,
    ) {
        let found = judge_conformity(&characteristic(&[value], "20"), None, rule);
        assert_eq!((found.conformity, found.rule), (expected, rule));
    }

    /// An uncertainty larger than the tolerance leaves nothing to accept.
    #[test]
    fn an_uncertainty_beyond_the_tolerance_accepts_nothing() {
        let found =
            judge_conformity(&characteristic(&["0"], "0.4"), None, DecisionRule::GuardBandU);
        assert_eq!(found.conformity, Conformity::Fail);
    }

    fn characteristic(singles: &[&str], limit: &str) -> Characteristic {
        Characteristic {
            key: "error-20-rising".into(),
            label: "Error at 20 kg".into(),
            kind: CharacteristicKind::Error,
            nominal: Some(Decimal::from(20)),
            unit: Unit::Gram,
            decimals: 0,
            singles: singles.iter().map(|text| text.parse().unwrap()).collect(),
            mean: None,
            reference_value: None,
            limits: Some(ToleranceLimits::symmetric(limit.parse().unwrap())),
            single_limits: None,
            reference_standard_uncertainty: 0.15,
            reading_standard_uncertainty: 0.2,
            indicative: false,
            charted: true,
        }
    }

    #[rstest]
    #[case(&["20"], "20", Conformity::Pass)]
    #[case(&["20.0000001"], "20", Conformity::Fail)]
    #[case(&["-20"], "20", Conformity::Pass)]
    // One third has no finite decimal: 20/3 three times sums to 20 exactly by cross-multiplication.
    #[case(&["0.1", "0.1", "0.1"], "0.1", Conformity::Pass)]
    // The mean is fine; one single is not.
    #[case(&["25", "0", "-1"], "20", Conformity::Fail)]
    #[case(&[], "20", Conformity::NotJudged)]
    // A tolerance of zero is met by zero only, without a division by zero.
    #[case(&["0"], "0", Conformity::Pass)]
    #[case(&["0.1"], "0", Conformity::Fail)]
    fn exact_at_the_limit(
        #[case] singles: &[&str],
        #[case] limit: &str,
        #[case] expected: Conformity,
    ) {
        assert_eq!(
            judge_conformity(&characteristic(singles, limit), None, SIMPLE).conformity,
            expected
        );
    }

    /// Wider limits for single readings than for the mean: each is held against its own.
    #[rstest]
    #[case(&["25", "-25"], Conformity::Pass)]
    #[case(&["31", "-31"], Conformity::Fail)]
    #[case(&["25", "25"], Conformity::Fail)]
    fn singles_have_limits_of_their_own(#[case] singles: &[&str], #[case] expected: Conformity) {
        let mut both = characteristic(singles, "20");
        both.single_limits = Some(ToleranceLimits::symmetric(Decimal::from(30)));
        assert_eq!(judge_conformity(&both, None, SIMPLE).conformity, expected);
    }

    #[test]
    fn ratio_is_width_over_two_u() {
        let result = judge_conformity(&characteristic(&["0"], "20"), None, SIMPLE);
        // u = √(0.15² + 0.2²) = 0.25, U = 0.5, 40/(2·0.5) = 40.
        assert!((result.expanded_uncertainty - 0.5).abs() < 1e-12);
        assert!((result.capability_index.unwrap() - 40.0).abs() < 1e-9);
    }

    #[test]
    fn one_sided_limits_have_no_ratio() {
        let mut one_sided = characteristic(&["3"], "20");
        one_sided.limits = Some(ToleranceLimits { lower: None, upper: Some(Decimal::from(2)) });
        let result = judge_conformity(&one_sided, None, SIMPLE);
        assert_eq!(result.conformity, Conformity::Fail);
        assert_eq!(result.capability_index, None);
        assert_eq!(result.share_used, Some(1.5));
    }

    #[test]
    fn between_check_variation_replaces_smaller_reading_scatter() {
        let c = characteristic(&["0"], "20");
        assert!((c.standard_uncertainty(Some(2.0)) - 0.15_f64.hypot(2.0)).abs() < 1e-12);
        assert!((c.standard_uncertainty(Some(0.1)) - 0.25).abs() < 1e-12);
    }
}
