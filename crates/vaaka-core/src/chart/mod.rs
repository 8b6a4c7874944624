//! Control charts: limits, rules, the drift watcher, and the fold that runs along a stream.
//!
//! What is plotted is decided in `RULINGS`: the error of the first valid as-found run of a
//! check, one check mean being one individual. Limits are frozen from a named baseline; no
//! point ever moves them.

pub mod constants;
mod cusum;
mod design;
mod ewma;
mod fold;
mod limits;
mod line;
mod rules;
pub mod run_length;
mod signal;
pub mod simulate;
mod subgroups;
mod sweep;

pub use cusum::{CUSUM_INTERVAL, CUSUM_REFERENCE, CusumArm, CusumDesign, CusumSignal, CusumState};
pub use design::{
    ChartDesign, Components, DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, EarlierRules,
    FromBaseline, IN_CONTROL_RUN_LENGTH, LEVEL_SHARE, Level, LimitBasis, PROVISIONAL_POINTS,
    SpreadDesign,
};
pub use ewma::{EwmaDesign, EwmaState};
pub use fold::{ChartPoint, ChartState, Found, PointEvaluation, Scatter, evaluate};
pub use limits::{
    BaselineNote, BaselineStudy, ControlLimits, LimitError, MINIMUM_BASELINE_POINTS, SigmaSource,
    study_baseline,
};
pub use line::{
    LEVELS, LINE_GAIN, LINE_OFFSET, LineFit, derived_label, fit_levels, fit_levels_left,
};
pub use rules::{Criteria, Criterion, Firing, Levels, RuleSet, RuleWindow, Side};
pub use signal::{OpenSignal, QUIET_POINTS, SignalChange, SignalTracker};
pub use subgroups::{Lines, Spread, SubgroupStudy, study_subgroups};
