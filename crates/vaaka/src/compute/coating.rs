//! Whether a coating is thick enough.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::method::coating::coating_rule;

use super::{Computation, Compute, said};

pub fn all() -> Vec<Computation> {
    vec![Computation::of::<Rule>()]
}

struct Rule;

/// Readings of a coating.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "readings_um": [112, 98, 121, 107, 116, 110], "nominal_um": 100, "maximum_um": 300 }))]
struct RuleAsked {
    /// Single readings in µm.
    readings_um: Vec<f64>,
    /// Nominal dry film thickness in µm.
    nominal_um: f64,
    /// Largest thickness in µm, where there is one.
    #[serde(default)]
    maximum_um: Option<f64>,
    /// What a gauge set on a smooth base shows too much on this rough one, in µm; it is taken off each reading.
    #[serde(default)]
    correction_um: f64,
}

/// What they say.
#[derive(Debug, Serialize, JsonSchema)]
struct RuleFound {
    /// Mean in µm, with the correction taken off.
    mean_um: f64,
    /// Smallest in µm.
    smallest_um: f64,
    /// Largest in µm.
    largest_um: f64,
    /// Readings below 80 % of the nominal thickness.
    below_80_percent: usize,
    /// Readings from 80 % to below the nominal thickness.
    below_nominal: usize,
    /// Readings above the largest thickness allowed.
    above_maximum: usize,
    /// Whether the mean is at least nominal.
    mean_holds: bool,
    /// Whether none is below 80 %.
    singles_hold: bool,
    /// Whether fewer than 20 % are below nominal.
    share_holds: bool,
    /// Whether none is above the maximum.
    maximum_holds: bool,
    /// Whether all of it holds.
    accepted: bool,
}

impl Compute for Rule {
    const NAME: &'static str = "coating-rule";
    const ABOUT: &'static str =
        "whether readings of a coating meet its nominal thickness (ISO 19840)";
    type Input = RuleAsked;
    type Output = RuleFound;

    fn compute(input: RuleAsked) -> Result<RuleFound, String> {
        let RuleAsked { readings_um, nominal_um, maximum_um, correction_um } = input;
        let found =
            coating_rule(&readings_um, nominal_um, maximum_um, correction_um).map_err(said)?;
        Ok(RuleFound {
            mean_um: found.mean,
            smallest_um: found.least,
            largest_um: found.most,
            below_80_percent: found.far_below,
            below_nominal: found.below,
            above_maximum: found.above,
            mean_holds: found.mean_holds,
            singles_hold: found.singles_hold,
            share_holds: found.share_holds,
            maximum_holds: found.maximum_holds,
            accepted: found.holds(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    #[test]
    fn a_mean_alone_is_not_enough() {
        let run = |input: &Value| Computation::of::<Rule>().run(&input.to_string());
        let text = run(&json!({ "readings_um": [150, 150, 150, 70], "nominal_um": 100 })).unwrap();
        let found: Value = serde_json::from_str(&text).unwrap();
        assert_eq!((&found["mean_holds"], &found["singles_hold"]), (&json!(true), &json!(false)));
        assert_eq!((&found["accepted"], &found["below_80_percent"]), (&json!(false), &json!(1)));
        let said = run(&json!({ "readings_um": [150], "nominal_um": 100, "maximum_um": 90 }));
        assert!(said.unwrap_err().contains("below the nominal"));
    }
}
