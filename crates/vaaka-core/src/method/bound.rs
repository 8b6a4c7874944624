//! A limit that is given, or computed from the instrument's configuration.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::PlanSpec;
use crate::quantity::show_decimal;

/// What a computed limit is computed from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ComputedFrom {
    /// One step of the display.
    Resolution,
    /// The span of the range.
    Span,
    /// The largest nominal value among the points.
    HighestPoint,
    /// A value of the instrument's configuration, by its name ("modules").
    Configuration(String),
}

impl ComputedFrom {
    /// Its value under a plan; none when the instrument has no such configuration value.
    #[must_use]
    pub fn value(&self, plan: &PlanSpec) -> Option<Decimal> {
        match self {
            Self::Resolution => Some(plan.resolution),
            Self::Span => Some(plan.span()),
            Self::HighestPoint => plan.points.iter().map(|point| point.nominal).max(),
            Self::Configuration(name) => plan
                .configuration
                .iter()
                .find(|(known, _)| known.eq_ignore_ascii_case(name))
                .map(|(_, value)| *value),
        }
    }

    /// In words, for the reason of a limit.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Resolution => "step of the display".into(),
            Self::Span => "span of the range".into(),
            Self::HighestPoint => "highest point".into(),
            Self::Configuration(name) => name.clone(),
        }
    }
}

/// A limit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Bound {
    /// As given.
    Fixed(Decimal),
    /// base + per · (value of the configuration).
    Computed {
        /// What stands without any.
        base: Decimal,
        /// What each unit of the value adds.
        per: Decimal,
        /// The value.
        of: ComputedFrom,
    },
}

impl Bound {
    /// Its value under a plan, exact; none when the configuration lacks what it is computed from.
    #[must_use]
    pub fn value(&self, plan: &PlanSpec) -> Option<Decimal> {
        match self {
            Self::Fixed(value) => Some(*value),
            Self::Computed { base, per, of } => Some(*base + *per * of.value(plan)?),
        }
    }

    /// How it is computed, where it is: "0.3 + 0.2 for each module".
    #[must_use]
    pub fn words(&self) -> Option<String> {
        let show = |value: Decimal| show_decimal(value.normalize(), value.normalize().scale());
        match self {
            Self::Fixed(_) => None,
            Self::Computed { base, per, of } => {
                Some(format!("{} + {} × {}", show(*base), show(*per), of.words()))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_given_limit_reads_as_before_and_a_computed_one_beside_it() {
        let fixed: Bound = serde_json::from_str("\"0.25\"").unwrap();
        assert_eq!(fixed, Bound::Fixed("0.25".parse().unwrap()));
        let computed: Bound = serde_json::from_str(
            r#"{"base": "0.3", "per": "0.2", "of": {"configuration": "modules"}}"#,
        )
        .unwrap();
        assert_eq!(computed.words().unwrap(), "0.3 + 0.2 × modules");
        let text = serde_json::to_string(&computed).unwrap();
        assert_eq!(serde_json::from_str::<Bound>(&text).unwrap(), computed);
    }
}
