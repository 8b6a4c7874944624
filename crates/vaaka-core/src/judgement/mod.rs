//! Judging a check: is it valid, is it within tolerance, is it in control, and what now.
//!
//! The three answers are never merged. Each opens to typed reasons, which render to sentences
//! in one place (`words`).

mod advice;
mod budget;
mod compare;
mod conformity;
mod decision;
mod numbers;
mod risk;
mod verdict;
mod voiding;
mod words;

pub use advice::{AdjustmentAdvice, AdjustmentInput, advise_adjustment};
pub use budget::{
    Budget, Contribution, ContributionSource, Coverage, FEWEST_READINGS, Part, Scatter,
    effective_degrees_of_freedom,
};
pub use compare::{Compared, compare};
pub use conformity::{
    Characteristic, CharacteristicKind, Conformity, ConformityResult, KnownStdDev, Surroundings,
    ToleranceLimits, judge_conformity,
};
pub use decision::{Decision, DecisionRule, GuardBand, GuardBasis, Statement};
pub use numbers::{accepted_words, reason_numbers};
pub use risk::{
    GlobalRisk, Interval, MINIMUM_PRIOR_CHECKS, Prior, Probabilities, global_risk, guard_band_for,
};
pub use verdict::{
    Attempt, ChartOutcome, Control, NextAction, Reason, RepeatState, Validity, Verdict,
    VerdictInput, conclude, repeat_state, unsettled,
};
pub use voiding::{VoidError, may_void};
pub use words::{
    NO_CHART_YET, action_sentence, ahead_words, criterion_words, crossing_words, drift_words,
    factor_words, firing_short, firing_words, reason_sentence, shape_words, shift_words,
    shown_with_limits, sigma_words, span_words,
};
