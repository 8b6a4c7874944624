//! A polynomial through weighted points, by polynomials that are orthogonal on them (Forsythe 1957; from memory): no normal equations, so
//! that high degrees keep their digits.

use super::{CalibrationError, StatsError};

/// Highest degree that is fitted: beyond it a curve follows its noise.
pub const MOST_DEGREE: usize = 9;

/// y = Σ cₖ·pₖ(u), u the x brought to −1 to 1.
#[derive(Debug, Clone, PartialEq)]
pub struct Polynomial {
    middle: f64,
    half: f64,
    /// Of each basis: its factor, the sum of its squares, and the two numbers of its recurrence.
    bases: Vec<Basis>,
    /// Residual standard deviation of a point of weight one; none where nothing is left over.
    pub std_dev: Option<f64>,
    /// y less the polynomial, of each point.
    pub residuals: Vec<f64>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Basis {
    factor: f64,
    squares: f64,
    alpha: f64,
    beta: f64,
}

impl Polynomial {
    /// Fits one of a degree; no weights are weights of one.
    ///
    /// # Errors
    /// [`CalibrationError`]; [`CalibrationError::OneValue`] where fewer x differ than the degree needs.
    pub fn fit(
        x: &[f64],
        y: &[f64],
        weights: Option<&[f64]>,
        degree: usize,
    ) -> Result<Self, CalibrationError> {
        let n = x.len();
        let ones = vec![1.0; n];
        let w = weights.unwrap_or(&ones);
        if y.len() != n || w.len() != n {
            return Err(CalibrationError::Lengths { x: n, y: y.len(), w: w.len() });
        }
        if degree > MOST_DEGREE {
            return Err(CalibrationError::Asked("a degree of nine at most"));
        }
        if n <= degree {
            return Err(StatsError::TooFewPoints { required: degree + 1, got: n }.into());
        }
        if let Some(index) = (0..n).find(|at| !(x[*at].is_finite() && y[*at].is_finite())) {
            return Err(StatsError::NotFinite { index }.into());
        }
        if let Some(index) = w.iter().position(|w| !(w.is_finite() && *w > 0.0)) {
            return Err(CalibrationError::Weight { index });
        }
        let mut distinct = x.to_vec();
        distinct.sort_by(f64::total_cmp);
        distinct.dedup();
        if distinct.len() <= degree {
            return Err(CalibrationError::OneValue);
        }
        let (low, high) = (distinct[0], distinct[distinct.len() - 1]);
        let middle = low + (high - low) / 2.0;
        let half = if high > low { (high - low) / 2.0 } else { 1.0 };
        let u: Vec<f64> = x.iter().map(|x| (x - middle) / half).collect();
        let weighted = |of: &dyn Fn(usize) -> f64| (0..n).map(|at| w[at] * of(at)).sum::<f64>();
        let mut left = y.to_vec();
        let (mut before, mut own) = (vec![0.0; n], vec![1.0; n]);
        let mut bases: Vec<Basis> = vec![];
        for _ in 0..=degree {
            let squares = weighted(&|at| own[at] * own[at]);
            let alpha = weighted(&|at| u[at] * own[at] * own[at]) / squares;
            let beta = bases.last().map_or(0.0, |last| squares / last.squares);
            // Of what the bases before have left: their own rounding is taken off with it.
            let factor = weighted(&|at| left[at] * own[at]) / squares;
            left.iter_mut().zip(&own).for_each(|(left, own)| *left -= factor * own);
            bases.push(Basis { factor, squares, alpha, beta });
            let next = (0..n).map(|at| (u[at] - alpha) * own[at] - beta * before[at]).collect();
            before = std::mem::replace(&mut own, next);
        }
        let free = n - degree - 1;
        let squares = weighted(&|at| left[at] * left[at]);
        let finite = squares.is_finite() && bases.iter().all(|one| one.factor.is_finite());
        if !finite {
            return Err(StatsError::TooLarge.into());
        }
        let std_dev = (free > 0).then(|| (squares / free as f64).sqrt());
        Ok(Self { middle, half, bases, std_dev, residuals: left })
    }

    /// Degrees of freedom of what is left.
    #[must_use]
    pub fn freedom(&self) -> usize {
        self.residuals.len() - self.bases.len()
    }

    fn each(&self, x: f64, mut of: impl FnMut(&Basis, f64)) {
        let u = (x - self.middle) / self.half;
        let (mut before, mut own) = (0.0, 1.0);
        for basis in &self.bases {
            of(basis, own);
            (before, own) = (own, (u - basis.alpha) * own - basis.beta * before);
        }
    }

    /// Its value at x.
    #[must_use]
    pub fn at(&self, x: f64) -> f64 {
        let mut sum = 0.0;
        self.each(x, |basis, value| sum += basis.factor * value);
        sum
    }

    /// Standard error of its value at x; none where nothing is left over.
    #[must_use]
    pub fn standard_error_at(&self, x: f64) -> Option<f64> {
        let mut sum = 0.0;
        self.each(x, |basis, value| sum += value * value / basis.squares);
        self.std_dev.map(|s| s * sum.sqrt())
    }

    /// Coefficients of 1, x, x² and so on. For values take [`Self::at`]: far from zero they cancel.
    #[must_use]
    pub fn coefficients(&self) -> Vec<f64> {
        let degree = self.bases.len() - 1;
        // Each basis as coefficients of u, then all of them of x.
        let (mut before, mut own) = (vec![0.0; degree + 1], vec![0.0; degree + 1]);
        own[0] = 1.0;
        let mut of_u = vec![0.0; degree + 1];
        for basis in &self.bases {
            of_u.iter_mut().zip(&own).for_each(|(sum, one)| *sum += basis.factor * one);
            let next = (0..=degree)
                .map(|power| {
                    let raised = if power > 0 { own[power - 1] } else { 0.0 };
                    raised - basis.alpha * own[power] - basis.beta * before[power]
                })
                .collect();
            before = std::mem::replace(&mut own, next);
        }
        // By Horner's rule in (x − m)/h.
        let mut found = vec![0.0; degree + 1];
        for factor in of_u.into_iter().rev() {
            let moved: Vec<f64> = (0..=degree)
                .map(|power| {
                    let raised = if power > 0 { found[power - 1] } else { 0.0 };
                    (raised - self.middle * found[power]) / self.half
                })
                .collect();
            found = moved;
            found[0] += factor;
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn near(found: &[f64], wanted: &[f64], within: f64) {
        assert_eq!(found.len(), wanted.len());
        for (a, b) in found.iter().zip(wanted) {
            assert!((a - b).abs() <= within * b.abs().max(1.0), "{found:?} {wanted:?}");
        }
    }

    /// Wampler 1 and 2 of the NIST StRD: x from 0 to 20, y = 1 + x + … + x⁵ and 1 + x/10 + … + (x/10)⁵ without noise (from memory).
    #[rstest]
    #[case(1.0)]
    #[case(0.1)]
    fn wampler(#[case] base: f64) {
        let x: Vec<f64> = (0..=20).map(f64::from).collect();
        let wanted: Vec<f64> = (0..=5).map(|power| base.powi(power)).collect();
        let y: Vec<f64> =
            x.iter().map(|x| wanted.iter().rev().fold(0.0, |sum, c| sum * x + c)).collect();
        let found = Polynomial::fit(&x, &y, None, 5).unwrap();
        near(&found.coefficients(), &wanted, 1e-9);
        assert!(found.std_dev.unwrap() < 1e-8 && found.freedom() == 15);
        assert!((found.at(20.0) / y[20] - 1.0).abs() < 1e-13);
    }

    /// A parabola through four points with weights, worked out by hand with whole numbers: the weights decide where it passes.
    #[test]
    fn weights_draw_it() {
        let (x, y) = ([-1.0, 0.0, 1.0, 2.0], [1.0, 0.0, 1.0, 5.0]);
        let heavy = Polynomial::fit(&x, &y, Some(&[1e9, 1e9, 1e9, 1e-9]), 2).unwrap();
        near(&heavy.coefficients(), &[0.0, 0.0, 1.0], 1e-6);
        assert!((heavy.residuals[3] - 1.0).abs() < 1e-6);
        // Degree nothing is the weighted mean.
        let mean = Polynomial::fit(&x, &y, Some(&[1.0, 1.0, 1.0, 2.0]), 0).unwrap();
        assert!((mean.at(17.0) - 12.0 / 5.0).abs() < 1e-12);
    }

    /// A straight line is that of the calibration: slope, intercept, residual and its error at x.
    #[test]
    fn degree_one_is_the_line() {
        let x = [1.0, 2.0, 3.0, 5.0, 8.0];
        let y = [0.9, 2.2, 2.8, 5.3, 7.7];
        let w = [1.0, 0.5, 2.0, 1.0, 0.25];
        let line = crate::stats::CalibrationLine::fit(&x, &y, Some(&w), false).unwrap();
        let found = Polynomial::fit(&x, &y, Some(&w), 1).unwrap();
        near(&found.coefficients(), &[line.intercept, line.slope], 1e-12);
        near(&found.residuals, &line.residuals, 1e-12);
        let s = line.std_dev.unwrap();
        assert!((found.std_dev.unwrap() - s).abs() < 1e-12);
        let error = found.standard_error_at(4.0).unwrap();
        assert!((error - s * line.share_at(4.0).sqrt()).abs() < 1e-12);
    }

    #[test]
    fn what_cannot_be_fitted() {
        let x = [1.0, 2.0, 3.0];
        let of = |x: &[f64], degree| Polynomial::fit(x, &[1.0, 2.0, 4.0], None, degree);
        assert!(of(&x, 3).is_err() && of(&x, 10).is_err());
        assert_eq!(of(&[1.0, 1.0, 2.0], 2), Err(CalibrationError::OneValue));
        assert!(of(&[1.0, f64::NAN, 2.0], 1).is_err());
        assert!(of(&x[..2], 1).is_err());
        assert!(Polynomial::fit(&x, &x, Some(&[1.0, 0.0, 1.0]), 1).is_err());
        // As many points as it has numbers leave nothing over.
        let exact = of(&x, 2).unwrap();
        assert_eq!((exact.std_dev, exact.standard_error_at(2.0), exact.freedom()), (None, None, 0));
    }
}
