//! Decision rules: how a result with uncertainty is held against its limits.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::budget::{Budget, Coverage};
use super::risk::{Interval, Prior, guard_band_for};
use crate::quantity::to_f64;
use crate::stats::student_t;

/// How a result with uncertainty is held against its limits; the name is stored with each result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DecisionRule {
    /// Simple acceptance (ILAC-G8:2019, 4.2.1): the result itself is held against the limit.
    #[default]
    SimpleAcceptance,
    /// Guard band w = U (ILAC-G8:2019, 4.2.2): the limit less the expanded uncertainty.
    GuardBandU,
    /// Guard band w = r·U with a stated r (ILAC-G8:2019, table 1).
    GuardBandShare,
    /// Conformity proven at 95 % (ISO 14253-1:2017): the limit less 1.65 u.
    Proven95,
    /// Guard band that holds the global false-accept risk at a stated share of all checks, with a
    /// prior from this check's own history (JCGM 106, 9.5).
    GlobalRisk,
}

impl DecisionRule {
    /// All, the default first.
    pub const ALL: [Self; 5] = [
        Self::SimpleAcceptance,
        Self::GuardBandU,
        Self::GuardBandShare,
        Self::Proven95,
        Self::GlobalRisk,
    ];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::SimpleAcceptance => "simple_acceptance",
            Self::GuardBandU => "guard_band_u",
            Self::GuardBandShare => "guard_band_share",
            Self::Proven95 => "proven95",
            Self::GlobalRisk => "global_risk",
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
            Self::GuardBandShare => "guard band r·U: the limit is drawn in by a share of it",
            Self::Proven95 => {
                "conformity proven at 95 %: the limit is drawn in by Student's t for 95 % on one side times u (1.65 u where nothing was estimated)"
            }
            Self::GlobalRisk => {
                "global risk: drawn in until false accepts are rare enough in this check's history"
            }
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

/// A decision rule with its numbers, as a plan states it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decision {
    /// The rule.
    pub rule: DecisionRule,
    /// r of the guard band r·U.
    pub share: Decimal,
    /// Largest global false-accept risk, as a fraction.
    pub most_risk: Decimal,
    /// What U covers.
    pub coverage: Coverage,
}

impl Default for Decision {
    fn default() -> Self {
        Self::by(DecisionRule::default())
    }
}

/// Why a guard band has its width.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum GuardBasis {
    /// By the rule as the plan states it.
    Stated,
    /// From the history of this check.
    History {
        /// The prior.
        prior: Prior,
    },
    /// The history is too short for a prior: a guard band U stands in.
    NoHistory,
    /// The characteristic is not charted and never has a history: a guard band U is its rule.
    NotCharted,
    /// Nobody knows how far its readings scatter, so that no guard band has a width: nothing is accepted as proven.
    ScatterUnknown,
    /// No guard band keeps the risk: nothing is accepted.
    Unreachable {
        /// The prior.
        prior: Prior,
    },
}

/// A guard band.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct GuardBand {
    /// Its width w for the mean, zero for simple acceptance.
    pub width: f64,
    /// Its width for a single reading, whose uncertainty is larger by the scatter of one reading.
    #[serde(default)]
    pub single_width: f64,
    /// Where it comes from.
    pub basis: GuardBasis,
}

/// Quantile for 95 % on one side: Student's t with the budget's degrees of freedom, 1.645 where nothing was estimated. At
/// a limit drawn in by 1.645 u of three readings one result in eight is accepted wrongly, not one in twenty.
fn one_sided_95(degrees_of_freedom: Option<f64>) -> f64 {
    const NORMAL: f64 = 1.644_853_626_951_472_7;
    degrees_of_freedom
        .and_then(|freedom| student_t(0.90, freedom.max(1.0)).ok())
        .map_or(NORMAL, |t| t.max(NORMAL))
}

impl Decision {
    /// A rule with its usual numbers: all of U, 2 % of all checks, k = 2.
    #[must_use]
    pub fn by(rule: DecisionRule) -> Self {
        Self {
            rule,
            share: Decimal::ONE,
            most_risk: Decimal::new(2, 2),
            coverage: Coverage::default(),
        }
    }

    /// The rule with its numbers, in words.
    #[must_use]
    pub fn words(&self) -> String {
        match self.rule {
            DecisionRule::GuardBandShare => format!(
                "guard band {}·U: the limit is drawn in by that share of the expanded uncertainty",
                self.share.normalize()
            ),
            DecisionRule::GlobalRisk => format!(
                "global risk: the limit is drawn in until at most {} % of all checks are accepted wrongly, by this check's history",
                (self.most_risk * Decimal::ONE_HUNDRED).normalize()
            ),
            rule => rule.words().to_owned(),
        }
    }

    /// Width of the guard band for a tolerance and a budget; `single` is the standard uncertainty of a single reading.
    #[must_use]
    pub fn guard_band(
        &self,
        tolerance: Interval,
        budget: &Budget,
        prior: Option<Prior>,
        single: f64,
    ) -> GuardBand {
        let expanded = budget.expanded_uncertainty;
        let u = budget.combined_standard_uncertainty;
        let of = |width: f64, basis: GuardBasis| GuardBand {
            width,
            single_width: if u > 0.0 { width * (single / u).max(1.0) } else { width },
            basis,
        };
        let stated = |width: f64| of(width, GuardBasis::Stated);
        match (self.rule, prior) {
            (DecisionRule::SimpleAcceptance, _) => stated(0.0),
            (DecisionRule::GuardBandU, _) => stated(expanded),
            (DecisionRule::GuardBandShare, _) => stated(to_f64(self.share) * expanded),
            (DecisionRule::Proven95, _) => stated(one_sided_95(budget.degrees_of_freedom) * u),
            (DecisionRule::GlobalRisk, None) => of(expanded, GuardBasis::NoHistory),
            (DecisionRule::GlobalRisk, Some(prior)) => {
                match guard_band_for(tolerance, prior, u, to_f64(self.most_risk)) {
                    Some(width) => of(width, GuardBasis::History { prior }),
                    None => {
                        // Wide enough for the ends to cross, so that nothing lies between them.
                        let ends = tolerance.lower.zip(tolerance.upper);
                        let half = ends.map_or(expanded, |(lower, upper)| (upper - lower).abs());
                        of(half.max(expanded), GuardBasis::Unreachable { prior })
                    }
                }
            }
        }
    }
}

/// What is stated of a result where a guard band is used (ILAC-G8:2019, 4.2.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Statement {
    /// Within the acceptance limits.
    Pass,
    /// Within the tolerance, inside the guard band: not proven, and not accepted.
    ConditionalPass,
    /// Outside the tolerance by no more than the guard band: not proven to fail.
    ConditionalFail,
    /// Outside the tolerance by more than the guard band.
    Fail,
}

impl Statement {
    /// All four, best first.
    pub const ALL: [Self; 4] =
        [Self::Pass, Self::ConditionalPass, Self::ConditionalFail, Self::Fail];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::ConditionalPass => "conditional_pass",
            Self::ConditionalFail => "conditional_fail",
            Self::Fail => "fail",
        }
    }

    /// The standard's own words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::ConditionalPass => "conditional pass",
            Self::ConditionalFail => "conditional fail",
            Self::Fail => "fail",
        }
    }
}

impl std::str::FromStr for Statement {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|statement| statement.word() == text);
        known.ok_or_else(|| format!("“{text}” is no statement of conformity"))
    }
}
