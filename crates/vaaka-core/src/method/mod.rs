//! Methods: how a family of instruments is checked, step by step, and what is computed from it.
//!
//! A method is a small state machine over the entries kept so far. It knows the way (its steps
//! with stable keys), what a redone step voids, and the computation at the end. A new family is
//! one module here and a line in [`all`].

mod accept;
pub mod around;
pub mod assay;
mod bound;
mod captured;
mod care;
pub mod coating;
mod common;
mod family;
pub mod gauge;
pub mod hardness;
mod input;
mod limit;
mod listed;
mod live;
pub mod moisture;
mod plan;
pub mod reflection;
mod run;
mod scene;
mod sheet;
pub mod spectrum;
mod step;
pub mod ultrasonic;
mod warnings;
pub mod weighing;

pub use accept::{
    AttemptKind, EntryError, Proposal, accept, condition_words, duration_words, guarded,
};
pub use around::{Around, Precondition, RequiredSetting, SettingKind, Wait};
pub use bound::{Bound, ComputedFrom};
pub use captured::{CaptureFault, Captured, capture};
pub use care::{AdjustmentPolicy, Rung};
pub use family::Family;
pub use input::{Beside, ChoiceWord, Input, MOST_TEXT, PeakWanted};
pub use limit::{Limit, LimitForm, Side};
pub use listed::{Listed, listed};
pub use live::{
    Bar, Bars, Curve, CurveKind, Fact, Live, Picture, Plane, PlaneCurve, PlaneMark, Plot, PlotAxis,
    PlotMark, bars_of,
};
pub use plan::{
    ADDITION_SOURCES, BudgetAddition, Place, PlanPoint, PlanSpec, PlanStandard, Purpose, Travel,
    UnknownWord,
};
pub use run::{Entry, EntryValue, RunState};
pub use scene::{Primitive, Scene, SpotState};
pub use sheet::{
    COMPUTED_FROM, LIMIT_FORMS, LIMIT_SIDES, Sheet, SheetField, SheetGroup, SheetKind, SheetTexts,
    rows_sent,
};
pub use step::{REVIEW, Step, StepKey};
pub use warnings::{PlanWarning, plan_warnings};

use thiserror::Error;

use crate::judgement::Characteristic;
use crate::standard::{StandardError, UsedFace};

/// A family's way of checking.
pub trait Method: std::fmt::Debug + Send + Sync {
    /// Stable key, stored with every result.
    fn key(&self) -> &'static str;

    /// Version of the computation, stored with every result.
    fn version(&self) -> i32;

    /// Edition of the tables that the computation rests on, stored with every result.
    fn table_edition(&self) -> &'static str;

    /// Name for people.
    fn name(&self) -> &'static str;

    /// What its settings are and how they are asked for; a lead fills them in without knowing
    /// how they are stored.
    fn sheet(&self) -> Sheet;

    /// In which ways its points may be reached, the usual one first.
    fn travels(&self) -> &'static [Travel];

    /// Whether pieces go to different places of the instrument.
    fn has_places(&self) -> bool {
        false
    }

    /// Whether what it reads can be written down: a trace cannot.
    fn on_paper(&self) -> bool {
        true
    }

    /// Whether what is computed is drawn as more than errors on beams: then it is seen at every step, on the verdict and on the
    /// record.
    fn draws(&self) -> bool {
        false
    }

    /// Whether each reading uses up a place of the standard.
    fn uses_places(&self) -> bool {
        false
    }

    /// The whole way under this plan, in working order. Depends on the plan alone here; the
    /// entries decide only which step is next.
    ///
    /// # Errors
    /// [`MethodError`] when the plan's settings do not fit the method.
    fn way(&self, plan: &PlanSpec) -> Result<Vec<Step>, MethodError>;

    /// A step with the reference value, limits and zero that hold in this run, as far as it has come: what is shown while
    /// measuring, what the guard asks about and who may void rest on the same numbers as [`Method::evaluate`].
    ///
    /// # Errors
    /// [`MethodError`] when settings or standards do not fit.
    fn settle(&self, plan: &PlanSpec, run: &RunState, step: &Step) -> Result<Step, MethodError>;

    /// The drawing of a step that reads a standard whose face is known, where so many readings have been taken on it in this
    /// check: a method that uses places up shows where the next one is. By default the drawing of the step.
    fn scene_on(
        &self,
        _plan: &PlanSpec,
        step: &Step,
        _on: Option<(&UsedFace, usize)>,
    ) -> Option<Scene> {
        step.scene.clone()
    }

    /// What makes it doubtful that an entry is what its step asks for, seen beside what was kept before: the guard asks about it before
    /// it is kept ([`guarded`]). A sentence without its full stop; nothing where all is as it should be.
    ///
    /// # Errors
    /// [`MethodError`] when settings do not fit.
    fn doubt(
        &self,
        _plan: &PlanSpec,
        _run: &RunState,
        _step: &Step,
        _value: &EntryValue,
    ) -> Result<Option<String>, MethodError> {
        Ok(None)
    }

    /// Key of the characteristic that a charted point makes, as [`Method::evaluate`] gives it: what
    /// was measured before this program is found by it.
    fn chart_key(&self, point: &PlanPoint) -> String;

    /// Computes the characteristics of a finished run.
    ///
    /// # Errors
    /// [`MethodError`] when readings are missing or settings do not fit.
    fn evaluate(&self, plan: &PlanSpec, run: &RunState)
    -> Result<Vec<Characteristic>, MethodError>;

    /// What is computed so far, to be seen while measuring and on the record: by the very numbers of [`Method::so_far`]. A
    /// method that has nothing of its own to show shows its errors as bars with their limits.
    ///
    /// # Errors
    /// [`MethodError`] when settings or standards do not fit.
    fn live(&self, plan: &PlanSpec, run: &RunState) -> Result<Live, MethodError> {
        let found = self.so_far(plan, run)?;
        Ok(Live { facts: vec![], pictures: bars_of(&found).into_iter().collect() })
    }

    /// The characteristics that can be computed from what was read so far, with as many readings as there are: nobody
    /// makes a failure disappear by stopping before the last step.
    ///
    /// # Errors
    /// [`MethodError`] when settings or standards do not fit.
    fn so_far(&self, plan: &PlanSpec, run: &RunState) -> Result<Vec<Characteristic>, MethodError>;
}

/// Why a method cannot work with what it was given.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MethodError {
    /// The settings cannot be read.
    #[error("the plan's settings do not fit the method: {why}")]
    Settings {
        /// What does not fit.
        why: String,
    },
    /// A reading is missing.
    #[error("the step “{step}” has {got} of {required} readings")]
    Incomplete {
        /// Step.
        step: StepKey,
        /// Readings it needs.
        required: u32,
        /// Readings it has.
        got: usize,
    },
    /// The plan names a method that this version does not know.
    #[error("the method “{key}” is not known to this version")]
    Unknown {
        /// The key.
        key: String,
    },
    /// A standard cannot serve.
    #[error(transparent)]
    Standard(#[from] StandardError),
}

/// All methods, in the order in which a list offers them.
#[must_use]
pub fn all() -> [&'static dyn Method; 9] {
    [
        &weighing::Weighing,
        &gauge::Gauge,
        &spectrum::Spectrum,
        &hardness::Hardness,
        &moisture::Moisture,
        &ultrasonic::Ultrasonic,
        &coating::Coating,
        &assay::Assay,
        &reflection::Reflections,
    ]
}

/// The method with this key.
///
/// # Errors
/// [`MethodError::Unknown`].
pub fn by_key(key: &str) -> Result<&'static dyn Method, MethodError> {
    let found = all().into_iter().find(|method| method.key() == key);
    found.ok_or_else(|| MethodError::Unknown { key: key.to_owned() })
}
