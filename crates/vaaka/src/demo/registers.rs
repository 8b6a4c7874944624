//! The registers of the mill: people, site, shifts, standards, instruments with their plans.

use std::collections::BTreeSet;

use jiff::ToSpan;
use jiff::civil::{Date, time};
use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use vaaka_core::method::Rung;
use vaaka_core::round::{DueRule, ShiftPattern, ShiftSpan, ShiftStart};
use vaaka_store::ids::*;
use vaaka_store::plans::PlanView;
use vaaka_store::rows::*;
use vaaka_store::{At, Day, WallTime};

use super::World;
use super::charts::next;
use super::gear::{AREAS, Gear};
use super::said::{decimal, fault};
use super::standards::SETS;
use super::world::{COLLEAGUES, LEAD, SECOND_LEAD};
use crate::AppError;

/// The site's time zone.
pub const ZONE: &str = "Europe/Helsinki";
const SITE: SiteId = SiteId(1);

/// The lead who sets things up.
pub fn lead() -> PersonId {
    person(super::world::LEAD)
}

pub fn person(index: usize) -> PersonId {
    PersonId(next(index))
}

pub fn people(world: &mut World, first: Date) -> Result<(), AppError> {
    let created = first.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for (index, one) in COLLEAGUES.iter().enumerate() {
        world.people.push(Person {
            must_change: false,
            id: person(index),
            sign_in: one.sign_in.to_owned(),
            name: one.name.to_owned(),
            role: one.role.to_owned(),
            password_hash: vaaka_web::hash_password(one.password).map_err(fault)?,
            active: true,
            created_at: At(created),
            email: match one.role {
                "lead" => format!("{}@velmaranta.example", one.sign_in),
                _ => String::new(),
            },
            version: 1,
        });
    }
    Ok(())
}

pub fn site(world: &mut World, zone: TimeZone) -> ShiftPattern {
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
        .map(|(label, hour)| ShiftStart::every_day(label, time(hour, 0, 0, 0)));
    for start in &starts {
        world.shift_starts.push(ShiftStartRow {
            site_id: SITE,
            label: start.label.clone(),
            starts_at_local: WallTime(start.at),
            days: start.days.to_vec(),
        });
    }
    ShiftPattern { zone, starts: starts.to_vec(), holidays: BTreeSet::new() }
}

pub fn shifts(world: &mut World, spans: &[ShiftSpan]) {
    for (index, span) in spans.iter().enumerate() {
        world.shifts.push(Shift {
            id: ShiftId(next(index)),
            site_id: SITE,
            label: span.label.clone(),
            business_date: Day(span.business_date),
            starts_at: At(span.starts_at),
            ends_at: At(span.ends_at),
            works: span.works,
        });
    }
}

pub fn standards(world: &mut World, first: Date) -> Result<(), AppError> {
    let begin = first.saturating_sub(40.days());
    let begin_at = begin.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for (index, set) in SETS.iter().enumerate() {
        let id = next(index);
        world.standards.push(Standard {
            id: StandardId(id),
            tag: set.tag.to_owned(),
            name: set.name.to_owned(),
            kind: set.kind.to_owned(),
            location: set.location.to_owned(),
            state: "in_use".to_owned(),
            state_reason: String::new(),
            version: 1,
        });
        world.lots.push(Lot {
            id: LotId(id),
            standard_id: StandardId(id),
            ..lot(LotId(id), StandardId(id), set.lot, begin_at)
        });
        world.certificates.push(Certificate {
            id: CertificateId(id),
            lot_id: LotId(id),
            number: set.certificate.to_owned(),
            version: 1,
            kind: "calibration".to_owned(),
            issuer: "Velmaranta measuring room".to_owned(),
            issued_on: Day(begin),
            valid_from: Day(begin),
            // Each set went to its calibration at another time.
            valid_until: Day(begin
                .saturating_add(2.years())
                .saturating_sub((i64::try_from(index).unwrap_or(0) * 45).days())),
            change: "first".to_owned(),
            replaces_id: None,
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
                temperature: None,
                at_unit: None,
                non_uniformity: None,
                class_limit: false,
            });
        }
    }
    Ok(())
}

/// A plain lot: nothing about it expires or wears off.
pub fn lot(id: LotId, standard_id: StandardId, name: &str, from: jiff::Timestamp) -> Lot {
    Lot {
        id,
        standard_id,
        lot: name.to_owned(),
        in_use_from: Some(At(from)),
        in_use_until: None,
        expires_on: None,
        opened_at: None,
        open_hours: None,
        use_kind: None,
        use_limit: None,
        face_width: None,
        face_height: None,
        face_spacing: None,
        face_edge: None,
    }
}

/// Registers an instrument with its plan, and returns the plan as the store would.
pub fn register(
    world: &mut World,
    gear: &Gear,
    id: i64,
    first: Date,
) -> Result<PlanView, AppError> {
    let (instrument, set_up) = registered(gear, id, id)?;
    world.set_ups.push(set_up);
    world.instruments.push(instrument.clone());
    plan(world, gear, (&instrument, SetUpId(id)), &[StandardId(next(gear.set))], first)
}

fn registered(gear: &Gear, id: i64, set_up: i64) -> Result<(Instrument, SetUp), AppError> {
    let instrument = Instrument {
        id: InstrumentId(id),
        tag: gear.tag.to_owned(),
        name: gear.name.to_owned(),
        area_id: AreaId(next(gear.area)),
        unit: gear.unit.to_owned(),
        resolution: decimal(gear.resolution)?,
        maximum: decimal(gear.maximum)?,
        serial: gear.serial.to_owned(),
        state: "in_service".to_owned(),
        version: 1,
        range_low: if gear.unit == "nm" { decimal("190")? } else { Decimal::ZERO },
        owner: AREAS[gear.area].to_owned(),
        firmware: gear.family.firmware(gear.tag).to_owned(),
        adjustable: !matches!(gear.tag, "P-11" | "F-14"),
        sealed: gear.tag == "P-06",
        maker: String::new(),
        model: String::new(),
        calibrated_until: None,
        critical: matches!(gear.tag, "R-02" | "R-09" | "P-11"),
        restricted_to: None,
        family: gear.family.words(gear.unit).to_owned(),
        work_low: gear.work.map(|(low, _)| decimal(low)).transpose()?,
        work_high: gear.work.map(|(_, high)| decimal(high)).transpose()?,
        calibration_file: String::new(),
        configuration_names: vec![],
        configuration_values: vec![],
    };
    let set_up = SetUp {
        id: SetUpId(set_up),
        instrument_id: InstrumentId(id),
        name: "as installed".into(),
        probe: String::new(),
        scale: String::new(),
        material: String::new(),
        in_use: true,
        state: "in_service".to_owned(),
        restricted_to: None,
    };
    Ok((instrument, set_up))
}

/// The same for an instrument that is registered after others, with cells of their own, by a kind of standards.
pub fn register_on(
    world: &mut World,
    gear: &Gear,
    (id, set_up): (i64, i64),
    standards: &[StandardId],
    first: Date,
) -> Result<PlanView, AppError> {
    let (instrument, set_up) = registered(gear, id, set_up)?;
    world.set_ups.push(set_up.clone());
    world.instruments.push(instrument.clone());
    plan(world, gear, (&instrument, set_up.id), standards, first)
}

/// A plan of an instrument that is registered, in force from the first day; returned as the store would.
pub fn plan(
    world: &mut World,
    gear: &Gear,
    (instrument, set_up): (&Instrument, SetUpId),
    standards: &[StandardId],
    first: Date,
) -> Result<PlanView, AppError> {
    let id = next(world.plans.len());
    let approved = first.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    let plan = Plan {
        id: PlanId(id),
        instrument_id: instrument.id,
        set_up_id: set_up,
        name: match gear.family.due_rule() {
            DueRule::EachWeek => format!("{} each week", gear.name),
            DueRule::EachDay => format!("{} each day", gear.name),
            _ => format!("{} each shift", gear.name),
        },
        method_key: gear.family.method_key().to_owned(),
    };
    let version = PlanVersion {
        id: PlanVersionId(id),
        plan_id: PlanId(id),
        version: 1,
        state: "approved".to_owned(),
        standard_id: standards.first().copied().filter(|_| !gear.any_of_kind),
        settings: gear.family.settings(gear)?,
        minutes: gear.minutes,
        due_rule: gear.family.due_rule().word().to_owned(),
        created_by: person(LEAD),
        approved_by: Some(person(SECOND_LEAD)),
        approved_at: Some(At(approved)),
        standard_kind: standards
            .first()
            .and_then(|id| world.standards.iter().find(|one| one.id == *id))
            .filter(|_| gear.any_of_kind)
            .map(|one| one.kind.clone()),
        unit: instrument.unit.clone(),
        resolution: instrument.resolution,
        range_low: instrument.range_low,
        maximum: instrument.maximum,
        configuration_names: vec![],
        configuration_values: vec![],
        fixture: String::new(),
        decision_rule: "simple_acceptance".to_owned(),
        decision_share: Decimal::ONE,
        decision_risk: Decimal::new(2, 2),
        coverage: "p9545".to_owned(),
        addition_sources: vec![],
        addition_labels: vec![],
        addition_half_widths: vec![],
        addition_grows: vec![],
        due_triggers: ["moved", "repaired", "doubt"].map(str::to_owned).to_vec(),
        adjustment_policy: "only_when_out".to_owned(),
        reaction: Rung::ALL.iter().map(|rung| rung.word().to_owned()).collect(),
        change_note: "first version".to_owned(),
        saves: 1,
    };
    for (index, (nominal, travel, place, repeats, charted, pieces)) in gear.loads.iter().enumerate()
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
            // Each block of a hardness tester is a standard of its own; the first is the plan's.
            standard_id: standards.get(index).copied().filter(|_| index > 0),
        });
    }
    let standard =
        standards.first().and_then(|id| world.standards.iter().find(|one| one.id == *id));
    let area = world.areas.iter().find(|area| area.id == instrument.area_id);
    let view = PlanView {
        version: version.clone(),
        plan: plan.clone(),
        instrument: instrument.clone(),
        area: area.cloned().ok_or_else(|| fault("an instrument without an area"))?,
        standard: standard.cloned().filter(|_| !gear.any_of_kind),
        cell: world.set_ups.iter().find(|one| one.id == set_up).and_then(SetUp::words),
    };
    world.plans.push(plan);
    world.plan_versions.push(version);
    Ok(view)
}
