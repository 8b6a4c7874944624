//! A straight-line drift since its onset, and when it crosses a tolerance limit.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::chart::Side;
use crate::stats::{StatsError, fit_line, student_t};

/// Fewest points since the onset for a slope worth telling.
const FEWEST_POINTS: usize = 8;
/// Checks after the onset before a date is told.
pub const FEWEST_AFTER_ONSET: usize = 8;
/// Forecasts further ahead than this say nothing that anyone could plan by.
const FURTHEST_DAYS: f64 = 366.0;
const SECONDS_PER_DAY: f64 = 86_400.0;

/// A drift, as a straight line through the points since its onset.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Drift {
    /// Estimated onset.
    pub since: Timestamp,
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
    /// When the line reaches the limit it runs towards, within a year.
    pub crossing: Option<Crossing>,
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

/// Why no drift can be told.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum DriftError {
    /// The slope is not told apart from zero, so there is no direction to forecast.
    #[error("the slope is not told apart from zero")]
    NoDirection,
    /// The slope leads back from where the signal is.
    #[error("the slope leads against the side of its signal")]
    AgainstSignal,
    /// The statistic could not be formed.
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// Fits a line through `points` (time, value), which begin at the onset, and finds where it
/// meets `lower` or `upper`.
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
        per_week: 7.0 * line.slope,
        per_week_low: 7.0 * low,
        per_week_high: 7.0 * high,
        level_now,
        level_half_width,
        crossing,
        beyond,
    })
}

/// The drift behind a signal, as far as it may be told. It is none against the side of its signal: the level is where
/// the signal says, whatever the newest points do. A date is told only with [`FEWEST_AFTER_ONSET`] checks after the onset
/// and an interval whose ends are in order; until then the slope stands alone.
///
/// # Errors
/// As [`estimate_drift`]; [`DriftError::AgainstSignal`].
pub fn drift_of_signal(
    side: Side,
    points: &[(Timestamp, f64)],
    lower: Option<f64>,
    upper: Option<f64>,
) -> Result<Drift, DriftError> {
    let mut drift = estimate_drift(points, lower, upper)?;
    let agrees = match side {
        Side::Above => drift.per_week > 0.0,
        Side::Below => drift.per_week < 0.0,
    };
    if !agrees {
        return Err(DriftError::AgainstSignal);
    }
    let in_order = |crossing: &Crossing| {
        crossing.earliest <= crossing.at
            && crossing.latest.is_none_or(|latest| latest >= crossing.at)
    };
    drift.crossing = drift.crossing.filter(in_order).filter(|_| points.len() > FEWEST_AFTER_ONSET);
    Ok(drift)
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

    /// A signal above whose newest points fall again: nothing is forecast; eight points have a slope and no date, nine
    /// have one; what is beyond already crosses nothing.
    #[test]
    fn what_may_be_told_of_a_signal() {
        let rising = |n: i64, from: f64| -> Vec<(Timestamp, f64)> {
            (0..n).map(|day| (at(day), from + 0.5 * day as f64 + 0.01 * (day % 2) as f64)).collect()
        };
        let of = |side, points: &[(Timestamp, f64)]| {
            drift_of_signal(side, points, Some(-20.0), Some(20.0))
        };
        assert_eq!(of(Side::Below, &rising(20, 0.0)), Err(DriftError::AgainstSignal));
        let falling: Vec<_> =
            rising(20, 0.0).iter().map(|(at, value)| (*at, 15.0 - value)).collect();
        assert_eq!(of(Side::Above, &falling), Err(DriftError::AgainstSignal));
        assert!(of(Side::Below, &falling).is_ok());
        let eight = of(Side::Above, &rising(8, 0.0)).unwrap();
        assert!(eight.crossing.is_none() && eight.per_week > 3.0);
        let nine = of(Side::Above, &rising(9, 0.0)).unwrap();
        let crossing = nine.crossing.unwrap();
        assert!(
            crossing.earliest <= crossing.at && crossing.latest.is_none_or(|l| l >= crossing.at)
        );
        let outside = of(Side::Above, &rising(20, 30.0)).unwrap();
        assert_eq!((outside.crossing, outside.beyond), (None, Some(20.0)));
    }

    #[test]
    fn a_crossing_more_than_a_year_ahead_is_not_told() {
        let points: Vec<_> = (0..40).map(|day| (at(day), 0.001 * day as f64)).collect();
        assert_eq!(estimate_drift(&points, None, Some(20.0)).unwrap().crossing, None);
    }
}
