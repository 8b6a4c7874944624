//! What must hold for any budget, decision and correction, tried with seeded random values.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeSet;

use jiff::Timestamp;
use jiff::civil::{date, time};
use jiff::tz::TimeZone;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rust_decimal::Decimal;
use vaaka_core::adjustment::{
    AdjustmentKind, Correction, ErrorPoint, Factors, effects, propose, recommend,
};
use vaaka_core::judgement::{
    Budget, Characteristic, CharacteristicKind, Conformity, Contribution, ContributionSource,
    Coverage, Decision, DecisionRule, Interval, Prior, Statement, Surroundings, ToleranceLimits,
    global_risk, judge_conformity,
};
use vaaka_core::quantity::Unit;
use vaaka_core::round::{DueRule, MissedInput, ShiftPattern, ShiftStart, missed};

const ROUNDS: u64 = 400;

fn random(seed: u64) -> ChaCha8Rng {
    ChaCha8Rng::seed_from_u64(seed)
}

fn contributions(random: &mut ChaCha8Rng) -> Vec<Contribution> {
    (0..random.random_range(1..9))
        .map(|_| {
            let source =
                ContributionSource::ALL[random.random_range(0..ContributionSource::ALL.len())];
            let u = random.random_range(0.0..10.0);
            if random.random_bool(0.4) {
                Contribution::estimated(source, u, random.random_range(1.0..60.0))
            } else {
                Contribution::known(source, u)
            }
        })
        .collect()
}

#[test]
fn a_budget_adds_up_and_grows_with_its_parts() {
    for seed in 0..ROUNDS {
        let mut random = random(seed);
        let parts = contributions(&mut random);
        let budget = Budget::combine(parts.clone(), Coverage::default());
        let shares: f64 = budget.contributions.iter().map(|part| budget.share(part)).sum();
        assert!((shares - 1.0).abs() < 1e-9 || budget.combined_standard_uncertainty == 0.0);
        assert!(budget.coverage_factor >= 2.0);
        // In another unit everything scales, and nothing else changes.
        let scaled: Vec<Contribution> = parts
            .iter()
            .map(|part| Contribution {
                standard_uncertainty: 1000.0 * part.standard_uncertainty,
                ..part.clone()
            })
            .collect();
        let milli = Budget::combine(scaled, Coverage::default());
        let ratio = milli.expanded_uncertainty / budget.expanded_uncertainty;
        assert!((ratio - 1000.0).abs() < 1e-6, "{ratio}");
        // One more part never makes the standard uncertainty smaller.
        let mut more = parts;
        more.push(Contribution::known(ContributionSource::Other, random.random_range(0.0..5.0)));
        let more = Budget::combine(more, Coverage::default());
        assert!(more.combined_standard_uncertainty >= budget.combined_standard_uncertainty);
        // A wider coverage is a wider interval.
        let wide = Budget::combine(budget.contributions.clone(), Coverage::P9973);
        assert!(wide.expanded_uncertainty >= budget.expanded_uncertainty);
    }
}

fn characteristic(random: &mut ChaCha8Rng) -> Characteristic {
    let half = Decimal::new(random.random_range(1..4_000), 2);
    let singles: Vec<Decimal> = (0..random.random_range(1..5))
        .map(|_| Decimal::new(random.random_range(-5_000..5_000), 2))
        .collect();
    let scatter_weight = 1.0 / (singles.len() as f64).sqrt();
    Characteristic {
        key: "error".into(),
        label: "Error".into(),
        kind: CharacteristicKind::Error,
        nominal: None,
        unit: Unit::Gram,
        decimals: 2,
        singles,
        mean: None,
        reference_value: None,
        limits: Some(ToleranceLimits::symmetric(half)),
        single_limits: None,
        contributions: contributions(random),
        indicative: false,
        charted: true,
        scatter_weight,
        rests_on: vec![],
    }
}

#[test]
fn a_guard_band_never_accepts_what_simple_acceptance_rejects() {
    for seed in 0..ROUNDS {
        let mut random = random(seed);
        let one = characteristic(&mut random);
        let by = |rule| Surroundings {
            additions: vec![Contribution::known(ContributionSource::Repeatability, 0.01)],
            ..Surroundings::by(rule)
        };
        let simple = judge_conformity(&one, &by(DecisionRule::SimpleAcceptance));
        let mut around = by(DecisionRule::GuardBandShare);
        around.decision = Decision { share: Decimal::new(5, 1), ..around.decision };
        let half = judge_conformity(&one, &around);
        let whole = judge_conformity(&one, &by(DecisionRule::GuardBandU));
        let passes = |result: &vaaka_core::judgement::ConformityResult| {
            result.conformity == Conformity::Pass
        };
        assert!(!passes(&whole) || passes(&half), "seed {seed}");
        assert!(!passes(&half) || passes(&simple), "seed {seed}");
        // The words agree with what is acted on and with the tolerance itself.
        let statement = whole.statement.unwrap();
        assert_eq!(statement == Statement::Pass, passes(&whole));
        assert_eq!(statement <= Statement::ConditionalPass, passes(&simple), "seed {seed}");
        let risk = simple.specific_risk().unwrap();
        assert!((0.0..=1.0).contains(&risk));
    }
}

#[test]
fn a_wider_band_trades_one_risk_for_the_other() {
    let tolerance = Interval { lower: Some(-1.0), upper: Some(1.0) };
    for seed in 0..60 {
        let mut random = random(seed);
        let prior = Prior {
            mean: random.random_range(-0.5..0.5),
            std_dev: random.random_range(0.1..1.0),
            checks: 30,
        };
        let u = random.random_range(0.02..0.4);
        let mut before = global_risk(tolerance, tolerance, prior, u);
        for step in 1..6 {
            let band = 0.15 * f64::from(step);
            let risk = global_risk(tolerance, tolerance.drawn_in(band), prior, u);
            assert!(risk.false_accept <= before.false_accept + 1e-12, "seed {seed}");
            assert!(risk.false_reject >= before.false_reject - 1e-12, "seed {seed}");
            assert!(risk.false_accept >= 0.0 && risk.false_reject <= 1.0);
            before = risk;
        }
    }
}

#[test]
fn a_correction_is_the_best_of_its_kind_and_can_be_undone() {
    for seed in 0..ROUNDS {
        let mut random = random(seed);
        let points: Vec<ErrorPoint> = (0..random.random_range(2..7))
            .map(|index| {
                let error = random.random_range(-3.0..3.0);
                ErrorPoint {
                    key: index.to_string(),
                    label: index.to_string(),
                    reference: f64::from(index) * 50.0,
                    error,
                    level: error,
                    lower: Some(-2.0),
                    upper: Some(2.0),
                }
            })
            .collect();
        let squares = |correction: Correction| -> f64 {
            effects(&points, correction).iter().map(|effect| effect.after.powi(2)).sum()
        };
        let both = propose(&points, AdjustmentKind::OffsetAndGain).unwrap();
        for kind in AdjustmentKind::ALL {
            let best = propose(&points, kind).unwrap();
            // More freedom never leaves more, and a nudge never improves.
            assert!(squares(both) <= squares(best) + 1e-9, "seed {seed}");
            for nudge in [-0.01, 0.01] {
                let worse = match kind {
                    AdjustmentKind::Offset => Correction { offset: best.offset + nudge, ..best },
                    _ => Correction { gain: best.gain + nudge / 100.0, ..best },
                };
                assert!(squares(worse) >= squares(best) - 1e-9, "seed {seed} {kind:?}");
            }
        }
        // Whatever is advised pushes nothing out.
        if let Ok(found) = recommend(&points, 0.5) {
            assert!(effects(&points, found.correction).iter().all(|e| !e.spoils), "seed {seed}");
        }
        let mut factors = Factors::FACTORY;
        for _ in 0..random.random_range(1..5) {
            factors = factors.after(Correction {
                offset: random.random_range(-1.0..1.0),
                gain: random.random_range(-0.01..0.01),
            });
        }
        let back = factors.after(Correction::back_to_factory(factors));
        assert!((back.gain - 1.0).abs() < 1e-9 && back.offset.abs() < 1e-9, "{back:?}");
    }
}

#[test]
fn a_check_more_never_makes_a_miss_more_in_shifts_and_days() {
    let start = |label: &str, hour| ShiftStart::every_day(label, time(hour, 0, 0, 0));
    let pattern = ShiftPattern {
        zone: TimeZone::get("Europe/Helsinki").unwrap(),
        starts: vec![start("Morning", 6), start("Evening", 14), start("Night", 22)],
        holidays: BTreeSet::new(),
    };
    let spans = pattern.spans(date(2026, 3, 1), date(2026, 4, 30)).unwrap();
    let now = spans[spans.len() - 1].ends_at;
    for seed in 0..60 {
        let mut random = random(seed);
        let mut done: BTreeSet<Timestamp> = BTreeSet::new();
        for rule in [DueRule::EachShift, DueRule::EachDay] {
            done.clear();
            let look = |done: &BTreeSet<Timestamp>| {
                let since = spans[0].starts_at;
                missed(MissedInput { rule, since, spans: &spans, done, now }).len()
            };
            let mut before = look(&done);
            for _ in 0..40 {
                done.insert(spans[random.random_range(0..spans.len())].starts_at);
                let after = look(&done);
                assert!(after <= before && before - after <= 1, "{rule:?} seed {seed}");
                before = after;
            }
        }
    }
}
