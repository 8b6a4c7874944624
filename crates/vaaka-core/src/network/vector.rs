//! How far a piece lies from what is known of it, as a vector; a cloud of such vectors; ripple as what is left of an error term.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, FisherSnedecor};

use super::{Complex, NetworkError, fit};

/// What a sweep lies off.
#[derive(Debug, Clone, PartialEq)]
pub struct ErrorVector {
    /// Γ − Γ_ref at each frequency.
    pub vectors: Vec<Complex>,
    /// |ΔΓ| less its limit is greatest here.
    pub worst: usize,
    /// |ΔΓ| there.
    pub largest: f64,
    /// Whether every |ΔΓ| is within its limit; none where there are no limits.
    pub inside: Option<bool>,
}

/// Holds a sweep against a stored one, with a limit of |ΔΓ| at each frequency where there is one.
///
/// # Errors
/// [`NetworkError`].
pub fn error_vector(
    frequencies: &[f64],
    found: &[Complex],
    reference: &[Complex],
    limits: Option<&[f64]>,
) -> Result<ErrorVector, NetworkError> {
    fit(frequencies, &[("The sweep", found), ("The stored one", reference)])?;
    if frequencies.is_empty() {
        return Err(NetworkError::Asked("A sweep has one point at least."));
    }
    if let Some(limits) = limits {
        if limits.len() != frequencies.len() {
            return Err(NetworkError::Lengths { found: limits.len(), wanted: frequencies.len() });
        }
        if limits.iter().any(|limit| !(limit.is_finite() && *limit > 0.0)) {
            return Err(NetworkError::Asked("A limit of a vector is greater than zero."));
        }
    }
    let vectors: Vec<Complex> = found.iter().zip(reference).map(|(a, b)| a - b).collect();
    // By how much of its limit; without limits by its size.
    let share = |at: usize| vectors[at].norm() / limits.map_or(1.0, |limits| limits[at]);
    let worst = (0..vectors.len()).max_by(|a, b| share(*a).total_cmp(&share(*b))).unwrap_or(0);
    Ok(ErrorVector {
        largest: vectors[worst].norm(),
        inside: limits.map(|_| share(worst) <= 1.0),
        worst,
        vectors,
    })
}

/// A cloud of vectors: where it lies, how it spreads, and whether another belongs to it by Hotelling's T².
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Cloud {
    /// How many made it.
    pub count: usize,
    /// Mean, real and imaginary part.
    pub mean: (f64, f64),
    /// Variances of both parts, and their covariance.
    pub variances: (f64, f64, f64),
}

impl Cloud {
    /// Of vectors, four at least that do not lie on a line.
    ///
    /// # Errors
    /// [`NetworkError::TooFew`], [`NetworkError::Asked`] where they lie on a line.
    pub fn of(vectors: &[Complex]) -> Result<Self, NetworkError> {
        if vectors.len() < 4 {
            return Err(NetworkError::TooFew { wanted: 4, found: vectors.len() });
        }
        let n = vectors.len() as f64;
        let mean = vectors.iter().sum::<Complex>() / n;
        let sum = |of: &dyn Fn(Complex) -> f64| {
            vectors.iter().map(|one| of(one - mean)).sum::<f64>() / (n - 1.0)
        };
        let re = sum(&|one| one.re * one.re);
        let im = sum(&|one| one.im * one.im);
        let both = sum(&|one| one.re * one.im);
        let determinant = re * im - both * both;
        if determinant.is_nan() || determinant <= 1e-12 * (re + im) * (re + im) {
            return Err(NetworkError::Asked(
                "The vectors lie on a line, or all in one place: that makes no cloud.",
            ));
        }
        Ok(Self { count: vectors.len(), mean: (mean.re, mean.im), variances: (re, im, both) })
    }

    /// T² of a vector: its distance from the mean in the spread of the cloud, squared.
    #[must_use]
    pub fn distance(&self, of: Complex) -> f64 {
        let (re, im, both) = self.variances;
        let (x, y) = (of.re - self.mean.0, of.im - self.mean.1);
        (im * x * x - 2.0 * both * x * y + re * y * y) / (re * im - both * both)
    }

    /// Limit of T² for one more vector at a false alarm of `alpha`: 2(n + 1)(n − 1)/(n(n − 2))·F(1 − α; 2, n − 2) (Montgomery, Introduction
    /// to Statistical Quality Control, chapter 11, phase II for individual observations; from memory).
    ///
    /// # Errors
    /// [`NetworkError::Asked`] for a share that is none.
    pub fn limit(&self, alpha: f64) -> Result<f64, NetworkError> {
        if !(alpha > 0.0 && alpha < 1.0) {
            return Err(NetworkError::Asked("A share of false alarms lies between 0 and 1."));
        }
        let n = self.count as f64;
        let of = FisherSnedecor::new(2.0, n - 2.0)
            .map_err(|_| NetworkError::TooFew { wanted: 4, found: self.count })?;
        Ok(2.0 * (n + 1.0) * (n - 1.0) / (n * (n - 2.0)) * of.inverse_cdf(1.0 - alpha))
    }

    /// The ellipse on which T² is `distance`: both half-axes, the longer first, and the angle of the longer one in degrees.
    #[must_use]
    pub fn ellipse(&self, distance: f64) -> (f64, f64, f64) {
        let (re, im, both) = self.variances;
        let middle = (re + im) / 2.0;
        let half = ((re - im) / 2.0).hypot(both);
        let axis = |of: f64| (distance * of.max(0.0)).sqrt();
        let angle = 0.5 * (2.0 * both).atan2(re - im);
        (axis(middle + half), axis(middle - half), angle.to_degrees())
    }
}

/// What is left of an error term, by the ripple that it makes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Ripple {
    /// Its half height as a reflection.
    pub residual: f64,
    /// The same in dB below full reflection.
    pub decibels: f64,
    /// How many half waves of it the sweep holds: below two it is not seen whole.
    pub waves: f64,
}

/// Residual directivity or source match by the ripple method: a beadless airline in front of a load makes |Γ| rise and fall by twice the
/// residual directivity; in front of a short, |Γ| about one by twice the residual source match and directivity together (EURAMET cg-12;
/// from memory). The straight slope of |Γ| over the frequency is taken off first; the extremes are the largest and the least of what is left.
///
/// # Errors
/// [`NetworkError::TooFew`] below eight points, [`NetworkError::NotFinite`].
pub fn ripple(frequencies: &[f64], found: &[Complex]) -> Result<Ripple, NetworkError> {
    fit(frequencies, &[("The sweep", found)])?;
    if found.len() < 8 {
        return Err(NetworkError::TooFew { wanted: 8, found: found.len() });
    }
    let n = found.len() as f64;
    let y: Vec<f64> = found.iter().map(|one| one.norm()).collect();
    let (mean_x, mean_y) = (frequencies.iter().sum::<f64>() / n, y.iter().sum::<f64>() / n);
    let xx: f64 = frequencies.iter().map(|x| (x - mean_x).powi(2)).sum();
    let xy: f64 = frequencies.iter().zip(&y).map(|(x, y)| (x - mean_x) * (y - mean_y)).sum();
    let slope = if xx > 0.0 { xy / xx } else { 0.0 };
    let left: Vec<f64> =
        frequencies.iter().zip(&y).map(|(x, y)| y - mean_y - slope * (x - mean_x)).collect();
    let (least, most) =
        left.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(least, most), one| {
            (least.min(*one), most.max(*one))
        });
    let residual = (most - least) / 2.0;
    let crossings = left.windows(2).filter(|pair| (pair[0] < 0.0) != (pair[1] < 0.0)).count();
    Ok(Ripple { residual, decibels: 20.0 * residual.log10(), waves: crossings as f64 })
}
