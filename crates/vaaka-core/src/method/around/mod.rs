//! What surrounds the measuring in any family: cautions, the standard in hand, settings, conditions, making ready, waits,
//! and putting away. A family gives its steps that measure, and takes the rest from here.

mod conditions;
mod settings;
mod sheet;
mod waits;

pub use conditions::{Precondition, temperature, temperature_condition};
pub use settings::{RequiredSetting, SettingKind};
pub use sheet::{conditions_group, sentences_group, settings_group, waits_group};
pub use waits::Wait;

use serde::{Deserialize, Serialize};

use super::common::{fixture_step, standard_steps};
use super::{Input, MethodError, PlanSpec, Step, StepKey};

/// What surrounds the measuring: a part of the stored settings of every family, beside its own fields.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Around {
    /// Settings, confirmed value by value.
    #[serde(default)]
    pub settings: Vec<RequiredSetting>,
    /// Conditions.
    #[serde(default)]
    pub conditions: Vec<Precondition>,
    /// Whether settings and conditions stand on one screen.
    #[serde(default)]
    pub together: bool,
    /// Waits, in their order.
    #[serde(default)]
    pub waits: Vec<Wait>,
    /// Cautions, each ticked before the first step.
    pub cautions: Vec<String>,
    /// Whether who has ticked these very sentences in this shift confirms them all with one key in the next check.
    #[serde(default)]
    pub fold_cautions: bool,
    /// Sentences of the preparation, each ticked.
    pub preparation: Vec<String>,
    /// Closing sentences, each ticked.
    pub closing: Vec<String>,
    /// Whether what is read over the line of the instrument is kept at once, where there is nothing to ask about it.
    #[serde(default)]
    pub capture_saves: bool,
}

/// How a family names what surrounds its measuring.
#[derive(Debug, Clone, Copy)]
pub struct Words {
    /// When the cautions are read, "Before you begin".
    pub begin: &'static str,
    /// What the standard is called, and what to do with its tag.
    pub standard: (&'static str, &'static str),
    /// What is made ready, in short and as a sentence: "Make ready", "Make the gauge ready".
    pub make_ready: (&'static str, &'static str),
}

impl Around {
    /// Why it cannot stand, where it cannot. A method that does not follow the temperature of its standard must not seem to.
    #[must_use]
    pub fn fault(&self, plan: &PlanSpec, follows_temperature: bool) -> Option<String> {
        let asked = self.conditions.iter().find(|one| one.standard_temperature);
        if let Some(condition) = asked.filter(|_| !follows_temperature) {
            return Some(format!(
                "{}: this method takes its certified values at no temperature, so that none can be that of the standard",
                condition.name
            ));
        }
        waits::fault(&self.waits)
            .or_else(|| self.settings.iter().find_map(RequiredSetting::fault))
            .or_else(|| {
                self.conditions.iter().find_map(|one| conditions::condition_fault(one, plan))
            })
            .or_else(|| conditions::dependence_fault(&self.conditions, plan, follows_temperature))
    }

    /// The steps before anything is measured. `on_standard` gives those that rest on the standard at a place, `measured`
    /// all that rest on the surroundings.
    ///
    /// # Errors
    /// [`MethodError::Settings`] where the plan asks for temperatures at which nothing is certified.
    pub fn before(
        &self,
        plan: &PlanSpec,
        words: Words,
        measured: &[StepKey],
        on_standard: impl Fn(usize) -> Vec<StepKey>,
    ) -> Result<Vec<Step>, MethodError> {
        let mut way = Vec::new();
        if !self.cautions.is_empty() {
            way.push(Step::confirm(
                "cautions",
                "Cautions",
                words.begin,
                &self.cautions,
                Some(self.fold_cautions),
            ));
        }
        let (noun, detail) = words.standard;
        way.extend(standard_steps(plan, noun, detail, on_standard));
        if !plan.fixture.is_empty() {
            way.push(fixture_step(plan, measured));
        }
        let mut noted = settings::steps(&self.settings, measured);
        noted.extend(conditions::steps(&self.conditions, plan, measured)?);
        // One alone is a step like any other.
        let rows = noted.iter().filter(|step| !matches!(step.input, Input::File { .. })).count();
        way.extend(noted.into_iter().map(|step| {
            // A file stands on a screen of its own.
            let together = self.together && rows > 1 && !matches!(step.input, Input::File { .. });
            Step { together, ..step }
        }));
        if !self.preparation.is_empty() {
            way.push(Step {
                voids: measured.to_vec(),
                ..Step::confirm(
                    "prepared",
                    words.make_ready.0,
                    words.make_ready.1,
                    &self.preparation,
                    None,
                )
            });
        }
        way.extend(waits::steps(&self.waits, measured));
        Ok(way)
    }

    /// The wait within whose longest time what is measured must be kept.
    #[must_use]
    pub fn within(&self) -> Option<StepKey> {
        waits::binding(&self.waits)
    }

    /// The look over everything, and putting away.
    #[must_use]
    pub fn after(&self) -> Vec<Step> {
        let mut way = vec![Step::review()];
        if !self.closing.is_empty() {
            way.push(Step::confirm(
                "closing",
                "Put away",
                "Put everything back",
                &self.closing,
                None,
            ));
        }
        way
    }
}

/// “The unit” out of “the unit”, without its article.
fn capital(text: &str) -> String {
    let text = text.strip_prefix("the ").unwrap_or(text);
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}
