//! What the check page shows: the way as beads, the step, what was kept, the standard.

use std::collections::HashMap;
use std::sync::Arc;

use askama::Template;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use vaaka_core::method::{AttemptKind, Beside, Entry, EntryValue, Input, RunState, Scene, Step};
use vaaka_core::quantity::{Unit, decimals_of, show_decimal, show_float, show_signed, to_f64};
use vaaka_core::standard::UsedFace;
use vaaka_core::stats;
use vaaka_store::audit::Head;
use vaaka_store::entries::{CheckNow, Entries, UsedStandard};
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::{CertificateId, PersonId, ReadingId};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{AttemptRow, Certificate, Check};
use vaaka_store::{At, Connection, charts, checks, instruments, registers, wear};

use super::check_step::StepView;
use super::live::{LiveView, has_curves};
use super::standards::long_day;
use super::{Here, Shell};
use crate::draw::draw_scene;
use crate::error::WebError;
use crate::session::SignedIn;
use crate::state::{AppState, Way, local_time};

/// What was typed, and the words at each field.
#[derive(Debug, Clone, Default)]
pub struct Typed {
    /// In the main field.
    pub text: String,
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
}

impl Typed {
    /// Whether the main field is the place to go on: nothing is wrong elsewhere.
    pub fn is_about_main(&self) -> bool {
        self.added_error.is_none() && self.reason_error.is_none() && self.second_error.is_none()
    }
}

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
    pub(super) way: Arc<Way>,
    /// The steps with the values, limits, zero and guards that hold in this run.
    pub(super) steps: Vec<Step>,
    pub(super) run: RunState,
}

/// What else the page shows.
#[derive(Debug)]
pub(super) struct Surroundings {
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
    /// Faces of the standards, where readings use places up, and how many this check has taken on each.
    pub faces: Vec<Option<(UsedFace, usize)>>,
    pub now: Timestamp,
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
        let around = Surroundings {
            plan,
            certificate,
            tag: used.tag,
            in_force,
            here,
            control,
            on_hold,
            faces,
            now: state.now(),
            hands,
            photos,
        };
        // Errors as bars where everything is looked over; curves as soon as there is one.
        let looks_over =
            self.now_shown(correct).is_some_and(|now| matches!(now.step.input, Input::Review));
        let live = match looks_over || has_curves(&self.way.steps) {
            true => LiveView::of(self.way.method, &self.way.spec, &self.run)?,
            false => LiveView::default(),
        };
        Ok(self.fill(&around, signed, correct, typed, live))
    }

    /// Finds what an entry is for; nothing when the step is kept already or not next.
    pub fn target(
        &self,
        step: &str,
        repeat: u32,
        replaces: Option<ReadingId>,
    ) -> Option<Target<'_>> {
        if let Some(id) = replaces {
            let old = super::check::find_reading(self, id)?;
            let step = self.steps.iter().find(|step| step.key.0 == old.step_key)?;
            let repeat = u32::try_from(old.repeat).ok()?;
            return Some(Target { step, repeat, replaces, redone: None, is_last: false });
        }
        let (next, place) = self.run.next(&self.steps)?;
        if next.key.0 != step || place != repeat {
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

    /// Whether what is next must be kept within the longest time of a wait.
    pub fn is_bound(&self) -> bool {
        self.run.next(&self.steps).is_some_and(|(step, _)| step.within.is_some())
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
            beads: self.beads(key.as_deref()),
            step: target.as_ref().map(|target| self.step_view(around, target, &typed)),
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

    fn beads(&self, now: Option<&str>) -> Vec<Bead> {
        let mut beads: Vec<Bead> = self
            .way
            .steps
            .iter()
            .map(|step| {
                let kept = self.run.of_step(&step.key).count();
                let state = if now == Some(step.key.0.as_str()) {
                    "now"
                } else if kept >= step.repeats as usize {
                    "done"
                } else {
                    "todo"
                };
                Bead { title: step.title.clone(), state }
            })
            .collect();
        let state = if now.is_none() { "now" } else { "todo" };
        beads.push(Bead { title: "Verdict".into(), state });
        beads
    }

    /// The steps that can be done without the network: on from the one that is shown, up to the
    /// first that needs the server (a tag, a wait, the look over everything).
    fn steps_ahead(&self, around: &Surroundings) -> Vec<Ahead> {
        let Some((now, place)) = self.run.next(&self.steps) else {
            return vec![];
        };
        let (now, typed) = (now.key.clone(), Typed::default());
        let from = self.steps.iter().skip_while(|step| step.key != now);
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
    pub(super) fn scene(
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

    pub(super) fn error_unit(&self) -> Unit {
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
        let to = self.error_unit();
        let of_step = step.is_some();
        self.entries
            .standing
            .iter()
            .filter(|standing| STATED.contains(&standing.reading.kind.as_str()))
            .filter(|standing| step.is_none_or(|step| standing.reading.step_key == step))
            .filter_map(|standing| {
                let reading = &standing.reading;
                let step = self.steps.iter().find(|step| step.key.0 == reading.step_key)?;
                let unit = self.way.spec.unit;
                let error = reading
                    .indication
                    .and_then(|indication| step.error_of(indication, reading.added))
                    .map(|error| unit.convert(error, to).normalize());
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
                        .map(|error| format!("{} {to}", show_signed(error, error.scale().min(4))))
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
pub(super) fn beside_words(input: &Input, number: Option<rust_decimal::Decimal>) -> String {
    match (input, number) {
        (Input::Reading { beside: Some(Beside::Number { name, unit, .. }), .. }, Some(number)) => {
            let number = show_decimal(number, number.scale());
            let name = name.to_lowercase();
            format!("; {name} {number} {unit}").trim_end().to_owned()
        }
        _ => String::new(),
    }
}
