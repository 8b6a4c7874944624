//! What leads on from where an instrument stands, and for whom. No state is without an exit that the page offers to the
//! person who may take it; what follows is walked state by state in the tests.

use crate::instrument::ServiceState;
use crate::judgement::RepeatState;

/// Where an instrument stands, as far as the way on depends on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Situation {
    /// What a person or a verdict has decided: the worse of the instrument's state and its cell's.
    pub service: ServiceState,
    /// What the runs of this shift say.
    pub repeat: RepeatState,
    /// A check of it is open.
    pub open: bool,
    /// A check of it is due now.
    pub due: bool,
    /// It was adjusted and that is not proven yet.
    pub unproven: bool,
    /// The newest check of the cell is good and was made after instrument and cell came into their state.
    pub good_since: bool,
    /// It has a plan in force.
    pub planned: bool,
    /// What vouched for it does no more: its newest check rests on a standard that was found wrong, or something happened
    /// since.
    pub outdated: bool,
}

/// What leads on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Exit {
    /// Go on with the check that is open.
    GoOn,
    /// Prove the adjustment as left.
    Prove,
    /// Make the one repeat.
    Repeat,
    /// Make the check that is due.
    Check,
    /// Order a check out of turn.
    Order,
    /// It was out of use and is back: on hold until its check is good.
    TakeBack,
    /// Put it back in service.
    BackInService,
    /// Adjust it, by the plan's policy.
    Adjust,
    /// Write a plan for it: nothing can prove it without one.
    Plan,
    /// Register it anew: it is gone for good.
    Register,
    /// Tell a lead, who has another exit.
    TellLead,
}

impl Exit {
    /// What to do, in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::GoOn => "go on with the check that is open",
            Self::Prove => "prove the adjustment: its as-left check",
            Self::Repeat => "repeat its check once",
            Self::Check => "make the check that is due",
            Self::Order => "order a check, once what was found is settled",
            Self::TakeBack => "take it back: put it on hold, then check it",
            Self::BackInService => "put it back in service",
            Self::Adjust => "adjust it after its failed check",
            Self::Plan => "write a plan for it",
            Self::Register => "register it anew if it comes back",
            Self::TellLead => "a lead decides what happens next",
        }
    }
}

/// Whether anything has to lead on: it is not freely usable.
#[must_use]
pub fn is_stuck_without_exit(at: &Situation) -> bool {
    at.service != ServiceState::InService
        || at.repeat != RepeatState::None
        || at.unproven
        || at.outdated
}

/// The ways on, the nearest first, for a lead or for a technician; none where it is freely usable and nothing is due.
#[must_use]
pub fn exits(at: &Situation, by_lead: bool) -> Vec<Exit> {
    if at.service == ServiceState::Retired {
        return vec![if by_lead { Exit::Register } else { Exit::TellLead }];
    }
    if at.open {
        return vec![Exit::GoOn];
    }
    // Nothing is due while it is away.
    if at.service == ServiceState::Out {
        return vec![Exit::TakeBack];
    }
    if at.unproven {
        return vec![Exit::Prove];
    }
    let mut found = Vec::new();
    match at.repeat {
        RepeatState::RepeatAllowed => found.push(Exit::Repeat),
        RepeatState::None if at.due => found.push(Exit::Check),
        _ => {}
    }
    if !is_stuck_without_exit(at) {
        return found;
    }
    let failed = matches!(at.repeat, RepeatState::Confirmed | RepeatState::Doubtful);
    match (by_lead, at.planned) {
        (false, _) => {
            if found.is_empty() {
                found.push(Exit::TellLead);
            }
        }
        (true, false) => found.push(Exit::Plan),
        (true, true) => {
            if at.good_since && !at.outdated && !failed && at.service != ServiceState::InService {
                found.push(Exit::BackInService);
            }
            if failed {
                found.push(Exit::Adjust);
            }
            if found.iter().all(|exit| *exit == Exit::Adjust) {
                found.push(Exit::Order);
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use RepeatState::{Confirmed, Doubtful, None as First, RepeatAllowed};

    fn every() -> Vec<Situation> {
        let mut all = Vec::new();
        for service in ServiceState::ALL {
            for repeat in [First, RepeatAllowed, Confirmed, Doubtful] {
                for bits in 0..64_u32 {
                    let bit = |place: u32| bits & (1 << place) != 0;
                    all.push(Situation {
                        service,
                        repeat,
                        open: bit(0),
                        due: bit(1),
                        unproven: bit(2),
                        good_since: bit(3),
                        planned: bit(4),
                        outdated: bit(5),
                    });
                }
            }
        }
        all
    }

    /// Every state × role: somebody can always do something, and what is offered is theirs to do.
    #[test]
    fn no_state_is_without_an_exit() {
        for at in every() {
            let (lead, technician) = (exits(&at, true), exits(&at, false));
            if is_stuck_without_exit(&at) {
                assert!(!lead.is_empty() && !technician.is_empty(), "{at:?}");
                assert!(!lead.contains(&Exit::TellLead), "a lead is told to tell a lead: {at:?}");
            }
            for exit in &technician {
                let theirs = matches!(
                    exit,
                    Exit::GoOn
                        | Exit::Prove
                        | Exit::Repeat
                        | Exit::Check
                        | Exit::TakeBack
                        | Exit::TellLead
                );
                assert!(theirs, "{exit:?} is a lead's: {at:?}");
            }
        }
    }

    /// Taking the exits of a lead, and of a technician where a check is to be made that passes, leads back to use from
    /// everywhere but from "retired".
    #[test]
    fn every_state_leads_back_to_use() {
        for start in every().into_iter().filter(|at| at.service != ServiceState::Retired) {
            let mut at = start;
            let mut steps = 0;
            while is_stuck_without_exit(&at) || at.open {
                steps += 1;
                assert!(steps < 12, "{start:?} goes round in circles: {at:?}");
                let ways = exits(&at, true);
                // The last is what always leads on; adjusting is one way among others.
                let way = ways.iter().rev().find(|way| **way != Exit::Adjust).copied();
                match way.unwrap_or_else(|| panic!("{at:?} of {start:?}")) {
                    Exit::Plan => at.planned = true,
                    Exit::Order => (at.due, at.repeat) = (true, First),
                    Exit::Check | Exit::GoOn => {
                        at.outdated = false;
                        (at.open, at.due, at.good_since) = (false, false, true);
                        // A pass after a failure is a doubt.
                        if at.repeat == RepeatAllowed {
                            (at.repeat, at.good_since) = (Doubtful, false);
                        }
                    }
                    Exit::Repeat => (at.repeat, at.good_since) = (Doubtful, false),
                    Exit::Prove => {
                        at.outdated = false;
                        (at.unproven, at.good_since, at.repeat) = (false, true, First);
                    }
                    Exit::TakeBack => {
                        (at.service, at.good_since) = (ServiceState::OnHold, false);
                    }
                    Exit::BackInService => at.service = ServiceState::InService,
                    Exit::Adjust | Exit::Register | Exit::TellLead => unreachable!(),
                }
            }
        }
    }
}
