//! Check standards: what their certificates vouch for, whether they can serve now, how their
//! values change, and what rests on them.

mod air;
mod change;
mod crossover;
mod drying;
mod face;
mod fitness;
mod piece;
mod plausible;
mod salt;
mod soak;
mod weights;

pub use air::{
    Air, AirError, CONVENTIONAL_AIR, CONVENTIONAL_WEIGHT, FORMULA_RELATIVE_UNCERTAINTY,
    air_density, buoyancy_share,
};
pub use change::{ValueChange, ValueChangeKind, changes_between, classify};
pub use crossover::{Crossover, MINIMUM_CROSSOVER_PAIRS, crossover};
pub use drying::{Drying, DryingError, Moisture, by_drying};
pub use face::{Face, Spot, UsedFace, free_spots};
pub use fitness::{
    CertificateFacts, CertificateKind, LotFacts, Offer, StandardFacts, StandardState, TagRefusal,
    Unfit, UseKind, alternatives, check_fitness, check_tag, instead_words, kind_words,
};
pub use piece::{AXES, CELSIUS, CertifiedPiece, CombinedReference, ValueAt, combine, same_nominal};
pub use plausible::{far_words, is_far, value_remarks};
pub use salt::{Salt, SaltError, SaltHumidity};
pub use soak::{Soak, SoakError, soak};
pub use weights::{WeightClass, WeightError, weight_mpe};

use thiserror::Error;

use crate::quantity::UnitError;

/// The values of a standard cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum StandardError {
    /// k of zero or less.
    #[error("the certificate of {tag} states a coverage factor that is not positive")]
    CoverageFactor {
        /// The piece.
        tag: String,
    },
    /// Its values are in a unit that the instrument does not measure.
    #[error(transparent)]
    Unit(#[from] UnitError),
    /// Nothing is certified at this temperature, or at this value of what else the value depends on.
    #[error("{tag} is certified from {from} to {to} {unit}, not at {got} {unit}")]
    NotCertifiedAt {
        /// The piece.
        tag: String,
        /// Unit of what its value depends on.
        unit: String,
        /// Lowest certified temperature.
        from: String,
        /// Highest certified temperature.
        to: String,
        /// Temperature asked for.
        got: String,
    },
}
