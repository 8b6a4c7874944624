//! Moisture, density and humidity: what reference material is worth, and when a probe has soaked.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::standard::{Drying, Salt, by_drying, soak};

use super::words::{Word, Worded};
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Loss>(),
        Computation::of::<Bulk>(),
        Computation::of::<SaltValue>(),
        Computation::of::<Stability>(),
    ]
}

struct Loss;

/// Weighings of a sample that is dried.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "container_g": 20, "wet_g": 30, "dried_g": [29.42, 29.401, 29.4], "constant_within_g": 0.002,
    "weighing_uncertainty_g": 0.001
}))]
struct Weighings {
    /// The empty container, in grams.
    container_g: f64,
    /// Container with the wet sample, in grams.
    wet_g: f64,
    /// Container with the sample after each stay in the oven, in grams and in their order.
    dried_g: Vec<f64>,
    /// Mass is constant where two stays follow each other with no greater change, in grams.
    constant_within_g: f64,
    /// Standard uncertainty of a weighing, in grams; nothing when left out.
    #[serde(default)]
    weighing_uncertainty_g: f64,
}

/// Moisture of the sample.
#[derive(Debug, Serialize, JsonSchema)]
struct Dried {
    /// (wet − dry)/wet, in per cent.
    moisture_of_wet_percent: f64,
    /// (wet − dry)/dry, in per cent: another quantity.
    moisture_of_dry_percent: f64,
    /// Standard uncertainty of the share of the wet mass, in per cent.
    standard_uncertainty_percent: f64,
    /// After which stay the mass was constant.
    constant_after_stay: usize,
}

impl Compute for Loss {
    const NAME: &'static str = "loss-on-drying";
    const ABOUT: &'static str =
        "moisture of a sample by drying to constant mass, with its uncertainty";
    type Input = Weighings;
    type Output = Dried;

    fn compute(input: Weighings) -> Result<Dried, String> {
        let found = by_drying(&Drying {
            container: input.container_g,
            wet: input.wet_g,
            dried: input.dried_g,
            constant_within: input.constant_within_g,
            weighing_uncertainty: input.weighing_uncertainty_g,
        })
        .map_err(said)?;
        Ok(Dried {
            moisture_of_wet_percent: found.of_wet_percent,
            moisture_of_dry_percent: found.of_dry_percent,
            standard_uncertainty_percent: found.standard_uncertainty_percent,
            constant_after_stay: found.constant_after,
        })
    }
}

struct Bulk;

/// A filled container.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Filled {
    /// Mass of what is in it, in grams.
    mass_g: f64,
    /// Its volume, in cubic centimetres.
    volume_cm3: f64,
    /// Standard uncertainty of the mass, in grams; nothing when left out.
    #[serde(default)]
    mass_uncertainty_g: f64,
    /// Standard uncertainty of the volume, in cubic centimetres; nothing when left out.
    #[serde(default)]
    volume_uncertainty_cm3: f64,
}

/// Density of a heap, the room between its grains in it: never that of a grain.
#[derive(Debug, Serialize, JsonSchema)]
struct BulkDensity {
    /// Bulk density, kg/m³.
    bulk_density_kg_per_m3: f64,
    /// Its standard uncertainty, kg/m³.
    standard_uncertainty_kg_per_m3: f64,
}

impl Compute for Bulk {
    const NAME: &'static str = "bulk-density";
    const ABOUT: &'static str =
        "mass per volume of a filled container, the room between the grains in it";
    type Input = Filled;
    type Output = BulkDensity;

    fn compute(input: Filled) -> Result<BulkDensity, String> {
        let mass = positive("mass_g", input.mass_g)?;
        let volume = positive("volume_cm3", input.volume_cm3)?;
        let shares = [input.mass_uncertainty_g / mass, input.volume_uncertainty_cm3 / volume];
        if shares.iter().any(|share| !share.is_finite() || *share < 0.0) {
            return Err("an uncertainty is not negative".to_owned());
        }
        let density = 1000.0 * mass / volume;
        Ok(BulkDensity {
            bulk_density_kg_per_m3: density,
            standard_uncertainty_kg_per_m3: density * shares[0].hypot(shares[1]),
        })
    }
}

struct SaltValue;

impl Worded for Salt {
    const WHAT: &'static str = "salt of the table";

    fn all() -> Vec<(Self, &'static str)> {
        Self::ALL.map(|salt| (salt, salt.word())).to_vec()
    }
}

/// A saturated salt at a temperature.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SaltAsked {
    /// Which.
    salt: Word<Salt>,
    /// Temperature of the solution, in °C.
    temperature_celsius: f64,
    /// Standard uncertainty of that temperature, in kelvins; nothing when left out.
    #[serde(default)]
    temperature_uncertainty_kelvin: f64,
}

/// Humidity over it.
#[derive(Debug, Serialize, JsonSchema)]
struct SaltFound {
    /// Relative humidity, in per cent.
    relative_humidity_percent: f64,
    /// Uncertainty of the table (Greenspan 1977), in per cent, as it states it.
    expanded_uncertainty_percent: f64,
    /// Change with a degree, per cent a kelvin.
    slope_percent_per_kelvin: f64,
    /// Standard uncertainty of table (k = 2) and temperature together, in per cent.
    standard_uncertainty_percent: f64,
}

impl Compute for SaltValue {
    const NAME: &'static str = "salt-humidity";
    const ABOUT: &'static str =
        "relative humidity over a saturated salt, by its temperature (Greenspan 1977)";
    type Input = SaltAsked;
    type Output = SaltFound;

    fn compute(input: SaltAsked) -> Result<SaltFound, String> {
        let found = input.salt.0.at(input.temperature_celsius).map_err(said)?;
        let u = input.temperature_uncertainty_kelvin;
        if !(u.is_finite() && u >= 0.0) {
            return Err("an uncertainty is not negative".to_owned());
        }
        Ok(SaltFound {
            relative_humidity_percent: found.relative_humidity,
            expanded_uncertainty_percent: found.expanded_uncertainty,
            slope_percent_per_kelvin: found.slope,
            standard_uncertainty_percent: (found.expanded_uncertainty / 2.0).hypot(found.slope * u),
        })
    }
}

struct Stability;

/// A reading of a probe.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ProbeReading {
    /// When, in minutes since any beginning.
    minute: f64,
    /// What it showed.
    value: f64,
}

/// Readings of a probe while it soaks.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "readings": [
        { "minute": 0, "value": 74.2 }, { "minute": 5, "value": 75.1 }, { "minute": 10, "value": 75.2 },
        { "minute": 15, "value": 75.21 }
    ],
    "window_minutes": 10, "limit_per_minute": 0.02
}))]
struct Soaking {
    /// Readings, by rising time.
    readings: Vec<ProbeReading>,
    /// So many of the last minutes are looked at.
    window_minutes: f64,
    /// Greatest slope that is stable, in the unit of the readings a minute.
    limit_per_minute: f64,
}

/// Whether it has soaked.
#[derive(Debug, Serialize, JsonSchema)]
struct Soaked {
    /// Slope of the last minutes by least squares, in the unit of the readings a minute.
    slope_per_minute: f64,
    /// Whether it is within the limit.
    stable: bool,
    /// Readings in the last minutes.
    readings: usize,
}

impl Compute for Stability {
    const NAME: &'static str = "soak-stability";
    const ABOUT: &'static str =
        "whether a probe has soaked: the slope of its last minutes against a limit";
    type Input = Soaking;
    type Output = Soaked;

    fn compute(input: Soaking) -> Result<Soaked, String> {
        let readings: Vec<(f64, f64)> =
            input.readings.iter().map(|one| (one.minute, one.value)).collect();
        let found = soak(&readings, input.window_minutes, input.limit_per_minute).map_err(said)?;
        Ok(Soaked {
            slope_per_minute: found.slope_per_minute,
            stable: found.is_stable,
            readings: found.readings,
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

    #[test]
    fn drying_says_both_shares_and_what_is_missing() {
        let mut input = json!({
            "container_g": 20, "wet_g": 30, "dried_g": [29.42, 29.401, 29.4], "constant_within_g": 0.002
        });
        let found = run::<Loss>(&input).unwrap();
        assert!((found["moisture_of_wet_percent"].as_f64().unwrap() - 6.0).abs() < 1e-9);
        assert_eq!(found["constant_after_stay"], json!(3));
        input["dried_g"] = json!([29.42]);
        assert!(run::<Loss>(&input).unwrap_err().contains("dry it again"));
    }

    #[test]
    fn a_heap_has_a_density_of_its_own() {
        let found =
            run::<Bulk>(&json!({ "mass_g": 412, "volume_cm3": 1000, "mass_uncertainty_g": 4.12 }));
        let found = found.unwrap();
        assert_eq!(found["bulk_density_kg_per_m3"], json!(412.0));
        assert!((found["standard_uncertainty_kg_per_m3"].as_f64().unwrap() - 4.12).abs() < 1e-9);
        assert!(run::<Bulk>(&json!({ "mass_g": 412, "volume_cm3": 0 })).is_err());
        assert!(run::<Bulk>(&json!({ "mass_g": -1, "volume_cm3": 5 })).is_err());
    }

    #[test]
    fn a_salt_has_its_value_by_its_temperature() {
        let asked = json!({
            "salt": "sodium_chloride", "temperature_celsius": 25, "temperature_uncertainty_kelvin": 0.3
        });
        let found = run::<SaltValue>(&asked).unwrap();
        assert_eq!(found["relative_humidity_percent"], json!(75.29));
        let u = found["standard_uncertainty_percent"].as_f64().unwrap();
        assert!((u - 0.06_f64.hypot(0.04 * 0.3)).abs() < 1e-9);
        let hot =
            run::<SaltValue>(&json!({ "salt": "sodium_chloride", "temperature_celsius": 60 }));
        assert!(hot.unwrap_err().contains("from 5 to 40 °C"));
        let sugar = run::<SaltValue>(&json!({ "salt": "sugar", "temperature_celsius": 20 }));
        assert!(sugar.unwrap_err().contains("salt of the table"));
    }

    #[test]
    fn a_probe_that_creeps_has_not_soaked() {
        let reading = |minute: u32, slope: f64| json!({ "minute": minute, "value": 75.0 + slope * f64::from(minute) });
        let asked = |slope: f64| {
            let readings: Vec<Value> = (0..=20).map(|minute| reading(minute, slope)).collect();
            json!({ "readings": readings, "window_minutes": 10, "limit_per_minute": 0.02 })
        };
        assert_eq!(run::<Stability>(&asked(0.001)).unwrap()["stable"], json!(true));
        assert_eq!(run::<Stability>(&asked(0.1)).unwrap()["stable"], json!(false));
        let short = json!({ "readings": [], "window_minutes": 10, "limit_per_minute": 0.02 });
        assert!(run::<Stability>(&short).unwrap_err().contains("read three times"));
    }
}
