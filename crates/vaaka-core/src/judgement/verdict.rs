//! The verdict: validity, conformity and control state side by side, and what to do.

use serde::{Deserialize, Serialize};

use super::{
    AdjustmentAdvice, Characteristic, Conformity, ConformityResult, GuardBasis, Scatter, Statement,
    ToleranceLimits,
};
use crate::chart::{Firing, Side, SigmaSource};
use crate::history::{Drift, ToldShape};
use crate::method::Purpose;

/// Whether the check counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Validity {
    /// Everything that the plan asks for was done, with a standard in date.
    Valid,
    /// Void with a reason: kept on record, off the chart. Void is not fail.
    Void {
        /// Why, as given.
        reason: String,
    },
}

/// Whether the instrument does what it normally does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Control {
    /// No frozen baseline yet, so nobody knows what is normal.
    NoBaseline {
        /// Shifts so far.
        got: u64,
        /// Shifts needed.
        required: u64,
    },
    /// Nothing fired.
    InControl,
    /// A signal is active.
    Signal {
        /// On which side, where it has one.
        side: Option<Side>,
    },
    /// Not a point of the chart: as left, a confirming repeat, or void.
    NotCharted,
}

/// How one charted characteristic stands after this check.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChartOutcome {
    /// Key of the characteristic.
    pub key: String,
    /// Control state.
    pub control: Control,
    /// What fired at this point.
    pub firings: Vec<Firing>,
    /// Advisory rules that fired; mentioned, never acted on.
    pub advisory: Vec<Firing>,
    /// A proven drift.
    pub drift: Option<Drift>,
    /// What else the points behind a signal have done, where it can be told.
    pub shape: Option<ToldShape>,
    /// Frozen sigma, when there is one.
    pub sigma: Option<f64>,
    /// Where it came from.
    pub sigma_source: Option<SigmaSource>,
    /// Advice on adjusting.
    pub advice: Option<AdjustmentAdvice>,
    /// Control limits, where they reach beyond the tolerance: lower and upper.
    pub cannot_hold: Option<(f64, f64)>,
}

/// One earlier run of the same check in the same shift.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attempt {
    /// Whether it conformed.
    pub conforms: Conformity,
}

/// Where the one permitted repeat stands (RULINGS, "Checks and repeats").
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RepeatState {
    /// First run passed.
    None,
    /// First run failed: one confirming repeat is allowed.
    RepeatAllowed,
    /// Both failed: confirmed, on hold.
    Confirmed,
    /// Failed, then passed: doubtful, restricted until a lead decides. Never a pass.
    Doubtful,
}

fn failed(attempt: &Attempt) -> bool {
    attempt.conforms == Conformity::Fail
}

/// The runs that belong to the newest check of a shift: from the first that failed on. One that passed is
/// settled; what follows it in the same shift was made for an occasion of its own (a knock, a repair) and
/// is no repeat.
#[must_use]
pub fn unsettled(runs: &[Attempt]) -> &[Attempt] {
    let first = runs.iter().position(failed).unwrap_or(runs.len());
    &runs[first..]
}

/// Where the repeat stands after the valid as-found runs of one shift, in their order.
#[must_use]
pub fn repeat_state(runs: &[Attempt]) -> RepeatState {
    match unsettled(runs) {
        [] => RepeatState::None,
        [_] => RepeatState::RepeatAllowed,
        [_, repeat, ..] if failed(repeat) => RepeatState::Confirmed,
        _ => RepeatState::Doubtful,
    }
}

/// What to do now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NextAction {
    /// Use the instrument, adjust nothing.
    Use,
    /// Use it, adjust nothing, look for the cause: in tolerance, but not what it normally does.
    UseAndFindCause,
    /// Do not use; repeat once.
    RepeatOnce,
    /// Do not use; both runs failed.
    Hold,
    /// Do not use before a lead has decided; failed, then passed.
    AskLead,
    /// Do not use before a lead has decided; a check from paper, beside that of its shift, failed.
    AskLeadLate,
    /// Start the check again; this one is void.
    CheckAgain,
    /// As left is proven; the next as-found check continues the chart.
    ProvenAsLeft,
    /// A trial: note on the ladder what it showed.
    NoteTrial,
}

/// Why the verdict is what it is; each renders to a sentence.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Reason {
    /// The check is void.
    Void {
        /// As given.
        reason: String,
    },
    /// A characteristic is within its limits.
    Within {
        /// Key of the characteristic.
        key: String,
    },
    /// The mean is outside.
    MeanOutside {
        /// Key of the characteristic.
        key: String,
    },
    /// Inside the tolerance and within the guard band: not proven, and not accepted.
    InGuardBand {
        /// Key of the characteristic.
        key: String,
    },
    /// A single reading is within its tolerance and closer to it than its own guard band, though the mean is not.
    SingleInGuardBand {
        /// Key of the characteristic.
        key: String,
    },
    /// Within its limits, and nothing is proven: nobody knows how far readings scatter.
    NotProven {
        /// Key of the characteristic.
        key: String,
        /// What is known.
        scatter: Scatter,
        /// Whether the plan's rule accepts it all the same.
        accepted: bool,
    },
    /// The control limits reach beyond the tolerance: the instrument, doing what it normally does, cannot hold it.
    CannotHold {
        /// Key of the characteristic.
        key: String,
        /// Lower control limit.
        lower_control_limit: f64,
        /// Upper control limit.
        upper_control_limit: f64,
    },
    /// The guard band leaves nothing that could be accepted.
    NothingAccepted {
        /// Key of the characteristic.
        key: String,
    },
    /// The rule asks for a history that is not there yet: a guard band U stood in.
    NoHistoryYet {
        /// Key of the characteristic.
        key: String,
    },
    /// An adjustment proven with the pieces that it was made with.
    NotIndependent {
        /// Tag of the standard.
        standard: String,
    },
    /// A single result is outside, though the mean is not.
    SingleOutside {
        /// Key of the characteristic.
        key: String,
    },
    /// Rounding of the display was not removed.
    Indicative {
        /// Key of the characteristic.
        key: String,
    },
    /// The chart has no limits yet.
    NoBaseline {
        /// Key of the characteristic.
        key: String,
        /// Shifts so far.
        got: u64,
        /// Shifts needed.
        required: u64,
    },
    /// Nothing fired.
    InControl {
        /// Key of the characteristic.
        key: String,
    },
    /// Something fired at this point.
    Fired {
        /// Key of the characteristic.
        key: String,
        /// What.
        firing: Firing,
    },
    /// A signal raised before is still active.
    StillActive {
        /// Key of the characteristic.
        key: String,
        /// On which side.
        side: Option<Side>,
    },
    /// What the points behind a signal have done, where it is no drift that goes on.
    Changed {
        /// Key of the characteristic.
        key: String,
        /// What is told.
        shape: ToldShape,
    },
    /// A drift with its forecast.
    Drifting {
        /// Key of the characteristic.
        key: String,
        /// The drift.
        drift: Drift,
    },
    /// Whether to adjust.
    Advice {
        /// Key of the characteristic.
        key: String,
        /// The advice.
        advice: AdjustmentAdvice,
    },
    /// Which run of the shift this was.
    Repeat {
        /// Where the repeat stands.
        state: RepeatState,
    },
    /// Measured on paper and entered later.
    EnteredLate {
        /// Why.
        reason: String,
    },
    /// It came from paper when its shift had its check already, or its charts newer ones: it is judged at its place, and
    /// changes nothing that people have seen.
    StandsBeside,
    /// A correction brought something from outside to inside its limits.
    CorrectedInside {
        /// Step.
        step: String,
        /// What was typed before.
        was: String,
        /// What stands in its place.
        now: String,
        /// Why.
        reason: String,
        /// The second person who saw it.
        second: String,
    },
    /// A setting was found other than the plan wants it, and set right before anything was measured.
    SetRight {
        /// Step.
        step: String,
        /// What it was found at.
        found: String,
        /// What it showed then.
        now: String,
    },
    /// A certificate was put right afterwards, and the check was evaluated again.
    Amended,
    /// The plan was changed while the check was open; it was judged by the version it began with.
    PlanSuperseded {
        /// Version used.
        used: i32,
        /// Version in force now.
        current: i32,
    },
    /// A reading far from its load was confirmed by hand.
    FarReadingConfirmed {
        /// Key of the step.
        step: String,
    },
}

/// What the verdict is formed from.
#[derive(Debug, Clone, PartialEq)]
pub struct VerdictInput<'a> {
    /// Validity.
    pub validity: Validity,
    /// Characteristics with their judgement.
    pub results: &'a [(Characteristic, ConformityResult)],
    /// Charted characteristics.
    pub charts: &'a [ChartOutcome],
    /// Earlier valid as-found runs of this shift, in order.
    pub earlier: &'a [Attempt],
    /// What the check is for.
    pub purpose: Purpose,
    /// Further reasons from the run itself (a superseded plan, a confirmed far reading).
    pub from_run: Vec<Reason>,
}

/// The verdict of a check.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// Does the check count?
    pub valid: Validity,
    /// Is the instrument within tolerance?
    pub conforms: Conformity,
    /// Is it doing what it normally does?
    pub control: Control,
    /// The drift that crosses first.
    pub forecast: Option<Drift>,
    /// Key of the characteristic that drifts so.
    #[serde(default)]
    pub forecast_of: Option<String>,
    /// What to do now.
    pub action: NextAction,
    /// Where the one repeat stands.
    pub repeat: RepeatState,
    /// Why.
    pub reasons: Vec<Reason>,
}

/// Forms the verdict. The three answers stay apart: a chart signal alone never makes a fail
/// and never leads to an adjustment, and a pass never hides a signal.
#[must_use]
pub fn conclude(input: VerdictInput<'_>) -> Verdict {
    let mut reasons = Vec::new();
    if let Validity::Void { reason } = &input.validity {
        reasons.push(Reason::Void { reason: reason.clone() });
        reasons.extend(input.from_run);
        return Verdict {
            valid: input.validity,
            conforms: Conformity::NotJudged,
            control: Control::NotCharted,
            forecast: None,
            forecast_of: None,
            action: NextAction::CheckAgain,
            repeat: repeat_state(input.earlier),
            reasons,
        };
    }
    let conforms = overall_conformity(input.results);
    let mut runs = input.earlier.to_vec();
    runs.push(Attempt { conforms });
    let beside = input.from_run.contains(&Reason::StandsBeside);
    let repeat = match input.purpose {
        Purpose::AsFound if !beside => repeat_state(&runs),
        _ => RepeatState::None,
    };
    let control = overall_control(input.charts);
    if repeat != RepeatState::None {
        reasons.push(Reason::Repeat { state: repeat });
    }
    for (characteristic, result) in input.results {
        reasons.extend(conformity_reasons(characteristic, result));
    }
    for chart in input.charts {
        reasons.extend(chart_reasons(chart));
    }
    reasons.extend(input.from_run);
    // What needs a decision comes first; the rest keeps the order of the plan.
    reasons.sort_by_key(|reason| !reason.needs_attention());
    let first =
        input.charts.iter().filter_map(|chart| Some((chart.key.clone(), chart.drift?))).min_by_key(
            |(_, drift)| {
                // What is beyond already comes before anything that will be.
                let crossing = drift.crossing.map_or(i64::MAX, |crossing| crossing.at.as_second());
                if drift.beyond.is_some() { i64::MIN } else { crossing }
            },
        );
    let (forecast_of, forecast) = first.unzip();
    let action = match (repeat, &control) {
        _ if input.purpose == Purpose::Trial => NextAction::NoteTrial,
        _ if input.purpose == Purpose::AsLeft && conforms == Conformity::Pass => {
            NextAction::ProvenAsLeft
        }
        _ if input.purpose == Purpose::AsLeft => NextAction::Hold,
        // Nothing is run again for a shift that is over: a lead decides what it means for now.
        _ if beside && conforms == Conformity::Fail => NextAction::AskLeadLate,
        (RepeatState::RepeatAllowed, _) => NextAction::RepeatOnce,
        (RepeatState::Confirmed, _) => NextAction::Hold,
        (RepeatState::Doubtful, _) => NextAction::AskLead,
        (RepeatState::None, Control::Signal { .. }) => NextAction::UseAndFindCause,
        (RepeatState::None, _) => NextAction::Use,
    };
    Verdict {
        valid: input.validity,
        conforms,
        control,
        forecast,
        forecast_of,
        action,
        repeat,
        reasons,
    }
}

fn overall_conformity(results: &[(Characteristic, ConformityResult)]) -> Conformity {
    let has = |wanted| results.iter().any(|(_, result)| result.conformity == wanted);
    if has(Conformity::Fail) {
        Conformity::Fail
    } else if has(Conformity::Pass) {
        Conformity::Pass
    } else {
        Conformity::NotJudged
    }
}

/// The worst state of any chart of the check.
fn overall_control(charts: &[ChartOutcome]) -> Control {
    let rank = |control: &Control| match control {
        Control::Signal { .. } => 3,
        Control::NoBaseline { .. } => 2,
        Control::InControl => 1,
        Control::NotCharted => 0,
    };
    charts
        .iter()
        .map(|chart| &chart.control)
        .max_by_key(|control| rank(control))
        .cloned()
        .unwrap_or(Control::NotCharted)
}

fn conformity_reasons(characteristic: &Characteristic, result: &ConformityResult) -> Vec<Reason> {
    let key = characteristic.key.clone();
    let mut reasons = Vec::new();
    let proven = result.is_proven(characteristic.kind);
    let not_proven = |accepted| Reason::NotProven {
        key: key.clone(),
        scatter: result.budget.scatter(),
        accepted,
    };
    match result.conformity {
        Conformity::Pass if !proven => reasons.push(not_proven(true)),
        Conformity::Pass => reasons.push(Reason::Within { key: key.clone() }),
        Conformity::Fail => {
            let holds = |limits: ToleranceLimits| match characteristic.mean {
                Some(mean) => limits.hold_mean(mean, 1),
                None => limits.hold_mean(characteristic.sum(), characteristic.n()),
            };
            let mean_holds = characteristic.limits.is_some_and(holds);
            let conditional = result.statement == Some(Statement::ConditionalPass);
            reasons.push(if conditional && !proven {
                not_proven(false)
            } else if result.accepts_nothing() {
                Reason::NothingAccepted { key: key.clone() }
            } else if conditional && result.acceptance.is_some_and(holds) {
                Reason::SingleInGuardBand { key: key.clone() }
            } else if conditional {
                Reason::InGuardBand { key: key.clone() }
            } else if mean_holds {
                Reason::SingleOutside { key: key.clone() }
            } else {
                Reason::MeanOutside { key: key.clone() }
            });
        }
        Conformity::NotJudged => {}
    }
    if result.conformity != Conformity::NotJudged
        && result.guard_band.basis == GuardBasis::NoHistory
    {
        reasons.push(Reason::NoHistoryYet { key: key.clone() });
    }
    if characteristic.indicative {
        reasons.push(Reason::Indicative { key });
    }
    reasons
}

fn chart_reasons(chart: &ChartOutcome) -> Vec<Reason> {
    let key = || chart.key.clone();
    let mut reasons = Vec::new();
    match chart.control {
        Control::NoBaseline { got, required } => {
            reasons.push(Reason::NoBaseline { key: key(), got, required });
        }
        Control::InControl => reasons.push(Reason::InControl { key: key() }),
        Control::Signal { side } if chart.firings.is_empty() => {
            reasons.push(Reason::StillActive { key: key(), side });
        }
        Control::Signal { .. } => {
            for firing in &chart.firings {
                reasons.push(Reason::Fired { key: key(), firing: firing.clone() });
            }
        }
        Control::NotCharted => {}
    }
    if let Some((lower_control_limit, upper_control_limit)) = chart.cannot_hold {
        reasons.push(Reason::CannotHold { key: key(), lower_control_limit, upper_control_limit });
    }
    if let Some(drift) = chart.drift {
        reasons.push(Reason::Drifting { key: key(), drift });
    } else if let Some(shape) = chart.shape {
        reasons.push(Reason::Changed { key: key(), shape });
    }
    if let Some(advice) = chart.advice {
        reasons.push(Reason::Advice { key: key(), advice });
    }
    reasons
}

impl Reason {
    /// Reasons that ask somebody to do something stand first.
    #[must_use]
    pub fn needs_attention(&self) -> bool {
        matches!(
            self,
            Self::Void { .. }
                | Self::MeanOutside { .. }
                | Self::SingleOutside { .. }
                | Self::InGuardBand { .. }
                | Self::SingleInGuardBand { .. }
                | Self::NotProven { accepted: false, .. }
                | Self::CannotHold { .. }
                | Self::NothingAccepted { .. }
                | Self::NotIndependent { .. }
                | Self::Fired { .. }
                | Self::StillActive { .. }
                | Self::Drifting { .. }
                | Self::Changed { .. }
                | Self::Repeat { .. }
                | Self::FarReadingConfirmed { .. }
                | Self::CorrectedInside { .. }
                | Self::SetRight { .. }
        )
    }

    /// Key of the characteristic that the reason speaks of, if any.
    #[must_use]
    pub fn characteristic(&self) -> Option<&str> {
        match self {
            Self::Within { key }
            | Self::MeanOutside { key }
            | Self::SingleOutside { key }
            | Self::InGuardBand { key }
            | Self::SingleInGuardBand { key }
            | Self::NotProven { key, .. }
            | Self::CannotHold { key, .. }
            | Self::NothingAccepted { key }
            | Self::NoHistoryYet { key }
            | Self::Indicative { key }
            | Self::NoBaseline { key, .. }
            | Self::InControl { key }
            | Self::Fired { key, .. }
            | Self::StillActive { key, .. }
            | Self::Drifting { key, .. }
            | Self::Changed { key, .. }
            | Self::Advice { key, .. } => Some(key),
            Self::Void { .. }
            | Self::Repeat { .. }
            | Self::EnteredLate { .. }
            | Self::Amended
            | Self::StandsBeside
            | Self::CorrectedInside { .. }
            | Self::SetRight { .. }
            | Self::PlanSuperseded { .. }
            | Self::NotIndependent { .. }
            | Self::FarReadingConfirmed { .. } => None,
        }
    }
}
