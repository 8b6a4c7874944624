//! Positions of peaks against NumPy and SciPy (`tools/reference/peaks.py`).
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use serde_json::Value;
use vaaka_core::trace::{Extreme, PositionBy, Search, find_peak};

#[test]
fn vertex_and_centroid_agree_with_numpy_and_scipy() {
    let reference: Value = serde_json::from_str(include_str!("../data/peaks.json")).unwrap();
    let numbers = |value: &Value| -> Vec<f64> {
        value.as_array().unwrap().iter().map(|number| number.as_f64().unwrap()).collect()
    };
    let (mut vertices, mut centroids) = (0, 0);
    for case in reference["cases"].as_array().unwrap() {
        let (x, y) = (numbers(&case["x"]), numbers(&case["y"]));
        let extreme =
            if case["hangs"].as_bool().unwrap() { Extreme::Lowest } else { Extreme::Highest };
        let found = |by| {
            let search = Search {
                centre: case["centre"].as_f64().unwrap(),
                half_width: case["half_width"].as_f64().unwrap(),
                extreme,
                by,
                least: 0.0,
            };
            find_peak((&x, &y), search).unwrap()
        };
        let vertex = found(PositionBy::Parabola);
        assert!((vertex.position - case["vertex"].as_f64().unwrap()).abs() < 1e-7, "{vertex:?}");
        vertices += 1;
        if let Some(expected) = case["centroid"].as_f64() {
            let centroid = found(PositionBy::Centroid);
            assert!((centroid.position - expected).abs() < 1e-7, "{centroid:?} {expected}");
            centroids += 1;
        }
    }
    assert!(vertices >= 20 && centroids >= 15, "{vertices} {centroids}");
}
