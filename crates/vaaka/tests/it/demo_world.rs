//! The demo world: seeded, ends with the current shift on any day, and tells its stories.

use std::sync::LazyLock;

use jiff::{SignedDuration, Timestamp};
use vaaka::demo::{Request, World, generate};
use vaaka_core::chart::Side;
use vaaka_core::history::{CrossRead, Culprit, Finding, Suspect, culprit};
use vaaka_core::judgement::{Reason, Verdict};

use crate::support::now;

fn world(days: u16, ends_at: Timestamp) -> World {
    generate(&Request { days, seed: 20, ends_at }).unwrap()
}

/// The year that ends now: made once for all who look at it, since it takes longer than all of them.
fn year() -> &'static World {
    static YEAR: LazyLock<World> = LazyLock::new(|| world(365, now()));
    &YEAR
}

#[test]
fn the_same_seed_makes_the_same_world() {
    let (a, b) = (world(30, now()), world(30, now()));
    assert_eq!(a.readings.len(), b.readings.len());
    let values = |w: &World| w.points.iter().map(|p| p.value.to_bits()).collect::<Vec<_>>();
    assert_eq!(values(&a), values(&b));
}

#[test]
fn it_ends_with_the_current_shift_whatever_the_moment() {
    // Just after a shift's start, around both clock changes, at New Year.
    for moment in [
        "2026-11-25T04:00:30Z",
        "2026-03-29T01:30:00Z",
        "2026-10-25T00:30:00Z",
        "2026-10-25T01:30:00Z",
        "2027-01-01T00:00:00Z",
    ] {
        let end: Timestamp = moment.parse().unwrap();
        let world = world(35, end);
        let last = world.checks.iter().filter_map(|check| check.closed_at).max().unwrap().0;
        assert!(last <= end, "{moment}: nothing from the future");
        let hours = end.duration_since(last).as_hours();
        assert!(hours < 9, "{moment}: the last check is {hours} h old");
        assert!(world.shifts.iter().any(|shift| shift.starts_at.0 <= end && shift.ends_at.0 > end));
    }
}

#[test]
fn its_stories_are_seen_by_the_rules_and_quiet_scales_are_quiet() {
    let world = year();
    let tag_of = |instrument| {
        world.instruments.iter().find(|i| i.id == instrument).map(|i| i.tag.as_str()).unwrap()
    };
    let signals = |tag: &str| {
        let streams: Vec<_> = world
            .streams
            .iter()
            .filter(|stream| tag_of(stream.instrument_id) == tag)
            .map(|stream| stream.id)
            .collect();
        world
            .signals
            .iter()
            .filter(|signal| streams.contains(&signal.stream_id))
            .collect::<Vec<_>>()
    };
    // The drift of the tank scale is the newest signal there, it is open, and it began after
    // its onset 25 days before the end and not more than 12 days later.
    let drift = signals("R-02").into_iter().max_by_key(|s| s.evidence).unwrap();
    let days = now().duration_since(drift.opened_at.0).as_secs_f64() / 86_400.0;
    assert!((13.0..25.0).contains(&days), "flagged {days} days before the end");
    assert_eq!((drift.side.as_deref(), drift.state.as_str()), (Some("above"), "open"));

    // The knock is flagged within a day.
    let knock = signals("P-06").into_iter().find(|signal| {
        let days = now().duration_since(signal.opened_at.0).as_secs_f64() / 86_400.0;
        (22.0..23.3).contains(&days)
    });
    assert!(knock.is_some(), "the knock is not flagged");

    // Quiet scales: two charts and a year of checks each. With a false alarm in about 500 checks
    // some four are expected for two charts; fifteen would mean wrong limits.
    for tag in ["R-09", "C-01", "P-11", "F-11"] {
        let count = signals(tag).len();
        assert!(count <= 15, "{tag}: {count} signals");
    }

    // Adjusting at every turn shows: segment after segment, each proven as left.
    let adjusted = world.events.iter().filter(|event| event.kind == "adjusted").count();
    assert!(adjusted > 15, "{adjusted}");
    assert!(world.checks.iter().filter(|check| check.purpose == "as_left").count() > adjusted / 2);

    // A failed check, its repeat, and the whole range of states.
    let mut failed: Vec<&str> = world
        .results
        .iter()
        .filter(|result| result.conforms == "fail")
        .filter_map(|result| world.checks.iter().find(|check| check.id == result.check_id))
        .map(|check| tag_of(check.instrument_id))
        .collect();
    failed.sort_unstable();
    assert_eq!(failed, ["F-04", "F-04", "P-22", "P-22"], "each with its repeat");
    assert!(world.results.iter().any(|result| result.repeat_state == "confirmed"));
    assert!(world.checks.iter().any(|check| check.state == "void"));
}

#[test]
fn it_looks_like_real_data() {
    let world = world(60, now());
    // Every indication is a step of its display, with the display's digits.
    for reading in world.readings.iter().filter(|reading| reading.kind == "reading").take(4000) {
        let check = world.checks.iter().find(|check| check.id == reading.check_id).unwrap();
        let instrument = world.instruments.iter().find(|i| i.id == check.instrument_id).unwrap();
        let indication = reading.indication.unwrap();
        // What a gauge is set to is no reading of its display.
        if reading.unit.as_deref() != Some(instrument.unit.as_str()) {
            continue;
        }
        assert!((indication % instrument.resolution).is_zero(), "{} {indication}", instrument.tag);
        assert_eq!(indication.scale(), instrument.resolution.scale());
    }
    let people: std::collections::BTreeSet<_> =
        world.checks.iter().map(|check| check.opened_by).collect();
    assert!(people.len() >= 4);
    // Missed shifts leave gaps: fewer checks than scales times shifts, but not many fewer.
    let (each_shift, each_day, weekly, weeks) = (11, 6, 13, 9);
    let most = (each_shift * 3 + each_day) * 60 + weekly * weeks;
    let made = world.checks.iter().filter(|check| check.state == "concluded").count();
    assert!(made < most && made > most * 85 / 100, "{made} of {most}");
}

/// A forecast follows a standing signal: to its side, with ends in order, and from an interval without zero.
#[test]
fn no_forecast_of_a_year_points_against_its_signal() {
    let world = year();
    let mut told = 0;
    for result in &world.results {
        let verdict: Verdict = serde_json::from_value(result.verdict.clone()).unwrap();
        let Some((key, drift)) = verdict.forecast_of.zip(verdict.forecast) else { continue };
        told += 1;
        let sides: Vec<Side> = verdict
            .reasons
            .iter()
            .filter_map(|reason| match reason {
                Reason::StillActive { key: own, side } if *own == key => *side,
                Reason::Fired { key: own, firing } if *own == key => firing.side,
                _ => None,
            })
            .collect();
        let upward = if drift.per_week > 0.0 { Side::Above } else { Side::Below };
        assert!(sides.contains(&upward), "{key}: {drift:?} beside {sides:?}");
        assert!(drift.per_week_low * drift.per_week_high > 0.0, "{key}: {drift:?}");
        assert!(drift.per_week_low <= drift.per_week && drift.per_week <= drift.per_week_high);
        if let Some(crossing) = drift.crossing {
            assert!(crossing.earliest <= crossing.at, "{key}: {crossing:?}");
            assert!(crossing.latest.is_none_or(|latest| latest >= crossing.at), "{key}");
        }
    }
    assert!(told > 10, "the year tells {told} forecasts");
}

/// What is said of the sheet gauges so many days before the end.
fn said(world: &World, days: f64) -> (Culprit, Vec<String>) {
    let back = |days: f64| now() - SignedDuration::from_secs((days * 86_400.0) as i64);
    let (from, until) = (back(days + 110.0), back(days));
    let mut names: Vec<String> = Vec::new();
    let mut number = |kind: &str, name: &str| {
        let all = format!("{kind} {name}");
        names.iter().position(|one| *one == all).unwrap_or_else(|| {
            names.push(all);
            names.len() - 1
        })
    };
    let mut points: Vec<_> = world
        .points
        .iter()
        .filter(|point| point.ordinal.is_some())
        .filter(|point| point.measured_at.0 >= from && point.measured_at.0 <= until)
        .filter_map(|point| {
            let check = world.checks.iter().find(|check| check.id == point.check_id)?;
            let own = world.instruments.iter().find(|one| one.id == check.instrument_id)?;
            let is_gauge = own.family == "length gauge" && own.resolution.to_string() == "0.001";
            (is_gauge && own.tag != "F-11").then_some((point, check, own))
        })
        .collect();
    points.sort_by_key(|(point, ..)| point.measured_at);
    let reads: Vec<CrossRead> = points
        .into_iter()
        .map(|(point, check, own)| {
            let certificate = world.certificates.iter().find(|one| one.id == check.certificate_id);
            let lot = certificate.unwrap().lot_id;
            let lot = world.lots.iter().find(|one| one.id == lot).unwrap();
            CrossRead {
                shift: u32::try_from(point.measured_at.0.duration_since(from).as_hours() / 24)
                    .unwrap(),
                instrument: number("instrument", &own.tag),
                standard: number("standard", &lot.lot),
                person: number("person", &check.opened_by.to_string()),
                area: number("area", &own.area_id.to_string()),
                epoch: usize::try_from(point.segment_id.0).unwrap(),
                error: point.value,
            }
        })
        .collect();
    (culprit(&reads).unwrap(), names)
}

/// Each story of the sheet gauges is told as what it is, and the crossing that is too thin is told as that.
#[test]
fn whose_fault_each_story_is() {
    let world = year();
    let named = |days: f64| -> Vec<String> {
        let (found, names) = said(world, days);
        let mut all: Vec<String> = match &found.finding {
            Finding::Named(all) => all
                .iter()
                .map(|one| match one {
                    Suspect::Instrument(id)
                    | Suspect::Standard(id)
                    | Suspect::Person(id)
                    | Suspect::Area(id) => names[*id].clone(),
                })
                .collect(),
            Finding::Nothing | Finding::CannotTell(_) => vec![],
        };
        all.sort();
        all
    };
    let (thin, names) = said(world, 338.0);
    let Finding::CannotTell(among) = &thin.finding else { panic!("{thin:?}") };
    let of = |one: &Suspect| match one {
        Suspect::Instrument(id)
        | Suspect::Standard(id)
        | Suspect::Person(id)
        | Suspect::Area(id) => names[*id].as_str(),
    };
    let among: Vec<&str> = among.iter().map(of).collect();
    assert!(among.contains(&"instrument F-63") && among.contains(&"standard VL-0304"), "{among:?}");
    assert_eq!(named(300.0), ["standard VL-0302"], "the block that chipped");
    assert_eq!(named(216.0), ["person 2"], "another hand");
    // The other hand is in its window as well.
    assert!(named(174.0).contains(&"area 2".to_owned()), "two warm weeks in the press hall");
    assert!(named(100.0).contains(&"standard VL-0303".to_owned()), "the block that dries");
    assert!(named(56.0).contains(&"instrument F-62".to_owned()), "it drifts on two blocks");
}
