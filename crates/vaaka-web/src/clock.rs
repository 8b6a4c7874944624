//! The clock is injected, so that tests and pictures do not depend on the day.

use jiff::Timestamp;

/// Tells the time.
pub trait Clock: Send + Sync + std::fmt::Debug {
    /// The present instant, to the microsecond, as the store keeps it.
    fn now(&self) -> Timestamp;
}

/// Cuts to whole microseconds, so that what was stored compares equal to what was meant.
fn to_micros(at: Timestamp) -> Timestamp {
    Timestamp::from_microsecond(at.as_microsecond()).unwrap_or(at)
}

/// The machine's clock.
#[derive(Debug, Clone, Copy)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        to_micros(Timestamp::now())
    }
}

/// Stands still.
#[derive(Debug, Clone, Copy)]
pub struct FixedClock(pub Timestamp);

impl Clock for FixedClock {
    fn now(&self) -> Timestamp {
        self.0
    }
}

/// Runs at the usual pace from a chosen start.
#[derive(Debug, Clone, Copy)]
pub struct ShiftedClock {
    start: Timestamp,
    began: std::time::Instant,
}

impl ShiftedClock {
    /// A clock that shows `start` now.
    #[must_use]
    pub fn starting_at(start: Timestamp) -> Self {
        Self { start, began: std::time::Instant::now() }
    }
}

impl Clock for ShiftedClock {
    fn now(&self) -> Timestamp {
        self.start.checked_add(self.began.elapsed()).map_or(self.start, to_micros)
    }
}
