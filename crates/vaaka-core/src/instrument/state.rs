//! In service, restricted, on hold, out, retired: every change has a reason and a person.

use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::judgement::Conformity;

/// Whether an instrument may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ServiceState {
    /// May be used.
    InService,
    /// May be used for what is stated only.
    Restricted,
    /// Must not be used until a lead has decided.
    OnHold,
    /// Away or laid up; nothing is due.
    Out,
    /// Gone for good.
    Retired,
}

impl ServiceState {
    /// All, in the order in which a form offers them.
    pub const ALL: [Self; 5] =
        [Self::InService, Self::Restricted, Self::OnHold, Self::Out, Self::Retired];

    /// The word in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::InService => "in_service",
            Self::Restricted => "restricted",
            Self::OnHold => "on_hold",
            Self::Out => "out",
            Self::Retired => "retired",
        }
    }

    /// For people.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::InService => "in service",
            Self::Restricted => "restricted",
            Self::OnHold => "on hold",
            Self::Out => "out of use",
            Self::Retired => "retired",
        }
    }
}

impl FromStr for ServiceState {
    type Err = StateError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL.into_iter().find(|state| state.word() == text).ok_or(StateError::NoState)
    }
}

/// The newest valid check of an instrument, as far as a change of state needs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LatestCheck {
    /// Whether it conformed.
    pub conforms: Conformity,
    /// Whether it was made after the instrument came into the state that it is in now.
    pub since_change: bool,
}

/// A change that somebody asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StateChange<'a> {
    /// State now.
    pub from: ServiceState,
    /// State wanted.
    pub to: ServiceState,
    /// Why.
    pub reason: &'a str,
    /// What a restricted instrument may be used for.
    pub restricted_to: &'a str,
    /// Whether a lead asks.
    pub by_lead: bool,
    /// The newest valid check.
    pub latest: Option<LatestCheck>,
}

/// Why a state is not changed. The words say what to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum StateError {
    /// No state chosen, or one that does not exist.
    #[error("Choose the new state.")]
    NoState,
    /// It is in that state already.
    #[error("It is {words} already. Choose another state.", words = .0.words())]
    Same(ServiceState),
    /// No reason.
    #[error("Say in a few words why; it stays on record with your name.")]
    NoReason,
    /// Restricted, but to what?
    #[error("Say what it may still be used for, for example “up to 20 kg only”.")]
    NoRestriction,
    /// Only a lead may do this.
    #[error(
        "Anybody may put an instrument on hold; the rest is for a lead. Put it on hold and tell your lead."
    )]
    LeadOnly,
    /// Back in service without a good check.
    #[error(
        "It goes back in service through a good check only. Run its check; when that is within tolerance, come back here."
    )]
    NoGoodCheck,
    /// Retired without a closing check.
    #[error(
        "Its last period is not proven yet. Run its closing check first, whatever comes of it, then retire it."
    )]
    NoClosingCheck,
    /// A retired instrument stays retired.
    #[error("A retired instrument stays retired. Register it anew if it comes back.")]
    Retired,
}

/// Whether a change may be made. Towards safety everybody may; everything else is for a lead;
/// back in service leads through a good check, and out for good through a closing one.
///
/// # Errors
/// [`StateError`].
pub fn check_change(change: &StateChange<'_>) -> Result<(), StateError> {
    let good = change
        .latest
        .is_some_and(|latest| latest.since_change && latest.conforms == Conformity::Pass);
    let closed = change.latest.is_some_and(|latest| latest.since_change);
    match (change.from, change.to) {
        (ServiceState::Retired, _) => Err(StateError::Retired),
        (from, to) if from == to && to != ServiceState::Restricted => Err(StateError::Same(to)),
        (_, to) if to != ServiceState::OnHold && !change.by_lead => Err(StateError::LeadOnly),
        _ if change.reason.trim().is_empty() => Err(StateError::NoReason),
        (_, ServiceState::Restricted) if change.restricted_to.trim().is_empty() => {
            Err(StateError::NoRestriction)
        }
        (
            ServiceState::OnHold | ServiceState::Out | ServiceState::Restricted,
            ServiceState::InService,
        )
        | (ServiceState::OnHold | ServiceState::Out, ServiceState::Restricted)
            if !good =>
        {
            Err(StateError::NoGoodCheck)
        }
        (_, ServiceState::Retired) if !closed => Err(StateError::NoClosingCheck),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Conformity::{Fail, Pass};
    use ServiceState::{InService, OnHold, Out, Restricted, Retired};
    use rstest::rstest;

    fn latest(conforms: Conformity, since_change: bool) -> Option<LatestCheck> {
        Some(LatestCheck { conforms, since_change })
    }

    #[rstest]
    #[case(InService, OnHold, false, None, Ok(()))]
    #[case(InService, Out, false, None, Err(StateError::LeadOnly))]
    #[case(InService, Restricted, true, None, Ok(()))]
    #[case(OnHold, InService, false, latest(Pass, true), Err(StateError::LeadOnly))]
    #[case(OnHold, InService, true, latest(Pass, true), Ok(()))]
    #[case(OnHold, InService, true, latest(Pass, false), Err(StateError::NoGoodCheck))]
    #[case(OnHold, InService, true, latest(Fail, true), Err(StateError::NoGoodCheck))]
    #[case(OnHold, Restricted, true, None, Err(StateError::NoGoodCheck))]
    #[case(OnHold, Out, true, None, Ok(()))]
    #[case(Out, InService, true, None, Err(StateError::NoGoodCheck))]
    #[case(Restricted, InService, true, None, Err(StateError::NoGoodCheck))]
    #[case(Restricted, InService, true, latest(Pass, true), Ok(()))]
    #[case(Restricted, Restricted, true, None, Ok(()))]
    #[case(InService, InService, true, None, Err(StateError::Same(InService)))]
    #[case(InService, Retired, true, latest(Fail, true), Ok(()))]
    #[case(InService, Retired, true, None, Err(StateError::NoClosingCheck))]
    #[case(OnHold, Retired, true, latest(Pass, false), Err(StateError::NoClosingCheck))]
    #[case(Retired, InService, true, latest(Pass, true), Err(StateError::Retired))]
    fn changes(
        #[case] from: ServiceState,
        #[case] to: ServiceState,
        #[case] by_lead: bool,
        #[case] latest: Option<LatestCheck>,
        #[case] expected: Result<(), StateError>,
    ) {
        let change = StateChange {
            from,
            to,
            reason: "because",
            restricted_to: "up to 20 kg",
            by_lead,
            latest,
        };
        assert_eq!(check_change(&change), expected);
        let silent = StateChange { reason: "  ", ..change.clone() };
        assert!(check_change(&silent).is_err(), "no reason, no change");
    }

    #[test]
    fn a_restriction_says_to_what() {
        let change = StateChange {
            from: InService,
            to: Restricted,
            reason: "corner error",
            restricted_to: "",
            by_lead: true,
            latest: None,
        };
        assert_eq!(check_change(&change), Err(StateError::NoRestriction));
    }

    #[test]
    fn words_read_back() {
        for state in ServiceState::ALL {
            assert_eq!(state.word().parse(), Ok(state));
        }
        assert_eq!("asleep".parse::<ServiceState>(), Err(StateError::NoState));
    }
}
