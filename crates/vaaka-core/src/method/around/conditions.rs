//! Conditions that must hold before anything is measured.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use crate::method::{
    Bound, Input, MethodError, PlanSpec, RunState, Step, StepKey, condition_words,
};

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
    /// Whether the certified value is taken at it: the temperature of the standard, or what else its value depends on (a
    /// wavelength, a frequency), in the unit of the certificate.
    #[serde(default)]
    pub standard_temperature: bool,
    /// How far the thermometer may be off, ±a in its unit; half of its last digit at least.
    #[serde(default)]
    pub half_width: Option<Decimal>,
}

/// Key of the step of a condition.
fn condition_key(index: usize) -> StepKey {
    StepKey(format!("condition-{}", index + 1))
}

pub(super) fn condition_fault(condition: &Precondition, plan: &PlanSpec) -> Option<String> {
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

/// Why the certified values of a plan cannot be taken where it says, where they cannot: a value that depends on something is
/// another one elsewhere, so that it must be read where it is taken, and in the certificate's unit.
pub(super) fn dependence_fault(
    conditions: &[Precondition],
    plan: &PlanSpec,
    follows: bool,
) -> Option<String> {
    let pieces = plan.points.iter().flat_map(|point| &point.pieces);
    let dependent = pieces.filter(|piece| piece.is_dependent());
    let asked = temperature_condition(conditions).and_then(|place| conditions.get(place));
    for piece in dependent {
        let (tag, unit) = (&piece.tag, piece.axis_unit());
        if !follows {
            return Some(format!(
                "{tag} is certified at several values in {unit}, and this method takes certified values at none: its certificate needs one value of each piece"
            ));
        }
        match asked {
            None => {
                return Some(format!(
                    "{tag} is certified at several values in {unit}: let one of the conditions be what its value is taken at"
                ));
            }
            Some(condition) if condition.unit.trim() != unit => {
                return Some(format!(
                    "{tag} is certified at several values in {unit}, and {} is read in {}: the certified value is taken at what is read, so both need one unit",
                    condition.name, condition.unit
                ));
            }
            Some(_) => {}
        }
    }
    None
}

/// The temperatures at which the values of all pieces are certified that follow a temperature; beyond them nothing is
/// known of what is measured against.
fn certified_span(plan: &PlanSpec) -> Option<(Decimal, Decimal)> {
    let pieces = plan.points.iter().flat_map(|point| &point.pieces);
    pieces
        .filter_map(|piece| piece.certified_span())
        .reduce(|(from, to), (first, last)| (from.max(first), to.min(last)))
}

/// Limits of a condition, no wider than what is certified: a temperature beyond would be kept, and nothing could be
/// computed after it.
fn within_span(
    (lower, upper): (Option<Decimal>, Option<Decimal>),
    known: Option<(Decimal, Decimal)>,
    name: &str,
) -> Result<(Option<Decimal>, Option<Decimal>), MethodError> {
    let Some((from, to)) = known else { return Ok((lower, upper)) };
    let least = lower.map_or(from, |lower| lower.max(from));
    let most = upper.map_or(to, |upper| upper.min(to));
    if least > most {
        return Err(MethodError::Settings {
            why: format!(
                "{name}: the plan asks for {}, and certified values are known at {}",
                condition_words(lower, upper, "").trim(),
                condition_words(Some(from), Some(to), "").trim()
            ),
        });
    }
    Ok((Some(least), Some(most)))
}

/// Place of the condition that is the temperature of the standard.
pub fn temperature_condition(conditions: &[Precondition]) -> Option<usize> {
    conditions.iter().position(|condition| condition.standard_temperature)
}

/// What the certified values are taken at, where it was read: the temperature of the standard, or what else they depend on.
pub fn temperature(conditions: &[Precondition], run: &RunState) -> Option<Decimal> {
    run.condition(&condition_key(temperature_condition(conditions)?))
}

/// One step a condition; a corrected one makes void what was measured.
///
/// # Errors
/// [`MethodError::Settings`] where the plan asks for temperatures at which nothing is certified.
pub fn steps(
    conditions: &[Precondition],
    plan: &PlanSpec,
    measured: &[StepKey],
) -> Result<Vec<Step>, MethodError> {
    let mut way = Vec::new();
    for (index, condition) in conditions.iter().enumerate() {
        let value = |bound: &Option<Bound>| bound.as_ref().and_then(|bound| bound.value(plan));
        let (lower, upper) = (value(&condition.lower), value(&condition.upper));
        let of_standard = temperature_condition(conditions) == Some(index);
        let known = if of_standard { certified_span(plan) } else { None };
        let (lower, upper) = within_span((lower, upper), known, &condition.name)?;
        let wanted = condition_words(lower, upper, &condition.unit);
        let computed: Vec<String> = condition
            .lower
            .iter()
            .chain(&condition.upper)
            .filter_map(|bound| Some(format!(" Computed as {}.", bound.words()?)))
            .chain(known.map(|(from, to)| {
                let known = condition_words(Some(from), Some(to), &condition.unit);
                format!(" Certified values are known at {known}.")
            }))
            .collect();
        way.push(Step {
            detail: format!("{wanted} is needed.{}", computed.concat()),
            voids: measured.to_vec(),
            ..Step::plain(
                &condition_key(index).0,
                condition.name.clone(),
                format!("{}: read and type it", condition.name),
                Input::Condition {
                    name: condition.name.clone(),
                    unit: condition.unit.clone(),
                    lower,
                    upper,
                    advice: condition.advice.clone(),
                },
            )
        });
    }
    Ok(way)
}
