//! What a person types at a display, read exactly.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Most significant digits that a reading may have; no shop-floor display shows more.
pub const MAX_DIGITS: usize = 15;
/// Most decimal places that a reading may have.
pub const MAX_DECIMALS: usize = 12;

/// A number as typed: its text, its exact value (trailing zeros kept), and the other meaning it
/// could have had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TypedDecimal {
    /// The text as typed, trimmed.
    pub text: String,
    /// The value with the digits preserved: `12.50` keeps two decimals.
    pub value: Decimal,
    /// The value if the only separator stood for thousands (`20,012` → 20012), where the text
    /// allows that reading. Decided against the load by the gross-error guard, never silently.
    pub if_thousands: Option<Decimal>,
}

/// Why a text is not a reading. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error, Serialize, Deserialize)]
pub enum TypedDecimalError {
    /// Nothing was typed.
    #[error("Nothing is typed yet. Type what the display shows, digits only.")]
    Empty,
    /// The text holds something that is not a digit, a sign or a decimal mark.
    #[error(
        "“{found}” is not part of a number. Type digits with one comma or point, for example 20.012."
    )]
    NotANumber {
        /// The first character that does not belong.
        found: char,
    },
    /// There is no digit at all.
    #[error("There is no digit in this. Type what the display shows, for example 20.012.")]
    NoDigits,
    /// More than one separator, so that one of them would have to mean thousands.
    #[error(
        "There is more than one comma or point. Type the number without thousands marks, with one comma or point for the decimals."
    )]
    SeveralSeparators,
    /// More digits than any display shows.
    #[error("That is more than {max} digits. Type only what the display shows.")]
    TooManyDigits {
        /// The most digits accepted.
        max: usize,
    },
}

impl TypedDecimal {
    /// As [`Self::parse`], where the unit that is asked for may stand behind the number: "20.003 kg" at a display in kg.
    ///
    /// # Errors
    /// [`TypedDecimalError`].
    pub fn parse_in(text: &str, unit: &str) -> Result<Self, TypedDecimalError> {
        let trimmed = text.trim();
        let bare = trimmed.strip_suffix(unit).filter(|_| !unit.is_empty()).unwrap_or(trimmed);
        let read = Self::parse(bare)?;
        Ok(Self { text: trimmed.to_owned(), ..read })
    }

    /// Reads a number that a person typed. Comma and point both mark decimals; spaces around it,
    /// a leading sign (also the true minus sign) and thin spaces between digits are accepted.
    ///
    /// ```
    /// use vaaka_core::quantity::TypedDecimal;
    /// assert_eq!(TypedDecimal::parse("12,50").unwrap().value.to_string(), "12.50");
    /// ```
    ///
    /// # Errors
    /// [`TypedDecimalError`] when the text is empty, holds other characters, has more than one
    /// separator or more than [`MAX_DIGITS`] digits.
    pub fn parse(text: &str) -> Result<Self, TypedDecimalError> {
        let trimmed = text.trim();
        if trimmed.is_empty() {
            return Err(TypedDecimalError::Empty);
        }
        let mut plain = String::with_capacity(trimmed.len());
        let (mut separators, mut digits, mut decimals) = (0, 0, 0);
        for (place, character) in trimmed.chars().enumerate() {
            match character {
                '0'..='9' => {
                    digits += 1;
                    decimals += usize::from(separators > 0);
                    plain.push(character);
                }
                '.' | ',' => {
                    separators += 1;
                    plain.push('.');
                }
                '-' | '\u{2212}' if place == 0 => plain.push('-'),
                '+' if place == 0 => {}
                // Displays and certificates group digits with spaces; they carry no meaning.
                ' ' | '\u{a0}' | '\u{2009}' | '\u{202f}' => {}
                found => return Err(TypedDecimalError::NotANumber { found }),
            }
        }
        if digits == 0 {
            return Err(TypedDecimalError::NoDigits);
        }
        if separators > 1 {
            return Err(TypedDecimalError::SeveralSeparators);
        }
        if digits > MAX_DIGITS || decimals > MAX_DECIMALS {
            return Err(TypedDecimalError::TooManyDigits { max: MAX_DIGITS });
        }
        let value = parse_plain(&plain).ok_or(TypedDecimalError::NoDigits)?;
        Ok(Self { text: trimmed.to_owned(), value, if_thousands: thousands_meaning(&plain) })
    }
}

fn parse_plain(plain: &str) -> Option<Decimal> {
    let (sign, body) = match plain.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", plain),
    };
    let whole = if body.starts_with('.') { "0" } else { "" };
    let text = format!("{sign}{whole}{}", body.trim_end_matches('.'));
    Decimal::from_str_exact(&text).ok()
}

/// `20.012` could be twenty thousand and twelve: one separator, one to three digits before it
/// that do not start with a zero, exactly three after it.
fn thousands_meaning(plain: &str) -> Option<Decimal> {
    let (whole, fraction) = plain.trim_start_matches('-').split_once('.')?;
    let could = (1..=3).contains(&whole.len()) && !whole.starts_with('0') && fraction.len() == 3;
    could.then(|| Decimal::from_str_exact(&plain.replace('.', "")).ok())?
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("12.50", "12.50")]
    #[case("12,50", "12.50")]
    #[case(" 0,0 ", "0.0")]
    #[case("-0.003", "-0.003")]
    #[case("\u{2212}0,003", "-0.003")]
    #[case("+5", "5")]
    #[case("5.", "5")]
    #[case(",5", "0.5")]
    #[case("20 000.5", "20000.5")]
    #[case("1\u{202f}000", "1000")]
    fn digits_stay_as_typed(#[case] typed: &str, #[case] kept: &str) {
        assert_eq!(TypedDecimal::parse(typed).unwrap().value.to_string(), kept);
    }

    #[rstest]
    #[case("", TypedDecimalError::Empty)]
    #[case("   ", TypedDecimalError::Empty)]
    #[case("-", TypedDecimalError::NoDigits)]
    #[case(".", TypedDecimalError::NoDigits)]
    #[case("abc", TypedDecimalError::NotANumber { found: 'a' })]
    #[case("2O.012", TypedDecimalError::NotANumber { found: 'O' })]
    #[case("1e3", TypedDecimalError::NotANumber { found: 'e' })]
    #[case("5-3", TypedDecimalError::NotANumber { found: '-' })]
    #[case("٣", TypedDecimalError::NotANumber { found: '٣' })]
    #[case("<script>", TypedDecimalError::NotANumber { found: '<' })]
    #[case("1,234.5", TypedDecimalError::SeveralSeparators)]
    #[case("1.234.567", TypedDecimalError::SeveralSeparators)]
    #[case("1234567890123456", TypedDecimalError::TooManyDigits { max: 15 })]
    fn what_is_not_a_reading_is_named(#[case] typed: &str, #[case] error: TypedDecimalError) {
        assert_eq!(TypedDecimal::parse(typed), Err(error));
    }

    #[rstest]
    #[case("20,012", Some("20012"))]
    #[case("-1.500", Some("-1500"))]
    #[case("0,012", None)]
    #[case("20,01", None)]
    #[case("1234,567", None)]
    #[case("500", None)]
    fn a_separator_that_could_mean_thousands_is_remembered(
        #[case] typed: &str,
        #[case] other: Option<&str>,
    ) {
        let parsed = TypedDecimal::parse(typed).unwrap();
        assert_eq!(parsed.if_thousands.map(|value| value.to_string()).as_deref(), other);
    }
}
