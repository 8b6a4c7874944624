//! A wandering process under each adjustment policy: adjusting by the full last error doubles the
//! variance of a stable one (Deming, Out of the Crisis, chapter 11, the funnel experiment, rule 2;
//! from memory), leaving it alone does not, and a real drift is still caught.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use vaaka_core::adjustment::{PermitInput, permit};
use vaaka_core::judgement::{AdjustmentAdvice, AdjustmentInput, Conformity, advise_adjustment};
use vaaka_core::method::AdjustmentPolicy;
use vaaka_core::stats::{mean, sample_std_dev};

const TOLERANCE: f64 = 5.0;

/// A standard normal value, by Box and Muller.
fn normal(random: &mut ChaCha8Rng) -> f64 {
    use rand::Rng;
    let (a, b): (f64, f64) = (random.random_range(f64::MIN_POSITIVE..1.0), random.random());
    (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
}

struct Outcome {
    variance: f64,
    mean: f64,
    adjustments: u32,
}

/// What is asked beside the policy.
#[derive(Clone, Copy, PartialEq)]
enum Heed {
    /// Nothing: whatever the policy permits is done.
    Nothing,
    /// Errors inside the noise are left alone.
    Noise,
    /// The advice as the application gives it: what is inside tolerance is left alone, too.
    Advice,
}

/// One check after the other; `drift` a check, sigma one; each adjustment by the full last error.
fn simulate(policy: AdjustmentPolicy, heed: Heed, drift: f64, checks: usize) -> Outcome {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let (mut level, mut adjustments) = (0.0, 0);
    let mut errors = Vec::with_capacity(checks);
    for _ in 0..checks {
        level += drift;
        let error: f64 = level + normal(&mut random);
        errors.push(error);
        let failed = error.abs() > TOLERANCE;
        let permitted = permit(&PermitInput {
            policy,
            adjustable: true,
            sealed: false,
            authority: "",
            by_lead: true,
            full_as_found: true,
            touched_since: false,
            conforms: if failed { Conformity::Fail } else { Conformity::Pass },
            worst_share: Some(error.abs() / TOLERANCE),
            crosses_soon: false,
        })
        .is_ok();
        let advice = advise_adjustment(&AdjustmentInput {
            mean_error: error,
            check_mean_std_dev: 1.0,
            reference_standard_uncertainty: 0.0,
            resolution: 0.1,
            coverage_factor: 2.0,
            within_tolerance: !failed,
        });
        let left_alone = match heed {
            Heed::Nothing => false,
            Heed::Noise => matches!(
                advice,
                AdjustmentAdvice::WithinNoise { .. }
                    | AdjustmentAdvice::SmallerThanResolution { .. }
            ),
            Heed::Advice => !matches!(advice, AdjustmentAdvice::Adjust { .. }),
        };
        if permitted && !left_alone {
            level -= error;
            adjustments += 1;
        }
    }
    let variance = sample_std_dev(&errors).unwrap().powi(2);
    Outcome { variance, mean: mean(&errors).unwrap(), adjustments }
}

#[test]
fn adjusting_by_the_full_last_error_doubles_the_variance() {
    let n = 40_000;
    let alone = simulate(AdjustmentPolicy::OnlyWhenOut, Heed::Advice, 0.0, n);
    // The estimate of a variance from n values has a standard error of √(2/n), below one per cent.
    assert!((alone.variance - 1.0).abs() < 0.03, "{}", alone.variance);
    assert_eq!(alone.adjustments, 0);
    let every_time = simulate(AdjustmentPolicy::BeforeEachUse, Heed::Nothing, 0.0, n);
    assert!((every_time.variance - 2.0).abs() < 0.06, "{}", every_time.variance);
    // Leaving only the noise alone does not help: one value in twenty is beyond it by chance, and
    // the full correction for it stays until chance takes it away.
    let beyond_noise = simulate(AdjustmentPolicy::BeforeEachUse, Heed::Noise, 0.0, n);
    assert!(beyond_noise.variance > 1.5, "{}", beyond_noise.variance);
    // The advice leaves alone what is inside tolerance, and the process stays as it is.
    let advised = simulate(AdjustmentPolicy::BeforeEachUse, Heed::Advice, 0.0, n);
    assert!((advised.variance - 1.0).abs() < 0.03, "{}", advised.variance);
    let guarded = simulate(AdjustmentPolicy::AtGuardFraction, Heed::Noise, 0.0, n);
    // Rare, but each full correction for an outlier stays until chance takes it away, too: the reason
    // why a failure is confirmed by a repeat before anybody adjusts.
    assert!(guarded.variance < 0.9 * every_time.variance, "{}", guarded.variance);
    assert!(guarded.adjustments < every_time.adjustments / 20, "{}", guarded.adjustments);
}

#[test]
fn a_real_drift_is_still_kept_inside() {
    let late = simulate(AdjustmentPolicy::OnlyWhenOut, Heed::Advice, 0.02, 20_000);
    let early = simulate(AdjustmentPolicy::AtGuardFraction, Heed::Noise, 0.02, 20_000);
    for found in [&late, &early] {
        assert!(found.adjustments > 50, "{}", found.adjustments);
        assert!(found.mean.abs() < TOLERANCE / 2.0, "{}", found.mean);
    }
    assert!(early.adjustments > late.adjustments, "the guard fraction adjusts sooner");
}
