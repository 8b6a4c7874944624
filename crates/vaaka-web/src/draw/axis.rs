//! A scale of values beside a drawing.

/// A vertical axis.
pub(super) struct Axis {
    least: f64,
    most: f64,
    top: f64,
    bottom: f64,
}

impl Axis {
    /// Over these values, with a little room.
    pub(super) fn over(values: impl Iterator<Item = f64>, top: f64, bottom: f64) -> Self {
        let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in values.filter(|value| value.is_finite()) {
            least = least.min(value);
            most = most.max(value);
        }
        if least > most {
            (least, most) = (-1.0, 1.0);
        }
        let room = ((most - least) * 0.05).max(f64::MIN_POSITIVE.max(most.abs() * 1e-9));
        Self { least: least - room, most: most + room, top, bottom }
    }

    /// What eight units of the drawing beyond its edges are in values.
    pub(super) fn room(&self) -> f64 {
        8.0 * (self.most - self.least) / (self.bottom - self.top)
    }

    /// Its least and largest value.
    pub(super) fn ends(&self) -> (f64, f64) {
        (self.least, self.most)
    }

    /// Where a value lies.
    pub(super) fn y(&self, value: f64) -> f64 {
        let share = (value - self.least) / (self.most - self.least);
        (self.bottom - share * (self.bottom - self.top)).clamp(self.top - 8.0, self.bottom + 8.0)
    }
}
