//! The uncertainty budget: contributions, their combination, the coverage factor.

use serde::{Deserialize, Serialize};

use crate::stats::student_t;

/// Where a part of the uncertainty comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ContributionSource {
    /// The certificate's expanded uncertainty over its coverage factor, U/k (JCGM 100, 4.3.3).
    Certificate,
    /// A standard known by its class only: its maximum permissible error over √3.
    ClassLimit,
    /// Places of one piece differ: ±a as a rectangular distribution, a/√3 (JCGM 100, 4.3.7).
    NonUniformity,
    /// What the standard may have drifted since its calibration, stated by the plan.
    StandardDrift,
    /// Air buoyancy: the weights' conventional mass holds for air of 1.2 kg/m³.
    AirBuoyancy,
    /// Temperature: stated by the plan, or by the slope of a value that depends on it.
    Temperature,
    /// Convection of air about weights that are warmer or colder than the room, stated by the plan.
    Convection,
    /// Zero before the reading: its rounding, or how closely the instrument sets it.
    Zero,
    /// The load stands off the centre.
    Eccentricity,
    /// How closely an applied reference is set or read.
    ReferenceSetting,
    /// Rounding of the display, d/√12 each.
    Resolution,
    /// Scatter of the repeated readings, s/√n with n − 1 degrees of freedom.
    Repeatability,
    /// What varies from check to check, the chart's frozen sigma.
    BetweenChecks,
    /// Something else that the plan states.
    Other,
}

impl ContributionSource {
    /// All, in the order of a budget.
    pub const ALL: [Self; 14] = [
        Self::Certificate,
        Self::ClassLimit,
        Self::NonUniformity,
        Self::StandardDrift,
        Self::AirBuoyancy,
        Self::Temperature,
        Self::Convection,
        Self::Zero,
        Self::Eccentricity,
        Self::ReferenceSetting,
        Self::Resolution,
        Self::Repeatability,
        Self::BetweenChecks,
        Self::Other,
    ];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Certificate => "certificate",
            Self::ClassLimit => "class_limit",
            Self::NonUniformity => "non_uniformity",
            Self::StandardDrift => "standard_drift",
            Self::AirBuoyancy => "air_buoyancy",
            Self::Temperature => "temperature",
            Self::Convection => "convection",
            Self::Zero => "zero",
            Self::Eccentricity => "eccentricity",
            Self::ReferenceSetting => "reference_setting",
            Self::Resolution => "resolution",
            Self::Repeatability => "repeatability",
            Self::BetweenChecks => "between_checks",
            Self::Other => "other",
        }
    }

    /// In words, for the budget's table.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Certificate => "Certified value of the standard, U/k",
            Self::ClassLimit => "Standard known by its class, limit/√3",
            Self::NonUniformity => "Places of the standard differ, a/√3",
            Self::StandardDrift => "Drift of the standard since its calibration",
            Self::AirBuoyancy => "Air buoyancy",
            Self::Temperature => "Temperature",
            Self::Convection => "Convection of air",
            Self::Zero => "Zero before the reading",
            Self::Eccentricity => "Load off the centre",
            Self::ReferenceSetting => "Setting or reading of the reference",
            Self::Resolution => "Rounding of the display",
            Self::Repeatability => "Repeatability of the mean, s/√n",
            Self::BetweenChecks => "Variation from check to check",
            Self::Other => "Other, stated by the plan",
        }
    }

    /// What it belongs to.
    #[must_use]
    pub fn part(self) -> Part {
        match self {
            Self::Certificate
            | Self::ClassLimit
            | Self::StandardDrift
            | Self::AirBuoyancy
            | Self::Other => Part::Reference,
            Self::NonUniformity
            | Self::Temperature
            | Self::Convection
            | Self::Zero
            | Self::Eccentricity
            | Self::ReferenceSetting => Part::EachCheck,
            Self::Resolution | Self::Repeatability | Self::BetweenChecks => Part::Reading,
        }
    }

    /// Whether it belongs to the reference, the same in each check.
    #[must_use]
    pub fn is_of_reference(self) -> bool {
        self.part() == Part::Reference
    }
}

/// What a part of the uncertainty belongs to: it decides what counts beside what.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// The reference: the same in every check until it is certified anew. It always counts.
    Reference,
    /// Made anew in each check: where the block is met, how warm it is, how zero was set. A sigma from check to check
    /// that was found over many checks holds it already.
    EachCheck,
    /// Reading the instrument.
    Reading,
}

/// Whether a budget knows how far readings scatter.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Scatter {
    /// From the baseline of a chart, from the plan, or from readings enough.
    Known,
    /// From the readings of this check alone, and these are few.
    FewReadings {
        /// How many.
        readings: u32,
    },
    /// Nothing but rounding is known.
    RoundingOnly,
}

/// Fewest readings of one check from which a scatter is taken: with nine degrees of freedom k is 2.3, and U is
/// known to about a quarter (JCGM 100, table E.1).
pub const FEWEST_READINGS: u32 = 10;

impl std::str::FromStr for ContributionSource {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|source| source.word() == text);
        known.ok_or_else(|| format!("“{text}” is no source of uncertainty"))
    }
}

/// One line of a budget, in the unit of its characteristic with a sensitivity of one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Contribution {
    /// Where it comes from.
    pub source: ContributionSource,
    /// What the plan calls it; empty where the source says all.
    #[serde(default)]
    pub label: String,
    /// Standard uncertainty u.
    pub standard_uncertainty: f64,
    /// Degrees of freedom; none for what is taken as known exactly.
    pub degrees_of_freedom: Option<f64>,
    /// False for a part that a larger one already holds.
    pub counted: bool,
}

impl Contribution {
    /// A part that counts and whose uncertainty is taken as known.
    #[must_use]
    pub fn known(source: ContributionSource, standard_uncertainty: f64) -> Self {
        Self {
            source,
            label: String::new(),
            standard_uncertainty,
            degrees_of_freedom: None,
            counted: true,
        }
    }

    /// A part that was estimated from `degrees_of_freedom` + 1 values.
    #[must_use]
    pub fn estimated(
        source: ContributionSource,
        standard_uncertainty: f64,
        degrees_of_freedom: f64,
    ) -> Self {
        Self {
            degrees_of_freedom: Some(degrees_of_freedom),
            ..Self::known(source, standard_uncertainty)
        }
    }

    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        match self.label.as_str() {
            "" => self.source.words().to_owned(),
            label => label.to_owned(),
        }
    }
}

/// How much an interval y ± U is to cover.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Coverage {
    /// 95.45 %: k = 2 for a normal distribution, what certificates carry.
    #[default]
    P9545,
    /// 99 %: k = 2.576.
    P99,
    /// 99.73 %: k = 3, the trade's "three sigma".
    P9973,
}

impl Coverage {
    /// All, the default first.
    pub const ALL: [Self; 3] = [Self::P9545, Self::P99, Self::P9973];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::P9545 => "p9545",
            Self::P99 => "p99",
            Self::P9973 => "p9973",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::P9545 => "about 95 % (k = 2)",
            Self::P99 => "99 % (k = 2.58)",
            Self::P9973 => "99.73 % (k = 3)",
        }
    }

    /// Coverage probability.
    #[must_use]
    pub fn probability(self) -> f64 {
        match self {
            Self::P9545 => 0.9545,
            Self::P99 => 0.99,
            Self::P9973 => 0.9973,
        }
    }

    /// Coverage factor of the normal distribution, as certificates state it.
    #[must_use]
    pub fn normal_factor(self) -> f64 {
        match self {
            Self::P9545 => 2.0,
            Self::P99 => 2.575_829_303_548_900_4,
            Self::P9973 => 3.0,
        }
    }

    /// Coverage factor k for effective degrees of freedom: Student's t at the next lower whole
    /// number, at least one (JCGM 100, G.4.1 and G.6.4); the normal factor where nothing was
    /// estimated.
    #[must_use]
    pub fn factor(self, degrees_of_freedom: Option<f64>) -> f64 {
        let normal = self.normal_factor();
        let Some(freedom) = degrees_of_freedom.filter(|freedom| *freedom < 1e6) else {
            return normal;
        };
        student_t(self.probability(), freedom.floor().max(1.0)).map_or(normal, |t| t.max(normal))
    }
}

impl std::str::FromStr for Coverage {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|coverage| coverage.word() == text);
        known.ok_or_else(|| format!("“{text}” is no coverage"))
    }
}

/// A budget, combined.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Budget {
    /// Its lines, in the order of [`ContributionSource::ALL`].
    pub contributions: Vec<Contribution>,
    /// Combined standard uncertainty u = √Σuᵢ² of what counts (JCGM 100, 5.1.2).
    pub combined_standard_uncertainty: f64,
    /// Effective degrees of freedom, u⁴/Σ(uᵢ⁴/νᵢ) (Welch–Satterthwaite, JCGM 100, G.4.1); none
    /// where no part was estimated.
    pub degrees_of_freedom: Option<f64>,
    /// What U covers.
    pub coverage: Coverage,
    /// Coverage factor k.
    pub coverage_factor: f64,
    /// Expanded uncertainty U = k·u.
    pub expanded_uncertainty: f64,
}

impl Budget {
    /// Combines contributions. Of the parts of reading one counts: scatter of readings already holds the rounding, the
    /// larger of the two. Variation from check to check, √(σ_b² + σ_w²/n) of the frozen baseline, holds the scatter of a
    /// mean and all that is made anew in each check, and knows it from far more readings than one check has: it stands
    /// for them, unless what is known of them by itself comes to more.
    #[must_use]
    pub fn combine(mut contributions: Vec<Contribution>, coverage: Coverage) -> Self {
        let place = |source: ContributionSource| {
            ContributionSource::ALL.iter().position(|known| *known == source)
        };
        contributions.sort_by_key(|part| place(part.source));
        let of = |source| {
            let same = contributions.iter().filter(move |part| part.source == source);
            same.map(|part| part.standard_uncertainty)
                .fold(None, |most: Option<f64>, own| Some(most.map_or(own, |most| most.max(own))))
        };
        let between = of(ContributionSource::BetweenChecks);
        let repeatability =
            of(ContributionSource::Repeatability).filter(|_| between.is_none()).unwrap_or(0.0);
        let rounding = of(ContributionSource::Resolution).unwrap_or(0.0);
        let each_check = contributions
            .iter()
            .filter(|part| part.source.part() == Part::EachCheck)
            .fold(0.0_f64, |sum, part| sum.hypot(part.standard_uncertainty));
        let by_itself = each_check.hypot(rounding.max(repeatability));
        let stands_for_all = between.is_some_and(|sigma| sigma >= by_itself);
        let reading = if stands_for_all {
            ContributionSource::BetweenChecks
        } else if repeatability > rounding {
            ContributionSource::Repeatability
        } else {
            ContributionSource::Resolution
        };
        let mut read = false;
        for part in &mut contributions {
            part.counted = match part.source.part() {
                Part::Reference => true,
                Part::EachCheck => !stands_for_all,
                // One line of it: a source is stated once.
                Part::Reading => {
                    let counts = part.source == reading && !read;
                    read |= counts;
                    counts
                }
            };
        }
        let counted = || contributions.iter().filter(|part| part.counted);
        let combined = counted().fold(0.0_f64, |sum, part| sum.hypot(part.standard_uncertainty));
        let degrees_of_freedom = effective_degrees_of_freedom(
            combined,
            counted()
                .filter_map(|part| Some((part.standard_uncertainty, part.degrees_of_freedom?))),
        );
        let coverage_factor = coverage.factor(degrees_of_freedom);
        Self {
            combined_standard_uncertainty: combined,
            degrees_of_freedom,
            coverage,
            coverage_factor,
            expanded_uncertainty: coverage_factor * combined,
            contributions,
        }
    }

    /// Whether it knows how far readings scatter.
    #[must_use]
    pub fn scatter(&self) -> Scatter {
        let of = |source| self.contributions.iter().find(|part| part.source == source);
        if of(ContributionSource::BetweenChecks).is_some() {
            return Scatter::Known;
        }
        match of(ContributionSource::Repeatability) {
            None => Scatter::RoundingOnly,
            Some(part) => match part.degrees_of_freedom {
                Some(freedom) if freedom + 1.0 < f64::from(FEWEST_READINGS) => {
                    Scatter::FewReadings { readings: freedom.round() as u32 + 1 }
                }
                _ => Scatter::Known,
            },
        }
    }

    /// Share of a line in the combined variance, uᵢ²/u²; zero for what does not count.
    #[must_use]
    pub fn share(&self, part: &Contribution) -> f64 {
        if !part.counted || self.combined_standard_uncertainty == 0.0 {
            return 0.0;
        }
        (part.standard_uncertainty / self.combined_standard_uncertainty).powi(2)
    }
}

/// Effective degrees of freedom by the Welch–Satterthwaite formula, ν = u⁴/Σ(uᵢ⁴/νᵢ)
/// (JCGM 100, G.4.1); none where nothing was estimated.
pub fn effective_degrees_of_freedom(
    combined: f64,
    estimated: impl Iterator<Item = (f64, f64)>,
) -> Option<f64> {
    let sum: f64 = estimated
        .filter(|(u, freedom)| *u > 0.0 && *freedom > 0.0)
        .map(|(u, freedom)| (u / combined).powi(4) / freedom)
        .sum();
    (sum > 0.0).then(|| 1.0 / sum)
}

#[cfg(test)]
mod tests {
    use super::*;
    use ContributionSource::{
        BetweenChecks, Certificate, NonUniformity, Other, Repeatability, Resolution,
    };
    use rstest::rstest;

    /// JCGM 100:2008, H.1 (end gauge), values from memory and recomputed by hand: 25 nm with 18
    /// degrees of freedom, 9.7 nm with 25.6, 2.9 nm with 50, 16.6 nm with 2; u = 32 nm (31.7
    /// before the second-order term), ν = 16.7, t99(16) = 2.92.
    #[test]
    fn end_gauge_of_the_guide() {
        let parts = [(25.0, 18.0), (9.7, 25.6), (2.9, 50.0), (16.6, 2.0)]
            .map(|(u, freedom)| Contribution::estimated(Other, u, freedom));
        let budget = Budget::combine(parts.to_vec(), Coverage::P99);
        assert!((budget.combined_standard_uncertainty - 31.68).abs() < 0.01, "{budget:?}");
        assert!((budget.degrees_of_freedom.unwrap() - 16.8).abs() < 0.1, "{budget:?}");
        assert!((budget.coverage_factor - 2.92).abs() < 0.005, "{budget:?}");
        let shares: f64 = budget.contributions.iter().map(|part| budget.share(part)).sum();
        assert!((shares - 1.0).abs() < 1e-12);
    }

    /// JCGM 100:2008, table G.2, from memory; confirmed by SciPy's `t.ppf` (see
    /// `tests/rules/reference_values.rs`).
    #[rstest]
    #[case(Coverage::P9545, 1.0, 13.97)]
    #[case(Coverage::P9545, 10.0, 2.28)]
    #[case(Coverage::P9545, 10.9, 2.28)]
    #[case(Coverage::P9545, 20.0, 2.13)]
    #[case(Coverage::P9545, 50.0, 2.05)]
    #[case(Coverage::P99, 16.0, 2.92)]
    #[case(Coverage::P9973, 10.0, 3.96)]
    fn coverage_factors_of_the_guide(
        #[case] coverage: Coverage,
        #[case] freedom: f64,
        #[case] k: f64,
    ) {
        assert!((coverage.factor(Some(freedom)) - k).abs() < 0.006, "{coverage:?} {freedom}");
    }

    #[test]
    fn nothing_estimated_takes_the_normal_factor() {
        let budget =
            Budget::combine(vec![Contribution::known(Certificate, 3.0)], Coverage::default());
        assert_eq!((budget.coverage_factor, budget.degrees_of_freedom), (2.0, None));
        assert_eq!(Coverage::P9973.factor(Some(f64::INFINITY)), 3.0);
        // Half a degree of freedom still has a factor.
        assert!((Coverage::P9545.factor(Some(0.5)) - 13.97).abs() < 0.01);
    }

    /// Repeatability or resolution, never both; from check to check stands for the scatter and for what is made
    /// anew in each check (here places of a block, 4), unless these come to more.
    #[rstest]
    #[case(2.0, 1.0, None, 20.0_f64.sqrt(), 3)]
    #[case(1.0, 2.0, None, 20.0_f64.sqrt(), 3)]
    #[case(1.0, 2.0, Some(6.0), 6.0, 2)]
    #[case(1.0, 2.0, Some(4.0), 20.0_f64.sqrt(), 3)]
    #[case(1.0, 2.0, Some(0.5), 20.0_f64.sqrt(), 3)]
    #[case(9.0, 1.0, Some(5.0), 5.0, 2)]
    fn one_part_of_the_reading_counts(
        #[case] repeatability: f64,
        #[case] resolution: f64,
        #[case] between: Option<f64>,
        #[case] expected: f64,
        #[case] lines: usize,
    ) {
        let mut parts = vec![
            Contribution::estimated(Repeatability, repeatability, 4.0),
            Contribution::known(Resolution, resolution),
            Contribution::known(Certificate, 3.0),
            Contribution::known(NonUniformity, 4.0),
        ];
        parts.extend(between.map(|u| Contribution::estimated(BetweenChecks, u, 29.0)));
        let budget = Budget::combine(parts, Coverage::default());
        assert_eq!(budget.contributions[0].source, Certificate);
        let counted = budget.contributions.iter().filter(|part| part.counted).count();
        assert_eq!(counted, lines, "{budget:?}");
        assert!((budget.combined_standard_uncertainty - 3.0_f64.hypot(expected)).abs() < 1e-12);
        let known =
            if between.is_some() { Scatter::Known } else { Scatter::FewReadings { readings: 5 } };
        assert_eq!(budget.scatter(), known);
    }

    /// Ten readings are enough, one tells nothing but rounding; what a plan states is known.
    #[test]
    fn how_scatter_is_known() {
        let of = |parts: Vec<Contribution>| Budget::combine(parts, Coverage::default()).scatter();
        assert_eq!(of(vec![Contribution::known(Resolution, 1.0)]), Scatter::RoundingOnly);
        assert_eq!(of(vec![Contribution::estimated(Repeatability, 1.0, 9.0)]), Scatter::Known);
        assert_eq!(of(vec![Contribution::known(Repeatability, 1.0)]), Scatter::Known);
        assert_eq!(
            of(vec![Contribution::estimated(Repeatability, 1.0, 1.0)]),
            Scatter::FewReadings { readings: 2 }
        );
    }

    /// A sigma frozen from twenty shifts by moving ranges has 11.8 degrees of freedom: k = 2.25.
    #[test]
    fn a_sigma_of_twenty_shifts_has_its_own_factor() {
        let part = Contribution::estimated(BetweenChecks, 1.0, 0.62 * 19.0);
        let budget = Budget::combine(vec![part], Coverage::default());
        assert!((budget.coverage_factor - 2.25).abs() < 0.01, "{budget:?}");
    }

    #[test]
    fn an_empty_budget_is_zero() {
        let budget = Budget::combine(vec![], Coverage::default());
        assert_eq!(budget.expanded_uncertainty, 0.0);
        let none = Budget::combine(vec![Contribution::known(Resolution, 0.0)], Coverage::P99);
        assert_eq!(none.share(&none.contributions[0]), 0.0);
    }

    #[test]
    fn words_go_there_and_back() {
        for source in ContributionSource::ALL {
            assert_eq!(source.word().parse(), Ok(source));
        }
        for coverage in Coverage::ALL {
            assert_eq!(coverage.word().parse(), Ok(coverage));
        }
    }
}
