//! How an instrument stands: one state, worst first, for the round and the list of charts.

use super::Due;
use crate::chart::Side;
use crate::instrument::ServiceState;
use crate::judgement::{Attempt, Conformity, RepeatState, repeat_state};

/// How an instrument stands, worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Standing {
    /// Failed twice in this shift: confirmed.
    OnHold,
    /// Failed, then passed: a lead decides.
    Doubtful,
    /// Outside tolerance at its last check; it is restricted then, too, and this says why.
    OutOfTolerance,
    /// May be used for what a lead has stated only.
    Restricted,
    /// A signal is active, above.
    SignalAbove,
    /// A signal is active, below.
    SignalBelow,
    /// Charted without limits yet.
    NoLimits,
    /// Does what it normally does.
    InControl,
    /// Never checked.
    NeverChecked,
}

impl Standing {
    /// The standing in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::OnHold => "On hold",
            Self::Doubtful => "Doubtful, a lead decides",
            Self::Restricted => "Restricted",
            Self::OutOfTolerance => "Out of tolerance",
            Self::SignalAbove => "Above normal",
            Self::SignalBelow => "Below normal",
            Self::NoLimits => "No limits yet",
            Self::InControl => "In control",
            Self::NeverChecked => "Never checked",
        }
    }

    /// With what a person has decided: the worse of the two holds.
    #[must_use]
    pub fn with_service(self, state: ServiceState) -> Self {
        match state {
            ServiceState::InService => self,
            ServiceState::Restricted => self.min(Self::Restricted),
            ServiceState::OnHold | ServiceState::Out | ServiceState::Retired => Self::OnHold,
        }
    }

    /// As [`Self::words`], but a signal with a proven drift is called by its direction.
    #[must_use]
    pub fn words_with_drift(self, per_week: Option<f64>) -> &'static str {
        match (self, per_week) {
            (Self::SignalAbove | Self::SignalBelow, Some(slope)) if slope > 0.0 => "Drifting up",
            (Self::SignalAbove | Self::SignalBelow, Some(slope)) if slope < 0.0 => "Drifting down",
            _ => self.words(),
        }
    }
}

/// The newest counted point of a chart, as far as the standing needs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LastPoint {
    /// Whether the characteristic conformed.
    pub conforms: Conformity,
    /// Side of the signal that this point raised or confirmed.
    pub signal: Option<Side>,
    /// Whether the chart has limits.
    pub has_limits: bool,
}

/// What a plan wants in this shift, from its valid as-found runs so far.
#[must_use]
pub fn due_of(open: bool, runs: &[Attempt]) -> Due {
    match (open, runs.is_empty(), repeat_state(runs)) {
        (true, _, _) => Due::Open,
        (false, true, _) => Due::Due,
        (false, false, RepeatState::RepeatAllowed) => Due::Repeat,
        (false, false, _) => Due::Nothing,
    }
}

/// The standing from the runs of this shift and the newest points of the charts.
#[must_use]
pub fn standing_of(runs: &[Attempt], points: &[LastPoint]) -> Standing {
    match repeat_state(runs) {
        RepeatState::Confirmed => return Standing::OnHold,
        RepeatState::Doubtful => return Standing::Doubtful,
        RepeatState::RepeatAllowed => return Standing::OutOfTolerance,
        RepeatState::None => {}
    }
    points
        .iter()
        .map(|point| match (point.conforms, point.signal) {
            (Conformity::Fail, _) => Standing::OutOfTolerance,
            (_, Some(Side::Above)) => Standing::SignalAbove,
            (_, Some(Side::Below)) => Standing::SignalBelow,
            _ if !point.has_limits => Standing::NoLimits,
            _ => Standing::InControl,
        })
        .min()
        .unwrap_or(Standing::NeverChecked)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn runs(conforms: &[Conformity]) -> Vec<Attempt> {
        conforms.iter().map(|conforms| Attempt { conforms: *conforms }).collect()
    }

    #[test]
    fn fail_then_pass_is_never_a_pass() {
        let quiet = [LastPoint { conforms: Conformity::Pass, signal: None, has_limits: true }];
        use Conformity::{Fail, Pass};
        assert_eq!(standing_of(&runs(&[Fail, Pass]), &quiet), Standing::Doubtful);
        assert_eq!(standing_of(&runs(&[Fail, Fail]), &quiet), Standing::OnHold);
        assert_eq!(standing_of(&runs(&[Fail]), &quiet), Standing::OutOfTolerance);
        assert_eq!(standing_of(&runs(&[Pass]), &quiet), Standing::InControl);
    }

    #[test]
    fn one_repeat_and_no_more() {
        use Conformity::{Fail, Pass};
        assert_eq!(due_of(false, &[]), Due::Due);
        assert_eq!(due_of(false, &runs(&[Fail])), Due::Repeat);
        assert_eq!(due_of(false, &runs(&[Fail, Fail])), Due::Nothing);
        assert_eq!(due_of(false, &runs(&[Fail, Pass])), Due::Nothing);
        assert_eq!(due_of(false, &runs(&[Pass])), Due::Nothing);
        // After a knock in the same shift the check is made anew, and its failure is a failure.
        assert_eq!(due_of(false, &runs(&[Pass, Fail])), Due::Repeat);
        assert_eq!(due_of(false, &runs(&[Pass, Pass])), Due::Nothing);
        assert_eq!(standing_of(&runs(&[Pass, Fail]), &[]), Standing::OutOfTolerance);
        assert_eq!(standing_of(&runs(&[Pass, Fail, Pass]), &[]), Standing::Doubtful);
        assert_eq!(standing_of(&runs(&[Pass, Fail, Fail]), &[]), Standing::OnHold);
        assert_eq!(due_of(true, &runs(&[Fail])), Due::Open);
    }

    #[test]
    fn the_worst_chart_speaks() {
        let point = |conforms, signal| LastPoint { conforms, signal, has_limits: true };
        let points = [point(Conformity::Pass, None), point(Conformity::Pass, Some(Side::Above))];
        assert_eq!(standing_of(&[], &points), Standing::SignalAbove);
        assert_eq!(standing_of(&[], &[]), Standing::NeverChecked);
    }
}
