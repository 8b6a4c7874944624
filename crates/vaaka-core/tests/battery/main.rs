//! The battery that every method passes, by whatever family: random plans from the sheet that it
//! asks for, played through the door that a technician uses, then distorted, corrected, redone and
//! stopped short. A new method is in [`vaaka_core::method::all`] and so in here.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

mod judged;
mod laws;
mod plans;
mod player;
mod refusals;
mod sheets;

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use vaaka_core::method::{Method, PlanSpec, Step, all};

/// Plans of each method that are walked through.
const PLANS: usize = 40;
/// Seeds that may be tried for them: a method that refuses most of what its sheet gives is not met
/// by its sheet.
const SEEDS: u64 = 8_000;

/// A plan that the method takes, with its way.
pub struct Planned {
    pub method: &'static dyn Method,
    pub plan: PlanSpec,
    pub way: Vec<Step>,
    /// Seed of the plan, to say which it was.
    pub seed: u64,
    pub random: ChaCha8Rng,
}

/// Random plans of every method that it takes.
pub fn planned() -> Vec<Planned> {
    let mut found = Vec::new();
    for method in all() {
        let taken = (0..SEEDS).filter_map(|seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let plan = plans::plan(method, &mut random);
            let way = method.way(&plan).ok()?;
            Some(Planned { method, plan, way, seed, random })
        });
        let before = found.len();
        found.extend(taken.take(PLANS));
        assert_eq!(found.len() - before, PLANS, "{} refuses its own sheet", method.key());
    }
    found
}
