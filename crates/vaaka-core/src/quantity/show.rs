//! Numbers for people: one rule of rounding, a true minus sign, no exponent.

use rust_decimal::{Decimal, RoundingStrategy};

/// The typographic minus sign that screens and papers show.
pub const MINUS: char = '\u{2212}';

/// Shows a decimal with a fixed number of places, rounded half to even
/// (ISO 80000-1:2009, annex B, rule A; from memory). For show only: nothing is judged after it.
#[must_use]
pub fn show_decimal(value: Decimal, decimals: u32) -> String {
    let mut rounded = value.round_dp_with_strategy(decimals, RoundingStrategy::MidpointNearestEven);
    rounded.rescale(decimals);
    with_minus(&rounded.to_string(), rounded.is_zero())
}

/// As [`show_decimal`], with a plus sign before positive values, as errors and corrections want.
#[must_use]
pub fn show_signed(value: Decimal, decimals: u32) -> String {
    plus(show_decimal(value, decimals))
}

/// Shows a computed value with a fixed number of places.
#[must_use]
pub fn show_float(value: f64, decimals: u32) -> String {
    if !value.is_finite() {
        return "–".to_owned();
    }
    let text = format!("{value:.*}", decimals as usize);
    let zero = text.chars().all(|c| matches!(c, '0' | '.' | '-'));
    with_minus(&text, zero)
}

/// As [`show_float`], with a plus sign before positive values.
#[must_use]
pub fn show_signed_float(value: f64, decimals: u32) -> String {
    plus(show_float(value, decimals))
}

/// A number in words of an error: as it is, or by its power of ten where it would have hundreds of digits.
#[must_use]
pub fn show_short(value: f64) -> String {
    if value == 0.0 || (1e-9..1e15).contains(&value.abs()) {
        value.to_string()
    } else {
        format!("{value:e}")
    }
}

/// Decimal places that show `uncertainty` with two significant digits, from none to nine
/// (JCGM 100:2008, 7.2.6: at most two; from memory).
#[must_use]
pub fn decimals_for(uncertainty: f64) -> u32 {
    if !uncertainty.is_finite() || uncertainty <= 0.0 {
        return 2;
    }
    let mut scaled = uncertainty;
    for places in 0..9 {
        if scaled >= 9.5 {
            return places;
        }
        scaled *= 10.0;
    }
    9
}

fn with_minus(text: &str, zero: bool) -> String {
    match text.strip_prefix('-') {
        // "−0.0" would make people look for the sign's meaning.
        Some(rest) if zero => rest.to_owned(),
        Some(rest) => format!("{MINUS}{rest}"),
        None => text.to_owned(),
    }
}

fn plus(text: String) -> String {
    let zero = text.chars().all(|c| matches!(c, '0' | '.'));
    if zero || text.starts_with(MINUS) || text == "–" { text } else { format!("+{text}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_and_halves() {
        let d = |text: &str| text.parse::<Decimal>().unwrap();
        assert_eq!(show_signed(d("10.8"), 1), "+10.8");
        assert_eq!(show_signed(d("-10.85"), 1), "\u{2212}10.8");
        assert_eq!(show_signed(d("10.75"), 1), "+10.8");
        assert_eq!(show_signed(d("-0.04"), 1), "0.0");
        assert_eq!(show_decimal(d("12.5"), 3), "12.500");
        assert_eq!(show_signed_float(-0.001, 2), "0.00");
        assert_eq!(show_signed_float(1.25, 2), "+1.25");
        assert_eq!(show_float(f64::NAN, 2), "–");
    }

    #[test]
    fn two_digits_of_an_uncertainty_set_the_places() {
        for (uncertainty, places) in [
            (123.0, 0),
            (12.0, 0),
            (1.2, 1),
            (0.12, 2),
            (0.097, 2),
            (0.0094, 4),
            (1e-30, 9),
            (0.0, 2),
        ] {
            assert_eq!(decimals_for(uncertainty), places, "{uncertainty}");
        }
        assert_eq!(decimals_for(f64::NAN), 2);
    }
}
