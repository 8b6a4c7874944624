//! Run lengths over the range that forms accept, against collocation with SciPy's error function
//! (`tools/reference/run_lengths.py`): an independent form of the same integral equations.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use serde_json::Value;
use vaaka_core::chart::run_length::{
    CusumSides, EwmaStart, RunLength, RunLengthError, cusum, ewma_with_limits,
};
use vaaka_core::chart::{CusumDesign, EwmaDesign};

fn kept() -> Value {
    serde_json::from_str(include_str!("../data/run_lengths.json")).unwrap()
}

fn part(case: &Value, name: &str) -> f64 {
    case[name].as_f64().unwrap_or_else(|| panic!("{name} in {case}"))
}

/// Digits: the reference solves linear systems whose condition is the run length, so that it has 16 − lg L of them.
/// Where control limits cut the kernel its polynomials meet kinks and have four to five digits; the program's panels end
/// there, and its own digits do not change when they are halved. Limits that widen are taken as steady by both, from the
/// sixth digit on: of the run length that leaves seven.
fn agrees(found: RunLength, case: &Value) {
    let cut = case["limit"].is_number();
    let digits = match (cut, case["exact"] == true) {
        (true, _) => 6e-5,
        (false, true) => 2e-7,
        (false, false) => 2e-8,
    };
    let within = digits + 1e-14 * part(case, "average");
    let (average, std_dev) = (part(case, "average"), part(case, "std_dev"));
    assert!((found.average / average - 1.0).abs() < within, "{case}: {found:?}");
    // Of a law that is nearly over at once the deviation is a small difference of moments.
    let least = 1e-5 * average;
    assert!(
        (found.std_dev - std_dev).abs() < 20.0 * within * average + least * 1e-2,
        "{case}: {found:?}"
    );
}

#[test]
fn slow_averages_with_and_without_limits() {
    let kept = kept();
    let cases = kept["ewma"].as_array().unwrap();
    assert!(cases.len() > 350, "{}", cases.len());
    for case in cases {
        let design = EwmaDesign { lambda: part(case, "lam"), width: part(case, "width") };
        let start = if case["exact"] == true { EwmaStart::Segment } else { EwmaStart::Steady };
        let found = ewma_with_limits(design, case["limit"].as_f64(), part(case, "shift"), start);
        agrees(found.unwrap_or_else(|error| panic!("{case}: {error}")), case);
    }
}

#[test]
fn sums_on_one_side() {
    for case in kept()["one_sum"].as_array().unwrap() {
        let design = CusumDesign {
            reference: part(case, "k"),
            interval: part(case, "h"),
            head_start: part(case, "head_start"),
        };
        let shift = part(case, "shift");
        agrees(cusum(design, shift, CusumSides::Upper).unwrap(), case);
        agrees(cusum(design, -shift, CusumSides::Lower).unwrap(), case);
    }
}

/// Both sums by a chain over pairs of sums, whose cells leave an error of about a thousandth.
#[test]
fn sums_on_both_sides() {
    for case in kept()["both_sums"].as_array().unwrap() {
        let design = CusumDesign {
            reference: part(case, "k"),
            interval: part(case, "h"),
            head_start: part(case, "head_start"),
        };
        let found = cusum(design, part(case, "shift"), CusumSides::Both).unwrap();
        for (name, found) in
            [("average", found.average), ("std_dev", found.std_dev), ("median", found.median)]
        {
            let expected = part(case, name);
            assert!((found - expected).abs() < 2e-3 * expected + 1.0, "{name} {case}: {found}");
        }
    }
}

/// Over everything that a form can send there is a number that makes sense or a refusal: never less than one,
/// never the less for wider limits, never more after a shift.
#[test]
fn every_answer_makes_sense() {
    let of = |lambda, width, limit, shift| {
        ewma_with_limits(EwmaDesign { lambda, width }, limit, shift, EwmaStart::Segment)
    };
    let mut refused = 0;
    for lambda in [0.02, 0.05, 0.1, 0.3, 1.0] {
        for limit in [None, Some(1.0), Some(3.0), Some(10.0)] {
            let mut before = 0.0;
            for width in [0.5, 1.0, 2.0, 3.0, 4.0, 6.0, 8.0, 10.0] {
                match of(lambda, width, limit, 0.0) {
                    Ok(found) => {
                        let context = format!("{lambda} {width} {limit:?}: {found:?}");
                        assert!(
                            found.average >= 1.0 && found.average >= before * (1.0 - 1e-9),
                            "{context}"
                        );
                        assert!(
                            found.median >= 1.0 && found.median <= found.average + 1.0,
                            "{context}"
                        );
                        assert!(found.std_dev >= 0.0, "{context}");
                        let moved = of(lambda, width, limit, 1.0).unwrap().average;
                        assert!(moved < found.average, "{context} {moved}");
                        before = found.average;
                    }
                    Err(RunLengthError::TooLong) => refused += 1,
                    Err(other) => panic!("{lambda} {width} {limit:?}: {other}"),
                }
            }
        }
    }
    assert!(refused > 0);
}
