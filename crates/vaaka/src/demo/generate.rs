//! Makes the history: walks the shifts, reads the scales as people would, and completes each
//! check as the live application does.

use jiff::civil::{Date, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, ToSpan};
use vaaka_core::round::DueRule;
use vaaka_store::ids::{PersonId, ShiftId};

use super::World;
use super::bench::{Bench, Visit};
use super::charts::next;
use super::coating::COATING_GAUGES;
use super::gauges::GAUGES;
use super::gear::Gear;
use super::hardness;
use super::mill;
use super::moisture::METERS;
use super::network::ANALYZERS;
use super::noise::Noise;
use super::photometers::PHOTOMETERS;
use super::registers::{ZONE, people, person, shifts, site, standards};
use super::said::fault;
use super::scales::SCALES;
use super::sheet_gauges;
use super::signals;
use super::spectra::SPECTROPHOTOMETERS;
use super::ultrasonic::THICKNESS_GAUGES;
use super::world::Request;
use crate::AppError;

/// In the current shift these are done already when there was time; the rest is due.
const DONE_THIS_SHIFT: [&str; 3] = ["R-08", "R-09", "C-01"];

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
    for (index, gear) in SCALES.iter().chain(&GAUGES).chain(&SPECTROPHOTOMETERS).enumerate() {
        // Each has a source of noise of its own, so that a new instrument leaves the history of
        // the others as it was.
        let noise =
            Noise::seeded(request.seed.wrapping_mul(1_000).wrapping_add(next(index) as u64));
        benches.push((Bench::new(&mut world, (index, gear), first, request)?, noise));
    }
    mill::rest(&mut world, first, today, request.ends_at)?;
    hardness::blocks(&mut world, first, today)?;
    let cells = hardness::TESTERS.iter().chain(&METERS).chain(&THICKNESS_GAUGES);
    for gear in cells.chain(&COATING_GAUGES).chain(&PHOTOMETERS).chain(&ANALYZERS) {
        let number = next(benches.len()) as u64;
        let noise = Noise::seeded(request.seed.wrapping_mul(1_000).wrapping_add(number));
        benches.push((Bench::of_cell(&mut world, gear, first, request)?, noise));
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
        for (bench, noise) in &mut benches {
            let gear = bench.gear;
            // Once a week, on Monday morning.
            let weekly = gear.family.due_rule() == DueRule::EachWeek;
            if weekly
                && (span.business_date.weekday() != Weekday::Monday || span.label != "Morning")
            {
                continue;
            }
            if current && !DONE_THIS_SHIFT.contains(&gear.tag) {
                continue;
            }
            let at = span.starts_at + SignedDuration::from_mins(minute);
            minute += i64::from(gear.minutes) + noise.whole(1, 6);
            let done_by = at + SignedDuration::from_mins(i64::from(gear.minutes) + 3);
            // Now and then a check is missed: it is absent, and no line is drawn over it.
            if done_by > request.ends_at || (!current && noise.chance(0.012)) {
                continue;
            }
            let shift = ShiftId(next(index));
            let who = on_duty(index, span.business_date, noise);
            bench.shift(&mut world, noise, Visit { shift, at, who })?;
        }
    }
    // Walked after the others, so that these keep their numbers.
    let mut gauges = sheet_gauges::benches(&mut world, first, request)?;
    for (index, span) in spans.iter().enumerate().filter(|(_, span)| span.label == "Morning") {
        let begun = span.starts_at > request.ends_at;
        if begun || weekend.contains(&span.business_date) && span.business_date > first {
            continue;
        }
        let mut at = span.starts_at + SignedDuration::from_mins(150);
        for (bench, noise) in &mut gauges {
            at += SignedDuration::from_mins(i64::from(bench.gear.minutes) + noise.whole(1, 5));
            // Of the last days none is missed: the round of now is that of the scales.
            let missed = noise.chance(0.012) && at < request.ends_at - days(4);
            if at + SignedDuration::from_mins(8) > request.ends_at || missed {
                continue;
            }
            let shift = ShiftId(next(index));
            let who = on_duty(index, span.business_date, noise);
            bench.shift(&mut world, noise, Visit { shift, at, who })?;
        }
    }
    signals::work(&mut world, request.ends_at);
    Ok(world)
}

fn days(count: i64) -> SignedDuration {
    SignedDuration::from_hours(24 * count)
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

/// Everything that plays in the mill: of an instrument with several cells one each.
pub fn everyone() -> impl Iterator<Item = &'static Gear> {
    let alone = SCALES.iter().chain(&GAUGES).chain(&SPECTROPHOTOMETERS);
    let cells = hardness::TESTERS.iter().chain(&METERS).chain(&THICKNESS_GAUGES);
    let sheets = sheet_gauges::GAUGES.iter().map(|(gear, _)| gear);
    alone.chain(cells).chain(&COATING_GAUGES).chain(&PHOTOMETERS).chain(&ANALYZERS).chain(sheets)
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use vaaka_core::method::{Input, Step, by_key};
    use vaaka_core::trace::TraceWanted;

    use super::*;
    use crate::demo::gear::Moment;
    use crate::demo::spectra::read;

    /// Each answers for a method that there is, with settings of that very method, and no two for one cell.
    #[test]
    fn every_player_knows_its_plan() {
        let mut cells = HashSet::new();
        for gear in everyone() {
            let player = gear.family;
            let method = by_key(player.method_key()).unwrap();
            let settings = player.settings(gear).unwrap();
            let schema = settings["schema"].as_str().unwrap();
            assert!(schema.starts_with(method.key()), "{}: {schema}", gear.tag);
            assert!(!player.words(gear.unit).is_empty() && !player.remedy().is_empty());
            let cell = player.cell();
            assert!(cell.is_none_or(|(_, standards)| !standards.is_empty()), "{}", gear.tag);
            assert!(cells.insert((gear.tag, cell.map(|(cell, _)| cell))), "{}", gear.tag);
        }
        assert!(cells.iter().filter(|(_, cell)| cell.is_some()).count() >= 10);
    }

    /// Who is asked for traces writes them as the application reads them; nobody else writes any.
    #[test]
    fn who_is_asked_for_traces_writes_them() {
        let wanted = TraceWanted {
            axis: "frequency".into(),
            axis_unit: "GHz".into(),
            channels: vec![],
            covers: (400.0, 420.0),
            fewest: 5,
            largest_step: Some(0.5),
            impedance: None,
        };
        let step = Step::plain("kit-open", "Kit: open".into(), String::new(), Input::Review);
        let now = Moment { left: 5.0, disturbance: 0.0, error: &|_| 0.0 };
        for gear in everyone() {
            let mut noise = Noise::seeded(3);
            let text = gear.family.trace(gear, (&wanted, &[], &step), &now, &mut noise);
            let writes = matches!(gear.family.method_key(), "spectrum" | "reflection");
            assert_eq!(text.is_some(), writes, "{}", gear.tag);
            if let Some(text) = text {
                let table = read(&text).unwrap();
                assert!(table.columns.iter().all(|column| column.len() >= 9), "{}", gear.tag);
            }
        }
    }
}
