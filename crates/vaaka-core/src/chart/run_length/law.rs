//! From probabilities of a signal at each point to the numbers that describe the run length.

use super::{LONGEST, RunLength, RunLengthError};

/// Most points that are followed one by one before the hazard has to have settled.
const MOST_POINTS: usize = 400_000;
/// The hazard has settled when it has changed by no more than this share since half of the points.
const SETTLED: f64 = 1e-8;
/// Below this nothing of the law is left that could be seen in its numbers.
const NOTHING_LEFT: f64 = 1e-13;

/// The law of a run length as it is built up: P(N = i) one after the other.
#[derive(Debug, Clone)]
pub(super) struct Law {
    /// Points before which the hazard is not taken as settled: it stands still at first while a slow average is
    /// far from its limits.
    least: usize,
    /// P(N = i) for i = 1, 2, …
    signals: Vec<f64>,
    /// P(N > i) for i = 0, 1, …
    alive: Vec<f64>,
}

impl Law {
    pub(super) fn new(least: usize) -> Self {
        Self { least, signals: vec![], alive: vec![1.0] }
    }

    pub(super) fn push(&mut self, signal: f64) {
        // Rounding may leave a trace of the wrong sign where nothing is left.
        let before = self.alive[self.signals.len()];
        let signal = signal.clamp(0.0, before);
        self.signals.push(signal);
        self.alive.push(before - signal);
    }

    /// P(N = i | N ≥ i) of the newest point, where it has settled: the same as half of the way back, to as
    /// many digits as it has.
    fn settled(&self) -> Option<f64> {
        let newest = self.signals.len();
        let hazard = |place: usize| {
            let left = self.alive[place - 1];
            (left > 0.0).then(|| self.signals[place - 1] / left)
        };
        let half = newest / 2;
        if half < 8 || newest < self.least {
            return None;
        }
        let (now, then) = (hazard(newest)?, hazard(half)?);
        (now > 0.0 && (now - then).abs() <= SETTLED * now).then_some(now)
    }

    /// P(N = i) for i from 1 to `most`, with the geometric tail where the law was followed less far.
    pub(super) fn probabilities(&self, most: usize) -> Vec<f64> {
        let hazard = self.settled().unwrap_or(0.0);
        let mut alive = self.alive.last().copied().unwrap_or(0.0);
        let tail = std::iter::repeat_with(|| {
            let signal = alive * hazard;
            alive -= signal;
            signal
        });
        self.signals.iter().copied().chain(tail).take(most).collect()
    }

    /// Whether one half has signalled by now.
    pub(super) fn is_half_over(&self) -> bool {
        self.alive.last().is_some_and(|left| *left <= 0.5)
    }

    /// The number of points after which one half has signalled, where that many were followed.
    fn median(&self) -> Option<f64> {
        self.alive.iter().position(|alive| *alive <= 0.5).map(|place| place as f64)
    }

    /// Whether the rest is known: nothing is left, or the tail is geometric.
    pub(super) fn is_known(&self) -> bool {
        self.alive.last().is_some_and(|left| *left < NOTHING_LEFT) || self.settled().is_some()
    }

    /// First and second moment about zero, and the median.
    ///
    /// With Sᵢ = P(N > i): E[N] = ΣSᵢ and E[N²] = Σ(2i + 1)·Sᵢ over i from 0; after T points with the hazard h the
    /// rest is S_T/h and S_T·(2T/h + (2 − h)/h²).
    pub(super) fn moments(&self) -> Result<Moments, RunLengthError> {
        let followed = self.signals.len();
        let left = self.alive.last().copied().unwrap_or(1.0);
        let (mut first, mut second) = (0.0, 0.0);
        for (place, alive) in self.alive[..followed].iter().enumerate() {
            first += alive;
            second += (2.0 * place as f64 + 1.0) * alive;
        }
        let median = self.median();
        if left < NOTHING_LEFT {
            return Ok(Moments { first, second, median: median.unwrap_or(followed as f64) });
        }
        let hazard = self.settled().ok_or(RunLengthError::Unresolved)?;
        if hazard * LONGEST < 1.0 {
            return Err(RunLengthError::TooLong);
        }
        let t = followed as f64;
        first += left / hazard;
        second += left * (2.0 * t / hazard + (2.0 - hazard) / (hazard * hazard));
        let median = median.unwrap_or_else(|| median_of_tail(followed, left, hazard));
        Ok(Moments { first, second, median })
    }
}

/// Moments of a run length about zero, and its median.
#[derive(Debug, Clone, Copy)]
pub(super) struct Moments {
    pub first: f64,
    pub second: f64,
    pub median: f64,
}

impl Moments {
    pub(super) fn run_length(self) -> Result<RunLength, RunLengthError> {
        if !(self.first.is_finite() && self.first <= LONGEST) {
            return Err(RunLengthError::TooLong);
        }
        let variance = (self.second - self.first * self.first).max(0.0);
        Ok(RunLength { average: self.first, std_dev: variance.sqrt(), median: self.median })
    }
}

/// The least n with P(N > n) ≤ 1/2 in a geometric tail that holds `left` after `followed` points.
pub(super) fn median_of_tail(followed: usize, left: f64, hazard: f64) -> f64 {
    if hazard >= 1.0 {
        return followed as f64 + 1.0;
    }
    followed as f64 + ((0.5 / left).ln() / (-hazard).ln_1p()).ceil().max(0.0)
}

/// Follows a chart point by point until the rest is known. `next` gives P(N = i) for i = 1, 2, …
pub(super) fn follow(least: usize, mut next: impl FnMut() -> f64) -> Result<Law, RunLengthError> {
    let mut law = Law::new(least);
    while !law.is_known() {
        if law.signals.len() >= MOST_POINTS {
            return Err(RunLengthError::Unresolved);
        }
        law.push(next());
        // Looked at again while the sum is still far from any hazard that could be told from nothing.
        if law.signals.len() == MOST_POINTS / 100 && law.alive.last() == Some(&1.0) {
            return Err(RunLengthError::TooLong);
        }
    }
    Ok(law)
}

/// The run length of a chart that is followed point by point.
pub(super) fn of(least: usize, next: impl FnMut() -> f64) -> Result<RunLength, RunLengthError> {
    follow(least, next)?.moments()?.run_length()
}
