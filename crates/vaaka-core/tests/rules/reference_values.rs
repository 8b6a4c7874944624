//! Constants, risks and statistics against the kept output of `tools/reference` (SciPy, statsmodels).
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use serde_json::Value;
use vaaka_core::chart::constants::{D2_OF_TWO, c4, d2, d3};
use vaaka_core::chart::{DEFAULT_OUTER_MULTIPLIER, EWMA_LAMBDA, EWMA_WIDTH, IN_CONTROL_RUN_LENGTH};
use vaaka_core::judgement::{Interval, Prior, global_risk, guard_band_for};
use vaaka_core::stats::{
    anderson_darling, autocorrelation, step, student_t, trend, variance_components,
};

fn reference() -> Value {
    serde_json::from_str(include_str!("../data/control_constants.json")).unwrap()
}

#[test]
fn d2_agrees_with_numerical_integration() {
    let reference = reference();
    let of_two = &reference["constants"][0];
    assert_eq!(of_two["n"], 2);
    // The quadrature is asked for 1e-13 absolute.
    assert!((of_two["d2"].as_f64().unwrap() - D2_OF_TWO).abs() < 1e-12);
    // ISO 7870-2 prints 1.128 (from memory).
    assert!((D2_OF_TWO - 1.128).abs() < 5e-4);
}

#[test]
fn the_default_design_is_the_one_whose_run_length_was_computed() {
    let design = reference()["default_design"].clone();
    assert_eq!(design["multiplier"].as_f64(), Some(DEFAULT_OUTER_MULTIPLIER));
    assert_eq!(design["lambda"].as_f64(), Some(EWMA_LAMBDA));
    assert_eq!(design["width"].as_f64(), Some(EWMA_WIDTH));
    assert!(design["in_control"].as_f64().unwrap() >= IN_CONTROL_RUN_LENGTH);
    // Why the limits are not at three sigma: alone they already alarm every 370 checks.
    assert!(reference()["three_sigma_alone"].as_f64().unwrap() < IN_CONTROL_RUN_LENGTH);
}

#[test]
fn the_integral_equation_agrees_with_the_published_ewma() {
    // Lucas and Saccucci 1990, table 3: λ 0.1, L 2.814 gives 500 (steady limits; from memory).
    // With exact limits the first checks are tested more strictly, so it is a little less.
    let alone = reference()["ewma_alone"]["run_length"].as_f64().unwrap();
    assert!((470.0..500.0).contains(&alone), "{alone}");
}

#[test]
fn student_t_agrees_with_printed_tables() {
    // Two-sided 95 %: JCGM 100, table G.2, prints 12.71, 2.23, 2.09 and 2.01 for 1, 10, 20 and 50.
    for (degrees, printed) in [(1.0, 12.71), (10.0, 2.23), (20.0, 2.09), (50.0, 2.01)] {
        assert!((student_t(0.95, degrees).unwrap() - printed).abs() < 0.005, "{degrees}");
    }
    assert!(student_t(0.95, 0.0).is_err());
    // JCGM 100, table G.2, last row; and whatever the degrees of freedom, it ends.
    for degrees in [1e4, 1e6, 1e9, 1e300, f64::MAX] {
        for (confidence, printed) in
            [(0.6827, 1.0), (0.95, 1.960), (0.9545, 2.0), (0.99, 2.576), (0.9973, 3.0)]
        {
            let found = student_t(confidence, degrees).unwrap();
            assert!((found - printed).abs() < 0.001, "{degrees} {confidence}: {found}");
        }
    }
    // Closed forms for one and two degrees, also far out: t = tan(πc/2), and t = c·√(2/(1 − c²)).
    for confidence in [1e-6, 0.05, 0.5, 0.500_001, 0.95, 0.9973, 0.999_999_999] {
        let outside = 1.0 - confidence;
        let one = 1.0 / (std::f64::consts::FRAC_PI_2 * outside).tan();
        let two = confidence * (2.0 / (outside * (1.0 + confidence))).sqrt();
        for (degrees, exact) in [(1.0, one), (2.0, two)] {
            let found = student_t(confidence, degrees).unwrap();
            assert!((found / exact - 1.0).abs() < 1e-9, "{degrees} {confidence}: {found} {exact}");
        }
    }
    // What no number is large enough for is refused, not guessed.
    assert!(student_t(0.95, 1e-3).is_err() && student_t(0.5, 1e-320).is_err());
    assert!(student_t(0.95, f64::NAN).is_err());
    // Where one way of finding it takes over from the other, nothing steps.
    for confidence in [0.05, 0.5, 0.95, 0.99, 0.9973, 0.999_999] {
        let (below, above) =
            (student_t(confidence, 9_999.9).unwrap(), student_t(confidence, 10_000.0).unwrap());
        let slope = (above.powi(3) + above) / 4.0 / 1e8;
        assert!((below - above - 0.1 * slope).abs() < 2e-9, "{confidence}: {below} {above}");
    }
}

fn risks() -> Value {
    serde_json::from_str(include_str!("../data/decision_risks.json")).unwrap()
}

fn part(case: &Value, name: &str) -> f64 {
    case[name].as_f64().unwrap_or_else(|| panic!("{name} in {case}"))
}

fn setting(case: &Value) -> (Interval, Prior, f64) {
    let tolerance = Interval { lower: Some(part(case, "lower")), upper: Some(part(case, "upper")) };
    let prior = Prior { mean: part(case, "mean"), std_dev: part(case, "std_dev"), checks: 40 };
    (tolerance, prior, part(case, "u"))
}

/// JCGM 106:2012, 9.5.2, by adaptive quadrature (`tools/reference/decision_risks.py`). The fixed
/// rule here is asked for eight digits.
#[test]
fn global_risks_agree_with_numerical_integration() {
    let kept = risks();
    for case in kept["risks"].as_array().unwrap() {
        let (tolerance, prior, u) = setting(case);
        let acceptance = tolerance.drawn_in(part(case, "band"));
        let found = global_risk(tolerance, acceptance, prior, u);
        assert!(
            (found.false_accept - part(case, "false_accept")).abs() < 1e-8,
            "{case}: {found:?}"
        );
        assert!(
            (found.false_reject - part(case, "false_reject")).abs() < 1e-8,
            "{case}: {found:?}"
        );
    }
    for case in kept["bands"].as_array().unwrap() {
        let (tolerance, prior, u) = setting(case);
        let found = guard_band_for(tolerance, prior, u, part(case, "most")).unwrap();
        assert!((found - part(case, "band")).abs() < 1e-6, "{case}: {found}");
    }
}

/// Coverage factors by SciPy's `t.ppf`; JCGM 100:2008, table G.2 prints the same to two places.
#[test]
fn coverage_factors_agree_with_scipy() {
    for case in risks()["coverage"].as_array().unwrap() {
        let freedom = part(case, "degrees_of_freedom");
        let found = student_t(part(case, "probability"), freedom).unwrap();
        assert!((found / part(case, "factor") - 1.0).abs() < 1e-7, "{case}: {found}");
    }
}

fn baseline() -> Value {
    serde_json::from_str(include_str!("../data/baseline_statistics.json")).unwrap()
}

fn numbers(value: &Value) -> Vec<f64> {
    value.as_array().unwrap().iter().map(|number| number.as_f64().unwrap()).collect()
}

/// Anderson-Darling by `scipy.stats.anderson`, its probability by statsmodels' `normal_ad`,
/// autocorrelations by statsmodels' `acf` (`tools/reference/baseline_statistics.py`).
#[test]
fn normality_and_autocorrelation_agree_with_scipy_and_statsmodels() {
    for sample in baseline()["samples"].as_array().unwrap() {
        let values = numbers(&sample["values"]);
        let found = anderson_darling(&values).unwrap();
        assert!((found.statistic - part(sample, "a2")).abs() < 1e-9, "{sample}: {found:?}");
        assert!((found.probability - part(sample, "p")).abs() < 1e-9, "{sample}: {found:?}");
        for (lag, expected) in numbers(&sample["acf"]).into_iter().enumerate() {
            let r = autocorrelation(&values, lag + 1).unwrap();
            assert!((r - expected).abs() < 1e-12, "{sample}: {r}");
        }
    }
}

/// Variance components of unequal groups by SciPy's mean squares and the method of moments.
#[test]
fn variance_components_agree_with_scipy() {
    let kept = baseline();
    let groups: Vec<Vec<f64>> =
        kept["groups"]["values"].as_array().unwrap().iter().map(numbers).collect();
    let slices: Vec<&[f64]> = groups.iter().map(Vec::as_slice).collect();
    let found = variance_components(&slices).unwrap();
    let expected = &kept["groups"];
    assert!((found.within - part(expected, "within_variance")).abs() < 1e-12, "{found:?}");
    assert!((found.between - part(expected, "between_variance")).abs() < 1e-12, "{found:?}");
    assert!((found.f - part(expected, "f")).abs() < 1e-9, "{found:?}");
    assert!((found.probability - part(expected, "p")).abs() < 1e-9, "{found:?}");
    let same: [&[f64]; 2] = [&[1.0, 1.0], &[1.0, 1.0]];
    let nothing = variance_components(&same).unwrap();
    assert_eq!((nothing.within, nothing.between, nothing.probability), (0.0, 0.0, 1.0));
    assert!(variance_components(&same[..1]).is_err());
    assert!(variance_components(&[&[1.0], &[2.0]]).is_err());
}

/// d₂, d₃ and c₄ by adaptive quadrature, to eight digits.
#[test]
fn constants_of_subgroups_agree_with_quadrature() {
    for constant in baseline()["constants"].as_array().unwrap() {
        let n = constant["n"].as_u64().unwrap() as usize;
        assert!((d2(n) - part(constant, "d2")).abs() < 1e-8, "{constant}: {}", d2(n));
        assert!((d3(n) - part(constant, "d3")).abs() < 1e-8, "{constant}: {}", d3(n));
        assert!((c4(n) - part(constant, "c4")).abs() < 1e-8, "{constant}: {}", c4(n));
    }
    assert!(d2(1).is_nan() && d3(101).is_nan() && c4(1).is_nan());
}

/// Trends by SciPy's `theilslopes` and `kendalltau`, steps by Pettitt's definition (`tools/reference/trends.py`).
#[test]
fn trends_and_steps_agree_with_scipy() {
    let kept: Value = serde_json::from_str(include_str!("../data/trends.json")).unwrap();
    for series in kept["series"].as_array().unwrap() {
        let values = numbers(&series["values"]);
        let (drift, jump) = (trend(&values).unwrap(), step(&values).unwrap());
        assert!((drift.change - part(series, "change")).abs() < 1e-9, "{series}: {drift:?}");
        assert!((drift.probability - part(series, "trend")).abs() < 1e-9, "{series}: {drift:?}");
        assert_eq!(jump.at as u64, series["at"].as_u64().unwrap(), "{series}: {jump:?}");
        assert!((jump.size - part(series, "size")).abs() < 1e-12, "{series}: {jump:?}");
        assert!((jump.probability - part(series, "step")).abs() < 1e-9, "{series}: {jump:?}");
    }
}
