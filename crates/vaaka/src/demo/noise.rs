//! Seeded noise.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// A source of noise that gives the same values for the same seed.
#[derive(Debug)]
pub struct Noise {
    rng: ChaCha8Rng,
}

impl Noise {
    /// From a seed.
    pub fn seeded(seed: u64) -> Self {
        Self { rng: ChaCha8Rng::seed_from_u64(seed) }
    }

    /// Uniform in [0, 1).
    pub fn uniform(&mut self) -> f64 {
        self.rng.random()
    }

    /// A whole number in [low, high].
    pub fn whole(&mut self, low: i64, high: i64) -> i64 {
        self.rng.random_range(low..=high)
    }

    /// Standard normal, by Box and Muller.
    pub fn normal(&mut self) -> f64 {
        let radius = (-2.0 * (1.0 - self.uniform()).ln()).sqrt();
        radius * (std::f64::consts::TAU * self.uniform()).cos()
    }

    /// True with a probability.
    pub fn chance(&mut self, probability: f64) -> bool {
        self.uniform() < probability
    }

    /// A random key.
    pub fn key(&mut self) -> uuid::Uuid {
        uuid::Builder::from_random_bytes(self.rng.random()).into_uuid()
    }
}
