//! The ways in which a certified value changes, and what each means for the past and the charts.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::{CertifiedPiece, StandardError};
use crate::quantity::to_f64;

/// Why values changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ValueChangeKind {
    /// The first certificate of this lot.
    First,
    /// A slip of the pen is put right: the past is re-evaluated as amendments.
    Clerical,
    /// The same piece was calibrated again: valid from its date, the past stays.
    Recertified,
}

impl ValueChangeKind {
    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::First => "first",
            Self::Clerical => "clerical",
            Self::Recertified => "recertified",
        }
    }
}

/// How the value of one piece changed from one certificate to the next.
#[derive(Debug, Clone, PartialEq)]
pub struct ValueChange {
    /// The piece.
    pub piece: String,
    /// New certified value less the old one, in the unit of the new.
    pub change: Decimal,
    /// √(U₁² + U₂²), each U at its own k: beyond this the change is more than the certificates
    /// explain.
    pub explained: f64,
    /// Whether the change opens a look-back over everything that used the piece.
    pub looks_back: bool,
}

/// Piece by piece, what a new certificate of the same lot changes.
///
/// # Errors
/// [`StandardError::Unit`] when a piece was certified in another quantity.
pub fn changes_between(
    old: &[CertifiedPiece],
    new: &[CertifiedPiece],
) -> Result<Vec<ValueChange>, StandardError> {
    let mut found = Vec::new();
    for piece in new {
        let Some(before) = old.iter().find(|old| old.tag == piece.tag) else { continue };
        let scale = to_f64(before.unit.try_convert(Decimal::ONE, piece.unit)?);
        let value = before.unit.try_convert(before.certified_value, piece.unit)?;
        let change = piece.certified_value - value;
        let explained =
            (to_f64(before.expanded_uncertainty) * scale).hypot(to_f64(piece.expanded_uncertainty));
        found.push(ValueChange {
            piece: piece.tag.clone(),
            change,
            explained,
            looks_back: to_f64(change.abs()) > explained,
        });
    }
    Ok(found)
}

/// What a chart does when a check rests on another certificate than the point before it.
#[must_use]
pub fn classify(same_lot: bool, kind: ValueChangeKind) -> Option<&'static str> {
    match (same_lot, kind) {
        // The corrected values stand for the past as well: no seam.
        (true, ValueChangeKind::Clerical) => None,
        (true, _) => Some("standard certified anew"),
        (false, _) => Some("new lot of the standard"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::Unit;
    use rstest::rstest;

    fn piece(value: &str, expanded: &str, unit: Unit) -> CertifiedPiece {
        CertifiedPiece {
            tag: "20-1".into(),
            nominal: Decimal::from(20),
            certified_value: value.parse().unwrap(),
            expanded_uncertainty: expanded.parse().unwrap(),
            coverage_factor: Decimal::TWO,
            unit,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }
    }

    /// √(3² + 4²) = 5: a change of exactly 5 is still explained.
    #[rstest]
    #[case("20000.5", false)]
    #[case("20005", false)]
    #[case("20005.1", true)]
    #[case("19994.9", true)]
    fn beyond_both_uncertainties_looks_back(#[case] new: &str, #[case] looks_back: bool) {
        let old = [piece("20.000", "0.003", Unit::Kilogram)];
        let new = [piece(new, "4", Unit::Gram)];
        let changes = changes_between(&old, &new).unwrap();
        assert_eq!(changes[0].looks_back, looks_back, "{changes:?}");
        assert!((changes[0].explained - 5.0).abs() < 1e-9);
    }

    #[test]
    fn only_a_slip_of_the_pen_leaves_no_seam() {
        assert_eq!(classify(true, ValueChangeKind::Clerical), None);
        assert_eq!(classify(true, ValueChangeKind::Recertified), Some("standard certified anew"));
        assert_eq!(classify(false, ValueChangeKind::First), Some("new lot of the standard"));
    }
}
