//! What holds of every way, and of every run through it.

use std::collections::{BTreeMap, HashSet};

use rust_decimal::Decimal;
use vaaka_core::judgement::{Characteristic, CharacteristicKind};
use vaaka_core::method::{
    Entry, EntryValue, Input, MethodError, PlanPoint, REVIEW, RunState, StepKey,
};

use crate::player::{go_on, is_reading, play, start};
use crate::{Planned, planned};

/// Calls with each plan that can be run to its end, and its run.
fn each_run(off: i64, mut law: impl FnMut(&Planned, &RunState)) {
    let mut runs = BTreeMap::new();
    for planned in planned() {
        if let Some(run) = play(planned.method, &planned.plan, &planned.way, off) {
            *runs.entry(planned.method.key()).or_insert(0) += 1;
            law(&planned, &run);
        }
    }
    assert!(runs.values().all(|runs| *runs > 20), "nothing was walked through: {runs:?}");
}

fn told(planned: &Planned) -> String {
    format!("{}, plan {}", planned.method.key(), planned.seed)
}

fn evaluated(planned: &Planned, run: &RunState) -> Vec<Characteristic> {
    planned.method.evaluate(&planned.plan, run).unwrap()
}

/// Every page speaks of errors in one unit; what is of another quantity has its own, and its step says which.
#[test]
fn errors_are_in_the_unit_of_errors() {
    each_run(0, |planned, run| {
        let plan = &planned.plan;
        let unit = plan.unit.error_unit(plan.resolution);
        for one in evaluated(planned, run) {
            // A spread may be a share, and what nothing certifies has a quantity of its own.
            let of_errors = matches!(
                one.kind,
                CharacteristicKind::Error
                    | CharacteristicKind::Hysteresis
                    | CharacteristicKind::ReturnToZero
            );
            assert!(
                !of_errors || one.unit == unit,
                "{}: {} in {}",
                told(planned),
                one.key,
                one.unit
            );
        }
        for step in &planned.way {
            if let Some((shown, of_errors)) = step.error_units() {
                assert_eq!(
                    shown.dimension(),
                    of_errors.dimension(),
                    "{}: {}",
                    told(planned),
                    step.key
                );
            }
        }
    });
}

#[test]
fn a_way_leads_forward_and_knows_its_steps() {
    for planned in planned() {
        let (way, words) = (&planned.way, told(&planned));
        let place = |key: &StepKey| way.iter().position(|step| step.key == *key);
        let keys: HashSet<&StepKey> = way.iter().map(|step| &step.key).collect();
        assert_eq!(keys.len(), way.len(), "{words}: a key stands twice");
        let readings: Vec<usize> = (0..way.len()).filter(|at| way[*at].input.measures()).collect();
        assert!(!readings.is_empty(), "{words}: nothing is read");
        for (at, step) in way.iter().enumerate() {
            assert!(step.repeats > 0 && !step.title.is_empty(), "{words}: {}", step.key);
            assert!(!step.instruction.is_empty(), "{words}: {} says nothing", step.key);
            for later in &step.voids {
                let there = place(later).unwrap_or_else(|| panic!("{words}: no {later}"));
                assert!(there > at, "{words}: {} voids {later}, which is before it", step.key);
            }
            let before = step.within.iter().chain(match &step.input {
                Input::WaitOver { start, .. } => Some(start),
                _ => None,
            });
            for start in before {
                assert!(place(start).is_some_and(|there| there < at), "{words}: {}", step.key);
            }
            if let Some(point) = step.point {
                let point = &planned.plan.points[point];
                assert_eq!((step.repeats, step.standard), (point.repeats, point.standard));
                assert_eq!(step.charted_as.is_some(), point.charted, "{words}: {}", step.key);
            }
            if let Input::Confirm { caution: true, .. } = step.input {
                assert!(at < readings[0], "{words}: a caution after the first reading");
                assert!(step.detail.contains("local rules"), "{words}: {}", step.detail);
            }
        }
        // Everything is looked over after the last reading and before the standard is put away.
        let review = place(&REVIEW.into()).unwrap();
        assert!(readings.iter().all(|at| *at < review), "{words}");
        // Each point is read once, and each standard is in hand before it is used.
        let points: Vec<usize> = way.iter().filter_map(|step| step.point).collect();
        let of_traces = way.iter().any(|step| matches!(step.input, Input::Trace { .. }));
        let each: Vec<usize> = (0..planned.plan.points.len()).collect();
        assert_eq!(planned.method.on_paper(), !of_traces, "{words}");
        // What is read may be another quantity than that of the points, of which all readings together tell.
        let unit = planned.plan.unit.dimension();
        let of_another = readings.iter().all(|at| match &way[*at].input {
            Input::Reading { unit: own, .. } => own.dimension() != unit,
            _ => true,
        });
        assert_eq!(points, if of_traces || of_another { vec![] } else { each }, "{words}");
        for step in way.iter().filter(|step| step.point.is_some()) {
            let tag = way.iter().position(
                |tag| matches!(tag.input, Input::Tag { place, .. } if place == step.standard),
            );
            assert!(tag < place(&step.key) && tag.is_some(), "{words}: {}", step.key);
        }
    }
}

#[test]
fn a_finished_run_gives_each_thing_once_and_every_number_is_finite() {
    each_run(0, |planned, run| {
        let (found, words) = (evaluated(planned, run), told(planned));
        let keys: HashSet<&str> = found.iter().map(|one| one.key.as_str()).collect();
        assert_eq!(keys.len(), found.len(), "{words}: a key stands twice");
        for one in &found {
            assert!(!one.singles.is_empty() && one.value().is_finite(), "{words}: {}", one.key);
            assert!(!one.label.is_empty() && one.scatter_weight.is_finite(), "{words}");
            for part in &one.contributions {
                let u = part.standard_uncertainty;
                assert!(u.is_finite() && u >= 0.0, "{words}: {} {part:?}", one.key);
            }
            for limits in one.limits.iter().chain(&one.single_limits) {
                let (lower, upper) = (limits.lower, limits.upper);
                let ordered = lower.zip(upper).is_none_or(|(lower, upper)| lower <= upper);
                assert!(ordered, "{words}: {} has crossed limits", one.key);
            }
        }
        // What the plan charts is found by the key that the method names for it, and nothing else is.
        for point in &planned.plan.points {
            let key = planned.method.chart_key(point);
            let one = found.iter().find(|one| one.key == key);
            if point.charted {
                assert!(one.is_some_and(|one| one.charted), "{words}: {key}");
            }
        }
        for step in planned.way.iter().filter_map(|step| step.charted_as.as_ref()) {
            assert!(keys.contains(step.as_str()), "{words}: no {step}");
        }
    });
}

/// What is shown while measuring is what is judged: the error of each reading at its settled step
/// is the single result of the characteristic that the step makes.
#[test]
fn each_reading_shows_the_error_that_is_judged() {
    let mut compared = 0;
    each_run(3, |planned, run| {
        let found = evaluated(planned, run);
        for step in planned.way.iter().filter(|step| step.charted_as.is_some()) {
            let settled = planned.method.settle(&planned.plan, run, step).unwrap();
            let key = step.charted_as.as_deref().unwrap();
            let one = found.iter().find(|one| one.key == key).unwrap();
            let errors: Vec<Decimal> = run
                .readings(&step.key)
                .into_iter()
                .map(|(indication, added)| {
                    let error = settled.error_of(indication, added).unwrap();
                    planned.plan.unit.convert(error, one.unit)
                })
                .collect();
            assert_eq!(errors, one.singles, "{}: {key}", told(planned));
            compared += errors.len();
        }
    });
    assert!(compared > 200, "{compared}");
}

/// One step more on the display moves what rests on it and nothing else, and the mean by its share.
#[test]
fn a_distorted_reading_moves_what_rests_on_it() {
    each_run(0, |planned, run| {
        let before = evaluated(planned, run);
        for (at, entry) in run.entries.iter().enumerate().filter(|(_, entry)| is_reading(entry)) {
            let step = planned.way.iter().find(|step| step.key == entry.step).unwrap();
            let mut other = run.clone();
            if let EntryValue::Reading { indication, .. } = &mut other.entries[at].value {
                *indication += planned.plan.resolution;
            }
            let after = evaluated(planned, &other);
            let words = format!("{}: {}", told(planned), entry.step);
            assert_ne!(before, after, "{words}: its reading counts for nothing");
            let Some(point) = step.point.map(|point| &planned.plan.points[point]) else {
                // The zero of a run is taken off everything.
                continue;
            };
            let key = planned.method.chart_key(point);
            for (was, is) in before.iter().zip(&after) {
                assert_eq!((&was.key, &was.limits), (&is.key, &is.limits), "{words}");
                if was.kind != CharacteristicKind::Error {
                    continue;
                }
                let unit = planned.plan.unit;
                let moved = is.sum() - was.sum();
                let expected = match was.key == key {
                    true => unit.convert(planned.plan.resolution, was.unit),
                    false => Decimal::ZERO,
                };
                assert_eq!(moved, expected, "{words}: {}", was.key);
            }
        }
    });
}

/// When something was read says nothing about what it is: on paper and from a device that was out
/// of reach the moments are others, the bits the same.
#[test]
fn the_moments_of_entries_change_no_result() {
    each_run(-2, |planned, run| {
        let mut other = run.clone();
        for entry in &mut other.entries {
            entry.at = start();
        }
        assert_eq!(evaluated(planned, run), evaluated(planned, &other), "{}", told(planned));
    });
}

#[test]
fn what_is_kept_comes_back_from_the_store_as_it_was() {
    each_run(1, |planned, run| {
        let entries = run.entries.iter().map(|entry| {
            let text = serde_json::to_string(&entry.value).unwrap();
            let mut value = serde_json::from_str(&text).unwrap();
            // The numbers of a trace lie beside the record, which holds their digest.
            if let (
                EntryValue::Trace { trace, digest, .. },
                EntryValue::Trace { trace: numbers, .. },
            ) = (&mut value, &entry.value)
            {
                assert!(text.len() < 200, "{text}");
                assert_eq!(*digest, numbers.digest());
                trace.clone_from(numbers);
            }
            Entry { value, ..entry.clone() }
        });
        let back = RunState { entries: entries.collect() };
        assert_eq!(*run, back, "{}", told(planned));
        let found = evaluated(planned, &back);
        let text = serde_json::to_string(&found).unwrap();
        let again: Vec<Characteristic> = serde_json::from_str(&text).unwrap();
        assert_eq!(found, again, "{}", told(planned));
    });
}

/// A step that is done again takes with it what rests on it; done as before, everything is as before.
#[test]
fn a_step_done_again_gives_the_same_bits() {
    each_run(2, |planned, run| {
        let before = evaluated(planned, run);
        for step in &planned.way {
            let gone = |entry: &Entry| entry.step == step.key || step.voids.contains(&entry.step);
            let kept: Vec<Entry> = run.entries.iter().filter(|own| !gone(own)).cloned().collect();
            let words = format!("{}: {} done again", told(planned), step.key);
            assert!(kept.len() < run.entries.len(), "{words}");
            let left = RunState { entries: kept };
            let next = left.next(&planned.way).map(|(step, repeat)| (&step.key, repeat));
            assert_eq!(next, Some((&step.key, 1)), "{words}: something else is next");
            // A longest time may be over by then, which asks for its wait to begin again.
            let Some(again) = go_on(planned.method, &planned.plan, &planned.way, left, 2) else {
                assert!(planned.way.iter().any(|step| step.within.is_some()), "{words}");
                continue;
            };
            assert_eq!(evaluated(planned, &again), before, "{words}");
        }
    });
}

/// A correction takes the place of what it corrects, wherever it stands among the entries.
#[test]
fn the_order_in_which_entries_were_kept_changes_no_result() {
    each_run(0, |planned, run| {
        let before = evaluated(planned, run);
        for at in 0..run.entries.len() {
            let mut other = run.clone();
            let moved = other.entries.remove(at);
            let repeats = run.of_step(&moved.step).count();
            other.entries.push(moved);
            if repeats == 1 {
                assert_eq!(evaluated(planned, &other), before, "{}: {at}", told(planned));
            }
        }
    });
}

#[test]
fn what_is_missing_is_named() {
    each_run(0, |planned, run| {
        for step in planned.way.iter().filter(|step| step.input.measures()) {
            let last = run.entries.iter().rposition(|entry| entry.step == step.key).unwrap();
            let mut short = run.clone();
            short.entries.remove(last);
            let words = format!("{}: {}", told(planned), step.key);
            match planned.method.evaluate(&planned.plan, &short) {
                Err(MethodError::Incomplete { step: named, required, got }) => {
                    assert_eq!((&named, required), (&step.key, step.repeats), "{words}");
                    assert_eq!(got as u32 + 1, required, "{words}");
                }
                other => panic!("{words}: {other:?}"),
            }
            let (next, repeat) = short.next(&planned.way).unwrap();
            assert_eq!((&next.key, repeat), (&step.key, step.repeats), "{words}");
        }
    });
}

/// Whatever was read so far is judged so far: nothing that a finished run knows of a point comes
/// only at the end, so that nobody can stop before it is seen.
#[test]
fn every_prefix_of_a_run_is_judged_as_far_as_it_goes() {
    each_run(4, |planned, run| {
        let whole = evaluated(planned, run);
        let mut so_far = RunState::default();
        let mut known = 0;
        for entry in &run.entries {
            so_far.entries.push(entry.clone());
            let found = planned.method.so_far(&planned.plan, &so_far).unwrap();
            assert!(found.len() >= known, "{}: {} is forgotten", told(planned), entry.step);
            known = found.len();
            for one in &found {
                assert!(one.value().is_finite(), "{}: {}", told(planned), one.key);
            }
            if is_reading(entry) {
                let step = planned.way.iter().find(|step| step.key == entry.step).unwrap();
                if let Some(point) = step.point.map(|point| &planned.plan.points[point]) {
                    let key = planned.method.chart_key(point);
                    let one = found.iter().find(|one| one.key == key);
                    let n = one.map_or(0, |one| one.singles.len());
                    assert_eq!(n as u32, entry.repeat, "{}: {key}", told(planned));
                }
            }
        }
        let found = planned.method.so_far(&planned.plan, &so_far).unwrap();
        assert_eq!(found, whole, "{}: at the end", told(planned));
    });
}

/// An instrument that is off by so much more says so by as much: the error of every point moves by
/// the steps that were added to all its readings, and by none where its zero moves along.
#[test]
fn a_shifted_instrument_moves_all_errors_by_the_shift() {
    each_run(0, |planned, run| {
        // A trace, or another quantity of which all readings together tell.
        if planned.way.iter().all(|step| step.point.is_none()) {
            return;
        }
        let before = evaluated(planned, run);
        let shift = planned.plan.resolution * Decimal::from(7);
        let mut other = run.clone();
        for entry in &mut other.entries {
            let of_point =
                planned.way.iter().any(|step| step.key == entry.step && step.point.is_some());
            if let EntryValue::Reading { indication, .. } = &mut entry.value
                && of_point
            {
                *indication += shift;
            }
        }
        let after = evaluated(planned, &other);
        for (was, is) in
            before.iter().zip(&after).filter(|(was, _)| was.kind == CharacteristicKind::Error)
        {
            let moved = planned.plan.unit.convert(shift, was.unit);
            for (a, b) in was.singles.iter().zip(&is.singles) {
                assert_eq!(b - a, moved, "{}: {}", told(planned), was.key);
            }
        }
    });
}

/// A trace that lies further along its axis has its errors there, and a failure is told of a peak that is gone.
#[test]
fn a_shifted_trace_moves_what_is_found_in_it() {
    let mut moved = 0;
    each_run(0, |planned, run| {
        if !planned.way.iter().any(|step| matches!(step.input, Input::Trace { .. })) {
            return;
        }
        let window = planned.way.iter().find_map(|step| match &step.input {
            Input::Trace { peaks, .. } => peaks.first().map(|peak| peak.search.half_width),
            _ => None,
        });
        // A sweep without peaks is read where it is, and moves nothing along its axis.
        let Some(window) = window else { return };
        let before = evaluated(planned, run);
        let shift = window / 10.0;
        let shifted = |by: f64| {
            let mut other = run.clone();
            for entry in &mut other.entries {
                if let EntryValue::Trace { trace, .. } = &entry.value {
                    let mut moved = (**trace).clone();
                    moved.axis.iter_mut().for_each(|x| *x += by);
                    entry.value = EntryValue::of_trace(moved, false);
                }
            }
            other
        };
        let errors = |found: &[Characteristic]| -> Vec<(String, f64, bool)> {
            let of = found.iter().filter(|one| one.kind == CharacteristicKind::Error);
            of.map(|one| (one.key.clone(), one.value(), one.charted)).collect()
        };
        let scale = planned.plan.unit.convert(Decimal::ONE, before[0].unit);
        let scale = vaaka_core::quantity::to_f64(scale);
        let after = evaluated(planned, &shifted(shift));
        for (was, is) in errors(&before).iter().zip(&errors(&after)) {
            let off = ((is.1 - was.1) / scale - shift).abs();
            // Positions are kept to two places beyond the display; the same points around a top are fitted.
            let places = vaaka_core::quantity::to_f64(planned.plan.resolution) / 100.0;
            assert!(off < places + shift / 4.0, "{}: {} {off}", told(planned), was.0);
            moved += 1;
        }
        // Beyond the search there is no peak: at least as far off as it was looked for, and no point of a chart.
        // A neighbour that comes to lie where a peak was is taken for it: nobody could tell.
        let nominal = |point: &PlanPoint| vaaka_core::quantity::to_f64(point.nominal);
        let places: Vec<f64> = planned.plan.points.iter().map(nominal).collect();
        let takes_its_place = |at: f64| {
            let reach = 10.0 * shift + 5.0 * shift;
            places.iter().any(|other| (other + 30.0 * shift - at).abs() < reach)
        };
        if places.iter().any(|at| takes_its_place(*at)) {
            return;
        }
        let gone = evaluated(planned, &shifted(30.0 * shift));
        let of = gone.iter().filter(|one| one.kind == CharacteristicKind::Error);
        for one in of {
            assert!(
                !one.charted && one.label.contains("no peak"),
                "{}: {}",
                told(planned),
                one.label
            );
            let limits = one.limits.unwrap();
            let upper =
                limits.upper.is_some_and(|upper| one.singles.iter().all(|single| *single > upper));
            assert!(upper || limits.upper.is_none(), "{}: {}", told(planned), one.key);
        }
    });
    assert!(moved > 30, "{moved}");
}

/// What is seen while measuring is what is judged: the bars are the errors, and each stands within its limits where the
/// judgement says so.
#[test]
fn pictures_show_what_is_judged() {
    use vaaka_core::method::Picture;
    each_run(5, |planned, run| {
        let found = evaluated(planned, run);
        let live = planned.method.live(&planned.plan, run).unwrap();
        let bars = live.pictures.iter().find_map(|picture| match picture {
            Picture::Bars(bars) => Some(bars),
            Picture::Plot(_) | Picture::Plane(_) => None,
        });
        let bars = bars.unwrap_or_else(|| panic!("{}: no bars", told(planned)));
        let errors: Vec<&Characteristic> =
            found.iter().filter(|one| one.kind == CharacteristicKind::Error).collect();
        assert_eq!(bars.bars.len(), errors.len(), "{}", told(planned));
        for (bar, one) in bars.bars.iter().zip(errors) {
            assert!((bar.value - one.value()).abs() < 1e-12, "{}: {}", told(planned), bar.name);
            assert_eq!(bar.inside.is_some(), one.limits.is_some());
            assert!(!bar.name.is_empty() && bar.words.ends_with(one.unit.symbol()));
            assert_eq!(bar.singles.len(), one.singles.len());
        }
        assert!(bars.description.ends_with('.'));
        // Before anything is measured there is nothing to show, and no error.
        let empty = planned.method.live(&planned.plan, &RunState::default()).unwrap();
        assert!(empty.pictures.is_empty(), "{}", told(planned));
    });
}

/// Where a certificate is renewed, the same readings make another error of what rests on it, by as much, and of nothing else.
#[test]
fn a_new_certificate_moves_what_rests_on_it() {
    let mut moved = 0;
    each_run(1, |planned, run| {
        let before = evaluated(planned, run);
        for place in 0..planned.plan.standards.len() {
            let mut plan = planned.plan.clone();
            for point in plan.points.iter_mut().filter(|point| point.standard == place) {
                for piece in &mut point.pieces {
                    let shift = Decimal::new(2, 4);
                    piece.certified_value += shift;
                    piece.by_temperature.iter_mut().for_each(|at| at.certified_value += shift);
                }
            }
            let after = planned.method.evaluate(&plan, run).unwrap();
            for (was, is) in before.iter().zip(&after) {
                let words = format!("{}: {}", told(planned), was.key);
                if was.kind != CharacteristicKind::Error {
                    // A difference of two errors moves by the difference of two values, if they differ.
                    continue;
                }
                let rests = was.rests_on.contains(&place);
                assert_eq!(was.singles != is.singles, rests, "{words} on standard {place}");
                moved += usize::from(rests);
            }
        }
    });
    assert!(moved > 100, "{moved}");
}
