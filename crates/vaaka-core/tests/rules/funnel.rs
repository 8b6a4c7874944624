//! A wandering process under each way of adjusting: adjusting by the full last error doubles the variance of a stable
//! one (Deming, Out of the Crisis, chapter 11, the funnel experiment, rule 2; from memory), leaving it alone does not,
//! and a real drift is still caught.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use super::policies::{Way, simulate};
use vaaka_core::stats::sample_std_dev;

fn variance(way: Way) -> f64 {
    sample_std_dev(&simulate(way, 0.0, checks(way)).errors).unwrap().powi(2)
}

/// Looking at all shapes at every check takes its time.
fn checks(way: Way) -> usize {
    if way == Way::GuardFraction { 4_000 } else { 40_000 }
}

#[test]
fn adjusting_by_the_full_last_error_doubles_the_variance() {
    // The estimate of a variance from n values has a standard error of √(2/n), below one per cent.
    assert!((variance(Way::Never) - 1.0).abs() < 0.03);
    assert!((variance(Way::Always) - 2.0).abs() < 0.06);
    // Only failures, but each by its own error: a stable instrument is left three sigmas off, fails again, and is put back.
    assert!(variance(Way::LastError) > 1.1, "{}", variance(Way::LastError));
    // What the program advises leaves it nearly as it is: once in some years a failure and its repeat are both chance.
    for way in [Way::Advice, Way::GuardFraction] {
        assert!((variance(way) - 1.0).abs() < 0.15, "{way:?}: {}", variance(way));
    }
}

/// Correcting by the error of the check that failed leaves the instrument off on the other side, since failing checks
/// are chosen for being far out; by the estimated level little is left (0.3 σ at most, either way).
#[test]
fn what_an_adjustment_leaves() {
    for drift in [0.02, 0.05] {
        let by_error = simulate(Way::LastError, drift, 40_000).left();
        let by_level = simulate(Way::Advice, drift, 40_000).left();
        assert!(by_error < -1.0, "{drift}: {by_error}");
        assert!(by_level.abs() < 0.3, "{drift}: {by_level}");
    }
}

/// A stable instrument is hardly ever adjusted, whatever single checks read; a drifting one is kept inside.
#[test]
fn a_real_drift_is_still_kept_inside() {
    for way in [Way::Advice, Way::GuardFraction] {
        let stable = simulate(way, 0.0, checks(way));
        assert!(stable.a_year(stable.adjustments.len()) < 1.0, "{way:?}");
        let drifting = simulate(way, 0.02, checks(way) / 2);
        let often = drifting.a_year(drifting.adjustments.len());
        assert!(often > 3.0, "{way:?}: {often}");
        assert!(drifting.worse() * 20 < drifting.adjustments.len(), "{way:?}");
        assert!(drifting.root_mean_square_level() < super::policies::TOLERANCE, "{way:?}");
    }
    let (late, early) =
        (simulate(Way::Advice, 0.05, 6_000), simulate(Way::GuardFraction, 0.05, 6_000));
    assert!(early.adjustments.len() > late.adjustments.len(), "the guard fraction adjusts sooner");
    assert!(early.failures() < late.failures());
}
