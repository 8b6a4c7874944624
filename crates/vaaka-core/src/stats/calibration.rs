//! A calibration curve: a weighted straight line with its intervals, what its repeats say against it, unknowns read back from
//! it with their interval, and the least that it can detect.

use statrs::distribution::{ContinuousCDF, FisherSnedecor};
use thiserror::Error;

use super::{StatsError, student_t};

/// Why a curve, or a value of it, cannot be given.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum CalibrationError {
    /// A statistic cannot be formed.
    #[error(transparent)]
    Stats(#[from] StatsError),
    /// A weight that is none.
    #[error("the weight at place {index} is not above zero")]
    Weight {
        /// Where it stands.
        index: usize,
    },
    /// As many x as y, and as many weights.
    #[error("{x} x, {y} y and {w} weights do not go together")]
    Lengths {
        /// Count of x.
        x: usize,
        /// Count of y.
        y: usize,
        /// Count of weights.
        w: usize,
    },
    /// All x agree.
    #[error("all standards are of one value: a curve needs two at least")]
    OneValue,
    /// Two points leave no residual.
    #[error(
        "two points leave nothing over: a line always goes through them and proves nothing; take five standards"
    )]
    NothingLeft,
    /// The slope is not told from nothing.
    #[error(
        "the slope is not told from nothing at this confidence: nothing can be read back from the curve"
    )]
    NoSlope,
    /// Outside the standards.
    #[error(
        "the value read back, {}, lies outside the standards ({} to {}): dilute or concentrate it, a curve is not drawn out beyond them",
        short(.found),
        short(.from),
        short(.to)
    )]
    Outside {
        /// What would be read back.
        found: f64,
        /// Lowest standard.
        from: f64,
        /// Highest standard.
        to: f64,
    },
    /// A confidence that is none, or no readings.
    #[error("{0}")]
    Asked(&'static str),
}

/// A value in a message: by its power of ten where it would have hundreds of digits.
fn short(value: &f64) -> String {
    crate::quantity::show_short(*value)
}

/// A weighted line y = a + b·x. Weights are inverse variances but for one factor, which the residuals tell.
#[derive(Debug, Clone, PartialEq)]
pub struct CalibrationLine {
    /// a.
    pub intercept: f64,
    /// b.
    pub slope: f64,
    /// Σw.
    pub sum_weights: f64,
    /// Weighted mean of x.
    pub mean_x: f64,
    /// Σw·(x − x̄)².
    pub sum_squares_x: f64,
    /// Residual standard deviation of a reading of weight one, with n − 2 degrees of freedom; none of two points.
    pub std_dev: Option<f64>,
    /// n.
    pub points: usize,
    /// Correlation coefficient r. It is near one for every curve that rises, bent or straight, and says nothing of fit.
    pub correlation: f64,
    /// y − a − b·x of each.
    pub residuals: Vec<f64>,
    /// Lowest and highest x.
    pub span: (f64, f64),
    /// Whether it is held to the origin.
    pub through_origin: bool,
}

/// An estimate with its interval.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate {
    /// The value.
    pub value: f64,
    /// Lower end.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

/// Lack of fit against the repeats (Draper and Smith 1998, § 2.1; from memory).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LackOfFit {
    /// F, mean square of the lack of fit over that of the repeats.
    pub f: f64,
    /// Degrees of freedom of both.
    pub freedom: (usize, usize),
    /// P(F or more) where the line is straight.
    pub p: f64,
}

/// What can be detected and quantified, in x.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DetectionLimits {
    /// Critical value: above it something is there (one false alarm in twenty).
    pub critical: f64,
    /// Detection limit: what is missed once in twenty; twice the critical value (ISO 11843-2, its approximation; from
    /// memory).
    pub detection: f64,
    /// Quantification limit: ten standard deviations of a reading over the slope (IUPAC 1995; from memory).
    pub quantification: f64,
}

impl CalibrationLine {
    /// Fits it; no weights are weights of one.
    ///
    /// # Errors
    /// [`CalibrationError`].
    pub fn fit(
        x: &[f64],
        y: &[f64],
        weights: Option<&[f64]>,
        through_origin: bool,
    ) -> Result<Self, CalibrationError> {
        let n = x.len();
        let ones = vec![1.0; n];
        let w = weights.unwrap_or(&ones);
        if y.len() != n || w.len() != n {
            return Err(CalibrationError::Lengths { x: n, y: y.len(), w: w.len() });
        }
        if n < 2 {
            return Err(StatsError::TooFewPoints { required: 2, got: n }.into());
        }
        if let Some(index) = (0..n).find(|index| !(x[*index].is_finite() && y[*index].is_finite()))
        {
            return Err(StatsError::NotFinite { index }.into());
        }
        if let Some(index) = w.iter().position(|w| !(w.is_finite() && *w > 0.0)) {
            return Err(CalibrationError::Weight { index });
        }
        let sum_weights: f64 = w.iter().sum();
        let weighted =
            |of: &dyn Fn(usize) -> f64| (0..n).map(|index| w[index] * of(index)).sum::<f64>();
        let true_mean = weighted(&|index| x[index]) / sum_weights;
        let mean_y = weighted(&|index| y[index]) / sum_weights;
        let (mean_x, level) = if through_origin { (0.0, 0.0) } else { (true_mean, mean_y) };
        let sum_squares_x = weighted(&|index| (x[index] - mean_x).powi(2));
        let spread = weighted(&|index| (x[index] - true_mean).powi(2));
        let largest = x.iter().map(|x| x.abs()).fold(0.0, f64::max);
        let is_one = spread <= sum_weights * (largest * 1e-12).powi(2);
        if is_one && !(through_origin && largest > 0.0) {
            return Err(CalibrationError::OneValue);
        }
        let slope = weighted(&|index| (x[index] - mean_x) * (y[index] - level)) / sum_squares_x;
        let intercept = level - slope * mean_x;
        let residuals: Vec<f64> =
            (0..n).map(|index| y[index] - intercept - slope * x[index]).collect();
        let squares = weighted(&|index| residuals[index].powi(2));
        let free = n - if through_origin { 1 } else { 2 };
        let spread_y = weighted(&|index| (y[index] - mean_y).powi(2));
        let together = weighted(&|index| (x[index] - true_mean) * (y[index] - mean_y));
        let line = Self {
            intercept,
            slope,
            sum_weights,
            mean_x,
            sum_squares_x,
            std_dev: (free > 0).then(|| (squares / free as f64).sqrt()),
            points: n,
            correlation: if spread_y > 0.0 && spread > 0.0 {
                together / (spread * spread_y).sqrt()
            } else {
                0.0
            },
            residuals,
            span: (
                x.iter().copied().fold(f64::INFINITY, f64::min),
                x.iter().copied().fold(f64::NEG_INFINITY, f64::max),
            ),
            through_origin,
        };
        let finite =
            [line.intercept, line.slope, line.sum_squares_x, squares].iter().all(|n| n.is_finite());
        if finite { Ok(line) } else { Err(StatsError::TooLarge.into()) }
    }

    /// Degrees of freedom of what is left.
    #[must_use]
    pub fn freedom(&self) -> usize {
        self.points - if self.through_origin { 1 } else { 2 }
    }

    fn known(&self, confidence: f64) -> Result<(f64, f64), CalibrationError> {
        let s = self.std_dev.ok_or(CalibrationError::NothingLeft)?;
        if !(confidence > 0.0 && confidence < 1.0) {
            return Err(CalibrationError::Asked("a confidence lies between 0 and 1"));
        }
        Ok((s, student_t(confidence, self.freedom() as f64)?))
    }

    /// Share of the variance of a reading of weight one that the line has at x.
    #[must_use]
    pub fn share_at(&self, x: f64) -> f64 {
        let of_level = if self.through_origin { 0.0 } else { 1.0 / self.sum_weights };
        of_level + (x - self.mean_x).powi(2) / self.sum_squares_x
    }

    /// Slope with its interval.
    ///
    /// # Errors
    /// [`CalibrationError`].
    pub fn slope_within(&self, confidence: f64) -> Result<Estimate, CalibrationError> {
        let (s, t) = self.known(confidence)?;
        let half = t * s / self.sum_squares_x.sqrt();
        Ok(Estimate { value: self.slope, low: self.slope - half, high: self.slope + half })
    }

    /// Intercept with its interval; nothing but zero for a line through the origin.
    ///
    /// # Errors
    /// [`CalibrationError`].
    pub fn intercept_within(&self, confidence: f64) -> Result<Estimate, CalibrationError> {
        let (s, t) = self.known(confidence)?;
        let half = if self.through_origin { 0.0 } else { t * s * self.share_at(0.0).sqrt() };
        Ok(Estimate {
            value: self.intercept,
            low: self.intercept - half,
            high: self.intercept + half,
        })
    }

    /// What a mean of `readings` readings of a weight will be at x, with its interval (prediction).
    ///
    /// # Errors
    /// [`CalibrationError`].
    pub fn predicted(
        &self,
        x: f64,
        (readings, weight): (u32, f64),
        confidence: f64,
    ) -> Result<Estimate, CalibrationError> {
        let (s, t) = self.known(confidence)?;
        let own = own_share(readings, weight)?;
        let value = self.intercept + self.slope * x;
        let half = t * s * (own + self.share_at(x)).sqrt();
        Ok(Estimate { value, low: value - half, high: value + half })
    }

    /// The unknown behind a mean of readings, with the interval of all x whose prediction holds it (Fieller 1954; Draper and
    /// Smith 1998, § 3.2; from memory). Never beyond the standards.
    ///
    /// # Errors
    /// [`CalibrationError::NoSlope`] where that is no interval, [`CalibrationError::Outside`].
    pub fn read_back(
        &self,
        mean_y: f64,
        (readings, weight): (u32, f64),
        confidence: f64,
    ) -> Result<Estimate, CalibrationError> {
        let (s, t) = self.known(confidence)?;
        let own = own_share(readings, weight)?;
        if !mean_y.is_finite() {
            return Err(StatsError::NotFinite { index: 0 }.into());
        }
        let value = (mean_y - self.intercept) / self.slope;
        let g = (t * s / self.slope).powi(2) / self.sum_squares_x;
        // A slope of nothing makes it no number at all.
        if g.is_nan() || g >= 1.0 {
            return Err(CalibrationError::NoSlope);
        }
        let (from, to) = self.span;
        if value < from || value > to {
            return Err(CalibrationError::Outside { found: value, from, to });
        }
        let of_level = if self.through_origin { 0.0 } else { 1.0 / self.sum_weights };
        let away = value - self.mean_x;
        let middle = self.mean_x + away / (1.0 - g);
        let inner = (1.0 - g) * (own + of_level) + away * away / self.sum_squares_x;
        let half = t * s / self.slope.abs() / (1.0 - g) * inner.sqrt();
        Ok(Estimate { value, low: middle - half, high: middle + half })
    }

    /// Lack of fit against repeats of one x; none where nothing was repeated or all x but two are repeats.
    #[must_use]
    pub fn lack_of_fit(&self, x: &[f64], y: &[f64], weights: Option<&[f64]>) -> Option<LackOfFit> {
        let n = self.points;
        let ones = vec![1.0; n];
        let w = weights.unwrap_or(&ones);
        if x.len() != n || y.len() != n || w.len() != n {
            return None;
        }
        let mut order: Vec<usize> = (0..n).collect();
        order.sort_by(|a, b| x[*a].total_cmp(&x[*b]));
        let (mut pure, mut levels) = (0.0, 0);
        for group in order.chunk_by(|a, b| x[*a] == x[*b]) {
            let sum: f64 = group.iter().map(|index| w[*index]).sum();
            let mean = group.iter().map(|index| w[*index] * y[*index]).sum::<f64>() / sum;
            pure += group.iter().map(|index| w[*index] * (y[*index] - mean).powi(2)).sum::<f64>();
            levels += 1;
        }
        let parameters = if self.through_origin { 1 } else { 2 };
        if n <= levels || levels <= parameters || pure <= 0.0 {
            return None;
        }
        let all: f64 = self.residuals.iter().zip(w).map(|(r, w)| w * r * r).sum();
        let freedom = (levels - parameters, n - levels);
        let f = (all - pure).max(0.0) / freedom.0 as f64 / (pure / freedom.1 as f64);
        let of = FisherSnedecor::new(freedom.0 as f64, freedom.1 as f64).ok()?;
        Some(LackOfFit { f, freedom, p: of.sf(f) })
    }

    /// Critical value, detection and quantification limit for a mean of readings of the weight that readings near zero have.
    ///
    /// # Errors
    /// [`CalibrationError`].
    pub fn detection_limits(
        &self,
        (readings, weight): (u32, f64),
    ) -> Result<DetectionLimits, CalibrationError> {
        // One side in twenty is both sides in ten.
        let (s, t) = self.known(0.9)?;
        let own = own_share(readings, weight)?;
        if self.slope == 0.0 {
            return Err(CalibrationError::NoSlope);
        }
        let critical = t * s / self.slope.abs() * (own + self.share_at(0.0)).sqrt();
        let quantification = 10.0 * s / weight.sqrt() / self.slope.abs();
        Ok(DetectionLimits { critical, detection: 2.0 * critical, quantification })
    }
}

fn own_share(readings: u32, weight: f64) -> Result<f64, CalibrationError> {
    if readings == 0 {
        return Err(CalibrationError::Asked("one reading at least"));
    }
    if !(weight.is_finite() && weight > 0.0) {
        return Err(CalibrationError::Asked("a weight is above zero"));
    }
    Ok(1.0 / (f64::from(readings) * weight))
}
