//! Photometry and colour: calibration curves, unknowns read back from them, colour differences.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::colour::{Factors, Lab, colour_difference};
use vaaka_core::stats::{CalibrationLine, Estimate, Polynomial};

use super::{Computation, Compute, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Curve>(),
        Computation::of::<Poly>(),
        Computation::of::<Unknown>(),
        Computation::of::<Fit>(),
        Computation::of::<Detection>(),
        Computation::of::<LabOf>(),
        Computation::of::<Difference>(),
    ]
}

/// Standards of a curve.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "standards": [
        { "x": 1, "y": 0.11 }, { "x": 2, "y": 0.19 }, { "x": 3, "y": 0.31 }, { "x": 4, "y": 0.40 }, { "x": 5, "y": 0.49 }
    ]
}))]
struct Standards {
    /// Each reading of a standard: its value and what was read; a weight (inverse variance, up to a factor) where they differ.
    standards: Vec<Reading>,
    /// Whether the line is held to the origin.
    #[serde(default)]
    through_origin: bool,
}

/// A reading of a standard.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Reading {
    /// Value of the standard.
    x: f64,
    /// What was read.
    y: f64,
    /// Weight; 1 where it is left out.
    #[serde(default = "one")]
    weight: f64,
}

fn one() -> f64 {
    1.0
}

fn one_reading() -> u32 {
    1
}

fn usual_confidence() -> f64 {
    0.95
}

impl Standards {
    fn line(&self) -> Result<CalibrationLine, String> {
        line_of(&self.standards, self.through_origin)
    }

    fn columns(&self) -> [Vec<f64>; 3] {
        columns_of(&self.standards)
    }
}

fn columns_of(standards: &[Reading]) -> [Vec<f64>; 3] {
    let of = |of: fn(&Reading) -> f64| standards.iter().map(of).collect();
    [of(|one| one.x), of(|one| one.y), of(|one| one.weight)]
}

fn line_of(standards: &[Reading], through_origin: bool) -> Result<CalibrationLine, String> {
    let [x, y, w] = columns_of(standards);
    CalibrationLine::fit(&x, &y, Some(&w), through_origin).map_err(said)
}

/// A value with its interval.
#[derive(Debug, Serialize, JsonSchema)]
struct Within {
    /// The value.
    value: f64,
    /// Lower end.
    low: f64,
    /// Upper end.
    high: f64,
}

impl From<Estimate> for Within {
    fn from(Estimate { value, low, high }: Estimate) -> Self {
        Self { value, low, high }
    }
}

struct Curve;

/// A curve.
#[derive(Debug, Serialize, JsonSchema)]
struct CurveFound {
    /// Slope.
    slope: f64,
    /// Its 95 % interval; null of two points.
    slope_within: Option<Within>,
    /// Intercept.
    intercept: f64,
    /// Its 95 % interval; null of two points.
    intercept_within: Option<Within>,
    /// Residual standard deviation of a reading of weight one; null of two points.
    residual_std_dev: Option<f64>,
    /// What is left of each reading.
    residuals: Vec<f64>,
    /// Correlation coefficient. It is near one for bent curves, too, and proves nothing.
    r: f64,
    /// What it proves, in a sentence.
    words: String,
}

impl Compute for Curve {
    const NAME: &'static str = "calibration-curve";
    const ABOUT: &'static str = "weighted calibration line with intervals, residuals and r";
    type Input = Standards;
    type Output = CurveFound;

    fn compute(input: Standards) -> Result<CurveFound, String> {
        let line = input.line()?;
        let words = match line.std_dev {
            None => {
                "Two points always lie on a line: r is one, and nothing is proven. Take five standards at least."
            }
            Some(_) if line.points < 5 => {
                "Fewer than five points: the intervals are wide for a reason."
            }
            Some(_) => "r says that y rises with x; residuals and repeats say whether a line fits.",
        };
        Ok(CurveFound {
            slope: line.slope,
            slope_within: line.slope_within(usual_confidence()).ok().map(Within::from),
            intercept: line.intercept,
            intercept_within: line.intercept_within(usual_confidence()).ok().map(Within::from),
            residual_std_dev: line.std_dev,
            residuals: line.residuals.clone(),
            r: line.correlation,
            words: words.to_owned(),
        })
    }
}

struct Poly;

/// Points and a degree.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "standards": [
        { "x": 0, "y": 0.01 }, { "x": 1, "y": 0.21 }, { "x": 2, "y": 0.40 }, { "x": 3, "y": 0.57 }, { "x": 4, "y": 0.73 }
    ],
    "degree": 2, "at": [2.5]
}))]
struct PolyAsked {
    /// Each point; a weight (inverse variance, up to a factor) where they differ.
    standards: Vec<Reading>,
    /// Degree, 0 to 9.
    degree: usize,
    /// Where its value is wanted.
    #[serde(default)]
    at: Vec<f64>,
}

/// A value of the polynomial.
#[derive(Debug, Serialize, JsonSchema)]
struct PolyValue {
    /// Where.
    x: f64,
    /// The value.
    y: f64,
    /// Its standard error; null where nothing is left over.
    standard_error: Option<f64>,
}

/// The polynomial.
#[derive(Debug, Serialize, JsonSchema)]
struct PolyFound {
    /// Coefficients of 1, x, x² and so on.
    coefficients: Vec<f64>,
    /// Residual standard deviation of a point of weight one; null where nothing is left over.
    residual_std_dev: Option<f64>,
    /// Degrees of freedom of what is left.
    freedom: usize,
    /// What is left of each point.
    residuals: Vec<f64>,
    /// Its values where they were wanted.
    values: Vec<PolyValue>,
}

impl Compute for Poly {
    const NAME: &'static str = "polynomial";
    const ABOUT: &'static str =
        "weighted polynomial through points, its values with their standard errors";
    type Input = PolyAsked;
    type Output = PolyFound;

    fn compute(input: PolyAsked) -> Result<PolyFound, String> {
        let [x, y, w] = columns_of(&input.standards);
        let found = Polynomial::fit(&x, &y, Some(&w), input.degree).map_err(said)?;
        if input.at.iter().any(|x| !x.is_finite()) {
            return Err("at: finite numbers".into());
        }
        let value = |x: &f64| PolyValue {
            x: *x,
            y: found.at(*x),
            standard_error: found.standard_error_at(*x),
        };
        Ok(PolyFound {
            coefficients: found.coefficients(),
            residual_std_dev: found.std_dev,
            freedom: found.freedom(),
            values: input.at.iter().map(value).collect(),
            residuals: found.residuals.clone(),
        })
    }
}

struct Unknown;

/// Standards and what was read of an unknown.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct UnknownAsked {
    /// Each reading of a standard: its value and what was read; a weight (inverse variance, up to a factor) where they differ.
    standards: Vec<Reading>,
    /// Whether the line is held to the origin.
    #[serde(default)]
    through_origin: bool,
    /// Mean of the readings of the unknown.
    mean: f64,
    /// How many readings it is the mean of.
    #[serde(default = "one_reading")]
    readings: u32,
    /// Weight of each of them; 1 where it is left out.
    #[serde(default = "one")]
    weight: f64,
    /// Confidence of the interval; 0.95 where it is left out.
    #[serde(default = "usual_confidence")]
    confidence: f64,
}

impl Compute for Unknown {
    const NAME: &'static str = "inverse-prediction";
    const ABOUT: &'static str = "an unknown read back from a calibration line with its interval, never beyond the standards";
    type Input = UnknownAsked;
    type Output = Within;

    fn compute(input: UnknownAsked) -> Result<Within, String> {
        let line = line_of(&input.standards, input.through_origin)?;
        let own = (input.readings, input.weight);
        Ok(line.read_back(input.mean, own, input.confidence).map_err(said)?.into())
    }
}

struct Fit;

/// The test.
#[derive(Debug, Serialize, JsonSchema)]
struct FitFound {
    /// F, mean square of the lack of fit over that of the repeats.
    f: f64,
    /// Degrees of freedom of the lack of fit.
    freedom_of_fit: usize,
    /// Degrees of freedom of the repeats.
    freedom_of_repeats: usize,
    /// P(F or more) where the line is straight.
    p: f64,
}

impl Compute for Fit {
    const NAME: &'static str = "lack-of-fit";
    const ABOUT: &'static str = "whether repeats of the standards lie on a straight line (F test)";
    type Input = Standards;
    type Output = FitFound;

    fn compute(input: Standards) -> Result<FitFound, String> {
        let line = input.line()?;
        let [x, y, w] = input.columns();
        let found = line.lack_of_fit(&x, &y, Some(&w)).ok_or(
            "the test needs repeats that differ, and more values of x than the line has numbers: read each standard twice",
        )?;
        let (freedom_of_fit, freedom_of_repeats) = found.freedom;
        Ok(FitFound { f: found.f, freedom_of_fit, freedom_of_repeats, p: found.p })
    }
}

struct Detection;

/// Standards and how an unknown is read.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DetectionAsked {
    /// Each reading of a standard: its value and what was read; a weight (inverse variance, up to a factor) where they differ.
    standards: Vec<Reading>,
    /// Whether the line is held to the origin.
    #[serde(default)]
    through_origin: bool,
    /// How many readings an unknown is the mean of.
    #[serde(default = "one_reading")]
    readings: u32,
    /// Weight of a reading near zero; 1 where it is left out.
    #[serde(default = "one")]
    weight: f64,
}

/// Limits, in the unit of x.
#[derive(Debug, Serialize, JsonSchema)]
struct DetectionFound {
    /// Above it something is there: one false alarm in twenty.
    critical_value: f64,
    /// Missed once in twenty (ISO 11843-2, approximated by twice the critical value).
    detection_limit: f64,
    /// Ten standard deviations of a reading over the slope (IUPAC).
    quantification_limit: f64,
}

impl Compute for Detection {
    const NAME: &'static str = "detection-limit";
    const ABOUT: &'static str =
        "critical value, detection and quantification limit of a calibration line";
    type Input = DetectionAsked;
    type Output = DetectionFound;

    fn compute(input: DetectionAsked) -> Result<DetectionFound, String> {
        let line = line_of(&input.standards, input.through_origin)?;
        let found = line.detection_limits((input.readings, input.weight)).map_err(said)?;
        Ok(DetectionFound {
            critical_value: found.critical,
            detection_limit: found.detection,
            quantification_limit: found.quantification,
        })
    }
}

/// A colour.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Colour {
    /// L*.
    l: f64,
    /// a*.
    a: f64,
    /// b*.
    b: f64,
}

struct LabOf;

/// Tristimulus values.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "xyz": [0.45, 0.47, 0.51], "white": [0.94811, 1.0, 1.07304] }))]
struct LabAsked {
    /// X, Y, Z of the colour.
    xyz: [f64; 3],
    /// X, Y, Z of the white of the same illuminant and observer, on the same scale.
    white: [f64; 3],
}

/// A colour in CIELAB.
#[derive(Debug, Serialize, JsonSchema)]
struct LabFound {
    /// L*.
    l: f64,
    /// a*.
    a: f64,
    /// b*.
    b: f64,
    /// Chroma C*ab.
    chroma: f64,
    /// Hue angle in degrees; 0 of a grey.
    hue_degrees: f64,
}

impl Compute for LabOf {
    const NAME: &'static str = "lab";
    const ABOUT: &'static str = "CIELAB from tristimulus values and those of the white";
    type Input = LabAsked;
    type Output = LabFound;

    fn compute(input: LabAsked) -> Result<LabFound, String> {
        let found = Lab::from_xyz(input.xyz, input.white).map_err(said)?;
        Ok(LabFound {
            l: found.l,
            a: found.a,
            b: found.b,
            chroma: found.chroma(),
            hue_degrees: found.hue(),
        })
    }
}

struct Difference;

/// Two colours of one illuminant, observer and geometry.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "reference": { "l": 50, "a": 2.6772, "b": -79.7751 }, "sample": { "l": 50, "a": 0, "b": -82.7485 }
}))]
struct DifferenceAsked {
    /// The reference.
    reference: Colour,
    /// The sample.
    sample: Colour,
    /// Factor of lightness k_L; 1 where it is left out.
    #[serde(default = "one")]
    k_l: f64,
    /// Factor of chroma k_C; 1 where it is left out.
    #[serde(default = "one")]
    k_c: f64,
    /// Factor of hue k_H; 1 where it is left out.
    #[serde(default = "one")]
    k_h: f64,
}

/// Their differences, sample less reference.
#[derive(Debug, Serialize, JsonSchema)]
struct DifferenceFound {
    /// ΔL*.
    delta_l: f64,
    /// Δa*.
    delta_a: f64,
    /// Δb*.
    delta_b: f64,
    /// ΔC*ab.
    delta_c: f64,
    /// ΔH*ab with the sign of the hue.
    delta_h: f64,
    /// ΔE*ab (CIE 1976).
    delta_e_ab: f64,
    /// ΔE94; its weights are those of the reference.
    delta_e_94: f64,
    /// ΔE00.
    delta_e_00: f64,
}

impl Compute for Difference {
    const NAME: &'static str = "colour-difference";
    const ABOUT: &'static str = "ΔE*ab, ΔE94 and ΔE00 with their parts";
    type Input = DifferenceAsked;
    type Output = DifferenceFound;

    fn compute(input: DifferenceAsked) -> Result<DifferenceFound, String> {
        let lab = |of: Colour| Lab::new(of.l, of.a, of.b).map_err(said);
        let factors = Factors { lightness: input.k_l, chroma: input.k_c, hue: input.k_h };
        let found =
            colour_difference(lab(input.reference)?, lab(input.sample)?, factors).map_err(said)?;
        Ok(DifferenceFound {
            delta_l: found.lightness,
            delta_a: found.a,
            delta_b: found.b,
            delta_c: found.chroma,
            delta_h: found.hue,
            delta_e_ab: found.cie_1976,
            delta_e_94: found.cie_1994,
            delta_e_00: found.cie_2000,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn run<C: Compute>(input: &Value) -> Result<Value, String> {
        let text = Computation::of::<C>().run(&input.to_string())?;
        Ok(serde_json::from_str(&text).unwrap())
    }

    fn standards(pairs: &[(f64, f64)]) -> Value {
        Value::Array(pairs.iter().map(|(x, y)| json!({ "x": x, "y": y })).collect())
    }

    const FIVE: [(f64, f64); 5] = [(1.0, 0.11), (2.0, 0.19), (3.0, 0.31), (4.0, 0.40), (5.0, 0.49)];

    #[test]
    fn a_curve_says_what_it_proves() {
        let two = run::<Curve>(&json!({ "standards": standards(&FIVE[..2]) })).unwrap();
        assert_eq!((&two["slope_within"], &two["residual_std_dev"]), (&Value::Null, &Value::Null));
        assert!(two["words"].as_str().unwrap().contains("nothing is proven"));
        let five = run::<Curve>(&json!({ "standards": standards(&FIVE) })).unwrap();
        // By hand: Σ(x − 3)(y − 0.3) = 0.97, Σ(x − 3)² = 10.
        assert!((five["slope"].as_f64().unwrap() - 0.097).abs() < 1e-12);
        assert!((five["intercept"].as_f64().unwrap() - 0.009).abs() < 1e-12);
        let unknown = json!({ "standards": standards(&FIVE), "mean": 0.3, "readings": 3 });
        let found = run::<Unknown>(&unknown).unwrap();
        assert!((found["value"].as_f64().unwrap() - 3.0).abs() < 1e-9);
        assert!(found["low"].as_f64().unwrap() < 3.0 && found["high"].as_f64().unwrap() > 3.0);
        let beyond = run::<Unknown>(&json!({ "standards": standards(&FIVE), "mean": 0.9 }));
        assert!(beyond.unwrap_err().contains("dilute or concentrate"));
        let limits = run::<Detection>(&json!({ "standards": standards(&FIVE) })).unwrap();
        let of = |name: &str| limits[name].as_f64().unwrap();
        assert!((of("detection_limit") - 2.0 * of("critical_value")).abs() < 1e-12);
        assert!(
            run::<Fit>(&json!({ "standards": standards(&FIVE) })).unwrap_err().contains("repeats")
        );
        let twice: Vec<(f64, f64)> =
            FIVE.iter().flat_map(|(x, y)| [(*x, y - 0.01), (*x, y + 0.01)]).collect();
        let fit = run::<Fit>(&json!({ "standards": standards(&twice) })).unwrap();
        assert_eq!((&fit["freedom_of_fit"], &fit["freedom_of_repeats"]), (&json!(3), &json!(5)));
        // By hand: 2·310e-6/3 of what a line leaves of the means, over 10·0.01²/5 of the repeats.
        assert!((fit["f"].as_f64().unwrap() - 620.0 / 3.0 / 200.0).abs() < 1e-9, "{fit}");
        assert!(fit["p"].as_f64().unwrap() > 0.4, "{fit}");
    }

    #[test]
    fn colours_and_their_difference() {
        let asked = json!({
            "reference": { "l": 50, "a": 2.6772, "b": -79.7751 }, "sample": { "l": 50, "a": 0, "b": -82.7485 }
        });
        let found = run::<Difference>(&asked).unwrap();
        // Sharma, Wu and Dalal (2005), the first pair of their table (from memory).
        assert!((found["delta_e_00"].as_f64().unwrap() - 2.0425).abs() < 5e-5);
        let white = json!([0.94811, 1.0, 1.07304]);
        let lab = run::<LabOf>(&json!({ "xyz": white, "white": white })).unwrap();
        assert_eq!((&lab["l"], &lab["hue_degrees"]), (&json!(100.0), &json!(0.0)));
        let wrong = json!({ "reference": { "l": -1, "a": 0, "b": 0 }, "sample": { "l": 50, "a": 0, "b": 0 } });
        assert!(run::<Difference>(&wrong).unwrap_err().contains("lightness"));
    }
}
