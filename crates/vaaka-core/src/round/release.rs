//! The release gate: may something be measured on this instrument now?

use rust_decimal::Decimal;
use serde::Serialize;

use crate::instrument::ServiceState;
use crate::judgement::Conformity;

use super::standing::PlanFacts;

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
    /// What it says, as every screen has it.
    pub facts: PlanFacts,
    /// What its cell may be used for, where that is restricted.
    pub cell_only: String,
    /// Why a check is due by the calendar before anything is measured; none when none is.
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
        let mut say = |words: &str| reasons.push(format!("“{}”: {words}.", plan.name));
        match plan.facts.cell {
            ServiceState::InService => {}
            ServiceState::Restricted => {
                say(&format!("its cell is restricted to: {}", plan.cell_only));
            }
            other => say(&format!("its cell is {}", other.words())),
        }
        match &plan.facts.newest {
            None => say("never checked"),
            Some(newest) if newest.doubtful => say("failed, then passed: a lead decides"),
            Some(newest) if newest.conforms == Conformity::Fail && newest.in_band => {
                say("its newest check lies in the guard band and is not accepted");
            }
            Some(newest) if newest.conforms == Conformity::Fail => {
                say("its newest check is not within tolerance");
            }
            Some(_) => {}
        }
        if plan.facts.newest.is_some_and(|newest| newest.wrong_standard) {
            say("its newest check rests on a standard that was found wrong");
        }
        if plan.facts.unproven {
            say("it was adjusted, and that is not proven yet");
        }
        if let Some(due) = plan.facts.occasion.as_ref().or(plan.due.as_ref()) {
            say(&format!("a check is due, {due}"));
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
    use crate::round::standing::{Newest, of_instrument};

    fn facts(conforms: Conformity) -> PlanFacts {
        let newest = Newest {
            conforms,
            in_band: false,
            doubtful: false,
            as_left: false,
            wrong_standard: false,
            at: jiff::Timestamp::UNIX_EPOCH,
        };
        PlanFacts { newest: Some(newest), ..PlanFacts::default() }
    }

    fn fine() -> ReleaseInput {
        ReleaseInput {
            state: ServiceState::InService,
            restricted_to: String::new(),
            plans: vec![PlanStanding {
                name: "each shift".into(),
                facts: facts(Conformity::Pass),
                cell_only: String::new(),
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
        bad.plans[0].facts = facts(Conformity::Fail);
        bad.plans[0].facts.occasion = Some("after a move".into());
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
        never.plans[0].facts = PlanFacts::default();
        assert!(!release(&never).released);
        let mut late = fine();
        late.plans[0].due = Some("in this shift".into());
        assert_eq!(release(&late).reasons, ["“each shift”: a check is due, in this shift."]);
        let restricted = ReleaseInput {
            state: ServiceState::Restricted,
            restricted_to: "rolls".into(),
            ..fine()
        };
        assert!(release(&restricted).reasons[0].contains("rolls"));
        let mut cell = fine();
        cell.plans[0].facts.cell = ServiceState::Restricted;
        cell.plans[0].cell_only = "soft plates".into();
        let said = ["“each shift”: its cell is restricted to: soft plates."];
        assert_eq!(release(&cell).reasons, said);
        cell.plans[0].facts.cell = ServiceState::OnHold;
        assert_eq!(release(&cell).reasons, ["“each shift”: its cell is on hold."]);
    }

    /// The gate opens exactly where every screen says that it may be used, the calendar aside.
    #[test]
    fn the_gate_says_what_the_screens_say() {
        for (state, cell) in ServiceState::ALL
            .into_iter()
            .flat_map(|state| ServiceState::OF_CELLS.map(|cell| (state, cell)))
        {
            for bits in 0..64_u32 {
                let bit = |place: u32| bits & (1 << place) != 0;
                let mut own = facts(if bit(0) { Conformity::Fail } else { Conformity::Pass });
                if let Some(newest) = &mut own.newest {
                    newest.in_band = bit(0) && bit(1);
                    newest.doubtful = !bit(0) && bit(1);
                    newest.wrong_standard = bit(2);
                }
                own.unproven = bit(3);
                own.cell = cell;
                own.occasion = bit(4).then(|| "after a move".to_owned());
                if bit(5) {
                    own.newest = None;
                }
                let plans = [own.clone()];
                let standing = of_instrument(state, &[(&plans, &[])]);
                let mut asked = ReleaseInput { state, ..fine() };
                asked.plans[0].facts = own;
                assert_eq!(release(&asked).released, standing.is_usable(), "{asked:?}");
            }
        }
    }
}
