//! What is worth a second look in certified values as they were typed: a slip of the pen is found before anything rests on it.

use rust_decimal::Decimal;

use super::CertifiedPiece;
use super::change::changes_between;
use crate::quantity::{show_decimal, to_f64};

/// Beyond this share of the nominal value a certified value is asked about (common practice, no published source).
const FAR_SHARE: f64 = 0.05;
/// Beyond so many expanded uncertainties from nominal it is asked about (common practice, no published source).
const FAR_UNCERTAINTIES: f64 = 20.0;
/// An expanded uncertainty beyond this share of the value is worth a look: it was perhaps typed in another unit.
const COARSE_SHARE: f64 = 0.1;

/// Whether a certified value lies so far from its nominal value that a slip of the pen is likelier than a piece that is so:
/// more than a twentieth of it, or more than twenty expanded uncertainties.
#[must_use]
pub fn is_far(nominal: Decimal, value: Decimal, expanded_uncertainty: Decimal) -> bool {
    let off = to_f64((value - nominal).abs());
    let (nominal, expanded) = (to_f64(nominal.abs()), to_f64(expanded_uncertainty));
    (nominal > 0.0 && off > FAR_SHARE * nominal)
        || (expanded > 0.0 && off > FAR_UNCERTAINTIES * expanded)
}

/// How far, in words: "20.03 is 89.985 % away from 200".
#[must_use]
pub fn far_words(nominal: Decimal, value: Decimal, expanded_uncertainty: Decimal) -> String {
    let show = |value: Decimal| show_decimal(value, value.scale());
    let off = to_f64((value - nominal).abs());
    let share = to_f64(nominal.abs());
    if share > 0.0 && off > FAR_SHARE * share {
        let percent = crate::quantity::show_float(100.0 * off / share, 0);
        return format!("{} is {percent} % away from its nominal {}", show(value), show(nominal));
    }
    let times = off / to_f64(expanded_uncertainty);
    format!(
        "{} is {} times its uncertainty away from its nominal {}",
        show(value),
        crate::quantity::show_float(times, 0),
        show(nominal)
    )
}

/// What is worth a second look in the values of a certificate, piece by piece, each a sentence; `old` is what held before.
#[must_use]
pub fn value_remarks(new: &[CertifiedPiece], old: &[CertifiedPiece]) -> Vec<String> {
    let mut found = Vec::new();
    for piece in new {
        let (value, expanded) = (piece.certified_value, piece.expanded_uncertainty);
        if is_far(piece.nominal, value, expanded) {
            found.push(format!("{}: {}.", piece.tag, far_words(piece.nominal, value, expanded)));
        }
        if expanded.is_zero() {
            found.push(format!("{}: its uncertainty is 0.", piece.tag));
        } else if to_f64(expanded) > COARSE_SHARE * to_f64(value.abs()) && !value.is_zero() {
            found.push(format!(
                "{}: its uncertainty is more than a tenth of its value; is it in the same unit?",
                piece.tag
            ));
        }
    }
    // What is known by its class only is taken as nominal.
    let exact =
        |piece: &CertifiedPiece| !piece.class_limit && piece.certified_value == piece.nominal;
    if new.len() > 1 && new.iter().all(exact) {
        found.push("Every value is exactly nominal.".to_owned());
    }
    match changes_between(old, new) {
        Ok(changes) => {
            for change in changes.iter().filter(|change| change.looks_back) {
                let unit = new
                    .iter()
                    .find(|one| one.tag == change.piece)
                    .map_or("", |one| one.unit.symbol());
                found.push(format!(
                    "{}: moved by {} {unit} since the certificate before; both explain at most {} {unit}.",
                    change.piece,
                    change.change.normalize(),
                    significant(change.explained)
                ));
            }
        }
        Err(_) => found.push("The certificate before states another quantity.".to_owned()),
    }
    for piece in old {
        if !new.iter().any(|one| one.tag == piece.tag) {
            found.push(format!("{}: was certified before and is not any more.", piece.tag));
        }
    }
    found
}

/// Two significant digits.
fn significant(value: f64) -> String {
    let places = if value > 0.0 { (1.0 - value.log10().floor()).clamp(0.0, 9.0) } else { 0.0 };
    crate::quantity::show_float(value, places as u32)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::Unit;
    use rstest::rstest;

    fn dec(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    #[rstest]
    // A digit too few: 20.03 for a 200 g weight.
    #[case("200", "20.03", "0.3", true)]
    #[case("200", "200.03", "0.3", false)]
    // A weight of 10 kg with 0.11 g and U 0.15 g; the same with a digit left out.
    #[case("10", "10.00011", "0.00015", false)]
    #[case("10", "10.0011", "0.00005", true)]
    // At the ends: twenty uncertainties are not beyond twenty, a twentieth is not beyond a twentieth.
    #[case("10", "10.2", "0.01", false)]
    #[case("10", "10.21", "0.01", true)]
    #[case("100", "105", "1", false)]
    #[case("100", "105.1", "1", true)]
    // Nothing is a share of zero.
    #[case("0", "0.02", "0.01", false)]
    #[case("0", "0.3", "0.01", true)]
    #[case("-20", "-20.1", "0.1", false)]
    #[case("-20", "20", "1", true)]
    // Without an uncertainty only the share speaks.
    #[case("10", "10.4", "0", false)]
    #[case("10", "11", "0", true)]
    fn slips_of_the_pen(#[case] n: &str, #[case] v: &str, #[case] u: &str, #[case] far: bool) {
        assert_eq!(is_far(dec(n), dec(v), dec(u)), far);
    }

    fn piece(tag: &str, nominal: &str, value: &str, expanded: &str) -> CertifiedPiece {
        CertifiedPiece {
            tag: tag.into(),
            nominal: dec(nominal),
            certified_value: dec(value),
            expanded_uncertainty: dec(expanded),
            coverage_factor: Decimal::TWO,
            unit: Unit::Gram,
            class_limit: false,
            non_uniformity: None,
            by_temperature: vec![],
            at_unit: None,
        }
    }

    #[test]
    fn what_is_worth_a_look_is_said_once() {
        let old = [piece("A", "200", "200.003", "0.003"), piece("B", "100", "100.001", "0.002")];
        assert!(value_remarks(&old, &old).is_empty());
        let slip = [piece("A", "200", "20.03", "0.003"), old[1].clone()];
        let found = value_remarks(&slip, &old);
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!(found[0], "A: 20.03 is 90 % away from its nominal 200.");
        assert!(found[1].starts_with("A: moved by -179.973 g since"), "{found:?}");
        let gone = value_remarks(&old[..1], &old);
        assert_eq!(gone, ["B: was certified before and is not any more."]);
        let exact = [piece("A", "200", "200", "0.003"), piece("B", "100", "100", "0")];
        let found = value_remarks(&exact, &[]);
        assert_eq!(found, ["B: its uncertainty is 0.", "Every value is exactly nominal."]);
        let coarse = value_remarks(&[piece("A", "0.2", "0.2", "0.03")], &[]);
        assert!(coarse[0].contains("same unit"), "{coarse:?}");
    }
}
