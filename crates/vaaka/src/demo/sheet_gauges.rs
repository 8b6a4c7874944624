//! Thickness gauges that read several step blocks: where it can be told whose fault a change is. A block chips, one dries out,
//! a gauge drifts on two blocks, a person has another hand, a hall is warm for two weeks, and one crossing is too thin to tell.

use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use rust_decimal::Decimal;
use vaaka_core::method::gauge::Presentation;
use vaaka_core::method::{Place, PlanSpec, Purpose, Step, Travel, by_key};
use vaaka_core::round::DueRule;
use vaaka_store::ids::*;
use vaaka_store::plans::{PlanView, Source, build_spec};
use vaaka_store::registers::pieces;
use vaaka_store::rows::*;
use vaaka_store::{At, Day};

use super::World;
use super::bench::{Bench, Blocks, Choice, InLot};
use super::charts::next;
use super::gauges::{Form, GaugePlan};
use super::gear::{Gear, Story};
use super::noise::Noise;
use super::registers::{lot, person, register_on};
use super::said::{decimal, fault};
use super::world::Request;
use crate::AppError;

use Place::Middle;
use Travel::Rising;

const THICKNESS: GaugePlan = GaugePlan {
    presentation: Presentation::Inserted,
    mean_limit: (Form::Absolute, "0.012", "0"),
    hysteresis_limit: None,
    settings: &[("the unit on the display", "mm")],
    conditions: &[(
        "Temperature at the bench",
        "°C",
        "16",
        "30",
        "Wait until the bench is between 16 and 30 °C; warm blocks read long.",
    )],
    waits: &[],
    pause_seconds: 0,
    cautions: &["Blocks in gloves; edges are sharp, faces mark easily."],
    preparation: &["Foot and anvil wiped.", "Foot down on the anvil: it shows zero."],
    closing: &["Block back in its bag.", "Foot down, dial covered."],
    due: DueRule::EachDay,
};

const fn gauge(
    tag: &'static str,
    name: &'static str,
    area: usize,
    serial: &'static str,
    bias: f64,
) -> Gear {
    Gear {
        tag,
        name,
        area,
        unit: "mm",
        resolution: "0.001",
        maximum: "10",
        serial,
        family: &THICKNESS,
        set: 0,
        minutes: 3,
        loads: &[("1", Rising, Middle, 1, false, &["1"]), ("6", Rising, Middle, 2, true, &["6"])],
        between: SIGMA,
        within: 0.0005,
        bias,
        hysteresis: 0.0,
        work: None,
        any_of_kind: true,
        story: Story::Quiet,
    }
}

/// Scatter of a check, in millimetres.
const SIGMA: f64 = 0.0011;

/// The gauges, and how often each takes which block.
pub const GAUGES: [(Gear, [f64; 4]); 6] = [
    (gauge("P-61", "Sheet gauge, press 1", 1, "VS-10-051", 0.0004), [0.6, 0.4, 0.0, 0.0]),
    (gauge("P-62", "Sheet gauge, press 2", 1, "VS-10-052", -0.0003), [0.3, 0.5, 0.2, 0.0]),
    (gauge("P-63", "Sheet gauge, press 3", 1, "VS-10-053", 0.0006), [0.2, 0.2, 0.6, 0.0]),
    (gauge("F-61", "Edge gauge", 2, "VS-10-061", -0.0005), [0.4, 0.3, 0.3, 0.0]),
    (gauge("F-62", "Foil gauge", 2, "VS-10-062", 0.0002), [0.5, 0.0, 0.5, 0.0]),
    // Alone on its block, and hardly ever on another.
    (gauge("F-63", "Veneer gauge", 2, "VS-10-063", 0.0001), [0.03, 0.0, 0.0, 0.97]),
];

/// Whether an instrument is one of them.
pub fn is_one(tag: &str) -> bool {
    GAUGES.iter().any(|(gauge, _)| gauge.tag == tag)
}

/// Tag, name, where it is kept, lots with the days before the end at which each came, certificates.
type Block =
    (&'static str, &'static str, &'static str, &'static [(&'static str, f64, &'static str)]);

const BLOCKS: [Block; 4] = [
    ("SB-1", "Step block, steel", "Press hall, tool cabinet", &[("VL-0301", 1e4, "V-2301")]),
    (
        "SB-2",
        "Step block, steel, small",
        "Press hall, tool cabinet",
        &[("VL-0302", 1e4, "V-2302"), ("VL-0317", CHIPPED_UNTIL, "V-2317")],
    ),
    (
        "SB-3",
        "Step block, laminate",
        "Finishing, dry box",
        &[("VL-0303", 1e4, "V-2303"), ("VL-0329", DRIED_UNTIL, "V-2329")],
    ),
    ("SB-4", "Step block, veneer", "Finishing, veneer bench", &[("VL-0304", 1e4, "V-2304")]),
];

/// Days before the end. They are so far apart that each is told alone, or two together.
const THIN_FROM: f64 = 343.0;
const THIN_UNTIL: f64 = 336.0;
const CHIPPED: f64 = 328.0;
const CHIPPED_UNTIL: f64 = 262.0;
const OTHER_HAND: (f64, f64) = (250.0, 212.0);
const WARM: (f64, f64) = (190.0, 176.0);
const DRIES: f64 = 150.0;
const DRIED_UNTIL: f64 = 95.0;
const DRIFTS: f64 = 84.0;
const DRIFTED_UNTIL: f64 = 52.0;

/// When it was looked at whose fault it is, in days before the end: at a signal of each story.
pub const LOOKED: [f64; 6] = [338.0, 300.0, 216.0, 174.0, 100.0, 56.0];

/// What the stories do to a reading, in millimetres at the thick step.
fn effect(gauge: &Gear, (block, lot): (usize, usize), who: PersonId, left: f64) -> f64 {
    let mut sum = 0.0;
    if gauge.tag == "F-63" && left <= THIN_FROM && left > THIN_UNTIL {
        sum += 4.5 * SIGMA;
    }
    // A corner is off: the small block is thinner there, and what is read is less than what is certified.
    if (block, lot) == (1, 0) && left <= CHIPPED {
        sum -= 2.5 * SIGMA;
    }
    if who == person(1) && left <= OTHER_HAND.0 && left > OTHER_HAND.1 {
        sum -= 2.2 * SIGMA;
    }
    if gauge.area == 1 && left <= WARM.0 && left > WARM.1 {
        sum += 2.4 * SIGMA;
    }
    // What dries shrinks.
    if (block, lot) == (2, 0) && left <= DRIES {
        sum -= 4.0 * SIGMA * (DRIES - left) / (DRIES - DRIED_UNTIL);
    }
    if gauge.tag == "F-62" && left <= DRIFTS && left > DRIFTED_UNTIL {
        sum += 4.0 * SIGMA * (DRIFTS - left) / (DRIFTS - DRIFTED_UNTIL);
    }
    sum
}

impl Bench {
    /// Takes a block for a check, and with it what the stories do.
    pub fn take_block(&mut self, noise: &mut Noise, at: Timestamp, who: PersonId) {
        let left = self.days_before_end(at);
        let Some(blocks) = &self.blocks else { return };
        let mut draw = noise.uniform();
        let chosen = blocks.choices.iter().find(|choice| {
            draw -= choice.share;
            draw < 0.0
        });
        let Some(choice) = chosen.or(blocks.choices.last()) else { return };
        // The newest lot that has come.
        let newest = choice.lots.iter().rfind(|lot| left <= lot.from);
        let Some(chosen) = newest.or(choice.lots.first()) else { return };
        let InLot { lot, certificate, specs: [found, proof], .. } = chosen;
        self.certificate = *certificate;
        self.as_found = found.clone();
        self.as_left = proof.clone();
        self.extra = effect(self.gear, (choice.block, *lot), who, left);
    }

    /// What ends a story: the veneer gauge is repaired, the foil gauge adjusted.
    pub fn ends_story(&self, left: f64) -> Option<(&'static str, &'static str)> {
        let (until, kind, note) = match self.gear.tag {
            "F-63" => (THIN_UNTIL, "repaired", "foot worn, a new one put in"),
            "F-62" => (DRIFTED_UNTIL, "repaired", "spring of the foot renewed"),
            _ => return None,
        };
        (left <= until && !self.story_done && self.checked_before(until)).then_some((kind, note))
    }
}

/// Registers blocks and gauges, and gives their benches.
pub fn benches(
    world: &mut World,
    first: Date,
    request: &Request,
) -> Result<Vec<(Bench, Noise)>, AppError> {
    let blocks = blocks(world, first, request)?;
    let mut benches = Vec::new();
    for (index, (gear, shares)) in GAUGES.iter().enumerate() {
        let standards: Vec<StandardId> = blocks.iter().map(|(id, _)| *id).collect();
        let view = register_on(
            world,
            gear,
            (next(world.instruments.len()), next(world.set_ups.len())),
            &standards[..1],
            first,
        )?;
        let mut choices = Vec::new();
        for (block, share) in shares.iter().enumerate().filter(|(_, share)| **share > 0.0) {
            let (standard, lots) = &blocks[block];
            let lots = lots
                .iter()
                .map(|(lot, from, certificate)| {
                    let specs = specs(world, gear, &view, *standard, *certificate)?;
                    Ok(InLot { lot: *lot, from: *from, certificate: *certificate, specs })
                })
                .collect::<Result<_, AppError>>()?;
            choices.push(Choice { block, share: *share, lots });
        }
        let mut bench = Bench::of(world, gear, &view, &standards[..1], request)?;
        bench.blocks = Some(Blocks { choices });
        bench.baseline_shifts = 20;
        let noise = Noise::seeded(request.seed.wrapping_mul(7_000).wrapping_add(index as u64));
        benches.push((bench, noise));
    }
    Ok(benches)
}

/// A standard with its lots: which it is, days before the end from which it serves, and its certificate.
type Registered = (StandardId, Vec<(usize, f64, CertificateId)>);

fn blocks(world: &mut World, first: Date, request: &Request) -> Result<Vec<Registered>, AppError> {
    let begin = first.saturating_sub(30.days());
    let mut found = Vec::new();
    for (tag, name, location, lots) in BLOCKS {
        let standard = StandardId(next(world.standards.len()));
        world.standards.push(Standard {
            id: standard,
            tag: tag.to_owned(),
            name: name.to_owned(),
            kind: "step_block".to_owned(),
            location: location.to_owned(),
            state: "in_use".to_owned(),
            state_reason: String::new(),
            version: 1,
        });
        let moment = |before: f64| {
            let back = jiff::SignedDuration::from_secs((before * 86_400.0) as i64);
            request.ends_at.checked_sub(back).map_err(fault)
        };
        let begins = begin.to_zoned_datetime(jiff::tz::TimeZone::UTC).map_err(fault)?.timestamp();
        // What came before the history begins is its first; what would come before it never did.
        let came = |before: f64| moment(before.min(9_000.0)).map(|at| at.max(begins));
        let known: Vec<_> = lots
            .iter()
            .enumerate()
            .filter(|(nth, _)| {
                lots.get(nth + 1).is_none_or(|next| moment(next.1).is_ok_and(|at| at > begins))
            })
            .collect();
        let mut own = Vec::new();
        for (nth, (lot_number, (name, from, number))) in known.iter().enumerate() {
            let id = LotId(next(world.lots.len()));
            let certificate = CertificateId(next(world.certificates.len()));
            let since = came(*from)?;
            let until = known.get(nth + 1).map(|(_, next)| came(next.1)).transpose()?;
            world.lots.push(Lot { in_use_until: until.map(At), ..lot(id, standard, name, since) });
            let day = since.to_zoned_datetime(jiff::tz::TimeZone::UTC).date();
            world.certificates.push(Certificate {
                id: certificate,
                lot_id: id,
                number: (*number).to_owned(),
                version: 1,
                kind: "calibration".to_owned(),
                issuer: "Velmaranta measuring room".to_owned(),
                issued_on: Day(day),
                valid_from: Day(day),
                valid_until: Day(day.saturating_add(2.years())),
                change: "first".to_owned(),
                replaces_id: None,
            });
            for (piece, value) in [("1", "1.0003"), ("6", "6.0004")] {
                world.certified_values.push(CertifiedValue {
                    certificate_id: certificate,
                    piece: piece.to_owned(),
                    nominal: decimal(piece)?,
                    certified_value: decimal(value)?,
                    expanded_uncertainty: decimal("0.0006")?,
                    coverage_factor: Decimal::TWO,
                    unit: "mm".to_owned(),
                    temperature: None,
                    at_unit: None,
                    non_uniformity: None,
                    class_limit: false,
                });
            }
            own.push((*lot_number, *from, certificate));
        }
        found.push((standard, own));
    }
    Ok(found)
}

/// The plan with the values of one certificate, as found and as left.
fn specs(
    world: &World,
    gear: &Gear,
    view: &PlanView,
    standard: StandardId,
    certificate: CertificateId,
) -> Result<[(PlanSpec, Vec<Step>); 2], AppError> {
    let method = by_key(gear.family.method_key()).map_err(fault)?;
    let own = world.standards.iter().find(|one| one.id == standard).cloned();
    let own = own.ok_or_else(|| fault("a block that nobody registered"))?;
    let values = world.certified_values.iter().filter(|one| one.certificate_id == certificate);
    let source = Source { standard: own, pieces: pieces(values.cloned().collect())? };
    let points: Vec<PlanPointRow> = world
        .plan_points
        .iter()
        .filter(|point| point.plan_version_id == view.version.id)
        .cloned()
        .collect();
    let sources = [source];
    let spec = |purpose| -> Result<(PlanSpec, Vec<Step>), AppError> {
        let spec = build_spec(view, points.clone(), &sources, purpose)?;
        let way = method.way(&spec).map_err(fault)?;
        Ok((spec, way))
    };
    Ok([spec(Purpose::AsFound)?, spec(Purpose::AsLeft)?])
}
