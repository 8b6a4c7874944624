//! What a check does to its instrument at once, before anybody has decided anything.

mod exits;
mod ladder;

pub use exits::{Exit, Situation, exits, is_stuck_without_exit};
pub use ladder::{LadderError, Noted, Outcome, check_note, next_rung};

use crate::instrument::ServiceState;
use crate::judgement::{Conformity, RepeatState};
use crate::method::Purpose;

/// How many of the newest checks are looked at for doubtful ones.
pub const DOUBT_WINDOW: i64 = 20;
/// So many doubtful ones among them count as confirmed.
pub const DOUBTS_THAT_CONFIRM: usize = 2;

/// What the reaction rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReactionInput {
    /// What the check was for.
    pub purpose: Purpose,
    /// Whether it conformed.
    pub conforms: Conformity,
    /// Where the one repeat stands.
    pub repeat: RepeatState,
    /// State now, of the cell that was checked where the instrument has several, else of the instrument.
    pub state: ServiceState,
    /// Doubtful ones among the newest [`DOUBT_WINDOW`] checks, this one included.
    pub doubts: usize,
}

/// A change of the instrument's state that follows from a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Reaction {
    /// The new state.
    pub to: ServiceState,
    /// What it may still be used for, where restricted.
    pub restricted_to: Option<&'static str>,
    /// Why, as it is kept.
    pub reason: &'static str,
}

/// Used for nothing: what a restriction says until somebody decides.
pub const NOTHING: &str = "nothing until its failed check is settled";

/// From the first failing run on an instrument is restricted; a confirmed failure, a failed proof
/// and a second doubt put it on hold. Nothing here ever leads back towards use: that is a lead's
/// decision after a good check.
#[must_use]
pub fn react(input: ReactionInput) -> Option<Reaction> {
    let hold = |reason| Reaction { to: ServiceState::OnHold, restricted_to: None, reason };
    let restrict =
        |reason| Reaction { to: ServiceState::Restricted, restricted_to: Some(NOTHING), reason };
    let wanted = match (input.purpose, input.repeat) {
        (Purpose::Trial, _) => return None,
        (Purpose::AsLeft, _) if input.conforms == Conformity::Fail => {
            hold("its adjustment was not proven: as left failed")
        }
        // Only a check from paper, beside the one of its shift, fails without a repeat.
        (Purpose::AsFound, RepeatState::None) if input.conforms == Conformity::Fail => {
            restrict("a check from paper failed; a lead decides what that means now")
        }
        (Purpose::AsLeft, _) | (_, RepeatState::None) => return None,
        (_, RepeatState::RepeatAllowed) => restrict("its check failed; one repeat is allowed"),
        (_, RepeatState::Confirmed) => hold("its check failed, and the repeat failed too"),
        (_, RepeatState::Doubtful) if input.doubts >= DOUBTS_THAT_CONFIRM => {
            hold("its check was doubtful twice in the last 20: that counts as confirmed")
        }
        (_, RepeatState::Doubtful) => {
            restrict("its check failed, then passed: doubtful until a lead decides")
        }
    };
    // Towards safety only.
    (wanted.to.is_worse_than(input.state)
        || (wanted.to, input.state) == (ServiceState::Restricted, ServiceState::Restricted))
        .then_some(wanted)
}

#[cfg(test)]
mod tests {
    use super::*;
    use Conformity::{Fail, Pass};
    use RepeatState::{Confirmed, Doubtful, None as First, RepeatAllowed};
    use ServiceState::{InService, OnHold, Out, Restricted};
    use rstest::rstest;

    #[rstest]
    #[case(Purpose::AsFound, Pass, First, InService, 0, None)]
    #[case(Purpose::AsFound, Fail, First, InService, 0, Some(Restricted))]
    #[case(Purpose::AsFound, Fail, First, OnHold, 0, None)]
    #[case(Purpose::AsFound, Fail, RepeatAllowed, InService, 0, Some(Restricted))]
    #[case(Purpose::AsFound, Fail, RepeatAllowed, Restricted, 0, Some(Restricted))]
    #[case(Purpose::AsFound, Fail, RepeatAllowed, OnHold, 0, None)]
    #[case(Purpose::AsFound, Fail, Confirmed, Restricted, 0, Some(OnHold))]
    #[case(Purpose::AsFound, Pass, Doubtful, InService, 1, Some(Restricted))]
    #[case(Purpose::AsFound, Pass, Doubtful, Restricted, 2, Some(OnHold))]
    #[case(Purpose::AsFound, Pass, Doubtful, OnHold, 2, None)]
    #[case(Purpose::AsFound, Fail, Confirmed, Out, 0, None)]
    #[case(Purpose::AsLeft, Fail, First, InService, 0, Some(OnHold))]
    #[case(Purpose::AsLeft, Pass, First, OnHold, 0, None)]
    #[case(Purpose::Trial, Fail, First, InService, 0, None)]
    fn reactions(
        #[case] purpose: Purpose,
        #[case] conforms: Conformity,
        #[case] repeat: RepeatState,
        #[case] state: ServiceState,
        #[case] doubts: usize,
        #[case] expected: Option<ServiceState>,
    ) {
        let found = react(ReactionInput { purpose, conforms, repeat, state, doubts });
        assert_eq!(found.map(|reaction| reaction.to), expected);
        // A restriction always says to what.
        assert!(found.is_none_or(|r| (r.to == Restricted) == r.restricted_to.is_some()));
    }
}
