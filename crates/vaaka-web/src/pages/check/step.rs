//! One step as the check page shows it.

use std::collections::HashMap;

use crate::draw::{Beam, BeamSize, draw_scene};
use crate::forms::new_key;
use crate::open_run::{OpenRun, Target, find_reading};
use crate::pages::check::capture::{ReadView, read_view};
use crate::pages::check::input::{LocalRules, shown};
use crate::shell::Here;
use crate::state::local_time;
use jiff::Timestamp;
use rust_decimal::Decimal;
use uuid::Uuid;
use vaaka_core::method::{Input, Step, StepKey, duration_words};
use vaaka_core::quantity::{show_signed, to_f64};
use vaaka_core::standard::UsedFace;
use vaaka_store::At;
use vaaka_store::files::FileBrief;
use vaaka_store::ids::PersonId;
use vaaka_store::ids::ReadingId;
use vaaka_store::links::LinkRow;
use vaaka_store::plans::PlanView;
use vaaka_store::rows::Certificate;

/// What was typed, and the words at each field.
#[derive(Debug, Clone, Default)]
pub struct Typed {
    /// In the main field.
    pub text: String,
    /// What was read over the line into the main field: its capture, and the words beside it.
    pub capture: Option<(i64, String)>,
    /// In the field of the added weights.
    pub added: String,
    /// In the field of the reason.
    pub reason: String,
    /// Names of the ticked boxes.
    pub ticked: Vec<String>,
    /// Words at the main field.
    pub error: Option<String>,
    /// Words at the added weights.
    pub added_error: Option<String>,
    /// Words at the reason.
    pub reason_error: Option<String>,
    /// Sign-in name of the second person.
    pub second: String,
    /// Words at the second person; they ask for one.
    pub second_error: Option<String>,
    /// Words at the form that voids.
    pub void_error: Option<String>,
    /// What was said in it.
    pub void_words: String,
    /// Words above the step.
    pub notice: Option<String>,
    /// Whether a wait must begin again.
    pub too_late: bool,
    /// Whether the guard's question can be answered with yes.
    pub may_confirm: bool,
    /// What the answer repeats.
    pub asked: String,
    /// Where several values stand on one screen: what was typed for each step, and the words at it.
    pub values: HashMap<String, (String, Option<String>)>,
    /// What the guard asks about there: the value by its step.
    pub asked_there: HashMap<String, String>,
    /// A list that they are filled in from, and what is said of it.
    pub list: String,
    /// What is said of it.
    pub list_words: Option<String>,
}

impl Typed {
    /// Whether the main field is the place to go on: nothing is wrong elsewhere.
    pub fn is_about_main(&self) -> bool {
        self.added_error.is_none() && self.reason_error.is_none() && self.second_error.is_none()
    }
}

/// What else the page shows.
#[derive(Debug)]
pub(in crate::pages) struct Surroundings {
    pub plan: PlanView,
    pub certificate: Certificate,
    /// Tag of the standard that the step reads.
    pub tag: String,
    /// Who had the check in hand, in order.
    pub hands: Vec<(PersonId, String, At)>,
    pub photos: Vec<FileBrief>,
    pub in_force: Option<i32>,
    pub here: Here,
    pub control: Option<(f64, f64, f64)>,
    /// Tag of the instrument, or name of its cell, that is on hold.
    pub on_hold: Option<String>,
    /// The line of the instrument.
    pub link: Option<LinkRow>,
    /// Faces of the standards, where readings use places up, and how many this check has taken on each.
    pub faces: Vec<Option<(UsedFace, usize)>>,
    /// When this person ticked the cautions of the step in another check of this shift, where they fold.
    pub ticked_before: Option<At>,
    pub now: Timestamp,
}

impl OpenRun {
    pub(in crate::pages) fn step_view(
        &self,
        around: &Surroundings,
        target: &Target<'_>,
        typed: &Typed,
    ) -> StepView {
        let step = target.step;
        let counted = if step.repeats > 1 {
            format!("Reading {} of {}.", target.repeat, step.repeats)
        } else {
            String::new()
        };
        let shown = shown(step);
        let sentences = shown.sentences.into_iter().enumerate().map(|(index, text)| {
            let name = format!("tick{index}");
            let ticked = typed.ticked.contains(&name);
            Sentence { name, text, ticked }
        });
        let (beam, beam_words) = self.step_beam(step, around.control);
        let folds = matches!(step.input, Input::Confirm { folds: true, .. });
        let folded = around.ticked_before.filter(|_| folds);
        StepView {
            read: read_view(around.link.as_ref(), step),
            key: step.key.0.clone(),
            repeat: target.repeat,
            form_key: new_key(),
            replaces: target.replaces.map(|id| id.0),
            replaced: target
                .replaces
                .and_then(|id| find_reading(self, id))
                .map(|old| old.typed.clone()),
            voids: self.voided_titles(target),
            wait: self.wait_view(around, step),
            redo_wait: typed.too_late.then(|| self.wait_to_redo(step)).flatten().map(|id| id.0),
            kind: step.input.kind(),
            instruction: step.instruction.clone(),
            detail: step.detail.clone(),
            counted,
            sentences: sentences.collect(),
            folded: folded.map(|at| local_time(at.0, &around.here.zone)),
            choices: shown.choices,
            unit: step.input.unit().unwrap_or_default().to_owned(),
            beside: shown.beside,
            scene: self.scene(around, step, 0).as_ref().map(draw_scene).unwrap_or_default(),
            refuse_place: self.refusable_place(around, target),
            beam,
            beam_words,
            title: step.title.clone(),
            rules: shown.rules,
        }
    }

    /// The standard of a step that asks for a place of its face, and how many are used up there; none where there is no map, or no
    /// place is left to refuse.
    fn refusable_place(
        &self,
        around: &Surroundings,
        target: &Target<'_>,
    ) -> Option<(usize, usize)> {
        let step = target.step;
        let (face, taken) = around.faces.get(step.standard)?.as_ref()?;
        let open = step.input.measures() && target.replaces.is_none();
        (open && *taken < face.free().len()).then_some((step.standard, face.used.len()))
    }

    /// What stands and would be void when this is done again, by name.
    fn voided_titles(&self, target: &Target<'_>) -> Vec<String> {
        if target.replaces.is_none() {
            return Vec::new();
        }
        let stands = |key: &StepKey| self.run.of_step(key).next().is_some();
        self.steps
            .iter()
            .filter(|step| target.step.voids.contains(&step.key) && stands(&step.key))
            .map(|step| step.title.clone())
            .collect()
    }

    fn started(&self, step: &Step) -> Option<(Timestamp, Option<Timestamp>)> {
        match &step.input {
            Input::WaitOver { start, .. } => self.run.wait(start),
            _ => step.within.as_ref().and_then(|start| self.run.wait(start)),
        }
    }

    /// The times that bind a step, as the server keeps them.
    fn wait_view(&self, around: &Surroundings, step: &Step) -> Option<WaitView> {
        let (ready, latest) = self.started(step)?;
        let zone = &around.here.zone;
        let left = ready.duration_since(around.now);
        Some(WaitView {
            seconds_left: left.as_secs().max(0),
            left: duration_words(left),
            is_over: matches!(step.input, Input::WaitOver { .. }),
            ready: local_time(ready, zone),
            latest: latest.map(|latest| local_time(latest, zone)),
        })
    }

    /// The wait that has to begin again when a step comes too late.
    fn wait_to_redo(&self, step: &Step) -> Option<ReadingId> {
        let start = match &step.input {
            Input::WaitOver { start, .. } => Some(start),
            _ => step.within.as_ref(),
        }?;
        let standing = self.entries.standing.iter().rev();
        standing
            .filter(|standing| standing.reading.step_key == start.0)
            .map(|standing| standing.reading.id)
            .next()
    }

    /// The beam under a reading shows only what was kept: a value still being typed is never
    /// judged, and single readings are not held against limits meant for their mean.
    fn step_beam(
        &self,
        step: &Step,
        control: Option<(f64, f64, f64)>,
    ) -> (String, Option<(String, String, String)>) {
        let (Some((unit, to)), Some(tolerance)) = (step.error_units(), step.tolerance) else {
            return (String::new(), None);
        };
        let side = |limit: Option<Decimal>| limit.map(|limit| unit.convert(limit, to));
        let (lower, upper) = (side(tolerance.lower), side(tolerance.upper));
        let errors: Vec<f64> = self
            .run
            .readings(&step.key)
            .into_iter()
            .filter_map(|(indication, added)| step.error_of(indication, added))
            .map(|error| to_f64(unit.convert(error, to)))
            .collect();
        let kept = match (errors.len(), step.repeats) {
            (0, 1) => "Judged when the check is complete.".to_owned(),
            (0, n) => format!("Nothing kept yet. The mean of {} is judged.", count_words(n)),
            (1, n) if n > 1 => format!(
                "One reading kept. The mean of {} is judged, after the last.",
                count_words(n)
            ),
            (_, 1) => "One reading kept.".to_owned(),
            (k, n) => format!(
                "{k} readings kept. The mean of {} is judged, after the last.",
                count_words(n)
            ),
        };
        let words = |limit: Option<Decimal>| {
            limit.map_or_else(
                || "no limit".to_owned(),
                |limit| {
                    format!("{} {to}", show_signed(limit.normalize(), limit.normalize().scale()))
                },
            )
        };
        let description = format!("Tolerance {} to {}. {kept}", words(lower), words(upper));
        let beam = Beam {
            tolerance: (lower.map(to_f64), upper.map(to_f64)),
            control,
            ticks: errors,
            ..Beam::new(BeamSize::Page, description)
        };
        let ends = (format!("{} tolerance", words(lower)), kept, words(upper));
        (beam.draw(), Some(ends))
    }
}

fn count_words(n: u32) -> String {
    match n {
        2 => "two".into(),
        3 => "three".into(),
        4 => "four".into(),
        5 => "five".into(),
        n => n.to_string(),
    }
}

/// A sentence to tick.
#[derive(Debug)]
pub struct Sentence {
    pub name: String,
    pub text: String,
    pub ticked: bool,
}

/// The step on the screen.
#[derive(Debug)]
pub struct StepView {
    /// How it is read over the line of the instrument, where it is.
    pub read: Option<ReadView>,
    pub title: String,
    pub rules: LocalRules,
    pub key: String,
    pub repeat: u32,
    pub form_key: Uuid,
    pub replaces: Option<i64>,
    pub replaced: Option<String>,
    pub voids: Vec<String>,
    pub wait: Option<WaitView>,
    pub redo_wait: Option<i64>,
    pub kind: &'static str,
    pub instruction: String,
    pub detail: String,
    pub counted: String,
    pub sentences: Vec<Sentence>,
    /// When the person ticked them in this shift already: one key confirms them all.
    pub folded: Option<String>,
    pub choices: Vec<String>,
    pub unit: String,
    pub beside: Option<String>,
    pub scene: String,
    /// Where a place of a standard is proposed: which standard, and how many of its places are used up.
    pub refuse_place: Option<(usize, usize)>,
    pub beam: String,
    pub beam_words: Option<(String, String, String)>,
}

/// The times that bind a step.
#[derive(Debug)]
pub struct WaitView {
    pub seconds_left: i64,
    pub left: String,
    /// Whether the step is the end of the wait itself.
    pub is_over: bool,
    pub ready: String,
    pub latest: Option<String>,
}
