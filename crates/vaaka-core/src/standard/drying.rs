//! Known moisture by oven drying: what a sample loses until its mass is constant.

use thiserror::Error;

use crate::quantity::show_short;

/// Weighings of a sample in its container, in one unit of mass.
#[derive(Debug, Clone, PartialEq)]
pub struct Drying {
    /// The empty container.
    pub container: f64,
    /// Container with the wet sample.
    pub wet: f64,
    /// Container with the sample after each stay in the oven, in their order.
    pub dried: Vec<f64>,
    /// Mass is constant where two stays follow each other with no greater change than this.
    pub constant_within: f64,
    /// Standard uncertainty of a weighing, of its error and its scatter.
    pub weighing_uncertainty: f64,
}

/// What the drying says.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moisture {
    /// Moisture as a share of the wet mass, (wet − dry)/wet, in per cent.
    pub of_wet_percent: f64,
    /// As a share of the dry mass, (wet − dry)/dry, in per cent: another quantity, stated because people mix them up.
    pub of_dry_percent: f64,
    /// Standard uncertainty of the share of the wet mass, in per cent.
    pub standard_uncertainty_percent: f64,
    /// After which stay the mass was constant, from 1.
    pub constant_after: usize,
}

/// Why there is no moisture. The words say what to do.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum DryingError {
    /// No number, or a negative mass.
    #[error("masses are numbers above zero: weigh {0} again")]
    NoMass(&'static str),
    /// A container that is heavier than what is in it.
    #[error(
        "the container alone weighs as much as with the sample: one was mistaken for the other"
    )]
    Container,
    /// A sample that gains.
    #[error(
        "after stay {0} it weighs more than wet: it took up water or the wrong container was weighed; begin again"
    )]
    Heavier(usize),
    /// Everything gone.
    #[error("nothing of the sample is left after stay {0}: the wrong container was weighed")]
    Nothing(usize),
    /// Not dry yet.
    #[error(
        "its mass still changes by {} between the last two stays, more than {}: dry it again and weigh it", show_short(*change), show_short(*within)
    )]
    NotConstant {
        /// Change of the last two.
        change: f64,
        /// What would do.
        within: f64,
    },
    /// One stay tells nothing of constant mass.
    #[error("one stay does not show that its mass is constant: dry it again and weigh it")]
    Once,
}

/// Moisture by drying to constant mass.
///
/// The three weighings are of one balance and independent: with N = wet − container, L = wet − dry, w = L/N,
/// ∂w/∂wet = (1 − w)/N, ∂w/∂dry = −1/N, ∂w/∂container = w/N (JCGM 100, 5.1.2).
///
/// # Errors
/// [`DryingError`].
pub fn by_drying(drying: &Drying) -> Result<Moisture, DryingError> {
    let is_mass = |mass: f64| mass.is_finite() && mass > 0.0;
    if !is_mass(drying.container) {
        return Err(DryingError::NoMass("the container"));
    }
    if !is_mass(drying.wet) {
        return Err(DryingError::NoMass("the wet sample"));
    }
    let fine = |value: f64| value.is_finite() && value >= 0.0;
    if !fine(drying.weighing_uncertainty) || !fine(drying.constant_within) {
        return Err(DryingError::NoMass("what is stated of the balance"));
    }
    let wet = drying.wet - drying.container;
    if wet <= 0.0 {
        return Err(DryingError::Container);
    }
    for (place, mass) in drying.dried.iter().enumerate() {
        if !is_mass(*mass) {
            return Err(DryingError::NoMass("the dried sample"));
        }
        if *mass > drying.wet {
            return Err(DryingError::Heavier(place + 1));
        }
        if *mass <= drying.container {
            return Err(DryingError::Nothing(place + 1));
        }
    }
    let within = drying.constant_within;
    let constant = drying.dried.windows(2).position(|pair| (pair[1] - pair[0]).abs() <= within);
    let constant_after = match (constant, drying.dried.as_slice()) {
        (Some(place), _) => place + 2,
        (None, [.., before, last]) => {
            return Err(DryingError::NotConstant { change: (before - last).abs(), within });
        }
        (None, _) => return Err(DryingError::Once),
    };
    let dry = drying.dried[constant_after - 1] - drying.container;
    let share = (wet - dry) / wet;
    let u = drying.weighing_uncertainty / wet;
    let uncertainty = u * ((1.0 - share).powi(2) + 1.0 + share.powi(2)).sqrt();
    Ok(Moisture {
        of_wet_percent: 100.0 * share,
        of_dry_percent: 100.0 * (wet - dry) / dry,
        standard_uncertainty_percent: 100.0 * uncertainty,
        constant_after,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Drying {
        Drying {
            container: 20.0,
            wet: 30.0,
            dried: vec![29.42, 29.401, 29.4],
            constant_within: 0.002,
            weighing_uncertainty: 0.001,
        }
    }

    #[test]
    fn moisture_is_a_share_of_the_wet_mass() {
        let found = by_drying(&sample()).unwrap();
        assert!((found.of_wet_percent - 6.0).abs() < 1e-9);
        assert!((found.of_dry_percent - 100.0 * 0.6 / 9.4).abs() < 1e-9);
        assert_eq!(found.constant_after, 3);
        // By a second way: the difference that each weighing makes when it is off by its uncertainty.
        let with = |change: &dyn Fn(&mut Drying)| {
            let mut other = sample();
            change(&mut other);
            by_drying(&other).unwrap().of_wet_percent - found.of_wet_percent
        };
        let parts = [
            with(&|one| one.container += 0.001),
            with(&|one| one.wet += 0.001),
            with(&|one| one.dried = one.dried.iter().map(|mass| mass + 0.001).collect()),
        ];
        let second = parts.iter().map(|part| part * part).sum::<f64>().sqrt();
        let u = found.standard_uncertainty_percent;
        assert!((u - second).abs() < 1e-5, "{u} {second}");
    }

    #[test]
    fn what_is_no_drying_is_said() {
        let of = |change: &dyn Fn(&mut Drying)| {
            let mut other = sample();
            change(&mut other);
            by_drying(&other).unwrap_err()
        };
        assert_eq!(of(&|one| one.dried = vec![29.42]), DryingError::Once);
        assert_eq!(of(&|one| one.dried.clear()), DryingError::Once);
        let wet = of(&|one| one.dried = vec![29.6, 29.5]);
        assert!(
            matches!(wet, DryingError::NotConstant { change, .. } if (change - 0.1).abs() < 1e-9)
        );
        assert_eq!(of(&|one| one.dried = vec![30.1, 30.1]), DryingError::Heavier(1));
        assert_eq!(of(&|one| one.dried = vec![29.4, 20.0]), DryingError::Nothing(2));
        assert_eq!(of(&|one| one.container = 30.0), DryingError::Container);
        for bad in [0.0, -1.0, f64::NAN] {
            assert!(matches!(of(&|one| one.wet = bad), DryingError::NoMass(_)));
            assert!(matches!(of(&|one| one.dried = vec![bad, 29.4]), DryingError::NoMass(_)));
        }
        // Exactly as much as allowed is constant; a later change does not un-make it.
        let mut edge = sample();
        edge.dried = vec![29.5, 29.498, 29.0];
        edge.constant_within = 29.5 - 29.498;
        assert_eq!(by_drying(&edge).unwrap().constant_after, 2);
    }
}
