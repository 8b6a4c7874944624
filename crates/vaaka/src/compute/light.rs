//! Light: absorbance, dilutions, stray light, linearity, peaks, tristimulus values, spots of an uneven sample.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::colour::{Illuminant, Observer, tristimulus, white};
use vaaka_core::photometry::{
    self, DilutionStep, highest_with, linearity, spots_needed, with_stray_light,
};
use vaaka_core::stats::CalibrationLine;
use vaaka_core::trace::{Extreme, PositionBy, Search, find_peak};

use super::{Computation, Compute, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<AbsorbanceOf>(),
        Computation::of::<Dilute>(),
        Computation::of::<Stray>(),
        Computation::of::<Linear>(),
        Computation::of::<PeakOf>(),
        Computation::of::<Xyz>(),
        Computation::of::<Spots>(),
    ]
}

struct AbsorbanceOf;

/// Raw signals.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "sample": 1234, "blank": 9876, "dark": 12 }))]
struct AbsorbanceAsked {
    /// Of the sample.
    sample: f64,
    /// Of the blank.
    blank: f64,
    /// With the shutter closed.
    #[serde(default)]
    dark: f64,
    /// Full scale of the detector, where it is known.
    #[serde(default)]
    full_scale: Option<f64>,
}

/// Transmittance and absorbance.
#[derive(Debug, Serialize, JsonSchema)]
struct AbsorbanceFound {
    /// Transmittance.
    transmittance: f64,
    /// Absorbance.
    absorbance: f64,
    /// What to mind, in a sentence.
    words: String,
}

impl Compute for AbsorbanceOf {
    const NAME: &'static str = "absorbance";
    const ABOUT: &'static str =
        "transmittance and absorbance from the signals of sample, blank and dark";
    type Input = AbsorbanceAsked;
    type Output = AbsorbanceFound;

    fn compute(input: AbsorbanceAsked) -> Result<AbsorbanceFound, String> {
        let signals = (input.sample, input.blank, input.dark);
        let found = photometry::absorbance(signals, input.full_scale).map_err(said)?;
        let words = match found.absorbance {
            a if a < 0.0 => "The sample lets more through than the blank: look at blank and cell.",
            a if a > 1.0 => {
                "Above 1 stray light and noise bend a curve: know how far yours is straight."
            }
            _ => "Within what most curves are straight for.",
        };
        Ok(AbsorbanceFound {
            transmittance: found.transmittance,
            absorbance: found.absorbance,
            words: words.to_owned(),
        })
    }
}

struct Dilute;

/// A step of a dilution.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct StepAsked {
    /// Volume taken.
    taken: f64,
    /// Its standard uncertainty.
    #[serde(default)]
    of_taken: f64,
    /// Volume made up to, in the same unit.
    made_up: f64,
    /// Its standard uncertainty.
    #[serde(default)]
    of_made_up: f64,
}

/// A stock solution and the steps from it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "stock": 1000, "uncertainty": 2, "steps": [{ "taken": 10, "of_taken": 0.02, "made_up": 100, "of_made_up": 0.1 }]
}))]
struct DiluteAsked {
    /// Its concentration.
    stock: f64,
    /// Its standard uncertainty.
    #[serde(default)]
    uncertainty: f64,
    /// The steps, in their order.
    steps: Vec<StepAsked>,
}

/// A concentration.
#[derive(Debug, Serialize, JsonSchema)]
struct Concentration {
    /// Its value, in the unit of the stock.
    value: f64,
    /// Its standard uncertainty.
    standard_uncertainty: f64,
}

/// Concentrations after each step.
#[derive(Debug, Serialize, JsonSchema)]
struct DiluteFound {
    /// In the order of the steps.
    solutions: Vec<Concentration>,
}

impl Compute for Dilute {
    const NAME: &'static str = "dilution";
    const ABOUT: &'static str = "concentrations along a dilution series with their uncertainty";
    type Input = DiluteAsked;
    type Output = DiluteFound;

    fn compute(input: DiluteAsked) -> Result<DiluteFound, String> {
        let steps: Vec<DilutionStep> = input
            .steps
            .iter()
            .map(|one| DilutionStep {
                taken: one.taken,
                of_taken: one.of_taken,
                made_up: one.made_up,
                of_made_up: one.of_made_up,
            })
            .collect();
        let found = photometry::dilution((input.stock, input.uncertainty), &steps).map_err(said)?;
        let solutions = found
            .into_iter()
            .map(|(value, standard_uncertainty)| Concentration { value, standard_uncertainty })
            .collect();
        Ok(DiluteFound { solutions })
    }
}

struct Stray;

/// Stray light, as a share or by what is read of a solution that lets nothing through.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "share": 0.001, "absorbance": 2, "allowed": 0.01 }))]
struct StrayAsked {
    /// Share of stray light: the transmittance that is read of a cut-off solution.
    share: f64,
    /// A true absorbance, to see what becomes of it.
    #[serde(default = "two")]
    absorbance: f64,
    /// By how much an absorbance may read low.
    #[serde(default = "a_hundredth")]
    allowed: f64,
}

fn two() -> f64 {
    2.0
}

fn a_hundredth() -> f64 {
    0.01
}

/// What it does.
#[derive(Debug, Serialize, JsonSchema)]
struct StrayFound {
    /// What is read of the absorbance.
    read: f64,
    /// Highest absorbance that reads low by no more than was allowed; null where none ever does.
    highest: Option<f64>,
    /// Highest absorbance that can be read at all; null without stray light.
    ceiling: Option<f64>,
}

impl Compute for Stray {
    const NAME: &'static str = "stray-light";
    const ABOUT: &'static str =
        "what a share of stray light makes of an absorbance, and how high one may go with it";
    type Input = StrayAsked;
    type Output = StrayFound;

    fn compute(input: StrayAsked) -> Result<StrayFound, String> {
        let ceiling = (input.share > 0.0).then(|| -(input.share / (1.0 + input.share)).log10());
        Ok(StrayFound {
            read: with_stray_light(input.absorbance, input.share).map_err(said)?,
            highest: highest_with(input.share, input.allowed).map_err(said)?,
            ceiling,
        })
    }
}

struct Linear;

/// A filter or solution.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct FilterAsked {
    /// Its certified absorbance.
    certified: f64,
    /// What was read.
    read: f64,
}

/// Filters.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "filters": [{ "certified": 0.3, "read": 0.302 }, { "certified": 0.6, "read": 0.604 }, { "certified": 1, "read": 1.003 }]
}))]
struct LinearAsked {
    /// Three at least.
    filters: Vec<FilterAsked>,
}

/// The line.
#[derive(Debug, Serialize, JsonSchema)]
struct LinearFound {
    /// Slope of read over certified.
    slope: f64,
    /// Intercept.
    intercept: f64,
    /// Read less certified, of each.
    errors: Vec<f64>,
    /// What is left of each beside the line.
    residuals: Vec<f64>,
    /// Certified absorbance of the one that lies off most.
    worst_at: f64,
    /// How far, with its sign.
    worst: f64,
}

impl Compute for Linear {
    const NAME: &'static str = "photometric-linearity";
    const ABOUT: &'static str =
        "absorbances that were read over certified ones: the line, and which lies off it most";
    type Input = LinearAsked;
    type Output = LinearFound;

    fn compute(input: LinearAsked) -> Result<LinearFound, String> {
        let of = |of: fn(&FilterAsked) -> f64| input.filters.iter().map(of).collect::<Vec<f64>>();
        let (certified, read) = (of(|one| one.certified), of(|one| one.read));
        let found = linearity(&certified, &read).map_err(said)?;
        let CalibrationLine { slope, intercept, residuals, .. } = found.line;
        let (worst, off) = found.largest;
        Ok(LinearFound {
            slope,
            intercept,
            errors: found.errors,
            residuals,
            worst_at: certified[worst],
            worst: off,
        })
    }
}

struct PeakOf;

/// Which way a peak stands.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
enum Stands {
    /// Up: absorbance.
    Up,
    /// Down: transmittance.
    Down,
}

/// What its position is.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
enum By {
    /// Vertex of a parabola through its top tenth.
    Parabola,
    /// Centroid of its upper half.
    Centroid,
}

/// A spectrum and where to look.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "x": [492, 493, 494, 495, 496, 497, 498, 499, 500, 501, 502, 503, 504, 505, 506, 507, 508, 509, 510, 511], "y": [0.1, 0.1, 0.1, 0.101, 0.108, 0.136, 0.226, 0.418, 0.685, 0.88, 0.855, 0.631, 0.371, 0.201, 0.127, 0.105, 0.101, 0.1, 0.1, 0.1],
    "about": 501, "half_width": 8, "least": 0.2, "stands": "up", "by": "parabola"
}))]
struct PeakAsked {
    /// Wavelengths, rising.
    x: Vec<f64>,
    /// Values.
    y: Vec<f64>,
    /// Where it is looked for.
    about: f64,
    /// How far to either side.
    half_width: f64,
    /// How far it stands off its feet at least.
    least: f64,
    /// Which way it stands.
    stands: Stands,
    /// What its position is.
    by: By,
}

/// A peak.
#[derive(Debug, Serialize, JsonSchema)]
struct PeakFound {
    /// Its position.
    position: f64,
    /// Its height there.
    height: f64,
}

impl Compute for PeakOf {
    const NAME: &'static str = "peak-wavelength";
    const ABOUT: &'static str = "position of a peak of a spectrum by a parabola or its centroid";
    type Input = PeakAsked;
    type Output = PeakFound;

    fn compute(input: PeakAsked) -> Result<PeakFound, String> {
        if input.x.len() != input.y.len() {
            return Err("x and y: as many values of one as of the other".into());
        }
        if input.x.iter().chain(&input.y).any(|one| !one.is_finite()) {
            return Err("x and y: finite numbers".into());
        }
        if input.x.windows(2).any(|pair| pair[1] <= pair[0]) {
            return Err("x: wavelengths rise from one to the next".into());
        }
        let search = Search {
            centre: input.about,
            half_width: input.half_width,
            extreme: match input.stands {
                Stands::Up => Extreme::Highest,
                Stands::Down => Extreme::Lowest,
            },
            by: match input.by {
                By::Parabola => PositionBy::Parabola,
                By::Centroid => PositionBy::Centroid,
            },
            least: input.least,
        };
        let peak = find_peak((&input.x, &input.y), search).map_err(said)?;
        Ok(PeakFound { position: peak.position, height: peak.height })
    }
}

struct Xyz;

/// Under which light.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
enum Light {
    /// Daylight of 6500 K.
    D65,
    /// Daylight of 5000 K.
    D50,
    /// Incandescent light.
    A,
}

/// A reflectance or transmittance.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "from": 400,
    "factors": [0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5],
    "illuminant": "D65", "observer_degrees": 10
}))]
struct XyzAsked {
    /// First wavelength, nm.
    from: f64,
    /// Factors at steps of 10 nm; 1 is a perfect white.
    factors: Vec<f64>,
    /// Under which light.
    illuminant: Light,
    /// 2 or 10.
    observer_degrees: u32,
}

/// Tristimulus values.
#[derive(Debug, Serialize, JsonSchema)]
struct XyzFound {
    /// X, Y, Z; Y of a perfect white is 100.
    xyz: [f64; 3],
    /// Those of the white.
    white: [f64; 3],
}

impl Compute for Xyz {
    const NAME: &'static str = "xyz-from-spectrum";
    const ABOUT: &'static str =
        "tristimulus values of a reflectance at 10 nm (ASTM E308, no bandpass corrected)";
    type Input = XyzAsked;
    type Output = XyzFound;

    fn compute(input: XyzAsked) -> Result<XyzFound, String> {
        let illuminant = match input.illuminant {
            Light::D65 => Illuminant::D65,
            Light::D50 => Illuminant::D50,
            Light::A => Illuminant::A,
        };
        let observer = match input.observer_degrees {
            2 => Observer::Two,
            10 => Observer::Ten,
            _ => return Err("observer_degrees: 2 or 10".into()),
        };
        let place = |(nth, factor): (usize, &f64)| (input.from + 10.0 * nth as f64, *factor);
        let spectrum: Vec<(f64, f64)> = input.factors.iter().enumerate().map(place).collect();
        let xyz = tristimulus(&spectrum, illuminant, observer).map_err(said)?;
        Ok(XyzFound { xyz, white: white(illuminant, observer) })
    }
}

struct Spots;

/// How uneven a sample is, and how well its mean is to be known.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "std_dev": 0.4, "half_width": 0.2 }))]
struct SpotsAsked {
    /// Standard deviation from spot to spot.
    std_dev: f64,
    /// Half-width that is wanted for the mean.
    half_width: f64,
    /// Confidence; 0.95 where it is left out.
    #[serde(default = "usual")]
    confidence: f64,
}

fn usual() -> f64 {
    0.95
}

/// How many.
#[derive(Debug, Serialize, JsonSchema)]
struct SpotsFound {
    /// Spots.
    spots: u32,
}

impl Compute for Spots {
    const NAME: &'static str = "spots-needed";
    const ABOUT: &'static str =
        "how many spots of an uneven sample until its mean is known to a half-width";
    type Input = SpotsAsked;
    type Output = SpotsFound;

    fn compute(input: SpotsAsked) -> Result<SpotsFound, String> {
        let spots =
            spots_needed(input.std_dev, input.half_width, input.confidence).map_err(said)?;
        Ok(SpotsFound { spots })
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

    #[test]
    fn numbers_come_with_what_to_mind() {
        let one = run::<AbsorbanceOf>(&json!({ "sample": 100, "blank": 1000 })).unwrap();
        assert_eq!(one["absorbance"], 1.0);
        let high = run::<AbsorbanceOf>(&json!({ "sample": 10, "blank": 1000 })).unwrap();
        assert!(high["words"].as_str().unwrap().starts_with("Above 1"));
        let odd = run::<AbsorbanceOf>(&json!({ "sample": 2000, "blank": 1000 })).unwrap();
        assert!(odd["words"].as_str().unwrap().contains("look at blank"));
        let none = run::<Stray>(&json!({ "share": 0 })).unwrap();
        assert_eq!((&none["highest"], &none["ceiling"]), (&Value::Null, &Value::Null));
        let some = run::<Stray>(&json!({ "share": 0.001 })).unwrap();
        assert!((some["ceiling"].as_f64().unwrap() - 3.000_43).abs() < 1e-4);
    }

    #[test]
    fn what_cannot_be_is_said() {
        let of = |x: &[f64]| json!({ "x": x, "y": [1, 2, 3], "about": 2, "half_width": 1, "least": 0.1, "stands": "up", "by": "parabola" });
        assert!(run::<PeakOf>(&of(&[1.0, 3.0, 2.0])).unwrap_err().contains("rise"));
        assert!(run::<PeakOf>(&of(&[1.0, 3.0])).unwrap_err().contains("as many"));
        let eyes = json!({ "from": 400, "factors": [1], "illuminant": "A", "observer_degrees": 5 });
        assert!(run::<Xyz>(&eyes).unwrap_err().contains("2 or 10"));
        assert!(
            run::<Dilute>(&json!({ "stock": 0, "steps": [] })).unwrap_err().contains("above zero")
        );
    }
}
