//! A check that is open, as this run has it: what is kept, which step is next, and what stands against going on.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use vaaka_core::method::{AttemptKind, Entry, EntryValue, Input, RunState, Step};
use vaaka_core::quantity::to_f64;
use vaaka_store::audit::Head;
use vaaka_store::entries::{CheckNow, Entries, UsedStandard};
use vaaka_store::ids::{CertificateId, PersonId, ReadingId};
use vaaka_store::rows::{AttemptRow, Check, Reading};
use vaaka_store::{At, Connection, checks, plans};

use crate::error::WebError;
use crate::state::{AppState, Way, long_day};

/// An open check with what keeping an entry needs.
#[derive(Debug)]
pub struct OpenRun {
    /// The check.
    pub check: Check,
    /// Its entries.
    pub entries: Entries,
    /// Version of the check that these entries are.
    pub seen: Option<Head>,
    /// Its standards as they stand now.
    pub standards: Vec<UsedStandard>,
    pub way: Arc<Way>,
    /// The steps with the values, limits, zero and guards that hold in this run.
    pub steps: Vec<Step>,
    pub run: RunState,
}

/// Which step an entry is for.
#[derive(Debug)]
pub struct Target<'a> {
    /// The step.
    pub step: &'a Step,
    /// Which of its entries.
    pub repeat: u32,
    /// The entry that is corrected.
    pub replaces: Option<ReadingId>,
    /// An entry of this place that an earlier redo voided.
    pub redone: Option<ReadingId>,
    /// Whether the way ends after it.
    pub is_last: bool,
}

/// Reads a check and its entries.
pub async fn load(
    state: &AppState,
    connection: &mut Connection,
    now: CheckNow,
) -> Result<OpenRun, WebError> {
    let CheckNow { check, entries, head, standards, reading_std_devs } = now;
    let certificates: Vec<CertificateId> = standards.iter().map(|used| used.certificate).collect();
    let purpose = check.purpose.parse().map_err(|_| WebError::Inner("purpose".into()))?;
    let remembered = state.remembered_way(check.plan_version_id, &certificates, purpose);
    let way = match remembered {
        Some(way) => way,
        None => {
            let plan = plans::version(connection, check.plan_version_id).await?;
            state.way(connection, &plan, &certificates, purpose).await?
        }
    };
    let run = entries.run_state()?;
    let steps = settled(&way, &run, &reading_std_devs)?;
    Ok(OpenRun { check, entries, seen: head, standards, way, steps, run })
}

/// The steps of a way as this run has them.
fn settled(
    way: &Way,
    run: &RunState,
    std_devs: &HashMap<String, f64>,
) -> Result<Vec<Step>, WebError> {
    let unit = way.spec.unit;
    let scale = to_f64(unit.error_unit(way.spec.resolution).convert(1.into(), unit));
    way.steps
        .iter()
        .map(|step| {
            let known = step.charted_as.as_ref().and_then(|key| std_devs.get(key));
            let settled = way.method.settle(&way.spec, run, step);
            Ok(settled.map_err(WebError::from)?.guarded(known.map(|s| s * scale)))
        })
        .collect()
}

impl OpenRun {
    /// Finds what an entry is for; nothing when the step is kept already or not next.
    pub fn target(
        &self,
        step: &str,
        repeat: u32,
        replaces: Option<ReadingId>,
    ) -> Option<Target<'_>> {
        if let Some(id) = replaces {
            let old = find_reading(self, id)?;
            let step = self.steps.iter().find(|step| step.key.0 == old.step_key)?;
            let repeat = u32::try_from(old.repeat).ok()?;
            return Some(Target { step, repeat, replaces, redone: None, is_last: false });
        }
        let (next, place) = match self.run.next(&self.steps)? {
            (next, place) if next.key.0 == step => (next, place),
            // What stands on one screen is kept in whichever order it is right.
            (next, _) => {
                let beside = RunState::together(&self.steps, &next.key);
                let open = |one: &&Step| self.run.of_step(&one.key).next().is_none();
                (beside.iter().filter(open).find(|one| one.key.0 == step)?, 1)
            }
        };
        if place != repeat {
            return None;
        }
        let redone = self
            .entries
            .voided
            .iter()
            .rev()
            .find(|old| old.step_key == next.key.0 && u32::try_from(old.repeat) == Ok(place))
            .map(|old| old.id);
        let last = self.steps.last();
        let is_last = last.is_some_and(|last| last.key == next.key && place == last.repeats);
        Some(Target { step: next, repeat: place, replaces: None, redone, is_last })
    }

    /// Whether a step lies beyond the next one.
    pub fn is_ahead(&self, step: &str, repeat: u32) -> bool {
        let place = |key: &str| self.steps.iter().position(|own| own.key.0 == key);
        let Some((next, now)) = self.run.next(&self.steps) else { return false };
        match (place(step), place(&next.key.0)) {
            (Some(own), Some(at)) => own > at || (own == at && repeat > now),
            _ => false,
        }
    }

    /// Why nothing more can be read: a standard was withdrawn since it was taken.
    pub fn withdrawn_words(&self) -> Option<String> {
        let held = self.standards.iter().find(|used| used.withdrawn.is_some())?;
        let reason = held.withdrawn.clone().unwrap_or_default();
        Some(format!(
            "Nothing more can be read on {}: it is not in use any more ({reason}). Void this check with that reason; what was kept stays on record.",
            held.tag
        ))
    }

    /// Why a reading taken at `at`, on that day of the site, does not count: a standard has run out
    /// since it was taken in hand. Looking over and closing go on.
    pub fn run_out_words(&self, at: Timestamp, day: Date) -> Option<String> {
        let over = |used: &UsedStandard| used.open_until.is_some_and(|end| at > end);
        let used = self.standards.iter().find(|used| day > used.last_day || over(used))?;
        let why = if over(used) {
            "it has been open for too long".to_owned()
        } else {
            format!("it was valid until {} only", long_day(used.last_day))
        };
        Some(format!(
            "Nothing more can be read on {}: {why}. Void this check with that reason and begin again on another standard; what was kept stays on record.",
            used.tag
        ))
    }

    /// Whether a standard ends soon enough for the site's day to matter.
    pub fn may_run_out(&self, at: Timestamp) -> bool {
        // A site's day begins up to 14 hours before that of UTC.
        let latest = (at + SignedDuration::from_hours(14)).to_zoned_datetime(TimeZone::UTC).date();
        self.standards.iter().any(|used| latest > used.last_day || used.open_until.is_some())
    }

    /// Whether anything lay outside its limits at any moment of this check, as the method computes it: a range or a
    /// mean, too, and values that were corrected since.
    pub fn was_failing(&self) -> Result<bool, WebError> {
        let kept = self.entries.history()?;
        let Way { method, spec, steps, .. } = &*self.way;
        Ok(vaaka_core::check::ever_failing(*method, spec, steps, &kept)?)
    }

    /// What a correction brings from outside to inside its limits.
    pub fn brought_inside(
        &self,
        target: &Target<'_>,
        value: &EntryValue,
        at: Timestamp,
    ) -> Result<bool, WebError> {
        let entry = Entry {
            step: target.step.key.clone(),
            repeat: target.repeat,
            at,
            value: value.clone(),
        };
        let Way { method, spec, .. } = &*self.way;
        let voids = target.step.voids.as_slice();
        let found = vaaka_core::check::brought_inside(*method, spec, &self.run, (&entry, voids))?;
        Ok(!found.is_empty())
    }

    /// Whether the reading that is next was typed so far off that the page asked, and nothing was kept instead: a
    /// check is not made to disappear by leaving the question open.
    pub fn awaits_far(&self, attempts: &[(AttemptRow, String)]) -> bool {
        self.run.next(&self.steps).is_some_and(|(step, repeat)| {
            attempts.iter().any(|(row, _)| {
                row.kind == AttemptKind::Far.word()
                    && row.step_key == step.key.0
                    && u32::try_from(row.repeat) == Ok(repeat)
            })
        })
    }

    /// When a person ticked the cautions of a step one by one in another check of this shift, where the plan lets them fold.
    pub async fn ticked_before(
        &self,
        connection: &mut Connection,
        target: &Target<'_>,
        person: PersonId,
    ) -> Result<Option<At>, WebError> {
        let folds = matches!(target.step.input, Input::Confirm { folds: true, .. });
        if !folds || target.replaces.is_some() {
            return Ok(None);
        }
        let these = (target.step.key.0.as_str(), &self.way.spec.settings);
        Ok(checks::cautions_ticked(connection, &self.check, person, these).await?)
    }

    /// Whether what is next must be kept within the longest time of a wait.
    pub fn is_bound(&self) -> bool {
        self.run.next(&self.steps).is_some_and(|(step, _)| step.within.is_some())
    }
}

/// The reading that a correction replaces.
pub fn find_reading(view: &OpenRun, id: ReadingId) -> Option<&Reading> {
    view.entries.standing.iter().map(|standing| &standing.reading).find(|reading| reading.id == id)
}
