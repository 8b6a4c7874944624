//! The release gate: may something be measured on this instrument now?

use rust_decimal::Decimal;
use serde::Serialize;

use crate::instrument::ServiceState;
use crate::judgement::Conformity;

/// What the answer rests on.
#[derive(Debug, Clone, PartialEq)]
pub struct ReleaseInput {
    /// State of the instrument.
    pub state: ServiceState,
    /// What it may be used for, where restricted.
    pub restricted_to: String,
    /// Plans in force, each as it stands.
    pub plans: Vec<PlanStanding>,
    /// Value that is to be measured, with the range in which the instrument works, in one unit.
    pub value: Option<(Decimal, Decimal, Decimal)>,
}

/// How one plan of the instrument stands.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanStanding {
    /// Its name.
    pub name: String,
    /// Verdict of the newest concluded check; none before the first. A doubtful one is a failure.
    pub conforms: Option<Conformity>,
    /// Why a check is due now before anything is measured; none when none is.
    pub due: Option<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Release {
    /// May it be used?
    pub released: bool,
    /// Why not, each a sentence; empty when released.
    pub reasons: Vec<String>,
}

/// Decides. Everything that speaks against is said, not only the first.
#[must_use]
pub fn release(input: &ReleaseInput) -> Release {
    let mut reasons = Vec::new();
    match input.state {
        ServiceState::InService => {}
        ServiceState::Restricted => {
            reasons
                .push(format!("It is restricted to: {}. A person decides.", input.restricted_to));
        }
        other => reasons.push(format!("It is {}.", other.words())),
    }
    if input.plans.is_empty() {
        reasons.push("No plan is in force: nothing vouches for it.".into());
    }
    for plan in &input.plans {
        match plan.conforms {
            Some(Conformity::Pass | Conformity::NotJudged) => {}
            Some(Conformity::Fail) => {
                reasons.push(format!("“{}”: its newest check is not within tolerance.", plan.name));
            }
            None => reasons.push(format!("“{}”: never checked.", plan.name)),
        }
        if let Some(due) = &plan.due {
            reasons.push(format!("“{}”: a check is due, {due}.", plan.name));
        }
    }
    if let Some((value, low, high)) = input.value
        && (value < low || value > high)
    {
        let show = |value: Decimal| value.normalize().to_string();
        reasons.push(format!(
            "{} lies outside {} to {}, for which it is proven.",
            show(value),
            show(low),
            show(high)
        ));
    }
    Release { released: reasons.is_empty(), reasons }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fine() -> ReleaseInput {
        ReleaseInput {
            state: ServiceState::InService,
            restricted_to: String::new(),
            plans: vec![PlanStanding {
                name: "each shift".into(),
                conforms: Some(Conformity::Pass),
                due: None,
            }],
            value: Some((20.into(), 5.into(), 50.into())),
        }
    }

    #[test]
    fn all_is_well() {
        assert_eq!(release(&fine()), Release { released: true, reasons: vec![] });
        // The ends of the range belong to it.
        assert!(
            release(&ReleaseInput { value: Some((50.into(), 5.into(), 50.into())), ..fine() })
                .released
        );
    }

    #[test]
    fn everything_that_speaks_against_is_said() {
        let mut bad = fine();
        bad.state = ServiceState::OnHold;
        bad.plans[0].conforms = Some(Conformity::Fail);
        bad.plans[0].due = Some("after a move".into());
        bad.value = Some((60.into(), 5.into(), 50.into()));
        let found = release(&bad);
        assert!(!found.released);
        assert_eq!(found.reasons.len(), 4, "{found:?}");
        assert!(found.reasons[3].starts_with("60 lies outside 5 to 50"));
    }

    #[test]
    fn unknown_is_not_released() {
        assert!(!release(&ReleaseInput { plans: vec![], ..fine() }).released);
        let mut never = fine();
        never.plans[0].conforms = None;
        assert!(!release(&never).released);
        let restricted = ReleaseInput {
            state: ServiceState::Restricted,
            restricted_to: "rolls".into(),
            ..fine()
        };
        assert!(release(&restricted).reasons[0].contains("rolls"));
    }
}
