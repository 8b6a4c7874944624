//! The rows of what somebody types from a display.

use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use serde_json::json;
use uuid::Uuid;
use vaaka_core::method::{Entry, EntryValue, Input, Proposal, Purpose, RunState, Step, accept};
use vaaka_core::quantity::to_f64;
use vaaka_store::At;
use vaaka_store::entries::columns_of;
use vaaka_store::ids::*;
use vaaka_store::rows::*;
use vaaka_store::traces::{Original, rows_of};

use super::World;
use super::bench::{Bench, Visit};
use super::charts::next;
use super::noise::Noise;
use super::played::Played;
use super::said::fault;
use super::spectra;
use super::trail::audit;
use crate::AppError;

impl Bench {
    /// The instrument as it stands at a moment of its story.
    fn played(&self, at: Timestamp, disturbance: f64) -> Played {
        Played {
            gear: self.gear,
            left: self.days_before_end(at),
            disturbed: self.disturbed,
            offset: self.adjusted_by + self.extra,
            disturbance,
        }
    }

    /// What somebody does at a step, and when: what the live application would be sent.
    fn answer(
        &self,
        step: &Step,
        run: &RunState,
        at: Timestamp,
        disturbance: f64,
        who: PersonId,
        noise: &mut Noise,
    ) -> Result<(Proposal, Timestamp), AppError> {
        let mut proposal = Proposal::default();
        let mut when = at + SignedDuration::from_secs(i64::from(step.pause_seconds));
        match &step.input {
            Input::Confirm { sentences, .. } => proposal.ticked = sentences.len(),
            Input::Tag { expected, .. } | Input::Setting { expected, .. } => {
                proposal.typed.clone_from(expected);
            }
            Input::Condition { lower, upper, .. } => {
                let bound = |value: &Option<Decimal>| value.map(to_f64);
                let low = bound(lower).unwrap_or(0.0);
                let high = bound(upper).unwrap_or(low + 10.0);
                let value = (low + high) / 2.0 + (high - low) / 9.0 * noise.normal();
                proposal.typed = format!("{:.1}", value.clamp(low, high));
            }
            Input::Choice { words, .. } => {
                let word = words.first().ok_or_else(|| fault("a choice of nothing"))?;
                proposal.typed.clone_from(&word.word);
            }
            Input::Text { .. } => proposal.typed = "as delivered".to_owned(),
            Input::File { .. } => proposal.typed = "picture.jpg".to_owned(),
            Input::Count { .. } => proposal.typed = "1".to_owned(),
            Input::WaitStart { .. } | Input::Review => {}
            Input::WaitOver { start, .. } => {
                if let Some((ready, _)) = run.wait(start) {
                    when = ready + SignedDuration::from_secs(noise.whole(4, 80));
                }
            }
            Input::Reading { .. } => {
                let falls = step.key.0.ends_with("falling");
                let (indication, added) = self
                    .played(at, disturbance)
                    .display(step, falls, noise)
                    .ok_or_else(|| fault("a reading out of range"))?;
                // Some people type a comma.
                let typed = indication.to_string();
                proposal.typed = if who.0 == 2 { typed.replace('.', ",") } else { typed };
                // Whoever meant it says so at once; the machine asks only where it lies far out.
                proposal.confirm_far = Some(proposal.typed.clone());
                proposal.added = added.map(|added| added.to_string()).unwrap_or_default();
            }
            Input::Trace { wanted, peaks, .. } => {
                let asked = (wanted, peaks.as_slice(), step);
                let text = self.played(at, disturbance).trace(asked, noise);
                let text = text.ok_or_else(|| fault("a trace of what writes none"))?;
                proposal.table = Some(spectra::read(&text));
                proposal.typed = text;
            }
        }
        Ok((proposal, when))
    }

    /// Keeps the entries of a run, as somebody types them.
    pub fn run(
        &self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
        purpose: Purpose,
        id: CheckId,
    ) -> Result<(RunState, Timestamp), AppError> {
        let detail = json!({
            "plan_version": self.plan_version, "certificate": self.certificate,
            "shift": visit.shift, "purpose": purpose.word(),
        });
        audit(world, id, visit.at, visit.who, "check_opened", detail);
        let disturbance = self.gear.between * noise.normal();
        let mut at = visit.at;
        let mut run = RunState::default();
        for step in &self.spec(purpose).1 {
            for repeat in 1..=step.repeats {
                // Looking things over takes its time and reads nothing.
                let looks = matches!(step.input, Input::Review);
                at += SignedDuration::from_secs(if looks { 14 } else { noise.whole(9, 34) });
                let (proposal, when) =
                    self.answer(step, &run, at, disturbance, visit.who, noise)?;
                at = when;
                let value = accept(step, &proposal, &run, at).map_err(fault)?;
                keep(world, noise, (id, step, repeat), &value, proposal.typed, visit.who, at)?;
                run.entries.push(Entry { step: step.key.clone(), repeat, at, value });
            }
        }
        Ok((run, at))
    }

    pub fn check_row(
        &self,
        id: CheckId,
        visit: Visit,
        purpose: Purpose,
        closed: Timestamp,
        noise: &mut Noise,
    ) -> Check {
        Check {
            id,
            plan_version_id: self.plan_version,
            instrument_id: self.instrument,
            shift_instance_id: visit.shift,
            certificate_id: self.certificate,
            purpose: purpose.word().to_owned(),
            state: "concluded".to_owned(),
            opened_by: visit.who,
            opened_at: At(visit.at),
            closed_by: Some(visit.who),
            closed_at: Some(At(closed)),
            void_reason: None,
            idempotency_key: noise.key(),
            held_by: visit.who,
            late_reason: None,
            measured_by: None,
            voided_by: None,
            voided_at: None,
            counts: false,
            beside: false,
            late_place: false,
        }
    }

    /// A check that was begun and voided before its readings were complete.
    pub fn voided(
        &self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
    ) -> Result<(), AppError> {
        let reasons = [
            "the bench was bumped or moved",
            "draught or vibration",
            "something was in the way or left on it",
        ];
        let reason = reasons[usize::try_from(noise.whole(0, 2)).unwrap_or(0)];
        let id = CheckId(next(world.checks.len()));
        let begun = visit.at - SignedDuration::from_mins(4);
        let closed = begun + SignedDuration::from_secs(150);
        audit(
            world,
            id,
            begun,
            visit.who,
            "check_opened",
            json!({ "plan_version": self.plan_version }),
        );
        let mut at = begun;
        let mut run = RunState::default();
        for step in self.as_found.1.iter().take(5) {
            at += SignedDuration::from_secs(noise.whole(9, 25));
            let (proposal, when) = self.answer(step, &run, at, 0.0, visit.who, noise)?;
            at = when;
            let value = accept(step, &proposal, &run, at).map_err(fault)?;
            keep(world, noise, (id, step, 1), &value, proposal.typed, visit.who, at)?;
            run.entries.push(Entry { step: step.key.clone(), repeat: 1, at, value });
        }
        audit(world, id, closed, visit.who, "check_voided", json!({ "reason": reason }));
        let mut check =
            self.check_row(id, Visit { at: begun, ..visit }, Purpose::AsFound, closed, noise);
        "void".clone_into(&mut check.state);
        check.void_reason = Some(reason.to_owned());
        check.voided_by = Some(visit.who);
        check.voided_at = Some(At(closed));
        world.checks.push(check);
        Ok(())
    }
}

fn keep(
    world: &mut World,
    noise: &mut Noise,
    (id, step, repeat): (CheckId, &Step, u32),
    value: &EntryValue,
    typed: String,
    who: PersonId,
    at: Timestamp,
) -> Result<(), AppError> {
    let id_of = ReadingId(next(world.readings.len()));
    let typed = match value {
        EntryValue::Trace { trace, digest, points, .. } => {
            let name = format!("scan-{}-{repeat}.csv", id.0);
            let original = Original { name: &name, bytes: typed.as_bytes() };
            let (row, channels) = rows_of(id_of, (trace, digest), original)?;
            world.traces.push(row);
            world.trace_channels.extend(channels);
            format!("{name}, {points} points")
        }
        _ => typed,
    };
    let columns = columns_of(value);
    let unit = step.input.unit().map(str::to_owned);
    let detail = json!({ "step": step.key, "repeat": repeat, "typed": typed, "value": value });
    audit(world, id, at, who, "entry_kept", detail);
    world.readings.push(Reading {
        id: id_of,
        check_id: id,
        step_key: step.key.0.clone(),
        repeat: i32::try_from(repeat).map_err(fault)?,
        kind: columns.kind.to_owned(),
        typed: columns.typed.map_or(typed, str::to_owned),
        indication: columns.indication,
        unit,
        added: columns.added,
        far_confirmed: columns.far_confirmed,
        source: "keyed".to_owned(),
        person_id: who,
        measured_at: At(at),
        received_at: At(at),
        idempotency_key: match step.input {
            Input::Review => Uuid::from_u128(u128::from(id.0.unsigned_abs())),
            _ => noise.key(),
        },
        replaces_id: None,
        reason: None,
        ready_at: columns.ready_at,
        latest_at: columns.latest_at,
        seconded_by: None,
    });
    Ok(())
}
