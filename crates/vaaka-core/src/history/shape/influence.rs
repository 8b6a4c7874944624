//! Influences on the values whose size is known only so well, integrated out: what adjustments took away, what a degree of
//! temperature does.
//!
//! y = co + βh + Zγ + e with γ ~ N(g, σ²D): with y less Zg, every product a·b of whitened series becomes
//! a·b − (Zᵀa)ᵀM(Zᵀb), M = (D⁻¹ + ZᵀZ)⁻¹ (the identity of Woodbury), and each likelihood is multiplied by |I + DZᵀZ|^(−½).
//! The influences themselves are then normal about MZᵀ(y − co − βh) with covariance σ²M.

use super::sums::{Products, Sums};
use crate::stats::StatsError;

/// An influence on the values.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Influence<'a> {
    /// How strongly it acts on each of the checks: one from an adjustment on, or degrees about the mean temperature.
    pub acts: &'a [f64],
    /// How strongly it will act from now on: on the level that is told and forecast.
    pub ahead: f64,
    /// What a one of it does, in the unit of the values.
    pub effect: f64,
    /// Standard uncertainty of that.
    pub standard_uncertainty: f64,
}

/// The influences on checks that are whitened for one ρ.
#[derive(Debug)]
pub(super) struct Acting {
    count: usize,
    /// Whitened, one row a check.
    rows: Vec<f64>,
    /// Products with the constant and with time, summed from each place to the newest; one row more than there are checks.
    with_o: Vec<f64>,
    with_p: Vec<f64>,
    /// M.
    inner: Vec<f64>,
    /// M times the products of all checks with the constant and with the values.
    m_o: Vec<f64>,
    m_y: Vec<f64>,
    /// M times how strongly they act from now on.
    m_ahead: Vec<f64>,
    ahead: Vec<f64>,
    /// ln |I + DZᵀZ|.
    pub ln_det: f64,
}

/// Cholesky factor of a positive definite matrix, in place, lower; the logarithm of its determinant.
fn cholesky(matrix: &mut [f64], size: usize) -> Result<f64, StatsError> {
    let mut ln_det = 0.0;
    for row in 0..size {
        for column in 0..=row {
            let inner: f64 =
                (0..column).map(|k| matrix[row * size + k] * matrix[column * size + k]).sum();
            let left = matrix[row * size + column] - inner;
            matrix[row * size + column] = if row == column {
                if !(left > 0.0 && left.is_finite()) {
                    return Err(StatsError::TooLarge);
                }
                ln_det += left.ln();
                left.sqrt()
            } else {
                left / matrix[column * size + column]
            };
        }
    }
    Ok(ln_det)
}

/// The inverse from the factor.
fn inverse(factor: &[f64], size: usize) -> Vec<f64> {
    let mut all = vec![0.0; size * size];
    for column in 0..size {
        let mut x = vec![0.0; size];
        for row in 0..size {
            let inner: f64 = (0..row).map(|k| factor[row * size + k] * x[k]).sum();
            x[row] = (f64::from(u8::from(row == column)) - inner) / factor[row * size + row];
        }
        for row in (0..size).rev() {
            let inner: f64 = (row + 1..size).map(|k| factor[k * size + row] * x[k]).sum();
            x[row] = (x[row] - inner) / factor[row * size + row];
        }
        for row in 0..size {
            all[row * size + column] = x[row];
        }
    }
    all
}

fn times(matrix: &[f64], vector: &[f64]) -> Vec<f64> {
    matrix.chunks_exact(vector.len()).map(|row| dot(row, vector)).collect()
}

fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

impl Acting {
    /// `rows` are whitened, one a check; `deviations` the prior standard deviations in sigmas; `o`, `p`, `y` the whitened
    /// constant, time and values.
    pub(super) fn new(
        rows: Vec<f64>,
        deviations: &[f64],
        ahead: Vec<f64>,
        (o, p, y): (&[f64], &[f64], &[f64]),
    ) -> Result<Self, StatsError> {
        let count = deviations.len();
        let mut factor = vec![0.0; count * count];
        for row in rows.chunks_exact(count) {
            for (a, first) in row.iter().enumerate() {
                for (b, second) in row[..=a].iter().enumerate() {
                    factor[a * count + b] += first * second;
                }
            }
        }
        let mut ln_det = 0.0;
        for (place, deviation) in deviations.iter().enumerate() {
            factor[place * count + place] += 1.0 / (deviation * deviation);
            ln_det += 2.0 * deviation.ln();
        }
        ln_det += cholesky(&mut factor, count)?;
        let inner = inverse(&factor, count);
        let sums = |with: &[f64]| {
            let mut sums = vec![0.0; (with.len() + 1) * count];
            for index in (0..with.len()).rev() {
                for place in 0..count {
                    sums[index * count + place] = sums[(index + 1) * count + place]
                        + rows[index * count + place] * with[index];
                }
            }
            sums
        };
        let (with_o, with_p, with_y) = (sums(o), sums(p), sums(y));
        let (m_o, m_y) = (times(&inner, &with_o[..count]), times(&inner, &with_y[..count]));
        let m_ahead = times(&inner, &ahead);
        Ok(Self { count, rows, with_o, with_p, inner, m_o, m_y, m_ahead, ahead, ln_det })
    }

    fn row<'a>(&self, of: &'a [f64], index: usize) -> &'a [f64] {
        &of[index * self.count..(index + 1) * self.count]
    }

    /// Products of all checks with the constant, as far as the influences leave them.
    pub(super) fn whole(&self, sums: Sums) -> Sums {
        let with_o = self.row(&self.with_o, 0);
        Sums { oo: sums.oo - dot(with_o, &self.m_o), oy: sums.oy - dot(with_o, &self.m_y), ..sums }
    }

    /// What the influences leave of Σy².
    pub(super) fn left_of_yy(&self, yy: f64, with_y: &[f64]) -> f64 {
        yy - dot(with_y, &self.m_y)
    }

    /// Products of all checks with the influences.
    pub(super) fn with(&self, series: &[f64]) -> Vec<f64> {
        let mut all = vec![0.0; self.count];
        for (row, value) in self.rows.chunks_exact(self.count).zip(series) {
            all.iter_mut().zip(row).for_each(|(all, z)| *all += z * value);
        }
        all
    }

    /// Products of a shape less what the influences take of them. `zh` are the shape's products with the influences.
    fn less(&self, products: Products, zh: &[f64]) -> Products {
        let quadratic: f64 = zh.iter().zip(times(&self.inner, zh)).map(|(z, m)| z * m).sum();
        Products {
            oh: products.oh - dot(zh, &self.m_o),
            hh: (products.hh - quadratic).max(0.0),
            hy: products.hy - dot(zh, &self.m_y),
            ahead: dot(zh, &self.m_ahead),
        }
    }

    /// A step from `at` on, whose first whitened value is `first`.
    pub(super) fn step(&self, products: Products, at: usize, first: f64) -> Products {
        let (after, own) = (self.row(&self.with_o, at + 1), self.row(&self.rows, at));
        let zh: Vec<f64> = after.iter().zip(own).map(|(after, z)| after + first * z).collect();
        self.less(products, &zh)
    }

    /// A drift from the check `at`, at the time `t`, on.
    pub(super) fn drift(&self, products: Products, at: usize, t: f64) -> Products {
        let (p, o) = (self.row(&self.with_p, at + 1), self.row(&self.with_o, at + 1));
        let zh: Vec<f64> = p.iter().zip(o).map(|(p, o)| p - t * o).collect();
        self.less(products, &zh)
    }

    /// The same, stopped after the check `end` at a height.
    pub(super) fn stopped(
        &self,
        products: Products,
        (at, end): (usize, usize),
        (t, height): (f64, f64),
    ) -> Products {
        let zh: Vec<f64> = (0..self.count)
            .map(|place| {
                let of = |sums: &[f64], index: usize| sums[index * self.count + place];
                let p = of(&self.with_p, at + 1) - of(&self.with_p, end + 1);
                let o = of(&self.with_o, at + 1) - of(&self.with_o, end + 1);
                p - t * o + height * of(&self.with_o, end + 1)
            })
            .collect();
        self.less(products, &zh)
    }

    /// Any shape by its whitened values from a place on.
    pub(super) fn knock(&self, products: Products, at: usize, shape: &[f64]) -> Products {
        let mut zh = vec![0.0; self.count];
        for (index, h) in shape.iter().enumerate() {
            zh.iter_mut().zip(self.row(&self.rows, at + index)).for_each(|(zh, z)| *zh += z * h);
        }
        self.less(products, &zh)
    }

    /// What the constant, the values, and they themselves bring to the level from now on.
    pub(super) fn now(&self) -> (f64, f64, f64) {
        let count = self.count;
        let o = dot(&self.with_o[..count], &self.m_ahead);
        (o, dot(&self.ahead, &self.m_y), dot(&self.ahead, &self.m_ahead))
    }
}
