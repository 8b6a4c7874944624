//! Network analyzers against the kept output of `tools/reference/network.py` (scikit-rf), closed forms, and what cannot be.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;
use serde_json::Value;
use vaaka_core::network::{
    Cloud, Complex, Load, NetworkError, Offset, OnePort, Reflect, Standard, TwelveTerms, TwoPort,
    cascade, deembed, error_vector, line_correction, match_correction, offset_delay,
    one_port_terms, reflection, renormalized, renormalized_one_port, ripple, twelve_terms,
};

fn kept() -> Value {
    serde_json::from_str(include_str!("../data/network.json")).unwrap()
}

fn floats(of: &Value) -> Vec<f64> {
    of.as_array().unwrap().iter().map(|one| one.as_f64().unwrap()).collect()
}

fn complex(of: &Value) -> Vec<Complex> {
    let pair = |one: &Value| Complex::new(one[0].as_f64().unwrap(), one[1].as_f64().unwrap());
    of.as_array().unwrap().iter().map(pair).collect()
}

fn two(of: &Value) -> Vec<TwoPort> {
    let [s11, s21, s12, s22] = ["s11", "s21", "s12", "s22"].map(|key| complex(&of[key]));
    let at = |n: usize| TwoPort { s11: s11[n], s21: s21[n], s12: s12[n], s22: s22[n] };
    (0..s11.len()).map(at).collect()
}

fn near(what: &str, found: &[Complex], wanted: &[Complex], within: f64) {
    assert_eq!(found.len(), wanted.len(), "{what}");
    for (at, (a, b)) in found.iter().zip(wanted).enumerate() {
        assert!((a - b).norm() < within, "{what}, {at}: {a} {b}");
    }
}

type Part = fn(&TwoPort) -> Complex;

fn near_two(what: &str, found: &[TwoPort], wanted: &[TwoPort], within: f64) {
    let parts: [(&str, Part); 4] =
        [("s11", |s| s.s11), ("s21", |s| s.s21), ("s12", |s| s.s12), ("s22", |s| s.s22)];
    for (name, part) in parts {
        let of = |sweep: &[TwoPort]| sweep.iter().map(part).collect::<Vec<Complex>>();
        near(&format!("{what} {name}"), &of(found), &of(wanted), within);
    }
}

fn standard(of: &Value) -> Standard {
    let numbers = floats(&of["numbers"]);
    let number = |key: &str| of[key].as_f64().unwrap();
    let offset =
        Offset { delay: number("delay"), loss: number("loss"), impedance: number("impedance") };
    match of["kind"].as_str().unwrap() {
        "open" => Standard::Open { capacitance: numbers.try_into().unwrap(), offset },
        "short" => Standard::Short { inductance: numbers.try_into().unwrap(), offset },
        _ => Standard::Load {
            load: Load { resistance: numbers[0], inductance: numbers[1], capacitance: numbers[2] },
            offset,
        },
    }
}

#[test]
fn standards_reflect_what_the_reference_says() {
    let kept = kept();
    let frequencies = floats(&kept["frequencies"]);
    for of in kept["kit"].as_array().unwrap() {
        let model = standard(of);
        let found: Vec<Complex> =
            frequencies.iter().map(|f| model.reflection(*f, 50.0).unwrap()).collect();
        near(&of["kind"].to_string(), &found, &complex(&of["reflection"]), 1e-10);
    }
}

#[test]
fn one_port_is_corrected_as_by_the_reference() {
    let kept = kept();
    let frequencies = floats(&kept["frequencies"]);
    for case in kept["one_port"].as_array().unwrap() {
        let all = |key: &str| case[key].as_array().unwrap().iter().map(complex).collect::<Vec<_>>();
        let (ideals, measured) = (all("ideals"), all("measured"));
        let standards: Vec<(&[Complex], &[Complex])> =
            ideals.iter().zip(&measured).map(|(a, b)| (a.as_slice(), b.as_slice())).collect();
        let (terms, left) = one_port_terms(&frequencies, &standards).unwrap();
        let of = |part: fn(&OnePort) -> Complex| terms.iter().map(part).collect::<Vec<Complex>>();
        near("directivity", &of(|one| one.directivity), &complex(&case["directivity"]), 1e-9);
        near("source match", &of(|one| one.source_match), &complex(&case["source_match"]), 1e-9);
        near("tracking", &of(|one| one.tracking), &complex(&case["tracking"]), 1e-9);
        let raw = complex(&case["raw"]);
        let found: Vec<Complex> =
            terms.iter().zip(&raw).map(|(one, raw)| one.corrected(*raw)).collect();
        near("corrected", &found, &complex(&case["corrected"]), 1e-9);
        let again: Vec<Complex> =
            terms.iter().zip(&found).map(|(one, found)| one.measured(*found)).collect();
        near("measured again", &again, &raw, 1e-12);
        // Of three standards nothing is left; of five, what their noise is.
        let largest = left.iter().copied().fold(0.0, f64::max);
        if standards.len() == 3 {
            assert!(largest < 1e-12, "{largest}");
        } else {
            assert!(largest > 2e-4 && largest < 1e-2, "{largest}");
        }
    }
}

#[test]
fn two_ports_are_corrected_as_by_the_reference() {
    let kept = kept();
    let frequencies = floats(&kept["frequencies"]);
    for case in kept["twelve"].as_array().unwrap() {
        let ideals: Vec<Vec<Complex>> =
            case["ideals"].as_array().unwrap().iter().map(complex).collect();
        let measured: Vec<Vec<TwoPort>> =
            case["measured"].as_array().unwrap().iter().map(two).collect();
        let terms = |part: fn(&TwoPort) -> Complex| {
            let own: Vec<Vec<Complex>> =
                measured[..3].iter().map(|sweep| sweep.iter().map(part).collect()).collect();
            let standards: Vec<(&[Complex], &[Complex])> =
                ideals.iter().zip(&own).map(|(a, b)| (a.as_slice(), b.as_slice())).collect();
            one_port_terms(&frequencies, &standards).unwrap().0
        };
        let (forward, reverse) = (terms(|one| one.s11), terms(|one| one.s22));
        let isolation: Option<Vec<(Complex, Complex)>> = (!case["isolation"].is_null())
            .then(|| two(&case["isolation"]).iter().map(|one| (one.s21, one.s12)).collect());
        let thru = two(&case["thru"]);
        let terms = twelve_terms(
            &frequencies,
            (&forward, &reverse),
            (&thru, &measured[3]),
            isolation.as_deref(),
        )
        .unwrap();
        let raw = two(&case["raw"]);
        let found: Vec<TwoPort> =
            terms.iter().zip(&raw).map(|(one, raw)| one.corrected(raw)).collect();
        near_two("corrected", &found, &two(&case["corrected"]), 1e-9);
        let again: Vec<TwoPort> =
            terms.iter().zip(&found).map(|(one, found)| one.measured(found)).collect();
        near_two("measured again", &again, &raw, 1e-10);
        // Where crosstalk was measured the piece itself comes back.
        let within = if isolation.is_some() { 1e-9 } else { 5e-3 };
        near_two("piece", &found, &two(&case["piece"]), within);
    }
}

#[test]
fn lines_and_matches_correct_as_by_the_reference() {
    let kept = kept();
    let frequencies = floats(&kept["frequencies"]);
    let both = |of: &Value| -> Vec<(Complex, Complex)> {
        two(of).iter().map(|one| (one.s11, one.s22)).collect()
    };
    let case = &kept["trl"];
    let found = line_correction(
        &frequencies,
        &two(&case["thru"]),
        &two(&case["line"]),
        (&both(&case["reflect"]), Reflect::Short),
    )
    .unwrap();
    let corrected: Vec<TwoPort> =
        found.iter().zip(two(&case["raw"])).map(|(one, raw)| one.corrected(&raw)).collect();
    near_two("by a line", &corrected, &two(&case["corrected"]), 1e-8);
    let reflected: Vec<Complex> = found.iter().map(|one| one.reflect).collect();
    near("the reflect", &reflected, &complex(&case["reflected"]), 1e-9);
    let factors: Vec<Complex> = found.iter().map(|one| one.line.unwrap()).collect();
    near("the line", &factors, &complex(&case["factor"]), 1e-9);

    let case = &kept["lrm"];
    let found = match_correction(
        &frequencies,
        &two(&case["thru"]),
        (&both(&case["match"]), &complex(&case["of_match"])),
        (&both(&case["reflect"]), Reflect::Open),
    )
    .unwrap();
    let corrected: Vec<TwoPort> =
        found.iter().zip(two(&case["raw"])).map(|(one, raw)| one.corrected(&raw)).collect();
    near_two("by a match", &corrected, &two(&case["corrected"]), 1e-8);
    let reflected: Vec<Complex> = found.iter().map(|one| one.reflect).collect();
    near("the reflect", &reflected, &complex(&case["reflected"]), 1e-9);
}

#[test]
fn two_ports_are_joined_taken_apart_and_renormalized() {
    let kept = kept();
    let frequencies = floats(&kept["frequencies"]);
    let [piece, left, right, joined] =
        ["piece", "left", "right", "joined"].map(|key| two(&kept[key]));
    let half = cascade(&frequencies, &left, &piece).unwrap();
    near_two("joined", &cascade(&frequencies, &half, &right).unwrap(), &joined, 1e-12);
    let found = deembed(&frequencies, &joined, Some(&left), Some(&right)).unwrap();
    near_two("taken apart", &found, &piece, 1e-11);
    let found: Vec<TwoPort> =
        piece.iter().map(|one| renormalized(one, (50.0, 50.0), (75.0, 30.0))).collect();
    near_two("renormalized", &found, &two(&kept["renormalized"]), 1e-12);
    let back: Vec<TwoPort> =
        found.iter().map(|one| renormalized(one, (75.0, 30.0), (50.0, 50.0))).collect();
    near_two("and back", &back, &piece, 1e-12);
    for (one, gain) in piece.iter().zip(floats(&kept["passivity"])) {
        assert!((one.largest_gain() - gain).abs() < 1e-12);
    }
    // A two-port that ends in nothing is a one-port: both ways to renormalize say the same.
    let ended = TwoPort { s11: Complex::new(0.2, -0.3), ..TwoPort::THRU };
    let alone = TwoPort { s21: Complex::new(1e-9, 0.0), s12: Complex::ZERO, ..ended };
    let a = renormalized(&alone, (50.0, 50.0), (75.0, 75.0)).s11;
    assert!((a - renormalized_one_port(ended.s11, 50.0, 75.0)).norm() < 1e-8);
}

/// Closed forms: 100 Ω and 25 Ω in 50 Ω, a match, an open and a short circuit.
#[rstest]
#[case((1.0 / 3.0, 0.0), 9.542_425, 2.0, 0.511_525, Some(100.0))]
#[case((-1.0 / 3.0, 0.0), 9.542_425, 2.0, 0.511_525, Some(25.0))]
#[case((0.0, 0.0), f64::INFINITY, 1.0, 0.0, Some(50.0))]
#[case((1.0, 0.0), 0.0, f64::INFINITY, f64::INFINITY, None)]
#[case((-1.0, 0.0), 0.0, f64::INFINITY, f64::INFINITY, Some(0.0))]
fn reflections_in_every_way(
    #[case] (re, im): (f64, f64),
    #[case] loss: f64,
    #[case] ratio: f64,
    #[case] mismatch: f64,
    #[case] ohms: Option<f64>,
) {
    let told = reflection(Complex::new(re, im), 50.0).unwrap();
    let same = |a: f64, b: f64| a == b || (a - b).abs() < 1e-6;
    assert!(same(told.return_loss, loss), "{told:?}");
    assert!(same(told.standing_wave_ratio, ratio), "{told:?}");
    assert!(same(told.mismatch_loss, mismatch), "{told:?}");
    assert_eq!(told.impedance.map(|z| z.re.round()), ohms);
    assert_eq!(told.admittance.is_none(), re == -1.0);
}

#[test]
fn an_offset_by_its_length() {
    // 30 mm of air are a tenth of a nanosecond; of a plastic with ε = 2.25 half as much again.
    assert!((offset_delay(0.029_979_245_8, 1.0).unwrap() - 1e-10).abs() < 1e-24);
    assert!((offset_delay(0.029_979_245_8, 2.25).unwrap() - 1.5e-10).abs() < 1e-24);
    assert!(offset_delay(0.01, 0.9).is_err());
    assert!(offset_delay(f64::NAN, 1.0).is_err());
}

#[test]
fn models_that_cannot_be() {
    let open = |impedance: f64, loss: f64| Standard::Open {
        capacitance: [0.0; 4],
        offset: Offset { delay: 0.0, loss, impedance },
    };
    // Without a fringe it is an open circuit, and with half a half-wave in front of it a short one.
    assert_eq!(open(50.0, 0.0).reflection(1e9, 50.0).unwrap(), Complex::ONE);
    let turned = Standard::Open {
        capacitance: [0.0; 4],
        offset: Offset { delay: 0.25e-9, loss: 0.0, impedance: 50.0 },
    };
    assert!((turned.reflection(1e9, 50.0).unwrap() + 1.0).norm() < 1e-12);
    let short = Standard::Short { inductance: [0.0; 4], offset: Offset::none(50.0) };
    assert_eq!(short.reflection(1e9, 50.0).unwrap(), -Complex::ONE);
    assert!(open(0.0, 0.0).reflection(1e9, 50.0).is_err());
    assert!(open(50.0, -1.0).reflection(1e9, 50.0).is_err());
    assert!(open(50.0, 0.0).reflection(0.0, 50.0).is_err());
    assert!(open(50.0, 0.0).reflection(1e9, f64::NAN).is_err());
}

#[test]
fn standards_that_are_alike_are_named_with_their_frequencies() {
    let frequencies = [1e9, 2e9, 3e9];
    let constant = |value: f64| vec![Complex::new(value, 0.0); 3];
    let (short, load) = (constant(-1.0), constant(0.0));
    // An open that a quarter of a wave has turned into a short at 2 GHz.
    let open: Vec<Complex> = vec![Complex::ONE, -Complex::ONE, Complex::ONE];
    let standards = [(&open[..], &open[..]), (&short[..], &short[..]), (&load[..], &load[..])];
    let error = one_port_terms(&frequencies, &standards).unwrap_err();
    assert_eq!(error, NetworkError::Alike { places: "2 GHz".into() });
    assert!(error.to_string().starts_with("The standards are too much alike at 2 GHz"));
    let error = one_port_terms(&frequencies, &standards[..2]).unwrap_err();
    assert_eq!(error, NetworkError::TooFew { wanted: 3, found: 2 });
    let short_sweep = [(&open[..2], &open[..]), standards[1], standards[2]];
    assert!(matches!(
        one_port_terms(&frequencies, &short_sweep),
        Err(NetworkError::Lengths { .. })
    ));
}

#[test]
fn lines_of_a_half_wave_and_sweeps_that_pass_nothing() {
    let frequencies = [1e9, 2e9];
    let thru = [TwoPort::THRU; 2];
    // As long as the thru at 1 GHz, a half wave at 2 GHz.
    let line = [TwoPort::line(Complex::ONE), TwoPort::line(-Complex::ONE)];
    let reflect = [(-Complex::ONE, -Complex::ONE); 2];
    let error =
        line_correction(&frequencies, &thru, &line, (&reflect, Reflect::Short)).unwrap_err();
    assert_eq!(error, NetworkError::HalfWave { places: "1 GHz and 2 GHz".into() });
    let quarter = [TwoPort::line(-Complex::I); 2];
    let found = line_correction(&frequencies, &thru, &quarter, (&reflect, Reflect::Short)).unwrap();
    assert!(
        (found[0].reflect + 1.0).norm() < 1e-12
            && (found[0].line.unwrap() + Complex::I).norm() < 1e-12
    );
    let dead = [TwoPort { s21: Complex::ZERO, ..TwoPort::THRU }; 2];
    let error =
        line_correction(&frequencies, &dead, &quarter, (&reflect, Reflect::Short)).unwrap_err();
    assert!(error.to_string().contains("passes nothing on at 1 GHz and 2 GHz"), "{error}");
    let ideal =
        OnePort { directivity: Complex::ZERO, source_match: Complex::ZERO, tracking: Complex::ONE };
    let error =
        twelve_terms(&frequencies, (&[ideal; 2], &[ideal; 2]), (&thru, &dead), None).unwrap_err();
    assert!(matches!(error, NetworkError::Blocked { .. }));
    assert!(twelve_terms(&frequencies, (&[ideal; 1], &[ideal; 2]), (&thru, &thru), None).is_err());
    let terms =
        twelve_terms(&frequencies, (&[ideal; 2], &[ideal; 2]), (&thru, &thru), None).unwrap();
    let found: Vec<TwelveTerms> = terms;
    assert_eq!(found[0].corrected(&TwoPort::THRU), TwoPort::THRU);
}

/// Imperfect standards with noise: what is corrected lies within what noise and standards leave uncertain, 95 times in 100.
#[test]
fn imperfect_standards_correct_within_their_uncertainty() {
    let mut random = ChaCha8Rng::seed_from_u64(21);
    let mut normal = |size: f64| {
        Complex::new(super::policies::normal(&mut random), super::policies::normal(&mut random))
            * size
    };
    let (of_standard, noise) = (4e-3, 1e-3);
    let terms = OnePort {
        directivity: Complex::new(0.03, -0.02),
        source_match: Complex::new(0.08, 0.05),
        tracking: Complex::new(0.9, -0.2),
    };
    let models = [Complex::ONE, -Complex::ONE, Complex::ZERO];
    let piece = Complex::new(0.12, 0.2);
    // Shares of open, short and load in an error of Γ near the middle: (Γ + Γ²)/2, (Γ² − Γ)/2, 1 − Γ².
    let shares = [
        (piece + piece * piece) / 2.0,
        (piece * piece - piece) / 2.0,
        Complex::ONE - piece * piece,
    ];
    let of_three: f64 = shares.iter().map(|one| one.norm_sqr()).sum();
    let by_noise = noise / terms.tracking.norm();
    // Standard deviation of one part: three standards, each with noise of its own, and the noise of the piece.
    let sigma =
        (of_three * (of_standard * of_standard + by_noise * by_noise) + by_noise * by_noise).sqrt();
    let (mut held, worlds) = (0, 2_000);
    for _ in 0..worlds {
        let measured: Vec<Vec<Complex>> = models
            .iter()
            .map(|model| vec![terms.measured(model + normal(of_standard)) + normal(noise)])
            .collect();
        let ideals: Vec<Vec<Complex>> = models.iter().map(|model| vec![*model]).collect();
        let standards: Vec<(&[Complex], &[Complex])> =
            ideals.iter().zip(&measured).map(|(a, b)| (a.as_slice(), b.as_slice())).collect();
        let (found, _) = one_port_terms(&[1e9], &standards).unwrap();
        let off = found[0].corrected(terms.measured(piece) + normal(noise)) - piece;
        // Two parts: 95 % lie within √5.99 of a standard deviation.
        held += usize::from(off.norm_sqr() <= 5.991 * sigma * sigma);
    }
    let share = held as f64 / f64::from(worlds);
    assert!((share - 0.95).abs() < 0.025, "{share}");
}

#[test]
fn the_worst_frequency_is_that_nearest_to_its_limit() {
    let frequencies = [1e9, 2e9, 3e9];
    let reference = [Complex::ZERO; 3];
    let found = [Complex::new(0.02, 0.0), Complex::new(0.0, -0.012), Complex::new(0.001, 0.0)];
    let told = error_vector(&frequencies, &found, &reference, Some(&[0.03, 0.01, 0.01])).unwrap();
    assert_eq!((told.worst, told.inside), (1, Some(false)));
    let told = error_vector(&frequencies, &found, &reference, None).unwrap();
    assert_eq!((told.worst, told.largest, told.inside), (0, 0.02, None));
    assert!(error_vector(&frequencies, &found, &reference, Some(&[0.03])).is_err());
    assert!(error_vector(&frequencies, &found, &reference, Some(&[0.03, 0.0, 0.1])).is_err());
    assert!(error_vector(&[], &[], &[], None).is_err());
}

/// One vector in a hundred of the same kind lies outside a cloud's limit of one in a hundred; one that is off by five sigmas does.
#[test]
fn clouds_hold_their_own() {
    let mut random = ChaCha8Rng::seed_from_u64(8);
    let mut draw = || {
        let (a, b) = (super::policies::normal(&mut random), super::policies::normal(&mut random));
        Complex::new(0.3 + 0.01 * a, -0.1 + 0.006 * (0.8 * a + 0.6 * b))
    };
    let (mut outside, rounds) = (0, 6_000);
    for _ in 0..rounds {
        let own: Vec<Complex> = (0..20).map(|_| draw()).collect();
        let cloud = Cloud::of(&own).unwrap();
        outside += usize::from(cloud.distance(draw()) > cloud.limit(0.01).unwrap());
    }
    let share = outside as f64 / f64::from(rounds);
    assert!((share - 0.01).abs() < 0.004, "{share}");
    let own: Vec<Complex> = (0..40).map(|_| draw()).collect();
    let cloud = Cloud::of(&own).unwrap();
    let mean = Complex::new(cloud.mean.0, cloud.mean.1);
    assert!(cloud.distance(mean) < 1e-12);
    let limit = cloud.limit(0.01).unwrap();
    assert!(cloud.distance(mean + Complex::new(0.05, -0.03)) > limit);
    // The ends of its axes lie on the ellipse.
    let (long, short, angle) = cloud.ellipse(limit);
    assert!(long > short);
    for (half, turn) in [(long, 0.0), (short, 90.0)] {
        let end = mean + Complex::from_polar(half, (angle + turn).to_radians());
        assert!((cloud.distance(end) / limit - 1.0).abs() < 1e-9);
    }
    let line: Vec<Complex> =
        (0..9).map(|n| Complex::new(f64::from(n), 2.0 * f64::from(n))).collect();
    assert!(Cloud::of(&line).is_err());
    assert!(Cloud::of(&line[..3]).is_err());
    assert!(cloud.limit(0.0).is_err());
}

#[test]
fn ripple_tells_what_is_left_of_an_error() {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let frequencies: Vec<f64> = (0..201).map(|n| 1e9 + 25e6 * f64::from(n)).collect();
    // Through 15 cm of air a directivity of 0.01 turns against a load of 0.05.
    let found: Vec<Complex> = frequencies
        .iter()
        .map(|f| {
            let turn = Complex::from_polar(0.05, -2.0 * std::f64::consts::TAU * f * 0.5e-9);
            turn + 0.01 + 1e-5 * random.random::<f64>()
        })
        .collect();
    let told = ripple(&frequencies, &found).unwrap();
    assert!((told.residual - 0.01).abs() < 5e-4, "{told:?}");
    assert!((told.decibels + 40.0).abs() < 0.5 && told.waves >= 9.0, "{told:?}");
    assert!(ripple(&frequencies[..5], &found[..5]).is_err());
}
