//! Sizes of indentations, from the hardness that was read: repeatability of Vickers and Brinell testers is stated in them.

use rust_decimal::Decimal;

use crate::quantity::to_f64;

/// The constant of the definitions of Vickers and Brinell hardness: 1/9.80665 rounded, so that numbers from kilograms-force go on
/// being true with newtons (ISO 6507-1 and ISO 6506-1, term "test force").
const PER_NEWTON: f64 = 0.102;

/// Mean diagonal of a Vickers indentation in mm, from HV = 0.102·2F·sin(136°/2)/d² with F in N (ISO 6507-1).
///
/// None for what is no hardness or no force.
#[must_use]
pub fn vickers_diagonal(hardness: Decimal, force: Decimal) -> Option<f64> {
    let (hardness, force) = (to_f64(hardness), to_f64(force));
    let square = PER_NEWTON * 2.0 * force * 68.0_f64.to_radians().sin() / hardness;
    (hardness > 0.0 && force > 0.0).then(|| square.sqrt())
}

/// Mean diameter of a Brinell indentation in mm, from HBW = 0.102·2F/(πD(D − √(D² − d²))) with F in N and D, the diameter of the
/// ball, in mm (ISO 6506-1).
///
/// None for what is no hardness, force or ball, and where the ball would have to sink in beyond its middle.
#[must_use]
pub fn brinell_diameter(hardness: Decimal, force: Decimal, ball: Decimal) -> Option<f64> {
    let (hardness, force, ball) = (to_f64(hardness), to_f64(force), to_f64(ball));
    if hardness <= 0.0 || force <= 0.0 || ball <= 0.0 {
        return None;
    }
    // Twice the depth of the cap.
    let cap = PER_NEWTON * 2.0 * force / (std::f64::consts::PI * ball * hardness);
    (cap <= ball).then(|| (ball.powi(2) - (ball - cap).powi(2)).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    /// Rows of the tables of Vickers hardness, HV 10 (ISO 6507-4, from memory; by a second way: 1.8544·10 kgf/d²).
    #[rstest]
    #[case("0.193", 498.0)]
    #[case("0.305", 199.0)]
    #[case("0.152", 803.0)]
    fn diagonals(#[case] diagonal: &str, #[case] table: f64) {
        let diagonal: f64 = diagonal.parse().unwrap();
        let second = 1.8544 * 10.0 / diagonal.powi(2);
        assert!((second / table - 1.0).abs() < 0.002, "{second} {table}");
        let found = vickers_diagonal(Decimal::try_from(second).unwrap(), d("98.07")).unwrap();
        assert!((found / diagonal - 1.0).abs() < 0.0005, "{found} {diagonal}");
    }

    /// Rows of the table of Brinell hardness, HBW 10/3000 (ISO 6506-4, from memory: 3.00 mm are 415, 4.00 mm 229, 5.00 mm 143).
    #[rstest]
    #[case("415", 3.00)]
    #[case("229", 4.00)]
    #[case("143", 5.00)]
    fn diameters(#[case] hardness: &str, #[case] table: f64) {
        let found = brinell_diameter(d(hardness), d("29420"), d("10")).unwrap();
        assert!((found - table).abs() < 0.01, "{found} {table}");
        // The definition, put back in.
        let cap = 10.0 - (100.0 - found.powi(2)).sqrt();
        let again = 0.102 * 2.0 * 29420.0 / (std::f64::consts::PI * 10.0 * cap);
        assert!((again - to_f64(d(hardness))).abs() < 1e-9);
    }

    #[test]
    fn what_is_no_hardness_has_no_size() {
        for (hardness, force, ball) in
            [("0", "98.07", "10"), ("-3", "98.07", "10"), ("500", "0", "10")]
        {
            assert_eq!(vickers_diagonal(d(hardness), d(force)), None);
            assert_eq!(brinell_diameter(d(hardness), d(force), d(ball)), None);
        }
        assert_eq!(brinell_diameter(d("500"), d("29420"), d("0")), None);
        // So soft that the ball would vanish.
        assert_eq!(brinell_diameter(d("1"), d("29420"), d("10")), None);
        // Up to its middle it may: d = D.
        let middle = PER_NEWTON * 2.0 * 29420.0 / (std::f64::consts::PI * 100.0);
        let found =
            brinell_diameter(Decimal::try_from(middle + 1e-9).unwrap(), d("29420"), d("10"));
        assert!((found.unwrap() - 10.0).abs() < 0.01);
    }
}
