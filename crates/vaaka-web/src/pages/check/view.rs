//! What the check page shows: the way as beads, the step, what was kept, the standard.

use std::collections::HashMap;

use askama::Template;
use vaaka_core::method::{Beside, Input, RunState, Scene, Step};
use vaaka_core::quantity::{Unit, decimals_of, show_decimal, show_float, show_signed, to_f64};
use vaaka_core::standard::UsedFace;
use vaaka_core::stats;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::{CertificateId, ReadingId};
use vaaka_store::plans::{self};
use vaaka_store::{Connection, charts, checks, instruments, links, registers, wear};

use crate::draw::draw_scene;
use crate::error::WebError;
use crate::open_run::{OpenRun, Target};
use crate::pages::check::live::LiveView;
use crate::pages::check::step::{StepView, Surroundings, Typed};
use crate::pages::check::values::ValuesView;
use crate::session::SignedIn;
use crate::shell::{Here, Shell};
use crate::state::{AppState, local_time};

impl OpenRun {
    /// Reads what else the page shows, and fills it.
    pub async fn page(
        &self,
        state: &AppState,
        connection: &mut Connection,
        signed: &SignedIn,
        correct: Option<ReadingId>,
        typed: Typed,
    ) -> Result<CheckPage, WebError> {
        let plan = plans::version(connection, self.check.plan_version_id).await?;
        let place = self.now_shown(correct).map_or(0, |target| target.step.standard);
        let used = self.standards.get(place).or_else(|| self.standards.first());
        let used =
            used.ok_or_else(|| WebError::Inner("a check without a standard".into()))?.clone();
        let certificate = registers::certificate(connection, used.certificate).await?;
        let hands = checks::hands(connection, &self.check).await?;
        let photos = files::of(connection, Owner::Check(self.check.id)).await?;
        let in_force = plans::version_in_force(connection, plan.plan.id).await?;
        let here = Here::find(state, connection).await?;
        let charted = self.now_shown(correct).and_then(|target| target.step.charted_as.clone());
        let control = match charted {
            Some(key) => {
                charts::control_limits_of(connection, plan.instrument.id, plan.plan.set_up_id, &key)
                    .await?
            }
            None => None,
        };
        let on_hold = match plan.instrument.state == "on_hold" {
            true => Some(plan.instrument.tag.clone()),
            false => instruments::held_cell(connection, plan.plan.set_up_id).await?,
        };
        let faces = self.faces(connection).await?;
        let link = links::of_instrument(connection, self.check.instrument_id).await?;
        let ticked_before = match self.now_shown(correct) {
            Some(target) => self.ticked_before(connection, &target, signed.person.id).await?,
            None => None,
        };
        let around = Surroundings {
            plan,
            certificate,
            tag: used.tag,
            in_force,
            here,
            control,
            on_hold,
            link,
            faces,
            ticked_before,
            now: state.now(),
            hands,
            photos,
        };
        // Errors as bars where everything is looked over; curves as soon as there is one.
        let looks_over =
            self.now_shown(correct).is_some_and(|now| matches!(now.step.input, Input::Review));
        let live = match looks_over || self.way.method.draws() {
            true => LiveView::of(self.way.method, &self.way.spec, &self.run)?,
            false => LiveView::default(),
        };
        Ok(self.fill(&around, signed, correct, typed, live))
    }

    fn now_shown(&self, correct: Option<ReadingId>) -> Option<Target<'_>> {
        if let Some(target) = correct.and_then(|id| self.target("", 0, Some(id))) {
            return Some(target);
        }
        let (step, repeat) = self.run.next(&self.steps)?;
        self.target(&step.key.0, repeat, None)
    }

    fn fill(
        &self,
        around: &Surroundings,
        signed: &SignedIn,
        correct: Option<ReadingId>,
        typed: Typed,
        live: LiveView,
    ) -> CheckPage {
        let target = self.now_shown(correct);
        let key = target.as_ref().map(|target| target.step.key.0.clone());
        let holder = around.hands.last().filter(|(id, ..)| *id != signed.person.id);
        let mine = holder.is_none();
        CheckPage {
            step: target.as_ref().map(|target| self.step_view(around, target, &typed)),
            holder: holder.map(|(id, name, _)| (id.0, name.clone())),
            hands: self.hands_words(around),
            withdrawn: self.withdrawn_words().or_else(|| {
                let reads = target.as_ref()?.step.input.measures();
                let day = around.now.to_zoned_datetime(around.here.zone.clone()).date();
                reads.then(|| self.run_out_words(around.now, day)).flatten()
            }),
            on_hold: around.on_hold.clone(),
            ahead: match (correct, mine) {
                (None, true) => self.steps_ahead(around),
                _ => vec![],
            },
            photos: around.photos.clone(),
            person: signed.person.id.0,
            nothing_typed: Typed::default(),
            is_review: mine
                && target.as_ref().is_some_and(|target| matches!(target.step.input, Input::Review)),
            shell: Shell::new(signed, "round", &around.here),
            id: self.check.id.0,
            instrument: format!("{} {}", around.plan.instrument.name, around.plan.instrument.tag),
            cell: around.plan.cell.clone(),
            beads: self.beads(target.as_ref()),
            values: match (correct, &target) {
                (None, Some(target)) => ValuesView::of(self, target.step, &typed),
                _ => None,
            },
            standard: self.standard_view(around, target.as_ref()),
            series: target.as_ref().map(|target| self.series(target.step)).unwrap_or_default(),
            so_far: key.as_deref().map(|key| self.kept_of(Some(key))).unwrap_or_default(),
            all_kept: self.kept_of(None),
            superseded: around
                .in_force
                .filter(|current| *current != around.plan.version.version)
                .map(|current| (around.plan.version.version, current)),
            form_token: signed.form_token.clone(),
            step_back: self.step_back(correct),
            typed,
            live,
        }
    }

    /// The way with what stands of it: done, to be done, now; what a redo voided and is to be taken again; and what falls
    /// with the step that is just being done again.
    fn beads(&self, target: Option<&Target<'_>>) -> Vec<Bead> {
        let now = target.map(|target| target.step.key.0.as_str());
        let redone = target.filter(|target| target.replaces.is_some());
        let falls =
            |step: &Step| redone.is_some_and(|target| target.step.voids.contains(&step.key));
        let is_void =
            |step: &Step| self.entries.voided.iter().any(|entry| entry.step_key == step.key.0);
        let mut beads: Vec<Bead> = self
            .way
            .steps
            .iter()
            .map(|step| {
                let kept = self.run.of_step(&step.key).count();
                let state = if now == Some(step.key.0.as_str()) {
                    "now"
                } else if kept > 0 && falls(step) {
                    "falls"
                } else if kept >= step.repeats as usize {
                    "done"
                } else if is_void(step) {
                    "void"
                } else {
                    "todo"
                };
                Bead { shown: unbroken(&step.title), title: step.title.clone(), state }
            })
            .collect();
        let state = if now.is_none() { "now" } else { "todo" };
        beads.push(Bead { shown: "Verdict".into(), title: "Verdict".into(), state });
        beads
    }

    /// The steps that can be done without the network: on from the one that is shown, up to the
    /// first that needs the server (a tag, a wait, the look over everything).
    fn steps_ahead(&self, around: &Surroundings) -> Vec<Ahead> {
        let Some((now, place)) = self.run.next(&self.steps) else {
            return vec![];
        };
        let (now, typed) = (now.key.clone(), Typed::default());
        // What stands on one screen with the step of now is on it already.
        let beside = RunState::together(&self.steps, &now);
        let from = self.steps.iter().skip_while(|step| step.key != now);
        let from = from.filter(|step| !beside.iter().any(|one| one.key == step.key));
        let mut ahead = Vec::new();
        // The step of now comes first on its standard.
        let mut on_standard: HashMap<usize, usize> = HashMap::new();
        for step in from {
            if step.key == now && step.input.measures() {
                *on_standard.entry(step.standard).or_default() += 1;
            }
            if step.input.needs_server() {
                break;
            }
            let first = if step.key == now { place + 1 } else { 1 };
            for repeat in first..=step.repeats {
                let target = Target { step, repeat, replaces: None, redone: None, is_last: false };
                let mut view = self.step_view(around, &target, &typed);
                // With the network gone no line is read from here.
                view.read = None;
                if step.input.measures() {
                    let before = on_standard.entry(step.standard).or_default();
                    let scene = self.scene(around, step, *before);
                    view.scene = scene.as_ref().map(draw_scene).unwrap_or_default();
                    *before += 1;
                }
                // Refusing a place needs the server.
                view.refuse_place = None;
                ahead.push(Ahead {
                    step: view,
                    standard: self.standard_view(around, Some(&target)),
                });
            }
        }
        ahead
    }

    /// The faces of the standards with the places that are used up, and how many this check has taken on each.
    pub async fn faces(
        &self,
        connection: &mut Connection,
    ) -> Result<Vec<Option<(UsedFace, usize)>>, WebError> {
        if !self.way.method.uses_places() {
            return Ok(vec![]);
        }
        let used: Vec<CertificateId> = self.standards.iter().map(|one| one.certificate).collect();
        let faces = wear::faces(connection, &used).await?;
        let made = wear::made(connection, self.check.id).await?;
        let taken = |place| wear::readings_taken(&self.steps, &made, place) as usize;
        let own = faces.into_iter().enumerate();
        Ok(own.map(|(place, face)| Some((face?, taken(place)))).collect())
    }

    /// The certificate of the standard at a place of the check.
    pub fn certificate_at(&self, place: usize) -> Option<CertificateId> {
        self.standards.get(place).map(|used| used.certificate)
    }

    /// The drawing of a step, with the map of its standard where it has one; `further` readings on that standard come before it.
    pub(in crate::pages) fn scene(
        &self,
        around: &Surroundings,
        step: &Step,
        further: usize,
    ) -> Option<Scene> {
        let face = around.faces.get(step.standard).and_then(Option::as_ref);
        match face.filter(|_| step.input.measures()) {
            Some((face, taken)) => {
                self.way.method.scene_on(&self.way.spec, step, Some((face, taken + further)))
            }
            None => step.scene.clone(),
        }
    }

    fn hands_words(&self, around: &Surroundings) -> Option<String> {
        let [(_, opener, _), taken @ ..] = around.hands.as_slice() else { return None };
        if taken.is_empty() {
            return None;
        }
        let rest: Vec<String> = taken
            .iter()
            .map(|(_, name, at)| {
                format!("taken over by {name} at {}", local_time(at.0, &around.here.zone))
            })
            .collect();
        Some(format!("Begun by {opener}, {}.", rest.join(", ")))
    }

    pub(in crate::pages) fn error_unit(&self) -> Unit {
        self.way.spec.unit.error_unit(self.way.spec.resolution)
    }

    fn standard_view(&self, around: &Surroundings, target: Option<&Target<'_>>) -> StandardView {
        let unit = self.way.spec.unit;
        let mut lines = Vec::new();
        let shown = target
            .and_then(|target| self.way.spec.points.get(target.step.point?))
            .filter(|point| !point.pieces.is_empty());
        // The value that holds at the temperature that was read.
        let value = target.and_then(|target| target.step.reference_value);
        let mut title = around.tag.clone();
        if let Some(point) = shown
            && let Ok(sum) = vaaka_core::standard::combine(&point.pieces, unit)
        {
            let names: Vec<String> = point.pieces.iter().map(|piece| piece.tag.clone()).collect();
            title = format!("{title} · {} {unit}", point.nominal.normalize());
            if names.len() > 1 {
                lines.push(format!("pieces {}", names.join(" + ")));
            }
            let certified = value.unwrap_or(sum.reference_value).normalize();
            lines.push(format!("certified {} {unit}", show_decimal(certified, certified.scale())));
            let to = self.error_unit();
            let expanded = 2.0 * sum.standard_uncertainty() * to_f64(unit.convert(1.into(), to));
            let decimals = decimals_of(unit.convert(self.way.spec.resolution, to)) + 2;
            let places = sum.contributions.iter().any(|part| {
                part.source == vaaka_core::judgement::ContributionSource::NonUniformity
            });
            // A block is not the same all over: its certificate's U is of its mean.
            let what = if places { "U with its places" } else { "U" };
            lines.push(format!(
                "{what} {} {to}, k = 2",
                vaaka_core::quantity::show_float(expanded, decimals)
            ));
        }
        lines.push(format!(
            "certificate {}, due {}",
            around.certificate.number,
            around.certificate.valid_until.0.strftime("%-d %b %Y")
        ));
        StandardView { title, lines }
    }

    fn kept_of(&self, step: Option<&str>) -> Vec<KeptRow> {
        let of_step = step.is_some();
        self.entries
            .standing
            .iter()
            .filter(|standing| STATED.contains(&standing.reading.kind.as_str()))
            .filter(|standing| step.is_none_or(|step| standing.reading.step_key == step))
            .filter_map(|standing| {
                let reading = &standing.reading;
                let step = self.steps.iter().find(|step| step.key.0 == reading.step_key)?;
                let units = step.error_units();
                let error = reading
                    .indication
                    .and_then(|indication| step.error_of(indication, reading.added))
                    .zip(units)
                    .map(|(error, (unit, to))| (unit.convert(error, to).normalize(), to));
                Some(KeptRow {
                    id: reading.id.0,
                    title: step.title.clone(),
                    number: reading.repeat,
                    value: match (reading.indication, &reading.unit) {
                        (Some(value), Some(unit)) => {
                            let shown = show_decimal(value, value.scale());
                            match (of_step, reading.added, &step.input) {
                                // Beside the step there is little room, and its label says what it is.
                                (
                                    true,
                                    Some(number),
                                    Input::Reading { beside: Some(Beside::Number { .. }), .. },
                                ) => format!("{shown} {unit} · {}", number.normalize()),
                                _ => {
                                    let beside = beside_words(&step.input, reading.added);
                                    format!("{shown} {unit}{beside}")
                                }
                            }
                        }
                        _ => reading.typed.clone(),
                    },
                    error: error
                        .map(|(error, to)| {
                            format!("{} {to}", show_signed(error, error.scale().min(4)))
                        })
                        .unwrap_or_default(),
                    by: standing.person.clone(),
                    far: reading.far_confirmed
                        || reading.indication.is_some_and(|value| is_far(step, value)),
                })
            })
            .collect()
    }

    /// What the readings of a step come to so far: their mean and spread, and one that stands too far from the rest. It is
    /// told, and drops nothing.
    fn series(&self, step: &Step) -> Series {
        /// One in a hundred of good series has one by chance.
        const SIGNIFICANCE: f64 = 0.01;
        // A mean of decibels is not their arithmetic one, and with small weights the display is half of the reading.
        let Input::Reading { unit, resolution, beside, .. } = &step.input else {
            return Series::default();
        };
        if unit.is_logarithmic() || *beside == Some(Beside::Weights) {
            return Series::default();
        }
        let values: Vec<f64> =
            self.run.readings(&step.key).iter().map(|(shown, _)| to_f64(*shown)).collect();
        let (Ok(mean), Ok(s)) = (stats::mean(&values), stats::sample_std_dev(&values)) else {
            return Series::default();
        };
        let places = decimals_of(*resolution) + 1;
        let outlier = stats::grubbs(&values, SIGNIFICANCE).ok().filter(stats::Outlier::stands_out);
        // Rounding alone makes one of few like readings stand out.
        let step = to_f64(*resolution);
        let outlier = outlier.filter(|one| (values[one.index] - mean).abs() > 2.0 * step);
        Series {
            words: Some(format!(
                "mean {} {unit}, s {} {unit}",
                show_float(mean, places),
                show_float(s, places)
            )),
            outlying: outlier.and_then(|one| i32::try_from(one.index + 1).ok()),
        }
    }

    /// Esc leads to the last reading kept, for correction; from a correction back to the step.
    fn step_back(&self, correct: Option<ReadingId>) -> Option<String> {
        let id = self.check.id;
        if correct.is_some() {
            return Some(format!("/checks/{id}"));
        }
        let last = self
            .entries
            .standing
            .iter()
            .rev()
            .find(|s| matches!(s.reading.kind.as_str(), "reading" | "trace"))?;
        Some(format!("/checks/{id}?correct={}", last.reading.id))
    }
}

/// Kinds of entries that say something which can have been typed wrongly: they are shown beside the step and corrected.
const STATED: [&str; 7] = ["reading", "condition", "setting", "choice", "text", "count", "trace"];

/// A text whose hyphens end no line: a tag is read in one piece.
pub fn unbroken(text: &str) -> String {
    text.replace('-', "-\u{2060}")
}

/// Whether a reading lies further from what is expected than the guard lets pass without a question.
fn is_far(step: &Step, indication: rust_decimal::Decimal) -> bool {
    matches!(&step.input, Input::Reading { expected, guard, .. } if (indication - *expected).abs() > *guard)
}

/// What the readings of a step come to so far.
#[derive(Debug, Default)]
pub struct Series {
    /// Mean and spread in words, from two on.
    words: Option<String>,
    /// Number of the reading that stands too far from the rest.
    outlying: Option<i32>,
}

impl Series {
    fn is(&self, number: &i32) -> bool {
        self.outlying == Some(*number)
    }
}

/// A bead of the way.
#[derive(Debug)]
pub struct Bead {
    /// The title with its tags in one piece.
    pub shown: String,
    title: String,
    state: &'static str,
}

/// A step that can be done without the network, with the card of its standard.
#[derive(Debug)]
pub struct Ahead {
    step: StepView,
    standard: StandardView,
}

/// The standard's card.
#[derive(Debug)]
pub struct StandardView {
    title: String,
    lines: Vec<String>,
}

/// A kept reading.
#[derive(Debug)]
pub struct KeptRow {
    id: i64,
    title: String,
    number: i32,
    value: String,
    error: String,
    by: String,
    /// Far from what is expected: it was asked about, or would be.
    far: bool,
}

/// The page.
#[derive(Debug, Template)]
#[template(path = "check.html")]
pub struct CheckPage {
    shell: Shell,
    holder: Option<(i64, String)>,
    hands: Option<String>,
    withdrawn: Option<String>,
    on_hold: Option<String>,
    ahead: Vec<Ahead>,
    photos: Vec<FileBrief>,
    person: i64,
    nothing_typed: Typed,
    is_review: bool,
    id: i64,
    instrument: String,
    cell: Option<String>,
    beads: Vec<Bead>,
    /// Several values on one screen, in place of the step.
    values: Option<ValuesView>,
    step: Option<StepView>,
    standard: StandardView,
    so_far: Vec<KeptRow>,
    series: Series,
    all_kept: Vec<KeptRow>,
    superseded: Option<(i32, i32)>,
    form_token: String,
    step_back: Option<String>,
    typed: Typed,
    live: LiveView,
}

/// The number beside a reading in words, "; the code 545"; what small weights were added is told where errors are.
pub(in crate::pages) fn beside_words(
    input: &Input,
    number: Option<rust_decimal::Decimal>,
) -> String {
    match (input, number) {
        (Input::Reading { beside: Some(Beside::Number { name, unit, .. }), .. }, Some(number)) => {
            let number = show_decimal(number, number.scale());
            let name = name.to_lowercase();
            format!("; {name} {number} {unit}").trim_end().to_owned()
        }
        _ => String::new(),
    }
}
