//! An instrument along its history: its stories and its checks.

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use serde_json::json;
use vaaka_core::check::{RunContext, complete};
use vaaka_core::judgement::{Attempt, Conformity, unsettled};
use vaaka_core::method::{Method, PlanSpec, Purpose, RunState, Step, by_key};
use vaaka_core::quantity::to_f64;
use vaaka_core::round::DueRule;
use vaaka_store::At;
use vaaka_store::ids::*;
use vaaka_store::outcomes::{Basis, budget_rows, characteristic_rows, result_row};
use vaaka_store::plans::{PlanView, Source, build_spec};
use vaaka_store::registers::pieces;
use vaaka_store::rows::*;

use super::World;
use super::charts::{Book, next};
use super::gear::{Gear, Story};
use super::hardness;
use super::noise::Noise;
use super::registers::{person, plan, register};
use super::said::fault;
use super::trail::audit;
use super::world::{LEAD, Request};
use crate::AppError;

/// When, in which shift and by whom a check is made.
#[derive(Debug, Clone, Copy)]
pub struct Visit {
    pub shift: ShiftId,
    pub at: Timestamp,
    pub who: PersonId,
}

/// An instrument with everything that changes along its history.
pub struct Bench {
    pub gear: &'static Gear,
    /// The source of its method's rules.
    pub method: &'static dyn Method,
    pub instrument: InstrumentId,
    pub plan_version: PlanVersionId,
    pub certificate: CertificateId,
    /// Certificates of further standards.
    pub further: Vec<CertificateId>,
    pub as_found: (PlanSpec, Vec<Step>),
    pub as_left: (PlanSpec, Vec<Step>),
    pub books: Vec<Book>,
    pub set_up: SetUpId,
    /// What tells its cell from others.
    pub cell: Option<String>,
    pub ends_at: Timestamp,
    pub baseline_shifts: usize,
    /// Error at the largest load that adjustments put in, display units.
    pub adjusted_by: f64,
    /// Knocked and not yet levelled; failed and not yet cleaned.
    pub disturbed: bool,
    pub story_done: bool,
    pub checks_since_adjustment: u32,
    /// The blocks that it may take, where there are several, and what the one in hand and the stories do to a reading, in
    /// display units at the largest load.
    pub blocks: Option<Blocks>,
    pub extra: f64,
    /// Its first check, for what cannot end before it began.
    pub first_at: Option<Timestamp>,
}

/// A block that a gauge may take.
pub struct Choice {
    pub block: usize,
    pub share: f64,
    pub lots: Vec<InLot>,
}

/// The blocks of a gauge.
pub struct Blocks {
    pub choices: Vec<Choice>,
}

/// The plan on a lot of a block.
pub struct InLot {
    /// Which lot of its block it is, and the days before the end from which it serves.
    pub lot: usize,
    pub from: f64,
    pub certificate: CertificateId,
    /// As found and as left.
    pub specs: [(PlanSpec, Vec<Step>); 2],
}

impl Bench {
    pub fn new(
        world: &mut World,
        (index, gear): (usize, &'static Gear),
        first: Date,
        request: &Request,
    ) -> Result<Self, AppError> {
        let view = register(world, gear, next(index), first)?;
        Self::of(world, gear, &view, &[StandardId(next(gear.set))], request)
    }

    /// A cell of an instrument that is registered, with its blocks.
    pub fn of_cell(
        world: &mut World,
        gear: &'static Gear,
        first: Date,
        request: &Request,
    ) -> Result<Self, AppError> {
        let instrument = world.instruments.iter().find(|one| one.tag == gear.tag).cloned();
        let instrument = instrument.ok_or_else(|| fault("an instrument that nobody registered"))?;
        let mut own = world.set_ups.iter().filter(|one| one.instrument_id == instrument.id);
        let (cell, standards) =
            gear.family.cell().ok_or_else(|| fault("a family without cells"))?;
        let set_up = own.find(|one| one.name == cell).map(|one| one.id);
        let set_up = set_up.ok_or_else(|| fault("a cell that nobody registered"))?;
        let by_tag = |tag: &&str| {
            let found = world.standards.iter().find(|one| one.tag == **tag);
            found.map(|one| one.id).ok_or_else(|| fault("a block that nobody registered"))
        };
        let blocks: Vec<StandardId> = standards.iter().map(by_tag).collect::<Result<_, _>>()?;
        let view = plan(world, gear, (&instrument, set_up), &blocks, first)?;
        Self::of(world, gear, &view, &blocks, request)
    }

    pub fn of(
        world: &World,
        gear: &'static Gear,
        view: &PlanView,
        standards: &[StandardId],
        request: &Request,
    ) -> Result<Self, AppError> {
        let method = by_key(gear.family.method_key()).map_err(fault)?;
        let mut certificates = Vec::new();
        let mut sources = Vec::new();
        for id in standards {
            let standard = world.standards.iter().find(|one| one.id == *id).cloned();
            let lot = world.lots.iter().find(|one| one.standard_id == *id).map(|one| one.id);
            let certificate = world.certificates.iter().find(|one| Some(one.lot_id) == lot);
            let (Some(standard), Some(certificate)) = (standard, certificate) else {
                return Err(fault("a standard without a certificate"));
            };
            let values = world.certified_values.iter();
            let values = values.filter(|value| value.certificate_id == certificate.id);
            let pieces = pieces(values.cloned().collect())?;
            certificates.push(certificate.id);
            sources.push(Source { standard, pieces });
        }
        let (first_certificate, further) =
            certificates.split_first().ok_or_else(|| fault("a plan without a standard"))?;
        let points: Vec<PlanPointRow> = world
            .plan_points
            .iter()
            .filter(|point| point.plan_version_id == view.version.id)
            .cloned()
            .collect();
        let spec = |purpose| -> Result<(PlanSpec, Vec<Step>), AppError> {
            let spec = build_spec(view, points.clone(), &sources, purpose)?;
            let way = method.way(&spec).map_err(fault)?;
            Ok((spec, way))
        };
        Ok(Self {
            gear,
            method,
            instrument: view.instrument.id,
            plan_version: view.version.id,
            certificate: *first_certificate,
            further: further.to_vec(),
            as_found: spec(Purpose::AsFound)?,
            as_left: spec(Purpose::AsLeft)?,
            books: Vec::new(),
            set_up: view.plan.set_up_id,
            cell: view.cell.clone(),
            ends_at: request.ends_at,
            baseline_shifts: match gear.family.due_rule() {
                DueRule::EachWeek => 20,
                _ if request.days >= 200 => 150,
                _ => 30,
            },
            adjusted_by: 0.0,
            disturbed: false,
            story_done: false,
            checks_since_adjustment: 0,
            blocks: None,
            extra: 0.0,
            first_at: None,
        })
    }

    pub fn days_before_end(&self, at: Timestamp) -> f64 {
        self.ends_at.duration_since(at).as_secs_f64() / 86_400.0
    }

    /// Whether it was checked so many days before the end, at least.
    pub fn checked_before(&self, days: f64) -> bool {
        self.first_at.is_some_and(|first| self.days_before_end(first) > days)
    }

    /// Everything that happens at this instrument in one shift.
    pub fn shift(
        &mut self,
        world: &mut World,
        noise: &mut Noise,
        visit: Visit,
    ) -> Result<(), AppError> {
        let left = self.days_before_end(visit.at);
        if let Some((kind, note)) = self.ends_story(left) {
            self.story_done = true;
            let at = visit.at - SignedDuration::from_mins(35);
            self.event(world, kind, note, person(LEAD), None, at)?;
        }
        self.first_at.get_or_insert(visit.at);
        self.take_block(noise, visit.at, visit.who);
        if let Story::Knocked { knock, levelled, .. } = self.gear.story {
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
        match self.gear.story {
            Story::Failed { at, .. } if left <= at && !self.story_done => {
                let runs = [Attempt { conforms: first.0 }];
                self.disturbed = true;
                let repeat = later(i64::from(self.gear.minutes) + 12);
                if first.0 == Conformity::Fail {
                    self.check(world, noise, repeat, Purpose::AsFound, &runs)?;
                    self.disturbed = false;
                    self.story_done = true;
                    let at = later(95);
                    self.event(
                        world,
                        "repaired",
                        self.gear.family.remedy(),
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
            unit: correction.map(|_| self.gear.unit.to_owned()),
            applied_gain: None,
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
        let calm = match self.gear.story {
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
        if let Story::Failed { at, .. } = self.gear.story
            && self.days_before_end(visit.at) <= at
            && !self.story_done
        {
            self.disturbed = true;
        }
        let id = CheckId(next(world.checks.len()));
        let (run, ends_at) = self.run(world, noise, visit, purpose, id)?;
        let (spec, _) = self.spec(purpose).clone();
        let method = self.method;
        if self.books.is_empty() {
            self.open_books(world, &spec, &run, ends_at)?;
        }
        let context = RunContext {
            measured_at: ends_at,
            earlier: earlier.to_vec(),
            slots: self.books.iter().map(|book| book.slot.clone()).collect(),
            ..RunContext::default()
        };
        let completion = complete(method, &spec, &run, &context).map_err(fault)?;
        let counts = purpose == Purpose::AsFound && unsettled(earlier).is_empty();
        let check = Check { counts, ..self.check_row(id, visit, purpose, ends_at, noise) };
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
            version: 1,
        })?;
        let detail = json!({ "result": result, "conforms": row.conforms, "control": row.control, "action": row.action });
        audit(world, id, ends_at, visit.who, "check_concluded", detail);
        world.results.push(row);
        world.characteristics.extend(characteristic_rows(result, &completion.results)?);
        world.budgets.extend(budget_rows(result, &completion.results)?);
        for book in &mut self.books {
            if let Some(judged) = completion.results.iter().find(|(c, _)| c.key == book.slot.key) {
                book.take(world, &check, &completion, judged, ends_at)?;
            }
        }
        for (place, certificate) in (1..).zip(&self.further) {
            let certificate_id = *certificate;
            world.check_standards.push(CheckStandard { check_id: id, place, certificate_id });
        }
        if method.uses_places() {
            let all = std::iter::once(&self.certificate).chain(&self.further);
            for (place, certificate) in all.enumerate() {
                let readings = spec.readings_on(place);
                hardness::wear(world, *certificate, readings, (id, visit.who, ends_at))?;
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

    pub fn spec(&self, purpose: Purpose) -> &(PlanSpec, Vec<Step>) {
        match purpose {
            Purpose::AsFound | Purpose::Trial => &self.as_found,
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
        let found = self.method.evaluate(spec, run).map_err(fault)?;
        for characteristic in found.iter().filter(|characteristic| characteristic.charted) {
            // What is of another quantity than the display moves in its own last place.
            let last_place = Decimal::new(1, characteristic.decimals);
            let own = spec.unit.try_convert(spec.resolution, characteristic.unit);
            let resolution = to_f64(own.unwrap_or(last_place));
            // Where rounding is removed, a tenth of a step is what can still be told.
            let resolution =
                if self.gear.family.added_weights() { resolution / 10.0 } else { resolution };
            let book = Book::open(
                world,
                (self.instrument, self.set_up, self.cell.as_deref()),
                self.method.key(),
                characteristic,
                (resolution, self.gear.family.due_rule().interval()),
                at,
            )?;
            self.books.push(book);
        }
        Ok(())
    }
}
