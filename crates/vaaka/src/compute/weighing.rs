//! Scales and weights: limits, errors, studies of a scale, and the air around them.

use rust_decimal::Decimal;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::method::weighing::{
    self as scales, AccuracyClass, LimitStage, maximum_permissible_error,
};
use vaaka_core::quantity::{TypedDecimal, to_f64};
use vaaka_core::standard::{
    Air, FORMULA_RELATIVE_UNCERTAINTY, WeightClass, air_density, buoyancy_share, weight_mpe,
};

use super::words::{Word, Worded};
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<ScaleLimit>(),
        Computation::of::<ScaleError>(),
        Computation::of::<WeightLimit>(),
        Computation::of::<OffCentre>(),
        Computation::of::<Repeated>(),
        Computation::of::<AirDensity>(),
        Computation::of::<Buoyancy>(),
        Computation::of::<Substitution>(),
        Computation::of::<MinimumWeight>(),
    ]
}

/// A number as it is typed, exact.
fn exact(what: &str, text: &str) -> Result<Decimal, String> {
    TypedDecimal::parse(text).map(|typed| typed.value).map_err(|error| format!("{what}: {error}"))
}

impl Worded for AccuracyClass {
    const WHAT: &'static str = "accuracy class of a scale";

    fn all() -> Vec<(Self, &'static str)> {
        vec![(Self::I, "I"), (Self::II, "II"), (Self::III, "III"), (Self::IIII, "IIII")]
    }
}

impl Worded for LimitStage {
    const WHAT: &'static str = "stage of a limit";

    fn all() -> Vec<(Self, &'static str)> {
        vec![(Self::Initial, "initial"), (Self::InService, "in_service")]
    }
}

impl Worded for WeightClass {
    const WHAT: &'static str = "accuracy class of a weight";

    fn all() -> Vec<(Self, &'static str)> {
        Self::ALL.map(|class| (class, class.word())).to_vec()
    }
}

struct ScaleLimit;

/// A load on a scale.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "class": "III", "e": "0.005", "stage": "in_service", "load": "5" }))]
struct OnScale {
    /// Accuracy class.
    class: Word<AccuracyClass>,
    /// Verification scale interval e, as on the plate of the scale.
    e: String,
    /// Of a new or repaired scale, or of one in service (twice as wide).
    stage: Word<LimitStage>,
    /// Net load, in the unit of e.
    load: String,
}

/// Limit at a load.
#[derive(Debug, Serialize, JsonSchema)]
struct ScaleMpe {
    /// Maximum permissible error, ±, in the unit of e (OIML R 76-1:2006, table 6).
    maximum_permissible_error: String,
}

impl Compute for ScaleLimit {
    const NAME: &'static str = "weighing-mpe";
    const ABOUT: &'static str = "maximum permissible error of a scale at a load";
    type Input = OnScale;
    type Output = ScaleMpe;

    fn compute(input: OnScale) -> Result<ScaleMpe, String> {
        let (e, load) = (exact("e", &input.e)?, exact("load", &input.load)?);
        if e <= Decimal::ZERO {
            return Err("e is above zero: it stands on the plate of the scale".into());
        }
        if load < Decimal::ZERO {
            return Err("load is not negative".into());
        }
        let found = maximum_permissible_error(input.class.0, e, input.stage.0, load);
        Ok(ScaleMpe { maximum_permissible_error: found.normalize().to_string() })
    }
}

struct ScaleError;

/// An indication with small added weights.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "indication": "20.01", "reference": "20", "interval": "0.01", "added": "0.004",
    "zero": { "indication": "0", "added": "0.005" }
}))]
struct Indicated {
    /// What the display shows.
    indication: String,
    /// Reference value of the load, in the same unit.
    reference: String,
    /// Scale interval d, where small weights were added until the display changed.
    #[serde(default)]
    interval: Option<String>,
    /// Their sum.
    #[serde(default)]
    added: Option<String>,
    /// The same at zero, or at a small load near it.
    #[serde(default)]
    zero: Option<AtZero>,
}

/// The indication at zero.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct AtZero {
    /// What the display shows.
    indication: String,
    /// Sum of the small weights.
    #[serde(default)]
    added: Option<String>,
}

/// Error of the indication.
#[derive(Debug, Serialize, JsonSchema)]
struct Errors {
    /// E = I + d/2 − ΔL − L, or I − L without added weights.
    error: String,
    /// Error at zero, E0.
    zero_error: String,
    /// E − E0.
    corrected_error: String,
}

impl Compute for ScaleError {
    const NAME: &'static str = "weighing-error";
    const ABOUT: &'static str =
        "error of an indication, with small added weights and the error at zero taken off";
    type Input = Indicated;
    type Output = Errors;

    fn compute(input: Indicated) -> Result<Errors, String> {
        let interval = input.interval.as_deref().map(|text| exact("interval", text)).transpose()?;
        if interval.is_some_and(|d| d <= Decimal::ZERO) {
            return Err("interval is above zero".into());
        }
        let before_rounding = |indication: &str, added: Option<&str>| -> Result<Decimal, String> {
            let shown = exact("indication", indication)?;
            let Some(added) = added else { return Ok(shown) };
            let added = exact("added", added)?;
            let d = interval.ok_or("added weights need the scale interval: give interval")?;
            if added < Decimal::ZERO || added > d {
                return Err(format!("added is between 0 and one interval, {}", d.normalize()));
            }
            Ok(shown + d / Decimal::TWO - added)
        };
        let error = before_rounding(&input.indication, input.added.as_deref())?
            - exact("reference", &input.reference)?;
        let zero_error = match &input.zero {
            Some(zero) => before_rounding(&zero.indication, zero.added.as_deref())?,
            None => Decimal::ZERO,
        };
        let words = |value: Decimal| value.normalize().to_string();
        Ok(Errors {
            error: words(error),
            zero_error: words(zero_error),
            corrected_error: words(error - zero_error),
        })
    }
}

struct WeightLimit;

/// A weight.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "class": "F2", "nominal_g": "200", "conventional_mass_g": "200.0021" }))]
struct OneWeight {
    /// Accuracy class.
    class: Word<WeightClass>,
    /// Nominal value, in grams.
    nominal_g: String,
    /// Its conventional mass as found, in grams, to be held against the limit.
    #[serde(default)]
    conventional_mass_g: Option<String>,
}

/// Limit of a weight.
#[derive(Debug, Serialize, JsonSchema)]
struct WeightMpe {
    /// Maximum permissible error, ±, in milligrams (OIML R 111-1:2004, table 1).
    maximum_permissible_error_mg: f64,
    /// A third of it: the most that the expanded uncertainty of its calibration may be.
    largest_expanded_uncertainty_mg: f64,
    /// Conventional mass less nominal value, in milligrams; nothing where it was not given.
    error_mg: Option<f64>,
    /// Whether the error is within the limit.
    within: Option<bool>,
}

impl Compute for WeightLimit {
    const NAME: &'static str = "weights-mpe";
    const ABOUT: &'static str = "maximum permissible error of a weight of a class";
    type Input = OneWeight;
    type Output = WeightMpe;

    fn compute(input: OneWeight) -> Result<WeightMpe, String> {
        let thousand = Decimal::ONE_THOUSAND;
        let nominal = exact("nominal_g", &input.nominal_g)?;
        if nominal > Decimal::from(1_000_000_000) {
            return Err("nominal_g is too large: the table ends at 5000 kg".into());
        }
        let limit = weight_mpe(input.class.0, (nominal * thousand).normalize()).map_err(said)?;
        let found = input.conventional_mass_g.as_deref();
        let found = found.map(|text| exact("conventional_mass_g", text)).transpose()?;
        if found.is_some_and(|mass| mass.abs() > Decimal::from(1_000_000_000)) {
            return Err("conventional_mass_g is too large".into());
        }
        let error = found.map(|mass| (mass - nominal) * thousand);
        Ok(WeightMpe {
            maximum_permissible_error_mg: to_f64(limit),
            largest_expanded_uncertainty_mg: to_f64(limit) / 3.0,
            error_mg: error.map(to_f64),
            within: error.map(|error| error.abs() <= limit),
        })
    }
}

struct OffCentre;

/// Readings of one load at places of the pan, in one unit.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Places {
    /// In the middle.
    middle: f64,
    /// At the other places, in their order.
    places: Vec<f64>,
    /// The limit of the difference, where one is to be held against it.
    #[serde(default)]
    limit: Option<f64>,
}

/// Differences from the middle.
#[derive(Debug, Serialize, JsonSchema)]
struct Differences {
    /// Each place less the middle.
    differences: Vec<f64>,
    /// The greatest without its sign.
    greatest: f64,
    /// Where, counted from 1.
    at_place: usize,
    /// Whether it is within the limit; nothing without one.
    within: Option<bool>,
}

impl Compute for OffCentre {
    const NAME: &'static str = "eccentricity";
    const ABOUT: &'static str = "differences of readings off centre from that in the middle";
    type Input = Places;
    type Output = Differences;

    fn compute(input: Places) -> Result<Differences, String> {
        let limit = input.limit.map(|limit| positive("limit", limit)).transpose()?;
        let found = scales::eccentricity(input.middle, &input.places).map_err(said)?;
        Ok(Differences {
            greatest: found.greatest,
            at_place: found.worst + 1,
            within: limit.map(|limit| found.greatest <= limit),
            differences: found.differences,
        })
    }
}

struct Repeated;

/// Readings of one load, in one unit.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Series {
    /// The readings.
    readings: Vec<f64>,
}

/// Their scatter.
#[derive(Debug, Serialize, JsonSchema)]
struct Scatter {
    /// Mean.
    mean: f64,
    /// Standard deviation of a reading.
    standard_deviation: f64,
    /// Greatest less smallest.
    range: f64,
}

impl Compute for Repeated {
    const NAME: &'static str = "repeatability";
    const ABOUT: &'static str =
        "mean, standard deviation and range of a load put on again and again";
    type Input = Series;
    type Output = Scatter;

    fn compute(input: Series) -> Result<Scatter, String> {
        let found = scales::repeatability(&input.readings).map_err(said)?;
        Ok(Scatter {
            mean: found.mean,
            standard_deviation: found.standard_deviation,
            range: found.range,
        })
    }
}

struct AirDensity;

/// Air where the balance stands.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "temperature_celsius": 20, "pressure_hpa": 1013.25, "relative_humidity_percent": 50 }))]
struct Weather {
    /// Temperature, °C.
    temperature_celsius: f64,
    /// Pressure where the balance stands, not reduced to the sea, hPa.
    pressure_hpa: f64,
    /// Relative humidity, %.
    relative_humidity_percent: f64,
    /// Carbon dioxide, µmol/mol; 400 when left out.
    #[serde(default)]
    carbon_dioxide_ppm: Option<f64>,
}

/// Density of the air.
#[derive(Debug, Serialize, JsonSchema)]
struct Density {
    /// Density, kg/m³.
    air_density_kg_per_m3: f64,
    /// Standard uncertainty of the formula alone, kg/m³; that of the weather comes on top.
    formula_uncertainty_kg_per_m3: f64,
}

impl Compute for AirDensity {
    const NAME: &'static str = "air-density";
    const ABOUT: &'static str = "density of moist air (CIPM-2007)";
    type Input = Weather;
    type Output = Density;

    fn compute(input: Weather) -> Result<Density, String> {
        let density = air_density(&Air {
            temperature: input.temperature_celsius,
            pressure: input.pressure_hpa,
            humidity: input.relative_humidity_percent,
            carbon_dioxide: input.carbon_dioxide_ppm.unwrap_or(400.0) * 1e-6,
        })
        .map_err(said)?;
        Ok(Density {
            air_density_kg_per_m3: density,
            formula_uncertainty_kg_per_m3: density * FORMULA_RELATIVE_UNCERTAINTY,
        })
    }
}

struct Buoyancy;

/// A weight in air.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({ "mass_g": 1000, "weight_density_kg_per_m3": 7950, "air_density_kg_per_m3": 1.15 }))]
struct InAir {
    /// Conventional mass, in grams.
    mass_g: f64,
    /// Density of the weight, kg/m³.
    weight_density_kg_per_m3: f64,
    /// Density of the air, kg/m³.
    air_density_kg_per_m3: f64,
}

/// What the air does.
#[derive(Debug, Serialize, JsonSchema)]
struct Lift {
    /// By how much it seems heavier than its conventional mass, in milligrams.
    seems_heavier_mg: f64,
}

impl Compute for Buoyancy {
    const NAME: &'static str = "buoyancy";
    const ABOUT: &'static str =
        "what air of another density than 1.2 kg/m³ does to a weight of another density than 8000";
    type Input = InAir;
    type Output = Lift;

    fn compute(input: InAir) -> Result<Lift, String> {
        let mass = positive("mass_g", input.mass_g)?;
        let share = buoyancy_share(input.weight_density_kg_per_m3, input.air_density_kg_per_m3);
        Ok(Lift { seems_heavier_mg: share.map_err(said)? * mass * 1000.0 })
    }
}

struct Substitution;

/// A reference, and substitutes that took its place one after the other; all in one unit.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "reference": 1000, "reference_uncertainty": 0.025, "reading_uncertainty": 0.1,
    "pairs": [{ "with_reference": 1000.0, "with_substitute": 1000.4 }]
}))]
struct BuiltUp {
    /// Conventional mass of the reference.
    reference: f64,
    /// Its standard uncertainty.
    #[serde(default)]
    reference_uncertainty: f64,
    /// Standard uncertainty of a reading.
    #[serde(default)]
    reading_uncertainty: f64,
    /// What was shown with the reference and with the substitute, at the same load.
    pairs: Vec<Pair>,
}

/// Two readings at one load.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Pair {
    /// With the reference.
    with_reference: f64,
    /// With the substitute.
    with_substitute: f64,
}

/// Test loads, the reference alone first.
#[derive(Debug, Serialize, JsonSchema)]
struct Loads {
    /// In their order.
    test_loads: Vec<Load>,
}

/// A test load.
#[derive(Debug, Serialize, JsonSchema)]
struct Load {
    /// Its value.
    value: f64,
    /// Its standard uncertainty.
    standard_uncertainty: f64,
}

impl Compute for Substitution {
    const NAME: &'static str = "substitution";
    const ABOUT: &'static str = "test loads of a large scale, built up from one reference";
    type Input = BuiltUp;
    type Output = Loads;

    fn compute(input: BuiltUp) -> Result<Loads, String> {
        let pairs: Vec<(f64, f64)> =
            input.pairs.iter().map(|pair| (pair.with_reference, pair.with_substitute)).collect();
        let reference = (input.reference, input.reference_uncertainty);
        let loads =
            scales::substitution(reference, &pairs, input.reading_uncertainty).map_err(said)?;
        let load = |one: scales::TestLoad| Load {
            value: one.value,
            standard_uncertainty: one.standard_uncertainty,
        };
        Ok(Loads { test_loads: loads.into_iter().map(load).collect() })
    }
}

struct MinimumWeight;

/// A balance and what is asked of a weighing; all in one unit.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Asked {
    /// Standard deviation of a reading, of ten readings at least.
    standard_deviation: f64,
    /// Scale interval d.
    interval: f64,
    /// Coverage factor; 2 when left out.
    #[serde(default)]
    coverage_factor: Option<f64>,
    /// The most that a net mass may be uncertain by, in per cent of it; 0.1 when left out.
    #[serde(default)]
    requirement_percent: Option<f64>,
}

/// The smallest mass.
#[derive(Debug, Serialize, JsonSchema)]
struct Smallest {
    /// The smallest net mass that keeps to it.
    minimum_weight: f64,
    /// Whether the display, and not the scatter, sets it (s below 0.41 d).
    set_by_display: bool,
}

impl Compute for MinimumWeight {
    const NAME: &'static str = "minimum-weight";
    const ABOUT: &'static str =
        "the smallest net mass whose weighing keeps to a relative requirement";
    type Input = Asked;
    type Output = Smallest;

    fn compute(input: Asked) -> Result<Smallest, String> {
        let share = input.requirement_percent.unwrap_or(0.1) / 100.0;
        let k = input.coverage_factor.unwrap_or(2.0);
        let s = input.standard_deviation;
        let found = scales::minimum_weight(s, input.interval, k, share).map_err(said)?;
        let set_by_display = s < scales::LEAST_DEVIATION * input.interval;
        Ok(Smallest { minimum_weight: found, set_by_display })
    }
}
