//! Density of moist air, and what its buoyancy does to weights.
//!
//! Picard, Davis, Gläser and Fujii, “Revised formula for the density of moist air (CIPM-2007)”, Metrologia 45 (2008) 149–155, with its
//! constants; OIML R 111-1:2004, annex E.3 (approximate formula) and clause 2.5 (conventional mass).

use thiserror::Error;

use crate::quantity::show_short;

/// Density of air for which the conventional mass of a weight holds, kg/m³ (OIML R 111-1, 2.5).
pub const CONVENTIONAL_AIR: f64 = 1.2;
/// Density of a weight for which conventional mass holds, kg/m³ (OIML R 111-1, 2.5).
pub const CONVENTIONAL_WEIGHT: f64 = 8000.0;
/// Relative standard uncertainty of the formula itself (Picard et al., table 4).
pub const FORMULA_RELATIVE_UNCERTAINTY: f64 = 22e-6;

/// Air as it is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Air {
    /// Temperature, °C.
    pub temperature: f64,
    /// Pressure where the balance stands (not reduced to the sea), hPa.
    pub pressure: f64,
    /// Relative humidity, %.
    pub humidity: f64,
    /// Amount fraction of carbon dioxide; 400 µmol/mol where nothing is known.
    pub carbon_dioxide: f64,
}

/// Why no density follows. The words say what to do.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum AirError {
    /// Outside what the formula holds for.
    #[error(
        "{what} is {} {unit}, and the formula holds from {} to {} {unit}: measure it again, or check its unit", show_short(*found), show_short(*lower), show_short(*upper)
    )]
    Outside {
        /// What was measured.
        what: &'static str,
        /// Its unit.
        unit: &'static str,
        /// What was found.
        found: f64,
        /// From.
        lower: f64,
        /// To.
        upper: f64,
    },
    /// A density that is none.
    #[error("a density is above zero, in kg/m³: a steel weight has about 7950")]
    Density,
}

/// Density of moist air in kg/m³ by the CIPM-2007 formula:
/// ρ = p·M_a/(Z·R·T)·(1 − x_v·(1 − M_v/M_a)), with the compressibility Z and the amount fraction x_v of vapour.
///
/// # Errors
/// [`AirError`] outside 600 hPa to 1100 hPa and 15 °C to 27 °C, widened to the 10 °C to 35 °C of a works hall, where what the formula
/// leaves out is still far below its use here.
pub fn air_density(air: &Air) -> Result<f64, AirError> {
    let inside = |what, unit, found: f64, lower: f64, upper: f64| {
        let fits = found.is_finite() && (lower..=upper).contains(&found);
        if fits { Ok(found) } else { Err(AirError::Outside { what, unit, found, lower, upper }) }
    };
    let t = inside("the temperature", "°C", air.temperature, 10.0, 35.0)?;
    let p = inside("the pressure", "hPa", air.pressure, 600.0, 1100.0)? * 100.0;
    let h = inside("the relative humidity", "%", air.humidity, 0.0, 100.0)? / 100.0;
    let carbon = inside("the share of carbon dioxide", "mol/mol", air.carbon_dioxide, 0.0, 0.01)?;
    let kelvin = t + 273.15;
    let saturation = (1.237_884_7e-5 * kelvin * kelvin - 1.912_131_6e-2 * kelvin + 33.937_110_47
        - 6.343_164_5e3 / kelvin)
        .exp();
    let enhancement = 1.00062 + 3.14e-8 * p + 5.6e-7 * t * t;
    let vapour = h * enhancement * saturation / p;
    let compressibility = 1.0
        - p / kelvin
            * (1.581_23e-6 - 2.9331e-8 * t
                + 1.1043e-10 * t * t
                + (5.707e-6 - 2.051e-8 * t) * vapour
                + (1.9898e-4 - 2.376e-6 * t) * vapour * vapour)
        + (p / kelvin).powi(2) * (1.83e-11 - 0.765e-8 * vapour * vapour);
    let dry = (28.965_46 + 12.011 * (carbon - 0.0004)) * 1e-3;
    let share = 1.0 - vapour * (1.0 - 18.015_28e-3 / dry);
    Ok(p * dry / (compressibility * 8.314_472 * kelvin) * share)
}

/// By how much a weight of `density` seems heavier than its conventional mass in air of `air`, as a share of its mass, held against
/// weights of conventional density: (ρ_a − ρ_0)·(1/ρ_c − 1/ρ) (OIML R 111-1, from the definition in 2.5). Positive where the weight
/// is denser than 8000 kg/m³ and the air denser than 1.2 kg/m³.
///
/// # Errors
/// [`AirError::Density`].
pub fn buoyancy_share(density: f64, air: f64) -> Result<f64, AirError> {
    if !(density.is_finite() && density > 0.0 && air.is_finite() && air > 0.0) {
        return Err(AirError::Density);
    }
    Ok((air - CONVENTIONAL_AIR) * (1.0 / CONVENTIONAL_WEIGHT - 1.0 / density))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn air(temperature: f64, pressure: f64, humidity: f64) -> Air {
        Air { temperature, pressure, humidity, carbon_dioxide: 0.0004 }
    }

    /// OIML R 111-1:2004, E.3: ρ = (0.348 48·p − 0.009·h·e^(0.061·t))/(273.15 + t), within 2·10⁻⁴ between 900 hPa and 1100 hPa, 10 °C and
    /// 30 °C, below 80 % relative humidity (2.1·10⁻⁴ at the corner of cold, damp and high pressure), of the formula of 1981/91. That one took 28.9635 g/mol for dry air; the revision of 2007 put its
    /// argon right, to 28.965 46 g/mol.
    #[test]
    fn it_agrees_with_the_approximate_formula_of_the_recommendation() {
        let mut seen = 0;
        for pressure in (900..=1100).step_by(20) {
            for temperature in 10..=30 {
                for humidity in (0..80).step_by(10) {
                    let (p, t, h) =
                        (f64::from(pressure), f64::from(temperature), f64::from(humidity));
                    let near = (0.348_48 * p - 0.009 * h * (0.061 * t).exp()) / (273.15 + t);
                    let exact = air_density(&air(t, p, h)).unwrap();
                    let as_before = exact * 28.9635 / 28.965_46;
                    assert!((as_before / near - 1.0).abs() < 2.3e-4, "{p} {t} {h}: {exact} {near}");
                    seen += 1;
                }
            }
        }
        assert!(seen > 1_800);
    }

    /// Dry air by the gas law with the molar mass and gas constant of the formula, and its compressibility of about 0.9996 at 20 °C.
    #[test]
    fn dry_air_is_a_nearly_ideal_gas() {
        let found = air_density(&air(20.0, 1013.25, 0.0)).unwrap();
        let ideal = 101_325.0 * 28.965_46e-3 / (8.314_472 * 293.15);
        let z = ideal / found;
        assert!((z - 0.9996).abs() < 1e-4, "{z}");
        // Moist air is lighter, and carbon dioxide makes it heavier: 12.011·Δx/M_a.
        assert!(air_density(&air(20.0, 1013.25, 50.0)).unwrap() < found);
        let more = Air { carbon_dioxide: 0.0008, ..air(20.0, 1013.25, 0.0) };
        let share = air_density(&more).unwrap() / found - 1.0;
        assert!((share - 12.011 * 0.0004 / 28.965_46).abs() < 1e-7, "{share}");
    }

    #[rstest]
    #[case(air(9.9, 1000.0, 50.0), "the temperature is 9.9 °C")]
    #[case(air(35.1, 1000.0, 50.0), "from 10 to 35 °C")]
    #[case(air(20.0, 101_325.0, 50.0), "the pressure is 101325 hPa")]
    #[case(air(20.0, 1000.0, 100.1), "the relative humidity is 100.1 %")]
    #[case(air(20.0, f64::NAN, 50.0), "the pressure")]
    #[case(Air { carbon_dioxide: 400.0, ..air(20.0, 1000.0, 50.0) }, "carbon dioxide is 400 mol/mol")]
    fn what_the_formula_does_not_hold_for_is_refused(#[case] air: Air, #[case] words: &str) {
        let said = air_density(&air).unwrap_err().to_string();
        assert!(said.contains(words), "{said}");
    }

    /// True masses weighed against each other: a weight of density ρ and conventional mass m_c has the true mass
    /// m = m_c·(1 − ρ_0/ρ_c)/(1 − ρ_0/ρ), and pulls with m·(1 − ρ_a/ρ) in air of ρ_a.
    #[test]
    fn buoyancy_follows_from_true_masses() {
        for (density, air) in [(7950.0, 1.1), (8400.0, 1.25), (2700.0, 1.18), (8000.0, 1.05)] {
            let true_mass = |density: f64| {
                (1.0 - CONVENTIONAL_AIR / CONVENTIONAL_WEIGHT) / (1.0 - CONVENTIONAL_AIR / density)
            };
            let pull = |density: f64| true_mass(density) * (1.0 - air / density);
            let exact = pull(density) / pull(CONVENTIONAL_WEIGHT) - 1.0;
            let share = buoyancy_share(density, air).unwrap();
            assert!(
                (share - exact).abs() < 2e-8 + exact.abs() * 1e-3,
                "{density} {air}: {share} {exact}"
            );
        }
        assert_eq!(buoyancy_share(8000.0, 1.1).unwrap(), 0.0);
        assert_eq!(buoyancy_share(0.0, 1.1), Err(AirError::Density));
        assert_eq!(buoyancy_share(8000.0, f64::INFINITY), Err(AirError::Density));
    }
}
