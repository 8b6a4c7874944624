//! Budgets, decision rules and their risks.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::judgement::{
    Budget, Contribution, ContributionSource, Coverage, Interval, Prior, global_risk,
    guard_band_for,
};

use super::words::Word;
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Combine>(),
        Computation::of::<Conformity>(),
        Computation::of::<Risks>(),
        Computation::of::<Band>(),
    ]
}

struct Combine;

/// Lines of a budget.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Lines {
    /// The lines.
    contributions: Vec<BudgetLine>,
    /// What U is to cover; the first when left out.
    #[serde(default)]
    coverage: Option<Word<Coverage>>,
}

/// A line of a budget.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BudgetLine {
    /// Where it comes from.
    source: Word<ContributionSource>,
    /// Standard uncertainty, in the unit of the result.
    #[schemars(range(min = 0.0))]
    standard_uncertainty: f64,
    /// Degrees of freedom, above zero; null for what is taken as known.
    #[serde(default)]
    degrees_of_freedom: Option<f64>,
}

/// A combined budget.
#[derive(Debug, Serialize, JsonSchema)]
struct Combined {
    /// Combined standard uncertainty.
    combined_standard_uncertainty: f64,
    /// Effective degrees of freedom, Welch and Satterthwaite; null where nothing was estimated.
    degrees_of_freedom: Option<f64>,
    /// Coverage factor k.
    coverage_factor: f64,
    /// Expanded uncertainty k·u.
    expanded_uncertainty: f64,
    /// Share of each line in the combined variance, in the order given; zero for one that a larger
    /// one already holds.
    shares: Vec<f64>,
}

impl Compute for Combine {
    const NAME: &'static str = "budget";
    const ABOUT: &'static str = "combined and expanded uncertainty, with the share of each part";
    type Input = Lines;
    type Output = Combined;

    fn compute(input: Lines) -> Result<Combined, String> {
        let coverage = input.coverage.map_or_else(Coverage::default, |word| word.0);
        let mut parts = Vec::new();
        for (index, line) in input.contributions.iter().enumerate() {
            let source = line.source.0;
            let u = line.standard_uncertainty;
            if !(u.is_finite() && u >= 0.0) {
                return Err(format!(
                    "line {}: the uncertainty is {u}: it is not negative",
                    index + 1
                ));
            }
            if line.degrees_of_freedom.is_some_and(|freedom| freedom <= 0.0) {
                return Err(format!("line {}: degrees of freedom are above zero", index + 1));
            }
            parts.push(Contribution {
                degrees_of_freedom: line.degrees_of_freedom,
                // The place tells equal lines apart after they are put in order.
                label: index.to_string(),
                ..Contribution::known(source, u)
            });
        }
        let budget = Budget::combine(parts, coverage);
        let mut shares = vec![0.0; input.contributions.len()];
        for part in &budget.contributions {
            let place = part.label.parse::<usize>().map_err(said)?;
            shares[place] = budget.share(part);
        }
        Ok(Combined {
            combined_standard_uncertainty: budget.combined_standard_uncertainty,
            degrees_of_freedom: budget.degrees_of_freedom,
            coverage_factor: budget.coverage_factor,
            expanded_uncertainty: budget.expanded_uncertainty,
            shares,
        })
    }
}

struct Conformity;

/// A result and its tolerance.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Measured {
    /// The result.
    value: f64,
    /// Its standard uncertainty.
    #[schemars(extend("exclusiveMinimum" = 0))]
    standard_uncertainty: f64,
    /// Degrees of freedom of that uncertainty: Student's t in place of the normal distribution; null where it was
    /// not estimated.
    #[serde(default)]
    #[schemars(extend("exclusiveMinimum" = 0))]
    degrees_of_freedom: Option<f64>,
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
}

/// How sure the result is.
#[derive(Debug, Serialize, JsonSchema)]
struct Sureness {
    /// Probability that the true value lies within the tolerance (JCGM 106, 7.2).
    probability: f64,
    /// Risk of what simple acceptance decides: that it is wrong about this one result.
    specific_risk: f64,
    /// Tolerance width over 2·U with k = 2 (JCGM 106, 7.6.3); null for a one-sided tolerance.
    capability_index: Option<f64>,
}

fn interval(lower: Option<f64>, upper: Option<f64>) -> Result<Interval, String> {
    match (lower, upper) {
        (None, None) => Err("give a lower limit, an upper one, or both".to_owned()),
        (Some(low), Some(high)) if low >= high => {
            let (low, high) = (super::shown(low), super::shown(high));
            Err(format!("the lower limit {low} is not below the upper one {high}"))
        }
        _ => Ok(Interval { lower, upper }),
    }
}

impl Compute for Conformity {
    const NAME: &'static str = "conformity";
    const ABOUT: &'static str =
        "probability of conformity of one result, and the risk of accepting it";
    type Input = Measured;
    type Output = Sureness;

    fn compute(input: Measured) -> Result<Sureness, String> {
        let u = positive("the standard uncertainty", input.standard_uncertainty)?;
        let within = interval(input.lower, input.upper)?;
        let freedom = input
            .degrees_of_freedom
            .map(|freedom| positive("the degrees of freedom", freedom))
            .transpose()?;
        let found = within.probabilities(input.value, u, freedom);
        let inside = within.lower.is_none_or(|lower| input.value >= lower)
            && within.upper.is_none_or(|upper| input.value <= upper);
        let width = within.lower.zip(within.upper).map(|(lower, upper)| upper - lower);
        Ok(Sureness {
            probability: found.inside,
            // The outside by its own tails: far in, one less the inside is rounding only.
            specific_risk: if inside { found.outside } else { found.inside },
            capability_index: width.map(|width| width / (4.0 * u)),
        })
    }
}

/// What is known beforehand: mean and standard deviation of the true values.
fn prior(mean: f64, std_dev: f64) -> Result<Prior, String> {
    let std_dev = positive("the prior's standard deviation", std_dev)?;
    Ok(Prior { mean, std_dev, checks: 0 })
}

struct Risks;

/// A decision rule over a process.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RiskInput {
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
    /// Mean of the true values, from the history.
    prior_mean: f64,
    /// Standard deviation of the true values.
    #[schemars(extend("exclusiveMinimum" = 0))]
    prior_standard_deviation: f64,
    /// Standard uncertainty of the check.
    #[schemars(extend("exclusiveMinimum" = 0))]
    standard_uncertainty: f64,
    /// Guard band by which the limits are drawn in; negative draws them out.
    #[serde(default)]
    guard_band: f64,
}

/// Global risks.
#[derive(Debug, Serialize, JsonSchema)]
struct RiskOutput {
    /// Share of all checks that are accepted while out of tolerance.
    false_accept: f64,
    /// Share of all checks that are rejected while within tolerance.
    false_reject: f64,
}

impl Compute for Risks {
    const NAME: &'static str = "global-risk";
    const ABOUT: &'static str = "shares of all checks that are accepted or rejected wrongly";
    type Input = RiskInput;
    type Output = RiskOutput;

    fn compute(input: RiskInput) -> Result<RiskOutput, String> {
        let prior = prior(input.prior_mean, input.prior_standard_deviation)?;
        let u = positive("the standard uncertainty", input.standard_uncertainty)?;
        let tolerance = interval(input.lower, input.upper)?;
        let found = global_risk(tolerance, tolerance.drawn_in(input.guard_band), prior, u);
        Ok(RiskOutput { false_accept: found.false_accept, false_reject: found.false_reject })
    }
}

struct Band;

/// A process and the risk that is borne.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BandInput {
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
    /// Mean of the true values, from the history.
    prior_mean: f64,
    /// Standard deviation of the true values.
    #[schemars(extend("exclusiveMinimum" = 0))]
    prior_standard_deviation: f64,
    /// Standard uncertainty of the check.
    #[schemars(extend("exclusiveMinimum" = 0))]
    standard_uncertainty: f64,
    /// Largest share of all checks that may be accepted wrongly, for example 0.02.
    #[schemars(extend("minimum" = 0, "exclusiveMaximum" = 1))]
    most_risk: f64,
}

/// A guard band.
#[derive(Debug, Serialize, JsonSchema)]
struct BandOutput {
    /// The narrowest that holds the risk; null when nothing would be left to accept.
    guard_band: Option<f64>,
}

impl Compute for Band {
    const NAME: &'static str = "guard-band";
    const ABOUT: &'static str = "the narrowest guard band that holds a global risk";
    type Input = BandInput;
    type Output = BandOutput;

    fn compute(input: BandInput) -> Result<BandOutput, String> {
        let prior = prior(input.prior_mean, input.prior_standard_deviation)?;
        let u = positive("the standard uncertainty", input.standard_uncertainty)?;
        let tolerance = interval(input.lower, input.upper)?;
        let most = input.most_risk;
        if !(0.0..1.0).contains(&most) {
            return Err(format!("the risk is {most}: give a share from 0 to below 1"));
        }
        Ok(BandOutput { guard_band: guard_band_for(tolerance, prior, u, most) })
    }
}

#[cfg(test)]
mod tests {
    fn run(name: &str, input: &str) -> Result<serde_json::Value, String> {
        let found = super::super::all().into_iter().find(|one| one.name == name).unwrap();
        found.run(input).map(|text| serde_json::from_str(&text).unwrap())
    }

    /// JCGM 106, 7.2: on the limit one half; two standard uncertainties inside 97.7 %.
    #[test]
    fn conformity_of_one_result() {
        let at = |value: f64| {
            let input = format!(
                r#"{{"value":{value},"standard_uncertainty":0.25,"lower":-20,"upper":20}}"#
            );
            run("conformity", &input).unwrap()
        };
        assert!((at(20.0)["probability"].as_f64().unwrap() - 0.5).abs() < 1e-9);
        assert!((at(19.5)["probability"].as_f64().unwrap() - 0.977_25).abs() < 1e-5);
        assert_eq!(at(0.0)["capability_index"], 40.0);
    }

    /// Ten standard uncertainties inside, SciPy: norm.sf(10) = 7.619853024160526e-24; with two degrees of freedom
    /// t.sf(2, 2) = 0.09175170953613696 on the near side, and t.sf(158, 2) = 2.0027638e-05 on the far one.
    #[test]
    fn a_risk_far_out_keeps_its_digits_and_few_readings_say_more() {
        let at = |value: f64, freedom: &str| {
            let input = format!(
                r#"{{"value":{value},"standard_uncertainty":0.25,"degrees_of_freedom":{freedom},"lower":-20,"upper":20}}"#
            );
            run("conformity", &input).unwrap()["specific_risk"].as_f64().unwrap()
        };
        assert!((at(17.5, "null") / 7.619_853_024_160_526e-24 - 1.0).abs() < 1e-9);
        assert!((at(19.5, "2") - 0.091_751_709_536_136_96 - 2.002_763_8e-5).abs() < 1e-9);
    }

    /// 3-4-5: a budget whose parts are 0.15 and 0.2.
    #[test]
    fn a_budget_and_its_shares() {
        let found = run(
            "budget",
            r#"{"contributions":[{"source":"resolution","standard_uncertainty":0.2},
                {"source":"certificate","standard_uncertainty":0.15}]}"#,
        )
        .unwrap();
        assert!((found["combined_standard_uncertainty"].as_f64().unwrap() - 0.25).abs() < 1e-12);
        assert!((found["shares"][0].as_f64().unwrap() - 0.64).abs() < 1e-12, "{found}");
        let said =
            run("budget", r#"{"contributions":[{"source":"moon","standard_uncertainty":1}]}"#)
                .unwrap_err();
        assert!(said.contains("“moon” is no source") && said.contains("certificate"), "{said}");
    }

    #[test]
    fn a_band_holds_its_risk() {
        let process = r#""lower":-2,"upper":2,"prior_mean":0,"prior_standard_deviation":1,"standard_uncertainty":0.3"#;
        let band = run("guard-band", &format!("{{{process},\"most_risk\":0.005}}")).unwrap();
        let width = band["guard_band"].as_f64().unwrap();
        let risk = run("global-risk", &format!("{{{process},\"guard_band\":{width}}}")).unwrap();
        assert!((risk["false_accept"].as_f64().unwrap() - 0.005).abs() < 1e-6, "{risk}");
        let said = run("global-risk", r#"{"lower":2,"upper":1,"prior_mean":0,"prior_standard_deviation":1,"standard_uncertainty":0.3}"#).unwrap_err();
        assert!(said.contains("not below the upper"), "{said}");
    }
}
