//! A straight-line drift since its onset, and when it crosses a tolerance limit.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::shape::{Shape, Told, When};
use crate::chart::Side;
use crate::stats::{StatsError, fit_line, student_t};

/// Fewest points since the onset for a slope worth telling.
const FEWEST_POINTS: usize = 8;
/// Forecasts further ahead than this say nothing that anyone could plan by.
const FURTHEST_DAYS: f64 = 366.0;
const SECONDS_PER_DAY: f64 = 86_400.0;

/// A drift: told by the shape of a segment ([`drift_of_shape`]), or as a straight line through given points
/// ([`estimate_drift`]).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Drift {
    /// Estimated onset.
    pub since: Timestamp,
    /// Lower and upper end of the 95 % interval of the onset; none of a line, which begins where it is told to.
    #[serde(default)]
    pub since_interval: Option<(Timestamp, Timestamp)>,
    /// Posterior probability that it is one; none of a line.
    #[serde(default)]
    pub probability: Option<f64>,
    /// Slope in units of the chart per week.
    pub per_week: f64,
    /// Lower end of the 95 % interval of the slope.
    pub per_week_low: f64,
    /// Upper end of it.
    pub per_week_high: f64,
    /// Level of the line at the newest point.
    pub level_now: f64,
    /// Half-width of the 95 % interval of that level.
    pub level_half_width: f64,
    /// When its level reaches the limit it runs towards, within a year.
    pub crossing: Option<Crossing>,
    /// When a single check will be outside that limit for the first time: earlier than the level.
    #[serde(default)]
    pub first_check: Option<Crossing>,
    /// The limit that the line is beyond already: then there is nothing to forecast.
    #[serde(default)]
    pub beyond: Option<f64>,
}

/// When a drift will reach its limit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Crossing {
    /// The tolerance limit, in the unit of the chart.
    pub limit: f64,
    /// Central estimate.
    pub at: Timestamp,
    /// With the steeper end of the interval.
    pub earliest: Timestamp,
    /// With the flatter end; absent when that end never crosses within a year.
    pub latest: Option<Timestamp>,
}

/// Why no line is a drift.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum DriftError {
    /// The slope is not told apart from zero, so there is no direction to forecast.
    #[error("the slope is not told apart from zero")]
    NoDirection,
    /// The statistic could not be formed.
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// Fits a straight line through `points` (time, value), which begin at the onset, and finds where it
/// meets `lower` or `upper`: what a straight line says, beside which the shapes are measured (`docs/DETECTION.md`).
///
/// Interval: slope ± t₀.₉₇₅,ₙ₋₂·s_b; the crossing's ends take the line's value at the newest
/// point ± its own interval together with the steep and the flat slope, which is wider than an
/// exact inverse prediction and never narrower.
///
/// # Errors
/// [`DriftError::Stats`] below eight points; [`DriftError::NoDirection`] when the interval of the slope
/// holds zero.
pub fn estimate_drift(
    points: &[(Timestamp, f64)],
    lower: Option<f64>,
    upper: Option<f64>,
) -> Result<Drift, DriftError> {
    let (Some((since, _)), Some((newest, _))) = (points.first(), points.last()) else {
        return Err(StatsError::TooFewPoints { required: FEWEST_POINTS, got: 0 }.into());
    };
    if points.len() < FEWEST_POINTS {
        return Err(StatsError::TooFewPoints { required: FEWEST_POINTS, got: points.len() }.into());
    }
    let days: Vec<f64> = points
        .iter()
        .map(|(at, _)| at.duration_since(*newest).as_secs_f64() / SECONDS_PER_DAY)
        .collect();
    let values: Vec<f64> = points.iter().map(|(_, value)| *value).collect();
    let line = fit_line(&days, &values)?;
    let t = student_t(0.95, line.degrees_of_freedom as f64)?;
    let half = t * line.slope_standard_error;
    let (low, high) = (line.slope - half, line.slope + half);
    if low <= 0.0 && high >= 0.0 {
        return Err(DriftError::NoDirection);
    }
    let level_now = line.at(0.0);
    let level_half_width = t * line.standard_error_at(0.0);
    let limit = if line.slope > 0.0 { upper } else { lower };
    let beyond = limit.filter(|limit| line.slope.signum() * (level_now - limit) >= 0.0);
    let crossing = limit.filter(|_| beyond.is_none()).and_then(|limit| {
        let (steep, flat) = if line.slope > 0.0 { (high, low) } else { (low, high) };
        let toward = line.slope.signum() * level_half_width;
        let at = meet(*newest, limit, level_now, line.slope)?;
        Some(Crossing {
            limit,
            at,
            earliest: meet(*newest, limit, level_now + toward, steep)?,
            latest: meet(*newest, limit, level_now - toward, flat),
        })
    });
    Ok(Drift {
        since: *since,
        since_interval: None,
        probability: None,
        first_check: None,
        per_week: 7.0 * line.slope,
        per_week_low: 7.0 * low,
        per_week_high: 7.0 * high,
        level_now,
        level_half_width,
        crossing,
        beyond,
    })
}

/// The drift behind a signal, where the shape of its segment tells one. It is none against the side of its signal: the
/// level is where the signal says, whatever the newest points do. A date is told only with an end that lies within a year.
#[must_use]
pub fn drift_of_shape(side: Side, shape: &Shape) -> Option<Drift> {
    let (onset, slope) = (shape.onset?, shape.per_week?);
    let agrees = match side {
        Side::Above => slope.low > 0.0,
        Side::Below => slope.high < 0.0,
    };
    if shape.told != Told::Drift || !agrees {
        return None;
    }
    let told = |limit: f64, when: Option<When>| {
        let When { earliest, median, latest } = when?;
        Some(Crossing { limit, at: median?, earliest, latest })
    };
    Some(Drift {
        since: onset.median,
        since_interval: Some((onset.low, onset.high)),
        probability: Some(shape.posterior.drift),
        per_week: slope.median,
        per_week_low: slope.low,
        per_week_high: slope.high,
        level_now: shape.level.median,
        level_half_width: 0.5 * (shape.level.high - shape.level.low),
        crossing: shape.ahead.and_then(|ahead| told(ahead.limit, ahead.level)),
        first_check: shape.ahead.and_then(|ahead| told(ahead.limit, ahead.first_check)),
        beyond: shape.ahead.filter(|ahead| ahead.beyond).map(|ahead| ahead.limit),
    })
}

/// When a line at `level` now with `slope` a day meets `limit`: now when it is already beyond.
fn meet(now: Timestamp, limit: f64, level: f64, slope: f64) -> Option<Timestamp> {
    let days = ((limit - level) / slope).max(0.0);
    if !days.is_finite() || days > FURTHEST_DAYS {
        return None;
    }
    now.checked_add(SignedDuration::try_from_secs_f64(days * SECONDS_PER_DAY).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::super::shape::{Ahead, Interval, Posterior};
    use super::*;

    fn at(day: i64) -> Timestamp {
        Timestamp::from_second(1_760_000_000 + day * 86_400).unwrap()
    }

    #[test]
    fn a_clean_line_crosses_where_arithmetic_says() {
        // 0.5 a day, at 10 on day 20; limit 20 is met 20 days later.
        let points: Vec<_> = (0..=20)
            .map(|day| (at(day), 0.5 * day as f64 + if day % 2 == 0 { 0.01 } else { -0.01 }))
            .collect();
        let drift = estimate_drift(&points, Some(-20.0), Some(20.0)).unwrap();
        assert!((drift.per_week - 3.5).abs() < 0.01);
        let crossing = drift.crossing.unwrap();
        let days = crossing.at.duration_since(at(20)).as_secs_f64() / 86_400.0;
        assert!((days - 20.0).abs() < 0.1, "{days}");
        assert!(crossing.earliest <= crossing.at && crossing.at <= crossing.latest.unwrap());
    }

    #[test]
    fn falling_lines_look_at_the_lower_limit() {
        let points: Vec<_> =
            (0..12).map(|day| (at(day), -(day as f64) + (day % 3) as f64 * 0.1)).collect();
        let drift = estimate_drift(&points, Some(-20.0), Some(20.0)).unwrap();
        assert!(drift.crossing.unwrap().limit < 0.0);
    }

    #[test]
    fn noise_has_no_direction_and_few_points_no_slope() {
        let flat: Vec<_> =
            (0..30).map(|day| (at(day), [1.0, -1.0, 0.5, -0.5][day as usize % 4])).collect();
        assert_eq!(estimate_drift(&flat, None, Some(5.0)), Err(DriftError::NoDirection));
        assert!(matches!(
            estimate_drift(&flat[..7], None, None),
            Err(DriftError::Stats(StatsError::TooFewPoints { required: 8, got: 7 }))
        ));
    }

    /// A drift is none against the side of its signal, whatever else its shape says; a shape that tells none has none; an
    /// end beyond a year gives no date.
    #[test]
    fn what_may_be_told_of_a_signal() {
        let when = When { earliest: at(30), median: Some(at(40)), latest: None };
        fn interval<T>(low: T, median: T, high: T) -> Interval<T> {
            Interval { low, median, high }
        }
        let ahead = Ahead { limit: 20.0, beyond: false, level: Some(when), first_check: None };
        let rising = Shape {
            told: Told::Drift,
            posterior: Posterior { flat: 0.0, step: 0.05, drift: 0.9, stopped: 0.05, knock: 0.0 },
            onset: Some(interval(at(1), at(3), at(5))),
            checks_since: Some(20),
            stopped_at: None,
            size: None,
            per_week: Some(interval(1.0, 2.0, 3.0)),
            level: interval(8.0, 9.0, 11.0),
            ahead: Some(ahead),
            fan: vec![],
            autocorrelation: 0.1,
            std_dev: 1.0,
            points: 60,
        };
        let drift = drift_of_shape(Side::Above, &rising).unwrap();
        assert_eq!(drift.since_interval, Some((at(1), at(5))));
        assert_eq!(drift.crossing.unwrap().at, at(40));
        assert_eq!((drift.level_half_width, drift.first_check, drift.beyond), (1.5, None, None));
        assert_eq!(drift_of_shape(Side::Below, &rising), None);
        let step = Shape { told: Told::Step, ..rising.clone() };
        assert_eq!(drift_of_shape(Side::Above, &step), None);
        let far = When { median: None, ..when };
        let far = Shape { ahead: Some(Ahead { level: Some(far), ..ahead }), ..rising.clone() };
        assert_eq!(drift_of_shape(Side::Above, &far).unwrap().crossing, None);
        let beyond = Ahead { beyond: true, level: None, ..ahead };
        let beyond = Shape { ahead: Some(beyond), ..rising };
        assert_eq!(drift_of_shape(Side::Above, &beyond).unwrap().beyond, Some(20.0));
    }

    #[test]
    fn a_crossing_more_than_a_year_ahead_is_not_told() {
        let points: Vec<_> = (0..40).map(|day| (at(day), 0.001 * day as f64)).collect();
        assert_eq!(estimate_drift(&points, None, Some(20.0)).unwrap().crossing, None);
    }
}
