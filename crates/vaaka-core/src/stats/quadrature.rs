//! Numerical integration.

/// Nodes and weights of Gauss and Legendre on an interval, the roots by Newton's method.
pub(crate) fn gauss_legendre(n: usize, low: f64, high: f64) -> Vec<(f64, f64)> {
    let (middle, half) = ((low + high) / 2.0, (high - low) / 2.0);
    (0..n)
        .map(|index| {
            let mut x = (std::f64::consts::PI * (index as f64 + 0.75) / (n as f64 + 0.5)).cos();
            let mut slope = 1.0;
            for _ in 0..60 {
                let (mut before, mut value) = (1.0, x);
                for k in 2..=n {
                    let k = k as f64;
                    (before, value) =
                        (value, ((2.0 * k - 1.0) * x * value - (k - 1.0) * before) / k);
                }
                slope = n as f64 * (x * value - before) / (x * x - 1.0);
                let step = value / slope;
                x -= step;
                if step.abs() < 1e-15 {
                    break;
                }
            }
            (middle + half * x, half * 2.0 / ((1.0 - x * x) * slope * slope))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// n nodes integrate every polynomial up to degree 2n − 1 (Abramowitz and Stegun, 25.4.29).
    #[test]
    fn polynomials_are_exact() {
        for n in [1, 2, 5, 16, 80] {
            let nodes = gauss_legendre(n, -1.0, 3.0);
            for degree in 0..(2 * n).min(24) {
                let power = i32::try_from(degree).unwrap();
                let found: f64 = nodes.iter().map(|(x, weight)| weight * x.powi(power)).sum();
                let exact =
                    (3.0_f64.powi(power + 1) - (-1.0_f64).powi(power + 1)) / f64::from(power + 1);
                assert!((found / exact - 1.0).abs() < 1e-12, "{n} {degree}: {found} {exact}");
            }
        }
    }
}
