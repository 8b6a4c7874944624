//! Makes the history: walks the shifts, reads the scales as people would, and completes each
//! check as the live application does.

use jiff::civil::{Date, Weekday, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use rust_decimal::Decimal;
use rust_decimal::prelude::{FromPrimitive, ToPrimitive};
use serde_json::json;
use vaaka_core::check::{RunContext, complete};
use vaaka_core::judgement::{Attempt, Conformity};
use vaaka_core::method::weighing::{self, LimitStage, SettingsV1};
use vaaka_core::method::{Entry, EntryValue, Input, Method, PlanSpec, Purpose, RunState, Step};
use vaaka_core::quantity::to_f64;
use vaaka_core::round::{ShiftPattern, ShiftSpan, ShiftStart};
use vaaka_store::audit::{AuditEntry, Happening};
use vaaka_store::checks::chain;
use vaaka_store::conclude::{Basis, characteristic_rows, result_row};
use vaaka_store::ids::*;
use vaaka_store::plans::{PlanView, build_spec};
use vaaka_store::registers::piece;
use vaaka_store::rows::*;
use vaaka_store::{At, Day, WallTime};

use super::World;
use super::charts::{Book, next};
use super::noise::Noise;
use super::scales::{AREAS, SCALES, SETS, Scale, Story, cautions, closing, preparation};
use super::world::{COLLEAGUES, LEAD, SECOND_LEAD};
use crate::AppError;

/// What is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Request {
    /// Days of history.
    pub days: u16,
    /// Seed.
    pub seed: u64,
    /// The moment at which it ends.
    pub ends_at: Timestamp,
}

const ZONE: &str = "Europe/Helsinki";
const SITE: SiteId = SiteId(1);
/// In the current shift these are done already when there was time; the rest is due.
const DONE_THIS_SHIFT: [&str; 3] = ["R-08", "R-09", "C-01"];

fn fault(error: impl std::fmt::Display) -> AppError {
    AppError::Demo(error.to_string())
}

fn decimal(text: &str) -> Result<Decimal, AppError> {
    text.parse().map_err(fault)
}

fn person(index: usize) -> PersonId {
    PersonId(next(index))
}

/// Makes the world.
///
/// # Errors
/// [`AppError::Demo`] when its data break a rule of the core.
pub fn generate(request: &Request) -> Result<World, AppError> {
    let zone = TimeZone::get(ZONE).map_err(fault)?;
    let today = request.ends_at.to_zoned_datetime(zone.clone()).date();
    let first = today.saturating_sub(i64::from(request.days).days());
    let mut world = World::default();
    people(&mut world, first)?;
    let pattern = site(&mut world, zone);
    let spans = pattern
        .spans(first.saturating_sub(1.day()), today.saturating_add(14.days()))
        .map_err(fault)?;
    shifts(&mut world, &spans);
    standards(&mut world, first)?;
    let mut benches = Vec::new();
    for index in 0..SCALES.len() {
        benches.push(Bench::new(&mut world, index, first, request)?);
    }
    let mut noise = Noise::seeded(request.seed);
    let weekend = missed_weekend(today);
    for (index, span) in spans.iter().enumerate() {
        if span.starts_at > request.ends_at {
            break;
        }
        if weekend.contains(&span.business_date) && span.business_date > first {
            continue;
        }
        let current = span.ends_at > request.ends_at;
        let mut minute = noise.whole(4, 25);
        for bench in &mut benches {
            let scale = bench.scale;
            if current && !DONE_THIS_SHIFT.contains(&scale.tag) {
                continue;
            }
            let at = span.starts_at + SignedDuration::from_mins(minute);
            minute += i64::from(scale.minutes) + noise.whole(1, 6);
            let done_by = at + SignedDuration::from_mins(i64::from(scale.minutes) + 3);
            // Now and then a check is missed: it is absent, and no line is drawn over it.
            if done_by > request.ends_at || (!current && noise.chance(0.012)) {
                continue;
            }
            let shift = ShiftId(next(index));
            let who = on_duty(index, span.business_date, &mut noise);
            bench.shift(&mut world, &mut noise, Visit { shift, at, who })?;
        }
    }
    Ok(world)
}

/// A weekend about six weeks before the end on which nobody came.
fn missed_weekend(today: Date) -> [Date; 2] {
    let mut day = today.saturating_sub(42.days());
    while day.weekday() != Weekday::Saturday {
        day = day.saturating_sub(1.day());
    }
    [day, day.saturating_add(1.day())]
}

/// Three technicians rotate weekly through the three shifts; a fourth stands in.
fn on_duty(index: usize, date: Date, noise: &mut Noise) -> PersonId {
    let week = usize::try_from(date.iso_week_date().week()).unwrap_or(0);
    if noise.chance(0.09) { person(3) } else { person((index + week) % 3) }
}

fn people(world: &mut World, first: Date) -> Result<(), AppError> {
    let created = first.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for (index, one) in COLLEAGUES.iter().enumerate() {
        world.people.push(Person {
            id: person(index),
            sign_in: one.sign_in.to_owned(),
            name: one.name.to_owned(),
            role: one.role.to_owned(),
            password_hash: vaaka_web::hash_password(one.password).map_err(fault)?,
            active: true,
            created_at: At(created),
        });
    }
    Ok(())
}

fn site(world: &mut World, zone: TimeZone) -> ShiftPattern {
    world.sites.push(Site { id: SITE, name: "Velmaranta Laminates".into(), zone: ZONE.into() });
    for (index, name) in AREAS.iter().enumerate() {
        world.areas.push(Area {
            id: AreaId(next(index)),
            site_id: SITE,
            name: (*name).to_owned(),
            walk_order: i32::try_from(index + 1).unwrap_or(0),
        });
    }
    let starts = [("Morning", 6), ("Evening", 14), ("Night", 22)]
        .map(|(label, hour)| ShiftStart { label: label.to_owned(), at: time(hour, 0, 0, 0) });
    for start in &starts {
        world.shift_starts.push(ShiftStartRow {
            site_id: SITE,
            label: start.label.clone(),
            starts_at_local: WallTime(start.at),
        });
    }
    ShiftPattern { zone, starts: starts.to_vec() }
}

fn shifts(world: &mut World, spans: &[ShiftSpan]) {
    for (index, span) in spans.iter().enumerate() {
        world.shifts.push(Shift {
            id: ShiftId(next(index)),
            site_id: SITE,
            label: span.label.clone(),
            business_date: Day(span.business_date),
            starts_at: At(span.starts_at),
            ends_at: At(span.ends_at),
        });
    }
}

fn standards(world: &mut World, first: Date) -> Result<(), AppError> {
    let begin = first.saturating_sub(40.days());
    let begin_at = begin.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for (index, set) in SETS.iter().enumerate() {
        let id = next(index);
        world.standards.push(Standard {
            id: StandardId(id),
            tag: set.tag.to_owned(),
            name: set.name.to_owned(),
            kind: "weight_set".to_owned(),
        });
        world.lots.push(Lot {
            id: LotId(id),
            standard_id: StandardId(id),
            lot: set.lot.to_owned(),
            in_use_from: At(begin_at),
            in_use_until: None,
        });
        world.certificates.push(Certificate {
            id: CertificateId(id),
            lot_id: LotId(id),
            number: set.certificate.to_owned(),
            version: 1,
            kind: "calibration".to_owned(),
            issuer: "Velmaranta mass room".to_owned(),
            issued_on: Day(begin),
            valid_from: Day(begin),
            valid_until: Day(begin.saturating_add(2.years())),
        });
        for (tag, nominal, value, uncertainty) in set.pieces {
            world.certified_values.push(CertifiedValue {
                certificate_id: CertificateId(id),
                piece: (*tag).to_owned(),
                nominal: decimal(nominal)?,
                certified_value: decimal(value)?,
                expanded_uncertainty: decimal(uncertainty)?,
                coverage_factor: Decimal::TWO,
                unit: set.unit.to_owned(),
            });
        }
    }
    Ok(())
}

/// When, in which shift and by whom a check is made.
#[derive(Debug, Clone, Copy)]
struct Visit {
    shift: ShiftId,
    at: Timestamp,
    who: PersonId,
}

/// A scale with everything that changes along its history.
struct Bench {
    scale: &'static Scale,
    instrument: InstrumentId,
    plan_version: PlanVersionId,
    certificate: CertificateId,
    as_found: (PlanSpec, Vec<Step>),
    as_left: (PlanSpec, Vec<Step>),
    books: Vec<Book>,
    set_up: SetUpId,
    ends_at: Timestamp,
    baseline_shifts: usize,
    /// Error at the largest load that adjustments put in, display units.
    adjusted_by: f64,
    /// Knocked and not yet levelled; failed and not yet cleaned.
    disturbed: bool,
    story_done: bool,
    checks_since_adjustment: u32,
}

impl Bench {
    fn new(
        world: &mut World,
        index: usize,
        first: Date,
        request: &Request,
    ) -> Result<Self, AppError> {
        let scale = &SCALES[index];
        let id = next(index);
        let view = register(world, scale, id, first)?;
        let certificate = CertificateId(next(scale.set));
        let pieces = world
            .certified_values
            .iter()
            .filter(|value| value.certificate_id == certificate)
            .cloned()
            .map(piece)
            .collect::<Result<Vec<_>, _>>()?;
        let points: Vec<PlanPointRow> = world
            .plan_points
            .iter()
            .filter(|point| point.plan_version_id == view.version.id)
            .cloned()
            .collect();
        let spec = |purpose| -> Result<(PlanSpec, Vec<Step>), AppError> {
            let spec = build_spec(&view, points.clone(), &pieces, purpose)?;
            let way = weighing::Weighing.way(&spec).map_err(fault)?;
            Ok((spec, way))
        };
        Ok(Self {
            scale,
            instrument: InstrumentId(id),
            plan_version: PlanVersionId(id),
            certificate,
            as_found: spec(Purpose::AsFound)?,
            as_left: spec(Purpose::AsLeft)?,
            books: Vec::new(),
            set_up: SetUpId(id),
            ends_at: request.ends_at,
            baseline_shifts: if request.days >= 120 { 90 } else { 30 },
            adjusted_by: 0.0,
            disturbed: false,
            story_done: false,
            checks_since_adjustment: 0,
        })
    }

    fn days_before_end(&self, at: Timestamp) -> f64 {
        self.ends_at.duration_since(at).as_secs_f64() / 86_400.0
    }

    /// Everything that happens at this scale in one shift.
    fn shift(
        &mut self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
    ) -> Result<(), AppError> {
        let left = self.days_before_end(visit.at);
        if let Story::Knocked { knock, levelled, .. } = self.scale.story {
            if left <= knock && !self.story_done {
                self.disturbed = true;
            }
            if left <= levelled && self.disturbed {
                self.disturbed = false;
                self.story_done = true;
                let at = visit.at - SignedDuration::from_mins(25);
                self.event(world, "moved", "knocked, levelled again", person(LEAD), None, at)?;
            }
        }
        if noise.chance(0.004) {
            self.voided(world, noise, visit)?;
        }
        let first = self.check(world, noise, visit, Purpose::AsFound, &[])?;
        self.freeze_when_ready(world, visit.at)?;
        let later = |minutes| Visit { at: visit.at + SignedDuration::from_mins(minutes), ..visit };
        match self.scale.story {
            Story::Failed { at, .. } if left <= at && !self.story_done => {
                let runs = [Attempt { conforms: first.0 }];
                self.disturbed = true;
                let repeat = later(i64::from(self.scale.minutes) + 12);
                if first.0 == Conformity::Fail {
                    self.check(world, noise, repeat, Purpose::AsFound, &runs)?;
                    self.disturbed = false;
                    self.story_done = true;
                    let at = later(95);
                    self.event(
                        world,
                        "repaired",
                        "residue under the pan, cleaned",
                        person(LEAD),
                        None,
                        at.at,
                    )?;
                    self.check(
                        world,
                        noise,
                        Visit { who: person(LEAD), ..later(110) },
                        Purpose::AsLeft,
                        &[],
                    )?;
                }
            }
            Story::OverAdjusted { from, until } if left <= from && left >= until => {
                self.checks_since_adjustment += 1;
                if self.checks_since_adjustment >= 9 {
                    self.checks_since_adjustment = 0;
                    self.adjust(world, noise, later(9), first.1)?;
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Adjusts by the full last error, which is what makes a stable scale worse.
    fn adjust(
        &mut self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
        error: f64,
    ) -> Result<(), AppError> {
        let d = to_f64(self.as_found.0.resolution);
        let correction = -(error / d).round() * d;
        self.adjusted_by += correction;
        let applied = Decimal::from_f64(correction)
            .map(|value| value.round_dp(self.as_found.0.resolution.scale()));
        self.event(world, "adjusted", "span adjusted", visit.who, applied, visit.at)?;
        let after = Visit { at: visit.at + SignedDuration::from_mins(4), ..visit };
        self.check(world, noise, after, Purpose::AsLeft, &[])?;
        Ok(())
    }

    fn event(
        &mut self,
        world: &mut World,
        kind: &str,
        note: &str,
        who: PersonId,
        correction: Option<Decimal>,
        at: Timestamp,
    ) -> Result<(), AppError> {
        let id = EventId(next(world.events.len()));
        world.events.push(InstrumentEvent {
            id,
            instrument_id: self.instrument,
            kind: kind.to_owned(),
            at: At(at),
            note: note.to_owned(),
            person_id: who,
            unit: correction.map(|_| self.scale.unit.to_owned()),
            applied_correction: correction,
            affects_measurement: true,
        });
        for book in &mut self.books {
            book.new_segment(world, note, id, at)?;
        }
        Ok(())
    }

    /// The first baseline after some weeks; another once a long over-adjusting has stopped.
    fn freeze_when_ready(&mut self, world: &mut World, at: Timestamp) -> Result<(), AppError> {
        let left = self.days_before_end(at);
        let calm = match self.scale.story {
            Story::OverAdjusted { until, .. } => left < until,
            _ => false,
        };
        for book in &mut self.books {
            let first = book.slot.design.is_none();
            let again = calm
                && book.slot.design.as_ref().is_some_and(|design| {
                    matches!(design.level, vaaka_core::chart::Level::AfterAdjustment { .. })
                });
            if (first || again) && book.points() == self.baseline_shifts {
                let reason = if first {
                    "first weeks in use, all quiet"
                } else {
                    "adjusting at every turn has stopped"
                };
                book.freeze(world, person(LEAD), at + SignedDuration::from_mins(40), reason)?;
            }
        }
        Ok(())
    }

    /// Error of the display at a load, before rounding, in display units.
    fn true_error(&self, load: f64, at: Timestamp, disturbance: f64) -> f64 {
        let scale = self.scale;
        let largest =
            scale.loads.iter().filter_map(|load| load.0.parse::<f64>().ok()).fold(0.0, f64::max);
        let share = if largest > 0.0 { load / largest } else { 0.0 };
        let left = self.days_before_end(at);
        // Rooms are warmer in summer: a slow swing well inside the noise.
        let season = 0.05 * scale.between * (std::f64::consts::TAU * left / 365.0).sin();
        let story = match scale.story {
            Story::Drift { onset, per_week } if left < onset => {
                per_week * (onset - left) / 7.0 * largest
            }
            Story::Knocked { step, .. } if self.disturbed => step,
            Story::Failed { error, .. } if self.disturbed => error,
            _ => 0.0,
        };
        share * (scale.bias + season + story + self.adjusted_by + disturbance)
    }

    /// What the display shows for a step: indication and added weights.
    fn read(
        &self,
        step: &Step,
        travel_falls: bool,
        at: Timestamp,
        disturbance: f64,
        noise: &mut Noise,
    ) -> Option<(Decimal, Option<Decimal>)> {
        let Input::Reading { resolution, with_added, .. } = &step.input else {
            return None;
        };
        let d = to_f64(*resolution);
        let reference = to_f64(step.reference_value.unwrap_or_default());
        let hysteresis = if travel_falls { self.scale.hysteresis } else { 0.0 };
        let loaded = reference > 0.0;
        let scatter = self.scale.within * noise.normal() * if loaded { 1.0 } else { 0.25 };
        let error = self.true_error(reference, at, disturbance) + hysteresis + scatter;
        let steps = ((reference + error) / d).round();
        let indication = Decimal::from_i64(steps.to_i64()?)? * *resolution;
        let mut indication = indication;
        indication.rescale(resolution.scale());
        if !*with_added {
            return Some((indication, None));
        }
        // Small weights of a tenth of a step, until the display just turns over.
        let to_next = (to_f64(indication) + d / 2.0 - (reference + error)).clamp(0.0, d);
        let tenths = (to_next / (d / 10.0)).ceil().clamp(0.0, 10.0);
        let added = Decimal::from_i64(tenths.to_i64()?)? * (*resolution / Decimal::TEN);
        Some((indication, Some(added.normalize())))
    }

    /// One check; returns its conformity and the mean error at the largest load.
    fn check(
        &mut self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
        purpose: Purpose,
        earlier: &[Attempt],
    ) -> Result<(Conformity, f64), AppError> {
        // A failing scale fails from the shift on in which its story begins.
        if let Story::Failed { at, .. } = self.scale.story
            && self.days_before_end(visit.at) <= at
            && !self.story_done
        {
            self.disturbed = true;
        }
        let id = CheckId(next(world.checks.len()));
        let (run, ends_at) = self.run(world, noise, visit, purpose, id)?;
        let (spec, _) = self.spec(purpose).clone();
        let method = &weighing::Weighing;
        if self.books.is_empty() {
            self.open_books(world, &spec, &run, ends_at)?;
        }
        let context = RunContext {
            measured_at: ends_at,
            earlier: earlier.to_vec(),
            slots: self.books.iter().map(|book| book.slot.clone()).collect(),
            superseded: None,
        };
        let completion = complete(method, &spec, &run, &context).map_err(fault)?;
        let check = self.check_row(id, visit, purpose, ends_at, noise);
        let result = ResultId(next(world.results.len()));
        let row = result_row(&Basis {
            result,
            check: &check,
            method,
            plan: &spec,
            run: &run,
            completion: &completion,
            person: visit.who,
            now: ends_at,
        })?;
        let detail = json!({ "result": result, "conforms": row.conforms, "control": row.control, "action": row.action });
        audit(world, id, ends_at, visit.who, "check_concluded", detail);
        world.results.push(row);
        world.characteristics.extend(characteristic_rows(result, &completion.results)?);
        for book in &mut self.books {
            if let Some(judged) = completion.results.iter().find(|(c, _)| c.key == book.slot.key) {
                book.take(world, &check, &completion, judged, ends_at)?;
            }
        }
        world.checks.push(check);
        let largest = completion
            .results
            .iter()
            .filter(|(c, _)| c.charted)
            .max_by_key(|(c, _)| c.nominal)
            .map_or(0.0, |(c, _)| c.value());
        Ok((completion.verdict.conforms, largest))
    }

    fn spec(&self, purpose: Purpose) -> &(PlanSpec, Vec<Step>) {
        match purpose {
            Purpose::AsFound => &self.as_found,
            Purpose::AsLeft => &self.as_left,
        }
    }

    fn open_books(
        &mut self,
        world: &mut World,
        spec: &PlanSpec,
        run: &RunState,
        at: Timestamp,
    ) -> Result<(), AppError> {
        let found = weighing::Weighing.evaluate(spec, run).map_err(fault)?;
        for characteristic in found.iter().filter(|characteristic| characteristic.charted) {
            let resolution = to_f64(spec.unit.convert(spec.resolution, characteristic.unit));
            // Where rounding is removed, a tenth of a step is what can still be told.
            let resolution = if self.scale.added_weights { resolution / 10.0 } else { resolution };
            let book =
                Book::open(world, self.instrument, self.set_up, characteristic, resolution, at)?;
            self.books.push(book);
        }
        Ok(())
    }

    /// Keeps the entries of a run, as somebody types them.
    fn run(
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
        let disturbance = self.scale.between * noise.normal();
        let mut at = visit.at;
        let mut run = RunState::default();
        for step in &self.spec(purpose).1 {
            for repeat in 1..=step.repeats {
                at += SignedDuration::from_secs(noise.whole(9, 34));
                let (value, typed) = match &step.input {
                    Input::Confirm { .. } => (EntryValue::Confirmed, String::new()),
                    Input::Tag { expected } => {
                        (EntryValue::Tag { tag: expected.clone() }, expected.clone())
                    }
                    Input::Reading { .. } => {
                        let falls = step.key.0.ends_with("falling");
                        let (indication, added) = self
                            .read(step, falls, at, disturbance, noise)
                            .ok_or_else(|| fault("a reading out of range"))?;
                        // Some people type a comma.
                        let typed = indication.to_string();
                        let typed = if visit.who.0 == 2 { typed.replace('.', ",") } else { typed };
                        (EntryValue::Reading { indication, added, far_confirmed: false }, typed)
                    }
                };
                keep(world, noise, (id, step, repeat), &value, typed, visit.who, at)?;
                run.entries.push(Entry { step: step.key.clone(), repeat, value });
            }
        }
        Ok((run, at))
    }

    fn check_row(
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
        }
    }

    /// A check that was begun and voided before its readings were complete.
    fn voided(&self, world: &mut World, noise: &mut Noise, visit: Visit) -> Result<(), AppError> {
        let reasons =
            ["the bench was bumped or moved", "draught or vibration", "something was on the pan"];
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
        for step in self.as_found.1.iter().take(5) {
            at += SignedDuration::from_secs(noise.whole(9, 25));
            let value = match &step.input {
                Input::Confirm { .. } => EntryValue::Confirmed,
                Input::Tag { expected } => EntryValue::Tag { tag: expected.clone() },
                Input::Reading { .. } => {
                    let Some((indication, added)) = self.read(step, false, at, 0.0, noise) else {
                        continue;
                    };
                    EntryValue::Reading { indication, added, far_confirmed: false }
                }
            };
            let typed = match &value {
                EntryValue::Reading { indication, .. } => indication.to_string(),
                EntryValue::Tag { tag } => tag.clone(),
                EntryValue::Confirmed => String::new(),
            };
            keep(world, noise, (id, step, 1), &value, typed, visit.who, at)?;
        }
        audit(world, id, closed, visit.who, "check_voided", json!({ "reason": reason }));
        let mut check =
            self.check_row(id, Visit { at: begun, ..visit }, Purpose::AsFound, closed, noise);
        "void".clone_into(&mut check.state);
        check.void_reason = Some(reason.to_owned());
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
    let (kind, indication, added) = match value {
        EntryValue::Confirmed => ("confirmed", None, None),
        EntryValue::Tag { .. } => ("tag", None, None),
        EntryValue::Reading { indication, added, .. } => ("reading", Some(*indication), *added),
    };
    let unit = match &step.input {
        Input::Reading { unit, .. } => Some(unit.symbol().to_owned()),
        Input::Confirm { .. } | Input::Tag { .. } => None,
    };
    let detail = json!({ "step": step.key, "repeat": repeat, "typed": typed, "value": value });
    audit(world, id, at, who, "entry_kept", detail);
    world.readings.push(Reading {
        id: ReadingId(next(world.readings.len())),
        check_id: id,
        step_key: step.key.0.clone(),
        repeat: i32::try_from(repeat).map_err(fault)?,
        kind: kind.to_owned(),
        typed,
        indication,
        unit,
        added,
        far_confirmed: false,
        source: "keyed".to_owned(),
        person_id: who,
        measured_at: At(at),
        received_at: At(at),
        idempotency_key: noise.key(),
        replaces_id: None,
        reason: None,
    });
    Ok(())
}

/// Appends to a check's chain. The checks of the generator follow each other, so that the
/// newest entry of a chain, if any, is among the last few.
fn audit(
    world: &mut World,
    id: CheckId,
    at: Timestamp,
    who: PersonId,
    action: &str,
    detail: serde_json::Value,
) {
    let chain = chain(id);
    let previous = world
        .audit
        .last()
        .filter(|entry| entry.chain == chain)
        .map(|entry| (entry.sequence, entry.hash.clone()));
    let entry = AuditEntry::following(
        previous.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice())),
        &Happening { chain: &chain, at, person: Some(who), action, detail },
    );
    world.audit.push(entry);
}

/// Registers a scale with its plan, and returns the plan as the store would.
fn register(world: &mut World, scale: &Scale, id: i64, first: Date) -> Result<PlanView, AppError> {
    let instrument = Instrument {
        id: InstrumentId(id),
        tag: scale.tag.to_owned(),
        name: scale.name.to_owned(),
        area_id: AreaId(next(scale.area)),
        unit: scale.unit.to_owned(),
        resolution: decimal(scale.resolution)?,
        maximum: decimal(scale.maximum)?,
        serial: scale.serial.to_owned(),
        state: "in_service".to_owned(),
        version: 1,
    };
    let settings = weighing::Settings::V1(SettingsV1 {
        class: scale.class,
        verification_interval: decimal(scale.verification_interval)?,
        stage: LimitStage::InService,
        pan: scale.pan,
        added_weights: scale.added_weights,
        case: SETS[scale.set].name.to_lowercase(),
        preparation: preparation(scale),
        cautions: cautions(scale),
        closing: closing(scale),
    });
    let approved = first.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    let plan = Plan {
        id: PlanId(id),
        instrument_id: InstrumentId(id),
        set_up_id: SetUpId(id),
        name: format!("{} each shift", scale.name),
        method_key: weighing::KEY.to_owned(),
    };
    let version = PlanVersion {
        id: PlanVersionId(id),
        plan_id: PlanId(id),
        version: 1,
        state: "approved".to_owned(),
        standard_id: StandardId(next(scale.set)),
        settings: serde_json::to_value(settings).map_err(fault)?,
        minutes: scale.minutes,
        due_rule: "each_shift".to_owned(),
        created_by: person(LEAD),
        approved_by: Some(person(SECOND_LEAD)),
        approved_at: Some(At(approved)),
    };
    for (index, (nominal, travel, place, repeats, charted, pieces)) in
        scale.loads.iter().enumerate()
    {
        world.plan_points.push(PlanPointRow {
            plan_version_id: PlanVersionId(id),
            sequence: i32::try_from(index + 1).map_err(fault)?,
            nominal: decimal(nominal)?,
            travel: travel.word().to_owned(),
            place: place.word().to_owned(),
            repeats: *repeats,
            charted: *charted,
            pieces: pieces.iter().map(|piece| (*piece).to_owned()).collect(),
        });
    }
    world.set_ups.push(SetUp {
        id: SetUpId(id),
        instrument_id: InstrumentId(id),
        name: "as installed".into(),
    });
    world.instruments.push(instrument.clone());
    world.plans.push(plan.clone());
    world.plan_versions.push(version.clone());
    Ok(PlanView {
        version,
        plan,
        instrument,
        area: world.areas[scale.area].clone(),
        standard: world.standards[scale.set].clone(),
    })
}
