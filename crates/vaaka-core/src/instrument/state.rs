//! In service, restricted, on hold, out, retired: every change has a reason and a person.

use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::judgement::Conformity;

/// Whether an instrument may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ServiceState {
    /// May be used.
    #[default]
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
    /// What one cell of an instrument (probe × scale × material) can be by itself; away or gone is the whole instrument.
    pub const OF_CELLS: [Self; 3] = [Self::InService, Self::Restricted, Self::OnHold];

    /// How far it is from free use.
    fn rank(self) -> usize {
        Self::ALL.iter().position(|state| *state == self).unwrap_or_default()
    }

    /// Whether it is further from use than another.
    #[must_use]
    pub fn is_worse_than(self, other: Self) -> bool {
        self.rank() > other.rank()
    }

    /// The one of two that is further from use: what an instrument may be used for on a cell.
    #[must_use]
    pub fn worse(self, other: Self) -> Self {
        if other.is_worse_than(self) { other } else { self }
    }

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

impl LatestCheck {
    /// Whether it vouches for what it was made on, now.
    #[must_use]
    pub fn is_good_since(&self) -> bool {
        self.since_change && self.conforms == Conformity::Pass
    }
}

/// The check that a change of the whole instrument rests on, of the newest one of each cell that has a plan: towards use one good
/// cell is enough, since the others stay on hold; for good it goes only when all are closed.
#[must_use]
pub fn latest_of_cells(to: ServiceState, cells: &[Option<LatestCheck>]) -> Option<LatestCheck> {
    if to == ServiceState::Retired {
        let open = cells.iter().find(|latest| latest.is_none_or(|one| !one.since_change));
        return open.or(cells.first()).copied().flatten();
    }
    let checked = || cells.iter().flatten();
    checked().find(|latest| latest.is_good_since()).or(checked().next()).copied()
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
    /// The newest valid check; of the cell, where one is meant.
    pub latest: Option<LatestCheck>,
    /// Whether one cell of the instrument is meant.
    pub of_cell: bool,
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
    /// Away or gone is a whole instrument, not one of its cells.
    #[error("Only the whole instrument can be {words}. Take the cell out of use, or put it on hold.", words = .0.words())]
    WholeOnly(ServiceState),
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
    let good = change.latest.is_some_and(|latest| latest.is_good_since());
    let closed = change.latest.is_some_and(|latest| latest.since_change);
    match (change.from, change.to) {
        (ServiceState::Retired, _) => Err(StateError::Retired),
        (_, to) if change.of_cell && !ServiceState::OF_CELLS.contains(&to) => {
            Err(StateError::WholeOnly(to))
        }
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
            of_cell: false,
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
            of_cell: false,
        };
        assert_eq!(check_change(&change), Err(StateError::NoRestriction));
    }

    #[test]
    fn a_cell_is_neither_away_nor_gone() {
        let change = |to| StateChange {
            from: InService,
            to,
            reason: "its block is used up",
            restricted_to: "soft plates",
            by_lead: true,
            latest: latest(Pass, true),
            of_cell: true,
        };
        for to in ServiceState::ALL {
            let expected = match to {
                InService => Err(StateError::Same(InService)),
                Restricted | OnHold => Ok(()),
                Out | Retired => Err(StateError::WholeOnly(to)),
            };
            assert_eq!(check_change(&change(to)), expected);
        }
    }

    #[test]
    fn towards_use_one_cell_is_enough_and_for_good_all_are_closed() {
        let (good, old) = (latest(Pass, true), latest(Pass, false));
        let (bad, never) = (latest(Fail, true), None);
        assert_eq!(latest_of_cells(InService, &[old, good, never]), good);
        assert_eq!(latest_of_cells(InService, &[never, bad, old]), bad);
        assert_eq!(latest_of_cells(InService, &[never]), None);
        assert_eq!(latest_of_cells(InService, &[]), None);
        assert_eq!(latest_of_cells(Retired, &[good, bad]), good, "whatever came of it");
        assert_eq!(latest_of_cells(Retired, &[good, old]), old);
        assert_eq!(latest_of_cells(Retired, &[good, never]), None);
        assert_eq!(latest_of_cells(Retired, &[]), None);
        // Of one cell it is that one.
        for one in [good, old, bad, never] {
            for to in ServiceState::ALL {
                assert_eq!(latest_of_cells(to, &[one]), one);
            }
        }
    }

    #[test]
    fn the_worse_of_two_holds() {
        for (place, one) in ServiceState::ALL.into_iter().enumerate() {
            for (other_place, other) in ServiceState::ALL.into_iter().enumerate() {
                let expected = ServiceState::ALL[place.max(other_place)];
                assert_eq!(one.worse(other), expected);
                assert_eq!(one.is_worse_than(other), place > other_place);
            }
        }
    }

    #[test]
    fn words_read_back() {
        for state in ServiceState::ALL {
            assert_eq!(state.word().parse(), Ok(state));
        }
        assert_eq!("asleep".parse::<ServiceState>(), Err(StateError::NoState));
    }
}
