use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;

use super::*;
use crate::{is_spectrum_file, read_jcamp};

/// A file of eleven points from 400 to 410 in the packing of its lines.
fn file(lines: &str) -> String {
    format!(
        "##TITLE=made up $$ by hand\n##JCAMP-DX=4.24\n##X UNITS=NANOMETERS\n##Y_UNITS=ABSORBANCE\n##FIRSTX=400\n##LASTX=410\n##NPOINTS=11\n##XFACTOR=1\n##YFACTOR=0.01\n##XYDATA=(X++(Y..Y))\n{lines}##END=\n"
    )
}

const VALUES: [f64; 11] = [1.0, 2.0, 3.0, 3.0, 2.0, 1.0, 0.0, -1.0, -2.0, -3.0, -15.0];

/// The same in each packing (the example of the paper's kind; worked out by hand).
#[rstest]
// AFFN and PAC.
#[case("400 1 2 3 3 2 1\n406 0 -1 -2 -3 -15\n")]
#[case("400+1+2+3+3+2+1\n406+0-1-2-3-15\n")]
// SQZ.
#[case("400ABCCBA\n406@abca5\n")]
// SQZ with DUP: three stands twice.
#[case("400ABCTBA\n406@abca5\n")]
// DIF: the second line says the last value of the first one again.
#[case("400AJJ%jj\n405Ajjjj\n409cj2\n")]
// DIF and DUP: two differences of one, four of minus one.
#[case("400AJT%jT\n405AjV\n409cj2\n410a5\n")]
fn each_packing_says_the_same(#[case] lines: &str) {
    let found = read_jcamp(file(lines).as_bytes()).unwrap();
    let wanted: Vec<f64> = VALUES.iter().map(|value| value * 0.01).collect();
    assert_eq!(found.y.len(), 11, "{:?}", found.y);
    for (a, b) in found.y.iter().zip(&wanted) {
        assert!((a - b).abs() < 1e-12, "{:?}", found.y);
    }
    assert_eq!((found.x[0], found.x[10], found.title.as_str()), (400.0, 410.0, "made up"));
    assert_eq!((found.x_unit.as_str(), found.y_unit.as_str()), ("NANOMETERS", "ABSORBANCE"));
}

#[test]
fn points_in_pairs_and_numbers_with_exponents() {
    let text = "##TITLE=t\n##XFACTOR=1\n##YFACTOR=2\n##XYPOINTS=(XY..XY)\n400, 1.5; 401.5, 1e-3\n404 -2\n##END=\n";
    let found = read_jcamp(text.as_bytes()).unwrap();
    assert_eq!((found.x, found.y), (vec![400.0, 401.5, 404.0], vec![3.0, 2e-3, -4.0]));
    let plain = file("400 1.0 2.0E0 3.0 3.0 2.0 1.0\n406 0.0 -1.0 -2.0 -3.0 -1.5E+01\n");
    assert!((read_jcamp(plain.as_bytes()).unwrap().y[10] + 0.15).abs() < 1e-12);
}

/// Each fault is named by its line, or by what is missing.
#[rstest]
#[case(file("400 1 2 3 3 2 1\n407 0 -1 -2 -3 -15\n"), "Line 12: it begins at 407, where 406")]
#[case(file("400AJJ%jj\n405Bjjjj\n409cj2\n"), "Line 12: its first value")]
#[case(file("400 1 2 3\n"), "has 11 points, and holds 3")]
#[case(file("400 1 ? 3 3 2 1\n406 0 -1 -2 -3 -15\n"), "Line 11: a point is marked")]
#[case(file("400 1 2# 3 3 2 1\n406 0 -1 -2 -3 -15\n"), "Line 11: “2#” is no number")]
#[case(file("400T\n"), "Line 11: ")]
#[case(file("400J\n"), "Line 11: ")]
#[case(file("").replace("##FIRSTX=400\n", ""), "FIRSTX")]
#[case(file("").replace("FIRSTX=400", "FIRSTX=about 400"), "Line 5: FIRSTX holds “about 400”")]
#[case(file("").replace("(X++(Y..Y))", "(X++(R..R))"), "XYDATA=(X++(R..R)) are not read")]
#[case("##TITLE=t\n##NTUPLES=\n".into(), "NTUPLES are not read")]
#[case("##TITLE=t\n##END=\n".into(), "no spectrum")]
#[case(String::new(), "no spectrum")]
#[case(format!("{}{}", file("400 1 2 3 3 2 1\n406 0 -1 -2 -3 -15\n"), file("")), "a second spectrum begins")]
#[case("##TITLE=t\n##XYPOINTS=(XY..XY)\n1 2 3\n".into(), "Line 3")]
fn faults(#[case] text: String, #[case] words: &str) {
    let error = read_jcamp(text.as_bytes()).unwrap_err();
    assert!(error.to_string().contains(words), "{error}");
}

#[test]
fn a_file_is_known_by_its_title() {
    assert!(is_spectrum_file(b"$$ a note\n##title= t\n"));
    assert!(!is_spectrum_file(b"# GHz S RI R 50\n") && !is_spectrum_file(b"400;0.1\n"));
}

#[test]
fn what_is_written_is_read_again() {
    let mut random = ChaCha8Rng::seed_from_u64(20);
    for even in [true, false] {
        let mut x = 200.0;
        let points = 250;
        let axis: Vec<f64> = (0..points)
            .map(|n| {
                x += random.random_range(0.1..2.0);
                if even { 200.0 + 0.5 * f64::from(n) } else { x }
            })
            .collect();
        let spectrum = Spectrum {
            title: "two lines\nof it".into(),
            x_unit: "NANOMETERS".into(),
            y_unit: "ABSORBANCE".into(),
            y: axis.iter().map(|_| random.random_range(-0.01..2.0)).collect(),
            x: axis,
        };
        let text = spectrum.written();
        assert_eq!(text.contains("XYDATA"), even);
        let back = read_jcamp(text.as_bytes()).unwrap();
        assert_eq!((back.title.as_str(), back.x.len()), ("two lines of it", 250));
        for (a, b) in back.x.iter().zip(&spectrum.x).chain(back.y.iter().zip(&spectrum.y)) {
            assert!((a - b).abs() < 2e-8, "{a} {b}");
        }
    }
    let nothing = Spectrum {
        title: String::new(),
        x_unit: String::new(),
        y_unit: String::new(),
        x: vec![1.0],
        y: vec![0.0],
    };
    assert_eq!(read_jcamp(nothing.written().as_bytes()).unwrap().y, [0.0]);
}

/// Whatever stands in a file, it is read or refused.
#[test]
fn a_file_that_is_damaged_anywhere_is_no_panic() {
    let text = file("400AJT%jT\n405AjV\n409cj2\n410a5\n");
    for end in 0..text.len() {
        let _ = read_jcamp(&text.as_bytes()[..end]);
        for byte in [b'\xff', b'Z', b'9', b'%'] {
            let mut bytes = text.as_bytes().to_vec();
            bytes[end] = byte;
            let _ = read_jcamp(&bytes);
        }
    }
}

/// Packed files as another reader takes them (`tools/reference/spectra_files.py`, the package jcamp).
#[test]
fn packed_files_are_read_as_another_reader_does() {
    let kept: serde_json::Value =
        serde_json::from_str(include_str!("../../tests/data/jcamp.json")).unwrap();
    let cases = kept["cases"].as_array().unwrap();
    for case in cases {
        let found = read_jcamp(case["text"].as_str().unwrap().as_bytes()).unwrap();
        for (own, key) in [(&found.x, "x"), (&found.y, "y")] {
            let wanted = case[key].as_array().unwrap();
            assert_eq!(own.len(), wanted.len());
            for (a, b) in own.iter().zip(wanted) {
                assert!((a - b.as_f64().unwrap()).abs() < 1e-9, "{key}: {a} {b}");
            }
        }
    }
    assert_eq!(cases.len(), 12);
}
