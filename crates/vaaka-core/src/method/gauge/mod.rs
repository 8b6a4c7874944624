//! Any other gauge: n points, each read m times, going up or both ways, against a reference.
//!
//! Error of indication E = I − R at each point and direction (VIM 2.16); hysteresis is the mean
//! falling minus the mean rising at one point. Limits stand on the mean and, where the plan says
//! so, apart on every reading.

mod evaluate;
mod limits;
mod scene;
mod sheet;
mod way;

pub use limits::{Limit, LimitForm, Side};

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::common::measured_twice;
use super::{
    Bound, ChoiceWord, Input, Method, MethodError, PlanPoint, PlanSpec, RunState, Sheet, Step,
    Travel,
};
use crate::judgement::Characteristic;

/// Key of this method.
pub const KEY: &str = "gauge";

/// Settings of a gauge plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "gauge-1")]
    V1(SettingsV1),
}

/// How the reference comes to the gauge, which the drawing shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Presentation {
    /// The reference is set to a value (a pressure, a temperature) and the gauge follows.
    Applied,
    /// A piece is put into the gauge (a block between its faces).
    Inserted,
}

/// What is wanted of a setting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SettingKind {
    /// It must be this, in one of the ways to write it.
    Exactly,
    /// It is one of several words; which is kept.
    OneOf,
    /// A line of text, kept as it was found.
    Text,
    /// A whole number, kept as it was found.
    Count,
}

/// A setting that the instrument shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequiredSetting {
    /// What it is called, "the unit on the display".
    pub name: String,
    /// What is wanted of it. None in plans of before there were kinds: it must be just what stands there, letter by letter.
    #[serde(default)]
    pub kind: Option<SettingKind>,
    /// What it must be, or the words of which it is one: words with semicolons between, ways to write one with `=`
    /// between, as in `°C = C; °F = F`.
    pub expected: String,
    /// Whether one that was found wrong is set right by a lead only.
    #[serde(default)]
    pub by_lead: bool,
}

impl RequiredSetting {
    /// Its words, each with the other ways to write it.
    #[must_use]
    pub fn words(&self) -> Vec<ChoiceWord> {
        let ways = |text: &str| {
            let mut ways = text.split('=').map(str::trim).filter(|way| !way.is_empty());
            let word = ways.next()?.to_owned();
            Some(ChoiceWord { word, also: ways.map(str::to_owned).collect() })
        };
        self.expected.split(';').filter_map(ways).collect()
    }

    fn fault(&self) -> Option<String> {
        let kind = self.kind?;
        let name = self.name.trim();
        if name.is_empty() {
            return Some("a setting needs a name".into());
        }
        let words = self.words();
        let fewest = match kind {
            SettingKind::Exactly => 1,
            SettingKind::OneOf => 2,
            SettingKind::Text | SettingKind::Count => return None,
        };
        if words.len() < fewest {
            return Some(match kind {
                SettingKind::OneOf => {
                    format!("{name}: give the words of which it is one, with semicolons between")
                }
                _ => format!("{name}: say what it must show"),
            });
        }
        if kind == SettingKind::Exactly && words.len() > 1 {
            // A semicolon may stand on a display: then it is no list.
            return None;
        }
        let plain = |text: &str| text.split_whitespace().collect::<String>().to_lowercase();
        let mut known: Vec<String> = Vec::new();
        for way in words.iter().flat_map(|one| std::iter::once(&one.word).chain(&one.also)) {
            if known.contains(&plain(way)) {
                return Some(format!("{name}: “{way}” stands there twice"));
            }
            known.push(plain(way));
        }
        None
    }

    /// What its step asks for.
    #[must_use]
    pub fn input(&self) -> Input {
        let name = self.name.clone();
        let mut words = self.words();
        match self.kind {
            Some(SettingKind::Exactly) if words.len() == 1 => {
                let ChoiceWord { word, also } = words.swap_remove(0);
                Input::Setting { name, expected: word, also, by_lead: self.by_lead }
            }
            None | Some(SettingKind::Exactly) => Input::Setting {
                name,
                expected: self.expected.clone(),
                also: vec![],
                by_lead: self.by_lead,
            },
            Some(SettingKind::OneOf) => Input::Choice { name, words },
            Some(SettingKind::Text) => Input::Text { name },
            Some(SettingKind::Count) => Input::Count { name },
        }
    }
}

/// A condition that must hold before anything is measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Precondition {
    /// What it is called, "Room temperature".
    pub name: String,
    /// Symbol of its unit.
    pub unit: String,
    /// Least value that will do.
    pub lower: Option<Bound>,
    /// Greatest value that will do.
    pub upper: Option<Bound>,
    /// What to do when it does not hold, a sentence.
    pub advice: String,
    /// Whether it is the temperature of the standard, in °C, at which its certified value is taken.
    #[serde(default)]
    pub standard_temperature: bool,
    /// How far the thermometer may be off, ±a in its unit; half of its last digit at least.
    #[serde(default)]
    pub half_width: Option<Decimal>,
}

/// A wait before the points.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wait {
    /// What is waited for, "Let the block reach the room's temperature".
    pub what: String,
    /// Shortest wait, in seconds.
    pub minimum_seconds: u32,
    /// Longest time from its start to the last reading, in seconds.
    pub maximum_seconds: Option<u32>,
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// How the reference comes to the gauge.
    pub presentation: Presentation,
    /// Limit of the mean error at each point and direction.
    pub mean_limit: Limit,
    /// Limit of every single reading; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// Limit of the hysteresis; recorded only where absent.
    pub hysteresis_limit: Option<Limit>,
    /// Limit of the range of repeated readings; recorded only where absent.
    pub range_limit: Option<Limit>,
    /// Settings, confirmed value by value.
    pub settings: Vec<RequiredSetting>,
    /// Conditions.
    pub conditions: Vec<Precondition>,
    /// Waits, in their order.
    pub waits: Vec<Wait>,
    /// Shortest time between two readings of one point, in seconds.
    pub pause_seconds: u32,
    /// Cautions, each ticked before the first step.
    pub cautions: Vec<String>,
    /// Sentences of the preparation, each ticked.
    pub preparation: Vec<String>,
    /// Closing sentences, each ticked.
    pub closing: Vec<String>,
}

impl Settings {
    /// Reads and checks stored settings.
    ///
    /// # Errors
    /// [`MethodError::Settings`].
    pub fn read(plan: &PlanSpec) -> Result<SettingsV1, MethodError> {
        let Self::V1(settings) = serde_json::from_value(plan.settings.clone())
            .map_err(|error| MethodError::Settings { why: error.to_string() })?;
        match settings.fault(plan) {
            Some(why) => Err(MethodError::Settings { why }),
            None => Ok(settings),
        }
    }
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.resolution <= Decimal::ZERO {
            return Some("the resolution must be greater than zero".into());
        }
        if plan.span() <= Decimal::ZERO {
            return Some("the range must end above where it begins".into());
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one point".into());
        }
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            if point.repeats == 0 {
                return Some(format!("the point {nominal} is read at least once"));
            }
            if point.travel == Travel::Corner {
                return Some("a gauge has no corners: a point is reached rising or falling".into());
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the point {nominal} lies outside the range"));
            }
        }
        if let Some(words) = measured_twice(plan, |point| evaluate::key_of("error", point)) {
            return Some(words);
        }
        for (index, wait) in self.waits.iter().enumerate() {
            if wait.maximum_seconds.is_some_and(|most| most <= wait.minimum_seconds) {
                return Some(format!(
                    "wait {}: its longest time must exceed its shortest",
                    index + 1
                ));
            }
        }
        if let Some(words) = self.settings.iter().find_map(RequiredSetting::fault) {
            return Some(words);
        }
        self.conditions.iter().find_map(|condition| condition_fault(condition, plan)).or_else(
            || {
                let limits = [
                    Some(&self.mean_limit),
                    self.single_limit.as_ref(),
                    self.hysteresis_limit.as_ref(),
                    self.range_limit.as_ref(),
                ];
                limits.into_iter().flatten().find_map(|limit| limit.form.fault(plan))
            },
        )
    }
}

fn condition_fault(condition: &Precondition, plan: &PlanSpec) -> Option<String> {
    let name = &condition.name;
    if name.trim().is_empty() {
        return Some("a condition needs a name".into());
    }
    let missing = |bound: &&Bound| bound.value(plan).is_none();
    if let Some(bound) = condition.lower.iter().chain(&condition.upper).find(missing) {
        let words = bound.words().unwrap_or_default();
        return Some(format!(
            "{name}: {words} needs a value that this instrument's configuration does not hold"
        ));
    }
    let value = |bound: &Option<Bound>| bound.as_ref().and_then(|bound| bound.value(plan));
    let reversed = value(&condition.lower)
        .zip(value(&condition.upper))
        .is_some_and(|(lower, upper)| lower > upper);
    reversed.then(|| format!("{name}: its least value exceeds its greatest"))
}

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Gauge;

impl Method for Gauge {
    fn key(&self) -> &'static str {
        KEY
    }

    fn version(&self) -> i32 {
        1
    }

    fn table_edition(&self) -> &'static str {
        "limits as stated in the plan"
    }

    fn name(&self) -> &'static str {
        "Gauge against a reference"
    }

    fn sheet(&self) -> Sheet {
        sheet::sheet()
    }

    fn travels(&self) -> &'static [Travel] {
        &[Travel::Rising, Travel::Falling]
    }

    fn way(&self, plan: &PlanSpec) -> Result<Vec<Step>, MethodError> {
        way::way(plan, &Settings::read(plan)?)
    }

    fn settle(&self, plan: &PlanSpec, run: &RunState, step: &Step) -> Result<Step, MethodError> {
        evaluate::settle(plan, &Settings::read(plan)?, run, step)
    }

    fn chart_key(&self, point: &PlanPoint) -> String {
        evaluate::key_of("error", point)
    }

    fn evaluate(
        &self,
        plan: &PlanSpec,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::evaluate(plan, &Settings::read(plan)?, run)
    }

    fn so_far(&self, plan: &PlanSpec, run: &RunState) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::so_far(plan, &Settings::read(plan)?, run)
    }
}
