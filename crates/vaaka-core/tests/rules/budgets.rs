//! Each budget of both methods by a second way over the whole range of plans, and what is shown while measuring beside
//! what is judged.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;

use jiff::Timestamp;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_core::chart::{ChartDesign, ChartState, FromBaseline, SigmaSource, Spread, SpreadDesign};
use vaaka_core::check::{RunContext, StreamSlot, complete};
use vaaka_core::judgement::{
    CharacteristicKind, ContributionSource, Decision, Scatter, ToleranceLimits,
};
use vaaka_core::method::gauge::Gauge;
use vaaka_core::method::weighing::Weighing;
use vaaka_core::method::{
    BudgetAddition, Entry, EntryValue, Input, Method, Place, PlanPoint, PlanSpec, PlanStandard,
    Purpose, RunState, Travel,
};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_core::standard::{CertifiedPiece, ValueAt};

fn d(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn piece(nominal: Decimal, unit: Unit, random: &mut ChaCha8Rng) -> CertifiedPiece {
    CertifiedPiece {
        tag: "1".into(),
        nominal,
        certified_value: nominal + Decimal::new(random.random_range(-20..20), 5),
        expanded_uncertainty: Decimal::new(random.random_range(1..60), 5),
        coverage_factor: d("2"),
        unit,
        class_limit: random.random_bool(0.2),
        non_uniformity: random
            .random_bool(0.2)
            .then(|| Decimal::new(random.random_range(1..40), 5)),
        by_temperature: vec![],
        at_unit: None,
    }
}

fn plan(unit: Unit, settings: Value, resolution: &str, points: Vec<PlanPoint>) -> PlanSpec {
    PlanSpec {
        purpose: Purpose::AsFound,
        unit,
        resolution: d(resolution),
        range_low: d("0"),
        maximum: d("100"),
        configuration: vec![],
        standards: vec![PlanStandard { tag: "S".into(), name: "S".into(), any_of_kind: None }],
        fixture: String::new(),
        decision: Decision::default(),
        additions: vec![],
        standard_age_years: 1.5,
        settings,
        points,
    }
}

fn point(
    nominal: Decimal,
    travel: Travel,
    place: Place,
    repeats: u32,
    pieces: Vec<CertifiedPiece>,
) -> PlanPoint {
    PlanPoint { nominal, travel, place, repeats, charted: true, pieces, standard: 0 }
}

/// Readings near what is put on.
fn played(method: &dyn Method, plan: &PlanSpec, random: &mut ChaCha8Rng) -> RunState {
    let mut run = RunState::default();
    for step in method.way(plan).unwrap() {
        for repeat in 1..=step.repeats {
            let value = match &step.input {
                Input::Tag { expected, .. } => EntryValue::Tag { tag: expected.clone() },
                Input::Condition { .. } => EntryValue::Condition { value: d("20.5") },
                Input::Reading { resolution, expected, beside, .. } => {
                    let steps = (*expected / *resolution).round();
                    let off = Decimal::from(random.random_range(-4..5));
                    EntryValue::Reading {
                        indication: (steps + off) * *resolution,
                        added: beside
                            .as_ref()
                            .map(|_| *resolution * Decimal::new(random.random_range(0..10), 1)),
                        far_confirmed: false,
                    }
                }
                _ => EntryValue::Confirmed,
            };
            run.entries.push(Entry {
                step: step.key.clone(),
                repeat,
                at: Timestamp::UNIX_EPOCH,
                value,
            });
        }
    }
    run
}

fn random_addition(random: &mut ChaCha8Rng) -> BudgetAddition {
    const SOURCES: [ContributionSource; 5] = [
        ContributionSource::Repeatability,
        ContributionSource::Temperature,
        ContributionSource::StandardDrift,
        ContributionSource::Convection,
        ContributionSource::Other,
    ];
    BudgetAddition {
        source: SOURCES[random.random_range(0..SOURCES.len())],
        label: "stated".into(),
        half_width: Decimal::new(random.random_range(1..90), 5),
        per_year: random.random_bool(0.3),
        of_reference: random.random_bool(0.3),
    }
}

fn weighing_plan(random: &mut ChaCha8Rng) -> PlanSpec {
    let added = random.random_bool(0.4);
    let loads = [d("2"), d("10"), d("20")];
    let mut points = Vec::new();
    for load in loads {
        let pieces = |random: &mut ChaCha8Rng| vec![piece(load, Unit::Kilogram, random)];
        points.push(point(
            load,
            Travel::Rising,
            Place::Middle,
            random.random_range(1..13),
            pieces(random),
        ));
    }
    if random.random_bool(0.5) {
        for place in [Place::Middle, Place::BackLeft, Place::FrontRight] {
            points.push(point(
                d("10"),
                Travel::Corner,
                place,
                1,
                vec![piece(d("10"), Unit::Kilogram, random)],
            ));
        }
    }
    points.push(point(
        d("10"),
        Travel::Falling,
        Place::Middle,
        1,
        vec![piece(d("10"), Unit::Kilogram, random)],
    ));
    let resolution = ["0.001", "0.01", "0.1"][random.random_range(0..3)];
    let settings = json!({
        "schema": "weighing-1", "class": "III", "verification_interval": "0.01", "stage": "in_service",
        "pan": "round", "added_weights": added, "case": "", "preparation": [], "cautions": [], "closing": [],
    });
    let mut plan = plan(Unit::Kilogram, settings, resolution, points);
    plan.additions = (0..random.random_range(0..3)).map(|_| random_addition(random)).collect();
    plan
}

fn gauge_plan(random: &mut ChaCha8Rng) -> PlanSpec {
    let applied = random.random_bool(0.5);
    let conditions = json!([{ "name": "Bath", "unit": "°C", "lower": null, "upper": null, "advice": "",
        "standard_temperature": true, "half_width": if random.random_bool(0.5) { json!("0.3") } else { Value::Null } }]);
    let settings = json!({
        "schema": "gauge-1", "presentation": if applied { "applied" } else { "inserted" },
        "mean_limit": { "form": "absolute", "half_width": "0.5", "side": "both" },
        "single_limit": null, "hysteresis_limit": null, "range_limit": null, "settings": [],
        "conditions": conditions, "waits": [], "pause_seconds": 0, "cautions": [], "preparation": [], "closing": [],
    });
    let mut points = Vec::new();
    for nominal in [d("10"), d("50"), d("90")] {
        let mut one = piece(nominal, Unit::Bar, random);
        if random.random_bool(0.6) {
            let at = |t: i64, shift: i64| ValueAt {
                temperature: Decimal::from(t),
                certified_value: one.certified_value + Decimal::new(shift, 2),
                expanded_uncertainty: None,
            };
            one.by_temperature = vec![at(15, -4), at(20, 0), at(25, random.random_range(1..9))];
        }
        points.push(point(
            nominal,
            Travel::Rising,
            Place::Middle,
            random.random_range(1..13),
            vec![one],
        ));
    }
    let resolution = ["0.01", "0.1", "1"][random.random_range(0..3)];
    let mut plan = plan(Unit::Bar, settings, resolution, points);
    plan.additions = (0..random.random_range(0..3)).map(|_| random_addition(random)).collect();
    plan
}

/// What a point's budget comes to, written down plainly: from the plan and the readings, by no function of the core.
fn by_hand(
    plan: &PlanSpec,
    index: usize,
    singles: &[f64],
    corners: Option<f64>,
    known: Option<(f64, f64)>,
) -> f64 {
    let weighing = plan.unit == Unit::Kilogram;
    let scale = if weighing { 1_000.0 } else { 1.0 };
    let point = &plan.points[index];
    let one = &point.pieces[0];
    let step = to_f64(plan.resolution) * scale;
    let added = plan.settings["added_weights"] == true;
    let n = singles.len() as f64;
    let root3 = 3.0_f64.sqrt();
    let value_at = |piece: &CertifiedPiece| -> (f64, f64) {
        if piece.by_temperature.is_empty() {
            return (to_f64(piece.certified_value), 0.0);
        }
        // Measured at 20.5: between the second and the third row.
        let v: Vec<f64> =
            piece.by_temperature.iter().map(|row| to_f64(row.certified_value)).collect();
        (v[1] + (v[2] - v[1]) * 0.1, (v[2] - v[1]) / 5.0)
    };
    let (value, slope) = if weighing { (to_f64(one.certified_value), 0.0) } else { value_at(one) };
    let value = value * scale;
    let mut reference = 0.0_f64; // squares
    let mut each = 0.0_f64;
    let expanded = to_f64(one.expanded_uncertainty) * scale;
    let states = |source| plan.additions.iter().any(|a| a.source == source);
    if one.class_limit {
        reference += (expanded / root3).powi(2);
    } else {
        reference += (expanded / 2.0).powi(2);
        if weighing && !states(ContributionSource::StandardDrift) {
            reference += (expanded / root3).powi(2);
        }
    }
    each += one.non_uniformity.map_or(0.0, |a| (to_f64(a) * scale).powi(2) / 3.0);
    if weighing {
        reference += (0.1 * 1.2 / 8_000.0 * value).powi(2) / 3.0;
        each += if added { (step / 4.0).powi(2) / 3.0 } else { step.powi(2) / 12.0 };
        if point.travel != Travel::Corner {
            each += corners.map_or(0.0, |share| (share * value).powi(2));
        }
    } else {
        let half = plan.settings["conditions"][0]["half_width"]
            .as_str()
            .map_or(0.05, |a| a.parse::<f64>().unwrap());
        each += (slope * half.max(0.05)).powi(2) / 3.0;
        if plan.settings["presentation"] == "applied"
            && !states(ContributionSource::ReferenceSetting)
        {
            each += step.powi(2) / 12.0;
        }
    }
    let mut stated: Option<f64> = None;
    for addition in &plan.additions {
        let years = if addition.per_year { 1.5 } else { 1.0 };
        let amount = if addition.of_reference {
            to_f64(addition.half_width) / 100.0 * value
        } else {
            to_f64(addition.half_width) * scale
        };
        let u = amount * years / root3;
        match addition.source {
            ContributionSource::Repeatability => stated = stated.or(Some(u / n.sqrt())),
            ContributionSource::Other | ContributionSource::StandardDrift => reference += u * u,
            _ => each += u * u,
        }
    }
    let rounding = step / 12.0_f64.sqrt() / if added { 10.0 } else { 1.0 };
    let mean = singles.iter().sum::<f64>() / n;
    let own = if singles.len() > 1 {
        (singles.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / (n - 1.0) / n).sqrt()
    } else {
        0.0
    };
    let scatter = match known {
        // The chart knows σ from check to check; what is read beside it is rounding alone.
        Some(_) => 0.0,
        None => stated.unwrap_or(own),
    };
    let apart = each + rounding.max(scatter).powi(2);
    let reading = known.map_or(apart, |(sigma, _)| apart.max(sigma * sigma));
    (reference + reading).sqrt()
}

/// Mean error of each corner against the middle, over twice its load.
fn corner_share(
    plan: &PlanSpec,
    found: &BTreeMap<String, Vec<f64>>,
    keys: &[String],
) -> Option<f64> {
    let mean = |index: usize| {
        let values = &found[&keys[index]];
        values.iter().sum::<f64>() / values.len() as f64
    };
    let corners: Vec<usize> =
        (0..plan.points.len()).filter(|i| plan.points[*i].travel == Travel::Corner).collect();
    let middle = *corners.iter().find(|i| plan.points[**i].place == Place::Middle)?;
    corners
        .iter()
        .map(|i| {
            (
                (mean(*i) - mean(middle)).abs(),
                to_f64(plan.points[*i].pieces[0].certified_value) * 1_000.0,
            )
        })
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(difference, at)| difference / (2.0 * at * 3.0_f64.sqrt()))
}

#[test]
fn every_budget_by_a_second_way() {
    let mut seen = BTreeMap::<&str, usize>::new();
    for seed in 0..400 {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let weighing = seed % 2 == 0;
        let method: &dyn Method = if weighing { &Weighing } else { &Gauge };
        let plan = if weighing { weighing_plan(&mut random) } else { gauge_plan(&mut random) };
        let run = played(method, &plan, &mut random);
        let keys: Vec<String> = plan.points.iter().map(|point| method.chart_key(point)).collect();
        let known = random.random_bool(0.5).then(|| (random.random_range(0.1..30.0), 40.0));
        let slots = keys
            .iter()
            .filter(|_| known.is_some())
            .map(|key| StreamSlot {
                key: key.clone(),
                design: known.map(|(sigma, points)| ChartDesign {
                    spread: Some(SpreadDesign {
                        within: sigma,
                        by: Spread::StdDev,
                        multiplier: 3.0,
                    }),
                    estimated: Some(FromBaseline {
                        points: points as usize,
                        source: SigmaSource::MovingRange,
                        autocorrelation: 0.0,
                        within_degrees_of_freedom: Some(80.0),
                    }),
                    ..ChartDesign::given(0.0, sigma)
                }),
                sigma_source: None,
                state: ChartState::new(jiff::SignedDuration::from_hours(8)),
                recent: vec![],
            })
            .collect();
        let context = RunContext {
            measured_at: Timestamp::UNIX_EPOCH,
            earlier: vec![],
            slots,
            ..RunContext::default()
        };
        let completion = complete(method, &plan, &run, &context).unwrap();
        let errors: BTreeMap<String, Vec<f64>> = completion
            .results
            .iter()
            .filter(|(c, _)| c.kind == CharacteristicKind::Error)
            .map(|(c, _)| (c.key.clone(), c.singles.iter().copied().map(to_f64).collect()))
            .collect();
        let share = weighing.then(|| corner_share(&plan, &errors, &keys)).flatten();
        for (index, key) in keys.iter().enumerate() {
            // The first of two points with one key is the one that is found.
            if keys[..index].contains(key) {
                continue;
            }
            let (_, result) = completion.results.iter().find(|(c, _)| c.key == *key).unwrap();
            let expected = by_hand(&plan, index, &errors[key], share, known);
            let u = result.budget.combined_standard_uncertainty;
            assert!(
                (u / expected - 1.0).abs() < 1e-9,
                "seed {seed} {key}: {u} beside {expected}\n{:#?}",
                result.budget
            );
            for part in &result.budget.contributions {
                assert!(!part.words().is_empty());
                *seen.entry(part.source.word()).or_default() += 1;
            }
            // Conformity is stated exactly where somebody knows how far readings scatter.
            let stated =
                plan.additions.iter().any(|a| a.source == ContributionSource::Repeatability);
            let proven = known.is_some() || stated || errors[key].len() >= 10;
            assert_eq!(result.budget.scatter() == Scatter::Known, proven, "seed {seed} {key}");
            assert_eq!(result.conformance_probability.is_some(), proven, "seed {seed} {key}");
        }
        // Return to zero is read without added weights, twice; its scatter is borrowed where a chart knows it.
        if let Some((_, result)) = completion.results.iter().find(|(c, _)| c.key == "zero-return") {
            let step = to_f64(plan.resolution) * 1_000.0;
            let stated =
                plan.additions.iter().find(|a| a.source == ContributionSource::Repeatability);
            let rounding = step * (2.0_f64 / 12.0).sqrt();
            let scatter = match (known, stated) {
                (Some((sigma, _)), _) => sigma * 2.0_f64.sqrt(),
                (None, Some(a)) => {
                    // In per cent of nothing, at zero, it is nothing.
                    let amount = if a.of_reference { 0.0 } else { to_f64(a.half_width) * 1_000.0 };
                    amount * if a.per_year { 1.5 } else { 1.0 } / 3.0_f64.sqrt() * 2.0_f64.sqrt()
                }
                (None, None) => 0.0,
            };
            let u = result.budget.combined_standard_uncertainty;
            assert!(
                (u / rounding.max(scatter) - 1.0).abs() < 1e-9,
                "seed {seed}: {u} {rounding} {scatter}"
            );
        }
    }
    for source in [
        "certificate",
        "class_limit",
        "non_uniformity",
        "standard_drift",
        "air_buoyancy",
        "temperature",
        "convection",
        "zero",
        "eccentricity",
        "reference_setting",
        "resolution",
        "repeatability",
        "between_checks",
        "other",
    ] {
        assert!(seen.get(source).is_some_and(|count| *count > 10), "{source}: {seen:?}");
    }
}

/// Two answers to one reading there are not: what is shown at each step, what the guard asks about and who may void rest
/// on the errors that the verdict judges, with the zero of the run and the value at the temperature that was read.
#[test]
fn what_is_shown_is_what_is_judged() {
    for seed in 0..200 {
        let mut random = ChaCha8Rng::seed_from_u64(10_000 + seed);
        let method: &dyn Method = if seed % 2 == 0 { &Weighing } else { &Gauge };
        let plan = if seed % 2 == 0 { weighing_plan(&mut random) } else { gauge_plan(&mut random) };
        let run = played(method, &plan, &mut random);
        let found = method.evaluate(&plan, &run).unwrap();
        let way = method.way(&plan).unwrap();
        for (index, point) in plan.points.iter().enumerate() {
            let key = method.chart_key(point);
            if plan.points[..index].iter().any(|other| method.chart_key(other) == key) {
                continue;
            }
            let judged = found.iter().find(|c| c.key == key).unwrap();
            let step = way
                .iter()
                .filter(|step| matches!(step.input, Input::Reading { .. }))
                .nth(index + usize::from(seed % 2 == 0))
                .unwrap();
            let settled = method.settle(&plan, &run, step).unwrap();
            let shown: Vec<Decimal> = run
                .readings(&step.key)
                .into_iter()
                .map(|(indication, added)| {
                    plan.unit.convert(settled.error_of(indication, added).unwrap(), judged.unit)
                })
                .collect();
            assert_eq!(shown, judged.singles, "seed {seed} {key}");
            let limits = settled.tolerance.map(|limits| ToleranceLimits {
                lower: limits.lower.map(|one| plan.unit.convert(one, judged.unit)),
                upper: limits.upper.map(|one| plan.unit.convert(one, judged.unit)),
            });
            assert_eq!(limits, judged.limits, "seed {seed} {key}");
        }
    }
}
