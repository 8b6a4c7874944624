//! Quantities: exact decimal readings, units, and the one way numbers are shown.

mod show;
mod typed;
mod unit;

pub use show::{
    MINUS, decimals_for, show_decimal, show_float, show_short, show_signed, show_signed_float,
};
pub use typed::{MAX_DECIMALS, MAX_DIGITS, TypedDecimal, TypedDecimalError};
pub use unit::{Dimension, Unit, UnitError};

use rust_decimal::Decimal;

/// The double nearest to an exact decimal, for charts and statistics.
///
/// Judgements at a limit never go through here: they compare decimals.
#[must_use]
pub fn to_f64(value: Decimal) -> f64 {
    // Decimal's own conversion divides by powers of ten and can be one unit in the last place
    // off; the text round trip is correctly rounded, so that replays agree to the bit.
    value.to_string().parse().unwrap_or(f64::NAN)
}

/// The number of decimal places of a scale interval: 3 for 0.001, 0 for 5.
#[must_use]
pub fn decimals_of(interval: Decimal) -> u32 {
    interval.normalize().scale()
}
