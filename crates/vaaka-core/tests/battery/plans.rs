//! Random plans of any method: settings from its sheet, points in the ways that it knows.

use rand::Rng;
use rand_chacha::ChaCha8Rng;
use rust_decimal::Decimal;
use vaaka_core::judgement::Decision;
use vaaka_core::method::{Method, Place, PlanPoint, PlanSpec, PlanStandard, Purpose, Travel};
use vaaka_core::quantity::Unit;
use vaaka_core::standard::{CELSIUS, CertifiedPiece, ValueAt};

const PLACES: [Place; 5] =
    [Place::Middle, Place::BackLeft, Place::BackRight, Place::FrontLeft, Place::FrontRight];

/// Unit of what the values of a plan are taken at; some plans lack it, and a method must refuse them then.
fn axis(settings: &serde_json::Value, random: &mut ChaCha8Rng) -> Option<String> {
    let conditions = settings.get("conditions").and_then(|found| found.as_array());
    let taken_at = conditions
        .into_iter()
        .flatten()
        .find(|one| one.get("standard_temperature") == Some(&serde_json::Value::Bool(true)));
    match taken_at {
        Some(condition) => Some(condition.get("unit")?.as_str()?.trim().to_owned()),
        None => random.random_bool(0.05).then(|| CELSIUS.to_owned()),
    }
}

fn piece(
    tag: usize,
    nominal: Decimal,
    (unit, axis): (Unit, Option<&str>),
    random: &mut ChaCha8Rng,
) -> CertifiedPiece {
    let certified_value = nominal + Decimal::new(random.random_range(-30..30), 4);
    // Some follow the temperature, or what else they are taken at: lower at 15, higher at 25.
    let by_temperature = match axis.is_some() && random.random_bool(0.3) {
        true => [(15, -25), (20, 0), (25, 30)]
            .map(|(t, shift)| ValueAt {
                temperature: Decimal::from(t),
                certified_value: certified_value + Decimal::new(shift, 3),
                expanded_uncertainty: None,
            })
            .to_vec(),
        false => vec![],
    };
    CertifiedPiece {
        tag: match unit {
            // Both parts at one frequency after the other.
            Unit::Reflection => {
                let part = if tag.is_multiple_of(4) { "real" } else { "imaginary" };
                format!("{} GHz {part}", 1 + tag / 4)
            }
            _ => format!("P{tag}"),
        },
        nominal,
        certified_value,
        expanded_uncertainty: Decimal::new(random.random_range(1..50), 5),
        coverage_factor: Decimal::TWO,
        unit,
        class_limit: random.random_bool(0.2),
        non_uniformity: None,
        at_unit: axis
            .filter(|unit| *unit != CELSIUS && !by_temperature.is_empty())
            .map(str::to_owned),
        by_temperature,
    }
}

/// A plan; some are such that the method must refuse them.
pub fn plan(method: &dyn Method, random: &mut ChaCha8Rng) -> PlanSpec {
    let sheet = method.sheet();
    let typed = super::sheets::texts(&sheet, random);
    let settings = sheet.read(&typed).unwrap();
    let axis = axis(&settings, random);
    let axis = axis.as_deref();
    // Half of them as a method may want them that reads all points at once.
    let tidy = random.random_bool(0.5);
    let unit = match tidy {
        true => [Unit::Millimetre, Unit::Percent, Unit::Reflection][random.random_range(0..3)],
        false => {
            [Unit::Kilogram, Unit::Bar, Unit::Millimetre, Unit::Percent][random.random_range(0..4)]
        }
    };
    let repeats = random.random_range(1..5);
    let resolution = Decimal::new(1, random.random_range(1..4));
    let mut points: Vec<PlanPoint> = Vec::new();
    for index in 0..random.random_range(1..6) {
        let travels = method.travels();
        let travel = travels[if tidy { 0 } else { random.random_range(0..travels.len()) }];
        let place = match method.has_places() && travel == Travel::Corner {
            true => PLACES[random.random_range(0..PLACES.len())],
            false => Place::Middle,
        };
        let nominal = match tidy {
            true => Decimal::from((index + 1) * 15),
            false => Decimal::from(random.random_range(1..10) * 10),
        };
        let half = nominal / Decimal::TWO;
        let pieces = match tidy || random.random_bool(0.7) {
            true => vec![piece(2 * index, nominal, (unit, axis), random)],
            false => {
                vec![
                    piece(2 * index, half, (unit, axis), random),
                    piece(2 * index + 1, half, (unit, axis), random),
                ]
            }
        };
        points.push(PlanPoint {
            nominal,
            travel,
            place,
            repeats: if tidy { repeats } else { random.random_range(1..5) },
            charted: random.random_bool(0.7),
            pieces,
            standard: if tidy { 0 } else { random.random_range(0..2) },
        });
    }
    let standard = |tag: &str, kind: Option<&str>| PlanStandard {
        tag: tag.to_owned(),
        name: format!("Standard {tag}"),
        any_of_kind: kind.map(str::to_owned),
    };
    let any = random.random_bool(0.3).then_some("block_set");
    PlanSpec {
        purpose: [Purpose::AsFound, Purpose::AsLeft, Purpose::Trial][random.random_range(0..3)],
        unit,
        resolution,
        range_low: Decimal::ZERO,
        maximum: Decimal::ONE_HUNDRED,
        configuration: vec![("modules".to_owned(), Decimal::from(4))],
        standards: vec![standard("S-1", any), standard("S-2", None)],
        fixture: if random.random_bool(0.3) { "the small vice".to_owned() } else { String::new() },
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 0.7,
        settings,
        points,
    }
}
