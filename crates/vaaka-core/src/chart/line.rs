//! The errors of one check as a straight line: two charts, offset and gain, instead of one a level.
//!
//! E(x) = offset + gain·(x − x̄)/(x_max − x_min) by least squares over the levels of the check. The offset is
//! taken in the middle of the levels, where it does not depend on the gain, and the gain is the change of
//! error from the lowest level to the highest, so that both have the unit of the error. A shift that all
//! levels share is seen by a mean of all of them: sooner, and with fewer charts to give false alarms.

use serde::{Deserialize, Serialize};

/// Key of the chart of the offset.
pub const LINE_OFFSET: &str = "line-offset";
/// Key of the chart of the gain.
pub const LINE_GAIN: &str = "line-gain";

/// Key of the chart of all levels together, each in its own sigmas.
pub const LEVELS: &str = "levels";

/// Name of a chart that is made of all levels of a check; none for any other key.
#[must_use]
pub fn derived_label(key: &str) -> Option<&'static str> {
    match key {
        LINE_OFFSET => Some("Offset of all levels"),
        LINE_GAIN => Some("Gain over all levels"),
        LEVELS => Some("All levels together"),
        _ => None,
    }
}

/// Offset and gain of one check.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LineFit {
    /// Error in the middle of the levels.
    pub offset: f64,
    /// Change of error from the lowest level to the highest.
    pub gain: f64,
    /// The middle, x̄.
    pub middle: f64,
    /// From the lowest level to the highest.
    pub span: f64,
}

impl LineFit {
    /// The same line, told about another middle and span: E(x) = offset + gain·(x − x̄)/span stays what it
    /// is. A check of which a level is left out stays comparable with the others.
    #[must_use]
    pub fn about(self, middle: f64, span: f64) -> Self {
        let slope = self.gain / self.span;
        Self {
            offset: self.offset + slope * (middle - self.middle),
            gain: slope * span,
            middle,
            span,
        }
    }
}

/// Fits the pairs that are not left out, and tells offset and gain about the middle and over the span of
/// all of them; none where those that are left do not make a line.
#[must_use]
pub fn fit_levels_left(levels: &[(f64, f64)], left_out: &[bool]) -> Option<LineFit> {
    let all = fit_levels(levels)?;
    let kept: Vec<(f64, f64)> = levels
        .iter()
        .zip(left_out.iter().chain(std::iter::repeat(&false)))
        .filter(|(_, out)| !**out)
        .map(|(pair, _)| *pair)
        .collect();
    if kept.len() == levels.len() {
        return Some(all);
    }
    Some(fit_levels(&kept)?.about(all.middle, all.span))
}

/// Fits (level, error) pairs of one check; none for fewer than two different levels, or where a number is
/// not finite.
#[must_use]
pub fn fit_levels(levels: &[(f64, f64)]) -> Option<LineFit> {
    let n = levels.len() as f64;
    let (mut low, mut high, mut sum) = (f64::INFINITY, f64::NEG_INFINITY, 0.0);
    for (level, error) in levels {
        if !level.is_finite() || !error.is_finite() {
            return None;
        }
        (low, high, sum) = (low.min(*level), high.max(*level), sum + level);
    }
    let span = high - low;
    if levels.len() < 2 || span <= 0.0 {
        return None;
    }
    let middle = sum / n;
    let offset = levels.iter().map(|(_, error)| error).sum::<f64>() / n;
    let (mut products, mut squares) = (0.0, 0.0);
    for (level, error) in levels {
        let x = (level - middle) / span;
        products += x * error;
        squares += x * x;
    }
    Some(LineFit { offset, gain: products / squares, middle, span })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: levels 0, 10, 20 with errors 1, 2, 6 have x = −½, 0, ½, so that the gain is (−½ + 3)/½ = 5
    /// over the span and the offset 3 in the middle.
    #[test]
    fn by_hand() {
        let fit = fit_levels(&[(0.0, 1.0), (10.0, 2.0), (20.0, 6.0)]).unwrap();
        assert_eq!((fit.offset, fit.gain, fit.middle, fit.span), (3.0, 5.0, 10.0, 20.0));
    }

    /// The slope is that of the straight line that the rest of the core fits.
    #[test]
    fn it_agrees_with_the_straight_line() {
        let levels = [(0.5, 0.31), (5.0, 0.28), (10.0, -0.4), (10.0, -0.2), (20.0, 1.4)];
        let fit = fit_levels(&levels).unwrap();
        let (x, y): (Vec<f64>, Vec<f64>) = levels.into_iter().unzip();
        let line = crate::stats::fit_line(&x, &y).unwrap();
        assert!((fit.gain / fit.span - line.slope).abs() < 1e-12);
        assert!((fit.offset - line.at(fit.middle)).abs() < 1e-12);
    }

    /// Points on a straight line: whichever is left out, offset and gain stay the same.
    #[test]
    fn a_level_that_is_left_out_moves_nothing_on_a_straight_line() {
        let levels = [(1.0, 0.3), (2.0, 0.5), (5.0, 1.1), (12.0, 2.5)];
        let all = fit_levels(&levels).unwrap();
        for out in 0..4 {
            let left_out: Vec<bool> = (0..4).map(|place| place == out).collect();
            let kept = fit_levels_left(&levels, &left_out).unwrap();
            assert!((kept.offset - all.offset).abs() < 1e-12, "{out}");
            assert!((kept.gain - all.gain).abs() < 1e-12, "{out}");
            assert_eq!((kept.middle, kept.span), (all.middle, all.span));
        }
        // Of a level that is off the line nothing is left.
        let mut off = levels;
        off[2].1 = 40.0;
        let kept = fit_levels_left(&off, &[false, false, true]).unwrap();
        assert!((kept.offset - all.offset).abs() < 1e-12);
        // One that is left makes no line; none that is left out is the plain fit.
        assert_eq!(fit_levels_left(&levels, &[true, true, true]), None);
        assert_eq!(fit_levels_left(&levels, &[]), Some(all));
    }

    #[test]
    fn one_level_makes_no_line() {
        assert_eq!(fit_levels(&[]), None);
        assert_eq!(fit_levels(&[(5.0, 1.0), (5.0, 2.0)]), None);
        assert_eq!(fit_levels(&[(5.0, 1.0), (6.0, f64::NAN)]), None);
    }
}
