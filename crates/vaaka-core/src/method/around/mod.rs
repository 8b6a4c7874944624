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

use super::common::{fixture_step, standard_steps};
use super::{MethodError, PlanSpec, Step, StepKey};

/// What surrounds the measuring, borrowed from a family's own settings.
#[derive(Debug, Clone, Copy)]
pub struct Around<'a> {
    /// What the standard is called, and what to do with its tag.
    pub standard: (&'a str, &'a str),
    /// What is made ready, "Make the gauge ready".
    pub make_ready: &'a str,
    /// Settings, confirmed value by value.
    pub settings: &'a [RequiredSetting],
    /// Conditions.
    pub conditions: &'a [Precondition],
    /// Waits, in their order.
    pub waits: &'a [Wait],
    /// Cautions, each ticked before the first step.
    pub cautions: &'a [String],
    /// Sentences of the preparation, each ticked.
    pub preparation: &'a [String],
    /// Closing sentences, each ticked.
    pub closing: &'a [String],
}

impl Around<'_> {
    /// Why it cannot stand, where it cannot.
    #[must_use]
    pub fn fault(&self, plan: &PlanSpec) -> Option<String> {
        waits::fault(self.waits)
            .or_else(|| self.settings.iter().find_map(RequiredSetting::fault))
            .or_else(|| {
                self.conditions.iter().find_map(|one| conditions::condition_fault(one, plan))
            })
    }

    /// The steps before anything is measured. `on_standard` gives those that rest on the standard at a place, `measured`
    /// all that rest on the surroundings.
    ///
    /// # Errors
    /// [`MethodError::Settings`] where the plan asks for temperatures at which nothing is certified.
    pub fn before(
        &self,
        plan: &PlanSpec,
        measured: &[StepKey],
        on_standard: impl Fn(usize) -> Vec<StepKey>,
    ) -> Result<Vec<Step>, MethodError> {
        let mut way = Vec::new();
        if !self.cautions.is_empty() {
            way.push(Step::confirm(
                "cautions",
                "Cautions",
                "Before you begin",
                self.cautions,
                true,
            ));
        }
        let (noun, detail) = self.standard;
        way.extend(standard_steps(plan, noun, detail, on_standard));
        if !plan.fixture.is_empty() {
            way.push(fixture_step(plan, measured));
        }
        way.extend(settings::steps(self.settings, measured));
        way.extend(conditions::steps(self.conditions, plan, measured)?);
        if !self.preparation.is_empty() {
            way.push(Step {
                voids: measured.to_vec(),
                ..Step::confirm("prepared", "Make ready", self.make_ready, self.preparation, false)
            });
        }
        way.extend(waits::steps(self.waits, measured));
        Ok(way)
    }

    /// The wait within whose longest time what is measured must be kept.
    #[must_use]
    pub fn within(&self) -> Option<StepKey> {
        waits::binding(self.waits)
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
                self.closing,
                false,
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
