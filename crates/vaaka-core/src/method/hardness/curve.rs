//! The curve of a sensor: from the code that it gives to the hardness that the tester shows, through blocks of known hardness.

use thiserror::Error;

use crate::quantity::show_short;

/// How the curve runs between its blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CurveBy {
    /// The parabola through three blocks.
    Parabola,
    /// A piecewise cubic that keeps the order of the blocks (Fritsch and Butland 1984, SIAM J. Sci. Stat. Comput. 5, 300), with
    /// one-sided differences of three blocks at its ends.
    Monotone,
}

/// Why there is no curve. The words say what to do.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum CurveError {
    /// Too few blocks.
    #[error(
        "a curve needs {needed} blocks, and there are {got}: a curve through fewer says nothing of what lies between"
    )]
    Few {
        /// So many are needed.
        needed: usize,
        /// So many there are.
        got: usize,
    },
    /// A parabola goes through three.
    #[error(
        "a parabola goes through three blocks, and there are {0}: take the monotone curve, or leave one out to prove it by"
    )]
    ThreeOnly(usize),
    /// No numbers.
    #[error("codes and hardness are numbers")]
    NoNumber,
    /// Two blocks of one code.
    #[error("two blocks have the code {}: read them again, the sensor does not tell them apart", show_short(*.0))]
    SameCode(f64),
    /// Hardness does not follow the codes.
    #[error(
        "hardness rises and falls with the code: a block was mistaken for another, or its code was read wrongly"
    )]
    Order,
    /// The parabola turns within its blocks.
    #[error(
        "the parabola turns at the code {}, between its blocks: one code would stand for two hardnesses", show_short(*.0)
    )]
    Turns(f64),
    /// Outside the blocks nothing is known.
    #[error(
        "the code {} lies outside {} to {}: the curve is not drawn out beyond its blocks", show_short(*code), show_short(*from), show_short(*to)
    )]
    Outside {
        /// The code.
        code: f64,
        /// Lowest code of a block.
        from: f64,
        /// Highest.
        to: f64,
    },
}

/// A curve through blocks.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorCurve {
    by: CurveBy,
    /// Code and hardness, by rising code.
    blocks: Vec<(f64, f64)>,
    /// Slope at each block, hardness a unit of code.
    slopes: Vec<f64>,
}

impl SensorCurve {
    /// A curve through blocks, each with its mean code and its certified hardness in full.
    ///
    /// # Errors
    /// [`CurveError`] where there are too few of them, where two share a code, or where one code would stand for two hardnesses.
    pub fn through(blocks: &[(f64, f64)], by: CurveBy) -> Result<Self, CurveError> {
        let mut blocks = blocks.to_vec();
        if blocks.iter().any(|(code, hardness)| !code.is_finite() || !hardness.is_finite()) {
            return Err(CurveError::NoNumber);
        }
        if blocks.len() < 3 {
            return Err(CurveError::Few { needed: 3, got: blocks.len() });
        }
        if by == CurveBy::Parabola && blocks.len() > 3 {
            return Err(CurveError::ThreeOnly(blocks.len()));
        }
        blocks.sort_by(|a, b| a.0.total_cmp(&b.0));
        if let Some(same) = blocks.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            return Err(CurveError::SameCode(same[0].0));
        }
        let rises = blocks[1].1 > blocks[0].1;
        if blocks.windows(2).any(|pair| pair[0].1 == pair[1].1 || (pair[1].1 > pair[0].1) != rises)
        {
            return Err(CurveError::Order);
        }
        let slopes = match by {
            CurveBy::Parabola => parabola(&blocks)?,
            CurveBy::Monotone => fritsch_butland(&blocks),
        };
        Ok(Self { by, blocks, slopes })
    }

    /// Lowest and highest code of its blocks.
    #[must_use]
    pub fn range(&self) -> (f64, f64) {
        let ends = self.blocks.first().zip(self.blocks.last());
        ends.map_or((0.0, 0.0), |(first, last)| (first.0, last.0))
    }

    /// Hardness at a code.
    ///
    /// # Errors
    /// [`CurveError::Outside`] beyond its blocks.
    pub fn at(&self, code: f64) -> Result<f64, CurveError> {
        let (from, to) = self.range();
        let place = self.blocks.windows(2).position(|pair| code >= pair[0].0 && code <= pair[1].0);
        let place = place.ok_or(CurveError::Outside { code, from, to })?;
        let ((x0, y0), (x1, y1)) = (self.blocks[place], self.blocks[place + 1]);
        let (width, t) = (x1 - x0, (code - x0) / (x1 - x0));
        // Hermite's form; for a parabola the slopes at two of its points determine it just as well.
        let (t2, t3) = (t * t, t * t * t);
        Ok((2.0 * t3 - 3.0 * t2 + 1.0) * y0
            + (t3 - 2.0 * t2 + t) * width * self.slopes[place]
            + (3.0 * t2 - 2.0 * t3) * y1
            + (t3 - t2) * width * self.slopes[place + 1])
    }

    /// How far a block that the curve was not drawn through lies from it: hardness of the curve at its code, less its certified
    /// hardness. The blocks of the curve lie on it by construction and prove nothing.
    ///
    /// # Errors
    /// [`CurveError::Outside`] beyond its blocks.
    pub fn residual(&self, (code, hardness): (f64, f64)) -> Result<f64, CurveError> {
        Ok(self.at(code)? - hardness)
    }

    /// How it runs.
    #[must_use]
    pub fn by(&self) -> CurveBy {
        self.by
    }
}

/// Slopes of the parabola through three points at each of them.
fn parabola(blocks: &[(f64, f64)]) -> Result<Vec<f64>, CurveError> {
    let [(x0, y0), (x1, y1), (x2, y2)] = [blocks[0], blocks[1], blocks[2]];
    let (first, second) = ((y1 - y0) / (x1 - x0), (y2 - y1) / (x2 - x1));
    // Newton's divided differences: y = y0 + first·(x − x0) + bend·(x − x0)(x − x1).
    let bend = (second - first) / (x2 - x0);
    let slope = |x: f64| first + bend * (2.0 * x - x0 - x1);
    let slopes: Vec<f64> = [x0, x1, x2].map(slope).to_vec();
    // Its slope is a straight line: it keeps its sign between the ends when it does at them.
    if slopes[0] * slopes[2] <= 0.0 {
        return Err(CurveError::Turns((x0 + x1 - first / bend) / 2.0));
    }
    Ok(slopes)
}

/// Slopes that keep the order: at an inner block the weighted harmonic mean of its two sides, at an end the one-sided difference of
/// three blocks, held to the side's sign and to three times its steepness.
fn fritsch_butland(blocks: &[(f64, f64)]) -> Vec<f64> {
    let widths: Vec<f64> = blocks.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    let sides: Vec<f64> = blocks
        .windows(2)
        .zip(&widths)
        .map(|(pair, width)| (pair[1].1 - pair[0].1) / width)
        .collect();
    let end = |h0: f64, h1: f64, s0: f64, s1: f64| {
        let slope = ((2.0 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
        if slope * s0 <= 0.0 { 0.0 } else { slope.abs().min(3.0 * s0.abs()).copysign(s0) }
    };
    let last = sides.len() - 1;
    let mut slopes = vec![end(widths[0], widths[1], sides[0], sides[1])];
    for place in 1..=last {
        let (h0, h1, s0, s1) = (widths[place - 1], widths[place], sides[place - 1], sides[place]);
        let (w0, w1) = (2.0 * h1 + h0, h1 + 2.0 * h0);
        slopes.push((w0 + w1) / (w0 / s0 + w1 / s1));
    }
    slopes.push(end(widths[last], widths[last - 1], sides[last], sides[last - 1]));
    slopes
}

#[cfg(test)]
mod tests {
    use super::*;

    const SOFT: (f64, f64) = (412.0, 25.36);
    const MIDDLE: (f64, f64) = (545.0, 45.18);
    const HARD: (f64, f64) = (702.0, 62.41);

    #[test]
    fn it_goes_through_its_blocks_and_no_further() {
        for by in [CurveBy::Parabola, CurveBy::Monotone] {
            let curve = SensorCurve::through(&[HARD, SOFT, MIDDLE], by).unwrap();
            assert_eq!(curve.range(), (412.0, 702.0));
            for block in [SOFT, MIDDLE, HARD] {
                assert!(curve.residual(block).unwrap().abs() < 1e-9);
            }
            for beyond in [411.9, 702.1, f64::NAN, f64::INFINITY] {
                assert!(matches!(curve.at(beyond), Err(CurveError::Outside { .. })), "{beyond}");
            }
        }
    }

    #[test]
    fn it_never_turns_between_its_blocks() {
        // A slope of zero on the way is the end of it.
        let steep = [(0.0, 0.0), (1.0, 10.0), (10.0, 10.5)];
        let turned = SensorCurve::through(&steep, CurveBy::Parabola);
        assert!(
            matches!(turned, Err(CurveError::Turns(at)) if at > 1.0 && at < 10.0),
            "{turned:?}"
        );
        let curve = SensorCurve::through(&steep, CurveBy::Monotone).unwrap();
        let values: Vec<f64> =
            (0..=1000).map(|n| curve.at(f64::from(n) / 100.0).unwrap()).collect();
        assert!(values.is_sorted());
        // Falling codes of harder blocks are as good.
        let falling = [(9.0, 20.0), (5.0, 40.0), (2.0, 60.0)];
        let curve = SensorCurve::through(&falling, CurveBy::Parabola).unwrap();
        assert!((curve.at(5.0).unwrap() - 40.0).abs() < 1e-12);
    }

    #[test]
    fn what_makes_no_curve_is_said() {
        let through = |blocks: &[(f64, f64)], by| SensorCurve::through(blocks, by).unwrap_err();
        assert_eq!(
            through(&[SOFT, HARD], CurveBy::Monotone),
            CurveError::Few { needed: 3, got: 2 }
        );
        let four = [SOFT, MIDDLE, HARD, (800.0, 66.0)];
        assert_eq!(through(&four, CurveBy::Parabola), CurveError::ThreeOnly(4));
        assert_eq!(
            through(&[SOFT, MIDDLE, (545.0, 50.0)], CurveBy::Monotone),
            CurveError::SameCode(545.0)
        );
        let swapped = [(412.0, 45.18), (545.0, 25.36), (702.0, 62.41)];
        assert_eq!(through(&swapped, CurveBy::Monotone), CurveError::Order);
        let alike = [SOFT, (545.0, 25.36), HARD];
        assert_eq!(through(&alike, CurveBy::Monotone), CurveError::Order);
        assert_eq!(
            through(&[SOFT, MIDDLE, (f64::NAN, 60.0)], CurveBy::Monotone),
            CurveError::NoNumber
        );
    }
}
