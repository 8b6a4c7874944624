//! Medians of durations.

use std::time::Duration;

/// Durations of one kind.
#[derive(Debug, Default)]
pub struct Samples(Vec<Duration>);

impl Samples {
    pub fn add(&mut self, one: Duration) {
        self.0.push(one);
    }

    pub fn extend(&mut self, other: Self) {
        self.0.extend(other.0);
    }

    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// The duration that a share of all is not above, in milliseconds.
    pub fn quantile(&self, share: f64) -> f64 {
        let mut sorted = self.0.clone();
        sorted.sort();
        let place = ((sorted.len() - 1) as f64 * share).round() as usize;
        sorted[place].as_secs_f64() * 1e3
    }

    pub fn median(&self) -> f64 {
        self.quantile(0.5)
    }

    pub fn line(&self, what: &str) {
        println!(
            "  {what:<44} p50 {:>7.3} ms   p95 {:>7.3} ms   n {}",
            self.median(),
            self.quantile(0.95),
            self.count()
        );
    }
}
