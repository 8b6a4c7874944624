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
    /// √Sxx, the root of the sum of squared deviations of the abscissae.
    pub root_sum_squares_x: f64,
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
        self.residual_std_dev
            * (1.0 / n + ((x - self.mean_x) / self.root_sum_squares_x).powi(2)).sqrt()
    }
}

/// Fits a straight line by least squares. Centred sums keep the digits when x is a time; both are brought to
/// the size of one before anything is squared, so that no number that can be written overflows on the way.
///
/// # Errors
/// [`StatsError::TooFewPoints`] below three points, [`StatsError::NoSpreadInX`] when all x agree,
/// [`StatsError::TooLarge`] when the line itself is beyond what a number holds.
pub fn fit_line(x: &[f64], y: &[f64]) -> Result<StraightLine, StatsError> {
    let n = x.len().min(y.len());
    if n < 3 {
        return Err(StatsError::TooFewPoints { required: 3, got: n });
    }
    let (x, y) = (&x[..n], &y[..n]);
    let (mean_x, mean_y) = (mean(x)?, mean(y)?);
    let reach = |values: &[f64], mean: f64| {
        values.iter().map(|value| (value - mean).abs()).fold(0.0, f64::max)
    };
    let (size_x, size_y) = (reach(x, mean_x), reach(y, mean_y));
    if size_x == 0.0 {
        return Err(StatsError::NoSpreadInX);
    }
    let unit_y = if size_y > 0.0 { size_y } else { 1.0 };
    let pairs = || x.iter().zip(y).map(|(x, y)| ((x - mean_x) / size_x, (y - mean_y) / unit_y));
    let sxx: f64 = pairs().map(|(x, _)| x * x).sum();
    let sxy: f64 = pairs().map(|(x, y)| x * y).sum();
    let slope = sxy / sxx;
    let residual_squares: f64 = pairs().map(|(x, y)| (y - slope * x).powi(2)).sum();
    let residual = (residual_squares / (n - 2) as f64).sqrt();
    let scale = unit_y / size_x;
    let line = StraightLine {
        intercept: mean_y - slope * scale * mean_x,
        slope: slope * scale,
        slope_standard_error: residual / sxx.sqrt() * scale,
        residual_std_dev: residual * unit_y,
        degrees_of_freedom: n - 2,
        mean_x,
        root_sum_squares_x: sxx.sqrt() * size_x,
    };
    let numbers = [
        line.intercept,
        line.slope,
        line.slope_standard_error,
        line.residual_std_dev,
        line.root_sum_squares_x,
    ];
    if numbers.iter().all(|number| number.is_finite()) {
        Ok(line)
    } else {
        Err(StatsError::TooLarge)
    }
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

    /// At 1e200 the squares are beyond every number; the line is not.
    #[test]
    fn large_and_small_numbers_have_their_line() {
        for size in [1e-200, 1e-9, 1.0, 1e200] {
            let x = [1.0, 2.0, 3.0, 5.0].map(|v| v * size);
            let line = fit_line(&x, &x.map(|v| 3.0 * v)).unwrap();
            assert!((line.slope - 3.0).abs() < 1e-12, "{size}: {line:?}");
            let se = line.standard_error_at(x[3]);
            assert!(se.is_finite() && se <= 1e-12 * size, "{size}: {se}");
        }
        let steep = fit_line(&[1e-300, 2e-300, 3e-300], &[1e200, 2e200, 3e200]);
        assert_eq!(steep, Err(StatsError::TooLarge));
        assert_eq!(fit_line(&[f64::MAX; 3], &[1.0, 2.0, 3.0]).unwrap_err(), StatsError::TooLarge);
    }

    #[test]
    fn too_little_is_refused() {
        assert!(fit_line(&[1.0, 2.0], &[1.0, 2.0]).is_err());
        assert_eq!(fit_line(&[1.0; 3], &[1.0, 2.0, 3.0]), Err(StatsError::NoSpreadInX));
    }
}
