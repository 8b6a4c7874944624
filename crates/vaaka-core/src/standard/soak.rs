//! Whether a probe has soaked long enough: the slope of its last minutes.

use thiserror::Error;

use crate::quantity::show_short;

/// What the last minutes say.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Soak {
    /// Slope of the last minutes by least squares, in the unit of the readings a minute.
    pub slope_per_minute: f64,
    /// Whether it is at most the limit, to either side.
    pub is_stable: bool,
    /// Readings in the last minutes.
    pub readings: usize,
}

/// Why nothing can be said yet. The words say what to do.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum SoakError {
    /// No number.
    #[error("times and readings are numbers, and window and limit are above zero")]
    NoNumber,
    /// Times that go back.
    #[error("times rise from reading to reading: reading {0} is not later than the one before")]
    Order(usize),
    /// Too short.
    #[error(
        "the readings cover {} min, and the last {} min are to be looked at: wait and read again", show_short(*covered), show_short(*wanted)
    )]
    Short {
        /// Minutes covered.
        covered: f64,
        /// Minutes wanted.
        wanted: f64,
    },
    /// Too few.
    #[error("there are {0} readings in the last minutes: read three times at least")]
    Few(usize),
}

/// Looks at the last `window` minutes of readings (minutes, value), by rising time.
///
/// # Errors
/// [`SoakError`].
pub fn soak(readings: &[(f64, f64)], window: f64, limit: f64) -> Result<Soak, SoakError> {
    let numbers = readings.iter().all(|(minute, value)| minute.is_finite() && value.is_finite());
    let positive = |value: f64| value.is_finite() && value > 0.0;
    if !numbers || !positive(window) || !positive(limit) {
        return Err(SoakError::NoNumber);
    }
    if let Some(place) = readings.windows(2).position(|pair| pair[1].0 <= pair[0].0) {
        return Err(SoakError::Order(place + 2));
    }
    let (Some(first), Some(last)) = (readings.first(), readings.last()) else {
        return Err(SoakError::Few(0));
    };
    let covered = last.0 - first.0;
    if covered < window {
        return Err(SoakError::Short { covered, wanted: window });
    }
    let own: Vec<(f64, f64)> =
        readings.iter().copied().filter(|(minute, _)| *minute >= last.0 - window).collect();
    let n = own.len();
    if n < 3 {
        return Err(SoakError::Few(n));
    }
    let mean = |of: fn(&(f64, f64)) -> f64| own.iter().map(of).sum::<f64>() / n as f64;
    let (x, y) = (mean(|one| one.0), mean(|one| one.1));
    let squares: f64 = own.iter().map(|one| (one.0 - x).powi(2)).sum();
    let products: f64 = own.iter().map(|one| (one.0 - x) * (one.1 - y)).sum();
    let slope_per_minute = products / squares;
    Ok(Soak { slope_per_minute, is_stable: slope_per_minute.abs() <= limit, readings: n })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(minutes: u32, slope: f64) -> Vec<(f64, f64)> {
        (0..=minutes).map(|minute| (f64::from(minute), 75.0 + slope * f64::from(minute))).collect()
    }

    #[test]
    fn the_last_minutes_decide() {
        let still = soak(&line(30, 0.0), 10.0, 0.02).unwrap();
        assert_eq!((still.slope_per_minute, still.is_stable, still.readings), (0.0, true, 11));
        let creeping = soak(&line(30, -0.03), 10.0, 0.02).unwrap();
        assert!(!creeping.is_stable && (creeping.slope_per_minute + 0.03).abs() < 1e-12);
        // On the limit is stable; what was long ago counts no more.
        assert!(soak(&line(30, 0.25), 10.0, 0.25).unwrap().is_stable);
        let mut settled = line(20, 1.0);
        settled.extend((21..=40).map(|minute| (f64::from(minute), 95.0)));
        assert!(soak(&settled, 10.0, 0.02).unwrap().is_stable);
        assert!(!soak(&settled, 35.0, 0.02).unwrap().is_stable);
    }

    #[test]
    fn too_little_is_no_answer() {
        assert_eq!(soak(&[], 10.0, 0.1), Err(SoakError::Few(0)));
        let short = soak(&line(9, 0.0), 10.0, 0.1);
        assert_eq!(short, Err(SoakError::Short { covered: 9.0, wanted: 10.0 }));
        assert_eq!(soak(&[(0.0, 1.0), (30.0, 1.0)], 10.0, 0.1), Err(SoakError::Few(1)));
        assert_eq!(soak(&[(0.0, 1.0), (0.0, 1.0)], 10.0, 0.1), Err(SoakError::Order(2)));
        for bad in [0.0, -1.0, f64::NAN, f64::INFINITY] {
            assert_eq!(soak(&line(30, 0.0), bad, 0.1), Err(SoakError::NoNumber));
            assert_eq!(soak(&line(30, 0.0), 10.0, bad), Err(SoakError::NoNumber));
        }
        assert_eq!(soak(&[(0.0, f64::NAN)], 10.0, 0.1), Err(SoakError::NoNumber));
    }
}
