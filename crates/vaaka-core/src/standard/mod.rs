//! Check standards and what their certificates vouch for.

use jiff::civil::Date;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::quantity::{Unit, UnitError, to_f64};

/// The certified value of one piece of a standard, as its certificate states it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CertifiedPiece {
    /// Tag of the piece, unique within its standard.
    pub tag: String,
    /// What is engraved on it.
    pub nominal: Decimal,
    /// Certified value, in full.
    pub certified_value: Decimal,
    /// Expanded uncertainty U of the certificate.
    pub expanded_uncertainty: Decimal,
    /// Coverage factor k of that U.
    pub coverage_factor: Decimal,
    /// Unit of all of these.
    pub unit: Unit,
}

impl CertifiedPiece {
    /// Standard uncertainty u = U/k (JCGM 100, 4.3.3). A certificate's U is never used undivided.
    ///
    /// # Errors
    /// [`StandardError::CoverageFactor`] when k is not positive.
    pub fn standard_uncertainty(&self) -> Result<f64, StandardError> {
        if self.coverage_factor <= Decimal::ZERO {
            return Err(StandardError::CoverageFactor { tag: self.tag.clone() });
        }
        Ok(to_f64(self.expanded_uncertainty) / to_f64(self.coverage_factor))
    }
}

/// Several pieces put on together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CombinedReference {
    /// Sum of the certified values, exact.
    pub reference_value: Decimal,
    /// Standard uncertainty of the sum.
    pub standard_uncertainty: f64,
}

/// A standard cannot serve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum StandardError {
    /// k of zero or less.
    #[error("the certificate of {tag} states a coverage factor that is not positive")]
    CoverageFactor {
        /// The piece.
        tag: String,
    },
    /// Its values are in a unit that the instrument does not measure.
    #[error(transparent)]
    Unit(#[from] UnitError),
    /// The validity of its certificate ended.
    #[error("{tag}: certificate {certificate} ended on {ended}")]
    OutOfDate {
        /// The standard.
        tag: String,
        /// The certificate's number.
        certificate: String,
        /// Last valid day.
        ended: Date,
    },
    /// The certificate is not valid yet.
    #[error("{tag}: certificate {certificate} is valid from {begins} only")]
    NotYetValid {
        /// The standard.
        tag: String,
        /// The certificate's number.
        certificate: String,
        /// First valid day.
        begins: Date,
    },
}

/// Adds pieces of one set: values add, and since one laboratory compared them with the same
/// references, their uncertainties are taken as fully correlated and add linearly.
///
/// # Errors
/// As [`CertifiedPiece::standard_uncertainty`]; [`StandardError::Unit`] for another quantity.
pub fn combine(pieces: &[CertifiedPiece], unit: Unit) -> Result<CombinedReference, StandardError> {
    let mut sum = CombinedReference { reference_value: Decimal::ZERO, standard_uncertainty: 0.0 };
    for piece in pieces {
        sum.reference_value += piece.unit.try_convert(piece.certified_value, unit)?;
        let scale = to_f64(piece.unit.convert(Decimal::ONE, unit));
        sum.standard_uncertainty += piece.standard_uncertainty()? * scale;
    }
    Ok(sum)
}

/// Whether a certificate may be used on a day of the site.
///
/// # Errors
/// [`StandardError::OutOfDate`] or [`StandardError::NotYetValid`].
pub fn check_validity(
    tag: &str,
    certificate: &str,
    valid_from: Date,
    valid_until: Date,
    today: Date,
) -> Result<(), StandardError> {
    let (tag, certificate) = (tag.to_owned(), certificate.to_owned());
    if today > valid_until {
        return Err(StandardError::OutOfDate { tag, certificate, ended: valid_until });
    }
    if today < valid_from {
        return Err(StandardError::NotYetValid { tag, certificate, begins: valid_from });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn piece(value: &str, u: &str, k: &str) -> CertifiedPiece {
        CertifiedPiece {
            tag: "a".into(),
            nominal: Decimal::TEN,
            certified_value: value.parse().unwrap(),
            expanded_uncertainty: u.parse().unwrap(),
            coverage_factor: k.parse().unwrap(),
            unit: Unit::Kilogram,
        }
    }

    #[test]
    fn pieces_of_one_set_add_linearly() {
        let pieces = [piece("10.00011", "0.00015", "2"), piece("10.00010", "0.00015", "2")];
        let sum = combine(&pieces, Unit::Gram).unwrap();
        assert_eq!(sum.reference_value, "20000.21".parse::<Decimal>().unwrap());
        assert!((sum.standard_uncertainty - 0.15).abs() < 1e-12, "{sum:?}");
    }

    #[test]
    fn u_is_divided_by_its_k() {
        assert!((piece("10", "0.3", "3").standard_uncertainty().unwrap() - 0.1).abs() < 1e-15);
        assert!(piece("10", "0.3", "0").standard_uncertainty().is_err());
    }

    #[test]
    fn last_day_counts() {
        let check =
            |today| check_validity("M1-B", "V-1", date(2026, 3, 14), date(2027, 3, 14), today);
        assert!(check(date(2027, 3, 14)).is_ok());
        assert!(matches!(check(date(2027, 3, 15)), Err(StandardError::OutOfDate { .. })));
        assert!(matches!(check(date(2026, 3, 13)), Err(StandardError::NotYetValid { .. })));
    }
}
