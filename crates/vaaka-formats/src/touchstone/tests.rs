use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;

use super::*;
use crate::{TouchstoneError, read_touchstone};

fn read(text: &str) -> Result<Touchstone, TouchstoneError> {
    read_touchstone(text.as_bytes(), None)
}

fn c(re: f64, im: f64) -> Complex<f64> {
    Complex::new(re, im)
}

/// The example of one port in the specification: an impedance of a capacitor, in magnitudes (numbers made up here).
#[rstest]
#[case("# MHz S MA R 75\n100 0.5 90\n200 0.25 -90\n", 75.0)]
#[case("! a comment\n#ma   s mhz r 75 ! another\n\n  100 .5 90 ! third\n200 0.25 -90", 75.0)]
#[case("# R 50 DB S Hz\n100e6 -6.020599913279624 90\n2D8 -12.041199826559248 -90\n", 50.0)]
#[case("# GHz RI\n0.1 0 0.5\n0.2 0 -0.25\n# Hz MA\n", 50.0)]
fn one_port_in_every_way(#[case] text: &str, #[case] reference: f64) {
    let found = read(text).unwrap();
    assert_eq!((found.ports, found.references.clone()), (1, vec![reference]));
    assert!((found.frequencies[0] - 1e8).abs() < 1.0 && (found.frequencies[1] - 2e8).abs() < 1.0);
    let s11 = found.parameter(1, 1).unwrap();
    assert!((s11[0] - c(0.0, 0.5)).norm() < 1e-15 && (s11[1] - c(0.0, -0.25)).norm() < 1e-15);
    assert_eq!(found.parameter(1, 2), None);
    assert_eq!(found.parameter(0, 1), None);
}

#[test]
fn two_ports_go_by_columns_in_version_1() {
    let found = read("# Hz S RI R 50\n1 11 0 21 0 12 0 22 0\n2 11 1 21 1 12 1 22 1\n").unwrap();
    let at = |row, column| found.parameter(row, column).unwrap()[1];
    assert_eq!(
        [at(1, 1), at(1, 2), at(2, 1), at(2, 2)],
        [c(11.0, 1.0), c(12.0, 1.0), c(21.0, 1.0), c(22.0, 1.0)]
    );
    assert!(!found.noise);
}

#[test]
fn noise_is_passed_over() {
    let data = "# GHz S RI R 50\n1 11 0 21 0 12 0 22 0\n2 11 1 21 1 12 1 22 1\n! noise\n1 0.9 0.4 50 0.3\n1.5 1 0.4 60 0.3\n";
    let found = read(data).unwrap();
    assert_eq!((found.frequencies.len(), found.noise), (2, true));
    // Whole lines that fall back are no noise.
    let twice = "# GHz S RI R 50\n2 11 0 21 0 12 0 22 0\n1 11 1 21 1 12 1 22 1\n";
    assert_eq!(read(twice), Err(TouchstoneError::Falls { line: 3 }));
}

#[test]
fn many_ports_over_several_lines() {
    let three = "# Hz S RI R 50\n1 11 0 12 0 13 0\n 21 0 22 0 23 0\n 31 0 32 0 33 0\n";
    let found = read(three).unwrap();
    assert_eq!((found.ports, found.parameter(2, 3).unwrap()[0]), (3, c(23.0, 0.0)));
    let four = "# Hz S RI R 50\n1 11 0 12 0 13 0 14 0\n21 0 22 0 23 0 24 0\n31 0 32 0 33 0 34 0\n41 0 42 0 43 0 44 0\n";
    let found = read(four).unwrap();
    assert_eq!((found.ports, found.parameter(4, 1).unwrap()[0]), (4, c(41.0, 0.0)));
    // What the name says holds.
    let cut = read_touchstone(three.as_bytes(), Some(4)).unwrap_err();
    assert_eq!(cut, TouchstoneError::Uneven { line: 2, found: 19, wanted: 33, ports: 4 });
}

#[test]
fn version_2_with_triangles_and_impedances() {
    let text = "[Version] 2.0\n# GHz S RI\n[Number of Ports] 3\n[Reference] 50 75\n30\n[Number of Frequencies] 1\n[Matrix Format] Lower\n\
                [Begin Information]\n[Keyword of somebody] 1 2 3\n[End Information]\n[Network Data]\n1 11 0\n21 0 22 0\n31 0 32 0 33 0\n\
                [Noise Data]\n1 2 3 4 5\n[End]\nwhatever\n";
    let found = read(text).unwrap();
    assert_eq!((found.references.clone(), found.noise), (vec![50.0, 75.0, 30.0], true));
    assert_eq!(found.parameter(1, 3), found.parameter(3, 1));
    assert_eq!(found.parameter(2, 3).unwrap()[0], c(32.0, 0.0));
    let upper = text
        .replace("Lower", "Upper")
        .replace("11 0\n21 0 22 0\n31 0 32 0 33 0", "11 0 12 0 13 0\n22 0 23 0\n33 0");
    assert_eq!(read(&upper).unwrap().parameter(3, 2).unwrap()[0], c(23.0, 0.0));
    let two = "[Version] 2.0\n# Hz RI\n[Number of Ports] 2\n[Two-Port Data Order] 12_21\n[Number of Frequencies] 1\n[Network Data]\n1 11 0 12 0 21 0 22 0\n[End]\n";
    assert_eq!(read(two).unwrap().parameter(1, 2).unwrap()[0], c(12.0, 0.0));
    let other = two.replace("12_21", "21_12");
    assert_eq!(read(&other).unwrap().parameter(1, 2).unwrap()[0], c(21.0, 0.0));
}

/// Each fault is named by its line.
#[rstest]
#[case("1 2 3\n", "Line 1: numbers begin before")]
#[case("# GHz S RI R 50\n", "no numbers")]
#[case("", "no numbers")]
#[case("# GHz S RX R 50\n1 2 3\n", "Line 1: “RX” is no option")]
#[case("# GHz Z RI R 50\n1 2 3\n", "Line 1: the file holds Z parameters")]
#[case("# GHz S RI R\n1 2 3\n", "a reference impedance")]
#[case("# GHz S RI R 0\n1 2 3\n", "a reference impedance")]
#[case("# GHz S RI R 50 75\n1 2 3\n", "a reference impedance")]
#[case("# GHz S RI R 50\n1 2 3\n2 3\n", "Line 3: 2 numbers, where a network of 1 ports has 3")]
#[case("# GHz S RI R 50\n1 2 3\n2 3 x4\n", "Line 3: “x4” is no number")]
#[case("# GHz S RI R 50\n1 2 3\n2 nan 4\n", "Line 3: “nan” is no number")]
#[case("# GHz S RI R 50\n1 2 3\n1 3 4\n", "Line 3: the frequency does not rise")]
#[case("# GHz S RI R 50\n-1 2 3\n", "Line 2: a frequency below zero")]
#[case("# GHz S RI R 50\n1 2 3 4\n", "Line 2: ")]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Number of Frequencies] 1\n[Network Data]\n1 2 3\n",
    "number of ports"
)]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Number of Ports] 1\n[Network Data]\n1 2 3\n",
    "number of frequencies"
)]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Number of Ports] 1\n[Number of Frequencies] 3\n[Network Data]\n1 2 3\n",
    "has 3 frequencies, and holds 1"
)]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Number of Ports] 2\n[Number of Frequencies] 1\n[Network Data]\n1 2 3\n",
    "order of two-port data"
)]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Number of Ports] 99\n[Number of Frequencies] 1\n[Network Data]\n1 2 3\n",
    "99 ports"
)]
#[case(
    "[Version] 2.0\n# GHz S RI\n[Mixed-Mode Order] D1,2\n",
    "Line 3: “[mixed-mode order] D1,2” cannot"
)]
fn faults(#[case] text: &str, #[case] words: &str) {
    let error = read(text).unwrap_err().to_string();
    assert!(error.contains(words), "{error}");
}

#[test]
fn what_is_written_is_read_again_to_the_bit_or_the_last_digit() {
    let mut random = ChaCha8Rng::seed_from_u64(21);
    for ports in 1..=6 {
        let mut draw = || c(random.random_range(-1.0..1.0), random.random_range(-1.0..1.0));
        let network = Touchstone {
            ports,
            frequencies: vec![1.0, 2.5e6, 1.234_567_89e9],
            references: if ports == 3 { vec![50.0, 75.0, 12.5] } else { vec![50.0; ports] },
            parameters: (0..3).map(|_| (0..ports * ports).map(|_| draw()).collect()).collect(),
            comments: vec!["made up".into()],
            noise: false,
        };
        for version in [TouchstoneVersion::V1, TouchstoneVersion::V2] {
            let name = (version == TouchstoneVersion::V1 && ports != 3).then_some(ports);
            let text = network.written(version, NumberFormat::RealImaginary);
            let back = read_touchstone(text.as_bytes(), name).unwrap();
            assert_eq!(back, network, "{text}");
            for format in [NumberFormat::MagnitudeAngle, NumberFormat::DecibelAngle] {
                let text = network.written(version, format);
                let back = read_touchstone(text.as_bytes(), name).unwrap();
                for (a, b) in
                    back.parameters.iter().flatten().zip(network.parameters.iter().flatten())
                {
                    assert!((a - b).norm() < 1e-14, "{a} {b}");
                }
            }
        }
        // Without its name the lines tell how many ports there are.
        let text = network.written(TouchstoneVersion::V1, NumberFormat::RealImaginary);
        assert_eq!(read_touchstone(text.as_bytes(), None).unwrap().ports, ports);
    }
}

#[rstest]
#[case("! swept\n\n# GHz S RI R 50\n1 0 0\n", true)]
#[case("[Version] 2.0\n", true)]
#[case("# Wavelength (nm); absorbance\n400;0.1\n", false)]
#[case("#\n1 2 3\n", false)]
#[case("frequency;re;im\n1;2;3\n", false)]
#[case("", false)]
fn a_file_is_known_by_its_beginning(#[case] text: &str, #[case] is: bool) {
    assert_eq!(crate::is_touchstone(text.as_bytes()), is);
}

/// Whatever stands in a file, it is read or refused.
#[test]
fn a_file_that_is_cut_anywhere_is_no_panic() {
    let text = "[Version] 2.0\n# GHz S RI\n[Number of Ports] 2\n[Two-Port Data Order] 21_12\n[Number of Frequencies] 2\n[Reference] 50 75\n[Network Data]\n1 1 0 2 0 3 0 4 0\n2 1 0 2 0 3 0 4 0\n[End]\n";
    for end in 0..text.len() {
        let _ = read(&text[..end]);
        let mut bytes = text.as_bytes().to_vec();
        bytes[end] = b'\xff';
        let _ = read_touchstone(&bytes, Some(2));
    }
    assert!(read(text).is_ok());
}
