//! Sums and products over a stretch of whitened values.

/// Sums over a stretch: of the constant, of time, of the values, whitened.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Sums {
    pub oo: f64,
    pub po: f64,
    pub pp: f64,
    pub oy: f64,
    pub py: f64,
}

impl Sums {
    pub(super) fn minus(self, other: Self) -> Self {
        Self {
            oo: self.oo - other.oo,
            po: self.po - other.po,
            pp: self.pp - other.pp,
            oy: self.oy - other.oy,
            py: self.py - other.py,
        }
    }
}

/// Products of a whitened shape h with the constant, itself and the values.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Products {
    pub oh: f64,
    pub hh: f64,
    pub hy: f64,
    /// What influences take of the shape in the level from now on.
    pub ahead: f64,
}
