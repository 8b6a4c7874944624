//! Looking along time: how fast something drifts and when it will cross a limit.

mod culprit;
mod drift;
mod score;
mod shape;

pub use culprit::{
    Course, CrossRead, Culprit, Finding, Inclusion, NAMED_FROM, Suspect, Telling, culprit,
};
pub use drift::{Crossing, Drift, DriftError, drift_of_shape, estimate_drift};
pub use score::{Followed, ForecastScore, Outcome, ToldForecast, outcome_of};
pub use shape::{
    AFTER_CHANGE, Ahead, DRIFT_AFTER, FanPoint, Ground, Influence, Interval, LevelEstimate,
    Posterior, SHAPE_WINDOW, Shape, ShapeError, ShapeInput, TOLD_FROM, Told, ToldShape, When,
    level_now, shape,
};
