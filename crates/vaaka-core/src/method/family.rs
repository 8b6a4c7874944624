//! What every family does alike: reads its stored settings, asks whether they can stand, and hands them on.

use std::fmt;

use serde::de::DeserializeOwned;

use super::{
    Around, EntryValue, Live, Method, MethodError, PlanPoint, PlanSpec, RunState, Scene, Sheet,
    Step, Travel, bars_of,
};
use crate::judgement::Characteristic;
use crate::standard::UsedFace;

/// A family with settings of a type of its own; [`Method`] is made of it. What is said there of each part holds here.
pub trait Family: fmt::Debug + Send + Sync {
    /// Its settings as they are stored, with their schema.
    type Stored: DeserializeOwned;
    /// Its settings in their newest form.
    type Settings;

    /// Stable key, stored with every result.
    const KEY: &'static str;
    /// Name for people.
    const NAME: &'static str;
    /// Version of the computation, stored with every result.
    const VERSION: i32 = 1;
    /// Edition of the tables that the computation rests on, stored with every result.
    const TABLE_EDITION: &'static str = "limits as stated in the plan";
    /// In which ways its points may be reached, the usual one first.
    const TRAVELS: &'static [Travel] = &[Travel::Rising];
    /// Whether pieces go to different places of the instrument.
    const HAS_PLACES: bool = false;
    /// Whether what it reads can be written down.
    const ON_PAPER: bool = true;
    /// Whether what is computed is drawn as more than errors on beams.
    const DRAWS: bool = false;
    /// Whether each reading uses up a place of the standard.
    const USES_PLACES: bool = false;

    /// Stored settings in their newest form.
    fn newest(stored: Self::Stored) -> Self::Settings;

    /// Why settings cannot stand under a plan, where they cannot.
    fn fault(settings: &Self::Settings, plan: &PlanSpec) -> Option<String>;

    /// What surrounds the measuring.
    fn around(settings: &Self::Settings) -> &Around;

    /// See [`Method::sheet`].
    fn sheet() -> Sheet;

    /// See [`Method::way`].
    ///
    /// # Errors
    /// [`MethodError`].
    fn way(plan: &PlanSpec, settings: &Self::Settings) -> Result<Vec<Step>, MethodError>;

    /// See [`Method::settle`]; a step that nothing settles stays as it is.
    ///
    /// # Errors
    /// [`MethodError`].
    fn settle(
        _plan: &PlanSpec,
        _settings: &Self::Settings,
        _run: &RunState,
        step: &Step,
    ) -> Result<Step, MethodError> {
        Ok(step.clone())
    }

    /// See [`Method::scene_on`].
    fn scene_on(
        _plan: &PlanSpec,
        _settings: &Self::Settings,
        step: &Step,
        _on: Option<(&UsedFace, usize)>,
    ) -> Option<Scene> {
        step.scene.clone()
    }

    /// See [`Method::doubt`].
    fn doubt(
        _plan: &PlanSpec,
        _settings: &Self::Settings,
        _run: &RunState,
        _step: &Step,
        _value: &EntryValue,
    ) -> Option<String> {
        None
    }

    /// See [`Method::chart_key`].
    fn chart_key(point: &PlanPoint) -> String;

    /// See [`Method::evaluate`].
    ///
    /// # Errors
    /// [`MethodError`].
    fn evaluate(
        plan: &PlanSpec,
        settings: &Self::Settings,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError>;

    /// See [`Method::so_far`].
    ///
    /// # Errors
    /// [`MethodError`].
    fn so_far(
        plan: &PlanSpec,
        settings: &Self::Settings,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError>;

    /// See [`Method::live`].
    ///
    /// # Errors
    /// [`MethodError`].
    fn live(
        plan: &PlanSpec,
        settings: &Self::Settings,
        run: &RunState,
    ) -> Result<Live, MethodError> {
        let found = Self::so_far(plan, settings, run)?;
        Ok(Live { facts: vec![], pictures: bars_of(&found).into_iter().collect() })
    }
}

/// The settings of a plan, read and asked whether they can stand.
fn settings_of<F: Family>(plan: &PlanSpec) -> Result<F::Settings, MethodError> {
    let stored = serde_json::from_value(plan.settings.clone())
        .map_err(|error| MethodError::Settings { why: error.to_string() })?;
    let settings = F::newest(stored);
    match F::fault(&settings, plan) {
        Some(why) => Err(MethodError::Settings { why }),
        None => Ok(settings),
    }
}

impl<F: Family> Method for F {
    fn key(&self) -> &'static str {
        F::KEY
    }

    fn version(&self) -> i32 {
        F::VERSION
    }

    fn table_edition(&self) -> &'static str {
        F::TABLE_EDITION
    }

    fn name(&self) -> &'static str {
        F::NAME
    }

    fn sheet(&self) -> Sheet {
        F::sheet()
    }

    fn travels(&self) -> &'static [Travel] {
        F::TRAVELS
    }

    fn has_places(&self) -> bool {
        F::HAS_PLACES
    }

    fn on_paper(&self) -> bool {
        F::ON_PAPER
    }

    fn draws(&self) -> bool {
        F::DRAWS
    }

    fn uses_places(&self) -> bool {
        F::USES_PLACES
    }

    fn way(&self, plan: &PlanSpec) -> Result<Vec<Step>, MethodError> {
        let settings = settings_of::<F>(plan)?;
        let saves = F::around(&settings).capture_saves;
        let mut way = F::way(plan, &settings)?;
        for step in way.iter_mut().filter(|step| step.input.measures()) {
            step.capture_saves = saves;
        }
        Ok(way)
    }

    fn settle(&self, plan: &PlanSpec, run: &RunState, step: &Step) -> Result<Step, MethodError> {
        F::settle(plan, &settings_of::<F>(plan)?, run, step)
    }

    fn scene_on(
        &self,
        plan: &PlanSpec,
        step: &Step,
        on: Option<(&UsedFace, usize)>,
    ) -> Option<Scene> {
        match settings_of::<F>(plan) {
            Ok(settings) => F::scene_on(plan, &settings, step, on),
            Err(_) => step.scene.clone(),
        }
    }

    fn doubt(
        &self,
        plan: &PlanSpec,
        run: &RunState,
        step: &Step,
        value: &EntryValue,
    ) -> Result<Option<String>, MethodError> {
        Ok(F::doubt(plan, &settings_of::<F>(plan)?, run, step, value))
    }

    fn chart_key(&self, point: &PlanPoint) -> String {
        F::chart_key(point)
    }

    fn evaluate(
        &self,
        plan: &PlanSpec,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        F::evaluate(plan, &settings_of::<F>(plan)?, run)
    }

    fn so_far(&self, plan: &PlanSpec, run: &RunState) -> Result<Vec<Characteristic>, MethodError> {
        F::so_far(plan, &settings_of::<F>(plan)?, run)
    }

    fn live(&self, plan: &PlanSpec, run: &RunState) -> Result<Live, MethodError> {
        F::live(plan, &settings_of::<F>(plan)?, run)
    }
}
