//! Whether something in a check lies outside its limits, now or as it was ever kept: what decides who may void it and
//! which correction wants a second person.

use std::collections::BTreeSet;

use crate::judgement::Characteristic;
use crate::method::{Entry, EntryValue, Method, MethodError, PlanSpec, RunState, Step, StepKey};

/// Whether a characteristic lies outside its limits: each reading by itself, their mean, a range or a difference.
fn is_outside(characteristic: &Characteristic) -> bool {
    let limits = characteristic.limits.iter().chain(characteristic.single_limits.iter());
    let singles = &characteristic.singles;
    limits.into_iter().any(|limits| singles.iter().any(|own| !limits.hold_mean(*own, 1)))
        || characteristic
            .limits
            .is_some_and(|limits| !limits.hold_mean(characteristic.sum(), characteristic.n()))
}

/// Keys of the characteristics that lie outside, of all that can be computed so far.
///
/// # Errors
/// [`MethodError`] when settings or standards do not fit.
pub fn failing_so_far(
    method: &dyn Method,
    plan: &PlanSpec,
    run: &RunState,
) -> Result<BTreeSet<String>, MethodError> {
    let found = method.so_far(plan, run)?;
    Ok(found.into_iter().filter(is_outside).map(|own| own.key).collect())
}

/// Whether anything lay outside at any moment of a check: its entries in the order in which they were kept, corrected
/// and redone ones among them, are taken up again one by one.
///
/// # Errors
/// As [`failing_so_far`].
pub fn ever_failing(
    method: &dyn Method,
    plan: &PlanSpec,
    steps: &[Step],
    kept: &[Entry],
) -> Result<bool, MethodError> {
    let mut run = RunState::default();
    for entry in kept {
        let voids = steps.iter().find(|step| step.key == entry.step);
        run = with(&run, entry, voids.map_or(&[], |step| step.voids.as_slice()));
        let reads = entry.value.measures() || matches!(entry.value, EntryValue::Condition { .. });
        if reads && !failing_so_far(method, plan, &run)?.is_empty() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// A run after an entry was kept: in the place of an earlier one it makes void what rests on that.
fn with(run: &RunState, entry: &Entry, voids: &[StepKey]) -> RunState {
    let same = |own: &Entry| (&own.step, own.repeat) == (&entry.step, entry.repeat);
    let corrects = run.entries.iter().any(same);
    let goes = |own: &Entry| same(own) || corrects && voids.contains(&own.step);
    let mut entries: Vec<Entry> = run.entries.iter().filter(|own| !goes(own)).cloned().collect();
    entries.push(entry.clone());
    RunState { entries }
}

/// Keys of what lay outside and does not any more when an entry takes the place of another and makes void what rests
/// on it. Such a correction is told in the verdict and wants a second person.
///
/// # Errors
/// As [`failing_so_far`].
pub fn brought_inside(
    method: &dyn Method,
    plan: &PlanSpec,
    run: &RunState,
    (entry, voids): (&Entry, &[StepKey]),
) -> Result<Vec<String>, MethodError> {
    let before = failing_so_far(method, plan, run)?;
    if before.is_empty() {
        return Ok(Vec::new());
    }
    let after = failing_so_far(method, plan, &with(run, entry, voids))?;
    Ok(before.difference(&after).cloned().collect())
}
