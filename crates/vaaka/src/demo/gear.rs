//! An instrument of the mill: its plan in short, its noise and its story.

use serde_json::Value;
use vaaka_core::method::{PeakWanted, Place, Step, Travel};
use vaaka_core::round::DueRule;
use vaaka_core::trace::TraceWanted;

use super::noise::Noise;
use crate::AppError;

/// What happens to an instrument.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Story {
    /// Nothing but noise.
    Quiet,
    /// From some days before the end on, the gain creeps up by this much a week (parts of the load).
    Drift {
        /// Days before the end.
        onset: f64,
        /// Relative change a week.
        per_week: f64,
    },
    /// Knocked some days before the end, levelled again later.
    Knocked {
        /// Days before the end.
        knock: f64,
        /// Step of the error at the largest load, in display units.
        step: f64,
        /// Days before the end at which it was levelled again.
        levelled: f64,
    },
    /// Somebody adjusts it by its last error every few days, between these days before the end.
    OverAdjusted {
        /// First day, counted back.
        from: f64,
        /// Last day, counted back.
        until: f64,
    },
    /// The face of its probe wears: from some days before the end on the thinnest load reads by this much a week more, in
    /// display units, thicker ones by its square less.
    Worn {
        /// Days before the end.
        onset: f64,
        /// Change at the thinnest load a week.
        per_week: f64,
    },
    /// Fails some days before the end for residue under the pan; cleaned, adjusted, proven.
    Failed {
        /// Days before the end.
        at: f64,
        /// Error at the largest load, in display units.
        error: f64,
    },
}

/// A load of a plan: nominal, travel, place, repeats, charted, pieces.
pub type Load = (&'static str, Travel, Place, i32, bool, &'static [&'static str]);

/// An instrument with its plan and story.
#[derive(Debug, Clone, Copy)]
pub struct Gear {
    /// Tag.
    pub tag: &'static str,
    /// Name.
    pub name: &'static str,
    /// Area, by its place in the walk.
    pub area: usize,
    /// Unit.
    pub unit: &'static str,
    /// Scale interval d.
    pub resolution: &'static str,
    /// Maximum.
    pub maximum: &'static str,
    /// Serial number.
    pub serial: &'static str,
    /// What only its family knows.
    pub family: &'static dyn Player,
    /// Its standard, by place in [`super::standards::SETS`].
    pub set: usize,
    /// Minutes of the check.
    pub minutes: i32,
    /// Loads.
    pub loads: &'static [Load],
    /// Between-check standard deviation at the largest load, display units.
    pub between: f64,
    /// Within-check standard deviation, display units.
    pub within: f64,
    /// Constant error at the largest load, display units.
    pub bias: f64,
    /// Falling minus rising, display units.
    pub hysteresis: f64,
    /// Where the work is, when it is less than the range.
    pub work: Option<(&'static str, &'static str)>,
    /// Whether its plan takes any standard of the kind.
    pub any_of_kind: bool,
    /// Story.
    pub story: Story,
}

/// Areas along the walk.
pub const AREAS: [&str; 5] =
    ["Resin kitchen", "Press hall", "Finishing", "Colour lab", "Radio room"];

/// What stands around an answer: how many days before the end it is given, how far the instrument is disturbed in this check,
/// and its error at a place of its range.
pub struct Moment<'a> {
    /// Days before the end.
    pub left: f64,
    /// Disturbance of this check, display units.
    pub disturbance: f64,
    /// Error at a value, display units.
    pub error: &'a dyn Fn(f64) -> f64,
}

/// A family as it plays in the mill: what only it knows of its register, its plan, and of what an instrument would answer at a
/// step. Whatever is common to all (loads, noise, story) is [`Gear`]'s.
pub trait Player: std::fmt::Debug + Sync {
    /// Key of its method.
    fn method_key(&self) -> &'static str;

    /// Family, for the register.
    fn words(&self, unit: &str) -> &'static str;

    /// Settings of its plan, as they are stored.
    ///
    /// # Errors
    /// [`AppError::Demo`] where a number of the plan cannot be read.
    fn settings(&self, gear: &Gear) -> Result<Value, AppError>;

    /// Version of the program inside it, where it has one.
    fn firmware(&self, _tag: &str) -> &'static str {
        ""
    }

    /// The cell that it checks and the standards of that, where its instrument is registered by itself.
    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        None
    }

    /// Whether rounding is removed with small weights.
    fn added_weights(&self) -> bool {
        false
    }

    /// How often it is due: what drifts slowly is checked once a week.
    fn due_rule(&self) -> DueRule {
        DueRule::EachWeek
    }

    /// What was found where its story is a failure, and what was done.
    fn remedy(&self) -> &'static str {
        "residue under the pan, cleaned"
    }

    /// What it would show at a step, before the display rounds; none where it shows what is on it and its error.
    fn shown(
        &self,
        _gear: &Gear,
        _step: &Step,
        _now: &Moment<'_>,
        _noise: &mut Noise,
    ) -> Option<f64> {
        None
    }

    /// The trace that its program would write; none where it writes none.
    fn trace(
        &self,
        _gear: &Gear,
        _asked: (&TraceWanted, &[PeakWanted], &Step),
        _now: &Moment<'_>,
        _noise: &mut Noise,
    ) -> Option<String> {
        None
    }
}
