//! Ordinary least squares through (x, y).

use super::{StatsError, mean};

/// A fitted straight line y = a + b·x with what its use needs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StraightLine {
    /// Intercept a.
    pub intercept: f64,
    /// Slope b.
    pub slope: f64,
    /// Standard error of the slope, s/√Sxx.
    pub slope_standard_error: f64,
    /// Residual standard deviation s with n − 2 degrees of freedom.
    pub residual_std_dev: f64,
    /// Degrees of freedom, n − 2.
    pub degrees_of_freedom: usize,
    /// Mean of the abscissae.
    pub mean_x: f64,
    /// Sum of squared deviations of the abscissae, Sxx.
    pub sum_squares_x: f64,
}

impl StraightLine {
    /// The line's value at `x`.
    #[must_use]
    pub fn at(&self, x: f64) -> f64 {
        self.intercept + self.slope * x
    }

    /// Standard error of the mean response at `x`: s·√(1/n + (x − x̄)²/Sxx).
    #[must_use]
    pub fn standard_error_at(&self, x: f64) -> f64 {
        let n = (self.degrees_of_freedom + 2) as f64;
        self.residual_std_dev * (1.0 / n + (x - self.mean_x).powi(2) / self.sum_squares_x).sqrt()
    }
}

/// Fits a straight line by least squares. Centred sums keep the digits when x is a time.
///
/// # Errors
/// [`StatsError::TooFewPoints`] below three points, [`StatsError::NoSpreadInX`] when all x agree.
pub fn fit_line(x: &[f64], y: &[f64]) -> Result<StraightLine, StatsError> {
    let n = x.len().min(y.len());
    if n < 3 {
        return Err(StatsError::TooFewPoints { required: 3, got: n });
    }
    let (mean_x, mean_y) = (mean(&x[..n])?, mean(&y[..n])?);
    let (mut sxx, mut sxy) = (0.0, 0.0);
    for (xi, yi) in x.iter().zip(y) {
        sxx += (xi - mean_x).powi(2);
        sxy += (xi - mean_x) * (yi - mean_y);
    }
    if sxx == 0.0 {
        return Err(StatsError::NoSpreadInX);
    }
    let slope = sxy / sxx;
    let intercept = mean_y - slope * mean_x;
    let residual_squares: f64 =
        x.iter().zip(y).map(|(xi, yi)| (yi - mean_y - slope * (xi - mean_x)).powi(2)).sum();
    let residual_std_dev = (residual_squares / (n - 2) as f64).sqrt();
    Ok(StraightLine {
        intercept,
        slope,
        slope_standard_error: residual_std_dev / sxx.sqrt(),
        residual_std_dev,
        degrees_of_freedom: n - 2,
        mean_x,
        sum_squares_x: sxx,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_exact_line_has_no_residual() {
        let x = [1.0, 2.0, 3.0, 4.0];
        let y = x.map(|v| 2.0 - 0.5 * v);
        let line = fit_line(&x, &y).unwrap();
        assert!((line.slope + 0.5).abs() < 1e-14 && (line.intercept - 2.0).abs() < 1e-14);
        assert!(line.residual_std_dev < 1e-14);
    }

    #[test]
    fn hand_worked_standard_error() {
        // y = 0 0 3 over x = −1 0 1: slope 1.5, mean 1; residuals ½, −1, ½; s² = 1.5, Sxx = 2.
        let line = fit_line(&[-1.0, 0.0, 1.0], &[0.0, 0.0, 3.0]).unwrap();
        assert!((line.slope - 1.5).abs() < 1e-15);
        assert!((line.residual_std_dev.powi(2) - 1.5).abs() < 1e-14);
        assert!((line.slope_standard_error.powi(2) - 0.75).abs() < 1e-14);
        assert!((line.standard_error_at(0.0).powi(2) - 0.5).abs() < 1e-14);
    }

    #[test]
    fn too_little_is_refused() {
        assert!(fit_line(&[1.0, 2.0], &[1.0, 2.0]).is_err());
        assert_eq!(fit_line(&[1.0; 3], &[1.0, 2.0, 3.0]), Err(StatsError::NoSpreadInX));
    }
}
