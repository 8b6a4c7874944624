//! Calibration curves and colour differences, against general-purpose libraries.

use rstest::rstest;
use serde::Deserialize;
use vaaka_core::colour::{ColourError, Factors, Lab, colour_difference};
use vaaka_core::stats::{CalibrationError, CalibrationLine, StatsError};

#[derive(Deserialize)]
struct Curves {
    cases: Vec<Curve>,
}

#[derive(Deserialize)]
struct Curve {
    x: Vec<f64>,
    y: Vec<f64>,
    weights: Vec<f64>,
    origin: bool,
    confidence: f64,
    intercept: f64,
    slope: f64,
    intercept_error: f64,
    slope_error: f64,
    t: f64,
    std_dev: f64,
    readings: u32,
    weight: f64,
    at: f64,
    predicted: [f64; 3],
    read: f64,
    read_back: [f64; 3],
    lack_of_fit: Option<[f64; 2]>,
}

fn near(found: f64, expected: f64, what: &str) {
    let scale = expected.abs().max(1e-3);
    assert!((found - expected).abs() <= 1e-7 * scale, "{what}: {found} {expected}");
}

/// statsmodels WLS, and for the unknown the two x whose prediction just holds what was read, found by SciPy
/// (`tools/reference/calibration.py`).
#[test]
fn curves_are_those_of_the_reference() {
    let curves: Curves = serde_json::from_str(include_str!("../data/calibration.json")).unwrap();
    for case in curves.cases {
        let weights = Some(&case.weights[..]);
        let line = CalibrationLine::fit(&case.x, &case.y, weights, case.origin).unwrap();
        near(line.intercept, case.intercept, "intercept");
        near(line.slope, case.slope, "slope");
        near(line.std_dev.unwrap(), case.std_dev, "s");
        let slope = line.slope_within(case.confidence).unwrap();
        near(slope.high - slope.value, case.t * case.slope_error, "slope error");
        let intercept = line.intercept_within(case.confidence).unwrap();
        near(intercept.value - intercept.low, case.t * case.intercept_error, "intercept error");
        let own = (case.readings, case.weight);
        let predicted = line.predicted(case.at, own, case.confidence).unwrap();
        for (found, expected) in
            [predicted.value, predicted.low, predicted.high].into_iter().zip(case.predicted)
        {
            near(found, expected, "prediction");
        }
        let unknown = line.read_back(case.read, own, case.confidence).unwrap();
        for (found, expected) in
            [unknown.value, unknown.low, unknown.high].into_iter().zip(case.read_back)
        {
            assert!(
                (found - expected).abs() < 1e-6 * expected.abs().max(1.0),
                "{found} {expected}"
            );
        }
        match (line.lack_of_fit(&case.x, &case.y, weights), case.lack_of_fit) {
            (Some(found), Some([f, p])) => {
                assert!((found.f - f).abs() < 1e-6 * f.max(1.0), "{} {f}", found.f);
                assert!((found.p - p).abs() < 1e-7, "{} {p}", found.p);
            }
            (None, None) => {}
            other => panic!("{other:?}"),
        }
    }
}

/// Two standards give a line and r = 1, and prove nothing.
#[test]
fn two_standards_prove_nothing() {
    let line = CalibrationLine::fit(&[1.0, 10.0], &[0.1, 1.1], None, false).unwrap();
    assert!((line.correlation - 1.0).abs() < 1e-12 && line.std_dev.is_none());
    assert_eq!(line.slope_within(0.95), Err(CalibrationError::NothingLeft));
    assert_eq!(line.read_back(0.5, (1, 1.0), 0.95), Err(CalibrationError::NothingLeft));
    assert!(line.lack_of_fit(&[1.0, 10.0], &[0.1, 1.1], None).is_none());
    // A bent curve has r near one as well; its repeats tell.
    let x: Vec<f64> = (0..10).map(|at| f64::from(at / 2 + 1)).collect();
    let y: Vec<f64> =
        x.iter().enumerate().map(|(at, x)| x - 0.06 * x * x + 0.002 * (at % 2) as f64).collect();
    let bent = CalibrationLine::fit(&x, &y, None, false).unwrap();
    assert!(bent.correlation > 0.98);
    assert!(bent.lack_of_fit(&x, &y, None).unwrap().p < 1e-6);
}

#[test]
fn what_cannot_be_read_back() {
    let x = [1.0, 2.0, 3.0, 4.0, 5.0];
    let line = CalibrationLine::fit(&x, &[0.11, 0.19, 0.31, 0.40, 0.49], None, false).unwrap();
    match line.read_back(0.8, (1, 1.0), 0.95) {
        Err(CalibrationError::Outside { found, from, to }) => {
            assert!(found > 8.0 && (from, to) == (1.0, 5.0));
        }
        other => panic!("{other:?}"),
    }
    let flat = CalibrationLine::fit(&x, &[0.3, 0.1, 0.4, 0.1, 0.31], None, false).unwrap();
    assert_eq!(flat.read_back(0.24, (1, 1.0), 0.95), Err(CalibrationError::NoSlope));
    assert!(line.read_back(f64::NAN, (1, 1.0), 0.95).is_err());
    assert!(line.read_back(0.3, (0, 1.0), 0.95).is_err());
    assert!(line.read_back(0.3, (1, 0.0), 0.95).is_err());
    assert!(line.read_back(0.3, (1, 1.0), 1.0).is_err());
    for (x, y, w, fault) in [
        (vec![2.0, 2.0], vec![1.0, 2.0], None, CalibrationError::OneValue),
        (vec![1.0], vec![1.0], None, StatsError::TooFewPoints { required: 2, got: 1 }.into()),
        (vec![1.0, f64::NAN], vec![1.0, 2.0], None, StatsError::NotFinite { index: 1 }.into()),
        (
            vec![1.0, 2.0],
            vec![1.0, 2.0],
            Some(vec![1.0, 0.0]),
            CalibrationError::Weight { index: 1 },
        ),
        (vec![1.0, 2.0], vec![1.0], None, CalibrationError::Lengths { x: 2, y: 1, w: 2 }),
    ] {
        assert_eq!(CalibrationLine::fit(&x, &y, w.as_deref(), false), Err(fault));
    }
}

/// By hand, from the line's own s and b: five standards 1 to 5, mean 3, Sxx = 10; t(0.95; 3) = 2.353 363 (printed tables; from
/// memory).
#[test]
fn detection_limits_by_hand() {
    let x = [1.0, 2.0, 3.0, 4.0, 5.0];
    let line = CalibrationLine::fit(&x, &[0.11, 0.18, 0.31, 0.40, 0.50], None, false).unwrap();
    let s = line.std_dev.unwrap();
    let limits = line.detection_limits((1, 1.0)).unwrap();
    let expected = 2.353_363 * s / line.slope * (1.0 + 0.2 + 9.0 / 10.0_f64).sqrt();
    assert!((limits.critical - expected).abs() < 1e-6 * expected);
    assert!((limits.detection - 2.0 * limits.critical).abs() < 1e-12);
    assert!((limits.quantification - 10.0 * s / line.slope).abs() < 1e-12);
}

#[derive(Deserialize)]
struct Colours {
    differences: Vec<Pair>,
    labs: Vec<Tristimulus>,
}

#[derive(Deserialize)]
struct Pair {
    reference: [f64; 3],
    sample: [f64; 3],
    cie_1976: f64,
    cie_1994: f64,
    cie_2000: f64,
    textiles_2000: f64,
}

#[derive(Deserialize)]
struct Tristimulus {
    xyz: [f64; 3],
    white: [f64; 3],
    lab: [f64; 3],
}

/// colour-science, among them the 34 pairs of Sharma, Wu and Dalal (`tools/reference/colours.py`).
#[test]
fn colours_are_those_of_the_reference() {
    let colours: Colours = serde_json::from_str(include_str!("../data/colours.json")).unwrap();
    let lab = |[l, a, b]: [f64; 3]| Lab::new(l, a, b).unwrap();
    let near = |found: f64, expected: f64| {
        assert!((found - expected).abs() < 1e-8, "{found} {expected}");
    };
    for pair in colours.differences {
        let (one, other) = (lab(pair.reference), lab(pair.sample));
        let found = colour_difference(one, other, Factors::ONE).unwrap();
        near(found.cie_1976, pair.cie_1976);
        near(found.cie_1994, pair.cie_1994);
        near(found.cie_2000, pair.cie_2000);
        let textiles = Factors { lightness: 2.0, ..Factors::ONE };
        near(colour_difference(one, other, textiles).unwrap().cie_2000, pair.textiles_2000);
        // ΔE00 has no reference; what is left of ΔE*ab without lightness and chroma is hue.
        let back = colour_difference(other, one, Factors::ONE).unwrap();
        near(back.cie_2000, found.cie_2000);
        // Straight across the grey the hue turns neither way.
        let turns = one.a * other.b - other.a * one.b;
        near(back.hue, if turns == 0.0 { found.hue } else { -found.hue });
        let whole = found.lightness.powi(2) + found.chroma.powi(2) + found.hue.powi(2);
        near(whole.sqrt(), found.cie_1976);
    }
    for case in colours.labs {
        let found = Lab::from_xyz(case.xyz, case.white).unwrap();
        for (found, expected) in [found.l, found.a, found.b].into_iter().zip(case.lab) {
            assert!((found - expected).abs() < 1e-3, "{found} {expected}");
        }
    }
}

#[rstest]
#[case([f64::NAN, 0.0, 0.0], ColourError::NotFinite)]
#[case([-1.0, 0.0, 0.0], ColourError::Range)]
#[case([50.0, 501.0, 0.0], ColourError::Range)]
fn no_colour(#[case] values: [f64; 3], #[case] fault: ColourError) {
    let [l, a, b] = values;
    assert_eq!(Lab::new(l, a, b), Err(fault));
}

#[test]
fn a_white_is_white() {
    let white = [0.9, 1.0, 1.1];
    let found = Lab::from_xyz(white, white).unwrap();
    assert!((found.l - 100.0).abs() < 1e-12 && found.chroma() < 1e-12 && found.hue() == 0.0);
    assert_eq!(Lab::from_xyz(white, [0.0, 1.0, 1.0]), Err(ColourError::White));
    let black = Lab::from_xyz([0.0; 3], white).unwrap();
    assert!(black.l.abs() < 1e-12);
    let one = Lab::new(50.0, 1.0, 1.0).unwrap();
    let none = Factors { hue: 0.0, ..Factors::ONE };
    assert_eq!(colour_difference(one, one, none), Err(ColourError::Factor));
    assert_eq!(colour_difference(one, one, Factors::ONE).unwrap().cie_2000, 0.0);
}

/// Reflectances at 10 nm, beside what colour-science makes of them by its own ways (`tools/reference/tristimulus.py`): weights and
/// interpolated spectra differ by a few hundredths.
#[test]
fn tristimulus_values_are_those_of_the_reference() {
    use vaaka_core::colour::{Illuminant, Observer, tristimulus};
    let kept: serde_json::Value =
        serde_json::from_str(include_str!("../data/tristimulus.json")).unwrap();
    let mut compared = 0;
    for case in kept["cases"].as_array().unwrap() {
        let factors = case["reflectance"].as_array().unwrap();
        let spectrum: Vec<(f64, f64)> = (36..)
            .map(|ten| f64::from(ten * 10))
            .zip(factors.iter().map(|one| one.as_f64().unwrap()))
            .collect();
        for (name, illuminant, observer) in [
            ("D65_TWO", Illuminant::D65, Observer::Two),
            ("D65_TEN", Illuminant::D65, Observer::Ten),
            ("D50_TWO", Illuminant::D50, Observer::Two),
            ("D50_TEN", Illuminant::D50, Observer::Ten),
            ("A_TWO", Illuminant::A, Observer::Two),
            ("A_TEN", Illuminant::A, Observer::Ten),
        ] {
            let found = tristimulus(&spectrum, illuminant, observer).unwrap();
            for (found, wanted) in found.iter().zip(case["xyz"][name].as_array().unwrap()) {
                let wanted = wanted.as_f64().unwrap();
                assert!((found - wanted).abs() < 0.06, "{name}: {found} {wanted}");
                compared += 1;
            }
        }
    }
    assert_eq!(compared, 12 * 6 * 3);
}
