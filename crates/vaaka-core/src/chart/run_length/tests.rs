use super::*;
use crate::chart::{CusumDesign, EwmaDesign};
use rstest::rstest;

use Criterion as C;

/// Champ and Woodall 1987, table 1 (from memory): in-control run lengths of the zone rules, and
/// after shifts of one and two sigmas.
#[rstest]
#[case(&[C::Beyond3], 0.0, 370.40)]
#[case(&[C::Beyond3, C::TwoOfThree], 0.0, 225.44)]
#[case(&[C::Beyond3, C::FourOfFive], 0.0, 166.05)]
#[case(&[C::Beyond3, C::EightOnASide], 0.0, 152.73)]
#[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive], 0.0, 132.89)]
#[case(&[C::Beyond3, C::TwoOfThree, C::EightOnASide], 0.0, 122.05)]
#[case(&[C::Beyond3, C::FourOfFive, C::EightOnASide], 0.0, 105.78)]
#[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 0.0, 91.75)]
#[case(&[C::Beyond3], 1.0, 43.89)]
#[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 1.0, 9.22)]
#[case(&[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide], 2.0, 3.13)]
fn zone_rules_as_published(
    #[case] criteria: &[Criterion],
    #[case] shift: f64,
    #[case] published: f64,
) {
    for side in [1.0, -1.0] {
        let found = zone_rules(criteria, side * shift).unwrap().average;
        assert!((found - published).abs() <= 0.0051, "{found} beside {published}");
    }
}

/// Published run lengths of k = 0.5 (Hawkins and Olwell 1998; Lucas and Crosier 1982 with a head
/// start of h/2; both from memory, to the digits that are printed).
#[rstest]
#[case(4.0, 0.0, 0.0, 168.0, 0.6)]
#[case(4.0, 0.0, 1.0, 8.38, 0.006)]
#[case(5.0, 0.0, 0.0, 465.0, 0.6)]
#[case(5.0, 0.0, 1.0, 10.4, 0.06)]
#[case(5.0, 0.0, 2.0, 4.01, 0.006)]
#[case(4.77, 0.0, 0.0, 370.0, 1.5)]
#[case(5.0, 2.5, 0.0, 430.0, 0.6)]
#[case(5.0, 2.5, 1.0, 6.35, 0.006)]
#[case(4.0, 2.0, 1.0, 5.29, 0.006)]
fn cusum_as_published(
    #[case] interval: f64,
    #[case] head_start: f64,
    #[case] shift: f64,
    #[case] published: f64,
    #[case] within: f64,
) {
    let design = CusumDesign { reference: 0.5, interval, head_start };
    let found = cusum(design, shift, CusumSides::Both).unwrap().average;
    assert!((found - published).abs() <= within, "{found} beside {published}");
}

/// One side alone: twice as long in control as both, and after a shift to the other side it never signals.
#[test]
fn one_sum_alone() {
    let design = CusumDesign { reference: 0.5, interval: 4.0, head_start: 0.0 };
    let of = |shift, sides| cusum(design, shift, sides);
    let (both, upper) = (of(0.0, CusumSides::Both).unwrap(), of(0.0, CusumSides::Upper).unwrap());
    assert!((upper.average / both.average - 2.0).abs() < 1e-9, "{both:?} {upper:?}");
    assert_eq!(of(0.0, CusumSides::Lower).unwrap(), upper);
    let (up, down) = (of(1.0, CusumSides::Upper).unwrap(), of(-1.0, CusumSides::Lower).unwrap());
    assert!((up.average - down.average).abs() < 1e-9);
    assert_eq!(of(-3.0, CusumSides::Upper), Err(RunLengthError::TooLong));
    // Both: what the other side would do does not matter then.
    let both = of(3.0, CusumSides::Both).unwrap();
    assert!((both.average - of(3.0, CusumSides::Upper).unwrap().average).abs() < 1e-9, "{both:?}");
}

/// Lucas and Saccucci 1990, table 3 (from memory): λ = 0.1, L = 2.814 and λ = 0.25, L = 2.998 are made
/// for 500 in control and find one sigma after 10.3 and 11.1 points, with steady limits.
#[rstest]
#[case(0.1, 2.814, 0.0, 500.0, 1.5)]
#[case(0.1, 2.814, 1.0, 10.3, 0.06)]
#[case(0.25, 2.998, 0.0, 500.0, 1.5)]
#[case(0.25, 2.998, 1.0, 11.1, 0.06)]
fn ewma_as_published(
    #[case] lambda: f64,
    #[case] width: f64,
    #[case] shift: f64,
    #[case] published: f64,
    #[case] within: f64,
) {
    let design = EwmaDesign { lambda, width };
    let found = ewma_with_limits(design, None, shift, EwmaStart::Steady).unwrap().average;
    assert!((found - published).abs() <= within, "{found} beside {published}");
}

/// λ = 1 makes the EWMA the point itself: limits alone, 1/(2Φ(−L)).
#[test]
fn at_the_ends_they_agree() {
    for start in [EwmaStart::Segment, EwmaStart::Steady] {
        let alone = zone_rules(&[C::Beyond3], 0.5).unwrap().average;
        let point = EwmaDesign { lambda: 1.0, width: 3.0 };
        let as_ewma = ewma_with_limits(point, None, 0.5, start).unwrap().average;
        assert!((alone / as_ewma - 1.0).abs() < 1e-9, "{alone} {as_ewma}");
        // Limits so wide that they never matter change nothing; narrow ones rule alone.
        let design = EwmaDesign { lambda: 0.1, width: 3.1 };
        let free = ewma_with_limits(design, None, 0.0, start).unwrap().average;
        let wide = ewma_with_limits(design, Some(60.0), 0.0, start).unwrap().average;
        assert!((free / wide - 1.0).abs() < 1e-9, "{free} {wide}");
        let wide = EwmaDesign { lambda: 0.1, width: 8.0 };
        let narrow = ewma_with_limits(wide, Some(3.0), 0.5, start);
        assert!((narrow.unwrap().average / alone - 1.0).abs() < 1e-6);
    }
}

/// The default design is the one that `tools/reference/control_constants.py` computed with SciPy:
/// at least 500 checks in control, from the start of a segment and in its steady state.
#[test]
fn the_default_design_again() {
    let design = EwmaDesign { lambda: super::super::EWMA_LAMBDA, width: super::super::EWMA_WIDTH };
    let limit = super::super::DEFAULT_OUTER_MULTIPLIER;
    for start in [EwmaStart::Segment, EwmaStart::Steady] {
        let found = ewma_with_limits(design, Some(limit), 0.0, start).unwrap();
        assert!((500.0..515.0).contains(&found.average), "{found:?}");
        // Nearly geometric: the deviation is the average, the median ln 2 of it.
        assert!((found.std_dev / found.average - 1.0).abs() < 0.05, "{found:?}");
        assert!((found.median / found.average - std::f64::consts::LN_2).abs() < 0.02, "{found:?}");
    }
}

/// What ended in numbers below nothing with a fixed number of nodes: narrow averages need nodes by their
/// width over λ, and what is as good as never is refused.
#[test]
fn slow_averages_and_wide_sums() {
    let of = |lambda, width, start| {
        ewma_with_limits(EwmaDesign { lambda, width }, None, 0.0, start).map(|found| found.average)
    };
    let found = of(0.003, 3.1, EwmaStart::Steady).unwrap();
    assert!((found / 21_013.0 - 1.0).abs() < 1e-3, "{found}");
    let found = of(0.01, 5.0, EwmaStart::Steady).unwrap();
    assert!((found / 1.04e7 - 1.0).abs() < 5e-3, "{found}");
    assert_eq!(of(0.1, 9.0, EwmaStart::Segment), Err(RunLengthError::TooLong));
    assert_eq!(of(0.001, 10.0, EwmaStart::Segment), Err(RunLengthError::TooLong));
    let wide = CusumDesign { reference: 0.5, interval: 50.0, head_start: 0.0 };
    assert_eq!(cusum(wide, 0.0, CusumSides::Both), Err(RunLengthError::TooLong));
    // The same sums find a shift of two sigmas, h/(δ − k) points later at least.
    let found = cusum(wide, 2.0, CusumSides::Both).unwrap().average;
    assert!((33.0..36.0).contains(&found), "{found}");
}

/// A coin: nine in a row on a side, of two sides, 2⁹ − 1 on average; geometric points by their closed forms.
#[test]
fn laws_in_closed_form() {
    let nine = zone_rules(&[C::NineOnASide], 0.0).unwrap();
    assert!((nine.average - 511.0).abs() < 1e-6, "{nine:?}");
    let three = zone_rules(&[C::Beyond3], 0.0).unwrap();
    let p = 2.0 * upper_tail(3.0);
    let exact = RunLength::geometric(p).unwrap();
    assert!((three.average / exact.average - 1.0).abs() < 1e-9);
    assert!((three.std_dev / exact.std_dev - 1.0).abs() < 1e-9);
    assert_eq!(three.median, exact.median);
    // 1 − (1 − p)ⁿ reaches one half at n = 257 for one in 370.4 (256.4 rounded up).
    assert_eq!(exact.median, 257.0);
    assert_eq!(RunLength::geometric(0.0), Err(RunLengthError::TooLong));
    assert_eq!(
        RunLength::geometric(1.0).unwrap(),
        RunLength { average: 1.0, std_dev: 0.0, median: 1.0 }
    );
}

/// Tails by W. J. Cody's values as printed in tables of the normal distribution (from memory; the first by
/// SciPy's `norm.sf`, see `tools/reference/run_lengths.py`).
#[test]
fn tails_keep_their_digits() {
    for (z, tail) in [(1.0, 0.158_655_253_931_457_05), (6.0, 9.865_876_450_376_98e-10)] {
        assert!((upper_tail(z) / tail - 1.0).abs() < 1e-13, "{z}");
    }
    assert!((between(-1.0, 1.0) - 0.682_689_492_137_085_9).abs() < 1e-15);
    assert!((between(5.0, 6.0) / (between(-6.0, -5.0)) - 1.0).abs() < 1e-15);
    assert_eq!(between(2.0, 1.0), 0.0);
}

#[test]
fn what_cannot_be_computed_is_said() {
    let trend = zone_rules(&[C::SixTrending], 0.0).unwrap_err();
    assert_eq!(trend, RunLengthError::NoZoneRule { criterion: C::SixTrending });
    assert!(trend.to_string().starts_with("six_trending has no exact run length"), "{trend}");
    assert_eq!(zone_rules(&[], 0.0), Err(RunLengthError::Nothing));
    assert!(zone_rules(&[C::Beyond3], f64::NAN).is_err());
    let none = CusumDesign { interval: 0.0, ..CusumDesign::default() };
    let words = cusum(none, 0.0, CusumSides::Both).unwrap_err().to_string();
    assert_eq!(words, "h is 0: give a number up to 50, above zero");
    for lambda in [0.0, 1e-4, 1.5, f64::NAN] {
        let design = EwmaDesign { lambda, width: 3.0 };
        assert!(ewma_with_limits(design, None, 0.0, EwmaStart::Steady).is_err(), "{lambda}");
    }
}
